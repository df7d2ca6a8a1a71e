package diagnosis

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"unquil/core/delegation"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// later is how long after its answer a resolver is asked again, so that a TTL that counts
// down shows.
const later = 1100 * time.Millisecond

// rechecked are the findings that asking again tells more of.
var rechecked = map[finding.Code]bool{finding.CacheStale: true, finding.AnswerDiffers: true, finding.ServersStale: true}

// recheck asks resolvers whose answer is not the zone's the same again: out of a cache it
// comes with less time left, and out of a local configuration with the same.
func (r *round) recheck(ctx context.Context) {
	var before []*exchange.Exchange
	for i, of := range r.answers {
		for _, e := range of {
			at := slices.IndexFunc(r.found, func(f finding.Finding) bool {
				return rechecked[f.Code] && f.Sure != finding.Certain && f.About.Zone == "" && slices.Contains(f.Evidence, e.Number)
			})
			if at < 0 {
				continue
			}
			if e.Outcome == exchange.Answered {
				before = append(before, e)
			}
			if ns := r.compared[i].Evidence.Zone[e].NS; r.found[at].Code == finding.ServersStale && ns != nil && !slices.Contains(before, ns) {
				before = append(before, ns)
			}
		}
	}
	if len(before) == 0 {
		return
	}
	var requests []exchange.Request
	var last time.Time
	for _, e := range before {
		requests = append(requests, exchange.Request{Server: e.Server, Question: e.Question})
		if sent := e.Sent(); sent.After(last) {
			last = sent
		}
	}
	check := r.begin("whether the older answer counts down")
	select {
	case <-ctx.Done():
		r.end(check, Unknown, "interrupted")
		return
	case <-time.After(min(last.Add(later).Sub(r.Session.Client.Now()), later)):
	}
	r.rechecked = r.Session.AskAll(ctx, requests)
	var words []string
	for i, again := range r.rechecked {
		left := "no answer this time"
		if records := again.Answer().Records; len(records) > 0 {
			left = fmt.Sprintf("%d s left", records[0].TTL)
		}
		about := again.Server.Name()
		if again.Question.Type == wire.NS {
			about += " of the servers"
		}
		words = append(words, about+": "+left)
		r.standsStill(before[i], again)
	}
	r.end(check, Fine, strings.Join(words, "; "))
}

// standsStill makes an answer that does not count down one of the resolver's own data, where
// it was taken for one of a cache.
func (r *round) standsStill(before, again *exchange.Exchange) {
	if again.Outcome != exchange.Answered || before.Question.Type == wire.NS || before.Meaning() != again.Meaning() || before.Answer().Records[0].TTL != again.Answer().Records[0].TTL {
		return
	}
	for i := range r.found {
		f := &r.found[i]
		if (f.Code != finding.CacheStale && f.Code != finding.AnswerDiffers) || f.About.Zone != "" || f.Sure == finding.Certain || !slices.Contains(f.Evidence, before.Number) {
			continue
		}
		zone := ""
		for at := range r.compared {
			if truth := r.compared[at].Truth(); truth != nil && r.compared[at].Question.Same(before.Question) {
				zone = "; the zone says " + truth.Says()
			}
		}
		local := finding.New(finding.AnswerLocal, finding.Fault, f.About,
			fmt.Sprintf("%s always answers %s with a TTL of %d s, which does not count down: that is an entry of its own%s.", before.Server.Name(), answerWords(before), before.Answer().Records[0].TTL, zone), f.Evidence...)
		local.AddEvidence(again.Number)
		*f = local
	}
}

// refusedHere takes back that servers are lame which refuse this machine and answer a resolver:
// for a name that nobody can have cached, that resolver has the zone's own denial.
func (r *round) refusedHere(ctx context.Context) {
	for i := range r.compared {
		walk := r.compared[i].Walk
		last := walk.Last()
		if last == nil || last.Zone.IsRoot() || r.compared[i].Truth() != nil || !slices.ContainsFunc(last.Replies, func(reply *delegation.Reply) bool { return reply.Stance == delegation.LameRefuses }) {
			continue
		}
		at := slices.IndexFunc(r.answers[i], func(e *exchange.Exchange) bool { return e.Outcome.Good() && !e.Authoritative() })
		if at < 0 {
			continue
		}
		answered := r.answers[i][at]
		check := r.begin(fmt.Sprintf("whether the servers of %s answer %s", last.Zone.Spoken(), answered.Server.Name()))
		made := r.AskMadeUp(ctx, answered.Server, last.Zone, answered.Question.Type)
		soa, _, denied := exchange.Negative(made.Reply)
		if made.Reply == nil || !denied || made.Authoritative() || !soa.Name.Equal(last.Zone) {
			r.end(check, Unknown, "it gives nothing fresh from them")
			continue
		}
		r.end(check, Fine, "they do: it has a fresh denial from them")
		for at := range r.found {
			f := &r.found[at]
			if f.Code != finding.LameServer || f.About.Zone != last.Zone.String() {
				continue
			}
			host := strings.TrimSuffix(f.About.Server, ".")
			note := finding.New(finding.Refused, finding.Note, f.About,
				fmt.Sprintf("%s (%s) refuses queries from here, and the zone's servers answer %s: they serve the zone, and not everybody.", host, f.About.Address, answered.Server.Name()), f.Evidence...)
			note.AddEvidence(made.Number)
			note.Next = "Nothing to do, if only some networks are meant to ask these servers."
			*f = note
		}
	}
}

// How many packets have to be lost, and of queries to how many servers, to show that it is the
// way to them that loses some.
const (
	severalLost    = 3
	severalServers = 2
)

// losses tells how many packets were lost on the way, where it is several, and to several
// servers: a query without a reply that was answered when it was sent again, the same in all.
func (r *round) losses() {
	sent, lost := 0, 0
	servers := map[string]bool{}
	var evidence []int
	arrives := map[string]bool{} // queries with EDNS, by server
	see := r.sight()
	for _, e := range see.exchanges {
		if e != nil && e.Reply != nil && e.EDNSBroke == "" && e.EDNSArrived() {
			arrives[e.Server.AddressText()] = true
		}
	}
	seen := map[int]bool{}
	for _, e := range see.exchanges {
		if e == nil || seen[e.Number] {
			continue
		}
		seen[e.Number] = true
		here := 0
		for i := range e.Attempts {
			if a := &e.Attempts[i]; a.Transport == exchange.UDP && !a.Sent.IsZero() {
				sent++
				if a.Reply == nil && e.Reply != nil && e.Outcome != exchange.Truncated {
					here++
				}
			}
		}
		if here == 0 || e.EDNSBroke != "" && !arrives[e.Server.AddressText()] {
			continue
		}
		lost += here
		servers[e.Server.AddressText()] = true
		evidence = append(evidence, e.Number)
	}
	if lost < severalLost || len(servers) < severalServers {
		return
	}
	r.found = slices.DeleteFunc(r.found, func(f finding.Finding) bool {
		return f.Code == finding.EDNSBreaks && (arrives[f.About.Address] || arrives[f.About.Server])
	})
	r.found = append(r.found, finding.New(finding.PacketLost, finding.Concern, finding.About{},
		fmt.Sprintf("Packets are lost on the way: %d of %d queries over UDP, to %d servers, got no reply, and the same queries were answered when they were sent again (%d %%).", lost, sent, len(servers), 100*lost/sent), evidence...))
}
