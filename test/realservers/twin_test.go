//go:build realservers && linux

package realservers

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/exchange"
	"unquil/core/wire"
	"unquil/core/zonefile"
	"unquil/lab"
)

// What the lab's servers answer for the lab's zones is what a real server answers for
// the same master files: code, authority, answer and referral alike. Records that a
// server adds of its own accord (addresses of hosts that an answer names) may differ.
func TestTheLabAnswersAsARealServerDoes(t *testing.T) {
	l, err := lab.New(lab.Options{})
	require.NoError(t, err)
	defer l.Close()
	options := exchange.Options{Wait: 2 * time.Second, Attempts: 1, Iterative: true}
	inLab := l.Enter(&exchange.Client{Options: options})
	real := &exchange.Client{Network: exchange.Internet{}, Now: time.Now, Options: options}
	defer inLab.Close()
	defer real.Close()
	twin := exchange.Server{Address: netip.AddrPortFrom(netip.MustParseAddr(twinAt), 53)}
	asked := 0
	for _, zone := range twinZones {
		server := serverOf(t, l, zone)
		for _, q := range questions(t, zone) {
			mine, theirs := inLab.Ask(t.Context(), server, q), real.Ask(t.Context(), twin, q)
			if deeper(q.Name, zone) {
				continue // a zone that the twin serves besides
			}
			asked++
			assert.Equal(t, told(&theirs), told(&mine), "%s", q)
		}
	}
	t.Logf("%d questions", asked)
	assert.Greater(t, asked, 400)
}

// deeper reports whether another of the twin's zones, further down, holds a name.
func deeper(name wire.Name, zone string) bool {
	origin := wire.MustParseName(zone)
	return slices.ContainsFunc(twinZones, func(other string) bool {
		below := wire.MustParseName(other)
		return below.Labels() > origin.Labels() && name.IsSubdomainOf(below)
	})
}

// serverOf is the lab's server that has a zone as its first.
func serverOf(t *testing.T, l *lab.Lab, zone string) exchange.Server {
	for _, s := range l.Scenario.Servers {
		for _, z := range s.Zones {
			if z.Name == zone && s.State == lab.Up && s.Quirk == "" && !z.WithoutAuthority && z.File != "hollowtarn.example.behind.zone" {
				return exchange.Server{Address: netip.AddrPortFrom(s.Addresses[0], 53)}
			}
		}
	}
	if zone == "old.hollowtarn.example." { // whose server refuses EDNS, and answers without
		return exchange.Server{Address: netip.MustParseAddrPort("203.0.113.191:53")}
	}
	require.Fail(t, "no server of the lab", zone)
	return exchange.Server{}
}

// questions are every name of a zone with every type that it has and some that it has
// not, names beside and below them, and the names above.
func questions(t *testing.T, zone string) (all []wire.Question) {
	file, err := lab.Zones().Open(twinFile(zone))
	require.NoError(t, err)
	defer file.Close()
	origin := wire.MustParseName(zone)
	records, err := zonefile.Read(file, zonefile.Options{File: zone, Origin: origin})
	require.NoError(t, err)
	seen := map[wire.Question]bool{}
	ask := func(name wire.Name, t wire.Type) {
		if q := (wire.Question{Name: name.Fold(), Type: t, Class: wire.IN}); name.IsSubdomainOf(origin) && !seen[q] {
			seen[q] = true
			all = append(all, q)
		}
	}
	for _, r := range records {
		for _, typ := range []wire.Type{r.Type, wire.A, wire.AAAA, wire.TXT, wire.MX} {
			if r.Type != wire.SOA || r.Name.Equal(origin) {
				ask(r.Name, typ)
			}
		}
		for _, label := range []string{"nobody", "*", "a-very-long-label-that-nobody-has-thought-of"} {
			if below, err := r.Name.Child(label); err == nil {
				ask(below, wire.A)
				if deep, err := below.Child("deep"); err == nil {
					ask(deep, wire.AAAA)
				}
			}
		}
		for name := r.Name; name.IsSubdomainOf(origin) && !name.Equal(origin); name = name.Parent() {
			ask(name, wire.A)
		}
	}
	return all
}

// told is what a reply says, without its order, its ID and what it adds unasked.
func told(e *exchange.Exchange) string {
	if e.Reply == nil {
		return fmt.Sprint(e.Outcome, e.Err)
	}
	m := e.Reply
	var b strings.Builder
	fmt.Fprintf(&b, "%v authority %t cut %t\n", m.RCode(), m.Flags.Has(wire.AA), m.Flags.Has(wire.TC))
	section := func(title string, records []wire.Record, wanted func(r wire.Record) bool) {
		var lines []string
		for _, r := range records {
			if wanted(r) {
				lines = append(lines, title+" "+strings.ToLower(fmt.Sprintf("%s %d %s %s", r.Name, r.TTL, r.Type, r.Value())))
			}
		}
		slices.Sort(lines)
		for _, line := range lines {
			b.WriteString(line + "\n")
		}
	}
	every := func(wire.Record) bool { return true }
	section("answer", m.Answer, every)
	section("authority", m.Authority, every)
	_, ns, referral := exchange.ReferralZone(m)
	section("glue", m.Additional, func(r wire.Record) bool {
		return referral && (r.Type == wire.A || r.Type == wire.AAAA) && slices.ContainsFunc(ns, func(n wire.Record) bool {
			host, _ := n.Target()
			return host.Equal(r.Name)
		})
	})
	return b.String()
}
