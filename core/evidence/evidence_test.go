package evidence_test

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/conversation"
	"unquil/core/evidence"
	"unquil/core/exchange"
	"unquil/core/wire"
)

var begin = time.Date(2026, 3, 9, 7, 40, 0, 0, time.UTC)

// messages are a question and its reply.
func messages(t *testing.T) (query, reply []byte, q wire.Question) {
	q = wire.Question{Name: wire.MustParseName("www.hollowtarn.example"), Type: wire.A, Class: wire.IN}
	m := wire.Message{ID: 7, Flags: wire.RD, Questions: []wire.Question{q}}
	query, err := m.Bytes()
	require.NoError(t, err)
	m.Flags |= wire.QR
	m.Answer = []wire.Record{{Name: q.Name, Type: wire.A, Class: wire.IN, TTL: 60, Data: "\xc0\x00\x02\x01"}}
	reply, err = m.Bytes()
	require.NoError(t, err)
	return query, reply, q
}

// What is written as evidence reads back to the same exchange, rejected messages
// and all tries included.
func TestEvidenceReadsBack(t *testing.T) {
	query, reply, q := messages(t)
	wrong := bytes.Clone(reply)
	wrong[1]++
	for _, family := range []struct{ client, server string }{{"192.0.2.21:50000", "192.0.2.53:53"}, {"[2001:db8::21]:50000", "[2001:db8::53]:53"}} {
		client, server := netip.MustParseAddrPort(family.client), netip.MustParseAddrPort(family.server)
		e := &exchange.Exchange{Number: 1, Server: exchange.Server{Address: server}, Question: q, Attempts: []exchange.Attempt{
			{Transport: exchange.UDP, Local: client, Sent: begin, Query: query},
			{Transport: exchange.UDP, Local: client, Sent: begin.Add(2 * time.Second), Query: query, Received: begin.Add(2020 * time.Millisecond), Reply: reply,
				Rejected: []exchange.Rejected{{At: begin.Add(2010 * time.Millisecond), From: server, Data: wrong, Err: exchange.ErrWrongID}}},
			{Transport: exchange.UDP}, // it never left
		}}
		var file bytes.Buffer
		writer, err := evidence.New(&file)
		require.NoError(t, err)
		require.NoError(t, writer.Add(e))
		assert.Contains(t, file.String(), "exchange 1: not believed, the reply has a different ID from the query")
		r, err := capture.NewReader(&file)
		require.NoError(t, err)
		o, err := conversation.Read(t.Context(), []*capture.Reader{r}, conversation.Options{})
		require.NoError(t, err)
		require.Len(t, o.Kept, 1)
		back := o.Kept[0]
		assert.Equal(t, 4, o.Packets)
		assert.Equal(t, 1, o.Unsolicited, "what was not believed is nobody's reply")
		assert.Equal(t, 2, back.Sends())
		assert.Equal(t, reply, back.Last().Reply)
		assert.Equal(t, 20*time.Millisecond, back.Took())
		assert.Equal(t, client, back.Client)
	}
}

// run is some exchanges of a run, as different as they can be.
func run(t *testing.T) []exchange.Exchange {
	query, reply, q := messages(t)
	client, server := netip.MustParseAddrPort("192.0.2.21:50000"), netip.MustParseAddrPort("192.0.2.53:53")
	wrong := bytes.Clone(reply)
	wrong[1]++
	cut := bytes.Clone(reply)
	cut[2] |= 2 // truncated
	udp := func(seconds int) exchange.Attempt {
		return exchange.Attempt{Transport: exchange.UDP, Local: client, Sent: begin.Add(time.Duration(seconds) * time.Second), Query: query}
	}
	answered, truncated, silent := udp(2), udp(3), udp(4)
	answered.Received, answered.Reply = begin.Add(2020*time.Millisecond), reply
	answered.Rejected = []exchange.Rejected{{At: begin.Add(2010 * time.Millisecond), From: server, Data: wrong, Err: exchange.ErrWrongID}}
	truncated.Received, truncated.Reply = begin.Add(3020*time.Millisecond), cut
	silent.Err = exchange.ErrNoReply
	refused := exchange.Attempt{Transport: exchange.TCP, Sent: begin.Add(4 * time.Second), Err: fmt.Errorf("dialling: %w", syscall.ECONNREFUSED)}
	handshake := &exchange.HandshakeError{Step: "checking the certificate", Err: errors.New("it is not for \"office.test\"")}
	all := []exchange.Exchange{
		{Server: exchange.Server{Address: server, Label: "office"}, Outcome: exchange.Answered, EDNSBroke: exchange.NoReply, Attempts: []exchange.Attempt{udp(0), answered}},
		{Server: exchange.Server{Address: server, Host: "ns1.hollowtarn.example."}, Outcome: exchange.Truncated, Err: refused.Err, Attempts: []exchange.Attempt{truncated, refused}},
		{Server: exchange.Server{Address: server}, Outcome: exchange.NoReply, Err: exchange.ErrNoReply, Attempts: []exchange.Attempt{silent}},
		{Server: exchange.Server{Address: server, Transport: exchange.TLS, TLSName: "office.test"}, Outcome: exchange.Unreachable, Err: handshake,
			Attempts: []exchange.Attempt{{Transport: exchange.TLS, Sent: begin, Err: handshake, Security: &exchange.Security{Version: "TLS 1.3", NotAfter: begin}}}},
		{Server: exchange.Server{Address: server}, Err: exchange.ErrBudget},
	}
	for i := range all {
		e := &all[i]
		e.Number, e.Question, e.Begun, e.Ended = i+1, q, 2*i+1, 2*i+2
		for at := range e.Attempts {
			if a := &e.Attempts[at]; a.Reply != nil {
				m, err := wire.ReadMessage(a.Reply)
				require.NoError(t, err)
				e.Reply = &m
				e.Believe(at)
			}
			e.Client = e.Attempts[at].Local
		}
		if e.Reply != nil {
			e.Client = e.Last().Local
		}
	}
	return all
}

// The evidence of a run gives back every exchange as it was, those without a packet too. Where
// a packet is missing or strange, it is not taken for one.
func TestRunsReadBack(t *testing.T) {
	exchanges := run(t)
	write := func(exchanges []exchange.Exchange, given any) []byte {
		var file bytes.Buffer
		writer, err := evidence.New(&file)
		require.NoError(t, err)
		require.NoError(t, writer.AddAll(exchanges, given))
		return file.Bytes()
	}
	read := func(file []byte) (json.RawMessage, []exchange.Exchange, error) {
		r, err := capture.NewReader(bytes.NewReader(file))
		require.NoError(t, err)
		return evidence.ReadRun(r)
	}
	file := write(exchanges, map[string]string{"Name": "hollowtarn"})
	given, back, err := read(file)
	require.NoError(t, err)
	assert.JSONEq(t, `{"Name": "hollowtarn"}`, string(given))
	require.Len(t, back, len(exchanges))
	for i := range exchanges {
		e, b := &exchanges[i], &back[i]
		for at := range b.Attempts {
			b.Attempts[at].SentIn, b.Attempts[at].ReceivedIn = 0, 0
			assert.Equal(t, fmt.Sprint(e.Attempts[at].Err), fmt.Sprint(b.Attempts[at].Err))
			e.Attempts[at].Err, b.Attempts[at].Err = nil, nil
			for r := range b.Attempts[at].Rejected {
				assert.ErrorIs(t, b.Attempts[at].Rejected[r].Err, e.Attempts[at].Rejected[r].Err)
				b.Attempts[at].Rejected[r].Err = e.Attempts[at].Rejected[r].Err
			}
		}
		assert.Equal(t, fmt.Sprint(e.Err), fmt.Sprint(b.Err))
		for _, known := range []error{exchange.ErrNoReply, exchange.ErrBudget, syscall.ECONNREFUSED} {
			assert.Equal(t, errors.Is(e.Err, known), errors.Is(b.Err, known), "%v", e.Err)
		}
		_, handshake := errors.AsType[*exchange.HandshakeError](b.Err)
		assert.Equal(t, i == 3, handshake)
		e.Err, b.Err = nil, nil
		assert.Equal(t, *e, *b)
	}
	other := run(t)
	other[0].Server.Label = "\x1b[2Joffice"
	for name, file := range map[string][]byte{
		"no run":                write(run(t), nil),
		"a packet is missing":   file[:bytes.LastIndex(file, []byte("exchange 3"))-100],
		"what would not show":   write(other, "given"),
		"an answer of nobody's": bytes.Replace(file, []byte(`"Believed":2`), []byte(`"Believed":7`), 1),
		"a reply that is none":  bytes.Replace(file, []byte(`"Outcome":"no-reply"`), []byte(`"Outcome":"answered"`), 1),
	} {
		_, _, err := read(file)
		assert.Error(t, err, name)
	}
}

// Over TCP the messages stand behind their lengths in segments that follow each
// other; what was encrypted says that it is shown in the clear.
func TestEvidenceOfStreams(t *testing.T) {
	query, reply, q := messages(t)
	for over, comment := range map[exchange.Transport]string{exchange.TCP: "exchange 3", exchange.TLS: "it travelled over tls, and is written here in the clear", exchange.HTTPS: "over https", exchange.QUIC: "over quic"} {
		client, server := netip.MustParseAddrPort("192.0.2.21:50000"), netip.MustParseAddrPort("192.0.2.53:853")
		e := &exchange.Exchange{Number: 3, Server: exchange.Server{Address: server, Transport: over}, Question: q, Attempts: []exchange.Attempt{
			{Transport: over, Local: client, Sent: begin, Query: query, Received: begin.Add(time.Second), Reply: reply}}}
		var file bytes.Buffer
		writer, err := evidence.New(&file)
		require.NoError(t, err)
		require.NoError(t, writer.Add(e))
		assert.Contains(t, file.String(), comment)
		r, err := capture.NewReader(&file)
		require.NoError(t, err)
		var next uint32 = 1
		want := [][]byte{query, reply}
		for record, err := range r.Records() {
			require.NoError(t, err)
			tcp := record.Data[14+20:]
			message := want[0]
			want = want[1:]
			assert.Equal(t, int(binary.BigEndian.Uint16(tcp[20:])), len(message))
			assert.Equal(t, message, tcp[22:])
			if len(want) == 1 {
				assert.Equal(t, next, binary.BigEndian.Uint32(tcp[4:]))
				next += uint32(len(message) + 2)
			} else {
				assert.Equal(t, next, binary.BigEndian.Uint32(tcp[8:]), "the reply acknowledges the question")
			}
		}
		assert.Empty(t, want)
	}
}
