// Package exchange holds the evidence type of the program and the client that
// makes it.
//
// An [Exchange] is one question, the server it went to, what came back, and
// when. It is the same value whether the program asked ([Client]) or a capture
// held it: every judgement reads exchanges, every output draws them.
package exchange

import (
	"bytes"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"unquil/core/escape"
	"unquil/core/wire"
)

// Transport is how a message travels.
type Transport string

// The transports that can be asked over.
const (
	UDP   Transport = "udp"
	TCP   Transport = "tcp"   // RFC 7766
	TLS   Transport = "tls"   // RFC 7858
	HTTPS Transport = "https" // RFC 8484
	QUIC  Transport = "quic"  // RFC 9250
)

// Server is whom a question goes to.
type Server struct {
	Address   netip.AddrPort
	Transport Transport   // "" means UDP, and TCP when a reply is cut
	Path      string      // of an HTTPS server
	TLSName   string      // what its certificate has to be for; "" means its address
	Label     escape.Text // a resolver's name in the configuration, as asked; may be ""
	Host      string      // the server's host name in text form with the final dot, as a zone lists it; may be ""
}

// Name is what to call the server: its label, its host name without the final
// dot, or its address.
func (s Server) Name() string {
	switch {
	case s.Label != "":
		return string(s.Label)
	case s.Host != "":
		return strings.TrimSuffix(s.Host, ".")
	}
	return s.AddressText()
}

// AddressText is the address, with the port (ADDRESS#PORT) where that is not 53.
func (s Server) AddressText() string {
	if !s.Address.IsValid() {
		return ""
	}
	if transport := s.Transport; s.Address.Port() == 53 || s.Address.Port() == ports[transport] {
		return s.Address.Addr().String()
	}
	return FormatAddress(s.Address)
}

// Exchange is one question to one server and all that came of it. It is a
// plain value; the zero Number is one that no session has numbered.
type Exchange struct {
	Number   int
	Server   Server
	Client   netip.AddrPort // the asker in a capture; for our own, that of the last attempt
	Question wire.Question
	Attempts []Attempt
	Outcome  Outcome
	Reply    *wire.Message // the reply that was believed; nil without one
	Err      error         // why there is no reply, when the outcome alone does not say it

	// Begun and Ended are its places among all that began and ended in its session, from 1;
	// 0 without one.
	Begun, Ended int

	EDNSBroke   Outcome // what the question with EDNS came to, when only the one without was answered
	EDNSIgnored bool    // a good reply without OPT to a question with one

	believed int       // which attempt gave Reply, from 1; 0: the last
	recorded *recorded // what it comes to, where a recording says that; nil otherwise
}

// Attempt is one message sent and what came before the next was sent.
type Attempt struct {
	Transport Transport
	Local     netip.AddrPort
	Sent      time.Time // zero if it never left
	Received  time.Time // of the reply that was believed; zero without one
	Query     []byte
	Reply     []byte // nil without one
	Rejected  []Rejected
	Err       error
	Security  *Security // of TLS, HTTPS and QUIC; nil before a certificate was seen
	// SentIn and ReceivedIn are packet numbers, from 1, when a capture held it.
	SentIn, ReceivedIn int
}

// Rejected is something that came and was not believed.
type Rejected struct {
	At   time.Time
	From netip.AddrPort
	Data []byte
	Err  error // ErrWrongID, ErrWrongQuestion, ErrWrongSource, or a *wire.ParseError
}

// EDNSArrived reports whether the server saw a question with EDNS, be it that it made
// nothing of it.
func (e *Exchange) EDNSArrived() bool {
	if e.Reply == nil {
		return false
	}
	_, has := e.Reply.OPT()
	return has || e.EDNSIgnored || e.EDNSBroke != "" && e.EDNSBroke != NoReply
}

// Took is the time from the question sent last before the reply to the reply; 0
// without one.
func (e *Exchange) Took() time.Duration {
	if a := e.Last(); a != nil && !a.Received.IsZero() {
		return a.Received.Sub(a.Sent)
	}
	return 0
}

// Waited is the time from the first question sent to the reply, all tries
// included; 0 without one.
func (e *Exchange) Waited() time.Duration {
	if a := e.Last(); a != nil && !a.Received.IsZero() {
		return a.Received.Sub(e.Attempts[0].Sent)
	}
	return 0
}

// Sent is when the first question left; zero if none did.
func (e *Exchange) Sent() time.Time {
	if len(e.Attempts) == 0 {
		return time.Time{}
	}
	return e.Attempts[0].Sent
}

// Transport is how the last question travelled.
func (e *Exchange) Transport() Transport {
	if a := e.Last(); a != nil {
		return a.Transport
	}
	return e.Server.Transport
}

// Size is the length of the believed reply in bytes; 0 without one.
func (e *Exchange) Size() int {
	if a := e.Last(); a != nil {
		return len(a.Reply)
	}
	return 0
}

// Sends is how many queries were sent.
func (e *Exchange) Sends() int { return len(e.Attempts) }

// Asked is what was asked as people say it: the question, behind the opcode where that is
// not QUERY, with how many there are beside it.
func (e *Exchange) Asked() string {
	text := e.Question.Spoken()
	if e.Question.Name.IsZero() {
		text = "no question"
	}
	if len(e.Attempts) == 0 {
		return text
	}
	query, err := wire.ReadView(e.Attempts[0].Query)
	if err != nil {
		return text
	}
	if o := query.Flags().Opcode(); o != wire.OpQuery {
		text = o.String() + " " + text
	}
	if n := query.Count(wire.QuestionSection); n > 1 {
		text += fmt.Sprintf(" and %d more", n-1)
	}
	return text
}

// Last is the attempt that gave the reply, or else the last one; nil without any.
func (e *Exchange) Last() *Attempt {
	switch {
	case len(e.Attempts) == 0:
		return nil
	case e.believed > 0:
		return &e.Attempts[e.believed-1]
	}
	return &e.Attempts[len(e.Attempts)-1]
}

// Believe says which attempt, from 0, gave the reply: for who builds exchanges
// from a capture.
func (e *Exchange) Believe(attempt int) { e.believed = attempt + 1 }

// Authoritative reports whether the reply is the server's own word (AA set).
func (e *Exchange) Authoritative() bool { return e.Reply != nil && e.Reply.Flags.Has(wire.AA) }

// Answer is the reply's answer read along its alias chain; empty without a reply.
func (e *Exchange) Answer() Answer {
	if e.Reply == nil {
		return Answer{Name: e.Question.Name}
	}
	return ReadAnswer(e.Question, e.Reply)
}

// Meaning is a key that two exchanges share exactly when they say the same:
// the outcome and the set of records at the end of the alias chain, whatever
// their order, TTLs and letter case.
func (e *Exchange) Meaning() string {
	values := Values(e.Answer().Records)
	return string(e.Outcome) + "\n" + strings.Join(values, "\n")
}

// Values returns what records say, in a fixed order and without repeats: their
// RDATA in master-file form, names in lower case.
func Values(records []wire.Record) []string {
	var said Said
	said.Read(records)
	values := make([]string, len(said.ends))
	for i := range values {
		values[i] = string(said.At(i))
	}
	return values
}

// Said is what records say, as [Values] has it, in memory that serves again. The zero value says
// nothing.
type Said struct {
	text, joined []byte
	ends         [][2]int // where each value lies
}

// Read takes the records of another answer.
func (s *Said) Read(records []wire.Record) {
	s.text, s.ends = s.text[:0], s.ends[:0]
	for _, r := range records {
		start := len(s.text)
		if r.Name = (wire.Name{}); !isAddress(r) { // whose it is does not count
			r = r.Folded()
		}
		s.text = r.AppendValue(s.text)
		s.ends = append(s.ends, [2]int{start, len(s.text)})
	}
	if len(records) < 2 {
		return
	}
	compare := func(a, b [2]int) int { return bytes.Compare(s.text[a[0]:a[1]], s.text[b[0]:b[1]]) }
	slices.SortFunc(s.ends, compare)
	s.ends = slices.CompactFunc(s.ends, func(a, b [2]int) bool { return compare(a, b) == 0 })
}

func isAddress(r wire.Record) bool {
	_, is := r.Address()
	return is
}

// Len is how many values there are, and At is one of them: good until [Said.Read] is called again.
func (s *Said) Len() int { return len(s.ends) }

// At is the value with an index.
func (s *Said) At(i int) []byte { return s.text[s.ends[i][0]:s.ends[i][1]] }

// Joined is all of them with something between: good until the next call too.
func (s *Said) Joined(between string) []byte {
	if len(s.ends) == 1 {
		return s.At(0)
	}
	s.joined = s.joined[:0]
	for i := range s.ends {
		if i > 0 {
			s.joined = append(s.joined, between...)
		}
		s.joined = append(s.joined, s.At(i)...)
	}
	return s.joined
}
