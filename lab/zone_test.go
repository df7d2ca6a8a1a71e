package lab

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/wire"
)

// asked is how a host of the lab answers a question put to it directly.
func asked(t *testing.T, l *Lab, host, name string, typ wire.Type, options ...wire.Option) *wire.Message {
	query := wire.Message{ID: 7, Flags: wire.RD, Questions: []wire.Question{{Name: wire.MustParseName(name), Type: typ, Class: wire.IN}},
		Additional: []wire.Record{wire.EDNS{Size: 1232, Options: options}.Record(0)}}
	data, err := query.Bytes()
	require.NoError(t, err)
	out := respond(l.hosts[netip.MustParseAddr(host)], l.Scenario.Machine, data, false)
	if out == nil {
		return nil
	}
	m, err := wire.ReadMessage(out)
	require.NoError(t, err)
	assert.Equal(t, uint16(7), m.ID)
	return &m
}

// told is a reply in one line: response code, AA and TC, and how many records
// each section holds, with the first answer's value.
func told(m *wire.Message) string {
	if m == nil {
		return "silence"
	}
	words := []string{m.RCode().String()}
	for _, bit := range []struct {
		flag wire.Flags
		name string
	}{{wire.AA, "AA"}, {wire.TC, "TC"}} {
		if m.Flags.Has(bit.flag) {
			words = append(words, bit.name)
		}
	}
	for _, r := range m.Answer {
		words = append(words, r.Type.String()+" "+r.Value())
	}
	for _, r := range m.Authority {
		words = append(words, "["+r.Type.String()+" of "+r.Name.Spoken()+"]")
	}
	return strings.Join(words, ", ")
}

func TestServersAnswerAsTheStandardsSay(t *testing.T) {
	l, err := New(Options{Now: func() time.Time { return time.Date(2026, 3, 9, 7, 40, 0, 0, time.UTC) }, Wait: func(time.Duration) {}})
	require.NoError(t, err)
	const dns1, root, registry, lantern = "203.0.113.11", "198.51.100.1", "198.51.100.11", "198.51.100.91"
	for _, tt := range []struct {
		name, host, ask string
		typ             wire.Type
		want            string
	}{
		{"data", dns1, "phone.hollowtarn.example", wire.A, "NOERROR, AA, A 203.0.113.60"},
		{"another letter case", dns1, "PHONE.HollowTarn.example", wire.A, "NOERROR, AA, A 203.0.113.60"},
		{"an alias within the zone", dns1, "www.hollowtarn.example", wire.AAAA, "NOERROR, AA, CNAME web.hollowtarn.example., AAAA 2001:db8:113::120, AAAA 2001:db8:113::121"},
		{"the alias itself", dns1, "www.hollowtarn.example", wire.CNAME, "NOERROR, AA, CNAME web.hollowtarn.example."},
		{"an alias out of the zone", dns1, "snow.hollowtarn.example", wire.A, "NOERROR, AA, CNAME snow.fellcast.test."},
		{"an alias to nothing", dns1, "brochure.hollowtarn.example", wire.A, "NXDOMAIN, AA, CNAME print.hollowtarn.example., [SOA of hollowtarn.example]"},
		{"aliases in a circle end", dns1, "gondola.hollowtarn.example", wire.A, "NOERROR, AA, CNAME cabin.hollowtarn.example., CNAME gondola.hollowtarn.example."},
		{"no such data", dns1, "phone.hollowtarn.example", wire.MX, "NOERROR, AA, [SOA of hollowtarn.example]"},
		{"no such name", dns1, "tikets.hollowtarn.example", wire.A, "NXDOMAIN, AA, [SOA of hollowtarn.example]"},
		{"a name with others below it", dns1, "_tcp.hollowtarn.example", wire.A, "NOERROR, AA, [SOA of hollowtarn.example]"},
		{"a wildcard", dns1, "anyone.guest.hollowtarn.example", wire.A, "NOERROR, AA, A 203.0.113.66"},
		{"a wildcard two labels up", dns1, "any.one.guest.hollowtarn.example", wire.A, "NOERROR, AA, A 203.0.113.66"},
		{"a wildcard without the type", dns1, "anyone.guest.hollowtarn.example", wire.MX, "NOERROR, AA, [SOA of hollowtarn.example]"},
		{"below a name that exists no wildcard counts", dns1, "x.phone.hollowtarn.example", wire.A, "NXDOMAIN, AA, [SOA of hollowtarn.example]"},
		{"a zone below", dns1, "ridge.north.hollowtarn.example", wire.A, "NOERROR, [NS of north.hollowtarn.example], [NS of north.hollowtarn.example]"},
		{"a zone below, at the cut itself", dns1, "north.hollowtarn.example", wire.SOA, "NOERROR, [NS of north.hollowtarn.example], [NS of north.hollowtarn.example]"},
		{"a zone that it does not serve", dns1, "www.farhost.test", wire.A, "REFUSED"},
		{"the root refers down", root, "www.hollowtarn.example", wire.A, "NOERROR, [NS of example], [NS of example]"},
		{"the registry refers down", registry, "www.hollowtarn.example", wire.A, "NOERROR, [NS of hollowtarn.example], [NS of hollowtarn.example], [NS of hollowtarn.example]"},
		{"an answer without authority", lantern, "status.lifts.hollowtarn.example", wire.A, "NOERROR, A 203.0.113.172"},
		{"more than a datagram holds", dns1, "timetable.hollowtarn.example", wire.TXT, "NOERROR, AA, TC"},
		{"a server that is down", "203.0.113.151", "summit.camera.hollowtarn.example", wire.A, "silence"},
		{"a resolver that refuses", "192.0.2.67", "www.hollowtarn.example", wire.A, "REFUSED"},
		{"a resolver that is gone", "192.0.2.66", "www.hollowtarn.example", wire.A, "silence"},
		{"a resolver that rewrites", "192.0.2.99", "tikets.hollowtarn.example", wire.A, "NOERROR, A 192.0.2.98"},
		{"and only addresses", "192.0.2.99", "tikets.hollowtarn.example", wire.TXT, "NXDOMAIN, [SOA of hollowtarn.example]"},
		{"a resolver over an alias", "198.51.100.53", "www.hollowtarn.example", wire.A, "NOERROR, CNAME web.hollowtarn.example., A 203.0.113.120, A 203.0.113.121"},
		{"a resolver in front of silent servers", "198.51.100.53", "summit.camera.hollowtarn.example", wire.A, "SERVFAIL"},
		{"a resolver in front of lame ones", "198.51.100.53", "status.lifts.hollowtarn.example", wire.A, "SERVFAIL"},
		{"a resolver and aliases in a circle", "198.51.100.53", "gondola.hollowtarn.example", wire.A, "SERVFAIL"},
		{"a resolver past a server that is gone", "198.51.100.53", "ridge.north.hollowtarn.example", wire.A, "NOERROR, A 203.0.113.165"},
		{"what a resolver remembers not to be there", "198.51.100.53", "webcam2.hollowtarn.example", wire.A, "NXDOMAIN, [SOA of hollowtarn.example]"},
	} {
		t.Run(tt.name, func(t *testing.T) { assert.Equal(t, tt.want, told(asked(t, l, tt.host, tt.ask, tt.typ))) })
	}
}

func TestAnswersByPlace(t *testing.T) {
	l, err := New(Options{})
	require.NoError(t, err)
	const content = "198.51.100.81"
	for network, want := range map[string]string{"192.0.2.0/24": "198.51.100.182", "203.0.113.0/24": "198.51.100.181", "2001:db8::/48": "198.51.100.181"} {
		m := asked(t, l, content, "snow.fellcast.test", wire.A, wire.NewSubnet(netip.MustParsePrefix(network)))
		assert.Equal(t, want, m.Answer[0].Value(), network)
		e, _ := m.EDNS()
		data, ok := e.Option(wire.ClientSubnet)
		require.True(t, ok)
		_, scope, ok := wire.Option{Code: wire.ClientSubnet, Data: data}.Subnet()
		assert.True(t, ok)
		assert.Positive(t, scope, "the answer says for how much of the network it holds")
	}
	assert.Equal(t, "198.51.100.182", asked(t, l, content, "snow.fellcast.test", wire.A).Answer[0].Value(), "without a subnet the asker's own place counts")
}

func TestCachesCountDownAndRunOut(t *testing.T) {
	now := time.Date(2026, 3, 9, 7, 40, 0, 0, time.UTC)
	l, err := New(Options{Now: func() time.Time { return now }, Wait: func(time.Duration) {}})
	require.NoError(t, err)
	ttl := func(host, name string, typ wire.Type) (values string, ttl uint32) {
		m := asked(t, l, host, name, typ)
		records := append(m.Answer, m.Authority...)
		return records[0].Value(), records[0].TTL
	}
	const office, isp, public = "192.0.2.53", "198.51.100.53", "203.0.113.200"
	value, left := ttl(office, "tickets.hollowtarn.example", wire.A)
	assert.Equal(t, "203.0.113.80", value)
	assert.Equal(t, uint32(2480), left)
	now = now.Add(1000 * time.Second)
	_, left = ttl(office, "tickets.hollowtarn.example", wire.A)
	assert.Equal(t, uint32(1480), left)
	now = now.Add(1480 * time.Second)
	value, left = ttl(office, "tickets.hollowtarn.example", wire.A)
	assert.Equal(t, "203.0.113.140", value, "the old answer has run out")
	assert.Equal(t, uint32(3600), left)
	_, left = ttl(isp, "nothing.hollowtarn.example", wire.A)
	assert.Equal(t, uint32(600), left, "none is kept for as long as the SOA says")
	now = now.Add(100 * time.Second)
	_, left = ttl(isp, "nothing.hollowtarn.example", wire.A)
	assert.Equal(t, uint32(500), left)
	_, first := ttl(public, "phone.hollowtarn.example", wire.A)
	now = now.Add(100 * time.Second)
	_, second := ttl(public, "phone.hollowtarn.example", wire.A)
	_, third := ttl(public, "phone.hollowtarn.example", wire.A)
	assert.Equal(t, []uint32{3600, 3600, 3500}, []uint32{first, second, third}, "two caches take the questions in turn")
}

func TestBadQueriesAreAnsweredOrLeftAlone(t *testing.T) {
	l, err := New(Options{})
	require.NoError(t, err)
	h := l.hosts[netip.MustParseAddr("203.0.113.11")]
	reply := func(data string) string {
		out := respond(h, l.Scenario.Machine, []byte(data), false)
		if out == nil {
			return "silence"
		}
		m, err := wire.ReadMessage(out)
		require.NoError(t, err)
		return m.RCode().String()
	}
	for name, tt := range map[string]struct{ data, want string }{
		"nothing":                 {"", "silence"},
		"half a header":           {"\x00\x01\x01", "silence"},
		"a reply":                 {"\x00\x01\x80\x00\x00\x01\x00\x00\x00\x00\x00\x00\x00\x00\x01\x00\x01", "silence"},
		"no question":             {"\x00\x01\x01\x00\x00\x00\x00\x00\x00\x00\x00\x00", "FORMERR"},
		"a question cut short":    {"\x00\x01\x01\x00\x00\x01\x00\x00\x00\x00\x00\x00\x03ww", "FORMERR"},
		"another opcode":          {"\x00\x01\x21\x00\x00\x01\x00\x00\x00\x00\x00\x00\x00\x00\x06\x00\x01", "NOTIMP"},
		"another class":           {"\x00\x01\x01\x00\x00\x01\x00\x00\x00\x00\x00\x00\x00\x00\x10\x00\x03", "REFUSED"},
		"a name that is a maze":   {"\x00\x01\x01\x00\x00\x01\x00\x00\x00\x00\x00\x00\xc0\x0c\x00\x01\x00\x01", "FORMERR"},
		"two questions":           {"\x00\x01\x01\x00\x00\x02\x00\x00\x00\x00\x00\x00\x00\x00\x01\x00\x01\x00\x00\x01\x00\x01", "FORMERR"},
		"a question in good form": {"\x00\x01\x01\x00\x00\x01\x00\x00\x00\x00\x00\x00\x0ahollowtarn\x07example\x00\x00\x06\x00\x01", "NOERROR"},
	} {
		assert.Equal(t, tt.want, reply(tt.data), name)
	}
}

// Names below a DNAME are redirected (RFC 6672), itself is not; how long a copy lasts
// is told to who asks (RFC 7314).
func TestRedirectionAndExpiry(t *testing.T) {
	l, err := New(Options{})
	require.NoError(t, err)
	ask := func(host, name string, typ wire.Type, options ...wire.Option) wire.Message {
		address, known := l.Scenario.AddressOf(host)
		require.True(t, known)
		q := wire.Message{ID: 7, Questions: []wire.Question{{Name: wire.MustParseName(name), Type: typ, Class: wire.IN}}, Additional: []wire.Record{wire.EDNS{Size: 1232, Options: options}.Record(0)}}
		data, err := q.Bytes()
		require.NoError(t, err)
		reply, err := wire.ReadMessage(l.Respond(address, l.Scenario.Machine, data, false))
		require.NoError(t, err)
		return reply
	}
	var types []string
	for _, r := range ask("dns1.hollowtarn.example.", "book.lodge.hollowtarn.example", wire.A).Answer {
		types = append(types, r.Type.String()+" "+r.Value())
	}
	assert.Equal(t, []string{"DNAME lodge.farhost.test.", "CNAME book.lodge.farhost.test."}, types)
	itself := ask("dns1.hollowtarn.example.", "lodge.hollowtarn.example", wire.A)
	assert.Equal(t, wire.NoError, itself.RCode())
	assert.Empty(t, itself.Answer)
	for host, want := range map[string]bool{"ns.farhost.test.": true, "dns1.hollowtarn.example.": false} {
		reply := ask(host, "hollowtarn.example", wire.SOA, wire.Option{Code: wire.Expire})
		e, _ := reply.EDNS()
		left, ok := e.Expire()
		assert.Equal(t, want, ok, host)
		if want {
			assert.Equal(t, uint32(283*3600), left)
		}
	}
	reply := ask("ns.farhost.test.", "hollowtarn.example", wire.SOA)
	e, _ := reply.EDNS()
	_, ok := e.Expire()
	assert.False(t, ok, "who does not ask is not told")
}
