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

	"unquil/core/escape"
	"unquil/core/serverlog"
)

// What can be wrong with a capture file.
var (
	ErrFormat  = errors.New("neither a capture nor a server's record")
	ErrEmpty   = errors.New("the file is empty")
	ErrDamaged = serverlog.ErrDamaged
	ErrCut     = errors.New("the file ends in the middle of a packet")
)

const (
	maxPacket = 262144    // bytes: the largest snap length in use
	maxBlock  = 1 << 20   // bytes
	batchSize = 128 << 10 // of a file that are parsed at once: they stay in the processor's cache
	before    = 64 << 10  // room before them, for the packet that began in the last ones
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
	offset int64  // of rest
	number int    // of packets so far
	err    error
	source serverlog.Source                                               // of a server's record; nil: it is a capture
	step   func(r *Reader, data []byte, rec *Record) (used int, got bool) // parses what comes next in the file's format

	batch  Batch // of Records
	record Record
	ended  bool // there is no other batch

	order      binary.ByteOrder
	link       LinkType // pcap
	fraction   int64    // pcap: of a second, in nanoseconds
	plain      bool     // in the byte order that nearly all files have; of pcap, Ethernet
	inBlocks   bool     // pcapng
	interfaces []interfaceInfo
	names      map[netip.Addr]escape.Text
	lost       uint64 // packets, as statistics say
	clock      int64  // when the latest of these were taken
}

// Batch is bytes of a file that hold packets. It may be used again; the zero value is
// ready to use.
type Batch struct {
	buf   []byte
	fresh []byte // of it: what was read
	large []byte // takes its place where a packet is larger than the room before it
	data  []byte // what is parsed: of buf, or large
	next  int    // in data: where the next packet begins
	err   error  // of reading; io.EOF at the end
}

// Names are the host names that the file gives for addresses.
func (r *Reader) Names() map[netip.Addr]escape.Text { return r.names }

// Lost is how many packets the file says that its writer has lost, as far as it was read.
func (r *Reader) Lost() uint64 { return r.lost }

// Clock is up to when the file says that its writer has listened, as far as it was read, in
// nanoseconds since 1970 UTC; 0 when it does not say.
func (r *Reader) Clock() int64 { return r.clock }

// Offset is how many bytes of the file (unpacked, where it is packed) have been read.
func (r *Reader) Offset() int64 {
	if r.source != nil {
		return r.source.Offset()
	}
	return r.offset
}

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
	if format := serverlog.FormatOf(head[:4]); format != serverlog.None {
		n, err := io.ReadFull(in, head[4:serverlog.HeadSize])
		if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
			return nil, err
		}
		head = head[:4+n]
		if format = serverlog.FormatOf(head); format == serverlog.None || format == serverlog.DnstapFile && len(head) < serverlog.HeadSize {
			return nil, ErrFormat
		}
		r.openServed(format.Open(io.MultiReader(bytes.NewReader(head), in)))
		return r, nil
	}
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
		r.step, r.inBlocks = (*Reader).nextBlock, true
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
	for !r.Next(&r.batch, &r.record) {
		if r.ended || r.err != nil {
			return nil
		}
		r.ended = !r.Fill(&r.batch)
		r.Begin(&r.batch)
	}
	return &r.record
}

// Fill reads what comes next in the file, and reports whether there may be more. It may
// be called while the packets of other batches are taken.
func (r *Reader) Fill(b *Batch) bool {
	if b.buf == nil {
		b.buf = make([]byte, before+batchSize)
	}
	n := 0
	for b.err = nil; n == 0 && b.err == nil; {
		n, b.err = r.in.Read(b.buf[before:])
	}
	b.fresh = b.buf[before : before+n]
	return b.err == nil
}

// Begin makes a batch the one whose packets come next. Begin batches in the order in
// which they were filled, each once all packets of the one before have been taken.
func (r *Reader) Begin(b *Batch) {
	if start := before - len(r.rest); start >= 0 {
		copy(b.buf[start:], r.rest)
		b.data = b.buf[start : before+len(b.fresh)]
	} else {
		b.large = append(append(b.large[:0], r.rest...), b.fresh...)
		b.data = b.large
	}
	b.next, r.rest = 0, r.rest[:0]
}

// Next takes the next packet of the batch that was begun last, and reports whether
// there was one. Its bytes lie in the batch, and are good until that is filled again.
// After the last batch [Reader.Err] says whether the file was read to its end.
func (r *Reader) Next(b *Batch, rec *Record) bool {
	rec.Comment = nil
	if r.err != nil { // what is left is not looked at, and not kept
		b.next, r.rest = len(b.data), r.rest[:0]
		return false
	}
	for r.err == nil && b.next < len(b.data) {
		used, got := r.step(r, b.data[b.next:], rec)
		b.next += used
		r.offset += int64(used)
		if got {
			r.number++
			rec.Number = r.number
			return true
		}
		if used == 0 {
			break
		}
	}
	if b.next < len(b.data) {
		// What is left lies in b, which is the caller's: it is kept apart.
		r.rest = append(r.rest[:0], b.data[b.next:]...)
		b.next = len(b.data)
	}
	switch {
	case b.err == io.EOF && len(r.rest) > 0:
		r.fail("packet", ErrCut)
	case b.err != nil && b.err != io.EOF && r.source != nil: // it says where
		r.err = b.err
	case b.err != nil && b.err != io.EOF:
		r.fail("reading", b.err)
	}
	return false
}

// Err is why the file was not read to its end; nil if it was.
func (r *Reader) Err() error { return r.err }

func (r *Reader) fail(what string, err error) {
	if r.err == nil {
		r.err = fmt.Errorf("%s at byte %d: %w", what, r.offset, err)
	}
}
