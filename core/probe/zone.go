package probe

import (
	"context"
	"crypto/rand"
	"fmt"
	"net/netip"
	"slices"
	"sync"

	"unquil/core/delegation"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/signing"
	"unquil/core/wire"
	"unquil/core/zonecare"
)

// Zone is a zone's servers side by side, and the walk that found them.
type Zone struct {
	zonecare.Report
	Walk        *delegation.Walk
	Signing     *signing.Report // how it is signed; nil where it is not, or that is left alone
	Undelegated *Undelegated    // why the zone was found at a server that nobody lists; nil otherwise
	Held        []zonecare.Held // each server against what it should serve; nil when that was not asked for
}

// AllFindings are those of the walk about the zone and those of its servers,
// heaviest first. What both see is told once.
func (z *Zone) AllFindings() []finding.Finding {
	var all []finding.Finding
	for _, f := range z.Walk.Findings {
		if f.Code != finding.SerialsDiffer && z.Undelegated == nil {
			all = append(all, f)
		}
	}
	if u := z.Undelegated; u != nil {
		f := finding.New(finding.NoDelegation, finding.Fault, finding.About{Zone: u.Zone.String(), Server: u.Server.Host.String(), Address: u.Server.Address.String()},
			fmt.Sprintf("%s has the zone %s, and %s does not delegate it: nobody can find it.", u.Server.Host.Spoken(), u.Zone.Spoken(), u.Parent.Spoken()), u.Exchange.Number)
		f.Next = finding.AddNSRecords(u.Parent.Spoken(), u.Zone.Spoken())
		all = append(all, f)
	}
	for _, held := range z.Held {
		all = append(all, held.Findings...)
	}
	if z.Signing != nil {
		all = append(all, z.Signing.Findings...)
	}
	near := slices.ContainsFunc(all, func(f finding.Finding) bool { return f.Code == finding.EDNSLost })
	for _, f := range z.Findings {
		if f.Code != finding.EDNSBreaks || !near { // else it is none of the servers'
			all = append(all, f)
		}
	}
	finding.Sort(all)
	return all
}

// Found is how the name that was asked about led to the zone, in one sentence
// without a final stop; "" where the name is the zone's own.
func (z *Zone) Found() string {
	name := z.Walk.Name()
	if z.Undelegated != nil {
		return fmt.Sprintf("the walk from the root ends at %s, which does not delegate %s", z.Undelegated.Parent.Spoken(), z.Zone.Spoken())
	}
	if z.Walk.Question.Name.Equal(z.Zone) {
		return ""
	}
	lead := name.Spoken()
	if len(z.Walk.Aliases) > 0 {
		lead = fmt.Sprintf("%s points (CNAME) to %s, which", z.Walk.Question.Name.Spoken(), lead)
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

// ZonePlan says how to look at a zone. The zero value is ready to use.
type ZonePlan struct {
	zonecare.Plan
	Also    []exchange.Server      // servers to be looked at that may be listed by nobody
	Against *zonecare.ZoneContents // what the servers should serve; nil: that is not looked at
}

// Zone finds the zone that holds a name by walking from the root, and holds its
// servers side by side. ok is false when the walk found no zone to look at.
func (p Prober) Zone(ctx context.Context, name wire.Name, plan ZonePlan) (zone Zone, ok bool) {
	walker := p.Walker()
	zone.Walk = walker.Walk(ctx, wire.Question{Name: name, Type: wire.SOA, Class: wire.IN})
	last := zone.Walk.Last()
	if last == nil || zone.Walk.End == delegation.EndNoWayOut || zone.Walk.End == delegation.EndCutShort {
		return zone, false
	}
	parent := zonecare.Parent{}
	if steps := zone.Walk.Steps; len(steps) > 1 {
		parent = parentView(steps[len(steps)-2], last.Zone)
	}
	var servers []zonecare.Server
	for _, r := range last.Replies {
		if r.Address.IsValid() && r.Exchange != nil {
			servers = append(servers, zonecare.Server{Host: r.Host, Address: r.Address})
		}
	}
	origin := last.Zone
	if apex := apexOf(zone.Walk); !apex.Equal(origin) {
		origin, parent = apex, zonecare.Parent{} // it is on the servers of its parent, and nobody had to refer to it
	}
	holder := p.undelegated(ctx, name, origin, plan.Also)
	if holder != nil {
		// A zone that its parent does not know of: nobody but those who may hold it can be looked at.
		zone.Undelegated, origin, parent, servers = holder, holder.Zone, zonecare.Parent{}, nil
	}
	for _, also := range plan.Also {
		host, err := wire.ParseName(also.Name())
		if err != nil || slices.ContainsFunc(servers, func(s zonecare.Server) bool { return s.Address == also.Address.Addr() }) {
			continue
		}
		plan.Unlisted = append(plan.Unlisted, zonecare.Server{Host: host, Address: also.Address.Addr()})
	}
	if holder == nil {
		p.listedByZone(ctx, last, &plan.Plan)
	}
	if len(servers)+len(plan.Unlisted) == 0 {
		return zone, false
	}
	plan.Stranger, plan.Signed = p.stranger(origin), holder == nil && signed(zone.Walk)
	zone.Report = zonecare.Check(ctx, p.Session, origin, parent, servers, plan.Plan)
	if holder == nil {
		zone.Signing = p.signing(ctx, &zone)
	}
	if plan.Against != nil {
		zone.Held = zone.Report.Against(ctx, p.Session, plan.Against)
	}
	return zone, true
}

// apexOf is the zone that a walk's answer comes from: by the owner of the SOA record in it,
// since a zone may be on the same servers as its parent.
func apexOf(walk *delegation.Walk) wire.Name {
	last := walk.Last()
	if last.Chosen == nil || last.Chosen.Stance != delegation.Answers {
		return last.Zone
	}
	reply := last.Chosen.Exchange.Reply
	for _, r := range slices.Concat(reply.Answer, reply.Authority) {
		if r.Type == wire.SOA && last.Name.IsSubdomainOf(r.Name) && r.Name.IsSubdomainOf(last.Zone) {
			return r.Name
		}
	}
	return last.Zone
}

// Undelegated is a zone that a server holds and that its parent does not delegate.
type Undelegated struct {
	Zone, Parent wire.Name
	Server       zonecare.Server
	Exchange     *exchange.Exchange
}

// undelegated asks servers that nobody lists whether they hold a zone for name
// below the one that the walk ended at; nil when none does.
func (p Prober) undelegated(ctx context.Context, name, above wire.Name, servers []exchange.Server) *Undelegated {
	options := p.Session.Client.Options
	options.Iterative = true
	var requests []exchange.Request
	for _, s := range servers {
		requests = append(requests, exchange.Request{Options: &options, Question: wire.Question{Name: name, Type: wire.SOA, Class: wire.IN}, Server: s})
	}
	for i, e := range p.Session.AskAll(ctx, requests) {
		if !e.Authoritative() {
			continue
		}
		for _, r := range slices.Concat(e.Reply.Answer, e.Reply.Authority) {
			if r.Type == wire.SOA && name.IsSubdomainOf(r.Name) && r.Name.IsSubdomainOf(above) && !r.Name.Equal(above) {
				host, _ := wire.ParseName(servers[i].Name()) // an address reads as a name too
				return &Undelegated{r.Name, above, zonecare.Server{Host: host, Address: servers[i].Address.Addr()}, e}
			}
		}
	}
	return nil
}

// listedByZone adds the servers that the zone lists and its parent does not, with
// the addresses that walks of their own find.
func (p Prober) listedByZone(ctx context.Context, last *delegation.Step, plan *zonecare.Plan) {
	list := last.Asked(last.Zone, wire.NS)
	if list == nil {
		return
	}
	var hosts []wire.Name
	for _, r := range list.Answer().Records {
		host, ok := r.Target()
		if ok && len(hosts) < maxMoreServers && !slices.ContainsFunc(last.Replies, func(r *delegation.Reply) bool { return r.Host.Equal(host) }) {
			hosts = append(hosts, host)
		}
	}
	found := make([][]zonecare.Server, len(hosts))
	var wait sync.WaitGroup
	for i, host := range hosts {
		wait.Go(func() {
			walker := delegation.Walker{Session: p.Session, Roots: p.Roots, One: true}
			for _, t := range []wire.Type{wire.A, wire.AAAA} {
				for _, r := range walker.Walk(ctx, wire.Question{Name: host, Type: t, Class: wire.IN}).Records {
					if a, ok := r.Address(); ok {
						found[i] = append(found[i], zonecare.Server{Host: host, Address: a})
					}
				}
			}
		})
	}
	wait.Wait()
	plan.ByZone = hosts
	plan.Unlisted = slices.Concat(slices.Concat(found...), plan.Unlisted)
}

// maxMoreServers is how many servers are looked at that only the zone lists.
const maxMoreServers = 8

// parentView is what the step before says of a zone: nothing, unless it refers there.
func parentView(before *delegation.Step, zone wire.Name) zonecare.Parent {
	parent := zonecare.Parent{Glue: map[wire.Name][]netip.Addr{}}
	if before.Chosen == nil || !before.Child.Equal(zone) {
		return parent
	}
	referral := before.Chosen.Exchange.Reply
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
	return parent
}

// stranger is a name outside a zone, which its servers should look up for nobody:
// one of the root servers' own.
func (p Prober) stranger(zone wire.Name) wire.Name {
	at := slices.IndexFunc(p.Roots, func(s delegation.Server) bool { return !s.Host.IsSubdomainOf(zone) })
	if at >= 0 {
		return p.Roots[at].Host
	}
	made, err := wire.Root.Child(exchange.Chance + rand.Text()[:12])
	if err != nil {
		return wire.Root
	}
	return made
}
