package casework

import (
	"net/netip"
	"slices"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// Marks gives each host and each address that exchanges tell of a number, from 1, by which it
// can be called from then on. The zero value has none.
type Marks struct {
	list      []Marked
	hosts     map[string]int // by name, in lower case
	addresses map[netip.Addr]int
}

// Marked is what a mark stands for: a host, or an address.
type Marked struct {
	Host      wire.Name       // zero: an address
	Of        wire.Name       // the host that an address is of, as far as replies said; zero: none
	Addresses []netip.Addr    // the address, or those that replies gave for the host
	Server    exchange.Server // of an address that was asked: how it was; else zero
}

// Bounds on what is marked.
const (
	maxMarks     = 10_000
	maxAddresses = 16 // of one host
)

// Len is how many marks there are: they are numbered up to it.
func (m *Marks) Len() int { return len(m.list) }

// Of returns what a mark stands for; nil when there is no such mark.
func (m *Marks) Of(mark int) *Marked {
	if mark < 1 || mark > len(m.list) {
		return nil
	}
	return &m.list[mark-1]
}

// Host is the mark of a host; 0 without one.
func (m *Marks) Host(name wire.Name) int { return m.hosts[name.Fold().Wire()] }

// Address is the mark of an address; 0 without one.
func (m *Marks) Address(a netip.Addr) int { return m.addresses[a.Unmap()] }

func (m *Marks) host(name wire.Name) {
	key := name.Fold().Wire()
	if m.hosts == nil {
		m.hosts = map[string]int{}
	}
	if name.IsZero() || name.IsRoot() || m.hosts[key] != 0 || len(m.list) >= maxMarks {
		return
	}
	m.list = append(m.list, Marked{Host: name.Fold()})
	m.hosts[key] = len(m.list)
}

func (m *Marks) address(a netip.Addr) {
	a = a.Unmap()
	if m.addresses == nil {
		m.addresses = map[netip.Addr]int{}
	}
	if !a.IsValid() || m.addresses[a] != 0 || len(m.list) >= maxMarks {
		return
	}
	m.list = append(m.list, Marked{Addresses: []netip.Addr{a}})
	m.addresses[a] = len(m.list)
}

// at notes that a host has an address.
func (m *Marks) at(name wire.Name, a netip.Addr) {
	marked := m.Of(m.Host(name))
	if marked != nil && !slices.Contains(marked.Addresses, a) && len(marked.Addresses) < maxAddresses {
		marked.Addresses = append(marked.Addresses, a)
	}
	if address := m.Of(m.Address(a)); address != nil && address.Of.IsZero() {
		address.Of = name.Fold()
	}
}

// Take gives marks to what an exchange tells of, in the order in which it is shown: the hosts
// and addresses of its answer or its referral, then the server.
func (m *Marks) Take(e *exchange.Exchange) {
	if e.Reply != nil {
		answer := e.Answer()
		for _, r := range append(slices.Clone(answer.Aliases), answer.Records...) {
			m.record(r)
		}
		if e.Outcome == exchange.Referral {
			_, servers, _ := exchange.ReferralZone(e.Reply)
			for _, r := range servers {
				m.record(r)
				if host, ok := r.Target(); ok {
					for _, glue := range GlueOf(e.Reply, host) {
						m.address(glue)
						m.at(host, glue)
					}
				}
			}
		}
	}
	m.server(e.Server)
}

func (m *Marks) record(r wire.Record) {
	if host, ok := r.Target(); ok {
		m.host(host)
	}
	if a, ok := r.Address(); ok {
		m.address(a)
		m.at(r.Name, a)
	}
}

// server gives marks to who was asked.
func (m *Marks) server(s exchange.Server) {
	a := s.Address.Addr().Unmap()
	if s.Host != "" {
		if host, err := wire.ParseName(s.Host); err == nil {
			m.host(host)
			m.address(a)
			m.at(host, a)
		}
	}
	m.address(a)
	if marked := m.Of(m.Address(a)); marked != nil && !marked.Server.Address.IsValid() {
		marked.Server = s
	}
}

// GlueOf are the addresses that a referral gives for a host beside it.
func GlueOf(m *wire.Message, host wire.Name) (addresses []netip.Addr) {
	for _, r := range m.Additional {
		if a, ok := r.Address(); ok && r.Name.Equal(host) && len(addresses) < maxAddresses {
			addresses = append(addresses, a)
		}
	}
	return addresses
}
