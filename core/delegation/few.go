package delegation

import (
	"cmp"
	"encoding/binary"
	"hash/fnv"
	"net/netip"
	"slices"

	"unquil/core/idn"
	"unquil/core/wire"
)

// How many addresses of the servers of the root, and of a top-level zone, are asked where a few will do:
// enough to see a difference. A side walk needs a way through and no more.
const (
	fewServers = 2
	fewAside   = 1
)

// isTop reports whether a zone is the root or a top-level one: their servers serve everybody.
func isTop(zone wire.Name) bool { return zone.Labels() <= 1 }

// few parts the servers of a top zone into those that are asked, chosen by chance, and the rest, which is
// asked only if the first fail or differ. rest is empty where all are to be asked.
func (w *Walker) few(step *Step, servers []Server, side bool) (chosen, rest []Server) {
	count := fewServers
	if side {
		count = fewAside
	}
	if !w.Few || step.Given || !isTop(step.Zone) {
		return servers, nil
	}
	order := slices.Clone(servers)
	slices.SortStableFunc(order, func(a, b Server) int {
		return cmp.Compare(w.lot(a.Host), w.lot(b.Host))
	})
	for _, s := range order {
		if len(s.Addresses) == 0 || len(chosen) >= count {
			rest = append(rest, s)
			continue
		}
		at := max(slices.IndexFunc(s.Addresses, netip.Addr.Is4), 0)
		chosen = append(chosen, Server{s.Host, s.Addresses[at : at+1]})
		if others := slices.Concat(s.Addresses[:at], s.Addresses[at+1:]); len(others) > 0 {
			rest = append(rest, Server{s.Host, others})
		}
	}
	if len(chosen) < count {
		return servers, nil
	}
	return chosen, rest
}

// lot is a server's lot in the choice: the same for all walks of a run, so that they ask the same ones.
func (w *Walker) lot(host wire.Name) uint64 {
	h := fnv.New64a()
	h.Write(binary.BigEndian.AppendUint64(nil, w.Seed))
	h.Write([]byte(host.Fold().Wire()))
	return h.Sum64()
}

// differ reports whether the servers of a step that were asked so far do not all refer to the same, or one
// of them is of no use.
func (s *Step) differ() bool {
	for _, r := range s.Replies {
		if !r.Stance.Usable() || r.Stance != s.Replies[0].Stance || r.Lists() != s.Replies[0].Lists() ||
			r.Stance == Answers && r.Exchange.Meaning() != s.Replies[0].Exchange.Meaning() {
			return true
		}
	}
	return false
}

// addressesOf is how many addresses servers have.
func addressesOf(servers []Server) (n int) {
	for _, s := range servers {
		n += max(len(s.Addresses), 1)
	}
	return n
}

// above is the question that the servers of a zone above a registrable domain are asked for the sake of all
// names in it, and of all types: that one is asked once for all of them. ok is false where the question has
// to be the whole one.
func (m *minimiser) above(zone wire.Name, q wire.Question) (wire.Question, bool) {
	domain := idn.Registrable(q.Name)
	if !m.together || m.known >= domain.Labels() || zone.Labels() >= domain.Labels() || !domain.IsSubdomainOf(zone) || q.Type == wire.DS && q.Name.Equal(domain) {
		return q, false
	}
	return wire.Question{Name: domain.Fold(), Type: wire.A, Class: q.Class}, true
}
