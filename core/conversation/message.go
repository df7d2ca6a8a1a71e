package conversation

import (
	"encoding/binary"
	"math/bits"
	"math/rand/v2"
	"net/netip"

	"unquil/core/capture"
	"unquil/core/exchange"
	"unquil/core/wire"
)

// Message is one DNS message as it was found in a capture, with what can be told
// from its bytes while they are at hand: what pairs and counts it looks at them
// seldom.
type Message struct {
	At             int64          // nanoseconds since 1970 UTC; 0 when not known
	Number         int            // of the packet that it ended in
	Client, Server netip.AddrPort // who asked and who was asked, whichever way this one goes
	View           wire.View
	Outcome        exchange.Outcome // of a reply: as what its exchange ends; "" of a question

	hash           uint64 // of what ties a reply to its question
	question, name uint64 // of the question, and of its name alone
	says           uint64 // of a reply: its RCODE and its addresses, TTLs and order left aside
	ttl            uint32 // of the first record, in seconds, where ages says so
	id             uint16
	of             wire.Type // asked for
	hops           uint8
	tcp, cut, torn bool // as in [capture.Packet]
	reply          bool
	ages           bool // a reply that may come out of a cache
	waited         bool // a question that its asker gave up, as the file itself says
}

// NewMessage reads the message that a packet carries. The error is a *wire.ParseError.
func NewMessage(p *capture.Packet) (m Message, err error) {
	err = m.read(p, p.Payload)
	return m, err
}

// read reads a packet's payload in place: m is good for as long as that is.
func (m *Message) read(p *capture.Packet, payload []byte) error {
	v, err := wire.ReadView(payload)
	if err != nil {
		return err
	}
	if q := v.QuestionBytes(); len(q) > 4 && q[len(q)-5] != 0 {
		return &wire.ParseError{Field: "QNAME", Offset: 12, Err: wire.ErrPointer} // there is nothing before it to point at
	}
	flags := v.Flags()
	m.View, m.At, m.Number, m.id, m.hops = v, p.At, p.Number, v.ID(), p.Hops
	m.tcp, m.cut, m.torn, m.waited = p.TCP, p.Cut, p.Torn, false
	if m.reply = flags.Has(wire.QR); m.reply {
		m.Client, m.Server = p.To, p.From
		outline := v.Outline()
		m.Outcome = exchange.JudgeView(v, outline)
		if m.cut && m.Outcome == exchange.NoData && v.Count(wire.AnswerSection) > 0 {
			m.Outcome = CutOff // the records that it has are not in the capture
		}
		if m.says = cutShort; m.Outcome != exchange.Truncated && !m.cut {
			m.says = mix(outline.Addresses, uint64(flags.RCode())) | 1
		}
		m.ttl, m.ages = outline.TTL, outline.Any && !flags.Has(wire.AA)
	} else {
		m.Client, m.Server, m.Outcome, m.ages = p.From, p.To, "", false
	}
	m.name, m.question, m.of = v.QuestionHashes()
	m.hash = hash(m)
	return nil
}

// cutShort stands for what a reply says of which a part is missing.
const cutShort = 0

// seed is another one each time the program runs, so that nobody can write a capture
// whose addresses have the same hashes.
var seed = rand.Uint64()

// hash mixes what ties a reply to its question: the ends, the transport, the ID and
// the question.
func hash(m *Message) uint64 {
	h := m.question ^ uint64(m.id)<<48 ^ uint64(m.Client.Port())<<16 ^ uint64(m.Server.Port())
	h = mix(mix(h, fold(m.Client.Addr())), fold(m.Server.Addr()))
	if m.tcp {
		h = ^h
	}
	return h
}

// mix takes one hash into another: the halves of a product are laid together.
func mix(h, into uint64) uint64 {
	const odd = 0x9e3779b97f4a7c15
	high, low := bits.Mul64(h^into, odd)
	return high ^ low
}

// fold makes one number of an address.
func fold(a netip.Addr) uint64 {
	if a.Is4() {
		b := a.As4()
		return uint64(binary.LittleEndian.Uint32(b[:]))
	}
	b := a.As16()
	return mix(binary.LittleEndian.Uint64(b[8:]), seed) ^ binary.LittleEndian.Uint64(b[:8])
}

func hashAddress(a netip.Addr) uint64 { return mix(fold(a), seed) }
