package diagnosis

import (
	"context"
	"crypto/rand"
	"fmt"
	"net/netip"
	"slices"

	"unquil/core/delegation"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/core/zonecare"
)

// Zone is a zone's servers side by side, and the walk that found them.
type Zone struct {
	zonecare.Report
	Walk *delegation.Walk
}

// AllFindings are those of the walk about the zone and those of its servers,
// heaviest first. What both see is told once.
func (z *Zone) AllFindings() []finding.Finding {
	var all []finding.Finding
	for _, f := range z.Walk.Findings {
		if f.Code != finding.SerialsDiffer {
			all = append(all, f)
		}
	}
	all = append(all, z.Findings...)
	finding.Sort(all)
	return all
}

// Found is how the name that was asked about led to the zone, in one sentence
// without a final stop; "" where the name is the zone's own.
func (z *Zone) Found() string {
	name := z.Walk.Name()
	if z.Walk.Question.Name.Equal(z.Zone) {
		return ""
	}
	lead := name.Spoken()
	if len(z.Walk.Aliases) > 0 {
		lead = fmt.Sprintf("%s is an alias that leads to %s, which", z.Walk.Question.Name.Spoken(), lead)
	}
	switch {
	case z.Walk.End == delegation.EndNoName:
		return fmt.Sprintf("%s does not exist (NXDOMAIN); the zone that says so is %s", lead, z.Zone.Spoken())
	case name.Equal(z.Zone):
		return lead + " is a zone"
	case z.Walk.End == delegation.EndAnswer || z.Walk.End == delegation.EndNoData:
		return fmt.Sprintf("%s is a name in %s, not a zone itself", lead, z.Zone.Spoken())
	}
	return fmt.Sprintf("the walk to %s ends at %s", name.Spoken(), z.Zone.Spoken())
}

// Zone finds the zone that holds a name by walking from the root, and holds its
// servers side by side. ok is false when the walk found no zone to look at.
func (p Probe) Zone(ctx context.Context, name wire.Name) (zone Zone, ok bool) {
	walker := delegation.Walker{Session: p.Session, Roots: p.Roots}
	zone.Walk = walker.Walk(ctx, wire.Question{Name: name, Type: wire.SOA, Class: wire.IN})
	last := zone.Walk.Last()
	if last == nil || zone.Walk.End == delegation.EndNoWayOut || zone.Walk.End == delegation.EndCutShort {
		return zone, false
	}
	parent := zonecare.Parent{Glue: map[wire.Name][]netip.Addr{}}
	if steps := zone.Walk.Steps; len(steps) > 1 && steps[len(steps)-2].Chosen != nil && steps[len(steps)-2].Child.Equal(last.Zone) {
		referral := steps[len(steps)-2].Chosen.Exchange.Reply
		_, ns, _ := exchange.ReferralZone(referral)
		for _, r := range ns {
			if host, ok := r.Target(); ok {
				parent.Hosts = append(parent.Hosts, host)
			}
		}
		for _, r := range referral.Additional {
			if a, ok := r.Address(); ok {
				parent.Glue[r.Name.Fold()] = append(parent.Glue[r.Name.Fold()], a)
			}
		}
	}
	var servers []zonecare.Server
	for _, r := range last.Replies {
		if r.Address.IsValid() && r.Exchange != nil {
			servers = append(servers, zonecare.Server{Host: r.Host, Address: r.Address})
		}
	}
	if len(servers) == 0 {
		return zone, false
	}
	zone.Report = zonecare.Check(ctx, p.Session, last.Zone, parent, servers, p.stranger(last.Zone))
	return zone, true
}

// stranger is a name outside a zone, which its servers should look up for nobody:
// one of the root servers' own.
func (p Probe) stranger(zone wire.Name) wire.Name {
	at := slices.IndexFunc(p.Roots, func(s delegation.Server) bool { return !s.Host.Under(zone) })
	if at >= 0 {
		return p.Roots[at].Host
	}
	made, err := wire.Root.Child("unquil-" + rand.Text()[:12])
	if err != nil {
		return wire.Root
	}
	return made
}
