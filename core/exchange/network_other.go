//go:build !linux

package exchange

import "syscall"

// tellErrors does nothing here: these systems have no such option, or (Windows)
// report ICMP errors on an unconnected socket by themselves.
func tellErrors(string, string, syscall.RawConn) error { return nil }
