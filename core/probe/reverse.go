package probe

import (
	"context"
	"fmt"
	"iter"
	"net/netip"
	"slices"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// Reversal is one address, the name it was looked up under, and what came back.
type Reversal struct {
	Address  netip.Addr
	Name     wire.Name          // under in-addr.arpa or ip6.arpa
	Exchange *exchange.Exchange // for PTR
	Names    []Returned
}

// Returned is a name that an address has, and whether it leads back.
type Returned struct {
	Name      wire.Name
	Exchanges []*exchange.Exchange // for the address's own type
	LeadsBack bool
}

// Interest says why an address is looked up.
type Interest uint8

// An address of a range may have no name; one that was named on its own should.
const (
	InRange Interest = iota
	OnItsOwn
)

// Reverse looks up the names of addresses, and the addresses of those names. It
// yields a Reversal for each address, in order. interest says whether the addresses
// were named one by one: then one without a name is a concern, and in a whole
// range it is none.
func (p Prober) Reverse(ctx context.Context, server exchange.Server, addresses iter.Seq[netip.Addr], interest Interest, yield func(Reversal, []finding.Finding) bool) {
	requests := func(yield func(exchange.Request) bool) {
		for a := range addresses {
			name, err := wire.ReverseName(a.String())
			if err != nil {
				continue // an address with a zone is no question for anybody
			}
			if !yield(exchange.Request{Server: server, Question: wire.Question{Name: name, Type: wire.PTR, Class: wire.IN}}) {
				return
			}
		}
	}
	next, stop := iter.Pull(addresses)
	defer stop()
	p.Session.Each(ctx, requests, exchange.Pace{Rate: reverseRate}, func(e *exchange.Exchange) bool {
		address, _ := next()
		r := Reversal{Address: address, Name: e.Question.Name, Exchange: e}
		p.LeadBack(ctx, &r)
		return yield(r, r.Found(interest))
	})
}

// reverseRate is how many addresses of a range are looked up a second.
const reverseRate = 1000

// maxReturned is how many names of one address are followed.
const maxReturned = 16

func (p Prober) LeadBack(ctx context.Context, r *Reversal) {
	t := wire.A
	if r.Address.Is6() {
		t = wire.AAAA
	}
	var requests []exchange.Request
	for _, record := range r.Exchange.Answer().Records {
		if name, ok := record.Target(); ok && len(requests) < maxReturned {
			requests = append(requests, exchange.Request{Server: r.Exchange.Server, Question: wire.Question{Name: name, Type: t, Class: wire.IN}})
		}
	}
	for _, e := range p.Session.AskAll(ctx, requests) {
		back := slices.ContainsFunc(e.Answer().Records, func(record wire.Record) bool {
			a, ok := record.Address()
			return ok && a == r.Address
		})
		r.Names = append(r.Names, Returned{e.Question.Name, []*exchange.Exchange{e}, back})
	}
}

func (r *Reversal) Found(interest Interest) []finding.Finding {
	about := finding.About{Name: r.Name.String(), Type: "PTR", Server: r.Exchange.Server.Name(), Address: r.Address.String()}
	if r.Exchange.Outcome == exchange.NoName || r.Exchange.Outcome == exchange.NoData {
		if interest == InRange {
			return nil // most addresses of a range have none, and need none
		}
		severity := finding.Concern
		if a := r.Address; a.IsPrivate() || a.IsLoopback() || a.IsLinkLocalUnicast() || a.IsUnspecified() {
			severity = finding.Note // nobody outside gives these names, and many networks give them none (RFC 6303)
		}
		return []finding.Finding{finding.New(finding.ReverseMissing, severity, about, fmt.Sprintf("%s has no reverse name.", r.Address), r.Exchange.Number)}
	}
	var found []finding.Finding
	for _, n := range r.Names {
		e := n.Exchanges[0]
		if n.LeadsBack || !e.Outcome.Good() {
			continue
		}
		if meant, dotless := withoutDot(n.Name, r.Name); dotless {
			f := finding.New(finding.ReverseMismatch, finding.Concern, about,
				fmt.Sprintf("%s has the reverse name %s, which is %s without its final dot in the zone file.", r.Address, n.Name.Spoken(), meant.Spoken()), r.Exchange.Number, e.Number)
			f.Next = fmt.Sprintf("Ask whoever holds the address range to write %s with a final dot in the PTR record.", meant.Spoken())
			found = append(found, f)
			continue
		}
		leads := "no address of that type"
		if values := exchange.Values(e.Answer().Records); len(values) > 0 {
			leads = values[0]
			if len(values) > 1 {
				leads = fmt.Sprintf("%s and %d more", leads, len(values)-1)
			}
		}
		found = append(found, finding.New(finding.ReverseMismatch, finding.Concern, about,
			fmt.Sprintf("%s has the reverse name %s, which resolves to %s.", r.Address, n.Name.Spoken(), leads), r.Exchange.Number, e.Number))
	}
	if len(found) == 0 {
		return Answers([]*exchange.Exchange{r.Exchange})
	}
	return found
}

// withoutDot is the name that was meant where a PTR record leads into the zone that it stands
// in, as it does when its final dot is missing in the zone file; ok is false for others.
func withoutDot(name, reverse wire.Name) (meant wire.Name, ok bool) {
	for zone := reverse.Parent(); zone.Labels() >= 2; zone = zone.Parent() { // down to in-addr.arpa and ip6.arpa
		if name.IsSubdomainOf(zone) {
			meant, err := name.Rebase(zone, wire.Root)
			return meant, err == nil && meant.Labels() >= 2
		}
	}
	return meant, false
}
