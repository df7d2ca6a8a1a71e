package mail

import (
	"context"
	"net/netip"
	"slices"
	"sync"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// Bounds of an evaluation (RFC 7208 §4.6.4).
const (
	MaxLookups     = 10
	MaxVoidLookups = 2
	maxHosts       = 10 // that an mx or ptr term may name
)

// Bounds on what is looked up to be shown, beyond what an evaluation would.
const (
	maxRecords = 40
	maxDepth   = 12
	maxTold    = 64 // terms of one record that are looked up
)

// Tree is an SPF record with all that it leads to.
type Tree struct {
	Domain   wire.Name
	Exchange *exchange.Exchange // of the TXT records
	Records  int                // how many SPF records there are
	Record   *Record            // nil unless there is exactly one
	Branches []Branch           // a term each
	Loop     bool               // the name was met further up already: nothing below is followed
	Skipped  bool               // it was not looked up: there are too many
}

// Branch is a term of a record, and what it leads to.
type Branch struct {
	Term     Term
	Networks []netip.Prefix       // whose addresses fit; of a, mx, ip4 and ip6
	Hosts    []wire.Name          // of mx
	Target   wire.Name            // the name that is looked up; zero: none, or it depends on the sender
	Below    *Tree                // of include and redirect
	Asked    []*exchange.Exchange // what was looked up for it
	Depends  bool                 // on the sender: what fits cannot be told without one
	Counts   int                  // look-ups that it counts as, with all below
	Voids    int                  // void ones among them
	From, To int                  // the numbers of its first and last look-up, in the order of an evaluation that nothing ends; 0: none
	Never    bool                 // it stands behind all, or behind a redirect that does not count
}

// grow builds the tree of a domain.
func (a *Asker) grow(ctx context.Context, domain wire.Name, above []wire.Name, records *budget) *Tree {
	t := &Tree{Domain: domain}
	if slices.ContainsFunc(above, domain.Equal) {
		t.Loop = true
		return t
	}
	if !records.take() || len(above) >= maxDepth {
		t.Skipped = true
		return t
	}
	t.Exchange = a.Ask(ctx, domain, wire.TXT)
	found := textsThat(IsSPF, t.Exchange)
	if t.Records = len(found); t.Records != 1 {
		return t
	}
	t.Record = ReadSPF(found[0])
	t.Branches = make([]Branch, len(t.Record.Terms))
	above = append(slices.Clone(above), domain)
	var wait sync.WaitGroup
	ended := false
	for i, term := range t.Record.Terms {
		b := &t.Branches[i]
		b.Term = term
		if ended && !term.Modifier || term.Name == "redirect" && slices.ContainsFunc(t.Record.Terms, func(t Term) bool { return t.Name == "all" && !t.Modifier }) {
			b.Never = true
			continue
		}
		ended = ended || term.Name == "all" && !term.Modifier
		if i < maxTold {
			wait.Go(func() { a.branch(ctx, b, t, above, records) })
		}
	}
	wait.Wait()
	return t
}

// budget is how many records may still be fetched.
type budget struct {
	mu   sync.Mutex
	left int
}

func (b *budget) take() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.left--
	return b.left >= 0
}

// branch looks up what a term leads to.
func (a *Asker) branch(ctx context.Context, b *Branch, t *Tree, above []wire.Name, records *budget) {
	term := b.Term
	switch term.Name {
	case "ip4", "ip6":
		b.Networks = []netip.Prefix{term.Network}
		return
	case "ptr":
		b.Depends, b.Counts = true, 1
		return
	case "all", "exp":
		return
	case "include", "a", "mx", "exists":
		b.Counts = 1
	case "redirect":
		if !term.Modifier {
			return
		}
		b.Counts = 1
	default:
		return
	}
	if b.Target = t.Domain; term.Domain != "" {
		parts, err := macros(term.Domain)
		if err != nil || !bare(parts) {
			b.Target, b.Depends = wire.Name{}, true
			return
		}
		text, _ := expand(parts, &Sender{}, t.Domain.Spoken(), false)
		if b.Target, err = wire.ParseName(fitted(text)); err != nil {
			b.Target = wire.Name{}
			return
		}
	}
	switch term.Name {
	case "include", "redirect":
		b.Below = a.grow(ctx, b.Target, above, records)
		if b.Below.Exchange != nil {
			b.Asked = append(b.Asked, b.Below.Exchange)
		}
	case "a":
		found := a.both(ctx, b.Target)
		b.Asked = found[:]
		b.around(addressesOf(found[:]...))
	case "mx":
		a.hosts(ctx, b)
	case "exists":
		b.Asked = []*exchange.Exchange{a.Ask(ctx, b.Target, wire.A)}
	}
	if len(b.Asked) > 0 && b.Below == nil && !slices.ContainsFunc(b.Asked, func(e *exchange.Exchange) bool { return !void(e) }) {
		b.Voids = 1
	}
}

// around takes the networks around addresses, as wide as the term says.
func (b *Branch) around(all []netip.Addr) {
	for _, address := range all {
		bits := b.Term.V6
		if address.Is4() {
			bits = b.Term.V4
		}
		if p, err := address.Prefix(bits); err == nil && !slices.Contains(b.Networks, p) {
			b.Networks = append(b.Networks, p)
		}
	}
}

// hosts looks up the mail hosts of a name, and their addresses.
func (a *Asker) hosts(ctx context.Context, b *Branch) {
	e := a.Ask(ctx, b.Target, wire.MX)
	b.Asked = []*exchange.Exchange{e}
	for _, r := range e.Answer().Records {
		if host, ok := r.Target(); ok && !host.IsRoot() && len(b.Hosts) < maxHosts {
			b.Hosts = append(b.Hosts, host)
		}
	}
	found := make([][2]*exchange.Exchange, len(b.Hosts))
	var wait sync.WaitGroup
	for i, host := range b.Hosts {
		wait.Go(func() { found[i] = a.both(ctx, host) })
	}
	wait.Wait()
	for _, pair := range found {
		b.around(addressesOf(pair[:]...))
	}
}

// count numbers the look-ups in the order of an evaluation, and returns how many there are, and
// how many void ones among them.
func (t *Tree) count(before int) (lookups, voids int) {
	for i := range t.Branches {
		b := &t.Branches[i]
		if b.Never || b.Counts == 0 {
			continue
		}
		b.From = before + lookups + 1
		lookups++
		if b.Below != nil {
			more, empty := b.Below.count(before + lookups)
			if void(b.Below.Exchange) {
				empty++
			}
			b.Counts, b.Voids = 1+more, empty
			lookups += more
		}
		b.To = before + lookups
		voids += b.Voids
	}
	return lookups, voids
}

// may are the addresses that a record lets pass, and those on which it decides at all: what
// fits first counts. open reports that it may let others pass too, depending on the sender;
// everybody that all other addresses pass as well.
func (t *Tree) may() (pass, decided addresses, open bool) {
	everything := addresses{}.with(netip.MustParsePrefix("0.0.0.0/0"), netip.MustParsePrefix("::/0"))
	for i := range t.Branches {
		b := &t.Branches[i]
		if b.Never {
			continue
		}
		var fits addresses
		switch {
		case b.Term.Name == "all" && !b.Term.Modifier:
			fits = everything
		case b.Term.Name == "redirect" && b.Below != nil:
			below, of, more := b.Below.may()
			open = open || more
			pass = pass.and(below.without(decided))
			decided = decided.and(of)
			continue
		case b.Term.Name == "include" && b.Below != nil:
			var more bool
			if fits, _, more = b.Below.may(); more && b.Term.Qualifier == '+' {
				open = true
			}
		case b.Depends:
			open = open || b.Term.Qualifier == '+'
			continue
		default:
			fits = addresses{}.with(b.Networks...)
		}
		if b.Term.Qualifier == '+' {
			pass = pass.and(fits.without(decided))
		}
		decided = decided.and(fits)
	}
	return pass, decided, open
}
