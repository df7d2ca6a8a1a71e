package delegation

import (
	"context"
	"net/netip"
	"slices"
	"time"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// Bounds on what is asked beside the way.
const (
	asideServers = 2 // addresses of a zone that are asked more than the question
	asideNames   = 6 // names between the zone and the asked one
	asideHosts   = 8 // servers whose addresses the zone is asked for
	maxApexes    = 8
)

// ExtraQuery is a question that one of the zone's servers was asked beside the way.
type ExtraQuery struct {
	Host     wire.Name
	Address  netip.Addr
	Exchange *exchange.Exchange
}

// Priming is what a root server says of the root servers, against the hints
// that the walk began with (RFC 8109).
type Priming struct {
	Exchange *exchange.Exchange
	Listed   []wire.Name // root servers that it lists
	Unknown  []wire.Name // of those, the ones that the hints lack
	Gone     []wire.Name // hints that it does not list
	Moved    []wire.Name // hints with an address that it does not give
}

// Wildcard is a name *.X that stands for names that are not there (RFC 4592).
type Wildcard struct {
	Name     wire.Name
	Proven   bool // a signature says so (RFC 4034 §3.1.3); otherwise the two merely say the same
	Exchange *exchange.Exchange
}

// beside starts the questions that one server of a step is asked beside the way.
// They tell more of the zone, and cost the walk no time.
func (w *run) beside(ctx context.Context, step *Step, host wire.Name, server exchange.Server, options exchange.Options, glue []Server) {
	ask := func(name wire.Name, t wire.Type, o exchange.Options) {
		w.mu.Lock()
		w.asked++
		full := w.asked > maxQuestions
		w.mu.Unlock()
		if full {
			return
		}
		w.pending.Add(1)
		w.Session.Start(ctx, exchange.Request{Server: server, Options: &o, Shared: true, Question: wire.Question{Name: name, Type: t, Class: wire.IN}},
			func(e *exchange.Exchange) {
				defer w.pending.Done()
				w.mu.Lock()
				defer w.mu.Unlock()
				step.Extra = append(step.Extra, &ExtraQuery{host, server.Address.Addr(), e})
			})
	}
	ask(step.Zone, wire.NS, options)
	if !w.Minimise { // these show more of the name
		w.besideName(step, options, ask)
	}
	hosts := 0
	for _, s := range glue {
		if !s.Host.IsSubdomainOf(step.Zone) || hosts == asideHosts {
			continue
		}
		hosts++
		for _, t := range []wire.Type{wire.A, wire.AAAA} {
			if slices.ContainsFunc(s.Addresses, func(a netip.Addr) bool { return a.Is6() == (t == wire.AAAA) }) {
				ask(s.Host, t, options)
			}
		}
	}
}

// aside is how many addresses of a zone are asked more than the question.
func (w *Walker) aside() int {
	if w.Few {
		return 1
	}
	return asideServers
}

// whole asks those servers of the zone that a walk ended at that were spared on its way, and beside them what
// no server has told so far.
func (w *run) whole(ctx context.Context, last *Step) {
	if last == nil || !w.Few || w.One || ctx.Err() != nil {
		return
	}
	if len(last.rest) > 0 && last.Chosen != nil && last.Chosen.Stance == Answers {
		rest := last.rest
		last.rest = nil
		w.askAll(ctx, last, rest, nil)
		w.pending.Wait()
		last.sort()
	}
	if isTop(last.Zone) && !last.Zone.IsRoot() {
		w.serials(ctx, last)
	}
	if r := last.Reference(); r != nil && !last.Zone.IsRoot() && !last.Given && len(last.extraAnswers()) == 0 {
		w.beside(ctx, last, r.Host, w.server(r.Host, r.Address), w.options(), last.listed())
		w.pending.Wait()
	}
}

// serials asks the servers of a zone for its SOA that were not asked for it with the question.
func (w *run) serials(ctx context.Context, last *Step) {
	options := w.options()
	options.Expire = true
	var requests []exchange.Request
	var of []*Reply
	for _, r := range last.Replies {
		if r.SOA == nil && r.Exchange != nil && r.Stance != NotAsked {
			of = append(of, r)
			requests = append(requests, exchange.Request{Server: w.server(r.Host, r.Address), Options: &options, Shared: true, Question: wire.Question{Name: last.Zone, Type: wire.SOA, Class: wire.IN}})
		}
	}
	for i, e := range w.Session.AskAll(ctx, requests) {
		of[i].SOA = e
	}
}

// listed are the servers of a step with the addresses that were asked.
func (s *Step) listed() (servers []Server) {
	for _, host := range s.order {
		one := Server{Host: host}
		for _, r := range s.Replies {
			if r.Host.Equal(host) && r.Address.IsValid() {
				one.Addresses = append(one.Addresses, r.Address)
			}
		}
		servers = append(servers, one)
	}
	return servers
}

// besideName asks about the names around the one that the walk looks for.
func (w *run) besideName(step *Step, options exchange.Options, ask func(wire.Name, wire.Type, exchange.Options)) {
	signed := options
	signed.DNSSEC = true
	ask(step.Name, step.Question.Type, signed)
	if parent := step.Name.Parent(); parent.IsSubdomainOf(step.Zone) && !step.Name.Equal(step.Zone) {
		if star, err := parent.Child("*"); err == nil {
			ask(star, step.Question.Type, options)
		}
		for n := 0; n < asideNames && parent.Labels() > step.Zone.Labels(); n++ {
			ask(parent, step.Question.Type, options)
			parent = parent.Parent()
		}
	}
}

// extraAnswers returns the answers of one address to what was asked beside the way, with
// authority: of the address that has the newest version of the zone.
func (s *Step) extraAnswers() []*ExtraQuery {
	var best *Reply
	for _, r := range s.Replies {
		if r.Exchange == nil || !r.Exchange.Authoritative() || !slices.ContainsFunc(s.Extra, func(a *ExtraQuery) bool { return a.Address == r.Address }) {
			continue
		}
		serial, ok := r.Serial()
		if best == nil {
			best = r
		} else if known, had := best.Serial(); ok && (!had || wire.NewerSerial(serial, known)) {
			best = r
		}
	}
	var all []*ExtraQuery
	for _, a := range s.Extra {
		if best != nil && a.Address == best.Address && a.Exchange.Authoritative() {
			all = append(all, a)
		}
	}
	return all
}

// Asked is the answer with authority to a question beside the way; nil without one.
func (s *Step) Asked(name wire.Name, t wire.Type) *exchange.Exchange {
	for _, a := range s.extraAnswers() {
		if q := a.Exchange.Question; q.Type == t && q.Name.Equal(name) {
			return a.Exchange
		}
	}
	return nil
}

// names says what is known of the names around the one that the walk ended at.
func (w *Walk) names() {
	last := w.Last()
	if last == nil || last.Chosen == nil {
		return
	}
	t := last.Question.Type
	switch w.End {
	case EndNoName:
		for name := last.Name.Parent(); name.IsSubdomainOf(last.Zone) && w.Name().Equal(last.Name); name = name.Parent() {
			if name.Equal(last.Zone) {
				w.Closest = name
				return
			}
			e := last.Asked(name, t)
			if e == nil || e.Outcome == "" {
				return
			}
			if e.Outcome != exchange.NoName {
				w.Closest = name
				return
			}
		}
	case EndAnswer:
		w.wildcard(last)
	}
}

// wildcard looks whether the answer was made from a wildcard.
func (w *Walk) wildcard(last *Step) {
	t := last.Question.Type
	for _, a := range last.extraAnswers() {
		for _, r := range a.Exchange.Answer().Signatures {
			if labels := r.SignedLabels(); r.Name.Equal(last.Name) && labels < last.Name.Labels() {
				if star, err := last.Name.Ancestor(labels).Child("*"); err == nil {
					w.Wildcard = &Wildcard{star, true, a.Exchange}
					return
				}
			}
		}
	}
	star, err := last.Name.Parent().Child("*")
	if err != nil || last.Name.Equal(star) || last.Name.IsRoot() {
		return
	}
	e := last.Asked(star, t)
	if e == nil || e.Outcome != exchange.Answered || !slices.Equal(exchange.Values(e.Answer().Records), exchange.Values(last.Chosen.Exchange.Answer().Records)) {
		return
	}
	w.Wildcard = &Wildcard{star, false, e}
}

// apexes asks servers of the last zone that give different answers which zone
// they take them from.
func (w *run) apexes(ctx context.Context, walk *Walk) {
	last := walk.Last()
	if last == nil || ctx.Err() != nil || last.Zone.IsRoot() {
		return
	}
	reference := last.Reference()
	if reference == nil || !slices.ContainsFunc(last.Replies, func(r *Reply) bool {
		return r.Stance == Answers && r.Exchange.Meaning() != reference.Exchange.Meaning()
	}) {
		return
	}
	options := w.options()
	var requests []exchange.Request
	var asked []*Reply
	for _, r := range last.Replies {
		if r.Stance == Answers && len(asked) < maxApexes {
			asked = append(asked, r)
			requests = append(requests, exchange.Request{Server: r.Exchange.Server, Options: &options, Shared: true, Question: wire.Question{Name: last.Name, Type: wire.SOA, Class: wire.IN}})
		}
	}
	for i, e := range w.Session.AskAll(ctx, requests) {
		asked[i].apex = e
	}
}

// Apex is the zone that a server took its answer from, where that was asked for:
// zero otherwise.
func (r *Reply) Apex() wire.Name {
	if r.apex == nil || !r.apex.Authoritative() {
		return wire.Name{}
	}
	for _, record := range slices.Concat(r.apex.Reply.Answer, r.apex.Reply.Authority) {
		if record.Type == wire.SOA && r.apex.Question.Name.IsSubdomainOf(record.Name) {
			return record.Name
		}
	}
	return wire.Name{}
}

// prime has the root server that replied first list the root servers, once, and asks those
// that the hints lack as well. It returns at once.
func (w *run) prime(ctx context.Context, step *Step) {
	w.mu.Lock()
	replied := step.Chosen
	begun := w.primed || !w.Prime || replied == nil
	w.primed = w.primed || !begun
	w.mu.Unlock()
	if begun {
		return
	}
	w.pending.Go(func() {
		options := w.options()
		q := wire.Question{Name: wire.Root, Type: wire.NS, Class: wire.IN}
		e := w.Session.Ask(ctx, exchange.Request{Options: &options, Shared: true, Question: q, Server: w.Session.First(q, w.server(replied.Host, replied.Address))})
		if e.Outcome != exchange.Answered || !e.Authoritative() {
			return
		}
		p, fresh := primed(e, w.Roots)
		w.mu.Lock()
		w.priming = p
		for _, s := range fresh {
			step.order = append(step.order, s.Host)
		}
		w.mu.Unlock()
		if len(fresh) > 0 {
			w.askAll(ctx, step, fresh, nil)
		}
		if len(p.Unknown)+len(p.Gone)+len(p.Moved) > 0 {
			w.spared(ctx, step)
		}
	})
}

// primed holds a list of root servers against the hints, and returns those that
// the hints lack with the addresses that came along.
func primed(e *exchange.Exchange, hints []Server) (*Priming, []Server) {
	p := &Priming{Exchange: e}
	listed := Roots(slices.Concat(e.Answer().Records, e.Reply.Additional))
	listed = listed[:min(len(listed), maxServers)]
	var fresh []Server
	for _, s := range listed {
		p.Listed = append(p.Listed, s.Host)
		if !slices.ContainsFunc(hints, func(h Server) bool { return h.Host.Equal(s.Host) }) {
			p.Unknown = append(p.Unknown, s.Host)
			if len(s.Addresses) > 0 {
				fresh = append(fresh, s)
			}
		}
	}
	for _, h := range hints {
		at := slices.IndexFunc(listed, func(s Server) bool { return h.Host.Equal(s.Host) })
		switch {
		case at < 0:
			p.Gone = append(p.Gone, h.Host)
		case moved(h.Addresses, listed[at].Addresses):
			p.Moved = append(p.Moved, h.Host)
		}
	}
	return p, fresh
}

// moved reports whether the hint has an address that is not listed, in a family
// of which an address is: a reply may leave a family out for want of room.
func moved(hint, listed []netip.Addr) bool {
	return slices.ContainsFunc(hint, func(a netip.Addr) bool {
		return !slices.Contains(listed, a) && slices.ContainsFunc(listed, func(b netip.Addr) bool { return a.Is4() == b.Is4() })
	})
}

// options are those of the questions to zones' own servers.
func (w *Walker) options() exchange.Options {
	o := w.Session.Client.Options
	o.Iterative = true
	o.DNSSEC = o.DNSSEC || len(w.Anchors) > 0
	w.mu.Lock()
	defer w.mu.Unlock()
	o.WithoutEDNS = o.WithoutEDNS || w.edns == swallowed
	return o
}

// minimiser decides how much of a name a zone's servers get to see (RFC 9156 §3).
type minimiser struct {
	on       bool
	together bool // zones above a registrable domain are asked for that
	known    int  // labels of the name that exist, or are beyond doubt
	steps    int
}

// Bounds of RFC 9156 §2.3: labels shown one by one, and questions for one name.
const (
	minimiseOneByOne = 4
	minimiseMost     = 10
)

// question is what to ask the servers of zone on the way to q.
func (m *minimiser) question(zone wire.Name, q wire.Question) wire.Question {
	if shared, ok := m.above(zone, q); ok && !m.on {
		return shared
	}
	if !m.on {
		return q
	}
	m.known = max(m.known, zone.Labels())
	left := q.Name.Labels() - m.known
	add := 1
	if m.steps >= minimiseOneByOne {
		add = max(left/max(minimiseMost-m.steps, 1), 1)
	}
	if left <= add || m.steps >= minimiseMost {
		return q
	}
	m.steps++
	// The type that gives least away (RFC 9156 §2.1).
	return wire.Question{Name: q.Name.Ancestor(m.known + add), Type: wire.A, Class: q.Class}
}

// answered takes in what the servers say to the ancestor that they were shown.
func (m *minimiser) answered(ancestor, name wire.Name, reply *wire.Message) {
	m.known = ancestor.Labels()
	denied := reply.RCode() == wire.NXDomain
	redirected := slices.ContainsFunc(reply.Answer, func(r wire.Record) bool { return r.Type == wire.DNAME })
	if denied || redirected {
		// Some servers deny names that only have names below them: the whole name settles it.
		m.known = name.Labels()
	}
}

// resolverTime is about what a resolver needs that asks one server a level: the
// median of the level's servers that answered.
func (w *Walk) resolverTime() (sum time.Duration) {
	for _, s := range w.Steps {
		var took []time.Duration
		for _, r := range s.Replies {
			if r.Stance.Usable() {
				took = append(took, r.Exchange.Took())
			}
		}
		if slices.Sort(took); len(took) > 0 {
			sum += took[len(took)/2]
		}
		if s.glueless {
			sum += w.sideTime(s)
		}
	}
	return sum
}

// sideTime is the time for the quickest side walk to the addresses of a step's servers.
func (w *Walk) sideTime(s *Step) (least time.Duration) {
	for _, side := range w.AddressWalks {
		if side.End == EndAnswer && slices.ContainsFunc(s.order, side.Question.Name.Equal) {
			if t := side.resolverTime(); least == 0 || t < least {
				least = t
			}
		}
	}
	return least
}

// repeats is how often servers are asked again that have one version of the zone and differ.
const repeats = 2

// repeat asks servers of one version of the zone that differ the same again: rotation and
// answers by place change from question to question, or are alike for one client.
func (w *run) repeat(ctx context.Context, last *Step) {
	if last == nil || ctx.Err() != nil {
		return
	}
	reference := last.Reference()
	var asked []*Reply
	for _, r := range last.Replies {
		if reference != nil && r.Stance == Answers && r != reference && last.sameVersion(r, reference) && r.Exchange.Meaning() != reference.Exchange.Meaning() {
			asked = append(asked, r)
		}
	}
	if len(asked) == 0 {
		return
	}
	options := w.options()
	var requests []exchange.Request
	asked = append(asked, reference)
	for range repeats {
		for _, r := range asked {
			requests = append(requests, exchange.Request{Server: w.server(r.Host, r.Address), Question: last.Question, Options: &options})
		}
	}
	for i, e := range w.Session.AskAll(ctx, requests) {
		r := asked[i%len(asked)]
		r.again = append(r.again, e)
	}
}

// sameVersion reports whether two servers have the zone with one serial.
func (s *Step) sameVersion(a, b *Reply) bool {
	mine, known := a.Serial()
	theirs, ok := b.Serial()
	return known && ok && mine == theirs
}

// steady reports whether a server said the same each time that it was asked.
func (r *Reply) steady() bool {
	return len(r.again) > 0 && !slices.ContainsFunc(r.again, func(e *exchange.Exchange) bool { return e.Meaning() != r.Exchange.Meaning() })
}
