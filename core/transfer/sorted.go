package transfer

import (
	"bufio"
	"bytes"
	"cmp"
	"container/heap"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"

	"unquil/core/wire"
)

// Scratch is a temporary file, which is gone when it is closed.
type Scratch interface {
	io.ReadWriteSeeker
	io.Closer
}

// Sorter puts records in canonical order (RFC 4034 §6), the SOA record before
// the others of its name. What does not fit into memory waits in temporary files,
// so memory does not grow with the number of records: call Close when done.
type Sorter struct {
	Scratch func() (Scratch, error) // makes a temporary file
	Room    int                     // bytes of records to hold in memory; 0 means 16 MB

	entries [][]byte // each: key length, key, record
	used    int
	runs    []Scratch
}

// Add takes one more record. The error is that of the temporary file that the records before it
// go to.
func (s *Sorter) Add(r wire.Record) error {
	entry := appendEntry(nil, r)
	s.entries = append(s.entries, entry)
	if s.used += len(entry) + 48; s.used > cmp.Or(s.Room, 16<<20) {
		return s.spill()
	}
	return nil
}

// appendEntry writes a record behind the key that it is sorted by.
func appendEntry(dst []byte, r wire.Record) []byte {
	at := len(dst)
	dst = append(dst, 0, 0, 0, 0)
	owner := r.Name.Fold()
	for i := owner.Labels() - 1; i >= 0; i-- {
		// Each label ends with 0 0; a zero byte in it is 0 1, so that shorter sorts first.
		for label := owner.Label(i); label != ""; label = label[1:] {
			if dst = append(dst, label[0]); label[0] == 0 {
				dst = append(dst, 1)
			}
		}
		dst = append(dst, 0, 0)
	}
	dst = append(dst, 0, 0)
	rank := uint16(r.Type)
	if r.Type == wire.SOA {
		rank = 0
	}
	dst = binary.BigEndian.AppendUint16(dst, rank)
	dst = append(dst, r.Canonical().Data...)
	binary.BigEndian.PutUint32(dst[at:], uint32(len(dst)-at-4))
	for _, v := range []uint16{uint16(r.Type), uint16(r.Class), uint16(r.TTL >> 16), uint16(r.TTL), uint16(len(r.Name.Wire()))} {
		dst = binary.BigEndian.AppendUint16(dst, v)
	}
	dst = append(dst, r.Name.Wire()...)
	return append(dst, r.Data...)
}

// keyOf is what an entry is sorted by.
func keyOf(entry []byte) []byte { return entry[4 : 4+int(binary.BigEndian.Uint32(entry))] }

func recordOf(entry []byte) (wire.Record, error) {
	b := entry[4+int(binary.BigEndian.Uint32(entry)):]
	u16 := func(at int) uint16 { return binary.BigEndian.Uint16(b[2*at:]) }
	size := int(u16(4))
	name, err := wire.NameFromWire(string(b[10 : 10+size]))
	return wire.Record{Name: name, Type: wire.Type(u16(0)), Class: wire.Class(u16(1)), TTL: uint32(u16(2))<<16 | uint32(u16(3)), Data: string(b[10+size:])}, err
}

func (s *Sorter) sort() {
	slices.SortStableFunc(s.entries, func(a, b []byte) int { return bytes.Compare(keyOf(a), keyOf(b)) })
}

// spill writes what is in memory to a file of its own.
func (s *Sorter) spill() (err error) {
	s.sort()
	file, err := s.Scratch()
	if err != nil {
		return err
	}
	s.runs = append(s.runs, file)
	out := bufio.NewWriterSize(file, 256<<10)
	for _, entry := range s.entries {
		out.Write(binary.BigEndian.AppendUint32(nil, uint32(len(entry))))
		out.Write(entry)
	}
	s.entries, s.used = s.entries[:0], 0
	if err := out.Flush(); err != nil {
		return fmt.Errorf("sorting: %w", err)
	}
	_, err = file.Seek(0, io.SeekStart)
	return err
}

// Records yields the records in order, those that are there twice only once. An
// error comes last. Range over it once, after the last Add.
func (s *Sorter) Records() iter.Seq2[wire.Record, error] {
	return func(yield func(wire.Record, error) bool) {
		s.sort()
		var all merge
		at := 0
		all.add(func() ([]byte, error) {
			if at == len(s.entries) {
				return nil, io.EOF
			}
			at++
			return s.entries[at-1], nil
		})
		for _, run := range s.runs {
			all.add(entries(run))
		}
		var before []byte
		for len(all.heads) > 0 {
			entry := all.next()
			if bytes.Equal(keyOf(entry), before) {
				continue
			}
			before = append(before[:0], keyOf(entry)...)
			if r, err := recordOf(entry); !yield(r, err) || err != nil {
				return
			}
		}
		if all.err != nil {
			yield(wire.Record{}, all.err)
		}
	}
}

// Close removes the temporary files.
func (s *Sorter) Close() error {
	var errs []error
	for _, run := range s.runs {
		errs = append(errs, run.Close())
	}
	s.runs, s.entries = nil, nil
	return errors.Join(errs...)
}

// entries reads a sorted run back.
func entries(file io.Reader) func() ([]byte, error) {
	in := bufio.NewReaderSize(file, 256<<10)
	return func() ([]byte, error) {
		var size [4]byte
		if _, err := io.ReadFull(in, size[:]); err != nil {
			return nil, err
		}
		entry := make([]byte, binary.BigEndian.Uint32(size[:]))
		_, err := io.ReadFull(in, entry)
		return entry, err
	}
}

// merge gives the entries of several sorted runs in one order.
type merge struct {
	heads []head
	err   error
}

type head struct {
	entry []byte
	more  func() ([]byte, error)
}

func (m *merge) Len() int { return len(m.heads) }
func (m *merge) Less(i, j int) bool {
	return bytes.Compare(keyOf(m.heads[i].entry), keyOf(m.heads[j].entry)) < 0
}
func (m *merge) Swap(i, j int) { m.heads[i], m.heads[j] = m.heads[j], m.heads[i] }
func (m *merge) Push(x any)    { m.heads = append(m.heads, x.(head)) }
func (m *merge) Pop() any {
	last := m.heads[len(m.heads)-1]
	m.heads = m.heads[:len(m.heads)-1]
	return last
}

func (m *merge) add(more func() ([]byte, error)) {
	if entry := m.read(more); entry != nil {
		heap.Push(m, head{entry, more})
	}
}

func (m *merge) read(more func() ([]byte, error)) []byte {
	entry, err := more()
	if err != nil {
		if err != io.EOF {
			m.err = fmt.Errorf("sorting: %w", err)
		}
		return nil
	}
	return entry
}

// next takes out the smallest entry.
func (m *merge) next() []byte {
	entry := m.heads[0].entry
	if m.heads[0].entry = m.read(m.heads[0].more); m.heads[0].entry == nil {
		heap.Remove(m, 0)
	} else {
		heap.Fix(m, 0)
	}
	return entry
}

// Difference is a record that only one of two zones has, or that has another TTL.
type Difference struct {
	Record wire.Record
	Other  *wire.Record // the same with its TTL in the other zone; nil: the other lacks it
	Second bool         // Record is of the second zone
}

// Differ yields how two sorted zones differ, in canonical order. Nothing of them
// is held in memory. An error of either ends it.
func Differ(first, second iter.Seq2[wire.Record, error]) iter.Seq2[Difference, error] {
	return func(yield func(Difference, error) bool) {
		nextA, stopA := iter.Pull2(first)
		defer stopA()
		nextB, stopB := iter.Pull2(second)
		defer stopB()
		a, errA, okA := nextA()
		b, errB, okB := nextB()
		var keyA, keyB []byte
		for okA || okB {
			if err := cmp.Or(errA, errB); err != nil {
				yield(Difference{}, err)
				return
			}
			side := 0
			switch {
			case !okB:
				side = -1
			case !okA:
				side = 1
			default:
				keyA, keyB = appendEntry(keyA[:0], a), appendEntry(keyB[:0], b)
				side = bytes.Compare(keyOf(keyA), keyOf(keyB))
			}
			more := true
			switch {
			case side < 0:
				more = yield(Difference{Record: a}, nil)
			case side > 0:
				more = yield(Difference{Record: b, Second: true}, nil)
			case a.TTL != b.TTL:
				other := b
				more = yield(Difference{Record: a, Other: &other}, nil)
			}
			if !more {
				return
			}
			if side <= 0 {
				a, errA, okA = nextA()
			}
			if side >= 0 {
				b, errB, okB = nextB()
			}
		}
	}
}
