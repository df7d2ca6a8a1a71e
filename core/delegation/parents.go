package delegation

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/core/wording"
)

// referral is how one server of a parent delegates a zone.
type referral struct {
	zone  wire.Name
	hosts []wire.Name
	glue  map[wire.Name][]netip.Addr // by host in lower case
}

// referralOf takes a reply that refers apart.
func referralOf(r *Reply) referral {
	zone, ns, _ := exchange.ReferralZone(r.Exchange.Reply)
	of := referral{zone: zone, glue: map[wire.Name][]netip.Addr{}}
	for _, record := range ns {
		if host, ok := record.Target(); ok {
			of.hosts = append(of.hosts, host.Fold())
		}
	}
	for _, record := range r.Exchange.Reply.Additional {
		if a, ok := record.Address(); ok && slices.Contains(of.hosts, record.Name.Fold()) {
			of.glue[record.Name.Fold()] = append(of.glue[record.Name.Fold()], a)
		}
	}
	slices.SortFunc(of.hosts, func(a, b wire.Name) int { return strings.Compare(a.String(), b.String()) })
	return of
}

// Lists names the servers that a reply refers to, in an order of their own; "" when it does
// not refer.
func (r *Reply) Lists() string {
	if r.Stance != Refers {
		return ""
	}
	return wording.Names(referralOf(r).hosts)
}

// parents says where the servers of the step delegate one zone differently: a change that has
// not reached all of them. A reply with less glue than fits is no difference.
func (s *Step) parents() (all []finding.Finding) {
	if s.Chosen == nil || s.Chosen.Stance != Refers {
		return nil
	}
	first := referralOf(s.Chosen)
	for _, r := range s.Replies {
		if r == s.Chosen || r.Stance != Refers {
			continue
		}
		other := referralOf(r)
		if !other.zone.Equal(first.zone) {
			continue // one serves the zone below too
		}
		about := finding.About{Zone: first.zone.String(), Server: r.Host.String(), Address: r.Address.String()}
		if !slices.Equal(first.hosts, other.hosts) {
			all = append(all, finding.New(finding.ParentDiffers, finding.Concern, about,
				fmt.Sprintf("%s delegates %s to %s; %s delegates it to %s.", r.Host.Spoken(), first.zone.Spoken(), wording.Names(other.hosts), s.Chosen.Host.Spoken(), wording.Names(first.hosts)),
				r.Exchange.Number, s.Chosen.Exchange.Number))
			continue
		}
		for _, host := range first.hosts {
			mine, theirs := other.glue[host], first.glue[host]
			if len(mine) > 0 && len(theirs) > 0 && !slices.ContainsFunc(mine, func(a netip.Addr) bool { return slices.Contains(theirs, a) }) {
				all = append(all, finding.New(finding.ParentDiffers, finding.Concern, about,
					fmt.Sprintf("%s gives %s the address %s, and %s gives it %s.", r.Host.Spoken(), host.Spoken(), mine[0], s.Chosen.Host.Spoken(), theirs[0]), r.Exchange.Number, s.Chosen.Exchange.Number))
				break
			}
		}
	}
	return all
}
