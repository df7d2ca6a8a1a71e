package conversation

import (
	"time"

	"unquil/core/wire"
)

// In a busy capture most exchanges are settled as soon as their reply comes: they are
// emitted while all of them is in the processor's cache, and what is left is small. Should
// more come of one, that is enough to take it up again.

// settled is what is left of an exchange that was emitted while more could come of it.
// Each is put somewhere else, so it is one line of the processor's cache.
type settled struct {
	hash         uint64 // of all that ties a message to it; 0: nothing
	sent, ended  int64
	number       int
	packet, last int // that asked, and that answered
	says         uint64
	hops         uint8
	told         told
}

// told is what was said already of an exchange that is taken up again.
type told struct{ looped, repeated, differs bool }

// ordinary reports whether an answered exchange is like nearly all are: nothing is to be
// said of it, or only that there is no such name.
func (p *Pair) ordinary() bool {
	return p.rel == nil && p.kind != unusual && !p.Cut && time.Duration(p.Received-p.First.At) < slowLeast
}

// settle emits an ordinary exchange whose reply has just come.
func (p *Pairer) settle(pair *Pair) {
	p.lose(pair)
	p.open.remove(pair)
	p.Emit(pair)
	p.leave(pair, told{})
	p.drop(pair)
}

// leave notes what is left of an exchange.
func (p *Pairer) leave(pair *Pair, t told) {
	at := pair.hash % marks
	p.marked[at] = uint32(pair.hash >> 32)
	s := &p.settled[at]
	s.hash, s.sent, s.ended, s.number, s.packet, s.last = pair.hash, pair.First.At, pair.Received, pair.Number, pair.First.Packet, pair.ReceivedIn
	s.says, s.hops, s.told = pair.says, pair.hops, t
	if (pair.of == wire.A || pair.of == wire.AAAA) && pair.twin == nil && pair.half.Number == 0 && !pair.emitted {
		p.halves[pair.about] = settledHalf{halfKey(pair), pair.First.At, pair.of, pair.asHalf()}
	}
}

// crowdOut makes room among the exchanges that are remembered whole.
func (p *Pairer) crowdOut(pair *Pair) {
	r := pair.Related()
	p.leave(pair, told{pair.told.looped || pair.Looped(), pair.told.repeated || len(r.again) > 0, pair.told.differs || r.differs})
	p.finish(pair)
}

// settledHalf is a settled exchange whose other half may be asked yet.
type settledHalf struct {
	key  uint64
	sent int64
	of   wire.Type
	Half
}

// halfKey is what both halves have in common.
func halfKey(p *Pair) uint64 { return mix(p.name, p.client^p.server) }

// settledHalf is the other half of a pair that has just been asked, where that is settled.
func (p *Pairer) settledHalf(pair *Pair) Half {
	h := &p.halves[pair.about]
	if h.Number == 0 || h.key != halfKey(pair) || pair.First.At-h.sent > pairWithin || !addressTypes(h.of, pair.of) {
		return Half{}
	}
	return h.Half
}

// revive takes up an exchange again of which more has come: a message that belongs to
// it. nil: there is none.
func (p *Pairer) revive(m *Message, from *envelopes, at place) *Pair {
	if p.marked[m.hash%marks] != uint32(m.hash>>32) {
		return nil
	}
	s := &p.settled[m.hash%marks]
	if s.hash != m.hash || s.number == 0 || m.At-s.ended > linger {
		return nil
	}
	pair := p.pairOf(m, from, at)
	pair.Number, pair.hops, pair.First = s.number, s.hops, Try{s.packet, s.sent}
	pair.Received, pair.ReceivedIn, pair.says, pair.answered, pair.emitted, pair.told = s.ended, s.last, s.says, true, true, s.told
	pair.about, pair.wants, pair.question, pair.of, pair.size = 0, 0, 0, 0, 0
	pair.gotFrom, pair.reply = nil, wire.View{}
	pair.keep()
	s.number = 0
	p.remember(pair)
	return pair
}
