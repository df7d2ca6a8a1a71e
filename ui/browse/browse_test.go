package browse

import (
	"bytes"
	"context"
	"errors"
	"io"
	"slices"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/conversation"
	"unquil/lab"
	"unquil/ui/text"
)

// held is a capture in memory, which may grow.
type held struct {
	content []byte
	shown   int // how many bytes of it there are so far
}

func (h *held) Open() ([]*capture.Reader, error) {
	r, err := capture.NewReader(bytes.NewReader(h.content[:h.shown]))
	return []*capture.Reader{r}, err
}

func (*held) Again() bool { return true }

func (h *held) size() int64 { return int64(h.shown) }

func recorded(t testing.TB, name string) *held {
	t.Helper()
	file, err := lab.Captures().Open(name)
	require.NoError(t, err)
	defer file.Close()
	content, err := io.ReadAll(file)
	require.NoError(t, err)
	return &held{content, len(content)}
}

// written is what a browser wanted to be written.
type written struct {
	path    string
	numbers []int
	notes   map[int]string
}

// visit is a browser on a screen of some size, and what it wrote.
type visit struct {
	*model
	wrote []written
	fails error
}

func visiting(t testing.TB, h *held, width, height int) *visit {
	v := &visit{}
	b := New(Source{Title: "morning.pcapng", Archive: &conversation.Archive{Source: h}, Size: h.size,
		Write: func(_ context.Context, path string, chosen *conversation.Chosen, notes map[int]string) (string, error) {
			w := written{path: path, notes: notes}
			for i := range chosen.Count() {
				w.numbers = append(w.numbers, chosen.Number(i))
			}
			v.wrote = append(v.wrote, w)
			return "written to " + path, v.fails
		}}, text.Never)
	v.model = newModel(t.Context(), b)
	v.send(tea.WindowSizeMsg{Width: width, Height: height})
	return v
}

// send gives the model an event, and does all the reading that it leads to.
func (v *visit) send(msg tea.Msg) (ends bool) {
	job := v.running
	_, cmd := v.Update(msg)
	switch {
	case cmd == nil || v.asking != nil && v.running == job:
	case v.running != nil && v.running != job:
		if d, ok := firstDone(cmd); ok {
			d.apply()
		}
	default: // what makes a cursor blink, or the end
		_, ends = cmd().(tea.QuitMsg)
	}
	v.settle()
	return ends
}

// settle does all the reading that is to be done.
func (v *visit) settle() {
	for cmd := v.start(); cmd != nil; cmd = v.start() {
		cmd().(done).apply()
	}
}

var named = map[string]tea.KeyPressMsg{
	"enter": {Code: tea.KeyEnter}, "esc": {Code: tea.KeyEscape}, "up": {Code: tea.KeyUp}, "down": {Code: tea.KeyDown}, "home": {Code: tea.KeyHome}, "end": {Code: tea.KeyEnd},
	"pgdown": {Code: tea.KeyPgDown}, "pgup": {Code: tea.KeyPgUp}, "space": {Code: tea.KeySpace, Text: " "}, "ctrl+c": {Code: 'c', Mod: tea.ModCtrl},
}

// press presses keys, each with all the reading that it wants. What is no key is typed.
func (v *visit) press(keys ...string) (ends bool) {
	for _, key := range keys {
		if msg, ok := named[key]; ok {
			ends = v.send(msg) || ends
			continue
		}
		for _, r := range key {
			ends = v.send(tea.KeyPressMsg{Code: r, Text: string(r)}) || ends
		}
	}
	return ends
}

// firstDone runs a command until its job has ended.
func firstDone(cmd tea.Cmd) (d done, ok bool) {
	switch msg := cmd().(type) {
	case done:
		return msg, true
	case tea.BatchMsg:
		for _, c := range slices.Backward(msg) {
			if c != nil {
				if d, ok = firstDone(c); ok {
					return d, true
				}
			}
		}
	}
	return d, false
}

func (v *visit) screen() string { return ansi.Strip(strings.Join(v.lines(), "\n")) }

func (v *visit) words() string { return strings.Join(strings.Fields(v.screen()), " ") }

// From what went wrong down to the byte and back up, and from an exchange to those it has to do
// with: the trail says where one is.
func TestWays(t *testing.T) {
	morning := recorded(t, "valley-morning.pcapng")
	for _, tt := range []struct {
		name  string
		keys  []string
		trail string
		sees  []string
	}{
		{"the worst finding comes first, whole", nil, "findings", []string{"17 findings in 360 exchanges", "> fault 192.0.2.53 failed 4 times", "evidence: exchanges 13, 16, 17, 62", "next: Trace the names that failed."}},
		{"down to the exchanges that show it", []string{"enter"}, "findings / failed", []string{"4 exchanges", "> 13 07:40:14.000 summit.camera.hollowtarn.example A: server-failure"}},
		{"all of them, and not only those that it names", []string{"end", "up", "up", "up", "up", "up", "up", "enter"}, "findings / failed", []string{"14 exchanges"}},
		{"to one whole", []string{"enter", "enter"}, "findings / failed / exchange 13", []string{"question reply", "packet 30 at 07:40:14.000000", "IPv4 from 192.0.2.31, to 192.0.2.53", "recursion available, SERVFAIL"}},
		{"to its bytes, the one under the cursor explained", []string{"enter", "enter", "enter", "down", "down", "down", "down"}, "findings / failed / exchange 13 / bytes",
			[]string{"question, packet 30", "Ethernet", "> 44 0100 flags 0x0100 header: flags, bytes 44 to 45 this is a question", "reply, packet 31"}},
		{"the bytes of the reply follow", []string{"enter", "enter", "enter", "end"}, "findings / failed / exchange 13 / bytes", []string{"reply, packet 31"}},
		{"and back up", []string{"enter", "enter", "enter", "esc", "esc"}, "findings / failed", []string{"4 exchanges"}},
		{"the next of the list", []string{"enter", "enter", ">"}, "findings / failed / exchange 16", []string{"status.lifts.hollowtarn.example"}},
		{"its other half", []string{"2", "enter", "o"}, "exchanges / exchange 1 / exchange 2", []string{"AAAA"}},
		{"the try that followed, and the one before", []string{"down", "enter", "enter", "f", "b"}, "unanswered / exchange 11 / exchange 14 / exchange 11", nil},
		{"the same name, whoever was asked", []string{"down", "enter", "s"}, "unanswered / www.hollowtarn.example", []string{"48 exchanges", "no-reply", "203.0.113.120"}},
		{"the same client around then", []string{"enter", "m"}, "failed / 192.0.2.31 around 07:40:14", []string{"exchanges"}},
		{"names", []string{"3", "enter"}, "names / www.hollowtarn.example", []string{"48 exchanges"}},
		{"servers", []string{"4", "enter"}, "servers / 192.0.2.53", []string{"354 exchanges"}},
		{"clients", []string{"5", "down"}, "clients", []string{"the busiest first", "with no such name;"}},
		{"episodes", []string{"6", "enter"}, "episodes / episode of 192.0.2.21", []string{"2 exchanges"}},
		{"walks", []string{"7"}, "walks", []string{"0 walks"}},
		{"the local link, down to a packet", []string{"8", "enter", "enter"}, "/ bytes", []string{"Ethernet"}},
		{"a finding that only packets show", []string{"down", "down", "down", "down", "down", "enter"}, "local link", []string{"printer.local"}},
		{"the time line", []string{"9", "enter"}, "time line / from 07:40:00", []string{"exchanges"}},
		{"help", []string{"?"}, "findings / help", []string{"Space", "mark an exchange for writing"}},
		{"narrowed, and narrowed again", []string{"4", "enter", "/", `outcome = no-name`, "enter", "/", `type = AAAA`, "enter"}, `servers / 192.0.2.53 / outcome = no-name / type = AAAA`,
			[]string{"1 exchange where (outcome"}},
		{"nothing below", []string{"7", "enter"}, "walks", []string{"nothing is below this"}},
		{"not from an exchange", []string{"o"}, "findings", []string{"that goes from an exchange"}},
		{"none in that direction", []string{"enter", "enter", "<"}, "exchange 13", []string{"there is no other in that direction"}},
		{"nothing was asked beside it", []string{"enter", "enter", "o"}, "exchange 13", []string{"nothing was asked beside it"}},
		{"the top", []string{"esc"}, "findings", []string{"this is the top"}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			v := visiting(t, morning, 100, 40)
			assert.False(t, v.press(tt.keys...))
			first, _, _ := strings.Cut(v.screen(), "\n")
			assert.Contains(t, first, tt.trail)
			for _, words := range tt.sees {
				assert.Contains(t, v.words(), words)
			}
		})
	}
}

// Whatever the size, the screen is filled and never overfilled, the place where one stands is
// on it, and keys say how to go on.
func TestSizes(t *testing.T) {
	morning := recorded(t, "valley-morning.pcapng")
	for _, size := range [][2]int{{60, 16}, {80, 24}, {120, 40}, {200, 50}, {10, 3}} {
		v := visiting(t, morning, size[0], size[1])
		for _, keys := range [][]string{{"2"}, {"end"}, {"pgup"}, {"up"}, {"home"}, {"pgdown"}, {"enter"}, {"down", "down"}, {"enter"}, {"end"}, {"esc", "esc", "1"}, {"end"}, {"3"}, {"9"}, {"?"}, {"pgdown"}} {
			v.press(keys...)
			lines := v.lines()
			assert.Len(t, lines, max(size[1], frame+3), "%v %v", size, keys)
			for _, line := range lines {
				assert.LessOrEqual(t, ansi.StringWidth(line), max(size[0], 42), "%v %v: %q", size, keys, line)
			}
			if v.here().page == nil {
				assert.Contains(t, v.screen(), "\n> ", "%v %v", size, keys)
			}
		}
	}
}

// While a condition is typed, what it leaves is told; what is wrong with it costs nothing.
func TestNarrowing(t *testing.T) {
	v := visiting(t, recorded(t, "valley-morning.pcapng"), 100, 30)
	v.press("2", "/", "took >")
	assert.Contains(t, v.words(), "narrow exchanges to: took >")
	assert.Contains(t, v.words(), "not a condition")
	v.press(" 1s")
	assert.Contains(t, v.words(), "4 exchanges left")
	v.press("enter")
	assert.Contains(t, v.words(), "4 exchanges where took > 1s")
	v.press("/", "esc")
	assert.Nil(t, v.asking)
	v.press("/", "took >", "enter")
	assert.Contains(t, v.words(), "not a condition")
	assert.Contains(t, v.words(), "4 exchanges where took > 1s")
}

// What is marked is written with the notes on it; without marks, what is looked at.
func TestWriting(t *testing.T) {
	v := visiting(t, recorded(t, "valley-morning.pcapng"), 100, 30)
	v.press("w")
	assert.Contains(t, v.words(), "nothing to write here")
	v.press("space")
	assert.Contains(t, v.words(), "only exchanges can be marked")
	v.press("enter", "w", "all.csv", "enter")
	v.press("enter", "w", "one.pcapng", "enter", "esc")
	v.press("space", "space", "up", "space", "n", "the caller's", "enter", "w", "two.pcapng", "enter")
	require.Len(t, v.wrote, 3)
	assert.Equal(t, written{"all.csv", []int{13, 16, 17, 62}, map[int]string{}}, v.wrote[0])
	assert.Equal(t, []int{13}, v.wrote[1].numbers)
	assert.Equal(t, "two.pcapng", v.wrote[2].path)
	assert.Equal(t, []int{13, 17}, v.wrote[2].numbers)
	assert.Equal(t, map[int]string{17: "the caller's"}, v.wrote[2].notes)
	assert.Contains(t, v.words(), "written to two.pcapng")
	assert.Contains(t, v.words(), "note: the caller's")
	assert.Contains(t, v.screen(), "*", "a marked one has a star")
	v.fails = errors.New("writing: it exists already")
	v.press("w", "two.pcapng", "enter")
	assert.Contains(t, v.words(), "it exists already")
	v.press("w", "enter", "n")
	assert.Contains(t, v.words(), "note on exchange 17: the caller's", "an earlier note is changed")
	v.press("esc")
	assert.Len(t, v.wrote, 4)
}

// A file that is still being written goes on growing, and one stays where one was.
func TestGrowing(t *testing.T) {
	h := recorded(t, "valley-morning.pcapng")
	h.shown = len(h.content) / 2
	v := visiting(t, h, 100, 30)
	v.press("2", "down", "down")
	before := v.all.Count()
	v.Grown()
	assert.Nil(t, v.start(), "nothing has changed")
	h.shown = len(h.content)
	v.Grown()
	v.settle()
	assert.Greater(t, v.all.Count(), before)
	assert.Contains(t, v.words(), "the file has grown: 360 exchanges by now")
	assert.Contains(t, v.words(), "3 of 360")
}

// What runs for long gives way to what is wanted now.
func TestLaterJobsTakeTheirTurn(t *testing.T) {
	v := visiting(t, recorded(t, "valley-morning.pcapng"), 100, 30)
	var stopped error
	v.later(&job{kind: "choose", says: "looking", run: func(ctx context.Context, tell func(string)) func() {
		<-ctx.Done()
		stopped = ctx.Err()
		return func() { t.Error("what was given up is applied") }
	}})
	first := v.start()
	assert.Equal(t, "looking", v.Working())
	applied := false
	v.later(&job{kind: "choose", run: func(context.Context, func(string)) func() { return func() { applied = true } }})
	first().(done).apply()
	assert.ErrorIs(t, stopped, context.Canceled)
	v.settle()
	assert.True(t, applied)
}

// The mouse goes to items, down from them, and scrolls.
func TestMouse(t *testing.T) {
	v := visiting(t, recorded(t, "valley-morning.pcapng"), 100, 30)
	v.send(tea.MouseWheelMsg{Button: tea.MouseWheelDown})
	assert.Equal(t, 3, v.here().at)
	v.send(tea.MouseWheelMsg{Button: tea.MouseWheelUp})
	assert.Equal(t, 0, v.here().at)
	line := slices.IndexFunc(v.lines(), func(line string) bool { return strings.Contains(line, "192.0.2.99 answered") })
	v.send(tea.MouseClickMsg{Y: line})
	assert.Equal(t, 2, v.here().at)
	v.lines()
	v.send(tea.MouseClickMsg{Y: line - 3})
	assert.NotEqual(t, 2, v.here().at)
	v.lines()
	v.click(v.top + slices.Index(v.rows, v.here().at))
	v.settle()
	assert.Contains(t, v.Trail(100), "findings / ")
	v.click(0)
}

func TestEnds(t *testing.T) {
	v := visiting(t, recorded(t, "valley-morning.pcapng"), 80, 24)
	assert.True(t, v.press("q"))
	assert.True(t, v.press("ctrl+c"))
	broken := &held{[]byte("no capture at all"), 17}
	b := New(Source{Title: "x", Archive: &conversation.Archive{Source: broken}, Size: broken.size}, text.Never)
	x := &visit{model: newModel(t.Context(), b)}
	x.send(tea.WindowSizeMsg{Width: 80, Height: 24})
	assert.Contains(t, x.words(), "neither a capture nor a server's record")
	assert.False(t, x.press("enter", "up", "/", "w"), "before anything was read, keys do nothing")
	assert.True(t, x.press("q"))
}

// The plain form says the same in lines, without cutting or drawing anything.
func TestPlain(t *testing.T) {
	h := recorded(t, "valley-morning.pcapng")
	var wrote []string
	b := New(Source{Title: "morning.pcapng", Archive: &conversation.Archive{Source: h}, Size: h.size,
		Write: func(_ context.Context, path string, chosen *conversation.Chosen, _ map[int]string) (string, error) {
			wrote = append(wrote, path)
			return "written", nil
		}}, text.Never)
	var out bytes.Buffer
	lines := "1\n17\nmark\nnote old shop\nhalf\nup\nup\nmark 62\nwrite two.pcapng\nlist servers\n1\nmore\nwhere outcome = no-name\nwhere x >\nbefore\nnonsense\n99999\nlist nothing\nlist time line\nup\nhelp\nend\nlist names\n"
	require.NoError(t, RunPlain(t.Context(), b, strings.NewReader(lines), &out))
	told := strings.Join(strings.Fields(out.String()), " ")
	for _, words := range []string{
		"at: morning.pcapng / findings 17 findings in 360 exchanges", "1: fault 192.0.2.53 failed 4 times",
		"at: morning.pcapng / findings / failed / exchange 17", "question, flags recursion desired", "reply, flags recursion desired, recursion available, SERVFAIL",
		"1 exchange marked", "noted; exchange 17 is marked", "/ exchange 17 / exchange 16", "2 exchanges marked", "1: 192.0.2.53: 354 asked 4 failed", "334 more items: the word more tells the next",
		"14 exchanges where outcome", "not a condition", "it was not asked before", `"nonsense" is no word here`, "there is no item 99999 here", "the lists are findings", "a line is", "this is the top", "NUMBER, down",
	} {
		assert.Contains(t, told, words)
	}
	assert.NotContains(t, out.String(), "\x1b")
	assert.NotContains(t, told, "names, those with", "after the end nothing is done")
	assert.Equal(t, []string{"two.pcapng"}, wrote)
}
