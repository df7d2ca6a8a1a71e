package capture

import "encoding/binary"

// A plain datagram is a whole one of IPv4 on Ethernet without anything out of the
// ordinary, as nearly all packets of most captures are. Where a file holds them they are
// found many at a time, and nothing is copied.

const (
	recordHeader = 16 // bytes, before a packet in a pcap file
	blockHeader  = 28 // and in a pcapng file,
	blockEnd     = 4  // and after it
	toIP         = 14 // from the beginning of the frame
	toUDP        = toIP + 20
	toPayload    = toUDP + 8
)

// Place is where a plain datagram lies in a [Batch].
type Place uint32

// MayBePlain reports whether [Reader.Plains] looks at packets of this file: only where its
// byte order is that of nearly all.
func (r *Reader) MayBePlain() bool { return r.plain }

// Plains hands the next packets of the batch that was begun last to take, as [Reader.Next]
// would, as long as they are plain, and returns how many that were: the number of each, when
// it came (nanoseconds since 1970 UTC; 0 when not known) and where its parts lie.
func (r *Reader) Plains(b *Batch, take func(number int, at int64, place Place, h *Header, payload []byte)) (count int) {
	switch {
	case !r.plain || r.err != nil:
		return 0
	case r.inBlocks:
		return r.plainBlocks(b, take)
	}
	data, begun := b.data, b.next
	for next := begun; next <= len(data)-recordHeader-toPayload; {
		head := (*[recordHeader + toPayload]byte)(data[next:])
		captured := int(binary.LittleEndian.Uint32(head[8:]))
		frame := (*[toPayload]byte)(head[recordHeader:])
		begin := next + recordHeader + toIP
		end := begin + plainSize(frame)
		if next += recordHeader + captured; captured > maxPacket || next > len(data) || end > next {
			break
		}
		b.next = next
		count++
		seconds, fraction := binary.LittleEndian.Uint32(head[:]), binary.LittleEndian.Uint32(head[4:])
		take(r.number+count, int64(seconds)*1e9+int64(fraction)*r.fraction, Place(begin), (*Header)(frame[toIP:]), data[begin+len(Header{}):end])
	}
	r.number, r.offset = r.number+count, r.offset+int64(b.next-begun)
	return count
}

// plainBlocks is Plains of a pcapng file: enhanced packet blocks without options.
func (r *Reader) plainBlocks(b *Batch, take func(number int, at int64, place Place, h *Header, payload []byte)) (count int) {
	data, begun := b.data, b.next
	for next := begun; next <= len(data)-blockHeader-toPayload-blockEnd; {
		head := (*[blockHeader + toPayload]byte)(data[next:])
		size, id := int(binary.LittleEndian.Uint32(head[4:])), int64(binary.LittleEndian.Uint32(head[8:]))
		captured := int(binary.LittleEndian.Uint32(head[20:]))
		frame := (*[toPayload]byte)(head[blockHeader:])
		begin := next + blockHeader + toIP
		end := begin + plainSize(frame)
		if binary.LittleEndian.Uint32(head[:]) != enhancedPacket || size > maxBlock || size != blockHeader+(captured+3)&^3+blockEnd ||
			next+size > len(data) || end > next+blockHeader+captured || id >= int64(len(r.interfaces)) {
			break
		}
		next += size
		face := &r.interfaces[id]
		if face.link != Ethernet || int(binary.LittleEndian.Uint32(data[next-blockEnd:])) != size {
			break
		}
		b.next = next
		count++
		stamp := uint64(binary.LittleEndian.Uint32(head[12:]))<<32 | uint64(binary.LittleEndian.Uint32(head[16:]))
		take(r.number+count, face.time(stamp), Place(begin), (*Header)(frame[toIP:]), data[begin+len(Header{}):end])
	}
	r.number, r.offset = r.number+count, r.offset+int64(b.next-begun)
	return count
}

// plainSize is how many bytes the packet in a frame has; more than there can be when it is
// not plain. It does what the ways through the layers do, and no more: what it leaves is
// theirs.
func plainSize(frame *[toPayload]byte) int {
	// Of the Ethernet frame the type, then version and size of the header, and of the packet.
	first := binary.BigEndian.Uint64(frame[toIP-2:])
	second := binary.BigEndian.Uint64(frame[toIP+6:]) // fragment, hops, protocol
	ports := binary.BigEndian.Uint64(frame[toUDP:])   // and the size of the datagram
	total := int(first >> 16 & 0xffff)
	if first>>40 != typeIPv4<<8|0x45 || second>>32&0x3fff00ff != protocolUDP || ports>>32&0xffff == portVXLAN ||
		total < 28 || total != int(ports>>16&0xffff)+20 {
		return 2 * maxPacket
	}
	return total
}

// plain sets p from a frame that is plain, and reports whether it is.
func plain(frame []byte, p *Packet) bool {
	if len(frame) < toPayload {
		return false
	}
	end := toIP + plainSize((*[toPayload]byte)(frame))
	if end > len(frame) {
		return false
	}
	p.plain((*Header)(frame[toIP:]), frame[toPayload:end])
	return true
}

func (p *Packet) plain(h *Header, payload []byte) {
	p.From, p.To, p.Hops, p.Payload = h.From(), h.To(), h.Hops(), payload
	p.Cut, p.Torn, p.TCP = false, false, false
}

// Header is those of IPv4 and UDP of a plain datagram.
type Header [toPayload - toIP]byte

// From is whom the datagram is from.
func (h *Header) From() Endpoint { return h.end(12, 20) }

// To is whom it is to.
func (h *Header) To() Endpoint { return h.end(16, 22) }

func (h *Header) end(address, port int) Endpoint {
	return Endpoint{low: uint64(binary.BigEndian.Uint32(h[address:])), port: binary.BigEndian.Uint16(h[port:]), family: 4}
}

// Ports are the ports of both ends.
func (h *Header) Ports() (from, to uint16) {
	return binary.BigEndian.Uint16(h[20:]), binary.BigEndian.Uint16(h[22:])
}

// Hops is how many routers it may still pass.
func (h *Header) Hops() uint8 { return h[8] }

// size is how many bytes its payload has.
func (h *Header) size() int { return int(binary.BigEndian.Uint16(h[24:])) - 8 }

// Plain returns the parts of a plain datagram.
func (b *Batch) Plain(at Place) (h *Header, payload []byte) {
	h = (*Header)(b.data[at:])
	return h, b.data[int(at)+len(h):][:h.size()]
}

// Plain sets p to a plain datagram.
func (p *Packet) Plain(number int, at int64, h *Header, payload []byte) {
	p.Number, p.At = number, at
	p.plain(h, payload)
}
