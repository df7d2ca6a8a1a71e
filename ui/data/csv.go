package data

import (
	"encoding/csv"
	"io"
	"strconv"
	"strings"

	"unquil/core/diagnosis"
)

// WriteCSV writes comparisons as CSV (RFC 4180) with a heading, one line a server.
func WriteCSV(w io.Writer, results []diagnosis.Compared) error {
	out := csv.NewWriter(w)
	out.Write([]string{"name", "type", "server", "address", "zone_server", "outcome", "values", "ttl", "zone_says_so", "took_seconds"})
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
				out.Write([]string{c.Question.Name.String(), c.Question.Type.String(), memberName(m), e.Server.AddressText(), strconv.FormatBool(m.Own),
					string(e.Outcome), strings.Join(g.Values, " | "), ttl, strconv.FormatBool(g.Truth), took})
			}
		}
	}
	out.Flush()
	return out.Error()
}
