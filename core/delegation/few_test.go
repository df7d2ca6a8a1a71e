package delegation

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// TestFew: of the servers of the root two are asked, and the others only if these are of no use, or differ.
func TestFew(t *testing.T) {
	const servers = 6
	good := refer(t, []string{"tarn.example NS ns.tarn.example."}, "ns.tarn.example A 198.51.100.31")
	other := refer(t, []string{"tarn.example NS ns2.tarn.example."}, "ns2.tarn.example A 198.51.100.31")
	zone := serve(t, "tarn.example", 3, "www.tarn.example A 203.0.113.9")
	for _, c := range []struct {
		what   string
		picked func(wire.Question) *wire.Message // what both that are picked say
		second func(wire.Question) *wire.Message // where the other of the two says something else
		asked  int
		end    End
	}{
		{"they agree", good, good, 2, EndAnswer},
		{"one refers elsewhere", good, other, servers, EndAnswer},
		{"one refuses", good, refuse, servers, EndAnswer},
		{"both refuse", refuse, refuse, servers, EndAnswer},
		{"both are silent", silent, silent, servers, EndAnswer},
	} {
		for seed := range uint64(5) {
			walker := Walker{Few: true, Seed: seed}
			network := script{"198.51.100.31": zone}
			for i := range servers {
				address := netip.AddrFrom4([4]byte{198, 51, 100, byte(i + 1)})
				walker.Roots = append(walker.Roots, Server{wire.MustParseName(fmt.Sprintf("r%d.roots.test", i)), []netip.Addr{address, netip.MustParseAddr(fmt.Sprintf("2001:db8::%d", i+1))}})
				network[address.String()] = good
			}
			picked, _ := walker.few(&Step{Zone: wire.Root}, walker.Roots, false)
			assert.Len(t, picked, fewServers)
			again, rest := walker.few(&Step{Zone: wire.Root}, walker.Roots, false)
			assert.Equal(t, picked, again, "the same for all walks of a run")
			assert.Equal(t, 2*servers-fewServers, addressesOf(rest))
			network[picked[0].Addresses[0].String()], network[picked[1].Addresses[0].String()] = c.picked, c.second
			client := &exchange.Client{Network: network, Now: time.Now, Options: exchange.Options{Wait: 80 * time.Millisecond, Attempts: 1}}
			walker.Session = &exchange.Session{Client: client}
			walk := walker.Walk(t.Context(), wire.Question{Name: wire.MustParseName("www.tarn.example"), Type: wire.A, Class: wire.IN})
			assert.Equal(t, c.end, walk.End, "%s, seed %d", c.what, seed)
			asked := 0
			for _, r := range walk.Steps[0].Replies {
				if r.Address.Is4() && r.Exchange != nil {
					asked++
				}
			}
			assert.Equal(t, c.asked, asked, "%s, seed %d", c.what, seed)
			assert.Equal(t, c.asked == fewServers, walk.Steps[0].Spared() > 0, c.what)
		}
	}
	every := Walker{Roots: []Server{{wire.MustParseName("r.roots.test"), nil}}}
	all, rest := every.few(&Step{Zone: wire.Root}, every.Roots, false)
	assert.Equal(t, every.Roots, all)
	assert.Empty(t, rest)
}

// TestAbove: servers above a domain are asked for the domain, whatever the name in it and the type.
func TestAbove(t *testing.T) {
	for _, c := range []struct {
		zone, name string
		t          wire.Type
		want       string // "" the whole question
	}{
		{".", "www.tarn.example.", wire.A, "tarn.example. A"},
		{".", "www.tarn.example.", wire.AAAA, "tarn.example. A"},
		{"example.", "a.b.c.tarn.example.", wire.TXT, "tarn.example. A"},
		{"example.", "WWW.Tarn.Example.", wire.A, "tarn.example. A"},
		{"example.", "tarn.example.", wire.MX, "tarn.example. A"},
		{"example.", "tarn.example.", wire.DS, ""},
		{"example.", "www.tarn.example.", wire.DS, "tarn.example. A"},
		{"tarn.example.", "www.tarn.example.", wire.A, ""},
		{"c.tarn.example.", "a.b.c.tarn.example.", wire.A, ""},
		{".", "example.", wire.A, "example. A"},
		{"test.", "www.tarn.example.", wire.A, ""},
		{".", ".", wire.NS, ""},
	} {
		m := minimiser{together: true}
		q := wire.Question{Name: wire.MustParseName(c.name), Type: c.t, Class: wire.IN}
		got, ok := m.above(wire.MustParseName(c.zone), q)
		assert.Equal(t, c.want != "", ok, "%s at %s", q, c.zone)
		if ok {
			assert.Equal(t, c.want, got.Name.String()+" "+got.Type.String(), "%s at %s", q, c.zone)
			m.answered(got.Name, q.Name, &wire.Message{Flags: wire.Flags(0).WithRCode(wire.NXDomain)})
			_, again := m.above(wire.MustParseName(c.zone), q)
			assert.False(t, again, "what was denied is asked for whole: %s at %s", q, c.zone)
		}
	}
	q := wire.Question{Name: wire.MustParseName("www.tarn.example."), Type: wire.A, Class: wire.IN}
	alone := minimiser{}
	_, ok := alone.above(wire.Root, q)
	assert.False(t, ok)
	assert.Equal(t, q, alone.question(wire.Root, q))
}
