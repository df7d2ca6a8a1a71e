package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"unquil/core/diagnosis"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/ui/data"
)

// newWhy is `unquil why`.
func newWhy(a *app) *cobra.Command {
	var types, from []string
	cmd := &cobra.Command{
		Use:     "why NAME...",
		Short:   "Where and why does this name fail?",
		Example: "  unquil why --lab tickets.hollowtarn.example --from office",
		Args:    taking(1, many),
		RunE: func(cmd *cobra.Command, names []string) error {
			asked, err := questions(names, types)
			if err != nil {
				return err
			}
			probe, servers, setup, err := a.begin(cmd.Context(), from)
			if err != nil && !errors.Is(err, setup) { // a machine without a resolver is a finding here
				return err
			}
			var verdicts []diagnosis.Verdict
			for start := 0; start < len(asked); start += len(types) {
				var wanted []wire.Type
				for _, q := range asked[start : start+len(types)] {
					wanted = append(wanted, q.Type)
				}
				stop := a.progress()
				verdicts = append(verdicts, probe.Why(cmd.Context(), asked[start].Name, wanted, servers, setup))
				stop()
			}
			return a.showVerdicts(verdicts)
		},
	}
	cmd.Flags().StringSliceVarP(&types, "type", "t", addressTypes, "record types, by mnemonic or TYPE123")
	cmd.Flags().StringSliceVarP(&from, "from", "f", nil, "whose answer to explain")
	a.askFlags(cmd)
	a.rootsFlag(cmd)
	return cmd
}

func (a *app) showVerdicts(verdicts []diagnosis.Verdict) error {
	var found []finding.Finding
	var list []any
	for i := range verdicts {
		v := &verdicts[i]
		found = append(append(found, v.Cause...), v.Also...)
		list = append(list, data.OfVerdict(v))
	}
	if a.json {
		d := a.document("why", found)
		d.Result = list
		if err := d.Write(a.stdout); err != nil {
			return err
		}
		return verdictOn(found)
	}
	view := a.view()
	for i := range verdicts {
		if i > 0 {
			fmt.Fprintln(a.stdout)
		}
		view.Verdict(&verdicts[i])
	}
	if err := view.Err(); err != nil {
		return err
	}
	return verdictOn(found)
}
