package data

import (
	"encoding/json"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/conversation"
	"unquil/core/exchange"
	"unquil/core/wire"
	"unquil/lab"
)

func morning(t *testing.T, file string) *conversation.Overview {
	f, err := lab.Captures().Open(file)
	require.NoError(t, err)
	defer f.Close()
	r, err := capture.NewReader(f)
	require.NoError(t, err)
	o, err := conversation.Read(t.Context(), []*capture.Reader{r}, conversation.Options{})
	require.NoError(t, err)
	return o
}

// Every view of a capture is JSON with the keys that scripts read.
func TestCaptureJSON(t *testing.T) {
	for view, tt := range map[string]struct {
		file string
		key  string
		has  []string
	}{
		"overview":   {"valley-morning.pcapng", "", []string{"packets", "messages", "exchanges", "outcomes", "findings", "first", "last", "encrypted"}},
		"servers":    {"valley-morning.pcapng", "servers", []string{"rows", "exchanges_not_counted", "median", "p95", "unanswered"}},
		"names":      {"valley-morning.pcapng", "names", []string{"rows"}},
		"clients":    {"valley-morning.pcapng", "clients", []string{"rows", "peers"}},
		"episodes":   {"valley-morning.pcapng", "episodes", []string{"client", "begins", "took", "asked", "depth"}},
		"walks":      {"resolver-uplink.pcap", "walks", []string{"resolver", "steps", "ended", "for_exchange", "zone"}},
		"local-link": {"valley-morning.pcapng", "local_link", []string{"name", "claims", "askers", "alone"}},
		"timeline":   {"valley-morning.pcapng", "timeline", []string{"begins", "slot", "slots", "no_name"}},
	} {
		t.Run(view, func(t *testing.T) {
			text, err := json.Marshal(OfOverview(morning(t, tt.file), view))
			require.NoError(t, err)
			var back map[string]json.RawMessage
			require.NoError(t, json.Unmarshal(text, &back))
			part := text
			if tt.key != "" {
				require.Contains(t, back, tt.key)
				part = back[tt.key]
			}
			for _, key := range tt.has {
				assert.Contains(t, string(part), `"`+key+`"`)
			}
		})
	}
	empty, err := json.Marshal(OfOverview(&conversation.Overview{}, "overview"))
	require.NoError(t, err)
	assert.Contains(t, string(empty), `"findings":[]`)
	assert.NotContains(t, string(empty), `"first"`, "what is not known is not there")
}

// No cell of the CSV begins like a formula, and none holds a control byte.
func TestExchangeRow(t *testing.T) {
	at := time.Date(2026, 3, 9, 7, 40, 0, 0, time.UTC)
	e := &exchange.Exchange{Number: 3, Client: netip.MustParseAddrPort("192.0.2.21:50000"), Server: exchange.Server{Address: netip.MustParseAddrPort("192.0.2.53:53")},
		Question: wire.Question{Name: wire.MustParseName(`=cmd\027.example`), Type: wire.TXT, Class: wire.IN}, Outcome: exchange.NoReply,
		Attempts: []exchange.Attempt{{Transport: exchange.UDP, Sent: at}}}
	row := ExchangeRow(e)
	require.Len(t, row, len(ExchangeColumns))
	assert.Equal(t, `'=cmd\027.example.`, row[5])
	assert.Equal(t, "no-reply", row[7])
	assert.Empty(t, row[8], "nothing came, so nothing took any time")
	for _, cell := range row {
		assert.NotContains(t, cell, "\x1b")
	}
}
