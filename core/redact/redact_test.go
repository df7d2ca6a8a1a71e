package redact

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/exchange"
	"unquil/core/wire"
)

func named(names ...string) *Redactor {
	var list []wire.Name
	for _, n := range names {
		list = append(list, wire.MustParseName(n))
	}
	return New(list)
}

func TestText(t *testing.T) {
	for _, tt := range []struct {
		name         string
		hide         []string
		before, want string
	}{
		{"its first label goes", []string{"tickets.hollowtarn.example"}, "tickets.hollowtarn.example. A", "hidden1.hollowtarn.example. A"},
		{"also below it, and in capitals", []string{"tickets.hollowtarn.example"}, "a.TICKETS.hollowtarn.example", "a.hidden1.hollowtarn.example"},
		{"a longer label is another", []string{"tickets.hollowtarn.example"}, "etickets.hollowtarn.example, tickets-2.hollowtarn.example", "etickets.hollowtarn.example, tickets-2.hollowtarn.example"},
		{"side by side", []string{"shop.example"}, "shop.example shop.example,shop.example", "h1xx.example h1xx.example,h1xx.example"},
		{"a name and the zone above it", []string{"hollowtarn.example", "tickets.hollowtarn.example"}, "tickets.hollowtarn.example www.hollowtarn.example", "hidden2.hidden1xxx.example www.hidden1xxx.example"},
		{"a short label keeps its length", []string{"a.example"}, "a.example", "1.example"},
		{"nothing chosen, nothing changed", nil, "tickets.hollowtarn.example", "tickets.hollowtarn.example"},
	} {
		t.Run(tt.name, func(t *testing.T) { assert.Equal(t, tt.want, named(tt.hide...).Text(tt.before)) })
	}
}

func TestExchange(t *testing.T) {
	client := netip.MustParseAddrPort("192.0.2.10:4000")
	question := wire.Question{Name: wire.MustParseName("tickets.hollowtarn.example"), Type: wire.TXT, Class: wire.IN}
	query := wire.Message{ID: 7, Questions: []wire.Question{question}}
	reply := wire.Message{ID: 7, Flags: wire.QR, Questions: query.Questions, Answer: []wire.Record{
		{Name: question.Name, Type: wire.TXT, Class: wire.IN, TTL: 60, Data: "\x1cgo to tickets.hollowtarn.exa"},
		{Name: wire.MustParseName("www.tickets.hollowtarn.example"), Type: wire.CNAME, Class: wire.IN, TTL: 60, Data: question.Name.Wire()},
		{Name: wire.MustParseName("x.example"), Type: wire.MX, Class: wire.IN, TTL: 60, Data: "\x00\x0a" + wire.MustParseName("mail.tickets.hollowtarn.example").Wire()},
	}}
	ask, err := query.Bytes()
	require.NoError(t, err)
	answer, err := reply.Bytes()
	require.NoError(t, err)
	before := exchange.Exchange{Number: 3, Client: client, Question: question, Reply: &reply, Outcome: exchange.Answered,
		Server: exchange.Server{Address: netip.MustParseAddrPort("192.0.2.101:53")}, Attempts: []exchange.Attempt{{Local: client, Query: ask, Reply: answer}}}
	r := named("tickets.hollowtarn.example")
	after := r.Exchange(before)
	assert.Equal(t, "hidden1.hollowtarn.example.", after.Question.Name.String())
	assert.Equal(t, "198.18.0.1:4000", after.Client.String())
	assert.Equal(t, after.Client, after.Attempts[0].Local)
	assert.Equal(t, "192.0.2.101:53", after.Server.Address.String(), "servers stay")
	assert.Len(t, after.Attempts[0].Reply, len(answer), "the layout stays")
	require.Len(t, after.Reply.Answer, 3)
	assert.Equal(t, "www.hidden1.hollowtarn.example.", after.Reply.Answer[1].Name.String())
	assert.Contains(t, after.Reply.Answer[2].Value(), "mail.hidden1.hollowtarn.example.")
	assert.Equal(t, "tickets.hollowtarn.example.", before.Reply.Questions[0].Name.String(), "what was given stays as it is")
	assert.Equal(t, "198.18.0.1 asked 192.0.2.101, 198.18.0.1.", r.Text("192.0.2.10 asked 192.0.2.101, 192.0.2.10."))
	assert.Equal(t, "fd00::2", r.client(netip.MustParseAddr("2001:db8::1")).String())
}

// Whatever the bytes, redacting keeps their number and leaves nothing of a name that
// can be read.
func FuzzMessage(f *testing.F) {
	q := wire.Message{Questions: []wire.Question{{Name: wire.MustParseName("a.tickets.hollowtarn.example"), Type: wire.A, Class: wire.IN}}}
	query, _ := q.Bytes()
	f.Add(query)
	f.Add([]byte("\x00\x01\x81\x80\x00\x01\x00\x01\x00\x00\x00\x00\x07tickets\x0ahollowtarn\x07example\x00\x00\x01\x00\x01\xc0\x0c\x00\x05\x00\x01\x00\x00\x00\x00\x00\x02\xc0\x0c"))
	r := named("tickets.hollowtarn.example", "x")
	hidden := wire.MustParseName("tickets.hollowtarn.example")
	f.Fuzz(func(t *testing.T, msg []byte) {
		out := r.Message(msg)
		require.Len(t, out, len(msg))
		if m, err := wire.ReadMessage(out); err == nil {
			for _, q := range m.Questions {
				require.False(t, q.Name.Under(hidden), "%s", q.Name)
			}
		}
	})
}
