package wire

import (
	"encoding/binary"
	"io"
)

// AppendFramed appends a message behind its length, as it stands in a stream (RFC 1035
// §4.2.2). The message has at most 65,535 bytes.
func AppendFramed(b, message []byte) []byte {
	return append(binary.BigEndian.AppendUint16(b, uint16(len(message))), message...)
}

// ReadFramed reads a message behind its length into buf, which is made larger where it is
// too small. The error is io.EOF when the stream ended before one began,
// io.ErrUnexpectedEOF when it ended within, and else that of r.
func ReadFramed(r io.Reader, buf []byte) ([]byte, error) {
	var size [2]byte
	if _, err := io.ReadFull(r, size[:]); err != nil {
		return nil, err
	}
	n := int(binary.BigEndian.Uint16(size[:]))
	if cap(buf) < n {
		buf = make([]byte, n)
	}
	_, err := io.ReadFull(r, buf[:n])
	if err == io.EOF {
		err = io.ErrUnexpectedEOF
	}
	return buf[:n], err
}
