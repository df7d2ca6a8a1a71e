package text

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"unquil/core/conversation"
	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/live"
	"unquil/core/wording"
)

// LiveLine draws one exchange while it comes about, with the program that asked where that is
// known. It is one line: whole, or as much of it as fits.
func (v *View) LiveLine(e *exchange.Exchange, waits bool, whose *live.Program, whole bool) {
	result := resultWords(e)
	if waits {
		result = severe[finding.Concern].Render(fmt.Sprintf("no reply for %d s", conversation.Patience/time.Second))
		if n := e.Sends(); n > 1 {
			result += fmt.Sprintf(", sent %s", wording.Times(n))
		}
	}
	who := e.Client.Addr().String()
	if whose != nil {
		who = programWords(whose)
	}
	text := fmt.Sprintf("%s  %s: %s %s", e.Sent().Format(clock), e.Asked(), result, quiet.Render(fmt.Sprintf("(%s queried %s)", who, e.Server.Name())))
	if text = quiet.Render(fmt.Sprintf("%5d  ", e.Number)) + text; !whole {
		text = cut(text, v.width-1)
	}
	v.line(text)
}

func programWords(p *live.Program) string {
	return fmt.Sprintf("%s, process %d,", cmp.Or(string(p.Name), "a program"), p.PID)
}

// Listened is how far listening has come.
type Listened struct {
	On        string // the interfaces
	For       time.Duration
	PerSecond int // packets, in the last moment
	Heard     uint64
	Lost      uint64 // by the system
	Unjudged  uint64 // because judging took too long
	Unkept    uint64 // and writing
	Written   string // the file; "" for none
	Broken    string // why nothing is written any more; "" while it is

	Exchanges int // that came about so far
	Failed    int // of them
	NoName    int
	Waiting   int // that have no reply yet, for longer than is usual
}

// Foot draws, over what was drawn before, how far listening has come: a line of figures.
func (l *Live) Foot(s Listened) {
	l.Clear()
	l.view.line(footWords(s, l.view.width-1))
	l.lines = 1
	if s.Broken != "" {
		l.view.line(cut(severe[finding.Fault].Render("not written any more: ")+string(escape.Of(s.Broken)), l.view.width-1))
		l.lines++
	}
}

// Foot draws the same line without anything below it.
func (v *View) Foot(s Listened) { v.line(footWords(s, v.width-1)) }

func footWords(s Listened, width int) string {
	parts := []string{strong.Render("listening"), wording.Span(s.For.Truncate(time.Second)), fmt.Sprintf("%s/s", wording.Count(s.PerSecond, "packet", "packets"))}
	if s.For < time.Second {
		parts = parts[:1]
	}
	count := wording.Count(s.Exchanges, "exchange", "exchanges")
	if s.Failed > 0 {
		count += ", " + severe[finding.Fault].Render(fmt.Sprintf("%s failed", wording.Number(s.Failed)))
	}
	if s.NoName > 0 {
		count += fmt.Sprintf(", %s no name", wording.Number(s.NoName))
	}
	if s.Waiting > 0 {
		count += ", " + severe[finding.Concern].Render(fmt.Sprintf("%s waiting", wording.Number(s.Waiting)))
	}
	parts = append(parts, count)
	if lost := s.Lost + s.Unjudged; lost > 0 {
		parts = append(parts, severe[finding.Concern].Render(wording.Count(int(lost), "packet", "packets")+" lost"))
	}
	line := strings.Join(parts, " · ")
	if hint := " · " + quiet.Render("Ctrl-C ends it"); ansi.StringWidth(line+hint) <= width {
		line += hint
	}
	return cut(line, width)
}

// Listening says what is listened to, before anything was heard.
func (v *View) Listening(s Listened) {
	to := ""
	if s.Written != "" {
		to = ", writing to " + string(escape.Of(s.Written))
	}
	v.flow("", 0, quiet.Render(fmt.Sprintf("listening at %s%s; Ctrl-C ends it", escape.Of(s.On), to)), plainStyle)
}

// Heard says what is missing of what was heard, and where it was written. leftOut is how many
// exchanges were not written for what they would tell.
func (v *View) Heard(s Listened, leftOut int) {
	for _, missing := range []struct {
		count uint64
		words string
	}{
		{s.Lost, "lost by the system, because they came faster than they were taken"},
		{s.Unjudged, "left out of what is shown here, because they came faster than they could be judged"},
		{s.Unkept, "left out of the file, because the disk was too slow"},
	} {
		if missing.count > 0 {
			v.line()
			v.flow("  "+severe[finding.Concern].Render(string(finding.Concern)), labelWidth, wording.Count(int(missing.count), "packet was ", "packets were ")+missing.words, plainStyle)
		}
	}
	if leftOut > 0 {
		v.line()
		v.flow("", 0, wording.Count(leftOut, "exchange was", "exchanges were")+" left out of the file: it would have told a name that is redacted", plainStyle)
	}
	if s.Written != "" && s.Broken == "" {
		v.line()
		v.flow("", 0, "written to "+string(escape.Of(s.Written)), plainStyle)
	}
}

// Over draws a view over the one before, at most so many lines of it.
func (l *Live) Over(lines int, draw func(*View)) {
	var drawn bytes.Buffer
	view := &View{w: &drawn, width: l.view.width, Marks: l.view.Marks}
	draw(view)
	all := strings.Split(strings.TrimRight(drawn.String(), "\n"), "\n")
	all = all[:min(len(all), max(lines, 1))]
	l.Clear()
	for _, line := range all {
		l.view.line(cut(line, l.view.width-1))
	}
	l.lines = len(all)
}

// Programs draws what each program asked for, what failed first.
func (v *View) Programs(uses []*live.Use) {
	if len(uses) == 0 {
		v.flow("", 0, "no exchange to show: nobody asked anything", plainStyle)
		return
	}
	columns := []column{{title: "program", width: v.width - 46}, {"asked", 7, true}, {"failed", 7, true}, {"no name", 8, true}, {"silent", 7, true}, {"median", 8, true}, {"95th", 8, true}}
	columns[0].width = max(columns[0].width, 16)
	cells := [][]string{titles(columns)}
	below := map[int][]string{}
	for _, u := range uses[:min(len(uses), v.most())] {
		failed := fmt.Sprint(u.Failed)
		if u.Failed > 0 {
			failed = severe[finding.Fault].Render(failed)
		}
		row := []string{useWords(u), fmt.Sprint(u.Exchanges), failed, fmt.Sprint(u.NoName), fmt.Sprint(u.Unanswered), "-", "-"}
		if u.Latency.Count() > 0 {
			row[5], row[6] = wording.Span(u.Latency.Quantile(50)), wording.Span(u.Latency.Quantile(95))
		}
		below[len(cells)] = namesOfUse(u)
		cells = append(cells, row)
	}
	for i, line := range grid(columns, cells) {
		v.line(line)
		for _, name := range below[i] {
			v.flow("", 4, name, quiet)
		}
	}
	v.rest(len(uses)-min(len(uses), v.most()), "programs")
	v.line()
	v.flow("", 0, "whose a question is shows while its socket is open, and only of programs that this user may look at: what nobody was seen to ask is \"not known\"", quiet)
}

func useWords(u *live.Use) string {
	if !u.Known {
		return quiet.Render("not known")
	}
	name := cmp.Or(string(u.Name), "a program")
	if n := len(u.Processes); n > 1 {
		return fmt.Sprintf("%s (%d processes)", name, n)
	}
	if len(u.Processes) == 1 {
		return fmt.Sprintf("%s (process %d)", name, u.Processes[0])
	}
	return name
}

// maxUsed is how many names of a program are shown.
const maxUsed = 5

func namesOfUse(u *live.Use) (lines []string) {
	names := u.Names()
	for _, n := range names[:min(len(names), maxUsed)] {
		lines = append(lines, nameUseWords(&n))
	}
	if more := len(names) - len(lines); more > 0 {
		lines = append(lines, fmt.Sprintf("and %s", wording.Count(more, "more name", "more names")))
	}
	return lines
}

func nameUseWords(n *live.NameUse) string {
	words := fmt.Sprintf("%s, %s", n.Name.Spoken(), wording.Times(n.Exchanges))
	switch {
	case n.Failed == n.Exchanges:
		words += ": " + severe[finding.Fault].Render(string(n.Outcome))
	case n.Failed > 0:
		words += ", " + severe[finding.Fault].Render(fmt.Sprintf("%s %s", wording.Times(n.Failed), n.Outcome))
	case n.NoName == n.Exchanges:
		words += ": no such name"
	}
	return words
}

// Ran is what came of a command that was listened to while it ran.
type Ran struct {
	Command string
	Took    time.Duration
	Exit    int    // its exit code
	Failed  string // why it could not be run; "" when it was
	Cut     bool   // listening ended before it did
}

// While draws what a command asked for: which names, what failed, and how long they held it up.
func (v *View) While(r Ran, p *live.Programs) {
	use := p.Child()
	how := fmt.Sprintf("ended after %s with exit code %d", wording.Span(r.Took), r.Exit)
	switch {
	case r.Failed != "":
		how = "could not be run: " + string(escape.Of(r.Failed))
	case r.Cut:
		how = fmt.Sprintf("was still running after %s", wording.Span(r.Took))
	}
	names, asked := use.Names(), "It was not seen to ask for any name."
	if use.Exchanges > 0 {
		held, atLeast := p.HeldUp()
		waited := wording.Span(held)
		if atLeast {
			waited = "at least " + waited
		}
		if r.Took > 0 {
			waited += fmt.Sprintf(" (%d %% of its time)", min(100*held/r.Took, 100))
		}
		asked = fmt.Sprintf("It asked for %s in %s; names held it up for %s.", wording.Count(len(names)+min(use.More, 1), "name", "names"), wording.Count(use.Exchanges, "exchange", "exchanges"), strong.Render(waited))
	}
	v.flow("", 0, "The command "+how+". "+asked, plainStyle)
	switch n := p.Guessed(); {
	case n == 0:
	case n == use.Exchanges:
		v.flow("", 0, "Who asked was not seen: this is what this machine asked for while the command ran.", quiet)
	default:
		v.flow("", 0, fmt.Sprintf("Of %s it was not seen who asked: this machine did, while the command ran.", wording.Count(n, "exchange", "exchanges")), quiet)
	}
	if len(names) == 0 {
		return
	}
	v.line()
	v.line(strong.Render("what it asked for"))
	slices.SortStableFunc(names, func(a, b live.NameUse) int {
		return cmp.Or(cmp.Compare(min(b.Failed, 1), min(a.Failed, 1)), cmp.Compare(b.Waited, a.Waited))
	})
	for _, n := range names[:min(len(names), v.most())] {
		v.flow("  "+fmt.Sprintf("%8s", wording.Span(n.Waited)), labelWidth, nameUseWords(&n), plainStyle)
	}
	v.rest(len(names)-min(len(names), v.most()), "names")
}
