package conversation

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"net/netip"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/lab/recording"
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
	server netip.AddrPort // isp when not set
	t      wire.Type      // A when not set
	value  byte           // of the address, 1 when not set
	hops   byte           // 64 when not set
	flags  wire.Flags
}

func (p packet) bytes(t testing.TB) []byte {
	typ := cmp.Or(p.t, wire.A)
	m := wire.Message{ID: p.id, Flags: wire.RD | p.flags, Questions: []wire.Question{{Name: wire.MustParseName(p.name), Type: typ, Class: wire.IN}}}
	from, to := p.client, cmp.Or(p.server, isp)
	if p.reply {
		m.Flags = (m.Flags | wire.QR).WithRCode(p.code)
		from, to = to, from
		if p.code == wire.NoError && !p.flags.Has(wire.TC) {
			address := []byte{192, 0, 2, cmp.Or(p.value, 1)}
			if typ == wire.AAAA {
				address = append(make([]byte, 12), address...)
			}
			m.Answer = []wire.Record{{Name: m.Questions[0].Name, Type: typ, Class: wire.IN, TTL: 60, Data: string(address)}}
		}
	}
	data, err := m.Bytes()
	require.NoError(t, err)
	frame := capture.AppendFrame(nil, from, to, data)
	frame[14+8] = cmp.Or(p.hops, 64)
	return frame
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

// What a capture shows is told once for each kind of trouble, with the exchanges
// that show it, and nothing is told of what is well.
func TestRead(t *testing.T) {
	ms, second := time.Millisecond, time.Second
	office := netip.MustParseAddrPort("192.0.2.53:53")
	ask := packet{client: desk, id: 1, name: "www.example"}
	answer := packet{at: 20 * ms, client: desk, id: 1, name: "www.example", reply: true}
	with := func(p packet, change ...func(*packet)) packet {
		for _, c := range change {
			c(&p)
		}
		return p
	}
	at := func(d time.Duration) func(*packet) { return func(p *packet) { p.at = d } }
	later := func(d time.Duration) func(*packet) { return func(p *packet) { p.at += d } }
	id := func(n uint16) func(*packet) { return func(p *packet) { p.id = n } }
	name := func(n string) func(*packet) { return func(p *packet) { p.name = n } }
	from := func(c netip.AddrPort) func(*packet) { return func(p *packet) { p.client = c } }
	by := func(s netip.AddrPort) func(*packet) { return func(p *packet) { p.server = s } }
	says := func(v byte) func(*packet) { return func(p *packet) { p.value = v } }
	hops := func(n byte) func(*packet) { return func(p *packet) { p.hops = n } }
	code := func(c wire.RCode) func(*packet) { return func(p *packet) { p.code = c } }
	of := func(t wire.Type) func(*packet) { return func(p *packet) { p.t = t } }
	six := of(wire.AAAA)
	cut := func(p *packet) { p.flags |= wire.TC }
	end := []packet{with(ask, at(90*second), name("end.example"), id(99)), with(answer, at(90*second+20*ms), name("end.example"), id(99))} // so that the capture goes on
	many := func(n int, f func(i int) []packet) (all []packet) {
		for i := range n {
			all = append(all, f(i)...)
		}
		return all
	}
	crowd := many(1200, func(i int) []packet { // more than are remembered
		n, when := name(fmt.Sprintf("n%d.example", i)), at(30*ms+time.Duration(i)*ms/2)
		return []packet{with(ask, when, n), with(answer, when, n)}
	})
	answered := exchange.Answered
	for _, tt := range []struct {
		name        string
		packets     []packet
		outcomes    []exchange.Outcome // in the order of the questions
		found       []string           // severity and code
		unsolicited int
	}{
		{"a question and its answer", []packet{ask, answer}, []exchange.Outcome{answered}, nil, 0},
		{"the reply may write the name in another case", []packet{ask, with(answer, name("WWW.example"))}, []exchange.Outcome{answered}, nil, 0},
		{"no answer", []packet{ask}, []exchange.Outcome{exchange.NoReply}, []string{"fault unanswered"}, 0},
		{"sent again, and answered", []packet{ask, with(ask, at(second)), with(answer, at(1100*ms))}, []exchange.Outcome{answered}, []string{"note packet-lost"}, 0},
		{"answered, and sent again all the same", []packet{ask, answer, with(ask, at(second)), with(answer, at(1020*ms))}, []exchange.Outcome{answered}, []string{"note packet-lost"}, 0},
		{"sent again, and then both replies", []packet{ask, with(ask, at(second)), with(answer, at(1001*ms)), with(answer, at(1020*ms))}, []exchange.Outcome{answered}, []string{"concern late-reply", "note repeated-query"}, 0},
		{"asked again with another ID", []packet{ask, with(ask, at(second), id(2)), with(answer, at(second+20*ms), id(2))}, []exchange.Outcome{exchange.NoReply, answered}, []string{"fault unanswered", "note repeated-query"}, 0},
		{"asked elsewhere", []packet{ask, with(ask, at(5*second), id(2), by(office)), with(answer, at(5*second+20*ms), id(2), by(office))}, []exchange.Outcome{exchange.NoReply, answered}, []string{"fault unanswered"}, 0},
		{"asked elsewhere, and both answer", []packet{ask, with(ask, at(2*second), id(2), by(office)), with(answer, at(2*second+20*ms), id(2), by(office)), with(answer, at(2500*ms))}, []exchange.Outcome{answered, answered}, []string{"concern late-reply"}, 0},
		{"two servers asked at once", []packet{ask, with(ask, at(ms), id(2), by(office)), answer, with(answer, at(30*ms), id(2), by(office))}, []exchange.Outcome{answered, answered}, nil, 0},
		{"two asked at once, in a file by exchange", []packet{ask, with(answer, code(wire.ServFail)), with(ask, at(ms), id(2), by(office)), with(answer, at(30*ms), id(2), by(office))}, []exchange.Outcome{exchange.ServerFailure, answered}, []string{"fault failed"}, 0},
		{"two asked at once, and one fails", []packet{ask, with(ask, at(ms), id(2), by(office)), answer, with(answer, at(30*ms), id(2), by(office), code(wire.ServFail))}, []exchange.Outcome{answered, exchange.ServerFailure}, []string{"fault failed"}, 0},
		{"two clients with one ID", []packet{ask, with(ask, from(till)), with(answer, from(till))}, []exchange.Outcome{exchange.NoReply, answered}, []string{"fault unanswered"}, 0},
		{"a reply with another ID", []packet{ask, with(answer, id(2))}, []exchange.Outcome{exchange.NoReply}, []string{"fault unanswered", "concern unsolicited-reply"}, 1},
		{"a reply from elsewhere", []packet{ask, with(answer, by(office))}, []exchange.Outcome{exchange.NoReply}, []string{"fault unanswered", "concern unsolicited-reply"}, 1},
		{"guesses, and then the answer", append(append([]packet{ask}, many(5, func(i int) []packet { return []packet{with(answer, at(ms), id(uint16(i+7)))} })...), answer), []exchange.Outcome{answered}, []string{"fault unsolicited-reply"}, 5},
		{"a reply to nothing", []packet{with(answer, name("web.example"))}, nil, []string{"note unsolicited-reply"}, 1},
		{"a reply after two minutes", []packet{ask, with(answer, at(2*time.Minute))}, []exchange.Outcome{exchange.NoReply}, []string{"fault unanswered", "note unsolicited-reply"}, 1},
		{"captured twice", []packet{ask, ask, answer, answer}, []exchange.Outcome{answered}, nil, 0},
		{"a loop, with fewer hops each time", []packet{ask, with(ask, at(5*ms), hops(63)), with(ask, at(10*ms), hops(62)), answer}, []exchange.Outcome{answered}, []string{"fault looped-query"}, 0},
		{"a loop at the speed of the link", many(40, func(i int) []packet { return []packet{with(ask, at(time.Duration(i)*100*time.Microsecond))} }), []exchange.Outcome{exchange.NoReply}, []string{"fault looped-query"}, 0},
		{"two replies that differ", []packet{ask, answer, with(answer, at(21*ms), says(66))}, []exchange.Outcome{answered}, []string{"fault replies-differ"}, 0},
		{"another reply, when many more were answered", append(append([]packet{ask, answer}, crowd...), with(answer, at(900*ms)), with(answer, at(950*ms), says(66)), with(answer, at(960*ms), says(66))), slices.Repeat([]exchange.Outcome{answered}, 1201), []string{"fault replies-differ"}, 0},
		{"another reply, too late to be one", append(append([]packet{ask, answer}, crowd...), with(answer, at(7*second), says(66))), slices.Repeat([]exchange.Outcome{answered}, 1201), []string{"note unsolicited-reply"}, 1},
		{"two replies of one meaning", []packet{ask, answer, with(answer, at(40*ms))}, []exchange.Outcome{answered}, nil, 0},
		{"a zone refused", []packet{with(ask, of(wire.IXFR)), with(answer, of(wire.IXFR), code(wire.Refused))}, []exchange.Outcome{exchange.Refused}, []string{"note transfer-refused"}, 0},
		{"a failure", []packet{ask, with(answer, code(wire.ServFail))}, []exchange.Outcome{exchange.ServerFailure}, []string{"fault failed"}, 0},
		{"a slow answer", []packet{ask, with(answer, at(1500*ms))}, []exchange.Outcome{answered}, []string{"concern slow"}, 0},
		{"slow for that server", append(many(30, func(i int) []packet {
			n := name(string(rune('a'+i)) + ".example")
			return []packet{with(ask, at(time.Duration(i)*second), n), with(answer, at(time.Duration(i)*second+5*ms), n)}
		}), with(ask, at(40*second)), with(answer, at(40*second+300*ms))), slices.Repeat([]exchange.Outcome{answered}, 31), []string{"note slow"}, 0},
		{"cut, and asked no more", []packet{ask, with(answer, cut)}, []exchange.Outcome{exchange.Truncated}, []string{"concern truncated"}, 0},
		{"both kinds of addresses", []packet{ask, with(ask, at(ms), id(2), six), answer, with(answer, id(2), six)}, []exchange.Outcome{answered, answered}, nil, 0},
		{"both kinds, and the first once more", append([]packet{with(ask, at(-99*ms)), with(ask, at(-80*ms), id(2), six), with(ask, at(ms), id(3)), with(answer, at(15*ms), id(2), six), with(answer, id(3))}, append(crowd[:len(crowd):len(crowd)], with(answer, at(900*ms)))...), slices.Repeat([]exchange.Outcome{answered}, 1203), []string{"concern late-reply", "note repeated-query"}, 0},
		{"one kind fails", []packet{ask, with(ask, at(ms), id(2), six), answer, with(answer, id(2), six, code(wire.ServFail))}, []exchange.Outcome{answered, exchange.ServerFailure}, []string{"fault failed", "concern half-fails"}, 0},
		{"one kind is not answered", []packet{ask, with(ask, at(ms), id(2), six), with(answer, id(2), six)}, []exchange.Outcome{exchange.NoReply, answered}, []string{"fault unanswered", "concern half-fails"}, 0},
		{"one kind holds up the client", []packet{ask, with(ask, at(ms), id(2), six), answer, with(answer, at(900*ms), id(2), six)}, []exchange.Outcome{answered, answered}, []string{"concern half-fails"}, 0},
		{"the search list at work", []packet{with(ask, name("shop.example.tarn.example")), with(answer, name("shop.example.tarn.example"), code(wire.NXDomain)),
			with(ask, at(30*ms), name("shop.example"), id(2)), with(answer, at(50*ms), name("shop.example"), id(2))}, []exchange.Outcome{exchange.NoName, answered}, []string{"note failed", "note suffix-appended"}, 0},
		{"many names that do not exist", many(12, func(i int) []packet {
			n := name(string(rune('a'+i)) + ".nothing.example")
			return []packet{with(ask, later(time.Duration(i)*100*ms), n), with(answer, later(time.Duration(i)*100*ms), n, code(wire.NXDomain))}
		}), slices.Repeat([]exchange.Outcome{exchange.NoName}, 12), []string{"concern no-name-burst", "note failed"}, 0},
		{"one name that does not exist, again and again", many(12, func(i int) []packet {
			return []packet{with(ask, later(time.Duration(i)*100*ms), id(uint16(i))), with(answer, later(time.Duration(i)*100*ms), id(uint16(i)), code(wire.NXDomain))}
		}), slices.Repeat([]exchange.Outcome{exchange.NoName}, 12), []string{"note failed"}, 0},
		{"an answer for what does not exist", []packet{with(ask, by(office)), with(answer, by(office), code(wire.NXDomain)), with(ask, at(9*second), id(3)), with(answer, at(9*second+20*ms), id(3))}, []exchange.Outcome{exchange.NoName, answered}, []string{"fault answer-rewritten", "note failed"}, 0},
		{"questions without any reply", many(5, func(i int) []packet { return []packet{with(ask, id(uint16(i)), name(string(rune('a'+i))+".example"))} }), slices.Repeat([]exchange.Outcome{exchange.Open}, 5), []string{"concern one-sided"}, 0},
	} {
		t.Run(tt.name, func(t *testing.T) {
			packets := tt.packets
			if tt.found == nil || tt.found[0] != "concern one-sided" {
				packets = append(slices.Clone(packets), end...)
			}
			o, err := Read(t.Context(), []*capture.Reader{file(t, packets...)}, Options{})
			require.NoError(t, err)
			var outcomes []exchange.Outcome
			for i, e := range o.Kept {
				assert.Equal(t, i+1, e.Number, "numbered by the question")
				if e.Question.Name.String() != "end.example." {
					outcomes = append(outcomes, e.Outcome)
				}
			}
			assert.Equal(t, tt.outcomes, outcomes)
			var found []string
			for _, f := range o.Findings {
				if f.Code != finding.ReadableNames {
					found = append(found, string(f.Severity)+" "+string(f.Code))
					assert.NotContains(t, f.Text, "%!")
					if f.Code == finding.RepliesDiffer {
						assert.Equal(t, []int{1}, f.Evidence)
						assert.Contains(t, f.Text, "(the second: packet ")
					}
				}
			}
			assert.ElementsMatch(t, tt.found, found)
			assert.Equal(t, tt.unsolicited, o.Unsolicited)
		})
	}
}

// Messages of other kinds are paired and counted all the same.
func TestMessagesOfOtherKinds(t *testing.T) {
	name := wire.MustParseName("tarn.example")
	soa := wire.Question{Name: name, Type: wire.SOA, Class: wire.IN}
	for what, questions := range map[string]wire.Message{
		"a notification":    {ID: 7, Flags: wire.Flags(0).WithOpcode(wire.OpNotify), Questions: []wire.Question{soa}},
		"an update":         {ID: 7, Flags: wire.Flags(0).WithOpcode(5), Questions: []wire.Question{soa}},
		"no question":       {ID: 7},
		"several questions": {ID: 7, Questions: []wire.Question{soa, {Name: name, Type: wire.A, Class: wire.IN}}},
		"more questions than are kept, of names that do not exist": {ID: 7, Flags: wire.Flags(0).WithRCode(wire.NXDomain), Questions: slices.Repeat([]wire.Question{soa}, maxQuery/4)},
	} {
		t.Run(what, func(t *testing.T) {
			var buf bytes.Buffer
			w, err := capture.NewWriter(&buf, capture.Ethernet)
			require.NoError(t, err)
			for i, m := range []wire.Message{questions, questions} {
				from, to := desk, isp
				if i == 1 {
					m.Flags |= wire.QR
					from, to = to, from
				}
				data, err := m.Bytes()
				require.NoError(t, err)
				require.NoError(t, w.Packet(begin.Add(time.Duration(i)*time.Millisecond), capture.AppendFrame(nil, from, to, data), ""))
			}
			r, err := capture.NewReader(&buf)
			require.NoError(t, err)
			o, err := Read(t.Context(), []*capture.Reader{r}, Options{})
			require.NoError(t, err)
			require.Len(t, o.Kept, 1)
			assert.NotNil(t, o.Kept[0].Reply)
		})
	}
}

// A choice counts what it says, by each of its parts.
func TestChoice(t *testing.T) {
	packets := []packet{{client: desk, id: 1, name: "www.tarn.example"}, {at: 300 * time.Millisecond, client: desk, id: 1, name: "www.tarn.example", reply: true},
		{at: time.Second, client: till, id: 2, name: "mail.lake.test", t: wire.AAAA}, {at: 1010 * time.Millisecond, client: till, id: 2, name: "mail.lake.test", t: wire.AAAA, reply: true, code: wire.NXDomain},
		{at: 3 * time.Second, client: isp, id: 3, name: "1.0/25.2.0.192.in-addr.arpa", t: wire.PTR}, {at: 3010 * time.Millisecond, client: isp, id: 3, name: "1.0/25.2.0.192.in-addr.arpa", t: wire.PTR, reply: true}}
	for _, tt := range []struct {
		name   string
		choice Filter
		want   []int
	}{
		{"everything", Filter{}, []int{1, 2, 3}},
		{"a pattern", Filter{Names: []string{"WWW.*"}}, []int{1}},
		{"a pattern of names with slashes", Filter{Names: []string{"*.in-addr.arpa."}}, []int{3}},
		{"a zone", Filter{Under: wire.MustParseName("test")}, []int{2}},
		{"a type", Filter{Types: []wire.Type{wire.A}}, []int{1}},
		{"an outcome", Filter{Outcomes: []exchange.Outcome{exchange.NoName}}, []int{2}},
		{"a client", Filter{Clients: []netip.Prefix{netip.MustParsePrefix("192.0.2.22/32")}}, []int{2}},
		{"a server", Filter{Servers: []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24")}}, nil},
		{"an ID", Filter{ID: new(uint16(1))}, []int{1}},
		{"slow ones", Filter{Slower: 100 * time.Millisecond}, []int{1}},
		{"a time", Filter{From: begin.Add(500 * time.Millisecond), To: begin.Add(2 * time.Second)}, []int{2}},
		{"a finding", Filter{Finding: finding.Failed}, []int{2}},
		{"a condition", Filter{Where: `took > 100ms or name like mail* and rcode != NXDOMAIN`}, []int{1}},
		{"values", Filter{Where: `value = 192.0.2.1 and not has finding failed`}, []int{1}},
		{"two at once", Filter{Types: []wire.Type{wire.A}, Outcomes: []exchange.Outcome{exchange.NoName}}, nil},
	} {
		t.Run(tt.name, func(t *testing.T) {
			choose, err := tt.choice.Compile()
			require.NoError(t, err)
			o, err := Read(t.Context(), []*capture.Reader{file(t, packets...)}, Options{Choose: choose})
			require.NoError(t, err)
			var got []int
			for _, e := range o.Kept {
				got = append(got, e.Number)
			}
			assert.Equal(t, tt.want, got)
			assert.Equal(t, len(tt.want), o.Exchanges)
		})
	}
	for _, bad := range []Filter{{Where: "took >"}, {Where: "took"}, {Where: "colour = 1"}} {
		_, err := bad.Compile()
		require.ErrorIs(t, err, ErrCondition)
	}
}

// A median is exact of some thousands of times and as long as its table has room, and near
// the true one beyond; bars say where times lie.
func TestHistogram(t *testing.T) {
	var h, crowded, long Histogram
	crowded.shelf = &shelf{left: 5}
	assert.Zero(t, h.Quantile(50))
	for i := 1; i <= 1000; i++ {
		h.Add(time.Duration(i) * time.Millisecond)
		crowded.Add(time.Duration(i) * time.Millisecond)
	}
	for i := 1; i <= maxExact+1; i++ {
		long.Add(time.Duration(i) * 1000 * time.Millisecond / (maxExact + 1))
	}
	assert.True(t, h.Exact())
	assert.False(t, crowded.Exact())
	assert.False(t, long.Exact())
	for percent, want := range map[int]time.Duration{50: 500 * time.Millisecond, 95: 950 * time.Millisecond, 100: time.Second} {
		assert.Equal(t, want, h.Quantile(percent))
		assert.InDelta(t, want.Seconds(), crowded.Quantile(percent).Seconds(), 0.2*want.Seconds())
		assert.InDelta(t, want.Seconds(), long.Quantile(percent).Seconds(), 0.2*want.Seconds())
	}
	assert.Equal(t, time.Second, h.Max)
	bars, sum := h.Bars(), 0
	for _, n := range bars {
		sum += n
	}
	assert.Equal(t, 1000, sum)
	assert.LessOrEqual(t, bars[0], 1, "a bucket lies on the edge")
}

// The timeline's slots grow with the span, and lose nothing.
func TestTimeline(t *testing.T) {
	var line Timeline
	total := 10_000
	for i := range total {
		line.add(begin.Add(time.Duration(i*i)*time.Millisecond).UnixNano(), entry{})
	}
	asked := 0
	for _, s := range line.Slots {
		asked += s.Asked
	}
	assert.Equal(t, total, asked)
	assert.LessOrEqual(t, len(line.Slots), maxSlots)
}

func TestEvidenceNamesPacketsAndTries(t *testing.T) {
	o, err := Read(t.Context(), []*capture.Reader{file(t, packet{client: desk, id: 1, name: "www.example"}, packet{at: time.Second, client: desk, id: 1, name: "www.example"},
		packet{at: 1200 * time.Millisecond, client: desk, id: 1, name: "www.example", reply: true})}, Options{})
	require.NoError(t, err)
	e := o.Kept[0]
	assert.Equal(t, 2, e.Sends())
	assert.Equal(t, []int{1, 2, 3}, []int{e.Attempts[0].SentIn, e.Attempts[1].SentIn, e.Attempts[1].ReceivedIn})
	assert.Equal(t, 200*time.Millisecond, e.Took())
	assert.Equal(t, 1200*time.Millisecond, e.Waited())
	assert.Equal(t, []string{"192.0.2.1"}, exchange.Values(e.Answer().Records))
}

// traffic is messages ready to be paired: questions and answers in turn.
func traffic(t testing.TB, pairs int) *chunk {
	c := &chunk{}
	var decoder capture.Decoder
	for i := range pairs {
		for _, reply := range []bool{false, true} {
			frame := packet{client: desk, id: uint16(i), name: "www.hollowtarn.example", reply: reply}.bytes(t)
			r := capture.Record{Number: c.count + 1, At: int64(i) * 1e6, Link: capture.Ethernet, Data: frame, Length: len(frame)}
			var p capture.Packet
			require.Equal(t, capture.Datagram, decoder.Decode(&r, &p))
			require.NoError(t, c.read(&p, p.Payload, &wire.NameCache{}))
		}
	}
	return c
}

// each pairs the messages of a chunk.
func (c *chunk) each(pairer *pairer) {
	for i := range c.count {
		pairer.Message(&c.messages[i], &c.envelopes, c.places[i])
	}
}

func TestPairingAllocatesNothingForAPacket(t *testing.T) {
	messages := traffic(t, 100)
	pairer := newPairer(func(p *Transaction) { p.Outcome() })
	run := func() {
		messages.each(pairer)
		pairer.Close()
	}
	run()
	assert.Zero(t, testing.AllocsPerRun(10, run))
}

// Reading a whole file allocates for its names and clients, and nothing for a packet.
func TestReadingAllocatesNothingForAPacket(t *testing.T) {
	if testing.Short() {
		t.Skip("two large captures, read twice each")
	}
	few, many := bigFile(t, 300_000), bigFile(t, 600_000) // both hold all of the names
	count := func(data []byte) float64 {
		return testing.AllocsPerRun(1, func() {
			r, err := capture.NewReader(bytes.NewReader(data))
			require.NoError(t, err)
			_, err = Read(t.Context(), []*capture.Reader{r}, Options{Keep: -1})
			require.NoError(t, err)
		})
	}
	assert.Less(t, (count(many)-count(few))/300_000, 0.001, "allocations a packet")
}

// bigFile is a capture of that many packets.
func bigFile(t testing.TB, packets int) []byte {
	var buf bytes.Buffer
	require.NoError(t, recording.WriteBig(&buf, packets, recording.Pcap))
	return buf.Bytes()
}

func BenchmarkPairing(b *testing.B) {
	messages := traffic(b, 1000)
	pairer := newPairer(func(p *Transaction) { p.Outcome() })
	size := 0
	for _, e := range messages.rare {
		size += len(e.message.Bytes())
	}
	b.SetBytes(int64(size))
	b.ReportAllocs()
	for b.Loop() {
		messages.each(pairer)
	}
	b.ReportMetric(float64(b.N*messages.count)/b.Elapsed().Seconds(), "messages/s")
}

// variedFile is a capture of that many packets as a busy network has them.
func variedFile(t testing.TB, packets int) ([]byte, *recording.Varied) {
	var buf bytes.Buffer
	truth, err := recording.WriteVaried(&buf, packets, recording.Pcap)
	require.NoError(t, err)
	return buf.Bytes(), truth
}

// readAll measures the reading of a capture of that many packets.
func readAll(b *testing.B, data []byte, packets int) {
	b.SetBytes(int64(len(data)))
	b.ReportAllocs()
	for b.Loop() {
		r, err := capture.NewReader(bytes.NewReader(data))
		require.NoError(b, err)
		o, err := Read(b.Context(), []*capture.Reader{r}, Options{Keep: -1})
		require.NoError(b, err)
		require.Equal(b, packets, o.Packets)
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(packets), "ns/packet")
}

// BenchmarkVaried is BenchmarkOverview with a capture as a busy network has it.
func BenchmarkVaried(b *testing.B) {
	const packets = 1_000_000
	data, _ := variedFile(b, packets)
	readAll(b, data, packets)
}

// BenchmarkOverview reads a file of a million packets from memory, beside a copy of
// the same bytes. The program itself is built with a profile of this benchmark, which
// scripts/profile takes: go test -pgo=cmd/unquil/default.pgo measures as it runs.
func BenchmarkOverview(b *testing.B) {
	const packets = 1_000_000
	data := bigFile(b, packets)
	b.Run("read", func(b *testing.B) { readAll(b, data, packets) })
	b.Run("copy", func(b *testing.B) {
		b.SetBytes(int64(len(data)))
		buf := make([]byte, 256<<10)
		for b.Loop() {
			io.CopyBuffer(struct{ io.Writer }{io.Discard}, struct{ io.Reader }{bytes.NewReader(data)}, buf)
		}
	})
}

// A question keeps what it asked while many others come and go, until its reply comes.
func TestWhatWaitsIsKept(t *testing.T) {
	packets := []packet{{client: desk, id: 1, name: "late.example"}}
	const crowd = 8_000 // more than all chunks hold
	for i := range crowd {
		n, at := fmt.Sprintf("n%d.example", i), time.Duration(i)*time.Millisecond/2
		packets = append(packets, packet{at: at, client: till, id: uint16(i), name: n}, packet{at: at, client: till, id: uint16(i), name: n, reply: true})
	}
	packets = append(packets, packet{at: 5 * time.Second, client: desk, id: 1, name: "late.example", reply: true})
	o, err := Read(t.Context(), []*capture.Reader{file(t, packets...)}, Options{Keep: -1, Also: func(p *Transaction) bool { return p.Number == 1 }})
	require.NoError(t, err)
	require.Len(t, o.Kept, 1)
	e := &o.Kept[0]
	assert.Equal(t, "late.example.", e.Question.Name.String())
	assert.Equal(t, desk, e.Client)
	assert.Equal(t, exchange.Answered, e.Outcome)
	assert.Equal(t, 5*time.Second, e.Took())
	assert.Equal(t, []int{1, 2*crowd + 2}, o.Lines[1].Packets)
	assert.Equal(t, crowd+1, o.Exchanges)
}

// Peers are counted up to 64, each once.
func TestPeers(t *testing.T) {
	for _, n := range []int{0, 1, 2, 8, 9, 63, 64, 200} {
		var s Stat
		for range 3 {
			for i := range n {
				s.add(entry{bucket: -1}, wire.Mix(uint64(i+1), 0x9e3779b97f4a7c15))
			}
		}
		assert.Equal(t, min(n, maxPeers), s.Peers())
		assert.Equal(t, 3*n, s.Exchanges)
	}
}

// A capture made to fill memory does not: questions without replies, large messages
// and streams with holes are given up in time.
func TestHostileCapturesAreBounded(t *testing.T) {
	big := wire.Message{Flags: wire.QR, Questions: []wire.Question{{Name: wire.MustParseName("www.example"), Type: wire.TXT, Class: wire.IN}}}
	for range 200 {
		big.Answer = append(big.Answer, wire.Record{Name: big.Questions[0].Name, Type: wire.TXT, Class: wire.IN, TTL: 60, Data: "\xff" + strings.Repeat("x", 255)})
	}
	reply, err := big.Bytes()
	require.NoError(t, err)
	ask := packet{client: desk, id: 1, name: "www.example"}.bytes(t)
	rounds := 20_000
	if testing.Short() {
		rounds = 2_000
	}
	for name, frames := range map[string]func(i int) [][]byte{
		"questions that nobody answers": func(i int) [][]byte {
			frame := bytes.Clone(ask)
			binary.BigEndian.PutUint32(frame[14+12:], uint32(i)|0x0a000000) // from anywhere
			return [][]byte{frame}
		},
		"replies that do not say what they answer": func(i int) [][]byte { // each could be to any that is open
			frame := bytes.Clone(ask)
			binary.BigEndian.PutUint32(frame[14+12:], uint32(i)|0x0a000000)
			data, _ := (&wire.Message{ID: 7, Flags: wire.QR | wire.Flags(wire.FormErr)}).Bytes()
			return [][]byte{frame, capture.AppendFrame(nil, isp, till, data)}
		},
		"large replies": func(i int) [][]byte {
			query := wire.Message{ID: uint16(i), Questions: big.Questions}
			data, _ := query.Bytes()
			binary.BigEndian.PutUint16(reply, uint16(i))
			from := netip.AddrPortFrom(desk.Addr(), uint16(1024+i%60000))
			return [][]byte{capture.AppendFrame(nil, from, isp, data), capture.AppendFrame(nil, isp, from, reply)}
		},
		"streams with holes": func(i int) [][]byte {
			s := capture.NewStream(netip.AddrPortFrom(desk.Addr(), uint16(1024+i%60000)), isp)
			first := s.Append(nil, isp, reply[:1400])
			s.Append(nil, isp, reply[:1400]) // which is lost
			return [][]byte{first, s.Append(nil, isp, reply[:14000]), s.Append(nil, isp, reply[:14000])}
		},
	} {
		t.Run(name, func(t *testing.T) {
			in, out := io.Pipe()
			go func() {
				w, _ := capture.NewWriter(out, capture.Ethernet)
				for i := range rounds {
					for _, frame := range frames(i) {
						if w.Packet(begin.Add(time.Duration(i)*10*time.Microsecond), frame, "") != nil {
							return
						}
					}
				}
				out.Close()
			}()
			r, err := capture.NewReader(in)
			require.NoError(t, err)
			var most uint64
			o, err := Read(t.Context(), []*capture.Reader{r}, Options{Keep: 20_000, Progress: func(int64) {
				var m runtime.MemStats
				if runtime.ReadMemStats(&m); m.HeapInuse > 100<<20 { // part of it is garbage, more of it on a busy machine
					runtime.GC()
					runtime.ReadMemStats(&m)
				}
				most = max(most, m.HeapInuse)
			}})
			require.NoError(t, err)
			assert.GreaterOrEqual(t, o.Packets, rounds)
			assert.Less(t, most, uint64(150<<20))
			t.Logf("at most %d MB", most>>20)
		})
	}
}

// A zone transfer is one exchange, in however many messages the zone comes, with the
// question in each of them or in the first alone (RFC 5936 §2.2.1).
func TestZoneTransfer(t *testing.T) {
	primary := netip.MustParseAddrPort("203.0.113.11:53")
	for name, tt := range map[string]struct {
		repeats  int // how many messages repeat the question
		of       wire.Type
		messages int
	}{
		"in one message":         {1, wire.AXFR, 1},
		"with every question":    {5, wire.AXFR, 5},
		"with the first alone":   {1, wire.AXFR, 5},
		"of what changed alone":  {1, wire.IXFR, 3},
		"in a great many":        {1, wire.AXFR, 300},
		"in a great many, asked": {300, wire.AXFR, 300},
	} {
		t.Run(name, func(t *testing.T) {
			var buf bytes.Buffer
			w, err := capture.NewWriter(&buf, capture.Ethernet)
			require.NoError(t, err)
			stream := capture.NewStream(desk, primary)
			send := func(at time.Duration, from netip.AddrPort, m wire.Message) {
				data, err := m.Bytes()
				require.NoError(t, err)
				require.NoError(t, w.Packet(begin.Add(at), stream.Append(nil, from, append(binary.BigEndian.AppendUint16(nil, uint16(len(data))), data...)), ""))
			}
			m := wire.Message{ID: 7, Questions: []wire.Question{{Name: wire.MustParseName("hollowtarn.example."), Type: tt.of, Class: wire.IN}}}
			send(0, desk, m)
			m.Flags = wire.QR | wire.AA
			at := time.Duration(0)
			for i := range tt.messages {
				if at += 20 * time.Millisecond; i > 0 {
					at += 3 * time.Second
				}
				if i == tt.repeats {
					m.Questions = nil
				}
				host := wire.MustParseName(fmt.Sprintf("host%d.hollowtarn.example.", i))
				m.Answer = []wire.Record{{Name: host, Type: wire.A, Class: wire.IN, TTL: 60, Data: string([]byte{203, 0, 113, byte(i)})}}
				send(at, primary, m)
				other := packet{at: at + time.Millisecond, client: till, id: uint16(i), name: fmt.Sprintf("www%d.example", i)}
				for _, reply := range []bool{false, true} {
					other.reply, other.at = reply, other.at+time.Millisecond
					require.NoError(t, w.Packet(begin.Add(other.at), other.bytes(t), ""))
				}
			}
			r, err := capture.NewReader(&buf)
			require.NoError(t, err)
			o, err := Read(t.Context(), []*capture.Reader{r}, Options{})
			require.NoError(t, err)
			assert.Equal(t, 1+tt.messages, o.Exchanges)
			assert.Equal(t, map[exchange.Outcome]int{exchange.Answered: 1 + tt.messages}, o.Outcomes)
			assert.Zero(t, o.Unsolicited)
			require.Len(t, o.Findings, 1)
			assert.Equal(t, finding.ReadableNames, o.Findings[0].Code)
			line := o.Lines[1]
			assert.Equal(t, tt.messages-1, line.Parts)
			if tt.messages > 1 {
				assert.Equal(t, at, line.Lasted)
				assert.Contains(t, line.Packets, line.LastIn)
			}
		})
	}
}

// A capture as a busy network has it comes to what it was made of: what is in flight at its end aside.
func TestVariedIsWhatItIs(t *testing.T) {
	const packets = 60_000
	data, truth := variedFile(t, packets)
	r, err := capture.NewReader(bytes.NewReader(data))
	require.NoError(t, err)
	o, err := Read(t.Context(), []*capture.Reader{r}, Options{Keep: -1})
	require.NoError(t, err)
	assert.Equal(t, packets, o.Packets)
	assert.Equal(t, packets, truth.Packets)
	assert.Zero(t, o.Malformed+o.Unreadable+o.Unknown+o.Duplicates)
	near := func(want, got int, what string) { assert.InEpsilon(t, want, got, 0.01, "%s: %d", what, want) }
	near(truth.Exchanges, o.Exchanges, "exchanges")
	near(truth.NoName, o.Outcomes[exchange.NoName], "no such name")
	near(truth.ServFail, o.Outcomes[exchange.ServerFailure], "server failures")
	clients, _ := o.Clients()
	assert.Len(t, clients, 2*truth.Clients, "each with an address of either family")
	servers, _ := o.Servers()
	require.Len(t, servers, len(truth.ByServer))
	for _, row := range servers {
		assert.True(t, slices.ContainsFunc(truth.ByServer[:], func(n int) bool { return math.Abs(float64(n-row.Stat.Exchanges)) < 0.02*float64(n) }), "%s: %d", row.Key, row.Stat.Exchanges)
	}
	rows, uncounted := o.Names()
	assert.Len(t, rows, min(truth.Names, maxTable))
	assert.Equal(t, truth.Names > maxTable, uncounted > 0)
	for what, share := range map[string][2]int{"over IPv6": {truth.IPv6 * 100 / packets, 30}, "of types A": {truth.ByType[wire.A] * 100 / truth.Exchanges, 55}, "of types AAAA": {truth.ByType[wire.AAAA] * 100 / truth.Exchanges, 26},
		"with EDNS": {truth.EDNS * 100 / truth.Exchanges, 60}, "no such name": {truth.NoName * 100 / truth.Exchanges, 12}, "behind aliases": {truth.Aliases * 100 / truth.Exchanges, 30}} {
		assert.InDelta(t, share[1], share[0], 4, what)
	}
	assert.Positive(t, truth.Tagged)
	assert.Positive(t, truth.OverTCP)
	assert.Positive(t, truth.Truncated)
	assert.Positive(t, truth.Again)
	again, _ := variedFile(t, 1000)
	assert.Equal(t, data[:1000], again[:1000], "the same seed, the same bytes")
}
