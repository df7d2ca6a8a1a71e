package conversation

import (
	"time"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// lately is a question that was asked lately, and a part of the hash that it is found by: so that most
// that are not meant need not be looked at.
type lately struct {
	pair *Transaction
	mark uint32
}

// take puts a question there, and returns the one that was there if it may be of the same hash; nil: it is not.
func (l *lately) take(pair *Transaction, hash uint64) (before *Transaction) {
	mark := uint32(hash >> 32)
	if l.mark == mark {
		before = l.pair
	}
	l.pair, l.mark = pair, mark
	return before
}

// latest is the question that a client asked last for a name, and where an exchange is whose other half may
// be asked yet.
type latest struct {
	lately
	at   uint32 // among the settled ones
	half uint64 // halfKey of that
}

// relate ties a new question to what its client asked for the same name before.
func (p *pairer) relate(pair *Transaction) {
	pair.about = uint16((pair.name ^ pair.client) % buckets)
	half := p.latest[pair.about].take(pair, pair.name^pair.client)
	if half.other(pair) && half.name == pair.name && half.client == pair.client && half.server == pair.server &&
		pair.First.At-half.First.At <= pairWithin && addressTypes(half.of, pair.of) && half.isSingle() {
		half.part()
		pair.sibling, half.sibling = half, pair
	} else {
		pair.half = p.settledHalf(pair)
	}
	wants := pair.question ^ pair.client
	if before := p.wanted[wants%buckets].take(pair, wants); before.other(pair) && before.question == pair.question && before.client == pair.client {
		p.askedBefore(pair, before)
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
// itself: a dropped pair stays in those tables until another takes its place.
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
