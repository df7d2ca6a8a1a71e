package serverlog

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"
)

// Bounds on what is read of CBOR (RFC 8949).
const (
	maxItem  = 16 << 20 // bytes of one
	maxDepth = 16       // items within each other: C-DNS has seven
)

// Major types of CBOR.
const (
	bytesType = 2
	textType  = 3
	arrayType = 4
	mapType   = 5
	tagType   = 6
	otherType = 7
)

// items reads CBOR item by item, as far as to know where each ends.
type items struct {
	in     *bufio.Reader
	offset int64
	buf    []byte
}

// head reads the head of an item: its type, its number, and whether its length is not said. The bytes go to buf.
func (s *items) head() (major byte, n uint64, open bool, err error) {
	first, err := s.in.ReadByte()
	if err != nil {
		return 0, 0, false, err
	}
	s.offset++
	s.buf = append(s.buf, first)
	major, info := first>>5, first&31
	switch {
	case info < 24:
		return major, uint64(info), false, nil
	case info < 28:
		var b [8]byte
		size := 1 << (info - 24)
		if err := s.fill(b[8-size:]); err != nil {
			return 0, 0, false, err
		}
		return major, binary.BigEndian.Uint64(b[:]), false, nil
	case info == 31 && major >= bytesType && major != tagType:
		return major, 0, true, nil
	}
	return 0, 0, false, failure(s.offset-1, "item", ErrDamaged)
}

// fill reads to b, and to buf.
func (s *items) fill(b []byte) error {
	n, err := io.ReadFull(s.in, b)
	s.offset += int64(n)
	s.buf = append(s.buf, b...)
	return cutItem(err, s.offset)
}

func cutItem(err error, at int64) error {
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		return failure(at, "item", ErrCut)
	}
	return err
}

// isBreak reports whether a head is the end of an item whose length was not said.
func isBreak(major byte, open bool) bool { return major == otherType && open }

// item reads a whole item to buf.
func (s *items) item(depth int) error {
	begin := s.offset
	major, n, open, err := s.head()
	if err != nil {
		return cutItem(err, s.offset)
	}
	if isBreak(major, open) {
		return failure(begin, "item", fmt.Errorf("an end without a beginning: %w", ErrDamaged))
	}
	return s.rest(begin, major, n, open, depth)
}

// rest reads what comes behind a head.
func (s *items) rest(begin int64, major byte, n uint64, open bool, depth int) error {
	if depth > maxDepth {
		return failure(begin, "item", fmt.Errorf("too many within each other: %w", ErrDamaged))
	}
	switch major {
	case bytesType, textType:
		if open {
			break
		}
		if n > maxItem || len(s.buf)+int(n) > maxItem {
			return failure(begin, "item", fmt.Errorf("its length is %d: %w", n, ErrDamaged))
		}
		at := len(s.buf)
		for left := int(n); left > 0; { // what is said to be long need not be there
			size := min(left, 64<<10)
			s.buf = append(s.buf, make([]byte, size)...)
			read, err := io.ReadFull(s.in, s.buf[at:at+size])
			if s.offset += int64(read); err != nil {
				return cutItem(err, s.offset)
			}
			at, left = at+size, left-size
		}
		return nil
	case arrayType, mapType, tagType:
		if major == mapType {
			if n > maxItem {
				return failure(begin, "item", ErrDamaged)
			}
			n *= 2
		} else if major == tagType {
			n = 1
		}
	default:
		return nil
	}
	for i := uint64(0); open || i < n; i++ {
		if len(s.buf) > maxItem {
			return failure(begin, "item", fmt.Errorf("it is larger than %d MB: %w", maxItem>>20, ErrDamaged))
		}
		at := s.offset
		major, n, inner, err := s.head()
		if err != nil {
			return cutItem(err, s.offset)
		}
		if isBreak(major, inner) {
			if !open {
				return failure(at, "item", fmt.Errorf("it ends early: %w", ErrDamaged))
			}
			return nil
		}
		if major < bytesType && depth < maxDepth {
			continue // a number, as most are: its head is all of it
		}
		if err := s.rest(at, major, n, inner, depth+1); err != nil {
			return err
		}
	}
	return nil
}
