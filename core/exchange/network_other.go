//go:build !linux

package exchange

import (
	"runtime"
	"syscall"
)

// toldOfErrors says whether ICMP errors reach an unconnected socket here.
const toldOfErrors = runtime.GOOS == "windows"

// tellErrors does nothing here: these systems have no such option, or (Windows)
// report ICMP errors on an unconnected socket by themselves.
func tellErrors(string, string, syscall.RawConn) error { return nil }
