package cli

import (
	"context"
	"errors"
	"fmt"
	"net/netip"

	"github.com/spf13/cobra"

	"unquil/core/exchange"
	"unquil/core/idn"
	"unquil/core/registry"
	"unquil/core/wire"
	"unquil/ui/data"
)

// newOwner is `unquil owner`.
func newOwner(a *app) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "owner ADDRESS|NETWORK|DOMAIN|HOST|AS-NUMBER...",
		Short: "Whose address or domain is this, and is it still theirs?",
		Long: "Asks the registries (RDAP) whose an address, a network, an AS number or a domain is. Of a domain it says until when it is registered, what its status means for resolving, " +
			"and whether the name servers and DS records that the registry has are those in the DNS. Of a host it says whose its addresses are. The registries are told what is asked about.",
		Example: "  unquil owner --lab summit-huts.example\n" +
			"  unquil owner --lab 203.0.113.80 203.0.113.40\n" +
			"  unquil owner --lab www.hollowtarn.example AS64500",
		Args: taking(1, many),
		RunE: func(cmd *cobra.Command, words []string) error {
			var subjects []registry.Subject
			for _, word := range words {
				s, err := registry.ReadSubject(word, parseName, idn.Registrable)
				switch {
				case errors.As(err, new(usageError)):
					return err
				case err != nil:
					return usage(fmt.Errorf("%q: %w", shorten(word), err))
				}
				subjects = append(subjects, s)
			}
			a.names = len(words)
			if err := a.open(); err != nil {
				return err
			}
			prober, err := a.prober()
			if err != nil {
				return err
			}
			asker, err := a.registries(cmd.Context())
			if err != nil {
				return err
			}
			servers, _, err := a.resolvers(cmd.Context(), nil)
			if err != nil {
				servers = nil
			}
			stop := a.progress()
			report := asker.Whose(cmd.Context(), subjects, registry.Around{
				LookUp: func(ctx context.Context, host wire.Name) []netip.Addr {
					return addressesOf(ctx, a.session, servers, prober.Roots, host)
				},
				Seen: prober.Registered,
			})
			stop()
			a.told.findings = report.Findings
			if err := a.keepSession(); err != nil {
				return err
			}
			var unknown error
			if !report.Known() {
				unknown = errNoOwner
			}
			if a.json {
				d := a.document("owner", report.Findings)
				d.Result = data.OfOwners(report)
				return firstOf(d.Write(a.stdout), unknown, verdictOn(report.Findings))
			}
			for _, e := range a.session.Exchanges() {
				if e.Outcome == exchange.Answered {
					a.standing.mark(&e)
				}
			}
			view := a.view()
			if a.bare {
				view.BareOwners(report)
			} else {
				view.Owners(report)
			}
			return firstOf(view.Err(), unknown, verdictOn(report.Findings))
		},
	}
	a.bootstrapFlag(cmd)
	a.caFlag(cmd)
	a.askFlags(cmd)
	a.rootsFlag(cmd)
	a.bareFlag(cmd)
	a.keepFlag(cmd)
	return cmd
}
