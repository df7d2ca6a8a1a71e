package text

import (
	"fmt"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"unquil/core/diagnosis"
	"unquil/core/finding"
	"unquil/core/wording"
)

// Verdict draws where and why a name fails: the sentence to read out first,
// then who and what to do, then what else was seen and looked at.
func (v *View) Verdict(d *diagnosis.Verdict) {
	sentence := strings.TrimSuffix(d.Sentence(), ".")
	if len(d.Names) < 2 {
		sentence = strings.Replace(sentence, d.Name.Spoken(), nameText(d.Name), 1)
	}
	row := func(label, text string) { v.flow("  "+quiet.Render(label), verdictWidth, text, plainStyle) }
	switch {
	case len(d.Cause) > 0:
		word := string(d.Severity)
		if d.OK() {
			word = "works, with a concern"
		}
		v.flow("", 0, severe[d.Severity].Render(word)+"  "+sentence+".", plainStyle)
		v.line()
		row("where", WhereWords(d))
		row("why", string(d.Cause[0].Code)+": "+d.Cause[0].Code.Meaning())
		if others := d.Codes()[1:]; len(others) > 0 {
			row("with", strings.Join(others, ", "))
		}
		row("how sure", d.Sure+": "+d.Because)
		for _, out := range d.RuledOut {
			row("ruled out", out.What+": "+out.By+" ("+wording.Exchanges(out.Seen)+")")
		}
		if d.Against != "" {
			row("but", d.Against)
		}
		if d.Elsewhere != "" {
			row("elsewhere", d.Elsewhere)
		}
		row("who can fix it", d.Who)
		row("what to do", d.Next)
		if d.Lasts > 0 {
			until := "it ends by itself within " + Seconds(d.Lasts)
			if !d.Ends.IsZero() {
				until += ", by " + d.Ends.UTC().Format("15:04 UTC on 2 January")
			}
			row("until", until)
		}
		if evidence := d.Evidence(); len(evidence) > 0 {
			row("evidence", wording.Exchanges(evidence))
		}
	case d.Blind():
		v.flow("", 0, severe[finding.Concern].Render("unknown")+"  "+nameText(d.Name)+": nothing could be queried, so nothing can be said.", plainStyle)
	default:
		v.flow("", 0, good.Render("nothing wrong")+"  "+sentence+".", plainStyle)
		row("what to do", d.Next)
	}
	v.findings("caused by it", d.Follows, false)
	v.findings("also seen", d.Also, false)
	v.line()
	v.line(strong.Render("checks"))
	told := d.Told()
	for _, check := range told.Checks {
		v.check(check)
	}
	if told.More > 0 {
		v.flow("", labelWidth, fmt.Sprintf("and %d more; --json has them all", told.More), quiet)
	}
}

// verdictWidth is where the text of a verdict's rows begins.
const verdictWidth = 18

// stateStyles are the colours of a check's state, which its word says too.
var stateStyles = map[diagnosis.State]lipgloss.Style{
	diagnosis.Fine: good, diagnosis.Wrong: severe[finding.Fault], diagnosis.Unknown: quiet, diagnosis.Running: quiet,
}

func (v *View) check(c diagnosis.Check) {
	text := c.What
	if c.Saw != "" {
		text += ": " + c.Saw
	}
	v.flow("  "+stateStyles[c.State].Render(c.State.Word()), labelWidth, text, plainStyle)
}

// NothingFailed says that a capture holds no failure.
func (v *View) NothingFailed() {
	v.flow("", 0, good.Render("nothing wrong")+"  every name that was looked up in the capture got an answer.", plainStyle)
}

// MoreVerdicts draws those that are not told whole, each in its sentence.
func (v *View) MoreVerdicts(all []diagnosis.Verdict) {
	if len(all) == 0 {
		return
	}
	v.Gap()
	v.line(strong.Render(fmt.Sprintf("%s more; --json has them in full", wording.Count(len(all), "verdict", "verdicts"))))
	v.inSentences(all)
}

// inSentences draws verdicts in a sentence each.
func (v *View) inSentences(all []diagnosis.Verdict) {
	for i := range all[:min(len(all), maxTold)] {
		d := &all[i]
		word, style := string(d.Severity), severe[d.Severity]
		if len(d.Cause) == 0 {
			word, style = "fine", good
		}
		v.flow("  "+style.Render(word), labelWidth, d.Sentence(), plainStyle)
	}
	if more := len(all) - maxTold; more > 0 {
		v.flow("", 2, fmt.Sprintf("and %d more", more), quiet)
	}
}

// OfRun draws the verdicts of the run whose evidence a capture is, and the command that
// tells them whole; nothing without any.
func (v *View) OfRun(all []diagnosis.Verdict, whole string) {
	if len(all) == 0 {
		return
	}
	v.line(strong.Render("what the run that kept these packets found"))
	v.inSentences(all)
	v.flow("", labelWidth, "in full: "+whole, quiet)
	v.Gap()
}

// NotJudged says that a capture held more than was judged; nothing for 0.
func (v *View) NotJudged(exchanges int) {
	if exchanges > 0 {
		v.line()
		v.flow("", 0, severe[finding.Concern].Render("not all")+fmt.Sprintf("  the capture has %s of failed names that were counted but not judged: unquil decode lists them with --name", wording.Count(exchanges, "more exchange", "more exchanges")), plainStyle)
	}
}

// WhereWords are the place of a failure and who or what it is there.
func WhereWords(d *diagnosis.Verdict) string {
	at := wording.Spoken(d.At)
	if at == "" {
		return string(d.Where)
	}
	return string(d.Where) + ": " + at
}

// Checks draws checks on a terminal, over those drawn before.
func (l *Live) Checks(checks []diagnosis.Check) {
	l.Clear()
	for _, c := range checks {
		saw := ""
		if c.Saw != "" {
			saw = ": " + c.Saw
		}
		l.view.line(cut("  "+stateStyles[c.State].Render(pad(string(c.State), labelWidth-2))+c.What+saw, l.view.width-1))
	}
	l.lines = len(checks)
}

// Clear takes away what was drawn.
func (l *Live) Clear() {
	if l.lines > 0 {
		l.view.raw(ansi.CursorUp(l.lines) + ansi.EraseScreenBelow)
	}
	l.lines = 0
}

// Catalogue draws the pages of findings: one whole, or all with a line each.
func (v *View) Catalogue(entries []finding.Entry, whole bool) {
	about, widest := "", 0
	for _, e := range entries {
		widest = max(widest, len(e.Code))
	}
	for _, e := range entries {
		if whole {
			v.line(subject.Render(string(e.Code)), quiet.Render("  about "+e.About))
			v.flow("", 0, e.Meaning, plainStyle)
			v.line()
			for _, row := range entryRows(e) {
				v.flow("  "+quiet.Render(row[0]), verdictWidth, row[1], plainStyle)
			}
			continue
		}
		if e.About != about {
			if about != "" {
				v.line()
			}
			about = e.About
			v.line(strong.Render(about))
		}
		v.flow("  "+subject.Render(string(e.Code)), widest+4, e.Meaning, plainStyle)
	}
}

// entryRows are what there is to say of a finding beside its meaning, in order.
func entryRows(e finding.Entry) (rows [][2]string) {
	rows = append(rows, [2]string{"what to do", e.Next})
	placings := diagnosis.Placings(e.Code)
	for _, p := range placings {
		of := ""
		if len(placings) > 1 && p.OfZone {
			of = " (about a zone's server)"
		} else if len(placings) > 1 {
			of = " (about a resolver)"
		}
		rows = append(rows, [2]string{"where", string(p.Place) + of}, [2]string{"who can fix it", p.Who}, [2]string{"how sure", p.Sure})
		for _, rival := range p.Rivals {
			words := rival[0] + "; "
			if rival[1] != "" {
				words += "ruled out where " + rival[1] + "; else "
			}
			rows = append(rows, [2]string{"looks the same", words + rival[2]})
		}
		if p.Caveat != "" {
			rows = append(rows, [2]string{"but", p.Caveat})
		}
		if len(p.Explains) > 0 {
			words := make([]string, len(p.Explains))
			for i, code := range p.Explains {
				words[i] = string(code)
			}
			rows = append(rows, [2]string{"explains", strings.Join(words, ", ")})
		}
	}
	return rows
}

// CataloguePage is the catalogue as a page in Markdown, with the words of Catalogue.
func CataloguePage(entries []finding.Entry) string {
	var b strings.Builder
	b.WriteString("# Findings\n\nWhat each finding means, and what to do about it. `unquil findings CODE` shows the same in a terminal.\n")
	about := ""
	for _, e := range entries {
		if e.About != about {
			about = e.About
			fmt.Fprintf(&b, "\n## About %s\n", about)
		}
		fmt.Fprintf(&b, "\n### %s\n\n%s\n\n", e.Code, e.Meaning)
		for _, row := range entryRows(e) {
			fmt.Fprintf(&b, "- **%s**: %s\n", row[0], row[1])
		}
	}
	return b.String()
}
