package capture

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"strings"

	"unquil/core/serverlog"
)

// Served is the link type of messages that a server recorded: there was a packet, but nobody has it. It is none that
// files have.
const Served LinkType = 0xffff

// The header of such a message: how it travelled, what is known of it, and its ends.
const (
	servedHeader = 2 + 2*18
	servedAlone  = 1 // of a question: nothing is recorded of its reply
	servedCut    = 2
)

// servedStream is the messages of a source as a file of a form of its own, which nobody else sees: before each its
// length, that of its comment, and its time.
type servedStream struct {
	source serverlog.Source
	out    []byte
	next   int
	err    error
}

// recordHead is how many bytes stand before a record of it.
const recordHead = 4 + 4 + 8

func (s *servedStream) Read(b []byte) (int, error) {
	for s.next == len(s.out) {
		if s.err != nil {
			return 0, s.err
		}
		s.out, s.next = s.out[:0], 0
		s.err = s.source.Next(s.add)
	}
	n := copy(b, s.out[s.next:])
	s.next += n
	return n, nil
}

func (s *servedStream) add(m *serverlog.Message) {
	s.out = binary.LittleEndian.AppendUint32(s.out, uint32(servedHeader+len(m.Data)))
	s.out = binary.LittleEndian.AppendUint32(s.out, uint32(len(m.Comment)))
	s.out = binary.LittleEndian.AppendUint64(s.out, uint64(m.At))
	flags := byte(0)
	if m.Alone {
		flags |= servedAlone
	}
	if m.Cut {
		flags |= servedCut
	}
	s.out = append(s.out, byte(m.Over), flags)
	for _, end := range []netip.AddrPort{m.From, m.To} {
		address := end.Addr().As16()
		s.out = binary.BigEndian.AppendUint16(append(s.out, address[:]...), end.Port())
	}
	s.out = append(append(s.out, m.Data...), m.Comment...)
}

// ServedRecord is a message that a server recorded as a record of [Served].
func ServedRecord(m *serverlog.Message) Record {
	var s servedStream
	s.add(m)
	r := Reader{}
	var rec Record
	r.nextServed(s.out, &rec)
	return rec
}

// openServed reads the records of a source.
func (r *Reader) openServed(source serverlog.Source) {
	r.source, r.in, r.step, r.rest = source, &servedStream{source: source}, (*Reader).nextServed, nil
}

func (r *Reader) nextServed(data []byte, rec *Record) (used int, got bool) {
	if len(data) < recordHead {
		return 0, false
	}
	size, comment := int(binary.LittleEndian.Uint32(data)), int(binary.LittleEndian.Uint32(data[4:]))
	end := recordHead + size + comment
	if len(data) < end {
		return 0, false
	}
	*rec = Record{At: int64(binary.LittleEndian.Uint64(data[8:])), Link: Served, Length: size, Data: data[recordHead : recordHead+size : recordHead+size]}
	if comment > 0 {
		rec.Comment = data[recordHead+size : end]
	}
	return end, true
}

// served is a message that a server recorded.
func (d *Decoder) served(data []byte, p *Packet) Contents {
	if len(data) < servedHeader {
		return d.bad("record", data, tooShort)
	}
	over := serverlog.Over(data[0])
	*p = Packet{Number: d.rec.Number, At: d.rec.At, From: servedEnd(data[2:]), To: servedEnd(data[20:]), Payload: data[servedHeader:],
		Cut: data[1]&servedCut != 0, Alone: data[1]&servedAlone != 0, TCP: over == serverlog.TCP || over == serverlog.TLS, Sealed: over > serverlog.TCP}
	if over == serverlog.HTTPS {
		p.TCP = true
	}
	if d.Layers != nil {
		d.note("record", data[:servedHeader], "from", p.From.AddrPort().String(), "to", p.To.AddrPort().String(), "over", overs[min(over, serverlog.QUIC)])
	}
	return Datagram
}

// overs are the ways in words.
var overs = [...]string{serverlog.UDP: "UDP", serverlog.TCP: "TCP", serverlog.TLS: "TLS", serverlog.HTTPS: "HTTPS", serverlog.QUIC: "QUIC"}

// servedEnd is an end in the header.
func servedEnd(b []byte) Endpoint {
	address := netip.AddrFrom16([16]byte(b)).Unmap()
	return EndpointOf(netip.AddrPortFrom(address, binary.BigEndian.Uint16(b[16:])))
}

// servedFrame is a message that a server recorded as a frame that might have carried it, and what is to be said of that.
func (c *Writer) servedFrame(r *Record) (frame []byte, comment string, err error) {
	var p Packet
	d := Decoder{rec: r}
	if d.served(r.Data, &p) != Datagram {
		return nil, "", errNoFrame
	}
	from, to := p.From.AddrPort(), p.To.AddrPort()
	if from.Addr().Is4() != to.Addr().Is4() {
		return nil, "", errNoFrame
	}
	comment = fmt.Sprintf("exchange record: %s; the packet is made from that", r.Comment)
	if p.Sealed {
		comment += overText + overs[min(serverlog.Over(r.Data[0]), serverlog.QUIC)] + ", and is written here in the clear"
	}
	if p.Alone {
		comment += aloneText
	}
	if !p.TCP && !p.Sealed {
		return AppendFrame(nil, from, to, p.Payload), comment, nil
	}
	if c.made == nil || len(c.made) > maxMade {
		c.made = map[[2]netip.AddrPort]*Stream{}
	}
	stream := c.made[[2]netip.AddrPort{from, to}]
	if stream == nil {
		if stream = c.made[[2]netip.AddrPort{to, from}]; stream == nil {
			stream = NewStream(from, to)
			c.made[[2]netip.AddrPort{from, to}] = stream
		}
	}
	return stream.Append(nil, from, append(binary.BigEndian.AppendUint16(nil, uint16(len(p.Payload))), p.Payload...)), comment, nil
}

// What comments on packets say that were made: read back, that is so.
const (
	overText  = "; it travelled over "
	aloneText = "; nothing is recorded of its reply"
)

// Remarked sets what a comment says of a packet that was made from a record, or from an exchange.
func (p *Packet) Remarked(comment []byte) {
	comment, _, _ = bytes.Cut(comment, []byte{'\n'})
	p.Alone = p.Alone || bytes.Contains(comment, []byte(aloneText))
	if _, over, ok := bytes.Cut(comment, []byte(overText)); ok {
		for i, text := range overs {
			if serverlog.Over(i) > serverlog.TCP && len(over) >= len(text) && strings.EqualFold(string(over[:len(text)]), text) {
				p.Sealed, p.TCP = true, serverlog.Over(i) != serverlog.QUIC
			}
		}
	}
}

// maxMade is how many connections are remembered that frames are made for.
const maxMade = 4096

// errNoFrame says that no frame can carry a message.
var errNoFrame = errors.New("no packet can carry it")
