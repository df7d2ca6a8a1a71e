package conversation

import (
	"bytes"
	"encoding/binary"
	"iter"

	"unquil/core/capture"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// ring is pairs in the order in which they came to be there.
type ring struct {
	head Transaction
	size int
}

func (r *ring) init() { r.head.next, r.head.previous = &r.head, &r.head }

func (r *ring) add(p *Transaction) {
	p.previous, p.next = r.head.previous, &r.head
	p.previous.next, p.next.previous = p, p
	r.size++
}

func (r *ring) remove(p *Transaction) {
	p.previous.next, p.next.previous = p.next, p.previous
	r.size--
}

func (r *ring) oldest() *Transaction { return r.head.next }

// pairer pairs messages to exchanges. Give it the messages in the order of the
// capture, then call Close.
type pairer struct {
	// Emit is called once for each exchange, when nothing more can come of it.
	Emit func(*Transaction)
	// Unsolicited is called with each reply to which the capture holds no question,
	// and with the open question of the same client that it would fit but for its ID
	// or its source; nil without one.
	Unsolicited func(m *capturedMessage, e *envelope, fits *Transaction)
	// Revised is called with an exchange that was emitted before, when more has come of
	// it: it was repeated, or answered otherwise too. It holds no reply then; nil: nobody.
	Revised func(*Transaction)
	// Unconnected is called with a TCP connection that was refused, or did not come about;
	// nil: nobody.
	Unconnected func(*attempt)
	// Soon is called with an exchange when its reply comes, and when it has been waiting for
	// [Patience]; nil: nobody.
	Soon func(*Transaction)
	// Dropped counts questions given up because too many were open at once, and
	// Duplicates the packets that were captured twice.
	Dropped, Duplicates int

	numbered    int
	pairs       pairTable
	latest      recent[latest] // by latestKey
	now         int64          // of the capture
	due         int64          // when something is to be given up
	open, done  ring
	doneBytes   int // of the replies of the done ones
	settled     settledOnes
	free        []*Transaction
	rooms       []*relations // that are not in use
	spare       [][]byte     // room for replies
	connections connections
}

const (
	latestAsked = 1 << 13 // questions of clients that are remembered as the last ones, at the least
	buckets     = 1 << 12 // in which what waits for a reply is looked for, at first
)

// newPairer returns a Pairer that hands its exchanges to emit.
func newPairer(emit func(*Transaction)) *pairer {
	p := &pairer{Emit: emit, pairs: pairTable{slots: make([]pairSlot, buckets)}}
	p.latest, p.settled.found = recentOf[latest](latestAsked), recentOf[uint32](settledKept)
	p.open.init()
	p.done.init()
	return p
}

// Message takes one DNS message, whose envelope and bytes have to stay where they are
// until [pairer.Keep]. It allocates nothing once as many pairs have been open as will ever
// be at once.
func (p *pairer) Message(m *capturedMessage, from *envelopes, at place) {
	if p.now = m.At; p.now > p.due || p.now < p.due-linger { // or the capture's time went back
		p.expire(p.now)
	}
	if m.is(isReply) {
		p.replied(m, from, at)
	} else {
		p.asked(m, from, at)
	}
}

func (p *pairer) asked(m *capturedMessage, from *envelopes, at place) {
	slot := p.pairs.place(m.hash)
	pair := slot.pair
	if pair == nil {
		pair = p.revive(slot, m, from, at)
	}
	if pair != nil {
		p.again(pair, m)
		return
	}
	p.numbered++
	pair = p.pairOf(slot, m, from, at)
	pair.question = m.says
	pair.begins = m.begins
	pair.of, pair.hops, pair.size = m.asked()
	pair.Number, pair.First = p.numbered, Try{m.Number, m.At}
	p.open.add(pair)
	if m.is(isAlone) { // a server recorded it, and records no replies
		pair.outcome = exchange.Open
		p.finish(pair)
		return
	}
	if pair.client != nobody4 && pair.client != nobody6 {
		p.relate(pair)
	}
	if m.is(isWaited) {
		p.related(pair).waited = true
	}
	if pair.isTransfer() {
		p.related(pair) // for more than one message may come
	}
	if p.open.size > maxOpen {
		p.Dropped++
		p.finish(p.open.oldest())
	}
}

// pairOf is a new pair for a message, to be found by it, for which there is a free slot.
func (p *pairer) pairOf(slot *pairSlot, m *capturedMessage, from *envelopes, at place) *Transaction {
	pair := p.fresh()
	pair.hash, pair.name, pair.client, pair.server = m.hash, m.name, m.client, m.server
	pair.tcp, pair.sealed, pair.from, pair.asked, pair.state = m.is(isTCP), m.is(isSealed), from, at, waiting
	p.pairs.add(pair, slot)
	return pair
}

// keep makes the envelope the pair's own, with a copy of the bytes that it speaks of.
func (p *Transaction) keep() {
	e := p.unpackQuestion()
	message := e.message.Bytes()
	e.message = e.message.Over(append(p.room, message[:min(len(message), maxQuery)]...))
	p.room = e.message.Bytes()[:0]
	p.from = nil
	p.size = uint8(e.message.NameSize()) // 0 where the copy was cut within many questions
}

// Keep makes the pairer independent of all messages that it was given from there: call it
// before they go. Most have been answered by then, if later ones were given too.
func (p *pairer) Keep(from *envelopes) {
	for pair := p.open.head.previous; pair.from != nil; pair = pair.previous { // those before it were kept before
		if pair.from == from {
			pair.keep()
		}
	}
}

// again is a question's packet seen once more: captured twice, going round in a
// loop, or sent again by its client.
func (p *pairer) again(pair *Transaction, m *capturedMessage) {
	if pair.tcp {
		return
	}
	r := p.related(pair)
	seen := max(r.seen, pair.First.At)
	_, hops, _ := m.asked()
	if hops < pair.hops {
		r.Copies, r.falling = r.Copies+1, true
	} else if gap := m.At - seen; gap <= oneMoment && gap >= 0 {
		r.Copies++
	} else if len(r.again) < maxTries-1 {
		r.again = append(r.again, Try{m.Number, m.At})
	}
	r.seen, pair.hops, r.waited = m.At, hops, m.is(isWaited)
}

func (p *pairer) replied(m *capturedMessage, from *envelopes, at place) {
	slot := p.pairs.place(m.hash)
	pair := slot.pair
	if pair == nil {
		if pair = p.revive(slot, m, from, at); pair == nil {
			e := from.of(at)
			if !e.message.HasQuestion() {
				if pair = p.unquestioned(e.id, e.Client, e.Server, m.At); pair == nil && m.is(isTCP) {
					pair = p.transfer(&e)
				}
			}
			if pair == nil {
				p.unsolicited(m, &e)
				return
			}
		}
	}
	if pair.Answered() && pair.isTransfer() {
		p.goesOn(pair, m)
		return
	}
	if pair.Answered() {
		p.repliedAgain(pair, m, from.of(at).message)
		return
	}
	pair.Received, pair.ReceivedIn, pair.Cut, pair.Torn = m.At, m.Number, m.is(isCut), m.is(isTorn)
	pair.kind, pair.says, pair.ttl, pair.ages, pair.signed, pair.state = m.kind, m.says, m.detail, m.is(isAging), m.is(isSigned), replied
	pair.gotFrom, pair.got = from, at
	if m.kind == exchange.Unusual {
		pair.outcome = from.of(at).outcome
	}
	p.soon(pair)
	if m.kind != exchange.Unusual && p.done.size >= maxDone && pair.ordinary() {
		p.settle(pair)
		return
	}
	p.open.remove(pair)
	p.remember(pair)
}

// isTransfer reports whether a zone is asked for, which may come in many messages.
func (p *Transaction) isTransfer() bool { return p.of.IsTransfer() && p.tcp }

// transfer finds the zone transfer that a message without a question belongs to: only the
// first needs one (RFC 5936 §2.2.1).
func (p *pairer) transfer(e *envelope) *Transaction {
	n := 0
	for pair := p.done.head.previous; pair != &p.done.head && n < maxNewest; pair = pair.previous {
		if n++; pair.isTransfer() && pair.Client() == e.Client && pair.Server() == e.Server && pair.unpackQuestion().id == e.id {
			return pair
		}
	}
	return nil
}

// goesOn takes a further message of a zone transfer.
func (p *pairer) goesOn(pair *Transaction, m *capturedMessage) {
	r := p.related(pair)
	r.Parts, r.LastIn, r.LastAt = r.Parts+1, m.Number, m.At
	p.done.remove(pair)
	p.done.add(pair) // it waits for the next as if it had just been answered
}

// remember keeps an answered exchange whole, and the oldest makes room where there is none.
func (p *pairer) remember(pair *Transaction) {
	reply := pair.unpackReply()
	if pair.from != nil {
		pair.keep()
	}
	var room []byte
	if n := len(p.spare); n > 0 {
		room, p.spare = p.spare[n-1], p.spare[:n-1]
	} else {
		room = make([]byte, 0, 512)
	}
	pair.kept = append(room, reply.Bytes()...)
	pair.reply = reply.Over(pair.kept)
	p.done.add(pair)
	p.doneBytes += len(reply.Bytes())
	for p.done.size > maxDone || p.doneBytes > maxDoneBytes {
		p.crowdOut(p.done.oldest())
	}
}

// unquestioned finds the open question that a reply without a question section
// answers: a server that could not read it need not repeat it.
func (p *pairer) unquestioned(id uint16, client, server capture.Endpoint, at int64) *Transaction {
	for pair := range p.newest(at) {
		if e := pair.unpackQuestion(); e.id == id && e.Client == client && e.Server == server {
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
func (p *pairer) newest(at int64) iter.Seq[*Transaction] {
	return func(yield func(*Transaction) bool) {
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
func (p *pairer) repliedAgain(pair *Transaction, m *capturedMessage, reply wire.View) {
	if bytes.Equal(pair.unpackReply().Bytes(), reply.Bytes()) || pair.state == revived && pair.says == m.says {
		if m.At-pair.Received <= oneMoment {
			p.Duplicates++
		} else if pair.Asked() > 1 {
			p.related(pair).twice = true
		}
		return
	}
	// Of one that was emitted the reply is not there any more, but what it said.
	if !pair.Related().differs && pair.says != cutShort && m.says != cutShort && (pair.says != m.says || pair.unpackReply().AnswerSum() != reply.AnswerSum()) {
		r := p.related(pair)
		r.OtherIn, r.differs = m.Number, true
	}
}

// unsolicited is a reply that answers no question of the capture.
func (p *pairer) unsolicited(m *capturedMessage, e *envelope) {
	asked := e.message.Hashes()
	var fits *Transaction
	if last := p.latest.find(latestKey(asked.Type, asked.Name, asked.Question, m.client)); last != nil {
		fits = *last.of(asked.Type)
	}
	if fits != nil && (fits.state == free || fits.Answered() || fits.question != asked.Question || fits.client != m.client) {
		fits = nil
	}
	if fits != nil {
		p.related(fits).Guesses++
	}
	if p.Unsolicited != nil {
		p.Unsolicited(m, e, fits)
	}
}

// UnreadReply takes a reply of which nothing but the header can be read: the capture cut it,
// or it is damaged.
func (p *pairer) UnreadReply(packet *capture.Packet) {
	pair := p.unquestioned(binary.BigEndian.Uint16(packet.Payload), packet.To, packet.From, packet.At)
	if pair == nil {
		return
	}
	if pair.outcome, pair.Cut = exchange.Rejection, packet.Cut; packet.Cut {
		pair.outcome = exchange.CutOff
	}
	p.related(pair).UnreadIn = packet.Number
}

// Forbidden takes an ICMP error that quotes a packet of a question.
func (p *pairer) Forbidden(packet *capture.Packet) {
	for pair := range p.newest(packet.At) {
		if e := pair.unpackQuestion(); e.Client == packet.From && e.Server == packet.To && pair.Related().Forbidden == nil &&
			(len(packet.Payload) < 2 || binary.BigEndian.Uint16(packet.Payload) == e.id) {
			r := p.related(pair)
			r.Forbidden, r.ReportIn = packet.Report, packet.Number
			return
		}
	}
}

// expire gives up questions that are older than the window, and forgets answers
// that nothing more will come of. What comes from now on is not due before linger.
func (p *pairer) expire(now int64) {
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
		if end := max(oldest.Received, oldest.Related().LastAt) + linger; now <= end {
			p.due = min(p.due, end)
			break
		}
		p.finish(oldest)
	}
}

func (p *pairer) finish(pair *Transaction) {
	p.pairs.remove(pair)
	if pair.Answered() {
		if pair.outcome == exchange.Truncated && !pair.Related().After.TCP {
			p.related(pair).Connection = p.connections.after(pair, p.now)
		}
		p.done.remove(pair)
		p.doneBytes -= len(pair.kept)
	} else {
		p.open.remove(pair)
		pair.giveUp(p.now)
	}
	if r := pair.rel; r != nil && r.Copies > 0 && !pair.Looped() {
		p.Duplicates += r.Copies
	}
	if pair.state != revived {
		p.Emit(pair)
	} else if p.Revised != nil && pair.rel != nil {
		p.Revised(pair)
	}
	p.drop(pair)
}

// drop makes the pair ready for another question.
func (p *pairer) drop(pair *Transaction) {
	if pair.sibling != nil {
		pair.part()
	}
	if pair.kept != nil || pair.rel != nil {
		p.empty(pair)
	}
	pair.reset()
	p.free = append(p.free, pair)
}

// empty takes from a pair what few have, for others that need it.
func (p *pairer) empty(pair *Transaction) {
	if pair.kept != nil {
		if cap(pair.kept) <= maxSpare {
			p.spare = append(p.spare, pair.kept[:0])
		}
		pair.kept = nil
	}
	if r := pair.rel; r != nil {
		*r = relations{again: r.again[:0]}
		p.rooms, pair.rel = append(p.rooms, r), nil
	}
}

// loopCopies is how many copies at one moment are no accident of the capture.
const loopCopies = 4

// Looped reports whether the question's packet went round in a loop.
func (p *Transaction) Looped() bool {
	return p.rel != nil && (p.rel.falling || p.rel.Copies >= loopCopies)
}

func (p *pairer) fresh() *Transaction {
	if n := len(p.free); n > 0 {
		pair := p.free[n-1]
		p.free = p.free[:n-1]
		return pair
	}
	several := make([]Transaction, pairsAtOnce)
	codes, room := make([]finding.Code, pairsAtOnce*usualCodes), make([]byte, pairsAtOnce*usualQuery)
	for i := range several {
		pair := &several[i]
		pair.Codes, codes = codes[:0:usualCodes], codes[usualCodes:]
		pair.room, room = room[:0:usualQuery], room[usualQuery:]
		if i > 0 {
			p.free = append(p.free, pair)
		}
	}
	return &several[0]
}

// pairsAtOnce lie side by side, each with room for what most of them hold.
const (
	pairsAtOnce = 16
	usualCodes  = 2
	usualQuery  = 64 // bytes
)

// Close gives up what is still open, in the order of the capture.
func (p *pairer) Close() {
	for p.done.size > 0 {
		p.finish(p.done.oldest())
	}
	for p.open.size > 0 {
		p.finish(p.open.oldest())
	}
	for i := range p.connections.ring {
		p.forget(&p.connections.ring[i])
	}
}
