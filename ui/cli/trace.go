package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"unquil/core/delegation"
	"unquil/ui/data"
)

// newTrace is `unquil trace`.
func newTrace(a *app) *cobra.Command {
	var types []string
	cmd := &cobra.Command{
		Use:     "trace NAME",
		Short:   "Who delegates to whom from the root down, and where does it stop?",
		Example: "  unquil trace --lab tickets.hollowtarn.example",
		Args:    taking(1, 1),
		RunE: func(cmd *cobra.Command, names []string) error {
			asked, err := questions(names, types)
			if err != nil {
				return err
			}
			if err := a.open(); err != nil {
				return err
			}
			roots, err := a.rootServers()
			if err != nil {
				return err
			}
			var failed error
			for i, q := range asked {
				walker := delegation.Walker{Session: a.session, Roots: roots}
				stop := a.progress()
				walk := walker.Walk(cmd.Context(), q)
				stop()
				if i > 0 && !a.json && !a.bare {
					fmt.Fprintln(a.stdout)
				}
				if err := a.showWalk(walk); err != nil {
					return err
				}
				if walk.End == delegation.EndNoWayOut {
					return errNoWayOut
				}
				if err := verdictOn(walk.Findings); err != nil {
					failed = err
				}
			}
			return failed
		},
	}
	cmd.Flags().StringSliceVarP(&types, "type", "t", []string{"A"}, "record types, by mnemonic or TYPE123")
	a.askFlags(cmd)
	a.rootsFlag(cmd)
	a.bareFlag(cmd)
	return cmd
}

func (a *app) showWalk(walk *delegation.Walk) error {
	if a.json {
		d := a.document("trace", walk.Findings)
		d.Result = data.OfWalk(walk)
		return d.Write(a.stdout)
	}
	view := a.view()
	if a.bare {
		view.BareWalk(walk)
	} else {
		view.Walk(walk)
	}
	return view.Err()
}
