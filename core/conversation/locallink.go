package conversation

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"unquil/core/capture"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// Bounds on what is kept of the local link.
const (
	maxLocalNames = 5_000
	maxClaims     = 8 // hosts that claim one name
)

// LocalLink is what hosts of one link say to each other without a server:
// multicast DNS (RFC 6762) and link-local names (RFC 4795).
type LocalLink struct {
	Questions, Unicast, Announced, Known, Flushes int // Unicast: questions that want a reply to themselves alone
	names                                         map[string]*LocalName
	order                                         []*LocalName
}

// LocalName is one name of the local link.
type LocalName struct {
	Name   wire.Name
	Asked  int
	Askers []netip.Addr
	Claims []Claim
}

// Claim is a host that says what a name has.
type Claim struct {
	Host   netip.Addr
	Values []string
	Unique bool // it says that nobody else has it (the cache-flush bit, RFC 6762 §10.2)
	Packet int
	Times  int
}

// Names are the names, those with the most claims first.
func (l *LocalLink) Names() []*LocalName {
	all := slices.Clone(l.order)
	slices.SortStableFunc(all, func(a, b *LocalName) int { return cmp.Compare(len(b.Claims), len(a.Claims)) })
	return all
}

func (l *LocalLink) of(name wire.Name) *LocalName {
	k := name.Fold().Wire()
	if n := l.names[k]; n != nil {
		return n
	}
	if len(l.order) == maxLocalNames {
		return &LocalName{}
	}
	if l.names == nil {
		l.names = map[string]*LocalName{}
	}
	n := &LocalName{Name: name}
	l.names[k], l.order = n, append(l.order, n)
	return n
}

// topBit is the unicast-response bit of a question's class and the cache-flush
// bit of a record's (RFC 6762 §5.4, §10.2).
const topBit = 0x8000

func (l *LocalLink) add(p *capture.Packet) {
	message, err := wire.ReadMessage(p.Payload)
	if err != nil {
		return
	}
	from := p.From.Addr()
	if !message.Flags.Has(wire.QR) {
		l.Known += len(message.Answer) // what the asker knows already
		for _, q := range message.Questions {
			l.Questions++
			if q.Class&topBit != 0 {
				l.Unicast++
			}
			n := l.of(q.Name)
			if n.Asked++; len(n.Askers) < maxClaims && !slices.Contains(n.Askers, from) {
				n.Askers = append(n.Askers, from)
			}
		}
		return
	}
	for _, r := range slices.Concat(message.Answer, message.Additional) {
		if r.Type == wire.OPT || r.Type == wire.NSEC {
			continue
		}
		l.Announced++
		unique := r.Class&topBit != 0
		if r.Class &^= topBit; unique {
			l.Flushes++
		}
		n := l.of(r.Name)
		at := slices.IndexFunc(n.Claims, func(c Claim) bool { return c.Host == from })
		if at < 0 {
			if len(n.Claims) == maxClaims {
				continue
			}
			at, n.Claims = len(n.Claims), append(n.Claims, Claim{Host: from, Packet: p.Number})
		}
		c := &n.Claims[at]
		c.Times, c.Unique = c.Times+1, c.Unique || unique
		if value := r.Type.String() + " " + exchange.Values([]wire.Record{r})[0]; len(c.Values) < maxClaims && !slices.Contains(c.Values, value) {
			c.Values = append(c.Values, value)
		}
	}
}

// conflicts says which names two hosts claim for themselves with different data, and
// how many more such pairs there are.
func (l *LocalLink) conflicts() (all []finding.Finding, more int) {
	for _, n := range l.order {
		for i, a := range n.Claims {
			for _, b := range n.Claims[i+1:] {
				if !a.Unique || !b.Unique || a.Host.Is4() != b.Host.Is4() || slices.Equal(a.Values, b.Values) {
					continue
				}
				if len(all) == maxFindings {
					more++
					continue
				}
				all = append(all, finding.New(finding.NameConflict, finding.Fault, finding.About{Name: n.Name.String(), Client: a.Host.String(), Server: b.Host.String()},
					fmt.Sprintf("%s and %s both claim %s as their own (packets %d and %d).", a.Host, b.Host, n.Name.Spoken(), a.Packet, b.Packet)))
			}
		}
	}
	return all, more
}
