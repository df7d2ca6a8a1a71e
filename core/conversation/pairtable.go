package conversation

// pairTable finds pairs by their hash, by open addressing: the hashes of those that are
// not meant are looked at without the pairs themselves, which lie elsewhere.
type pairTable struct {
	slots []pairSlot // a power of two; at most half of them are taken
	count int
}

type pairSlot struct {
	hash uint64
	pair *Transaction // nil: free
}

// place is the slot of the pair with a hash, or the free one where it belongs. That two
// have the same is as unlikely as an error of the machine: the hash has 64 bits, and nobody
// knows its seeds.
func (t *pairTable) place(hash uint64) *pairSlot {
	slots := t.slots
	for i := hash; ; i++ {
		s := &slots[i&uint64(len(slots)-1)]
		if s.hash == hash || s.pair == nil {
			return s
		}
	}
}

// add puts a pair where place found none.
func (t *pairTable) add(p *Transaction, at *pairSlot) {
	if t.count++; 2*t.count > len(t.slots) {
		old := t.slots
		t.slots = make([]pairSlot, max(2*len(old), buckets))
		for _, s := range old {
			if s.pair != nil {
				*t.place(s.hash) = s
			}
		}
		at = t.place(p.hash)
	}
	*at = pairSlot{p.hash, p}
}

// remove takes a pair out.
func (t *pairTable) remove(p *Transaction) {
	slots := t.slots
	hole := p.hash
	for slots[hole&uint64(len(slots)-1)].pair != p {
		hole++
	}
	if slots[(hole+1)&uint64(len(slots)-1)].pair != nil {
		hole = t.moveUp(hole)
	}
	slots[hole&uint64(len(slots)-1)] = pairSlot{}
	t.count--
}

// moveUp moves those up that stand behind a hole for want of room, and returns where the
// hole is then.
func (t *pairTable) moveUp(hole uint64) uint64 {
	mask := uint64(len(t.slots) - 1)
	for i := hole + 1; ; i++ {
		s := t.slots[i&mask]
		if s.pair == nil {
			return hole
		}
		if (i-s.hash)&mask >= (i-hole)&mask { // it belongs to the hole or before it
			t.slots[hole&mask] = s
			hole = i
		}
	}
}
