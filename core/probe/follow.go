package probe

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"slices"
	"sync"

	"unquil/core/comparison"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// PointsAtHost are the types whose records point at a host that must have an address.
var PointsAtHost = map[wire.Type]bool{wire.MX: true, wire.NS: true, wire.SRV: true, wire.SVCB: true, wire.HTTPS: true}

// Followed is a host that an answer points at, with the answers for its addresses.
type Followed struct {
	From      *exchange.Exchange
	Host      wire.Name
	Exchanges []*exchange.Exchange // for A and AAAA
}

// Addresses are those that the host has.
func (f *Followed) Addresses() (all []netip.Addr) {
	for _, e := range f.Exchanges {
		all = append(all, wire.Addresses(e.Answer().Records)...)
	}
	return all
}

// Follow asks the same server for the addresses of every host that the answers
// point at, all at once, and says which of them lead nowhere.
func (p Prober) Follow(ctx context.Context, exchanges []*exchange.Exchange) ([]Followed, []finding.Finding) {
	var all []Followed
	var requests []exchange.Request
	type once struct {
		from *exchange.Exchange
		host wire.Name
	}
	seen := map[once]bool{}
	for _, e := range exchanges {
		if !PointsAtHost[e.Question.Type] {
			continue
		}
		for _, r := range e.Answer().Records {
			host, ok := r.Target()
			if ok && host.IsRoot() && r.Type != wire.MX && r.Type != wire.SRV {
				host = r.Name // a service binding with the target "." means its owner (RFC 9460 §2.5.2)
			}
			if !ok || host.IsRoot() {
				continue
			}
			if k := (once{e, host.Fold()}); seen[k] {
				continue
			} else if seen[k] = true; p.Session.Client.Budget.Follow(2) < 2 {
				continue
			}
			all = append(all, Followed{From: e, Host: host})
			for _, t := range []wire.Type{wire.A, wire.AAAA} {
				requests = append(requests, exchange.Request{Server: e.Server, Question: wire.Question{Name: host, Type: t, Class: wire.IN}, Shared: true})
			}
		}
	}
	answers := p.Session.AskAll(ctx, requests)
	var found []finding.Finding
	for i := range all {
		all[i].Exchanges = answers[2*i : 2*i+2]
		found = append(found, all[i].findings()...)
	}
	return all, append(found, oneNetwork(all)...)
}

func (f *Followed) findings() []finding.Finding {
	q := f.From.Question
	about := finding.About{Name: q.Name.String(), Type: q.Type.String(), Server: f.From.Server.Name(), Address: f.From.Server.AddressText()}
	evidence := []int{f.From.Number, f.Exchanges[0].Number, f.Exchanges[1].Number}
	bindings := q.Type == wire.SVCB || q.Type == wire.HTTPS // their targets may be aliases
	var found []finding.Finding
	if aliases := f.Exchanges[0].Answer().Aliases; len(aliases) > 0 && !bindings {
		found = append(found, finding.New(finding.TargetIsAlias, finding.Concern, about,
			fmt.Sprintf("The %s record of %s points to %s, which is an alias (CNAME).", q.Type, q.Name.Spoken(), f.Host.Spoken()), evidence...))
	}
	points := fmt.Sprintf("The %s record of %s points to %s", q.Type, q.Name.Spoken(), f.Host.Spoken())
	addresses := f.Addresses()
	failed := slices.IndexFunc(f.Exchanges, func(e *exchange.Exchange) bool { return e.Outcome.Failed() })
	switch {
	case len(addresses) == 0 && failed >= 0:
		outcome := f.Exchanges[failed].Outcome
		one := finding.New(finding.TargetUnresolvable, finding.Fault, about,
			fmt.Sprintf("%s, whose address cannot be looked up (%s).", points, cmp.Or(outcome.Mnemonic(), string(outcome))), evidence...)
		one.Sure, one.Next = finding.Likely, fmt.Sprintf("Trace %s, to see which server on its way fails.", f.Host.Spoken())
		return append(found, one)
	case len(addresses) == 0 && f.Exchanges[0].Outcome.Good() && f.Exchanges[1].Outcome.Good():
		return append(found, finding.New(finding.TargetUnresolvable, finding.Fault, about, points+", which has no address.", evidence...))
	}
	var values []string
	for _, a := range addresses {
		values = append(values, a.String())
	}
	if nowhere, bad := comparison.Nowhere(values, about, points+" with", evidence...); bad {
		found = append(found, nowhere)
	}
	return found
}

// oneNetwork says of mail hosts that all their addresses lie in one /24 or /48.
func oneNetwork(all []Followed) []finding.Finding {
	type mail struct {
		hosts, networks map[string]bool
		evidence        []int
	}
	by := map[*exchange.Exchange]*mail{}
	var order []*exchange.Exchange
	for i := range all {
		f := &all[i]
		if f.From.Question.Type != wire.MX {
			continue
		}
		m := by[f.From]
		if m == nil {
			m = &mail{map[string]bool{}, map[string]bool{}, []int{f.From.Number}}
			by[f.From] = m
			order = append(order, f.From)
		}
		if len(f.Addresses()) > 0 {
			m.hosts[f.Host.Fold().String()] = true
		}
		m.evidence = append(m.evidence, f.Exchanges[0].Number, f.Exchanges[1].Number)
		for _, a := range f.Addresses() {
			m.networks[exchange.NetworkOf(a).String()] = true
		}
	}
	var found []finding.Finding
	for _, e := range order {
		m := by[e]
		if len(m.hosts) > 1 && len(m.networks) == 1 {
			for only := range m.networks {
				found = append(found, finding.New(finding.OneNetwork, finding.Concern,
					finding.AboutExchange(e),
					fmt.Sprintf("The %d mail hosts of %s are all in one network, %s.", len(m.hosts), e.Question.Name.Spoken(), only), m.evidence...))
			}
		}
	}
	return found
}

// ZoneSays is what the zone's own servers say to a question that a cache answered.
type ZoneSays struct {
	TTL  uint32 // with which its records begin, in seconds
	Same bool   // whether it says the same as the cache
}

// ZoneTTLs asks the zone's own servers each answered question, by walking from
// the root. Questions whose walk gave no answer are missing.
func (p Prober) ZoneTTLs(ctx context.Context, exchanges []*exchange.Exchange) map[wire.Question]ZoneSays {
	var mu sync.Mutex
	var wait sync.WaitGroup
	full := map[wire.Question]ZoneSays{}
	asked := map[wire.Question]bool{}
	for _, e := range exchanges {
		if e.Outcome != exchange.Answered || asked[e.Question] {
			continue
		}
		asked[e.Question] = true
		wait.Go(func() {
			walker := p.Walker()
			walker.Anchors = nil
			walk := walker.Walk(ctx, e.Question)
			if len(walk.Records) > 0 {
				mu.Lock()
				defer mu.Unlock()
				full[e.Question] = ZoneSays{walk.Records[0].TTL, slices.Equal(exchange.Values(walk.Records), exchange.Values(e.Answer().Records))}
			}
		})
	}
	wait.Wait()
	return full
}
