package test

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/lab"
)

func TestAskOptions(t *testing.T) {
	for _, tt := range []struct {
		name string
		args []string
		code int
		want []string
		not  []string
	}{
		{"over TLS, with what the certificate says", []string{"www.hollowtarn.example", "-t", "A", "--over", "tls"}, 0, []string{"over TLS", "TLS 1.3; the certificate is for office.resolvers.test, 192.0.2.53", "203.0.113.120"}, nil},
		{"over HTTPS, POST", []string{"www.hollowtarn.example", "-t", "A", "--from", "https://203.0.113.200/dns-query"}, 0, []string{"over HTTPS", "203.0.113.120"}, nil},
		{"over HTTPS, GET", []string{"www.hollowtarn.example", "-t", "A", "--from", "https://203.0.113.200", "--get"}, 0, []string{"over HTTPS", "203.0.113.120"}, nil},
		{"over HTTPS, at a path that is not there", []string{"www.hollowtarn.example", "-t", "A", "--from", "https://203.0.113.200/elsewhere"}, 3, []string{"HTTP status 404 (Not Found)", "Check the path of the server's URL"}, nil},
		{"over QUIC", []string{"www.hollowtarn.example", "-t", "A,AAAA", "--from", "quic://198.51.100.53"}, 0, []string{"over QUIC", "203.0.113.120", "2001:db8:113::120"}, nil},
		{"a large answer over TCP from the start", []string{"timetable.hollowtarn.example", "-t", "TXT", "--over", "tcp"}, 0, []string{"over TCP", "last car down"}, []string{"was cut"}},
		{"a certificate for another name", []string{"www.hollowtarn.example", "-t", "A", "--from", "tls://192.0.2.99"}, 3, []string{`checking the certificate: it is not for "192.0.2.99"`, "do not use the server"}, []string{"start it"}},
		{"and with its right name", []string{"www.hollowtarn.example", "-t", "A", "--from", "tls://192.0.2.99", "--server-name", "gate.cafe.test"}, 0, []string{"203.0.113.120"}, nil},
		{"a resolver by the name of its host", []string{"web.hollowtarn.example", "-t", "A", "--from", "dns1.hollowtarn.example"}, 0, []string{"dns1.hollowtarn.example (203.0.113.11)", "the zone's own server"}, nil},
		{"cut over UDP and no other way allowed", []string{"timetable.hollowtarn.example", "-t", "TXT", "--from", "udp://192.0.2.53"}, 3, []string{"the answer was truncated (TC)"}, nil},
		{"without EDNS", []string{"timetable.hollowtarn.example", "-t", "TXT", "--no-edns"}, 0, []string{"retried over TCP"}, nil},
		{"which machine answers", []string{"web.hollowtarn.example", "-t", "A", "--nsid", "--cookie", "--dnssec"}, 0, []string{`the server adds (NSID) "office"`}, nil},
		{"parts", []string{"nothing.hollowtarn.example", "-t", "A", "--show", "header,authority"}, 0, []string{"response code NXDOMAIN", "recursion available", "hollowtarn.example. 600 IN SOA"}, []string{"no such name"}},
		{"all parts", []string{"www.hollowtarn.example", "-t", "A", "--all-parts"}, 0, []string{"question www.hollowtarn.example. A", "additional nothing", "EDNS: accepts UDP messages of up to 1232 bytes"}, nil},
		{"the SOA explained", []string{"hollowtarn.example", "-t", "SOA", "--explain"}, 0, []string{"(hostmaster@hollowtarn.example)", "EXPIRE 1209600 2 weeks", "MINIMUM 600 10 min"}, nil},
		{"who may send mail explained", []string{"hollowtarn.example", "-t", "TXT", "--explain"}, 0, []string{"include:spf.lanternpost.test whoever this other name lets send: may send", "-all everybody else: must not send (fail)"}, nil},
		{"mail hosts followed", []string{"hollowtarn.example", "-t", "MX", "--follow"}, 0, []string{"mx1.hollowtarn.example at 203.0.113.25", "mx1.lanternpost.test at 198.51.100.95"}, nil},
		{"mail hosts that are an alias and nothing", []string{"mail.valley.hollowtarn.example", "-t", "MX", "--follow"}, 3, []string{"target-is-alias", "target-unresolvable", "gone.valley.hollowtarn.example has no address", "is an alias (CNAME), at 203.0.113.25"}, nil},
		{"services followed", []string{"_sip._tcp.hollowtarn.example", "-t", "SRV", "--follow"}, 0, []string{"phone.hollowtarn.example at 203.0.113.60"}, nil},
		{"a service binding whose target is itself", []string{"piste.hollowtarn.example", "-t", "HTTPS", "--follow"}, 0, []string{"piste.hollowtarn.example at 203.0.113.120"}, nil},
		{"the age of a cached answer", []string{"web.hollowtarn.example", "-t", "A", "--zone-ttl"}, 0, []string{"A fetched 0 s ago, judging by the zone's own TTL"}, nil},
		{"a cached answer that the zone no longer gives", []string{"tickets.hollowtarn.example", "-t", "A", "--zone-ttl"}, 0, []string{"the zone itself now gives a different answer for A"}, []string{"fetched"}},
		{"a secure answer", []string{"www.hollowtarn.example", "--validate", "--from", "public"}, 0, []string{"signatures secure: signed from the root's key down, until 07:40 on 23 March 2026", "the server says that it has checked this itself (AD)"}, nil},
		{"signatures in words", []string{"www.hollowtarn.example", "--dnssec", "-t", "A"}, 0, []string{"signed CNAME, A of web.hollowtarn.example by hollowtarn.example, key 15568 (ECDSA with P-256), from 07:40 on 2 March 2026 until 07:40 on 23 March 2026: 2 weeks left"}, nil},
		{"one that ran out", []string{"valley.gates.hollowtarn.example", "--dnssec", "-t", "A"}, 0, []string{"until 06:00 on 9 March 2026: it ran out 1 h 40 min ago"}, nil},
		{"one that is not valid yet", []string{"www.ahead.works.example", "--dnssec", "-t", "A"}, 0, []string{"from 09:40 on 9 March 2026", "not valid for another 2 h"}, nil},
		{"no such name, securely", []string{"nosuch.hollowtarn.example", "--validate", "-t", "A"}, 0, []string{"signatures secure"}, nil},
		{"what is not signed", []string{"ns.farhost.test", "--validate", "-t", "A"}, 0, []string{"signatures insecure"}, []string{"validation-"}},
		{"a bogus answer that a resolver hands on", []string{"valley.gates.hollowtarn.example", "--validate", "-t", "A"}, 0, []string{"203.0.113.170", "bogus: resolvers that validate do not accept it; the chain breaks at gates.hollowtarn.example", "validation-off; evidence: exchanges 1, 2"}, nil},
		{"a bogus answer that a resolver withholds", []string{"valley.gates.hollowtarn.example", "--validate", "-t", "A", "--from", "public"}, 3, []string{"SERVFAIL", "signatures bogus"}, []string{"validation-"}},
		{"nothing to check", []string{"season.passes.hollowtarn.example", "--validate", "-t", "TXT"}, 3, []string{"SERVFAIL", "signatures unknown: there is no answer to check"}, nil},
		{"a server that has its own zones only", []string{"www.hollowtarn.example", "--validate", "-t", "A", "--from", "dns1.hollowtarn.example"}, 0, []string{"unknown: this server does not have the keys of the zones above"}, []string{"validation-"}},
		{"types that come to different states", []string{"www.bare.works.example", "--validate", "-t", "MX,A,TXT"}, 0, []string{"signatures MX, TXT secure: ", "A bogus: resolvers"}, []string{"concern", "fault"}},
		{"all of an alias", []string{"www.hollowtarn.example", "--validate", "-t", "ANY", "--from", "public"}, 0, []string{"signatures secure"}, []string{"validation-"}},
		{"as of before the signatures ran out", []string{"valley.gates.hollowtarn.example", "--validate", "-t", "A", "--as-of", "2026-03-09T05:00:00Z"}, 0, []string{"signatures secure"}, nil},
		{"a resolver that hands on no signatures", []string{"www.hollowtarn.example", "--validate", "-t", "A", "--from", "isp"}, 0, []string{"unknown: the server hands on no signatures"}, []string{"bogus"}},
		{"again and again", []string{"web.hollowtarn.example", "-t", "A", "--repeat", "20"}, 0, []string{"20 sent, 0 lost", "median"}, nil},
		{"a short name as the machine asks it", []string{"web", "-t", "A"}, 0, []string{"203.0.113.120", "web was looked up as web.hollowtarn.example", "suffix-appended"}, nil},
		{"a short name as it is", []string{"web", "-t", "A", "--as-is"}, 0, []string{"no such name"}, []string{"suffix-appended"}},
		{"a final dot is never extended", []string{"web.", "-t", "A"}, 0, []string{"no such name"}, []string{"suffix-appended"}},
		{"a resolver that refuses", []string{"web.hollowtarn.example", "-t", "A", "--from", "closed"}, 3, []string{"refused to answer (REFUSED)"}, nil},
		{"a resolver that never answers", []string{"web.hollowtarn.example", "-t", "A", "--from", "kiosk", "--wait", "100ms"}, 3, []string{"kiosk did not reply", "no reply after 2 attempts"}, nil},
		{"a resolver that makes answers up", []string{"tikets.hollowtarn.example", "-t", "A", "--from", "cafe"}, 0, []string{"192.0.2.98"}, nil},
		{"without recursion a resolver of the lab refuses", []string{"web.hollowtarn.example", "-t", "A", "--recursion=false"}, 3, []string{"REFUSED"}, nil},
		{"several resolvers, in the order asked", []string{"tickets.hollowtarn.example", "-t", "A", "--from", "office,isp", "--from", "public"}, 0, []string{"203.0.113.80", "office (192.0.2.53)", "203.0.113.140", "isp (198.51.100.53)", "203.0.113.140", "public (203.0.113.200)"}, nil},
	} {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			o := run(t, append([]string{"ask", "--lab"}, tt.args...)...)
			o.holds(t, tt.code, tt.want, tt.not)
			text, at := squeezed(o), 0
			if strings.Contains(tt.name, "in the order") {
				for _, want := range tt.want {
					next := strings.Index(text[at:], want)
					require.GreaterOrEqual(t, next, 0, "%q in its place", want)
					at += next + len(want)
				}
			}
			assert.Empty(t, o.stderr)
		})
	}
}

func TestAskManyNames(t *testing.T) {
	t.Parallel()
	list := filepath.Join(t.TempDir(), "names")
	var names strings.Builder
	for i := range 3000 {
		fmt.Fprintf(&names, "host-%d.guest.hollowtarn.example # of %d\n\n", i, i)
	}
	names.WriteString("nothing.hollowtarn.example\n")
	require.NoError(t, os.WriteFile(list, []byte(names.String()), 0o600))
	o := run(t, "ask", "--lab", "--names", list, "-t", "A", "web.hollowtarn.example")
	assert.Zero(t, o.code, o.stderr)
	text := squeezed(o)
	assert.Contains(t, text, "in all asked 3002 outcomes 3001 answered, 1 no-name slowest")
	assert.Less(t, strings.Index(text, "web.hollowtarn.example"), strings.Index(text, "host-0.guest"), "in the order asked")
	assert.Less(t, strings.Index(text, "host-1999.guest"), strings.Index(text, "host-2000.guest"))

	cmd := exec.Command(program, "ask", "--lab", "--names", "-", "-t", "A", "--bare", "--rate", "1000")
	cmd.Stdin = strings.NewReader("web.hollowtarn.example\nmx1.hollowtarn.example\n")
	out, err := cmd.Output()
	require.NoError(t, err)
	assert.Equal(t, "203.0.113.120\n203.0.113.121\n203.0.113.25\n", string(out))

	require.NoError(t, os.WriteFile(list, []byte("web.hollowtarn.example\nbad..name\n"), 0o600))
	o = run(t, "ask", "--lab", "--names", list, "-t", "A")
	assert.Equal(t, 2, o.code)
	assert.Contains(t, o.stderr, `"bad..name": empty label`)
	assert.Contains(t, o.stdout, "203.0.113.120", "what came before it is shown")
}

func TestAskJSON(t *testing.T) {
	o := run(t, "ask", "--lab", "hollowtarn.example", "-t", "MX", "--follow", "--zone-ttl", "--repeat", "3", "--wire", "--over", "tls", "--json")
	require.Zero(t, o.code, o.stderr)
	var d struct {
		Command   string
		Exchanges []struct {
			Transport, Reply_Hex string
			Security             struct{ Version, Issuer string }
		}
		Summary struct{ Asked int }
		Timings []struct{ Asked, Lost int }
	}
	require.NoError(t, json.Unmarshal([]byte(o.stdout), &d), o.stdout)
	assert.Equal(t, "ask", d.Command)
	assert.Equal(t, "tls", d.Exchanges[0].Transport)
	assert.NotEmpty(t, d.Exchanges[0].Reply_Hex)
	assert.Equal(t, "TLS 1.3", d.Exchanges[0].Security.Version)
	assert.Equal(t, 3, d.Summary.Asked)
	assert.Equal(t, 3, d.Timings[0].Asked)
}

func TestKeptEvidenceReadsBack(t *testing.T) {
	file := filepath.Join(t.TempDir(), "evidence.pcapng")
	o := run(t, "ask", "--lab", "www.hollowtarn.example", "gondola.hollowtarn.example", "-t", "A,AAAA", "--keep", file)
	assert.Equal(t, 3, o.code)
	lines := strings.Split(strings.TrimSpace(run(t, "decode", file, "--json").stdout), "\n")
	var outcomes []string
	for _, line := range lines[:len(lines)-1] {
		var e struct {
			Outcome  string
			Question struct{ Name, Type string }
		}
		require.NoError(t, json.Unmarshal([]byte(line), &e))
		outcomes = append(outcomes, e.Question.Name+e.Question.Type+" "+e.Outcome)
	}
	slices.Sort(outcomes)
	assert.Equal(t, []string{"gondola.hollowtarn.example.A server-failure", "gondola.hollowtarn.example.AAAA server-failure",
		"www.hollowtarn.example.A answered", "www.hollowtarn.example.AAAA answered"}, outcomes)
	o = run(t, "ask", "--lab", "www.hollowtarn.example", "--keep", filepath.Join(file, "under", "a", "file"))
	assert.Equal(t, 1, o.code)
	assert.Contains(t, o.stderr, "keeping evidence")
}

// The Go standard resolver, which knows nothing of this program, and ask agree
// on every healthy name with addresses.
func TestAgreesWithAStranger(t *testing.T) {
	l, err := lab.New(lab.Options{})
	require.NoError(t, err)
	defer l.Close()
	server, _ := l.Resolver("isp")
	stranger := &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
		at, err := l.Open(server, strings.HasPrefix(network, "udp"))
		if err != nil {
			return nil, err
		}
		var dialer net.Dialer
		return dialer.DialContext(ctx, network, at.String())
	}}
	for _, h := range scenario(t).Healthy {
		if aside(h.Name) || !slices.Contains(h.Types, "A") && !slices.Contains(h.Types, "AAAA") {
			continue
		}
		want, _ := stranger.LookupHost(t.Context(), h.Name)
		got := strings.Fields(run(t, "ask", "--lab", h.Name, "--from", "isp", "--bare").stdout)
		assert.ElementsMatch(t, want, got, h.Name)
	}
}

func TestReverse(t *testing.T) {
	for _, tt := range []struct {
		name string
		args []string
		code int
		want []string
	}{
		{"a name that leads back", []string{"203.0.113.120"}, 0, []string{"web.hollowtarn.example, which resolves back", "looked up 120.113.0.203.in-addr.arpa"}},
		{"a name that does not", []string{"203.0.113.80"}, 0, []string{"does not resolve back", "reverse-mismatch", "resolves to 203.0.113.120 and 1 more"}},
		{"no name", []string{"203.0.113.99"}, 0, []string{"no such name", "reverse-missing"}},
		{"an address in an odd form", []string{"2001:0DB8:113:0:0::120"}, 0, []string{"looked up 0.2.1.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.3.1.1.0.8.b.d.0.1.0.0.2.ip6.arpa"}},
		{"a whole range", []string{"203.0.113.0/25"}, 0, []string{"203.0.113.11 dns1.hollowtarn.example, which resolves back", "8 of 128 addresses have a reverse name", "203.0.113.80 has the reverse name"}},
		{"a range delegated in parts (RFC 2317)", []string{"203.0.113.210"}, 0, []string{"hut.summit.hollowtarn.example, which resolves back", "via a CNAME to 210.208/28.113.0.203.in-addr.arpa"}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			o := run(t, append([]string{"reverse", "--lab"}, tt.args...)...)
			o.holds(t, tt.code, tt.want, nil)
		})
	}
	assert.Equal(t, "203.0.113.120\tweb.hollowtarn.example.\n203.0.113.121\tweb.hollowtarn.example.\n", run(t, "reverse", "--lab", "203.0.113.120/31", "--bare").stdout)
	for arg, want := range map[string]string{"tarn": "not an address", "192.0.2.0/33": "not an address", "10.0.0.0/8": "more than 65536", "2001:db8::/64": "more than 65536"} {
		o := run(t, "reverse", "--lab", arg)
		assert.Equal(t, 2, o.code)
		assert.Contains(t, o.stderr, want)
	}
	d, code := runJSON(t, "reverse", "--lab", "203.0.113.80")
	assert.Zero(t, code)
	assert.Equal(t, "reverse-mismatch", d.Findings[0].Code)
}

func TestLocal(t *testing.T) {
	folder := t.TempDir()
	write := func(path, text string) {
		path = filepath.Join(folder, path)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	}
	o := run(t, "local", "--lab")
	assert.Zero(t, o.code, o.stderr)
	for _, want := range []string{"sources files, then dns", "hosts file 3 lines", "office (192.0.2.53): answers in", "suffixes hollowtarn.example, then valley.hollowtarn.example", "ndots 1"} {
		assert.Contains(t, squeezed(o), want)
	}
	o = run(t, "local", "--lab", "shop")
	assert.Equal(t, 3, o.code)
	for _, want := range []string{"the hosts file, line 3, gives 203.0.113.80", "shop.hollowtarn.example, with hollowtarn.example from the search list: 203.0.113.140", "not tried any more: shop.valley.hollowtarn.example, shop", "hosts-override", "suffix-appended"} {
		assert.Contains(t, squeezed(o), want)
	}
	write("etc/resolv.conf", "nameserver 192.0.2.53\nnameserver 192.0.2.67\nsearch lanternpost.test hollowtarn.example\n")
	o = run(t, "local", "--lab", "--root", folder, "web")
	assert.Zero(t, o.code, "one of the two resolvers refuses, and the other answers")
	for _, want := range []string{"web.lanternpost.test, with lanternpost.test from the search list: no such name", "2 of 4 queries for web were wasted on the search list", "closed (192.0.2.67): refused to answer", "web is looked up as web.hollowtarn.example and is 203.0.113.120"} {
		assert.Contains(t, squeezed(o), want)
	}
	write("etc/resolv.conf", "nameserver 192.0.2.66\nnameserver 192.0.2.53\noptions timeout:3\n")
	o = run(t, "local", "--lab", "--root", folder, "web.hollowtarn.example")
	assert.Zero(t, o.code, "the first says nothing, and the second answers")
	for _, want := range []string{"as typed, asked of kiosk: no reply", "as typed, asked of office: 203.0.113.120", "kiosk did not reply; programs lose time on it (3.0 s for each query) before they ask the next"} {
		assert.Contains(t, squeezed(o), want)
	}
	write("etc/resolv.conf", "search hollowtarn.example\n")
	o = run(t, "local", "--lab", "--root", folder)
	assert.Equal(t, 3, o.code)
	assert.Contains(t, squeezed(o), "no-resolver")
	d, _ := runJSON(t, "local", "--lab", "shop")
	assert.Equal(t, "hosts-override", d.Findings[0].Code)
}

func TestConfiguration(t *testing.T) {
	write := func(text string) string {
		path := filepath.Join(t.TempDir(), "config.toml")
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	file := write("[ask]\nfrom = [\"both\"]\nwait = \"1s\"\ntries = 1\n[resolver.valley]\nat = \"192.0.2.53\"\nplace = \"valley station\"\n[resolver.home]\nat = \"tls://198.51.100.53\"\n[group]\nboth = [\"valley\", \"home\"]\n")
	o := run(t, "ask", "--lab", "--config", file, "tickets.hollowtarn.example", "-t", "A")
	assert.Zero(t, o.code, o.stderr)
	for _, want := range []string{"valley (192.0.2.53) over UDP", "home (198.51.100.53) over TLS"} {
		assert.Contains(t, squeezed(o), want)
	}
	assert.Contains(t, squeezed(run(t, "ask", "--lab", "--config", file, "web.hollowtarn.example", "--from", "home")), "home (198.51.100.53)")
	for text, want := range map[string]string{"[ask\n": "line 1", "[ask]\nspeed = 9\n": "no such setting", "[ask]\nwait = \"soon\"\n": "line 2"} {
		o := run(t, "ask", "--lab", "--config", write(text), "a.example")
		assert.Equal(t, 2, o.code)
		assert.Contains(t, o.stderr, want)
	}
	o = run(t, "ask", "--lab", "--config", "/nowhere/config.toml", "a.example")
	assert.Equal(t, 2, o.code)
	assert.Contains(t, o.stderr, "reading the configuration")
}

func TestBadQuestionOptions(t *testing.T) {
	for option, want := range map[string]string{
		"--over=pigeon": `--over "pigeon"`, "--show=tail": `--show "tail"`, "--class=TARN": `class "TARN"`, "--opcode=TARN": `opcode "TARN"`, "--id=70000": "--id 70000",
		"--client-subnet=tarn": "--client-subnet", "--source=tarn": "--source", "--repeat=0": "out of range", "--rate=-1": "out of range", "--payload-size=70000": "payload-size", "--ipv6": "none of the resolvers",
	} {
		o := run(t, "ask", "--lab", "a.example", option)
		assert.Equal(t, 2, o.code, option)
		assert.Contains(t, o.stderr, want)
		assert.LessOrEqual(t, strings.Count(o.stderr, "\n"), 2)
	}
	o := run(t, "ask", "--lab", "a.example", "--ipv4", "--ipv6")
	assert.Equal(t, 2, o.code)
	for option, want := range map[string]string{"--ca=/nowhere/ca.pem": "reading certificates", "--names=/nowhere/names": "reading names"} {
		o := run(t, "ask", "--lab", "a.example", option)
		assert.Equal(t, 1, o.code, option)
		assert.Contains(t, o.stderr, want)
	}
}
