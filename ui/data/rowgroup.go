package data

import (
	"cmp"
	"math"
	"slices"
	"time"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// rowGroup is the rows of a group, as they are kept until it is written: small, with what many have alike told once, and
// with nothing allocated for a row.
type rowGroup struct {
	rows  []shortRow
	text  []byte // of all values, one behind the other
	ends  []int  // where each value ends in it
	codes []finding.Code
	order []placed
}

// null stands for NULL among the numbers of a row.
const null = math.MinInt64

// shortRow is a [ColumnRow].
type shortRow struct {
	at                               int64
	number                           int
	client, server, before           *host
	name                             *spelling
	latency, waited, ttl             int64
	outcome                          exchange.Outcome
	transport                        exchange.Transport
	rcode                            int64
	querySize, replySize, attempts   int32
	valuesFrom, valuesTo             int // among the ends
	codesFrom, codesTo               int
	clientPort, serverPort           uint16
	of                               wire.Type
	class                            wire.Class
	asked, replied                   wire.Flags // 0 without a reply
	failed, answered, hasEDNS, hasDO bool
}

// placed is a row by its time.
type placed struct {
	at  int64
	row int
}

func (g *rowGroup) reset() {
	g.rows, g.text, g.ends, g.codes = g.rows[:0], g.text[:0], g.ends[:0], g.codes[:0]
}

// sort orders the rows by time.
func (g *rowGroup) sort() {
	g.order = g.order[:0]
	for i := range g.rows {
		g.order = append(g.order, placed{g.rows[i].at, i})
	}
	slices.SortFunc(g.order, func(a, b placed) int { return cmp.Or(cmp.Compare(a.at, b.at), a.row-b.row) })
}

// rowsAtOnce is how many rows are handed to the writer at once.
const rowsAtOnce = 1024

// rowBatch is rows that are handed to the writer at once, with room for what they point at.
type rowBatch struct {
	rows    []ColumnRow
	numbers []int64
	lists   []string
	rcodes  map[int64]*string // those that were met: few
}

// fill makes rows of those at some places of a group. text is all of its values.
func (b *rowBatch) fill(g *rowGroup, places []placed, text string) {
	if b.rows == nil {
		b.rows, b.numbers, b.rcodes = make([]ColumnRow, 0, rowsAtOnce), make([]int64, 0, 3*rowsAtOnce), map[int64]*string{}
	}
	b.rows, b.numbers, b.lists = b.rows[:0], b.numbers[:0], b.lists[:0]
	for _, p := range places {
		b.rows = b.rows[:len(b.rows)+1]
		b.row(&b.rows[len(b.rows)-1], &g.rows[p.row], g, text)
	}
}

func (b *rowBatch) row(to *ColumnRow, r *shortRow, g *rowGroup, text string) {
	*to = ColumnRow{
		Time: time.Unix(0, r.at).UTC(), Number: int64(r.number), Client: r.client.text, ClientBytes: r.client.bytes, ClientNet: r.client.net, ClientPort: int32(r.clientPort),
		Server: r.server.text, ServerBytes: r.server.bytes, ServerPort: int32(r.serverPort), Transport: string(r.transport),
		Outcome: string(r.outcome), Failed: r.failed, Answered: r.answered, RCode: b.rcode(r.rcode),
		AA: r.replied.Has(wire.AA), TC: r.replied.Has(wire.TC), RD: r.asked.Has(wire.RD), RA: r.replied.Has(wire.RA), AD: r.replied.Has(wire.AD), CD: r.asked.Has(wire.CD), DO: r.hasDO, EDNS: r.hasEDNS,
		QuerySize: r.querySize, ReplySize: r.replySize, Latency: b.number(r.latency), Waited: b.number(r.waited), TTL: b.number(r.ttl), Attempts: r.attempts,
	}
	if r.name != nil {
		to.Name, to.NameSort, to.Type, to.Class = r.name.text, r.name.sorted, r.of.String(), r.class.String()
	}
	if r.before != nil {
		to.Before = &r.before.text
	}
	to.Values = b.list(r.valuesTo-r.valuesFrom, func(i int) string {
		at, from := r.valuesFrom+i, 0
		if at > 0 {
			from = g.ends[at-1]
		}
		return text[from:g.ends[at]]
	})
	to.Findings = b.list(r.codesTo-r.codesFrom, func(i int) string { return string(g.codes[r.codesFrom+i]) })
}

// number is where a number is, which stays there: there is room for all.
func (b *rowBatch) number(n int64) *int64 {
	if n == null {
		return nil
	}
	b.numbers = append(b.numbers, n)
	return &b.numbers[len(b.numbers)-1]
}

func (b *rowBatch) rcode(code int64) *string {
	text := b.rcodes[code]
	if text == nil && code != null {
		text = new(wire.RCode(code).String())
		b.rcodes[code] = text
	}
	return text
}

// list is so many texts; nil: none.
func (b *rowBatch) list(n int, text func(i int) string) []string {
	if n == 0 {
		return nil
	}
	start := len(b.lists)
	for i := range n {
		b.lists = append(b.lists, text(i))
	}
	return b.lists[start:len(b.lists):len(b.lists)]
}
