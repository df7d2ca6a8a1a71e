package data

import (
	"bytes"
	"io"
	"maps"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/conversation"
	"unquil/core/exchange"
	"unquil/core/wire"
	"unquil/lab/recording"
)

// Each exchange is a row, and a row says what the exchange does: in one file, and in many of a folder.
func TestColumns(t *testing.T) {
	for what, split := range map[string]Split{"one file": {}, "by time": {Every: 10 * time.Minute}, "by time and size": {Every: time.Hour, Bytes: 1}} {
		t.Run(what, func(t *testing.T) {
			files := map[string]*bytes.Buffer{}
			c := NewColumns(split, func(name string) (io.WriteCloser, error) {
				assert.NotContains(t, files, name)
				files[name] = &bytes.Buffer{}
				return nowhere{files[name]}, nil
			})
			want := map[int64]exchange.Exchange{}
			findings := map[int64]int{}
			o := reading(t, "valley-morning.pcapng", conversation.Options{Keep: -1, Each: func(tr *conversation.Transaction) {
				require.NoError(t, c.Add(tr))
				want[int64(tr.Number)], findings[int64(tr.Number)] = tr.Exchange(), len(tr.Codes)
			}})
			require.NoError(t, c.Close())
			assert.Equal(t, o.Exchanges, c.Count)
			if split.Every == 10*time.Minute {
				assert.ElementsMatch(t, []string{"date=2026-03-09/hour=07/minute=40/00001.parquet", "date=2026-03-09/hour=07/minute=50/00001.parquet"}, slices.Collect(maps.Keys(files)))
			}
			seen := 0
			for _, file := range files {
				rows, err := parquet.Read[ColumnRow](bytes.NewReader(file.Bytes()), int64(file.Len()))
				require.NoError(t, err)
				assert.True(t, slices.IsSortedFunc(rows, func(a, b ColumnRow) int { return a.Time.Compare(b.Time) }))
				for _, row := range rows {
					seen++
					e := want[row.Number]
					assert.Equal(t, []any{e.Sent(), e.Client.Addr().String(), e.Server.Address.Addr().String(), string(e.Transport()), e.Question.Name.String(), e.Question.Type.String(), string(e.Outcome), e.Sends(), findings[row.Number]},
						[]any{row.Time.UTC(), row.Client, row.Server, row.Transport, row.Name, row.Type, row.Outcome, int(row.Attempts), len(row.Findings)})
					assert.ElementsMatch(t, exchange.Values(e.Answer().Records), row.Values)
					if e.Reply == nil {
						assert.Nil(t, row.Latency)
						assert.Nil(t, row.RCode)
					} else {
						assert.Equal(t, int64(e.Took()), *row.Latency)
						assert.Equal(t, e.Reply.RCode().String(), *row.RCode)
					}
					assert.Equal(t, row.Client, netip.AddrFrom16(row.ClientBytes).Unmap().String())
				}
			}
			assert.Equal(t, len(want), seen)
		})
	}
	failing := NewColumns(Split{}, func(string) (io.WriteCloser, error) { return nil, io.ErrClosedPipe })
	assert.ErrorIs(t, failing.Close(), io.ErrClosedPipe)
}

// What is remembered of names stays true when the messages that they were read from are gone, and their memory is
// used for others.
func TestColumnsRememberNames(t *testing.T) {
	var file bytes.Buffer
	_, err := recording.WriteVaried(&file, 10_000, recording.Pcap)
	require.NoError(t, err)
	c := NewColumns(Split{}, func(string) (io.WriteCloser, error) { return nowhere{io.Discard}, nil })
	r, err := capture.NewReader(&file)
	require.NoError(t, err)
	_, err = conversation.Read(t.Context(), []*capture.Reader{r}, conversation.Options{Keep: -1, Each: func(tr *conversation.Transaction) { require.NoError(t, c.Add(tr)) }})
	require.NoError(t, err)
	require.NoError(t, c.Close())
	require.Greater(t, len(c.names), 1000)
	for name, s := range c.names {
		require.Equal(t, name.String(), s.text)
		require.Equal(t, sorted(name), s.sorted)
	}
}

// Names sort by their domains, whatever is in their labels.
func TestNameSort(t *testing.T) {
	for name, want := range map[string]string{".": "", "www.Hollowtarn.example.": "example.hollowtarn.www", `a\.b.c.`: `c.a\.b`, `a\\.b.`: `b.a\\`, "test.": "test"} {
		assert.Equal(t, want, sorted(wire.MustParseName(name)), name)
	}
}

type nowhere struct{ io.Writer }

func (nowhere) Close() error { return nil }

// BenchmarkColumns says how fast a busy network's exchanges become Parquet.
func BenchmarkColumns(b *testing.B) {
	var file bytes.Buffer
	_, err := recording.WriteVaried(&file, 400_000, recording.Pcap)
	require.NoError(b, err)
	b.SetBytes(int64(file.Len()))
	for b.Loop() {
		c := NewColumns(Split{}, func(string) (io.WriteCloser, error) { return nowhere{io.Discard}, nil })
		r, err := capture.NewReader(bytes.NewReader(file.Bytes()))
		require.NoError(b, err)
		_, err = conversation.Read(b.Context(), []*capture.Reader{r}, conversation.Options{Keep: -1, Each: func(t *conversation.Transaction) { require.NoError(b, c.Add(t)) }})
		require.NoError(b, err)
		require.NoError(b, c.Close())
	}
}
