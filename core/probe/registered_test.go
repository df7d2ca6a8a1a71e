package probe_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"unquil/core/wire"
	"unquil/lab/labtest"
)

// What the DNS says of a domain, as it is held against its registry.
func TestRegistered(t *testing.T) {
	p, _ := labtest.Prober(t)
	for _, tt := range []struct {
		domain                         string
		parent, zone                   int
		parentTold, zoneTold, keysTold bool
	}{
		{"hollowtarn.example.", 3, 3, true, true, true},
		{"fellcast.test.", 2, 2, true, true, true},
		{"summit-huts.example.", 0, 0, true, false, true},
		{"soon.example.", 2, 0, true, false, true},            // its servers have no such zone
		{"mirror.example.", 2, 0, true, false, true},          // and here they cannot be found
		{"www.hollowtarn.example.", 0, 0, false, false, true}, // a name, and not a zone
		{"nobodys.nowhere.", 0, 0, true, false, true},
	} {
		seen := p.Registered(t.Context(), wire.MustParseName(tt.domain))
		assert.Equal(t, []any{tt.parent, tt.zone}, []any{len(seen.Parent), len(seen.Zone)}, tt.domain)
		assert.Equal(t, []bool{tt.parentTold, tt.zoneTold, tt.keysTold}, []bool{seen.ParentTold, seen.ZoneTold, seen.DSTold}, tt.domain)
		assert.NotEmpty(t, seen.Evidence, tt.domain)
		assert.Equal(t, tt.domain == "hollowtarn.example.", len(seen.DS) > 0, "%s: of those it alone is signed", tt.domain)
	}
}
