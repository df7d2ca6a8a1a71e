package lab

import (
	"encoding/binary"
	"net/netip"
	"slices"
	"strings"
	"time"

	"unquil/core/wire"
)

// host answers the messages that reach one of the lab's machines.
type host interface {
	// called is what the host says when it is asked which machine it is (RFC 5001).
	called() string
	// oddity is how the host goes wrong.
	oddity() quirk
	// answer returns the reply to a question, or false for silence.
	answer(query *wire.Message, client netip.Addr) (reply *wire.Message, ok bool)
}

// authoritative is a server of zones.
type authoritative struct {
	Server
	zones []*zone
}

func (s *authoritative) oddity() quirk { return quirks[s.Quirk] }

func (s *authoritative) called() string { return strings.TrimSuffix(s.Host, ".") }

func (s *authoritative) answer(query *wire.Message, client netip.Addr) (*wire.Message, bool) {
	if s.State != Up {
		return nil, false
	}
	m := replyTo(query)
	q := query.Questions[0]
	if edns, ok := query.EDNS(); ok {
		if subnet, given := edns.Option(wire.ClientSubnet); given {
			if network, _, ok := (wire.Option{Code: wire.ClientSubnet, Data: subnet}).Subnet(); ok {
				client = network.Addr()
			}
		}
	}
	var best *zone
	for _, z := range s.zones {
		if q.Class != wire.IN || !q.Name.IsSubdomainOf(z.origin) || z.clients.IsValid() && !z.clients.Contains(client) {
			continue
		}
		if q.Type == wire.DS && best != nil && z.origin.Equal(q.Name) {
			continue // digests are the zone's above (RFC 4035 §3.1.4.1)
		}
		if q.Type == wire.DS && best != nil && best.origin.Equal(q.Name) {
			best = nil
		}
		nearer := best == nil || z.origin.Labels() > best.origin.Labels()
		if nearer || z.origin.Equal(best.origin) && z.clients.Bits() > best.clients.Bits() {
			best = z
		}
	}
	if best == nil {
		m.Flags = m.Flags.WithRCode(wire.Refused)
		return m, true
	}
	best.answer(q, m)
	if edns, ok := query.EDNS(); ok && edns.DO && best.signer != nil {
		best.sign(q, m)
	}
	return m, true
}

// expiry is the content of a server's EXPIRE option; "" without one.
func expiry(h host) string {
	s, ok := h.(*authoritative)
	if !ok || s.Expires == "" {
		return ""
	}
	left, err := time.ParseDuration(s.Expires)
	if err != nil {
		return ""
	}
	return string(binary.BigEndian.AppendUint32(nil, uint32(left/time.Second)))
}

// replyTo starts a reply: the ID, the question and what is taken over of the flags.
func replyTo(query *wire.Message) *wire.Message {
	return &wire.Message{
		ID: query.ID, Questions: query.Questions,
		Flags: wire.QR | query.Flags&(wire.RD|wire.CD),
	}
}

// respond reads a query, has it answered, and returns the reply's bytes as they
// fit the transport; nil is silence.
func respond(h host, client netip.Addr, data []byte, stream bool) []byte {
	query, err := wire.ReadMessage(data)
	if query.Flags.Has(wire.QR) || len(data) < 12 {
		return nil
	}
	if err != nil || len(query.Questions) != 1 || query.Flags.Opcode() != wire.OpQuery {
		code := wire.FormErr
		if err == nil && query.Flags.Opcode() != wire.OpQuery {
			code = wire.NotImp
		}
		refusal := wire.Message{ID: query.ID, Flags: (wire.QR | query.Flags&wire.RD).WithRCode(code).WithOpcode(query.Flags.Opcode())}
		out, _ := refusal.Bytes()
		return out
	}
	odd := h.oddity()
	if odd.loses != nil && odd.loses(&query, stream, 0) {
		return nil
	}
	reply, ok := h.answer(&query, client)
	if !ok {
		return nil
	}
	if odd.changes != nil {
		odd.changes(&query, reply)
	}
	out := fitted(h, &query, reply, stream)
	if odd.loses != nil && odd.loses(&query, stream, len(out)) {
		return nil
	}
	if odd.bytes != nil {
		out = odd.bytes(out)
	}
	return out
}

// fitted is the reply's bytes, with EDNS and cut as the question allows.
func fitted(h host, query, reply *wire.Message, stream bool) []byte {
	limit := 512
	odd := h.oddity()
	if opt, ok := query.OPT(); ok && reply.RCode() != wire.FormErr && !odd.hidden {
		limit = max(limit, min(int(opt.Class), 1232))
		said, _ := reply.EDNS() // there is one OPT record at most (RFC 6891 §6.1.1)
		edns, code := wire.EDNS{Size: 1232, Options: said.Options}, reply.RCode()
		reply.Additional = slices.DeleteFunc(reply.Additional, func(r wire.Record) bool { return r.Type == wire.OPT })
		if asked, ok := query.EDNS(); ok {
			if _, wanted := asked.Option(wire.NSID); wanted {
				edns.Options = append(edns.Options, wire.Option{Code: wire.NSID, Data: h.called()})
			}
			if subnet, given := asked.Option(wire.ClientSubnet); given && len(subnet) >= 4 && reply.Flags.Has(wire.AA) {
				// The answer holds for the network that was asked for (RFC 7871 §7.2.1).
				edns.Options = append(edns.Options, wire.Option{Code: wire.ClientSubnet, Data: subnet[:3] + subnet[2:3] + subnet[4:]})
			}
			if left := expiry(h); left != "" {
				if _, wanted := asked.Option(wire.Expire); wanted {
					edns.Options = append(edns.Options, wire.Option{Code: wire.Expire, Data: left})
				}
			}
			edns.DO = asked.DO
		}
		reply.Additional = append(reply.Additional, edns.Record(code))
	}
	if stream {
		limit = 65535
	}
	out, err := reply.Bytes()
	if err == nil && len(out) <= limit && (stream || !odd.cut) {
		return out
	}
	// What does not fit is left out whole, and said to be (RFC 2181 §9).
	cut := *reply
	cut.Flags |= wire.TC
	cut.Answer, cut.Authority, cut.Additional = nil, nil, nil
	if opt, ok := reply.OPT(); ok {
		cut.Additional = []wire.Record{opt}
	}
	out, _ = cut.Bytes()
	return out
}
