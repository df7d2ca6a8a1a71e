package conversation

import (
	"slices"
	"time"

	"unquil/core/exchange"
	"unquil/core/finding"
)

// Live says what is wanted of captures that come about while they are read: their writers say
// now and then up to when they have listened ([capture.Reader.Clock]).
type Live struct {
	// Soon is called with an exchange as soon as its reply comes, and before that once when it
	// has been waiting for [Patience]: what is remarkable about it is not known yet. nil: nobody.
	Soon func(*Transaction)
	// Look is called after each part that was read, with what all came to so far: its counts,
	// and neither its findings nor what is told at the end. nil: nobody.
	Look func(*Overview)
}

// Patience is how long after its last packet a question that nobody answered is told of.
const Patience = 5 * time.Second

// soon hands an exchange to whoever wants to see it while it comes about.
func (p *pairer) soon(pair *Transaction) {
	if p.Soon != nil {
		p.Soon(pair)
	}
}

// tick takes the time up to which everything that was sent has come.
func (p *pairer) tick(now int64) {
	if now < p.now {
		return
	}
	p.now = now
	p.expire(now)
	if p.Soon == nil {
		return
	}
	for pair := p.open.oldest(); pair != &p.open.head && now-pair.First.At >= int64(Patience); pair = pair.next {
		if !pair.missed && now-pair.last().At >= int64(Patience) {
			pair.missed = true
			p.Soon(pair)
		}
	}
}

// Waits reports whether the exchange has no reply yet, and may still get one.
func (p *Transaction) Waits() bool { return p.state == waiting && p.outcome == "" }

// ID is the ID of the question.
func (p *Transaction) ID() uint16 { return p.unpackQuestion().id }

// TCP reports whether it was asked over a connection.
func (p *Transaction) TCP() bool { return p.tcp }

// Found reports whether something was found so far that is told by a code.
func (o *Overview) Found(code finding.Code) bool {
	return slices.ContainsFunc(o.groups.order, func(g *group) bool { return g.code == code }) ||
		slices.ContainsFunc(o.Findings, func(f finding.Finding) bool { return f.Code == code })
}

// count makes the counts that are kept in pieces whole.
func (o *Overview) count() {
	clear(o.Outcomes)
	for _, t := range o.tallies {
		o.Outcomes[t.outcome] = t.count
	}
	for k, n := range o.usual {
		if n > 0 {
			o.Outcomes[exchange.Usual(k).Outcome()] = n
		}
	}
}

// look shows what there is so far to whoever wants to see it. Nothing of it is counted by
// another goroutine then.
func (o *Overview) look(c *chunk, pairer *pairer) {
	if o.options.Live == nil {
		return
	}
	pairer.tick(c.clock)
	if o.options.Live.Look == nil {
		return
	}
	c.counts.count()
	o.count()
	o.Lost, o.Dropped, o.Duplicates = max(o.Lost, c.lost), pairer.Dropped, pairer.Duplicates
	o.options.Live.Look(o)
}
