package machine

import (
	"io/fs"
	"net/netip"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRead(t *testing.T) {
	for _, tt := range []struct {
		name, text string
		want       Setup
		err        error
	}{
		{"resolvers in order, a search list, options", "# valley\nnameserver 192.0.2.53\nnameserver 2001:db8::53\nsearch hollowtarn.example valley.hollowtarn.example\noptions ndots:2 timeout:1\n",
			Setup{[]netip.AddrPort{netip.MustParseAddrPort("192.0.2.53:53"), netip.MustParseAddrPort("[2001:db8::53]:53")}, []string{"hollowtarn.example", "valley.hollowtarn.example"}, 2}, nil},
		{"what is not understood is skipped", "nameserver tarn\nnameserver\n;x\nnameserver 192.0.2.53\noptions ndots:x\n",
			Setup{[]netip.AddrPort{netip.MustParseAddrPort("192.0.2.53:53")}, nil, 1}, nil},
		{"no resolver", "search hollowtarn.example\n", Setup{nil, []string{"hollowtarn.example"}, 1}, ErrNoResolver},
	} {
		t.Run(tt.name, func(t *testing.T) {
			got, err := Read(fstest.MapFS{"etc/resolv.conf": {Data: []byte(tt.text)}})
			require.ErrorIs(t, err, tt.err)
			assert.Equal(t, tt.want, got)
		})
	}
	_, err := Read(fstest.MapFS{})
	require.ErrorIs(t, err, fs.ErrNotExist)
}
