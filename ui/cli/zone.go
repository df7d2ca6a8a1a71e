package cli

import (
	"github.com/spf13/cobra"

	"unquil/core/delegation"
	"unquil/ui/data"
)

// newZone is `unquil zone`.
func newZone(a *app) *cobra.Command {
	cmd := &cobra.Command{
		Use:     "zone NAME",
		Short:   "Do the zone's own servers agree with each other and with the parent?",
		Example: "  unquil zone --lab hollowtarn.example",
		Args:    taking(1, 1),
		RunE: func(cmd *cobra.Command, names []string) error {
			name, err := parseName(names[0])
			if err != nil {
				return err
			}
			if err := a.open(); err != nil {
				return err
			}
			probe, err := a.probe()
			if err != nil {
				return err
			}
			stop := a.progress()
			zone, ok := probe.Zone(cmd.Context(), name)
			stop()
			if err := a.keepSession(); err != nil {
				return err
			}
			if !ok {
				return firstOf(a.showWalks([]*delegation.Walk{zone.Walk}, false), errNoWayOut)
			}
			found := zone.AllFindings()
			if a.json {
				d := a.document("zone", found)
				d.Result = data.OfZone(&zone)
				return firstOf(d.Write(a.stdout), verdictOn(found))
			}
			view := a.view()
			view.Zone(&zone)
			return firstOf(view.Err(), verdictOn(found))
		},
	}
	a.askFlags(cmd)
	a.rootsFlag(cmd)
	a.keepFlag(cmd)
	return cmd
}
