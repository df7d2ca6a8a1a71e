package machine

import (
	"net/netip"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
)

func ports(addresses ...string) (all []netip.AddrPort) {
	for _, a := range addresses {
		all = append(all, netip.MustParseAddrPort(a))
	}
	return all
}

// Resolvers for single domains and links are read from the files that systems keep them in.
func TestScopes(t *testing.T) {
	file := func(text string) *fstest.MapFile { return &fstest.MapFile{Data: []byte(text)} }
	setup, err := Read(fstest.MapFS{
		"etc/resolv.conf":                 file("nameserver 127.0.0.53\noptions edns0 trust-ad rotate\n"),
		"etc/resolver/hollowtarn.example": file("nameserver 192.0.2.53\nport 5353\n# x\nnameserver nowhere\n"),
		"etc/resolver/odd":                file("domain farhost.test\nnameserver 2001:db8::53\n"),
		"etc/resolver/.hidden":            file("nameserver 192.0.2.99\n"),
		"etc/resolver/empty":              file(""),
		"run/systemd/resolve/netif/3":     file("LLMNR=yes\nSERVERS=198.51.100.53 [2001:db8::54]:853#isp.farhost.test\nDOMAINS=~vpn.hollowtarn.example ~.\n"),
		".dockerenv":                      file(""),
	})
	assert.NoError(t, err)
	assert.True(t, setup.Container)
	assert.Equal(t, []Scope{
		{Domains: []string{"hollowtarn.example"}, Resolvers: ports("192.0.2.53:5353"), Source: "etc/resolver/hollowtarn.example"},
		{Domains: []string{"farhost.test"}, Resolvers: ports("[2001:db8::53]:53"), Source: "etc/resolver/odd"},
		{Domains: []string{"vpn.hollowtarn.example"}, Interface: "interface 3", Resolvers: ports("198.51.100.53:53", "[2001:db8::54]:853"), Source: "run/systemd/resolve/netif/3",
			Named: map[netip.AddrPort]string{netip.MustParseAddrPort("[2001:db8::54]:853"): "isp.farhost.test"}},
	}, setup.Scopes)
}

// recordedStore is what macOS says in an office with a tunnel.
const recordedStore = `DNS configuration

resolver #1
  search domain[0] : hollowtarn.example
  search domain[1] : valley.hollowtarn.example
  nameserver[0] : 192.0.2.53
  nameserver[1] : 2001:db8:0:2::53
  if_index : 6 (en0)
  flags    : Request A records, Request AAAA records
  reach    : 0x00020002 (Reachable,Directly Reachable Address)

resolver #2
  domain   : local
  options  : mdns
  nameserver[0] : 224.0.0.251
  timeout  : 5
  order    : 300000

resolver #3
  domain   : vpn.hollowtarn.example
  nameserver[0] : 203.0.113.53
  if_index : 9 (utun2)

DNS configuration (for scoped queries)

resolver #1
  search domain[0] : hollowtarn.example
  nameserver[0] : 192.0.2.53
  if_index : 6 (en0)
  flags    : Scoped, Request A records
`

// What macOS says of its resolvers becomes the usual ones, and those beside them.
func TestDynamicStore(t *testing.T) {
	var setup Setup
	setup.readDynamicStore(recordedStore)
	const source = "the system's dynamic store"
	assert.Equal(t, Setup{
		Resolvers: ports("192.0.2.53:53", "[2001:db8:0:2::53]:53"), Search: []string{"hollowtarn.example", "valley.hollowtarn.example"},
		Scopes: []Scope{
			{Domains: []string{"vpn.hollowtarn.example"}, Resolvers: ports("203.0.113.53:53"), Source: source},
			{Interface: "en0", Resolvers: ports("192.0.2.53:53"), Source: source},
		},
	}, setup)
	of := Setup{Resolvers: ports("192.0.2.53:53", "[2001:db8:0:2::53]:53")} // from etc/resolv.conf, which says the same
	of.readDynamicStore(recordedStore)
	assert.Equal(t, setup.Search, of.Search)
	assert.Len(t, of.Scopes, 2)
	for _, odd := range []string{"", "resolver #1\n", "nameserver[0] : x\n : \nresolver", strings.Repeat("resolver #1\n nameserver[0] : 192.0.2.1\n domain : a\n", 500)} {
		var s Setup
		s.readDynamicStore(odd)
		assert.LessOrEqual(t, len(s.Scopes), maxScopes)
	}
}

// Of a Windows system the adapter with the least metric is asked first; what is down, or has none, is not.
func TestAdapters(t *testing.T) {
	adapters := []Adapter{
		{"Wi-Fi", true, 45, ports("198.51.100.53:53", "192.0.2.53:53"), "hall.hollowtarn.example"},
		{"Ethernet", true, 25, ports("192.0.2.53:53", "[fec0:0:0:ffff::1]:53"), "hollowtarn.example"},
		{"Tunnel", false, 5, ports("203.0.113.53:53"), "vpn.hollowtarn.example"},
		{"Loopback", true, 75, nil, ""},
	}
	policies := []Policy{{[]string{".vpn.hollowtarn.example", "tickets.hollowtarn.example"}, ports("203.0.113.53:53")}, {[]string{".empty"}, nil}}
	for name, tt := range map[string]struct {
		search []string
		domain string
		want   []string
	}{
		"suffixes of the adapters": {nil, "valley.hollowtarn.example", []string{"valley.hollowtarn.example", "hollowtarn.example", "hall.hollowtarn.example"}},
		"a list for all":           {[]string{"a.example", "b.example"}, "valley.hollowtarn.example", []string{"a.example", "b.example"}},
	} {
		t.Run(name, func(t *testing.T) {
			var setup Setup
			setup.setAdapters(adapters, policies, tt.search, tt.domain)
			assert.Equal(t, ports("192.0.2.53:53", "198.51.100.53:53"), setup.Resolvers)
			assert.Equal(t, tt.want, setup.Search)
			assert.Equal(t, []Scope{
				{Domains: []string{"hall.hollowtarn.example"}, Interface: "Wi-Fi", Resolvers: ports("198.51.100.53:53", "192.0.2.53:53"), Source: "the adapter"},
				{Domains: []string{"vpn.hollowtarn.example", "tickets.hollowtarn.example"}, Resolvers: ports("203.0.113.53:53"), Source: "the name resolution policy table"},
			}, setup.Scopes)
		})
	}
}

// No recorded text makes the reading fail, or hold more than it may.
func FuzzDynamicStore(f *testing.F) {
	f.Add(recordedStore)
	f.Fuzz(func(t *testing.T, text string) {
		var setup Setup
		setup.readDynamicStore(text)
		assert.LessOrEqual(t, len(setup.Scopes), maxScopes)
	})
}
