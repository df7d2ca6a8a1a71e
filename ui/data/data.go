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
	"unquil/core/diagnosis"
	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/probe"
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
	Questions any               `json:"questions,omitempty"`  // of ask: what was asked, and what came of it
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

// OfMessage returns one message as JSON has it, with every byte named. broken is
// why it could not be read to its end; nil if it could.
func OfMessage(data []byte, m *wire.Message, pieces []wire.Piece, broken error) map[string]any {
	list := make([]Piece, len(pieces))
	for i, p := range pieces {
		list[i] = Piece{Offset: p.Offset, Bytes: hex.EncodeToString(data[p.Offset : p.Offset+p.Length]), Part: p.Part, Field: p.Field, Value: p.Value, Meaning: p.Meaning}
	}
	result := map[string]any{"message": m, "pieces": list}
	if broken != nil {
		result["broken"] = broken.Error()
	}
	return result
}

// OfComparison returns one comparison as JSON has it.
func OfComparison(c *probe.Compared, expect map[wire.Type][]string) any {
	type group struct {
		Outcome string   `json:"outcome"`
		Values  []string `json:"values,omitempty"`
		Truth   bool     `json:"zone_says_so"`
		Members []string `json:"members"`
		Shown   []int    `json:"exchanges"`
		Least   *uint32  `json:"ttl_least,omitempty"`
		Most    *uint32  `json:"ttl_most,omitempty"`
	}
	groups := []group{}
	for _, g := range c.Groups {
		j := group{Outcome: string(g.Outcome), Values: g.Values, Truth: g.Truth}
		if len(g.Values) > 0 {
			j.Least, j.Most = &g.LeastTTL, &g.MostTTL
		}
		for _, m := range g.Members {
			j.Members, j.Shown = append(j.Members, memberName(m)), append(j.Shown, m.Exchange.Number)
		}
		groups = append(groups, j)
	}
	result := map[string]any{"question": OfQuestion(c.Question), "headline": c.Headline(), "groups": groups, "zone_servers_asked": c.Asked}
	if values := expect[c.Question.Type]; len(values) > 0 {
		move := c.Expect(values)
		names := func(members []comparison.Member) []string {
			list := []string{}
			for _, m := range members {
				list = append(list, memberName(m))
			}
			return list
		}
		result["move"] = map[string]any{"expected": values, "have": names(move.Have), "lack": names(move.Lack), "unknown": names(move.Unknown), "done_within": move.Lasts}
	}
	if len(c.Validated) > 0 {
		list := []any{}
		for i := range c.Validated {
			list = append(list, OfValidated(&c.Validated[i]))
		}
		result["validations"] = list
	}
	if c.Walk != nil {
		result["walk"] = OfWalk(c.Walk)
	}
	return result
}

func memberName(m comparison.Member) string {
	if m.Exchange.Server.Label == "" && m.Exchange.Server.Host != "" {
		return m.Exchange.Server.Host
	}
	return m.Exchange.Server.Name()
}

// OfVerdicts is [OfVerdict] of each.
func OfVerdicts(all []diagnosis.Verdict) (list []any) {
	for i := range all {
		list = append(list, OfVerdict(&all[i]))
	}
	return list
}

// OfVerdict returns a verdict as JSON has it, with the whole reasoning: what was
// checked, what was found, and which finding explains which.
func OfVerdict(v *diagnosis.Verdict) any {
	names := []string{v.Name.String()}
	if len(v.Names) > 0 {
		names = names[:0]
		for _, name := range v.Names {
			names = append(names, name.String())
		}
	}
	result := map[string]any{"name": names[0], "names": names, "wrong": !v.OK(), "checks": v.Checks, "text": v.Text, "next": v.Next}
	if len(v.Cause) == 0 {
		return result
	}
	verdict := map[string]any{
		"where": v.Where, "at": v.At, "cause": v.Cause[0].Code, "severity": v.Severity, "text": v.Text, "sure": v.Sure, "because": v.Because,
		"who_can_mend_it": v.Who, "next": v.Next, "evidence": v.Evidence(),
	}
	if len(v.RuledOut) > 0 {
		out := []any{}
		for _, r := range v.RuledOut {
			out = append(out, map[string]any{"rival": r.What, "since": r.By, "exchanges": r.Seen})
		}
		verdict["ruled_out"] = out
	}
	if v.Against != "" {
		verdict["but"] = v.Against
	}
	if v.Elsewhere != "" {
		verdict["elsewhere"] = v.Elsewhere
	}
	if v.Lasts > 0 {
		verdict["ends_within"] = v.Lasts
		if !v.Ends.IsZero() {
			verdict["ends_at"] = v.Ends
		}
	}
	explained := []any{}
	for _, f := range v.Follows {
		explained = append(explained, map[string]any{"code": f.Code, "about": f.About, "by": v.Cause[0].Code})
	}
	result["verdict"], result["explained"] = verdict, explained
	return result
}

// OfReversals returns reverse look-ups as JSON has them.
func OfReversals(all []probe.Reversal) any {
	type returned struct {
		Name      string `json:"name"`
		LeadsBack bool   `json:"leads_back"`
	}
	type reversal struct {
		Address  string     `json:"address"`
		Name     string     `json:"looked_up"`
		Exchange int        `json:"exchange"`
		Names    []returned `json:"names"`
	}
	list := []reversal{}
	for _, r := range all {
		j := reversal{r.Address.String(), r.Name.String(), r.Exchange.Number, []returned{}}
		for _, n := range r.Names {
			j.Names = append(j.Names, returned{n.Name.String(), n.LeadsBack})
		}
		list = append(list, j)
	}
	return list
}

// OfLocal returns a machine's set-up as JSON has it.
func OfLocal(l *probe.Local) any {
	s := l.Setup
	ends := func(all []netip.AddrPort) []End {
		list := []End{}
		for _, a := range all {
			list = append(list, OfEnd(a))
		}
		return list
	}
	result := map[string]any{"resolvers": ends(s.Resolvers), "ndots": s.Dots, "hosts_lines": len(s.Hosts)}
	for key, list := range map[string][]string{"search": s.Search, "options": s.Options, "sources": s.Sources, "not_read": s.Unread} {
		if len(list) > 0 {
			result[key] = list
		}
	}
	if len(l.Secure) > 0 {
		offers := []any{}
		for _, d := range l.Secure {
			for _, o := range d.Offers {
				offers = append(offers, map[string]any{"resolver": OfServer(d.Resolver), "transport": o.Server.Transport, "port": o.Server.Address.Port(), "name": o.Server.TLSName, "path": o.Server.Path, "alike": o.Alike, "exchange": o.Tried.Number})
			}
		}
		result["encrypted"] = offers
	}
	if len(s.Scopes) > 0 {
		scopes := []any{}
		for _, scope := range s.Scopes {
			scopes = append(scopes, map[string]any{"resolvers": ends(scope.Resolvers), "domains": append([]string{}, scope.Domains...), "interface": scope.Interface, "source": scope.Source})
		}
		result["besides"] = scopes
	}
	if s.Container {
		result["container"] = true
	}
	if len(s.Behind) > 0 {
		result["behind_stub"] = ends(s.Behind)
	}
	if s.Caveat != "" {
		result["caveat"] = s.Caveat
	}
	if n := l.Name; n != nil {
		var candidates []string
		for _, c := range n.Candidates {
			candidates = append(candidates, c.Name.String())
		}
		hosts := []any{}
		for _, h := range n.Hosts {
			hosts = append(hosts, map[string]any{"line": h.Number, "address": h.Address, "names": h.Names})
		}
		steps := []any{}
		for _, s := range n.Steps {
			numbers := []int{}
			for _, e := range s.Exchanges {
				numbers = append(numbers, e.Number)
			}
			steps = append(steps, map[string]any{"name": s.Candidate.Name.String(), "suffix": s.Candidate.Suffix, "server": s.Exchanges[0].Server.Name(), "exchanges": numbers})
		}
		name := map[string]any{"typed": n.Typed, "candidates": candidates, "hosts": hosts, "steps": steps}
		if n.Resolver != nil {
			name["resolver"] = n.Resolver
		}
		if n.Chosen != nil {
			name["found"], name["suffix"] = n.Chosen.Name.String(), n.Chosen.Suffix
		}
		if n.System != nil {
			name["system"] = n.System
		}
		if n.SystemErr != nil {
			name["system_error"] = n.SystemErr.Error()
		}
		result["name"] = name
	}
	return result
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
	Unquil   string   `json:"unquil"` // version
	Command  string   `json:"command"`
	Schema   int      `json:"schema"`
	Summary  any      `json:"summary"`            // in the form of the command
	Files    []string `json:"files,omitempty"`    // that were read
	Verdicts []any    `json:"verdicts,omitempty"` // of the run whose evidence was read
	// What listen heard besides.
	Interfaces any `json:"interfaces,omitempty"`
	Programs   any `json:"programs,omitempty"`
	Heard      any `json:"heard,omitempty"`
	While      any `json:"while,omitempty"`
}

// Failure is why a run could not be made.
type Failure struct {
	Unquil string `json:"unquil"` // version
	Schema int    `json:"schema"`
	Error  string `json:"error"`          // one sentence
	Next   string `json:"next,omitempty"` // what to try
	Exit   int    `json:"exit"`           // the exit code
}

// OfWatched returns how watching ended as JSON has it.
func OfWatched(w probe.Watched) any {
	list := []any{}
	for _, t := range w.Tracks {
		list = append(list, map[string]any{"server": t.Server.Name(), "question": OfQuestion(t.Question), "outcome": t.Outcome, "values": t.Values, "changes": t.Changes, "asked": t.Asked, "habit": t.Habit(), "caches": t.Caches})
	}
	return map[string]any{"rounds": w.Rounds, "took": w.Took.Seconds(), "met": w.Met, "servers": list}
}
