package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"unquil/core/casework"
	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/ui/data"
	"unquil/ui/text"
)

// usual takes every choice back.
func (s *shell) usual(ctx context.Context, line string, words []string, out, errOut io.Writer) (int, error) {
	clear(s.chosen)
	if len(words) > 0 {
		return s.part(ctx, line, words, out, errOut)
	}
	return exitDone, nil
}

func (s *shell) endSession(context.Context, string, []string, io.Writer, io.Writer) (int, error) {
	s.ended = true
	return exitDone, nil
}

func (s *shell) listMarks(_ context.Context, _ string, _ []string, out, _ io.Writer) (int, error) {
	if s.json {
		list := []map[string]any{}
		for mark := 1; mark <= s.standing.marks.Len(); mark++ {
			m := s.standing.marks.Of(mark)
			entry := map[string]any{"mark": mark}
			if !m.Host.IsZero() {
				entry["host"] = m.Host.String()
			}
			if len(m.Addresses) > 0 {
				entry["addresses"] = m.Addresses
			}
			list = append(list, entry)
		}
		s.document(out, map[string]any{"marks": list})
		return exitDone, nil
	}
	view := s.viewOn(out)
	view.AllMarks(&s.standing.marks)
	return exitDone, view.Err()
}

func (s *shell) listLines(_ context.Context, _ string, _ []string, out, _ io.Writer) (int, error) {
	if s.json {
		list := []map[string]any{}
		for i := range s.Steps {
			step := &s.Steps[i]
			entry := map[string]any{"number": step.Number, "at": step.At, "exit": step.Exit, "exchanges": len(step.Exchanges)}
			if step.Line != "" {
				entry["line"] = step.Line
			}
			if step.Note != "" {
				entry["note"] = step.Note
			}
			list = append(list, entry)
		}
		s.document(out, map[string]any{"lines": list})
		return exitDone, nil
	}
	view := s.viewOn(out)
	view.CaseLines(&s.Case)
	return exitDone, view.Err()
}

func (s *shell) showExchange(_ context.Context, _ string, words []string, out, _ io.Writer) (int, error) {
	if len(words) == 0 {
		return 0, usage(fmt.Errorf("exchange: %w", errNoValue))
	}
	number, err := strconv.Atoi(words[0])
	if err != nil {
		return 0, usage(fmt.Errorf("exchange %q: %w", shorten(words[0]), errNumber))
	}
	e := s.Exchange(number)
	if e == nil {
		return 0, usage(fmt.Errorf("exchange %d: %w", number, errNotHad))
	}
	bytes := slices.Contains(words[1:], "--wire")
	if s.json {
		s.document(out, data.OfExchanges([]exchange.Exchange{*e}, bytes)[0])
		return exitDone, nil
	}
	view := s.viewOn(out)
	view.Marks = &s.standing.marks
	view.LiveExchange(e)
	if bytes {
		view.Wire([]*exchange.Exchange{e})
	}
	return exitDone, view.Err()
}

func (s *shell) note(_ context.Context, line string, words []string, out, errOut io.Writer) (int, error) {
	text := strings.TrimSpace(strings.Join(words, " "))
	if text == "" {
		return 0, usage(fmt.Errorf("note: %w", errNoText))
	}
	s.keepStep(casework.Step{At: time.Now(), Note: typed(text)}, errOut)
	if s.json {
		s.document(out, map[string]any{"line": line, "note": text})
	}
	return exitDone, nil
}

// again asks once more what lines asked, and tells what is different.
func (s *shell) again(ctx context.Context, line string, words []string, out, errOut io.Writer) (int, error) {
	var chosen []casework.Step
	for i := range s.Steps {
		step := s.Steps[i]
		if step.Args == nil {
			continue
		}
		same := func(other casework.Step) bool { return slices.Equal(other.Args, step.Args) }
		if at := slices.IndexFunc(chosen, same); at >= 0 {
			step.Line = chosen[at].Line
			chosen[at] = step // the last time counts
		} else {
			chosen = append(chosen, step)
		}
	}
	if len(words) > 0 {
		var only []casework.Step
		for _, word := range words {
			number, err := strconv.Atoi(word)
			if err != nil || number < 1 || number > len(s.Steps) || s.Steps[number-1].Args == nil {
				return 0, usage(fmt.Errorf("again %s: %w", shorten(word), errNoLine))
			}
			only = append(only, s.Steps[number-1])
		}
		chosen = only
	}
	if len(chosen) == 0 {
		return 0, usage(fmt.Errorf("again: %w", errNothingYet))
	}
	code := exitDone
	view := s.viewOn(out)
	var documents []any
	for i := range chosen {
		before := &chosen[i]
		args := s.asking(before.Args)
		if args == nil {
			continue
		}
		a, _, c := s.execute(ctx, args, io.Discard, errOut)
		if a.session == nil || ctx.Err() != nil {
			code = worse(code, c)
			break
		}
		now := casework.Step{At: time.Now(), Line: typed(line), Args: before.Args, Exit: c, Findings: a.told.findings, Exchanges: a.session.Exchanges()}
		changes := casework.Compare(before, &now)
		if s.json {
			documents = append(documents, data.OfChanges(before, &changes))
		} else {
			var said strings.Builder
			s.viewOn(&said).Changes(before, &changes)
			now.Said = typedLines(said.String())
			view.Changes(before, &changes)
		}
		s.markAnswers(now.Exchanges)
		s.keepStep(now, errOut)
		code = worse(code, c)
	}
	if s.json {
		s.document(out, map[string]any{"line": line, "again": documents})
	}
	return code, view.Err()
}

// asking is a command line of a case as it is run again: it asks, and writes nothing. The file
// of a case may come from anybody. nil: it is none that asks.
func (s *shell) asking(args []string) []string {
	cmd, rest := s.find(args)
	if cmd == nil {
		return nil
	}
	if _, known := askers[cmd.Name()]; !known || cmd.ParseFlags(rest) != nil {
		return nil
	}
	words := []string{cmd.Name()}
	for _, option := range optionWords(cmd.LocalNonPersistentFlags()) {
		if name, _, _ := strings.Cut(strings.TrimPrefix(option, "--"), "="); !outputOptions[name] {
			words = append(words, option)
		}
	}
	return append(append(words, "--"), cmd.Flags().Args()...)
}

// outputOptions are those that write a file.
var outputOptions = map[string]bool{"keep": true, "report": true, "redact": true, "to": true}

// help lists what can be typed, or describes a command.
func (s *shell) help(ctx context.Context, _ string, words []string, out, errOut io.Writer) (int, error) {
	if len(words) > 0 {
		_, _, code := s.execute(ctx, append([]string{"help"}, words...), out, errOut)
		return code, nil
	}
	h := text.Help{About: "Type a name to look it up, an address to look up its name, or the number in square brackets of what an answer named. Several parts in one line are parted by a semicolon."}
	choose := text.HelpList{Title: "to choose, for all lines that follow"}
	ask := newAsk(&app{}).Flags()
	for _, name := range choices {
		f := *ask.Lookup(name)
		f.Shorthand = ""
		row := optionRow(&f)
		choose.Rows = append(choose.Rows, [2]string{strings.TrimPrefix(row[0], "--"), row[1]})
	}
	own := text.HelpList{Title: "to keep the case together"}
	for _, w := range sessionWords() {
		own.Rows = append(own.Rows, [2]string{strings.TrimSpace(w.name + " " + w.takes), w.about})
	}
	commands := text.HelpList{Title: "commands, which work with what is chosen and with what was asked last"}
	for _, cmd := range s.root().Commands() {
		if _, works := askers[cmd.Name()]; works {
			commands.Rows = append(commands.Rows, [2]string{cmd.Name(), cmd.Short})
		}
	}
	h.Lists = []text.HelpList{own, commands, choose}
	h.More = "from usual takes one choice back, usual all of them; from root asks a root server. help COMMAND tells more about a command."
	if s.json {
		s.document(out, h)
		return exitDone, nil
	}
	view := s.viewOn(out)
	view.Help(h)
	return exitDone, view.Err()
}

// writeReport hands the whole case over as a page.
func (s *shell) writeReport(ctx context.Context, line string, words []string, out, errOut io.Writer) (int, error) {
	a, words := s.outputApp(ctx, words, out, errOut)
	cmd := newWhy(a) // whose options about reports these are
	if err := cmd.ParseFlags(words); err != nil {
		return 0, optionError(cmd, err)
	}
	rest := cmd.Flags().Args()
	if len(rest) != 1 {
		return 0, usage(fmt.Errorf("report: %w", errNoValue))
	}
	a.reportFile = rest[0]
	defer a.dropReport()
	if err := firstOf(a.checkReport(), a.openOutputs()); err != nil {
		return 0, err
	}
	s.keepStep(casework.Step{At: time.Now(), Line: typed(line)}, errOut)
	of := reportOf{headline: s.headline(), steps: s.Steps, findings: s.Findings(), exchanges: s.Exchanges(), evidence: s.Keep}
	return exitDone, a.report(of)
}

// headline says what the case is about.
func (s *shell) headline() string {
	var names []string
	for i := range s.Steps {
		for at := range s.Steps[i].Exchanges {
			if name := s.Steps[i].Exchanges[at].Question.Name.Spoken(); !slices.Contains(names, name) && len(s.Steps[i].Args) > 0 && slices.ContainsFunc(s.Steps[i].Args, func(word string) bool { return strings.TrimSuffix(word, ".") == name }) {
				names = append(names, name)
			}
		}
	}
	if len(names) == 0 {
		return "A session"
	}
	if len(names) > 3 {
		names = append(names[:3:3], fmt.Sprintf("and %d more", len(names)-3))
	}
	return "A session about " + strings.Join(names, ", ")
}

// writeCapture hands the evidence over.
func (s *shell) writeCapture(ctx context.Context, line string, words []string, out, errOut io.Writer) (int, error) {
	a, rest := s.outputApp(ctx, words, out, errOut)
	if len(rest) != 1 {
		return 0, usage(fmt.Errorf("keep: %w", errNoValue))
	}
	file, err := a.files.Create(rest[0])
	if err == nil {
		defer file.Discard()
		if err = s.Keep(file); err == nil {
			err = a.commit(file)
		}
	}
	if err != nil {
		return 0, fmt.Errorf("keeping evidence: %w", err)
	}
	s.keepStep(casework.Step{At: time.Now(), Line: typed(line)}, errOut)
	fmt.Fprintf(errOut, "packets written to %s\n", typed(rest[0]))
	return exitDone, nil
}

// outputApp is a run that writes an output of the session, and the words without --overwrite.
func (s *shell) outputApp(ctx context.Context, words []string, out, errOut io.Writer) (*app, []string) {
	rest := slices.DeleteFunc(slices.Clone(words), func(word string) bool { return word == "--overwrite" })
	s.files.Overwrite = len(rest) < len(words)
	return &app{ctx: ctx, files: s.files, stdout: out, stderr: errOut, environ: s.environ, args: s.args, labOptions: s.labOptions}, rest
}

// typedLines are lines that were drawn, without colours.
func typedLines(drawn string) escape.Text { return escape.Text(ansi.Strip(drawn)) }
