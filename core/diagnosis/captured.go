package diagnosis

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"unquil/core/comparison"
	"unquil/core/conversation"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// capturedCodes are the findings of a capture that say more of an exchange than how
// it ended.
var capturedCodes = map[finding.Code]bool{
	finding.LoopedQuery: true, finding.RepliesDiffer: true, finding.LateReply: true, finding.AnswerRewritten: true,
	finding.HalfFails: true, finding.UnsolicitedReply: true, finding.Truncated: true,
}

// seen is what a capture holds of one name.
type seen struct {
	name      wire.Name
	types     []wire.Type
	exchanges []*exchange.Exchange
	clients   []netip.Addr
}

// Captured judges a capture as a live round is judged: one verdict for each name
// that failed in it, or for name alone, those of one cause as one. names are all
// when name is zero. The same file can hold several sides; the walks of a resolver
// in it explain what its clients saw.
func Captured(o *conversation.Overview, name wire.Name, types []wire.Type) []Verdict {
	c := captured{Overview: o, alive: map[netip.AddrPort]int{}}
	for i := range o.Kept {
		if o.Kept[i].Outcome.Good() {
			c.alive[o.Kept[i].Server.Address]++
		}
	}
	c.paths = o.Paths()
	var verdicts []Verdict
	for _, s := range c.names(name, types) {
		v := Verdict{Name: s.name, Types: s.types, Checks: c.checks(s)}
		found := c.found(s)
		v.decide(found)
		c.reword(&v)
		c.nearer(&v)
		if len(v.Cause) == 0 {
			if name.IsZero() {
				continue
			}
			v.Text = c.said(s)
			v.Next = "A capture tells what happened where it was taken: if it still fails for somebody, capture there."
		}
		verdicts = append(verdicts, v)
	}
	return Group(verdicts)
}

type captured struct {
	*conversation.Overview
	alive map[netip.AddrPort]int // answers by server
	paths []*conversation.Path
}

// names are those asked for in the capture, in order of the first question.
func (c *captured) names(name wire.Name, types []wire.Type) []*seen {
	by := map[wire.Name]*seen{}
	var all []*seen
	for i := range c.Kept {
		e := &c.Kept[i]
		q := e.Question
		if q.Name.IsZero() || !name.IsZero() && !q.Name.Equal(name) || len(types) > 0 && !slices.Contains(types, q.Type) {
			continue
		}
		s := by[q.Name.Fold()]
		if s == nil {
			s = &seen{name: q.Name}
			by[q.Name.Fold()], all = s, append(all, s)
		}
		s.exchanges = append(s.exchanges, e)
		if !slices.Contains(s.types, q.Type) {
			s.types = append(s.types, q.Type)
		}
		if client := e.Client.Addr(); !slices.Contains(s.clients, client) {
			s.clients = append(s.clients, client)
		}
	}
	return all
}

// found is what is wrong with the exchanges about one name.
func (c *captured) found(s *seen) []finding.Finding {
	var all []finding.Finding
	for _, e := range s.exchanges {
		f, failed := c.failure(e)
		if !failed || f.Code == finding.NoReply && c.oneSided() {
			continue
		}
		if f.Severity == finding.Fault && c.helped(s, e) {
			f.Severity = finding.Concern
			f.Text = strings.TrimSuffix(f.Text, ".") + "; the client got its answer in another way."
		}
		all = append(all, f)
	}
	for _, p := range c.paths {
		if p.Question.Name.Equal(s.name) && !p.Ended() && p.Asked != nil {
			for i := range all {
				if all[i].Code == finding.ServerFailure && slices.Contains(all[i].Evidence, p.Asked.Number) {
					all[i].AddEvidence(p.Last().Number) // its walk is in the capture too
				}
			}
		}
	}
	for _, f := range c.Findings {
		if capturedCodes[f.Code] && slices.ContainsFunc(s.exchanges, func(e *exchange.Exchange) bool { return slices.Contains(f.Evidence, e.Number) }) {
			all = append(all, f)
		}
	}
	return merge(all)
}

// failure says how one exchange failed; ok is false when it did not. What a
// resolver asked on its way is a matter of the zone that it asked.
func (c *captured) failure(e *exchange.Exchange) (f finding.Finding, ok bool) {
	zone, iterative := c.zoneOf(e)
	powerless := iterative && e.Outcome.Good() && !e.Authoritative()
	if !conversation.Failed(e.Outcome) && e.Outcome != exchange.Referral && !powerless {
		return f, false
	}
	about := finding.About{Name: e.Question.Name.String(), Type: e.Question.Type.String(), Server: e.Server.AddressText(), Address: e.Server.Address.Addr().String(), Client: e.Client.Addr().String()}
	if !iterative {
		if f, ok = comparison.Failure(e); !ok && e.Outcome != exchange.Referral {
			f, ok = finding.New(finding.Failed, finding.Fault, about, fmt.Sprintf("%s does not answer (%s).", e.Server.AddressText(), e.Outcome), e.Number), true
		}
		f.About = about
		return f, ok
	}
	if about.Zone = zone.String(); zone.IsZero() {
		about.Zone = "."
	}
	code, does := finding.ServerFailure, fmt.Sprintf("fails to answer (%s)", e.Outcome)
	switch {
	case e.Outcome == exchange.NoReply:
		code, does = finding.NoReply, "sends nothing back"
	case e.Outcome == exchange.Unreachable:
		code, does = finding.Unreachable, "cannot be reached"
	case powerless:
		code, does = finding.LameServer, "answers without authority"
	case e.Outcome == exchange.Refused:
		code, does = finding.LameServer, "refuses to answer for it"
	case e.Outcome == exchange.Referral:
		below, _, _ := exchange.ReferralZone(e.Reply)
		if zone.IsZero() || below.Under(zone) && !below.Equal(zone) {
			return f, false
		}
		code, does = finding.LameServer, "refers elsewhere"
	}
	who := e.Server.AddressText()
	f = finding.New(code, finding.Fault, about, fmt.Sprintf("%s was asked for %s and %s.", who, zone.Spoken(), does), e.Number)
	f.Brief = who + " " + does
	return f, true
}

// zoneOf is the zone that a server was asked for on a resolver's walk.
func (c *captured) zoneOf(e *exchange.Exchange) (zone wire.Name, iterative bool) {
	for _, p := range c.paths {
		for _, step := range p.Steps {
			if step.Exchange == e {
				return step.Zone, true
			}
		}
	}
	return zone, false
}

// helped reports whether the client of a failed exchange got an answer to the same
// question later.
func (c *captured) helped(s *seen, failed *exchange.Exchange) bool {
	return slices.ContainsFunc(s.exchanges, func(e *exchange.Exchange) bool {
		if _, iterative := c.zoneOf(e); iterative && !e.Authoritative() {
			return false
		}
		return e.Outcome.Good() && e.Question.Same(failed.Question) && e.Client.Addr() == failed.Client.Addr() && !e.Sent().Before(failed.Sent())
	})
}

func (c *captured) oneSided() bool {
	return slices.ContainsFunc(c.Findings, func(f finding.Finding) bool { return f.Code == finding.OneSided })
}

// reword says what a capture makes a verdict rest on, in place of what a live round
// would: nobody was asked, and whom a resolver asked may be out of sight.
func (c *captured) reword(v *Verdict) {
	if len(v.Cause) == 0 {
		return
	}
	switch f := v.Cause[0]; {
	case f.About.Zone != "":
		v.Because = "what the resolver asked on its way is in the capture"
	case f.Code == finding.ServerFailure || f.Code == finding.Failed:
		v.Sure, v.Because = finding.Likely, "its replies are in the capture"
		v.Against = "the capture does not show whom it asked: the fault may lie with the zone's own servers"
	case f.Code == finding.NoReply:
		v.Because = "no reply is in the capture, however often it was asked"
	case f.Code == finding.AnswerRewritten:
		v.Sure, v.Because = finding.Likely, "another resolver in the capture says that there is no such name"
	}
}

// nearer moves the blame from the path to the server, where the capture holds
// answers of that server to others.
func (c *captured) nearer(v *Verdict) {
	if v.Where != PathOut || v.Cause[0].Code != finding.NoReply {
		return
	}
	for server, answers := range c.alive {
		if server.Addr().String() == v.Cause[0].About.Address && answers > 0 {
			v.Where, v.Who, v.Against = TheResolver, operator, ""
			v.Because = fmt.Sprintf("it answered %d other questions in the capture", answers)
		}
	}
}

// checks say what the capture holds of a name.
func (c *captured) checks(s *seen) []Check {
	counts := map[exchange.Outcome]int{}
	var order []exchange.Outcome
	wrong := Fine
	for _, e := range s.exchanges {
		outcome := cmp.Or(e.Outcome, conversation.Open)
		if counts[outcome]++; counts[outcome] == 1 {
			order = append(order, outcome)
		}
		if conversation.Failed(e.Outcome) {
			wrong = Wrong
		}
	}
	var words []string
	for _, outcome := range order {
		words = append(words, fmt.Sprintf("%d %s", counts[outcome], outcome))
	}
	return []Check{{
		What: fmt.Sprintf("%s in the capture, asked %s by %s", s.name.Spoken(), counted(len(s.exchanges), "time"), counted(len(s.clients), "client")), State: wrong, Saw: strings.Join(words, ", "),
	}}
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// said is what the last good answer to a name was.
func (c *captured) said(s *seen) string {
	if c.oneSided() {
		return "the capture holds one direction only, so that silence says nothing"
	}
	for _, e := range slices.Backward(s.exchanges) {
		if e.Outcome.Good() {
			return fmt.Sprintf("%s is %s, said by %s", e.Question.Type, answerWords(e), e.Server.AddressText())
		}
	}
	return "no reply to it is in the capture, and none was due before its end"
}
