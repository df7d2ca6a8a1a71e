package text

import (
	"cmp"
	"fmt"
	"net/netip"
	"strings"

	"unquil/core/wording"
	"unquil/lab"
)

// Scenario draws the simulated internet: the story, what is wrong, who is who; or its
// workshop, which has a name for each way to fail.
func (v *View) Scenario(s *lab.Scenario, workshop bool) {
	if !workshop {
		v.flow("", 0, strings.TrimSpace(s.Story), plainStyle)
		v.line()
	}
	v.line(strong.Render("what is wrong"))
	others := 0
	for _, f := range s.Faults {
		if f.Workshop != workshop {
			others++
			continue
		}
		v.flow("  ", 2, subject.Render(wording.Spoken(cmp.Or(f.Typed, f.Name)))+" "+quiet.Render(faultOptions(f)), plainStyle)
		v.flow("", 6, f.Complaint, plainStyle)
		at := ""
		if f.At != "" {
			at = " at " + wording.Spoken(f.At)
		}
		v.flow("", 6, fmt.Sprintf("%s (%s%s)", f.What, f.Finding, at), quiet)
	}
	v.line()
	v.line(strong.Render("what is healthy"))
	for _, h := range s.Healthy {
		if h.Workshop == workshop {
			v.flow("  ", 2, strings.TrimRight(wording.Spoken(h.Name)+" "+quiet.Render(strings.Join(h.Types, ", ")+"  "+h.What), " "), plainStyle)
		}
	}
	if workshop {
		v.line()
		v.line(strong.Render("networks, for --lab-path"))
		for _, p := range s.Paths {
			v.flow("  "+p.Label, 16, p.What, plainStyle)
		}
	}
	v.line()
	v.line(strong.Render("resolvers"))
	for _, r := range s.Resolvers {
		if r.Workshop != workshop {
			continue
		}
		v.flow("  "+r.Label, labelWidth, addresses(r.Addresses)+", "+r.Place, plainStyle)
	}
	v.line()
	v.line(strong.Render("servers of zones"))
	for _, server := range s.Servers {
		if server.Workshop != workshop {
			continue
		}
		var zones []string
		for _, z := range server.Zones {
			zones = append(zones, wording.Spoken(z.Name))
		}
		text := addresses(server.Addresses)
		if len(zones) > 0 {
			text += " for " + strings.Join(zones, ", ")
		}
		if what := lab.Oddity(server); what != "" {
			text += "; " + what
		}
		v.flow("  "+wording.Spoken(server.Host), 34, text, plainStyle)
	}
	if !workshop {
		v.line()
		v.flow("", 0, fmt.Sprintf("Beside the story there is a workshop with %d more faults, a name for each way to fail: unquil lab show --workshop", others), plainStyle)
	}
}

// faultOptions are what is typed behind a name to see a fault.
func faultOptions(f lab.Fault) string {
	text := f.Type
	for _, option := range [][2]string{{"from", f.From}, {"--lab-machine", f.Machine}, {"--lab-path", f.Path}} {
		if option[1] != "" {
			text += " " + option[0] + " " + option[1]
		}
	}
	if f.Listen {
		text += " --listen"
	}
	return text
}

func addresses(list []netip.Addr) string {
	words := make([]string, len(list))
	for i, a := range list {
		words[i] = a.String()
	}
	return strings.Join(words, ", ")
}

// Exported says what was written to a folder.
func (v *View) Exported(folder string, files []string) {
	v.flow("", 0, fmt.Sprintf("%s written to %s", wording.Count(len(files), "file", "files"), folder), plainStyle)
}
