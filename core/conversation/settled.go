package conversation

import (
	"time"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// In a busy capture most exchanges are settled as soon as their reply comes: they are
// emitted while all of them is in the processor's cache, and what is left is small. Should
// more come of one, that is enough to take it up again.

// settled is what is left of an exchange that was emitted while more could come of it. It
// is one line of the processor's cache.
type settled struct {
	hash         uint64 // of all that ties a message to it; 0: it was taken up again
	sent, ended  int64
	number       int
	packet, last int // that asked, and that answered
	says         uint64
	of           wire.Type
	good         bool
	hops         uint8
	told         told
}

// settledOnes are the last of them, in turn: they are written one after the other. What
// finds them is small, so that most look-ups end in the processor's cache.
type settledOnes struct {
	ring  [settledKept]settled
	count uint32         // how many there were
	found recent[uint32] // where a hash was last seen, by how many there were before
}

// settledKept is how many of them there are: those of five seconds, up to that many.
const settledKept = 1 << 12

// at returns one of them by how many there were before it; nil: it is forgotten.
func (all *settledOnes) at(n uint32) *settled {
	if all.count-n-1 >= settledKept {
		return nil
	}
	return &all.ring[n%settledKept]
}

// told is what was said already of an exchange that is taken up again.
type told uint8

const (
	toldLooped told = 1 << iota
	toldRepeated
	toldDiffers
)

// ordinary reports whether an answered exchange is like nearly all are: nothing is to be
// said of it, or only that there is no such name.
func (p *Transaction) ordinary() bool {
	return p.rel == nil && p.kind != exchange.Unusual && !p.Cut && time.Duration(p.Received-p.First.At) < slowLeast
}

// settle emits an ordinary exchange whose reply has just come.
func (p *pairer) settle(pair *Transaction) {
	p.pairs.remove(pair)
	p.open.remove(pair)
	p.Emit(pair)
	p.leave(pair, 0)
	p.drop(pair)
}

// leave notes what is left of an exchange.
func (p *pairer) leave(pair *Transaction, t told) {
	all := &p.settled
	at := all.count
	all.count++
	all.found.put(pair.hash, at)
	s := &all.ring[at%settledKept]
	s.hash, s.sent, s.ended, s.number, s.packet, s.last = pair.hash, pair.First.At, pair.Received, pair.Number, pair.First.Packet, pair.ReceivedIn
	s.says, s.of, s.hops, s.told = pair.says, pair.of, pair.hops, t
	if (pair.of == wire.A || pair.of == wire.AAAA) && pair.sibling == nil && pair.half.Number == 0 && pair.state != revived {
		s.good = pair.Outcome().Good()
		if l := p.latest.find(pair.name ^ pair.client); l != nil {
			l.half, l.at = halfKey(pair), at
		}
	}
}

// crowdOut makes room among the exchanges that are remembered whole.
func (p *pairer) crowdOut(pair *Transaction) {
	r, said := pair.Related(), pair.told
	if pair.Looped() {
		said |= toldLooped
	}
	if len(r.again) > 0 {
		said |= toldRepeated
	}
	if r.differs {
		said |= toldDiffers
	}
	p.leave(pair, said)
	p.finish(pair)
}

// halfKey is what both halves have in common.
func halfKey(p *Transaction) uint64 { return wire.Mix(p.name, p.client^p.server) }

// settledHalf is the other half of a pair that has just been asked, where that is settled.
func (p *pairer) settledHalf(pair *Transaction, l *latest) Half {
	if l.half != halfKey(pair) {
		return Half{}
	}
	s := p.settled.at(l.at)
	if s == nil || pair.First.At-s.sent > pairWithin || !addressTypes(s.of, pair.of) {
		return Half{}
	}
	return Half{s.number, s.good, time.Duration(s.ended - s.sent)}
}

// revive takes up an exchange again of which more has come: a message that belongs to
// it, and for which there is a free slot. nil: there is none.
func (p *pairer) revive(slot *pairSlot, m *capturedMessage, from *envelopes, at place) *Transaction {
	last := p.settled.found.find(m.hash)
	if last == nil {
		return nil
	}
	s := p.settled.at(*last)
	if s == nil || s.hash != m.hash || m.At-s.ended > linger {
		return nil
	}
	pair := p.pairOf(slot, m, from, at)
	pair.Number, pair.hops, pair.First = s.number, s.hops, Try{s.packet, s.sent}
	pair.Received, pair.ReceivedIn, pair.says, pair.state, pair.told = s.ended, s.last, s.says, revived, s.told
	pair.begins, pair.question, pair.of, pair.size = 0, 0, s.of, 0
	pair.gotFrom, pair.reply = nil, wire.View{}
	pair.keep()
	s.hash = 0
	p.remember(pair)
	return pair
}
