package sequence

import (
	"net/netip"
	"slices"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// Delegations are what exchanges show of who serves which zone: what servers refer to, and
// whose names have which addresses. The order of the exchanges says nothing: who asks many
// servers at once has no order.
type Delegations struct {
	serves map[netip.Addr][]wire.Name
}

// Bounds on what is remembered.
const (
	maxServes = 64 // zones of one server
	maxHosts  = 50_000
)

// Learn reads what exchanges show of delegations. roots are the addresses of the root servers,
// as far as they are known.
func Learn(exchanges []exchange.Exchange, roots []netip.Addr) *Delegations {
	d := &Delegations{serves: map[netip.Addr][]wire.Name{}}
	zones := map[wire.Name][]wire.Name{}  // by the server's host: those that referrals list it for
	hosts := map[wire.Name][]netip.Addr{} // by the name in lower case
	for i := range exchanges {
		e := &exchanges[i]
		if e.Reply == nil {
			continue
		}
		if own := ownWord(e); !own.IsZero() {
			d.add(e.Server.Address.Addr(), own)
		}
		if zone, servers, ok := exchange.ReferralZone(e.Reply); ok && e.Outcome == exchange.Referral {
			for _, r := range servers {
				if host, ok := r.Target(); ok && len(zones) < maxHosts {
					zones[host.Fold()] = addName(zones[host.Fold()], zone)
				}
			}
		}
		for _, r := range slices.Concat(e.Reply.Answer, e.Reply.Additional) {
			if address, ok := r.Address(); ok && (len(hosts) < maxHosts || hosts[r.Name.Fold()] != nil) {
				if known := hosts[r.Name.Fold()]; len(known) < maxServes && !slices.Contains(known, address) {
					hosts[r.Name.Fold()] = append(known, address)
				}
			}
		}
	}
	for host, listed := range zones {
		for _, address := range hosts[host] {
			for _, zone := range listed {
				d.add(address, zone)
			}
		}
	}
	for _, a := range roots {
		d.add(a, wire.Root)
	}
	return d
}

func (d *Delegations) add(server netip.Addr, zone wire.Name) {
	d.serves[server] = addName(d.serves[server], zone)
}

// ownWord is the zone that the server of an exchange says that it serves, by the owner of what
// stands at the top of that zone; zero when it does not.
func ownWord(e *exchange.Exchange) wire.Name {
	if !Iterative(e) || !e.Authoritative() {
		return wire.Name{}
	}
	for _, r := range slices.Concat(e.Reply.Answer, e.Reply.Authority) {
		if (r.Type == wire.SOA || r.Type == wire.NS) && e.Question.Name.IsSubdomainOf(r.Name) {
			return r.Name
		}
	}
	return wire.Name{}
}

func addName(to []wire.Name, name wire.Name) []wire.Name {
	if len(to) < maxServes && !slices.ContainsFunc(to, name.Equal) {
		to = append(to, name)
	}
	return to
}

// Zone is the zone that the server of a question without recursion was asked as a server of:
// the nearest around the name that a referral lists the server for, or that it speaks for by
// its own word. It is zero when nothing tells: who knows the way begins
// in the middle of it.
func (d *Delegations) Zone(e *exchange.Exchange) (zone wire.Name) {
	for _, z := range d.serves[e.Server.Address.Addr()] {
		if e.Question.Name.IsSubdomainOf(z) && (zone.IsZero() || z.IsSubdomainOf(zone)) {
			zone = z
		}
	}
	if !zone.IsZero() || e.Reply == nil {
		return zone
	}
	if child, _, ok := exchange.ReferralZone(e.Reply); ok && e.Outcome == exchange.Referral && child.Labels() == 1 {
		return wire.Root // which alone refers to zones of one label
	}
	return zone
}

// Iterative reports whether a question asks for no recursion, as one that a resolver puts to
// the servers of zones.
func Iterative(e *exchange.Exchange) bool {
	q := e.Attempts[0].Query
	return len(q) > 3 && q[2]&1 == 0
}
