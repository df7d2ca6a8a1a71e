package probe_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/exchange"
	"unquil/core/machine"
	"unquil/core/wire"
	"unquil/lab"
	"unquil/lab/labtest"
)

// Resolvers are asked for their encrypted ways (RFC 9462), and each way is tried: what answers alike is no finding.
func TestDesignated(t *testing.T) {
	p, l := labtest.Prober(t)
	for label, want := range map[string]struct {
		offers []string
		alike  bool
		found  []string
	}{
		"office": {[]string{"TLS as office.resolvers.test", "HTTPS as office.resolvers.test", "QUIC as office.resolvers.test"}, true, nil},
		"cafe":   {[]string{"TLS (port 8853) as cafe.resolvers.test"}, false, []string{"concern encrypted-fails"}},
		"public": {nil, false, nil},
	} {
		t.Run(label, func(t *testing.T) {
			tried := p.Session.Ask(t.Context(), exchange.Request{Server: labtest.Resolver(t, l, label), Question: ask(".", wire.NS)})
			designations, found := p.Designated(t.Context(), []*exchange.Exchange{tried})
			var offers []string
			for _, d := range designations {
				for _, o := range d.Offers {
					offers = append(offers, o.Over()+" as "+o.Server.TLSName)
					assert.Equal(t, want.alike, o.Alike)
					assert.Equal(t, want.alike, o.Proven)
					assert.Equal(t, want.alike, o.Tried.Outcome.Good(), o.Failure())
				}
			}
			assert.Equal(t, want.offers, offers)
			assert.Equal(t, want.found, labtest.Codes(found))
		})
	}
	t.Run("handed out", func(t *testing.T) {
		setup, err := machine.Read(lab.Machine("handed"))
		require.NoError(t, err)
		tried := p.Session.Ask(t.Context(), exchange.Request{Server: labtest.Resolver(t, l, "office"), Question: ask(".", wire.NS)})
		handed, found := p.HandedOut(t.Context(), setup.Scopes, []*exchange.Exchange{tried})
		require.Len(t, handed, 2)
		assert.Equal(t, "office", handed[0].Resolver.Name())
		assert.True(t, handed[0].Offers[0].Alike)
		assert.False(t, handed[1].Offers[0].Alike)
		require.Len(t, found, 1)
		assert.Contains(t, found[0].Text, "have 192.0.2.99 queried over TLS, but that does not work")
	})
	nothing, found := p.Designated(t.Context(), nil)
	assert.Empty(t, nothing)
	assert.Empty(t, found)
}
