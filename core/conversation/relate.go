package conversation

import (
	"time"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// latest is what a client asked last for a name: for both address types, or for one other. With the address types goes
// where an exchange is whose other half may be asked yet.
type latest struct {
	asked [2]*Transaction // for A, and for AAAA; for any other type the first
	half  uint64          // halfKey of the exchange with a half to come
	at    uint32          // among the settled ones
}

// latestKey finds what a client asked last of a question.
func latestKey(t wire.Type, name, question, client uint64) uint64 {
	if t == wire.A || t == wire.AAAA {
		return name ^ client
	}
	return question ^ client
}

// of is where what was asked last for a type is.
func (l *latest) of(t wire.Type) **Transaction {
	if t == wire.AAAA {
		return &l.asked[1]
	}
	return &l.asked[0]
}

// relate ties a new question to what its client asked for the same name before.
func (p *pairer) relate(pair *Transaction) {
	about := p.latest.at(latestKey(pair.of, pair.name, pair.question, pair.client))
	switch pair.of {
	case wire.A:
		p.halve(pair, about.asked[1], about)
	case wire.AAAA:
		p.halve(pair, about.asked[0], about)
	}
	last := about.of(pair.of)
	before := *last
	*last = pair
	if before.other(pair) && before.question == pair.question && before.client == pair.client {
		p.askedBefore(pair, before)
	}
}

// halve ties a question for one address type to the one for the other, if its client asked the same server for that
// just before.
func (p *pairer) halve(pair, half *Transaction, about *latest) {
	if half.other(pair) && half.name == pair.name && half.client == pair.client && half.server == pair.server &&
		pair.First.At-half.First.At <= pairWithin && addressTypes(half.of, pair.of) && half.isSingle() {
		half.part()
		pair.sibling, half.sibling = half, pair
	} else {
		pair.half = p.settledHalf(pair, about)
	}
}

// patience is how long a client waits at the least before it tries again: what it asks
// sooner, it asks of several at once.
const patience = int64(100 * time.Millisecond)

// askedBefore ties a question to the same one that its client has asked before, unless
// that got what it asked for, or may yet.
func (p *pairer) askedBefore(pair, before *Transaction) {
	waits := !before.Answered() || before.Received > pair.First.At // which a file that is not in order shows
	if waits && pair.First.At-before.First.At < patience {
		return
	}
	if outcome := before.Outcome(); !outcome.Good() && outcome != exchange.Referral {
		p.related(pair).Before, p.related(before).After = before.link(), pair.link()
	}
}

// other reports whether a pair from a table of what was asked last is in use, and not p
// itself: a dropped pair stays in those tables until they forget it.
func (before *Transaction) other(p *Transaction) bool {
	return before != nil && before != p && before.Number != 0
}

// isSingle reports whether no other half was asked for, or that has waited in vain so far.
func (p *Transaction) isSingle() bool {
	return p.half.Number == 0 && (p.sibling == nil || !p.sibling.Answered())
}

// related makes room for what few exchanges have.
func (p *pairer) related(pair *Transaction) *relations {
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

func (p *Transaction) link() Link {
	l := Link{Number: p.Number, Server: p.Server(), TCP: p.tcp, Sent: p.First.At}
	if p.Answered() {
		l.Ended, l.Outcome = p.Received, p.Outcome()
	}
	return l
}
