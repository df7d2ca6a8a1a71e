package attest_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/attest"
	"unquil/core/exchange"
	"unquil/core/wire"
	"unquil/lab/labtest"
)

// TestStates: what a set of records comes to depends on what else the capture holds, and on when it was seen.
func TestStates(t *testing.T) {
	prober, l := labtest.Prober(t)
	session := prober.Session
	options := session.Client.Options
	options.DNSSEC, options.CheckingDisabled = true, true
	reply := func(name string, typ wire.Type) []byte {
		e := session.Ask(t.Context(), exchange.Request{Server: labtest.Resolver(t, l, "office"), Question: wire.Question{Name: wire.MustParseName(name), Type: typ, Class: wire.IN}, Options: &options})
		require.True(t, e.Outcome.Good(), "%s %s: %s", name, typ, e.Outcome)
		return e.Last().Reply
	}
	var chain [][]byte
	for _, zone := range []string{".", "example.", "works.example.", "signed.works.example."} {
		if zone != "." {
			chain = append(chain, reply(zone, wire.DS))
		}
		chain = append(chain, reply(zone, wire.DNSKEY))
	}
	signed, other := reply("www.signed.works.example.", wire.A), reply("www.touched.works.example.", wire.A)
	own := chain[len(chain)-1]
	morning := l.Scenario.Begins
	type at struct {
		reply []byte
		when  time.Time
	}
	for _, c := range []struct {
		what    string
		seen    []at
		anchors []wire.Record
		want    attest.State
		flaw    string
	}{
		{"without keys", []at{{signed, morning}}, l.Anchors(), attest.Unjudged, ""},
		{"with its keys", []at{{signed, morning}, {own, morning}}, l.Anchors(), attest.Fits, ""},
		{"with all of the chain", append([]at{{signed, morning}}, each(chain, func(b []byte) at { return at{b, morning} })...), l.Anchors(), attest.Secure, ""},
		{"by another anchor", append([]at{{signed, morning}}, each(chain, func(b []byte) at { return at{b, morning} })...), []wire.Record{{Name: wire.Root, Type: wire.DS, Class: wire.IN, Data: "\x12\x34\x0d\x02" + string(make([]byte, 32))}}, attest.Fits, ""},
		{"too late", []at{{signed, morning.Add(400 * time.Hour)}}, l.Anchors(), attest.Bogus, "signature-expired"},
		{"in time at first, and then too late", []at{{signed, morning}, {own, morning}, {signed, morning.Add(400 * time.Hour)}}, l.Anchors(), attest.Bogus, "signature-expired"},
		{"too early, with its keys", []at{{signed, morning.Add(-400 * time.Hour)}, {own, morning}}, l.Anchors(), attest.Bogus, "signature-not-yet-valid"},
		{"wrong, without keys", []at{{other, morning}}, l.Anchors(), attest.Unjudged, ""},
		{"wrong, with its keys", []at{{other, morning}, {reply("touched.works.example.", wire.DNSKEY), morning}}, l.Anchors(), attest.Bogus, "signature-wrong"},
	} {
		var all attest.Collector
		for i, a := range c.seen {
			all.Wants(uint64(i), a.when.UnixNano())
			all.Add(i+1, a.when, a.reply, true)
		}
		r := all.Judge(t.Context(), c.anchors)
		require.NotNil(t, r, c.what)
		name := wire.MustParseName("www.signed.works.example.")
		if string(c.seen[0].reply) == string(other) {
			name = wire.MustParseName("www.touched.works.example.")
		}
		assert.Equal(t, c.want, r.Names[name], c.what)
		found := r.Findings()
		if c.flaw == "" {
			assert.Empty(t, found, c.what)
		} else if assert.NotEmpty(t, found, c.what) {
			assert.Equal(t, c.flaw, string(found[0].Code), c.what)
			assert.Contains(t, found[0].Evidence, 1, c.what)
		}
	}
	var all attest.Collector
	assert.True(t, all.Wants(7, 0))
	assert.False(t, all.Wants(7, int64(time.Minute)), "the same again")
	assert.True(t, all.Wants(7, int64(time.Hour)))
	assert.Nil(t, all.Judge(t.Context(), l.Anchors()), "nothing was signed")
}

func each[T, U any](list []T, f func(T) U) (out []U) {
	for _, item := range list {
		out = append(out, f(item))
	}
	return out
}

// FuzzCollector: whatever replies hold, nothing is made of it that was not there.
func FuzzCollector(f *testing.F) {
	f.Add([]byte{0, 1, 0x84, 0, 0, 1, 0, 1, 0, 0, 0, 0, 0, 0, 48, 0, 1, 0, 0, 48, 0, 1, 0, 0, 0, 1, 0, 4, 1, 0, 3, 13})
	f.Fuzz(func(t *testing.T, reply []byte) {
		var all attest.Collector
		all.Wants(1, 1)
		for i := range 3 {
			all.Add(i+1, time.Unix(1_773_042_000, 0), reply, true)
		}
		if r := all.Judge(t.Context(), nil); r != nil {
			assert.Zero(t, r.Sets[attest.Secure], "there is no anchor")
			assert.NotEmpty(t, r.Names)
		}
	})
}
