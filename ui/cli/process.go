package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"sync/atomic"
	"syscall"
	"time"

	"unquil/ui/files"
)

// grace is how long an interrupted run may take to show what it knows, and longGrace one of which
// an interrupt is the ordinary end.
const (
	grace     = 900 * time.Millisecond
	longGrace = 10 * time.Second
)

// ordinaryEnd is the key of a run's *atomic.Bool, which says that an interrupt is its ordinary end.
type ordinaryEnd struct{}

// endsByInterrupt says so: what follows an interrupt may take its time, and a second one cuts it
// short.
func endsByInterrupt(ctx context.Context) {
	if ordinary, ok := ctx.Value(ordinaryEnd{}).(*atomic.Bool); ok {
		ordinary.Store(true)
	}
}

// Process runs the program as a process of its own: with its arguments, streams and
// signals. It returns the exit code.
func Process() int {
	var open files.Files
	ordinary := new(atomic.Bool)
	ctx, stop := context.WithCancel(context.WithValue(context.Background(), ordinaryEnd{}, ordinary))
	defer stop()
	asked := make(chan os.Signal, 4)
	signal.Notify(asked, endings...)
	go endWith(asked, stop, ordinary, &open)
	ignoreBrokenPipes() // they come back as errors of writing, which leave nothing behind
	return run(ctx, &open, os.Args[1:], outlet{os.Stdout, &open}, outlet{os.Stderr, &open}, os.Environ())
}

// endWith ends the run when a signal asks for it: in its own way at first, and if that
// takes longer than the grace, or a second signal comes, at once.
func endWith(asked <-chan os.Signal, stop context.CancelFunc, ordinary *atomic.Bool, open *files.Files) {
	<-asked
	stop()
	patience := grace
	if ordinary.Load() {
		patience = longGrace
	}
	select {
	case <-asked:
	case <-time.After(patience):
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
