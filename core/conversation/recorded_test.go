package conversation

import (
	"bytes"
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/exchange"
	"unquil/core/serverlog"
	"unquil/core/wire"
)

// recordOf is dnstap with messages.
func recordOf(t *testing.T, messages ...serverlog.Message) []byte {
	var b bytes.Buffer
	w, err := serverlog.NewDnstapWriter(&b, "office")
	require.NoError(t, err)
	for _, m := range messages {
		require.NoError(t, w.Message(&m, serverlog.Client, m.Data[2]&0x80 != 0))
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

// What a record leaves out is not held against anybody: neither replies nor clients that are not recorded, nor times.
func TestRecordsAccuseNobody(t *testing.T) {
	client, nobody, office := netip.MustParseAddrPort("192.0.2.21:50000"), netip.MustParseAddrPort("0.0.0.0:0"), netip.MustParseAddrPort("192.0.2.53:53")
	said := func(id uint16, name string, flags wire.Flags, records ...wire.Record) []byte {
		m := wire.Message{ID: id, Flags: flags, Questions: []wire.Question{{Name: wire.MustParseName(name), Type: wire.A, Class: wire.IN}}, Answer: records}
		data, err := m.Bytes()
		require.NoError(t, err)
		return data
	}
	asks := func(at int64, id uint16, from netip.AddrPort, name string) serverlog.Message {
		return serverlog.Message{At: at, From: from, To: office, Data: said(id, name, wire.RD)}
	}
	replies := func(at int64, id uint16, to netip.AddrPort, name string, code wire.Flags) serverlog.Message {
		return serverlog.Message{At: at, From: office, To: to, Data: said(id, name, wire.QR|wire.RD|wire.RA|code)}
	}
	const second = int64(1e9)
	const begin = 1_700_000_000 * second
	var questions, failures, suffixes, alone []serverlog.Message
	for i := range int64(20) {
		id := uint16(i + 1)
		questions = append(questions, asks(begin+i*second, id, client, "www.hollowtarn.example."))
		name := fmt.Sprintf("host%d.example.hollowtarn.example.", i)
		failures = append(failures, asks(begin+i*second, id, nobody, "www.hollowtarn.example."), replies(begin+i*second+1e6, id, nobody, "www.hollowtarn.example.", wire.Flags(wire.ServFail)))
		suffixes = append(suffixes, asks(begin+i*1e8, id, nobody, name), replies(begin+i*1e8+1e6, id, nobody, name, wire.Flags(wire.NXDomain)))
		alone = append(alone, replies(begin+i*second, id, client, "www.hollowtarn.example.", 0))
	}
	for what, tt := range map[string]struct {
		messages []serverlog.Message
		outcome  exchange.Outcome
		not      []string
		timed    bool
	}{
		"questions without replies are open, and were not asked again": {questions, exchange.Open, []string{"unanswered", "repeated-query"}, false},
		"nobody asked again, if nobody is known":                       {failures, exchange.ServerFailure, []string{"repeated-query", "half-fails"}, true},
		"a search list is somebody's":                                  {suffixes, exchange.NoName, []string{"suffix-appended", "no-name-burst"}, true},
		"replies alone took no time":                                   {alone, exchange.NoData, []string{"unsolicited-reply", "slow"}, false},
	} {
		t.Run(what, func(t *testing.T) {
			r, err := capture.NewReader(bytes.NewReader(recordOf(t, tt.messages...)))
			require.NoError(t, err)
			o, err := Read(t.Context(), []*capture.Reader{r}, Options{})
			require.NoError(t, err)
			assert.Equal(t, map[exchange.Outcome]int{tt.outcome: 20}, o.Outcomes)
			for _, f := range o.Findings {
				assert.NotContains(t, tt.not, string(f.Code), f.Text)
			}
			servers, _ := o.Servers()
			require.Len(t, servers, 1)
			assert.Equal(t, tt.timed, servers[0].Stat.Latency.Count() > 0)
		})
	}
}

// How a message travelled is kept, whatever its port, and what is written as packets comes back so.
func TestRecordedTransports(t *testing.T) {
	ask := wire.Message{ID: 7, Flags: wire.RD, Questions: []wire.Question{{Name: wire.MustParseName("www.hollowtarn.example."), Type: wire.A, Class: wire.IN}}}
	query, err := ask.Bytes()
	require.NoError(t, err)
	ask.Flags |= wire.QR
	reply, err := ask.Bytes()
	require.NoError(t, err)
	for want, tt := range map[exchange.Transport]struct {
		over serverlog.Over
		port uint16
	}{exchange.UDP: {serverlog.UDP, 5353}, exchange.TCP: {serverlog.TCP, 53}, exchange.TLS: {serverlog.TLS, 853}, exchange.HTTPS: {serverlog.HTTPS, 443}, exchange.QUIC: {serverlog.QUIC, 853}} {
		t.Run(string(want), func(t *testing.T) {
			client, server := netip.MustParseAddrPort("[2001:db8::21]:50000"), netip.AddrPortFrom(netip.MustParseAddr("2001:db8::53"), tt.port)
			record := recordOf(t, serverlog.Message{At: 1e18, From: client, To: server, Over: tt.over, Data: query}, serverlog.Message{At: 1e18 + 5e6, From: server, To: client, Over: tt.over, Data: reply})
			var packets bytes.Buffer
			w, err := capture.NewWriter(&packets, capture.Ethernet)
			require.NoError(t, err)
			r, err := capture.NewReader(bytes.NewReader(record))
			require.NoError(t, err)
			for rec, err := range r.Records() {
				require.NoError(t, err)
				require.NoError(t, w.Record(rec, ""))
			}
			for _, content := range [][]byte{record, packets.Bytes()} {
				r, err := capture.NewReader(bytes.NewReader(content))
				require.NoError(t, err)
				o, err := Read(t.Context(), []*capture.Reader{r}, Options{})
				require.NoError(t, err)
				require.Len(t, o.Kept, 1)
				e := &o.Kept[0]
				assert.Equal(t, want, e.Transport())
				assert.Equal(t, exchange.NoData, e.Outcome)
				assert.Equal(t, []any{client, server, int64(5e6)}, []any{e.Client, e.Server.Address, int64(e.Took())})
			}
		})
	}
}
