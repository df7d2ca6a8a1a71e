// Package probe plans questions and puts them: who says what and who differs, what a zone's
// servers serve, the way down from the root, the names of addresses, what changes over time,
// and what this machine does with a name. It returns what was seen and what is wrong with it;
// which of several findings explains the others is for package diagnosis to say.
package probe

import (
	"context"
	"crypto/rand"
	"slices"
	"strings"
	"sync"
	"time"

	"unquil/core/comparison"
	"unquil/core/delegation"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// Prober asks: a session that keeps the evidence,
// and the root servers to walk from.
type Prober struct {
	Session *exchange.Session
	Roots   []delegation.Server
	// Anchors are what signatures are judged by, as of a time; without any they are left alone.
	Anchors []wire.Record
	AsOf    time.Time
	// OwnJudgment says that these are not the published anchors, or not now: resolvers judge by others.
	OwnJudgment bool
	// Seed is what chance begins with where a few of many servers are asked; Everybody has all asked.
	Seed      uint64
	Everybody bool
}

// Walker returns one that walks as the prober asks.
func (p Prober) Walker() *delegation.Walker {
	return &delegation.Walker{Session: p.Session, Roots: p.Roots, Anchors: p.Anchors, AsOf: p.AsOf, Few: !p.Everybody, Seed: p.Seed}
}

// Compared is a comparison, with the walk that found the zone's own servers;
// Walk is nil when they were not looked for.
type Compared struct {
	comparison.Result
	Walk      *delegation.Walk
	Validated []Validated // what signatures make of each resolver's answer; none where they are left alone

	validation []finding.Finding
}

// AllFindings are those about the resolvers and those about the zone's own
// servers, heaviest first.
func (c *Compared) AllFindings() []finding.Finding {
	all := slices.Concat(c.Findings, c.validation)
	if c.Walk != nil {
		all = append(all, c.Walk.Findings...)
	}
	finding.Sort(all)
	return all
}

// Whom says who is asked in a comparison.
type Whom uint8

// Resolvers alone, or with the zone's own servers, which say what is right.
const (
	ResolversAlone Whom = iota
	ResolversAndZone
)

// Compare asks all resolvers all questions at once. With ResolversAndZone it also
// walks to the zone's own servers and holds the resolvers against them. With anchors
// it also says what the signatures make of each resolver's answers.
func (p Prober) Compare(ctx context.Context, resolvers []exchange.Server, questions []wire.Question, whom Whom) []Compared {
	var wait sync.WaitGroup
	results := make([]Compared, len(questions))
	if whom == ResolversAndZone {
		for i, q := range questions {
			wait.Go(func() {
				walker := p.Walker()
				walker.Anchors, walker.Together = nil, true
				results[i].Walk = walker.Walk(ctx, q)
			})
		}
	}
	var requests []exchange.Request
	for _, q := range questions {
		for _, r := range resolvers {
			requests = append(requests, exchange.Request{Server: r, Question: q})
		}
	}
	exchanges := p.Session.AskAll(ctx, requests)
	wait.Wait()
	if len(p.Anchors) > 0 {
		p.validateAll(ctx, results, exchanges, len(resolvers))
	}
	for i, q := range questions {
		results[i].Result = p.Weigh(ctx, q, exchanges[i*len(resolvers):(i+1)*len(resolvers)], results[i].Walk)
		for at := range results[i].Findings {
			if f := &results[i].Findings[at]; f.Code == finding.CacheStale && f.Sure == "" {
				f.Sure = finding.Likely // asked once, it may as well be an entry of the resolver's own
			}
		}
	}
	return results
}

// validateAll says what the signatures make of all resolvers' answers, which come by question and
// then by resolver.
func (p Prober) validateAll(ctx context.Context, results []Compared, exchanges []*exchange.Exchange, resolvers int) {
	var wait sync.WaitGroup
	all, found := make([][]Validated, len(exchanges)), make([][]finding.Finding, len(exchanges))
	for i := range exchanges {
		wait.Go(func() { all[i], found[i] = p.Validate(ctx, exchanges[i:i+1]) })
	}
	wait.Wait()
	for i := range results {
		at := i * resolvers
		results[i].Validated = slices.Concat(all[at : at+resolvers]...)
		results[i].validation = slices.Concat(found[at : at+resolvers]...)
	}
}

// Weigh holds the resolvers' answers to one question against each other and
// against the zone's own servers, and asks what it takes to explain a difference.
func (p Prober) Weigh(ctx context.Context, q wire.Question, exchanges []*exchange.Exchange, walk *delegation.Walk) comparison.Result {
	var members []comparison.Member
	for _, e := range exchanges {
		members = append(members, comparison.Member{Exchange: e})
	}
	own, reference := zoneMembers(walk)
	if reference >= 0 {
		reference += len(members)
	}
	members = append(members, own...)
	result := comparison.Compare(q, members, reference, comparison.Evidence{})
	if open, noName := result.Open(); len(open) > 0 {
		result = comparison.Compare(q, members, reference, p.explain(ctx, q, open, noName, walk))
	}
	return result
}

// How much is asked to explain a difference.
const (
	madeUpNames = 2
	askedAgain  = 3
)

// explain asks what tells why resolvers differ from the zone: the zone's own
// servers on behalf of the resolvers' networks and several times over; or, where
// there is no such name, the resolvers for names that nobody has.
func (p Prober) explain(ctx context.Context, q wire.Question, open []comparison.Member, noName bool, walk *delegation.Walk) comparison.Evidence {
	evidence := comparison.Evidence{ByPlace: map[*exchange.Exchange][]*exchange.Exchange{}, MadeUp: map[*exchange.Exchange][]*exchange.Exchange{}, Zone: map[*exchange.Exchange]comparison.ZoneThere{}}
	evidence.Origin, evidence.Hosts = walk.Last().Zone, walk.Hosts()
	var requests []exchange.Request
	var uses []func(*exchange.Exchange)
	ask := func(r exchange.Request, use func(*exchange.Exchange)) {
		requests, uses = append(requests, r), append(uses, use)
	}
	spokesman := walk.Last().Reference()
	options := p.Session.Client.Options
	options.Iterative = true
	for _, m := range open {
		e := m.Exchange
		for _, t := range []wire.Type{wire.SOA, wire.NS} {
			ask(exchange.Request{Server: e.Server, Question: wire.Question{Name: evidence.Origin, Type: t, Class: q.Class}, Shared: true}, func(answer *exchange.Exchange) {
				there := evidence.Zone[e]
				if t == wire.SOA {
					there.SOA = answer
				} else {
					there.NS = answer
				}
				evidence.Zone[e] = there
			})
		}
		if e.Outcome == exchange.ServerFailure {
			continue
		}
		if noName {
			for range madeUpNames {
				ask(exchange.Request{Server: e.Server, Question: wire.Question{Name: madeUp(q.Name.Parent()), Type: q.Type, Class: q.Class}},
					func(answer *exchange.Exchange) { evidence.MadeUp[e] = append(evidence.MadeUp[e], answer) })
			}
			continue
		}
		there := options
		there.Subnet = exchange.NetworkOf(e.Server.Address.Addr())
		ask(exchange.Request{Server: spokesman.Exchange.Server, Question: spokesman.Exchange.Question, Options: &there},
			func(answer *exchange.Exchange) { evidence.ByPlace[e] = append(evidence.ByPlace[e], answer) })
	}
	answered := slices.ContainsFunc(open, func(m comparison.Member) bool { return m.Exchange.Outcome == exchange.Answered })
	if answered && !noName {
		for range askedAgain {
			ask(exchange.Request{Server: spokesman.Exchange.Server, Question: spokesman.Exchange.Question, Options: &options},
				func(answer *exchange.Exchange) { evidence.Again = append(evidence.Again, answer) })
		}
	}
	for i, e := range p.Session.AskAll(ctx, requests) {
		uses[i](e)
	}
	return evidence
}

// AskMadeUp asks a resolver for a name of a zone that nobody can have made.
func (p Prober) AskMadeUp(ctx context.Context, resolver exchange.Server, zone wire.Name, t wire.Type) *exchange.Exchange {
	return p.Session.Ask(ctx, exchange.Request{Server: resolver, Question: wire.Question{Name: madeUp(zone), Type: t, Class: wire.IN}})
}

// madeUp is a name below another that nobody can have made.
func madeUp(parent wire.Name) wire.Name {
	made, err := parent.Child(exchange.Chance + strings.ToLower(rand.Text()[:12]))
	if err != nil {
		return parent // no room for a longer name: the same then proves nothing
	}
	return made
}

// zoneMembers are the zone's own servers at the end of a walk, and the index of
// the one that speaks for the zone, or -1. A walk over aliases ends in another
// zone, whose servers speak for the values at the end.
func zoneMembers(walk *delegation.Walk) (members []comparison.Member, reference int) {
	reference = -1
	if walk == nil || walk.Last() == nil {
		return nil, reference
	}
	spokesman := walk.Last().Reference()
	for _, r := range walk.Last().Replies {
		if r.Exchange == nil || r.Stance == delegation.Refers || r.Stance == delegation.NotAsked {
			continue
		}
		if r == spokesman {
			reference = len(members)
		}
		soa, _ := r.Authority()
		members = append(members, comparison.Member{Exchange: r.Exchange, Own: true, Serial: soa.Serial, Expire: r.Expires()})
	}
	return members, reference
}
