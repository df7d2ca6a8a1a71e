//go:build unix

package cli

import (
	"os"
	"os/signal"
	"syscall"
)

// endings are the signals that end a run and can be caught: nothing may be left behind.
var endings = []os.Signal{syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT, syscall.SIGALRM, syscall.SIGUSR1, syscall.SIGUSR2, syscall.SIGXCPU, syscall.SIGXFSZ}

func ignoreBrokenPipes() { signal.Ignore(syscall.SIGPIPE) }
