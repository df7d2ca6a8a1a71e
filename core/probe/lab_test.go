package probe_test

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/comparison"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/machine"
	"unquil/core/probe"
	"unquil/core/wire"
	"unquil/lab"
	"unquil/lab/labtest"
)

func ask(name string, typ wire.Type) wire.Question {
	return wire.Question{Name: wire.MustParseName(name), Type: typ, Class: wire.IN}
}

func TestFollow(t *testing.T) {
	p, l := labtest.Prober(t)
	office := labtest.Resolver(t, l, "office")
	for _, tt := range []struct {
		name  string
		typ   wire.Type
		hosts map[string]int // how many addresses each host has
		found []string
	}{
		{"hollowtarn.example", wire.MX, map[string]int{"mx1.hollowtarn.example": 1, "mx1.lanternpost.test": 1}, nil},
		{"hollowtarn.example", wire.NS, map[string]int{"dns1.hollowtarn.example": 2, "dns2.hollowtarn.example": 1, "ns.farhost.test": 1}, nil},
		{"mail.valley.hollowtarn.example", wire.MX, map[string]int{"post.valley.hollowtarn.example": 1, "gone.valley.hollowtarn.example": 0}, []string{"concern target-is-alias", "fault target-unresolvable"}},
		{"_sip._tcp.hollowtarn.example", wire.SRV, map[string]int{"phone.hollowtarn.example": 1, "mx1.hollowtarn.example": 1}, nil},
		{"piste.hollowtarn.example", wire.HTTPS, map[string]int{"piste.hollowtarn.example": 2}, nil},
		{"_tickets._tcp.hollowtarn.example", wire.SVCB, map[string]int{"web.hollowtarn.example": 4}, nil},
		{"web.hollowtarn.example", wire.A, map[string]int{}, nil},
	} {
		t.Run(tt.name+" "+tt.typ.String(), func(t *testing.T) {
			e := p.Session.Ask(t.Context(), exchange.Request{Server: office, Question: ask(tt.name, tt.typ)})
			followed, found := p.Follow(t.Context(), []*exchange.Exchange{e})
			hosts := map[string]int{}
			for _, f := range followed {
				hosts[f.Host.Spoken()] = len(f.Addresses())
			}
			assert.Equal(t, tt.hosts, hosts)
			assert.Equal(t, tt.found, labtest.Codes(found))
			for _, f := range found {
				assert.Contains(t, f.Evidence, e.Number)
			}
		})
	}
}

func TestZoneTTLs(t *testing.T) {
	p, l := labtest.Prober(t)
	var exchanges []*exchange.Exchange
	for _, name := range []string{"tickets.hollowtarn.example", "web.hollowtarn.example", "nothing.hollowtarn.example"} {
		exchanges = append(exchanges, p.Session.Ask(t.Context(), exchange.Request{Server: labtest.Resolver(t, l, "office"), Question: ask(name, wire.A)}))
	}
	says := p.ZoneTTLs(t.Context(), exchanges)
	assert.Equal(t, map[wire.Question]probe.ZoneSays{
		ask("tickets.hollowtarn.example", wire.A): {TTL: 3600, Same: false},
		ask("web.hollowtarn.example", wire.A):     {TTL: 3600, Same: true},
	}, says)
}

func TestLookAround(t *testing.T) {
	p, l := labtest.Prober(t)
	office, closed := labtest.Resolver(t, l, "office"), labtest.Resolver(t, l, "closed")
	setup, err := machine.Read(lab.Machine(""))
	require.NoError(t, err)
	other := setup
	other.Search, other.Hosts = []string{"lanternpost.test", "hollowtarn.example"}, nil
	system := func(context.Context, string) ([]netip.Addr, error) {
		return []netip.Addr{netip.MustParseAddr("203.0.113.80")}, nil
	}
	for _, tt := range []struct {
		name      string
		setup     machine.Setup
		setupErr  error
		resolvers []exchange.Server
		typed     string
		found     []string
		asks      int // questions for the name
	}{
		{"nothing but the resolvers", setup, nil, []exchange.Server{office}, "", nil, 0},
		{"one that refuses", setup, nil, []exchange.Server{office, closed}, "", []string{"concern refused"}, 0},
		{"one alone, that refuses", setup, nil, []exchange.Server{closed}, "", []string{"fault refused"}, 0},
		{"the second where the first refuses", setup, nil, []exchange.Server{closed, office}, "web.hollowtarn.example.", []string{"concern refused"}, 4},
		{"none", machine.Setup{}, machine.ErrNoResolver, nil, "", []string{"fault no-resolver"}, 0},
		{"the hosts file gives another address", setup, nil, []exchange.Server{office}, "shop", []string{"fault hosts-override", "note suffix-appended"}, 2},
		{"a suffix that leads nowhere first", other, nil, []exchange.Server{office}, "web", []string{"note suffix-appended", "note suffix-detour"}, 4},
		{"a name as it is", setup, nil, []exchange.Server{office}, "web.hollowtarn.example.", nil, 2},
	} {
		t.Run(tt.name, func(t *testing.T) {
			local := p.LookAround(t.Context(), probe.Surroundings{Setup: tt.setup, SetupErr: tt.setupErr, Resolvers: tt.resolvers, System: system}, tt.typed, wire.MustParseName(strings.TrimSuffix(tt.typed, ".")+"."))
			assert.Equal(t, tt.found, labtest.Codes(local.Findings), "%+v", local.Findings)
			assert.Len(t, local.Tried, len(tt.resolvers))
			if tt.typed != "" {
				assert.Len(t, local.Name.Asked(), tt.asks)
				assert.NotNil(t, local.Name.Chosen)
				assert.Len(t, local.Name.System, 1)
			}
		})
	}
}

func TestReverse(t *testing.T) {
	p, l := labtest.Prober(t)
	addresses := slices.Values([]netip.Addr{netip.MustParseAddr("203.0.113.120"), netip.MustParseAddr("203.0.113.99"), netip.MustParseAddr("203.0.113.80")})
	var lines []string
	p.Reverse(t.Context(), labtest.Resolver(t, l, "isp"), addresses, probe.OnItsOwn, func(r probe.Reversal, found []finding.Finding) bool {
		line := r.Address.String()
		for _, n := range r.Names {
			line += fmt.Sprintf(" %s %t", n.Name.Spoken(), n.LeadsBack)
		}
		lines = append(lines, line+fmt.Sprint(labtest.Codes(found)))
		return true
	})
	assert.Equal(t, []string{"203.0.113.120 web.hollowtarn.example true[]", "203.0.113.99[concern reverse-missing]", "203.0.113.80 web.hollowtarn.example false[concern reverse-mismatch]"}, lines)
}

func TestWatchEndsByItsCondition(t *testing.T) {
	p, l := labtest.Prober(t)
	servers := []exchange.Server{labtest.Resolver(t, l, "isp"), labtest.Resolver(t, l, "public")}
	clock := time.Date(2026, 3, 9, 7, 40, 0, 0, time.UTC)
	for _, tt := range []struct {
		name string
		w    probe.Watch
		met  bool
		most int // rounds
	}{
		{"all agree at once", probe.Watch{Every: time.Millisecond, UntilAgree: true}, true, 1},
		{"all give the value", probe.Watch{Every: time.Millisecond, Until: []string{"203.0.113.140"}}, true, 1},
		{"the time is over", probe.Watch{Every: 10 * time.Millisecond, For: 35 * time.Millisecond, Until: []string{"192.0.2.1"}}, false, 4},
	} {
		t.Run(tt.name, func(t *testing.T) {
			tt.w.Now, tt.w.Ticker = func() time.Time { return clock }, ticker
			rounds, events := 0, 0
			result := p.Watch(t.Context(), servers, []wire.Question{ask("tickets.hollowtarn.example", wire.A)}, tt.w, func(comparison.Event) { events++ }, func([]*comparison.Track) { rounds++ })
			assert.Equal(t, tt.met, result.Met)
			assert.LessOrEqual(t, result.Rounds, tt.most)
			assert.Equal(t, result.Rounds, rounds)
			assert.Equal(t, 2, events, "each server's first answer")
		})
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	result := p.Watch(ctx, servers, []wire.Question{ask("tickets.hollowtarn.example", wire.A)}, probe.Watch{Every: time.Hour, Now: time.Now, Ticker: ticker}, func(comparison.Event) {}, func([]*comparison.Track) {})
	assert.True(t, result.Cut)
	assert.Zero(t, result.Tracks[0].Asked, "what was cut short does not count")
}

func ticker(every time.Duration) (ticks <-chan time.Time, stop func()) {
	t := time.NewTicker(every)
	return t.C, t.Stop
}

// A PTR record without its final dot leads into the reverse zone, and is told to be that.
func TestPointersWithoutTheirDot(t *testing.T) {
	for target, want := range map[string]string{
		"gate.hollowtarn.example.113.0.203.in-addr.arpa": "which is gate.hollowtarn.example without its final dot",
		"gate.hollowtarn.example.in-addr.arpa":           "which is gate.hollowtarn.example without its final dot",
		"gate.113.0.203.in-addr.arpa":                    "resolves to no address",
		"gate.hollowtarn.example":                        "resolves to no address",
	} {
		r := probe.Reversal{Address: netip.MustParseAddr("203.0.113.9"), Name: wire.MustParseName("9.113.0.203.in-addr.arpa"),
			Exchange: &exchange.Exchange{Number: 1, Outcome: exchange.Answered}}
		e := &exchange.Exchange{Number: 2, Outcome: exchange.NoName}
		r.Names = []probe.Returned{{Name: wire.MustParseName(target), Exchanges: []*exchange.Exchange{e}}}
		found := r.Found(probe.OnItsOwn)
		require.Len(t, found, 1, target)
		assert.Contains(t, found[0].Text, want)
		assert.Equal(t, strings.Contains(want, "final dot"), strings.Contains(found[0].Next, "final dot"), target)
	}
}
