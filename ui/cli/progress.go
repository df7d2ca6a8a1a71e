package cli

import (
	"fmt"
	"os"
	"sync"
	"time"

	"golang.org/x/term"
)

// quietOut reports whether standard output goes where nobody watches it.
func (a *app) quietOut() bool {
	file, ok := a.stdout.(*os.File)
	return !ok || !term.IsTerminal(int(file.Fd()))
}

// progress tells on a terminal's standard error how many questions are out,
// from a moment on after which waiting is noticed. The returned function ends
// and erases it; it may be called more than once.
func (a *app) progress() (stop func()) {
	file, ok := a.stderr.(*os.File)
	if !ok || !term.IsTerminal(int(file.Fd())) {
		return func() {}
	}
	done, gone := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(gone)
		ticker := time.NewTicker(250 * time.Millisecond)
		defer ticker.Stop()
		for {
			select {
			case <-done:
				fmt.Fprint(file, "\r\x1b[K")
				return
			case <-ticker.C:
				begun, ended := a.session.Progress()
				fmt.Fprintf(file, "\r\x1b[Kasked %d, waiting for %d", begun, begun-ended)
			}
		}
	}()
	var once sync.Once
	return func() { once.Do(func() { close(done); <-gone }) }
}
