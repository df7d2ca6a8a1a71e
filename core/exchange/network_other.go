//go:build !linux

package exchange

import (
	"runtime"
	"syscall"
)

// toldOfErrors says whether ICMP errors reach an unconnected socket here.
const toldOfErrors = runtime.GOOS == "windows"

// prepare has the socket send no broadcast, which Go allows otherwise. To hear of ICMP
// errors these systems have no option, or (Windows) report them by themselves.
func prepare(_, _ string, c syscall.RawConn) error {
	var err error
	controlErr := c.Control(func(fd uintptr) { err = syscall.SetsockoptInt(handle(fd), syscall.SOL_SOCKET, syscall.SO_BROADCAST, 0) })
	if controlErr != nil {
		return controlErr
	}
	return err
}
