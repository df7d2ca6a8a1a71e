package zonecare_test

import (
	"io/fs"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/finding"
	"unquil/core/probe"
	"unquil/core/transfer"
	"unquil/core/wire"
	"unquil/core/zonecare"
	"unquil/core/zonefile"
	"unquil/lab"
	"unquil/lab/labtest"
)

var hollowtarn = wire.MustParseName("hollowtarn.example")

// contents are the records of a zone in its master file.
func contents(zone wire.Name, text string) (*zonecare.ZoneContents, error) {
	return zonecare.ReadContents("the file", zone, zonefile.Records(strings.NewReader(text), zonefile.Options{Origin: zone}))
}

// Servers are held against what they should serve, asked set by set or by a transfer: what they lack and what they add
// is told of each, and a server that has all of it has nothing to say.
func TestAgainst(t *testing.T) {
	master, err := fs.ReadFile(lab.Zones(), "hollowtarn.example.zone")
	require.NoError(t, err)
	for _, tt := range []struct {
		name        string
		change      func(text string) string
		transfer    bool     // which only one server gives, and it was left behind
		lacks, adds []string // OWNER TYPE
	}{
		{"as it is served", func(text string) string { return text }, false, nil, nil},
		{"as it is served, by a transfer", func(text string) string { return text }, true, nil, nil},
		{"a name more", func(text string) string { return text + "\nkiosk A 203.0.113.77\n" }, false, []string{"kiosk A"}, nil},
		{"a name more, by a transfer", func(text string) string { return text + "\nkiosk A 203.0.113.77\n" }, true, []string{"kiosk A"}, nil},
		{"one address of two less", func(text string) string { return strings.Replace(text, "web        A     203.0.113.121\n", "", 1) }, false, nil, []string{"web A"}},
		{"another address", func(text string) string { return strings.Replace(text, "203.0.113.60", "203.0.113.61", 1) }, false, []string{"phone A"}, []string{"phone A"}},
		{"another TTL", func(text string) string { return strings.Replace(text, "phone      A", "phone 60   A", 1) }, false, []string{"phone A"}, []string{"phone A"}},
		{"a name less, which only a transfer can show", func(text string) string { return strings.Replace(text, "phone      A     203.0.113.60\n", "", 1) }, true, nil, []string{"phone A"}},
		{"and one that asking cannot", func(text string) string { return strings.Replace(text, "phone      A     203.0.113.60\n", "", 1) }, false, nil, nil},
		{"addresses below a delegation are another zone's", func(text string) string { return text + "\nhost.valley A 203.0.113.78\n" }, false, nil, nil},
	} {
		t.Run(tt.name, func(t *testing.T) {
			should, err := contents(hollowtarn, tt.change(string(master)))
			require.NoError(t, err)
			p, _ := labtest.Prober(t)
			zone, ok := p.Zone(t.Context(), hollowtarn, probe.ZonePlan{Against: should, Plan: zonecare.Plan{TryTransfer: tt.transfer}})
			require.True(t, ok)
			require.NotEmpty(t, zone.Held)
			of := func(records []wire.Record) (list []string) {
				for _, r := range records {
					list = append(list, strings.TrimSuffix(r.Name.Spoken(), ".hollowtarn.example")+" "+r.Type.String())
				}
				return list
			}
			whole, current, stale := 0, 0, 0
			for _, h := range zone.Held {
				for _, f := range h.Findings {
					assert.Equal(t, finding.ContentDiffers, f.Code)
					assert.Equal(t, finding.Concern, f.Severity)
					assert.NotEmpty(t, f.Evidence)
					assert.Contains(t, f.Text, "records of the file")
				}
				assert.Equal(t, h.Missing+h.Surplus > 0, len(h.Findings) == 1)
				if h.Whole {
					whole++
				}
				switch {
				case h.State.Serial != zone.SOA.Serial: // it was left behind: it differs by more
					stale++
					assert.Contains(t, of(h.Adds), "tickets A")
					assert.Contains(t, of(h.Lacks), "tickets A")
					if h.Whole {
						assert.Subset(t, append(of(h.Lacks), "none"), append(tt.lacks, "none"))
						assert.Subset(t, append(of(h.Adds), "none"), append(tt.adds, "none"))
					}
				case !tt.transfer:
					current++
					assert.ElementsMatch(t, tt.lacks, of(h.Lacks), h.State.Host)
					assert.ElementsMatch(t, tt.adds, of(h.Adds), h.State.Host)
				}
			}
			assert.Equal(t, !tt.transfer, current > 0)
			assert.Positive(t, stale)
			assert.Equal(t, tt.transfer, whole > 0)
		})
	}
}

// What is no zone is refused: records of another, and a file that cannot be read.
func TestReadContents(t *testing.T) {
	_, err := contents(hollowtarn, "www.lanternpost.test. 60 IN A 203.0.113.1\n")
	assert.ErrorIs(t, err, transfer.ErrOutside)
	_, err = contents(hollowtarn, "www 60 IN A 203.0.113\n")
	assert.Error(t, err)
	c, err := contents(hollowtarn, "@ 60 IN SOA a b 1 2 3 4 5\nwww IN A 203.0.113.1\nnorth NS ns.north\nns.north A 203.0.113.2\n")
	require.NoError(t, err)
	assert.Len(t, c.Records, 4)
	assert.True(t, slices.ContainsFunc(c.Records, func(r wire.Record) bool { return r.Type == wire.NS }))
}
