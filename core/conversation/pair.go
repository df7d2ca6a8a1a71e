// Package conversation pairs the packets of a capture to exchanges and judges
// them.
package conversation

import (
	"net/netip"
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

// Pair is one question and its reply, if there was one. It is good until the
// callback it was handed to returns: [Pair.Exchange] makes a copy to keep.
type Pair struct {
	Number         int // of the question, from 1, in the order of the capture
	Client, Server netip.AddrPort
	TCP            bool
	Query          []byte // of the first try
	Sent           []Try  // every time the question was sent, up to 16
	Reply          []byte // nil without one
	ReceivedIn     int    // the reply's packet number
	Received       int64  // nanoseconds since 1970 UTC
	Cut            bool   // the capture holds less of the reply than was sent
	Torn           bool   // of Cut: fragments of it are missing

	Copies  int            // of the question's packet at one moment, or with fewer hops left
	Falling bool           // the hops left fell from copy to copy
	Guesses int            // replies to this question with an ID that was not asked
	Codes   []finding.Code // what is remarkable about it, once it has been judged

	*relations // nil for most

	view, reply    wire.View
	name           uint64 // hash of the name, and of the whole question
	question       uint64
	hash           uint64 // of all that ties a reply to it
	about          uint64 // of the client and the name, and of the client and the question
	wants          uint64
	clientHash     uint64 // of the addresses of both ends
	serverHash     uint64
	spare          []byte // room for a reply, from an exchange that has ended
	ended          int64  // where the capture was when nothing more could come of it
	seen           int64  // when the question's packet came last
	id             uint16
	hops           uint8
	done, waited   bool
	outcome        exchange.Outcome
	next, previous *Pair // in the ring of the open or of the done ones
	twin           *Pair // the other of Half, while both are remembered
	same           *Pair // another pair with the same hash
}

// relations are what few exchanges have.
type relations struct {
	Other     []byte // a reply to the same question that says something else; nil without one
	OtherIn   int
	OtherAt   int64
	Forbidden *capture.Report // what an ICMP error said of it; nil without one
	ReportIn  int
	Before    Link // what this client asked for the same before, and did not get
	After     Link // the question that took the place of this one
	Half      Link // the other of a pair of questions for A and AAAA
}

// none is shared by all exchanges that have no relations.
var none relations

// Related is what else the exchange has to do with.
func (p *Pair) Related() *relations {
	if p.relations == nil {
		return &none
	}
	return p.relations
}

// related makes room for relations.
func (p *Pair) related() *relations {
	if p.relations == nil {
		p.relations = &relations{}
	}
	return p.relations
}

// Link is another exchange that one has to do with. The zero Link is none.
type Link struct {
	Number  int
	Server  netip.AddrPort
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

// View is the question's message in place.
func (p *Pair) View() wire.View { return p.view }

// ReplyView is the reply's message in place; ok is false without one.
func (p *Pair) ReplyView() (v wire.View, ok bool) { return p.reply, p.Reply != nil }

// Outcome is how the exchange ended.
func (p *Pair) Outcome() exchange.Outcome {
	switch {
	case p.outcome != "":
		return p.outcome
	case p.Reply == nil && p.Related().Forbidden != nil:
		p.outcome = exchange.Unreachable
	case p.Reply == nil && !p.waited && p.ended > 0 && p.ended-p.Sent[len(p.Sent)-1].At < endOfCapture:
		p.outcome = Open
	case p.Reply == nil:
		p.outcome = exchange.NoReply
	default:
		p.outcome = exchange.JudgeView(p.reply)
		if p.Cut && p.outcome == exchange.NoData && p.reply.Count(wire.AnswerSection) > 0 {
			p.outcome = CutOff // the records that it has are not in the capture
		}
	}
	return p.outcome
}

// Took is the time from the question to the reply; 0 without one. What was asked
// again counts from the last time before the reply.
func (p *Pair) Took() time.Duration {
	if p.Reply == nil {
		return 0
	}
	last := p.Sent[0].At
	for _, try := range p.Sent {
		if try.At <= p.Received {
			last = try.At
		}
	}
	return time.Duration(p.Received - last)
}

// Waited is the time from the first question to the reply; 0 without one.
func (p *Pair) Waited() time.Duration {
	if p.Reply == nil {
		return 0
	}
	return time.Duration(p.Received - p.Sent[0].At)
}

func (p *Pair) transport() exchange.Transport {
	if p.TCP {
		return exchange.TCP
	}
	return exchange.UDP
}

// Exchange returns the pair as an exchange that owns what it holds.
func (p *Pair) Exchange() exchange.Exchange {
	over := p.transport()
	e := exchange.Exchange{
		Number: p.Number, Client: p.Client, Outcome: p.Outcome(),
		Server: exchange.Server{Address: p.Server, Transport: over},
	}
	query := append([]byte(nil), p.Query...)
	if m, err := wire.ReadMessage(query); len(m.Questions) > 0 {
		e.Question = m.Questions[0]
	} else if err != nil {
		e.Err = err
	}
	at := 0
	for i, try := range p.Sent {
		e.Attempts = append(e.Attempts, exchange.Attempt{Transport: over, Local: p.Client, Query: query,
			Sent: time.Unix(0, try.At).UTC(), SentIn: try.Packet})
		if try.At <= p.Received {
			at = i
		}
	}
	if p.Reply != nil {
		last := &e.Attempts[at]
		last.Reply = append([]byte(nil), p.Reply...)
		last.Received, last.ReceivedIn = time.Unix(0, p.Received).UTC(), p.ReceivedIn
		m, err := wire.ReadMessage(last.Reply)
		e.Reply, e.Err = &m, err
		if err == nil {
			e.Outcome = exchange.Judge(e.Question, e.Reply)
		}
		e.Believe(at)
	}
	return e
}
