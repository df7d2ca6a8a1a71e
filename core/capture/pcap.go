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
	r.link = LinkType(r.order.Uint32(head[20:]) & 0xffff)
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

// Datagram takes the next packet of the batch that was begun last, as [Reader.Next] and
// [Decoder.Decode] would, if it is what nearly all are: a whole datagram of IPv4 on
// Ethernet without anything out of the ordinary, in a pcap file of the byte order that
// nearly all have. It reports whether it was, and leaves all others to them.
func (r *Reader) Datagram(b *Batch, p *Packet) bool {
	data := b.rest
	if !r.plain || len(data) < 16 || r.err != nil {
		return false
	}
	head := (*[16]byte)(data)
	size := binary.LittleEndian.Uint32(head[8:])
	end := 16 + int(size)
	if size > maxPacket || end > len(data) || !plain(data[16:end], p) {
		return false
	}
	p.At = int64(binary.LittleEndian.Uint32(head[:]))*1e9 + int64(binary.LittleEndian.Uint32(head[4:]))*r.fraction
	b.rest = data[end:]
	r.offset += int64(end)
	r.number++
	p.Number = r.number
	return true
}
