package capture

import (
	"bytes"
	"context"
	"encoding/binary"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/escape"
)

var (
	client6 = netip.MustParseAddrPort("[2001:db8::21]:50000")
	server6 = netip.MustParseAddrPort("[2001:db8::53]:53")
)

// cat puts byte strings one behind the other.
func cat(all ...[]byte) []byte { return slices.Concat(all...) }

// wrapped is a question on a link type, or in a tunnel.
type wrapped struct {
	name   string
	link   LinkType
	frames [][]byte
}

// everyLink has the same question behind everything that can stand before it.
func everyLink(t testing.TB) []wrapped {
	frame := AppendFrame(nil, client, server, []byte("question"))
	frame6 := AppendFrame(nil, client6, server6, []byte("question"))
	ip, ip6, head := frame[14:], frame6[14:], frame[:12]
	snap := []byte{0xaa, 0xaa, 3, 0, 0, 0, 8, 0}
	wifi := func(control, flags byte, more int) []byte {
		return cat([]byte{control, flags}, make([]byte, 22+more), snap, ip)
	}
	outer := func(protocol byte, body []byte) []byte {
		header := bytes.Clone(ip[:20])
		header[9] = protocol
		binary.BigEndian.PutUint16(header[2:], uint16(20+len(body)))
		return cat(head, []byte{8, 0}, header, body)
	}
	withOptions := cat([]byte{0x46}, ip[1:20], []byte{1, 1, 1, 0}, ip[20:])
	binary.BigEndian.PutUint16(withOptions[2:], uint16(len(withOptions)))
	extended := cat(ip6[:40], []byte{60, 0, 1, 4, 0, 0, 0, 0}, []byte{17, 0, 1, 4, 0, 0, 0, 0}, ip6[40:])
	extended[6] = 0
	binary.BigEndian.PutUint16(extended[4:], uint16(len(extended)-40))
	vxlan := AppendFrame(nil, client, netip.MustParseAddrPort("192.0.2.1:4789"), cat([]byte{8, 0, 0, 0, 0, 0, 7, 0}, frame))
	return []wrapped{
		{"Ethernet", Ethernet, [][]byte{frame}},
		{"a VLAN tag", Ethernet, [][]byte{cat(head, []byte{0x81, 0, 0, 7}, frame[12:])}},
		{"two tags", Ethernet, [][]byte{cat(head, []byte{0x88, 0xa8, 0, 7, 0x81, 0, 0, 8}, frame[12:])}},
		{"MPLS, two labels", Ethernet, [][]byte{cat(head, []byte{0x88, 0x47, 0, 1, 0, 64, 0, 2, 1, 64}, ip)}},
		{"PPPoE", Ethernet, [][]byte{cat(head, []byte{0x88, 0x64, 0x11, 0, 0, 7, 0, byte(len(ip) + 2), 0, 0x21}, ip)}},
		{"PPP", PPP, [][]byte{cat([]byte{0xff, 3, 0, 0x21}, ip)}},
		{"PPP with a short protocol number", PPP, [][]byte{cat([]byte{0x57}, ip6)}},
		{"PPPoE without Ethernet", PPPoE, [][]byte{cat([]byte{0x11, 0, 0, 7, 0, 9, 0, 0x21}, ip)}},
		{"raw IPv4", RawIP, [][]byte{ip}},
		{"raw IPv6", RawIP, [][]byte{ip6}},
		{"BSD loopback, little-endian", Null, [][]byte{cat([]byte{2, 0, 0, 0}, ip)}},
		{"BSD loopback, big-endian", Loop, [][]byte{cat([]byte{0, 0, 0, 30}, ip6)}},
		{"Linux cooked", Cooked, [][]byte{cat([]byte{0, 4, 0, 1, 0, 6}, make([]byte, 8), []byte{8, 0}, ip)}},
		{"Linux cooked, version 2", Cooked2, [][]byte{cat([]byte{0x86, 0xdd, 0, 0}, make([]byte, 16), ip6)}},
		{"IEEE 802.11", WiFi, [][]byte{wifi(0x08, 1, 0)}},
		{"IEEE 802.11 with quality of service, between bridges", WiFi, [][]byte{wifi(0x88, 3, 8)}},
		{"radiotap", WiFiRadio, [][]byte{cat([]byte{0, 0, 12, 0, 0, 0, 0, 0, 1, 2, 3, 4}, wifi(0x08, 2, 0))}},
		{"IPv4 with options", RawIP, [][]byte{withOptions}},
		{"IPv6 with extension headers", RawIP, [][]byte{extended}},
		{"IPv4 in IPv4", Ethernet, [][]byte{outer(4, ip)}},
		{"IPv6 in IPv4", Ethernet, [][]byte{outer(41, ip6)}},
		{"GRE with a key", Ethernet, [][]byte{outer(47, cat([]byte{0x20, 0, 8, 0, 0, 0, 0, 9}, ip))}},
		{"GRE around Ethernet", Ethernet, [][]byte{outer(47, cat([]byte{0, 0, 0x65, 0x58}, frame))}},
		{"VXLAN", Ethernet, [][]byte{vxlan}},
		{"two fragments", RawIP, split4(ip, 1, 8)},
		{"fragments in the wrong order, and one twice", RawIP, func() [][]byte {
			parts := split4(ip, 2, 8)
			return [][]byte{parts[1], parts[1], parts[0]}
		}()},
		{"IPv6 fragments", RawIP, split6(ip6, 3, 8)},
	}
}

// split4 cuts an IPv4 packet into two fragments.
func split4(ip []byte, id uint16, at int) [][]byte {
	part := func(offset int, more uint16, data []byte) []byte {
		header := bytes.Clone(ip[:20])
		binary.BigEndian.PutUint16(header[2:], uint16(20+len(data)))
		binary.BigEndian.PutUint16(header[4:], id)
		binary.BigEndian.PutUint16(header[6:], more|uint16(offset/8))
		return cat(header, data)
	}
	return [][]byte{part(0, 0x2000, ip[20:20+at]), part(at, 0, ip[20+at:])}
}

func split6(ip []byte, id uint32, at int) [][]byte {
	part := func(offset int, more uint16, data []byte) []byte {
		header := bytes.Clone(ip[:40])
		header[6] = 44
		binary.BigEndian.PutUint16(header[4:], uint16(8+len(data)))
		fragment := binary.BigEndian.AppendUint16([]byte{17, 0}, uint16(offset)|more)
		return cat(header, binary.BigEndian.AppendUint32(fragment, id), data)
	}
	return [][]byte{part(0, 1, ip[40:40+at]), part(at, 0, ip[40+at:])}
}

func TestEveryLinkAndTunnel(t *testing.T) {
	for _, tt := range everyLink(t) {
		t.Run(tt.name, func(t *testing.T) {
			var layers []Layer
			d := Decoder{Layers: &layers}
			var p Packet
			var last Contents
			for i, frame := range tt.frames {
				last = d.Decode(&Record{Number: i + 1, Link: tt.link, Data: frame, Length: len(frame)}, &p)
			}
			require.Equal(t, Datagram, last)
			assert.Equal(t, "question", string(p.Payload))
			assert.Equal(t, uint16(50000), p.From.Port())
			assert.Equal(t, len(tt.frames), p.Number)
			assert.Equal(t, "UDP", layers[len(layers)-1].Name)
			if end := 0; len(tt.frames) == 1 { // each byte up to the payload is some header's
				for _, l := range layers {
					assert.Equal(t, end, l.Offset, l.Name)
					end += l.Size
				}
				assert.Equal(t, "question", string(tt.frames[0][end:][:8]))
			}
			for _, frame := range tt.frames { // cut anywhere, it is malformed or something else, and no panic
				for n := range frame {
					var d Decoder
					var p Packet
					if d.Decode(&Record{Link: tt.link, Data: frame[:n], Length: len(frame)}, &p) == Datagram {
						assert.True(t, p.Cut)
					}
				}
			}
		})
	}
}

// A datagram that lacks a part is handed over as far as it goes, after its time.
func TestFragmentsThatStayAlone(t *testing.T) {
	ip := AppendFrame(nil, server, client, bytes.Repeat([]byte("answer  "), 20))[14:]
	for name, tt := range map[string]struct {
		keep int // of the two parts
		torn bool
	}{"the first is there": {0, true}, "only the last is there": {1, false}} {
		t.Run(name, func(t *testing.T) {
			var torn []Packet
			d := Decoder{Torn: func(p *Packet) { torn = append(torn, *p) }}
			part := split4(ip, 9, 80)[tt.keep]
			require.Equal(t, Fragment, d.Decode(&Record{Number: 1, At: 1e9, Link: RawIP, Data: part, Length: len(part)}, &Packet{}))
			other := split4(ip, 10, 80)[1]
			d.Decode(&Record{Number: 2, At: 60e9, Link: RawIP, Data: other, Length: len(other)}, &Packet{})
			require.Equal(t, 1, d.Incomplete())
			assert.Equal(t, tt.torn, len(torn) == 1)
			if tt.torn {
				assert.True(t, torn[0].Torn && torn[0].Cut)
				assert.Equal(t, 1, torn[0].Number)
				assert.Len(t, torn[0].Payload, 72)
			}
			d.Close()
			assert.Equal(t, 2, d.Incomplete())
		})
	}
	t.Run("a flood of first parts is bounded", func(t *testing.T) {
		var d Decoder
		for id := range 5000 {
			part := split4(ip, uint16(id), 80)[0]
			d.Decode(&Record{Link: RawIP, Data: part, Length: len(part)}, &Packet{})
		}
		assert.Len(t, d.fragments.waiting, maxDatagrams)
	})
}

func TestICMPErrorsNameThePacket(t *testing.T) {
	frame := AppendFrame(nil, client, server, []byte("question"))
	six := AppendFrame(nil, client6, server6, []byte("question"))
	error4 := appendIP(nil, netip.MustParseAddr("192.0.2.1"), client.Addr(), protocolICMP, cat([]byte{3, 3, 0, 0, 0, 0, 0, 0}, frame[14:]), 2)
	error6 := appendIP(nil, netip.MustParseAddr("2001:db8::1"), client6.Addr(), protocolICMPv6, cat([]byte{1, 4, 0, 0, 0, 0, 0, 0}, six[14:]), 2)
	ping := appendIP(nil, client.Addr(), server.Addr(), protocolICMP, []byte{8, 0, 0, 0, 0, 0, 0, 0}, 2)
	for name, tt := range map[string]struct {
		frame    []byte
		want     Contents
		reporter string
	}{"IPv4": {error4, ICMPError, "192.0.2.1"}, "IPv6": {error6, ICMPError, "2001:db8::1"}, "an echo is no error": {ping, Other, ""}} {
		t.Run(name, func(t *testing.T) {
			var p Packet
			require.Equal(t, tt.want, new(Decoder).Decode(&Record{Link: Ethernet, Data: tt.frame, Length: len(tt.frame)}, &p))
			if tt.want == ICMPError {
				assert.Equal(t, tt.reporter, p.Report.By.String())
				assert.Equal(t, "nothing listens there", p.Report.Says)
				assert.Equal(t, uint16(50000), p.From.Port())
				assert.Equal(t, "question", string(p.Payload))
			}
		})
	}
}

// message is a DNS message behind its length.
func message(text string) []byte {
	body := cat([]byte{0, 7, 0x80, 0, 0, 1, 0, 0, 0, 0, 0, 0}, []byte(text))
	return cat(binary.BigEndian.AppendUint16(nil, uint16(len(body))), body)
}

// However segments arrive, the messages come out whole and in order.
func TestStreams(t *testing.T) {
	all := cat(message("first"), message("second"), message("third"))
	third := len(all) - len(message("third"))
	type part struct{ from, to int }
	for _, tt := range []struct {
		name  string
		parts []part
		syn   bool
		want  []string
		gaps  int
	}{
		{"all at once", []part{{0, len(all)}}, true, []string{"first", "second", "third"}, 0},
		{"a byte at a time", func() (p []part) {
			for i := range all {
				p = append(p, part{i, i + 1})
			}
			return p
		}(), true, []string{"first", "second", "third"}, 0},
		{"in the wrong order", []part{{30, len(all)}, {10, 30}, {0, 10}}, true, []string{"first", "second", "third"}, 0},
		{"sent again, and overlapping", []part{{0, 25}, {0, 25}, {10, 40}, {35, len(all)}}, true, []string{"first", "second", "third"}, 0},
		{"the beginning is missing", []part{{third, len(all)}}, false, []string{"third"}, 0},
		{"it begins within a message", []part{{3, third}, {third, len(all)}}, false, []string{"third"}, 0},
		{"a part is lost", []part{{0, 10}, {third, len(all)}}, true, []string{"third"}, 1},
	} {
		t.Run(tt.name, func(t *testing.T) {
			var got []string
			s := NewStreams(func(p *Packet) { got = append(got, string(p.Payload[12:])) })
			base := uint32(0xffffffe0) // the numbers wrap on the way
			if tt.syn {
				s.Segment(&Packet{From: EndpointOf(client), To: EndpointOf(server), Flags: SYN, Seq: base - 1})
			}
			for i, p := range tt.parts {
				s.Segment(&Packet{Number: i + 1, From: EndpointOf(client), To: EndpointOf(server), Flags: ACK, Seq: base + uint32(p.from), Payload: all[p.from:p.to]})
			}
			s.Segment(&Packet{From: EndpointOf(client), To: EndpointOf(server), Flags: FIN, Seq: base + uint32(len(all))})
			s.Close()
			assert.Equal(t, tt.want, got)
			assert.Equal(t, tt.gaps, s.Gaps)
			assert.Empty(t, s.flows)
		})
	}
	t.Run("a flood of connections is bounded", func(t *testing.T) {
		s := NewStreams(func(*Packet) {})
		for i := range 3 * maxFlows {
			s.Segment(&Packet{From: EndpointOf(netip.AddrPortFrom(client.Addr(), uint16(i))), To: EndpointOf(server), Flags: SYN, Seq: 1})
			s.Segment(&Packet{From: EndpointOf(netip.AddrPortFrom(client.Addr(), uint16(i))), To: EndpointOf(server), Seq: 1000, Payload: all})
		}
		assert.LessOrEqual(t, len(s.flows), maxFlows)
	})
}

// FuzzStreams gives any segments, and wants messages no longer than their length says.
func FuzzStreams(f *testing.F) {
	f.Add(cat(message("first"), message("second")), []byte{0, 10, 10, 40})
	f.Fuzz(func(t *testing.T, data, cuts []byte) {
		s := NewStreams(func(p *Packet) { require.LessOrEqual(t, len(p.Payload), len(data)) })
		for i := 0; i+1 < len(cuts); i += 2 {
			from := min(int(cuts[i]), len(data))
			s.Segment(&Packet{From: EndpointOf(client), To: EndpointOf(server), Flags: cuts[i] & 4, Seq: uint32(from), Payload: data[from:min(from+int(cuts[i+1]), len(data))]})
		}
		s.Close()
	})
}

func TestPackedMergedAndGrowingFiles(t *testing.T) {
	frame := AppendFrame(nil, client, server, []byte("question"))
	plain := pcapng(t, frame, frame, frame)
	var gz, zs bytes.Buffer
	g := gzip.NewWriter(&gz)
	g.Write(plain)
	g.Close()
	z, err := zstd.NewWriter(&zs)
	require.NoError(t, err)
	z.Write(plain)
	z.Close()
	for name, tt := range map[string]struct {
		file []byte
		read int
		err  error
	}{
		"gzip":          {gz.Bytes(), 3, nil},
		"zstd":          {zs.Bytes(), 3, nil},
		"gzip, cut":     {gz.Bytes()[:gz.Len()-20], -1, ErrCut},
		"gzip, damaged": {append(bytes.Clone(gz.Bytes()[:20]), bytes.Repeat([]byte{0xff}, 50)...), -1, ErrDamaged},
	} {
		packets, err := read(tt.file)
		if tt.err == nil {
			require.NoError(t, err, name)
			assert.Len(t, packets, tt.read, name)
		} else {
			require.Error(t, err, name)
		}
	}
	t.Run("merged by time", func(t *testing.T) {
		reader := func(file []byte) *Reader {
			r, err := NewReader(bytes.NewReader(file))
			require.NoError(t, err)
			return r
		}
		var times []int64
		for record, err := range Merge([]*Reader{reader(plain), reader(pcap(binary.LittleEndian, 0xa1b2c3d4, Ethernet, 65535, frame, frame))}) {
			require.NoError(t, err)
			assert.Equal(t, len(times)+1, record.Number)
			times = append(times, record.At)
		}
		assert.Len(t, times, 5)
		assert.True(t, slices.IsSorted(times))
	})
	t.Run("still being written", func(t *testing.T) {
		path := filepath.Join(t.TempDir(), "growing.pcapng")
		require.NoError(t, os.WriteFile(path, plain[:len(plain)-30], 0o600))
		file, err := os.Open(path)
		require.NoError(t, err)
		defer file.Close()
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		defer cancel()
		r, err := NewReader(Follow(ctx, file))
		require.NoError(t, err)
		seen := 0
		for _, err := range r.Records() {
			require.NoError(t, err)
			if seen++; seen == 2 {
				more, err := os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0)
				require.NoError(t, err)
				more.Write(plain[len(plain)-30:])
				more.Close()
			}
			if seen == 3 {
				cancel()
			}
		}
		assert.Equal(t, 3, seen)
	})
}

// Old packet blocks, comments, host names and other sections are read too.
func TestBlocksOfPcapng(t *testing.T) {
	frame := AppendFrame(nil, client, server, []byte("question"))
	for name, order := range map[string]binary.AppendByteOrder{"little-endian": binary.LittleEndian, "big-endian": binary.BigEndian} {
		block := func(kind uint32, body []byte) []byte {
			body = pad(bytes.Clone(body))
			out := order.AppendUint32(order.AppendUint32(nil, kind), uint32(len(body)+12))
			return order.AppendUint32(append(out, body...), uint32(len(body)+12))
		}
		option := func(code uint16, value string) []byte {
			return pad(append(order.AppendUint16(order.AppendUint16(nil, code), uint16(len(value))), value...))
		}
		section := block(sectionHeader, cat(order.AppendUint32(nil, byteOrderMagic), order.AppendUint16(order.AppendUint16(nil, 1), 0), bytes.Repeat([]byte{0xff}, 8)))
		face := block(interfaceBlock, cat(order.AppendUint16(nil, 1), []byte{0, 0}, order.AppendUint32(nil, 0), option(9, "\x03"), option(0, ""))) // milliseconds
		stamp := uint64(begin.UnixMilli())
		when := cat(order.AppendUint32(nil, uint32(stamp>>32)), order.AppendUint32(nil, uint32(stamp)), order.AppendUint32(nil, uint32(len(frame))), order.AppendUint32(nil, uint32(len(frame))))
		old := block(oldPacket, cat(order.AppendUint16(order.AppendUint16(nil, 0), 0), when, frame))
		enhanced := block(enhancedPacket, cat(order.AppendUint32(nil, 0), when, pad(bytes.Clone(frame)), option(1, "seen at the valley")))
		simple := block(simplePacket, cat(order.AppendUint32(nil, uint32(len(frame))), frame))
		names := block(nameBlock, cat(option(1, "\xc0\x00\x02\x35office\x00"), option(0, "")))
		r, err := NewReader(bytes.NewReader(cat(section, face, names, block(5, make([]byte, 12)), old, section, face, enhanced, simple)))
		require.NoError(t, err)
		var comments, times []string
		for record, err := range r.Records() {
			require.NoError(t, err, name)
			comments, times = append(comments, string(record.Comment)), append(times, record.Time().Format(time.RFC3339Nano))
		}
		assert.Equal(t, []string{"", "seen at the valley", ""}, comments, name)
		assert.Equal(t, []string{"2026-03-09T07:40:00.123Z", "2026-03-09T07:40:00.123Z", "0001-01-01T00:00:00Z"}, times, name)
		assert.Equal(t, map[netip.Addr]escape.Text{server.Addr(): "office"}, r.Names(), name)
	}
}
