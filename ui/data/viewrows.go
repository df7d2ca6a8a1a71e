package data

import (
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"unquil/core/conversation"
	"unquil/core/delegation"
	"unquil/core/sequence"
)

// viewTable is a view of a capture as CSV.
type viewTable struct {
	columns []string
	rows    func(o *conversation.Overview, write func(cells ...any))
}

// viewTables are the views that have a table of their own; the others have that of the exchanges.
var viewTables = map[string]viewTable{
	"names":   statTable("name", "clients", (*conversation.Overview).Names),
	"servers": statTable("server", "clients", (*conversation.Overview).Servers),
	"clients": statTable("client", "servers", (*conversation.Overview).Clients),
	"timeline": {[]string{"begins", "seconds", "asked", "failed", "no_name"}, func(o *conversation.Overview, write func(...any)) {
		for i, s := range o.Timeline.Slots {
			write(time.Unix(0, o.Timeline.Begins+int64(i)*int64(o.Timeline.Width)).UTC(), o.Timeline.Width, s.Asked, s.Failed, s.NoName)
		}
	}},
	"episodes": {[]string{"client", "begins", "took", "failed", "exchange", "depth", "name", "type", "outcome"}, func(o *conversation.Overview, write func(...any)) {
		for _, p := range sequence.Episodes(o.Kept) {
			for _, a := range p.Asked {
				write(p.Client, p.Begins.UTC(), p.Took, p.Failed, a.Exchange.Number, a.Depth, a.Exchange.Question.Name, a.Exchange.Question.Type, a.Exchange.Outcome)
			}
		}
	}},
	"walks": {[]string{"resolver", "name", "type", "begins", "took", "ended", "exchange", "zone", "server", "outcome"}, func(o *conversation.Overview, write func(...any)) {
		for _, p := range sequence.ResolverWalks(o.Kept, delegation.PublishedAddresses()) {
			for _, s := range p.Steps {
				write(p.Resolver, p.Question.Name, p.Question.Type, p.Begins.UTC(), p.Took, p.Ended(), s.Exchange.Number, s.Zone, s.Exchange.Server.Address.Addr(), s.Exchange.Outcome)
			}
		}
	}},
	"local-link": {[]string{"name", "asked", "askers", "host", "values", "alone", "packet", "times"}, func(o *conversation.Overview, write func(...any)) {
		for _, n := range o.LocalLink.Names() {
			if len(n.Claims) == 0 {
				write(n.Name, n.Asked, joined(n.Askers), "", "", "", "", "")
			}
			for _, c := range n.Claims {
				write(n.Name, n.Asked, joined(n.Askers), c.Host, joined(c.Values), c.Unique, c.Packet, c.Times)
			}
		}
	}},
}

func statTable(key, peers string, of func(*conversation.Overview) ([]conversation.Row, int)) viewTable {
	columns := []string{key, "exchanges", "failed", "no_name", "unanswered", peers, "cache", "median", "p95", "longest", "estimated"}
	if key == "server" {
		columns = append([]string{key, "port"}, columns[1:]...)
	}
	return viewTable{columns, func(o *conversation.Overview, write func(...any)) {
		rows, _ := of(o)
		for _, r := range rows {
			cells := []any{r.Key}
			if key == "server" {
				address, port := r.Stat.End()
				cells = []any{address, port}
			}
			s := r.Stat
			cells = append(cells, s.Exchanges, s.Failed, s.NoName, s.Unanswered, s.Peers(), s.HasCache())
			if s.Latency.Count() > 0 {
				cells = append(cells, s.Latency.Quantile(50), s.Latency.Quantile(95), s.Latency.Max, !s.Latency.Exact())
			} else {
				cells = append(cells, "", "", "", "")
			}
			write(cells...)
		}
	}}
}

// joined is a list in one cell.
func joined[T any](all []T) string {
	words := make([]string, len(all))
	for i, one := range all {
		words[i] = fmt.Sprint(one)
	}
	return strings.Join(words, "; ")
}

// HasTable reports whether a view has a table of its own as CSV.
func HasTable(view string) bool { return viewTables[view].rows != nil }

// WriteViewCSV writes a view that has a table of its own as CSV, times in seconds.
func WriteViewCSV(w io.Writer, o *conversation.Overview, view string) error {
	table, out := viewTables[view], NewRows(w)
	out.Write(table.columns...)
	table.rows(o, func(cells ...any) {
		row := make([]string, len(cells))
		for i, cell := range cells {
			switch c := cell.(type) {
			case time.Time:
				row[i] = c.Format(time.RFC3339Nano)
			case time.Duration:
				row[i] = strconv.FormatFloat(c.Seconds(), 'f', 6, 64)
			default:
				row[i] = strings.TrimSpace(fmt.Sprint(c))
			}
		}
		out.Write(row...)
	})
	return out.End()
}
