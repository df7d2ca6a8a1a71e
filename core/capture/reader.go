// Package capture reads and writes packet captures, and finds the DNS messages
// in their packets.
//
// Files are streamed: memory does not grow with the file, and nothing is
// allocated for a packet.
package capture

import (
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
	batchSize = 256 << 10 // of a file that are parsed at once: they stay in the processor's cache
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
	step   func(r *Reader, data []byte, rec *Record) (used int, got bool) // parses what comes next in the file's format

	batch  Batch // of Records
	record Record

	order      binary.ByteOrder
	link       LinkType // pcap
	fraction   int64    // pcap: of a second, in nanoseconds
	plain      bool     // pcap of Ethernet, in the byte order that nearly all files have
	interfaces []interfaceInfo
	names      map[netip.Addr]string
}

// Batch is bytes of a file that hold packets. It may be used again; the zero value is
// ready to use.
type Batch struct {
	buf  []byte
	rest []byte // of it: what has not been taken yet
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
	for !r.Next(&r.batch, &r.record) {
		if !r.Fill(&r.batch) {
			return nil
		}
	}
	return &r.record
}

// Fill reads what comes next in the file, and reports whether there was more. Once it
// has returned false, [Reader.Err] says why. Take all packets of the batch with
// [Reader.Next] before the next one is filled; there may be none.
func (r *Reader) Fill(b *Batch) bool {
	if b.buf == nil {
		b.buf = make([]byte, batchSize)
	}
	b.rest = nil
	if r.err != nil {
		return false
	}
	for len(r.rest) >= len(b.buf) { // one packet that is larger than the whole buffer
		b.buf = make([]byte, 2*len(b.buf))
	}
	kept := copy(b.buf, r.rest)
	n := 0
	for n == 0 && r.err == nil {
		var err error
		if n, err = r.in.Read(b.buf[kept:]); err == io.EOF {
			if n == 0 && len(r.rest) > 0 {
				r.fail("packet", ErrCut)
			}
			break
		} else if err != nil {
			r.fail("reading", err)
		}
	}
	b.rest = b.buf[:kept+n]
	r.rest = r.rest[:0]
	return n > 0
}

// Next takes the next packet of the batch that was filled last, and reports whether
// there was one. Its bytes lie in the batch, and are good until that is filled again.
func (r *Reader) Next(b *Batch, rec *Record) bool {
	rec.Comment = nil
	for r.err == nil && len(b.rest) > 0 {
		used, got := r.step(r, b.rest, rec)
		b.rest = b.rest[used:]
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
	if len(b.rest) > 0 {
		// What is left lies in b, which is the caller's: it is kept apart.
		r.rest = append(r.rest[:0], b.rest...)
		b.rest = nil
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
