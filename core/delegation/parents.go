package delegation

import (
	"context"
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
	lead := s.lead()
	if lead == nil {
		return nil
	}
	first := referralOf(lead)
	for _, r := range s.Replies {
		if r == lead || r.Stance != Refers {
			continue
		}
		other := referralOf(r)
		if !other.zone.Equal(first.zone) {
			continue // one serves the zone below too
		}
		about := finding.About{Zone: first.zone.String(), Server: r.Host.String(), Address: r.Address.String()}
		if !slices.Equal(first.hosts, other.hosts) {
			all = append(all, finding.New(finding.ParentDiffers, finding.Concern, about,
				fmt.Sprintf("%s delegates %s to %s; %s delegates it to %s.", r.Host.Spoken(), first.zone.Spoken(), wording.Names(other.hosts), lead.Host.Spoken(), wording.Names(first.hosts)),
				r.Exchange.Number, lead.Exchange.Number))
			continue
		}
		for _, host := range first.hosts {
			mine, theirs := other.glue[host], first.glue[host]
			if len(mine) > 0 && len(theirs) > 0 && !slices.ContainsFunc(mine, func(a netip.Addr) bool { return slices.Contains(theirs, a) }) {
				all = append(all, finding.New(finding.ParentDiffers, finding.Concern, about,
					fmt.Sprintf("%s gives %s the address %s, and %s gives it %s.", r.Host.Spoken(), host.Spoken(), mine[0], lead.Host.Spoken(), theirs[0]), r.Exchange.Number, lead.Exchange.Number))
				break
			}
		}
	}
	return all
}

// lead is the first of the step's servers that refers to the zone that the walk went on to:
// others are held against it, whoever of them was the first to reply.
func (s *Step) lead() *Reply {
	for _, r := range s.Replies {
		if r.Stance != Refers {
			continue
		}
		if zone, _, _ := exchange.ReferralZone(r.Exchange.Reply); zone.Equal(s.Child) {
			return r
		}
	}
	return nil
}

// otherLists asks those servers of the last zone too that only some of its parent's servers
// list: the walk went on with the list that came first.
func (w *run) otherLists(ctx context.Context, walk *Walk) {
	if len(walk.Steps) < 2 || w.One {
		return
	}
	parent, last := walk.Steps[len(walk.Steps)-2], walk.Last()
	lead := parent.lead()
	if lead == nil || !parent.Child.Equal(last.Zone) {
		return
	}
	var missing []Server
	order := []wire.Name{}
	for _, r := range append([]*Reply{lead}, parent.Replies...) {
		if r.Stance != Refers {
			continue
		}
		zone, ns, _ := exchange.ReferralZone(r.Exchange.Reply)
		if !zone.Equal(last.Zone) {
			continue
		}
		for _, server := range referred(parent.Zone, ns, r.Exchange.Reply.Additional) {
			if slices.ContainsFunc(order, server.Host.Equal) {
				continue
			}
			order = append(order, server.Host)
			if !slices.ContainsFunc(last.order, server.Host.Equal) && len(order) <= maxServers {
				missing = append(missing, server)
			}
		}
	}
	last.order = order
	if len(missing) > 0 {
		for range w.askAll(ctx, last, missing, nil) {
		}
		w.pending.Wait()
	}
	last.sort()
}

// Hosts are the servers of the last zone as its parent's servers and the zone itself list them,
// in lower case.
func (w *Walk) Hosts() (hosts []string) {
	last := w.Last()
	if last == nil {
		return nil
	}
	add := func(records []wire.Record) {
		for _, r := range records {
			if host, ok := r.Target(); ok && r.Type == wire.NS && r.Name.Equal(last.Zone) {
				hosts = append(hosts, host.Fold().String())
			}
		}
	}
	for _, host := range last.order {
		hosts = append(hosts, host.Fold().String())
	}
	for _, step := range w.Steps {
		for _, r := range step.Replies {
			if r.Stance == Refers {
				add(r.Exchange.Reply.Authority)
			}
		}
	}
	for _, extra := range last.extraAnswers() {
		if extra.Exchange.Reply != nil {
			add(extra.Exchange.Reply.Answer)
		}
	}
	return hosts
}
