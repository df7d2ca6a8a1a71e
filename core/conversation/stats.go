package conversation

import (
	"math/bits"
	"net/netip"
	"slices"
	"time"

	"unquil/core/capture"
	"unquil/core/exchange"
	"unquil/core/wire"
)

// Histogram counts times in buckets, four to each doubling: what it says of a
// median is within a fifth of the truth, whatever the number of times. Up to some
// thousands of times it is exact.
type Histogram struct {
	Max     time.Duration
	count   uint32
	known   uint16           // how many are kept as they are
	left    bool             // one was not, and none is from then on
	more    *times           // those after the first, the last ones first
	buckets *spans           // nil as long as the first are all
	shelf   *shelf           // of its table
	few     [8]time.Duration // the first
}

// maxExact is how many times of one histogram are kept as they are.
const maxExact = 4096

// times are some of a histogram's, and those before them.
type times struct {
	at     [63]time.Duration
	before *times
}

type spans [histogramSize]uint32

// shelf is where the histograms of one table keep times as they are, up to some hundred thousand,
// and have their buckets. Both are made many at once, so that counting allocates nothing.
type shelf struct {
	free    []times
	left    int // pieces to come
	buckets []spans
}

const (
	timesAtOnce   = 256
	bucketsAtOnce = 64
	maxTimes      = 1 << 17 / 63
)

func newShelf() *shelf { return &shelf{left: maxTimes} }

func (s *shelf) take() *times {
	if len(s.free) == 0 {
		if s.left == 0 {
			return nil
		}
		n := min(s.left, timesAtOnce)
		s.free, s.left = make([]times, n), s.left-n
	}
	one := &s.free[0]
	s.free = s.free[1:]
	return one
}

func (s *shelf) takeBuckets() *spans {
	if len(s.buckets) == 0 {
		s.buckets = make([]spans, bucketsAtOnce)
	}
	one := &s.buckets[0]
	s.buckets = s.buckets[1:]
	return one
}

// Count is how many times there were.
func (h *Histogram) Count() int { return int(h.count) }

// counted are the times by bucket.
func (h *Histogram) counted() (all spans) {
	if h.buckets != nil {
		return *h.buckets
	}
	for _, d := range h.few[:h.count] {
		all[bucketOf(d)]++
	}
	return all
}

const histogramSize = 4 * 28 // from a microsecond to some minutes

func bucketOf(d time.Duration) int {
	us := uint64(max(d/time.Microsecond, 1))
	top := bits.Len64(us) - 1
	quarter := 0
	if top >= 2 {
		quarter = int(us>>(top-2)) & 3
	} else if top == 1 {
		quarter = int(us&1) * 2
	}
	return min(4*top+quarter, histogramSize-1)
}

// Add counts one time.
func (h *Histogram) Add(d time.Duration) { h.add(bucketOf(d), d) }

func (h *Histogram) add(bucket int, d time.Duration) {
	h.Max = max(h.Max, d)
	if h.count++; int(h.count) <= len(h.few) {
		h.few[h.known] = d
		h.known++
		return
	}
	if h.buckets == nil {
		h.spread()
	}
	h.buckets[bucket]++
	if !h.left {
		h.keep(d)
	}
}

// spread counts the first times by bucket.
func (h *Histogram) spread() {
	if h.shelf == nil {
		h.shelf = newShelf()
	}
	h.buckets = h.shelf.takeBuckets()
	for _, d := range h.few {
		h.buckets[bucketOf(d)]++
	}
}

// keep keeps one time more as it is, while there is room.
func (h *Histogram) keep(d time.Duration) {
	at := (int(h.known) - len(h.few)) % len(times{}.at)
	if at == 0 {
		more := h.shelf.take()
		if more == nil {
			h.left = true
			return
		}
		more.before, h.more = h.more, more
	}
	h.more.at[at] = d
	h.known++
	h.left = h.known == maxExact
}

// Exact reports whether every time is known, so that a quantile is no estimate.
func (h *Histogram) Exact() bool { return h.count == uint32(h.known) }

// Quantile is the time that percent of the times do not exceed, or an estimate of it where
// the histogram is not exact; 0 without any.
func (h *Histogram) Quantile(percent int) time.Duration {
	count := h.Count()
	if count == 0 || !h.Exact() {
		return h.estimate(percent)
	}
	all := slices.Clone(h.few[:min(count, len(h.few))])
	for more := h.more; more != nil; more = more.before {
		in := (count-len(h.few)-1)%len(more.at) + 1 // the newest need not be full
		if more != h.more {
			in = len(more.at)
		}
		all = append(all, more.at[:in]...)
	}
	slices.Sort(all)
	return all[max((count*percent+99)/100-1, 0)]
}

// estimate is a quantile by the buckets, within a fifth; it costs little.
func (h *Histogram) estimate(percent int) time.Duration {
	count := h.Count()
	rest := (count*percent + 99) / 100
	for i, n := range h.counted() {
		if rest -= int(n); rest <= 0 && count > 0 {
			lower := time.Duration(4+i%4) << (i / 4) * time.Microsecond / 4
			return min(lower+lower/8, h.Max)
		}
	}
	return h.Max
}

// Bars are eight classes of time, from under 1 ms to over 3 s, each three times
// the one before, with how many times fell into it.
func (h *Histogram) Bars() (bars [8]int) {
	for i, n := range h.counted() {
		lower := time.Duration(4+i%4) << (i / 4) * time.Microsecond / 4
		class := 0
		for edge := time.Millisecond; class < 7 && lower >= edge; class++ {
			if class%2 == 0 {
				edge = edge * 3
			} else {
				edge = edge / 3 * 10
			}
		}
		bars[class] += int(n)
	}
	return bars
}

// Stat counts the exchanges of one name, server or client. What is counted each time
// lies in front, in one line of the processor's cache.
type Stat struct {
	Exchanges  int
	missing    *client   // of a client: the names that it was told not to exist
	begins     uint64    // of those: a bit of each one's [beginning]
	near       [8]uint32 // who was on the other side: all of up to eight, or some of more
	met        uint8     // how many there were, up to 64
	hasCache   bool
	aging      uint16 // answers held against those before them, to see that
	Latency    Histogram
	Failed     int // that ended in anything but an answer, "no such name" or a referral
	NoName     int
	Unanswered int              // of Failed: without a reply that can be read as one
	peers      *peers           // all who were on the other side, if more than eight
	denials    *group           // of a server: the names that it said not to exist; nil before the first
	host       capture.Endpoint // of a server, or of a client without its port
}

// Peers is how many clients a server had, or servers a client; 64 stands for 64 or more.
func (s *Stat) Peers() int { return int(s.met) }

// End is the address and port of a server, or the address of a client.
func (s *Stat) End() (address netip.Addr, port uint16) { return s.host.Addr(), s.host.Port() }

const maxPeers = 64

// peers is a set of up to 64 addresses, by parts of their hashes; 0: free.
type peers [maxPeers]uint32

// peerOf is the part of an address's hash that stands for it among peers.
func peerOf(hash uint64) uint32 { return uint32(hash>>32) | 1 }

// meet notes who was on the other side.
func (s *Stat) meet(peer uint32) {
	if s.peers == nil {
		for i := range s.near {
			switch at := &s.near[(int(peer>>8)+i)%len(s.near)]; *at {
			case 0:
				*at = peer
				s.met++
				return
			case peer:
				return
			}
		}
		s.peers = &peers{}
		for _, known := range s.near {
			s.peers.add(known)
		}
	}
	if s.peers.add(peer) {
		s.met++
	}
	s.near[peer>>8%uint32(len(s.near))] = peer
}

// add reports whether a peer is new.
func (p *peers) add(peer uint32) bool {
	for i := peer >> 8; ; i++ {
		switch at := &p[i%maxPeers]; *at {
		case 0:
			*at = peer
			return true
		case peer:
			return false
		}
	}
}

// entry is what is counted of an exchange, by its name, its server and its client.
type entry struct {
	how    how
	bucket int // of the histogram; -1 without a reply
	took   time.Duration
}

// how an exchange ended, as far as it is counted.
type how uint8

const (
	well how = iota
	noName
	failed
	unanswered // which is failed too
)

func entryOf(p *Transaction) entry {
	e := entry{bucket: -1}
	switch {
	case p.kind == exchange.UsualNoName:
		e.how = noName
	case p.kind != exchange.Unusual: // as nearly all are
	case p.Outcome().Silent() && !p.Answered():
		e.how = unanswered
	case p.Outcome().Failed():
		e.how = failed
	}
	if p.Answered() {
		if e.took = p.Took(); e.took != 0 { // otherwise it is not recorded
			e.bucket = bucketOf(e.took)
		}
	}
	return e
}

func (s *Stat) add(e entry, peer uint64) {
	s.Exchanges++
	switch e.how {
	case noName:
		s.NoName++
	case unanswered:
		s.Failed++
		s.Unanswered++
	case failed:
		s.Failed++
	}
	if e.bucket >= 0 {
		s.Latency.add(e.bucket, e.took)
	}
	if of := peerOf(peer); s.met < maxPeers && s.near[of>>8%uint32(len(s.near))] != of {
		s.meet(of)
	}
}

// counts are exchanges that are still to be counted by their names: where those are is not
// in the processor's cache for most, and pairing has more to do than reading, which they go
// back to with their chunk.
type counts []uncounted

// uncounted is one of them, and where it is counted.
type uncounted struct {
	stat *Stat
	entry
	peer uint64
}

func (c *counts) add(s *Stat, e entry, peer uint64) { *c = append(*c, uncounted{s, e, peer}) }

func (c *counts) count() {
	for i := range *c {
		one := &(*c)[i]
		one.stat.add(one.entry, one.peer)
	}
	*c = (*c)[:0]
}

// Answers is how many questions a server answered, be it that there is nothing.
func (o *Overview) Answers(server netip.Addr) (n int) {
	for _, s := range o.servers.slots {
		if s.stat != nil && s.stat.host.Addr() == server {
			n += s.stat.Latency.Count() - (s.stat.Failed - s.stat.Unanswered)
		}
	}
	return n
}

// Row is one line of a table: a name, server or client, with what it counts.
type Row struct {
	Key  string
	Host string // as the file calls a server or client, as it stands there; "" for none
	Stat *Stat
}

// maxTable is how many rows of one kind are counted; what comes later is counted
// as one.
const maxTable = 20_000

// table counts by hashes in bounded memory. Rows are found by open addressing: a map
// costs several times as much.
type table struct {
	slots []slot // a power of two; at most half are taken
	count int
	shelf *shelf
	rest  Stat
}

type slot struct {
	stat *Stat // nil: free
	hash uint64
}

// place is the slot of a hash, or the free one where it belongs.
func (t *table) place(hash uint64) *slot {
	for i := hash; ; i++ {
		s := &t.slots[i&uint64(len(t.slots)-1)]
		if s.hash == hash || s.stat == nil {
			return s
		}
	}
}

// touch looks up where the row of a hash is, and with inside the row itself.
func (t *table) touch(hash uint64, inside bool) uint64 {
	if len(t.slots) == 0 {
		return 0
	}
	s := &t.slots[hash&uint64(len(t.slots)-1)]
	if s.stat == nil || !inside {
		return s.hash
	}
	return uint64(s.stat.Exchanges)
}

// of returns the row for a hash, and whether it is a new one.
func (t *table) of(hash uint64) (s *Stat, fresh bool) {
	if len(t.slots) > 0 {
		if at := t.place(hash); at.stat != nil {
			return at.stat, false
		}
	}
	return t.add(hash)
}

func (t *table) add(hash uint64) (s *Stat, fresh bool) {
	if t.count >= maxTable {
		return &t.rest, false
	}
	if t.count == 0 {
		t.shelf = newShelf()
	}
	if t.count++; 2*t.count > len(t.slots) {
		t.grow()
	}
	s = &Stat{}
	s.Latency.shelf = t.shelf
	*t.place(hash) = slot{s, hash}
	return s, true
}

func (t *table) grow() {
	old := t.slots
	t.slots = make([]slot, max(64, 4*len(old)))
	for _, s := range old {
		if s.stat != nil {
			*t.place(s.hash) = s
		}
	}
}

// sorted returns the rows, those with the most exchanges first.
func (t *table) sorted(text func(*slot) (key, host string)) []Row {
	rows := make([]Row, 0, t.count)
	for i := range t.slots {
		s := &t.slots[i]
		if s.stat == nil || s.stat.Exchanges == 0 {
			continue // free, or seen and not chosen
		}
		key, host := text(s)
		rows = append(rows, Row{key, host, s.stat})
	}
	slices.SortFunc(rows, func(a, b Row) int {
		if a.Stat.Exchanges != b.Stat.Exchanges {
			return b.Stat.Exchanges - a.Stat.Exchanges
		}
		if a.Key < b.Key {
			return -1
		}
		return 1
	})
	return rows
}

// Names, Servers and Clients are the tables, the busiest first. uncounted is how
// many exchanges belong to rows that there was no room for: with it the rows below
// the first are an estimate.
func (o *Overview) Names() (rows []Row, uncounted int) {
	rows = o.names.sorted(func(s *slot) (string, string) { return o.spelled[s.hash].Spoken(), "" })
	return rows, o.names.rest.Exchanges
}

// ByName are the same by the name in lower case.
func (o *Overview) ByName() map[wire.Name]*Stat {
	all := make(map[wire.Name]*Stat, o.names.count)
	for _, s := range o.names.slots {
		if name, spelled := o.spelled[s.hash]; s.stat != nil && spelled {
			all[name] = s.stat
		}
	}
	return all
}

// Servers are the servers, as [Overview.Names].
func (o *Overview) Servers() (rows []Row, uncounted int) {
	return o.servers.sorted(func(s *slot) (string, string) {
		return exchange.Server{Address: s.stat.host.AddrPort()}.AddressText(), string(o.Hosts[s.stat.host.Addr()])
	}), o.servers.rest.Exchanges
}

// Clients are the clients, as [Overview.Names].
func (o *Overview) Clients() (rows []Row, uncounted int) {
	return o.clients.sorted(func(s *slot) (string, string) {
		if s.stat.host.Addr().IsUnspecified() {
			return s.stat.host.Addr().String(), "not recorded"
		}
		return s.stat.host.Addr().String(), string(o.Hosts[s.stat.host.Addr()])
	}), o.clients.rest.Exchanges
}
