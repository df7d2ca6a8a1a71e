// Package conversation pairs the packets of a capture to exchanges and judges
// them.
package conversation

import (
	"net/netip"
	"time"

	"unquil/core/capture"
	"unquil/core/exchange"
	"unquil/core/wire"
)

// Bounds on what waits for a reply. Beyond them the oldest question counts as
// unanswered; how often that happened is told.
const (
	window     = int64(60 * time.Second) // in the capture's own time
	maxPending = 1 << 18
	maxTries   = 64 // packets kept of one question asked again and again
)

// Pair is one question and its reply, if there was one. It is good until the
// callback it was handed to returns: [Pair.Exchange] makes a copy to keep.
type Pair struct {
	Number         int // of the question, from 1, in the order of the capture
	Client, Server netip.AddrPort
	Query          []byte // of the first try
	Sent           []Try  // every time the question was sent
	Reply          []byte // nil without one
	ReceivedIn     int    // the reply's packet number
	Received       int64  // nanoseconds since 1970 UTC
	view           wire.View
	reply          wire.View
	key            key
	next, previous *Pair
}

// Try is one packet that asked.
type Try struct {
	Packet int
	At     int64
}

// Outcome is how the exchange ended.
func (p *Pair) Outcome() exchange.Outcome {
	if p.Reply == nil {
		return exchange.NoReply
	}
	return exchange.JudgeView(p.reply)
}

// Took is the time from the last question to the reply; 0 without one.
func (p *Pair) Took() time.Duration {
	if p.Reply == nil {
		return 0
	}
	return time.Duration(p.Received - p.Sent[len(p.Sent)-1].At)
}

// Exchange returns the pair as an exchange that owns what it holds.
func (p *Pair) Exchange() exchange.Exchange {
	e := exchange.Exchange{
		Number: p.Number, Client: p.Client, Outcome: p.Outcome(),
		Server: exchange.Server{Address: p.Server, Transport: exchange.UDP},
	}
	query := append([]byte(nil), p.Query...)
	if m, err := wire.ReadMessage(query); err == nil && len(m.Questions) > 0 {
		e.Question = m.Questions[0]
	}
	for _, try := range p.Sent {
		e.Attempts = append(e.Attempts, exchange.Attempt{Transport: exchange.UDP, Local: p.Client, Query: query,
			Sent: time.Unix(0, try.At).UTC(), SentIn: try.Packet})
	}
	if p.Reply != nil {
		last := &e.Attempts[len(e.Attempts)-1]
		last.Reply = append([]byte(nil), p.Reply...)
		last.Received, last.ReceivedIn = time.Unix(0, p.Received).UTC(), p.ReceivedIn
		m, err := wire.ReadMessage(last.Reply)
		e.Reply, e.Err = &m, err
		if err == nil {
			e.Outcome = exchange.Judge(e.Question, e.Reply)
		}
	}
	return e
}

// key is what ties a reply to its question; the name itself is compared too.
type key struct {
	client, server netip.AddrPort
	hash           uint64
	id             uint16
}

// Pairer pairs messages to exchanges. Give it the packets in the order of the
// capture, then call Close.
type Pairer struct {
	// Emit is called once for each exchange: with its reply, or once it is
	// clear that there is none.
	Emit func(*Pair)

	// Unsolicited counts replies to which the capture holds no question, and
	// Dropped the questions given up because too many were open at once.
	Unsolicited, Dropped int

	numbered int
	open     map[key]*Pair
	oldest   Pair // a ring: oldest.next is the oldest open pair, oldest.previous the newest
	free     []*Pair
}

// NewPairer returns a Pairer that hands its exchanges to emit.
func NewPairer(emit func(*Pair)) *Pairer {
	p := &Pairer{Emit: emit, open: map[key]*Pair{}}
	p.oldest.next, p.oldest.previous = &p.oldest, &p.oldest
	return p
}

// Message takes one DNS message. It allocates nothing once as many pairs have
// been open as will ever be at once.
func (p *Pairer) Message(packet *capture.Packet, view wire.View) {
	p.expire(packet.At)
	if view.Flags().Has(wire.QR) {
		p.replied(packet, view)
	} else {
		p.asked(packet, view)
	}
}

func (p *Pairer) asked(packet *capture.Packet, view wire.View) {
	k := key{packet.From, packet.To, view.QuestionHash(), view.ID()}
	try := Try{packet.Number, packet.At}
	if pair := p.open[k]; pair != nil && pair.view.SameQuestion(view) {
		if len(pair.Sent) < maxTries {
			pair.Sent = append(pair.Sent, try)
		}
		return
	}
	pair := p.fresh()
	p.numbered++
	pair.Number, pair.key, pair.Client, pair.Server = p.numbered, k, packet.From, packet.To
	pair.Sent = append(pair.Sent, try)
	pair.Query = append(pair.Query, packet.Payload...)
	// The view has to lie over the copy, since the packet's bytes are not ours.
	pair.view, _ = wire.ReadView(pair.Query)
	if old := p.open[k]; old != nil {
		p.finish(old)
	}
	p.open[k] = pair
	pair.previous, pair.next = p.oldest.previous, &p.oldest
	pair.previous.next, pair.next.previous = pair, pair
	if len(p.open) > maxPending {
		p.Dropped++
		p.finish(p.oldest.next)
	}
}

func (p *Pairer) replied(packet *capture.Packet, view wire.View) {
	pair := p.open[key{packet.To, packet.From, view.QuestionHash(), view.ID()}]
	if pair == nil || !pair.view.SameQuestion(view) {
		p.Unsolicited++
		return
	}
	pair.Reply, pair.reply, pair.Received, pair.ReceivedIn = packet.Payload, view, packet.At, packet.Number
	p.finish(pair)
}

// expire gives up questions that are older than the window.
func (p *Pairer) expire(now int64) {
	for oldest := p.oldest.next; oldest != &p.oldest && now-oldest.Sent[len(oldest.Sent)-1].At > window; oldest = p.oldest.next {
		p.finish(oldest)
	}
}

func (p *Pairer) finish(pair *Pair) {
	delete(p.open, pair.key)
	pair.previous.next, pair.next.previous = pair.next, pair.previous
	p.Emit(pair)
	*pair = Pair{Query: pair.Query[:0], Sent: pair.Sent[:0]}
	p.free = append(p.free, pair)
}

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
	for p.oldest.next != &p.oldest {
		p.finish(p.oldest.next)
	}
}
