package recording

import (
	"bytes"
	"io/fs"
	"testing"
	"unquil/core/capture"
	"unquil/lab"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCapturesAreWhatTheGeneratorWrites(t *testing.T) {
	for name, make := range Files {
		again, err := make()
		require.NoError(t, err)
		kept, err := fs.ReadFile(lab.Captures(), name)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(kept, again), "%s: run go run ./lab/generate lab/captures", name)
	}
}

// A large file is what was asked for, in either form: that many packets in the order of
// their time, as large as packets with messages are.
func TestWriteBig(t *testing.T) {
	for form, each := range map[Form]float64{Pcap: 150, Pcapng: 168} {
		var file bytes.Buffer
		require.NoError(t, WriteBig(&file, 20_000, form))
		assert.InDelta(t, each, float64(file.Len())/20_000, 10, "bytes a packet, with the file's own")
		r, err := capture.NewReader(&file)
		require.NoError(t, err)
		packets, last := 0, int64(0)
		for record, err := range r.Records() {
			require.NoError(t, err)
			require.GreaterOrEqual(t, record.At, last)
			packets, last = packets+1, record.At
		}
		assert.Equal(t, 20_000, packets)
	}
}
