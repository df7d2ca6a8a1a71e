//go:build !unix

package cli

import (
	"os"
	"syscall"
)

// endings are the signals that end a run and can be caught: nothing may be left behind.
var endings = []os.Signal{os.Interrupt, syscall.SIGTERM}

func ignoreBrokenPipes() {}
