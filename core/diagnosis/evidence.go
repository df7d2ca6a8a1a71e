package diagnosis

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"unquil/core/comparison"
	"unquil/core/delegation"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/probe"
	"unquil/core/wire"
)

// judgeAnswers holds the resolvers compared with the zone's own servers.
func (r *round) judgeAnswers(ctx context.Context) {
	if len(r.Resolvers) > 0 {
		check := r.begin("the resolvers compared with the zone's own servers")
		var wait sync.WaitGroup
		for i, q := range r.questions {
			wait.Go(func() { r.compared[i].Result = r.Weigh(ctx, q, r.answers[i], r.compared[i].Walk) })
		}
		wait.Wait()
		state, saw := Fine, []string{}
		for i := range r.compared {
			c := &r.compared[i]
			if c.Truth() == nil {
				state = Unknown
			}
			if finding.Worst(c.Findings) == finding.Fault || c.Differs() && finding.Worst(c.AllFindings()) == finding.Fault {
				state = Wrong // the zone's own servers may differ from each other
			}
			saw = append(saw, fmt.Sprintf("%s: %s", c.Question.Type, c.Headline()))
		}
		r.end(check, state, strings.Join(saw, "; "))
	}
	for i := range r.compared {
		r.found = append(r.found, r.compared[i].Findings...)
		for _, e := range r.answers[i] {
			about := finding.AboutExchange(e)
			r.found = append(r.found, r.besides(e, about)...)
		}
	}
}

// besides is what is odd about a resolver's reply, beside what it says.
func (r *round) besides(e *exchange.Exchange, about finding.About) (found []finding.Finding) {
	if e.Reply != nil && !e.Reply.Flags.Has(wire.RA) && !e.Authoritative() && e.Outcome != exchange.Answered && e.Outcome != exchange.NoName {
		r.drop(e.Number)
		found = append(found, finding.New(finding.RecursionUnavailable, finding.Fault, about,
			fmt.Sprintf("%s does not offer you recursion: it is not a resolver for you, and answers %s.", e.Server.Name(), e.Outcome), e.Number))
	}
	if f, slow := finding.SlowReply(about, e.Server.Name(), e); slow {
		found = append(found, f)
	}
	for _, f := range probe.Oddities(e, about) {
		if _, told := failureCodes[f.Code]; !told || e.Outcome.Good() {
			found = append(found, f)
		}
	}
	return found
}

// failureCodes are what a server's failure to answer is told as.
var failureCodes = map[finding.Code]bool{
	finding.NoReply: true, finding.Unreachable: true, finding.Refused: true, finding.ServerFailure: true, finding.Truncated: true, finding.Malformed: true,
	finding.WrongID: true, finding.WrongQuestion: true, finding.WrongSource: true, finding.Failed: true,
}

// drop takes back what was found of the failure of one exchange, since something
// that says more takes its place.
func (r *round) drop(number int) {
	r.found = slices.DeleteFunc(r.found, func(f finding.Finding) bool {
		return (failureCodes[f.Code] || f.Code == finding.EDNSBreaks) && slices.Contains(f.Evidence, number)
	})
}

// judgeWay takes what the walks found, unless it was not the servers who spoke.
func (r *round) judgeWay() {
	for i := range r.compared {
		walk := r.compared[i].Walk
		if f, caught := intercepted(walk); caught {
			r.found = append(r.found, f)
			continue
		}
		r.found = append(r.found, walk.Findings...)
	}
	r.deniedType()
	r.nowhere()
}

// noWayOut says that nobody answers at all.
func (r *round) noWayOut() {
	var evidence []int
	silent := map[netip.Addr]bool{} // who was waited for in vain
	for i := range r.compared {
		walk := r.compared[i].Walk
		if walk.End != delegation.EndNoWayOut {
			return
		}
		for _, reply := range walk.Last().Replies {
			if reply.Exchange != nil {
				evidence = append(evidence, reply.Exchange.Number)
				if reply.Exchange.Outcome == exchange.NoReply {
					silent[reply.Address] = true
				}
			}
		}
		for _, e := range r.answers[i] {
			if !e.Outcome.Silent() {
				return
			}
			evidence = append(evidence, e.Number)
		}
	}
	if len(r.Resolvers) == 0 || slices.ContainsFunc(r.found, func(f finding.Finding) bool {
		return f.Severity == finding.Fault && f.Code != finding.NoReply && f.Code != finding.Unreachable
	}) {
		return // it may be that nobody but resolvers can be reached, or that they answer in another way
	}
	f := finding.New(finding.NoWayOut, finding.Fault, finding.About{}, "Neither a resolver nor a root server replies: nothing seems to get out of this network.", evidence...)
	if len(silent) < independent {
		f.Sure = finding.Likely // a refusal, or a single silent server, is no proof that packets are lost
	}
	r.found = append(r.found, f)
}

// independent is how many root servers have to stay silent, each for the whole wait, to show
// that nothing gets out.
const independent = 3

// intercepted recognises somebody who answers in place of the root servers: they
// alone of all servers never offer recursion, and always speak with authority or refer.
func intercepted(walk *delegation.Walk) (f finding.Finding, caught bool) {
	if walk.Last() == nil || !walk.Steps[0].Zone.IsRoot() || walk.Steps[0].Given {
		return f, false
	}
	var evidence []int
	for _, reply := range walk.Steps[0].Replies {
		if reply.Exchange == nil || reply.Exchange.Reply == nil {
			continue
		}
		if reply.Stance.Usable() || !reply.Exchange.Reply.Flags.Has(wire.RA) {
			return f, false
		}
		evidence = append(evidence, reply.Exchange.Number)
	}
	if len(evidence) == 0 {
		return f, false
	}
	return finding.New(finding.Intercepted, finding.Concern, finding.About{},
		"The root servers seem to answer like resolvers: something on the path answers in their place.", evidence...), true
}

// deniedType says which of the zone's servers deny a name for one type that they
// have for another.
func (r *round) deniedType() {
	type at struct{ host, address string }
	answered := map[at]*exchange.Exchange{}
	replies := func(each func(zone string, key at, e *exchange.Exchange)) {
		for i := range r.compared {
			last := r.compared[i].Walk.Last()
			if last == nil {
				continue
			}
			for _, reply := range last.Replies {
				if reply.Stance == delegation.Answers {
					each(last.Zone.String(), at{reply.Host.String(), reply.Address.String()}, reply.Exchange)
				}
			}
		}
	}
	replies(func(_ string, key at, e *exchange.Exchange) {
		if e.Outcome == exchange.Answered || e.Outcome == exchange.NoData {
			answered[key] = e
		}
	})
	replies(func(zone string, key at, e *exchange.Exchange) {
		if other := answered[key]; e.Outcome == exchange.NoName && other != nil && other.Question.Name.Equal(e.Question.Name) {
			r.found = append(r.found, finding.New(finding.NameDenied, finding.Fault,
				finding.About{Name: e.Question.Name.String(), Type: e.Question.Type.String(), Zone: zone, Server: key.host, Address: key.address},
				fmt.Sprintf("Asked for %[2]s, %[1]s says that %[3]s does not exist (NXDOMAIN); asked for %[4]s, it answers.", strings.TrimSuffix(key.host, "."), e.Question.Type, e.Question.Name.Spoken(), other.Question.Type),
				e.Number, other.Number))
		}
	})
}

// nowhere says that the zone itself gives addresses that lead nowhere from elsewhere.
func (r *round) nowhere() {
	for i := range r.compared {
		truth := r.compared[i].Truth()
		if truth == nil {
			continue
		}
		about := finding.About{Name: r.Name.String(), Type: r.questions[i].Type.String()}
		if f, bad := comparison.Nowhere(truth.Values, about, "The zone gives "+r.Name.Spoken(), truth.Members[0].Exchange.Number); bad && !isLocalhost(r.Name) {
			r.found = append(r.found, f)
		}
	}
}

// isLocalhost reports whether a name is this machine's own by its nature (RFC 6761 §6.3).
func isLocalhost(name wire.Name) bool {
	return name.IsSubdomainOf(wire.MustParseName("localhost."))
}

// judgeTargets follows what the answers point at: hosts of mail and services, and
// the names of an address.
func (r *round) judgeTargets(ctx context.Context) {
	var lead []*exchange.Exchange
	for i := range r.answers {
		if at := slices.IndexFunc(r.answers[i], func(e *exchange.Exchange) bool { return e.Outcome == exchange.Answered }); at >= 0 {
			lead = append(lead, r.answers[i][at])
		} else if r.Address.IsValid() && len(r.answers[i]) > 0 && r.answers[i][0].Outcome.Good() {
			lead = append(lead, r.answers[i][0])
		}
	}
	if len(lead) == 0 || !r.Address.IsValid() && !slices.ContainsFunc(r.Types, func(t wire.Type) bool { return probe.PointsAtHost[t] }) {
		return
	}
	check := r.begin("what the answer points to")
	var found []finding.Finding
	saw := "every host has an address"
	if r.Address.IsValid() {
		saw = "the name resolves back to the address"
		reversal := probe.Reversal{Address: r.Address, Name: r.Name, Exchange: lead[0]}
		r.LeadBack(ctx, &reversal)
		found = reversal.Found(probe.OnItsOwn)
	} else {
		_, found = r.Follow(ctx, lead)
	}
	state := Fine
	if worst := finding.Worst(found); worst == finding.Fault || worst == finding.Concern {
		state, saw = Wrong, found[0].Text
	}
	r.end(check, state, saw)
	r.found = append(r.found, found...)
}
