package conversation

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The last values that were put are found, as many as the size says, whatever their hashes are; what has not been put
// for twice that long is forgotten.
func TestRecent(t *testing.T) {
	const size = 64
	for name, hash := range map[string]func(key uint64) uint64{
		"hashes like any":             func(key uint64) uint64 { return (key + 1) * 0x9e3779b97f4a7c15 },
		"hashes that begin alike":     func(key uint64) uint64 { return key },
		"hashes that end alike":       func(key uint64) uint64 { return key << 32 },
		"hashes alike but in one bit": func(key uint64) uint64 { return 1 << (key % 64) },
	} {
		t.Run(name, func(t *testing.T) {
			random := rand.New(rand.NewPCG(1, 2))
			table, last, put := recentOf[int](size), map[uint64][2]int{}, 0 // by key: its value, and when it was put
			for range 20 * size {
				key := random.Uint64N(64)
				if random.IntN(4) == 0 {
					key = 0 // one that is put again and again
				}
				if v := table.find(hash(key)); v != nil {
					require.Equal(t, last[key][0], *v)
				} else if before, known := last[key]; known {
					require.Greater(t, put-before[1], size, "forgotten too soon")
				}
				put++
				if random.IntN(3) == 0 {
					table.put(hash(key), put)
				} else {
					v := table.at(hash(key))
					if *v != 0 {
						require.Equal(t, last[key][0], *v, "what it was lately")
					}
					*v = put
				}
				last[key] = [2]int{put, put}
			}
			require.Equal(t, put, *table.find(hash(lastOf(last))))
		})
	}
	few := recentOf[int](4)
	for key := range uint64(9) {
		*few.at(key) = 1
	}
	assert.Nil(t, few.find(0), "the first of nine")
	assert.NotNil(t, few.find(8))
}

// lastOf is the key that was put last.
func lastOf(all map[uint64][2]int) (key uint64) {
	for k, v := range all {
		if v[1] > all[key][1] {
			key = k
		}
	}
	return key
}
