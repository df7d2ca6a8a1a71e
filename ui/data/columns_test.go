package data

import (
	"bytes"
	"io"
	"testing"

	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/conversation"
	"unquil/lab/recording"
)

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
