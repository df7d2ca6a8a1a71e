package evidence_test

import (
	"bytes"
	"encoding/binary"
	"net/netip"
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
