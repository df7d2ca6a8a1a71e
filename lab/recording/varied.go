package recording

import (
	"container/heap"
	"encoding/binary"
	"fmt"
	"math"
	"math/rand/v2"
	"net/netip"
	"strings"
	"time"

	"unquil/core/wire"
)

// Varied is what a varied capture holds: its truth, counted while it was made.
type Varied struct {
	Packets, IPv6, Tagged, OverTCP int // OverTCP are exchanges
	Exchanges, Names, Clients      int
	NoName, ServFail, Unanswered   int
	Again, Truncated, Aliases      int
	EDNS                           int
	ByServer                       [variedServers]int
	ByType                         map[wire.Type]int
}

// What a varied capture is made of.
const (
	variedNames   = 80_000
	variedClients = 1000
	variedServers = 10
	variedZipf    = 1.08
)

// variedTypes are what is asked for, in thousandths.
var variedTypes = []struct {
	t     wire.Type
	share int
}{{wire.A, 550}, {wire.AAAA, 260}, {wire.PTR, 80}, {wire.TXT, 50}, {wire.MX, 50}, {wire.HTTPS, 5}, {wire.NS, 3}, {wire.SRV, 2}}

// variedMaker makes packets of a busy network.
type variedMaker struct {
	random  *rand.Rand
	zipf    *rand.Zipf
	names   [][]byte // in wire form
	missing []bool   // the name does not exist
	asked   []bool
	clients []variedClient
	servers [variedServers]netip.Addr
	truth   Varied
	queue   due
	now     int64 // microseconds since 1970 UTC
	order   int64 // breaks ties
}

// variedClient asks in its own way.
type variedClient struct {
	v4, v6     netip.Addr
	favourites [16]int // names
	server     int     // that it prefers
	edns       bool
	cookie     [8]byte
	seen       bool
}

// variedAt is when the capture begins.
var variedAt = time.Date(2026, 3, 9, 7, 40, 0, 0, time.UTC)

func newVariedMaker() *variedMaker {
	m := &variedMaker{random: rand.New(rand.NewPCG(20260309, 740)), now: variedAt.UnixMicro(), missing: make([]bool, variedNames), asked: make([]bool, variedNames)}
	m.zipf = rand.NewZipf(m.random, variedZipf, 1, variedNames-1)
	m.truth.ByType = map[wire.Type]int{}
	for i := range variedNames {
		m.names = append(m.names, m.name(i))
		m.missing[i] = i >= 300 && m.random.IntN(1000) < 245
	}
	for i := range m.servers {
		m.servers[i] = netip.AddrFrom4([4]byte{198, 51, 100, byte(150 + i)})
		if i%2 == 1 {
			m.servers[i] = netip.MustParseAddr(fmt.Sprintf("2001:db8:0:53::%x", 0x150+i))
		}
	}
	for i := range variedClients {
		c := variedClient{v4: netip.AddrFrom4([4]byte{192, 0, 2, 0}), edns: m.random.IntN(100) < 60, server: m.random.IntN(3)}
		c.v4 = netip.AddrFrom4([4]byte{203, 0, 113, byte(i % 250)})
		if i >= 250 {
			c.v4 = netip.AddrFrom4([4]byte{10, byte(i >> 8), byte(i), 7}) // more clients than the documentation's networks have room for
		}
		c.v6 = netip.MustParseAddr(fmt.Sprintf("2001:db8:77:%x::7", i))
		for n := range c.favourites {
			c.favourites[n] = int(m.zipf.Uint64()*7+uint64(m.random.IntN(2000))) % variedNames
		}
		binary.BigEndian.PutUint64(c.cookie[:], m.random.Uint64())
		m.clients = append(m.clients, c)
	}
	return m
}

// name makes the name of a rank: of one to six labels, some of which look random.
func (m *variedMaker) name(rank int) (out []byte) {
	const letters = "abcdefghijklmnopqrstuvwxyz234567"
	tops := []string{"example", "test", "hollowtarn.example", "lanternpost.test", "farhost.test"}
	labels := strings.Split(tops[m.random.IntN(len(tops))], ".")
	if rank < len(tops) {
		labels = strings.Split(tops[rank], ".")
	}
	for most, own := 1+m.random.IntN(6), false; len(labels) < most || rank >= len(tops) && !own; own = true {
		label := fmt.Sprintf("%s%d", []string{"www", "mail", "api", "img", "static", "edge", "node", "cam"}[m.random.IntN(8)], rank)
		if own && m.random.IntN(4) == 0 {
			b := make([]byte, 8+m.random.IntN(24))
			for i := range b {
				b[i] = letters[m.random.IntN(len(letters))]
			}
			label = string(b)
		}
		labels = append([]string{label}, labels...)
	}
	for _, label := range labels {
		out = append(append(out, byte(len(label))), label...)
	}
	return append(out, 0)
}

// writeVaried writes that many packets, in the order of their time but for some milliseconds.
func writeVaried(write func(at int64, frame []byte) error, packets int) (*Varied, error) {
	m := newVariedMaker()
	for m.truth.Packets < packets {
		for len(m.queue) > 0 && m.queue[0].at <= m.now && m.truth.Packets < packets {
			p := heap.Pop(&m.queue).(packetDue)
			if err := write(p.at, p.frame); err != nil {
				return nil, err
			}
			m.truth.Packets++
			if p.frame[12] == 0x81 {
				m.truth.Tagged++
			}
			if binary.BigEndian.Uint16(p.frame[12:]) == 0x86dd || p.frame[12] == 0x81 && binary.BigEndian.Uint16(p.frame[16:]) == 0x86dd {
				m.truth.IPv6++
			}
		}
		m.exchange()
		if m.now += int64(20 + m.random.ExpFloat64()*60); m.random.IntN(20_000) == 0 {
			m.now += 400_000 // a pause
		}
	}
	for i := range m.asked {
		if m.asked[i] {
			m.truth.Names++
		}
	}
	for i := range m.clients {
		if m.clients[i].seen {
			m.truth.Clients++
		}
	}
	return &m.truth, nil
}

// at puts a packet in its place.
func (m *variedMaker) at(when int64, frame []byte) {
	m.order++
	heap.Push(&m.queue, packetDue{at: when, frame: frame})
}

// exchange puts a question and what comes of it in the queue.
func (m *variedMaker) exchange() {
	c := &m.clients[m.random.IntN(variedClients)]
	c.seen = true
	rank := int(m.zipf.Uint64())
	if m.random.IntN(10) < 3 {
		rank = c.favourites[m.random.IntN(len(c.favourites))]
	}
	m.asked[rank] = true
	of := wire.A
	for pick, i := m.random.IntN(1000), 0; i < len(variedTypes); i++ {
		if of = variedTypes[i].t; pick < variedTypes[i].share {
			break
		}
		pick -= variedTypes[i].share
	}
	server := c.server
	switch pick := m.random.IntN(100); {
	case pick < 30:
		server = []int{1, 3, 5, 7, 9}[m.random.IntN(20)%5] // over IPv6
	case pick < 45:
		server = 2 * m.random.IntN(5)
	default:
		server = server &^ 1 % variedServers
	}
	to := m.servers[server]
	from := c.v4
	if to.Is6() {
		from = c.v6
	}
	port, id := uint16(1024+m.random.IntN(64000)), uint16(m.random.Uint32())
	query := m.query(c, id, rank, of)
	m.truth.Exchanges++
	m.truth.ByServer[server]++
	m.truth.ByType[of]++
	tagged := m.random.IntN(100) < 3
	asked := m.now + int64(m.random.IntN(2000)) // out of order by up to two milliseconds
	took := int64(math.Exp(7.2+1.1*m.random.NormFloat64())) + 80
	if took > 4_000_000 {
		took = 4_000_000
	}
	unanswered := m.random.IntN(1000) < 20
	if unanswered {
		m.truth.Unanswered++
	} else if m.random.IntN(1000) < 10 {
		m.truth.Again++
		again := asked + 5_000 + int64(m.random.IntN(2_000_000))
		m.at(again, m.frame(from, to, port, 53, udp, query, tagged))
		took += again - asked
	}
	if !unanswered && m.random.IntN(200) == 0 {
		m.truth.OverTCP++
		m.overTCP(asked, asked+took, from, to, port, query, m.reply(query, rank, of, false), tagged)
		return
	}
	m.at(asked, m.frame(from, to, port, 53, udp, query, tagged))
	if unanswered {
		return
	}
	cut := m.random.IntN(300) == 0
	m.at(asked+took, m.frame(to, from, 53, port, udp, m.reply(query, rank, of, cut), tagged))
}

// query is a question, of a client's own make.
func (m *variedMaker) query(c *variedClient, id uint16, rank int, of wire.Type) []byte {
	b := binary.BigEndian.AppendUint16(make([]byte, 0, 128), id)
	b = append(b, 1, 0, 0, 1, 0, 0, 0, 0, 0, 0)
	b = append(b, m.names[rank]...)
	b = append(b, byte(of>>8), byte(of), 0, 1)
	if !c.edns {
		return b
	}
	m.truth.EDNS++
	b[11] = 1
	b = append(b, 0, 0, 41, 4, 208, 0, 0, 0, 0)
	switch m.random.IntN(5) {
	case 0:
		b = append(append(b, 0, 12, 0, 10, 0, 8), c.cookie[:]...)
	case 1:
		b = append(b, 0, 11, 0, 8, 0, 7, 0, 1, 24, 0, 192, 0, 2)
	default:
		b = append(b, 0, 0)
	}
	return b
}

// reply is what comes to a question.
func (m *variedMaker) reply(query []byte, rank int, of wire.Type, cut bool) []byte {
	b := append(make([]byte, 0, 512), query...)
	end := 12 + len(m.names[rank]) + 4
	b[2], b[3], b[11] = 0x81, 0x80, 0
	b = b[:end]
	opt := query[end:]
	fail := m.random.IntN(1000) < 27
	switch {
	case fail:
		m.truth.ServFail++
		b[3] |= 2
	case cut:
		m.truth.Truncated++
		b[2] |= 2
	case m.missing[rank]:
		m.truth.NoName++
		b[3] |= 3
		b[9] = 1
		b = append(b, 0xc0, 12, 0, 6, 0, 1, 0, 0, 1, 44, 0, 0)
		at := len(b)
		b = append(b, "\x02ns\xc0\x0c\x06keeper\xc0\x0c\x00\x00\x00\x07\x00\x00\x1c\x20\x00\x00\x03\x84\x00\x12\x75\x00\x00\x00\x02\x58"...)
		binary.BigEndian.PutUint16(b[at-2:], uint16(len(b)-at))
	default:
		b = m.answers(b, rank, of)
	}
	if len(opt) > 0 {
		b[11]++
		b = append(b, 0, 0, 41, 4, 208, 0, 0, 0, 0, 0, 0)
	}
	return b
}

// answers adds one to eight records, in a third of all behind aliases.
func (m *variedMaker) answers(b []byte, rank int, of wire.Type) []byte {
	ttl := uint32(30 + rank%3600)
	count, owner := 0, uint16(12)
	record := func(t wire.Type, data string) {
		count++
		b = binary.BigEndian.AppendUint16(b, 0xc000|owner)
		b = binary.BigEndian.AppendUint16(b, uint16(t))
		b = append(b, 0, 1)
		b = binary.BigEndian.AppendUint32(b, ttl)
		b = binary.BigEndian.AppendUint16(b, uint16(len(data)))
		b = append(b, data...)
	}
	address := of == wire.A || of == wire.AAAA
	if address && m.random.IntN(100) < 40 {
		m.truth.Aliases++
		for hop := range 1 + m.random.IntN(2) {
			label := fmt.Sprintf("edge%d-%d", rank%5000, hop)
			record(wire.CNAME, string(byte(len(label)))+label+"\x03cdn\x07farhost\x04test\x00")
			owner = uint16(len(b) - len(label) - 19)
		}
	}
	n := 1
	if address {
		n = 1 + m.random.IntN(8)*m.random.IntN(2)
	}
	for i := range n {
		switch of {
		case wire.A:
			record(of, string([]byte{203, 0, byte(rank >> 8), byte(rank + i)}))
		case wire.AAAA:
			record(of, string([]byte{0x20, 1, 0xd, 0xb8, 0, byte(rank >> 8), byte(rank), byte(i), 0, 0, 0, 0, 0, 0, 0, 1}))
		case wire.MX:
			record(of, "\x00\x0a\x02mx\xc0\x0c")
		case wire.TXT:
			record(of, "\x14v=spf1 a mx ip4 -all")
		case wire.HTTPS:
			record(of, "\x00\x01\x00\x00\x01\x00\x03\x02h2")
		case wire.SRV:
			record(of, "\x00\x0a\x00\x05\x13\xc4\x03sip\xc0\x0c")
		default:
			record(of, "\x04host\xc0\x0c")
		}
	}
	binary.BigEndian.PutUint16(b[6:], uint16(count))
	return b
}

// Protocols, by their numbers.
const (
	udp = 17
	tcp = 6
)

// frame is a packet that carries data.
func (m *variedMaker) frame(from, to netip.Addr, fromPort, toPort uint16, protocol byte, data []byte, tagged bool) []byte {
	segment := binary.BigEndian.AppendUint16(make([]byte, 0, 20+len(data)), fromPort)
	segment = binary.BigEndian.AppendUint16(segment, toPort)
	if protocol == udp {
		segment = binary.BigEndian.AppendUint16(segment, uint16(8+len(data)))
		segment = append(segment, 0, 0)
		if to.Is6() {
			segment[len(segment)-1] = 1 // IPv6 wants one: that it is wrong nobody looks at
		}
	}
	segment = append(segment, data...)
	b := append(make([]byte, 0, 58+len(segment)), 2, 0, 0, 0, 0, 1, 2, 0, 0, 0, 0, 2)
	if tagged {
		b = append(b, 0x81, 0, 0, 7)
	}
	if to.Is6() {
		b = append(b, 0x86, 0xdd, 0x60, 0, 0, 0)
		b = binary.BigEndian.AppendUint16(b, uint16(len(segment)))
		b = append(b, protocol, 60)
		b = append(append(b, from.AsSlice()...), to.AsSlice()...)
	} else {
		b = append(b, 8, 0, 0x45, 0)
		b = binary.BigEndian.AppendUint16(b, uint16(20+len(segment)))
		b = append(b, 0, 0, 0x40, 0, 60, protocol, 0, 0)
		b = append(append(b, from.AsSlice()...), to.AsSlice()...)
	}
	return append(b, segment...)
}

// overTCP puts a whole connection in the queue.
func (m *variedMaker) overTCP(asked, replied int64, client, server netip.Addr, port uint16, query, reply []byte, tagged bool) {
	const syn, fin, psh, ack = 2, 1, 8, 16
	mine, theirs := m.random.Uint32(), m.random.Uint32()
	segment := func(at int64, out bool, flags byte, data []byte) {
		from, to, fromPort, toPort, seq, acked := client, server, port, uint16(53), &mine, theirs
		if !out {
			from, to, fromPort, toPort, seq, acked = server, client, uint16(53), port, &theirs, mine
		}
		b := binary.BigEndian.AppendUint32(nil, *seq)
		if flags&ack == 0 {
			acked = 0
		}
		b = binary.BigEndian.AppendUint32(b, acked)
		b = append(b, 0x50, flags, 0xff, 0xff, 0, 0, 0, 0)
		if *seq += uint32(len(data)); flags&(syn|fin) != 0 {
			*seq++
		}
		m.at(at, m.frame(from, to, fromPort, toPort, tcp, append(b, data...), tagged))
	}
	framed := func(b []byte) []byte { return append(binary.BigEndian.AppendUint16(nil, uint16(len(b))), b...) }
	segment(asked-400, true, syn, nil)
	segment(asked-200, false, syn|ack, nil)
	segment(asked-100, true, ack, nil)
	segment(asked, true, psh|ack, framed(query))
	segment(replied, false, psh|ack, framed(reply))
	segment(replied+100, true, fin|ack, nil)
	segment(replied+200, false, fin|ack, nil)
}
