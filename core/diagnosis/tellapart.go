package diagnosis

import (
	"context"
	"fmt"
	"slices"
	"sync"

	"unquil/core/delegation"
	"unquil/core/exchange"
	"unquil/core/finding"
)

// telling asks a server that failed once more in another way: what changes the
// outcome shows what was in the way.
type telling struct {
	code finding.Code
	// severity is less than a fault where programs find the other way by themselves.
	severity finding.Severity
	fails    func(e *exchange.Exchange) bool // which failures it can tell about
	change   func(r *exchange.Request, o *exchange.Options)
	text     string // of the server's name
}

func lost(e *exchange.Exchange) bool {
	return e.Outcome == exchange.NoReply || e.EDNSBroke == exchange.NoReply
}

// tellings are tried at once; the first that an answer came of is the cause.
var tellings = []telling{
	{finding.Unsteady, finding.Concern, func(e *exchange.Exchange) bool { return e.Outcome == exchange.ServerFailure },
		func(*exchange.Request, *exchange.Options) {},
		"%s failed (SERVFAIL), then answered the same query when it was asked again."},
	{finding.Unsteady, finding.Concern, lost,
		func(*exchange.Request, *exchange.Options) {},
		"%s did not reply, then answered the same query when it was asked again: packets are lost on the way, or it is overloaded."},
	{finding.ValidationFails, finding.Fault, func(e *exchange.Exchange) bool { return e.Outcome == exchange.ServerFailure },
		func(_ *exchange.Request, o *exchange.Options) { o.CheckingDisabled = true },
		"%s rejects the answer as forged: with checking disabled it returns one."},
	{finding.LargeLost, finding.Concern, lost,
		func(_ *exchange.Request, o *exchange.Options) { o.Size = 512 },
		"Large replies from %s are lost on the way: with at most 512 bytes advertised, it answers."},
	{finding.EDNSBreaks, finding.Concern, func(e *exchange.Exchange) bool { return e.Outcome == exchange.NoReply },
		func(_ *exchange.Request, o *exchange.Options) { o.WithoutEDNS = true },
		"%s answers only without EDNS; with it: no-reply."},
	{finding.UDPLost, finding.Fault, func(e *exchange.Exchange) bool { return e.Outcome == exchange.NoReply },
		func(r *exchange.Request, _ *exchange.Options) { r.Server.Transport = exchange.TCP },
		"%s answers over TCP, and nothing comes back over UDP."},
}

// suspect is an exchange that failed, and what the finding about it is about.
type suspect struct {
	exchange *exchange.Exchange
	about    finding.About
	options  exchange.Options
}

// tellApart asks those that failed in other ways, all at once, and puts what that
// shows in the place of the bare failure.
func (r *round) tellApart(ctx context.Context) {
	suspects := r.suspects()
	if len(suspects) == 0 || ctx.Err() != nil {
		return
	}
	type asked struct {
		suspect
		telling
		again *exchange.Exchange
	}
	var all []*asked
	var wait sync.WaitGroup
	for _, s := range suspects {
		for _, t := range tellings {
			if !t.fails(s.exchange) {
				continue
			}
			options := s.options
			options.Attempts = 1
			request := exchange.Request{Server: s.exchange.Server, Question: s.exchange.Question, Options: &options}
			t.change(&request, &options)
			a := &asked{suspect: s, telling: t}
			all = append(all, a)
			wait.Go(func() { a.again = r.Session.Ask(ctx, request) })
		}
	}
	if len(all) == 0 {
		return
	}
	check := r.begin("the ones that fail, queried in other ways")
	wait.Wait()
	told := map[int]bool{}
	for _, a := range all {
		number := a.exchange.Number
		if told[number] || !a.again.Outcome.Good() && a.again.Outcome != exchange.Referral || a.code == finding.Unsteady && a.again.EDNSBroke != "" {
			continue // asked the same, it has to answer the same
		}
		told[number] = true
		r.drop(number)
		r.found = append(r.found, finding.New(a.code, a.severity, a.about, fmt.Sprintf(a.text, a.exchange.Server.Name()), number, a.again.Number))
	}
	state, saw := Wrong, "no change"
	if !slices.ContainsFunc(suspects, func(s suspect) bool { return s.exchange.EDNSBroke == "" }) {
		state, saw = Fine, "they answer without EDNS"
	}
	if len(told) > 0 {
		state, saw = Fine, fmt.Sprintf("%d of %d answer in another way", len(told), len(suspects))
	}
	r.end(check, state, saw)
	r.deafResolvers()
}

// choosyResolvers says of resolvers that refuse whether they refuse this name alone.
func (r *round) choosyResolvers() {
	for i, c := range r.control {
		if c == nil || !c.Outcome.Good() {
			continue
		}
		for at := range r.found {
			f := &r.found[at]
			if f.About.Zone == "" && f.Code == finding.Refused && f.Sure == "" && f.About.Server == r.Resolvers[i].Name() {
				f.Text = fmt.Sprintf("%s refuses this question, and answers others.", f.About.Server)
				f.Next = "Ask whoever runs the resolver whether it blocks this name or type, and why."
				f.AddEvidence(c.Number)
			}
		}
	}
}

// suspects are the exchanges with resolvers and with the zone's own servers that
// came to nothing, one for each server and type.
func (r *round) suspects() (all []suspect) {
	worth := func(e *exchange.Exchange) bool {
		return e != nil && slices.ContainsFunc(tellings, func(t telling) bool { return t.fails(e) })
	}
	for _, of := range r.answers {
		for _, e := range of {
			if worth(e) {
				all = append(all, suspect{e, finding.AboutExchange(e), r.Session.Client.Options})
			}
		}
	}
	for i := range r.compared {
		walk := r.compared[i].Walk
		last := walk.Last()
		if last == nil || walk.End == delegation.EndNoWayOut {
			continue
		}
		options := r.Session.Client.Options
		options.Iterative = true
		for _, reply := range last.Replies {
			if e := reply.Exchange; worth(e) && e.Outcome != exchange.ServerFailure {
				all = append(all, suspect{e, finding.About{Name: e.Question.Name.String(), Type: e.Question.Type.String(), Zone: last.Zone.String(), Server: reply.Host.String(), Address: reply.Address.String()}, options})
			}
		}
	}
	return all
}

// deafResolvers says of resolvers that fail whether they fail for everything.
func (r *round) deafResolvers() {
	for i, c := range r.control {
		if c == nil || c.Outcome.Good() || c.Outcome == "" {
			continue
		}
		for at := range r.found {
			f := &r.found[at]
			if f.About.Zone == "" && f.Code == finding.ServerFailure && f.About.Server == r.Resolvers[i].Name() {
				f.Text = fmt.Sprintf("%s fails for everything, not only for this name.", f.About.Server)
				f.Next = "Use another resolver, and ask whoever runs this one whether it can still reach the root servers."
				f.AddEvidence(c.Number)
			}
		}
	}
}
