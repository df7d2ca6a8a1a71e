package text

import (
	"errors"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"unquil/core/escape"
	"unquil/core/registry"
	"unquil/core/wire"
)

// Whatever a registry leaves out, the rest is told, and what is not known is said to be.
func TestOwnersOfAnyShape(t *testing.T) {
	at := time.Date(2026, 3, 9, 8, 0, 0, 0, time.UTC)
	name := wire.MustParseName("tarn.example.")
	server := wire.MustParseName("one.fell.test.")
	other := wire.MustParseName("two.fell.test.")
	address := netip.MustParseAddr("203.0.113.7")
	network := &registry.Network{First: netip.MustParseAddr("203.0.113.0"), Last: netip.MustParseAddr("203.0.113.255"), Source: registry.Source{Host: "rdap.fell.test"}}
	named := *network
	named.Name, named.Holder = "FELL", registry.Contact{Name: "Fell Farms"}
	named.Abuse = registry.Contact{Name: "The desk", Mail: "abuse@fell.test"}
	domain := func(d registry.Domain) registry.Answer {
		d.Name, d.Sources = name, []registry.Source{{Host: "rdap.fell.test"}}
		return registry.Answer{At: at, Domain: &d, From: "rdap.fell.test"}
	}
	whole := registry.Seen{ParentTold: true, Parent: []wire.Name{server}, ZoneTold: true, Zone: []wire.Name{server, other}, DSTold: true}
	for _, tt := range []struct {
		what string
		item registry.Item
		want []string
		not  []string
	}{
		{"an address of nobody who is named", registry.Item{Subject: registry.Subject{Asked: "203.0.113.7", Kind: registry.AnAddress}, Networks: []*registry.Network{network}}, []string{"203.0.113.7 belongs to nobody who is named. network 203.0.113.0/24 registry rdap.fell.test"}, []string{"since", "abuse"}},
		{"a contact who is not the holder", registry.Item{Subject: registry.Subject{Asked: "203.0.113.7", Kind: registry.AnAddress}, Networks: []*registry.Network{&named}}, []string{"belongs to Fell Farms. network 203.0.113.0/24, FELL", "abuse The desk, abuse@fell.test"}, nil},
		{"an address that nobody tells of", registry.Item{Subject: registry.Subject{Asked: "203.0.113.7", Kind: registry.AnAddress}, Problem: "it takes no more questions"}, []string{"203.0.113.7 unknown: it takes no more questions"}, nil},
		{"a host without an address", registry.Item{Subject: registry.Subject{Asked: "www.tarn.example", Kind: registry.AHost, Name: wire.MustParseName("www.tarn.example."), Registrable: name}, Problem: "it has no address"}, []string{"www.tarn.example it has no address"}, nil},
		{"a host of two networks, one of them known", registry.Item{Subject: registry.Subject{Asked: "www.tarn.example", Kind: registry.AHost, Name: wire.MustParseName("www.tarn.example."), Registrable: name}, Addresses: []netip.Addr{address, netip.MustParseAddr("2001:db8::7")}, Networks: []*registry.Network{&named}},
			[]string{"has 2 addresses. 203.0.113.7 Fell Farms, FELL 2001:db8::7 unknown", "unquil owner tarn.example, for the domain itself"}, nil},
		{"a domain of which nothing is told", registry.Item{Subject: registry.Subject{Asked: "tarn.example", Kind: registry.ADomain, Name: name}, Answer: domain(registry.Domain{})}, []string{"tarn.example is registered; until when is not told. servers none at the registry, and none in the DNS registry rdap.fell.test"}, []string{"registrar", "expires"}},
		{"one that is not known", registry.Item{Subject: registry.Subject{Asked: "tarn.example", Kind: registry.ADomain, Name: name}}, []string{"tarn.example unknown"}, nil},
		{"servers of three minds", registry.Item{Subject: registry.Subject{Asked: "tarn.example", Kind: registry.ADomain, Name: name}, Seen: whole, Answer: domain(registry.Domain{Servers: []registry.Host{{Name: other}}, DS: []registry.DS{{Tag: 1, Algorithm: 13, Digest: 2, Value: "AA"}}})},
			[]string{"two.fell.test yes no yes one.fell.test no yes yes", "DS 1 record at the registry, 0 in the zone above"}, nil},
		{"nothing seen in the DNS", registry.Item{Subject: registry.Subject{Asked: "tarn.example", Kind: registry.ADomain, Name: name}, Answer: domain(registry.Domain{Servers: []registry.Host{{Name: other}}, DS: []registry.DS{{}}})}, []string{"two.fell.test yes unknown unknown", "an unknown number in the zone above"}, nil},
		{"dates that are past and to come", registry.Item{Subject: registry.Subject{Asked: "tarn.example", Kind: registry.ADomain, Name: name}, Answer: domain(registry.Domain{Registrar: "Cairn", Expires: at.AddDate(1, 0, 0), RegistrarExpires: at.AddDate(0, 0, -2), Deletes: at.AddDate(0, 0, 9), Statuses: []escape.Text{"client hold", "brand new"}, Missing: "x: y"})},
			[]string{"at Cairn, until 7 March 2026.", "status client hold: the registrar has taken it out of the DNS brand new", "expires 9 March 2027 paid until 7 March 2026, by its registrar's word release due 18 March 2026", "what its registrar says is missing: x: y"}, nil},
	} {
		out := drawn(func(v *View) {
			v.Owners(&registry.Report{Items: []registry.Item{tt.item}, Notes: []string{"an old list"}})
		})
		for _, want := range append(tt.want, "note an old list") {
			assert.Contains(t, out, want, tt.what)
		}
		for _, not := range tt.not {
			assert.NotContains(t, out, not, tt.what)
		}
	}
	out := drawn(func(v *View) {
		v.AddressOwners([]netip.Addr{address, netip.MustParseAddr("10.0.0.1"), netip.MustParseAddr("192.0.2.1")}, map[netip.Addr]*registry.Network{address: &named}, map[netip.Addr]error{netip.MustParseAddr("192.0.2.1"): errors.New("too busy\x1b[31m")}, nil)
	})
	assert.Contains(t, out, "203.0.113.7 Fell Farms, FELL 10.0.0.1 unknown: of no registry: such addresses are used inside networks alone 192.0.2.1 unknown: too busy\\027[31m")
	assert.Empty(t, drawn(func(v *View) { v.AddressOwners(nil, nil, nil, nil) }))
}
