package diagnosis_test

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/conversation"
	"unquil/core/delegation"
	"unquil/core/diagnosis"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/machine"
	"unquil/core/sequence"
	"unquil/core/wire"
	"unquil/lab"
	"unquil/lab/labtest"
)

func captured(t *testing.T, file string) *conversation.Overview {
	f, err := lab.Captures().Open(file)
	require.NoError(t, err)
	defer f.Close()
	r, err := capture.NewReader(f)
	require.NoError(t, err)
	o, err := conversation.Read(t.Context(), []*capture.Reader{r}, conversation.Options{})
	require.NoError(t, err)
	return o
}

// line is a verdict in a line: how heavy, for which names, why and where.
func line(v *diagnosis.Verdict) string {
	code := ""
	if len(v.Cause) > 0 {
		code = string(v.Cause[0].Code)
	}
	var names []string
	for _, n := range v.Names {
		names = append(names, n.Spoken())
	}
	return fmt.Sprintf("%s %v %s %s %s", v.Severity, names, code, v.Where, v.At)
}

func TestCaptured(t *testing.T) {
	morning, uplink := captured(t, "valley-morning.pcapng"), captured(t, "resolver-uplink.pcap")
	for _, tt := range []struct {
		name  string
		in    *conversation.Overview
		asked string // "" is for all
		want  []string
	}{
		{"a client's side does not show whose servers failed", morning, "summit.camera.hollowtarn.example", []string{"fault [summit.camera.hollowtarn.example] server-failure the resolver 192.0.2.53"}},
		{"a resolver's side does", uplink, "summit.camera.hollowtarn.example", []string{"fault [summit.camera.hollowtarn.example] no-reply the zone's servers camera.hollowtarn.example."}},
		{"one server that refuses and one without authority", uplink, "status.lifts.hollowtarn.example", []string{"fault [status.lifts.hollowtarn.example] lame-server the delegation lifts.hollowtarn.example."}},
		{"a name that got its answers", morning, "tickets.hollowtarn.example", []string{" [tickets.hollowtarn.example]   "}},
		{"one cause is one verdict", morning, "", []string{"fault [summit.camera.hollowtarn.example status.lifts.hollowtarn.example web.hollowtarn.example] server-failure the resolver 192.0.2.53"}},
		{"two replies that differ", captured(t, "valley-morning.pcapng"), "shop.hollowtarn.example", []string{"fault [shop.hollowtarn.example] replies-differ the path to the resolver 198.51.100.53"}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			var name wire.Name
			if tt.asked != "" {
				name = wire.MustParseName(tt.asked)
			}
			verdicts := diagnosis.Captured(tt.in, name, nil)
			var lines []string
			for i := range verdicts {
				lines = append(lines, line(&verdicts[i]))
				assert.NotEmpty(t, verdicts[i].Checks)
			}
			for _, want := range tt.want {
				assert.Contains(t, lines, want)
			}
			assert.True(t, name.IsZero() || len(lines) == len(tt.want))
		})
	}
	sorted := diagnosis.Captured(morning, wire.Name{}, nil)
	assert.True(t, slices.IsSortedFunc(sorted, func(a, b diagnosis.Verdict) int { return b.Severity.Weight() - a.Severity.Weight() }))
	assert.Empty(t, diagnosis.Captured(morning, wire.MustParseName("nobody.example"), nil))
}

// Twenty names and one dead server are one verdict.
func TestOneCauseIsOneVerdict(t *testing.T) {
	p, l := labtest.Prober(t)
	var cases []diagnosis.Case
	for i := range 20 {
		name := wire.MustParseName(fmt.Sprintf("host%d.closing.works.example", i))
		if i == 19 {
			name = wire.MustParseName("web.hollowtarn.example")
		}
		c := diagnosis.Case{Name: name, Types: []wire.Type{wire.A}}
		c.Resolvers = append(c.Resolvers, labtest.Resolver(t, l, "isp"))
		cases = append(cases, c)
	}
	verdicts := diagnosis.Group(diagnosis.WhyAll(t.Context(), p, cases))
	require.Len(t, verdicts, 2)
	assert.Len(t, verdicts[0].Names, 19)
	assert.Equal(t, "closing.works.example.", verdicts[0].At)
	assert.Contains(t, verdicts[0].Sentence(), "and 16 more: No server of closing.works.example answers for it")
	assert.True(t, verdicts[1].OK())
	assert.Equal(t, verdicts, diagnosis.Group(verdicts), "what is grouped stays so")
}

// What programs on the machine get may come from another source than its resolvers.
func TestBackAtTheMachine(t *testing.T) {
	p, l := labtest.Prober(t)
	setup, err := machine.Read(lab.Machine(""))
	require.NoError(t, err)
	for _, tt := range []struct {
		name, own string
		want      []string
	}{
		{"the same", "203.0.113.121", nil},
		{"from elsewhere", "192.0.2.200", []string{"concern source-differs"}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			v := diagnosis.Why(t.Context(), p, diagnosis.Case{Typed: "web.hollowtarn.example.", Name: wire.MustParseName("web.hollowtarn.example"), Types: []wire.Type{wire.A}, Setup: &setup,
				Resolvers: []exchange.Server{labtest.Resolver(t, l, "office")}, System: func(context.Context, string) ([]netip.Addr, error) {
					return []netip.Addr{netip.MustParseAddr(tt.own)}, nil
				}})
			var heavy []string
			for _, f := range labtest.Codes(v.Findings()) {
				if !strings.HasPrefix(f, "note") {
					heavy = append(heavy, f)
				}
			}
			assert.Equal(t, tt.want, heavy)
			assert.Contains(t, v.Checks[len(v.Checks)-1].Saw, tt.own)
		})
	}
}

// A resolver that knows its way begins in the middle: for which zone it asks a server is
// learned from the rest of the capture, or not known.
func TestWalksThatBeginInTheMiddle(t *testing.T) {
	resolver, server := netip.MustParseAddrPort("192.0.2.53:40000"), netip.MustParseAddrPort("203.0.113.77:53")
	root, registry := netip.MustParseAddrPort("198.51.100.1:53"), netip.MustParseAddrPort("198.51.100.11:53")
	type packet struct {
		of    netip.AddrPort
		name  string
		reply bool
		flags wire.Flags
		zone  string // referred to, or whose SOA record says that there is nothing
		t     wire.Type
	}
	asked := func(of netip.AddrPort, name string) packet { return packet{of: of, name: name} }
	refers := func(of netip.AddrPort, name, zone string) packet {
		return packet{of, name, true, 0, zone, wire.NS}
	}
	lost := asked(server, "www.tarn.example")
	for _, tt := range []struct {
		name    string
		packets []packet
		want    []string
	}{
		{"not known", []packet{lost}, []string{"fault [www.tarn.example] no-reply the zone's servers 203.0.113.77 likely"}},
		{"learned from another walk", []packet{asked(root, "a.tarn.example"), refers(root, "a.tarn.example", "example"), asked(registry, "a.tarn.example"), refers(registry, "a.tarn.example", "tarn.example"),
			asked(server, "a.tarn.example"), {server, "a.tarn.example", true, wire.AA, "", 0}, lost}, []string{"fault [www.tarn.example] no-reply the zone's servers tarn.example. likely"}},
		{"learned from what it said of another name", []packet{asked(server, "b.tarn.example"), {server, "b.tarn.example", true, wire.AA, "tarn.example", wire.SOA}, lost}, []string{"fault [www.tarn.example] no-reply the zone's servers tarn.example. likely"}},
		{"a published root server", []packet{asked(netip.AddrPortFrom(delegation.PublishedRoots()[0].Addresses[0], 53), "www.tarn.example")}, []string{"fault [www.tarn.example] no-reply the root or registry . likely"}},
		{"it refuses", []packet{lost, {server, lost.name, true, wire.Flags(wire.Refused), "", 0}}, []string{"fault [www.tarn.example] refused the zone's servers 203.0.113.77 likely"}},
		{"it refuses what it is known to be asked for", []packet{asked(server, "b.tarn.example"), {server, "b.tarn.example", true, wire.AA, "tarn.example", wire.SOA}, lost, {server, lost.name, true, wire.Flags(wire.Refused), "", 0}},
			[]string{"fault [www.tarn.example] lame-server the delegation tarn.example. likely"}},
		{"a cache that was asked for what it has", []packet{lost, {server, lost.name, true, wire.RA, "", 0}}, nil},
	} {
		t.Run(tt.name, func(t *testing.T) {
			var file bytes.Buffer
			w, err := capture.NewWriter(&file, capture.Ethernet)
			require.NoError(t, err)
			at := time.Date(2026, 3, 9, 7, 40, 0, 0, time.UTC)
			for i, p := range append(tt.packets, asked(server, "end.example")) {
				if p.name == "end.example" {
					at = at.Add(time.Minute)
				}
				m := wire.Message{ID: uint16(i), Flags: p.flags, Questions: []wire.Question{{Name: wire.MustParseName(p.name), Type: wire.A, Class: wire.IN}}}
				from, to := resolver, p.of
				if p.reply {
					m.ID, m.Flags, from, to = uint16(i-1), m.Flags|wire.QR, to, from
					text := map[wire.Type]string{wire.NS: "dns.tarn.example.", wire.SOA: "dns.tarn.example. keeper.tarn.example. 1 2 3 4 5", 0: "203.0.113.120"}[p.t]
					record := wire.Record{Name: m.Questions[0].Name, Type: cmp.Or(p.t, wire.A), Class: wire.IN, TTL: 60}
					record.Data, err = wire.ParseRecordData(record.Type, wire.IN, text)
					require.NoError(t, err)
					if p.zone != "" {
						record.Name = wire.MustParseName(p.zone)
						m.Authority = []wire.Record{record}
					} else if m.Flags.RCode() == wire.NoError {
						m.Answer = []wire.Record{record}
					}
				}
				data, err := m.Bytes()
				require.NoError(t, err)
				at = at.Add(10 * time.Millisecond)
				require.NoError(t, w.Packet(at, capture.AppendFrame(nil, from, to, data), ""))
			}
			r, err := capture.NewReader(&file)
			require.NoError(t, err)
			o, err := conversation.Read(t.Context(), []*capture.Reader{r}, conversation.Options{})
			require.NoError(t, err)
			var lines []string
			for _, v := range diagnosis.Captured(o, wire.Name{}, nil) {
				lines = append(lines, line(&v)+" "+v.Sure)
			}
			assert.Equal(t, tt.want, lines)
		})
	}
}

// scripted makes a capture of any bytes: every eight of them are one packet.
func scripted(t *testing.T, script []byte) []byte {
	names := []string{"www.tarn.example", "www.tarn.example.valley.example", "www.tarn.example.example", "a.example", "b.example", "tarn.example", "c.tarn.example", "d.tarn.example", "."}
	var file bytes.Buffer
	w, err := capture.NewWriter(&file, capture.Ethernet)
	require.NoError(t, err)
	at := time.Date(2026, 3, 9, 7, 40, 0, 0, time.UTC)
	for ; len(script) >= 8; script = script[8:] {
		kind, b := script[0], script[1:]
		client := netip.AddrPortFrom(netip.AddrFrom4([4]byte{192, 0, 2, 100 + b[0]%10}), 40000+uint16(b[3]%2))
		server := netip.AddrPortFrom(netip.AddrFrom4([4]byte{198, 51, 100, b[1] % 4}), 53)
		at = at.Add(time.Duration(b[5]%100) * []time.Duration{time.Microsecond, time.Millisecond, 10 * time.Millisecond, time.Second, time.Minute}[b[6]%5])
		m := wire.Message{ID: uint16(b[3] % 4), Questions: []wire.Question{{Name: wire.MustParseName(names[int(b[2])%len(names)]), Type: []wire.Type{wire.A, wire.AAAA}[b[2]>>7], Class: wire.IN}}}
		if kind&2 == 0 {
			m.Flags |= wire.RD
		}
		from, to := client, server
		if kind&1 != 0 {
			from, to = server, client
			m.Flags = (m.Flags | wire.QR).WithRCode(wire.RCode(b[4] % 6))
			if b[4]&0x40 != 0 {
				m.Flags |= wire.AA
			}
			record := wire.Record{Name: m.Questions[0].Name, Type: wire.A, Class: wire.IN, TTL: 60, Data: string([]byte{203, 0, 113, b[4] >> 3})}
			switch b[4] >> 4 % 4 {
			case 1:
				m.Answer = []wire.Record{record}
			case 2:
				record.Name, record.Type, record.Data = wire.MustParseName("tarn.example"), wire.NS, "\x03dns\x04tarn\x07example\x00"
				m.Authority = []wire.Record{record}
			case 3:
				m.Flags |= wire.TC
			}
		}
		if kind&12 == 12 {
			m.Questions = nil
		}
		data, err := m.Bytes()
		require.NoError(t, err)
		frame := capture.AppendFrame(nil, from, to, data)
		frame[14+8] -= kind >> 6 // hops
		require.NoError(t, w.Packet(at, frame, ""))
	}
	return file.Bytes()
}

// Whatever a capture holds, reading it again finds the same, the exchanges that show a
// finding have its code once later packets are known, can be fetched, and carry verdicts.
func FuzzCaptured(f *testing.F) {
	for _, seed := range []string{"\x00\x01\x01\x00\x00\x00\x01\x01\x01\x01\x01\x00\x00\x10\x01\x01", "\x00\x01\x01\x01\x00\x00\x01\x01\x01\x01\x01\x01\x00\x03\x01\x01\x00\x01\x01\x00\x01\x00\x01\x01"} {
		f.Add([]byte(seed))
		f.Add([]byte(strings.Repeat(seed, 12)))
	}
	f.Fuzz(func(t *testing.T, script []byte) {
		file := scripted(t, script[:min(len(script), 8*400)])
		readers := func() []*capture.Reader {
			r, err := capture.NewReader(bytes.NewReader(file))
			require.NoError(t, err)
			return []*capture.Reader{r}
		}
		read := func(options conversation.Options) *conversation.Overview {
			o, err := conversation.Read(t.Context(), readers(), options)
			require.NoError(t, err)
			return o
		}
		first := read(conversation.Options{})
		codes := map[int][]finding.Code{}
		again := read(conversation.Options{Keep: -1, Late: first.Late(), Each: func(p *conversation.Transaction) { codes[p.Number] = slices.Clone(p.Codes) }})
		require.Equal(t, first.Findings, again.Findings)
		require.Len(t, codes, first.Exchanges)
		require.Empty(t, again.Kept)
		if wanted := again.Shows(); wanted != nil {
			require.NoError(t, again.Fetch(t.Context(), readers(), wanted))
		}
		for _, found := range first.Findings {
			for _, n := range found.Evidence {
				require.Contains(t, codes[n], found.Code, "exchange %d", n)
				require.NotNil(t, again.Find(n), "exchange %d", n)
			}
		}
		asked := 0
		for _, e := range sequence.Episodes(first.Kept) {
			asked += len(e.Asked)
		}
		require.Equal(t, len(first.Kept), asked)
		for _, v := range diagnosis.Captured(first, wire.Name{}, nil) {
			require.NotEmpty(t, v.Cause)
			require.NotEmpty(t, v.Evidence())
			for _, n := range v.Evidence() {
				require.NotNil(t, first.Find(n), "exchange %d", n)
			}
		}
	})
}
