package casework_test

import (
	"bytes"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/casework"
	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

var begin = time.Date(2026, 3, 9, 7, 40, 0, 0, time.UTC)

// record is a record of a zone file's line.
func record(t testing.TB, owner string, typ wire.Type, value string) wire.Record {
	t.Helper()
	data, err := wire.ParseRecordData(typ, wire.IN, value)
	require.NoError(t, err)
	return wire.Record{Name: name(t, owner), Type: typ, Class: wire.IN, TTL: 3600, Data: data}
}

func name(t testing.TB, text string) wire.Name {
	t.Helper()
	n, err := wire.ParseName(text)
	require.NoError(t, err)
	return n
}

// asked is an exchange with a server that replied with some records.
func asked(t testing.TB, number int, server exchange.Server, question wire.Question, fill func(reply *wire.Message)) exchange.Exchange {
	t.Helper()
	query := exchange.NewQuery(question, exchange.Options{})
	reply := wire.Message{ID: query.ID, Flags: query.Flags | wire.QR, Questions: query.Questions}
	fill(&reply)
	out, err := query.Append(nil)
	require.NoError(t, err)
	back, err := reply.Append(nil)
	require.NoError(t, err)
	read, err := wire.ReadMessage(back)
	require.NoError(t, err)
	e := exchange.Exchange{Number: number, Server: server, Question: question, Reply: &read, Outcome: exchange.Judge(question, &read),
		Client: netip.MustParseAddrPort("192.0.2.10:50000"), Begun: number*2 - 1, Ended: number * 2}
	e.Attempts = []exchange.Attempt{{Transport: exchange.UDP, Local: e.Client, Sent: begin, Received: begin.Add(time.Millisecond), Query: out, Reply: back,
		Rejected: []exchange.Rejected{{At: begin, From: server.Address, Data: []byte("?"), Err: exchange.ErrWrongID}}}}
	e.Believe(0)
	return e
}

var office = exchange.Server{Address: netip.MustParseAddrPort("192.0.2.53:53"), Label: "office"}

func answered(t testing.TB, number int, address string) exchange.Exchange {
	q := wire.Question{Name: name(t, "tickets.hollowtarn.example"), Type: wire.A, Class: wire.IN}
	return asked(t, number, office, q, func(m *wire.Message) {
		m.Answer = append(m.Answer, record(t, "tickets.hollowtarn.example", wire.A, address))
	})
}

// failed is the same question, to which the server failed.
func failed(t testing.TB) exchange.Exchange {
	e := answered(t, 9, "203.0.113.80")
	e.Outcome, e.Reply.Answer, e.Reply.Flags = exchange.ServerFailure, nil, e.Reply.Flags.WithRCode(wire.ServFail)
	return e
}

func stale() finding.Finding {
	return finding.New(finding.CacheStale, finding.Fault, finding.About{Server: "office", Name: "tickets.hollowtarn.example."}, "office has an older answer.", 1)
}

// A case that is written and read back is the same: lines, notes, findings, and every exchange
// to the byte. What was written to in part is read up to there.
func TestCaseReadsBack(t *testing.T) {
	var c casework.Case
	unsent := exchange.Exchange{Number: 2, Server: office, Question: answered(t, 1, "203.0.113.80").Question, Err: exchange.ErrBudget}
	c.Add(casework.Step{At: begin, Line: "from office"})
	c.Add(casework.Step{At: begin, Line: "tickets.hollowtarn.example", Args: []string{"ask", "--from=office", "tickets.hollowtarn.example"}, Said: "tickets\n  A 203.0.113.80\n",
		Findings: []finding.Finding{stale()}, Exchanges: []exchange.Exchange{answered(t, 1, "203.0.113.80"), unsent}})
	c.Add(casework.Step{At: begin, Note: "the caller sees the old shop"})
	file := casework.Header("0.0.0")
	for i := range c.Steps {
		line, err := c.Steps[i].Marshal()
		require.NoError(t, err)
		file = append(file, line...)
	}
	back, whole, err := casework.Read(bytes.NewReader(file))
	require.NoError(t, err)
	assert.EqualValues(t, len(file), whole)
	require.Len(t, back.Steps, 3)
	assert.Equal(t, 2, back.LastExchange())
	e := back.Exchange(1)
	require.NotNil(t, e)
	before := c.Exchange(1)
	assert.Equal(t, before.Last().Reply, e.Last().Reply)
	assert.Equal(t, before.Last().Query, e.Last().Query)
	assert.Equal(t, before.Took(), e.Took())
	assert.ErrorIs(t, e.Last().Rejected[0].Err, exchange.ErrWrongID)
	assert.Equal(t, exchange.Answered, e.Outcome)
	assert.ErrorIs(t, back.Exchange(2).Err, exchange.ErrBudget)
	assert.Nil(t, back.Exchange(3))
	assert.Equal(t, c.Findings(), back.Findings())
	assert.Equal(t, c.Steps[2].Note, back.Steps[2].Note)

	cut, whole, err := casework.Read(bytes.NewReader(file[:len(file)-4]))
	require.NoError(t, err)
	assert.Len(t, cut.Steps, 2)
	assert.Less(t, whole, int64(len(file)))

	for name, text := range map[string]string{
		"nothing":                     "",
		"something else":              "{\"a\":1}\n",
		"a later form":                "{\"Unquil\":\"9\",\"Case\":2}\n",
		"a step that is missing":      string(casework.Header("0")) + "{\"Number\":2}\n",
		"a step that acts on screens": string(casework.Header("0")) + "{\"Number\":1,\"Line\":\"\\u001b[2J\"}\n",
		"an exchange that is none":    string(casework.Header("0")) + "{\"Number\":1,\"Evidence\":[{\"Number\":1,\"Believed\":3}]}\n",
	} {
		_, _, err := casework.Read(strings.NewReader(text))
		assert.ErrorIs(t, err, casework.ErrNoCase, name)
	}
}

// The capture of a case has the line beside the first packet of what it asked, and the notes
// behind it.
func TestCaseKeepsLinesBesidePackets(t *testing.T) {
	var c casework.Case
	c.Add(casework.Step{Line: "tickets.hollowtarn.example", Exchanges: []exchange.Exchange{answered(t, 1, "203.0.113.80")}})
	c.Add(casework.Step{Note: "the old shop"})
	var file bytes.Buffer
	require.NoError(t, c.Keep(&file))
	r, err := capture.NewReader(&file)
	require.NoError(t, err)
	var comments []string
	for record, err := range r.Records() {
		require.NoError(t, err)
		comments = append(comments, string(record.Comment))
	}
	require.Len(t, comments, 3)
	assert.Equal(t, "exchange 1 (line 1: tickets.hollowtarn.example; note: the old shop)", comments[0])
	assert.Equal(t, "exchange 1", comments[2])
}

func TestChanges(t *testing.T) {
	healthy := casework.Step{Exit: 0, Exchanges: []exchange.Exchange{answered(t, 5, "203.0.113.140")}}
	for _, tt := range []struct {
		name    string
		now     casework.Step
		answers int
		gone    int
		none    bool
		worse   bool
	}{
		{"the same answer and finding is no change", casework.Step{Exit: 3, Findings: []finding.Finding{stale()}, Exchanges: []exchange.Exchange{answered(t, 9, "203.0.113.80")}}, 0, 0, true, false},
		{"another answer, and a finding gone", healthy, 1, 1, false, false},
		{"no answer any more", casework.Step{Exit: 3, Findings: []finding.Finding{stale()}, Exchanges: []exchange.Exchange{failed(t)}}, 1, 0, false, true},
		{"a question that was not put before is none", casework.Step{Exit: 3, Findings: []finding.Finding{stale()}}, 0, 0, true, false},
	} {
		before := casework.Step{Exit: 3, Findings: []finding.Finding{stale()}, Exchanges: []exchange.Exchange{answered(t, 1, "203.0.113.80")}}
		changes := casework.Compare(&before, &tt.now)
		assert.Len(t, changes.Answers, tt.answers, tt.name)
		assert.Len(t, changes.Gone, tt.gone, tt.name)
		assert.Empty(t, changes.New, tt.name)
		assert.Equal(t, tt.none, changes.None(), tt.name)
		assert.Equal(t, tt.worse, changes.Worse(), tt.name)
	}
}

// A case takes no more exchanges than it can hold, and counts the others.
func TestCaseIsBounded(t *testing.T) {
	var c casework.Case
	many := make([]exchange.Exchange, casework.MaxExchanges)
	for i := range many {
		many[i].Number = i + 1
	}
	assert.Zero(t, c.Add(casework.Step{Exchanges: many}).Left)
	last := c.Add(casework.Step{Exchanges: []exchange.Exchange{{Number: 60_000}}, Said: escape.Text(strings.Repeat("a line\n", 1<<20)), Args: []string{"ask", "\x1b[2J"}})
	assert.Equal(t, 1, last.Left)
	assert.Empty(t, last.Exchanges)
	assert.Less(t, len(last.Said), 2<<20)
	assert.Nil(t, last.Args, "what cannot be shown is not asked again")
}

// Marks are given in the order in which things are shown, once, and stand for what they did.
func TestMarks(t *testing.T) {
	root := exchange.Server{Address: netip.MustParseAddrPort("198.51.100.1:53"), Host: "east.roots.test."}
	q := wire.Question{Name: name(t, "www.hollowtarn.example"), Type: wire.A, Class: wire.IN}
	referral := asked(t, 1, root, q, func(m *wire.Message) {
		m.Authority = append(m.Authority, record(t, "example", wire.NS, "first.registry.test."), record(t, "example", wire.NS, "second.registry.test."))
		m.Additional = append(m.Additional, record(t, "first.registry.test", wire.A, "198.51.100.11"), record(t, "first.registry.test", wire.AAAA, "2001:db8:0:11::11"))
	})
	var m casework.Marks
	m.Take(&referral)
	m.Take(&referral)
	require.Equal(t, 6, m.Len())
	assert.Equal(t, "first.registry.test", m.Of(1).Host.Spoken())
	assert.Len(t, m.Of(1).Addresses, 2)
	assert.Equal(t, "first.registry.test", m.Of(2).Of.Spoken(), "an address knows its host")
	assert.Equal(t, "second.registry.test", m.Of(4).Host.Spoken())
	assert.Empty(t, m.Of(4).Addresses, "no glue was given")
	assert.Equal(t, 5, m.Host(name(t, "EAST.roots.test")))
	assert.Equal(t, 6, m.Address(root.Address.Addr()))
	assert.Nil(t, m.Of(0))
	assert.Nil(t, m.Of(7))
}

func FuzzRead(f *testing.F) {
	c := casework.Case{}
	c.Add(casework.Step{At: begin, Line: "x", Note: "y", Args: []string{"ask"}, Findings: []finding.Finding{stale()}, Exchanges: []exchange.Exchange{answered(f, 1, "203.0.113.80")}})
	line, _ := c.Steps[0].Marshal()
	f.Add(append(casework.Header("0"), line...))
	f.Add([]byte("{}\n"))
	f.Fuzz(func(t *testing.T, file []byte) {
		c, whole, err := casework.Read(bytes.NewReader(file))
		if err != nil {
			return
		}
		assert.LessOrEqual(t, whole, int64(len(file)))
		out := casework.Header("0")
		for i := range c.Steps { // what is believed is written as it was
			line, err := c.Steps[i].Marshal()
			require.NoError(t, err)
			out = append(out, line...)
		}
		back, _, err := casework.Read(bytes.NewReader(out))
		require.NoError(t, err)
		require.Len(t, back.Steps, len(c.Steps))
		assert.Equal(t, c.LastExchange(), back.LastExchange())
	})
}
