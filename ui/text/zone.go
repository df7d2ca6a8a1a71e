package text

import (
	"cmp"
	"errors"
	"fmt"
	"slices"

	"unquil/core/delegation"
	"unquil/core/finding"
	"unquil/core/probe"
	"unquil/core/transfer"
	"unquil/core/wire"
	"unquil/core/wording"
	"unquil/core/zonecare"
)

// Zone draws a zone's servers side by side, the parent's view of them, and the
// zone's timers in words.
func (v *View) Zone(z *probe.Zone) {
	found := z.AllFindings()
	v.flow("", 0, nameText(z.Zone)+" "+zoneWords(found), plainStyle)
	if found := z.Found(); found != "" {
		v.row("asked for", found)
	}
	v.line()
	columns, servers := serverColumns(z.States), serverRows(z)
	columns = chosen(columns, fitting(columns, v.room()-4, len(columns)-1, 3)) // the time goes first, then EDNS
	cells := [][]string{titles(columns)}
	for _, s := range servers {
		row := make([]string, len(columns))
		for i, c := range columns {
			row[i] = s.words[c.title]
		}
		cells = append(cells, row)
	}
	lines := grid(columns, cells)
	v.line("    ", lines[0])
	for i, s := range servers {
		if s.title != "" {
			v.line("  ", s.title)
		}
		v.line("    ", cmp.Or(s.why, lines[i+1]))
		if s.calls != "" {
			v.line("    ", quiet.Render(cut("calls itself "+s.calls, v.room()-4)))
		}
	}
	v.line()
	if len(z.Parent.Hosts) > 0 {
		v.row("parent", "lists "+wording.Names(z.Parent.Hosts))
	}
	if z.Known {
		v.row("zone", "lists "+wording.Names(z.Hosts))
		v.timers(z.SOA)
	}
	if z.Undelegated == nil {
		v.validation(z.Walk)
	}
	v.signing(z.Signing)
	v.against(z.Held)
	v.Findings("what to note", found)
}

// zoneWords is how a zone is, by what was found.
func zoneWords(found []finding.Finding) string {
	worst := finding.Worst(found)
	number := 0
	for _, f := range found {
		if f.Severity == worst {
			number++
		}
	}
	switch worst {
	case finding.Fault:
		return severe[worst].Render("has " + wording.Count(number, "fault", "faults"))
	case finding.Concern:
		return severe[worst].Render("works, with " + wording.Count(number, "concern", "concerns"))
	}
	return good.Render("its servers agree")
}

// serverColumns are the columns of the servers of a zone.
func serverColumns(states []*zonecare.State) []column {
	widest := len("address")
	for _, s := range states {
		widest = max(widest, len(s.Address.String()))
	}
	columns := []column{{title: "address", width: widest + 2}, {title: "serial", width: 12}, {title: "TCP", width: 5}, {title: "EDNS", width: 6}, {title: "recursion", width: 10}}
	if slices.ContainsFunc(states, func(s *zonecare.State) bool { return s.Transfer != nil }) {
		columns = append(columns, column{title: "transfer", width: 9})
	}
	return append(columns, column{title: "time", width: 8})
}

// serverRow is one address of a server, ready to be drawn.
type serverRow struct {
	title string            // the server; "" when it is that of the row before
	words map[string]string // by column; nil of one that was not queried
	why   string            // it was not
	calls string            // what it calls itself, where that is another name
}

// serverRows are the servers of a zone, each with its addresses, and those that were not
// queried.
func serverRows(z *probe.Zone) (rows []serverRow) {
	for i, s := range z.States {
		row := serverRow{words: serverWords(z, s)}
		if i == 0 || !z.States[i-1].Host.Equal(s.Host) || z.States[i-1].Unlisted != s.Unlisted {
			row.title = strong.Render(s.Host.Spoken())
			switch {
			case s.ByZone:
				row.title += "  " + severe[finding.Concern].Render("listed by the zone alone")
			case s.Unlisted:
				row.title += "  " + severe[finding.Concern].Render("listed by nobody")
			}
		}
		if id := s.NSID(); id != s.Host.Spoken() {
			row.calls = id
		}
		rows = append(rows, row)
	}
	for _, r := range z.Walk.Last().Replies {
		if r.Stance == delegation.NotAsked && z.Undelegated == nil {
			row := serverRow{title: strong.Render(r.Host.Spoken()), why: "not queried: " + r.Why}
			if r.Address.IsValid() {
				row.why = r.Address.String() + "  " + row.why
			}
			rows = append(rows, row)
		}
	}
	return rows
}

// against draws how servers differ from the records that they should serve.
func (v *View) against(held []zonecare.Held) {
	if len(held) == 0 {
		return
	}
	v.line()
	v.line(strong.Render("compared with " + held[0].Label))
	whole := true
	for i := range held {
		v.held(&held[i], i > 0 && sameRecords(&held[i], &held[i-1]))
		whole = whole && held[i].Whole
	}
	if left := held[0].Left; left > 0 {
		v.flow("", 2, fmt.Sprintf("%d record sets were not queried: too many for one run", left), plainStyle)
	}
	if !whole {
		v.flow("", 2, "names that are not in the file can only be seen with a transfer (--try-transfer)", quiet)
	}
}

// serverWords is one server's row by column: how it is set up, or that it does not
// answer for the zone.
func serverWords(z *probe.Zone, s *zonecare.State) map[string]string {
	bad := severe[finding.Fault].Render
	words := map[string]string{"address": s.Address.String(), "serial": bad(string(s.SOA.Outcome)), "TCP": yes(s.TCP.Reply != nil)}
	if t := s.Transfer; t != nil {
		words["transfer"] = "refused"
		switch {
		case t.Err == nil && t.Request.Key == nil:
			words["transfer"] = severe[finding.Concern].Render("open")
		case t.Err == nil:
			words["transfer"] = "with key"
		case !errors.Is(t.Err, transfer.ErrRefused):
			words["transfer"] = "failed"
		}
	}
	if !s.Authoritative() {
		if s.SOA.Outcome.Good() {
			words["serial"] = bad("not its own")
		}
		return words
	}
	words["serial"] = fmt.Sprint(s.Serial)
	if wire.NewerSerial(z.SOA.Serial, s.Serial) {
		words["serial"] = severe[finding.Concern].Render(words["serial"])
	}
	words["EDNS"], words["time"] = yes(!s.SOA.EDNSIgnored && s.SOA.EDNSBroke == ""), wording.Span(s.SOA.Took())
	words["recursion"] = "not known"
	if is, known := s.Recursive(); is {
		words["recursion"] = severe[finding.Concern].Render("open")
	} else if known {
		words["recursion"] = "no"
	}
	return words
}

// held draws how one server's records differ from what it should serve.
func (v *View) held(h *zonecare.Held, again bool) {
	who := h.State.Host.Spoken() + " (" + h.State.Address.String() + ")"
	how := "by querying each of its " + wording.Count(h.Sets, "record set", "record sets")
	if h.Whole {
		how = "by transferring the zone"
	}
	verdict := good.Render("serves exactly what it should")
	switch {
	case h.Missing+h.Surplus > 0:
		verdict = severe[finding.Concern].Render(fmt.Sprintf("is missing %s and serves %s too many", wording.Count(h.Missing, "record", "records"), wording.Count(h.Surplus, "record", "records")))
	case h.Silent > 0:
		verdict = "could not be checked completely"
	}
	if again {
		verdict += ": the same as above"
	}
	v.flow("", 2, strong.Render(who)+" "+verdict+" "+quiet.Render("("+how+")"), plainStyle)
	if h.Silent > 0 && !h.Whole {
		v.line("    ", severe[finding.Concern].Render(wording.Count(h.Silent, "question", "questions")+" without a reply"))
	}
	if again {
		return
	}
	for _, kind := range []struct {
		word    string
		records []wire.Record
		all     int
	}{{"missing", h.Lacks, h.Missing}, {"extra", h.Adds, h.Surplus}} {
		shown := kind.records[:min(len(kind.records), shownRecords)]
		for _, r := range shown {
			v.flow("    "+quiet.Render(kind.word), labelWidth, recordText(r), plainStyle)
		}
		if rest := kind.all - len(shown); rest > 0 {
			v.row("", fmt.Sprintf("and %d more", rest))
		}
	}
}

// sameRecords reports whether two servers differ from the file in the same records.
func sameRecords(a, b *zonecare.Held) bool {
	return a.Missing+a.Surplus > 0 && slices.Equal(a.Lacks, b.Lacks) && slices.Equal(a.Adds, b.Adds)
}

func yes(is bool) string {
	if is {
		return "yes"
	}
	return severe[finding.Concern].Render("no")
}

// timers draws what the SOA's timers come to.
func (v *View) timers(soa wire.SOAData) {
	v.row("primary", soa.MName.Spoken())
	v.row("refresh", fmt.Sprintf("secondaries check every %s, retry every %s, and stop answering after %s without their primary", wire.Period(soa.Refresh), wire.Period(soa.Retry), wire.Period(soa.Expire)))
	v.row("negative", fmt.Sprintf("answers are cached for %s", Seconds(soa.Minimum)))
}
