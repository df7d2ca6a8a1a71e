package conversation

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"unquil/core/capture"
	"unquil/core/exchange"
	"unquil/core/finding"
)

// Bounds on the exchanges that an overview keeps.
const (
	maxKept      = 10_000
	maxKeptBytes = 12 << 20 // of their messages
)

// room counts exchanges that are kept, and the bytes of their messages.
type room struct{ count, bytes int }

// take reports whether there is room for one more exchange, and gives it.
func (r *room) take(bytes, most int) bool {
	if r.count >= most || r.bytes+bytes >= maxKeptBytes {
		return false
	}
	r.count, r.bytes = r.count+1, r.bytes+bytes
	return true
}

// full reports whether no exchange more has room, be it small.
func (r *room) full(most int) bool { return r.count >= most || r.bytes >= maxKeptBytes }

// keep keeps one exchange, while there is room.
func (o *Overview) keep(p *Transaction) {
	also := o.options.Also
	if also == nil && o.first.full(o.options.Keep) {
		o.NotKept++
		return
	}
	size := p.bytes()
	if !o.first.take(size, o.options.Keep) {
		wanted := also != nil && also(p)
		if !wanted || !o.also.take(size, max(o.options.Keep, maxKept)) {
			o.NotKept++
			if wanted {
				o.Missed++
			}
			return
		}
	}
	o.Kept = append(o.Kept, p.Exchange())
	o.Lines[p.Number] = p.Line()
}

// Fetch reads the same captures once more and keeps, of the exchanges that were only
// counted, those that are wanted, as far as [Options.Also] would. Their numbers are
// those of the first reading. The error is that of [Read].
func (o *Overview) Fetch(ctx context.Context, readers []*capture.Reader, wanted func(*Transaction) bool) error {
	options := o.options
	options.Choose, options.Each, options.Keep = nil, nil, -1
	options.Also = func(p *Transaction) bool {
		_, kept := o.Lines[p.Number]
		return !kept && wanted(p)
	}
	more, err := Read(ctx, readers, options)
	o.Kept = append(o.Kept, more.Kept...)
	maps.Copy(o.Lines, more.Lines)
	o.NotKept -= len(more.Kept)
	o.Missed += more.Missed
	o.sortKept()
	return err
}

func (o *Overview) sortKept() {
	slices.SortFunc(o.Kept, func(a, b exchange.Exchange) int { return cmp.Compare(a.Number, b.Number) })
}

// Find returns the exchange of a number; nil when it was not kept.
func (o *Overview) Find(number int) *exchange.Exchange {
	at, found := slices.BinarySearchFunc(o.Kept, number, func(e exchange.Exchange, n int) int { return cmp.Compare(e.Number, n) })
	if !found {
		return nil
	}
	return &o.Kept[at]
}

// Shows returns, for [Overview.Fetch], which exchanges show what was found and were not
// kept; nil when all were.
func (o *Overview) Shows() func(*Transaction) bool {
	var shows numbers
	for _, f := range o.Findings {
		for _, n := range f.Evidence {
			if _, kept := o.Lines[n]; !kept {
				shows.add(n)
			}
		}
	}
	if len(shows) == 0 {
		return nil
	}
	return func(p *Transaction) bool { return shows.has(p.Number) }
}

// followedWithin is how long after an exchange its client may ask for the alias.
const followedWithin = 10 * time.Second

// RelatedTo returns, for [Overview.Fetch], which exchanges e has to do with.
func (o *Overview) RelatedTo(e *exchange.Exchange) func(*Transaction) bool {
	line, alias := o.Lines[e.Number], e.Answer()
	return func(p *Transaction) bool {
		switch p.Number {
		case line.Before.Number, line.After.Number, line.Half.Number:
			return true
		}
		later := time.Duration(p.First.At - e.Sent().UnixNano())
		if len(alias.Aliases) == 0 || p.Client().Addr() != e.Client.Addr() || later < 0 || later > followedWithin {
			return false
		}
		name, err := p.View().QName()
		return err == nil && name.Equal(alias.Name)
	}
}

// Followed is the exchange in which the client of e asked for the end of the alias that
// e gave it; nil when none was kept.
func (o *Overview) Followed(e *exchange.Exchange) *exchange.Exchange {
	alias := e.Answer()
	if len(alias.Aliases) == 0 {
		return nil
	}
	at := slices.IndexFunc(o.Kept, func(other exchange.Exchange) bool {
		later := other.Sent().Sub(e.Sent())
		return later >= 0 && later <= followedWithin && other.Client.Addr() == e.Client.Addr() && other.Question.Name.Equal(alias.Name) && other.Number != e.Number
	})
	if at < 0 {
		return nil
	}
	return &o.Kept[at]
}

// LaterFindings is what only later packets showed of exchanges on which judgement had been passed.
type LaterFindings struct {
	codes   map[finding.Code]*numbers // what they show
	differs map[int]int               // another reply says something else: in which packet
}

// maxDiffers is how many of them are remembered.
const maxDiffers = 1 << 16

// Late is what another reading of the same captures has to be told to know it in time,
// as [Options.Late]; nil when that is nothing.
func (o *Overview) Late() *LaterFindings {
	if len(o.late.codes) == 0 {
		return nil
	}
	return &o.late
}

func (l *LaterFindings) add(code finding.Code, number int) {
	if l.codes == nil {
		l.codes = map[finding.Code]*numbers{}
	}
	if l.codes[code] == nil {
		l.codes[code] = &numbers{}
	}
	l.codes[code].add(number)
}

// differ notes in which packet another reply says something else.
func (l *LaterFindings) differ(number, packet int) {
	if l.differs == nil {
		l.differs = map[int]int{}
	}
	if len(l.differs) < maxDiffers {
		l.differs[number] = packet
	}
}

// tell tells an exchange before it is judged.
func (l *LaterFindings) tell(p *Transaction) {
	for code, of := range l.codes {
		if of.has(p.Number) {
			p.Codes = append(p.Codes, code)
		}
	}
	slices.Sort(p.Codes)
	if packet := l.differs[p.Number]; packet > 0 {
		if p.rel == nil {
			p.rel = &relations{}
		}
		p.rel.OtherIn = packet
	}
}
