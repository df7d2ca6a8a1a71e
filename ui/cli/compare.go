package cli

import (
	"slices"

	"github.com/spf13/cobra"

	"unquil/core/comparison"
	"unquil/core/finding"
	"unquil/core/probe"
	"unquil/core/wire"
	"unquil/ui/data"
)

// newCompare is `unquil compare`.
func newCompare(a *app) *cobra.Command {
	var types, from []string
	var own, csv, validate bool
	var expect []string
	var exitDiffers bool
	cmd := &cobra.Command{
		Use:     "compare NAME...",
		Short:   "Do they all give the same answer, and if not, who differs and how?",
		Example: "  unquil compare --lab tickets.hollowtarn.example --from office,isp --zone-servers",
		RunE: func(cmd *cobra.Command, names []string) error {
			asked, err := questions(names, types)
			if err != nil {
				return err
			}
			wanted, err := expected(expect, types)
			if err != nil {
				return err
			}
			a.names = len(names)
			prober, servers, _, err := a.begin(cmd.Context(), from)
			if err != nil {
				return err
			}
			if validate {
				if err := a.byResolver(&prober); err != nil {
					return err
				}
			}
			whom := probe.ResolversAlone
			if own {
				whom = probe.ResolversAndZone
			}
			stop := a.progress()
			results := prober.Compare(cmd.Context(), servers, asked, whom)
			stop()
			found := findingsOf(results)
			if err := a.keepSession(); err != nil {
				return err
			}
			if err := a.report(reportOf{headline: "Who says what to " + namesOf(asked), compared: results, findings: found, exchanges: a.session.Exchanges(), result: func() any { return data.OfComparisons(results, wanted) }}); err != nil {
				return err
			}
			if csv {
				err = data.WriteCSV(a.stdout, results)
			} else {
				err = a.showCompared(results, found, wanted)
			}
			if exitDiffers && slices.ContainsFunc(results, func(c probe.Compared) bool { return c.Differs() }) {
				return firstOf(err, errFault)
			}
			return firstOf(err, verdictOn(found))
		},
	}
	cmd.Flags().StringSliceVarP(&types, "type", "t", addressTypes, "record `TYPES`, by mnemonic or TYPE123, comma-separated or repeated")
	cmd.Flags().StringSliceVarP(&from, "from", "f", nil, "which `RESOLVERS` to query, comma-separated or repeated")
	cmd.Flags().BoolVar(&own, "zone-servers", false, "also query the zone's own servers, and compare the others with them")
	flags := cmd.Flags()
	flags.StringSliceVar(&expect, "expect", nil, "the new `VALUE` after a change: who has it already, and by when the rest will")
	flags.BoolVar(&exitDiffers, "exit-differs", false, "end with exit code 3 if any two answers differ, whether that is a fault or not")
	flags.BoolVar(&csv, "csv", false, "CSV with a heading, one line per server")
	flags.BoolVar(&validate, "validate", false, "also check the signatures (DNSSEC), and tell which resolvers validate")
	a.anchorFlags(cmd)
	a.questionFlags(cmd)
	a.askFlags(cmd)
	a.rootsFlag(cmd)
	a.bareFlag(cmd)
	a.rateFlag(cmd)
	a.keepFlag(cmd)
	a.reportFlags(cmd)
	a.listFlag(cmd, "names")
	return a.named(cmd, 1, many)
}

func findingsOf(results []probe.Compared) (found []finding.Finding) {
	for i := range results {
		found = append(found, results[i].AllFindings()...)
	}
	return found
}

func (a *app) showCompared(results []probe.Compared, found []finding.Finding, expect map[wire.Type][]string) error {
	if a.json {
		d := a.document("compare", found)
		return d.Write(a.stdout)
	}
	view := a.view()
	if a.bare {
		view.BareCompared(results)
	} else {
		view.Compared(results, expect)
	}
	return view.Err()
}

// expected reads the values of --expect and --until, each as one of a type that is asked for.
func expected(values, types []string) (map[wire.Type][]string, error) {
	asked, err := parseTypes(types)
	if err != nil {
		return nil, err
	}
	of, err := comparison.ParseExpected(values, asked)
	if err != nil {
		return nil, usage(err)
	}
	return of, nil
}
