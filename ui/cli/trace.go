package cli

import (
	"context"
	"fmt"
	"net/netip"

	"github.com/spf13/cobra"

	"unquil/core/delegation"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/ui/data"
)

// newTrace is `unquil trace`.
func newTrace(a *app) *cobra.Command {
	var types []string
	var from, downTo string
	var every bool
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
			walker := delegation.Walker{}
			if downTo != "" {
				if walker.DownTo, err = parseName(downTo); err != nil {
					return err
				}
			}
			if err := a.open(); err != nil {
				return err
			}
			if walker.Roots, err = a.startServers(cmd.Context(), from); err != nil {
				return err
			}
			walker.Session = a.session
			var walks []*delegation.Walk
			for _, q := range asked {
				stop := a.progress()
				walks = append(walks, walker.Walk(cmd.Context(), q))
				stop()
			}
			return firstOf(a.keepSession(), a.showWalks(walks, every))
		},
	}
	flags := cmd.Flags()
	flags.StringSliceVarP(&types, "type", "t", []string{"A"}, "record types, by mnemonic or TYPE123")
	flags.StringVarP(&from, "from", "f", "", "begin at this `SERVER` instead of the root servers")
	flags.StringVar(&downTo, "down-to", "", "stop where this `ZONE` is delegated")
	flags.BoolVar(&every, "every-server", false, "show what each server says, also where they agree")
	flags.BoolVar(&a.wire, "wire", false, "with --json: also the messages' bytes")
	a.askFlags(cmd)
	a.rootsFlag(cmd)
	a.bareFlag(cmd)
	a.keepFlag(cmd)
	return cmd
}

// startServers are where a walk begins: at the root, or at the server that was named.
func (a *app) startServers(ctx context.Context, from string) ([]delegation.Server, error) {
	if from == "" {
		return a.rootServers()
	}
	servers, _, err := a.resolvers(ctx, []string{from})
	if err != nil {
		return nil, err
	}
	var start []delegation.Server
	for _, s := range servers {
		host, err := wire.ParseName(s.Name())
		if err != nil {
			return nil, usage(fmt.Errorf("%q: %w", from, exchange.ErrResolver))
		}
		start = append(start, delegation.Server{Host: host, Addresses: []netip.Addr{s.Address.Addr()}})
	}
	return start, nil
}

// showWalks shows the walks of one name, a type each.
func (a *app) showWalks(walks []*delegation.Walk, every bool) error {
	var found []finding.Finding
	var results []any
	var noWay error
	for _, walk := range walks {
		found = append(found, walk.Findings...)
		results = append(results, data.OfWalk(walk))
		if walk.End == delegation.EndNoWayOut {
			noWay = errNoWayOut
		}
	}
	if a.json {
		finding.Sort(found)
		d := a.document("trace", found)
		d.Result = results
		return firstOf(d.Write(a.stdout), noWay, verdictOn(found))
	}
	view := a.view()
	for i, walk := range walks {
		if a.bare {
			view.BareWalk(walk)
			continue
		}
		if i > 0 {
			view.Gap()
		}
		view.Walk(walk, every)
	}
	return firstOf(view.Err(), noWay, verdictOn(found))
}
