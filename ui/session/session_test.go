package session

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"testing/synctest"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// echo is a shell that says back what it is given.
type echo struct {
	ran   []string
	block bool // lines go on until they are ended
}

func (s *echo) Prompt() string { return "ask office for A:" }

func (s *echo) Run(ctx context.Context, line string, width int, out io.Writer) bool {
	s.ran = append(s.ran, line)
	if s.block {
		<-ctx.Done()
	}
	fmt.Fprintf(out, "first of %s\n\nlast", line)
	return line == "end"
}

func (s *echo) Complete(line string, at int) (int, []string) {
	from := strings.LastIndexByte(line[:at], ' ') + 1
	var fit []string
	for _, w := range []string{"trace", "transfer", "type", "why", "docs/"} {
		if strings.HasPrefix(w, line[from:at]) {
			fit = append(fit, w)
		}
	}
	return from, fit
}

func (s *echo) Progress() string { return "asked 3, waiting for 1" }

// terminal plays a terminal: it gives the model keys, and does what it wants done.
type terminal struct {
	m       *Model
	printed []string
	quit    bool
}

func newTerminal(t *testing.T, shell Shell, earlier ...string) *terminal {
	x := &terminal{m: New(t.Context(), Options{Shell: shell, Earlier: earlier})}
	x.m.print = func(text string) { x.printed = append(x.printed, ansi.Strip(text)) }
	x.m.Update(tea.WindowSizeMsg{Width: 60, Height: 20})
	return x
}

// do does what a command of the model wants, and what comes of that.
func (x *terminal) do(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	switch msg := cmd().(type) {
	case nil:
	case tea.QuitMsg:
		x.quit = true
	case tea.BatchMsg:
		for _, c := range slices.Backward(msg) { // what runs, and then the clock, which ends with it
			x.do(c)
		}
	default:
		_, next := x.m.Update(msg)
		x.do(next)
	}
}

// keys presses keys: words in angle brackets are keys by their names, anything else is typed.
func (x *terminal) keys(list ...string) {
	named := map[string]tea.KeyPressMsg{
		"<enter>": {Code: tea.KeyEnter}, "<tab>": {Code: tea.KeyTab}, "<back>": {Code: tea.KeyTab, Mod: tea.ModShift}, "<up>": {Code: tea.KeyUp}, "<down>": {Code: tea.KeyDown},
		"<left>": {Code: tea.KeyLeft}, "<ctrl+c>": {Code: 'c', Mod: tea.ModCtrl}, "<ctrl+d>": {Code: 'd', Mod: tea.ModCtrl},
	}
	for _, item := range list {
		if key, is := named[item]; is {
			_, cmd := x.m.Update(key)
			if item == "<left>" {
				continue // the cursor's blinking is of no interest
			}
			x.do(cmd)
			continue
		}
		for _, r := range item {
			x.m.Update(tea.KeyPressMsg{Code: r, Text: string(r)})
		}
	}
}

func (x *terminal) screen() string { return ansi.Strip(x.m.View().Content) }

// Lines run in the order in which they were typed, and what they say stands below them.
func TestLinesRun(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		shell := &echo{}
		x := newTerminal(t, shell)
		assert.Contains(t, x.screen(), "ask office for A:")
		x.keys("www.hollowtarn.example", "<enter>", "<enter>", "end", "<enter>")
		assert.Equal(t, []string{"www.hollowtarn.example", "end"}, shell.ran)
		assert.True(t, x.quit)
		assert.Equal(t, []string{"ask office for A: www.hollowtarn.example", "first of www.hollowtarn.example\n", "last"}, x.printed[:3])
		assert.Empty(t, strings.TrimSpace(x.screen()), "nothing stays behind")
	})
}

func TestHistory(t *testing.T) {
	x := newTerminal(t, &echo{}, "one", "two")
	x.keys("thr", "<up>")
	assert.Equal(t, "two", x.m.input.Value())
	x.keys("<up>", "<up>")
	assert.Equal(t, "one", x.m.input.Value())
	x.keys("<down>", "<down>")
	assert.Equal(t, "thr", x.m.input.Value(), "what was being typed is not lost")
}

func TestHistoryFile(t *testing.T) {
	assert.Equal(t, []string{"a", "b", "a"}, ReadHistory(strings.NewReader("a\na\n\nb\nx\x1b[2J\na\n")))
	assert.Len(t, ReadHistory(strings.NewReader(strings.Repeat("a\nb\n", 2000))), maxEarlier)
}

func TestComplete(t *testing.T) {
	for _, tt := range []struct {
		name string
		keys []string
		line string
		sees string // below it
	}{
		{"one word is completed", []string{"w", "<tab>"}, "why ", ""},
		{"a folder is gone on with", []string{"report d", "<tab>"}, "report docs/", ""},
		{"as far as all agree, and then they are listed", []string{"tr", "<tab>"}, "tra", "trace"},
		{"then each in turn", []string{"tr", "<tab>", "<tab>", "<tab>"}, "transfer", "trace"},
		{"and back", []string{"tr", "<tab>", "<tab>", "<back>"}, "transfer", "trace"},
		{"nothing fits", []string{"x", "<tab>"}, "x", "nothing to complete"},
		{"in the middle of a line", []string{"w x", "<left>", "<left>", "<tab>"}, "why  x", ""},
	} {
		t.Run(tt.name, func(t *testing.T) {
			x := newTerminal(t, &echo{})
			x.keys(tt.keys...)
			assert.Equal(t, tt.line, x.m.input.Value())
			assert.Contains(t, x.screen(), tt.sees)
		})
	}
}

// Ctrl-C ends what is asked, then empties the line, and only the second on an empty line in a
// row ends the session.
func TestInterrupt(t *testing.T) {
	x := newTerminal(t, &echo{})
	x.keys("half a line", "<ctrl+c>")
	assert.Empty(t, x.m.input.Value())
	assert.False(t, x.quit)
	x.keys("a", "<ctrl+c>", "<ctrl+c>")
	assert.True(t, x.quit, "the second")

	x = newTerminal(t, &echo{})
	x.keys("<ctrl+c>")
	assert.Contains(t, x.screen(), "Ctrl-C again")
	x.keys("b")
	assert.NotContains(t, x.screen(), "Ctrl-C again")
	x.keys("<ctrl+d>")
	assert.False(t, x.quit, "Ctrl-D on a line is no end")
	x = newTerminal(t, &echo{})
	x.keys("<ctrl+d>")
	assert.True(t, x.quit)
}

// While a line runs the screen says how far it is, what is typed waits, and Ctrl-C ends it.
func TestInterruptsWhatRuns(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		shell := &echo{block: true}
		x := newTerminal(t, shell)
		x.m.input.SetValue("slow.example")
		_, cmd := x.m.Update(tea.KeyPressMsg{Code: tea.KeyEnter})
		batch, ok := cmd().(tea.BatchMsg)
		require.True(t, ok)
		done := make(chan tea.Msg)
		go func() { done <- batch[1]() }()
		x.m.Update(batch[0]()) // the clock, 200 ms later
		x.m.Update(elapsed{})
		x.m.began = x.m.began.Add(-1e9)
		assert.Contains(t, x.screen(), "asked 3, waiting for 1; Ctrl-C ends it")
		x.keys("next.example", "<enter>")
		assert.Contains(t, x.screen(), "1 more to come")
		x.keys("<ctrl+c>")
		_, next := x.m.Update(<-done)
		assert.Nil(t, next, "what waited is given up too")
		assert.Equal(t, []string{"slow.example"}, shell.ran)
		x.keys("<ctrl+c>")
		assert.True(t, x.quit, "the second, on an empty line")
	})
}

// Lines that are pasted run as if they had been typed; the last waits to be ended.
func TestPaste(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		shell := &echo{}
		x := newTerminal(t, shell)
		_, cmd := x.m.Update(tea.PasteMsg{Content: "one\r\ntwo\nthr"})
		x.do(cmd)
		assert.Equal(t, []string{"one", "two"}, shell.ran)
		assert.Equal(t, "thr", x.m.input.Value())
	})
}
