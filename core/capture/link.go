package capture

import "encoding/binary"

// LinkType says how a packet begins, as the capture formats number it.
type LinkType uint16

// linkOf is the link type of a file.
func linkOf(number uint16) LinkType {
	if number == uint16(Served) { // which no file has
		return unknownLink
	}
	return LinkType(number)
}

// unknownLink stands for one that is not read.
const unknownLink LinkType = 0xfffe

// The link types that are read.
const (
	Null         LinkType = 0 // BSD loopback, in the byte order of the host
	Ethernet     LinkType = 1
	PPP          LinkType = 9
	rawIPOld     LinkType = 12
	rawIPOpenBSD LinkType = 14
	PPPHDLC      LinkType = 50
	PPPoE        LinkType = 51
	RawIP        LinkType = 101
	WiFi         LinkType = 105 // IEEE 802.11
	Loop         LinkType = 108 // BSD loopback, in network order
	Cooked       LinkType = 113 // Linux, version 1
	WiFiRadio    LinkType = 127 // IEEE 802.11 behind a radiotap header
	onlyIPv4     LinkType = 228
	onlyIPv6     LinkType = 229
	Cooked2      LinkType = 276 // Linux, version 2
)

// links say how packets of each link type are read, but for those of Ethernet and
// plain IP, which are too common to be looked up.
var links map[LinkType]func(*Decoder, []byte, *Packet) Contents

func init() { // not above: they lead back to Decode
	links = map[LinkType]func(*Decoder, []byte, *Packet) Contents{
		Null: (*Decoder).null, Loop: (*Decoder).null, PPP: (*Decoder).ppp, PPPHDLC: (*Decoder).ppp, PPPoE: (*Decoder).pppoe,
		WiFi: (*Decoder).wifi, WiFiRadio: (*Decoder).radiotap, Cooked: (*Decoder).cooked, Cooked2: (*Decoder).cooked2,
	}
}

// null is a loopback packet behind its address family, whose numbers differ from
// system to system: the packet tells by itself which IP it is.
func (d *Decoder) null(data []byte, p *Packet) Contents {
	if len(data) < 4 {
		return d.bad("loopback", data, tooShort)
	}
	family := min(binary.LittleEndian.Uint32(data), binary.BigEndian.Uint32(data))
	switch family {
	case 2, 10, 23, 24, 28, 30:
		if d.Layers != nil {
			d.note("loopback", data[:4])
		}
		return d.ip(data[4:], p)
	}
	return Other
}

// cooked is what Linux makes of packets of any interface.
func (d *Decoder) cooked(data []byte, p *Packet) Contents {
	if len(data) < 16 {
		return d.bad("Linux cooked", data, tooShort)
	}
	return d.cookedPayload(binary.BigEndian.Uint16(data[14:]), binary.BigEndian.Uint16(data), data[:16], data[16:], p)
}

func (d *Decoder) cooked2(data []byte, p *Packet) Contents {
	if len(data) < 20 {
		return d.bad("Linux cooked", data, tooShort)
	}
	return d.cookedPayload(binary.BigEndian.Uint16(data), uint16(data[10]), data[:20], data[20:], p)
}

// directions are the packet types of Linux in words.
var directions = []string{"to this machine", "to everybody", "to a group", "to another machine", "from this machine"}

func (d *Decoder) cookedPayload(etherType, direction uint16, header, data []byte, p *Packet) Contents {
	if d.Layers != nil {
		way := ""
		if int(direction) < len(directions) {
			way = directions[direction]
		}
		d.note("Linux cooked", header, "packet", way)
	}
	return d.payload(etherType, data, p)
}

// radiotap skips what the radio had to say.
func (d *Decoder) radiotap(data []byte, p *Packet) Contents {
	if len(data) < 8 {
		return d.bad("radiotap", data, tooShort)
	}
	size := int(binary.LittleEndian.Uint16(data[2:]))
	if size < 8 {
		return d.bad("radiotap", data, smallHeader)
	}
	if size > len(data) {
		return d.bad("radiotap", data, largeHeader)
	}
	if d.Layers != nil {
		d.note("radiotap", data[:size])
	}
	return d.wifi(data[size:], p)
}

// wifi is an IEEE 802.11 frame: only data frames that are not encrypted carry
// packets that can be read.
func (d *Decoder) wifi(data []byte, p *Packet) Contents {
	if len(data) < 24 {
		if len(data) >= 2 && data[0]>>2&3 != 2 {
			return Other // control frames are short
		}
		return d.bad("IEEE 802.11", data, tooShort)
	}
	kind, subtype := data[0]>>2&3, data[0]>>4
	toDS, fromDS, protected := data[1]&1 != 0, data[1]&2 != 0, data[1]&0x40 != 0
	if kind != 2 || subtype&4 != 0 || protected { // not data, or data frames without any
		return Other
	}
	size := 24
	if toDS && fromDS {
		size += 6
	}
	if subtype&8 != 0 { // with quality of service, and its field
		size += 2
		if data[1]&0x80 != 0 {
			size += 4
		}
	}
	// Logical link control with a subnetwork access header (RFC 1042).
	if len(data) < size+8 {
		return d.bad("IEEE 802.11", data, tooShort)
	}
	if llc := data[size:]; llc[0] != 0xaa || llc[1] != 0xaa || llc[2] != 3 {
		return Other
	}
	if d.Layers != nil {
		d.note("IEEE 802.11", data[:size+8], "from", hardwareText(data[10:16]), "to", hardwareText(data[4:10]))
	}
	return d.payload(binary.BigEndian.Uint16(data[size+6:]), data[size+8:], p)
}
