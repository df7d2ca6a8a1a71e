package text

import (
	"fmt"
	"strings"
	"time"

	"unquil/core/comparison"
	"unquil/core/probe"
	"unquil/core/wording"

	"github.com/charmbracelet/x/ansi"
)

// Event draws one change as a line, with the time of the clock that TTLs run by.
func (v *View) Event(e comparison.Event) {
	style := plainStyle
	if e.Kind == comparison.Changed {
		style = strong
	}
	text := e.Text
	if e.TTL > 0 && e.Kind != comparison.Several {
		text += fmt.Sprintf(", for %s", Seconds(e.TTL))
	}
	v.flow(quiet.Render(e.At.Format("15:04:05")), 10, text, style)
}

// Live draws the tracks as a table that is drawn again in its place.
type Live struct {
	view  *View
	lines int
}

// NewLive returns a table on a terminal.
func (v *View) NewLive() *Live { return &Live{view: v} }

// Draw draws the table over the one before.
func (l *Live) Draw(title string, tracks []*comparison.Track, now time.Time) {
	if l.lines > 0 {
		l.view.raw(ansi.CursorUp(l.lines) + ansi.EraseScreenBelow)
	}
	l.lines = l.view.table(title, tracks, now)
}

// table draws a row a resolver, below their question where there are several, and returns how many lines it took.
func (v *View) table(title string, tracks []*comparison.Track, now time.Time) int {
	widest, says := len("resolver"), len("says")
	for _, t := range tracks {
		widest, says = max(widest, len(t.Server.Name())), max(says, len(t.Says))
	}
	widest, says = min(widest, 24), min(says, max(v.width-widest-50, 16))
	columns := []column{{title: "resolver", width: widest + 2}, {title: "says", width: says + 2}, {title: "left", width: 20}, {title: "fetched", width: 12}, {title: "changes", width: 8}}
	cells := [][]string{titles(columns)}
	above := map[int]string{} // the question that stands above a row
	for i, t := range tracks {
		if i == 0 || t.Question != tracks[i-1].Question {
			above[len(cells)] = t.About
		}
		left, fetched := "", "not seen"
		if ends := t.Ends(); !ends.IsZero() {
			left = Seconds(uint32(max(ends.Sub(now), 0) / time.Second))
		}
		if t.Habit() == comparison.Constant {
			left = Seconds(t.TTL) + ", always"
		}
		if !t.Refreshed.IsZero() {
			fetched = t.Refreshed.Format("15:04:05")
		}
		answer := t.Says
		if !t.Outcome.Good() {
			answer = severe["fault"].Render(answer)
		}
		cells = append(cells, []string{cut(t.Server.Name(), widest+1), cut(answer, says+1), left, fetched, fmt.Sprint(t.Changes)})
	}
	lines := 2
	v.line(cut(subject.Render(title), v.width))
	v.line()
	for i, line := range grid(columns, cells) {
		if question := above[i]; question != "" {
			v.line(cut("  "+strong.Render(question), v.width))
			lines++
		}
		v.line("  ", line)
		lines++
	}
	return lines
}

// Watched draws how watching ended: whether what was waited for came about, and
// what was seen of each resolver.
func (v *View) Watched(w probe.Watched, waited string) {
	v.line()
	how := fmt.Sprintf("watched for %s, %s", wording.Span(w.Took), wording.Count(w.Rounds, "round", "rounds"))
	switch {
	case w.Met:
		how += ": " + good.Render(waited)
	case w.Cut:
		how += ": interrupted"
	case waited != "":
		how += ": " + severe["fault"].Render("not reached: "+waited)
	}
	v.flow("", 0, how, plainStyle)
	widest := 0
	for _, t := range w.Tracks {
		widest = max(widest, len(t.Name())+4)
	}
	for _, t := range w.Tracks {
		words := []string{fmt.Sprintf("%s, %s", t.Says, wording.Count(t.Changes, "change", "changes")), string(t.Habit())}
		if t.Caches > 1 {
			words = append(words, fmt.Sprintf("%d caches seen", t.Caches))
		}
		v.flow("  "+t.Name(), max(labelWidth+4, widest), strings.Join(words, "; "), plainStyle)
	}
}
