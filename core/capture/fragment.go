package capture

import (
	"fmt"
	"slices"
)

// Bounds on what waits for missing fragments.
const (
	maxDatagrams  = 256
	maxDatagram   = 65535       // bytes
	maxParts      = 100         // packets of one datagram that are remembered
	maxSpans      = 64          // pieces of one datagram that lie apart: with more it is given up
	fragmentsLast = int64(30e9) // nanoseconds of the capture's time (RFC 8200 §4.5 gives them 60 s)
)

// fragmentKey tells whose part a fragment is.
type fragmentKey struct {
	from, to Endpoint
	id       uint32
	protocol byte
}

// parts are the fragments of one datagram so far.
type parts struct {
	key    fragmentKey
	data   []byte
	have   []span // of data that is there, in order, apart from each other
	total  int    // -1: the last has not come
	all    []int  // the packets that they came in
	number int    // of the first, and when
	at     int64
	hops   uint8
	before *parts // in the order in which they came
	after  *parts
}

type span struct{ from, to int }

// fragments are all datagrams that lack parts, the oldest first.
type fragments struct {
	waiting    map[fragmentKey]*parts
	oldest     *parts
	newest     *parts
	free       []*parts
	whole      *parts // handed out last
	incomplete int
}

// fragment takes one part in, and goes on with the datagram when that is whole.
func (d *Decoder) fragment(k fragmentKey, offset int, more bool, data []byte, whole bool, p *Packet) Contents {
	f := &d.fragments
	switch {
	case !whole:
		return d.bad("fragment", data, tooShort)
	case offset+len(data) > maxDatagram:
		return d.bad("fragment", data, "it ends behind where a datagram can")
	case more && len(data)%8 != 0:
		return d.bad("fragment", data, "it is not the last, and its size is no multiple of 8")
	}
	if d.Layers != nil {
		d.note("fragment", nil, "begins at", fmt.Sprint(offset), "bytes", fmt.Sprint(len(data)))
	}
	w := f.waiting[k]
	if w == nil {
		if len(f.waiting) == maxDatagrams {
			f.drop(f.oldest, d.Torn)
		}
		w = f.fresh(k, d.rec, p.Hops)
	}
	if w.add(offset, data); len(w.have) > maxSpans {
		f.drop(w, d.Torn)
		return Fragment
	}
	if len(w.all) < maxParts {
		w.all = append(w.all, d.rec.Number)
	}
	if !more {
		w.total = offset + len(data)
	}
	if w.total < 0 || len(w.have) != 1 || w.have[0] != (span{0, w.total}) {
		return Fragment
	}
	f.forget(w)
	if f.whole != nil {
		f.free = append(f.free, f.whole)
	}
	f.whole = w
	d.lends = true
	if d.Layers != nil {
		d.note("fragments", nil, "put together from", fmt.Sprint(len(w.all)))
	}
	if d.Whole != nil {
		d.Whole(w.all)
	}
	return d.transport(k.protocol, w.data[:w.total], k.from, k.to, true, p)
}

func (f *fragments) fresh(k fragmentKey, r *Record, hops uint8) *parts {
	w := &parts{}
	if n := len(f.free); n > 0 {
		w, f.free = f.free[n-1], f.free[:n-1]
	}
	*w = parts{key: k, data: w.data[:0], have: w.have[:0], all: w.all[:0], total: -1, number: r.Number, at: r.At, hops: hops, before: f.newest}
	if f.waiting == nil {
		f.waiting = make(map[fragmentKey]*parts, maxDatagrams)
	}
	f.waiting[k] = w
	if f.oldest == nil {
		f.oldest = w
	} else {
		f.newest.after = w
	}
	f.newest = w
	return w
}

// forget takes one out of those that wait.
func (f *fragments) forget(w *parts) {
	delete(f.waiting, w.key)
	if w.before != nil {
		w.before.after = w.after
	} else {
		f.oldest = w.after
	}
	if w.after != nil {
		w.after.before = w.before
	} else {
		f.newest = w.before
	}
}

// add copies a part to its place. What is there already stays: the first wins.
func (w *parts) add(offset int, data []byte) {
	end := offset + len(data)
	if len(w.data) < end { // what is not covered yet is not looked at
		w.data = slices.Grow(w.data, end-len(w.data))[:end]
	}
	at := offset
	for _, s := range w.have {
		if at < min(s.from, end) {
			copy(w.data[at:min(s.from, end)], data[at-offset:])
		}
		at = max(at, s.to)
	}
	if at < end {
		copy(w.data[at:end], data[at-offset:])
	}
	merged := span{offset, end}
	kept := w.have[:0]
	var after []span
	for _, s := range w.have {
		switch {
		case s.to < merged.from:
			kept = append(kept, s)
		case s.from > merged.to:
			after = append(after, s)
		default:
			merged = span{min(s.from, merged.from), max(s.to, merged.to)}
		}
	}
	w.have = append(append(kept, merged), after...)
}

// flush gives up datagrams whose parts came too long ago.
func (f *fragments) flush(now int64, torn func(*Packet)) {
	for f.oldest != nil && now-f.oldest.at > fragmentsLast {
		f.drop(f.oldest, torn)
	}
}

// drop gives one up, and hands over the beginning of it where that is there.
func (f *fragments) drop(w *parts, torn func(*Packet)) {
	f.forget(w)
	f.incomplete++
	if torn != nil && w.key.protocol == protocolUDP && len(w.have) > 0 && w.have[0].from == 0 && w.have[0].to > 8 {
		var p Packet
		d := Decoder{rec: &Record{Number: w.number, At: w.at}}
		if d.udp(w.data[:w.have[0].to], w.key.from, w.key.to, false, &p) == Datagram {
			p.Torn, p.Hops = true, w.hops
			torn(&p)
		}
	}
	f.free = append(f.free, w)
}

// Lends reports whether the payload found last lies in the decoder, which its next
// call overwrites, and not in the record.
func (d *Decoder) Lends() bool { return d.lends }
