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
func (h *Histogram) Add(d time.Duration) {
	h.buckets[bucketOf(d)]++
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
	peers      map[netip.Addr]bool // who was on the other side, up to 64
	peer       netip.Addr          // the last of them
	hasCache   bool
	missing    *client // of a client: the names that it was told not to exist
}

// Peers is how many clients a server had, or servers a client; 64 stands for 64 or more.
func (s *Stat) Peers() int { return len(s.peers) }

const maxPeers = 64

func (s *Stat) add(p *Pair, peer netip.Addr) {
	s.Exchanges++
	switch outcome := p.Outcome(); {
	case outcome == exchange.NoName:
		s.NoName++
	case outcome.Silent():
		s.Failed++
		s.Unanswered++
	case Failed(outcome):
		s.Failed++
	}
	if p.Reply != nil {
		s.Latency.Add(p.Took())
	}
	if peer == s.peer {
		return
	}
	if s.peer = peer; len(s.peers) < maxPeers && !s.peers[peer] {
		if s.peers == nil {
			s.peers = map[netip.Addr]bool{}
		}
		s.peers[peer] = true
	}
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

// table counts by key in bounded memory.
type table[K comparable] struct {
	rows   map[K]*Stat
	rest   Stat
	hash   func(K) uint64
	recent [256]struct { // the rows used last, found with less work
		key  K
		stat *Stat
	}
}

// of returns the row for k, and whether it is a new one.
func (t *table[K]) of(k K) (s *Stat, fresh bool) {
	recent := &t.recent[t.hash(k)%uint64(len(t.recent))]
	if recent.stat != nil && recent.key == k {
		return recent.stat, false
	}
	s = t.rows[k]
	if s == nil {
		if len(t.rows) >= maxTable {
			return &t.rest, false
		}
		if t.rows == nil {
			t.rows = map[K]*Stat{}
		}
		s, fresh = &Stat{}, true
		t.rows[k] = s
	}
	recent.stat, recent.key = s, k
	return s, fresh
}

// sorted returns the rows, those with the most exchanges first.
func (t *table[K]) sorted(text func(K) string) []Row {
	rows := make([]Row, 0, len(t.rows))
	for k, s := range t.rows {
		if s.Exchanges == 0 {
			continue // seen, and not chosen
		}
		rows = append(rows, Row{text(k), s})
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
