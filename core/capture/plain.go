package capture

import "encoding/binary"

// A plain datagram is a whole one of IPv4 on Ethernet without anything out of the
// ordinary, as nearly all packets of most captures are. Where a pcap file holds them they
// are found many at a time, and nothing is copied.

const (
	recordHeader = 16 // bytes, in a pcap file
	toIP         = 14 // from the beginning of the frame
	toUDP        = toIP + 20
	toPayload    = toUDP + 8
)

// Plain is a plain datagram where it lies in a [Batch].
type Plain struct {
	At    int64  // nanoseconds since 1970 UTC; 0 when not known
	Place uint32 // where it begins in the batch: what [Batch.Plain] takes
	data  []byte // its headers and its payload
}

// Parts are those of IPv4 and UDP before the payload, and that.
func (d *Plain) Parts() (h *Header, payload []byte) {
	return (*Header)(d.data), d.data[len(h):]
}

// maxPlains is how many are found at a time.
const maxPlains = 1 << 8

// Plains takes the next packets of the batch that was begun last, as [Reader.Next] would,
// as long as they are plain, and returns them with the number of the first: none where
// another packet comes next, or none. They are good until the next call.
func (r *Reader) Plains(b *Batch) (found []Plain, number int) {
	if !r.plain || r.err != nil {
		return nil, 0
	}
	if b.plains == nil {
		b.plains = make([]Plain, maxPlains)
	}
	data, at, fraction, count := b.data, b.next, r.fraction, 0
	for all := b.plains; count < len(all) && at <= len(data)-recordHeader-toPayload; count++ {
		head := (*[recordHeader + toPayload]byte)(data[at:])
		captured := binary.LittleEndian.Uint32(head[8:])
		end := at + recordHeader + int(captured)
		if captured > maxPacket || end > len(data) {
			break
		}
		size := plainSize((*[toPayload]byte)(head[recordHeader:]))
		if toIP+size > int(captured) {
			break
		}
		d := &all[count]
		d.At = int64(binary.LittleEndian.Uint32(head[:]))*1e9 + int64(binary.LittleEndian.Uint32(head[4:]))*fraction
		d.Place = uint32(at + recordHeader + toIP)
		d.data = data[at+recordHeader+toIP:][:size]
		at = end
	}
	r.offset += int64(at - b.next)
	b.next = at
	number = r.number + 1
	r.number += count
	return b.plains[:count], number
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
func (h *Header) From() End { return h.end(12, 20) }

// To is whom it is to.
func (h *Header) To() End { return h.end(16, 22) }

func (h *Header) end(address, port int) End {
	return End{low: uint64(binary.BigEndian.Uint32(h[address:])), port: binary.BigEndian.Uint16(h[port:]), family: 4}
}

// Ports are the ports of both ends.
func (h *Header) Ports() (from, to uint16) {
	return binary.BigEndian.Uint16(h[20:]), binary.BigEndian.Uint16(h[22:])
}

// Hops is how many routers it may still pass.
func (h *Header) Hops() uint8 { return h[8] }

// size is how many bytes its payload has.
func (h *Header) size() int { return int(binary.BigEndian.Uint16(h[24:])) - 8 }

// Plain is a plain datagram of the batch, by its place.
func (b *Batch) Plain(place uint32) (h *Header, payload []byte) {
	h = (*Header)(b.data[place:])
	return h, b.data[place+uint32(len(h)):][:h.size()]
}

// Packet sets p from the datagram, all but its number.
func (d *Plain) Packet(p *Packet) {
	p.plain(d.Parts())
	p.At = d.At
}
