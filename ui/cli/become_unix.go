//go:build unix && !linux

package cli

import "syscall"

// become has the process go on as a user.
func become(uid, gid int) error {
	return firstOf(syscall.Setgroups([]int{gid}), syscall.Setgid(gid), syscall.Setuid(uid))
}
