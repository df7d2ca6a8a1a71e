package cli

import (
	"fmt"
	"iter"
	"net/netip"
	"strings"

	"github.com/spf13/cobra"

	"unquil/core/finding"
	"unquil/core/probe"
	"unquil/ui/data"
)

// newReverse is `unquil reverse`.
func newReverse(a *app) *cobra.Command {
	var from []string
	cmd := &cobra.Command{
		Use:     "reverse ADDRESS...",
		Short:   "Which name does this address have, and does that name resolve back?",
		Example: "  unquil reverse --lab 203.0.113.80\n  unquil reverse --lab 203.0.113.112/28",
		RunE: func(cmd *cobra.Command, words []string) error {
			words, err := a.withListed(cmd.Context(), words)
			if err == nil {
				err = taking(1, many)(cmd, words)
			}
			if err != nil {
				return err
			}
			ranges, alone, err := addressRanges(words)
			if err != nil {
				return err
			}
			prober, servers, _, err := a.begin(cmd.Context(), from)
			if err != nil {
				return err
			}
			var found []finding.Finding
			var reversals []probe.Reversal
			interest := probe.InRange
			if alone {
				interest = probe.OnItsOwn
			}
			stop := a.progress()
			prober.Reverse(cmd.Context(), servers[0], each(ranges), interest, func(r probe.Reversal, f []finding.Finding) bool {
				reversals, found = append(reversals, r), append(found, f...)
				return true
			})
			stop()
			finding.Sort(found)
			a.told.findings = found
			for i := range reversals {
				a.standing.mark(reversals[i].Exchange)
			}
			if a.json {
				d := a.document("reverse", found)
				d.Result = data.OfReversals(reversals)
				if err := a.ownersInto(&d, reversed(reversals)); err != nil {
					return err
				}
				return firstOf(d.Write(a.stdout), verdictOn(found))
			}
			view := a.view()
			if a.bare {
				view.BareReversals(reversals)
			} else {
				view.Reversals(reversals, alone)
				view.Findings("what to note", found)
			}
			return firstOf(view.Err(), a.showOwners(cmd.Context(), reversed(reversals)), verdictOn(found))
		},
	}
	cmd.Flags().StringSliceVarP(&from, "from", "f", nil, "which `RESOLVER` to query")
	a.askFlags(cmd)
	a.bareFlag(cmd)
	a.rateFlag(cmd)
	a.listFlag(cmd, "addresses")
	a.ownersFlag(cmd)
	return cmd
}

// reversed are the addresses whose names were looked up.
func reversed(all []probe.Reversal) (addresses []netip.Addr) {
	for i := range all {
		addresses = append(addresses, all[i].Address)
	}
	return addresses
}

// maxRange is how many addresses one call looks up.
const maxRange = 1 << 16

// addressRanges reads addresses and prefixes; alone is false when there is a
// prefix of more than one address.
func addressRanges(words []string) (ranges []netip.Prefix, alone bool, err error) {
	alone = true
	total := 0
	for _, word := range words {
		var p netip.Prefix
		if strings.Contains(word, "/") {
			p, err = netip.ParsePrefix(word)
		} else {
			var address netip.Addr
			if address, err = netip.ParseAddr(word); err == nil {
				address = address.Unmap().WithZone("")
				p = netip.PrefixFrom(address, address.BitLen())
			}
		}
		if err != nil {
			return nil, false, usage(fmt.Errorf("%q: %w", shorten(word), errPrefix))
		}
		host := p.Addr().BitLen() - p.Bits()
		if host > 16 || total+1<<host > maxRange {
			return nil, false, usage(fmt.Errorf("%q: %w", word, errWide))
		}
		total += 1 << host
		alone = alone && host == 0
		ranges = append(ranges, p.Masked())
	}
	return ranges, alone, nil
}

// each yields every address of the ranges. It can be ranged over again.
func each(ranges []netip.Prefix) iter.Seq[netip.Addr] {
	return func(yield func(netip.Addr) bool) {
		for _, p := range ranges {
			for a := p.Addr(); a.IsValid() && p.Contains(a); a = a.Next() {
				if !yield(a) {
					return
				}
			}
		}
	}
}
