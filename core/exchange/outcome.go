package exchange

import (
	"fmt"
	"slices"
	"strings"

	"unquil/core/wire"
)

// Outcome is the one word for how an exchange ended; "" when it was cut short
// before it could end.
type Outcome string

// The outcomes. Any other RCODE is its own mnemonic in lower case.
const (
	Answered       Outcome = "answered"
	NoData         Outcome = "no-data"
	NoName         Outcome = "no-name"
	Referral       Outcome = "referral"
	Refused        Outcome = "refused"
	ServerFailure  Outcome = "server-failure"
	FormatError    Outcome = "format-error"
	NotImplemented Outcome = "not-implemented"
	Truncated      Outcome = "truncated"
	NoReply        Outcome = "no-reply"
	Unreachable    Outcome = "unreachable"
	Rejection      Outcome = "rejected"
	CutOff         Outcome = "cut-off" // in a capture: a reply came, and the capture holds too little of it
	Open           Outcome = "open"    // in a capture: asked so late that the reply may have come after it ended
)

var rcodeOutcomes = map[wire.RCode]Outcome{
	wire.NXDomain: NoName, wire.Refused: Refused, wire.ServFail: ServerFailure,
	wire.FormErr: FormatError, wire.NotImp: NotImplemented,
}

// Good reports whether the outcome is an answer to the question, be it that
// there is no such name or no such data.
func (o Outcome) Good() bool { return o == Answered || o == NoData || o == NoName }

// Failed reports whether an outcome is no answer and no step towards one.
func (o Outcome) Failed() bool {
	return !o.Good() && o != Referral && o != Truncated && o != CutOff && o != Open
}

// outcomeWords says each outcome in plain words first, the mnemonic in brackets.
var outcomeWords = map[Outcome]string{
	Answered:       "answered",
	NoData:         "the name exists, but has no record of this type (NODATA)",
	NoName:         "no such name (NXDOMAIN)",
	Referral:       "referred to other servers",
	Refused:        "refused to answer (REFUSED)",
	ServerFailure:  "could not get an answer (SERVFAIL)",
	FormatError:    "could not parse the query (FORMERR)",
	NotImplemented: "does not support this kind of query (NOTIMP)",
	Truncated:      "the answer was truncated (TC)",
	NoReply:        "no reply",
	Unreachable:    "unreachable",
	Rejection:      "a reply came that cannot be trusted",
	CutOff:         "a reply came, and the capture has too little of it",
	Open:           "no reply before the capture ended",
	"":             "unknown: interrupted before a reply",
}

// Outcomes are all that have words of their own, and no RCODE of their name.
var Outcomes = []Outcome{Answered, NoData, NoName, Referral, Refused, ServerFailure, FormatError, NotImplemented, Truncated, NoReply, Unreachable, Rejection, CutOff, Open}

// OutcomeWords are all outcomes that there can be a word for: those, and what is left of the RCODEs.
func OutcomeWords() (all []string) {
	for _, o := range Outcomes {
		all = append(all, string(o))
	}
	for _, mnemonic := range wire.RCodes() {
		code, _ := wire.ParseRCode(mnemonic) // which it is one of
		if _, otherwise := rcodeOutcomes[code]; !otherwise && code != wire.NoError {
			all = append(all, strings.ToLower(mnemonic))
		}
	}
	return all
}

// ParseOutcome reads an outcome in any case: a word for one, or the mnemonic of an RCODE. ok is false for
// another word.
func ParseOutcome(word string) (o Outcome, ok bool) {
	o = Outcome(strings.ToLower(word))
	if slices.Contains(Outcomes, o) {
		return o, true
	}
	code, err := wire.ParseRCode(word)
	if err != nil || code == wire.NoError {
		return o, false
	}
	if other, otherwise := rcodeOutcomes[code]; otherwise {
		return other, true
	}
	return Outcome(strings.ToLower(code.String())), true
}

// Words says how an exchange ended.
func (o Outcome) Words() string {
	if words, ok := outcomeWords[o]; ok {
		return words
	}
	return "failed (" + strings.ToUpper(string(o)) + ")"
}

// Named is the outcome with the mnemonic of its RCODE: server-failure, SERVFAIL.
func (o Outcome) Named() string {
	if mnemonic := o.Mnemonic(); mnemonic != "" {
		return string(o) + ", " + mnemonic
	}
	return string(o)
}

// Mnemonic is that of the RCODE which the outcome stands for; "" where it stands for none,
// or is the same word.
func (o Outcome) Mnemonic() string {
	for code, outcome := range rcodeOutcomes {
		if mnemonic := code.String(); outcome == o && !strings.EqualFold(mnemonic, string(o)) {
			return mnemonic
		}
	}
	return ""
}

// Silent reports whether nothing that can be believed came back.
func (o Outcome) Silent() bool { return o == NoReply || o == Unreachable || o == Rejection }

// maxAliases bounds how far an alias chain is followed.
const maxAliases = 32

// ErrAliasChain says that an answer leads over more aliases than are followed: what stands
// at the end is not known.
var ErrAliasChain = fmt.Errorf("it goes through more than %d aliases and was not followed to the end", maxAliases)

// Answer is an answer section read along its alias chain (RFC 1034 §3.6.2).
type Answer struct {
	Name    wire.Name     // where the chain ends: the question's name without an alias
	Aliases []wire.Record // the CNAME records followed, in order
	Records []wire.Record // of the asked type at the end of the chain
	// Signatures are the RRSIG records at the end of the chain.
	Signatures []wire.Record
	Loop       bool // the chain leads back to a name it has passed
	Cut        bool // the chain goes on beyond what is followed
}

// ReadAnswer follows the aliases of q through the answer section of m. Of a zone transfer
// it takes all records.
func ReadAnswer(q wire.Question, m *wire.Message) (a Answer) {
	a.Read(q, m)
	return a
}

// Read is [ReadAnswer] in the memory of an earlier answer, which is gone then.
func (a *Answer) Read(q wire.Question, m *wire.Message) {
	*a = Answer{Name: q.Name, Aliases: a.Aliases[:0], Records: a.Records[:0], Signatures: a.Signatures[:0]}
	if q.Type.IsTransfer() {
		a.Records = slices.Clone(m.Answer)
		return
	}
	for {
		var alias *wire.Record
		for i := range m.Answer {
			r := &m.Answer[i]
			if r.Class != q.Class || !r.Name.Equal(a.Name) {
				continue
			}
			if r.Type == q.Type || q.Type.AsksForOthers() {
				a.Records = append(a.Records, *r)
			} else if r.Type == wire.RRSIG {
				a.Signatures = append(a.Signatures, *r)
			} else if r.Type == wire.CNAME {
				alias = r
			}
		}
		if alias == nil && len(a.Records) == 0 {
			alias = synthesised(a.Name, q.Class, m.Answer)
		}
		if alias == nil || len(a.Records) > 0 {
			return
		}
		if len(a.Aliases) == maxAliases {
			a.Cut = true
			return
		}
		target, ok := alias.Target()
		if !ok {
			return
		}
		a.Aliases = append(a.Aliases, *alias)
		a.Name = target
		if slices.ContainsFunc(a.Aliases, func(passed wire.Record) bool { return passed.Name.Equal(target) }) {
			a.Loop = true
			return
		}
	}
}

// synthesised is the alias that a DNAME among the records makes of name, for a
// server that left it out (RFC 6672 §3.1); nil without one.
func synthesised(name wire.Name, class wire.Class, records []wire.Record) *wire.Record {
	for _, r := range records {
		if r.Type != wire.DNAME || r.Class != class || !name.IsSubdomainOf(r.Name) || name.Equal(r.Name) {
			continue
		}
		base, ok := r.Target()
		if !ok {
			continue
		}
		if target, err := name.Rebase(r.Name, base); err == nil {
			return &wire.Record{Name: name, Type: wire.CNAME, Class: class, TTL: r.TTL, Data: target.Wire()}
		}
	}
	return nil
}

// Judge returns the outcome of a believed reply to q: Rejection, with [ErrAliasChain] as its
// reason, where the answer leads further than it is followed. One without an error to a message of
// another opcode than QUERY, such as NOTIFY, is an answer without records.
func Judge(q wire.Question, m *wire.Message) Outcome { return new(Answer).Judge(q, m) }

// Judge reads the answer, as [Answer.Read], and says as what [Judge] takes it.
func (a *Answer) Judge(q wire.Question, m *wire.Message) Outcome {
	a.Read(q, m)
	if m.Flags.Has(wire.TC) {
		return Truncated
	}
	if code := m.RCode(); code != wire.NoError {
		if o, ok := rcodeOutcomes[code]; ok {
			return o
		}
		return Outcome(strings.ToLower(code.String()))
	}
	if a.Cut {
		return Rejection
	}
	if len(a.Records) > 0 || m.Flags.Opcode() != wire.OpQuery {
		return Answered
	}
	if zone, _, ok := ReferralZone(m); ok && len(a.Aliases) == 0 && q.Name.IsSubdomainOf(zone) {
		return Referral
	}
	return NoData
}

// ReferralZone returns the zone that m refers to and its NS records: NS in the
// authority section, no SOA there, and not the server's own word.
func ReferralZone(m *wire.Message) (zone wire.Name, servers []wire.Record, ok bool) {
	for _, r := range m.Authority {
		switch r.Type {
		case wire.SOA:
			return wire.Name{}, nil, false
		case wire.NS:
			if zone.IsZero() {
				zone = r.Name
			}
			if r.Name.Equal(zone) {
				servers = append(servers, r)
			}
		}
	}
	return zone, servers, len(servers) > 0 && !m.Flags.Has(wire.AA)
}

// Negative returns the SOA record of a negative reply and how many seconds
// the reply may be kept (RFC 2308 §5); ok is false when it has none.
func Negative(m *wire.Message) (soa wire.Record, ttl uint32, ok bool) {
	for _, r := range m.Authority {
		if a, is := r.Authority(); is {
			return r, min(r.TTL, a.Minimum), true
		}
	}
	return wire.Record{}, 0, false
}

// Usual is an outcome that nearly all replies of a capture have, as a number; Unusual is
// any other.
type Usual uint8

// The usual outcomes.
const (
	Unusual Usual = iota
	UsualAnswer
	UsualNoData
	UsualReferral
	UsualNoName
	Usuals // how many there are
)

var usuals = [Usuals]Outcome{UsualAnswer: Answered, UsualNoData: NoData, UsualReferral: Referral, UsualNoName: NoName}

// Outcome is the same as a word; "" of Unusual.
func (u Usual) Outcome() Outcome { return usuals[u] }

// JudgeUsual is [JudgeOutline] where that is a usual outcome.
func JudgeUsual(flags wire.Flags, o wire.Outline) Usual {
	switch {
	case flags.Has(wire.TC) || flags.Opcode() != wire.OpQuery || o.Holds.Has(wire.BreaksOff):
		return Unusual
	case o.Code == wire.NXDomain:
		return UsualNoName
	case o.Code != wire.NoError:
		return Unusual
	case o.Holds.Has(wire.HoldsAnswer):
		return UsualAnswer
	case o.Holds == wire.HoldsNS && !flags.Has(wire.AA):
		return UsualReferral
	}
	return UsualNoData
}

// JudgeOutline is [Judge] on the flags and the outline of a message: it allocates nothing
// and does not follow aliases, so records of the asked type anywhere in the answer count.
func JudgeOutline(flags wire.Flags, o wire.Outline) Outcome {
	if usual := JudgeUsual(flags, o); usual != Unusual {
		return usual.Outcome()
	}
	if flags.Has(wire.TC) {
		return Truncated
	}
	if o.Holds.Has(wire.BreaksOff) {
		return Rejection
	}
	if o.Code == wire.NoError { // of another opcode
		return Answered
	}
	if known, ok := rcodeOutcomes[o.Code]; ok {
		return known
	}
	return Outcome(strings.ToLower(o.Code.String()))
}
