package conversation

import (
	"encoding/binary"
	"math/rand/v2"
	"net/netip"
	"slices"

	"unquil/core/capture"
	"unquil/core/exchange"
	"unquil/core/wire"
)

// capturedMessage is one DNS message as it was found in a capture: what is looked at of every
// one. It takes one line of the processor's cache, since those that pair and count
// messages get it from another processor. The rest of it is its [envelope], which is
// made when somebody looks at it.
type capturedMessage struct {
	At     int64 // nanoseconds since 1970 UTC; 0 when not known
	Number int   // of the packet that it ended in

	hash           uint64         // of what ties a reply to its question
	name           uint64         // of the name asked for
	client, server uint64         // of the client's address, and of the server with its port
	says           uint64         // of a question: its hash; of a reply: its RCODE and its addresses, TTLs and order left aside
	detail         uint32         // of a question: [Message.asked]; of a reply: the TTL of its first answer, in seconds
	begins         uint16         // of a question: [beginning] of its name
	kind           exchange.Usual // of a reply: as what its exchange ends
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
	isSigned // a reply with signatures
	isSealed // it travelled encrypted
)

// isAlone is, of a question, that nothing is recorded of its reply.
const isAlone = isSigned

func (m *capturedMessage) is(t traits) bool { return m.traits&t != 0 }

// envelope is what is seldom looked at of a message. Its bytes are good for as long as
// the packet's are.
type envelope struct {
	Client, Server capture.Endpoint // who asked and who was asked, whichever way the message goes
	id             uint16
	message        wire.View
	outcome        exchange.Outcome // of a reply whose kind is exchange.Unusual: as what its exchange ends
}

// envelopes are where those of messages are found, until their packets go.
type envelopes struct {
	batch capture.Batch
	rare  []envelope // of the messages whose packets are not plain
}

// place says where among the envelopes that of a message is: of a plain one where its
// packet lies.
type place uint32

const isRare place = 1 << 31

// of returns the envelope at a place.
func (all *envelopes) of(at place) envelope {
	if at&isRare != 0 {
		return all.rare[at&^isRare]
	}
	return envelopeOf(all.batch.Plain(capture.Place(at)))
}

// add adds an envelope that holds whatever one held before it.
func (all *envelopes) add() (*envelope, place) {
	n := len(all.rare)
	if n == cap(all.rare) {
		all.rare = slices.Grow(all.rare, max(n, 256))
	}
	all.rare = all.rare[:n+1]
	return &all.rare[n], isRare | place(n)
}

// envelopeOf is the envelope of a plain datagram that holds a message.
func envelopeOf(h capture.Header, payload []byte) envelope {
	v, _ := wire.ReadView(payload) // as it was read before
	e := envelope{id: v.ID(), message: v}
	e.Client, e.Server = h.Ends()
	if v.Flags().Has(wire.QR) {
		e.Client, e.Server = e.Server, e.Client
	}
	return e
}

// asked takes apart what a question's detail holds: its type, how many routers its packet
// may still pass, and how many bytes its name has.
func (m *capturedMessage) asked() (t wire.Type, hops, size uint8) {
	return wire.Type(m.detail >> 16), uint8(m.detail >> 8), uint8(m.detail)
}

// packet reads the message that a packet carries, in place. The error is a
// *wire.ParseError.
func (m *capturedMessage) packet(e *envelope, p *capture.Packet, payload []byte, names *wire.NameCache) error {
	v, hashes, err := names.View(payload)
	if err != nil {
		return err
	}
	m.At, m.Number, m.name, m.traits = p.At, p.Number, hashes.Name, 0
	if p.TCP {
		m.traits |= isTCP
	}
	if p.Sealed {
		m.traits |= isSealed
	}
	if p.Cut {
		m.traits |= isCut
		if p.Torn {
			m.traits |= isTorn
		}
	}
	e.Client, e.Server, e.message, e.id, e.outcome = p.From, p.To, v, v.ID(), ""
	if flags := v.Flags(); flags.Has(wire.QR) {
		e.Client, e.Server = p.To, p.From
		m.traits |= isReply
		if m.answers(v, flags); m.kind == exchange.Unusual {
			e.outcome = m.outcome(v)
		}
	} else {
		m.asks(v, hashes, p.Hops)
		if p.Alone {
			m.traits |= isAlone
		}
	}
	m.client, m.server = clientHash(e.Client), serverHash(e.Server)
	m.tie(hashes.Question, e.Client.Port(), e.id)
	return nil
}

// plain is the same of a plain datagram, all but when it came, and reports whether that is
// like most are.
func (m *capturedMessage) plain(ends capture.Header, payload []byte, names *wire.NameCache) bool {
	hashes, size := names.Read(payload)
	if size == 0 {
		return false
	}
	v := wire.Named(payload, size)
	client, server := ends.Ends()
	flags := v.Flags()
	if m.name, m.traits = hashes.Name, 0; flags.Has(wire.QR) {
		client, server, m.traits = server, client, isReply
	}
	m.client, m.server = clientHash(client), serverHash(server)
	m.tie(hashes.Question, client.Port(), v.ID())
	if flags.Has(wire.QR) {
		m.answers(v, flags)
	} else {
		m.asks(v, hashes, ends.Hops())
	}
	return true
}

// asks says what a question says.
func (m *capturedMessage) asks(v wire.View, hashes wire.Hashes, hops uint8) {
	m.says, m.kind = hashes.Question, exchange.Unusual
	m.detail = uint32(hashes.Type)<<16 | uint32(hops)<<8 | uint32(v.NameSize())
	m.begins = beginning(v)
}

// beginning stands for the first eight bytes of the name asked for, letter case aside: names that
// differ in it do not begin alike. 0: the name is shorter, without the root.
func beginning(v wire.View) uint16 {
	if v.NameSize() <= 8 {
		return 0
	}
	return uint16(wire.Lower64(binary.LittleEndian.Uint64(v.Bytes()[12:]))*(seeds[0]|1)>>48) | 1
}

func clientHash(e capture.Endpoint) uint64 {
	high, low, _ := e.Words()
	return wire.Mix(low^seeds[0], high^seeds[1])
}

// nobody4 and nobody6 are the hashes of clients that are not recorded.
var (
	nobody4 = clientHash(capture.EndpointOf(netip.AddrPortFrom(netip.IPv4Unspecified(), 0)))
	nobody6 = clientHash(capture.EndpointOf(netip.AddrPortFrom(netip.IPv6Unspecified(), 0)))
)

func serverHash(e capture.Endpoint) uint64 {
	high, low, port := e.Words()
	return wire.Mix(low^seeds[2]^uint64(port)<<32, high^seeds[3])
}

// tie notes what ties a reply to its question, once client and server are noted.
func (m *capturedMessage) tie(question uint64, port, id uint16) {
	m.hash = wire.Mix(m.client^question, m.server^(uint64(port)<<16|uint64(id)|uint64(m.traits&isTCP)<<32))
}

// answers says what a reply says.
func (m *capturedMessage) answers(v wire.View, flags wire.Flags) {
	outline := m.outline(v)
	m.kind = exchange.JudgeUsual(flags, outline)
	if m.says = outline.Addresses<<1 ^ uint64(flags.RCode())<<56 | 1; flags.Has(wire.TC) {
		m.says = cutShort
	}
	if m.is(isCut) {
		if m.says = cutShort; m.kind == exchange.UsualNoData && outline.Holds.Has(wire.HoldsAny) {
			m.kind = exchange.Unusual // [exchange.CutOff]
		}
	}
	if m.detail = outline.TTL; outline.Holds.Has(wire.HoldsAny) && !flags.Has(wire.AA) {
		m.traits |= isAging
	}
	if outline.Holds.Has(wire.HoldsSignature) {
		m.traits |= isSigned
	}
}

// outline is that of the reply as far as the capture has it: where that cut it, it does not
// break off by itself.
func (m *capturedMessage) outline(v wire.View) wire.Outline {
	o := v.Outline()
	if m.is(isCut) {
		o.Holds &^= wire.BreaksOff
	}
	return o
}

// outcome is as what the exchange ends that a reply belongs to.
func (m *capturedMessage) outcome(v wire.View) exchange.Outcome {
	outcome := exchange.JudgeOutline(v.Flags(), m.outline(v))
	if m.is(isCut) && outcome == exchange.NoData {
		return exchange.CutOff // the records that it has are not in the capture
	}
	return outcome
}

// cutShort stands for what a reply says of which a part is missing.
const cutShort = 0

// seeds are others each time the program runs, so that nobody can write a capture
// whose addresses have the same hashes.
var seeds = [4]uint64{rand.Uint64(), rand.Uint64(), rand.Uint64(), rand.Uint64()}
