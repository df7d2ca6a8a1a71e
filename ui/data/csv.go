package data

import (
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
	out.Write("name", "type", "server", "address", "port", "zone_server", "outcome", "values", "ttl", "zone_says_so", "took_seconds")
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
				out.Write(c.Question.Name.String(), c.Question.Type.String(), memberName(m), e.Server.Address.Addr().String(), strconv.Itoa(int(e.Server.Address.Port())), strconv.FormatBool(m.Own),
					string(e.Outcome), strings.Join(g.Values, " | "), ttl, strconv.FormatBool(g.Truth), took)
			}
		}
	}
	return out.End()
}

// Rows writes CSV (RFC 4180) whose cells do nothing: what does not show is escaped, and a
// cell that a spreadsheet would take for a formula begins with an apostrophe.
type Rows struct {
	w   io.Writer
	err error
}

// NewRows begins a table.
func NewRows(w io.Writer) *Rows { return &Rows{w: w} }

// Write writes one row. Errors stick.
func (r *Rows) Write(cells ...string) error {
	if r.err == nil {
		_, r.err = r.w.Write(appendRow(nil, cells...))
	}
	return r.err
}

// appendRow appends one row.
func appendRow(b []byte, cells ...string) []byte {
	for i, cell := range cells {
		if i > 0 {
			b = append(b, ',')
		}
		b = appendCell(b, string(escape.Of(cell)))
	}
	return append(b, '\n')
}

// appendCell appends one cell, in which everything shows.
func appendCell[T ~string | ~[]byte](b []byte, cell T) []byte {
	guard, quote := false, len(cell) > 0 && cell[0] == ' '
	for i := range len(cell) {
		if cell[i] != ' ' {
			first, _ := utf8.DecodeRuneInString(string(cell[i:min(i+utf8.UTFMax, len(cell))]))
			guard = strings.ContainsRune(formulas, first)
			break
		}
	}
	for i := range len(cell) {
		quote = quote || cell[i] == '"' || cell[i] == ','
	}
	if quote {
		b = append(b, '"')
	}
	if guard {
		b = append(b, '\'')
	}
	if !quote {
		return append(b, cell...)
	}
	for i := range len(cell) {
		if b = append(b, cell[i]); cell[i] == '"' {
			b = append(b, '"')
		}
	}
	return append(b, '"')
}

// formulas are what the cells begin with that a spreadsheet calculates, in both widths.
const formulas = "=+-@＝＋－＠"

// End returns the first error there was.
func (r *Rows) End() error { return r.err }
