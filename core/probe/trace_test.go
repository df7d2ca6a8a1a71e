package probe_test

import (
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/delegation"
	"unquil/core/exchange"
	"unquil/core/probe"
	"unquil/core/wire"
	"unquil/core/zonecare"
	"unquil/core/zonefile"
	"unquil/lab/labtest"
)

// On a walk each zone on the way is held against what its parent says of it.
func TestTraceJudgesZonesOnTheWay(t *testing.T) {
	for _, tt := range []struct {
		name  string
		t     wire.Type
		found []string // severity, code, server; what is said of two addresses once
	}{
		{"web.hollowtarn.example", wire.A, []string{"note serials-differ ns.farhost.test."}},
		{"www.farhost.test", wire.A, nil},
		{"11.113.0.203.in-addr.arpa", wire.PTR, nil},
		{"nothing.valley.hollowtarn.example", wire.A, []string{"concern glue-differs attic.valley.hollowtarn.example.", "concern ns-set-differs ", "concern unreachable attic.valley.hollowtarn.example."}},
		{"www.old.hollowtarn.example", wire.A, []string{"concern edns-breaks museum.old.hollowtarn.example.", "concern single-server museum.old.hollowtarn.example."}},
		{"mx1.lanternpost.test", wire.A, []string{"concern one-network "}},
		{"www.depot.hollowtarn.example", wire.A, []string{"fault no-delegation ns.farhost.test.", "note serials-differ ns.farhost.test."}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			p, _ := labtest.Prober(t)
			walker := &delegation.Walker{Session: p.Session, Roots: p.Roots, Prime: true}
			walk := probe.Trace(t.Context(), walker, wire.Question{Name: wire.MustParseName(tt.name), Type: tt.t, Class: wire.IN})
			var found []string
			for _, f := range walk.Findings {
				line := fmt.Sprintf("%s %s %s", f.Severity, f.Code, f.About.Server)
				if !slices.Contains(found, line) {
					found = append(found, line)
				}
			}
			slices.Sort(found)
			assert.Equal(t, tt.found, found)
			assert.NotNil(t, walk.Priming)
		})
	}
}

// What else can be asked of a zone's servers.
func TestZonePlans(t *testing.T) {
	p, l := labtest.Prober(t)
	far := exchange.Server{Host: "ns.farhost.test.", Address: netip.MustParseAddrPort("203.0.113.77:53")}
	t.Run("a zone that nobody delegates", func(t *testing.T) {
		zone, ok := p.Zone(t.Context(), wire.MustParseName("www.depot.hollowtarn.example"), probe.ZonePlan{Also: []exchange.Server{far}})
		require.True(t, ok)
		assert.Equal(t, "depot.hollowtarn.example.", zone.Zone.String())
		require.NotNil(t, zone.Undelegated)
		assert.Equal(t, "hollowtarn.example.", zone.Undelegated.Parent.String())
		require.Len(t, zone.States, 1)
		assert.True(t, zone.States[0].Unlisted)
		assert.Equal(t, []string{"fault no-delegation"}, labtest.Codes(zone.AllFindings()))
	})
	t.Run("a server that is listed anyway", func(t *testing.T) {
		zone, ok := p.Zone(t.Context(), wire.MustParseName("hollowtarn.example"), probe.ZonePlan{Also: []exchange.Server{far}})
		require.True(t, ok)
		assert.Len(t, zone.States, 4, "it is looked at once")
	})
	t.Run("who gives the zone away", func(t *testing.T) {
		plan := probe.ZonePlan{}
		plan.TryTransfer = true
		zone, ok := p.Zone(t.Context(), wire.MustParseName("hollowtarn.example"), plan)
		require.True(t, ok)
		for _, s := range zone.States {
			require.NotNil(t, s.Transfer)
			assert.Equal(t, s.Host.String() == "ns.farhost.test.", s.Transfer.Err == nil, "%s", s.Host)
		}
		left, known := zone.States[3].Expires()
		assert.True(t, known)
		assert.Equal(t, uint32(283*3600), left)
		assert.Equal(t, "dns1.hollowtarn.example", zone.States[0].NSID())
	})
	t.Run("against its own file", func(t *testing.T) {
		origin := wire.MustParseName("hollowtarn.example")
		file, err := os.Open("../../lab/zones/hollowtarn.example.zone")
		require.NoError(t, err)
		defer file.Close()
		contents, err := zonecare.ReadContents("the file", origin, zonefile.Records(file, zonefile.Options{Origin: origin}))
		require.NoError(t, err)
		zone, ok := p.Zone(t.Context(), origin, probe.ZonePlan{Against: contents})
		require.True(t, ok)
		require.Len(t, zone.Held, 4)
		for _, h := range zone.Held {
			differs := 0
			if h.State.Host.String() == "ns.farhost.test." {
				differs = 2 // its SOA and what moved
			}
			assert.Equal(t, []int{differs, differs}, []int{h.Missing, h.Surplus}, "%s", h.State.Address)
			assert.Zero(t, h.Silent)
			assert.Greater(t, h.Sets, 60)
		}
	})
	t.Run("a file of another zone", func(t *testing.T) {
		records := zonefile.Records(strings.NewReader("www.lake.test. 60 A 192.0.2.1\n"), zonefile.Options{})
		_, err := zonecare.ReadContents("the file", wire.MustParseName("hollowtarn.example"), records)
		require.Error(t, err)
	})
	assert.NotNil(t, l)
}
