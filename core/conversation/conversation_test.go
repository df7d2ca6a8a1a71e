package conversation

import (
	"bytes"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

var (
	begin = time.Date(2026, 3, 9, 7, 40, 0, 0, time.UTC)
	desk  = netip.MustParseAddrPort("192.0.2.21:50000")
	till  = netip.MustParseAddrPort("192.0.2.22:50000")
	isp   = netip.MustParseAddrPort("198.51.100.53:53")
)

// packet is one message on the way: a question from a client or its reply.
type packet struct {
	at     time.Duration
	client netip.AddrPort
	id     uint16
	name   string
	reply  bool
	code   wire.RCode
}

func (p packet) bytes(t testing.TB) []byte {
	m := wire.Message{ID: p.id, Flags: wire.RD, Questions: []wire.Question{{Name: wire.MustParseName(p.name), Type: wire.A, Class: wire.IN}}}
	from, to := p.client, isp
	if p.reply {
		m.Flags = (m.Flags | wire.QR).WithRCode(p.code)
		from, to = to, from
		if p.code == wire.NoError {
			m.Answer = []wire.Record{{Name: m.Questions[0].Name, Type: wire.A, Class: wire.IN, TTL: 60, Data: "\xc0\x00\x02\x01"}}
		}
	}
	data, err := m.Bytes()
	require.NoError(t, err)
	return capture.AppendFrame(nil, from, to, data)
}

func file(t testing.TB, packets ...packet) *capture.Reader {
	var buf bytes.Buffer
	w, err := capture.NewWriter(&buf, capture.Ethernet)
	require.NoError(t, err)
	for _, p := range packets {
		require.NoError(t, w.Packet(begin.Add(p.at), p.bytes(t), ""))
	}
	r, err := capture.NewReader(&buf)
	require.NoError(t, err)
	return r
}

func TestRead(t *testing.T) {
	ask := packet{0, desk, 1, "www.example", false, 0}
	answer := packet{20 * time.Millisecond, desk, 1, "www.example", true, 0}
	at := func(p packet, d time.Duration) packet { p.at = d; return p }
	by := func(p packet, client netip.AddrPort) packet { p.client = client; return p }
	for _, tt := range []struct {
		name        string
		packets     []packet
		outcomes    []exchange.Outcome
		found       []finding.Code
		unsolicited int
	}{
		{"a question and its answer", []packet{ask, answer}, []exchange.Outcome{exchange.Answered}, nil, 0},
		{"the reply may write the name in another case", []packet{ask, {20 * time.Millisecond, desk, 1, "WWW.example", true, 0}}, []exchange.Outcome{exchange.Answered}, nil, 0},
		{"no answer", []packet{ask}, []exchange.Outcome{exchange.NoReply}, []finding.Code{finding.Unanswered}, 0},
		{"asked again is one exchange", []packet{ask, at(ask, time.Second), at(answer, 1100*time.Millisecond)}, []exchange.Outcome{exchange.Answered}, nil, 0},
		{"two clients with one ID", []packet{ask, by(ask, till), by(answer, till)}, []exchange.Outcome{exchange.NoReply, exchange.Answered}, []finding.Code{finding.Unanswered}, 0},
		{"a reply with another ID", []packet{ask, {20 * time.Millisecond, desk, 2, "www.example", true, 0}}, []exchange.Outcome{exchange.NoReply}, []finding.Code{finding.Unanswered}, 1},
		{"a reply to another name", []packet{ask, {20 * time.Millisecond, desk, 1, "web.example", true, 0}}, []exchange.Outcome{exchange.NoReply}, []finding.Code{finding.Unanswered}, 1},
		{"a reply after two minutes", []packet{ask, at(answer, 2*time.Minute)}, []exchange.Outcome{exchange.NoReply}, []finding.Code{finding.Unanswered}, 1},
		{"a failure", []packet{ask, {20 * time.Millisecond, desk, 1, "www.example", true, wire.ServFail}}, []exchange.Outcome{exchange.ServerFailure}, []finding.Code{finding.Failed}, 0},
		{"a slow answer", []packet{ask, at(answer, 1500*time.Millisecond)}, []exchange.Outcome{exchange.Answered}, []finding.Code{finding.Slow}, 0},
	} {
		t.Run(tt.name, func(t *testing.T) {
			o, err := Read(file(t, tt.packets...), nil)
			require.NoError(t, err)
			var outcomes []exchange.Outcome
			for i, e := range o.Kept {
				outcomes = append(outcomes, e.Outcome)
				assert.Equal(t, i+1, e.Number, "numbered by the question")
			}
			assert.Equal(t, tt.outcomes, outcomes)
			var found []finding.Code
			for _, f := range o.Findings {
				found = append(found, f.Code)
			}
			assert.Equal(t, tt.found, found)
			assert.Equal(t, tt.unsolicited, o.Unsolicited)
		})
	}
}

func TestEvidenceNamesPacketsAndTries(t *testing.T) {
	o, err := Read(file(t, packet{0, desk, 1, "www.example", false, 0}, packet{time.Second, desk, 1, "www.example", false, 0},
		packet{1200 * time.Millisecond, desk, 1, "www.example", true, 0}), nil)
	require.NoError(t, err)
	e := o.Kept[0]
	assert.Equal(t, 2, e.Tries())
	assert.Equal(t, []int{1, 2, 3}, []int{e.Attempts[0].SentIn, e.Attempts[1].SentIn, e.Attempts[1].ReceivedIn})
	assert.Equal(t, 200*time.Millisecond, e.Took())
	assert.Equal(t, 1200*time.Millisecond, e.Waited())
	assert.Equal(t, []string{"192.0.2.1"}, exchange.Values(e.Answer().Records))
}

// traffic is messages ready to be paired: questions and answers in turn.
func traffic(t testing.TB, pairs int) (packets []capture.Packet, views []wire.View) {
	for i := range pairs {
		for _, reply := range []bool{false, true} {
			frame := packet{0, desk, uint16(i), "www.hollowtarn.example", reply, 0}.bytes(t)
			r := capture.Record{Number: len(packets) + 1, Link: capture.Ethernet, Data: frame, Length: len(frame)}
			var p capture.Packet
			require.Equal(t, capture.Datagram, r.Decode(&p))
			view, err := wire.ReadView(p.Payload)
			require.NoError(t, err)
			packets, views = append(packets, p), append(views, view)
		}
	}
	return packets, views
}

func TestPairingAllocatesNothingForAPacket(t *testing.T) {
	packets, views := traffic(t, 100)
	pairer := NewPairer(func(p *Pair) { p.Outcome() })
	run := func() {
		for i := range packets {
			pairer.Message(&packets[i], views[i])
		}
	}
	run()
	assert.Zero(t, testing.AllocsPerRun(10, run))
}

func BenchmarkPairing(b *testing.B) {
	packets, views := traffic(b, 1000)
	pairer := NewPairer(func(p *Pair) { p.Outcome() })
	size := 0
	for i := range packets {
		size += len(packets[i].Payload)
	}
	b.SetBytes(int64(size))
	b.ReportAllocs()
	for b.Loop() {
		for i := range packets {
			pairer.Message(&packets[i], views[i])
		}
	}
	b.ReportMetric(float64(b.N*len(packets))/b.Elapsed().Seconds(), "messages/s")
}
