package mail

import (
	"cmp"
	"math/big"
	"net/netip"
	"slices"
)

// addresses is a set of IP addresses: runs that neither touch nor overlap, in order, those of
// IPv4 first.
type addresses []run

// run is the addresses from one to another, of one family.
type run struct{ from, to netip.Addr }

// runOf is all of a network.
func runOf(p netip.Prefix) run {
	p = p.Masked()
	last := p.Addr().AsSlice()
	for bit := p.Bits(); bit < len(last)*8; bit++ {
		last[bit/8] |= 0x80 >> (bit % 8)
	}
	to, _ := netip.AddrFromSlice(last)
	return run{p.Addr(), to}
}

func (r run) compare(other run) int { return r.from.Compare(other.from) }

// with is the set and some networks too.
func (s addresses) with(networks ...netip.Prefix) addresses {
	all := slices.Clone(s)
	for _, p := range networks {
		all = append(all, runOf(p))
	}
	return joined(all)
}

// and is the set and another one.
func (s addresses) and(other addresses) addresses { return joined(slices.Concat(s, other)) }

// joined puts runs in order and joins those that touch.
func joined(runs addresses) addresses {
	slices.SortFunc(runs, run.compare)
	var out addresses
	for _, r := range runs {
		if n := len(out); n > 0 && out[n-1].to.BitLen() == r.from.BitLen() && (out[n-1].to.Compare(r.from) >= 0 || out[n-1].to.Next() == r.from) {
			if r.to.Compare(out[n-1].to) > 0 {
				out[n-1].to = r.to
			}
			continue
		}
		out = append(out, r)
	}
	return out
}

// without is the set less another one.
func (s addresses) without(other addresses) (left addresses) {
	for _, r := range s {
		rest := addresses{r}
		for _, cut := range other {
			if cut.from.BitLen() != r.from.BitLen() {
				continue
			}
			var next addresses
			for _, p := range rest {
				if cut.to.Less(p.from) || p.to.Less(cut.from) {
					next = append(next, p)
					continue
				}
				if p.from.Less(cut.from) {
					next = append(next, run{p.from, cut.from.Prev()})
				}
				if cut.to.Less(p.to) {
					next = append(next, run{cut.to.Next(), p.to})
				}
			}
			rest = next
		}
		left = append(left, rest...)
	}
	return left
}

// prefixes are the fewest networks that are the set, in order.
func (s addresses) prefixes() (networks []netip.Prefix) {
	for _, r := range s {
		for from := r.from; from.IsValid() && !r.to.Less(from); {
			bits := from.BitLen()
			for bits > 0 {
				wider := netip.PrefixFrom(from, bits-1)
				if w := runOf(wider); w.from != from || r.to.Less(w.to) {
					break
				}
				bits--
			}
			p := netip.PrefixFrom(from, bits)
			networks = append(networks, p)
			from = runOf(p).to.Next()
		}
	}
	slices.SortFunc(networks, func(a, b netip.Prefix) int {
		return cmp.Or(cmp.Compare(a.Addr().BitLen(), b.Addr().BitLen()), a.Addr().Compare(b.Addr()))
	})
	return networks
}

// count is how many addresses of IPv4 and of IPv6 they are.
func (s addresses) count() (v4, v6 *big.Int) {
	v4, v6 = new(big.Int), new(big.Int)
	for _, r := range s {
		of := v6
		if r.from.Is4() {
			of = v4
		}
		size := new(big.Int).Sub(new(big.Int).SetBytes(r.to.AsSlice()), new(big.Int).SetBytes(r.from.AsSlice()))
		of.Add(of, size.Add(size, big.NewInt(1)))
	}
	return v4, v6
}
