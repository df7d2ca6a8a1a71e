package page

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"unquil/core/delegation"
	"unquil/core/dnssec"
	"unquil/core/wire"
)

// TestValidity: a line for each zone's keys and for the answer, with what ran out marked and "now" across them.
func TestValidity(t *testing.T) {
	now := time.Date(2026, 3, 9, 7, 40, 0, 0, time.UTC)
	day := func(n int) time.Time { return now.Add(time.Duration(n) * 24 * time.Hour) }
	example, gates := wire.MustParseName("example."), wire.MustParseName("gates.hollowtarn.example.")
	root := &dnssec.Link{Zone: wire.Root, State: dnssec.Secure, Begins: day(-7), Expires: day(14), By: 5}
	good := &dnssec.Link{Zone: example, State: dnssec.Secure, Begins: day(-400), Expires: day(400), By: 7}
	over := &dnssec.Break{Flaw: dnssec.SignatureExpired, Zone: gates, Owner: gates, Type: wire.DNSKEY, Since: day(-1), Begins: day(-8), Ends: day(-1)}
	early := &dnssec.Break{Flaw: dnssec.SignatureNotYet, Zone: example, Owner: example, Type: wire.A, Until: day(2), Begins: day(2), Ends: day(9)}
	for _, c := range []struct {
		what  string
		of    dnssec.Result
		has   []string
		hasno []string
	}{
		{"nothing is signed", dnssec.Result{State: dnssec.Insecure}, nil, []string{"<svg"}},
		{"all is well", dnssec.Result{State: dnssec.Secure, Chain: []*dnssec.Link{root, good}, Begins: day(-1), Ends: day(3)},
			[]string{"keys of the root", "keys of example", "the answer", "until 12 March 07:40 UTC", "now: 9 March 2026 07:40"}, []string{"span bad"}},
		{"keys ran out", dnssec.Result{State: dnssec.Bogus, Break: over, Chain: []*dnssec.Link{root, {Zone: gates, State: dnssec.Bogus, Break: over}}},
			[]string{"keys of gates.hollowtarn.example", "span bad", "ran out 8 March 07:40 UTC"}, []string{"the answer"}},
		{"the answer is not valid yet", dnssec.Result{State: dnssec.Bogus, Break: early, Chain: []*dnssec.Link{root, good}},
			[]string{"example A", "span bad", "not before 11 March 07:40"}, nil},
	} {
		w := &delegation.Walk{Validation: &delegation.Validation{Result: c.of, AsOf: now}}
		drawn := string(validityPicture(w))
		for _, words := range c.has {
			assert.Contains(t, drawn, words, c.what)
		}
		for _, words := range c.hasno {
			assert.NotContains(t, drawn, words, c.what)
		}
		assert.False(t, strings.Contains(drawn, `="-`), "%s: all of it lies within the picture", c.what)
	}
	assert.Empty(t, validityPicture(&delegation.Walk{}))

	w := &delegation.Walk{Validation: &delegation.Validation{Result: dnssec.Result{State: dnssec.Bogus, Break: over, Chain: []*dnssec.Link{root, {Zone: gates, State: dnssec.Bogus, Break: over}}}}}
	class, words := trustWords(w, wire.Root, false)
	assert.Equal(t, []string{"quiet", "key 5 vouches for its keys, named by the trust anchor"}, []string{class, words})
	class, words = trustWords(w, gates, true)
	assert.Equal(t, "bad-text", class)
	assert.Contains(t, words, "the chain breaks here: The signature over the keys of gates.hollowtarn.example ran out at 07:40 on 8 March 2026")
	_, words = trustWords(w, example, false)
	assert.Empty(t, words, "the chain does not come by it")
}
