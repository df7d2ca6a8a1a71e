package exchange

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"time"
)

// Bounds on what one run sends, retries included. What a stranger's zone names may be
// anybody's address: nobody is to be flooded by asking about it.
const (
	EachAddress = 40   // packets to an address that the person did not name
	EachRun     = 1000 // packets to all such addresses together
	EachSecond  = 30   // packets a second to an address that the person did not name: what comes sooner waits
	FollowUps   = 64   // questions about hosts that answers name
	mostNames   = 10   // names that a person asks about and that count: each has the bounds anew
)

// Why a question was not asked.
var (
	ErrBudget  = errors.New("not queried, so that nobody is flooded")
	ErrNowhere = errors.New("no public server can have this address")
)

// Budget bounds what one run sends to whom. A nil Budget bounds nothing. It is safe for
// use by many goroutines.
type Budget struct {
	mu       sync.Mutex
	names    int
	named    map[netip.Addr]bool // by the person: these are asked as often as it takes
	loopback bool                // the person named a server there: it is a tree of their own
	spent    map[netip.Addr]int
	sum      int
	refused  map[netip.Addr]int // questions
	over     int                // questions that the bound of the run refused
	followed int
	// Rate is how many packets a second go out at most; 0: no bound.
	Rate    int
	next    time.Time // when the next may go out, with a Rate
	seconds map[netip.Addr]*second
	waited  map[netip.Addr]int // questions that waited for the bound of a second
}

// second is a second in which packets went to one address.
type second struct {
	begins  time.Time
	packets int
}

// NewBudget returns the budget of a run that is about so many names.
func NewBudget(names int) *Budget {
	return &Budget{names: min(max(names, 1), mostNames), named: map[netip.Addr]bool{}, spent: map[netip.Addr]int{}, refused: map[netip.Addr]int{}, seconds: map[netip.Addr]*second{}, waited: map[netip.Addr]int{}}
}

// Name notes addresses that the person named.
func (b *Budget) Name(addresses ...netip.Addr) {
	if b == nil {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, a := range addresses {
		b.named[a.Unmap().WithZone("")] = true
		b.loopback = b.loopback || a.IsLoopback()
	}
}

// Nowhere says in a word why no server of the public tree can be at an address; "" where
// one can, or the person named it.
func (b *Budget) Nowhere(a netip.Addr) string {
	if b == nil {
		return ""
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.nowhere(a)
}

func (b *Budget) nowhere(a netip.Addr) string {
	a = a.Unmap().WithZone("")
	if b.named[a] || b.loopback && a.IsLoopback() {
		return ""
	}
	return Nowhere(a)
}

// Nowhere says in a word why no other machine can be reached at an address; "" where one can.
func Nowhere(a netip.Addr) string {
	switch a = a.Unmap(); {
	case a.IsLoopback():
		return "loopback"
	case a.IsUnspecified() || a.Is4() && a.As4()[0] == 0: // RFC 1122 §3.2.1.3
		return "unspecified"
	case a.IsMulticast():
		return "multicast"
	case a == netip.AddrFrom4([4]byte{255, 255, 255, 255}):
		return "broadcast"
	case a.IsLinkLocalUnicast():
		return "of one link"
	}
	return ""
}

// admit counts a packet to an address, or says why none is sent there.
func (b *Budget) admit(a netip.Addr, packets int) error {
	if b == nil {
		return nil
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if what := b.nowhere(a); what != "" {
		return fmt.Errorf("%w (%s)", ErrNowhere, what)
	}
	a = a.Unmap().WithZone("")
	switch {
	case b.named[a]:
		return nil
	case b.spent[a] >= EachAddress*b.names:
		b.refused[a]++
		return fmt.Errorf("%w: %d packets were sent to this address", ErrBudget, b.spent[a])
	case b.sum >= EachRun*b.names:
		b.over++
		return fmt.Errorf("%w: %d packets were sent", ErrBudget, b.sum)
	}
	b.spent[a] += packets
	b.sum += packets
	return nil
}

// turn is how long a packet to an address has to wait until it may go out, which is counted as if it then did.
func (b *Budget) turn(a netip.Addr, now time.Time) (wait time.Duration) {
	if b == nil {
		return 0
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.Rate > 0 {
		if b.next.Before(now) {
			b.next = now
		}
		wait = b.next.Sub(now)
		b.next = b.next.Add(time.Second / time.Duration(b.Rate))
	}
	if a = a.Unmap().WithZone(""); b.named[a] {
		return wait
	}
	s := b.seconds[a]
	if s == nil {
		s = &second{begins: now}
		b.seconds[a] = s
	}
	at := now.Add(wait)
	if !at.Before(s.begins.Add(time.Second)) {
		s.begins, s.packets = at, 0
	}
	if s.packets >= EachSecond { // this second is full: the next one
		s.begins, s.packets = s.begins.Add(time.Second), 0
		b.waited[a]++
	}
	s.packets++
	return max(wait, s.begins.Sub(now))
}

// Follow takes so many follow-up questions as there is room for, and returns how many
// that is.
func (b *Budget) Follow(questions int) int {
	if b == nil {
		return questions
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	room := max(min(questions, FollowUps*b.names-b.followed), 0)
	b.followed += questions
	return room
}

// Told says which bounds were hit, a sentence each; none where none was.
func (b *Budget) Told() (all []string) {
	if b == nil {
		return nil
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for a, n := range b.refused {
		all = append(all, fmt.Sprintf("%s: %d packets were sent there, the limit for an address that you did not name; %s left out", a, b.spent[a], questions(n)))
	}
	for a, n := range b.waited {
		all = append(all, fmt.Sprintf("%s: %s, so that no address that you did not name gets more than %d packets a second", a, waiting(n), EachSecond))
	}
	slices.Sort(all)
	if b.over > 0 {
		all = append(all, fmt.Sprintf("%d packets were sent to servers that you did not name, the limit for one run; %s left out", b.sum, questions(b.over)))
	}
	if left := b.followed - FollowUps*b.names; left > 0 {
		all = append(all, fmt.Sprintf("%d queries were sent about hosts that answers name, the limit for one run; %s left out", FollowUps*b.names, questions(left)))
	}
	return all
}

func waiting(n int) string {
	if n == 1 {
		return "queries waited once"
	}
	return fmt.Sprintf("queries waited %d times", n)
}

func questions(n int) string {
	if n == 1 {
		return "1 query was"
	}
	return fmt.Sprintf("%d queries were", n)
}
