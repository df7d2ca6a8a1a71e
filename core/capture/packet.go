package capture

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"time"
)

// Packet is what a record carries: a UDP datagram, a TCP segment, or what an
// ICMP error says of one of them.
type Packet struct {
	Number   int
	At       int64    // nanoseconds since 1970 UTC; 0 when not known
	From, To Endpoint // of an ICMP error: of the packet that it quotes
	Payload  []byte   // aliases the record; of an ICMP error: what it quotes of the payload
	Cut      bool     // the capture holds less of it than was sent
	Torn     bool     // of Cut: fragments of it are missing
	Hops     uint8    // how many routers it may still pass (TTL, or hop limit)
	TCP      bool
	Sealed   bool    // it travelled encrypted, as a server says that recorded it
	Alone    bool    // of a question that a server recorded: its reply is not
	Seq      uint32  // TCP
	Flags    uint8   // TCP
	Report   *Report // of an ICMP error; nil for the others
}

// Report is who sent an ICMP error, and what it says.
type Report struct {
	By   netip.Addr
	Says string
}

// The flags of a TCP segment (RFC 9293 §3.1).
const (
	FIN = 1
	SYN = 2
	RST = 4
	ACK = 16
)

// Time is when the packet was captured; the zero Time when not known.
func (p *Packet) Time() time.Time { return timeOf(p.At) }

// Contents is what a record turned out to hold.
type Contents uint8

// The contents.
const (
	Datagram  Contents = iota // a UDP datagram
	Segment                   // a TCP segment
	ICMPError                 // word that a packet did not arrive
	Other                     // something else that is well formed
	Fragment                  // part of a datagram that is not whole yet
	Malformed                 // headers that contradict themselves, or a record cut within them
	Unknown                   // a link type that is not read
)

// Ethernet types.
const (
	typeIPv4    = 0x0800
	typeIPv6    = 0x86dd
	typeVLAN    = 0x8100
	typeQinQ    = 0x88a8
	typeQinQOld = 0x9100
	typeMPLS    = 0x8847
	typeMPLSMul = 0x8848
	typePPPoE   = 0x8864
	typeBridged = 0x6558
)

// IP protocols.
const (
	protocolICMP   = 1
	protocolIPv4   = 4
	protocolTCP    = 6
	protocolUDP    = 17
	protocolIPv6   = 41
	protocolGRE    = 47
	protocolICMPv6 = 58
)

// portVXLAN is where tunnelled Ethernet frames go (RFC 7348 §5).
const portVXLAN = 4789

// maxNesting is how many tunnels within each other are looked into.
const maxNesting = 4

// Decoder finds what records carry. It remembers fragments until their datagram
// is whole. The zero value is ready to use.
type Decoder struct {
	// Torn is called with each datagram that stays without some of its fragments,
	// as far as it goes; nil: they are dropped.
	Torn func(*Packet)
	// Whole is called with the numbers of the packets whose fragments were put
	// together, the last of them being the one that is decoded; nil: nobody.
	Whole func(packets []int)
	// Layers, unless it is nil, gets the headers of each packet in words.
	Layers *[]Layer

	fragments fragments
	rec       *Record
	depth     int
	lends     bool
	fault     Fault
}

// Decode sets p from what the record carries. Payload aliases the record, or the
// decoder until its next call.
func (d *Decoder) Decode(r *Record, p *Packet) Contents {
	if d.fragments.oldest != nil {
		d.fragments.flush(r.At, d.Torn)
	}
	d.lends = false
	if r.Link == Ethernet && d.Layers == nil && plain(r.Data, p) {
		p.Number, p.At = r.Number, r.At
		return Datagram
	}
	d.rec, d.depth = r, 0
	switch r.Link {
	case Served:
		return d.served(r.Data, p)
	case Ethernet:
		return d.ethernet(r.Data, p)
	case RawIP, rawIPOld, rawIPOpenBSD, onlyIPv4, onlyIPv6:
		return d.ip(r.Data, p)
	}
	if link := links[r.Link]; link != nil {
		return link(d, r.Data, p)
	}
	return Unknown
}

// Waits reports whether there are fragments whose datagram is not whole.
func (d *Decoder) Waits() bool { return d.fragments.oldest != nil }

// Close ends the record: datagrams that lack fragments are handed to Torn.
func (d *Decoder) Close() { d.fragments.flush(1<<62, d.Torn) }

// Incomplete is how many datagrams stayed without some of their fragments.
func (d *Decoder) Incomplete() int { return d.fragments.incomplete }

func (d *Decoder) ethernet(data []byte, p *Packet) Contents {
	if len(data) < 14 {
		return d.bad("Ethernet", data, tooShort)
	}
	if d.Layers != nil {
		d.note("Ethernet", data[:14], "from", hardwareText(data[6:12]), "to", hardwareText(data[:6]))
	}
	return d.payload(binary.BigEndian.Uint16(data[12:]), data[14:], p)
}

func hardwareText(b []byte) string {
	return fmt.Sprintf("%02x:%02x:%02x:%02x:%02x:%02x", b[0], b[1], b[2], b[3], b[4], b[5])
}

// payload is what follows an Ethernet type.
func (d *Decoder) payload(etherType uint16, data []byte, p *Packet) Contents {
	for tags := 0; tags < 8; tags++ {
		switch etherType {
		case typeIPv4, typeIPv6:
			return d.ip(data, p)
		case typeVLAN, typeQinQ, typeQinQOld:
			if len(data) < 4 {
				return d.bad("VLAN", data, tooShort)
			}
			if d.Layers != nil {
				d.note("VLAN", data[:4], "number", fmt.Sprint(binary.BigEndian.Uint16(data)&0xfff))
			}
			etherType, data = binary.BigEndian.Uint16(data[2:]), data[4:]
		case typeMPLS, typeMPLSMul:
			return d.mpls(data, p)
		case typePPPoE:
			return d.pppoe(data, p)
		case typeBridged:
			return d.ethernet(data, p)
		default:
			return Other
		}
	}
	return d.bad("VLAN", data, tooDeep)
}

// mpls skips labels to the bottom of their stack (RFC 3032 §2.1), below which the
// packet tells by itself what it is.
func (d *Decoder) mpls(data []byte, p *Packet) Contents {
	for len(data) >= 4 {
		bottom := data[2]&1 != 0
		if d.Layers != nil {
			d.note("MPLS", data[:4], "label", fmt.Sprint(binary.BigEndian.Uint32(data)>>12))
		}
		if data = data[4:]; bottom {
			return d.ip(data, p)
		}
	}
	return d.bad("MPLS", data, tooShort)
}

// pppoe is a session packet (RFC 2516 §4).
func (d *Decoder) pppoe(data []byte, p *Packet) Contents {
	if len(data) < 8 {
		return d.bad("PPPoE", data, tooShort)
	}
	if data[1] != 0 {
		return Other
	}
	if d.Layers != nil {
		d.note("PPPoE", data[:6], "session", fmt.Sprint(binary.BigEndian.Uint16(data[2:])))
	}
	return d.ppp(data[6:], p)
}

// ppp is a protocol number and what it numbers (RFC 1661 §2).
func (d *Decoder) ppp(data []byte, p *Packet) Contents {
	frame := data
	if len(data) >= 2 && data[0] == 0xff && data[1] == 0x03 { // in HDLC framing (RFC 1662 §3.1)
		data = data[2:]
	}
	if len(data) < 2 {
		return d.bad("PPP", data, tooShort)
	}
	protocol, size := uint16(data[0]), 1
	if data[0]&1 == 0 {
		protocol, size = binary.BigEndian.Uint16(data), 2
	}
	if d.Layers != nil {
		d.note("PPP", frame[:len(frame)-len(data)+size])
	}
	switch protocol {
	case 0x0021, 0x0057:
		return d.ip(data[size:], p)
	case 0x0281:
		return d.mpls(data[size:], p)
	}
	return Other
}

func (d *Decoder) ip(data []byte, p *Packet) Contents {
	if d.depth++; len(data) == 0 {
		return d.bad("IP", data, tooShort)
	}
	if d.depth > maxNesting {
		return d.bad("IP", data, tooDeep)
	}
	switch data[0] >> 4 {
	case 4:
		return d.ipv4(data, p)
	case 6:
		return d.ipv6(data, p)
	}
	return d.bad("IP", data, otherVersion)
}

func (d *Decoder) ipv4(data []byte, p *Packet) Contents {
	if len(data) < 20 {
		return d.bad("IPv4", data, tooShort)
	}
	header, total := int(data[0]&15)*4, int(binary.BigEndian.Uint16(data[2:]))
	if header < 20 {
		return d.bad("IPv4", data, smallHeader)
	}
	if len(data) < header {
		return d.bad("IPv4", data, largeHeader)
	}
	if total == 0 {
		total = len(data) // filled in by the network card, after the capture
	}
	if total < header {
		return d.bad("IPv4", data, smallTotal)
	}
	from, to := host4(data[12:16]), host4(data[16:20])
	p.Hops = data[8]
	if d.Layers != nil {
		d.note("IPv4", data[:header], "from", from.Addr().String(), "to", to.Addr().String(), "hops left", fmt.Sprint(data[8]), "identification", fmt.Sprint(binary.BigEndian.Uint16(data[4:])), "bytes", fmt.Sprint(total))
	}
	body, whole := data[header:min(total, len(data))], total <= len(data)
	if place := binary.BigEndian.Uint16(data[6:]); place&0x3fff != 0 { // more fragments, or an offset
		k := fragmentKey{from, to, uint32(binary.BigEndian.Uint16(data[4:])), data[9]}
		return d.fragment(k, int(place&0x1fff)*8, place&0x2000 != 0, body, whole, p)
	}
	return d.transport(data[9], body, from, to, whole, p)
}

func (d *Decoder) ipv6(data []byte, p *Packet) Contents {
	if len(data) < 40 {
		return d.bad("IPv6", data, tooShort)
	}
	from, to := host6(data[8:24]), host6(data[24:40])
	size := 40 + int(binary.BigEndian.Uint16(data[4:]))
	next, body, whole := data[6], data[40:min(len(data), size)], size <= len(data)
	p.Hops = data[7]
	if d.Layers != nil {
		d.note("IPv6", data[:40], "from", from.Addr().String(), "to", to.Addr().String(), "hops left", fmt.Sprint(data[7]), "bytes", fmt.Sprint(size))
	}
	rest := body
	for range 16 {
		if d.Layers != nil && len(rest) > len(body) {
			d.note("IPv6 extension", rest[:len(rest)-len(body)])
		}
		rest = body
		switch next {
		case 44: // fragment (RFC 8200 §4.5)
			if len(body) < 8 {
				return d.bad("IPv6 fragment", body, tooShort)
			}
			place := binary.BigEndian.Uint16(body[2:])
			if place&0xfff9 != 0 {
				if d.Layers != nil {
					d.note("IPv6 extension", body[:8])
				}
				return d.fragment(fragmentKey{from, to, binary.BigEndian.Uint32(body[4:]), body[0]}, int(place&0xfff8), place&1 != 0, body[8:], whole, p)
			}
			next, body = body[0], body[8:] // all of it in one
		case 0, 43, 60, 135, 139, 140: // hop-by-hop, routing, destination options and their like (RFC 8200 §4)
			if len(body) < 8 || len(body) < 8+int(body[1])*8 {
				return d.bad("IPv6 extension header", body, tooShort)
			}
			next, body = body[0], body[8+int(body[1])*8:]
		case 51: // authentication header (RFC 4302 §2), whose length counts otherwise
			if len(body) < 8 || len(body) < (int(body[1])+2)*4 {
				return d.bad("IPv6 authentication header", body, tooShort)
			}
			next, body = body[0], body[(int(body[1])+2)*4:]
		default:
			return d.transport(next, body, from, to, whole, p)
		}
	}
	return d.bad("IPv6 extension header", body, tooDeep)
}

// transport is what an IP packet carries. whole says that the capture has all of it.
func (d *Decoder) transport(protocol byte, body []byte, from, to Endpoint, whole bool, p *Packet) Contents {
	switch protocol {
	case protocolUDP:
		return d.udp(body, from, to, whole, p)
	case protocolTCP:
		return d.tcp(body, from, to, whole, p)
	case protocolIPv4, protocolIPv6:
		return d.ip(body, p)
	case protocolGRE:
		return d.gre(body, p)
	case protocolICMP:
		return d.icmp(body, from, icmpReasons, p)
	case protocolICMPv6:
		return d.icmp(body, from, icmpv6Reasons, p)
	}
	return Other
}

func (d *Decoder) udp(data []byte, from, to Endpoint, whole bool, p *Packet) Contents {
	if len(data) < 8 {
		return d.bad("UDP", data, tooShort)
	}
	size := int(binary.BigEndian.Uint16(data[4:]))
	if size < 8 {
		return d.bad("UDP", data, smallTotal)
	}
	cut := size > len(data)
	if cut && whole {
		return d.bad("UDP", data, largeTotal) // nothing was cut off, so the length is wrong
	}
	target := binary.BigEndian.Uint16(data[2:])
	if d.Layers != nil {
		d.note("UDP", data[:8], "from port", fmt.Sprint(binary.BigEndian.Uint16(data)), "to port", fmt.Sprint(target), "bytes", fmt.Sprint(size))
	}
	if target == portVXLAN && size >= 8+8+14 && len(data) > 16 && data[8] == 0x08 && d.depth < maxNesting {
		if d.Layers != nil {
			d.note("VXLAN", data[8:16], "network", fmt.Sprint(binary.BigEndian.Uint32(data[12:])>>8))
		}
		return d.ethernet(data[16:], p)
	}
	p.Number, p.At, p.Cut, p.Torn, p.TCP = d.rec.Number, d.rec.At, cut, false, false
	p.Payload = data[8:min(size, len(data))]
	p.From, p.To = from.at(binary.BigEndian.Uint16(data)), to.at(target)
	return Datagram
}

func (d *Decoder) tcp(data []byte, from, to Endpoint, whole bool, p *Packet) Contents {
	if len(data) < 20 {
		return d.bad("TCP", data, tooShort)
	}
	header := int(data[12]>>4) * 4
	if header < 20 {
		return d.bad("TCP", data, smallHeader)
	}
	if header > len(data) {
		return d.bad("TCP", data, largeHeader)
	}
	if d.Layers != nil {
		d.note("TCP", data[:header], "from port", fmt.Sprint(binary.BigEndian.Uint16(data)), "to port", fmt.Sprint(binary.BigEndian.Uint16(data[2:])),
			"sequence", fmt.Sprint(binary.BigEndian.Uint32(data[4:])), "bytes", fmt.Sprint(len(data)-header))
	}
	hops := p.Hops
	*p = Packet{
		Number: d.rec.Number, At: d.rec.At, TCP: true, Hops: hops, Cut: !whole, Payload: data[header:],
		From: from.at(binary.BigEndian.Uint16(data)), To: to.at(binary.BigEndian.Uint16(data[2:])),
		Seq: binary.BigEndian.Uint32(data[4:]), Flags: data[13],
	}
	return Segment
}

// gre looks into a tunnel (RFC 2784 §2, RFC 2890 §2).
func (d *Decoder) gre(data []byte, p *Packet) Contents {
	if len(data) < 4 || data[1]&7 != 0 {
		return Other
	}
	size := 4
	for _, bit := range []byte{0x80, 0x20, 0x10} { // checksum, key, sequence number
		if data[0]&bit != 0 {
			size += 4
		}
	}
	if len(data) < size {
		return d.bad("GRE", data, tooShort)
	}
	if d.Layers != nil {
		d.note("GRE", data[:size])
	}
	if d.depth++; d.depth > maxNesting {
		return d.bad("GRE", data, tooDeep)
	}
	return d.payload(binary.BigEndian.Uint16(data[2:]), data[size:], p)
}

// What the ICMP errors say, by type and code (RFC 792, RFC 1812 §5.2.7, RFC 4443 §3).
var (
	icmpReasons = map[[2]byte]string{
		{3, 0}: "no way to the network", {3, 1}: "no way to the host", {3, 2}: "the host does not speak the protocol", {3, 3}: "nothing listens there",
		{3, 4}: "the packet is too big for the way", {3, 9}: "the network is closed to it", {3, 10}: "the host is closed to it", {3, 13}: "a filter forbids it",
		{11, 0}: "it passed too many routers", {11, 1}: "its fragments did not all arrive",
	}
	icmpv6Reasons = map[[2]byte]string{
		{1, 0}: "no way there", {1, 1}: "a filter forbids it", {1, 3}: "no way to the host", {1, 4}: "nothing listens there", {1, 5}: "a filter forbids its source", {1, 6}: "the way is refused",
		{2, 0}: "the packet is too big for the way", {3, 0}: "it passed too many routers", {3, 1}: "its fragments did not all arrive",
	}
)

// icmp reads an error and the packet that it quotes.
func (d *Decoder) icmp(data []byte, reporter Endpoint, reasons map[[2]byte]string, p *Packet) Contents {
	if len(data) < 8 {
		return d.bad("ICMP", data, tooShort)
	}
	reason, known := reasons[[2]byte{data[0], data[1]}]
	if !known {
		if data[0] != 3 || len(reasons) == 0 || reasons[[2]byte{3, 3}] == "" {
			return Other
		}
		reason = fmt.Sprintf("it cannot be delivered (code %d)", data[1])
	}
	if d.Layers != nil {
		d.note("ICMP", data[:8], "says", reason)
	}
	quoted := data[8:]
	from, to, protocol, body := quotedIP(quoted)
	if (protocol != protocolUDP && protocol != protocolTCP) || len(body) < 8 {
		return Other
	}
	header := 8
	if protocol == protocolTCP {
		header = min(20, len(body))
	}
	*p = Packet{
		Number: d.rec.Number, At: d.rec.At, TCP: protocol == protocolTCP, Cut: true, Payload: body[header:], Report: &Report{reporter.Addr(), reason},
		From: from.at(binary.BigEndian.Uint16(body)), To: to.at(binary.BigEndian.Uint16(body[2:])),
	}
	return ICMPError
}

// quotedIP takes the beginning of an IP packet apart.
func quotedIP(data []byte) (from, to Endpoint, protocol byte, body []byte) {
	switch {
	case len(data) >= 20 && data[0]>>4 == 4 && len(data) >= int(data[0]&15)*4 && data[0]&15 >= 5:
		return host4(data[12:16]), host4(data[16:20]), data[9], data[int(data[0]&15)*4:]
	case len(data) >= 40 && data[0]>>4 == 6:
		return host6(data[8:24]), host6(data[24:40]), data[6], data[40:]
	}
	return from, to, 0, nil
}
