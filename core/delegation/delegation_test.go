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
