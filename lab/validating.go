package lab

import (
	"context"
	"encoding/binary"
	"slices"

	"unquil/core/dnssec"
	"unquil/core/wire"
)

// inside asks the lab's own servers, without a network.
type inside struct{ *Lab }

// Cut knows nothing: what is signed tells.
func (inside) Cut(wire.Name) (is, known bool) { return false, false }

// Ask asks a server of a zone that can be reached.
func (l inside) Ask(_ context.Context, zone wire.Name, q wire.Question, turn int) (*wire.Message, int) {
	query := &wire.Message{ID: 1, Questions: []wire.Question{q}, Additional: []wire.Record{wire.EDNS{Size: 4096, DO: true}.Record(wire.NoError)}}
	for _, server := range l.Scenario.Servers {
		for _, served := range server.Zones {
			if served.Name != zone.String() || server.State != Up || server.Quirk != "" || served.For != "" {
				continue
			}
			if turn--; turn < 0 {
				return l.deliver(l.Scenario.Machine, server.Addresses[0], query), 0
			}
		}
	}
	return nil, 0
}

// zoneOf is the nearest zone above a name that some server of the lab has.
func (l inside) zoneOf(name wire.Name) wire.Name {
	for zone := name.Fold(); ; zone = zone.Parent() {
		for _, server := range l.Scenario.Servers {
			for _, served := range server.Zones {
				if served.Name == zone.String() {
					return zone
				}
			}
		}
		if zone.IsRoot() {
			return zone
		}
	}
}

// extended are the codes by which a resolver says why it does not accept an answer (RFC 8914 §4).
var extended = map[dnssec.Flaw]uint16{dnssec.SignatureExpired: 7, dnssec.SignatureNotYet: 8, dnssec.DSWithoutKey: 9, dnssec.ChainMissing: 9, dnssec.SignatureMissing: 10, dnssec.KeyUnsigned: 10, dnssec.DenialIncomplete: 12}

// validated makes of an answer what a resolver does that checks signatures: what is broken it does not
// hand on, and what is secure it says to be.
func (r *resolver) validated(query, m *wire.Message) *wire.Message {
	if query.Flags.Has(wire.CD) || m.RCode() != wire.NoError && m.RCode() != wire.NXDomain {
		return m
	}
	source, q := inside{r.lab}, query.Questions[0]
	v := &dnssec.Validator{Source: source, Anchors: r.lab.Anchors(), Now: r.lab.now()}
	secure := true
	for range 8 {
		reply, _ := source.Ask(context.Background(), source.zoneOf(q.Name), q, 0)
		if reply == nil {
			return m
		}
		result := v.Judge(context.Background(), q, reply)
		if result.State == dnssec.Bogus {
			failed := replyTo(query)
			failed.Flags |= wire.RA
			failed.Flags = failed.Flags.WithRCode(wire.ServFail)
			code := uint16(6) // DNSSEC Bogus
			if known, ok := extended[result.Break.Flaw]; ok {
				code = known
			}
			if _, asked := query.OPT(); asked {
				failed.Additional = append(failed.Additional, wire.EDNS{Size: 1232, Options: []wire.Option{{Code: wire.EDE, Data: string(binary.BigEndian.AppendUint16(nil, code))}}}.Record(wire.NoError))
			}
			return failed
		}
		secure = secure && result.State == dnssec.Secure
		next := q.Name
		for _, record := range reply.Answer {
			if target, ok := record.Target(); ok && record.Type == wire.CNAME && record.Name.Equal(next) {
				next = target
			}
		}
		if next.Equal(q.Name) || next.IsSubdomainOf(source.zoneOf(q.Name)) {
			break
		}
		q.Name = next
	}
	if edns, ok := query.EDNS(); secure && (ok && edns.DO || query.Flags.Has(wire.AD)) {
		m.Flags |= wire.AD
	}
	return m
}

// handOn gives a reply the signatures, and the proofs of what is not there, that the zones' own servers
// gave with the same records.
func (r *resolver) handOn(q wire.Question, m *wire.Message) {
	source := inside{r.lab}
	for range 8 {
		above := q.Name
		if q.Type == wire.DS && !above.IsRoot() {
			above = above.Parent() // whose it is
		}
		zone := source.zoneOf(above)
		reply, _ := source.Ask(context.Background(), zone, q, 0)
		if reply == nil {
			return
		}
		next := q.Name
		for _, record := range reply.Answer {
			if target, ok := record.Target(); ok && record.Type == wire.CNAME && record.Name.Equal(next) {
				next = target
			}
			if record.Type == wire.RRSIG && !slices.Contains(m.Answer, record) {
				m.Answer = append(m.Answer, record)
			}
		}
		if next.Equal(q.Name) || next.IsSubdomainOf(zone) {
			if q.Type != wire.NS || len(m.Answer) == 0 {
				m.Authority = reply.Authority
			}
			return
		}
		q.Name = next
	}
}
