package cli

import (
	"bytes"
	"cmp"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"unquil/core/casework"
	"unquil/core/delegation"
	"unquil/core/diagnosis"
	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/probe"
	"unquil/core/redact"
	"unquil/core/wire"
	"unquil/ui/page"
	"unquil/ui/text"
)

// reportOf is what a command has for a report.
type reportOf struct {
	headline  string
	verdicts  []diagnosis.Verdict
	walks     []*delegation.Walk
	compared  []probe.Compared
	tables    []page.Table
	steps     []casework.Step // of a session
	findings  []finding.Finding
	exchanges []exchange.Exchange
	left      int // exchanges that were counted, and are not in the evidence
	// evidence writes the packets; nil: they are made from the exchanges.
	evidence func(w io.Writer) error
	result   func() any // as JSON has it; nil: the command has none to save
}

func (a *app) reportFlags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&a.reportFile, "report", "", "write a report to `FILE.html` or FILE.md, with the packets in a capture next to it")
	cmd.Flags().StringSliceVar(&a.redact, "redact", nil, "in the report and its capture, replace every label of these `NAMES` and every address; the word clients replaces only client addresses")
}

// commandLine is the command as it was typed.
func (a *app) commandLine() string {
	return text.Shell(append([]string{"unquil"}, a.args...)...)
}

// reportKinds are what draws a report, by the end of its file's name.
var reportKinds = map[string]func(io.Writer, *page.Report) error{".html": page.HTML, ".htm": page.HTML, ".md": page.Markdown}

// checkReport refuses a report that cannot be made before anybody is asked anything.
func (a *app) checkReport() error {
	switch {
	case a.reportFile == "" && len(a.redact) > 0 && (a.redacts == nil || *a.redacts == ""):
		return usage(fmt.Errorf("--redact without --report: %w", errReport))
	case a.reportFile != "" && reportKinds[strings.ToLower(filepath.Ext(a.reportFile))] == nil:
		return usage(fmt.Errorf("--report %q: %w", shorten(a.reportFile), errReport))
	}
	_, err := a.redactedNames()
	return err
}

// report writes the report that --report asks for, and the capture beside it.
func (a *app) report(of reportOf) (err error) {
	a.told = of
	if a.reportFile == "" {
		return nil
	}
	draw := reportKinds[strings.ToLower(filepath.Ext(a.reportFile))]
	r := &page.Report{Command: a.commandLine(), Version: version(), Made: a.now(), Lab: a.lab, Headline: of.headline, Verdicts: of.verdicts,
		Walks: of.walks, Compared: of.compared, Steps: slices.Clone(of.steps), Tables: of.tables, Findings: slices.Clone(of.findings), Exchanges: of.exchanges, Left: of.left}
	finding.Sort(r.Findings)
	if r.Headline == "" {
		r.Headline = headline(of.verdicts)
	}
	if of.evidence == nil {
		of.evidence = func(w io.Writer) error { return writeEvidence(w, r.Exchanges, a.given) }
	}
	if len(r.Exchanges) > 0 {
		r.Evidence = filepath.Base(a.capture.Name())
	}
	if len(a.redact) > 0 {
		return a.redactedReport(draw, r)
	}
	drawn, err := page.Text(draw, r)
	if err != nil {
		return fmt.Errorf("writing the report: %w", err)
	}
	return a.handOver(drawn, len(r.Exchanges) > 0, of.evidence)
}

// redactedReport writes the report with names and addresses replaced, and hands nothing
// over in which one was overlooked.
func (a *app) redactedReport(draw func(io.Writer, *page.Report) error, whole *page.Report) error {
	names, err := a.redactedNames()
	if err != nil {
		return err
	}
	for i := range whole.Steps { // what was drawn breaks names where lines end
		whole.Steps[i].Said, whole.Steps[i].Args = "", nil
	}
	redactor := redact.New(names, redact.Clients(whole.Exchanges), page.Common)
	r := redact.Copy(redactor, *whole)
	r.Redacted, r.Cut = true, redactor.Cut()
	drawn, err := page.Text(draw, &r)
	if err != nil {
		return fmt.Errorf("writing the report: %w", err)
	}
	var packets bytes.Buffer
	if err := writeEvidence(&packets, r.Exchanges, nil); err != nil {
		return fmt.Errorf("writing the report's capture: %w", err)
	}
	finder := redactor.Finder()
	if left := cmp.Or(finder.Find(drawn), finder.Find(packets.Bytes()), finder.FindIn(r.Exchanges)); left != "" {
		return fmt.Errorf("redacting %q: %w", left, errLeft)
	}
	if left := finder.Find([]byte(a.reportFile)); left != "" {
		fmt.Fprintf(a.stderr, "unquil: the name of the report file gives away what was redacted: %s\n", escape.Of(a.reportFile))
	}
	return a.handOver(drawn, len(r.Exchanges) > 0, func(w io.Writer) error {
		_, err := packets.WriteTo(w)
		return err
	})
}

// handOver puts the report in place, and the capture beside it if there is one.
func (a *app) handOver(drawn []byte, captured bool, evidence func(io.Writer) error) error {
	if captured {
		if err := cmp.Or(evidence(a.capture), a.commit(a.capture)); err != nil {
			return fmt.Errorf("writing the report's capture: %w", err)
		}
	}
	_, err := a.page.Write(drawn)
	if err = cmp.Or(err, a.commit(a.page)); err != nil {
		return fmt.Errorf("writing the report: %w", err)
	}
	fmt.Fprintf(a.stderr, "report written to %s\n", escape.Of(a.reportFile))
	return nil
}

// namesOf are the names that are asked for, each once.
func namesOf(asked []wire.Question) string {
	var names []string
	for _, q := range asked {
		if name := q.Name.Spoken(); !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return strings.Join(names, ", ")
}

// headline names what verdicts are about.
func headline(verdicts []diagnosis.Verdict) string {
	var names []string
	failed := 0
	for i := range verdicts {
		for _, name := range verdicts[i].Names {
			names = append(names, name.Spoken())
		}
		if !verdicts[i].OK() {
			failed++
		}
	}
	if len(names) > 3 {
		names = append(names[:3:3], fmt.Sprintf("and %d more", len(names)-3))
	}
	if failed > 0 {
		return "Where and why " + strings.Join(names, ", ") + map[bool]string{true: " fails", false: " fail"}[len(names) == 1]
	}
	return "How " + strings.Join(names, ", ") + " resolves"
}

// redactedNames are the names of --redact; the word clients stands for no name.
func (a *app) redactedNames() (names []wire.Name, err error) {
	for _, word := range a.redact {
		if word == "clients" {
			continue
		}
		name, err := parseName(word)
		if err != nil {
			return nil, err
		}
		names = append(names, name)
	}
	return names, nil
}
