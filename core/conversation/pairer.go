package conversation

import (
	"bytes"
	"encoding/binary"
	"iter"
	"net/netip"

	"unquil/core/capture"
	"unquil/core/exchange"
	"unquil/core/wire"
)

// ring is pairs in the order in which they came to be there.
type ring struct {
	head Pair
	size int
}

func (r *ring) init() { r.head.next, r.head.previous = &r.head, &r.head }

func (r *ring) add(p *Pair) {
	p.previous, p.next = r.head.previous, &r.head
	p.previous.next, p.next.previous = p, p
	r.size++
}

func (r *ring) remove(p *Pair) {
	p.previous.next, p.next.previous = p.next, p.previous
	r.size--
}

func (r *ring) oldest() *Pair { return r.head.next }

// Pairer pairs messages to exchanges. Give it the messages in the order of the
// capture, then call Close.
type Pairer struct {
	// Emit is called once for each exchange, when nothing more can come of it.
	Emit func(*Pair)
	// Unsolicited is called with each reply to which the capture holds no question,
	// and with the open question of the same client that it would fit but for its ID
	// or its source; nil without one.
	Unsolicited func(m *Message, fits *Pair)
	// Another is called with a reply that says something else than the reply which
	// exchange number got, where that was emitted already; nil: nobody.
	Another func(m *Message, number int)
	// Dropped counts questions given up because too many were open at once, and
	// Duplicates the packets that were captured twice.
	Dropped, Duplicates int

	numbered   int
	pairs      [buckets]*Pair // by hash, chained through same
	latest     [buckets]*Pair // by client and name: what was asked last; another's takes its place
	wanted     [buckets]*Pair // by client and question, the same
	now        int64          // of the capture
	due        int64          // when something is to be given up
	open, done ring
	doneBytes  int // of the replies of the done ones
	crowded    [crowd]crowdedOut
	free       []*Pair
	rooms      []*relations // that are not in use
}

// buckets is the size of the tables that pairs are found by: plain arrays, which
// cost less than a map, and fit the processor's cache.
const buckets = 1 << 12

// crowdedOut is what is left of an answered exchange that had to make room for others:
// enough to know another reply to it by, and whether that gives other addresses. It is
// small, since each is put somewhere else.
type crowdedOut struct {
	check, says uint32 // halves of the exchange's hash and of what its reply said
	number      uint32 // its lower half; 0: nothing
	received    uint32 // milliseconds
}

// crowd is how many of them are remembered, each until another takes its place.
const crowd = 1 << 13

// crowdOut makes room for others.
func (p *Pairer) crowdOut(pair *Pair) {
	p.crowded[pair.hash%crowd] = crowdedOut{uint32(pair.hash >> 32), uint32(pair.says), uint32(pair.Number), milliseconds(pair.Received)}
	p.finish(pair)
}

// late deals with another reply to an exchange that had to make room, and reports
// whether it is one.
func (p *Pairer) late(m *Message) bool {
	c := &p.crowded[m.hash%crowd]
	if c.number == 0 || c.check != uint32(m.hash>>32) || milliseconds(m.At)-c.received > uint32(linger/1e6) {
		return false
	}
	if differ(uint64(c.says), uint64(uint32(m.says))) && p.Another != nil {
		p.Another(m, p.numbered-int(uint32(p.numbered)-c.number))
		c.says = uint32(m.says) // told once
	}
	return true
}

// milliseconds is a time as it is told from others that are near.
func milliseconds(at int64) uint32 { return uint32(at / 1e6) }

// NewPairer returns a Pairer that hands its exchanges to emit.
func NewPairer(emit func(*Pair)) *Pairer {
	p := &Pairer{Emit: emit}
	p.open.init()
	p.done.init()
	return p
}

// Message takes one DNS message. It allocates nothing once as many pairs have
// been open as will ever be at once.
func (p *Pairer) Message(m *Message) {
	if p.now = m.At; p.now > p.due || p.now < p.due-linger { // or the capture's time went back
		p.expire(p.now)
	}
	if m.reply {
		p.replied(m)
	} else {
		p.asked(m)
	}
}

func (p *Pairer) find(m *Message) *Pair {
	pair := p.pairs[m.hash%buckets]
	for pair != nil && (pair.hash != m.hash || pair.id != m.id || pair.question != m.question || pair.TCP != m.tcp ||
		pair.Client != m.Client || pair.Server != m.Server || !pair.query.SameQuestion(m.View)) {
		pair = pair.same
	}
	return pair
}

func (p *Pairer) asked(m *Message) {
	if pair := p.find(m); pair != nil {
		p.again(pair, m)
		return
	}
	pair := p.fresh()
	p.numbered++
	pair.hash, pair.question, pair.name, pair.id, pair.hops = m.hash, m.question, m.name, m.id, m.hops
	pair.Number, pair.Client, pair.Server, pair.TCP, pair.First = p.numbered, m.Client, m.Server, m.tcp, Try{m.Number, m.At}
	// The view has to lie over a copy, since the packet's bytes are not ours.
	message := m.View.Bytes()
	pair.query = m.View.Over(append(pair.room(), message[:min(len(message), maxQuery)]...))
	first := &p.pairs[m.hash%buckets]
	pair.same, *first = *first, pair
	p.open.add(pair)
	p.relate(pair)
	if m.waited {
		p.related(pair).waited = true
	}
	if p.open.size > maxOpen {
		p.Dropped++
		p.finish(p.open.oldest())
	}
}

// again is a question's packet seen once more: captured twice, going round in a
// loop, or sent again by its client.
func (p *Pairer) again(pair *Pair, m *Message) {
	if pair.TCP {
		return
	}
	r := p.related(pair)
	seen := max(r.seen, pair.First.At)
	if m.hops < pair.hops {
		r.Copies, r.falling = r.Copies+1, true
	} else if gap := m.At - seen; gap <= oneMoment && gap >= 0 {
		r.Copies++
	} else if len(r.again) < maxTries-1 {
		r.again = append(r.again, Try{m.Number, m.At})
	}
	r.seen, pair.hops, r.waited = m.At, m.hops, m.waited
}

// relate ties a new question to what its client asked for the same name before.
func (p *Pairer) relate(pair *Pair) {
	client := pair.Client.Addr()
	asker := hashAddress(client)
	pair.about, pair.wants = uint16(mix(pair.name, asker)%buckets), uint16(mix(pair.question, asker)%buckets)
	half := p.latest[pair.about]
	p.latest[pair.about] = pair
	if half != nil && half.name == pair.name && half.Client.Addr() == client && half.Server == pair.Server &&
		pair.First.At-half.First.At <= pairWithin && addressTypes(half.query.QType(), pair.query.QType()) {
		half.part()
		pair.twin, half.twin = half, pair
	}
	before := p.wanted[pair.wants]
	p.wanted[pair.wants] = pair
	if before == nil || before.question != pair.question {
		return
	}
	if outcome := before.Outcome(); outcome.Good() || outcome == exchange.Referral {
		return // it got what it asked for
	}
	if before.Client.Addr() == client && before.query.SameQuestion(pair.query) {
		p.related(pair).Before, p.related(before).After = before.link(), pair.link()
	}
}

// related makes room for what few exchanges have.
func (p *Pairer) related(pair *Pair) *relations {
	if pair.rel == nil {
		if n := len(p.rooms); n > 0 {
			pair.rel, p.rooms = p.rooms[n-1], p.rooms[:n-1]
		} else {
			pair.rel = &relations{}
		}
	}
	return pair.rel
}

func addressTypes(a, b wire.Type) bool {
	return a == wire.A && b == wire.AAAA || a == wire.AAAA && b == wire.A
}

func (p *Pair) link() Link {
	l := Link{Number: p.Number, Server: p.Server, TCP: p.TCP, Sent: p.First.At}
	if p.answered {
		l.Ended, l.Outcome = p.Received, p.outcome
	}
	return l
}

func (p *Pairer) replied(m *Message) {
	pair := p.find(m)
	if pair == nil {
		if !m.View.HasQuestion() {
			pair = p.unquestioned(m.id, m.Client, m.Server, m.At)
		}
		if pair == nil {
			if !p.late(m) {
				p.unsolicited(m)
			}
			return
		}
	}
	if pair.answered {
		p.repliedAgain(pair, m)
		return
	}
	pair.reply = m.View.Over(append(pair.reply.Bytes()[:0], m.View.Bytes()...))
	pair.Received, pair.ReceivedIn, pair.Cut, pair.Torn = m.At, m.Number, m.cut, m.torn
	pair.outcome, pair.says, pair.ttl, pair.ages, pair.answered = m.Outcome, m.says, m.ttl, m.ages, true
	p.open.remove(pair)
	p.done.add(pair)
	p.doneBytes += len(m.View.Bytes())
	for p.done.size > maxDone || p.doneBytes > maxDoneBytes {
		p.crowdOut(p.done.oldest())
	}
}

// unquestioned finds the open question that a reply without a question section
// answers: a server that could not read it need not repeat it.
func (p *Pairer) unquestioned(id uint16, client, server netip.AddrPort, at int64) *Pair {
	for pair := range p.newest(at) {
		if pair.id == id && pair.Client == client && pair.Server == server {
			return pair
		}
	}
	return nil
}

// maxNewest is how many open questions are looked at for what does not repeat its
// question: a capture can be made of nothing else.
const maxNewest = 1 << 10

// newest yields the questions that are open, the newest first, up to one that is older
// than linger.
func (p *Pairer) newest(at int64) iter.Seq[*Pair] {
	return func(yield func(*Pair) bool) {
		n := 0
		for pair := p.open.head.previous; pair != &p.open.head && n < maxNewest; pair = pair.previous {
			if n++; !yield(pair) || at-pair.First.At > linger {
				return
			}
		}
	}
}

// repliedAgain is a reply to a question that has one: captured twice, an answer to
// a question that was sent twice, or one that says something else.
func (p *Pairer) repliedAgain(pair *Pair, m *Message) {
	if bytes.Equal(pair.reply.Bytes(), m.View.Bytes()) {
		if m.At-pair.Received <= oneMoment {
			p.Duplicates++
		}
		return
	}
	if !pair.Related().differs && pair.says != cutShort && m.says != cutShort && (differ(pair.says, m.says) || pair.reply.AnswerSum() != m.View.AnswerSum()) {
		r := p.related(pair)
		r.OtherIn, r.differs = m.Number, true
	}
}

// differ reports whether two replies say different things: [Message.says] of both.
func differ(a, b uint64) bool { return a != b && a != cutShort && b != cutShort }

// unsolicited is a reply that answers no question of the capture.
func (p *Pairer) unsolicited(m *Message) {
	fits := p.wanted[mix(m.question, hashAddress(m.Client.Addr()))%buckets]
	if fits != nil && (fits.answered || fits.question != m.question || fits.Client.Addr() != m.Client.Addr() || !fits.query.SameQuestion(m.View)) {
		fits = nil
	}
	if fits != nil {
		p.related(fits).Guesses++
	}
	if p.Unsolicited != nil {
		p.Unsolicited(m, fits)
	}
}

// Outcomes that only a capture has.
const (
	CutOff exchange.Outcome = "cut-off" // a reply came, and the capture holds too little of it
	Open   exchange.Outcome = "open"    // asked so late that the reply may have come after the capture ended
)

// CutReply takes a reply of which the capture holds the header alone.
func (p *Pairer) CutReply(packet *capture.Packet) {
	pair := p.unquestioned(binary.BigEndian.Uint16(packet.Payload), packet.To, packet.From, packet.At)
	if pair == nil {
		return
	}
	pair.outcome, pair.Cut = CutOff, true
	p.related(pair).OtherIn = packet.Number
}

// Forbidden takes an ICMP error that quotes a packet of a question.
func (p *Pairer) Forbidden(packet *capture.Packet) {
	for pair := range p.newest(packet.At) {
		if pair.Client == packet.From && pair.Server == packet.To && pair.Related().Forbidden == nil &&
			(len(packet.Payload) < 2 || binary.BigEndian.Uint16(packet.Payload) == pair.id) {
			r := p.related(pair)
			r.Forbidden, r.ReportIn = packet.Report, packet.Number
			return
		}
	}
}

// expire gives up questions that are older than the window, and forgets answers
// that nothing more will come of. What comes from now on is not due before linger.
func (p *Pairer) expire(now int64) {
	p.due = now + linger
	for p.open.size > 0 {
		oldest := p.open.oldest()
		if end := oldest.last().At + window; now <= end {
			p.due = min(p.due, end)
			break
		}
		p.finish(oldest)
	}
	for p.done.size > 0 {
		oldest := p.done.oldest()
		if end := oldest.Received + linger; now <= end {
			p.due = min(p.due, end)
			break
		}
		p.finish(oldest)
	}
}

func (p *Pairer) finish(pair *Pair) {
	at := &p.pairs[pair.hash%buckets]
	for *at != pair {
		at = &(*at).same
	}
	*at = pair.same
	if p.latest[pair.about] == pair {
		p.latest[pair.about] = nil
	}
	if p.wanted[pair.wants] == pair {
		p.wanted[pair.wants] = nil
	}
	if pair.answered {
		p.done.remove(pair)
		p.doneBytes -= len(pair.reply.Bytes())
	} else {
		p.open.remove(pair)
		pair.giveUp(p.now)
	}
	r := pair.rel
	if r != nil && r.Copies > 0 && !pair.Looped() {
		p.Duplicates += r.Copies
	}
	p.Emit(pair)
	pair.part()
	if r = pair.rel; r != nil { // which it may have got only now
		*r = relations{again: r.again[:0]}
		p.rooms, pair.rel = append(p.rooms, r), nil
	}
	pair.reset()
	p.free = append(p.free, pair)
}

// loopCopies is how many copies at one moment are no accident of the capture.
const loopCopies = 4

// Looped reports whether the question's packet went round in a loop.
func (p *Pair) Looped() bool {
	return p.rel != nil && (p.rel.falling || p.rel.Copies >= loopCopies)
}

func (p *Pairer) fresh() *Pair {
	if n := len(p.free); n > 0 {
		pair := p.free[n-1]
		p.free = p.free[:n-1]
		return pair
	}
	several := make([]Pair, pairsAtOnce)
	for i := range several[1:] {
		p.free = append(p.free, &several[1+i])
	}
	return &several[0]
}

// pairsAtOnce lie side by side.
const pairsAtOnce = 16

// Close gives up what is still open, in the order of the capture.
func (p *Pairer) Close() {
	for p.done.size > 0 {
		p.finish(p.done.oldest())
	}
	for p.open.size > 0 {
		p.finish(p.open.oldest())
	}
}
