package serverlog

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"sync/atomic"
)

// Content is the type of content that dnstap has in its frames.
const Content = "protobuf:dnstap.Dnstap"

// Control frames of Frame Streams. Behind four zero bytes they have their length, their type and fields.
const (
	accept = 1 + iota
	start
	stop
	ready
	finish
)

// Bounds on frames: a message has 65,535 bytes at the most, and a record two of them.
const (
	maxFrame    = 256 << 10
	maxControl  = 512
	contentType = 1 // field of a control frame
)

// counted counts what is read.
type counted struct {
	in io.Reader
	n  atomic.Int64
}

func (c *counted) Read(b []byte) (int, error) {
	n, err := c.in.Read(b)
	c.n.Add(int64(n))
	return n, err
}

// frames reads Frame Streams.
type frames struct {
	in     *bufio.Reader
	offset int64 // of what was taken
	frame  []byte
}

// take reads n bytes to the frame.
func (f *frames) take(n int) ([]byte, error) {
	if cap(f.frame) < n {
		f.frame = make([]byte, n, n+n/2)
	}
	f.frame = f.frame[:n]
	read, err := io.ReadFull(f.in, f.frame)
	if f.offset += int64(read); err == io.ErrUnexpectedEOF {
		err = failure(f.offset, "frame", ErrCut)
	}
	return f.frame, err
}

// next returns the next frame: its data, or what a control frame is, and its fields. The data is good until the next
// call. The error is io.EOF where the stream ends between two frames.
func (f *frames) next() (data []byte, control uint32, err error) {
	begin := f.offset
	head, err := f.take(4)
	if err != nil {
		return nil, 0, err
	}
	size := binary.BigEndian.Uint32(head)
	if size == 0 {
		return f.control(begin)
	}
	if size > maxFrame {
		return nil, 0, failure(begin, "frame", fmt.Errorf("its length is %d: %w", size, ErrDamaged))
	}
	data, err = f.take(int(size))
	return data, 0, cutShort(err, f.offset)
}

// cutShort says that a stream ended within something.
func cutShort(err error, at int64) error {
	if err == io.EOF {
		return failure(at, "frame", ErrCut)
	}
	return err
}

func (f *frames) control(begin int64) (fields []byte, control uint32, err error) {
	head, err := f.take(4)
	if err != nil {
		return nil, 0, cutShort(err, f.offset)
	}
	size := binary.BigEndian.Uint32(head)
	if size < 4 || size > maxControl {
		return nil, 0, failure(begin, "control frame", fmt.Errorf("its length is %d: %w", size, ErrDamaged))
	}
	body, err := f.take(int(size))
	if err != nil {
		return nil, 0, cutShort(err, f.offset)
	}
	return body[4:], binary.BigEndian.Uint32(body), nil
}

// offers reports whether a control frame names the content that is read, or none.
func offers(fields []byte) bool {
	any := false
	for len(fields) >= 8 {
		kind, size := binary.BigEndian.Uint32(fields), binary.BigEndian.Uint32(fields[4:])
		if fields = fields[8:]; uint64(size) > uint64(len(fields)) {
			return false
		}
		if kind == contentType {
			if any = true; string(fields[:size]) == Content {
				return true
			}
		}
		fields = fields[size:]
	}
	return !any
}

// appendControl appends a control frame.
func appendControl(dst []byte, control uint32, withContent bool) []byte {
	body := binary.BigEndian.AppendUint32(nil, control)
	if withContent {
		body = binary.BigEndian.AppendUint32(body, contentType)
		body = binary.BigEndian.AppendUint32(body, uint32(len(Content)))
		body = append(body, Content...)
	}
	dst = append(dst, 0, 0, 0, 0)
	return append(binary.BigEndian.AppendUint32(dst, uint32(len(body))), body...)
}

// AppendFrame appends a frame with data.
func appendFrame(dst, data []byte) []byte {
	return append(binary.BigEndian.AppendUint32(dst, uint32(len(data))), data...)
}

// errNoStart says that a stream does not begin as one.
var errNoStart = errors.New("it does not begin with START")

// begin reads the beginning of a stream. Where its sender waits for an answer, back takes that; nil: it is a file.
func (f *frames) begin(back io.Writer) error {
	for {
		fields, control, err := f.next()
		switch {
		case err == io.EOF:
			return failure(f.offset, "frame", ErrCut)
		case err != nil:
			return err
		case (control == ready && back != nil || control == start) && !offers(fields):
			return failure(f.offset, "control frame", ErrContent)
		case control == start:
			return nil
		case control == ready && back != nil:
			if _, err := back.Write(appendControl(nil, accept, true)); err != nil {
				return err
			}
		default:
			return failure(f.offset, "frame", fmt.Errorf("%w: %w", errNoStart, ErrDamaged))
		}
	}
}
