package probe_test

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"unquil/core/probe"
	"unquil/core/wire"
	"unquil/core/zonecare"
	"unquil/lab/labtest"
)

// Each zone of the lab, with who is to blame for what.
func TestZone(t *testing.T) {
	for _, tt := range []struct {
		name, zone string
		servers    int // addresses
		found      []string
	}{
		{"web.hollowtarn.example", "hollowtarn.example", 4, []string{"concern serials-differ ns.farhost.test."}},
		{"valley.hollowtarn.example", "valley.hollowtarn.example", 5, []string{"concern glue-differs attic.valley.hollowtarn.example.", "concern ns-set-differs ", "concern unreachable attic.valley.hollowtarn.example."}},
		{"north.hollowtarn.example", "north.hollowtarn.example", 2, []string{"concern one-network ", "concern unreachable n2.north.hollowtarn.example."}},
		{"lifts.hollowtarn.example", "lifts.hollowtarn.example", 3, []string{"fault lame-server ns2.farhost.test.", "fault lame-server one.lanternpost.test."}},
		{"www.old.hollowtarn.example", "old.hollowtarn.example", 1, []string{"concern edns-breaks museum.old.hollowtarn.example.", "concern single-server museum.old.hollowtarn.example."}},
		{"season.passes.hollowtarn.example", "passes.hollowtarn.example", 2, []string{"concern tcp-refused desk1.passes.hollowtarn.example.", "concern tcp-refused desk2.passes.hollowtarn.example."}},
		{"mx1.lanternpost.test", "lanternpost.test", 2, []string{"concern one-network "}},
		{"snow.fellcast.test", "fellcast.test", 3, nil},
	} {
		t.Run(tt.name, func(t *testing.T) {
			p, _ := labtest.Prober(t)
			zone, ok := p.Zone(t.Context(), wire.MustParseName(tt.name), probe.ZonePlan{})
			assert.True(t, ok)
			assert.Equal(t, tt.zone, zone.Zone.Spoken())
			assert.Len(t, zone.States, tt.servers)
			var found []string
			seen := map[string]bool{}
			for _, f := range zone.AllFindings() {
				line := fmt.Sprintf("%s %s %s", f.Severity, f.Code, f.About.Server)
				assert.NotEmpty(t, f.Evidence, line)
				if !seen[line] {
					seen[line], found = true, append(found, line)
				}
			}
			slices.Sort(found)
			assert.Equal(t, tt.found, found)
		})
	}
}

// What unusual timers are told, as notes.
func TestTimers(t *testing.T) {
	usual := wire.SOAData{Refresh: 7200, Retry: 900, Expire: 1209600, Minimum: 600}
	for name, tt := range map[string]struct {
		change func(*wire.SOAData)
		notes  int
	}{
		"usual":                   {func(*wire.SOAData) {}, 0},
		"expires too soon":        {func(s *wire.SOAData) { s.Expire = 3600 }, 2},
		"asks too often":          {func(s *wire.SOAData) { s.Refresh = 600 }, 2},
		"asks too seldom":         {func(s *wire.SOAData) { s.Refresh = 86400 }, 1},
		"remembers none too long": {func(s *wire.SOAData) { s.Minimum = 172800 }, 1},
	} {
		soa := usual
		tt.change(&soa)
		assert.Len(t, zonecare.UnusualTimers(soa), tt.notes, name)
	}
}
