package data

import (
	"cmp"
	"encoding/csv"
	"io"
	"strconv"
	"strings"
	"unicode/utf8"

	"unquil/core/escape"
	"unquil/core/probe"
)

// WriteCSV writes comparisons as CSV (RFC 4180) with a heading, one line a server.
func WriteCSV(w io.Writer, results []probe.Compared) error {
	out := NewRows(w)
	out.Write("name", "type", "server", "address", "zone_server", "outcome", "values", "ttl", "zone_says_so", "took_seconds")
	for _, c := range results {
		for _, g := range c.Groups {
			for _, m := range g.Members {
				e := m.Exchange
				ttl := ""
				if records := e.Answer().Records; len(records) > 0 {
					ttl = strconv.Itoa(int(records[0].TTL))
				}
				took := ""
				if e.Reply != nil {
					took = strconv.FormatFloat(e.Took().Seconds(), 'f', 6, 64)
				}
				out.Write(c.Question.Name.String(), c.Question.Type.String(), memberName(m), e.Server.AddressText(), strconv.FormatBool(m.Own),
					string(e.Outcome), strings.Join(g.Values, " | "), ttl, strconv.FormatBool(g.Truth), took)
			}
		}
	}
	return out.End()
}

// Rows writes CSV (RFC 4180) whose cells do nothing: what does not show is escaped, and a
// cell that a spreadsheet would take for a formula begins with an apostrophe.
type Rows struct {
	w   *csv.Writer
	err error
}

// NewRows begins a table.
func NewRows(w io.Writer) *Rows { return &Rows{w: csv.NewWriter(w)} }

// Write writes one row. Errors stick.
func (r *Rows) Write(cells ...string) error {
	safe := make([]string, len(cells))
	for i, cell := range cells {
		safe[i] = string(escape.Of(cell))
		if first, _ := utf8.DecodeRuneInString(strings.TrimLeft(safe[i], " ")); strings.ContainsRune(formulas, first) {
			safe[i] = "'" + safe[i]
		}
	}
	if r.err == nil {
		r.err = r.w.Write(safe)
	}
	return r.err
}

// formulas are what the cells begin with that a spreadsheet calculates, in both widths.
const formulas = "=+-@＝＋－＠"

// End writes what is left, and returns the first error there was.
func (r *Rows) End() error {
	r.w.Flush()
	return cmp.Or(r.err, r.w.Error())
}
