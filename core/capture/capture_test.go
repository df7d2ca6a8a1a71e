package capture

import (
	"bytes"
	"encoding/binary"
	"io"
	"net/netip"
	"slices"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var (
	client = netip.MustParseAddrPort("192.0.2.21:50000")
	server = netip.MustParseAddrPort("192.0.2.53:53")
	begin  = time.Date(2026, 3, 9, 7, 40, 0, 123456789, time.UTC)
)

// pcap builds a classic file of frames, one second apart.
func pcap(order binary.AppendByteOrder, magic uint32, link LinkType, snap int, frames ...[]byte) []byte {
	out := order.AppendUint32(nil, magic)
	out = order.AppendUint16(order.AppendUint16(out, 2), 4)
	out = append(out, make([]byte, 8)...)
	out = order.AppendUint32(order.AppendUint32(out, 65535), uint32(link))
	for i, frame := range frames {
		kept := frame[:min(len(frame), snap)]
		fraction := uint32(begin.Nanosecond())
		if magic == 0xa1b2c3d4 {
			fraction /= 1000
		}
		out = order.AppendUint32(out, uint32(begin.Unix()+int64(i)))
		out = order.AppendUint32(out, fraction)
		out = order.AppendUint32(out, uint32(len(kept)))
		out = append(order.AppendUint32(out, uint32(len(frame))), kept...)
	}
	return out
}

// pcapng is a file of frames; every other one has a comment.
func pcapng(t testing.TB, frames ...[]byte) []byte {
	var buf bytes.Buffer
	w, err := NewWriter(&buf, Ethernet)
	require.NoError(t, err)
	for i, frame := range frames {
		require.NoError(t, w.Packet(begin.Add(time.Duration(i)*time.Second), frame, []string{"a comment", ""}[i%2]))
	}
	return buf.Bytes()
}

// read returns the datagrams of a file, and how it ended.
func read(data []byte) (packets []Packet, err error) {
	r, err := NewReader(bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	var decoder Decoder
	for record, err := range r.Records() {
		if err != nil {
			return packets, err
		}
		var p Packet
		if decoder.Decode(record, &p) == Datagram {
			p.Payload = bytes.Clone(p.Payload)
			packets = append(packets, p)
		}
	}
	return packets, nil
}

func TestReadEveryFormat(t *testing.T) {
	frame := AppendFrame(nil, client, server, []byte("question"))
	six := AppendFrame(nil, netip.MustParseAddrPort("[2001:db8::21]:50000"), netip.MustParseAddrPort("[2001:db8::53]:53"), []byte("question"))
	tagged := append(append(append([]byte{}, frame[:12]...), 0x81, 0, 0, 7), frame[12:]...)
	little, big := binary.AppendByteOrder(binary.LittleEndian), binary.AppendByteOrder(binary.BigEndian)
	micro := begin.Truncate(time.Microsecond)
	for _, tt := range []struct {
		name string
		file []byte
		at   time.Time
		cut  bool
	}{
		{"pcap, microseconds, little-endian", pcap(little, 0xa1b2c3d4, Ethernet, 65535, frame), micro, false},
		{"pcap, microseconds, big-endian", pcap(big, 0xa1b2c3d4, Ethernet, 65535, frame), micro, false},
		{"pcap, nanoseconds", pcap(little, 0xa1b23c4d, Ethernet, 65535, frame), begin, false},
		{"pcapng", pcapng(t, frame), begin, false},
		{"IPv6", pcapng(t, six), begin, false},
		{"a VLAN tag", pcapng(t, tagged), begin, false},
		{"no link layer", pcap(big, 0xa1b23c4d, RawIP, 65535, frame[14:]), begin, false},
		{"cut by the snap length", pcap(little, 0xa1b23c4d, Ethernet, len(frame)-3, frame), begin, true},
		{"padded to the least frame size", pcapng(t, append(bytes.Clone(frame), make([]byte, 18)...)), begin, false},
	} {
		t.Run(tt.name, func(t *testing.T) {
			packets, err := read(tt.file)
			require.NoError(t, err)
			require.Len(t, packets, 1)
			p := packets[0]
			assert.Equal(t, tt.at, p.Time())
			assert.Equal(t, uint16(50000), p.From.Port())
			assert.Equal(t, uint16(53), p.To.Port())
			assert.Equal(t, tt.cut, p.Cut)
			assert.Equal(t, "question"[:len(p.Payload)], string(p.Payload))
		})
	}
}

func TestBadFiles(t *testing.T) {
	frame := AppendFrame(nil, client, server, []byte("question"))
	whole := pcap(binary.LittleEndian, 0xa1b2c3d4, Ethernet, 65535, frame, frame)
	huge := bytes.Clone(whole)
	binary.LittleEndian.PutUint32(huge[24+8:], 1<<30)
	ng := pcapng(t, frame, frame)
	mismatch := bytes.Clone(ng)
	mismatch[len(mismatch)-1] = 9
	for _, tt := range []struct {
		name string
		file []byte
		read int // packets before the trouble
		err  error
	}{
		{"empty", nil, 0, ErrEmpty},
		{"not a capture", []byte("Hollow Tarn Cableways"), 0, ErrFormat},
		{"three bytes", []byte{1, 2, 3}, 0, ErrFormat},
		{"only a magic number", whole[:4], 0, ErrCut},
		{"cut in the second packet", whole[:len(whole)-1], 1, ErrCut},
		{"cut in a packet header", whole[:24+16+len(frame)+3], 1, ErrCut},
		{"a packet of a gigabyte", huge, 0, ErrDamaged},
		{"pcapng cut in the second packet", ng[:len(ng)-1], 1, ErrCut},
		{"pcapng whose block lengths differ", mismatch, 1, ErrDamaged},
	} {
		t.Run(tt.name, func(t *testing.T) {
			packets, err := read(tt.file)
			require.ErrorIs(t, err, tt.err)
			assert.Len(t, packets, tt.read)
		})
	}
}

func TestContents(t *testing.T) {
	frame := AppendFrame(nil, client, server, []byte("question"))
	change := func(at int, to byte) []byte {
		b := bytes.Clone(frame)
		b[at] = to
		return b
	}
	for name, tt := range map[string]struct {
		frame []byte
		want  Contents
		fault string
	}{
		"a datagram":                    {frame, Datagram, ""},
		"ARP":                           {change(13, 6), Other, ""},
		"TCP that is too short":         {change(14+9, 6), Malformed, "TCP at byte 34: the packet ends too soon"},
		"a fragment":                    {change(14+7, 1), Fragment, ""},
		"an odd fragment":               {change(14+6, 0x20)[:14+20+13], Malformed, "fragment at byte 34: the packet ends too soon"},
		"an IP header too short":        {change(14, 0x44), Malformed, "IPv4 at byte 14: its header is said to be smaller than it can be"},
		"IP version 7":                  {change(14, 0x75), Malformed, "IP at byte 14: it is of neither IP version"},
		"a UDP length over the packet":  {change(14+20+4, 0x40), Malformed, "UDP at byte 34: it is said to be larger than what carries it"},
		"a UDP length under its header": {change(14+20+5, 3), Malformed, "UDP at byte 34: it is said to be smaller than its header"},
		"half an Ethernet header":       {frame[:10], Malformed, "Ethernet at byte 0: the packet ends too soon"},
	} {
		var d Decoder
		r := Record{Link: Ethernet, Data: tt.frame, Length: len(tt.frame)}
		assert.Equal(t, tt.want, d.Decode(&r, &Packet{}), name)
		if tt.want == Malformed {
			assert.EqualError(t, d.Fault(), tt.fault, name)
		}
	}
}

func TestChecksums(t *testing.T) {
	for _, frame := range [][]byte{AppendFrame(nil, client, server, []byte("odd")), AppendFrame(nil, client, server, []byte("even"))} {
		ip := frame[14:]
		assert.Zero(t, checksum(ip[:20], nil), "an IPv4 header with its checksum sums to zero")
		pseudo := append(bytes.Clone(ip[12:20]), 0, 17, ip[24], ip[25])
		assert.Zero(t, checksum(pseudo, ip[20:]))
	}
}

// Whatever bytes come, of whatever link type, reading them ends without a panic.
func FuzzReader(f *testing.F) {
	frame := AppendFrame(nil, client, server, []byte("question"))
	f.Add(pcapng(f, frame, frame), uint16(1))
	f.Add(pcap(binary.BigEndian, 0xa1b2c3d4, Ethernet, 50, frame, frame), uint16(1))
	for _, tt := range everyLink(f) {
		f.Add(pcap(binary.LittleEndian, 0xa1b23c4d, tt.link, 65535, tt.frames...), uint16(tt.link))
	}
	f.Fuzz(func(t *testing.T, data []byte, link uint16) {
		r, err := NewReader(bytes.NewReader(data))
		if err != nil {
			return
		}
		if len(data) > 1<<16 {
			return // what unpacks to much takes long
		}
		var layers []Layer
		decoder, quick := Decoder{Torn: func(*Packet) {}, Layers: &layers}, Decoder{Torn: func(*Packet) {}}
		streams := NewStreams(func(p *Packet) { require.LessOrEqual(t, len(p.Payload), 65535) })
		for record, err := range r.Records() {
			if err != nil {
				break
			}
			require.LessOrEqual(t, len(record.Data), record.Length)
			record.Link = LinkType(link)
			var p, short Packet
			layers = layers[:0]
			contents := decoder.Decode(record, &p)
			end := 0
			for _, l := range layers {
				if l.Offset >= 0 {
					require.GreaterOrEqual(t, l.Offset, end, "no byte is in two headers")
					end = l.Offset + l.Size
				}
			}
			switch contents {
			case Malformed:
				end = max(end, decoder.Fault().Offset)
			case Datagram, Segment, ICMPError:
				if at := decoder.Offset(p.Payload); at >= 0 {
					require.GreaterOrEqual(t, at, end)
					end = at + len(p.Payload)
				}
			}
			require.LessOrEqual(t, end, len(record.Data))
			require.Equal(t, contents, quick.Decode(record, &short), "the short way leads to the same")
			require.Equal(t, p, short)
			if contents == Segment {
				streams.Segment(&p)
			}
		}
		decoder.Close()
		streams.Close()
		whole, _ := datagrams(data, false)
		shortest, _ := datagrams(data, true)
		require.Equal(t, whole, shortest, "and so does the shortest")
	})
}

// datagrams are those of a file, taken one by one: in one go where that can be, and how
// many that were.
func datagrams(data []byte, quick bool) (all []Packet, plain int) {
	r, err := NewReader(bytes.NewReader(data))
	if err != nil {
		return nil, 0
	}
	var batch Batch
	var record Record
	decoder := Decoder{Torn: func(*Packet) {}}
	for more := true; more; {
		more = r.Fill(&batch)
		r.Begin(&batch)
		for {
			var p Packet
			if quick && !decoder.Waits() {
				count := r.Plains(&batch, func(number int, at int64, _ Place, h Header, payload []byte) {
					p.Plain(number, at, h, payload)
					p.Payload = bytes.Clone(p.Payload)
					all = append(all, p)
				})
				if plain += count; count > 0 {
					continue
				}
			}
			if !r.Next(&batch, &record) {
				break
			}
			if p = (Packet{}); decoder.Decode(&record, &p) == Datagram {
				p.Payload = bytes.Clone(p.Payload)
				all = append(all, p)
			}
		}
	}
	return all, plain
}

// Plain datagrams are taken in one go wherever they are, and come out as they do one by one.
func TestPlains(t *testing.T) {
	frame := AppendFrame(nil, client, server, []byte("question"))
	options := append(bytes.Clone(frame[:14]), append([]byte{0x46, 0, 0, 40}, append(bytes.Clone(frame[18:34]), append([]byte{1, 1, 1, 1}, frame[34:]...)...)...)...)
	four := [][]byte{frame, frame, options, frame}
	six := AppendFrame(nil, netip.MustParseAddrPort("[2001:db8:2::21]:50000"), netip.MustParseAddrPort("[2001:db8:2::53]:53"), []byte("question"))
	extended := append(bytes.Clone(six[:14+6]), append([]byte{60, 64}, append(bytes.Clone(six[14+8:14+40]), append([]byte{17, 0, 1, 4, 0, 0, 0, 0}, six[14+40:]...)...)...)...)
	extended[14+5] += 8
	for name, tt := range map[string]struct {
		data []byte
		want int
	}{
		"pcap":                                {pcap(binary.LittleEndian, 0xa1b2c3d4, Ethernet, 65535, four...), 3},
		"pcapng: half have comments":          {pcapng(t, four...), 2},
		"IPv6, once with an extension header": {pcap(binary.LittleEndian, 0xa1b2c3d4, Ethernet, 65535, six, extended, six, frame), 3},
		"the other byte order":                {pcap(binary.BigEndian, 0xa1b2c3d4, Ethernet, 65535, four...), 0},
		"cut":                                 {pcap(binary.LittleEndian, 0xa1b2c3d4, Ethernet, 44, four...), 0},
		"another link":                        {pcap(binary.LittleEndian, 0xa1b2c3d4, RawIP, 65535, four...), 0},
	} {
		whole, none := datagrams(tt.data, false)
		quick, plain := datagrams(tt.data, true)
		assert.Equal(t, whole, quick, name)
		assert.Equal(t, []int{0, tt.want}, []int{none, plain}, name)
		if tt.want > 0 {
			assert.Len(t, quick, len(four), name)
		}
	}
}

// A file comes out the same, in whatever pieces it is read, and however large its
// packets are.
func TestPieces(t *testing.T) {
	var frames [][]byte
	for _, size := range []int{60, 1500, maxPacket, 60, 300_000 - maxPacket, 9000, maxPacket, 60} {
		frames = append(frames, bytes.Repeat([]byte{byte(size)}, size))
	}
	small := slices.DeleteFunc(slices.Clone(frames), func(f []byte) bool { return len(f) > 9000 })
	for name, tt := range map[string]struct {
		frames [][]byte
		in     func(io.Reader) io.Reader
	}{
		"at once":        {frames, func(r io.Reader) io.Reader { return r }},
		"half by half":   {frames, iotest.HalfReader},
		"with the end":   {frames, iotest.DataErrReader},
		"byte by byte":   {small, iotest.OneByteReader},
		"after an error": {frames, func(r io.Reader) io.Reader { return io.MultiReader(r, iotest.ErrReader(io.ErrClosedPipe)) }},
	} {
		for format, data := range map[string][]byte{"pcap": pcap(binary.LittleEndian, 0xa1b2c3d4, Ethernet, maxPacket, tt.frames...), "pcapng": pcapng(t, tt.frames...)} {
			r, err := NewReader(tt.in(bytes.NewReader(data)))
			require.NoError(t, err, "%s %s", format, name)
			n := 0
			for record, err := range r.Records() {
				if err != nil {
					assert.ErrorIs(t, err, io.ErrClosedPipe)
					assert.Equal(t, "after an error", name)
					break
				}
				require.Equal(t, tt.frames[n], record.Data, "%s %s", format, name)
				n++
				require.Equal(t, n, record.Number)
			}
			assert.Equal(t, len(tt.frames), n, "%s %s", format, name)
			assert.Equal(t, int64(len(data)), r.Offset(), "%s %s", format, name)
		}
	}
}

func morning(b testing.TB, packets int) []byte {
	frame := AppendFrame(nil, client, server, bytes.Repeat([]byte("q"), 100))
	frames := make([][]byte, packets)
	for i := range frames {
		frames[i] = frame
	}
	return pcapng(b, frames...)
}

// drain reads all packets of a file and allocates nothing for any of them.
func drain(file io.Reader) (n int) {
	r, err := NewReader(file)
	if err != nil {
		return 0
	}
	var p Packet
	var decoder Decoder
	for record := range r.Records() {
		if record != nil && decoder.Decode(record, &p) == Datagram {
			n++
		}
	}
	return n
}

func TestReadingAllocatesNothingForAPacket(t *testing.T) {
	few, many := morning(t, 2_000), morning(t, 4_000)
	count := func(file []byte) float64 { return testing.AllocsPerRun(5, func() { drain(bytes.NewReader(file)) }) }
	assert.Less(t, (count(many)-count(few))/2_000, 0.01, "allocations a packet")
}

func BenchmarkRecords(b *testing.B) {
	file := morning(b, 10_000)
	b.SetBytes(int64(len(file)))
	b.ReportAllocs()
	for b.Loop() {
		if drain(bytes.NewReader(file)) != 10_000 {
			b.Fatal("packets are missing")
		}
	}
}
