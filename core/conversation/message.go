package conversation

import (
	"math/bits"
	"math/rand/v2"

	"unquil/core/capture"
	"unquil/core/exchange"
	"unquil/core/wire"
)

// Message is one DNS message as it was found in a capture: what is looked at of every
// one. It takes one line of the processor's cache, since those that pair and count
// messages get it from another processor. The rest of it is its [Envelope].
type Message struct {
	At     int64 // nanoseconds since 1970 UTC; 0 when not known
	Number int   // of the packet that it ended in

	hash           uint64 // of what ties a reply to its question
	name           uint64 // of the name asked for
	client, server uint64 // of the client's address, and of the server with its port
	says           uint64 // of a question: its hash; of a reply: its RCODE and its addresses, TTLs and order left aside
	detail         uint32 // of a question: [Message.asks]; of a reply: the TTL of its first answer, in seconds
	kind           kind   // of a reply
	traits         traits
}

// traits are what a message is besides.
type traits uint8

const (
	isReply traits = 1 << iota
	isTCP
	isCut    // as in [capture.Packet]
	isTorn   // the same
	isAging  // a reply that may come out of a cache
	isWaited // a question that its asker gave up, as the file itself says
)

func (m *Message) is(t traits) bool { return m.traits&t != 0 }

// Envelope is what is seldom looked at of a message. It is good for as long as the
// packet's bytes are.
type Envelope struct {
	Client, Server capture.End // who asked and who was asked, whichever way the message goes
	TCP            bool
	id             uint16
	message        wire.View
	outcome        exchange.Outcome // of a reply of no usual kind: as what its exchange ends
}

// asks takes apart what a question's detail holds: its type, how many routers its packet
// may still pass, and how many bytes its name has.
func (m *Message) asks() (t wire.Type, hops, size uint8) {
	return wire.Type(m.detail >> 16), uint8(m.detail >> 8), uint8(m.detail)
}

// kind is how an exchange that was answered ended, for what is done with nearly all.
type kind uint8

const (
	unusual kind = iota // the outcome says how
	isAnswered
	isNoData
	isReferral
	isNoName
	kinds
)

// outcomes are those of the kinds.
var outcomes = [kinds]exchange.Outcome{isAnswered: exchange.Answered, isNoData: exchange.NoData, isReferral: exchange.Referral, isNoName: exchange.NoName}

func kindOf(o exchange.Outcome) kind {
	switch o {
	case exchange.Answered:
		return isAnswered
	case exchange.NoData:
		return isNoData
	case exchange.Referral:
		return isReferral
	case exchange.NoName:
		return isNoName
	}
	return unusual
}

// NewMessage reads the message that a packet carries. The error is a *wire.ParseError.
func NewMessage(p *capture.Packet) (m Message, e Envelope, err error) {
	err = m.read(&e, p, p.Payload)
	return m, e, err
}

// read reads a packet's payload in place.
func (m *Message) read(e *Envelope, p *capture.Packet, payload []byte) error {
	v := &e.message
	name, question, asked, err := v.Read(payload)
	if err != nil {
		return err
	}
	flags := v.Flags()
	m.At, m.Number, m.name, m.traits = p.At, p.Number, name, 0
	e.TCP, e.id = p.TCP, v.ID()
	if p.TCP {
		m.traits |= isTCP
	}
	if p.Cut {
		m.traits |= isCut
		if p.Torn {
			m.traits |= isTorn
		}
	}
	if flags.Has(wire.QR) {
		e.Client, e.Server = p.To, p.From
		m.traits |= isReply
		m.answers(e, flags)
	} else {
		e.Client, e.Server = p.From, p.To
		m.says, m.kind = question, unusual
		m.detail = uint32(asked)<<16 | uint32(p.Hops)<<8 | uint32(v.NameSize())
	}
	high, low, port := e.Client.Words()
	rest := uint64(port)<<16 | uint64(e.id)
	m.client = mix(low^seeds[0], high^seeds[1])
	high, low, port = e.Server.Words()
	m.server = mix(low^seeds[2]^uint64(port)<<32, high^seeds[3])
	if p.TCP {
		rest |= 1 << 32
	}
	m.hash = mix(m.client^question, m.server^rest)
	return nil
}

// answers says what a reply says.
func (m *Message) answers(e *Envelope, flags wire.Flags) {
	outline := e.message.Outline()
	outcome := exchange.JudgeOutline(flags, &outline)
	if m.is(isCut) && outcome == exchange.NoData && outline.Answers {
		outcome = CutOff // the records that it has are not in the capture
	}
	if m.kind = kindOf(outcome); m.kind == unusual {
		e.outcome = outcome
	}
	if m.says = cutShort; outcome != exchange.Truncated && !m.is(isCut) {
		m.says = outline.Addresses<<1 ^ uint64(flags.RCode())<<56 | 1
	}
	if m.detail = outline.TTL; outline.Answers && !flags.Has(wire.AA) {
		m.traits |= isAging
	}
}

// cutShort stands for what a reply says of which a part is missing.
const cutShort = 0

// seeds are others each time the program runs, so that nobody can write a capture
// whose addresses have the same hashes.
var seeds = [4]uint64{rand.Uint64(), rand.Uint64(), rand.Uint64(), rand.Uint64()}

// mix makes one hash of two: the halves of a product are laid together.
func mix(a, b uint64) uint64 {
	high, low := bits.Mul64(a, b)
	return high ^ low
}
