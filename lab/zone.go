package lab

import (
	"fmt"
	"net/netip"

	"unquil/core/wire"
)

// zone is the content of one zone as a server has it.
type zone struct {
	origin    wire.Name
	nodes     map[wire.Name][]wire.Record // by owner in lower case; an empty non-terminal has none
	soa       wire.Record
	negative  wire.Record // the SOA as it stands beside "there is none" (RFC 2308 §3)
	authority bool
	before    *zone         // the version before; nil when it is not known
	signer    *signer       // nil where it is not signed
	vouched   []wire.Record // keys and digests, which are in no master file, and are not transferred
	chain     []denial      // of a signed zone; made when it is needed
	clients   netip.Prefix  // who gets this content; invalid: everybody else
}

func newZone(served Served) (*zone, error) {
	origin, records, err := served.records()
	if err != nil {
		return nil, err
	}
	z := &zone{origin: origin, nodes: map[wire.Name][]wire.Record{}, authority: !served.WithoutAuthority}
	for _, r := range records {
		if !r.Name.IsSubdomainOf(origin) {
			return nil, fmt.Errorf("zone %s: %s lies outside it", origin, r.Name)
		}
		owner := r.Name.Fold()
		z.nodes[owner] = append(z.nodes[owner], r)
		for name := owner; !name.Equal(origin); {
			name = name.Parent()
			z.nodes[name] = append(z.nodes[name], nil...)
		}
		if r.Type == wire.SOA {
			z.soa = r
		}
	}
	if served.Before != "" {
		older := served
		older.File, older.Before = served.Before, ""
		if z.before, err = newZone(older); err != nil {
			return nil, err
		}
	}
	if served.For != "" {
		if z.clients, err = netip.ParsePrefix(served.For); err != nil {
			return nil, fmt.Errorf("zone %s: %w", origin, err)
		}
	}
	soa, ok := z.soa.Authority()
	if !ok {
		return nil, fmt.Errorf("zone %s: no SOA record", origin)
	}
	z.negative = z.soa
	z.negative.TTL = min(z.soa.TTL, soa.Minimum)
	return z, nil
}

// of returns the records of one type at a name.
func (z *zone) of(name wire.Name, t wire.Type) (found []wire.Record) {
	for _, r := range z.nodes[name.Fold()] {
		if r.Type == t || t == wire.ANY {
			found = append(found, r)
		}
	}
	return found
}

// answer fills m with the zone's answer to q (RFC 1034 §4.3.2), following
// aliases while they stay in the zone.
func (z *zone) answer(q wire.Question, m *wire.Message) {
	if z.authority {
		m.Flags |= wire.AA
	}
	name := q.Name
	for range 16 {
		if ns := z.delegation(name); ns != nil && (q.Type != wire.DS || !ns[0].Name.Equal(name)) { // DS records are above the cut (RFC 4035 §3.1.4.1)
			if len(m.Answer) == 0 {
				m.Flags &^= wire.AA
			}
			m.Authority = append(m.Authority, ns...)
			z.glue(ns, m)
			return
		}
		if dname, alias, ok := z.dname(name); ok {
			m.Answer = append(m.Answer, dname, alias)
			if name, _ = alias.Target(); !name.IsSubdomainOf(z.origin) {
				return
			}
			continue
		}
		node, exists := z.nodes[name.Fold()]
		if !exists {
			node, exists = z.wildcard(name)
		}
		if !exists {
			m.Flags = m.Flags.WithRCode(wire.NXDomain)
			m.Authority = append(m.Authority, z.negative)
			return
		}
		found, alias := match(node, name, q.Type)
		m.Answer = append(m.Answer, found...)
		if len(found) > 0 {
			if q.Type == wire.NS {
				z.glue(found, m)
			}
			return
		}
		if alias == nil {
			m.Authority = append(m.Authority, z.negative)
			return
		}
		for _, seen := range m.Answer {
			if seen == *alias {
				return
			}
		}
		m.Answer = append(m.Answer, *alias)
		if name, _ = alias.Target(); !name.IsSubdomainOf(z.origin) {
			return
		}
	}
}

// match picks the records of a type, or else the alias, as owned by name.
func match(node []wire.Record, name wire.Name, t wire.Type) (found []wire.Record, alias *wire.Record) {
	for _, r := range node {
		r.Name = name
		if r.Type == t || t == wire.ANY {
			found = append(found, r)
		} else if r.Type == wire.CNAME {
			alias = &r
		}
	}
	return found, alias
}

// delegation returns the NS records of the zone cut above or at name, below the apex.
func (z *zone) delegation(name wire.Name) []wire.Record {
	for depth := z.origin.Labels() + 1; depth <= name.Labels(); depth++ {
		if ns := z.of(name.Ancestor(depth), wire.NS); ns != nil {
			return ns
		}
	}
	return nil
}

// dname returns the DNAME record above name, and the alias that it makes of name
// (RFC 6672 §3.1).
func (z *zone) dname(name wire.Name) (dname, alias wire.Record, ok bool) {
	for depth := z.origin.Labels(); depth < name.Labels(); depth++ {
		for _, r := range z.of(name.Ancestor(depth), wire.DNAME) {
			base, _ := r.Target()
			if target, err := name.Rebase(r.Name, base); err == nil {
				return r, wire.Record{Name: name, Type: wire.CNAME, Class: wire.IN, TTL: r.TTL, Data: target.Wire()}, true
			}
		}
	}
	return dname, alias, false
}

// glue adds the addresses that the zone holds for the hosts of a delegation.
func (z *zone) glue(ns []wire.Record, m *wire.Message) {
	for _, r := range ns {
		host, _ := r.Target()
		for _, t := range []wire.Type{wire.A, wire.AAAA} {
			m.Additional = append(m.Additional, z.of(host, t)...)
		}
	}
}

// wildcard returns the records that stand for a name that is not there (RFC 4592 §3.3.1).
func (z *zone) wildcard(name wire.Name) ([]wire.Record, bool) {
	for closest := name.Parent(); closest.IsSubdomainOf(z.origin); closest = closest.Parent() {
		if _, exists := z.nodes[closest.Fold()]; exists {
			star, err := closest.Child("*")
			if err != nil {
				return nil, false
			}
			node, ok := z.nodes[star.Fold()]
			return node, ok
		}
		if closest.IsRoot() {
			break
		}
	}
	return nil, false
}
