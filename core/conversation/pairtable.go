package conversation

// pairTable finds pairs by their hash, by open addressing: the hashes of those that are
// not meant are looked at without the pairs themselves, which lie elsewhere.
type pairTable struct {
	slots []pairSlot // a power of two; at most half of them are taken
	count int
}

type pairSlot struct {
	hash uint64
	pair *Pair // nil: free
}

// of returns the pair with a hash; nil: none. That two have the same is as unlikely as
// an error of the machine: the hash has 64 bits, and nobody knows its seeds.
func (t *pairTable) of(hash uint64) *Pair {
	mask := uint64(len(t.slots) - 1)
	for i := hash; ; i++ {
		s := &t.slots[i&mask]
		if s.pair == nil || s.hash == hash {
			return s.pair
		}
	}
}

func (t *pairTable) add(p *Pair) {
	if t.count++; 2*t.count > len(t.slots) {
		old := t.slots
		t.slots = make([]pairSlot, max(2*len(old), buckets))
		for _, s := range old {
			if s.pair != nil {
				*t.free(s.hash) = s
			}
		}
	}
	*t.free(p.hash) = pairSlot{p.hash, p}
}

// free is the free slot where a hash belongs.
func (t *pairTable) free(hash uint64) *pairSlot {
	mask := uint64(len(t.slots) - 1)
	for t.slots[hash&mask].pair != nil {
		hash++
	}
	return &t.slots[hash&mask]
}

// remove takes a pair out, and moves those up that stood behind it for want of room.
func (t *pairTable) remove(p *Pair) {
	mask := uint64(len(t.slots) - 1)
	hole := p.hash
	for t.slots[hole&mask].pair != p {
		hole++
	}
	for i := hole + 1; ; i++ {
		s := t.slots[i&mask]
		if s.pair == nil {
			break
		}
		if (i-s.hash)&mask >= (i-hole)&mask { // it belongs to the hole or before it
			t.slots[hole&mask] = s
			hole = i
		}
	}
	t.slots[hole&mask] = pairSlot{}
	t.count--
}
