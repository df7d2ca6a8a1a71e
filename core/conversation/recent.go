package conversation

// recent finds by a hash what came lately: the last values that were put there, as many as its size says at the
// least. What it finds follows from the order of the capture alone, and not from where hashes happen to fall: the
// hashes are others each time the program runs, and the same capture has to come to the same each time.
//
// It has two generations. What is put goes to the younger one; when that is full, the older one is forgotten, and
// takes its place.
type recent[V any] struct{ young, old generation[V] }

// generation is values in the order in which they came, and an index of them by open addressing. Most of what is
// looked for is not there, which the index tells: it is small enough for a near cache of the processor.
type generation[V any] struct {
	index  []uint32 // parts of hashes, and above 0 the places of their values; 0: free. A quarter of it is taken at most
	values []recentValue[V]
}

type recentValue[V any] struct {
	hash  uint64
	value V
}

// recentOf returns a table of the last values, so many at the least: a power of two.
func recentOf[V any](size int) recent[V] {
	of := func() generation[V] {
		return generation[V]{index: make([]uint32, 4*size), values: make([]recentValue[V], 0, size)}
	}
	return recent[V]{of(), of()}
}

// find returns where in the index a hash is, or would be, and its value; nil: there is none.
func (g *generation[V]) find(hash uint64) (slot *uint32, value *V) {
	mask := uint32(len(g.index) - 1)
	for i := uint32(hash); ; i++ {
		slot = &g.index[i&mask]
		at := *slot
		if at == 0 {
			return slot, nil
		}
		if (at^uint32(hash>>32))&^mask == 0 {
			if v := &g.values[at&mask-1]; v.hash == hash {
				return slot, &v.value
			}
		}
	}
}

// find returns the value of a hash; nil: there is none any more.
func (r *recent[V]) find(hash uint64) *V {
	if _, v := r.young.find(hash); v != nil {
		return v
	}
	_, v := r.old.find(hash)
	return v
}

// at returns the value of a hash as one that has just been put there: what it was lately, or else the zero value. It
// is good until the next one is put.
func (r *recent[V]) at(hash uint64) *V {
	slot, v := r.young.find(hash)
	if v != nil {
		return v
	}
	v = r.add(slot, hash)
	if _, before := r.old.find(hash); before != nil {
		*v = *before
	}
	return v
}

// put puts a value there, whatever it was before.
func (r *recent[V]) put(hash uint64, value V) {
	slot, v := r.young.find(hash)
	if v == nil {
		v = r.add(slot, hash)
	}
	*v = value
}

// add makes room for the value of a hash that the young do not have, and for which there is a slot.
func (r *recent[V]) add(slot *uint32, hash uint64) *V {
	if len(r.young.values) == cap(r.young.values) {
		r.young, r.old = r.old, r.young
		clear(r.young.index)
		r.young.values = r.young.values[:0]
		slot, _ = r.young.find(hash)
	}
	n := len(r.young.values)
	r.young.values = r.young.values[:n+1]
	v := &r.young.values[n]
	*v = recentValue[V]{hash: hash}
	*slot = uint32(hash>>32)&^uint32(len(r.young.index)-1) | uint32(n+1)
	return &v.value
}

// touch looks where the value of a hash may be, so that it is near when it is needed.
func (r *recent[V]) touch(hash uint64) uint64 {
	at := uint32(hash) & uint32(len(r.young.index)-1)
	return uint64(r.young.index[at]) + uint64(r.old.index[at])
}
