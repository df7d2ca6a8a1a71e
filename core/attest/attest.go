// Package attest checks the signatures that messages of a capture hold, by the keys that the same capture
// holds and as of the time of each packet. What it says of a set of records is no more than that shows: that
// the signature is one by those keys, that a chain of trust leads to them too, that it is broken, or that
// the keys are not there.
package attest

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"unquil/core/dnssec"
	"unquil/core/finding"
	"unquil/core/wire"
)

// State is what a signature comes to by what a capture holds.
type State string

// The states, the worse ones first.
const (
	Bogus    State = "bogus"    // it ran out, is not valid yet, or is none by the key that it names
	Unjudged State = "unjudged" // the capture has not the keys
	Fits     State = "fits"     // it is one by keys that the capture has; what vouches for those is not in it
	Secure   State = "secure"   // and the capture has the whole chain of trust to them, from an anchor
)

// States are all of them, in that order.
var States = []State{Bogus, Unjudged, Fits, Secure}

func (s State) weight() int { return slices.Index(States, s) }

// Bounds on what is kept and computed for one capture.
const (
	maxSets   = 5_000
	maxKnown  = 2_000 // messages with keys or digests
	maxChecks = 10_000
	maxEach   = 20 // exchanges that are named
	maxBroken = 100
	again     = 10 * time.Minute // after which the same reply is looked at once more
	maxSeen   = 100_000
)

// Collector gathers signatures. The zero value is ready to use. It is not safe for use by many goroutines.
type Collector struct {
	seen  map[uint64]int64 // by question and server: when it was looked at last, in nanoseconds since 1970 UTC
	sets  map[string]*signed
	order []*signed
	known map[string][]message
	count int // of messages that are known
	left  int // sets that there was no room for
}

// message is one with keys or digests, and the exchange that it came in.
type message struct {
	*wire.Message
	number int
}

// signed is a set with its signatures, as it came.
type signed struct {
	set         *dnssec.Set
	name        wire.Name // that was asked for
	first, last time.Time
	exchanges   []int
}

// Wants reports whether a signed reply is worth looking at: of those of one server to one question one
// every ten minutes is. key stands for both, and at is in nanoseconds since 1970 UTC.
func (c *Collector) Wants(key uint64, at int64) bool {
	if last, known := c.seen[key]; known && at-last < int64(again) || !known && len(c.seen) >= maxSeen {
		return false
	}
	if c.seen == nil {
		c.seen, c.sets, c.known = map[uint64]int64{}, map[string]*signed{}, map[string][]message{}
	}
	c.seen[key] = at
	return true
}

// Add takes the keys out of a reply and, where that counts, the signatures.
func (c *Collector) Add(number int, at time.Time, reply []byte, counts bool) {
	m, err := wire.ReadMessage(reply)
	if err != nil || len(m.Questions) == 0 {
		return
	}
	q := m.Questions[0]
	if q.Type == wire.DNSKEY || q.Type == wire.DS {
		if key := keyOf(q.Name, q.Type); c.count < maxKnown && len(c.known[key]) < 3 {
			c.known[key] = append(c.known[key], message{&m, number})
			c.count++
		}
	}
	if !counts {
		return
	}
	for _, set := range dnssec.Sets(slices.Concat(m.Answer, m.Authority)) {
		if len(set.Signatures) == 0 {
			continue
		}
		key := keyOf(q.Name, set.Type) + set.Owner.Fold().Wire()
		for i := range set.Signatures {
			key += string(set.Signatures[i].Data)
		}
		s := c.sets[key]
		if s == nil {
			if len(c.order) >= maxSets {
				c.left++
				continue
			}
			s = &signed{set: set, name: q.Name, first: at}
			c.sets[key], c.order = s, append(c.order, s)
		}
		if s.last = at; len(s.exchanges) < maxEach {
			s.exchanges = append(s.exchanges, number)
		}
	}
}

func keyOf(name wire.Name, t wire.Type) string {
	return string([]byte{byte(t >> 8), byte(t)}) + name.Fold().Wire()
}

// Broken is what is wrong with the signatures of one zone.
type Broken struct {
	dnssec.Break       // the first
	Sets         int   // for how many sets it holds
	Exchanges    []int // up to twenty
}

// Report is what the signatures of a capture come to.
type Report struct {
	Sets    map[State]int
	Names   map[wire.Name]State // that were asked for, in lower case: the worst of what came
	Broken  []Broken
	Without []wire.Name // zones whose keys the capture has not, in order
	Left    int         // sets that were not looked at
}

// Judge judges what was gathered; nil where nothing was signed. Anchors are DS or DNSKEY records.
func (c *Collector) Judge(ctx context.Context, anchors []wire.Record) *Report {
	if len(c.order) == 0 {
		return nil
	}
	r := &Report{Sets: map[State]int{}, Names: map[wire.Name]State{}, Left: c.left}
	j := &judge{collector: c, anchors: anchors, checker: dnssec.NewChecker(maxChecks), chains: map[string]bool{}}
	without := map[wire.Name]bool{}
	for _, s := range c.order {
		state, broken := j.set(ctx, s)
		r.Sets[state]++
		if before, known := r.Names[s.name.Fold()]; !known || state.weight() < before.weight() {
			r.Names[s.name.Fold()] = state
		}
		switch {
		case broken != nil:
			r.broken(broken, s)
		case state == Unjudged:
			without[s.set.Signatures[0].Signer.Fold()] = true
		}
	}
	for zone := range without {
		r.Without = append(r.Without, zone)
	}
	slices.SortFunc(r.Without, wire.Name.Compare)
	return r
}

func (r *Report) broken(b *dnssec.Break, s *signed) {
	at := slices.IndexFunc(r.Broken, func(o Broken) bool { return o.Flaw == b.Flaw && o.Zone.Equal(b.Zone) })
	if at < 0 {
		if len(r.Broken) >= maxBroken {
			return
		}
		r.Broken, at = append(r.Broken, Broken{Break: *b}), len(r.Broken)
	}
	to := &r.Broken[at]
	to.Sets++
	for _, n := range s.exchanges {
		if len(to.Exchanges) < maxEach && !slices.Contains(to.Exchanges, n) {
			to.Exchanges = append(to.Exchanges, n)
		}
	}
	slices.Sort(to.Exchanges)
}

// Findings are what is to be said of what is broken.
func (r *Report) Findings() (all []finding.Finding) {
	for i := range r.Broken {
		b := &r.Broken[i]
		more := ""
		if b.Sets > 1 {
			more = fmt.Sprintf(", and so it is with %d more", b.Sets-1)
		}
		f := finding.New(finding.Code(b.Flaw), finding.Fault, finding.About{Zone: b.Zone.String()},
			fmt.Sprintf("%s%s: resolvers that validate do not accept it.", b.Sentence(), more), b.Exchanges...)
		f.Next = b.Next()
		all = append(all, f)
	}
	return all
}

// Found reports whether a finding is one of the report's; none is of no report.
func (r *Report) Found(f *finding.Finding) bool {
	return r != nil && slices.ContainsFunc(r.Broken, func(b Broken) bool {
		return finding.Code(b.Flaw) == f.Code && b.Zone.String() == f.About.Zone
	})
}

// judge judges sets.
type judge struct {
	collector *Collector
	anchors   []wire.Record
	checker   *dnssec.Checker
	chains    map[string]bool // whether one leads to a zone, by that and the time
}

// set judges a set as it came first and last.
func (j *judge) set(ctx context.Context, s *signed) (State, *dnssec.Break) {
	zone := s.set.Signatures[0].Signer
	if !s.set.Owner.IsSubdomainOf(zone) {
		return Unjudged, nil // signatures of others count for nothing
	}
	keys := j.keys(zone)
	for _, now := range []time.Time{s.last, s.first} {
		broken := j.checker.Check(s.set, zone, keys, now)
		switch {
		case broken == nil:
			continue
		case broken.Flaw == dnssec.SignatureExpired || broken.Flaw == dnssec.SignatureNotYet:
			return Bogus, broken
		case j.checker.Left() == 0 || !slices.ContainsFunc(keys, func(k *dnssec.Key) bool { return k.Tag == broken.Tag && k.Algorithm == broken.Algorithm }):
			return j.untimely(s, zone, now)
		}
		return Bogus, broken
	}
	if j.vouched(ctx, zone, s.last) {
		return Secure, nil
	}
	return Fits, nil
}

// untimely judges a set without keys, as its times say: what has run out needs none.
func (j *judge) untimely(s *signed, zone wire.Name, now time.Time) (State, *dnssec.Break) {
	b := dnssec.Break{Flaw: dnssec.SignatureExpired, Zone: zone, Owner: s.set.Owner, Type: s.set.Type}
	for i := range s.set.Signatures {
		g := &s.set.Signatures[i]
		ends := g.Ends(now)
		if !now.After(ends) {
			return Unjudged, nil
		}
		if ends.After(b.Since) {
			b.Since, b.Tag, b.Algorithm = ends, g.Tag, g.Algorithm
		}
	}
	return Bogus, &b
}

// keys are all keys of a zone that the capture has.
func (j *judge) keys(zone wire.Name) (keys []*dnssec.Key) {
	for _, m := range j.collector.known[keyOf(zone, wire.DNSKEY)] {
		for _, r := range m.Answer {
			if k, err := dnssec.ReadKey(r); err == nil && r.Type == wire.DNSKEY && r.Name.Equal(zone) && len(keys) < maxEach {
				keys = append(keys, &k)
			}
		}
	}
	return keys
}

// vouched reports whether the capture has a chain of trust to a zone.
func (j *judge) vouched(ctx context.Context, zone wire.Name, at time.Time) bool {
	key := zone.Fold().Wire() + at.Truncate(again).String()
	is, known := j.chains[key]
	if !known {
		v := dnssec.Validator{Source: recorded{j.collector}, Anchors: j.anchors, Now: at}
		down := v.Down(ctx, zone)
		is = down.State == dnssec.Secure && down.Zone.Equal(zone)
		j.chains[key] = is
	}
	return is
}

// recorded gives a validator what the capture holds.
type recorded struct{ *Collector }

// Cut says that a zone begins where the capture has its keys or its digests.
func (r recorded) Cut(name wire.Name) (is, known bool) {
	return len(r.known[keyOf(name, wire.DNSKEY)])+len(r.known[keyOf(name, wire.DS)]) > 0, true
}

// Ask gives what came to a question.
func (r recorded) Ask(_ context.Context, _ wire.Name, q wire.Question, turn int) (*wire.Message, int) {
	all := r.known[keyOf(q.Name, q.Type)]
	if turn >= len(all) {
		return nil, 0
	}
	return all[turn].Message, all[turn].number
}

// Counted are how many sets came to each state, those that are there, the worse ones first.
func (r *Report) Counted() (states []State) {
	for _, s := range States {
		if r.Sets[s] > 0 {
			states = append(states, s)
		}
	}
	return states
}

// Of are the names that came to a state, in order.
func (r *Report) Of(state State) (names []wire.Name) {
	for name, s := range r.Names {
		if s == state {
			names = append(names, name)
		}
	}
	slices.SortFunc(names, func(a, b wire.Name) int { return cmp.Compare(a.String(), b.String()) })
	return names
}
