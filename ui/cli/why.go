package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"

	"github.com/spf13/cobra"

	"unquil/core/diagnosis"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/machine"
	"unquil/core/registry"
	"unquil/core/wire"
	"unquil/ui/data"
)

// newWhy is `unquil why`.
func newWhy(a *app) *cobra.Command {
	var types, from, also []string
	var capture string
	cmd := &cobra.Command{
		Use:   "why NAME...",
		Short: "Where and why does this name fail?",
		Example: "  unquil why --lab tickets.hollowtarn.example --from office\n" +
			"  unquil why --lab --capture valley-morning.pcapng\n  unquil why --lab tickets.hollowtarn.example --from office --report tickets.html",
		RunE: func(cmd *cobra.Command, names []string) error {
			if capture != "" {
				if !cmd.Flags().Changed("type") {
					types = nil
				}
				return a.whyCapture(cmd.Context(), capture, names, types)
			}
			if err := taking(1, many)(cmd, names); err != nil {
				return err
			}
			cases, err := whyCases(names, types, cmd.Flags().Changed("type"))
			if err != nil {
				return err
			}
			a.names = len(names)
			if err := a.checkListen(); err != nil {
				return err
			}
			beside, err := a.listenBeside(append(slices.Clone(from), also...))
			if err != nil {
				return err
			}
			defer beside.end()
			switch {
			case a.heardFile != "" && beside == nil:
				return usage(fmt.Errorf("--heard with --lab: %w", errHeardLab))
			case a.heardFile != "":
				if beside.file, err = a.files.Create(a.heardFile); err != nil {
					return fmt.Errorf("writing what was heard: %w", err)
				}
			}
			prober, servers, setupErr, err := a.begin(cmd.Context(), from)
			if err != nil && !errors.Is(err, setupErr) { // a machine without a resolver is a finding here
				return err
			}
			var setup *machine.Setup
			if len(from) == 0 && len(a.Ask.From) == 0 {
				own, err := a.machine()
				setup, setupErr = &own, err
			}
			for i := range cases {
				cases[i].Resolvers, cases[i].Setup, cases[i].SetupErr = servers, setup, setupErr
				if !a.lab {
					cases[i].System = systemLookup
				}
			}
			others, err := a.others(cmd.Context(), also, servers)
			if err != nil {
				return err
			}
			for i := range cases {
				cases[i].Others = others
			}
			if wire := a.wireOf(beside); wire != nil {
				for i := range cases {
					cases[i].Wire = wire
				}
			}
			if !a.noRegistry {
				asker, err := a.registries(cmd.Context())
				if err != nil {
					return err
				}
				for i := range cases {
					if cases[i].Registry = asker; len(a.redact) > 0 {
						cases[i].Registry = nameless{asker}
					}
				}
			}
			prober.OwnJudgment = a.asOf != "" || a.anchorFile != ""
			if prober.Anchors, prober.AsOf, err = a.validation(); err != nil {
				return err
			}
			watch, stop := a.checks(len(cases))
			if len(cases) == 1 {
				cases[0].Watch = watch
			}
			run := diagnosis.Run{Cases: cases}
			verdicts := run.Verdicts(cmd.Context(), prober)
			stop()
			if err := beside.end(); err != nil {
				return err
			}
			a.given = run.Given()
			if err := a.keepSession(); err != nil {
				return err
			}
			return a.showVerdicts(verdicts, nil, a.session.Exchanges(), 0, 0)
		},
	}
	flags := cmd.Flags()
	flags.StringSliceVarP(&types, "type", "t", addressTypes, "record `TYPES`, by mnemonic or TYPE123, comma-separated or repeated")
	flags.StringSliceVarP(&from, "from", "f", nil, "the `RESOLVERS` whose answer to explain, comma-separated or repeated")
	a.rateFlag(cmd)
	flags.StringSliceVar(&also, "also", nil, "other `RESOLVERS` to compare with: their answers are shown, not judged (default: those in the configuration)")
	flags.StringVar(&capture, "capture", "", "judge a capture `FILE` instead: the names given, or all that failed in it")
	flags.BoolVar(&a.noRegistry, "no-registry", false, "ask no registry whose a domain or an address is that fails: otherwise it is told that")
	a.bootstrapFlag(cmd)
	a.caFlag(cmd)
	a.listenFlags(cmd)
	a.validateFlags(cmd)
	a.askFlags(cmd)
	a.rootsFlag(cmd)
	a.keepFlag(cmd)
	a.reportFlags(cmd)
	a.listFlag(cmd, "names")
	return a.named(cmd, 0, many)
}

// nameless are registries that are not asked whose an address is: what they would say is the
// name of somebody, which no redaction can know.
type nameless struct{ *registry.Asker }

func (nameless) Contact(context.Context, netip.Addr) (words string, asked bool) { return "", false }

// others are the resolvers of --also, or else those of the configuration that are not
// asked anyway.
func (a *app) others(ctx context.Context, also []string, asked []exchange.Server) ([]exchange.Server, error) {
	if len(also) == 0 {
		also = slices.Sorted(maps.Keys(a.Resolver))
		also = also[:min(len(also), maxOthers)]
	}
	if len(also) == 0 {
		return nil, nil
	}
	servers, _, err := a.resolvers(ctx, also)
	return slices.DeleteFunc(servers, func(s exchange.Server) bool {
		return slices.ContainsFunc(asked, func(other exchange.Server) bool { return other.Address == s.Address })
	}), err
}

// maxOthers is how many resolvers of the configuration are asked besides.
const maxOthers = 4

// whyCases are the names to explain; an address stands for its reverse name.
func whyCases(names, types []string, chosen bool) ([]diagnosis.Case, error) {
	var cases []diagnosis.Case
	for _, text := range names {
		c := diagnosis.Case{Typed: text}
		wanted := types
		if address, err := netip.ParseAddr(text); err == nil {
			reverse, err := wire.ReverseName(address.String())
			if err != nil {
				return nil, usage(err)
			}
			c.Typed, c.Address = "", address
			if text = reverse.String(); !chosen {
				wanted = []string{"PTR"}
			}
		}
		asked, err := questions([]string{text}, wanted)
		if err != nil {
			return nil, err
		}
		for _, q := range asked {
			c.Name, c.Types = q.Name, append(c.Types, q.Type)
		}
		cases = append(cases, c)
	}
	return cases, nil
}

// whyCapture judges a capture: for the names given, or for all that failed in it.
func (a *app) whyCapture(ctx context.Context, path string, names, words []string) error {
	inquest := diagnosis.Inquest{}
	var err error
	if inquest.Types, err = parseTypes(words); err != nil {
		return err
	}
	for _, text := range names {
		name, err := parseName(text)
		if err != nil {
			return err
		}
		inquest.Names = append(inquest.Names, name)
	}
	files := &captureFiles{app: a, ctx: ctx, paths: []string{path}, twice: true}
	defer files.close()
	if _, err := a.openCaptureOutputs(files, "", nil); err != nil {
		return err
	}
	inquest.Options.Keep = keptExchanges
	stop := a.readingProgress(&inquest.Options, files)
	verdicts, overview, failed := inquest.Of(ctx, files)
	stop()
	var absent diagnosis.AbsentError
	switch {
	case errors.As(failed, &absent):
		return usage(fmt.Errorf("%s in %s: %w", shorten(absent.Name.Spoken()), path, errNotAsked))
	case overview == nil:
		return failed
	case failed != nil:
		failed = fmt.Errorf("reading %s: %w", path, failed)
	}
	a.given = inquest.Given
	var beside []finding.Finding
	if len(names) == 0 && inquest.Given == nil && verdictOnAll(verdicts) == nil {
		// Nobody was left without an answer; a server may be at fault all the same, as decode says.
		beside = slices.DeleteFunc(slices.Clone(overview.Findings), func(f finding.Finding) bool { return f.Severity != finding.Fault })
	}
	return firstOf(failed, a.showVerdicts(verdicts, beside, overview.Kept, overview.NotKept, inquest.NotJudged))
}

// toldWhole is how many verdicts are told whole: a capture can give hundreds.
const toldWhole = 10

// showVerdicts shows them with what else was found, and writes the report where one is wanted.
func (a *app) showVerdicts(verdicts []diagnosis.Verdict, beside []finding.Finding, exchanges []exchange.Exchange, left, notJudged int) error {
	found := slices.Clone(beside)
	for i := range verdicts {
		found = append(found, verdicts[i].Findings()...)
	}
	if err := a.report(reportOf{verdicts: verdicts, findings: found, exchanges: exchanges, left: left, result: func() any { return data.OfVerdicts(verdicts) }}); err != nil {
		return err
	}
	if a.json {
		finding.Sort(found)
		d := a.document("why", found)
		d.NotJudged, d.Exchanges = notJudged, data.OfExchanges(exchanges, a.wire)
		return firstOf(d.Write(a.stdout), verdictOn(found))
	}
	view := a.view()
	if len(verdicts) == 0 {
		view.NothingFailed()
	}
	for i := range verdicts[:min(len(verdicts), toldWhole)] {
		if i > 0 {
			view.Gap()
		}
		view.Verdict(&verdicts[i])
	}
	view.MoreVerdicts(verdicts[min(len(verdicts), toldWhole):])
	view.NotJudged(notJudged)
	view.Findings("what else the capture shows", beside[:min(len(beside), toldWhole)])
	return firstOf(view.Err(), verdictOn(found))
}

// verdictOnAll is the error that makes the exit code fit some verdicts.
func verdictOnAll(verdicts []diagnosis.Verdict) error {
	for i := range verdicts {
		if err := verdictOn(verdicts[i].Findings()); err != nil {
			return err
		}
	}
	return nil
}
