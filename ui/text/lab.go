package text

import (
	"fmt"
	"net/netip"
	"strings"

	"unquil/lab"
)

// Scenario draws the simulated internet: the story, what is wrong, who is who.
func (v *View) Scenario(s *lab.Scenario) {
	v.flow("", 0, strings.TrimSpace(s.Story), plainStyle)
	v.line()
	v.line(strong.Render("what is wrong"))
	for _, f := range s.Faults {
		v.flow("  ", 2, subject.Render(spoken(f.Name))+" "+quiet.Render(f.Type+" from "+f.From), plainStyle)
		v.flow("", 6, f.Complaint, plainStyle)
		v.flow("", 6, fmt.Sprintf("%s (%s at %s)", f.What, f.Finding, spoken(f.At)), quiet)
	}
	v.line()
	v.line(strong.Render("what is healthy"))
	for _, h := range s.Healthy {
		v.flow("  ", 2, spoken(h.Name)+" "+quiet.Render(strings.Join(h.Types, ", ")), plainStyle)
	}
	v.line()
	v.line(strong.Render("resolvers"))
	for _, r := range s.Resolvers {
		v.flow("  "+r.Label, labelWidth, addresses(r.Addresses)+", "+r.Place, plainStyle)
	}
	v.line()
	v.line(strong.Render("servers of zones"))
	for _, server := range s.Servers {
		var zones []string
		for _, z := range server.Zones {
			zones = append(zones, spoken(z.Name))
		}
		text := addresses(server.Addresses)
		if len(zones) > 0 {
			text += " for " + strings.Join(zones, ", ")
		}
		if server.State != lab.Up {
			text += " " + string(server.State)
		}
		v.flow("  "+spoken(server.Host), 34, text, plainStyle)
	}
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
	v.flow("", 0, fmt.Sprintf("%s written to %s", plural(len(files), "file", "files"), folder), plainStyle)
}
