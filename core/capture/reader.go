// Package capture reads and writes packet captures, and finds the DNS messages
// in their packets.
//
// Files are streamed: memory does not grow with the file, and nothing is
// allocated for a packet.
package capture

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/netip"
	"time"
)

// What can be wrong with a capture file.
var (
	ErrFormat  = errors.New("neither pcap nor pcapng")
	ErrEmpty   = errors.New("the file is empty")
	ErrDamaged = errors.New("damaged")
	ErrCut     = errors.New("the file ends in the middle of a packet")
)

const (
	maxPacket = 262144    // bytes: the largest snap length in use
	maxBlock  = 1 << 20   // bytes
	batchSize = 128 << 10 // of a file that are parsed at once: they stay in the processor's cache
)

// Record is one packet as a file holds it.
type Record struct {
	Number int   // from 1
	At     int64 // nanoseconds since 1970 UTC; 0 when the file does not say
	Link   LinkType
	Length int    // on the wire, in bytes
	Data   []byte // what was captured of it: no more than Length
	// Comment is what the file notes on the packet, as it stands; nil without one.
	Comment []byte
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
	in     io.Reader
	rest   []byte // read, and not parsed yet
	ended  bool   // in has nothing more
	offset int64  // of rest
	number int    // of packets so far
	err    error
	step   func(r *Reader, data []byte, rec *Record) (used int, got bool) // parses what comes next in the file's format

	batch Batch // of Records
	at    int

	order      binary.ByteOrder
	link       LinkType // pcap
	perSecond  int64    // pcap: fractions of a second
	interfaces []interfaceInfo
	names      map[netip.Addr]string
}

// Batch is many packets of a file, and the bytes that they lie in. It may be used
// again; the zero value is ready to use.
type Batch struct {
	Records []Record
	buf     []byte
}

// Names are the host names that the file gives for addresses, as it stands in it:
// escape them before they are shown.
func (r *Reader) Names() map[netip.Addr]string { return r.names }

// Offset is how many bytes of the file (unpacked, where it is packed) have been read.
func (r *Reader) Offset() int64 { return r.offset }

// NewReader reads the beginning of a capture file. The error wraps ErrEmpty,
// ErrFormat or ErrDamaged, or is the reader's own.
func NewReader(file io.Reader) (*Reader, error) {
	in, err := expand(file)
	if err != nil {
		return nil, err
	}
	r := &Reader{in: in}
	head := make([]byte, 24)
	n, err := io.ReadFull(in, head[:4])
	switch {
	case err == io.EOF:
		return nil, ErrEmpty
	case err == io.ErrUnexpectedEOF:
		return nil, ErrFormat
	case err != nil:
		return nil, err
	}
	r.rest = head[:n]
	switch binary.LittleEndian.Uint32(head) {
	case 0xa1b2c3d4, 0xd4c3b2a1, 0xa1b23c4d, 0x4d3cb2a1:
		if n, err = io.ReadFull(in, head[4:]); err != nil {
			r.offset = int64(4 + n)
			r.fail("file header", ErrCut)
			return nil, r.err
		}
		r.openPcap(head)
		return r, nil
	case sectionHeader:
		r.step = (*Reader).nextBlock
		return r, nil
	}
	return nil, ErrFormat
}

// Records yields the packets in file order. The *Record and its Data are
// overwritten by the next step: clone what you keep. An error comes once, last,
// with a nil Record; it wraps ErrCut or ErrDamaged, or is the file's own. Range
// over it once.
func (r *Reader) Records() iter.Seq2[*Record, error] {
	return func(yield func(*Record, error) bool) {
		for {
			record := r.advance()
			if record == nil {
				break
			}
			if !yield(record, nil) {
				return
			}
		}
		if r.err != nil {
			yield(nil, r.err)
		}
	}
}

// advance returns the next packet; nil at the end.
func (r *Reader) advance() *Record {
	for r.at == len(r.batch.Records) {
		r.at = 0
		if !r.Fill(&r.batch) {
			return nil
		}
	}
	r.at++
	return &r.batch.Records[r.at-1]
}

// Fill reads the next packets, as many as fit or as are there, and reports whether
// there were any. Once it has returned false, [Reader.Err] says why.
func (r *Reader) Fill(b *Batch) bool {
	if b.buf == nil {
		b.buf, b.Records = make([]byte, batchSize), make([]Record, 0, batchSize/96)
	}
	b.Records = b.Records[:0]
	have := copy(b.buf, r.rest)
	for r.err == nil {
		if !r.ended && have < len(b.buf) {
			n, err := r.in.Read(b.buf[have:])
			have += n
			if err == io.EOF {
				r.ended = true
			} else if err != nil {
				r.fail("reading", err)
			}
		}
		at := 0
		for r.err == nil && at < have {
			n := len(b.Records)
			if n == cap(b.Records) {
				b.Records = append(b.Records, Record{})[:n]
			}
			rec := &b.Records[:n+1][n]
			rec.Comment = nil
			used, got := r.step(r, b.buf[at:have], rec)
			if got {
				r.number++
				rec.Number = r.number
				b.Records = b.Records[:n+1]
			}
			if used == 0 {
				break
			}
			at += used
			r.offset += int64(used)
		}
		if len(b.Records) > 0 || r.err != nil {
			// What is left lies in b, which is the caller's: it is kept apart.
			r.rest = append(r.rest[:0], b.buf[at:have]...)
			break
		}
		have = copy(b.buf, b.buf[at:have])
		if have == len(b.buf) { // one packet that is larger than the whole buffer
			b.buf = append(b.buf, make([]byte, len(b.buf))...)
		}
		if r.ended {
			if have > 0 {
				r.fail("packet", ErrCut)
			}
			r.rest = nil
			break
		}
	}
	return len(b.Records) > 0
}

// Err is why the file was not read to its end; nil if it was.
func (r *Reader) Err() error { return r.err }

func (r *Reader) fail(what string, err error) {
	if r.err == nil {
		r.err = fmt.Errorf("%s at byte %d: %w", what, r.offset, err)
	}
}

func (r *Reader) openPcap(head []byte) {
	r.order = binary.ByteOrder(binary.LittleEndian)
	if head[0] == 0xa1 {
		r.order = binary.BigEndian
	}
	r.perSecond = 1_000_000
	if r.order.Uint32(head) == 0xa1b23c4d {
		r.perSecond = 1_000_000_000
	}
	// The upper bits say how long the frame check sequence is.
	r.link = LinkType(r.order.Uint32(head[20:]) & 0xffff)
	r.step, r.rest, r.offset = (*Reader).nextPcap, nil, 24
	if r.order == binary.LittleEndian {
		r.step = (*Reader).nextPcapLittle
	}
}

func (r *Reader) nextPcap(data []byte, rec *Record) (used int, got bool) {
	if len(data) < 16 {
		return 0, false
	}
	return r.pcapRecord(data, rec, r.order.Uint32(data), r.order.Uint32(data[4:]), r.order.Uint32(data[8:]), r.order.Uint32(data[12:]))
}

// nextPcapLittle is nextPcap for the order that nearly all files have.
func (r *Reader) nextPcapLittle(data []byte, rec *Record) (used int, got bool) {
	if len(data) < 16 {
		return 0, false
	}
	order := binary.LittleEndian
	return r.pcapRecord(data, rec, order.Uint32(data), order.Uint32(data[4:]), order.Uint32(data[8:]), order.Uint32(data[12:]))
}

func (r *Reader) pcapRecord(data []byte, rec *Record, seconds, fraction, size, length uint32) (used int, got bool) {
	if size > maxPacket {
		r.offset += 8
		r.fail("packet length", fmt.Errorf("%d is over %d: %w", size, maxPacket, ErrDamaged))
		return 0, false
	}
	if len(data) < 16+int(size) {
		return 0, false
	}
	nanoseconds := int64(fraction)
	if r.perSecond == 1_000_000 {
		nanoseconds *= 1000
	}
	rec.At, rec.Link, rec.Length, rec.Data = int64(seconds)*1e9+nanoseconds, r.link, int(max(length, size)), data[16:16+size:16+size]
	return 16 + int(size), true
}

// Block types of pcapng.
const (
	sectionHeader  = 0x0a0d0d0a
	interfaceBlock = 1
	oldPacket      = 2
	simplePacket   = 3
	nameBlock      = 4
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
	r.interfaces = r.interfaces[:0]
	return true
}

func (r *Reader) addInterface(body []byte) {
	if len(body) < 8 {
		r.fail("interface description", ErrDamaged)
		return
	}
	info := interfaceInfo{link: LinkType(r.order.Uint16(body)), snap: int(r.order.Uint32(body[4:])), perSecond: 1_000_000}
	r.options(body[8:], func(code uint16, value []byte) {
		switch {
		case code == 9 && len(value) == 1: // if_tsresol
			info.perSecond = resolution(value[0])
		case code == 14 && len(value) == 8: // if_tsoffset
			info.offset = int64(r.order.Uint64(value))
		}
	})
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
		if code == 1 && text == nil {
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

// maxNames is how many host names of one file are kept.
const maxNames = 10_000

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
				r.names = map[netip.Addr]string{}
			}
			address, _ := netip.AddrFromSlice(value[:width])
			name, _, _ := bytes.Cut(value[width:], []byte{0})
			r.names[address] = string(name)
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
	rec.Link, rec.Length, rec.Data = r.interfaces[0].link, length, body[4:4+size]
	return true
}
