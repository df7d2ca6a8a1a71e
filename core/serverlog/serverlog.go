// Package serverlog reads and writes what DNS servers record of their exchanges: dnstap, which is Protocol Buffers in
// Frame Streams, and C-DNS (RFC 8618).
//
// Records are streamed: memory does not grow with what is read, whoever wrote it.
package serverlog

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/netip"
)

// What can be wrong with a record.
var (
	ErrDamaged = errors.New("damaged")
	ErrCut     = errors.New("the file ends in the middle of a record")
	ErrContent = errors.New("its content is none that is read")
)

// Over is how a message travelled, as far as the server knows.
type Over uint8

// The ways.
const (
	UDP Over = iota
	TCP
	TLS
	HTTPS
	QUIC
)

// Message is one message that a server recorded.
type Message struct {
	At       int64 // nanoseconds since 1970 UTC; 0 when it is not recorded
	From, To netip.AddrPort
	Over     Over
	Data     []byte // as in the record, or put together from it
	Comment  string // what the server says of it, which anybody may have written; "" for nothing
	Alone    bool   // of a question: nothing is recorded of its reply
	Cut      bool   // of a reply: parts of it are not recorded
}

// Source gives the messages of a record in its order.
type Source interface {
	// Next hands the next messages to emit, which keeps nothing of them, and returns io.EOF after the last. The error
	// wraps ErrDamaged, ErrCut or ErrContent and says at which byte, or is that of the reader.
	Next(emit func(*Message)) error
	// Offset is how many bytes have been read. It may be called while others are.
	Offset() int64
}

// Format is what a file of records is.
type Format uint8

// The formats.
const (
	None Format = iota
	DnstapFile
	CDNSFile
)

// HeadSize is how many bytes of a file tell for sure what it is.
const HeadSize = 12

// FormatOf is what a file is by its beginning, of which there may be less than HeadSize.
func FormatOf(head []byte) Format {
	switch {
	case len(head) < 4:
	case string(head[:4]) == "\x00\x00\x00\x00" && (len(head) == 4 || len(head) >= HeadSize && head[4] == 0 && head[5] == 0 && binary.BigEndian.Uint32(head[8:]) <= finish):
		if len(head) == 4 || binary.BigEndian.Uint32(head[8:]) >= accept {
			return DnstapFile
		}
	case (head[0] == 0x83 || head[0] == 0x9f) && string(head[1:4]) == "eC-": // an array that begins with a text of five bytes
		return CDNSFile
	}
	return None
}

// Open reads a file of the format.
func (f Format) Open(in io.Reader) Source {
	if f == CDNSFile {
		return NewCDNS(in)
	}
	return NewDnstap(in, nil)
}

// nowhere stands for an address that is not recorded.
var nowhere = netip.IPv4Unspecified()

// endOf is an end of a way; what is not recorded is unspecified.
func endOf(address []byte, port uint64) netip.AddrPort {
	a, ok := netip.AddrFromSlice(address)
	if !ok {
		a = nowhere
	}
	if port > 65535 {
		port = 0
	}
	return netip.AddrPortFrom(a.Unmap(), uint16(port))
}

// alike makes both ends of one family: of a way that is not wholly recorded, one is of none.
func alike(a, b netip.AddrPort) (netip.AddrPort, netip.AddrPort) {
	switch {
	case a.Addr().Is4() == b.Addr().Is4():
	case a.Addr().IsUnspecified():
		a = netip.AddrPortFrom(netip.IPv6Unspecified(), a.Port())
	case b.Addr().IsUnspecified():
		b = netip.AddrPortFrom(netip.IPv6Unspecified(), b.Port())
	}
	return a, b
}

// headerSize is how many bytes a message begins with that are its header (RFC 1035 §4.1.1).
const headerSize = 12

// questionFor is the question that a reply answers, where that itself is not recorded: what of it the reply repeats.
// It is empty where the reply cannot be read so far.
func questionFor(reply []byte) []byte {
	if len(reply) < headerSize || binary.BigEndian.Uint16(reply[4:]) != 1 {
		return nil
	}
	end := headerSize
	for end < len(reply) && reply[end] != 0 && reply[end] < 64 {
		end += 1 + int(reply[end])
	}
	if end += 5; end > len(reply) || reply[end-5] != 0 {
		return nil
	}
	question := append([]byte(nil), reply[:end]...)
	question[2] = reply[2] & 0x79 // the opcode, and that recursion is wanted
	question[3] = reply[3] & 0x10 // and that nothing is to be checked
	clear(question[6:headerSize])
	return question
}

// failure is what is wrong, and where.
func failure(at int64, what string, err error) error {
	return fmt.Errorf("%s at byte %d: %w", what, at, err)
}
