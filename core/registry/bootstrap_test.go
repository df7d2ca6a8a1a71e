package registry

import (
	"encoding/json"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/wire"
)

// What fits best is asked, over HTTPS alone; the lists are shaped as in RFC 9224 §4 and §5.
func TestWhichRegistryIsAsked(t *testing.T) {
	read := func(text string) *services {
		var s services
		require.NoError(t, json.Unmarshal([]byte(text), &s))
		return &s
	}
	names := read(`{"version": "1.0", "services": [[["net", "com"], ["https://registry.example.com/myrdap/"]], [["org", "mytld"], ["http://plain.example.org/", "https://example.org/"]],
		[["xn--zckzah"], ["https://example.net/rdap/xn--zckzah/"]], [["co.com"], ["https://below.example.com/"]], [["old"], ["http://old.example.net/"]], [["half"]], []]}`)
	networks := read(`{"services": [[["198.51.100.0/24", "192.0.0.0/8"], ["https://rir1.example.com/myrdap/"]], [["203.0.113.0/24", "192.0.2.0/24"], ["https://example.org/"]],
		[["2001:db8::/34"], ["https://rir2.example.com/"]], [["2001:db8:4000::/36", "2001:db8:ffff::/48"], ["https://example.net/"]], [["no network"], ["https://example.net/"]]]}`)
	numbers := read(`{"services": [[["64496-64496"], ["https://rir3.example.com/"]], [["64497-64510", "65536-65551"], ["https://example.org/"]], [["64512"], ["https://example.net/"]], [["x-y", "5-"], ["https://example.net/"]]]}`)
	name := func(text string) func(string) int { return ofName(wire.MustParseName(text)) }
	address := func(text string) func(string) int { return ofAddress(netip.MustParseAddr(text)) }
	for _, tt := range []struct {
		list *services
		fit  func(string) int
		want string // "" is nobody
		err  error
	}{
		{names, name("tarn.com."), "https://registry.example.com/myrdap/", nil},
		{names, name("tarn.CO.com."), "https://below.example.com/", nil},
		{names, name("a.b.org."), "https://example.org/", nil},
		{names, name("tarn.xn--zckzah."), "https://example.net/rdap/xn--zckzah/", nil},
		{names, name("tarn.old."), "", ErrScheme},
		{names, name("tarn.half."), "", ErrNoService},
		{names, name("tarn.example."), "", ErrNoService},
		{networks, address("192.0.2.1"), "https://example.org/", nil},
		{networks, address("192.5.0.1"), "https://rir1.example.com/myrdap/", nil},
		{networks, address("2001:db8:1::"), "https://rir2.example.com/", nil},
		{networks, address("2001:db8:4abc::1"), "https://example.net/", nil},
		{networks, address("2001:dba::"), "", ErrNoService},
		{numbers, ofNumber(64496), "https://rir3.example.com/", nil},
		{numbers, ofNumber(65551), "https://example.org/", nil},
		{numbers, ofNumber(64512), "https://example.net/", nil},
		{numbers, ofNumber(64511), "", ErrNoService},
	} {
		base, err := tt.list.find(tt.fit)
		assert.ErrorIs(t, err, tt.err, tt.want)
		assert.Equal(t, tt.want, base)
	}
}

func TestRange(t *testing.T) {
	for _, tt := range []struct{ first, last, want string }{
		{"192.0.2.0", "192.0.2.255", "192.0.2.0/24"},
		{"192.0.2.7", "192.0.2.7", "192.0.2.7/32"},
		{"192.0.2.1", "192.0.2.254", "192.0.2.1 to 192.0.2.254"},
		{"0.0.0.0", "255.255.255.255", "0.0.0.0/0"},
		{"2001:db8::", "2001:db8:ffff:ffff:ffff:ffff:ffff:ffff", "2001:db8::/32"},
	} {
		n := Network{First: netip.MustParseAddr(tt.first), Last: netip.MustParseAddr(tt.last)}
		assert.Equal(t, tt.want, n.Range())
		assert.True(t, n.Contains(n.First) && n.Contains(n.Last))
	}
}
