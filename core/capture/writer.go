package capture

import (
	"encoding/binary"
	"io"
	"net/netip"
	"time"
)

// Writer writes a pcapng file with one interface and time stamps in
// nanoseconds. Errors stick: look at what Close or the last call returns.
type Writer struct {
	w   io.Writer
	buf []byte
	err error
}

// NewWriter writes the beginning of the file.
func NewWriter(w io.Writer, link LinkType) (*Writer, error) {
	c := &Writer{w: w}
	section := binary.LittleEndian.AppendUint32(nil, byteOrderMagic)
	section = append(section, 1, 0, 0, 0) // version 1.0
	section = binary.LittleEndian.AppendUint64(section, 1<<64-1)
	c.block(sectionHeader, section)
	info := binary.LittleEndian.AppendUint16(nil, uint16(link))
	info = append(info, 0, 0, 0, 0, 0, 0) // reserved; no snap length
	info = append(info, 9, 0, 1, 0, 9, 0, 0, 0)
	info = append(info, 0, 0, 0, 0)
	c.block(interfaceBlock, info)
	return c, c.err
}

// Packet writes one packet with its time and, unless it is empty, a comment.
func (c *Writer) Packet(at time.Time, data []byte, comment string) error {
	stamp := uint64(at.UnixNano())
	body := binary.LittleEndian.AppendUint32(nil, 0)
	body = binary.LittleEndian.AppendUint32(body, uint32(stamp>>32))
	body = binary.LittleEndian.AppendUint32(body, uint32(stamp))
	body = binary.LittleEndian.AppendUint32(body, uint32(len(data)))
	body = binary.LittleEndian.AppendUint32(body, uint32(len(data)))
	body = pad(append(body, data...))
	if comment != "" {
		comment = comment[:min(len(comment), 65535)]
		body = append(body, 1, 0)
		body = binary.LittleEndian.AppendUint16(body, uint16(len(comment)))
		body = append(pad(append(body, comment...)), 0, 0, 0, 0)
	}
	c.block(enhancedPacket, body)
	return c.err
}

func (c *Writer) block(kind uint32, body []byte) {
	if c.err != nil {
		return
	}
	size := uint32(len(body) + 12)
	c.buf = binary.LittleEndian.AppendUint32(c.buf[:0], kind)
	c.buf = binary.LittleEndian.AppendUint32(c.buf, size)
	c.buf = append(c.buf, body...)
	c.buf = binary.LittleEndian.AppendUint32(c.buf, size)
	_, c.err = c.w.Write(c.buf)
}

func pad(b []byte) []byte {
	for len(b)%4 != 0 {
		b = append(b, 0)
	}
	return b
}

// AppendFrame appends an Ethernet frame that carries payload as a UDP datagram
// between two addresses of one family. Hardware addresses are made from the IP
// addresses: locally administered ones, the same for the same address.
func AppendFrame(dst []byte, from, to netip.AddrPort, payload []byte) []byte {
	dst = append(append(dst, hardware(to.Addr())...), hardware(from.Addr())...)
	segment := binary.BigEndian.AppendUint16(nil, from.Port())
	segment = binary.BigEndian.AppendUint16(segment, to.Port())
	segment = binary.BigEndian.AppendUint16(segment, uint16(8+len(payload)))
	segment = append(append(segment, 0, 0), payload...)
	pseudo := append(from.Addr().AsSlice(), to.Addr().AsSlice()...)
	pseudo = binary.BigEndian.AppendUint32(pseudo, uint32(len(segment)))
	pseudo = append(pseudo, 0, 0, 0, protocolUDP)
	sum := checksum(pseudo, segment)
	if sum == 0 {
		sum = 0xffff // zero would mean that there is none (RFC 768)
	}
	binary.BigEndian.PutUint16(segment[6:], sum)
	if from.Addr().Is4() {
		header := []byte{0x45, 0, 0, 0, 0, 0, 0x40, 0, 64, protocolUDP, 0, 0}
		binary.BigEndian.PutUint16(header[2:], uint16(20+len(segment)))
		header = append(append(header, from.Addr().AsSlice()...), to.Addr().AsSlice()...)
		binary.BigEndian.PutUint16(header[10:], checksum(header, nil))
		return append(append(append(dst, 0x08, 0x00), header...), segment...)
	}
	header := []byte{0x60, 0, 0, 0, 0, 0, protocolUDP, 64}
	binary.BigEndian.PutUint16(header[4:], uint16(len(segment)))
	header = append(append(header, from.Addr().AsSlice()...), to.Addr().AsSlice()...)
	return append(append(append(dst, 0x86, 0xdd), header...), segment...)
}

func hardware(a netip.Addr) []byte {
	b := a.AsSlice()
	return append([]byte{0x02, 0x00}, b[len(b)-4:]...)
}

// checksum is the Internet checksum (RFC 1071) of a and b, a of even length.
func checksum(a, b []byte) uint16 {
	sum := uint32(0)
	for _, part := range [][]byte{a, b} {
		for i := 0; i+1 < len(part); i += 2 {
			sum += uint32(part[i])<<8 | uint32(part[i+1])
		}
		if len(part)%2 == 1 {
			sum += uint32(part[len(part)-1]) << 8
		}
	}
	for sum > 0xffff {
		sum = sum&0xffff + sum>>16
	}
	return ^uint16(sum)
}
