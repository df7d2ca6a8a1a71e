package text

import (
	"cmp"
	"fmt"
	"slices"

	"unquil/core/finding"
	"unquil/core/transfer"
	"unquil/core/wire"
	"unquil/core/wording"
)

// shownRecords is how many changes or differences a view lists.
const shownRecords = 20

// Transfer draws what came of asking for a zone: what it is, how it came, what is
// in it, and how it differs from what it was held against. written is the file that
// holds it; "" without one.
func (v *View) Transfer(f *transfer.Fetched, written string) {
	headline := good.Render(fmt.Sprintf("serial %d, %s", f.SOA.Serial, wording.Count(f.Records, "record", "records")))
	switch {
	case f.Err != nil:
		headline = severe[finding.Fault].Render("was not transferred: ") + f.Err.Error()
	case f.Kind == transfer.Current:
		headline = good.Render(fmt.Sprintf("is at serial %d: nothing changed since %d", f.SOA.Serial, *f.Request.Since))
	case f.Kind == transfer.Changes:
		headline = good.Render(fmt.Sprintf("changed from serial %d to %d: %s removed, %s added", *f.Request.Since, f.SOA.Serial,
			wording.Count(f.Removed, "record", "records"), wording.Count(f.Records-f.Removed, "record", "records")))
	case f.Request.Since != nil:
		headline += fmt.Sprintf(": the whole zone, because the server does not know what changed since %d", *f.Request.Since)
	}
	v.flow("", 0, nameText(f.Request.Zone)+" "+headline, plainStyle)
	server := f.Request.Server
	how := server.Name()
	if address := server.AddressText(); address != how {
		how += " (" + address + ")"
	}
	if f.Request.Key != nil {
		how += ", signed with the key " + f.Request.Key.Name.Spoken()
	}
	v.row("from", how)
	if f.Messages > 0 {
		v.row("received", fmt.Sprintf("in %s, %s, %s", wording.Count(f.Messages, "message", "messages"), size(f.Bytes), wording.Span(f.Took)))
	}
	if f.Records > 0 {
		v.row("types", typeCounts(f.ByType))
	}
	switch {
	case written != "" && f.Err != nil:
		v.row("written", written+" holds what came before it failed: not the whole zone")
	case written != "":
		v.row("written", written)
	}
	v.changes(f.Changes, f.Records)
	v.heldAgainst(f)
	v.Findings("what to note", f.AllFindings())
}

func size(bytes int64) string {
	switch {
	case bytes < 10_000:
		return wording.Count(int(bytes), "byte", "bytes")
	case bytes < 10_000_000:
		return fmt.Sprintf("%d kB", bytes/1000)
	}
	return fmt.Sprintf("%d MB", bytes/1_000_000)
}

// typeCounts lists how many records of each type there are, the most first.
func typeCounts(by map[wire.Type]int) string {
	var types []wire.Type
	for t := range by {
		types = append(types, t)
	}
	slices.SortFunc(types, func(a, b wire.Type) int { return cmp.Or(by[b]-by[a], int(a)-int(b)) })
	text := ""
	for i, t := range types {
		if i > 0 {
			text += ", "
		}
		text += fmt.Sprintf("%s %d", t, by[t])
	}
	return text
}

func (v *View) changes(list []transfer.Change, all int) {
	if len(list) == 0 {
		return
	}
	v.line()
	v.line(strong.Render("what changed"))
	for _, c := range list[:min(len(list), shownRecords)] {
		word := good.Render("added")
		if c.Removed {
			word = severe[finding.Concern].Render("removed")
		}
		v.flow("  "+word, labelWidth, recordText(c.Record), plainStyle)
	}
	if rest := all - min(len(list), shownRecords); rest > 0 {
		v.row("", fmt.Sprintf("and %d more; --to FILE has them all", rest))
	}
}

func recordText(r wire.Record) string {
	return fmt.Sprintf("%s %d %s %s", r.Name.Spoken(), r.TTL, r.Type, r.Value())
}

func (v *View) heldAgainst(f *transfer.Fetched) {
	c := f.Compared
	if c == nil {
		return
	}
	v.line()
	here := f.Request.Server.Name()
	if c.Err != nil {
		v.flow("", 0, strong.Render("compared with "+c.Label)+": "+severe[finding.Fault].Render("could not be compared: ")+c.Err.Error(), plainStyle)
		return
	}
	if c.Same() {
		v.flow("", 0, strong.Render("compared with "+c.Label)+": "+good.Render("every record is the same"), plainStyle)
		return
	}
	v.flow("", 0, strong.Render("compared with "+c.Label)+": "+severe[finding.Concern].Render(fmt.Sprintf("%s only at %s, %s only in %s, %s with a different TTL",
		wording.Count(c.Here, "record", "records"), here, wording.Count(c.There, "record", "records"), c.Label, wording.Count(c.TTLs, "record", "records"))), plainStyle)
	v.differences(c.Shown, c.Here+c.There+c.TTLs, "only at "+here, "only in "+c.Label)
}

// differences lists records that differ, under who has them.
func (v *View) differences(list []transfer.Difference, all int, here, there string) {
	for _, group := range []struct {
		title string
		in    func(d transfer.Difference) bool
	}{
		{here, func(d transfer.Difference) bool { return d.Other == nil && !d.Second }},
		{there, func(d transfer.Difference) bool { return d.Second }},
		{"different TTL", func(d transfer.Difference) bool { return d.Other != nil }},
	} {
		begun := false
		for _, d := range list[:min(len(list), shownRecords)] {
			if !group.in(d) {
				continue
			}
			if !begun {
				v.line("  ", quiet.Render(group.title))
				begun = true
			}
			text := recordText(d.Record)
			if d.Other != nil {
				text += fmt.Sprintf("; there %d", d.Other.TTL)
			}
			v.flow("    ", 4, text, plainStyle)
		}
	}
	if rest := all - min(len(list), shownRecords); rest > 0 {
		v.line("  ", quiet.Render(fmt.Sprintf("and %d more", rest)))
	}
}
