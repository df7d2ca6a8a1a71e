package capture

import "encoding/binary"

// A plain datagram is a whole one of IPv4 or IPv6 on Ethernet without anything out of the
// ordinary, as nearly all packets of most captures are. Where a file holds them they are
// found many at a time, and nothing is copied.

const (
	recordHeader = 16     // bytes, before a packet in a pcap file
	blockHeader  = 28     // and in a pcapng file,
	blockEnd     = 4      // and after it
	toIP         = 14     // from the beginning of the frame
	header4      = 20 + 8 // of IPv4 and UDP
	header6      = 40 + 8 // of IPv6 and UDP
	toPayload    = toIP + header4
)

// Place is where a plain datagram lies in a [Batch].
type Place uint32

// MayBePlain reports whether [Reader.Plains] looks at packets of this file: only where its
// byte order is that of nearly all.
func (r *Reader) MayBePlain() bool { return r.plain }

// Plains hands the next packets of the batch that was begun last to take, as [Reader.Next]
// would, as long as they are plain, and returns how many that were: the number of each, when
// it came (nanoseconds since 1970 UTC; 0 when not known) and where its parts lie.
func (r *Reader) Plains(b *Batch, take func(number int, at int64, place Place, h Header, payload []byte)) (count int) {
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
		begin := next + recordHeader + toIP
		headers, size := plainSize(data[begin-2:])
		end := begin + size
		if next += recordHeader + captured; captured > maxPacket || next > len(data) || end > next {
			break
		}
		b.next = next
		count++
		seconds, fraction := binary.LittleEndian.Uint32(head[:]), binary.LittleEndian.Uint32(head[4:])
		take(r.number+count, int64(seconds)*1e9+int64(fraction)*r.fraction, Place(begin), data[begin:begin+headers], data[begin+headers:end])
	}
	r.number, r.offset = r.number+count, r.offset+int64(b.next-begun)
	return count
}

// plainBlocks is Plains of a pcapng file: enhanced packet blocks without options.
func (r *Reader) plainBlocks(b *Batch, take func(number int, at int64, place Place, h Header, payload []byte)) (count int) {
	data, begun := b.data, b.next
	for next := begun; next <= len(data)-blockHeader-toPayload-blockEnd; {
		head := (*[blockHeader + toPayload]byte)(data[next:])
		size, id := int(binary.LittleEndian.Uint32(head[4:])), int64(binary.LittleEndian.Uint32(head[8:]))
		captured := int(binary.LittleEndian.Uint32(head[20:]))
		begin := next + blockHeader + toIP
		headers, total := plainSize(data[begin-2:])
		end := begin + total
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
		take(r.number+count, face.time(stamp), Place(begin), data[begin:begin+headers], data[begin+headers:end])
	}
	r.number, r.offset = r.number+count, r.offset+int64(b.next-begun)
	return count
}

// plainSize is how many bytes the headers of the packet behind an Ethernet frame's type have, and how many all
// of it has; more than there can be when it is not plain. It does what the ways through the layers do, and
// no more: what it leaves is theirs. data begins with the type, and is long enough for IPv4.
func plainSize(data []byte) (headers, size int) {
	// The type, then version and size of the header, and of the packet.
	first := binary.BigEndian.Uint64(data)
	switch {
	case first>>40 == typeIPv4<<8|0x45:
		second := binary.BigEndian.Uint64(data[2+6:]) // fragment, hops, protocol
		ports := binary.BigEndian.Uint64(data[2+20:]) // and the size of the datagram
		total := int(first >> 16 & 0xffff)
		if second>>32&0x3fff00ff == protocolUDP && ports>>32&0xffff != portVXLAN && total >= header4 && total == int(ports>>16&0xffff)+20 {
			return header4, total
		}
	case first>>44 == typeIPv6<<4|6 && len(data) >= 2+header6:
		second := binary.BigEndian.Uint32(data[2+4:]) // size of what follows, next header, hops
		ports := binary.BigEndian.Uint64(data[2+40:])
		body := int(second >> 16)
		if second>>8&0xff == protocolUDP && ports>>32&0xffff != portVXLAN && body >= 8 && body == int(ports>>16&0xffff) {
			return header6, body + 40
		}
	}
	return 0, 2 * maxPacket
}

// plain sets p from a frame that is plain, and reports whether it is.
func plain(frame []byte, p *Packet) bool {
	if len(frame) < toPayload {
		return false
	}
	headers, size := plainSize(frame[toIP-2:])
	if toIP+size > len(frame) {
		return false
	}
	p.plain(frame[toIP:toIP+headers], frame[toIP+headers:toIP+size])
	return true
}

func (p *Packet) plain(h Header, payload []byte) {
	p.From, p.To = h.Ends()
	p.Hops, p.Payload = h.Hops(), payload
	p.Cut, p.Torn, p.TCP = false, false, false
}

// Header is those of IPv4 or IPv6, and of UDP, of a plain datagram.
type Header []byte

// Ends are whom the datagram is from and whom it is to.
func (h Header) Ends() (from, to Endpoint) {
	if len(h) == header4 {
		hosts, ports := binary.BigEndian.Uint64(h[12:]), binary.BigEndian.Uint32(h[20:])
		return Endpoint{low: hosts >> 32, port: uint16(ports >> 16), family: 4}, Endpoint{low: hosts & 0xffffffff, port: uint16(ports), family: 4}
	}
	from, to = host6(h[8:24]), host6(h[24:40])
	from.port, to.port = h.Ports()
	return from, to
}

// Ports are the ports of both ends.
func (h Header) Ports() (from, to uint16) {
	ports := binary.BigEndian.Uint32(h[len(h)-8:])
	return uint16(ports >> 16), uint16(ports)
}

// Hops is how many routers it may still pass.
func (h Header) Hops() uint8 {
	if len(h) == header4 {
		return h[8]
	}
	return h[7]
}

// Plain returns the parts of a plain datagram.
func (b *Batch) Plain(at Place) (h Header, payload []byte) {
	data := b.data[at:]
	headers := header4
	if data[0]>>4 == 6 {
		headers = header6
	}
	end := headers - 8 + int(binary.BigEndian.Uint16(data[headers-4:]))
	return data[:headers:headers], data[headers:end:end]
}

// Plain sets p to a plain datagram.
func (p *Packet) Plain(number int, at int64, h Header, payload []byte) {
	p.Number, p.At = number, at
	p.plain(h, payload)
}
