package capture

import (
	"encoding/binary"
	"fmt"
)

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
