package lab

import (
	"time"

	"unquil/core/wire"
)

// quirk is one way in which a host goes wrong. The zero quirk is none.
type quirk struct {
	what string
	// loses reports whether a question, or the reply of that many bytes to it, gets lost.
	loses func(query *wire.Message, stream bool, size int) bool
	// changes spoils the reply before it becomes bytes.
	changes func(query, reply *wire.Message)
	// bytes spoils the reply's bytes.
	bytes func(out []byte) []byte
	// late is how long the reply is held back.
	late time.Duration
	// elsewhere has replies over UDP leave from another socket than was asked.
	elsewhere bool
	// hidden keeps EDNS out of the replies.
	hidden bool
	// cut has every reply over UDP say that it was cut.
	cut bool
}

// largest is how much of a reply over UDP a network without fragments may carry.
const largest = 512

// quirks are the ways to go wrong that the scenario can give a host.
var quirks = map[string]quirk{
	"fails":             {what: "answers SERVFAIL to everything", changes: code(wire.ServFail)},
	"refuses":           {what: "refuses everybody", changes: code(wire.Refused)},
	"misreads":          {what: "answers FORMERR to everything", changes: code(wire.FormErr)},
	"lacks-everything":  {what: "answers NOTIMP to everything", changes: code(wire.NotImp)},
	"without-authority": {what: "answers without authority", changes: func(_, m *wire.Message) { m.Flags &^= wire.AA }},
	"refers-up": {what: "refers everybody to the root", changes: func(_, m *wire.Message) {
		root := wire.MustParseName("east.roots.test.")
		m.Flags = m.Flags.WithRCode(wire.NoError) &^ (wire.AA | wire.RA)
		m.Answer, m.Additional = nil, nil
		m.Authority = []wire.Record{{Name: wire.Root, Type: wire.NS, Class: wire.IN, TTL: 518400, Data: root.Wire()}}
	}},
	"wrong-id": {what: "gives its replies another ID", changes: func(_, m *wire.Message) { m.ID ^= 0x0101 }},
	"wrong-question": {what: "repeats another question", changes: func(_, m *wire.Message) {
		m.Questions = []wire.Question{{Name: wire.MustParseName("other.works.example."), Type: wire.A, Class: wire.IN}}
	}},
	"torn":       {what: "sends half of each message", bytes: func(out []byte) []byte { return out[:min(len(out), 20)] }},
	"elsewhere":  {what: "answers from another address", elsewhere: true},
	"udp-lost":   {what: "nothing comes back over UDP", loses: func(_ *wire.Message, stream bool, _ int) bool { return !stream }},
	"tcp-lost":   {what: "nothing comes back over TCP", loses: func(_ *wire.Message, stream bool, _ int) bool { return stream }},
	"large-lost": {what: "large replies over UDP are lost", loses: func(_ *wire.Message, stream bool, size int) bool { return !stream && size > largest }},
	"edns-lost": {what: "questions with EDNS are lost", loses: func(q *wire.Message, _ bool, _ int) bool {
		_, has := q.OPT()
		return has
	}},
	"edns-misread": {what: "answers FORMERR to EDNS", changes: func(q, m *wire.Message) {
		if _, has := q.OPT(); has {
			code(wire.FormErr)(q, m)
		}
	}},
	"edns-hidden":  {what: "answers as if there were no EDNS", hidden: true},
	"aaaa-lost":    {what: "questions for AAAA are lost", loses: func(q *wire.Message, _ bool, _ int) bool { return asks(q, wire.AAAA) }},
	"aaaa-fails":   {what: "answers SERVFAIL for AAAA", changes: onlyFor(wire.AAAA, code(wire.ServFail))},
	"aaaa-refused": {what: "refuses questions for AAAA", changes: onlyFor(wire.AAAA, code(wire.Refused))},
	"aaaa-denied": {what: "says for AAAA that there is no such name", changes: onlyFor(wire.AAAA, func(_, m *wire.Message) {
		m.Answer, m.Flags = nil, m.Flags.WithRCode(wire.NXDomain)
	})},
	"lowers": {what: "repeats the question in lower case", changes: func(_, m *wire.Message) {
		q := m.Questions[0]
		q.Name = q.Name.Fold()
		m.Questions = []wire.Question{q}
	}},
	"slow":       {what: "answers after more than a second", late: 1100 * time.Millisecond},
	"unhurried":  {what: "answers after a third of a second", late: 330 * time.Millisecond},
	"always-cut": {what: "has everything asked again over TCP", cut: true},
	"any-little": {what: "gives one record to who asks for ANY (RFC 8482)", changes: func(q, m *wire.Message) {
		if asks(q, wire.ANY) && len(m.Answer) > 1 {
			m.Answer = m.Answer[:1]
		}
	}},
	"recurses-not": {what: "is no resolver: it knows the root servers and nothing more", changes: func(_, m *wire.Message) {
		m.Flags = m.Flags.WithRCode(wire.Refused) &^ wire.RA
		m.Answer, m.Authority, m.Additional = nil, nil, nil
	}},
	"cut-off": {what: "is cut off from everybody it would have to ask", changes: code(wire.ServFail)},
}

func asks(q *wire.Message, t wire.Type) bool {
	return len(q.Questions) == 1 && q.Questions[0].Type == t
}

func code(c wire.RCode) func(_, m *wire.Message) {
	return func(_, m *wire.Message) {
		m.Flags = m.Flags.WithRCode(c) &^ wire.AA
		m.Answer, m.Authority, m.Additional = nil, nil, nil
	}
}

func onlyFor(t wire.Type, changes func(query, reply *wire.Message)) func(query, reply *wire.Message) {
	return func(query, reply *wire.Message) {
		if asks(query, t) {
			changes(query, reply)
		}
	}
}

// Oddity says in words how a server goes wrong; "" when it does not.
func Oddity(s Server) string {
	switch {
	case s.State == Down:
		return "does not reply"
	case s.State == Closed:
		return "nothing listens there"
	case s.WithoutTCP:
		return "takes no TCP connection"
	}
	return quirks[s.Quirk].what
}
