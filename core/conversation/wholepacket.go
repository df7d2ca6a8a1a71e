package conversation

import (
	"bytes"
	"encoding/binary"
	"net/netip"
	"slices"

	"unquil/core/capture"
)

// WholePacket is one packet whole.
type WholePacket struct {
	Record   capture.Record // with bytes of its own
	Contents capture.Contents
	Layers   []capture.Layer // its headers in words
	Fault    *capture.Fault  // of a malformed one; nil for the others
	Report   *capture.Report // of an ICMP error; nil for the others
	From, To netip.AddrPort  // of an ICMP error: of the packet that it quotes
	Cut      bool            // the capture holds less of it than was sent
	Payload  []byte          // what lies behind the headers
	// Message is the DNS message in it, or as much of one as the packet holds; nil without one.
	Message []byte
	// At is where Message, or without one Payload, begins in the record; -1 when it was put
	// together from fragments.
	At int
}

// WholePackets returns the packets of some numbers, as far as the captures have them. ports are
// those of [Options]. The error is that of a file; what came before it is returned too.
func WholePackets(packets []int, readers []*capture.Reader, ports []uint16) (map[int]*WholePacket, error) {
	found := map[int]*WholePacket{}
	if len(packets) == 0 {
		return found, nil
	}
	f := feed{options: Options{Ports: ports}}
	var p capture.Packet
	last := slices.Max(packets)
	for record, err := range capture.Merge(readers) {
		if err != nil {
			return found, err
		}
		if record.Number > last {
			break
		}
		if slices.Contains(packets, record.Number) {
			found[record.Number] = f.look(record)
		} else {
			f.decoder.Decode(record, &p) // fragments may be put together
		}
	}
	return found, nil
}

// look decodes a packet and keeps all of it.
func (f *feed) look(r *capture.Record) *WholePacket {
	l := &WholePacket{Record: *r, At: -1}
	l.Record.Data, l.Record.Comment = bytes.Clone(r.Data), bytes.Clone(r.Comment)
	f.kept = r.Link == capture.Served // and a message whatever its port
	f.decoder.Layers = &l.Layers      // to say it in words takes far longer than to decode
	defer func() { f.decoder.Layers = nil }()
	var p capture.Packet
	switch l.Contents = f.decoder.Decode(&l.Record, &p); l.Contents {
	case capture.Malformed:
		l.Fault = f.decoder.Fault()
		return l
	case capture.Datagram, capture.Segment, capture.ICMPError:
		l.From, l.To, l.Cut, l.Report = p.From.AddrPort(), p.To.AddrPort(), p.Cut, p.Report
	default:
		return l
	}
	l.Payload, l.At = p.Payload, f.decoder.Offset(p.Payload)
	if f.decoder.Lends() {
		l.Payload = bytes.Clone(p.Payload)
	}
	switch {
	case !f.mayHoldMessage(p.From.Port()) && !f.mayHoldMessage(p.To.Port()) || len(l.Payload) == 0:
	case !p.TCP || r.Link == capture.Served:
		l.Message = l.Payload
	case len(l.Payload) > 2 && int(binary.BigEndian.Uint16(l.Payload)) == len(l.Payload)-2: // RFC 1035 §4.2.2
		l.Message, l.At = l.Payload[2:], l.At+2
	}
	return l
}

// Multicast reports whether the packet is one of multicast names on the local link.
func (l *WholePacket) Multicast() bool {
	return l.From.Port() == multicastPort || l.To.Port() == multicastPort
}

// PartOf reports whether the packet belongs to an exchange: it is one of its packets, or a
// segment between the ends of its connection.
func (l *WholePacket) PartOf(p *Transaction) bool {
	if p.holds(l.Record.Number) {
		return true
	}
	if l.Contents != capture.Segment || !p.tcp {
		return false
	}
	client, server := p.Client().AddrPort(), p.Server().AddrPort()
	return l.From == client && l.To == server || l.From == server && l.To == client
}

// mayHoldMessage reports whether DNS messages come from a port or go to it.
func (f *feed) mayHoldMessage(port uint16) bool {
	return f.isDNS(port) || port == multicastPort || port == linkLocalPort
}
