package machine

import (
	"net/netip"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/wire"
)

func TestRead(t *testing.T) {
	file := func(text string) *fstest.MapFile { return &fstest.MapFile{Data: []byte(text)} }
	for _, tt := range []struct {
		name string
		root fstest.MapFS
		want Setup
		err  error
	}{
		{"resolvers in order, a search list, options", fstest.MapFS{"etc/resolv.conf": file("# valley\nnameserver 192.0.2.53\nnameserver 2001:db8::53 ; two\nsearch hollowtarn.example valley.hollowtarn.example\noptions ndots:2 timeout:1\n")},
			Setup{Resolvers: []netip.AddrPort{netip.MustParseAddrPort("192.0.2.53:53"), netip.MustParseAddrPort("[2001:db8::53]:53")},
				Search: []string{"hollowtarn.example", "valley.hollowtarn.example"}, Dots: 2, Options: []string{"ndots:2", "timeout:1"}}, nil},
		{"what is not understood is skipped", fstest.MapFS{"etc/resolv.conf": file("nameserver tarn\nnameserver\n;x\nnameserver 192.0.2.53\noptions ndots:x\n"), "etc/hosts": file("tarn tarn\n192.0.2.1\n192.0.2.2 a b # c\n")},
			Setup{Resolvers: []netip.AddrPort{netip.MustParseAddrPort("192.0.2.53:53")}, Dots: 1, Options: []string{"ndots:x"},
				Hosts: []HostsLine{{3, netip.MustParseAddr("192.0.2.2"), []string{"a", "b"}}}}, nil},
		{"the order of sources, and what stands behind a stub", fstest.MapFS{"etc/resolv.conf": file("nameserver 127.0.0.53\n"), "etc/nsswitch.conf": file("passwd: files\nhosts: files dns\n"),
			"run/systemd/resolve/resolv.conf": file("nameserver 192.0.2.53\n")},
			Setup{Resolvers: []netip.AddrPort{netip.MustParseAddrPort("127.0.0.53:53")}, Dots: 1, Sources: []string{"files", "dns"}, Behind: []netip.AddrPort{netip.MustParseAddrPort("192.0.2.53:53")}}, nil},
		{"no resolver", fstest.MapFS{"etc/resolv.conf": file("search hollowtarn.example\n")}, Setup{Search: []string{"hollowtarn.example"}, Dots: 1}, ErrNoResolver},
		{"no file", fstest.MapFS{}, Setup{Dots: 1}, ErrUnread},
	} {
		t.Run(tt.name, func(t *testing.T) {
			got, err := Read(tt.root)
			require.ErrorIs(t, err, tt.err)
			assert.Equal(t, tt.want, got)
		})
	}
}

func TestCandidates(t *testing.T) {
	setup := Setup{Search: []string{"hollowtarn.example", "valley.hollowtarn.example.", "."}, Dots: 1}
	strict := setup
	strict.Dots = 2
	for _, tt := range []struct {
		name  string
		setup Setup
		typed string
		want  []string
	}{
		{"too few dots: the suffixes first", setup, "shop", []string{"shop.hollowtarn.example", "shop.valley.hollowtarn.example", "shop"}},
		{"dots enough: as it is first", setup, "www.shop", []string{"www.shop", "www.shop.hollowtarn.example", "www.shop.valley.hollowtarn.example"}},
		{"a final dot: never extended", setup, "shop.", []string{"shop"}},
		{"ndots counts", strict, "www.shop", []string{"www.shop.hollowtarn.example", "www.shop.valley.hollowtarn.example", "www.shop"}},
		{"no search list", Setup{Dots: 1}, "shop", []string{"shop"}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			var got []string
			for _, c := range tt.setup.Candidates(tt.typed, wire.MustParseName(tt.typed)) {
				got = append(got, c.Name.Spoken())
			}
			assert.Equal(t, tt.want, got)
		})
	}
}

func TestInHosts(t *testing.T) {
	setup := Setup{Hosts: []HostsLine{{1, netip.MustParseAddr("203.0.113.80"), []string{"shop", "Shop.example"}}}}
	assert.Len(t, setup.InHosts("SHOP"), 1)
	assert.Len(t, setup.InHosts("shop.example."), 1)
	assert.Empty(t, setup.InHosts("shops"))
}
