package conversation

import (
	"bytes"
	"encoding/binary"
	"net/netip"

	"unquil/core/capture"
	"unquil/core/exchange"
	"unquil/core/wire"
)

const spread = 0x9e3779b97f4a7c15

// hash mixes what ties a reply to its question: the ends, the transport, the ID and
// the question.
// The ends are given by the hashes of their addresses, and their ports.
func hash(client, server uint64, clientPort, serverPort uint16, question uint64, id uint16, tcp bool) uint64 {
	h := question ^ uint64(id)<<48 ^ uint64(clientPort)<<16 ^ uint64(serverPort)
	h = mix(mix(h, client), server)
	if tcp {
		h = ^h
	}
	return h
}

// mix takes one hash into another.
func mix(h, into uint64) uint64 {
	h = (h ^ into) * spread
	return h ^ h>>29
}

// hashAddress is worked out once for each end of a message: much is found by it.
func hashAddress(a netip.Addr) uint64 {
	if a.Is4() {
		b := a.As4()
		return mix(uint64(binary.LittleEndian.Uint32(b[:])), spread)
	}
	b := a.As16()
	return mix(mix(binary.LittleEndian.Uint64(b[8:]), spread), binary.LittleEndian.Uint64(b[:8]))
}

// Message is one DNS message as it was found in a capture.
type Message struct {
	Packet   capture.Packet
	View     wire.View
	name     uint64 // hash of the question's name
	question uint64 // and of the whole question
	from, to uint64 // and of the addresses of its ends
}

// NewMessage reads the message that a packet carries. The error is a *wire.ParseError.
func NewMessage(p *capture.Packet) (m Message, err error) {
	m.Packet = *p
	err = m.read()
	return m, err
}

// read reads the message in place.
func (m *Message) read() (err error) {
	if m.View, err = wire.ReadView(m.Packet.Payload); err != nil {
		return err
	}
	if q := m.View.QuestionBytes(); len(q) > 4 && q[len(q)-5] != 0 {
		return &wire.ParseError{Field: "QNAME", Offset: 12, Err: wire.ErrPointer} // there is nothing before it to point at
	}
	m.name, m.question = m.View.QuestionHashes()
	m.from, m.to = hashAddress(m.Packet.From.Addr()), hashAddress(m.Packet.To.Addr())
	return nil
}

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
	// Lends says that exchanges stay in use after Emit: each has to be given back
	// with Free.
	Lends bool
	// Unsolicited is called with each reply to which the capture holds no question,
	// and with the open question of the same client that it would fit but for its ID
	// or its source; nil without one.
	Unsolicited func(m *Message, fits *Pair)
	// Dropped counts questions given up because too many were open at once, and
	// Duplicates the packets that were captured twice.
	Dropped, Duplicates int

	numbered   int
	pairs      [buckets]*Pair // by hash, chained through same
	latest     [buckets]*Pair // by client and name: what was asked last; another's takes its place
	wanted     [buckets]*Pair // by client and question, the same
	now        int64          // of the capture
	open, done ring
	doneBytes  int // of the replies of the done ones
	free       []*Pair
}

// buckets is the size of the tables that pairs are found by: plain arrays, which
// cost less than a map, and fit the processor's cache.
const buckets = 1 << 14

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
	p.now = m.Packet.At
	p.expire(p.now)
	if m.View.Flags().Has(wire.QR) {
		p.replied(m)
	} else {
		p.asked(m)
	}
}

func (p *Pairer) find(hash uint64, client, server netip.AddrPort, m *Message) *Pair {
	pair := p.pairs[hash%buckets]
	for pair != nil && (pair.hash != hash || pair.id != m.View.ID() || pair.question != m.question || pair.TCP != m.Packet.TCP ||
		pair.Client != client || pair.Server != server || !pair.view.SameQuestion(m.View)) {
		pair = pair.same
	}
	return pair
}

func (p *Pairer) asked(m *Message) {
	hash := hash(m.from, m.to, m.Packet.From.Port(), m.Packet.To.Port(), m.question, m.View.ID(), m.Packet.TCP)
	if pair := p.find(hash, m.Packet.From, m.Packet.To, m); pair != nil {
		p.again(pair, &m.Packet)
		return
	}
	pair := p.fresh()
	p.numbered++
	pair.Number, pair.id, pair.name, pair.question, pair.hash, pair.Client, pair.Server, pair.TCP = p.numbered, m.View.ID(), m.name, m.question, hash, m.Packet.From, m.Packet.To, m.Packet.TCP
	pair.Sent = append(pair.Sent, Try{m.Packet.Number, m.Packet.At})
	pair.seen, pair.hops, pair.clientHash, pair.serverHash = m.Packet.At, m.Packet.Hops, m.from, m.to
	pair.Query = append(pair.Query, m.Packet.Payload[:min(len(m.Packet.Payload), maxQuery)]...)
	// The view has to lie over the copy, since the packet's bytes are not ours.
	pair.view = m.View.Over(pair.Query)
	pair.same = p.pairs[hash%buckets]
	p.pairs[hash%buckets] = pair
	p.open.add(pair)
	p.relate(pair, m)
	if p.open.size > maxOpen {
		p.Dropped++
		p.finish(p.open.oldest())
	}
}

// again is a question's packet seen once more: captured twice, going round in a
// loop, or sent again by its client.
func (p *Pairer) again(pair *Pair, packet *capture.Packet) {
	gap := packet.At - pair.seen
	switch {
	case pair.TCP:
		return
	case packet.Hops < pair.hops:
		pair.Copies, pair.Falling = pair.Copies+1, true
	case gap <= oneMoment && gap >= 0:
		pair.Copies++
	default:
		if len(pair.Sent) < maxTries {
			pair.Sent = append(pair.Sent, Try{packet.Number, packet.At})
		}
	}
	pair.seen, pair.hops = packet.At, packet.Hops
}

// relate ties a new question to what its client asked for the same name before.
func (p *Pairer) relate(pair *Pair, m *Message) {
	client := pair.Client.Addr()
	pair.about, pair.wants = mix(m.name, m.from), mix(m.question, m.from)
	half := p.latest[pair.about%buckets]
	p.latest[pair.about%buckets] = pair
	if half != nil && half.about == pair.about && half.Client.Addr() == client && half.Server == pair.Server &&
		pair.Sent[0].At-half.Sent[0].At <= pairWithin && addressTypes(half.view.QType(), pair.view.QType()) {
		pair.related().Half, half.related().Half = half.link(), pair.link()
		pair.twin, half.twin = half, pair
	}
	before := p.wanted[pair.wants%buckets]
	p.wanted[pair.wants%buckets] = pair
	if before == nil || before.wants != pair.wants || before.Client.Addr() != client || !before.view.SameQuestion(pair.view) {
		return
	}
	outcome := before.Outcome()
	if before.Reply == nil {
		before.outcome = ""
	}
	if !outcome.Good() && outcome != exchange.Referral {
		pair.related().Before, before.related().After = before.link(), pair.link()
	}
}

func addressTypes(a, b wire.Type) bool {
	return a == wire.A && b == wire.AAAA || a == wire.AAAA && b == wire.A
}

func (p *Pair) link() Link {
	l := Link{Number: p.Number, Server: p.Server, TCP: p.TCP, Sent: p.Sent[0].At}
	if p.Reply != nil {
		l.Ended, l.Outcome = p.Received, p.Outcome()
	}
	return l
}

func (p *Pairer) replied(m *Message) {
	pair := p.find(hash(m.to, m.from, m.Packet.To.Port(), m.Packet.From.Port(), m.question, m.View.ID(), m.Packet.TCP), m.Packet.To, m.Packet.From, m)
	if pair == nil {
		if !m.View.HasQuestion() {
			pair = p.unquestioned(m)
		}
		if pair == nil {
			p.unsolicited(m)
			return
		}
	}
	if pair.Reply != nil {
		p.repliedAgain(pair, m)
		return
	}
	pair.Reply, pair.spare = append(pair.spare[:0], m.Packet.Payload...), nil
	pair.reply = m.View.Over(pair.Reply)
	pair.Received, pair.ReceivedIn, pair.Cut, pair.Torn = m.Packet.At, m.Packet.Number, m.Packet.Cut, m.Packet.Torn
	pair.outcome, pair.done = "", true
	p.open.remove(pair)
	p.done.add(pair)
	if pair.twin != nil {
		pair.twin.related().Half = pair.link()
	}
	p.doneBytes += len(pair.Reply)
	for p.done.size > maxDone || p.doneBytes > maxDoneBytes {
		p.finish(p.done.oldest())
	}
}

// unquestioned finds the open question that a reply without a question section
// answers: a server that could not read it need not repeat it.
func (p *Pairer) unquestioned(m *Message) *Pair {
	for pair := p.open.head.previous; pair != &p.open.head; pair = pair.previous {
		if pair.id == m.View.ID() && pair.Client == m.Packet.To && pair.Server == m.Packet.From {
			return pair
		}
		if m.Packet.At-pair.Sent[0].At > linger {
			break
		}
	}
	return nil
}

// repliedAgain is a reply to a question that has one: captured twice, an answer to
// a question that was sent twice, or one that says something else.
func (p *Pairer) repliedAgain(pair *Pair, m *Message) {
	if bytes.Equal(pair.Reply, m.Packet.Payload) {
		if m.Packet.At-pair.Received <= oneMoment {
			p.Duplicates++
		}
		return
	}
	if pair.Related().Other == nil && !sameAnswer(pair.reply, m.View) {
		r := pair.related()
		r.Other, r.OtherIn, r.OtherAt = append([]byte(nil), m.Packet.Payload...), m.Packet.Number, m.Packet.At
	}
}

// sameAnswer reports whether two replies say the same but for TTLs and order.
func sameAnswer(a, b wire.View) bool {
	if a.Flags().RCode() != b.Flags().RCode() {
		return false
	}
	if a.Flags().Has(wire.TC) || b.Flags().Has(wire.TC) {
		return true // a cut one says nothing
	}
	return answerSum(a) == answerSum(b)
}

// answerSum adds up the answer's records, so that their order makes no difference.
func answerSum(v wire.View) (sum uint64) {
	c := v.Records()
	for c.Next() && c.Record.Section == wire.AnswerSection {
		h := uint64(c.Record.Type)
		for _, b := range c.Record.Data {
			h = (h ^ uint64(b)) * spread
		}
		sum += h ^ h>>31
	}
	return sum
}

// unsolicited is a reply that answers no question of the capture.
func (p *Pairer) unsolicited(m *Message) {
	fits := p.wanted[mix(m.question, m.to)%buckets]
	if fits != nil && (fits.done || fits.Client.Addr() != m.Packet.To.Addr() || !fits.view.SameQuestion(m.View)) {
		fits = nil
	}
	if fits != nil {
		fits.Guesses++
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

// Waited says of the question taken last that its asker gave it up.
func (p *Pairer) Waited(m *Message) {
	if pair := p.open.head.previous; pair != &p.open.head && pair.id == m.View.ID() && pair.Client == m.Packet.From {
		pair.waited = true
	}
}

// CutReply takes a reply of which the capture holds the header alone.
func (p *Pairer) CutReply(m *Message) {
	pair := p.unquestioned(m)
	if pair == nil {
		return
	}
	pair.outcome, pair.Cut = CutOff, true
	pair.related().OtherIn = m.Packet.Number
}

// Forbidden takes an ICMP error that quotes a packet of a question.
func (p *Pairer) Forbidden(packet *capture.Packet) {
	for pair := p.open.head.previous; pair != &p.open.head; pair = pair.previous {
		if pair.Client == packet.From && pair.Server == packet.To && pair.Related().Forbidden == nil &&
			(len(packet.Payload) < 2 || binary.BigEndian.Uint16(packet.Payload) == pair.id) {
			r := pair.related()
			r.Forbidden, r.ReportIn = packet.Report, packet.Number
			return
		}
		if packet.At-pair.Sent[0].At > linger {
			return
		}
	}
}

// expire gives up questions that are older than the window, and forgets answers
// that nothing more will come of.
func (p *Pairer) expire(now int64) {
	for p.open.size > 0 {
		oldest := p.open.oldest()
		if now-oldest.Sent[len(oldest.Sent)-1].At <= window {
			break
		}
		p.finish(oldest)
	}
	for p.done.size > 0 && now-p.done.oldest().Received > linger {
		p.finish(p.done.oldest())
	}
}

func (p *Pairer) finish(pair *Pair) {
	at := &p.pairs[pair.hash%buckets]
	for *at != pair {
		at = &(*at).same
	}
	*at = pair.same
	if p.latest[pair.about%buckets] == pair {
		p.latest[pair.about%buckets] = nil
	}
	if p.wanted[pair.wants%buckets] == pair {
		p.wanted[pair.wants%buckets] = nil
	}
	pair.same = nil
	if pair.done {
		p.done.remove(pair)
		p.doneBytes -= len(pair.Reply)
	} else {
		p.open.remove(pair)
	}
	if pair.Copies > 0 && !pair.Looped() {
		p.Duplicates += pair.Copies
	}
	if pair.twin != nil {
		pair.twin.twin, pair.twin = nil, nil
	}
	if pair.ended = p.now; pair.outcome == exchange.NoReply {
		pair.outcome = ""
	}
	p.Emit(pair)
	if !p.Lends {
		p.Free(pair)
	}
}

// Free takes an exchange back, to be used for another.
func (p *Pairer) Free(pair *Pair) {
	spare := pair.spare
	if pair.Reply != nil {
		spare = pair.Reply
	}
	if cap(spare) > maxSpare {
		spare = nil
	}
	// Only what a question does not set anew: a pair is large, and there are many.
	pair.Query, pair.Sent, pair.Codes, pair.spare = pair.Query[:0], pair.Sent[:0], pair.Codes[:0], spare[:0]
	pair.Reply, pair.reply, pair.relations, pair.outcome = nil, wire.View{}, nil, ""
	pair.ReceivedIn, pair.Received, pair.Cut, pair.Torn, pair.Copies, pair.Falling, pair.Guesses = 0, 0, false, false, 0, false, 0
	pair.ended, pair.done, pair.waited, pair.twin, pair.same = 0, false, false, nil, nil
	p.free = append(p.free, pair)
}

// loopCopies is how many copies at one moment are no accident of the capture.
const loopCopies = 4

// Looped reports whether the question's packet went round in a loop.
func (p *Pair) Looped() bool { return p.Falling || p.Copies >= loopCopies }

func (p *Pairer) fresh() *Pair {
	if n := len(p.free); n > 0 {
		pair := p.free[n-1]
		p.free = p.free[:n-1]
		return pair
	}
	return &Pair{}
}

// Close gives up what is still open, in the order of the capture.
func (p *Pairer) Close() {
	for p.done.size > 0 {
		p.finish(p.done.oldest())
	}
	for p.open.size > 0 {
		p.finish(p.open.oldest())
	}
}
