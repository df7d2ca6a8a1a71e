package mail

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// records is a network with one resolver that knows some records, and nothing else. A name
// with the text SERVFAIL fails.
type records map[string][]wire.Record

// zone reads lines in master-file form: name, type, value.
func zone(t testing.TB, lines string) records {
	t.Helper()
	all := records{}
	for line := range strings.Lines(lines) {
		words := strings.SplitN(strings.TrimSpace(line), " ", 3)
		if len(words) < 3 {
			continue
		}
		typ, err := wire.ParseType(words[1])
		require.NoError(t, err)
		data, err := wire.ParseRecordData(typ, wire.IN, words[2])
		require.NoError(t, err, line)
		name := wire.MustParseName(words[0] + ".").Fold()
		all[name.String()] = append(all[name.String()], wire.Record{Name: name, Type: typ, Class: wire.IN, TTL: 60, Data: data})
	}
	return all
}

func (r records) Stream(context.Context, netip.AddrPort) (net.Conn, error) {
	return nil, os.ErrDeadlineExceeded
}

func (r records) Datagrams(_ context.Context, server netip.AddrPort) (exchange.Datagrams, error) {
	return &socket{records: r, server: server, replies: make(chan []byte, 1), closed: make(chan struct{})}, nil
}

type socket struct {
	records
	server  netip.AddrPort
	replies chan []byte
	closed  chan struct{}
	once    sync.Once
}

func (s *socket) WriteToUDPAddrPort(b []byte, _ netip.AddrPort) (int, error) {
	query, _ := wire.ReadMessage(b)
	q := query.Questions[0]
	m := wire.Message{ID: query.ID, Questions: query.Questions, Flags: wire.QR}
	known, there := s.records[q.Name.Fold().String()]
	for _, r := range known {
		switch {
		case r.Type == wire.TXT && r.Text() == "SERVFAIL":
			m.Flags |= 2
		case r.Type == q.Type:
			m.Answer = append(m.Answer, r)
		}
	}
	if !there {
		m.Flags |= 3
	}
	m.Additional = append(m.Additional, wire.EDNS{Size: 1232}.Record(0))
	out, _ := m.Bytes()
	s.replies <- out
	return len(b), nil
}

func (s *socket) ReadFromUDPAddrPort(b []byte) (int, netip.AddrPort, error) {
	select {
	case out := <-s.replies:
		return copy(b, out), s.server, nil
	case <-s.closed:
		return 0, netip.AddrPort{}, os.ErrDeadlineExceeded
	}
}

func (s *socket) SetReadDeadline(time.Time) error { return nil }
func (s *socket) LocalAddr() net.Addr             { return &net.UDPAddr{IP: net.IPv4(192, 0, 2, 10), Port: 50000} }
func (s *socket) Close() error                    { s.once.Do(func() { close(s.closed) }); return nil }

func asking(r records) *Asker {
	client := &exchange.Client{Network: r, Now: time.Now, Options: exchange.Options{Wait: time.Second, Attempts: 1}}
	return &Asker{Session: &exchange.Session{Client: client}, Resolvers: []exchange.Server{{Address: netip.MustParseAddrPort("192.0.2.53:53")}}}
}

// The domains of RFC 7208, appendix A.
const appendix = `example.com MX 10 mail-a.example.com.
example.com MX 20 mail-b.example.com.
example.com A 192.0.2.10
example.com A 192.0.2.11
amy.example.com A 192.0.2.65
bob.example.com A 192.0.2.66
mail-a.example.com A 192.0.2.129
mail-b.example.com A 192.0.2.130
example.org MX 10 mail-c.example.org.
mail-c.example.org A 192.0.2.140
10.2.0.192.in-addr.arpa PTR example.com.
65.2.0.192.in-addr.arpa PTR amy.example.com.
66.2.0.192.in-addr.arpa PTR bob.example.com.
129.2.0.192.in-addr.arpa PTR mail-a.example.com.
140.2.0.192.in-addr.arpa PTR mail-c.example.org.
4.0.0.10.in-addr.arpa PTR bob.example.com.
mary.mobile-users._spf.example.com A 127.0.0.2
fred.mobile-users._spf.example.com A 127.0.0.2
15.15.168.192.joel.remote-users._spf.example.com A 127.0.0.2
16.15.168.192.joel.remote-users._spf.example.com A 127.0.0.2
3.2.0.192.dnsbl.example.org A 127.0.0.2
`

func TestCheckOfTheRFC(t *testing.T) {
	for _, tt := range []struct {
		record string
		pass   string // addresses that may
		not    string // and that may not
	}{
		{"v=spf1 +all", "192.0.2.1 2001:db8::1", ""},
		{"v=spf1 a -all", "192.0.2.10 192.0.2.11", "192.0.2.12"},
		{"v=spf1 a:example.org -all", "", "192.0.2.10 192.0.2.140"},
		{"v=spf1 mx -all", "192.0.2.129 192.0.2.130", "192.0.2.140"},
		{"v=spf1 mx:example.org -all", "192.0.2.140", "192.0.2.129"},
		{"v=spf1 mx mx:example.org -all", "192.0.2.129 192.0.2.130 192.0.2.140", "192.0.2.128"},
		{"v=spf1 mx/30 mx:example.org/30 -all", "192.0.2.128 192.0.2.131 192.0.2.143", "192.0.2.132 192.0.2.144"},
		{"v=spf1 ptr -all", "192.0.2.65", "192.0.2.140 10.0.0.4"},
		{"v=spf1 ip4:192.0.2.128/28 -all", "192.0.2.129", "192.0.2.65"},
		{"v=spf1 exists:%{l1r-}.mobile-users._spf.%{d} -all", "", "192.0.2.1"},
		{"v=spf1 -exists:%{ir}.dnsbl.example.org +all", "192.0.2.4", "192.0.2.3"},
		{"v=spf1 exists:%{i}.%{l}.remote-users._spf.example.com exists:%{ir}.%{l1r+-}.remote-users._spf.%{d} -all", "192.168.15.15 192.168.15.16", "192.168.15.17"},
	} {
		r := zone(t, appendix+fmt.Sprintf("example.com TXT %q\n", tt.record))
		for addresses, want := range map[string]Result{tt.pass: Pass, tt.not: Fail} {
			for text := range strings.FieldsSeq(addresses) {
				c := asking(r).May(t.Context(), Sender{Address: netip.MustParseAddr(text), Local: "joel", Domain: "example.com", Helo: "hut.example"})
				assert.Equal(t, want, c.Result, "%s: %s (%s)", tt.record, text, c.Why)
			}
		}
	}
}

func TestCheckOfOddRecords(t *testing.T) {
	sender := Sender{Address: netip.MustParseAddr("203.0.113.7"), Local: "news", Domain: "tarn.example"}
	for _, tt := range []struct {
		name, zone  string
		result      Result
		why         string
		lookups     int
		explanation string
	}{
		{"no record", "tarn.example TXT \"other\"", None, "has no SPF record", 0, ""},
		{"no such name", "", None, "has no SPF record", 0, ""},
		{"two records", "tarn.example TXT \"v=spf1 -all\"\ntarn.example TXT \"v=spf1 mx -all\"", PermError, "has 2 SPF records", 0, ""},
		{"nothing fits", "tarn.example TXT \"v=spf1 ip4:192.0.2.1\"", Neutral, "", 0, ""},
		{"softly", "tarn.example TXT \"v=spf1 ~all\"", SoftFail, "", 0, ""},
		{"a redirect", "tarn.example TXT \"v=spf1 redirect=r.example\"\nr.example TXT \"v=spf1 ip4:203.0.113.0/24 -all\"", Pass, "", 1, ""},
		{"a redirect to nothing", "tarn.example TXT \"v=spf1 redirect=r.example\"", PermError, "which has no SPF record", 1, ""},
		{"an include that fails leaves it open", "tarn.example TXT \"v=spf1 include:i.example ~all\"\ni.example TXT \"v=spf1 -all\"", SoftFail, "", 1, ""},
		{"an include of nothing", "tarn.example TXT \"v=spf1 include:i.example ~all\"", PermError, "includes i.example, which has no SPF record", 1, ""},
		{"an include that cannot be looked up", "tarn.example TXT \"v=spf1 include:i.example ~all\"\ni.example TXT SERVFAIL", TempError, "could not be looked up (server-failure)", 1, ""},
		{"what stands before it decides first", "tarn.example TXT \"v=spf1 ip4:203.0.113.7 include:i.example\"\ni.example TXT SERVFAIL", Pass, "", 0, ""},
		{"an error behind what fits counts all the same", "tarn.example TXT \"v=spf1 ip4:203.0.113.7 ip:1\"", PermError, "is no mechanism", 0, ""},
		{"itself", "tarn.example TXT \"v=spf1 include:tarn.example -all\"", PermError, "leads back to it", 1, ""},
		{"ten look-ups", "tarn.example TXT \"v=spf1 " + strings.Repeat("a:h.example ", 10) + "-all\"\nh.example A 192.0.2.1", Fail, "", 10, ""},
		{"eleven", "tarn.example TXT \"v=spf1 " + strings.Repeat("a:h.example ", 11) + "-all\"\nh.example A 192.0.2.1", PermError, "more than 10 look-ups", 11, ""},
		{"three that find nothing", "tarn.example TXT \"v=spf1 a:x.example a:y.example a:z.example -all\"", PermError, "more than 2 look-ups found nothing", 3, ""},
		{"eleven mail hosts", "tarn.example TXT \"v=spf1 mx -all\"\n" + hosts(11), PermError, "has 11 mail hosts", 1, ""},
		{"ten mail hosts", "tarn.example TXT \"v=spf1 mx -all\"\n" + hosts(10), Fail, "", 1, ""},
		{"an explanation", "tarn.example TXT \"v=spf1 -all exp=why.%{d}\"\nwhy.tarn.example TXT \"%{i} is not ours, %{l}\"", Fail, "", 0, "203.0.113.7 is not ours, news"},
		{"two explanations are none", "tarn.example TXT \"v=spf1 -all exp=why.tarn.example\"\nwhy.tarn.example TXT a\nwhy.tarn.example TXT b", Fail, "", 0, ""},
		{"that of what is included is none", "tarn.example TXT \"v=spf1 include:i.example -all\"\ni.example TXT \"v=spf1 -all exp=why.tarn.example\"\nwhy.tarn.example TXT a", Fail, "", 1, ""},
		{"that of what it redirects to is one", "tarn.example TXT \"v=spf1 redirect=i.example\"\ni.example TXT \"v=spf1 -all exp=why.tarn.example\"\nwhy.tarn.example TXT a", Fail, "", 1, "a"},
		{"what expands to no name does not fit", "tarn.example TXT \"v=spf1 exists:%{h}..%{h} -all\"", Fail, "", 1, ""},
		{"a record of four kilobytes", "tarn.example TXT \"v=spf1 " + strings.TrimSuffix(strings.Repeat("ip4:192.0.2.1 \" \"", 260), " \" \"") + "\"", Neutral, "", 0, ""},
	} {
		t.Run(tt.name, func(t *testing.T) {
			c := asking(zone(t, tt.zone)).May(t.Context(), sender)
			assert.Equal(t, tt.result, c.Result, c.Why)
			assert.Contains(t, c.Why, tt.why)
			assert.Equal(t, tt.lookups, c.Lookups)
			assert.Equal(t, tt.explanation, string(c.Explanation))
		})
	}
}

func hosts(count int) string {
	var b strings.Builder
	for i := range count {
		fmt.Fprintf(&b, "tarn.example MX %d m%d.example.\nm%d.example A 192.0.2.%d\n", i, i, i, i)
	}
	return b.String()
}

// An attacker's domain costs a bounded number of questions, whatever it includes.
func TestTreeIsBounded(t *testing.T) {
	var b strings.Builder
	for i := range 60 {
		fmt.Fprintf(&b, "i%d.example TXT \"v=spf1", i)
		for j := range 12 {
			fmt.Fprintf(&b, " include:i%d.example\" \"", (i*12+j+1)%60)
		}
		b.WriteString(" -all\"\n")
	}
	a := asking(zone(t, b.String()))
	report := a.Of(t.Context(), wire.MustParseName("i0.example."), Options{Sending: true})
	assert.LessOrEqual(t, int(a.asked.Load()), maxQuestions)
	assert.True(t, report.Sending.Broken())
	begun, _ := a.Session.Progress()
	assert.Less(t, begun, 100)
}

// What a record lets pass is what an evaluation lets pass, address by address.
func TestTreeAndCheckAgree(t *testing.T) {
	r := zone(t, `tarn.example TXT "v=spf1 -ip4:192.0.2.7 ip4:192.0.2.0/28 include:i.example ?a:h.example redirect=r.example"
i.example TXT "v=spf1 -ip4:192.0.2.20 ip4:192.0.2.16/29 ~all"
h.example A 192.0.2.40
r.example TXT "v=spf1 ip4:192.0.2.32/27 mx:h.example -all"
h.example MX 10 m.example.
m.example A 192.0.2.99`)
	report := asking(r).Of(t.Context(), wire.MustParseName("tarn.example."), Options{Sending: true})
	for last := range 256 {
		address := netip.AddrFrom4([4]byte{192, 0, 2, byte(last)})
		c := asking(r).May(t.Context(), Sender{Address: address, Domain: "tarn.example"})
		listed := false
		for _, p := range report.Sending.Networks {
			listed = listed || p.Contains(address)
		}
		assert.Equal(t, c.Result == Pass, listed, "%s: %s", address, c.Result)
	}
	assert.Equal(t, 4, report.Sending.Lookups, "include, a, redirect, mx")
}
