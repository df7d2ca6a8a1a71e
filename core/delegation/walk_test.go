package delegation

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// script is a network of servers that say what the test wants: by address, what
// a server replies. nil is silence, and an address that is not there refuses.
type script map[string]func(q wire.Question) *wire.Message

func (s script) Stream(context.Context, netip.AddrPort) (net.Conn, error) {
	return nil, os.ErrDeadlineExceeded
}

func (s script) Datagrams(_ context.Context, server netip.AddrPort) (exchange.Datagrams, error) {
	answer := s[server.Addr().String()]
	if answer == nil {
		return nil, fmt.Errorf("nobody at %s", server)
	}
	return &socket{answer: answer, server: server, replies: make(chan []byte, 1), closed: make(chan struct{})}, nil
}

// socket answers from the script.
type socket struct {
	answer  func(q wire.Question) *wire.Message
	server  netip.AddrPort
	replies chan []byte
	once    sync.Once
	closed  chan struct{}
	timer   *time.Timer
}

func (s *socket) WriteToUDPAddrPort(b []byte, _ netip.AddrPort) (int, error) {
	query, _ := wire.ReadMessage(b)
	if m := s.answer(query.Questions[0]); m != nil {
		m.ID, m.Questions, m.Flags = query.ID, query.Questions, m.Flags|wire.QR
		m.Additional = append(m.Additional, wire.EDNS{Size: 1232}.Record(0))
		out, _ := m.Bytes()
		s.replies <- out
	}
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

func (s *socket) SetReadDeadline(t time.Time) error {
	if s.timer != nil {
		s.timer.Stop()
	}
	s.timer = time.AfterFunc(time.Until(t), func() { s.once.Do(func() { close(s.closed) }) })
	return nil
}

func (s *socket) LocalAddr() net.Addr { return &net.UDPAddr{IP: net.IPv4(192, 0, 2, 10), Port: 50000} }
func (s *socket) Close() error        { return nil }

// records reads lines in master-file form.
func records(t testing.TB, lines ...string) (all []wire.Record) {
	for _, line := range lines {
		words := strings.SplitN(line, " ", 3)
		typ, err := wire.ParseType(words[1])
		require.NoError(t, err)
		data, err := wire.ParseRecordData(typ, wire.IN, words[2])
		require.NoError(t, err)
		all = append(all, wire.Record{Name: wire.MustParseName(words[0]), Type: typ, Class: wire.IN, TTL: 60, Data: data})
	}
	return all
}

// refer is a referral: NS lines and glue lines.
func refer(t testing.TB, ns []string, glue ...string) func(wire.Question) *wire.Message {
	return func(wire.Question) *wire.Message {
		return &wire.Message{Authority: records(t, ns...), Additional: records(t, glue...)}
	}
}

// inTurn is a server that gives several answers to questions for addresses in turn.
func inTurn(answers ...func(wire.Question) *wire.Message) func(wire.Question) *wire.Message {
	var asked atomic.Int64
	return func(q wire.Question) *wire.Message {
		if q.Type != wire.A || q.Name.Label(0) != "www" {
			return answers[0](q)
		}
		return answers[int(asked.Add(1)-1)%len(answers)](q)
	}
}

// serve is an authoritative server of one zone: what it has, and otherwise no
// such name.
func serve(t testing.TB, zone string, serial int, lines ...string) func(wire.Question) *wire.Message {
	soa := records(t, fmt.Sprintf("%s SOA a. b. %d 2 3 4 5", zone, serial))
	all := append(records(t, lines...), soa...)
	return func(q wire.Question) *wire.Message {
		m := &wire.Message{Flags: wire.AA}
		for name, hops := q.Name, 0; hops < 8; hops++ {
			var alias *wire.Record
			exists := false
			for _, r := range all {
				exists = exists || r.Name.IsSubdomainOf(name)
				if !r.Name.Equal(name) {
					continue
				}
				if r.Type == q.Type {
					m.Answer = append(m.Answer, r)
				} else if r.Type == wire.CNAME {
					alias = &r
				}
			}
			if alias == nil {
				if !exists {
					m.Flags = m.Flags.WithRCode(wire.NXDomain)
				}
				if len(m.Answer) == 0 || !m.Answer[len(m.Answer)-1].Name.Equal(name) {
					m.Authority = soa
				}
				return m
			}
			m.Answer = append(m.Answer, *alias)
			if name, _ = alias.Target(); !name.IsSubdomainOf(soa[0].Name) {
				return m
			}
		}
		return m
	}
}

func refuse(wire.Question) *wire.Message {
	return &wire.Message{Flags: wire.Flags(0).WithRCode(wire.Refused)}
}

func silent(wire.Question) *wire.Message { return nil }

// root delegates example. to one server and test. to another.
func root(t testing.TB) func(q wire.Question) *wire.Message {
	return func(q wire.Question) *wire.Message {
		if q.Name.IsSubdomainOf(wire.MustParseName("test")) {
			return refer(t, []string{"test NS ns.test."}, "ns.test A 198.51.100.21")(q)
		}
		return refer(t, []string{"example NS ns.example."}, "ns.example A 198.51.100.11")(q)
	}
}

// Whatever servers say, a walk ends, blames whom the table names, and believes
// nothing that the server had no say over.
func TestWalk(t *testing.T) {
	tarn := func(servers ...string) func(wire.Question) *wire.Message {
		var ns, glue []string
		for i, a := range servers {
			ns = append(ns, fmt.Sprintf("tarn.example NS ns%d.tarn.example.", i+1))
			glue = append(glue, fmt.Sprintf("ns%d.tarn.example A %s", i+1, a))
		}
		return refer(t, ns, glue...)
	}
	const one, two = "203.0.113.11", "203.0.113.12"
	zone := serve(t, "tarn.example", 7, "www.tarn.example A 203.0.113.120", "a.tarn.example CNAME b.tarn.example.", "b.tarn.example CNAME a.tarn.example.",
		"gone.tarn.example CNAME nothing.tarn.example.", "out.tarn.example CNAME www.lake.test.", "away.tarn.example CNAME nothing.lake.test.", "only6.tarn.example AAAA 2001:db8::1")
	other := serve(t, "tarn.example", 7, "www.tarn.example A 203.0.113.121")
	late := func(answer func(wire.Question) *wire.Message) func(wire.Question) *wire.Message {
		return func(q wire.Question) *wire.Message {
			time.Sleep(20 * time.Millisecond)
			return answer(q)
		}
	}
	for _, tt := range []struct {
		name    string
		network script
		ask     string
		end     End
		found   []string // severity, code and server of each finding
		values  []string
	}{
		{"a healthy zone", script{"198.51.100.11": tarn(one, two), one: zone, two: zone}, "www.tarn.example", EndAnswer, nil, []string{"203.0.113.120"}},
		{"no such name", script{"198.51.100.11": tarn(one), one: zone}, "tikets.tarn.example", EndNoName, nil, nil},
		{"no such data", script{"198.51.100.11": tarn(one), one: zone}, "only6.tarn.example", EndNoData, nil, nil},
		{"one of two is silent", script{"198.51.100.11": tarn(one, two), one: zone, two: silent}, "www.tarn.example", EndAnswer, []string{"concern no-reply ns2.tarn.example."}, []string{"203.0.113.120"}},
		{"one of two is not there", script{"198.51.100.11": tarn(one, two), one: zone}, "www.tarn.example", EndAnswer, []string{"concern unreachable ns2.tarn.example."}, []string{"203.0.113.120"}},
		{"one refuses, one refers upwards", script{"198.51.100.11": tarn(one, two), one: refuse, two: refer(t, []string{". NS east.roots.test."})}, "www.tarn.example", EndNoServer,
			[]string{"fault lame-server ns1.tarn.example.", "fault lame-server ns2.tarn.example."}, nil},
		{"one fails", script{"198.51.100.11": tarn(one), one: func(wire.Question) *wire.Message { return &wire.Message{Flags: wire.Flags(0).WithRCode(wire.ServFail)} }}, "www.tarn.example", EndNoServer,
			[]string{"fault server-failure ns1.tarn.example."}, nil},
		{"one lags and says something else", script{"198.51.100.11": tarn(one, two), one: zone, two: serve(t, "tarn.example", 6, "www.tarn.example A 203.0.113.80")}, "www.tarn.example", EndAnswer,
			[]string{"fault answers-differ ns2.tarn.example.", "concern serials-differ ns2.tarn.example."}, nil},
		{"the one that lags is faster, and has an older answer", script{"198.51.100.11": tarn(one, two), one: late(zone), two: serve(t, "tarn.example", 6, "www.tarn.example A 203.0.113.80")}, "www.tarn.example", EndAnswer,
			[]string{"fault answers-differ ns2.tarn.example.", "concern serials-differ ns2.tarn.example."}, []string{"203.0.113.120"}},
		{"the one that lags is faster, and has nothing yet", script{"198.51.100.11": tarn(one, two), one: late(zone), two: serve(t, "tarn.example", 6)}, "www.tarn.example", EndAnswer,
			[]string{"fault answers-differ ns2.tarn.example.", "concern serials-differ ns2.tarn.example."}, []string{"203.0.113.120"}},
		{"the one that lags is faster, and still has it", script{"198.51.100.11": tarn(one, two), one: late(serve(t, "tarn.example", 7)), two: serve(t, "tarn.example", 6, "www.tarn.example A 203.0.113.80")}, "www.tarn.example", EndNoName,
			[]string{"fault answers-differ ns2.tarn.example.", "concern serials-differ ns2.tarn.example."}, []string{}},
		{"one lags and says the same", script{"198.51.100.11": tarn(one, two), one: zone, two: serve(t, "tarn.example", 6, "www.tarn.example A 203.0.113.120")}, "www.tarn.example", EndAnswer,
			[]string{"note serials-differ ns2.tarn.example."}, []string{"203.0.113.120"}},
		{"rotation at one serial is nothing to mend", script{"198.51.100.11": tarn(one, two), one: zone, two: inTurn(other, other, zone)}, "www.tarn.example", EndAnswer,
			[]string{"note answers-differ ns2.tarn.example."}, nil},
		{"one serial, and two contents each time", script{"198.51.100.11": tarn(one, two), one: zone, two: serve(t, "tarn.example", 7, "www.tarn.example A 203.0.113.121")}, "www.tarn.example", EndAnswer,
			[]string{"fault answers-differ "}, nil},
		{"aliases in a circle", script{"198.51.100.11": tarn(one), one: zone}, "a.tarn.example", EndAliasLoop, []string{"fault alias-loop "}, nil},
		{"an alias to nothing", script{"198.51.100.11": tarn(one), one: zone}, "gone.tarn.example", EndNoName, []string{"fault alias-dangling "}, nil},
		{"an alias into another tree", script{"198.51.100.11": tarn(one), one: zone, "198.51.100.21": serve(t, "test", 1, "www.lake.test A 203.0.113.70")}, "out.tarn.example", EndAnswer, nil, []string{"203.0.113.70"}},
		{"an alias to nothing in another tree", script{"198.51.100.11": tarn(one), one: zone, "198.51.100.21": serve(t, "test", 1)}, "away.tarn.example", EndNoName, []string{"fault alias-dangling "}, nil},
		{"an address slipped in for another tree is not believed", script{"198.51.100.11": tarn(one), "198.51.100.21": serve(t, "test", 1, "www.lake.test A 203.0.113.70"),
			one: func(q wire.Question) *wire.Message {
				m := zone(q)
				if q.Type == wire.A {
					m.Answer = append(m.Answer, records(t, "www.lake.test A 192.0.2.66")...)
				}
				return m
			}}, "out.tarn.example", EndAnswer, nil, []string{"203.0.113.70"}},
		{"a server that refers to itself for ever", script{"198.51.100.11": tarn(one), one: func(q wire.Question) *wire.Message {
			return refer(t, []string{"tarn.example NS ns1.tarn.example."}, "ns1.tarn.example A "+one)(q)
		}}, "www.tarn.example", EndNoServer, []string{"fault lame-server ns1.tarn.example."}, nil},
		{"a server without glue, found beside the way", script{"198.51.100.11": refer(t, []string{"tarn.example NS ns.lake.test."}), "198.51.100.21": serve(t, "test", 1, "ns.lake.test A "+one), one: zone}, "www.tarn.example", EndAnswer, nil, []string{"203.0.113.120"}},
		{"glue for another tree is not believed", script{"198.51.100.11": refer(t, []string{"tarn.example NS ns.lake.test."}, "ns.lake.test A 192.0.2.66"), "192.0.2.66": serve(t, "tarn.example", 9, "www.tarn.example A 192.0.2.66"),
			"198.51.100.21": serve(t, "test", 1, "ns.lake.test A "+one), one: zone}, "www.tarn.example", EndAnswer, nil, []string{"203.0.113.120"}},
		{"a server whose name has no address", script{"198.51.100.11": refer(t, []string{"tarn.example NS ns.lake.test."}), "198.51.100.21": serve(t, "test", 1)}, "www.tarn.example", EndNoServer, []string{"fault ns-unresolvable ns.lake.test."}, nil},
		{"servers that can only be found through each other", script{"198.51.100.11": func(q wire.Question) *wire.Message {
			if q.Name.IsSubdomainOf(wire.MustParseName("mirror.example")) {
				return refer(t, []string{"mirror.example NS ns.echo.example."})(q)
			}
			return refer(t, []string{"echo.example NS ns.mirror.example."})(q)
		}}, "www.mirror.example", EndLoop, []string{"fault delegation-loop "}, nil},
		{"nobody out there", script{}, "www.tarn.example", EndNoWayOut, nil, nil},
	} {
		t.Run(tt.name, func(t *testing.T) {
			if len(tt.network) > 0 {
				tt.network["198.51.100.1"] = root(t)
			}
			session := &exchange.Session{Client: &exchange.Client{Network: tt.network, Now: time.Now, Options: exchange.Options{Wait: time.Second, Attempts: 1}}}
			walker := Walker{Session: session, Roots: []Server{{wire.MustParseName("east.roots.test"), []netip.Addr{netip.MustParseAddr("198.51.100.1")}}}}
			walk := walker.Walk(t.Context(), wire.Question{Name: wire.MustParseName(tt.ask), Type: wire.A, Class: wire.IN})
			assert.Equal(t, tt.end, walk.End)
			var found []string
			for _, f := range walk.Findings {
				found = append(found, fmt.Sprintf("%s %s %s", f.Severity, f.Code, f.About.Server))
				for _, n := range f.Evidence {
					assert.LessOrEqual(t, n, len(session.Exchanges()))
				}
			}
			slices.Sort(found)
			want := slices.Clone(tt.found)
			slices.Sort(want)
			assert.Equal(t, want, found)
			if tt.values != nil {
				assert.Equal(t, tt.values, exchange.Values(walk.Records))
			}
			assert.NotEmpty(t, walk.Summary())
			assert.Equal(t, finding.Worst(walk.Findings) == finding.Fault, slices.ContainsFunc(tt.found, func(f string) bool { return strings.HasPrefix(f, "fault") }))
		})
	}
}

// A referral to thousands of servers, each at addresses of its own, is cut at
// the walk's bounds, and one that goes on for ever ends.
func TestWalksAreBounded(t *testing.T) {
	var ns, glue []string
	for i := range 500 {
		ns = append(ns, fmt.Sprintf("example NS ns%d.example.", i))
		glue = append(glue, fmt.Sprintf("ns%d.example A 203.0.113.%d", i, i%256))
	}
	many := script{"198.51.100.1": refer(t, ns, glue...)}
	for i := range 256 {
		many[fmt.Sprintf("203.0.113.%d", i)] = refuse
	}
	deeper := func(q wire.Question) *wire.Message {
		labels := q.Name.Labels()
		return refer(t, []string{fmt.Sprintf("%s NS ns.example.", q.Name.Ancestor(min(labels, 1)))}, "ns.example A 198.51.100.1")(q)
	}
	for name, tt := range map[string]struct {
		network script
		most    int
	}{
		"many servers":    {many, 2*(maxServers+2) + asideServers*(4+asideNames+asideHosts)},
		"the same server": {script{"198.51.100.1": deeper}, 100},
	} {
		t.Run(name, func(t *testing.T) {
			session := &exchange.Session{Client: &exchange.Client{Network: tt.network, Now: time.Now, Options: exchange.Options{Wait: 50 * time.Millisecond, Attempts: 1}}}
			walker := Walker{Session: session, Roots: []Server{{wire.MustParseName("east.roots.test"), []netip.Addr{netip.MustParseAddr("198.51.100.1")}}}}
			walk := walker.Walk(t.Context(), wire.Question{Name: wire.MustParseName("a.b.c.d.example"), Type: wire.A, Class: wire.IN})
			assert.NotEqual(t, EndAnswer, walk.End)
			assert.LessOrEqual(t, len(session.Exchanges()), tt.most)
		})
	}
}

// The bounds end a walk and say so: a chain of aliases that goes on for ever, and more
// questions than a walk has. What one walk asked is not held against the next of its walker.
func TestEndBudget(t *testing.T) {
	chain := func(q wire.Question) *wire.Message {
		var n int
		fmt.Sscanf(q.Name.Spoken(), "a%d.", &n)
		return &wire.Message{Flags: wire.AA, Answer: records(t, fmt.Sprintf("%s CNAME a%d.example.", q.Name, n+1))}
	}
	example := refer(t, []string{"example NS ns.example."}, "ns.example A 198.51.100.11")
	session := func(network script) *exchange.Session {
		return &exchange.Session{Client: &exchange.Client{Network: network, Now: time.Now, Options: exchange.Options{Wait: 50 * time.Millisecond, Attempts: 1}}}
	}
	question := wire.Question{Name: wire.MustParseName("a0.example"), Type: wire.A, Class: wire.IN}
	walker := Walker{Session: session(script{"198.51.100.1": example, "198.51.100.11": chain}), Roots: []Server{{wire.MustParseName("east.roots.test"), []netip.Addr{netip.MustParseAddr("198.51.100.1")}}}}
	walk := walker.Walk(t.Context(), question)
	assert.Equal(t, EndBudget, walk.End)
	assert.LessOrEqual(t, len(walk.Steps), maxSteps)
	assert.Contains(t, walk.Summary(), "limit")

	zone := serve(t, "example", 1, "www.example A 203.0.113.120")
	walker = Walker{Session: session(script{"198.51.100.1": example, "198.51.100.11": zone}), Roots: walker.Roots}
	for i := range maxQuestions {
		name := wire.MustParseName(fmt.Sprintf("n%d.example", i))
		require.Equal(t, EndNoName, walker.Walk(t.Context(), wire.Question{Name: name, Type: wire.A, Class: wire.IN}).End, "walk %d", i)
	}
	spent := run{Walker: &walker, asked: maxQuestions}
	assert.Equal(t, EndBudget, spent.follow(t.Context(), question, nil).End)
}

// BenchmarkWalk walks three levels whose servers each take 40 ms to answer, every
// server asked. Against the sum of the levels' round trips: the time until the
// answer is known, and until all servers have answered or been given up.
func BenchmarkWalk(b *testing.B) {
	const latency = 40 * time.Millisecond
	later := func(answer func(wire.Question) *wire.Message) func(wire.Question) *wire.Message {
		return func(q wire.Question) *wire.Message {
			time.Sleep(latency)
			return answer(q)
		}
	}
	zone := later(serve(b, "tarn.example", 7, "www.tarn.example A 203.0.113.120"))
	for name, second := range map[string]func(wire.Question) *wire.Message{"healthy": zone, "one server dead": silent} {
		b.Run(name, func(b *testing.B) {
			network := script{"198.51.100.1": later(root(b)), "203.0.113.11": zone, "203.0.113.12": second,
				"198.51.100.11": later(refer(b, []string{"tarn.example NS ns1.tarn.example.", "tarn.example NS ns2.tarn.example."}, "ns1.tarn.example A 203.0.113.11", "ns2.tarn.example A 203.0.113.12"))}
			var known, took time.Duration
			for b.Loop() {
				session := &exchange.Session{Client: &exchange.Client{Network: network, Now: time.Now, Options: exchange.Options{Wait: time.Second, Attempts: 1}}}
				walker := Walker{Session: session, Prime: true, Roots: []Server{{wire.MustParseName("east.roots.test"), []netip.Addr{netip.MustParseAddr("198.51.100.1")}}}}
				walk := walker.Walk(b.Context(), wire.Question{Name: wire.MustParseName("www.tarn.example"), Type: wire.A, Class: wire.IN})
				require.Equal(b, EndAnswer, walk.End)
				known, took = known+walk.Known, took+walk.Took
			}
			levels := float64(3*latency) * float64(b.N)
			b.ReportMetric(float64(known)/levels, "known/levels")
			b.ReportMetric(float64(took)/levels, "took/levels")
		})
	}
}
