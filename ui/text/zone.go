package text

import (
	"fmt"
	"strings"

	"unquil/core/diagnosis"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/core/zonecare"
)

// Zone draws a zone's servers side by side, the parent's view of them, and the
// zone's timers in words.
func (v *View) Zone(z *diagnosis.Zone) {
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
		how = severe[worst].Render("has " + plural(number, "fault", "faults"))
	case finding.Concern:
		how = severe[worst].Render("works, with " + plural(number, "concern", "concerns"))
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
	columns := []int{widest + 2, 13, 5, 6, 10}
	row := func(lead string, words ...string) {
		text := lead
		for i, width := range columns {
			text += pad(words[i], width)
		}
		v.line(text)
	}
	var heading []string
	for _, word := range []string{"address", "serial", "TCP", "EDNS", "time"} {
		heading = append(heading, quiet.Render(word))
	}
	row("    ", heading...)
	for i, s := range z.States {
		if i == 0 || !z.States[i-1].Host.Equal(s.Host) {
			v.line("  ", strong.Render(s.Host.Spoken()))
		}
		row("    ", serverWords(z, s)...)
	}
	v.line()
	if len(z.Parent.Hosts) > 0 {
		v.row("parent", "lists "+hostWords(z.Parent.Hosts))
	}
	if z.Known {
		v.row("zone", "lists "+hostWords(z.Hosts))
		v.timers(z.SOA)
	}
	v.Findings("what to note", found)
}

// serverWords is one server's row: how it is set up, or that it does not answer for
// the zone.
func serverWords(z *diagnosis.Zone, s *zonecare.State) []string {
	bad := severe[finding.Fault].Render
	words := []string{s.Address.String(), bad(string(s.SOA.Outcome)), "", "", ""}
	if !s.Authoritative() {
		if s.SOA.Outcome.Good() {
			words[1] = bad("not its own")
		}
		return words
	}
	words[1] = fmt.Sprint(s.Serial)
	if wire.NewerSerial(z.SOA.Serial, s.Serial) {
		words[1] = severe[finding.Concern].Render(words[1])
	}
	words[2], words[3], words[4] = yes(s.TCP.Reply != nil), yes(!s.SOA.EDNSIgnored && s.SOA.EDNSBroke == ""), Took(s.SOA.Took())
	return words
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
func (v *View) timers(soa wire.Authority) {
	v.row("primary", soa.MName.Spoken())
	v.row("copies", fmt.Sprintf("ask for a new version every %s, after a failure every %s, and stop answering after %s", wire.Period(soa.Refresh), wire.Period(soa.Retry), wire.Period(soa.Expire)))
	v.row("none", fmt.Sprintf("is remembered for %s", Seconds(soa.Minimum)))
}
