package conversation

import (
	"math/bits"
	"net/netip"
	"slices"
	"time"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// Histogram counts times in buckets, four to each doubling: what it says of a
// median is within a fifth of the truth, whatever the number of times.
type Histogram struct {
	buckets [histogramSize]uint32
	Count   int
	Max     time.Duration
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
	h.buckets[bucket]++
	h.Count++
	h.Max = max(h.Max, d)
}

// Quantile is about the time that percent of the times do not exceed; 0 without any.
func (h *Histogram) Quantile(percent int) time.Duration {
	rest := (h.Count*percent + 99) / 100
	for i, n := range h.buckets {
		if rest -= int(n); rest <= 0 && h.Count > 0 {
			lower := time.Duration(4+i%4) << (i / 4) * time.Microsecond / 4
			return min(lower+lower/8, h.Max)
		}
	}
	return h.Max
}

// Bars are eight classes of time, from under 1 ms to over 3 s, each three times
// the one before, with how many times fell into it.
func (h *Histogram) Bars() (bars [8]int) {
	for i, n := range h.buckets {
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

// Stat counts the exchanges of one name, server or client.
type Stat struct {
	Exchanges  int
	Failed     int // that ended in anything but an answer, "no such name" or a referral
	NoName     int
	Unanswered int // of Failed
	Latency    Histogram
	peers      *peers // who was on the other side
	peer       uint64 // the hash of the last of them
	hasCache   bool
	missing    *client // of a client: the names that it was told not to exist
}

// Peers is how many clients a server had, or servers a client; 64 stands for 64 or more.
func (s *Stat) Peers() int {
	if s.peers == nil {
		return 0
	}
	return s.peers.count
}

const maxPeers = 64

// peers is a set of up to 64 addresses, by their hashes: one that is looked into with
// every exchange.
type peers struct {
	count int
	slots [2 * maxPeers]uint32 // of the hash; 0: free
}

func (p *peers) add(hash uint64) {
	short := uint32(hash>>32) | 1
	for i := hash >> 11; p.count < maxPeers; i++ {
		slot := &p.slots[i%uint64(len(p.slots))]
		if *slot == short {
			return
		}
		if *slot == 0 {
			*slot = short
			p.count++
			return
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

func entryOf(p *Pair, outcome exchange.Outcome) entry {
	e := entry{bucket: -1}
	switch {
	case outcome == exchange.Answered: // as nearly all are
	case outcome == exchange.NoName:
		e.how = noName
	case outcome.Silent():
		e.how = unanswered
	case Failed(outcome):
		e.how = failed
	}
	if p.Reply != nil {
		e.took = p.Took()
		e.bucket = bucketOf(e.took)
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
	if peer == s.peer {
		return
	}
	if s.peers == nil {
		s.peers = &peers{}
	}
	s.peer = peer
	s.peers.add(peer)
}

// Failed reports whether an outcome is no answer and no step towards one.
func Failed(o exchange.Outcome) bool {
	return !o.Good() && o != exchange.Referral && o != exchange.Truncated && o != CutOff && o != Open
}

// Row is one line of a table: a name, server or client, with what it counts.
type Row struct {
	Key  string
	Stat *Stat
}

// maxTable is how many rows of one kind are counted; what comes later is counted
// as one.
const maxTable = 20_000

// table counts by key in bounded memory. Rows are found by open addressing: a map
// costs several times as much.
type table[K comparable] struct {
	slots []slot[K] // a power of two; at most two thirds are taken
	count int
	rest  Stat
}

type slot[K comparable] struct {
	stat *Stat // nil: free
	key  K
	hash uint64
}

// place is the slot of k, or the free one where it belongs.
func (t *table[K]) place(k K, hash uint64) *slot[K] {
	mask := uint64(len(t.slots) - 1)
	for i := hash >> 7; ; i++ {
		s := &t.slots[i&mask]
		if s.stat == nil || s.hash == hash && s.key == k {
			return s
		}
	}
}

// find returns the row for k; nil without one.
func (t *table[K]) find(k K, hash uint64) *Stat {
	if t.count == 0 {
		return nil
	}
	return t.place(k, hash).stat
}

// of returns the row for k, and whether it is a new one.
func (t *table[K]) of(k K, hash uint64) (s *Stat, fresh bool) {
	if 3*(t.count+1) > 2*len(t.slots) {
		t.grow()
	}
	at := t.place(k, hash)
	switch {
	case at.stat != nil:
		return at.stat, false
	case t.count >= maxTable:
		return &t.rest, false
	}
	t.count++
	*at = slot[K]{&Stat{}, k, hash}
	return at.stat, true
}

func (t *table[K]) grow() {
	old := t.slots
	t.slots = make([]slot[K], max(64, 2*len(old)))
	for _, s := range old {
		if s.stat != nil {
			*t.place(s.key, s.hash) = s
		}
	}
}

// sorted returns the rows, those with the most exchanges first.
func (t *table[K]) sorted(text func(K) string) []Row {
	rows := make([]Row, 0, t.count)
	for _, s := range t.slots {
		if s.stat == nil || s.stat.Exchanges == 0 {
			continue // free, or seen and not chosen
		}
		rows = append(rows, Row{text(s.key), s.stat})
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
	rows = o.names.sorted(func(h uint64) string { return o.spelled[h].Spoken() })
	return rows, o.names.rest.Exchanges
}

// Servers are the servers, as [Overview.Names].
func (o *Overview) Servers() (rows []Row, uncounted int) {
	return o.servers.sorted(func(a netip.AddrPort) string {
		return exchange.Server{Address: a}.AddressText()
	}), o.servers.rest.Exchanges
}

// Clients are the clients, as [Overview.Names].
func (o *Overview) Clients() (rows []Row, uncounted int) {
	return o.clients.sorted(netip.Addr.String), o.clients.rest.Exchanges
}

// spell remembers how a name that is counted is written.
func (o *Overview) spell(hash uint64, v wire.View) {
	if name, err := v.QName(); err == nil {
		o.spelled[hash] = name.Fold()
	}
}
