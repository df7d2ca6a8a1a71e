// Package diagnosis gives one verdict: where a name fails, and why.
//
// A round ([Why]) has package probe ask everything that does not depend on what came before:
// this machine's set-up, its resolvers, and the walk from the root with the zone's own
// servers. What that leaves open is asked next, by a table of tests that tell causes apart.
// Each test and each judge adds findings. Then the verdict is decided: a table of rules
// (rules.go), ordered from the nearest cause to the farthest symptom, says of each finding
// where it places the failure, who can fix it, and which others follow from it. The
// highest rule that applies is the cause; what it explains and what stands for itself are
// told below it. A capture is judged by the same rules, on what passed by ([Captured]).
package diagnosis

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"unquil/core/delegation"
	"unquil/core/dnssec"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/machine"
	"unquil/core/probe"
	"unquil/core/wire"
	"unquil/core/wording"
)

// Case is a name for which a verdict is wanted, and from where it is seen.
type Case struct {
	Typed     string // as it was typed; "" where Name says all
	Name      wire.Name
	Types     []wire.Type
	Address   netip.Addr // whose reverse name Name is; invalid where it is none
	Resolvers []exchange.Server
	Others    []exchange.Server  // resolvers to hold those against: what they say is told, and not judged
	Setup     *machine.Setup     // of the machine whose resolvers these are; nil where they were named
	SetupErr  error              `json:"-"` // what reading that set-up gave
	System    probe.SystemLookup `json:"-"` // that machine's own look-up; nil where it cannot be tried
	Registry  Registries         `json:"-"` // who tells whose the domain is, where that may be why; nil: nobody is asked
	Wire      Wire               `json:"-"` // what passed over this machine's interfaces meanwhile; nil: nobody listened
	Watch     func([]Check)      `json:"-"` // is called with all checks whenever one changes; nil: nobody
}

// round is one case on its way to a verdict.
type round struct {
	probe.Prober
	Case
	board
	found     []finding.Finding
	questions []wire.Question
	answers   [][]*exchange.Exchange // by question, then by resolver
	others    []*exchange.Exchange   // of the first question
	control   []*exchange.Exchange   // by resolver: asked for the root servers, which every resolver knows
	compared  []probe.Compared
	checkOf   []int                // by resolver: the check of its answers
	rechecked []*exchange.Exchange // resolvers asked the same a second time
}

// Why makes the round that a technician would make, everything at once that does
// not depend on what came before: this machine's set-up, its resolvers, the walk
// from the root with the zone's own servers, and then whatever tells the causes
// apart. When ctx ends, the verdict holds what is known.
func Why(ctx context.Context, p probe.Prober, c Case) Verdict {
	if isLocalhost(c.Name) {
		return Verdict{Name: c.Name, Types: c.Types, Text: "this machine itself, by definition (RFC 6761 §6.3); no resolver has to know it",
			Next:   "If programs do not get 127.0.0.1 or ::1 for it, look at this machine's hosts file: unquil local localhost.",
			Checks: []Check{{What: "the name", State: Fine, Saw: "a special-use name"}}}
	}
	r := &round{Prober: p, Case: c}
	r.watch = c.Watch
	r.machine(ctx)
	for _, t := range c.Types {
		r.questions = append(r.questions, wire.Question{Name: r.Name, Type: t, Class: wire.IN})
	}
	r.askEverybody(ctx)
	r.judgeAnswers(ctx)
	r.judgeWay()
	r.uncheckedHere()
	r.judgeTargets(ctx)
	r.judgeMail(ctx)
	r.judgeRegistry(ctx)
	r.backHome(ctx)
	r.tellApart(ctx)
	r.recheck(ctx)
	r.refusedHere(ctx)
	r.losses()
	r.choosyResolvers()
	r.noWayOut()
	r.judgeWire(ctx)
	r.soften()
	r.unhurt()
	r.contradict()
	subject := Verdict{Name: r.Name, Types: c.Types, Checks: r.checks, Compared: r.compared, Elsewhere: r.elsewhere()}
	v := decide(subject, finding.Merge(r.found), r.sight(), r.answersOthers, truthUnseen, heardNothing)
	if len(v.Cause) == 0 {
		v.Text, v.Next = v.healthy(), v.whatNext()
	}
	r.whose(ctx, &v)
	if v.Lasts > 0 {
		v.Ends = p.Session.Client.Now().Add(time.Duration(v.Lasts) * time.Second).Truncate(time.Second)
	}
	return v
}

// askEverybody puts the questions to the resolvers and walks to the zone's own
// servers, all at once.
func (r *round) askEverybody(ctx context.Context) {
	var wait sync.WaitGroup
	r.answers = make([][]*exchange.Exchange, len(r.questions))
	r.compared = make([]probe.Compared, len(r.questions))
	for i := range r.answers {
		r.answers[i] = make([]*exchange.Exchange, len(r.Resolvers))
	}
	r.control = make([]*exchange.Exchange, len(r.Resolvers))
	r.checkOf = make([]int, len(r.Resolvers))
	for at, server := range r.Resolvers {
		requests := []exchange.Request{{Server: server, Question: wire.Question{Name: wire.Root, Type: wire.NS, Class: wire.IN}, Shared: true}}
		for _, q := range r.questions {
			requests = append(requests, exchange.Request{Server: server, Question: q})
		}
		check := r.begin(fmt.Sprintf("%s, asked for %s", server.Name(), typeWords(r.Types)))
		wait.Go(func() {
			exchanges := r.Session.AskAll(ctx, requests)
			r.control[at] = exchanges[0]
			var says []string
			state := Fine
			for i, e := range exchanges[1:] {
				r.answers[i][at] = e
				says = append(says, answerWords(e))
				switch {
				case e.Outcome == "":
					state = Unknown
				case !e.Outcome.Good():
					state = Wrong
				}
			}
			r.end(check, state, strings.Join(slices.Compact(says), "; "))
		})
		r.checkOf[at] = check
	}
	for i, q := range r.questions {
		check := r.begin(fmt.Sprintf("walk from the root for %s", q.Type))
		wait.Go(func() {
			walker := r.Walker()
			walker.Prime, walker.Together = true, true
			r.compared[i].Walk = probe.Trace(ctx, walker, q)
			state, saw := walkState(r.compared[i].Walk)
			saw += signatureWords(r.compared[i].Walk)
			r.end(check, state, saw)
		})
	}
	if len(r.Others) > 0 && len(r.questions) > 0 {
		var requests []exchange.Request
		var names []string
		for _, server := range r.Others {
			requests = append(requests, exchange.Request{Server: server, Question: r.questions[0]})
			names = append(names, server.Name())
		}
		check := r.begin(fmt.Sprintf("other resolvers: %s", strings.Join(names, ", ")))
		wait.Go(func() {
			r.others = r.Session.AskAll(ctx, requests)
			r.end(check, Fine, r.elsewhere())
		})
	}
	wait.Wait()
}

// elsewhere is what other resolvers say to the first question; "" without any.
func (r *round) elsewhere() string {
	var words []string
	for _, e := range r.others {
		words = append(words, fmt.Sprintf("%s says %s", e.Server.Name(), answerWords(e)))
	}
	return strings.Join(words, "; ")
}

func typeWords(types []wire.Type) string {
	words := make([]string, len(types))
	for i, t := range types {
		words[i] = t.String()
	}
	return strings.Join(words, " and ")
}

// answerWords is an answer in a few words that are safe to print.
func answerWords(e *exchange.Exchange) string {
	switch {
	case e.Outcome == "":
		return "cut short"
	case len(e.Answer().Records) > 0:
		return strings.Join(exchange.Values(e.Answer().Records), ", ")
	}
	return string(e.Outcome)
}

func walkState(w *delegation.Walk) (State, string) {
	switch w.End {
	case delegation.EndNoWayOut, delegation.EndCutShort, delegation.EndBudget:
		return Unknown, w.Summary()
	}
	if worst := finding.Worst(w.Findings); worst == finding.Fault || worst == finding.Concern {
		return Wrong, w.Summary()
	}
	return Fine, w.Summary()
}

// signatureWords say what the signatures on the way make of a walk; "" where there are none to judge.
func signatureWords(w *delegation.Walk) string {
	switch v := w.Validation; {
	case v == nil:
	case v.State == dnssec.Secure && v.Answered && !v.Expires.IsZero():
		return "; signed, and valid until " + wording.Moment(v.Expires)
	case v.State == dnssec.Bogus:
		return "; its signatures are broken"
	}
	return ""
}

// soften makes concerns of resolvers that fail where another of this machine's own
// answers: programs go on to the next.
func (r *round) soften() {
	if r.Setup == nil || len(r.Resolvers) < 2 {
		return
	}
	answers := func(at int) bool {
		return !slices.ContainsFunc(r.answers, func(of []*exchange.Exchange) bool { return !of[at].Outcome.Good() })
	}
	for at := range r.Resolvers {
		if answers(at) {
			for i := range r.found {
				if f := &r.found[i]; f.About.Zone == "" && failureCodes[f.Code] && f.Severity == finding.Fault {
					f.Severity = finding.Concern
					f.Text = strings.TrimSuffix(f.Text, ".") + "; programs lose time on it before they ask the next."
				}
			}
			return
		}
	}
}

// unhurt makes a note of what keeps EDNS from the zones' own servers alone: programs ask
// the resolver, which gets it.
func (r *round) unhurt() {
	reached := func(e *exchange.Exchange) bool { return e.EDNSArrived() }
	if !slices.ContainsFunc(r.answers, func(of []*exchange.Exchange) bool { return slices.ContainsFunc(of, reached) }) {
		return
	}
	for i := range r.found {
		if f := &r.found[i]; f.Code == finding.EDNSLost {
			f.Severity = finding.Note
		}
	}
}

// answersOthers is the ground that a resolver without a reply to this answers other
// questions: the fault is not the path to it, but the resolver.
func (r *round) answersOthers(v *Verdict, p placing) placing {
	for i, c := range r.control {
		if p.where == PathOut && v.Cause[0].Code == finding.NoReply && c != nil && c.Outcome.Good() && p.at == r.Resolvers[i].Name() {
			p.where, p.who, p.because, p.rivals = TheResolver, operator, "it answers other queries at the same time", nil
			v.Cause[0].AddEvidence(c.Number)
		}
	}
	return p
}

// sight is all that the round saw, in the order in which it wanted to see it.
func (r *round) sight() sight {
	var s sight
	for _, of := range r.answers {
		s.resolvers = append(s.resolvers, of...)
	}
	s.resolvers = append(s.resolvers, r.others...)
	s.exchanges = append(s.exchanges, s.resolvers...)
	s.exchanges = append(s.exchanges, r.control...)
	for i := range r.compared {
		if r.compared[i].Walk == nil {
			continue
		}
		for _, e := range r.answers[i] {
			evidence := r.compared[i].Evidence
			s.exchanges = append(append(s.exchanges, evidence.ByPlace[e]...), evidence.Zone[e].SOA, evidence.Zone[e].NS)
		}
		for _, step := range r.compared[i].Walk.Steps {
			for _, reply := range step.Replies {
				s.exchanges = append(s.exchanges, reply.Exchange, reply.SOA)
			}
			for _, extra := range step.Extra {
				s.exchanges = append(s.exchanges, extra.Exchange)
			}
		}
	}
	s.exchanges = append(s.exchanges, r.rechecked...)
	return s
}

// contradict takes back that a resolver's answers are fine where something was found wrong
// with them: what is said of a check does not contradict the verdict.
func (r *round) contradict() {
	for at, check := range r.checkOf {
		for _, of := range r.answers {
			e := of[at]
			wrong := slices.ContainsFunc(r.found, func(f finding.Finding) bool {
				return f.About.Zone == "" && f.Severity != finding.Note && f.About.Server == e.Server.Name() && slices.Contains(f.Evidence, e.Number)
			})
			if wrong && r.checks[check].State == Fine {
				r.end(check, Wrong, r.checks[check].Saw)
			}
		}
	}
}
