package data

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"io/fs"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/conversation"
	"unquil/core/exchange"
	"unquil/core/wire"
	"unquil/lab"
	"unquil/lab/recording"
)

func morning(t *testing.T, file string) *conversation.Overview {
	return reading(t, file, conversation.Options{})
}

func reading(t *testing.T, file string, options conversation.Options) *conversation.Overview {
	f, err := lab.Captures().Open(file)
	require.NoError(t, err)
	defer f.Close()
	r, err := capture.NewReader(f)
	require.NoError(t, err)
	o, err := conversation.Read(t.Context(), []*capture.Reader{r}, options)
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
	e := exchange.Exchange{Number: 3, Client: netip.MustParseAddrPort("192.0.2.21:50000"), Server: exchange.Server{Address: netip.MustParseAddrPort("192.0.2.53:53")},
		Question: wire.Question{Name: wire.MustParseName(`=cmd\027.example`), Type: wire.TXT, Class: wire.IN}, Outcome: exchange.NoReply,
		Attempts: []exchange.Attempt{{Transport: exchange.UDP, Sent: at}}}
	var b bytes.Buffer
	rows := NewRows(&b)
	require.NoError(t, rows.Write(ExchangeRow(&e)...))
	require.NoError(t, rows.Write("a,b", ` "c"`, "@d,e", "\x1b", ""))
	reader := csv.NewReader(&b)
	reader.FieldsPerRecord = -1
	all, err := reader.ReadAll()
	require.NoError(t, err)
	assert.Equal(t, []string{"a,b", ` "c"`, "'@d,e", `\027`, ""}, all[1])
	row := all[0]
	require.Len(t, row, len(ExchangeColumns))
	assert.Equal(t, `'=cmd\027.example.`, row[7])
	assert.Equal(t, "no-reply", row[9])
	assert.Empty(t, row[10], "nothing came, so nothing took any time")
	for _, cell := range row {
		assert.NotContains(t, cell, "\x1b")
	}
}

// What is written straight from the packets is what the types and columns say, whatever came in.
func TestPairs(t *testing.T) {
	var varied bytes.Buffer
	_, err := recording.WriteVaried(&varied, 20_000, recording.Pcap)
	require.NoError(t, err)
	morning, err := fs.ReadFile(lab.Captures(), "valley-morning.pcapng")
	require.NoError(t, err)
	uplink, err := fs.ReadFile(lab.Captures(), "resolver-uplink.pcap")
	require.NoError(t, err)
	var copies conversation.Copies
	for name, file := range map[string][]byte{"varied": varied.Bytes(), "morning": morning, "uplink": uplink} {
		t.Run(name, func(t *testing.T) {
			r, err := capture.NewReader(bytes.NewReader(file))
			require.NoError(t, err)
			var lines, rows, quickLines, quickRows bytes.Buffer
			encoder, table := NewEncoder(&lines), NewRows(&rows)
			require.NoError(t, table.Write(ExchangeColumns...))
			pairs, columns := NewPairs(&quickLines, false, false), NewPairs(&quickRows, true, false)
			count := 0
			_, err = conversation.Read(t.Context(), []*capture.Reader{r}, conversation.Options{Keep: -1, Each: func(x *conversation.Transaction) {
				e := x.Exchange()
				require.NoError(t, encoder.Encode(OfPaired(&e, x.Line())))
				require.NoError(t, table.Write(ExchangeRow(&e)...))
				require.NoError(t, pairs.Write(x, nil))
				require.NoError(t, columns.Write(x, nil))
				copies.Add(x)
				count++
			}})
			require.NoError(t, err)
			require.NoError(t, pairs.End(nil))
			require.NoError(t, columns.End(nil))
			require.Positive(t, count)
			assert.Equal(t, strings.Split(lines.String(), "\n"), strings.Split(quickLines.String(), "\n"))
			assert.Equal(t, strings.Split(rows.String(), "\n"), strings.Split(quickRows.String(), "\n"))
		})
	}
	encoder := pairEncoder{second: -1}
	allocations := testing.AllocsPerRun(1, func() {
		for i := range copies.All() {
			encoder.out = encoder.out[:0]
			require.NoError(t, encoder.line(&copies.All()[i], nil))
		}
	})
	assert.Less(t, allocations/float64(len(copies.All())), 2.0)
}

// BenchmarkPairs is how fast exchanges are written, by bytes of JSON.
func BenchmarkPairs(b *testing.B) {
	var varied bytes.Buffer
	_, err := recording.WriteVaried(&varied, 20_000, recording.Pcap)
	require.NoError(b, err)
	r, err := capture.NewReader(&varied)
	require.NoError(b, err)
	var copies conversation.Copies
	_, err = conversation.Read(b.Context(), []*capture.Reader{r}, conversation.Options{Keep: -1, Each: copies.Add})
	require.NoError(b, err)
	all := copies.All()
	encoder := pairEncoder{second: -1}
	b.ReportAllocs()
	for i := 0; b.Loop(); i++ {
		encoder.out = encoder.out[:0]
		require.NoError(b, encoder.line(&all[i%len(all)], nil))
		b.SetBytes(int64(len(encoder.out)))
	}
}
