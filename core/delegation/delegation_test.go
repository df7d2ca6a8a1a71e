package delegation

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/exchange"
	"unquil/core/wire"
)

func TestRoots(t *testing.T) {
	roots := PublishedRoots()
	assert.Len(t, roots, 13)
	for _, r := range roots {
		assert.Len(t, r.Addresses, 2, "%s has an address of each family", r.Host)
	}
	own, err := ReadRoots(strings.NewReader(". 60 NS east.roots.test.\neast.roots.test. 60 A 198.51.100.1\n"), "hints")
	require.NoError(t, err)
	assert.Equal(t, []Server{{wire.MustParseName("east.roots.test"), []netip.Addr{netip.MustParseAddr("198.51.100.1")}}}, own)
	_, err = ReadRoots(strings.NewReader(". 60 NS east.roots.test.\n"), "hints")
	require.ErrorIs(t, err, ErrNoRoots)
}

func TestStance(t *testing.T) {
	zone := wire.MustParseName("hollowtarn.example")
	record := func(owner string, typ wire.Type, text string) wire.Record {
		data, err := wire.ParseRecordData(typ, wire.IN, text)
		require.NoError(t, err)
		return wire.Record{Name: wire.MustParseName(owner), Type: typ, Class: wire.IN, Data: data}
	}
	address := record("www.lifts.hollowtarn.example", wire.A, "203.0.113.171")
	ns := func(owner string) []wire.Record { return []wire.Record{record(owner, wire.NS, "ns.farhost.test.")} }
	for _, tt := range []struct {
		name      string
		flags     wire.Flags
		answer    []wire.Record
		authority []wire.Record
		want      Stance
	}{
		{"the zone's own answer", wire.AA, []wire.Record{address}, nil, Answers},
		{"the zone's own word that there is no such name", wire.AA.WithRCode(wire.NXDomain), nil, nil, Answers},
		{"an answer out of a cache", 0, []wire.Record{address}, nil, LameNoAuthority},
		{"a referral further down", 0, nil, ns("lifts.hollowtarn.example"), Refers},
		{"a referral to the zone itself", 0, nil, ns("hollowtarn.example"), LameElsewhere},
		{"a referral upwards", 0, nil, ns("example"), LameElsewhere},
		{"a referral to the root", 0, nil, ns("."), LameElsewhere},
		{"a referral sideways", 0, nil, ns("north.hollowtarn.example"), LameNoAuthority},
		{"a refusal", wire.Flags(0).WithRCode(wire.Refused), nil, nil, LameRefuses},
		{"not authoritative, by its own word", wire.Flags(0).WithRCode(wire.NotAuth), nil, nil, LameRefuses},
		{"a failure", wire.Flags(0).WithRCode(wire.ServFail), nil, nil, Fails},
		{"a cut answer", wire.TC | wire.AA, nil, nil, Fails},
	} {
		t.Run(tt.name, func(t *testing.T) {
			q := wire.Question{Name: wire.MustParseName("www.lifts.hollowtarn.example"), Type: wire.A, Class: wire.IN}
			m := &wire.Message{Flags: wire.QR | tt.flags, Answer: tt.answer, Authority: tt.authority}
			e := &exchange.Exchange{Question: q, Reply: m, Outcome: exchange.Judge(q, m)}
			assert.Equal(t, tt.want, stance(zone, e))
		})
	}
	assert.Equal(t, Silent, stance(zone, &exchange.Exchange{Outcome: exchange.NoReply}))
	assert.Equal(t, CutShort, stance(zone, &exchange.Exchange{}))
}

// Glue counts only for hosts inside the zone whose server gives it: whoever
// serves example. has no say about names under test.
func TestGlueOutOfBailiwickIsNotBelieved(t *testing.T) {
	ns := func(host string) wire.Record {
		data, err := wire.ParseRecordData(wire.NS, wire.IN, host)
		require.NoError(t, err)
		return wire.Record{Name: wire.MustParseName("hollowtarn.example"), Type: wire.NS, Class: wire.IN, Data: data}
	}
	glue := func(host string) wire.Record {
		return wire.Record{Name: wire.MustParseName(host), Type: wire.A, Class: wire.IN, Data: "\xcb\x00\x71\x0b"}
	}
	servers := referred(wire.MustParseName("example"),
		[]wire.Record{ns("dns1.hollowtarn.example."), ns("ns.farhost.test.")},
		[]wire.Record{glue("DNS1.hollowtarn.example."), glue("ns.farhost.test.")})
	require.Len(t, servers, 2)
	assert.Len(t, servers[0].Addresses, 1)
	assert.Empty(t, servers[1].Addresses)
}

// Where a zone lists addresses that nobody elsewhere reaches, that is told.
func TestAddressesThatLeadNowhere(t *testing.T) {
	zone, host := wire.MustParseName("hollowtarn.example"), wire.MustParseName("dns1.hollowtarn.example")
	answered := &exchange.Exchange{Number: 7, Outcome: exchange.Answered}
	reply := func(address string, stance Stance) *Reply {
		r := &Reply{Host: host, Address: netip.MustParseAddr(address), Stance: stance}
		if stance != NotAsked {
			r.Exchange = answered
		}
		return r
	}
	for _, tt := range []struct {
		name    string
		replies []*Reply
		want    string // of the first finding; "" for none
	}{
		{"a public one answers", []*Reply{reply("203.0.113.11", Answers)}, ""},
		{"a private one answers", []*Reply{reply("10.0.0.1", Answers)}, "note dns1.hollowtarn.example is listed for hollowtarn.example with the private address 10.0.0.1, which other networks cannot reach."},
		{"all are loopback", []*Reply{reply("127.0.0.1", NotAsked)}, "fault dns1.hollowtarn.example (127.0.0.1) is listed for hollowtarn.example and was not queried: no public server can have that address (loopback)."},
		{"one of two is broadcast", []*Reply{reply("255.255.255.255", NotAsked), reply("203.0.113.11", Answers)}, "concern dns1.hollowtarn.example (255.255.255.255) is listed for hollowtarn.example and was not queried: no public server can have that address (broadcast)."},
	} {
		t.Run(tt.name, func(t *testing.T) {
			found := (&Step{Zone: zone, Question: wire.Question{Name: zone, Type: wire.A}, Replies: tt.replies}).serverFindings()
			if tt.want == "" {
				assert.Empty(t, found)
				return
			}
			require.NotEmpty(t, found)
			assert.Equal(t, tt.want, string(found[0].Severity)+" "+found[0].Text)
			assert.Equal(t, "address-nowhere", string(found[0].Code))
		})
	}
	own := run{Walker: &Walker{Roots: []Server{{host, []netip.Addr{netip.MustParseAddr("127.0.0.5")}}}}}
	why, _ := own.admit(netip.MustParseAddr("127.0.0.1"))
	assert.Empty(t, why, "a tree of the person's own")
	why, _ = own.admit(netip.MustParseAddr("224.0.0.1"))
	assert.NotEmpty(t, why)
	why, _ = (&run{Walker: &Walker{}}).admit(netip.MustParseAddr("127.0.0.1"))
	assert.NotEmpty(t, why)
}
