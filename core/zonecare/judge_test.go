package zonecare

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/transfer"
	"unquil/core/wire"
)

var tarn = wire.MustParseName("tarn.example")

// said is an exchange in which a server said records, in lines OWNER TYPE VALUE.
func said(t testing.TB, number int, flags wire.Flags, name string, typ wire.Type, lines ...string) *exchange.Exchange {
	m := &wire.Message{Flags: wire.QR | flags}
	for _, line := range lines {
		words := strings.SplitN(line, " ", 3)
		rt, err := wire.ParseType(words[1])
		require.NoError(t, err)
		data, err := wire.ParseRecordData(rt, wire.IN, words[2])
		require.NoError(t, err)
		m.Answer = append(m.Answer, wire.Record{Name: wire.MustParseName(words[0]), Type: rt, Class: wire.IN, TTL: 60, Data: data})
	}
	q := wire.Question{Name: wire.MustParseName(name), Type: typ, Class: wire.IN}
	return &exchange.Exchange{Number: number, Question: q, Reply: m, Outcome: exchange.Judge(q, m)}
}

func silent(number int) *exchange.Exchange {
	return &exchange.Exchange{Number: number, Outcome: exchange.NoReply}
}

// state is a server that does all as it should.
func state(t testing.TB, number int, host, address string, serial int, ns ...string) *State {
	var list []string
	for _, h := range ns {
		list = append(list, "tarn.example NS "+h)
	}
	return &State{
		Server:   Server{wire.MustParseName(host), netip.MustParseAddr(address)},
		SOA:      said(t, number, wire.AA, "tarn.example", wire.SOA, fmt.Sprintf("tarn.example SOA a. b. %d 7200 900 1209600 600", serial)),
		NS:       said(t, number+1, wire.AA, "tarn.example", wire.NS, list...),
		TCP:      said(t, number+2, wire.AA, "tarn.example", wire.SOA),
		Stranger: said(t, number+3, wire.Flags(0).WithRCode(wire.Refused), "east.roots.test", wire.A),
	}
}

// What is told of a zone's servers, by the one thing about them that is not as it
// should be.
func TestJudge(t *testing.T) {
	one, two := "ns1.tarn.example.", "ns2.tarn.example."
	for _, tt := range []struct {
		name   string
		change func(r *Report)
		found  []string
	}{
		{"all is well", func(*Report) {}, nil},
		{"the zone lists one more", func(r *Report) { r.Hosts = append(r.Hosts, wire.MustParseName("ns3.lake.test")) }, []string{"concern ns-set-differs "}},
		{"one without its final dot", func(r *Report) { r.Hosts = append(r.Hosts, wire.MustParseName("ns2.tarn.example.tarn.example")) }, []string{"concern ns-set-differs ns2.tarn.example.tarn.example."}},
		{"other data with the same serial", func(r *Report) {
			mine, theirs := said(t, 60, wire.AA, "tarn.example", wire.A, "tarn.example A 192.0.2.1"), said(t, 61, wire.AA, "tarn.example", wire.A, "tarn.example A 192.0.2.2")
			mine.Server.Host, theirs.Server.Host = "a.", "b."
			r.States[0].Sets, r.States[1].Sets = []*exchange.Exchange{mine}, []*exchange.Exchange{theirs}
			r.compare()
			for i := range r.differences {
				r.differences[i].again = []*exchange.Exchange{mine, theirs}
			}
		}, []string{"fault answers-differ "}},
		{"data that changes from query to query", func(r *Report) {
			mine, theirs := said(t, 60, wire.AA, "tarn.example", wire.A, "tarn.example A 192.0.2.1"), said(t, 61, wire.AA, "tarn.example", wire.A, "tarn.example A 192.0.2.2")
			mine.Server.Host, theirs.Server.Host = "a.", "b."
			other := *theirs
			other.Reply = mine.Reply
			r.States[0].Sets, r.States[1].Sets = []*exchange.Exchange{mine}, []*exchange.Exchange{theirs}
			r.compare()
			for i := range r.differences {
				r.differences[i].again = []*exchange.Exchange{mine, &other}
			}
		}, []string{"note answers-differ ns2.tarn.example."}},
		{"the parent lists one more", func(r *Report) { r.Parent.Hosts = append(r.Parent.Hosts, wire.MustParseName("ns3.lake.test")) }, []string{"concern ns-set-differs "}},
		{"no glue for one", func(r *Report) { delete(r.Parent.Glue, wire.MustParseName(two)) }, []string{"concern glue-missing " + two}},
		{"old glue for one", func(r *Report) {
			r.Parent.Glue[wire.MustParseName(two)] = []netip.Addr{netip.MustParseAddr("192.0.2.99")}
		}, []string{"concern glue-differs " + two}},
		{"one address more than the parent knows", func(r *Report) {
			r.Own[wire.MustParseName(two)] = append(r.Own[wire.MustParseName(two)], netip.MustParseAddr("2001:db8::12"))
		}, []string{"note glue-differs " + two}},
		{"a host that is an alias", func(r *Report) {
			r.shown[wire.MustParseName(two)] = []*exchange.Exchange{said(t, 50, wire.AA, two, wire.A, two+" CNAME other.tarn.example.")}
		}, []string{"concern ns-is-alias " + two}},
		{"one server in all", func(r *Report) {
			r.States, r.Hosts, r.Parent.Hosts = r.States[:1], r.Hosts[:1], r.Parent.Hosts[:1]
		}, []string{"concern single-server " + one}},
		{"all in one network", func(r *Report) { r.States[1].Address = netip.MustParseAddr("203.0.113.12") }, []string{"concern one-network "}},
		{"no TCP at one", func(r *Report) { r.States[1].TCP = silent(9) }, []string{"concern tcp-refused " + two}},
		{"EDNS breaks one", func(r *Report) { r.States[1].SOA.EDNSBroke = exchange.FormatError }, []string{"concern edns-breaks " + two}},
		{"EDNS is ignored by one", func(r *Report) { r.States[1].SOA.EDNSIgnored = true }, []string{"note edns-ignored " + two}},
		{"one looks up names for strangers", func(r *Report) {
			r.States[1].Stranger = said(t, 9, wire.RA, "east.roots.test", wire.A, "east.roots.test A 198.51.100.1")
		}, []string{"concern recursion-open " + two}},
		{"one gives the zone away", func(r *Report) {
			r.States[1].Transfer = &transfer.Result{Exchange: &exchange.Exchange{Number: 9}}
		}, []string{"concern transfer-open " + two}},
		{"one refuses the zone, as it should", func(r *Report) {
			r.States[1].Transfer = &transfer.Result{Exchange: &exchange.Exchange{Number: 9}, Err: transfer.ErrRefused}
		}, nil},
		{"an alias at the zone's own name", func(r *Report) {
			r.States[1].SOA = said(t, 9, wire.AA, "tarn.example", wire.SOA, "tarn.example SOA a. b. 7 7200 900 1209600 600", "tarn.example CNAME lake.test.")
		}, []string{"fault alias-with-data " + two}},
		{"one lags", func(r *Report) { r.States[1].Serial = 5 }, []string{"concern serials-differ " + two}},
		{"serials wrap", func(r *Report) { r.States[1].Serial, r.SOA.Serial, r.States[0].Serial = 4294967295, 2, 2 }, []string{"concern serials-differ " + two}},
		{"a timer", func(r *Report) { r.SOA.Refresh = 600 }, []string{"note soa-timers ", "note soa-timers "}},
		{"one that only the zone lists refuses", func(r *Report) {
			s := state(t, 40, "ns3.lake.test", "192.0.2.3", 7)
			s.SOA, s.Unlisted, s.ByZone, s.HasSerial = said(t, 40, wire.Flags(0).WithRCode(wire.Refused), "tarn.example", wire.SOA), true, true, false
			r.States = append(r.States, s)
		}, []string{"concern lame-server ns3.lake.test."}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			r := &Report{Zone: tarn, Own: map[wire.Name][]netip.Addr{}, shown: map[wire.Name][]*exchange.Exchange{},
				Parent: Parent{Hosts: []wire.Name{wire.MustParseName(one), wire.MustParseName(two)}, Glue: map[wire.Name][]netip.Addr{}},
				States: []*State{state(t, 1, one, "203.0.113.11", 7, one, two), state(t, 5, two, "198.51.100.12", 7, one, two)}}
			for _, s := range r.States {
				s.readSerial()
				r.Parent.Glue[s.Host], r.Own[s.Host] = []netip.Addr{s.Address}, []netip.Addr{s.Address}
			}
			r.settle()
			require.True(t, r.Known)
			require.Len(t, r.Hosts, 2)
			tt.change(r)
			r.judge()
			var found []string
			for _, f := range r.Findings {
				found = append(found, fmt.Sprintf("%s %s %s", f.Severity, f.Code, f.About.Server))
				assert.Equal(t, "tarn.example.", f.About.Zone)
				assert.NotContains(t, f.Text, "%!")
			}
			assert.Equal(t, tt.found, found)
		})
	}
}

// Seen judges what a walk saw of few servers, and says nothing of what it did not see.
func TestSeen(t *testing.T) {
	one, two := wire.MustParseName("ns1.tarn.example"), wire.MustParseName("ns2.tarn.example")
	parent := Parent{Hosts: []wire.Name{one, two}, Glue: map[wire.Name][]netip.Addr{one: {netip.MustParseAddr("203.0.113.11")}, two: {netip.MustParseAddr("198.51.100.12")}}}
	seen := func(states ...*State) []finding.Code {
		var codes []finding.Code
		for _, f := range Seen(tarn, parent, states, nil) {
			codes = append(codes, f.Code)
		}
		return codes
	}
	first := state(t, 1, "ns1.tarn.example", "203.0.113.11", 7, "ns1.tarn.example.", "ns2.tarn.example.")
	second := state(t, 5, "ns2.tarn.example", "203.0.113.12", 7)
	second.NS = nil
	assert.Equal(t, []finding.Code{finding.OneNetwork}, seen(first, second), "both stand in one network")
	assert.Empty(t, seen(first), "where the other stands was not seen")
	first.NS = said(t, 2, wire.AA, "tarn.example", wire.NS, "tarn.example NS ns1.tarn.example.")
	assert.True(t, slices.Contains(seen(first), finding.NSSetDiffers))
}
