package recording

import (
	"bufio"
	"container/heap"
	"encoding/binary"
	"fmt"
	"io"
	"strings"
	"time"

	"unquil/core/capture"
	"unquil/core/wire"
)

// look is what programs ask when they look something up: often several questions in
// one go.
type look struct {
	name  string // with %d for the number of one of many
	types []wire.Type
	share int // of all look-ups, in hundredths
}

// looks is what a network of clients asks for.
var looks = []look{
	{"www.hollowtarn.example.", []wire.Type{wire.A, wire.AAAA, wire.HTTPS}, 16},
	{"web.hollowtarn.example.", both, 4},
	{"piste.hollowtarn.example.", []wire.Type{wire.A, wire.AAAA, wire.HTTPS}, 4},
	{"www.farhost.test.", both, 2},
	{"picture%d.upper-slopes-west.season2026.guest.hollowtarn.example.", both, 46},
	{"hollowtarn.example.", []wire.Type{wire.MX}, 6},
	{"hollowtarn.example.", []wire.Type{wire.TXT}, 6},
	{"hollowtarn.example.", []wire.Type{wire.NS}, 4},
	{"_sip._tcp.hollowtarn.example.", []wire.Type{wire.SRV}, 6},
	{"120.113.0.203.in-addr.arpa.", []wire.Type{wire.PTR}, 2},
	{"nothing.hollowtarn.example.", both, 4},
}

// packetDue is a packet that is to be written at its time.
type packetDue struct {
	at       int64 // microseconds since 1970 UTC
	frame    []byte
	id, port uint16
	portAt   int // in the frame
}

// due are packets, the next one first.
type due []packetDue

func (d due) Len() int           { return len(d) }
func (d due) Less(i, j int) bool { return d[i].at < d[j].at }
func (d due) Swap(i, j int)      { d[i], d[j] = d[j], d[i] }
func (d *due) Push(p any)        { *d = append(*d, p.(packetDue)) }
func (d *due) Pop() any {
	last := (*d)[len(*d)-1]
	*d = (*d)[:len(*d)-1]
	return last
}

// Form is a format of capture files.
type Form uint8

// The formats.
const (
	Pcap Form = iota
	Pcapng
)

// WriteBig writes a capture of that many packets, as pcapng or as pcap: clients of one
// network that look up some thousand names at two resolvers, with questions and replies
// in the order of their time. Seven million packets are about a gigabyte. The error is that of w.
func WriteBig(w io.Writer, packets int, form Form) error {
	return inForm(w, form, func(write writer) error { return writeBig(write, packets) })
}

// WriteVaried writes a capture of that many packets as a busy network has them: many names, clients and
// servers, failures, and what else there is. It returns what it holds. The error is that of w.
func WriteVaried(w io.Writer, packets int, form Form) (truth *Varied, err error) {
	err = inForm(w, form, func(write writer) error {
		truth, err = writeVaried(write, packets)
		return err
	})
	return truth, err
}

// writer takes one packet, with its time in microseconds since 1970 UTC.
type writer = func(at int64, frame []byte) error

// inForm has packets written in a format.
func inForm(w io.Writer, form Form, make func(writer) error) error {
	out := bufio.NewWriterSize(w, 1<<20)
	write := func(at int64, frame []byte) error { return writeRecord(out, at, frame) }
	if form == Pcapng {
		blocks, err := capture.NewWriter(out, capture.Ethernet)
		if err != nil {
			return err
		}
		write = func(at int64, frame []byte) error { return blocks.Packet(time.UnixMicro(at), frame, "") }
	} else {
		out.Write(pcap(nil))
	}
	if err := make(write); err != nil {
		return err
	}
	return out.Flush()
}

// writeRecord writes a packet of a pcap file.
func writeRecord(out *bufio.Writer, at int64, frame []byte) error {
	var header [16]byte
	binary.LittleEndian.PutUint32(header[0:], uint32(at/1e6))
	binary.LittleEndian.PutUint32(header[4:], uint32(at%1e6))
	binary.LittleEndian.PutUint32(header[8:], uint32(len(frame)))
	binary.LittleEndian.PutUint32(header[12:], uint32(len(frame)))
	out.Write(header[:])
	_, err := out.Write(frame)
	return err
}

func writeBig(write func(at int64, frame []byte) error, packets int) error {
	groups, begin, err := bigGroups()
	if err != nil {
		return err
	}
	const (
		apart  = 250 // microseconds between two look-ups, and between the questions of one
		within = 40
	)
	var queue due
	now, random := begin.UnixMicro(), uint64(1)
	for i := 0; packets > 0; i++ {
		for len(queue) > 0 && queue[0].at <= now && packets > 0 {
			next := heap.Pop(&queue).(packetDue)
			if err := write(next.at, next.marked()); err != nil {
				return err
			}
			packets--
		}
		for n, frames := range groups[i*7919%len(groups)] {
			random = random*6364136223846793005 + 1442695040888963407
			id, port := uint16(random>>32), 49152+uint16(random>>48)%16384
			asked := now + int64(n*within)
			took := 200 + int64(random>>20%2500) // microseconds
			if random>>16%8 == 0 {
				took += 20_000 // the resolver has to ask others
			}
			heap.Push(&queue, packetDue{asked, frames[0], id, port, 14 + 20})
			heap.Push(&queue, packetDue{asked + took, frames[1], id, port, 14 + 20 + 2})
		}
		now += apart
	}
	return nil
}

// marked is the packet's frame with an ID and a port of its own, so that no two exchanges
// are one.
func (p *packetDue) marked() []byte {
	udp := p.frame[14+20:]
	binary.BigEndian.PutUint16(p.frame[p.portAt:], p.port)
	binary.BigEndian.PutUint16(udp[6:], 0) // no checksum (RFC 768)
	binary.BigEndian.PutUint16(udp[8:], p.id)
	return p.frame
}

// bigGroups are the questions of look-ups with their replies, as frames.
func bigGroups() (groups [][][2][]byte, begin time.Time, err error) {
	l, set, err := still()
	if err != nil {
		return nil, begin, err
	}
	begin = set(0)
	var mix []look
	for _, k := range looks {
		for range k.share {
			mix = append(mix, k)
		}
	}
	const clients, each = 200, 40
	for i := range clients * each {
		k := mix[i*31%len(mix)]
		m := moment{at: time.Duration(i), client: fmt.Sprintf("192.0.2.%d", 100+i%clients%150), server: officeAt, name: k.name, took: time.Millisecond}
		if strings.Contains(k.name, "%d") {
			m.name = fmt.Sprintf(k.name, i%997)
		}
		if i%5 == 0 {
			m.server = ispAt
		}
		var group [][2][]byte
		for _, t := range k.types {
			two, err := play(l, m, t, begin)
			if err != nil {
				return nil, begin, err
			}
			if len(two) == 2 {
				group = append(group, [2][]byte{two[0].bytes, two[1].bytes})
			}
		}
		groups = append(groups, group)
	}
	return groups, begin, nil
}
