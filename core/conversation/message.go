package conversation

import (
	"math/bits"
	"math/rand/v2"

	"unquil/core/capture"
	"unquil/core/exchange"
	"unquil/core/wire"
)

// Message is one DNS message as it was found in a capture, with what can be told
// from its bytes while they are at hand: what pairs and counts it looks at them
// seldom.
type Message struct {
	At             int64       // nanoseconds since 1970 UTC; 0 when not known
	Number         int         // of the packet that it ended in
	Client, Server capture.End // who asked and who was asked, whichever way this one goes
	View           wire.View
	Outcome        exchange.Outcome // of a reply: as what its exchange ends; "" of a question

	hash           uint64 // of what ties a reply to its question
	question, name uint64 // of the question, and of its name alone
	client, server uint64 // of the client's address, and of the server with its port
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
			m.says = outline.Addresses<<1 ^ uint64(flags.RCode())<<56 | 1
		}
		m.ttl, m.ages = outline.TTL, outline.Any && !flags.Has(wire.AA)
	} else {
		m.Client, m.Server, m.Outcome, m.ages = p.From, p.To, "", false
	}
	m.hashes()
	return nil
}

// cutShort stands for what a reply says of which a part is missing.
const cutShort = 0

// seeds are others each time the program runs, so that nobody can write a capture
// whose addresses have the same hashes.
var seeds = [4]uint64{rand.Uint64(), rand.Uint64(), rand.Uint64(), rand.Uint64()}

// hashes mixes what ties a reply to its question: the ends, the transport, the ID and
// the question.
func (m *Message) hashes() {
	m.name, m.question, m.of = m.View.QuestionHashes()
	high, low, _ := m.Client.Words()
	m.client = mix(low^seeds[0], high^seeds[1])
	high, low, port := m.Server.Words()
	m.server = mix(low^seeds[2]^uint64(port)<<32, high^seeds[3])
	rest := uint64(m.id) | uint64(m.Client.Port())<<16
	if m.tcp {
		rest |= 1 << 32
	}
	m.hash = mix(m.client^m.question, m.server^rest)
}

// mix makes one hash of two: the halves of a product are laid together.
func mix(a, b uint64) uint64 {
	high, low := bits.Mul64(a, b)
	return high ^ low
}
