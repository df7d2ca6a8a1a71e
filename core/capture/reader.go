// Package capture reads and writes packet captures, and finds the DNS messages
// in their packets.
//
// Files are streamed: memory does not grow with the file, and nothing is
// allocated for a packet.
package capture

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"iter"
	"time"
)

// What can be wrong with a capture file.
var (
	ErrFormat  = errors.New("neither pcap nor pcapng")
	ErrEmpty   = errors.New("the file is empty")
	ErrDamaged = errors.New("damaged")
	ErrCut     = errors.New("the file ends in the middle of a packet")
)

// LinkType says how a packet begins, as the capture formats number it.
type LinkType uint16

// The link types that are read.
const (
	Ethernet LinkType = 1
	RawIP    LinkType = 101
)

const (
	maxPacket  = 262144 // bytes: the largest snap length in use
	bufferSize = 1 << 20
)

// Record is one packet as a file holds it.
type Record struct {
	Number int   // from 1
	At     int64 // nanoseconds since 1970 UTC; 0 when the file does not say
	Link   LinkType
	Length int    // on the wire, in bytes
	Data   []byte // what was captured of it: no more than Length
}

// Time is when the packet was captured; the zero Time when the file does not say.
func (r *Record) Time() time.Time { return timeOf(r.At) }

func timeOf(at int64) time.Time {
	if at == 0 {
		return time.Time{}
	}
	return time.Unix(0, at).UTC()
}

// Reader reads one capture file.
type Reader struct {
	in     *bufio.Reader
	offset int64 // of the next byte to be read
	rec    Record
	err    error
	step   func(*Reader) bool // reads the next packet of the file's format

	order      binary.ByteOrder
	link       LinkType // pcap
	perSecond  int64    // pcap: fractions of a second
	interfaces []interfaceInfo
}

// NewReader reads the beginning of a capture file. The error wraps ErrEmpty,
// ErrFormat or ErrDamaged, or is the reader's own.
func NewReader(r io.Reader) (*Reader, error) {
	c := &Reader{in: bufio.NewReaderSize(r, bufferSize)}
	magic, err := c.in.Peek(4)
	switch {
	case err == io.EOF && len(magic) == 0:
		return nil, ErrEmpty
	case err == io.EOF:
		return nil, ErrFormat
	case err != nil:
		return nil, err
	}
	switch binary.LittleEndian.Uint32(magic) {
	case 0xa1b2c3d4, 0xd4c3b2a1, 0xa1b23c4d, 0x4d3cb2a1:
		return c, c.openPcap(magic)
	case sectionHeader:
		c.step = (*Reader).nextBlock
		return c, nil
	}
	return nil, ErrFormat
}

// Records yields the packets in file order. The *Record and its Data are
// overwritten by the next step: clone what you keep. An error comes once, last,
// with a nil Record; it wraps ErrCut or ErrDamaged, or is the file's own. Range
// over it once.
func (r *Reader) Records() iter.Seq2[*Record, error] {
	return func(yield func(*Record, error) bool) {
		for r.step(r) {
			r.rec.Number++
			if !yield(&r.rec, nil) {
				return
			}
		}
		if r.err != nil {
			yield(nil, r.err)
		}
	}
}

// take returns the next n bytes, which stay valid until the next take, or nil
// after noting why there are none. A clean end is only where atEnd allows it.
func (r *Reader) take(n int, what string, atEnd bool) []byte {
	data, err := r.in.Peek(n)
	if err != nil {
		if err == io.EOF {
			if atEnd && len(data) == 0 {
				return nil
			}
			err = ErrCut
		}
		r.fail(what, err)
		return nil
	}
	r.in.Discard(n)
	r.offset += int64(n)
	return data
}

func (r *Reader) fail(what string, err error) {
	if r.err == nil {
		r.err = fmt.Errorf("%s at byte %d: %w", what, r.offset, err)
	}
}

func (r *Reader) openPcap(magic []byte) error {
	r.order = binary.ByteOrder(binary.LittleEndian)
	if magic[0] == 0xa1 {
		r.order = binary.BigEndian
	}
	r.perSecond = 1_000_000
	if r.order.Uint32(magic) == 0xa1b23c4d {
		r.perSecond = 1_000_000_000
	}
	head := r.take(24, "file header", false)
	if head == nil {
		return r.err
	}
	// The upper bits say how long the frame check sequence is.
	r.link = LinkType(r.order.Uint32(head[20:]) & 0xffff)
	r.step = (*Reader).nextPcap
	return nil
}

func (r *Reader) nextPcap() bool {
	head := r.take(16, "packet header", true)
	if head == nil {
		return false
	}
	seconds, fraction := int64(r.order.Uint32(head)), int64(r.order.Uint32(head[4:]))
	size, length := int(r.order.Uint32(head[8:])), int(r.order.Uint32(head[12:]))
	if size > maxPacket {
		r.offset -= 8
		r.fail("packet length", fmt.Errorf("%d is over %d: %w", size, maxPacket, ErrDamaged))
		return false
	}
	data := r.take(size, "packet", false)
	if data == nil && size > 0 {
		return false
	}
	number := r.rec.Number
	r.rec = Record{number, seconds*1e9 + fraction*(1e9/r.perSecond), r.link, max(length, size), data}
	return true
}

// Block types of pcapng.
const (
	sectionHeader  = 0x0a0d0d0a
	interfaceBlock = 1
	simplePacket   = 3
	enhancedPacket = 6
	byteOrderMagic = 0x1a2b3c4d
)

// interfaceInfo is what an interface description says of its packets.
type interfaceInfo struct {
	link      LinkType
	snap      int
	perSecond uint64 // time stamp units
	offset    int64  // seconds to add
}

func (r *Reader) nextBlock() bool {
	for {
		head, err := r.in.Peek(12)
		if len(head) == 0 && err == io.EOF {
			return false
		}
		if err != nil {
			if err == io.EOF {
				err = ErrCut
			}
			r.fail("block header", err)
			return false
		}
		if binary.LittleEndian.Uint32(head) == sectionHeader && !r.section(head) {
			return false
		}
		kind, size := r.order.Uint32(head), int(r.order.Uint32(head[4:]))
		if size < 12 || size%4 != 0 || size > bufferSize {
			r.fail("block length", fmt.Errorf("%d: %w", size, ErrDamaged))
			return false
		}
		block := r.take(size, "block", false)
		if block == nil {
			return false
		}
		if r.order.Uint32(block[size-4:]) != uint32(size) {
			r.fail("block length at the end", ErrDamaged)
			return false
		}
		body := block[8 : size-4]
		switch kind {
		case interfaceBlock:
			r.addInterface(body)
		case enhancedPacket:
			return r.enhanced(body)
		case simplePacket:
			return r.simple(body)
		}
		if r.err != nil {
			return false
		}
	}
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
	r.interfaces = r.interfaces[:0]
	return true
}

func (r *Reader) addInterface(body []byte) {
	if len(body) < 8 {
		r.fail("interface description", ErrDamaged)
		return
	}
	info := interfaceInfo{link: LinkType(r.order.Uint16(body)), snap: int(r.order.Uint32(body[4:])), perSecond: 1_000_000}
	for options := body[8:]; len(options) >= 4; {
		code, size := r.order.Uint16(options), int(r.order.Uint16(options[2:]))
		if code == 0 || len(options)-4 < size {
			break
		}
		switch value := options[4 : 4+size]; {
		case code == 9 && size == 1: // if_tsresol
			info.perSecond = resolution(value[0])
		case code == 14 && size == 8: // if_tsoffset
			info.offset = int64(r.order.Uint64(value))
		}
		options = options[min(4+(size+3)/4*4, len(options)):]
	}
	r.interfaces = append(r.interfaces, info)
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

func (i interfaceInfo) time(stamp uint64) int64 {
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

func (r *Reader) enhanced(body []byte) bool {
	if len(body) < 20 {
		r.fail("packet block", ErrDamaged)
		return false
	}
	id, size := int(r.order.Uint32(body)), int(r.order.Uint32(body[12:]))
	if id >= len(r.interfaces) {
		r.fail("packet block", fmt.Errorf("interface %d was not described: %w", id, ErrDamaged))
		return false
	}
	if size > len(body)-20 {
		r.fail("packet length", ErrDamaged)
		return false
	}
	stamp := uint64(r.order.Uint32(body[4:]))<<32 | uint64(r.order.Uint32(body[8:]))
	info := r.interfaces[id]
	r.rec = Record{r.rec.Number, info.time(stamp), info.link, max(int(r.order.Uint32(body[16:])), size), body[20 : 20+size]}
	return true
}

func (r *Reader) simple(body []byte) bool {
	if len(body) < 4 || len(r.interfaces) == 0 {
		r.fail("simple packet block", ErrDamaged)
		return false
	}
	length := int(r.order.Uint32(body))
	size := min(length, len(body)-4)
	if snap := r.interfaces[0].snap; snap > 0 {
		size = min(size, snap)
	}
	r.rec = Record{r.rec.Number, 0, r.interfaces[0].link, length, body[4 : 4+size]}
	return true
}
