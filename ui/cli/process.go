package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"syscall"
	"time"

	"unquil/ui/files"
)

// grace is how long an interrupted run may take to show what it knows.
const grace = 900 * time.Millisecond

// Process runs the program as a process of its own: with its arguments, streams and
// signals. It returns the exit code.
func Process() int {
	var open files.Files
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	asked := make(chan os.Signal, 4)
	signal.Notify(asked, endings...)
	go endWith(asked, stop, &open)
	ignoreBrokenPipes() // they come back as errors of writing, which leave nothing behind
	return run(ctx, &open, os.Args[1:], outlet{os.Stdout, &open}, outlet{os.Stderr, &open}, os.Environ())
}

// endWith ends the run when a signal asks for it: in its own way at first, and if that
// takes longer than the grace, or a second signal comes, at once.
func endWith(asked <-chan os.Signal, stop context.CancelFunc, open *files.Files) {
	<-asked
	stop()
	select {
	case <-asked:
	case <-time.After(grace):
	}
	open.Close()
	fmt.Fprintln(os.Stderr, stopped)
	os.Exit(exitFailed)
}

// stopped is what is said of a run that was cut short.
const stopped = "unquil: interrupted before the end; this is what was known by then"

// outlet is standard output or standard error. When nobody reads it any more, the run is over.
type outlet struct {
	*os.File
	open *files.Files
}

func (o outlet) Write(b []byte) (int, error) {
	n, err := o.File.Write(b)
	if errors.Is(err, syscall.EPIPE) {
		o.open.Close()
		os.Exit(exitFailed)
	}
	return n, err
}

// WriteString is Write.
func (o outlet) WriteString(s string) (int, error) { return o.Write([]byte(s)) }

// terminal is a stream that may be a terminal.
type terminal interface{ Fd() uintptr }
