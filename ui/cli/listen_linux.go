package cli

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"strconv"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"

	"unquil/core/live"
)

// socketFinder tells which process has a socket. As root that is done in a process of its own,
// which sees no packet and nothing else from the network: this one does not stay root.
func socketFinder() (finder live.Finder, end func()) {
	own := &live.Sockets{Proc: os.DirFS("/proc")}
	if os.Geteuid() != 0 {
		return own, func() {}
	}
	cmd := exec.Command("/proc/self/exe", socketsCommand)
	questions, err := cmd.StdinPipe()
	if err != nil {
		return own, func() {}
	}
	answers, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		return own, func() {}
	}
	return live.NewElsewhere(answers, questions), func() {
		questions.Close()
		io.Copy(io.Discard, answers)
		cmd.Wait()
	}
}

// dropPrivileges gives up what was only needed to begin to listen: whoever called sudo goes on as
// themselves, and everybody else without any capability.
func dropPrivileges(environ []string) error {
	if os.Geteuid() == 0 {
		uid, bad := strconv.Atoi(getenv(environ, "SUDO_UID"))
		gid, worse := strconv.Atoi(getenv(environ, "SUDO_GID"))
		if bad == nil && worse == nil && uid > 0 {
			err := firstOf(syscall.Setgroups([]int{gid}), syscall.Setgid(gid), syscall.Setuid(uid))
			if err != nil {
				return fmt.Errorf("giving up root: %w", err)
			}
			return nil
		}
	}
	header := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var none [2]unix.CapUserData
	_, _, errno := syscall.AllThreadsSyscall(unix.SYS_CAPSET, uintptr(unsafe.Pointer(&header)), uintptr(unsafe.Pointer(&none[0])), 0)
	if errno != 0 && errno != syscall.ENOTSUP { // not as it is built for tests with C
		return fmt.Errorf("giving up what listening took: %w", errno)
	}
	return nil
}
