package cli

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"

	"github.com/spf13/cobra"

	"unquil/core/delegation"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/probe"
	"unquil/core/wire"
	"unquil/ui/data"
)

// newTrace is `unquil trace`.
func newTrace(a *app) *cobra.Command {
	var types []string
	var from []string
	var downTo, over string
	var every, minimise bool
	var servers string
	cmd := &cobra.Command{
		Use:     "trace NAME",
		Short:   "Who delegates to whom from the root down, and where does it stop?",
		Example: "  unquil trace --lab tickets.hollowtarn.example",
		RunE: func(cmd *cobra.Command, names []string) error {
			asked, err := questions(names, types)
			if err != nil {
				return err
			}
			walker := delegation.Walker{Prime: len(from) == 0, Few: !every, Seed: rand.Uint64(), Minimise: minimise, Over: exchange.Transport(strings.ToLower(over))}
			switch servers {
			case "all", "one":
				walker.One = servers == "one"
			default:
				return usage(fmt.Errorf("--servers %q: %w", shorten(servers), errServers))
			}
			if walker.Over != "" && walker.Over != exchange.UDP && walker.Over != exchange.TCP {
				return usage(fmt.Errorf("--over %q: %w", shorten(over), errWalkOver))
			}
			if downTo != "" {
				if walker.DownTo, err = parseName(downTo); err != nil {
					return err
				}
			}
			if err := a.open(); err != nil {
				return err
			}
			if walker.Roots, err = a.rootServers(); err != nil {
				return err
			}
			if len(from) > 0 {
				if walker.Start, err = a.startServers(cmd.Context(), from); err != nil {
					return err
				}
			}
			walker.Session = a.session
			if walker.Anchors, walker.AsOf, err = a.validation(); err != nil {
				return err
			}
			var walks []*delegation.Walk
			for _, q := range asked {
				stop := a.progress()
				walks = append(walks, probe.Trace(cmd.Context(), &walker, q))
				stop()
			}
			var found []finding.Finding
			for _, walk := range walks {
				found = append(found, walk.Findings...)
			}
			err = a.report(reportOf{headline: "The way to " + namesOf(asked), walks: walks, findings: found, exchanges: a.session.Exchanges(), result: func() any { return data.OfWalks(walks) }})
			return firstOf(a.keepSession(), err, a.showWalks(walks, every))
		},
	}
	flags := cmd.Flags()
	flags.StringSliceVarP(&types, "type", "t", []string{"A"}, "record `TYPES`, by mnemonic or TYPE123, comma-separated or repeated")
	flags.StringSliceVarP(&from, "from", "f", nil, "start at these `SERVERS` instead of the root servers")
	flags.StringVar(&downTo, "down-to", "", "stop where this `ZONE` is delegated")
	flags.BoolVar(&every, "every-server", false, "query all servers of the root and of top-level zones too, and show what each server says, even where they agree")
	flags.StringVar(&servers, "servers", "all", "`HOW` many of each zone to query: all, or one: a single server per level, and the next only if it fails")
	flags.BoolVar(&minimise, "minimise", false, "show each server no more of the name than it needs (RFC 9156)")
	flags.StringVar(&over, "over", "", "only this `TRANSPORT`, udp or tcp, instead of UDP with TCP for truncated replies")
	flags.BoolVar(&a.wire, "wire", false, "also show the bytes of the messages, with every field named")
	a.validateFlags(cmd)
	a.askFlags(cmd)
	a.rootsFlag(cmd)
	a.bareFlag(cmd)
	a.keepFlag(cmd)
	a.reportFlags(cmd)
	a.ownersFlag(cmd)
	return a.named(cmd, 1, 1)
}

// startServers are where a walk begins instead of at the root.
func (a *app) startServers(ctx context.Context, from []string) ([]delegation.Server, error) {
	servers, _, err := a.resolvers(ctx, from)
	if err != nil {
		return nil, err
	}
	var start []delegation.Server
	for _, s := range servers {
		host, err := wire.ParseName(s.Name())
		if err != nil {
			return nil, usage(fmt.Errorf("%q: %w", s.Name(), exchange.ErrResolver))
		}
		start = append(start, delegation.Server{Host: host, Addresses: []netip.Addr{s.Address.Addr()}})
	}
	return start, nil
}

// showWalks shows the walks of one name, a type each.
func (a *app) showWalks(walks []*delegation.Walk, every bool) error {
	var found []finding.Finding
	var noWay error
	for _, walk := range walks {
		found = append(found, walk.Findings...)
		if walk.End == delegation.EndNoWayOut {
			noWay = errNoWayOut
		}
	}
	if a.json {
		finding.Sort(found)
		d := a.document("trace", found)
		if err := a.ownersInto(&d, walkedAddresses(walks)); err != nil {
			return err
		}
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
	if a.wire && !a.bare {
		all := a.session.Exchanges()
		shown := make([]*exchange.Exchange, len(all))
		for i := range all {
			shown[i] = &all[i]
		}
		view.Wire(shown)
	}
	return firstOf(view.Err(), a.showOwners(a.ctx, walkedAddresses(walks)), noWay, verdictOn(found))
}

// walkedAddresses are those of the answers, and of the servers at the end of the way.
func walkedAddresses(walks []*delegation.Walk) (all []netip.Addr) {
	for _, walk := range walks {
		all = append(all, wire.Addresses(walk.Records)...)
		if last := walk.Last(); last != nil {
			for _, reply := range last.Replies {
				if reply.Address.IsValid() {
					all = append(all, reply.Address)
				}
			}
		}
	}
	return all
}
