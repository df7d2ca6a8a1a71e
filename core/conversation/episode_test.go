package conversation

import (
	"bytes"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/sequence"
	"unquil/core/wire"
)

// A client's questions fall into episodes by its silence, and into depths by what
// was answered just before.
func TestEpisodes(t *testing.T) {
	ms := time.Millisecond
	var packets []packet
	ask := func(client netip.AddrPort, name string, at, took time.Duration) {
		p := packet{at: at, client: client, id: uint16(len(packets)), name: name}
		packets = append(packets, p)
		if took > 0 {
			p.at, p.reply = at+took, true
			packets = append(packets, p)
		}
	}
	ask(desk, "page.example", 0, 20*ms)
	ask(desk, "part1.example", 30*ms, 10*ms)
	ask(desk, "part2.example", 31*ms, 10*ms)
	ask(desk, "last.example", 60*ms, 10*ms)
	ask(till, "other.example", 40*ms, 5*ms)
	ask(desk, "later.example", 3*time.Second, 0)
	packets = append(packets, packet{at: time.Minute + 30*time.Second, client: till, id: 99, name: "end.example"})
	o, err := Read(t.Context(), []*capture.Reader{file(t, sorted(packets)...)}, Options{})
	require.NoError(t, err)
	var got []string
	for _, p := range sequence.Episodes(o.Kept) {
		line := p.Client.String() + " " + p.Took.String()
		for _, a := range p.Asked {
			line += " " + strings.Repeat(">", a.Depth) + a.Exchange.Question.Name.Spoken()
		}
		if p.Failed > 0 {
			line += " failed"
		}
		got = append(got, line)
	}
	assert.Equal(t, []string{
		"192.0.2.21 70ms page.example >part1.example >part2.example >>last.example",
		"192.0.2.22 5ms other.example",
		"192.0.2.21 0s later.example failed",
		"192.0.2.22 0s end.example",
	}, got)
}

func sorted(packets []packet) []packet {
	for i := range packets {
		for j := i; j > 0 && packets[j].at < packets[j-1].at; j-- {
			packets[j], packets[j-1] = packets[j-1], packets[j]
		}
	}
	return packets
}

// onWireMessage is any message between two addresses at a time.
type sent struct {
	at       time.Duration
	from, to string
	m        wire.Message
}

func capturesOf(t testing.TB, all ...sent) *capture.Reader {
	var buf bytes.Buffer
	w, err := capture.NewWriter(&buf, capture.Ethernet)
	require.NoError(t, err)
	for _, s := range all {
		data, err := s.m.Bytes()
		require.NoError(t, err)
		require.NoError(t, w.Packet(begin.Add(s.at), capture.AppendFrame(nil, netip.MustParseAddrPort(s.from), netip.MustParseAddrPort(s.to), data), ""))
	}
	r, err := capture.NewReader(&buf)
	require.NoError(t, err)
	return r
}

func record(t testing.TB, owner string, typ wire.Type, value string) wire.Record {
	data, err := wire.ParseRecordData(typ, wire.IN, value)
	require.NoError(t, err)
	return wire.Record{Name: wire.MustParseName(owner), Type: typ, Class: wire.IN, TTL: 60, Data: data}
}

// A resolver's walk is put together from its own questions, and tied to the client's.
func TestPaths(t *testing.T) {
	ms := time.Millisecond
	const client, resolver, root, registry, own = "192.0.2.21:50000", "192.0.2.53:53", "198.51.100.1:53", "198.51.100.11:53", "203.0.113.11:53"
	question := []wire.Question{{Name: wire.MustParseName("www.tarn.example"), Type: wire.A, Class: wire.IN}}
	ask := func(at time.Duration, to string, port string, id uint16) sent {
		return sent{at, "192.0.2.53:" + port, to, wire.Message{ID: id, Questions: question}}
	}
	refer := func(at time.Duration, from, port, zone string, id uint16) sent {
		return sent{at, from, "192.0.2.53:" + port, wire.Message{ID: id, Flags: wire.QR, Questions: question, Authority: []wire.Record{record(t, zone, wire.NS, "ns."+zone+".")}}}
	}
	walk := []sent{
		{0, client, resolver, wire.Message{ID: 1, Flags: wire.RD, Questions: question}},
		ask(ms, root, "5001", 2), refer(10*ms, root, "5001", "example", 2),
		ask(11*ms, registry, "5002", 3), refer(20*ms, registry, "5002", "tarn.example", 3),
	}
	answer := wire.Message{ID: 4, Flags: wire.QR | wire.AA, Questions: question, Answer: []wire.Record{record(t, "www.tarn.example", wire.A, "203.0.113.120")}}
	refusal := wire.Message{ID: 4, Flags: wire.QR | wire.Flags(0).WithRCode(wire.Refused), Questions: question}
	for _, tt := range []struct {
		name  string
		end   []sent
		ended bool
		steps int
		last  exchange.Outcome
	}{
		{"to its answer", []sent{ask(21*ms, own, "5003", 4), {30 * ms, own, "192.0.2.53:5003", answer}}, true, 3, exchange.Answered},
		{"to a server that refuses", []sent{ask(21*ms, own, "5003", 4), {30 * ms, own, "192.0.2.53:5003", refusal}}, false, 3, exchange.Refused},
		{"to a server that is silent", []sent{ask(21*ms, own, "5003", 4)}, false, 3, exchange.Open},
		{"no further than the capture", nil, false, 2, exchange.Referral},
	} {
		t.Run(tt.name, func(t *testing.T) {
			all := append(append([]sent{}, walk...), tt.end...)
			o, err := Read(t.Context(), []*capture.Reader{capturesOf(t, all...)}, Options{})
			require.NoError(t, err)
			paths := sequence.ResolverWalks(o.Kept, nil)
			require.Len(t, paths, 1)
			p := paths[0]
			assert.Equal(t, tt.ended, p.Ended())
			require.Len(t, p.Steps, tt.steps)
			assert.Equal(t, tt.last, p.Last().Outcome)
			assert.True(t, p.Steps[0].Zone.IsRoot())
			assert.Equal(t, "example.", p.Steps[1].Zone.String())
			require.NotNil(t, p.Asked)
			assert.Equal(t, 1, p.Asked.Number)
		})
	}
}

// Who claims a name alone that another claims alone too is told, and nothing else.
func TestLocalLink(t *testing.T) {
	const group = "224.0.0.251:5353"
	claim := func(host, name, value string, alone bool) sent {
		r := record(t, name, wire.A, value)
		if alone {
			r.Class |= topBit
		}
		return sent{0, host + ":5353", group, wire.Message{Flags: wire.QR | wire.AA, Answer: []wire.Record{r}}}
	}
	question := func(host string, class wire.Class) sent {
		return sent{0, host + ":5353", group, wire.Message{Questions: []wire.Question{{Name: wire.MustParseName("printer.local"), Type: wire.A, Class: class}}}}
	}
	for _, tt := range []struct {
		name      string
		sent      []sent
		conflicts int
		check     func(l *LocalLink)
	}{
		{"one host", []sent{claim("192.0.2.41", "printer.local", "192.0.2.41", true), claim("192.0.2.41", "printer.local", "192.0.2.41", true)}, 0, func(l *LocalLink) {
			assert.Equal(t, 2, l.Names()[0].Claims[0].Times)
		}},
		{"two hosts", []sent{claim("192.0.2.41", "printer.local", "192.0.2.41", true), claim("192.0.2.51", "Printer.local", "192.0.2.51", true)}, 1, nil},
		{"two that say the same", []sent{claim("192.0.2.41", "printer.local", "192.0.2.41", true), claim("192.0.2.51", "printer.local", "192.0.2.41", true)}, 0, nil},
		{"two that share it", []sent{claim("192.0.2.41", "_ipp._tcp.local", "192.0.2.41", false), claim("192.0.2.51", "_ipp._tcp.local", "192.0.2.51", false)}, 0, nil},
		{"questions", []sent{question("192.0.2.21", wire.IN), question("192.0.2.22", wire.IN|topBit)}, 0, func(l *LocalLink) {
			assert.Equal(t, []int{2, 1}, []int{l.Questions, l.Unicast})
			assert.Len(t, l.Names()[0].Askers, 2)
		}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			o, err := Read(t.Context(), []*capture.Reader{capturesOf(t, tt.sent...)}, Options{})
			require.NoError(t, err)
			assert.Zero(t, o.Exchanges, "it is nobody's exchange")
			conflicts := 0
			for _, f := range o.Findings {
				if f.Code == finding.NameConflict {
					conflicts++
				}
			}
			assert.Equal(t, tt.conflicts, conflicts)
			if tt.check != nil {
				tt.check(&o.LocalLink)
			}
		})
	}
}

// The packets of a choice are written with their comments, and nothing else.
func TestPicked(t *testing.T) {
	packets := []packet{{client: desk, id: 1, name: "www.example"}, {at: time.Second, client: desk, id: 1, name: "www.example"}, {at: 1020 * time.Millisecond, client: desk, id: 1, name: "www.example", reply: true},
		{at: 2 * time.Second, client: till, id: 2, name: "other.example"}}
	open := func() ([]*capture.Reader, error) { return []*capture.Reader{file(t, packets...)}, nil }
	var picked PacketSelection
	readers, _ := open()
	_, err := Read(t.Context(), readers, Options{Choose: func(p *Transaction) bool { return p.Client().AddrPort() == desk }, Each: picked.Add})
	require.NoError(t, err)
	var out bytes.Buffer
	written, err := picked.Write(&out, open)
	require.NoError(t, err)
	assert.Equal(t, 3, written)
	r, err := capture.NewReader(&out)
	require.NoError(t, err)
	var comments []string
	for record, err := range r.Records() {
		require.NoError(t, err)
		comments = append(comments, string(record.Comment))
	}
	assert.Equal(t, []string{"packet-lost", "", ""}, comments)
	looks, err := WholePackets([]int{3}, []*capture.Reader{file(t, packets...)}, nil)
	require.NoError(t, err)
	require.Len(t, looks[3].Layers, 3)
	assert.Equal(t, "IPv4", looks[3].Layers[1].Name)
}
