package capture

import (
	"bytes"
	"io"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is written as a connection reads back as one, from its handshake to its end.
func TestStreamFrames(t *testing.T) {
	for name, ends := range map[string][2]netip.AddrPort{"IPv4": {client, server}, "IPv6": {client6, server6}} {
		t.Run(name, func(t *testing.T) {
			s := NewStream(ends[0], ends[1])
			frames := append(s.Open(), s.Append(nil, ends[0], message("question")), s.Append(nil, ends[1], message("answer")[:5]), s.Append(nil, ends[1], message("answer")[5:]))
			frames = append(frames, s.Close()...)
			var got []string
			streams := NewStreams(func(p *Packet) { got = append(got, p.From.String()+" "+string(p.Payload[12:])) })
			var d Decoder
			var flags []uint8
			for i, frame := range frames {
				var p Packet
				require.Equal(t, Segment, d.Decode(&Record{Number: i + 1, Link: Ethernet, Data: frame, Length: len(frame)}, &p))
				flags = append(flags, p.Flags&(SYN|FIN))
				streams.Segment(&p)
			}
			assert.Equal(t, []string{ends[0].String() + " question", ends[1].String() + " answer"}, got)
			assert.Equal(t, []uint8{SYN, SYN, 0, 0, 0, 0, FIN, FIN}, flags)
			assert.Zero(t, streams.Gaps)
		})
	}
}

func TestFragmentsAndErrorsAsWritten(t *testing.T) {
	frame := AppendFrame(nil, client, server, bytes.Repeat([]byte("question"), 200))
	var d Decoder
	var p Packet
	parts := Fragments(frame, 7, 800)
	for i, part := range parts {
		assert.Zero(t, checksum(part[14:34], nil), "the header's checksum is right")
		want := Fragment
		if i == 1 {
			want = Datagram
		}
		require.Equal(t, want, d.Decode(&Record{Number: i + 1, Link: Ethernet, Data: part, Length: len(part)}, &p))
	}
	assert.Len(t, p.Payload, 1600)
	problem := AppendICMP(nil, netip.MustParseAddr("192.0.2.1"), frame)
	require.Equal(t, ICMPError, d.Decode(&Record{Link: Ethernet, Data: problem, Length: len(problem)}, &p))
	assert.Equal(t, client, p.From.AddrPort())
	assert.Equal(t, "nothing listens there", p.Report.Says)
	assert.Zero(t, checksum(problem[34:], nil), "and so is that of the error")
}

// Packets of several link types go into one file, each to an interface of its own.
func TestRecordsOfManyLinks(t *testing.T) {
	var buf bytes.Buffer
	w, err := NewWriter(&buf, Ethernet)
	require.NoError(t, err)
	all := everyLink(t)
	for i, tt := range all {
		for _, frame := range tt.frames {
			require.NoError(t, w.Record(&Record{At: int64(i) * 1e9, Link: tt.link, Data: frame, Length: len(frame) + 10}, tt.name))
		}
	}
	r, err := NewReader(&buf)
	require.NoError(t, err)
	var d Decoder
	whole := 0
	last := LinkType(0)
	for record, err := range r.Records() {
		require.NoError(t, err)
		assert.Equal(t, len(record.Data)+10, record.Length)
		assert.NotEmpty(t, record.Comment)
		last = record.Link
		if d.Decode(record, &Packet{}) == Datagram {
			whole++
		}
	}
	assert.Equal(t, len(all), whole)
	assert.Equal(t, all[len(all)-1].link, last)
}

// What a writer says of its interfaces and losses is read back; what is beyond reason is not
// believed, and nothing of it is needed to read packets.
func TestStatistics(t *testing.T) {
	var buf bytes.Buffer
	w, err := NewSection(&buf)
	require.NoError(t, err)
	near, _ := w.Interface(Ethernet, "near")
	far, _ := w.Interface(RawIP, "far")
	frame := AppendFrame(nil, client, server, message("question"))
	require.NoError(t, w.Passed(far, &Record{At: 5, Data: frame[14:]}, Outbound))
	require.NoError(t, w.Statistics(near, 1_000, 3))
	require.NoError(t, w.Statistics(near, 2_000, 5))
	require.NoError(t, w.Statistics(far, 1_500, 2))
	require.NoError(t, w.Statistics(far, 1_600, 1<<63)) // as who does not know may write
	require.NoError(t, w.Statistics(9, 9_000, 9))       // of an interface that is not there
	w.block(statisticsBlock, []byte{1, 2, 3, 4})
	require.NoError(t, w.Passed(near, &Record{At: 6, Data: frame}, AnyWay))
	r, err := NewReader(&buf)
	require.NoError(t, err)
	var links []LinkType
	for record, err := range r.Records() {
		require.NoError(t, err)
		links = append(links, record.Link)
		assert.Nil(t, record.Comment)
	}
	assert.Equal(t, []LinkType{RawIP, Ethernet}, links)
	assert.EqualValues(t, 7, r.Lost())
	assert.EqualValues(t, 2_000, r.Clock())
	record := Record{At: 7, Data: frame}
	w.w = io.Discard
	assert.Zero(t, testing.AllocsPerRun(100, func() { w.Passed(near, &record, Inbound) }), "nothing is allocated for a packet")
}
