package comparison

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// What is watched is told as OpenMetrics: outcomes, a histogram whose buckets add up, and what is left of answers,
// signatures and certificates; nothing where there is none.
func TestMetrics(t *testing.T) {
	now := time.Date(2026, 3, 9, 7, 40, 0, 0, time.UTC)
	m := NewMetrics(func() time.Time { return now })
	q := wire.Question{Name: wire.MustParseName(`a\"b.tarn.example`), Type: wire.A, Class: wire.IN}
	record := func(typ wire.Type, text string) wire.Record {
		data, err := wire.ParseRecordData(typ, wire.IN, text)
		require.NoError(t, err)
		return wire.Record{Name: q.Name, Type: typ, Class: wire.IN, TTL: 300, Data: data}
	}
	add := func(track *Track, took time.Duration, secure *exchange.Security, records ...wire.Record) {
		e := &exchange.Exchange{Server: track.Server, Question: q, Outcome: exchange.Answered, Reply: &wire.Message{Flags: wire.QR, Questions: []wire.Question{q}, Answer: records},
			Attempts: []exchange.Attempt{{Sent: now, Received: now.Add(took), Security: secure}}}
		if records == nil {
			e.Outcome, e.Reply = exchange.NoReply, nil
		}
		track.Add(now, e)
		m.Add(track, e)
	}
	office, isp := NewTrack(exchange.Server{Label: "office"}), NewTrack(exchange.Server{Label: "isp"})
	signature := record(wire.RRSIG, "A 13 3 300 20260310074000 20260301074000 1 tarn.example. AQID")
	add(office, 2*time.Millisecond, nil, record(wire.A, "192.0.2.1"), signature)
	add(office, 5*time.Second, nil, record(wire.A, "192.0.2.2"), signature)
	add(isp, time.Millisecond/2, &exchange.Security{NotAfter: now.Add(time.Hour)}, record(wire.A, "192.0.2.2"))
	var b strings.Builder
	require.NoError(t, m.Write(&b))
	labels := `{name="a\\\"b.tarn.example",type="A",server="office"`
	for _, line := range []string{
		"unquil_queries_total" + labels + `,outcome="answered"} 2`,
		"unquil_reply_seconds_bucket" + labels + `,le="0.001"} 0`,
		"unquil_reply_seconds_bucket" + labels + `,le="0.003"} 1`,
		"unquil_reply_seconds_bucket" + labels + `,le="3"} 1`,
		"unquil_reply_seconds_bucket" + labels + `,le="+Inf"} 2`,
		"unquil_reply_seconds_count" + labels + `} 2`,
		"unquil_changes_total" + labels + `} 1`,
		"unquil_ttl_left_seconds" + labels + `} 300`,
		"unquil_signature_left_seconds" + labels + `} 86400`,
		`unquil_certificate_left_seconds{name="a\\\"b.tarn.example",type="A",server="isp"} 3600`,
		`unquil_agreement{name="a\\\"b.tarn.example",type="A"} 1`,
	} {
		assert.Contains(t, b.String(), line+"\n")
	}
	assert.NotContains(t, b.String(), "unquil_certificate_left_seconds"+labels)
	add(isp, 0, nil)
	b.Reset()
	require.NoError(t, m.Write(&b))
	assert.Contains(t, b.String(), `server="isp",outcome="no-reply"} 1`)
	assert.Contains(t, b.String(), `unquil_agreement{name="a\\\"b.tarn.example",type="A"} 0`)
	assert.True(t, strings.HasSuffix(b.String(), "\n# EOF\n"))
}
