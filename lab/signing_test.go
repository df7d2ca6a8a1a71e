package lab

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/wire"
)

// The lab's keys are keys, and the same each time.
func TestSigningKeys(t *testing.T) {
	s, err := Load()
	require.NoError(t, err)
	algorithms := map[uint8]bool{}
	for _, signing := range s.Signed {
		first, err := newSigner(signing, s.Begins)
		require.NoError(t, err)
		again, err := newSigner(signing, s.Begins)
		require.NoError(t, err)
		set := []wire.Record{{Name: first.zone, Type: wire.TXT, Class: wire.IN, TTL: 60, Data: "\x04text"}}
		assert.Equal(t, first.over(set, first.zone), again.over(set, first.zone), signing.Zone)
		assert.Equal(t, first.digests(), again.digests())
		for _, key := range first.keys {
			algorithms[key.Algorithm] = true
			for _, prime := range key.primes {
				assert.True(t, prime.ProbablyPrime(20), "%s: its steps do not lead to primes", signing.Zone)
			}
		}
	}
	assert.Len(t, algorithms, 4)
	for _, wrong := range []Signing{{Zone: "a..b"}, {Zone: "x.", Algorithm: 99}, {Zone: "x.", Salt: "xyz"}, {Zone: "x.", Ends: "soon"}} {
		_, err := newSigner(wrong, s.Begins)
		assert.Error(t, err, "%+v", wrong)
	}
}
