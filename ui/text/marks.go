package text

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"unquil/core/casework"
	"unquil/core/exchange"
	"unquil/core/wire"
)

// markText is a mark behind what it stands for; "" for none.
func markText(mark int) string {
	if mark == 0 {
		return ""
	}
	return " " + good.Render(fmt.Sprintf("[%d]", mark))
}

func (v *View) markOf(host wire.Name) string {
	if v.Marks == nil {
		return ""
	}
	return markText(v.Marks.Host(host))
}

func (v *View) markAt(a netip.Addr) string {
	if v.Marks == nil {
		return ""
	}
	return markText(v.Marks.Address(a))
}

// marksIn is the mark of what a record leads to.
func (v *View) marksIn(r wire.Record) string {
	if host, ok := r.Target(); ok {
		return v.markOf(host)
	}
	if a, ok := r.Address(); ok {
		return v.markAt(a)
	}
	return ""
}

// markOfServer is the mark of a server's host.
func (v *View) markOfServer(s exchange.Server) string {
	if host, err := wire.ParseName(s.Host); s.Host != "" && err == nil {
		return v.markOf(host)
	}
	return ""
}

// referrals draws to whom a reply refers: the servers of the zone further down, with the
// addresses that the reply gives for them.
func (v *View) referrals(block []*exchange.Exchange) {
	var told []string
	for _, e := range block {
		if e.Outcome != exchange.Referral {
			continue
		}
		zone, servers, _ := exchange.ReferralZone(e.Reply)
		var hosts []string
		for _, r := range servers[:min(len(servers), maxReferred)] {
			host, _ := r.Target()
			line := host.Spoken() + v.markOf(host)
			var glue []string
			for _, a := range casework.GlueOf(e.Reply, host) {
				glue = append(glue, a.String()+v.markAt(a))
			}
			if len(glue) > 0 {
				line += quiet.Render(" at ") + strings.Join(glue, ", ")
			} else {
				line += quiet.Render(", whose address the reply does not give")
			}
			hosts = append(hosts, line)
		}
		if more := len(servers) - len(hosts); more > 0 {
			hosts = append(hosts, fmt.Sprintf("and %d more", more))
		}
		if key := strings.Join(hosts, "\n"); !slices.Contains(told, key) {
			told = append(told, key)
			v.row("refers to", "the servers of "+zone.Spoken())
			for _, host := range hosts {
				v.flow("", labelWidth+2, host, plainStyle)
			}
		}
	}
}

// maxReferred is how many servers of a zone are listed.
const maxReferred = 26

// MarkList lists some marks below what they stand in.
func (v *View) MarkList(m *casework.Marks, marks []int) {
	if len(marks) == 0 {
		return
	}
	v.line()
	v.markRows(m, marks[:min(len(marks), maxMarked)])
	if more := len(marks) - maxMarked; more > 0 {
		v.row("", fmt.Sprintf("and %d more: the word marks lists them all", more))
	}
}

// maxMarked is how many marks are listed below an answer.
const maxMarked = 12

// AllMarks lists every mark.
func (v *View) AllMarks(m *casework.Marks) {
	all := make([]int, m.Len())
	for i := range all {
		all[i] = i + 1
	}
	v.markRows(m, all)
	if len(all) == 0 {
		v.flow("", 0, "Nothing has a mark yet: they come with the answers.", quiet)
	}
}

func (v *View) markRows(m *casework.Marks, marks []int) {
	label := "marks"
	for _, mark := range marks {
		v.row(label, strings.TrimPrefix(markText(mark), " ")+" "+markedWords(m.Of(mark)))
		label = ""
	}
}

// markedWords say what a mark stands for.
func markedWords(m *casework.Marked) string {
	var addresses []string
	for _, a := range m.Addresses {
		addresses = append(addresses, a.String())
	}
	text := strings.Join(addresses, ", ")
	switch {
	case !m.Host.IsZero() && text == "":
		return m.Host.Spoken()
	case !m.Host.IsZero():
		return m.Host.Spoken() + quiet.Render(" at "+text)
	case m.Server.Label != "":
		return text + quiet.Render(" ("+m.Server.Name()+")")
	}
	return text
}
