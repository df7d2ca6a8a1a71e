// Package sequence puts exchanges of a capture in the order in which one led to another:
// what a client asked in one go, and the servers that a resolver asked on its way.
package sequence

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// Episode is what one client asked in one go: a page being opened, for instance.
type Episode struct {
	Client netip.Addr
	Begins time.Time
	Took   time.Duration // from the first question to the last reply
	Asked  []Asked
	Failed int
}

// Asked is one exchange of an episode. Depth is how many others had to be answered
// before it was asked, as far as their times tell.
type Asked struct {
	Exchange *exchange.Exchange
	Depth    int
}

const (
	episodeGap = time.Second            // of silence, after which another episode begins
	causedBy   = 150 * time.Millisecond // after a reply: a question then is likely because of it
	maxDeep    = 4
	maxAtOnce  = 256 // questions that may be open at once before one that they caused
)

// ended is when an exchange was over: with its reply, or its last try.
func ended(e *exchange.Exchange) time.Time {
	last := e.Attempts[len(e.Attempts)-1].Sent
	if a := e.Last(); a != nil && a.Received.After(last) {
		return a.Received
	}
	return last
}

// Episodes are those of exchanges that begin one after the other, by their begin. They
// point into exchanges.
func Episodes(exchanges []exchange.Exchange) []Episode {
	by := map[netip.Addr][]*exchange.Exchange{}
	for i := range exchanges {
		e := &exchanges[i]
		by[e.Client.Addr()] = append(by[e.Client.Addr()], e)
	}
	var all []Episode
	for client, list := range by {
		slices.SortStableFunc(list, func(a, b *exchange.Exchange) int { return a.Sent().Compare(b.Sent()) })
		var now *Episode
		var end time.Time
		for _, e := range list {
			if now == nil || e.Sent().Sub(end) > episodeGap {
				all = append(all, Episode{Client: client, Begins: e.Sent()})
				now, end = &all[len(all)-1], e.Sent()
			}
			now.Asked = append(now.Asked, Asked{e, now.depth(e)})
			if e.Outcome.Failed() {
				now.Failed++
			}
			if done := ended(e); done.After(end) {
				end = done
			}
			now.Took = end.Sub(now.Begins)
		}
	}
	slices.SortStableFunc(all, func(a, b Episode) int { return cmp.Or(a.Begins.Compare(b.Begins), a.Client.Compare(b.Client)) })
	return all
}

// depth is one more than that of the exchange whose reply came just before e.
func (p *Episode) depth(e *exchange.Exchange) int {
	for _, before := range slices.Backward(p.Asked[max(0, len(p.Asked)-maxAtOnce):]) {
		done := ended(before.Exchange)
		if before.Exchange.Reply != nil && !done.After(e.Sent()) && e.Sent().Sub(done) < causedBy {
			return min(before.Depth+1, maxDeep)
		}
	}
	return 0
}

// ResolverWalk is a walk that a resolver took, put together from its packets.
type ResolverWalk struct {
	Resolver netip.Addr
	Question wire.Question
	Asked    *exchange.Exchange // the client's question that it was for; nil when the capture does not hold it
	Steps    []WalkStep
	Begins   time.Time
	Took     time.Duration
}

// WalkStep is one server asked on the way. Zone is the one that it was asked as a server of:
// see [Delegations.Zone].
type WalkStep struct {
	Zone     wire.Name
	Exchange *exchange.Exchange
}

// Last is where the walk ended.
func (p *ResolverWalk) Last() *exchange.Exchange { return p.Steps[len(p.Steps)-1].Exchange }

// Ended reports whether it ended in an answer.
func (p *ResolverWalk) Ended() bool { return p.Last().Outcome.Good() && p.Last().Authoritative() }

const pathGap = 5 * time.Second // within which steps of one walk follow each other

// ResolverWalks are the walks among exchanges: questions without
// recursion that ask for one name, server after server. roots are the addresses of the root
// servers.
func ResolverWalks(exchanges []exchange.Exchange, roots []netip.Addr) []*ResolverWalk {
	type walker struct {
		resolver netip.Addr
		name     wire.Name
		t        wire.Type
	}
	known := Learn(exchanges, roots)
	open := map[walker]*ResolverWalk{}
	var all []*ResolverWalk
	for i := range exchanges {
		e := &exchanges[i]
		if !Iterative(e) || e.Question.Name.IsZero() {
			continue
		}
		k := walker{e.Client.Addr(), e.Question.Name.Fold(), e.Question.Type}
		p := open[k]
		if p == nil || e.Sent().Sub(ended(p.Last())) > pathGap || p.Ended() {
			p = &ResolverWalk{Resolver: e.Client.Addr(), Question: e.Question, Begins: e.Sent()}
			open[k], all = p, append(all, p)
		}
		zone := known.Zone(e)
		if zone.IsZero() {
			if zone = p.follows(e); !zone.IsZero() && e.Authoritative() {
				known.add(e.Server.Address.Addr(), zone) // which it speaks for, as it shows
			}
		}
		p.Steps = append(p.Steps, WalkStep{Zone: zone, Exchange: e})
		p.Took = ended(e).Sub(p.Begins)
	}
	for _, p := range all {
		for i := range p.Steps {
			if step := &p.Steps[i]; step.Zone.IsZero() {
				step.Zone = known.Zone(step.Exchange)
			}
		}
	}
	asked := map[walker][]*exchange.Exchange{} // by what a resolver walks for on their account
	for i := range exchanges {
		e := &exchanges[i]
		k := walker{e.Server.Address.Addr(), e.Question.Name.Fold(), e.Question.Type}
		asked[k] = append(asked[k], e)
	}
	for _, p := range all {
		p.Asked = p.askedIn(asked[walker{p.Resolver, p.Question.Name.Fold(), p.Question.Type}])
	}
	return all
}

// follows is the zone that the nearest referral before a question led to, where no address
// of its servers is in the capture: who asks one server after the other asks one of those
// next. It is zero when there was no referral, or the reply says something else.
func (p *ResolverWalk) follows(e *exchange.Exchange) wire.Name {
	for _, step := range slices.Backward(p.Steps) {
		before := step.Exchange
		if before.Outcome != exchange.Referral || ended(before).After(e.Sent()) {
			continue
		}
		zone, _, _ := exchange.ReferralZone(before.Reply)
		if e.Outcome != exchange.Referral {
			return zone
		}
		if child, _, refers := exchange.ReferralZone(e.Reply); refers && (!child.IsSubdomainOf(zone) || child.Equal(zone)) {
			return wire.Name{} // a further server of the zone above, perhaps
		}
		return zone
	}
	return wire.Name{}
}

// askedIn is the one of a resolver's questions that it walked for, the last of them
// that was open when the walk began.
func (p *ResolverWalk) askedIn(questions []*exchange.Exchange) *exchange.Exchange {
	for _, e := range slices.Backward(questions) {
		if e.Question.Same(p.Question) && !e.Sent().After(p.Begins) && (e.Reply == nil || !e.Last().Received.Before(p.Begins)) {
			return e
		}
	}
	return nil
}
