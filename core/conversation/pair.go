package conversation

import (
	"bytes"
	"fmt"
	"time"

	"unquil/core/capture"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// Bounds on what waits for a reply, and on how long an answered question is
// remembered for what may still come. Beyond them the oldest go; how often that
// happened is told. Times are nanoseconds of the capture's own time.
const (
	window       = int64(60 * time.Second)
	linger       = int64(5 * time.Second)
	maxOpen      = 1 << 15
	maxDone      = 1 << 10
	maxDoneBytes = 8 << 20
	maxQuery     = 2048 // bytes kept of a question's message
	maxSpare     = 4096 // bytes of room kept for another message
	maxTries     = 16   // packets kept of one question asked again and again
	oneMoment    = int64(2 * time.Millisecond)
	pairWithin   = int64(250 * time.Millisecond) // between the questions for A and AAAA
)

// Transaction is one question and its reply, if there was one. It is good until the
// callback it was handed to returns: [Transaction.Exchange] makes a copy to keep.
//
// Many are remembered at once, and each is looked at several times. So it is small,
// and what is looked at together lies together.
type Transaction struct {
	hash           uint64 // as of a message
	question, name uint64
	client, server uint64
	begins         uint16 // the [beginning] of its name
	of             wire.Type
	size           uint8 // of its name, in bytes
	hops           uint8
	kind           exchange.Usual
	tcp, sealed    bool
	state          state
	ages           bool // the reply may come out of a cache
	signed         bool // the reply has signatures
	Cut            bool // the capture holds less of the reply than was sent
	Number         int  // of the question, from 1, in the order of the capture

	First          Try
	Received       int64 // nanoseconds since 1970 UTC
	ReceivedIn     int   // the reply's packet number
	says           uint64
	next, previous *Transaction // in the ring of the open or of the done ones
	ttl            uint32       // of the reply's first answer, in seconds, where ages says so
	asked, got     place        // of the envelopes of question and reply

	from    *envelopes       // where that of the question is; nil once it is the pair's own
	gotFrom *envelopes       // where that of the reply is; nil once it was looked at
	opened  bool             // the question's was looked at
	missed  bool             // it was told of as waiting
	rel     *relations       // nil for most
	sibling *Transaction     // the other half, while both are remembered
	half    Half             // what is known of it once it is not
	Torn    bool             // of Cut: fragments of it are missing
	told    told             // of one that was emitted: what was said of it before
	outcome exchange.Outcome // "" as long as nothing has come, or its kind says it
	Codes   []finding.Code   // what is remarkable about it, once it has been judged

	envelope envelope // of the question, once it was looked at
	room     []byte   // for the question's message
	reply    wire.View
	kept     []byte // what it views, where that is the pair's own
}

// state is how far an exchange has come.
type state uint8

const (
	free    state = iota // the transaction is in no use, though tables may still hold it
	waiting              // for a reply
	replied              // a reply came; more may come
	revived              // as replied, of one that was emitted and of which more has come: it holds no reply
)

// Answered reports whether a reply came.
func (p *Transaction) Answered() bool { return p.state >= replied }

// Ties are what an exchange has to do with others, and with packets beside its own.
type Ties struct {
	Before   Link // what this client asked for the same before, and did not get
	After    Link // the question that took the place of this one
	OtherIn  int  // the packet of another reply to the same question; 0 without one
	UnreadIn int  // the packet of the reply, where that is cut in the capture or damaged so that it cannot be read
	Guesses  int  // replies to this question with an ID that was not asked
	Parts    int  // further messages that the reply to a zone transfer went on in
	LastIn   int  // the packet of the last of them
}

// relations are what few exchanges have.
type relations struct {
	Ties
	Forbidden *capture.Report // what an ICMP error said of it; nil without one
	ReportIn  int
	// Connection is what became of the TCP connection after a reply that was cut.
	Connection connection
	LastAt     int64 // when the last part of the reply came, in nanoseconds since 1970 UTC
	Copies     int   // of the question's packet at one moment, or with fewer hops left

	again   []Try // when the question was sent after the first time, up to 15
	seen    int64 // when its packet came last; 0: once
	falling bool  // the hops left fell from copy to copy
	waited  bool  // the asker gave it up, as the file itself says
	differs bool  // the reply in OtherIn says something else
	twice   bool  // the same reply came again: both of two questions were answered
}

// none is shared by all exchanges that have no relations.
var none relations

// Related is what else the exchange has to do with.
func (p *Transaction) Related() *relations {
	if p.rel == nil {
		return &none
	}
	return p.rel
}

// Half is the other of a pair of questions for A and AAAA; the zero Half is none.
type Half struct {
	Number int
	Good   bool          // it was answered, be it that there is nothing
	Took   time.Duration // from its first question to the reply; 0 without one
}

// Half is the other half, as far as it has come.
func (p *Transaction) Half() Half {
	if p.sibling != nil {
		return p.sibling.asHalf()
	}
	return p.half
}

func (p *Transaction) asHalf() Half {
	return Half{p.Number, p.Answered() && p.Outcome().Good(), p.Waited()}
}

// part ends the tie to the sibling, which keeps what there is to know.
func (p *Transaction) part() {
	if p.sibling != nil {
		p.sibling.half, p.sibling.sibling, p.sibling = p.asHalf(), nil, nil
	}
}

// Link is another exchange that one has to do with. The zero Link is none.
type Link struct {
	Number  int
	Server  capture.Endpoint
	TCP     bool
	Sent    int64
	Ended   int64            // when its reply came; 0 when none had
	Outcome exchange.Outcome // "" while it was open
}

// Try is one packet that asked.
type Try struct {
	Packet int
	At     int64
}

// reset makes the pair ready for another question. What that sets anew is left.
func (p *Transaction) reset() {
	p.state, p.ages, p.signed, p.Cut, p.kind, p.opened, p.missed = free, false, false, false, exchange.Unusual, false, false
	p.Number, p.Received, p.ReceivedIn, p.half = 0, 0, 0, Half{}
	if p.outcome != "" || p.Torn || p.told != 0 || len(p.Codes) > 0 {
		p.outcome, p.Torn, p.told, p.Codes = "", false, 0, p.Codes[:0]
	}
}

// unpackQuestion is the envelope of the question, which is taken to the pair when somebody looks
// at it first: nobody does at nearly all of a busy capture.
func (p *Transaction) unpackQuestion() *envelope {
	if p.from != nil && !p.opened {
		p.envelope, p.opened = p.from.of(p.asked), true
	}
	return &p.envelope
}

// Client is who asked.
func (p *Transaction) Client() capture.Endpoint { return p.unpackQuestion().Client }

// Server is who was asked.
func (p *Transaction) Server() capture.Endpoint { return p.unpackQuestion().Server }

// View is the question's message in place.
func (p *Transaction) View() wire.View { return p.unpackQuestion().message }

// NameHash is the hash of the name asked for, letter case aside: another one each run.
func (p *Transaction) NameHash() uint64 { return p.name }

// HashName is the same of a name.
func HashName(name wire.Name) uint64 {
	question := wire.Message{Questions: []wire.Question{{Name: name, Type: wire.A, Class: wire.IN}}}
	data, _ := question.Bytes() // which no single question is too large for
	view, _ := wire.ReadView(data)
	return view.Hashes().Name
}

// ReplyView is the reply's message in place; ok is false without one.
func (p *Transaction) ReplyView() (v wire.View, ok bool) {
	if !p.Answered() {
		return wire.View{}, false
	}
	return p.unpackReply(), true
}

// unpackReply is the reply's message in place; nothing of one that was emitted before.
func (p *Transaction) unpackReply() wire.View {
	if p.gotFrom != nil {
		p.reply, p.gotFrom = p.gotFrom.of(p.got).message, nil
	}
	return p.reply
}

// bytes is how many bytes both messages have.
func (p *Transaction) bytes() int {
	if !p.Answered() {
		return len(p.View().Bytes())
	}
	return len(p.View().Bytes()) + len(p.unpackReply().Bytes())
}

// Outcome is how the exchange ended.
func (p *Transaction) Outcome() exchange.Outcome {
	switch {
	case p.kind != exchange.Unusual:
		return p.kind.Outcome()
	case p.outcome != "":
		return p.outcome
	case p.Related().Forbidden != nil:
		return exchange.Unreachable
	}
	return exchange.NoReply
}

// giveUp settles an exchange without a reply, once nothing more can come of it.
func (p *Transaction) giveUp(now int64) {
	if p.outcome = p.Outcome(); p.outcome == exchange.NoReply && !p.Related().waited && now > 0 && now-p.last().At < endOfCapture {
		p.outcome = exchange.Open
	}
}

// Asked is how many times the question was sent.
func (p *Transaction) Asked() int { return 1 + len(p.Related().again) }

// Sent is every time the question was sent, up to 16.
func (p *Transaction) Sent() []Try { return append([]Try{p.First}, p.Related().again...) }

// last is when the question was sent last.
func (p *Transaction) last() Try {
	if again := p.Related().again; len(again) > 0 {
		return again[len(again)-1]
	}
	return p.First
}

// Took is the time from the question to the reply; 0 without one. What was asked
// again counts from the last time before the reply.
func (p *Transaction) Took() time.Duration {
	if !p.Answered() {
		return 0
	}
	last := p.First.At
	if p.rel == nil { // as of nearly all
		return time.Duration(p.Received - last)
	}
	for _, try := range p.rel.again {
		if try.At <= p.Received {
			last = try.At
		}
	}
	return time.Duration(p.Received - last)
}

// Lasted is the time from the question to the last message of its reply, where that is a zone
// transfer of several; 0 otherwise.
func (p *Transaction) Lasted() time.Duration {
	if r := p.Related(); r.Parts > 0 {
		return time.Duration(r.LastAt - p.First.At)
	}
	return 0
}

// Waited is the time from the first question to the reply; 0 without one.
func (p *Transaction) Waited() time.Duration {
	if !p.Answered() {
		return 0
	}
	return time.Duration(p.Received - p.First.At)
}

// Reply is the reply's message; nil without one.
func (p *Transaction) Reply() []byte {
	if !p.Answered() {
		return nil
	}
	return p.unpackReply().Bytes()
}

// HasTies reports whether packets beside its first question and its reply have to do with it, or other
// exchanges by more than being its other half: [Transaction.Line] has them.
func (p *Transaction) HasTies() bool { return p.rel != nil }

// Transport is how its messages travelled.
func (p *Transaction) Transport() exchange.Transport {
	switch {
	case p.sealed && p.Server().Port() == httpsPort:
		return exchange.HTTPS
	case p.sealed && p.tcp:
		return exchange.TLS
	case p.sealed:
		return exchange.QUIC
	case p.tcp:
		return exchange.TCP
	}
	return exchange.UDP
}

// Exchange returns the pair as an exchange that owns what it holds.
func (p *Transaction) Exchange() exchange.Exchange {
	over := p.Transport()
	e := exchange.Exchange{
		Number: p.Number, Client: p.Client().AddrPort(), Outcome: p.Outcome(),
		Server: exchange.Server{Address: p.Server().AddrPort(), Transport: over},
	}
	query := bytes.Clone(p.View().Bytes())
	if m, err := wire.ReadMessage(query); len(m.Questions) > 0 {
		e.Question = m.Questions[0]
	} else if err != nil {
		e.Err = err
	}
	at := 0
	for i, try := range p.Sent() {
		e.Attempts = append(e.Attempts, exchange.Attempt{Transport: over, Local: p.Client().AddrPort(), Query: query,
			Sent: time.Unix(0, try.At).UTC(), SentIn: try.Packet})
		if try.At <= p.Received {
			at = i
		}
	}
	if p.Answered() {
		last := &e.Attempts[at]
		last.Reply = bytes.Clone(p.unpackReply().Bytes())
		last.Received, last.ReceivedIn = time.Unix(0, p.Received).UTC(), p.ReceivedIn
		m, err := wire.ReadMessage(last.Reply)
		e.Reply, e.Err = &m, err
		if err == nil && !p.Cut { // of what is not whole, what it has not says nothing
			e.Outcome = exchange.Judge(e.Question, e.Reply)
		} else if err != nil && !p.Cut {
			e.Outcome = exchange.Rejection
		}
		e.Believe(at)
	} else if in := p.Related().UnreadIn; in > 0 && !p.Cut {
		e.Err = fmt.Errorf("the message in packet %d cannot be read", in)
	}
	return e
}
