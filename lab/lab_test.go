package lab

import (
	"context"
	"net"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// stranger is the Go standard resolver, which knows nothing of this program,
// asking one host of the lab.
func stranger(t *testing.T, l *Lab, host string) *net.Resolver {
	address := netip.AddrPortFrom(netip.MustParseAddr(host), 53)
	return &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
		target, err := l.open(door{address.Addr(), service{53, strings.HasPrefix(network, "udp")}})
		if err != nil {
			return nil, err
		}
		var dialer net.Dialer
		return dialer.DialContext(ctx, network, target.String())
	}}
}

func TestStrangerGetsRightAnswers(t *testing.T) {
	l, err := New(Options{})
	require.NoError(t, err)
	defer l.Close()
	for _, host := range []string{"192.0.2.53", "198.51.100.53", "203.0.113.11", "203.0.113.12"} {
		t.Run(host, func(t *testing.T) {
			r, ctx := stranger(t, l, host), t.Context()
			addresses, err := r.LookupHost(ctx, "www.hollowtarn.example.")
			require.NoError(t, err)
			slices.Sort(addresses)
			assert.Equal(t, []string{"2001:db8:113::120", "2001:db8:113::121", "203.0.113.120", "203.0.113.121"}, addresses)
			mail, err := r.LookupMX(ctx, "hollowtarn.example.")
			require.NoError(t, err)
			assert.Equal(t, []*net.MX{{Host: "mx1.hollowtarn.example.", Pref: 10}, {Host: "mx1.lanternpost.test.", Pref: 20}}, mail)
			timetable, err := r.LookupTXT(ctx, "timetable.hollowtarn.example.")
			require.NoError(t, err)
			assert.Len(t, timetable, 3, "it only fits TCP")
			guest, err := r.LookupHost(ctx, "anyone.guest.hollowtarn.example.")
			require.NoError(t, err)
			assert.Equal(t, []string{"203.0.113.66"}, guest)
			names, err := r.LookupAddr(ctx, "203.0.113.11")
			require.NoError(t, err)
			assert.Equal(t, []string{"dns1.hollowtarn.example."}, names)
			_, srv, err := r.LookupSRV(ctx, "sip", "tcp", "hollowtarn.example.")
			require.NoError(t, err)
			assert.Len(t, srv, 2)
			_, err = r.LookupHost(ctx, "tikets.hollowtarn.example.")
			var dns *net.DNSError
			require.ErrorAs(t, err, &dns)
			assert.True(t, dns.IsNotFound)
		})
	}
}

func TestOldAnswerInTheCacheCountsDown(t *testing.T) {
	l, err := New(Options{})
	require.NoError(t, err)
	defer l.Close()
	for host, want := range map[string]string{"192.0.2.53": "203.0.113.80", "198.51.100.53": "203.0.113.140", "203.0.113.77": "203.0.113.80"} {
		got, err := stranger(t, l, host).LookupHost(t.Context(), "tickets.hollowtarn.example.")
		require.NoError(t, err)
		assert.Equal(t, []string{want}, got, host)
	}
}

// Whatever the story says stays within names and addresses that are nobody's.
func TestStoryUsesReservedNamesAndAddresses(t *testing.T) {
	documentation := []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24"), netip.MustParsePrefix("198.51.100.0/24"),
		netip.MustParsePrefix("203.0.113.0/24"), netip.MustParsePrefix("2001:db8::/32")}
	zones := map[Served]bool{}
	scenario, err := Load()
	require.NoError(t, err)
	for _, s := range scenario.Servers {
		for _, z := range s.Zones {
			zones[z] = true
		}
	}
	for z := range zones {
		_, records, err := z.records()
		require.NoError(t, err)
		for _, r := range records {
			name := r.Name.Fold().String()
			assert.True(t, name == "." || strings.HasSuffix(name, ".example.") || name == "example." || strings.HasSuffix(name, "test.") || strings.HasSuffix(name, "arpa."), name)
			if a, ok := r.Address(); ok {
				nobodys := a.IsLoopback() || a.IsPrivate() || a.IsUnspecified() || a.IsLinkLocalUnicast() // which is what is wrong with them
				assert.True(t, nobodys || slices.ContainsFunc(documentation, func(p netip.Prefix) bool { return p.Contains(a) }), "%s", r)
			}
		}
	}
}
