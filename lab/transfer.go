package lab

import (
	"slices"
	"time"

	"unquil/core/tsig"
	"unquil/core/wire"
)

// perMessage is how many bytes of records go into one message of a transfer.
const perMessage = 16 << 10

// transfer answers a question for a whole zone (RFC 5936) or for what changed in
// it (RFC 1995), message by message. It reports whether the query was one.
func (c replier) transfer(data []byte, write func([]byte)) bool {
	server, ok := c.host.(*authoritative)
	query, err := wire.ReadMessage(data)
	if !ok || err != nil || len(query.Questions) != 1 || server.State != Up {
		return false
	}
	q := query.Questions[0]
	if q.Type != wire.AXFR && q.Type != wire.IXFR {
		return false
	}
	c.lab.wait(c.lab.latency)
	chain, allowed := server.admit(data, c.lab.Scenario.Keys, c.lab.clock())
	var content *zone
	for _, z := range server.zones {
		if z.origin.Equal(q.Name) && z.authority {
			content = z
		}
	}
	send := func(records []wire.Record, code wire.RCode) {
		m := replyTo(&query)
		m.Answer, m.Flags = records, (m.Flags | wire.AA).WithRCode(code)
		if out, err := m.Bytes(); err == nil {
			if chain != nil {
				out = chain.Sign(out, c.lab.clock())
			}
			write(out)
		}
	}
	if !allowed || content == nil {
		send(nil, wire.Refused)
		return true
	}
	records := content.all()
	if since, ok := serialOf(&query); ok && q.Type == wire.IXFR {
		records = content.since(since)
	}
	size, from := 0, 0
	for i, r := range records {
		if size += len(r.Name.Wire()) + len(r.Data) + 10; size > perMessage {
			send(records[from:i], wire.NoError)
			size, from = 0, i
		}
	}
	send(records[from:], wire.NoError)
	return true
}

// admit reports whether who sent the query may have zones, and how to sign the
// replies; nil: not at all.
func (s *authoritative) admit(query []byte, keys []Key, now time.Time) (*tsig.Chain, bool) {
	for _, k := range keys {
		key, err := tsig.NewKey(k.Name, k.Algorithm, k.Secret)
		if err != nil {
			continue
		}
		chain := &tsig.Chain{Key: key}
		if tsig.Signed(query) && chain.Check(query, now) == nil {
			chain.Answer()
			return chain, s.Transfers != ToNobody
		}
	}
	return nil, s.Transfers == ToAll
}

// serialOf is the version that a question for changes has.
func serialOf(query *wire.Message) (uint32, bool) {
	for _, r := range query.Authority {
		if soa, ok := r.Authority(); ok {
			return soa.Serial, true
		}
	}
	return 0, false
}

// all are the zone's records in canonical order, between its SOA and its SOA.
func (z *zone) all() []wire.Record {
	var rest []wire.Record
	for _, records := range z.nodes {
		for _, r := range records {
			if r.Type != wire.SOA && !slices.Contains(z.vouched, r) {
				rest = append(rest, r)
			}
		}
	}
	all := append([]wire.Record{z.soa}, wire.SortCanonical(rest)...)
	return append(all, z.soa)
}

// since is what changed since a version, or the whole zone where that is not known.
func (z *zone) since(serial uint32) []wire.Record {
	now, _ := z.soa.Authority()
	if !wire.NewerSerial(now.Serial, serial) {
		return []wire.Record{z.soa}
	}
	if z.before == nil {
		return z.all()
	}
	if then, _ := z.before.soa.Authority(); then.Serial != serial {
		return z.all()
	}
	lacking := func(a, b []wire.Record) (only []wire.Record) {
		have := map[wire.Record]bool{}
		for _, r := range b {
			have[r.Canonical()] = true
		}
		for _, r := range a {
			if !have[r.Canonical()] && r.Type != wire.SOA {
				only = append(only, r)
			}
		}
		return only
	}
	old, new := z.before.all(), z.all()
	changes := append([]wire.Record{z.soa, z.before.soa}, lacking(old, new)...)
	changes = append(append(changes, z.soa), lacking(new, old)...)
	return append(changes, z.soa)
}
