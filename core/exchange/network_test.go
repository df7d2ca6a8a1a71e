package exchange

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestRoutes: where packets go out from is remembered for some questions, and forgotten where it did not work.
func TestRoutes(t *testing.T) {
	var r routeMemory
	server := netip.MustParseAddrPort("127.0.0.1:53")
	source, err := r.source(t.Context(), "udp4", server)
	require.NoError(t, err)
	assert.True(t, source.IsLoopback())
	assert.Equal(t, routeUses, r.known[server.Addr()].left)

	elsewhere := netip.MustParseAddr("127.0.0.9")
	r.known[server.Addr()] = route{elsewhere, 2}
	source, err = r.source(t.Context(), "udp4", server)
	require.NoError(t, err)
	assert.Equal(t, elsewhere, source, "as it is remembered")

	source, err = r.source(t.Context(), "udp4", server)
	require.NoError(t, err)
	assert.NotEqual(t, elsewhere, source, "it was believed often enough")

	r.forget(server.Addr())
	assert.Empty(t, r.known)
	for i := range maxRoutes + 10 {
		_, err := r.source(t.Context(), "udp4", netip.AddrPortFrom(netip.AddrFrom4([4]byte{127, 1, byte(i >> 8), byte(i)}), 53))
		require.NoError(t, err)
	}
	assert.LessOrEqual(t, len(r.known), maxRoutes)
	_, err = r.source(t.Context(), "udp4", netip.MustParseAddrPort("[::1]:53"))
	assert.Error(t, err, "another family")
}
