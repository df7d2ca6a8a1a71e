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
	r.fraction = 1000
	if r.order.Uint32(head) == 0xa1b23c4d {
		r.fraction = 1
	}
	// The upper bits say how long the frame check sequence is.
	r.link = linkOf(uint16(r.order.Uint32(head[20:])))
	r.step, r.rest, r.offset = (*Reader).nextPcap, nil, 24
	r.plain = r.order == binary.LittleEndian && r.link == Ethernet
}

func (r *Reader) nextPcap(data []byte, rec *Record) (used int, got bool) {
	if len(data) < 16 {
		return 0, false
	}
	size, length := r.order.Uint32(data[8:]), r.order.Uint32(data[12:])
	if size > maxPacket {
		r.offset += 8
		r.fail("packet length", fmt.Errorf("%d is over %d: %w", size, maxPacket, ErrDamaged))
		return 0, false
	}
	if len(data) < 16+int(size) {
		return 0, false
	}
	rec.At = int64(r.order.Uint32(data))*1e9 + int64(r.order.Uint32(data[4:]))*r.fraction
	rec.Link, rec.Length, rec.Data = r.link, int(max(length, size)), data[16:16+size:16+size]
	return 16 + int(size), true
}
