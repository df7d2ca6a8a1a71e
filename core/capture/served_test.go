package capture

import (
	"bytes"
	"encoding/binary"
	"io"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/serverlog"
)

// recordFile is dnstap with one message.
func recordFile(t *testing.T) []byte {
	var b bytes.Buffer
	w, err := serverlog.NewDnstapWriter(&b, "office")
	require.NoError(t, err)
	require.NoError(t, w.Message(&serverlog.Message{At: 5e9, From: netip.MustParseAddrPort("192.0.2.21:50000"), To: netip.MustParseAddrPort("192.0.2.53:53"), Data: make([]byte, 12)}, serverlog.Client, false))
	require.NoError(t, w.Close())
	return b.Bytes()
}

// What a file is shows by its beginning; what only begins like a record is none.
func TestRecordsAreKnownByTheirBeginning(t *testing.T) {
	record := recordFile(t)
	for what, tt := range map[string]struct {
		file []byte
		err  error
	}{
		"dnstap":               {record, nil},
		"C-DNS":                {[]byte("\x83\x65C-DNS\xa3\x00\x01\x01\x00\x03\x80\x80"), nil},
		"zeros":                {make([]byte, 100), ErrFormat},
		"four zeros":           {make([]byte, 4), ErrFormat},
		"another CBOR":         {[]byte("\x83\x65C+DNS\xa3\x00\x01\x01\x00\x03\x80\x80"), ErrFormat},
		"a frame of data":      {record[len(record)-12:], nil}, // STOP alone is no beginning, and is told of when it is read
		"a control frame that": {[]byte{0, 0, 0, 0, 0, 0, 0, 4, 0, 0, 0, 9}, ErrFormat},
	} {
		t.Run(what, func(t *testing.T) {
			_, err := NewReader(bytes.NewReader(tt.file))
			assert.ErrorIs(t, err, tt.err)
		})
	}
}

// A record is read in whatever pieces it comes, and says how far reading has come.
func TestRecordsInPieces(t *testing.T) {
	record := recordFile(t)
	r, err := NewReader(oneByte{bytes.NewReader(record)})
	require.NoError(t, err)
	count := 0
	for rec, err := range r.Records() {
		require.NoError(t, err)
		count++
		assert.Equal(t, Served, rec.Link)
		assert.Equal(t, int64(5e9), rec.At)
		assert.Contains(t, string(rec.Comment), "client-query of office")
		var p Packet
		assert.Equal(t, Datagram, new(Decoder).Decode(rec, &p))
		assert.Equal(t, "192.0.2.21:50000 192.0.2.53:53", p.From.String()+" "+p.To.String())
	}
	assert.Equal(t, 1, count)
	assert.Equal(t, int64(len(record)), r.Offset())
}

type oneByte struct{ io.Reader }

func (o oneByte) Read(b []byte) (int, error) { return o.Reader.Read(b[:min(len(b), 1)]) }

// A file cannot pass its own packets off as records of a server.
func TestFilesHaveNoRecords(t *testing.T) {
	frame := make([]byte, servedHeader+12)
	for what, file := range map[string][]byte{
		"pcap": pcap(binary.LittleEndian, 0xa1b2c3d4, Served, 65535, frame),
	} {
		r, err := NewReader(bytes.NewReader(file))
		require.NoError(t, err)
		for rec, err := range r.Records() {
			require.NoError(t, err)
			assert.Equal(t, Unknown, new(Decoder).Decode(rec, new(Packet)), what)
		}
	}
	var p Packet
	assert.Equal(t, Malformed, new(Decoder).Decode(&Record{Link: Served, Data: frame[:5], Length: 5}, &p), "and a record that is cut is none")
}
