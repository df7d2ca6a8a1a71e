package text

import (
	"fmt"
	"strings"
	"time"

	"unquil/core/casework"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wording"
)

// day is how a line of a case says when it was typed.
const day = "2 Jan 15:04:05 UTC"

// CaseTakenUp tells what a case holds that is gone on with.
func (v *View) CaseTakenUp(c *casework.Case) {
	if len(c.Steps) == 0 {
		v.flow("", 0, "The case is empty so far.", quiet)
		return
	}
	first, last := c.Steps[0].At, c.Steps[len(c.Steps)-1].At
	v.flow("", 0, fmt.Sprintf("Going on with the case of %s: %s, %s, last on %s. The word again asks the same and tells what is different; lines lists what was typed.",
		first.UTC().Format("2 January 2006"), wording.Count(len(c.Steps), "line", "lines"), wording.Count(len(c.Exchanges()), "exchange", "exchanges"), last.UTC().Format(day)), plainStyle)
}

// CaseLines lists the lines of a case, and in a word what came of each.
func (v *View) CaseLines(c *casework.Case) {
	for i := range c.Steps {
		s := &c.Steps[i]
		label := fmt.Sprintf("%4d  %s", s.Number, quiet.Render(s.At.UTC().Format("15:04:05")))
		if s.Note != "" {
			v.flow(label, 16, "note: "+string(s.Note), plainStyle)
			continue
		}
		v.flow(label, 16, strong.Render(string(s.Line)), plainStyle)
		if words := stepWords(s); words != "" {
			v.flow("", 16, words, quiet)
		}
	}
}

// stepWords say what came of a line.
func stepWords(s *casework.Step) string {
	var words []string
	if n := len(s.Exchanges); n > 0 {
		words = append(words, exchangesWords(s.Exchanges[0].Number, s.Exchanges[n-1].Number))
	}
	counts := map[finding.Severity]int{}
	for _, f := range s.Findings {
		counts[f.Severity]++
	}
	for _, severity := range []finding.Severity{finding.Fault, finding.Concern, finding.Note} {
		if n := counts[severity]; n > 0 {
			words = append(words, wording.Count(n, string(severity), string(severity)+"s"))
		}
	}
	if s.Left > 0 {
		words = append(words, wording.Count(s.Left, "exchange", "exchanges")+" not kept")
	}
	return strings.Join(words, ", ")
}

// exchangesWords name the exchanges from one to another.
func exchangesWords(first, last int) string {
	switch last - first {
	case 0:
		return fmt.Sprintf("exchange %d", first)
	case 1:
		return fmt.Sprintf("exchanges %d and %d", first, last)
	}
	return fmt.Sprintf("exchanges %d to %d", first, last)
}

// Changes tells what became different since a line was run.
func (v *View) Changes(before *casework.Step, c *casework.Changes) {
	ago := ""
	if !before.At.IsZero() {
		ago = quiet.Render(" (as at " + before.At.UTC().Format(day) + ")")
	}
	v.flow("", 0, strong.Render(string(before.Line))+ago, plainStyle)
	if typed := Shell(before.Args...); len(before.Args) > 0 && typed != string(before.Line) {
		v.flow("", 2, typed, quiet)
	}
	if c.None() {
		v.row("unchanged", fmt.Sprintf("the same %s", wording.Count(c.Asked, "answer", "answers")))
		return
	}
	for _, a := range c.Answers {
		if then, now := serialOf(a.Before), serialOf(a.Now); then != "" && now != "" {
			v.row("changed", fmt.Sprintf("%s has serial %s at %s; before, %s", nameText(a.Now.Question.Name), now, a.Now.Server.Name(), then))
			continue
		}
		v.row("changed", fmt.Sprintf("%s from %s", a.Now.Question.Spoken(), a.Now.Server.Name()))
		v.row("  before", meaningWords(a.Before))
		v.row("  now", meaningWords(a.Now))
	}
	for _, list := range []struct {
		label    string
		findings []finding.Finding
	}{{"new", c.New}, {"gone", c.Gone}} {
		for _, f := range list.findings {
			v.row(list.label, fmt.Sprintf("%s: %s", severe[f.Severity].Render(string(f.Severity)), f.Text))
		}
	}
	if same := c.Asked - len(c.Answers); same > 0 && len(c.Answers) > 0 {
		v.row("unchanged", wording.Count(same, "other answer", "other answers"))
	}
}

// serialOf is the serial of the one SOA record that an exchange gave; "" without one.
func serialOf(e *exchange.Exchange) string {
	records := e.Answer().Records
	if len(records) != 1 {
		return ""
	}
	soa, ok := records[0].Authority()
	if !ok {
		return ""
	}
	return wording.Serial(soa.Serial)
}

// meaningWords say what an exchange came to, its values above all.
func meaningWords(e *exchange.Exchange) string {
	if values := exchange.Values(e.Answer().Records); len(values) > 0 {
		return strings.Join(values, ", ")
	}
	return e.Outcome.Words()
}

// LiveExchange draws one exchange of our own whole: question and reply side by side, then the
// records, and what was odd about it.
func (v *View) LiveExchange(e *exchange.Exchange) {
	v.flow("", 0, fmt.Sprintf("exchange %d: %s of %s: %s", e.Number, subject.Render(e.Asked()), e.Server.Name(), resultWords(e)), plainStyle)
	v.line()
	if len(e.Attempts) == 0 {
		if e.Err != nil {
			v.row("not sent", e.Err.Error())
		}
		return
	}
	first, last := e.Attempts[0], e.Last()
	asked := read(first.Query)
	replied := silence(e)
	var reply *reading
	if e.Reply != nil {
		whole := read(last.Reply)
		reply = &whole
		replied = fmt.Sprintf("%s later, %s", wording.Span(e.Waited()), wording.Count(len(last.Reply), "byte", "bytes"))
	}
	v.cells(pairRow{"", strong.Render("question"), strong.Render("reply")})
	v.cells(pairRow{"time", first.Sent.UTC().Format("15:04:05.000000") + " UTC", replied})
	v.cells(pairRow{"way", fmt.Sprintf("from %s over %s", first.Local, strings.ToUpper(string(first.Transport))), fmt.Sprintf("from %s over %s", e.Server.AddressText(), strings.ToUpper(string(last.Transport)))})
	for _, row := range messageRows {
		words := ""
		if reply != nil {
			words = row.words(reply)
		}
		v.cells(pairRow{row.title, row.words(&asked), words})
	}
	for i, a := range e.Attempts[1:] {
		v.row("attempt", fmt.Sprintf("%d over %s, %s after the first", i+2, strings.ToUpper(string(a.Transport)), wording.Span(a.Sent.Sub(first.Sent).Round(time.Millisecond))))
	}
	for _, words := range notes(e) {
		v.row("note", words)
	}
	if e.Reply != nil {
		v.sections(e.Reply, false)
	}
}
