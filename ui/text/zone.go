package text

import (
	"errors"
	"fmt"
	"slices"
	"strings"

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
	how := good.Render("its servers agree")
	worst := finding.Worst(found)
	number := 0
	for _, f := range found {
		if f.Severity == worst {
			number++
		}
	}
	switch worst {
	case finding.Fault:
		how = severe[worst].Render("has " + wording.Count(number, "fault", "faults"))
	case finding.Concern:
		how = severe[worst].Render("works, with " + wording.Count(number, "concern", "concerns"))
	}
	v.flow("", 0, nameText(z.Zone)+" "+how, plainStyle)
	if found := z.Found(); found != "" {
		v.row("asked for", found)
	}
	v.line()
	widest := len("address")
	for _, s := range z.States {
		widest = max(widest, len(s.Address.String()))
	}
	tried := slices.ContainsFunc(z.States, func(s *zonecare.State) bool { return s.Transfer != nil })
	columns := []column{{"address", widest + 2}, {"serial", 11}, {"TCP", 5}, {"EDNS", 6}, {"recursion", 10}}
	if tried {
		columns = append(columns, column{"transfer", 9})
	}
	columns = append(columns, column{"time", 8})
	row := func(word func(i int) string) {
		text := "    "
		for i, c := range columns {
			text += pad(word(i), c.width)
		}
		v.line(text)
	}
	row(func(i int) string { return quiet.Render(columns[i].title) })
	for i, s := range z.States {
		if i == 0 || !z.States[i-1].Host.Equal(s.Host) || z.States[i-1].Unlisted != s.Unlisted {
			title := strong.Render(s.Host.Spoken())
			switch {
			case s.ByZone:
				title += "  " + severe[finding.Concern].Render("listed by the zone alone")
			case s.Unlisted:
				title += "  " + severe[finding.Concern].Render("listed by nobody")
			}
			v.line("  ", title)
		}
		words := serverWords(z, s)
		row(func(i int) string { return words[columns[i].title] })
		if id := s.NSID(); id != "" && id != s.Host.Spoken() {
			v.line("    ", quiet.Render(cut("calls itself "+id, v.width-4)))
		}
	}
	for _, r := range z.Walk.Last().Replies {
		if r.Stance == delegation.NotAsked && z.Undelegated == nil {
			v.line("  ", strong.Render(r.Host.Spoken()))
			address := ""
			if r.Address.IsValid() {
				address = r.Address.String() + "  "
			}
			v.line("    ", address, "not queried: "+r.Why)
		}
	}
	v.line()
	if len(z.Parent.Hosts) > 0 {
		v.row("parent", "lists "+hostWords(z.Parent.Hosts))
	}
	if z.Known {
		v.row("zone", "lists "+hostWords(z.Hosts))
		v.timers(z.SOA)
	}
	if len(z.Held) > 0 {
		v.line()
		v.line(strong.Render("compared with " + z.Held[0].Label))
		whole := true
		for i := range z.Held {
			v.held(&z.Held[i], i > 0 && sameRecords(&z.Held[i], &z.Held[i-1]))
			whole = whole && z.Held[i].Whole
		}
		if left := z.Held[0].Left; left > 0 {
			v.flow("", 2, fmt.Sprintf("%d record sets were not queried: too many for one run", left), plainStyle)
		}
		if !whole {
			v.flow("", 2, "names that are not in the file can only be seen with a transfer (--try-transfer)", quiet)
		}
	}
	v.Findings("what to note", found)
}

type column struct {
	title string
	width int
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
	words["EDNS"], words["time"] = yes(!s.SOA.EDNSIgnored && s.SOA.EDNSBroke == ""), Took(s.SOA.Took())
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

func hostWords(hosts []wire.Name) string {
	words := make([]string, len(hosts))
	for i, h := range hosts {
		words[i] = h.Spoken()
	}
	return strings.Join(words, ", ")
}

// timers draws what the SOA's timers come to.
func (v *View) timers(soa wire.SOAData) {
	v.row("primary", soa.MName.Spoken())
	v.row("refresh", fmt.Sprintf("secondaries check every %s, retry every %s, and stop answering after %s without their primary", wire.Period(soa.Refresh), wire.Period(soa.Retry), wire.Period(soa.Expire)))
	v.row("negative", fmt.Sprintf("answers are cached for %s", Seconds(soa.Minimum)))
}
