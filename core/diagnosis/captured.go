package diagnosis

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"unquil/core/comparison"
	"unquil/core/conversation"
	"unquil/core/delegation"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/sequence"
	"unquil/core/wire"
	"unquil/core/wording"
)

// seen is what a capture holds of one name.
type seen struct {
	name      wire.Name
	types     []wire.Type
	exchanges []*exchange.Exchange
	clients   map[netip.Addr]bool
	helped    map[asker][]time.Time // when they asked and were answered, in order
}

// asker is who asks for what.
type asker struct {
	client netip.Addr
	t      wire.Type
}

// maxShown is how many exchanges are named that show one thing.
const maxShown = 20

// Captured judges a capture as a live round is judged: one verdict for each name
// that failed in it, or for name alone, those of one cause as one. names are all
// when name is zero. The same file can hold several sides; the walks of a resolver
// in it explain what its clients saw.
func Captured(o *conversation.Overview, name wire.Name, types []wire.Type) []Verdict {
	c := newCaptured(o)
	var verdicts []Verdict
	for _, s := range c.names(name, types) {
		v := decide(Verdict{Name: s.name, Types: s.types, Checks: c.checks(s, types)}, c.wrong(s), c.sight(s), c.zoneUnseen, seenOnly, c.answeredOthers)
		if len(v.Cause) == 0 {
			if name.IsZero() {
				continue
			}
			v.Text = c.said(s)
			v.Next = "A capture shows what happened where it was taken: if it still fails for somebody, capture there."
		}
		verdicts = append(verdicts, v)
	}
	verdicts = Group(verdicts)
	slices.SortStableFunc(verdicts, func(a, b Verdict) int {
		return cmp.Or(cmp.Compare(b.Severity.Weight(), a.Severity.Weight()), cmp.Compare(len(b.Names), len(a.Names)))
	})
	for i := range verdicts {
		for _, list := range [][]finding.Finding{verdicts[i].Cause, verdicts[i].Follows, verdicts[i].Also} {
			for j := range list {
				list[j].Evidence = list[j].Evidence[:min(len(list[j].Evidence), maxShown)]
			}
		}
	}
	return verdicts
}

type captured struct {
	*conversation.Overview
	paths   map[wire.Name][]*sequence.ResolverWalk // by the name in lower case
	zones   map[int]wire.Name                      // by the number of an exchange: what a walk asked its server for; zero: not known
	found   map[trouble][]int                      // the findings of the capture
	evident map[int][]int                          // the same, by the numbers of exchanges that are their evidence
	stats   map[wire.Name]*conversation.Stat       // by the name in lower case
}

// newCaptured sorts what an overview holds by what verdicts ask for.
func newCaptured(o *conversation.Overview) *captured {
	c := &captured{Overview: o, paths: map[wire.Name][]*sequence.ResolverWalk{}, zones: map[int]wire.Name{},
		found: map[trouble][]int{}, evident: map[int][]int{}, stats: o.ByName()}
	for _, p := range sequence.ResolverWalks(o.Kept, delegation.PublishedAddresses()) {
		of := p.Question.Name.Fold()
		c.paths[of] = append(c.paths[of], p)
		for _, step := range p.Steps {
			c.zones[step.Exchange.Number] = step.Zone
		}
	}
	for i, f := range o.Findings {
		if capturedCodes[f.Code] {
			k := trouble{f.Code, f.About.Address}
			c.found[k] = append(c.found[k], i)
			for _, n := range f.Evidence {
				c.evident[n] = append(c.evident[n], i)
			}
		}
	}
	return c
}

// trouble is what findings with a server have in common.
type trouble struct {
	code   finding.Code
	server string // its address
}

// shows are the findings that an exchange shows, by their places.
func (c *captured) shows(e *exchange.Exchange) (all []int) {
	client := e.Client.Addr().String()
	all = slices.Clone(c.evident[e.Number]) // which may come from a server that was not asked
	for _, code := range c.Lines[e.Number].Codes {
		for _, i := range c.found[trouble{code, e.Server.Address.Addr().String()}] {
			if of := c.Findings[i].About.Client; of == "" || of == client {
				all = append(all, i)
			}
		}
	}
	return all
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
			s = &seen{name: q.Name, clients: map[netip.Addr]bool{}, helped: map[asker][]time.Time{}}
			by[q.Name.Fold()], all = s, append(all, s)
		}
		s.exchanges = append(s.exchanges, e)
		if !slices.Contains(s.types, q.Type) {
			s.types = append(s.types, q.Type)
		}
		s.clients[e.Client.Addr()] = true
		if _, iterative := c.zones[e.Number]; e.Outcome.Good() && (!iterative || e.Authoritative()) {
			s.helped[asksFor(e)] = append(s.helped[asksFor(e)], e.Sent())
		}
	}
	return all
}

// wrong is what is wrong with the exchanges about one name.
func (c *captured) wrong(s *seen) []finding.Finding {
	var all []finding.Finding
	shown := map[int]bool{} // of the findings of the capture
	walked := map[int]int{} // by the number of the question that it was for: where a walk ended
	for _, p := range c.paths[s.name.Fold()] {
		if !p.Ended() && p.Asked != nil {
			walked[p.Asked.Number] = p.Last().Number
		}
	}
	for _, e := range s.exchanges {
		for _, at := range c.shows(e) {
			shown[at] = true
		}
		f, failed := c.failure(e)
		if !failed || f.Code == finding.NoReply && c.oneSided() {
			continue
		}
		if f.Severity == finding.Fault {
			_, iterative := c.zones[e.Number]
			help := ""
			if s.helpedSoon(e) {
				help = "the client got its answer in another way"
			} else if iterative && s.walked(e) {
				help = "the answer was found in another way at about that time"
			}
			if help != "" {
				f.Severity, f.Text = finding.Concern, strings.TrimSuffix(f.Text, ".")+"; "+help+"."
			}
		}
		if end, known := walked[e.Number]; known && f.Code == finding.ServerFailure {
			f.AddEvidence(end) // it is in the capture too
		}
		all = append(all, f)
	}
	for _, at := range slices.Sorted(maps.Keys(shown)) {
		all = append(all, c.Findings[at])
	}
	return finding.Merge(all)
}

// patience is how long somebody waits for a name at the most: an answer that comes later helps
// nobody any more.
const patience = 10 * time.Second

// helpedSoon reports whether the client of a failed exchange got an answer to the same soon
// after it asked.
func (s *seen) helpedSoon(e *exchange.Exchange) bool {
	return slices.ContainsFunc(s.helped[asksFor(e)], func(at time.Time) bool {
		return !at.Before(e.Sent()) && at.Sub(e.Sent()) <= patience
	})
}

// walked reports whether a walk from zone to zone found the answer at about the time when an
// exchange of a walk failed. It may be the same one: whoever walks asks on for other reasons
// once there is an answer, and has an address of each family.
func (s *seen) walked(e *exchange.Exchange) bool {
	own := asksFor(e)
	for of, times := range s.helped {
		if of.t != own.t || of.client != own.client && of.client.Is4() == own.client.Is4() {
			continue
		}
		if slices.ContainsFunc(times, func(at time.Time) bool { return at.Sub(e.Sent()).Abs() <= patience }) {
			return true
		}
	}
	return false
}

func asksFor(e *exchange.Exchange) asker { return asker{e.Client.Addr(), e.Question.Type} }

// failure says how one exchange failed; ok is false when it did not. What a
// resolver asked on its way is a matter of the zone that it asked.
func (c *captured) failure(e *exchange.Exchange) (f finding.Finding, ok bool) {
	zone, iterative := c.zones[e.Number]
	powerless := iterative && e.Outcome.Good() && !e.Authoritative()
	if !e.Outcome.Failed() && e.Outcome != exchange.Referral && !powerless {
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
	unknown := zone.IsZero()
	if unknown && (powerless || e.Outcome == exchange.Referral) {
		return f, false // whoever asks a cache for what it has at hand gets the same
	}
	asked := "asked for " + zone.Spoken()
	if about.Zone = zone.String(); unknown {
		about.Zone, asked = about.Name, "asked for "+e.Question.Name.Spoken()
	}
	code, does := finding.Failed, fmt.Sprintf("does not answer (%s)", e.Outcome)
	switch {
	case e.Outcome == exchange.ServerFailure:
		code, does = finding.ServerFailure, "fails to answer (SERVFAIL)"
	case e.Outcome == exchange.Rejection:
		code, does = finding.Malformed, "sent a reply that cannot be read"
	case e.Outcome == exchange.NoReply:
		code, does = finding.NoReply, "does not reply"
	case e.Outcome == exchange.Unreachable:
		code, does = finding.Unreachable, "cannot be reached"
	case powerless:
		code, does = finding.LameServer, "answers without authority"
	case e.Outcome == exchange.Refused && unknown:
		code, does = finding.Refused, "refuses queries for it"
	case e.Outcome == exchange.Refused:
		code, does = finding.LameServer, "refuses queries for it"
	case e.Outcome == exchange.Referral:
		below, _, _ := exchange.ReferralZone(e.Reply)
		if below.IsSubdomainOf(zone) && !below.Equal(zone) {
			return f, false
		}
		code, does = finding.LameServer, "refers elsewhere"
	}
	who := e.Server.AddressText()
	f = finding.New(code, finding.Fault, about, fmt.Sprintf("%s was %s and %s.", who, asked, does), e.Number)
	f.Brief = who + " " + does
	return f, true
}

func (c *captured) oneSided() bool {
	return slices.ContainsFunc(c.Findings, func(f finding.Finding) bool { return f.Code == finding.OneSided })
}

// sight is what the capture shows: of resolvers, the answers about one name.
func (c *captured) sight(of *seen) (s sight) {
	for i := range c.Kept {
		s.exchanges = append(s.exchanges, &c.Kept[i])
	}
	for _, e := range of.exchanges {
		if !sequence.Iterative(e) {
			s.resolvers = append(s.resolvers, e)
		}
	}
	return s
}

// zoneUnseen is the ground that the capture does not show for which zone a resolver asked a
// server that failed.
func (c *captured) zoneUnseen(v *Verdict, p placing) placing {
	f := v.Cause[0]
	if f.About.Zone == "" || !c.zones[f.Evidence[0]].IsZero() {
		return p
	}
	for i := range v.Cause {
		v.Cause[i].About.Zone = ""
	}
	return placing{where: ZoneServers, at: f.About.Server, who: holderAtHost, sure: finding.Likely,
		because: "a resolver queried it, and the capture does not show for which zone", rivals: []rival{route}}
}

// seenOnly is the ground that nobody was asked, and whom a resolver asked may be out of sight.
func seenOnly(v *Verdict, p placing) placing {
	switch f := v.Cause[0]; {
	case f.About.Zone != "":
		p.because = "the resolver's own queries are in the capture"
	case p.where == ZoneServers: // by [captured.zoneUnseen]
	case f.Code == finding.ServerFailure || f.Code == finding.Failed:
		p.sure, p.because = finding.Likely, "its replies are in the capture"
		p.rivals = []rival{{"a fault of the zone's own servers (the capture does not show them)", "trace the name, or capture at the resolver", "", nil}}
	case f.Code == finding.NoReply:
		p.because = "the capture has no reply, however often it was queried"
	case f.Code == finding.AnswerRewritten:
		p.sure, p.because = finding.Likely, "another resolver in the capture says that the name does not exist"
	}
	return p
}

// thatKind is what a capture of ordinary questions cannot rule out where one got no reply and
// others did.
var thatKind = rival{name: "a device on the way that drops large replies, EDNS or UDP", tells: "query the server for this name over TCP, without EDNS, and for a type with a small answer"}

// answeredOthers is the ground that a server without a reply answered others: the fault is
// not the path to it, but the server.
func (c *captured) answeredOthers(v *Verdict, p placing) placing {
	if p.where != PathOut || v.Cause[0].Code != finding.NoReply {
		return p
	}
	address, err := netip.ParseAddr(v.Cause[0].About.Address)
	if answers := c.Answers(address); err == nil && answers > 0 {
		p.where, p.who, p.rivals = TheResolver, operator, []rival{thatKind}
		p.because = fmt.Sprintf("it answered %s in the capture", wording.Count(answers, "other question", "other questions"))
	}
	return p
}

// checks say what the capture holds of a name.
func (c *captured) checks(s *seen, types []wire.Type) []Check {
	counts := map[exchange.Outcome]int{}
	var order []exchange.Outcome
	wrong := Fine
	for _, e := range s.exchanges {
		outcome := cmp.Or(e.Outcome, exchange.Open)
		if counts[outcome]++; counts[outcome] == 1 {
			order = append(order, outcome)
		}
		if e.Outcome.Failed() {
			wrong = Wrong
		}
	}
	var words []string
	for _, outcome := range order {
		words = append(words, fmt.Sprintf("%d %s", counts[outcome], outcome))
	}
	asked, clients, saw := wording.Count(len(s.exchanges), "time", "times"), wording.Count(len(s.clients), "client", "clients"), strings.Join(words, ", ")
	if all := c.stats[s.name.Fold()]; all != nil && len(types) == 0 && all.Exchanges > len(s.exchanges) { // not all are at hand
		asked, clients = wording.Count(all.Exchanges, "time", "times"), wording.Count(all.Peers(), "client", "clients")
		if saw = "none failed"; all.Failed+all.NoName > 0 {
			saw = fmt.Sprintf("%d failed, %d no-name", all.Failed, all.NoName)
		}
	}
	return []Check{{What: fmt.Sprintf("%s in the capture, asked %s by %s", s.name.Spoken(), asked, clients), State: wrong, Saw: saw}}
}

// said is what the last good answer to a name was.
func (c *captured) said(s *seen) string {
	if c.oneSided() {
		return "the capture has one direction only, so silence says nothing"
	}
	for _, e := range slices.Backward(s.exchanges) {
		if e.Outcome.Good() {
			return fmt.Sprintf("%s is %s, answered by %s", e.Question.Type, answerWords(e), e.Server.AddressText())
		}
	}
	return "the capture ends before a reply was due"
}
