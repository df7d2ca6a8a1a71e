package redact

import (
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/exchange"
	"unquil/core/idn"
	"unquil/core/wire"
)

// words stand alone in reports.
func words(word string) bool { return slices.Contains([]string{"mail", "zone", "example"}, word) }

func hiding(t testing.TB, names ...string) *Redactor {
	var list []wire.Name
	for _, n := range names {
		name, err := idn.Parse(n)
		require.NoError(t, err)
		list = append(list, name)
	}
	return New(list, []netip.Addr{netip.MustParseAddr("192.0.2.10"), netip.MustParseAddr("2001:db8::10")}, words)
}

func TestText(t *testing.T) {
	for _, tt := range []struct {
		name         string
		hide         []string
		before, want string
	}{
		{"every label of a name goes", []string{"tickets.hollowtarn.example"}, "tickets.hollowtarn.example. A", "hidden1.hidden2.hidden3. A"},
		{"below it, above it, beside it, in capitals", []string{"tickets.hollowtarn.example"}, "a.TICKETS.hollowtarn.example hollowtarn.example dns1.hollowtarn.example", "a.hidden1.hidden2.hidden3 hidden2.hidden3 dns1.hidden2.hidden3"},
		{"with a search suffix behind it", []string{"tickets.hollowtarn.example"}, "tickets.hollowtarn.example.valley.test", "hidden1.hidden2.hidden3.valley.test"},
		{"alone", []string{"tickets.hollowtarn.example"}, "tickets was asked", "hidden1 was asked"},
		{"but not a word of the report", []string{"mail.hollowtarn.example"}, "ask the mail host mail.hollowtarn.example", "ask the mail host hidden1.hidden2.hidden3"},
		{"within a longer label", []string{"tickets.hollowtarn.example"}, "old-tickets2.test", "hidden4.test"},
		{"a short label only in names", []string{"a.test"}, "a name such as a.test", "a name such as hidden1.hidden2"},
		{"in its own letters", []string{"hütte.test"}, "hütte.test, xn--htte-0ra.test", "hidden1.hidden2, hidden1.hidden2"},
		{"with escapes", []string{`o'brien.test`, `a\032b.test`}, `o'brien.test a\032b.test`, "hidden1.hidden2 hidden3.hidden2"},
		{"with a name every address goes", []string{"x.test"}, "203.0.113.80 and 203.0.113.81, [2001:db8::1]:53, 198.51.100.1#5353", "240.0.0.1 and 240.0.0.2, [fd00::1]:53, 240.1.0.1#5353"},
		{"in policies of mail", []string{"x.test"}, "v=spf1 ip4:203.0.113.0/24 ip6:2001:db8::/32 include:x.test -all", "v=spf1 ip4:240.0.0.0/24 ip6:fd00::/32 include:hidden1.hidden2 -all"},
		{"in reverse names", []string{"x.test"}, "80.113.0.203.in-addr.arpa. 113.0.203.in-addr.arpa", "1.0.0.240.in-addr.arpa. 0.0.240.in-addr.arpa"},
		{"in names of hosts", []string{"x.test"}, "host-203-0-113-80.isp.test", "host-240-0-0-1.isp.hidden2"},
		{"without a name, those of clients alone", nil, "192.0.2.10 192.0.2.11 2001:db8::10 192.0.2.0/24 198.51.100.0/24 10.2.0.192.in-addr.arpa x-192-0-2-10", "240.0.0.1 192.0.2.11 fd00::1 240.0.0.0/24 198.51.100.0/24 1.0.0.240.in-addr.arpa x-240-0-0-1"},
		{"what every machine has stays", []string{"x.test"}, "127.0.0.1 ::1 0.0.0.0 224.0.0.251 255.255.255.255", "127.0.0.1 ::1 0.0.0.0 224.0.0.251 255.255.255.255"},
	} {
		t.Run(tt.name, func(t *testing.T) { assert.Equal(t, tt.want, hiding(t, tt.hide...).Text(tt.before)) })
	}
}

// Networks stay networks: what shares one shares one afterwards, and no two addresses
// become one.
func TestAddressesKeepTheirNetworks(t *testing.T) {
	r := hiding(t, "x.test")
	given, got := map[netip.Addr]bool{}, map[netip.Addr]bool{}
	for i := range 3000 {
		a := netip.AddrFrom4([4]byte{192, byte(i % 7), byte(i % 11), byte(i)})
		b := netip.AddrFrom4([4]byte{192, byte(i % 7), byte(i % 11), byte(i + 1)})
		x, y := r.Address(a), r.Address(b)
		for _, bits := range []int{16, 24} {
			p, _ := x.Prefix(bits)
			assert.True(t, p.Contains(y), "%s %s", x, y)
		}
		assert.Equal(t, x, r.Address(a))
		given[a], given[b], got[x], got[y] = true, true, true, true
	}
	assert.Len(t, got, len(given))
	six, _ := r.Address(netip.MustParseAddr("2001:db8:1:2::5")).Prefix(64)
	assert.True(t, six.Contains(r.Address(netip.MustParseAddr("2001:db8:1:2:ffff::"))))
	assert.False(t, six.Contains(r.Address(netip.MustParseAddr("2001:db8:1:3::5"))))
}

// secret is a message that tells names and addresses in every way that there is.
func secret() wire.Message {
	name := wire.MustParseName("tickets.hollowtarn.example")
	in := func(t wire.Type, text string) wire.Record {
		data, err := wire.ParseRecordData(t, wire.IN, text)
		if err != nil {
			panic(fmt.Sprint(t, text, err))
		}
		return wire.Record{Name: name, Type: t, Class: wire.IN, TTL: 60, Data: data}
	}
	hidden := "tickets.hollowtarn.example"
	options := []wire.Option{wire.NewSubnet(netip.MustParsePrefix("192.0.2.0/24")), {Code: wire.EDE, Data: "\x00\x16no reply from 203.0.113.80 for " + hidden},
		{Code: 18, Data: wire.MustParseName("report.tickets.hollowtarn.example").Wire()}, {Code: 65001, Data: hidden}, {Code: wire.NSID, Data: "dns1." + hidden}, {Code: wire.Padding, Data: hidden}}
	return wire.Message{ID: 7, Flags: wire.QR, Questions: []wire.Question{{Name: name, Type: wire.ANY, Class: wire.IN}}, Answer: []wire.Record{
		in(wire.A, "203.0.113.80"), in(wire.AAAA, "2001:db8::10"), in(wire.MX, "10 mail."+hidden+"."), in(wire.PTR, "80.113.0.203.in-addr.arpa."),
		in(wire.TXT, `"v=spf1 ip4:203.0.113.80 include:tick" "ets.hollowtarn.example -all"`), in(wire.TXT, `"`+hex.EncodeToString([]byte(hidden))+`"`),
		in(wire.SOA, "dns1."+hidden+". admin."+hidden+". 1 2 3 4 5"), in(wire.HTTPS, "1 svc."+hidden+". ipv4hint=203.0.113.80"), in(42, "1:203.0.113.0/24"),
		in(37, "1 0 8 "+base64.StdEncoding.EncodeToString([]byte("certificate of "+hidden))),
		{Name: name, Type: 65280, Class: wire.IN, Data: "all of " + hidden},
	}, Additional: []wire.Record{wire.EDNS{Size: 1232, Options: options}.Record(wire.NoError)}}
}

func TestMessagesTellNothing(t *testing.T) {
	m := secret()
	whole, err := m.Bytes()
	require.NoError(t, err)
	r := hiding(t, "tickets.hollowtarn.example")
	out := r.Message(whole)
	changed, err := wire.ReadMessage(out)
	require.NoError(t, err)
	assert.Empty(t, r.Finder().names(string(out)))
	assert.Equal(t, "hidden1.hidden2.hidden3. ANY", changed.Questions[0].Name.String()+" "+changed.Questions[0].Type.String())
	var text []string
	for _, record := range changed.Answer {
		text = append(text, record.Type.String()+" "+record.Value())
	}
	assert.Equal(t, []string{"A 240.0.0.1", "AAAA fd00::1", "MX 10 mail.hidden1.hidden2.hidden3.", "PTR 1.0.0.240.in-addr.arpa.",
		`TXT "v=spf1 ip4:240.0.0.1 include:hidden1.hidden2.hidden3 -all"`, `TXT "hidden4"`, "SOA dns1.hidden1.hidden2.hidden3. admin.hidden1.hidden2.hidden3. 1 2 3 4 5",
		"HTTPS 1 svc.hidden1.hidden2.hidden3. ipv4hint=240.0.0.1", "APL 1:240.0.0.0/24"}, text, "the certificate and the unknown type are cut out")
	edns, ok := changed.EDNS()
	require.True(t, ok)
	require.Len(t, edns.Options, 5, "the unknown option is cut out")
	network, _, _ := edns.Options[0].Subnet()
	assert.Equal(t, "240.1.0.0/24", network.String())
	assert.Contains(t, edns.Options[1].Text(), "no reply from 240.0.0.1 for hidden1.hidden2.hidden3")
	assert.Equal(t, 3, r.Cut())
	for n := range whole { // whatever is cut short tells nothing either
		assert.Empty(t, r.Finder().names(string(r.Message(whole[:n]))), n)
	}
	assert.Nil(t, r.Message(nil))
}

func TestExchange(t *testing.T) {
	client := netip.MustParseAddrPort("192.0.2.10:4000")
	m := secret()
	answer, err := m.Bytes()
	require.NoError(t, err)
	broken := fmt.Errorf("connecting to 203.0.113.80#53 for tickets.hollowtarn.example: %w", io.ErrUnexpectedEOF)
	before := exchange.Exchange{Number: 3, Client: client, Question: m.Questions[0], Reply: &m, Outcome: exchange.Answered, Err: broken,
		Server: exchange.Server{Address: netip.MustParseAddrPort("203.0.113.80:53"), Host: "tickets.hollowtarn.example.", TLSName: "tickets.hollowtarn.example"},
		Attempts: []exchange.Attempt{{Local: client, Query: answer[:40], Reply: answer, Err: broken, Security: &exchange.Security{Issuer: "CN=tickets.hollowtarn.example"},
			Rejected: []exchange.Rejected{{From: client, Data: []byte("<html>tickets.hollowtarn.example"), Err: errors.New("HTTP status 404 at tickets")}}}}}
	r := hiding(t, "tickets.hollowtarn.example")
	after := r.Exchange(before)
	assert.Empty(t, r.Finder().Find(fmt.Appendf(nil, "%+v %+v %s %s %s", after, *after.Attempts[0].Security, after.Err, after.Attempts[0].Err, after.Attempts[0].Rejected[0].Err)))
	assert.Empty(t, r.Finder().FindIn([]exchange.Exchange{after}))
	require.ErrorIs(t, after.Err, io.ErrUnexpectedEOF)
	assert.Equal(t, after.Client, after.Attempts[0].Local)
	assert.Empty(t, after.Attempts[0].Rejected[0].Data, "what is no message is cut out")
	assert.Equal(t, "tickets.hollowtarn.example.", before.Reply.Questions[0].Name.String(), "what was given stays as it is")
	assert.Equal(t, "203.0.113.80", r.Finder().FindIn([]exchange.Exchange{before}))

	clients := New(nil, Clients([]exchange.Exchange{before}), words)
	after = clients.Exchange(before)
	assert.Equal(t, "203.0.113.80:53", after.Server.Address.String(), "servers stay")
	assert.Equal(t, "240.0.0.1:4000", after.Client.String())
	edns, _ := after.Reply.EDNS()
	network, _, _ := edns.Options[0].Subnet()
	assert.Equal(t, "240.0.0.0/24", network.String())
}

func TestFinder(t *testing.T) {
	r := hiding(t, "tickets.hollowtarn.example", "hütte.test", "my_host.test")
	r.Address(netip.MustParseAddr("203.0.113.80"))
	r.Address(netip.MustParseAddr("2001:db8::1"))
	f := r.Finder()
	name := "xx.tickets.test"
	for _, held := range []string{name, strings.ToUpper(name), hex.EncodeToString([]byte(name)), "74 69 63 6b 65 74 73", base64.StdEncoding.EncodeToString([]byte(name)),
		base64.StdEncoding.EncodeToString([]byte("x" + name)), base64.URLEncoding.EncodeToString([]byte("xx" + name)), "\x07tickets\x0ahollowtarn", "stekcit", "HÜTTE", "xn--htte-0ra",
		`my\_host`, "my&#95;host", "at 203.0.113.80.", "203-0-113-80", "80.113.0.203.in-addr.arpa", "<td>cb 00 71 50</td>", "2001:db8::1", "<td>20 01 0d b8 00 00 00 00 00 00 00 00 00 00 00 01</td>"} {
		assert.NotEmpty(t, f.Find([]byte("what was written: "+held+" and more")), held)
	}
	for _, clean := range []string{"hidden1.hidden2", "240.0.0.1", "12:30:45", "203.0.113.8", "an example"} {
		assert.Empty(t, f.Find([]byte(clean)), clean)
	}
}

// Whatever the bytes, nothing of a name is left in what a message becomes, in any form.
func FuzzMessage(f *testing.F) {
	m := secret()
	whole, _ := m.Bytes()
	f.Add(whole)
	f.Add([]byte("\x00\x01\x81\x80\x00\x01\x00\x01\x00\x00\x00\x00\x07tickets\x0ahollowtarn\x07example\x00\x00\x01\x00\x01\xc0\x0c\x00\x05\x00\x01\x00\x00\x00\x00\x00\x02\xc0\x0c"))
	f.Fuzz(func(t *testing.T, msg []byte) {
		r := hiding(t, "tickets.hollowtarn.example", "hütte.test")
		out := r.Message(msg)
		require.Empty(t, r.Finder().names(string(out)))
		text := r.Text(string(msg))
		require.Empty(t, tokens(r, text), "%q", text)
	})
}

// tokens is a chosen label that a text holds as such; "" for none.
func tokens(r *Redactor, text string) string {
	for _, label := range r.telling {
		if strings.Contains(strings.ToLower(text), label) {
			return label
		}
	}
	return ""
}

func BenchmarkText(b *testing.B) {
	for _, clients := range []int{10, 2000} {
		var all []netip.Addr
		for i := range clients {
			all = append(all, netip.AddrFrom4([4]byte{192, 0, byte(i >> 8), byte(i)}))
		}
		text := strings.Repeat("192.0.2.10 asked 203.0.113.80 for tickets.hollowtarn.example. ", 1000)
		b.Run(fmt.Sprint(clients, " clients"), func(b *testing.B) {
			r := New([]wire.Name{wire.MustParseName("tickets.hollowtarn.example")}, all, words)
			b.SetBytes(int64(len(text)))
			for b.Loop() {
				r.Text(text)
			}
		})
	}
}
