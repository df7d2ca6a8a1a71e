package delegation

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// walk walks over a scripted network, with a walker as change leaves it.
func walk(t *testing.T, network script, ask string, change func(*Walker)) (*Walk, []exchange.Exchange) {
	session := &exchange.Session{Client: &exchange.Client{Network: network, Now: time.Now, Options: exchange.Options{Wait: time.Second, Attempts: 1}}}
	walker := Walker{Session: session, Roots: []Server{{wire.MustParseName("east.roots.test"), []netip.Addr{netip.MustParseAddr("198.51.100.1")}}}}
	if change != nil {
		change(&walker)
	}
	w := walker.Walk(t.Context(), wire.Question{Name: wire.MustParseName(ask), Type: wire.A, Class: wire.IN})
	return w, session.Exchanges()
}

// What a walk learns beside its way, and the ways to walk differently.
func TestWalkKnowsMore(t *testing.T) {
	one, two := "203.0.113.11", "203.0.113.12"
	tarn := refer(t, []string{"tarn.example NS ns1.tarn.example.", "tarn.example NS ns2.tarn.example."}, "ns1.tarn.example A "+one, "ns2.tarn.example A "+two)
	lines := []string{"www.tarn.example A 203.0.113.120", "deep.below.tarn.example A 203.0.113.121", "*.guest.tarn.example A 203.0.113.66", "a.guest.tarn.example A 203.0.113.66", "old.tarn.example DNAME lake.test."}
	for i := range 10 {
		lines = append(lines, fmt.Sprintf("l%d.tarn.example CNAME l%d.tarn.example.", i, i+1))
	}
	zone := serve(t, "tarn.example", 7, append(lines, "l10.tarn.example A 203.0.113.120")...)
	denies := func(q wire.Question) *wire.Message {
		m := zone(q)
		if q.Name.Equal(wire.MustParseName("below.tarn.example")) {
			m.Flags = m.Flags.WithRCode(wire.NXDomain)
		}
		return m
	}
	dname := func(q wire.Question) *wire.Message { // without the alias that should come along
		if q.Name.Equal(wire.MustParseName("www.old.tarn.example")) {
			return &wire.Message{Flags: wire.AA, Answer: records(t, "old.tarn.example DNAME lake.test.")}
		}
		return zone(q)
	}
	child := func(q wire.Question) *wire.Message {
		if q.Name.IsSubdomainOf(wire.MustParseName("depot.tarn.example")) {
			return serve(t, "depot.tarn.example", 3, "www.depot.tarn.example A 203.0.113.73")(q)
		}
		return zone(q)
	}
	lake := serve(t, "test", 1, "www.lake.test A 203.0.113.70", "ns.lake.test A "+one, "alias.lake.test CNAME ns.lake.test.")
	primes := func(q wire.Question) *wire.Message {
		if q.Name.IsRoot() {
			return &wire.Message{Flags: wire.AA, Answer: records(t, ". NS east.roots.test.", ". NS west.roots.test."), Additional: records(t, "east.roots.test A 198.51.100.9", "west.roots.test A 198.51.100.2")}
		}
		return root(t)(q)
	}
	minimise := func(w *Walker) { w.Minimise = true }
	for _, tt := range []struct {
		name    string
		network script
		ask     string
		change  func(*Walker)
		end     End
		found   []string
		check   func(w *Walk, all []exchange.Exchange)
	}{
		{"a name below one with no records", script{one: zone, two: zone}, "deep.below.tarn.example", nil, EndAnswer, nil, nil},
		{"a server that denies the name between", script{one: denies, two: denies}, "deep.below.tarn.example", nil, EndAnswer, []string{"name-denied ns"}, nil},
		{"the same, found by showing less", script{one: denies, two: denies}, "deep.below.tarn.example", minimise, EndAnswer, []string{"name-denied ns"}, nil},
		{"how far a missing name exists", script{one: zone, two: zone}, "a.b.below.tarn.example", nil, EndNoName, nil, func(w *Walk, _ []exchange.Exchange) { assert.Equal(t, "below.tarn.example.", w.Closest.String()) }},
		{"the same as a wildcard", script{one: zone, two: zone}, "a.guest.tarn.example", nil, EndAnswer, nil, func(w *Walk, _ []exchange.Exchange) {
			assert.Equal(t, "*.guest.tarn.example.", w.Wildcard.Name.String())
			assert.False(t, w.Wildcard.Proven)
		}},
		{"nothing like a wildcard", script{one: zone, two: zone}, "www.tarn.example", nil, EndAnswer, nil, func(w *Walk, _ []exchange.Exchange) { assert.Nil(t, w.Wildcard) }},
		{"a whole tree redirected", script{one: dname, two: dname, "198.51.100.21": lake}, "www.old.tarn.example", nil, EndAnswer, nil, func(w *Walk, _ []exchange.Exchange) {
			assert.Equal(t, []string{"203.0.113.70"}, exchange.Values(w.Records))
		}},
		{"ten aliases", script{one: zone, two: zone}, "l0.tarn.example", nil, EndAnswer, []string{"alias-long "}, nil},
		{"a server whose host name is an alias", script{"198.51.100.11": refer(t, []string{"tarn.example NS alias.lake.test."}), "198.51.100.21": lake, one: zone}, "www.tarn.example", nil, EndAnswer, []string{"ns-is-alias alias.lake.test."}, nil},
		{"a zone that only one server knows of", script{one: zone, two: child}, "www.depot.tarn.example", nil, EndNoName, []string{"no-delegation ns2.tarn.example."}, nil},
		{"root hints that are out of date", script{"198.51.100.1": primes, "198.51.100.2": root(t), one: zone, two: zone}, "www.tarn.example", func(w *Walker) { w.Prime = true }, EndAnswer, []string{"hints-old ", "hints-old "}, func(w *Walk, _ []exchange.Exchange) {
			assert.Equal(t, "west.roots.test.", w.Priming.Unknown[0].String())
			assert.Equal(t, "east.roots.test.", w.Priming.Moved[0].String())
			assert.Len(t, w.Steps[0].Replies, 2, "the one that the hints lack is asked too")
		}},
		{"no more shown than needed", script{one: zone, two: zone}, "deep.below.tarn.example", minimise, EndAnswer, nil, func(w *Walk, all []exchange.Exchange) {
			for _, e := range all {
				if zone := e.Server.Host; zone == "east.roots.test." {
					assert.Equal(t, 1, e.Question.Name.Labels(), "%s at the root", e.Question)
				} else if zone == "ns.example." {
					assert.GreaterOrEqual(t, 2, e.Question.Name.Labels(), "%s at example", e.Question)
				}
			}
		}},
		{"one server a level", script{one: zone, two: zone}, "www.tarn.example", func(w *Walker) { w.One = true }, EndAnswer, nil, func(w *Walk, _ []exchange.Exchange) { assert.Len(t, w.Last().Replies, 1) }},
		{"one server a level, the first of them dead", script{one: silent, two: zone}, "www.tarn.example", func(w *Walker) { w.One = true }, EndAnswer, []string{"no-reply ns1.tarn.example."}, nil},
		{"begun at a server further down", script{"198.51.100.11": tarn, one: zone, two: zone}, "www.tarn.example", func(w *Walker) {
			w.Start = []Server{{wire.MustParseName("ns.example"), []netip.Addr{netip.MustParseAddr("198.51.100.11")}}}
		}, EndAnswer, nil, func(w *Walk, _ []exchange.Exchange) { assert.True(t, w.Steps[0].Given); assert.Len(t, w.Steps, 2) }},
		{"begun at a server that refuses", script{"198.51.100.11": refuse}, "www.tarn.example", func(w *Walker) {
			w.Start = []Server{{wire.MustParseName("ns.example"), []netip.Addr{netip.MustParseAddr("198.51.100.11")}}}
		}, EndNoServer, []string{"refused ns.example."}, nil},
	} {
		t.Run(tt.name, func(t *testing.T) {
			for address, answer := range map[string]func(wire.Question) *wire.Message{"198.51.100.1": root(t), "198.51.100.11": tarn} {
				if tt.network[address] == nil {
					tt.network[address] = answer
				}
			}
			w, all := walk(t, tt.network, tt.ask, tt.change)
			assert.Equal(t, tt.end, w.End)
			var found []string
			for _, f := range w.Findings {
				line := string(f.Code) + " " + f.About.Server
				if f.Code == "name-denied" {
					line = "name-denied ns" // either of the two
				}
				found = append(found, line)
				assert.NotEmpty(t, f.Evidence, line)
			}
			assert.Equal(t, tt.found, found)
			if tt.check != nil {
				tt.check(w, all)
			}
		})
	}
}

// A signature over fewer labels than the name has proves a wildcard.
func TestSignedWildcard(t *testing.T) {
	signed := func(q wire.Question) *wire.Message {
		m := &wire.Message{Flags: wire.AA}
		switch {
		case q.Type == wire.SOA:
			m.Answer = records(t, "tarn.example SOA a. b. 7 2 3 4 5")
		case q.Name.Equal(wire.MustParseName("any.guest.tarn.example")):
			m.Answer = records(t, "any.guest.tarn.example A 203.0.113.66", "any.guest.tarn.example RRSIG A 13 3 60 20260401000000 20260301000000 1 tarn.example. dGFybg==")
		default:
			m.Flags = m.Flags.WithRCode(wire.NXDomain)
		}
		return m
	}
	w, _ := walk(t, script{"198.51.100.1": root(t), "198.51.100.11": refer(t, []string{"tarn.example NS ns1.tarn.example."}, "ns1.tarn.example A 203.0.113.11"), "203.0.113.11": signed}, "any.guest.tarn.example", nil)
	require.NotNil(t, w.Wildcard)
	assert.True(t, w.Wildcard.Proven)
	assert.Equal(t, "*.guest.tarn.example.", w.Wildcard.Name.String())
}

func TestMinimiserIsBounded(t *testing.T) {
	m := minimiser{on: true}
	name := wire.MustParseName("1.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.8.b.d.0.1.0.0.2.ip6.arpa")
	zone := wire.MustParseName("arpa")
	shown := 0
	for last := 0; ; shown++ {
		q := m.question(zone, wire.Question{Name: name, Type: wire.PTR, Class: wire.IN})
		assert.Greater(t, q.Name.Labels(), last)
		if last = q.Name.Labels(); q.Name.Equal(name) {
			assert.Equal(t, wire.PTR, q.Type)
			break
		}
		m.answered(q.Name, name, &wire.Message{})
	}
	assert.LessOrEqual(t, shown, minimiseMost)
}
