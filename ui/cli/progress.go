package cli

import (
	"fmt"
	"sync"
	"time"

	"github.com/charmbracelet/x/ansi"

	"golang.org/x/term"

	"unquil/core/diagnosis"
	"unquil/ui/text"
)

// quietOut reports whether standard output goes where nobody watches it.
func (a *app) quietOut() bool {
	file, ok := a.stdout.(terminal)
	return !ok || !term.IsTerminal(int(file.Fd()))
}

// progress tells on a terminal's standard error how many questions are out,
// from a moment on after which waiting is noticed. The returned function ends
// and erases it; it may be called more than once.
func (a *app) progress() (stop func()) {
	file, ok := a.stderr.(outlet)
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
				fmt.Fprint(file, eraseLine)
				return
			case <-ticker.C:
				begun, ended := a.session.Progress()
				fmt.Fprintf(file, eraseLine+"asked %d, waiting for %d", begun, begun-ended)
			}
		}
	}()
	var once sync.Once
	return func() { once.Do(func() { close(done); <-gone }) }
}

// checks shows on a terminal's standard error how the checks of one case come out,
// or for several cases what progress does. The returned functions take the checks,
// and end and erase it.
func (a *app) checks(cases int) (watch func([]diagnosis.Check), stop func()) {
	file, ok := a.stderr.(outlet)
	if !ok || !term.IsTerminal(int(file.Fd())) || cases > 1 {
		return nil, a.progress()
	}
	live := text.New(file, columns(file, a.environ), text.Colour(a.colour), a.environ).NewLive()
	const noticed = 250 * time.Millisecond // before which nobody waits for anything
	begun, ended := time.Now(), false
	var mu sync.Mutex
	watch = func(checks []diagnosis.Check) {
		mu.Lock()
		defer mu.Unlock()
		if !ended && time.Since(begun) > noticed {
			live.Checks(checks)
		}
	}
	return watch, func() {
		mu.Lock()
		defer mu.Unlock()
		ended = true
		live.Clear()
	}
}

// eraseLine takes the line of progress away.
const eraseLine = "\r" + ansi.EraseLineRight
