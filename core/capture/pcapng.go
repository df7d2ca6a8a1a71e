package capture

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"net/netip"

	"unquil/core/escape"
)

// Block types of pcapng.
const (
	sectionHeader   = 0x0a0d0d0a
	interfaceBlock  = 1
	oldPacket       = 2
	simplePacket    = 3
	nameBlock       = 4
	statisticsBlock = 5
	enhancedPacket  = 6
	byteOrderMagic  = 0x1a2b3c4d
)

// interfaceInfo is what an interface description says of its packets.
type interfaceInfo struct {
	link      LinkType
	snap      int
	perSecond uint64 // time stamp units
	offset    int64  // seconds to add
	lost      uint64 // packets, as its statistics said last
}

func (r *Reader) nextBlock(data []byte, rec *Record) (used int, got bool) {
	if len(data) < 12 {
		return 0, false
	}
	if binary.LittleEndian.Uint32(data) == sectionHeader && !r.section(data) {
		return 0, false
	}
	if r.order == nil {
		r.fail("block", ErrDamaged)
		return 0, false
	}
	var kind uint32
	var size int
	little := r.order == binary.LittleEndian
	if little {
		kind, size = binary.LittleEndian.Uint32(data), int(binary.LittleEndian.Uint32(data[4:]))
	} else {
		kind, size = binary.BigEndian.Uint32(data), int(binary.BigEndian.Uint32(data[4:]))
	}
	if size < 12 || size%4 != 0 || size > maxBlock {
		r.fail("block length", fmt.Errorf("%d: %w", size, ErrDamaged))
		return 0, false
	}
	if len(data) < size {
		return 0, false
	}
	if *(*[4]byte)(data[size-4:]) != *(*[4]byte)(data[4:]) {
		r.offset += int64(size) - 4
		r.fail("block length at the end", ErrDamaged)
		return 0, false
	}
	body := data[8 : size-4 : size-4]
	switch kind {
	case interfaceBlock:
		r.addInterface(body)
	case enhancedPacket, oldPacket:
		got = r.packetBlock(body, kind == oldPacket, little, rec)
	case simplePacket:
		got = r.simple(body, rec)
	case nameBlock:
		r.addNames(body)
	case statisticsBlock:
		r.statistics(body)
	}
	if r.err != nil {
		return 0, false
	}
	return size, got
}

// section starts a new section: byte order and interfaces are its own.
func (r *Reader) section(head []byte) bool {
	switch uint32(byteOrderMagic) {
	case binary.LittleEndian.Uint32(head[8:]):
		r.order = binary.LittleEndian
	case binary.BigEndian.Uint32(head[8:]):
		r.order = binary.BigEndian
	default:
		r.fail("section header", ErrDamaged)
		return false
	}
	r.interfaces, r.plain = r.interfaces[:0], r.order == binary.LittleEndian
	return true
}

func (r *Reader) addInterface(body []byte) {
	if len(body) < 8 {
		r.fail("interface description", ErrDamaged)
		return
	}
	if len(r.interfaces) == maxInterfaces {
		r.fail("interface description", fmt.Errorf("more than %d interfaces: %w", maxInterfaces, ErrDamaged))
		return
	}
	info := interfaceInfo{link: linkOf(r.order.Uint16(body)), snap: int(r.order.Uint32(body[4:])), perSecond: 1_000_000}
	r.options(body[8:], func(code uint16, value []byte) {
		switch {
		case code == timeResolution && len(value) == 1:
			info.perSecond = resolution(value[0])
		case code == timeOffset && len(value) == 8:
			info.offset = int64(r.order.Uint64(value))
		}
	})
	r.interfaces = append(r.interfaces, info)
}

// statistics reads how many packets an interface has lost so far, and when that was. What it
// says is not needed to read packets: what cannot be is passed over.
func (r *Reader) statistics(body []byte) {
	if len(body) < 12 || int64(r.order.Uint32(body)) >= int64(len(r.interfaces)) {
		return
	}
	info := &r.interfaces[r.order.Uint32(body)]
	if at := info.time(uint64(r.order.Uint32(body[4:]))<<32 | uint64(r.order.Uint32(body[8:]))); at > r.clock {
		r.clock = at
	}
	lost := uint64(0)
	r.options(body[12:], func(code uint16, value []byte) {
		if (code == droppedBefore || code == droppedBehind) && len(value) == 8 {
			if n := r.order.Uint64(value); n < 1<<62 { // beyond reason otherwise, as the all-ones of a system that does not know
				lost += n
			}
		}
	})
	if lost > info.lost {
		r.lost, info.lost = r.lost+lost-info.lost, lost
	}
}

// resolution is the time stamp units in a second: a power of ten, or of two
// when the top bit is set. One that does not fit counts as nanoseconds.
func resolution(b byte) uint64 {
	power := uint(b & 0x7f)
	if b&0x80 != 0 {
		if power > 63 {
			return 1e9
		}
		return 1 << power
	}
	if power > 19 {
		return 1e9
	}
	units := uint64(1)
	for range power {
		units *= 10
	}
	return units
}

// time is when a stamp says, in nanoseconds since 1970 UTC; 0 when that is beyond reason.
func (i *interfaceInfo) time(stamp uint64) int64 {
	if i.perSecond == 1e9 && stamp < 1<<63 {
		return int64(stamp) + i.offset*1e9
	}
	if i.perSecond == 1e6 && stamp < 1<<62/1000 {
		return int64(stamp)*1000 + i.offset*1e9
	}
	seconds, rest := stamp/i.perSecond, stamp%i.perSecond
	nanoseconds := uint64(float64(rest) / float64(i.perSecond) * 1e9)
	if i.perSecond <= 1e9 {
		nanoseconds = rest * 1e9 / i.perSecond
	}
	if seconds > 1<<32 {
		return 0
	}
	return (int64(seconds)+i.offset)*1e9 + int64(nanoseconds)
}

// packetBlock is an enhanced packet block, or the older one in whose place it came,
// which numbers its interface in two bytes.
func (r *Reader) packetBlock(body []byte, old, little bool, rec *Record) bool {
	if len(body) < 20 {
		r.fail("packet block", ErrDamaged)
		return false
	}
	var id, high, low, size, length uint32
	if order := binary.LittleEndian; little {
		id, high, low, size, length = order.Uint32(body), order.Uint32(body[4:]), order.Uint32(body[8:]), order.Uint32(body[12:]), order.Uint32(body[16:])
	} else {
		order := binary.BigEndian
		id, high, low, size, length = order.Uint32(body), order.Uint32(body[4:]), order.Uint32(body[8:]), order.Uint32(body[12:]), order.Uint32(body[16:])
	}
	if old {
		id = uint32(r.order.Uint16(body))
	}
	if int64(id) >= int64(len(r.interfaces)) {
		r.fail("packet block", fmt.Errorf("interface %d was not described: %w", id, ErrDamaged))
		return false
	}
	if int64(size) > int64(len(body)-20) {
		r.fail("packet length", ErrDamaged)
		return false
	}
	info := &r.interfaces[id]
	rec.At, rec.Link, rec.Length, rec.Data = info.time(uint64(high)<<32|uint64(low)), info.link, int(max(length, size)), body[20:20+size:20+size]
	if rest := body[min(20+(int(size)+3)/4*4, len(body)):]; len(rest) > 4 {
		rec.Comment = r.comment(rest)
	}
	return true
}

// comment is the first comment among a packet's options; nil without one.
func (r *Reader) comment(options []byte) (text []byte) {
	r.options(options, func(code uint16, value []byte) {
		if code == blockComment && text == nil {
			text = value
		}
	})
	return text
}

// options calls each with every option of a block.
func (r *Reader) options(options []byte, each func(code uint16, value []byte)) {
	for len(options) >= 4 {
		code, size := r.order.Uint16(options), int(r.order.Uint16(options[2:]))
		if code == 0 || len(options)-4 < size {
			return
		}
		each(code, options[4:4+size])
		options = options[min(4+(size+3)/4*4, len(options)):]
	}
}

// Bounds on what one file may fill.
const (
	maxInterfaces = 1 << 16 // of a section; more than packets can tell apart in most files
	maxNames      = 10_000  // host names
	maxName       = 255     // bytes of one: longer, it is none (RFC 1035 §2.3.4)
)

// addNames reads a name resolution block.
func (r *Reader) addNames(body []byte) {
	for len(body) >= 4 {
		kind, size := r.order.Uint16(body), int(r.order.Uint16(body[2:]))
		if kind == 0 || len(body)-4 < size || len(r.names) >= maxNames {
			return
		}
		value := body[4 : 4+size]
		width := map[uint16]int{1: 4, 2: 16}[kind]
		if width > 0 && size > width {
			if r.names == nil {
				r.names = map[netip.Addr]escape.Text{}
			}
			address, _ := netip.AddrFromSlice(value[:width])
			if name, _, _ := bytes.Cut(value[width:], []byte{0}); len(name) <= maxName {
				r.names[address] = escape.Of(string(name))
			}
		}
		body = body[min(4+(size+3)/4*4, len(body)):]
	}
}

func (r *Reader) simple(body []byte, rec *Record) bool {
	if len(body) < 4 || len(r.interfaces) == 0 {
		r.fail("simple packet block", ErrDamaged)
		return false
	}
	length := int(r.order.Uint32(body))
	size := min(length, len(body)-4)
	if snap := r.interfaces[0].snap; snap > 0 {
		size = min(size, snap)
	}
	rec.At, rec.Link, rec.Length, rec.Data = 0, r.interfaces[0].link, length, body[4:4+size]
	return true
}
