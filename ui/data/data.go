// Package data writes results as JSON: one document a run, or one line an
// exchange for captures.
//
// Names are absolute with the final dot, DNS messages follow RFC 8427, times are
// RFC 3339 with nanoseconds, durations are seconds. What is not known is an
// absent key.
package data

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/netip"
	"time"
	"unicode/utf16"
	"unicode/utf8"

	"unquil/core/comparison"
	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// Schema is the version of the form; it changes when a key changes its meaning.
const Schema = 1

// Document is one run.
type Document struct {
	Unquil    string            `json:"unquil"`               // version
	Command   string            `json:"command"`              // of the program
	Schema    int               `json:"schema"`               // see [Schema]
	Made      *time.Time        `json:"made,omitempty"`       // of a saved result: when the run ended
	Result    any               `json:"result,omitempty"`     // in the form of the command
	Findings  []finding.Finding `json:"findings"`             // the heaviest first
	NotJudged int               `json:"not_judged,omitempty"` // exchanges of a large capture that were only counted
	Owners    []AddressOwner    `json:"owners,omitempty"`     // with --owners: whose the addresses are
	Limits    []string          `json:"limits,omitempty"`     // bounds of the run that were hit, a sentence each
	Exchanges []Exchange        `json:"exchanges"`            // all that were made, by number
}

// Write writes the document, indented.
func (d Document) Write(w io.Writer) error {
	d.Schema = Schema
	if d.Findings == nil {
		d.Findings = []finding.Finding{}
	}
	if d.Exchanges == nil {
		d.Exchanges = []Exchange{}
	}
	encoder := NewEncoder(w)
	encoder.SetIndent("", "  ")
	return encoder.Encode(d)
}

// NewEncoder is an encoder of JSON documents or lines in which every character shows: what
// does not stands as \uXXXX, which reads back as it was (RFC 8259 §7).
func NewEncoder(w io.Writer) *json.Encoder {
	encoder := json.NewEncoder(sieve{w})
	encoder.SetEscapeHTML(false)
	return encoder
}

// sieve takes whole JSON values: outside ASCII there is nothing in them but strings.
type sieve struct{ w io.Writer }

func (s sieve) Write(b []byte) (int, error) {
	if _, err := s.w.Write(shown(b)); err != nil {
		return 0, err
	}
	return len(b), nil
}

// shown is JSON with every character that does not show as an escape.
func shown(b []byte) []byte {
	if !bytes.ContainsFunc(b, unseen) {
		return b
	}
	var out []byte
	for _, r := range string(b) {
		switch first, second := utf16.EncodeRune(r); {
		case !unseen(r):
			out = utf8.AppendRune(out, r)
		case first != utf8.RuneError:
			out = fmt.Appendf(out, `\u%04x\u%04x`, first, second)
		default:
			out = fmt.Appendf(out, `\u%04x`, r)
		}
	}
	return out
}

func unseen(r rune) bool { return r >= 0x7f && !escape.Shows(r) }

// Exchange is an exchange as JSON.
type Exchange struct {
	Number    int           `json:"number"`           // of the exchange in this run, from 1
	Server    Server        `json:"server"`           // that was asked
	Client    *End          `json:"client,omitempty"` // who asked; in captures only
	Question  Question      `json:"question"`
	Outcome   string        `json:"outcome,omitempty"`       // how it ended, in one word; absent when it was cut short
	RCode     string        `json:"rcode,omitempty"`         // of the reply, by mnemonic
	Authority *bool         `json:"authoritative,omitempty"` // the reply is the word of the zone's own server (AA)
	Values    []string      `json:"values,omitempty"`        // of the answer, in master-file form, aliases left out
	Transport string        `json:"transport,omitempty"`     // of the last attempt: udp, tcp, tls, https or quic
	Attempts  int           `json:"attempts"`                // how many times the question was sent
	Sent      *time.Time    `json:"sent,omitempty"`          // when it was sent first
	Took      *float64      `json:"took,omitempty"`          // seconds from the last sending to the reply
	Size      int           `json:"size,omitempty"`          // of the reply, in bytes
	Packets   []int         `json:"packets,omitempty"`       // of a capture, by number
	Error     string        `json:"error,omitempty"`         // why there is no reply, or none that can be used
	Rejected  []Rejected    `json:"rejected,omitempty"`      // messages that came and were not believed
	Security  *Security     `json:"security,omitempty"`      // of an encrypted connection
	EDNSBroke string        `json:"edns_broke,omitempty"`    // what the question with EDNS came to
	Reply     *wire.Message `json:"reply,omitempty"`         // as RFC 8427 has it
	QueryHex  string        `json:"query_hex,omitempty"`     // the last message sent, when --wire asks for it
	ReplyHex  string        `json:"reply_hex,omitempty"`     // the last message received
}

// End is one end of a way.
type End struct {
	Address string `json:"address"`
	Port    uint16 `json:"port"`
}

// OfEnd returns an end as JSON has it.
func OfEnd(a netip.AddrPort) End { return End{a.Addr().String(), a.Port()} }

// Server is whom a question went to.
type Server struct {
	Label   escape.Text `json:"label,omitempty"` // from the configuration
	Host    string      `json:"host,omitempty"`  // the name that the address was found by
	Address string      `json:"address"`
	Port    uint16      `json:"port"`
}

// Question is what was asked.
type Question struct {
	Name  string `json:"name"`
	Type  string `json:"type"`
	Class string `json:"class"`
}

// Security is how a connection was protected, and what the certificate says.
type Security struct {
	Version  string        `json:"version"`   // of TLS
	Names    []escape.Text `json:"names"`     // that the certificate is for
	Issuer   escape.Text   `json:"issuer"`    // of the certificate
	NotAfter time.Time     `json:"not_after"` // when the certificate ends
}

// Rejected is a message that was not believed.
type Rejected struct {
	At    time.Time `json:"at"` // when it came
	From  End       `json:"from"`
	Error string    `json:"error"` // why it was not believed
	Data  []byte    `json:"data"`  // in base64
}

// OfServer returns a server as JSON has it.
func OfServer(s exchange.Server) Server {
	return Server{Label: s.Label, Host: s.Host, Address: s.Address.Addr().String(), Port: s.Address.Port()}
}

// OfQuestion returns q as JSON has it.
func OfQuestion(q wire.Question) Question {
	return Question{q.Name.String(), q.Type.String(), q.Class.String()}
}

// OfExchange returns e as JSON has it.
func OfExchange(e *exchange.Exchange) Exchange {
	j := Exchange{
		Number: e.Number, Question: OfQuestion(e.Question), Outcome: string(e.Outcome), Attempts: e.Sends(), Size: e.Size(),
		Server:    OfServer(e.Server),
		Transport: string(e.Transport()), Values: exchange.Values(e.Answer().Records), Reply: e.Reply,
	}
	if e.Client.IsValid() {
		j.Client = new(OfEnd(e.Client))
	}
	if sent := e.Sent(); !sent.IsZero() {
		j.Sent = &sent
	}
	if e.Reply != nil {
		took, authoritative := e.Took().Seconds(), e.Authoritative()
		j.Took, j.Authority, j.RCode = &took, &authoritative, e.Reply.RCode().String()
	}
	j.EDNSBroke = string(e.EDNSBroke)
	if last := e.Last(); last != nil && last.Security != nil {
		s := last.Security
		j.Security = &Security{s.Version, s.Names, s.Issuer, s.NotAfter}
	}
	if e.Err != nil {
		j.Error = e.Err.Error()
	}
	for _, a := range e.Attempts {
		for _, packet := range []int{a.SentIn, a.ReceivedIn} {
			if packet > 0 {
				j.Packets = append(j.Packets, packet)
			}
		}
		for _, r := range a.Rejected {
			j.Rejected = append(j.Rejected, Rejected{r.At, OfEnd(r.From), r.Err.Error(), r.Data})
		}
	}
	return j
}

// OfExchanges returns all of them as JSON has them, with the messages' bytes
// if they are wanted.
func OfExchanges(all []exchange.Exchange, bytes bool) []Exchange {
	list := make([]Exchange, len(all))
	for i := range all {
		list[i] = OfExchange(&all[i])
		if attempts := all[i].Attempts; bytes && len(attempts) > 0 {
			last := attempts[len(attempts)-1]
			list[i].QueryHex, list[i].ReplyHex = hex.EncodeToString(last.Query), hex.EncodeToString(last.Reply)
		}
	}
	return list
}

// Piece is a run of bytes of a message that has one name.
type Piece struct {
	Offset  int    `json:"offset"` // from the beginning of the message
	Bytes   string `json:"bytes"`  // in hex
	Part    string `json:"part"`   // header, question 1, answer 2 and so on
	Field   string `json:"field"`  // as the standard calls it
	Value   string `json:"value"`
	Meaning string `json:"meaning,omitempty"` // of the value, in words
}

// Build is what a build of the program knows of itself.
type Build struct {
	Version  string `json:"version"`
	Commit   string `json:"commit,omitempty"` // and "+" where its files were changed
	Go       string `json:"go"`
	Platform string `json:"platform"`
	Schema   int    `json:"schema"` // of the JSON
}

// list is a list that JSON has as one, be it empty.
func list[T any](all []T) []T {
	if all == nil {
		return []T{}
	}
	return all
}

// each is what of makes of each.
func each[T, J any](all []T, of func(T) J) []J {
	out := make([]J, len(all))
	for i := range all {
		out[i] = of(all[i])
	}
	return out
}

// EventLine is a change seen while watching.
type EventLine struct {
	At       time.Time            `json:"at"`    // by the clock that TTLs run by
	Event    comparison.EventKind `json:"event"` // first, changed, refreshed or several
	Server   string               `json:"server"`
	Question Question             `json:"question"`
	Says     string               `json:"says"` // the answer, or the outcome
	TTL      uint32               `json:"ttl"`  // seconds left
	Text     string               `json:"text"` // one sentence
}

// OfEvent returns a change seen while watching as JSON has it.
func OfEvent(e comparison.Event) EventLine {
	return EventLine{e.At, e.Kind, e.Server.Name(), OfQuestion(e.Question), e.Says, e.TTL, e.Text}
}

// LastLine is the last line of what is written as it comes.
type LastLine struct {
	Unquil   string      `json:"unquil"` // version
	Command  string      `json:"command"`
	Schema   int         `json:"schema"`
	Summary  any         `json:"summary"`            // in the form of the command
	Files    []string    `json:"files,omitempty"`    // that were read
	Verdicts []Diagnosis `json:"verdicts,omitempty"` // of the run whose evidence was read
	// What listen heard besides.
	Interfaces []string     `json:"interfaces,omitempty"`
	Programs   []ProgramUse `json:"programs,omitempty"`
	Heard      *Heard       `json:"heard,omitempty"`
	While      *While       `json:"while,omitempty"`
}

// Failure is why a run could not be made.
type Failure struct {
	Unquil string `json:"unquil"` // version
	Schema int    `json:"schema"`
	Error  string `json:"error"`          // one sentence
	Next   string `json:"next,omitempty"` // what to try
	Exit   int    `json:"exit"`           // the exit code
}
