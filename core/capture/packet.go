package capture

import (
	"encoding/binary"
	"net/netip"
	"time"
)

// Packet is a UDP datagram found in a record.
type Packet struct {
	Number   int
	At       int64 // nanoseconds since 1970 UTC; 0 when not known
	From, To netip.AddrPort
	Payload  []byte // aliases the record
	Cut      bool   // the capture holds less of it than was sent
}

// Time is when the packet was captured; the zero Time when not known.
func (p *Packet) Time() time.Time { return timeOf(p.At) }

// Contents is what a record turned out to hold.
type Contents uint8

// The contents.
const (
	Datagram  Contents = iota // a UDP datagram
	Other                     // something else that is well formed
	Fragment                  // part of a datagram
	Malformed                 // headers that contradict themselves, or a record cut within them
)

// Ethernet types.
const (
	typeIPv4 = 0x0800
	typeIPv6 = 0x86dd
	typeVLAN = 0x8100
)

// IP protocols.
const (
	protocolTCP = 6
	protocolUDP = 17
)

// Decode finds the datagram in a record and sets p from it; for any other
// contents p is left as it is.
func (r *Record) Decode(p *Packet) Contents {
	switch r.Link {
	case Ethernet:
		return r.ethernet(p)
	case RawIP:
		return r.ip(r.Data, p)
	}
	return Other
}

func (r *Record) ethernet(p *Packet) Contents {
	data := r.Data
	if len(data) < 14 {
		return Malformed
	}
	etherType, at := binary.BigEndian.Uint16(data[12:]), 14
	for etherType == typeVLAN {
		if len(data) < at+4 {
			return Malformed
		}
		etherType, at = binary.BigEndian.Uint16(data[at+2:]), at+4
	}
	if etherType != typeIPv4 && etherType != typeIPv6 {
		return Other
	}
	return r.ip(data[at:], p)
}

func (r *Record) ip(data []byte, p *Packet) Contents {
	if len(data) == 0 {
		return Malformed
	}
	switch data[0] >> 4 {
	case 4:
		return r.ipv4(data, p)
	case 6:
		return r.ipv6(data, p)
	}
	return Malformed
}

func (r *Record) ipv4(data []byte, p *Packet) Contents {
	if len(data) < 20 {
		return Malformed
	}
	header, total := int(data[0]&15)*4, int(binary.BigEndian.Uint16(data[2:]))
	if header < 20 || total < header || len(data) < header {
		return Malformed
	}
	if data[9] != protocolUDP {
		return Other
	}
	if binary.BigEndian.Uint16(data[6:])&0x3fff != 0 { // more fragments, or an offset
		return Fragment
	}
	from, to := netip.AddrFrom4([4]byte(data[12:16])), netip.AddrFrom4([4]byte(data[16:20]))
	return r.udp(data[header:min(total, len(data))], from, to, p)
}

func (r *Record) ipv6(data []byte, p *Packet) Contents {
	if len(data) < 40 {
		return Malformed
	}
	from, to := netip.AddrFrom16([16]byte(data[8:24])), netip.AddrFrom16([16]byte(data[24:40]))
	next, body := data[6], data[40:min(len(data), 40+int(binary.BigEndian.Uint16(data[4:])))]
	for {
		switch next {
		case protocolUDP:
			return r.udp(body, from, to, p)
		case 44:
			return Fragment
		case 0, 43, 60: // hop-by-hop, routing, destination options (RFC 8200 §4)
			if len(body) < 8 || len(body) < 8+int(body[1])*8 {
				return Malformed
			}
			next, body = body[0], body[8+int(body[1])*8:]
		default:
			return Other
		}
	}
}

func (r *Record) udp(data []byte, from, to netip.Addr, p *Packet) Contents {
	if len(data) < 8 {
		return Malformed
	}
	size := int(binary.BigEndian.Uint16(data[4:]))
	if size < 8 {
		return Malformed
	}
	cut := size > len(data)
	if cut && len(r.Data) == r.Length {
		return Malformed // nothing was cut off, so the length is wrong
	}
	*p = Packet{
		Number: r.Number, At: r.At, Cut: cut, Payload: data[8:min(size, len(data))],
		From: netip.AddrPortFrom(from, binary.BigEndian.Uint16(data)),
		To:   netip.AddrPortFrom(to, binary.BigEndian.Uint16(data[2:])),
	}
	return Datagram
}
