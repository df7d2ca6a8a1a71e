package conversation

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/finding"
	"unquil/core/wire"
)

// In a busy capture an ordinary exchange is settled as its reply comes. What comes of it
// later is found all the same, and counts once.
func TestSettledExchangesAreTakenUpAgain(t *testing.T) {
	const crowd = maxDone + 100
	var busy []packet
	for i := range crowd {
		n, at := fmt.Sprintf("n%d.example", i), time.Duration(i)*time.Millisecond/4
		busy = append(busy, packet{at: at, client: till, id: uint16(i), name: n}, packet{at: at, client: till, id: uint16(i), name: n, reply: true})
	}
	ms, from := time.Millisecond, 500*time.Millisecond
	ask := func(after time.Duration) packet {
		return packet{at: from + after, client: desk, id: 7, name: "www.example"}
	}
	answer := func(after time.Duration) packet {
		return packet{at: from + after, client: desk, id: 7, name: "www.example", reply: true}
	}
	hops := func(p packet, n byte) packet { p.hops = n; return p }
	says := func(p packet, v byte) packet { p.value = v; return p }
	six := func(p packet) packet { p.t, p.id = wire.AAAA, 8; return p }
	fails := func(p packet) packet { p.code = wire.ServFail; return p }
	for _, tt := range []struct {
		name       string
		then       []packet
		found      []string
		late       bool // another reading has to be told
		duplicates int
	}{
		{"nothing", nil, nil, false, 0},
		{"the question again", []packet{ask(900 * ms)}, []string{"note repeated-query"}, true, 0},
		{"the question again and again", []packet{ask(900 * ms), ask(1800 * ms)}, []string{"note repeated-query"}, true, 0},
		{"its packet captured twice", []packet{ask(1500 * time.Microsecond)}, nil, false, 1},
		{"its packet with fewer hops each time", []packet{hops(ask(5*ms), 63), hops(ask(9*ms), 62)}, []string{"fault looped-query"}, true, 0},
		{"the reply captured twice", []packet{answer(2 * ms)}, nil, false, 1},
		{"the reply once more", []packet{answer(900 * ms)}, nil, false, 0},
		{"a reply that says something else", []packet{says(answer(900*ms), 66)}, []string{"fault replies-differ"}, true, 0},
		{"two replies that say something else", []packet{says(answer(900*ms), 66), says(answer(950*ms), 67)}, []string{"fault replies-differ"}, true, 0},
		{"a reply after more than five seconds", []packet{says(answer(7*time.Second), 66)}, []string{"note unsolicited-reply"}, false, 0},
		{"the question after more than five seconds", []packet{ask(7 * time.Second), answer(7*time.Second + ms)}, nil, false, 0},
		{"the other half fails", []packet{six(ask(20 * ms)), fails(six(answer(30 * ms)))}, []string{"fault failed", "concern half-fails"}, false, 0},
	} {
		t.Run(tt.name, func(t *testing.T) {
			packets := append(append(busy[:len(busy):len(busy)], ask(0), answer(ms)), tt.then...)
			end := packet{at: 90 * time.Second, client: till, id: 9, name: "end.example"}
			over := end
			over.reply = true
			o, err := Read(t.Context(), []*capture.Reader{file(t, append(packets, end, over)...)}, Options{Keep: -1})
			require.NoError(t, err)
			var found []string
			for _, f := range o.Findings {
				if f.Code == finding.ReadableNames {
					continue
				}
				found = append(found, string(f.Severity)+" "+string(f.Code))
				if f.Code != finding.Failed && f.Code != finding.HalfFails && f.Code != finding.UnsolicitedReply {
					assert.Equal(t, []int{crowd + 1}, f.Evidence, "the exchange that was settled")
					assert.Contains(t, f.Text, "www.example A")
				}
			}
			assert.ElementsMatch(t, tt.found, found)
			assert.Equal(t, tt.late, o.Late() != nil)
			assert.Equal(t, tt.duplicates, o.Duplicates)
			counted := 0
			for _, n := range o.Outcomes {
				counted += n
			}
			assert.Equal(t, o.Exchanges, counted)
		})
	}
}

// However many others ask meanwhile, within what is remembered, it is found who asks the same again elsewhere, and that
// one half of a pair fails: each time, and not by luck.
func TestAskedAmongManyOthers(t *testing.T) {
	ms := time.Millisecond
	office := netip.MustParseAddrPort("192.0.2.53:53")
	others := func(first, n int, from, to time.Duration) (all []packet) {
		for i := first; i < first+n; i++ {
			client := netip.AddrPortFrom(netip.AddrFrom4([4]byte{10, 1, byte(i >> 8), byte(i)}), 4000)
			at := from + time.Duration(i-first)*(to-from)/time.Duration(n)
			ask := packet{at: at, client: client, id: uint16(i), name: fmt.Sprintf("n%d.example", i)}
			reply := ask
			reply.reply = true
			all = append(all, ask, reply)
		}
		return all
	}
	for _, tt := range []struct {
		name    string
		others  int
		first   packet
		fails   bool    // the first is answered with a failure
		between *packet // what the same client asks for the same name meanwhile, and gets
		then    packet
		found   []string
	}{
		{"failed, and asked elsewhere", latestAsked - 10, packet{id: 7}, true, nil, packet{id: 8, server: office}, []string{"fault failed"}},
		{"failed, and asked elsewhere, with another type between", latestAsked - 10, packet{id: 7, t: wire.MX}, true, &packet{id: 9, t: wire.TXT}, packet{id: 8, t: wire.MX, server: office}, []string{"fault failed"}},
		{"failed, and another type asked elsewhere", latestAsked - 10, packet{id: 7, t: wire.MX}, true, nil, packet{id: 8, t: wire.TXT, server: office}, []string{"fault failed"}},
		{"the other half, with another type between", latestAsked - 10, packet{id: 7}, true, &packet{id: 9, t: wire.HTTPS}, packet{id: 8, t: wire.AAAA}, []string{"fault failed", "concern half-fails"}},
		{"the other half, far behind", latestAsked - 10, packet{id: 7}, true, nil, packet{id: 8, t: wire.AAAA}, []string{"fault failed", "concern half-fails"}},
		{"the other half of one that went well", latestAsked - 10, packet{id: 7}, false, nil, packet{id: 8, t: wire.AAAA}, nil},
		{"the same again, and it was answered", latestAsked - 10, packet{id: 7}, false, nil, packet{id: 8, server: office}, nil},
	} {
		t.Run(tt.name, func(t *testing.T) {
			whole := func(p packet, at time.Duration, code wire.RCode) []packet {
				p.at, p.client, p.name = at, desk, "www.example"
				reply := p
				reply.at, reply.reply, reply.code = at+ms, true, code
				return []packet{p, reply}
			}
			code := wire.NoError
			if tt.fails {
				code = wire.ServFail
			}
			packets := others(0, maxDone+10, 0, 100*ms) // from then on, the ordinary ones are settled at once
			packets = append(packets, whole(tt.first, 200*ms, code)...)
			if tt.between != nil {
				packets = append(packets, whole(*tt.between, 202*ms, wire.NoError)...)
			}
			packets = append(packets, others(2*maxDone, tt.others-1, 205*ms, 395*ms)...)
			packets = append(packets, whole(tt.then, 400*ms, wire.NoError)...)
			packets = append(packets, others(0, 1, 90*time.Second, 91*time.Second)...)
			for range 3 {
				var before, after int
				o, err := Read(t.Context(), []*capture.Reader{file(t, packets...)}, Options{Keep: -1, Each: func(p *Transaction) {
					if p.Client() == capture.EndpointOf(desk) && p.Related().Before.Number > 0 {
						before = p.Related().Before.Number
					}
					if p.Client() == capture.EndpointOf(desk) && p.Related().After.Number > 0 {
						after = p.Number
					}
				}})
				require.NoError(t, err)
				var found []string
				for _, f := range o.Findings {
					if f.Code != finding.ReadableNames {
						found = append(found, string(f.Severity)+" "+string(f.Code))
					}
				}
				assert.ElementsMatch(t, tt.found, found)
				if tt.fails && tt.then.t == tt.first.t {
					assert.Equal(t, maxDone+11, before)
					assert.Equal(t, before, after)
				} else {
					assert.Zero(t, before+after)
				}
			}
		})
	}
}
