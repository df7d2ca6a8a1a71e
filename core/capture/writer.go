package capture

import (
	"encoding/binary"
	"io"
	"net/netip"
	"slices"
	"time"
)

// Writer writes a pcapng file with time stamps in nanoseconds. Errors stick: look at what
// the last call returns. What it writes at once is always whole blocks, so that a file is
// readable however its writing ends.
type Writer struct {
	w     io.Writer
	body  []byte                        // of the block that is being made
	buf   []byte                        // the block around it
	links []LinkType                    // of the interfaces, by number
	made  map[[2]netip.AddrPort]*Stream // connections that frames were made for
	err   error
}

// NewWriter writes the beginning of a file whose packets are all of one link type. The error
// is that of w.
func NewWriter(w io.Writer, link LinkType) (*Writer, error) {
	c, _ := NewSection(w)
	_, err := c.Interface(link, "")
	return c, err
}

// NewSection writes the beginning of a file whose interfaces are to be described. The error
// is that of w.
func NewSection(w io.Writer) (*Writer, error) {
	c := &Writer{w: w}
	section := binary.LittleEndian.AppendUint32(nil, byteOrderMagic)
	section = append(section, 1, 0, 0, 0) // version 1.0
	section = binary.LittleEndian.AppendUint64(section, 1<<64-1)
	c.block(sectionHeader, section)
	return c, c.err
}

// Interface describes one more interface, by its name if it has one, and returns its number.
// The error is that of the writer, which sticks.
func (c *Writer) Interface(link LinkType, name string) (number int, err error) {
	info := binary.LittleEndian.AppendUint16(nil, uint16(link))
	info = append(info, 0, 0, 0, 0, 0, 0) // reserved; no snap length
	if name != "" {
		info = option(info, interfaceName, []byte(name))
	}
	info = option(info, timeResolution, []byte{9})
	c.block(interfaceBlock, append(info, 0, 0, 0, 0))
	c.links = append(c.links, link)
	return len(c.links) - 1, c.err
}

// Options of pcapng blocks.
const (
	blockComment   = 1
	interfaceName  = 2 // of an interface
	packetFlags    = 2 // of a packet
	timeResolution = 9
	timeOffset     = 14
	droppedBefore  = 5 // of statistics: by the interface
	droppedBehind  = 7 // and by the system
)

// option appends an option to a block's body.
func option(body []byte, code uint16, value []byte) []byte {
	body = binary.LittleEndian.AppendUint16(body, code)
	body = binary.LittleEndian.AppendUint16(body, uint16(len(value)))
	return pad(append(body, value...))
}

// Statistics writes at which time an interface had lost how many packets, in all. The error is
// that of the writer, which sticks.
func (c *Writer) Statistics(number int, at int64, lost uint64) error {
	body := binary.LittleEndian.AppendUint32(c.body[:0], uint32(number))
	body = binary.LittleEndian.AppendUint32(body, uint32(uint64(at)>>32))
	body = binary.LittleEndian.AppendUint32(body, uint32(at))
	body = option(body, droppedBehind, binary.LittleEndian.AppendUint64(nil, lost))
	c.block(statisticsBlock, append(body, 0, 0, 0, 0))
	c.body = body
	return c.err
}

// Way is which way a packet passed an interface.
type Way uint8

// The ways, as pcapng numbers them.
const (
	AnyWay Way = iota
	Inbound
	Outbound
)

// Passed writes a packet that passed an interface. It allocates nothing. The error is that of
// the writer, which sticks.
func (c *Writer) Passed(number int, r *Record, way Way) error {
	body := c.packetBody(uint32(number), r.At, r.Data, max(r.Length, len(r.Data)))
	if way != AnyWay {
		body = append(body, packetFlags, 0, 4, 0, byte(way), 0, 0, 0, 0, 0, 0, 0)
	}
	c.block(enhancedPacket, body)
	return c.err
}

// Record writes a packet as it was read from another file, whatever its link type. The error is
// that of the writer, which sticks.
func (c *Writer) Record(r *Record, comment string) error {
	if r.Link == Served {
		frame, says, err := c.servedFrame(r)
		if err != nil {
			return nil // there is no packet to write
		}
		if comment != "" {
			says += "; " + comment
		}
		return c.packet(uint32(c.face(Ethernet)), r.At, frame, len(frame), says)
	}
	return c.packet(uint32(c.face(r.Link)), r.At, r.Data, max(r.Length, len(r.Data)), comment)
}

// face is the number of an interface of a link type.
func (c *Writer) face(link LinkType) int {
	at := slices.Index(c.links, link)
	if at < 0 {
		at, _ = c.Interface(link, "")
	}
	return at
}

// Packet writes one packet with its time and, unless it is empty, a comment. The error is that of
// the writer, which sticks.
func (c *Writer) Packet(at time.Time, data []byte, comment string) error {
	return c.packet(0, at.UnixNano(), data, len(data), comment)
}

func (c *Writer) packet(number uint32, at int64, data []byte, length int, comment string) error {
	body := c.packetBody(number, at, data, length)
	if comment != "" {
		body = option(body, blockComment, []byte(comment[:min(len(comment), 65535)]))
		body = append(body, 0, 0, 0, 0)
	}
	c.block(enhancedPacket, body)
	return c.err
}

// packetBody is the body of a packet's block up to its options. It is good until the next.
func (c *Writer) packetBody(number uint32, at int64, data []byte, length int) []byte {
	body := binary.LittleEndian.AppendUint32(c.body[:0], number)
	body = binary.LittleEndian.AppendUint32(body, uint32(uint64(at)>>32))
	body = binary.LittleEndian.AppendUint32(body, uint32(at))
	body = binary.LittleEndian.AppendUint32(body, uint32(len(data)))
	body = binary.LittleEndian.AppendUint32(body, uint32(length))
	c.body = pad(append(body, data...))
	return c.body
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
	segment := binary.BigEndian.AppendUint16(nil, from.Port())
	segment = binary.BigEndian.AppendUint16(segment, to.Port())
	segment = binary.BigEndian.AppendUint16(segment, uint16(8+len(payload)))
	segment = append(append(segment, 0, 0), payload...)
	return appendIP(dst, from.Addr(), to.Addr(), protocolUDP, segment, 6)
}

// appendIP appends an Ethernet frame around a segment, whose checksum goes to
// the given offset within it.
func appendIP(dst []byte, from, to netip.Addr, protocol byte, segment []byte, sumAt int) []byte {
	dst = append(append(dst, hardware(to)...), hardware(from)...)
	pseudo := append(from.AsSlice(), to.AsSlice()...)
	if protocol == protocolICMP {
		pseudo = nil // its checksum covers itself alone (RFC 792)
	}
	if pseudo != nil {
		pseudo = binary.BigEndian.AppendUint32(pseudo, uint32(len(segment)))
		pseudo = append(pseudo, 0, 0, 0, protocol)
	}
	sum := checksum(pseudo, segment)
	if sum == 0 && protocol == protocolUDP {
		sum = 0xffff // zero would mean that there is none (RFC 768)
	}
	binary.BigEndian.PutUint16(segment[sumAt:], sum)
	if from.Is4() {
		header := []byte{0x45, 0, 0, 0, 0, 0, 0x40, 0, 64, protocol, 0, 0}
		binary.BigEndian.PutUint16(header[2:], uint16(20+len(segment)))
		header = append(append(header, from.AsSlice()...), to.AsSlice()...)
		binary.BigEndian.PutUint16(header[10:], checksum(header, nil))
		return append(append(append(dst, 0x08, 0x00), header...), segment...)
	}
	header := []byte{0x60, 0, 0, 0, 0, 0, protocol, 64}
	binary.BigEndian.PutUint16(header[4:], uint16(len(segment)))
	header = append(append(header, from.AsSlice()...), to.AsSlice()...)
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

// Stream builds the segments of one TCP connection between two addresses of one
// family. Without [Stream.Open] it is data only, as if the capture had begun after
// the handshake.
type Stream struct {
	client, server netip.AddrPort
	next           map[netip.AddrPort]uint32 // sequence number by sender
}

// NewStream begins a connection.
func NewStream(client, server netip.AddrPort) *Stream {
	return &Stream{client, server, map[netip.AddrPort]uint32{client: 1, server: 1}}
}

// Open returns the three frames of the handshake.
func (s *Stream) Open() [][]byte {
	s.next[s.client], s.next[s.server] = 0, 0
	first := s.segment(nil, s.client, nil, SYN)
	s.next[s.client] = 1
	second := s.segment(nil, s.server, nil, SYN|ACK)
	s.next[s.server] = 1
	return [][]byte{first, second, s.segment(nil, s.client, nil, ACK)}
}

// Close returns the frames that end the connection.
func (s *Stream) Close() [][]byte {
	return [][]byte{s.segment(nil, s.client, nil, FIN|ACK), s.segment(nil, s.server, nil, FIN|ACK)}
}

// Append appends an Ethernet frame with the next segment from one of the two:
// the client, or else the server.
func (s *Stream) Append(dst []byte, from netip.AddrPort, data []byte) []byte {
	if from != s.client {
		from = s.server
	}
	dst = s.segment(dst, from, data, ACK|0x08) // and push it on to the reader
	s.next[from] += uint32(len(data))
	return dst
}

func (s *Stream) segment(dst []byte, from netip.AddrPort, data []byte, flags byte) []byte {
	to := s.server
	if from != s.client {
		to = s.client
	}
	segment := binary.BigEndian.AppendUint16(nil, from.Port())
	segment = binary.BigEndian.AppendUint16(segment, to.Port())
	segment = binary.BigEndian.AppendUint32(segment, s.next[from])
	segment = binary.BigEndian.AppendUint32(segment, s.next[to])
	segment = append(segment, 0x50, flags, 0xff, 0xff, 0, 0, 0, 0) // 20 bytes of header
	return appendIP(dst, from.Addr(), to.Addr(), protocolTCP, append(segment, data...), 16)
}

// AppendICMP appends an Ethernet frame in which reporter tells the sender of a
// frame that nothing listens at its port (RFC 792). The frame carries IPv4.
func AppendICMP(dst []byte, reporter netip.Addr, frame []byte) []byte {
	quoted := frame[14:min(len(frame), 14+20+8+64)]
	segment := append([]byte{3, 3, 0, 0, 0, 0, 0, 0}, quoted...)
	return appendIP(dst, reporter, netip.AddrFrom4([4]byte(quoted[12:16])), protocolICMP, segment, 2)
}

// Fragments cuts an Ethernet frame with IPv4 into two, the first with size bytes
// of payload, a multiple of 8.
func Fragments(frame []byte, id uint16, size int) [][]byte {
	part := func(offset int, more uint16, data []byte) []byte {
		out := append([]byte(nil), frame[:14+20]...)
		header := out[14:]
		binary.BigEndian.PutUint16(header[2:], uint16(20+len(data)))
		binary.BigEndian.PutUint16(header[4:], id)
		binary.BigEndian.PutUint16(header[6:], more|uint16(offset/8))
		header[10], header[11] = 0, 0
		binary.BigEndian.PutUint16(header[10:], checksum(header, nil))
		return append(out, data...)
	}
	payload := frame[14+20:]
	return [][]byte{part(0, 0x2000, payload[:size]), part(size, 0, payload[size:])}
}
