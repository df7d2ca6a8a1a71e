package test

import (
	"bytes"
	"cmp"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/wire"
	"unquil/lab"
	"unquil/lab/recording"
	"unquil/test/built"
	"unquil/ui/cli"
)

var program string

func TestMain(m *testing.M) { built.Main(m, &program) }

type outcome struct {
	stdout, stderr string
	code           int
}

// words is text with every run of white space as one blank, so that wrapping
// does not matter.
func words(text string) string { return strings.Join(strings.Fields(text), " ") }

// squeezed is the words of what a program wrote.
func squeezed(o outcome) string { return words(o.stdout) }

// holds checks how a program ended, what it must have said and what it must not.
func (o outcome) holds(t testing.TB, code int, want, not []string) {
	t.Helper()
	assert.Equal(t, code, o.code, "%s%s", o.stdout, o.stderr)
	for _, part := range want {
		assert.Contains(t, squeezed(o), part)
	}
	for _, part := range not {
		assert.NotContains(t, squeezed(o), part)
	}
}

// run runs the program in this process, in time that is simulated: what waits for a
// silent server costs no time, and a busy machine makes nothing slow.
func run(t testing.TB, args ...string) outcome { return runIn(t, nil, args...) }

// runIn is run with more in the environment.
func runIn(t testing.TB, environ []string, args ...string) (o outcome) {
	t.Helper()
	home := t.TempDir()
	var stdout, stderr bytes.Buffer
	synctest.Test(t.(*testing.T), func(t *testing.T) {
		o.code = cli.Main(t.Context(), args, &stdout, &stderr, append([]string{"HOME=" + home}, environ...))
		time.Sleep(10 * time.Minute) // what still waits in the lab ends
	})
	o.stdout, o.stderr = stdout.String(), stderr.String()
	if slices.Contains(args, "--json") && o.code != 1 {
		assertSchemas(t, o.stdout) // whatever a test is about
	}
	return o
}

// document is what the tests read of the JSON.
type document struct {
	Command  string
	Schema   int
	Findings []struct {
		Code, Severity, Text, Next string
		About                      map[string]string
		Evidence                   []int
	}
	Exchanges []struct {
		Number   int
		Outcome  string
		Values   []string
		Question struct{ Name, Type string }
	}
	Result json.RawMessage
}

func runJSON(t testing.TB, args ...string) (d document, code int) {
	o := run(t, append(args, "--json")...)
	require.NoError(t, json.Unmarshal([]byte(o.stdout), &d), "%s%s", o.stdout, o.stderr)
	return d, o.code
}

func scenario(t testing.TB) *lab.Scenario {
	s, err := lab.Load()
	require.NoError(t, err)
	return s
}

// quick keeps the wait for silent servers short.
var quick = []string{"--lab", "--wait", "800ms", "--attempts", "1"}

// aside reports whether a name is one of the workshop's, which the fault bench
// beside the code goes through.
func aside(name string) bool { return strings.HasSuffix(name, "works.example.") }

// whyArgs are what is typed to see a fault.
func whyArgs(f lab.Fault) []string {
	args := append([]string{"--lab", "--wait", "1600ms", "--attempts", "2"}, "why", cmp.Or(f.Typed, f.Name), "--type", f.Type)
	for option, value := range map[string]string{"--from": f.From, "--lab-machine": f.Machine, "--lab-path": f.Path} {
		if value != "" {
			args = append(args, option, value)
		}
	}
	if f.Listen {
		args = append(args, "--listen")
	}
	if off, err := time.ParseDuration(f.Clock); err == nil {
		args = append(args, "--as-of", time.Date(2026, 3, 9, 7, 40, 0, 0, time.UTC).Add(off).Format(time.RFC3339))
	}
	return args
}

// The faults of the story are named by why, at the right place, with exchanges that
// show it.
func TestWhyNamesTheStorysFaults(t *testing.T) {
	for _, f := range scenario(t).Faults {
		if aside(f.Name) {
			continue
		}
		t.Run(strings.Join(whyArgs(f)[5:], " "), func(t *testing.T) {
			t.Parallel()
			d, code := runJSON(t, whyArgs(f)...)
			assert.Equal(t, map[bool]int{true: 3, false: 0}[f.Severity == ""], code)
			var results []struct {
				Verdict struct{ Cause, At, Where, Next, Severity string }
			}
			require.NoError(t, json.Unmarshal(d.Result, &results))
			given := results[0].Verdict
			assert.True(t, given.Cause == f.Finding || slices.ContainsFunc(f.Or, func(or lab.Verdict) bool { return or.Finding == given.Cause }), "%s, not %s", given.Cause, f.Finding)
			if f.At != "" && len(f.Or) == 0 && f.Machine == "" {
				assert.Equal(t, f.At, given.At)
			}
			if f.Place != "" {
				assert.Equal(t, f.Place, given.Where)
			}
			assert.NotEmpty(t, given.Next)
			if f.Machine == "nothing" {
				return // nobody was asked
			}
			numbers := map[int]bool{}
			for _, e := range d.Exchanges {
				numbers[e.Number] = true
			}
			for _, got := range d.Findings {
				require.NotEmpty(t, got.Evidence)
				for _, n := range got.Evidence {
					assert.True(t, numbers[n], "exchange %d is in the document", n)
				}
			}
		})
	}
}

// What the scenario says that a command shows, it shows, and names those servers
// and no other.
func TestCommandsShowWhatIsWrong(t *testing.T) {
	for _, seen := range scenario(t).Seen {
		t.Run(seen.By+" "+seen.Finding, func(t *testing.T) {
			t.Parallel()
			d, _ := runJSON(t, append(strings.Fields(seen.By), quick...)...)
			var at []string
			found := false
			for _, f := range d.Findings {
				if f.Code != seen.Finding {
					continue
				}
				found = true
				assert.NotEmpty(t, f.Next)
				if server := f.About["server"]; server != "" && !slices.Contains(at, server) {
					at = append(at, server)
				}
			}
			assert.True(t, found)
			if seen.At != nil {
				assert.ElementsMatch(t, seen.At, at)
			}
		})
	}
}

func TestHealthyNamesRaiseNoAlarm(t *testing.T) {
	for _, h := range scenario(t).Healthy {
		if aside(h.Name) || h.Path != "" || h.From != "" {
			continue
		}
		for _, command := range []string{"why", "trace", "ask"} {
			t.Run(command+" "+h.Name, func(t *testing.T) {
				t.Parallel()
				o := run(t, append(quick, command, h.Name, "--type", strings.Join(h.Types, ","))...)
				assert.Zero(t, o.code, "%s%s", o.stdout, o.stderr)
				assert.NotContains(t, o.stdout, "  fault ")
				assert.NotContains(t, o.stdout, "  concern ")
			})
		}
	}
}

func TestTraceShowsTheServerThatLags(t *testing.T) {
	o := run(t, "trace", "--lab", "tickets.hollowtarn.example")
	assert.Equal(t, 3, o.code)
	at := -1
	for _, want := range []string{"resolves to 203.0.113.140, answered by the servers of hollowtarn.example; but ns.farhost.test says otherwise", ". (the root)", "refer to example", "refer to hollowtarn.example", "answers 203.0.113.140", "answers 203.0.113.80", "ns.farhost.test still answers 203.0.113.80, from serial 2026030701"} {
		next := strings.Index(squeezed(o), want)
		assert.Greater(t, next, at, "%q comes in its order in\n%s", want, o.stdout)
		at = next
	}
}

func TestTraceOptions(t *testing.T) {
	for _, tt := range []struct {
		name string
		args []string
		code int
		want []string
		not  []string
	}{
		{"every server", []string{"www.hollowtarn.example", "--every-server"}, 0, []string{"east.roots.test refers to example (198.51.100.1", "second.registry.test refers to hollowtarn.example", "dns2.hollowtarn.example answers 203.0.113.120, 203.0.113.121"}, []string{"each of"}},
		{"down to a zone", []string{"www.hollowtarn.example", "--down-to", "hollowtarn.example"}, 0, []string{"is delegated by example to the servers of hollowtarn.example, where this walk stops"}, []string{"203.0.113.120"}},
		{"from a server further down", []string{"www.hollowtarn.example", "--from", "198.51.100.11"}, 0, []string{"refers to hollowtarn.example", "answer 203.0.113.120"}, []string{"refers to example "}},
		{"from several servers", []string{"www.hollowtarn.example", "--from", "first.registry.test,198.51.100.12"}, 0, []string{"the starting point first.registry.test refers to hollowtarn.example (198.51.100.11,", "198.51.100.12 refers to hollowtarn.example (", "all 4 server addresses answer 203.0.113.120"}, []string{"refers to example "}},
		{"from servers that give the answer", []string{"tickets.hollowtarn.example", "--from", "203.0.113.11,203.0.113.77"}, 3, []string{"answered by 203.0.113.11; but 203.0.113.77 says otherwise"}, []string{"servers of .", "203.0.113.77 (203.0.113.77)"}},
		{"from servers of something else", []string{"www.hollowtarn.example", "--from", "office,isp"}, 3, []string{"office refuses to answer (192.0.2.53", "stops where it starts"}, []string{"(lame)"}},
		{"several behind one firewall, for all one knows", []string{"www.hollowtarn.example", "--lab-path", "before-edns", "--wait", "200ms", "--from", "203.0.113.11,203.0.113.12,203.0.113.77"}, 0, []string{"edns-breaks"}, []string{"edns-lost"}},
		{"two types", []string{"www.hollowtarn.example", "-t", "A,AAAA", "--bare"}, 0, []string{"203.0.113.120 203.0.113.121 2001:db8:113::120"}, nil},
		{"an alias into another tree", []string{"snow.hollowtarn.example"}, 0, []string{"the alias points to snow.fellcast.test", "refer to fellcast.test", "answer 198.51.100.182"}, nil},
		{"servers that need each other", []string{"mirror.example"}, 3, []string{"delegation-loop", "can only be found"}, nil},
		{"a server that breaks EDNS", []string{"www.old.hollowtarn.example"}, 0, []string{"edns-breaks", "answers only without EDNS; with it: format-error"}, nil},
		{"a network that swallows EDNS", []string{"www.hollowtarn.example", "--lab-path", "before-edns", "--wait", "200ms"}, 0, []string{"No query with EDNS gets through: each of the 3 servers queried answers only without it", "edns-lost"}, []string{"edns-breaks"}},
		{"one server a level", []string{"www.hollowtarn.example", "--servers", "one"}, 0, []string{"its only server refers to example", "resolves to 203.0.113.120"}, []string{"each of", "single-server"}},
		{"no more shown than needed", []string{"_sip._tcp.hollowtarn.example", "-t", "SRV", "--minimise"}, 0, []string{". (the root) queried only for example A", "queried only for _tcp.hollowtarn.example A", "say the name exists"}, nil},
		{"over TCP alone", []string{"season.passes.hollowtarn.example", "-t", "TXT", "--over", "tcp"}, 3, []string{"stops at passes.hollowtarn.example"}, nil},
		{"the bytes too", []string{"www.hollowtarn.example", "--wire"}, 0, []string{"asked of east.roots.test", "QNAME www.hollowtarn.example."}, nil},
		{"a slow network", []string{"www.farhost.test", "--lab-latency", "30ms"}, 0, []string{"until the answer was known; a resolver that queries one server per level needs about"}, nil},
		{"a tree that was redirected", []string{"book.lodge.hollowtarn.example"}, 0, []string{"the alias points to book.lodge.farhost.test", "resolves to 203.0.113.72"}, nil},
		{"a zone that nobody delegates", []string{"www.depot.hollowtarn.example"}, 3, []string{"but ns.farhost.test says otherwise", "there is no depot.hollowtarn.example", "no-delegation"}, nil},
		{"a wildcard", []string{"anyone.guest.hollowtarn.example"}, 0, []string{"the answer comes from the wildcard *.guest.hollowtarn.example"}, nil},
		{"a number of servers that is none", []string{"www.hollowtarn.example", "--servers", "two"}, 2, nil, nil},
		{"over a transport that zones' servers lack", []string{"www.hollowtarn.example", "--over", "quic"}, 2, nil, nil},
		{"too large for UDP, and no TCP", []string{"season.passes.hollowtarn.example", "-t", "TXT"}, 3, []string{"truncated", "truncates its answer, and retrying over TCP fails too"}, nil},
	} {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			o := run(t, append([]string{"trace", "--lab"}, tt.args...)...)
			o.holds(t, tt.code, tt.want, tt.not)
		})
	}
	d, code := runJSON(t, "trace", "--lab", "tickets.hollowtarn.example", "-t", "A,AAAA")
	assert.Equal(t, 3, code)
	var walks []struct{ End string }
	require.NoError(t, json.Unmarshal(d.Result, &walks))
	assert.Len(t, walks, 2, "one document for both types")
}

func TestCompareHoldsResolversAgainstTheZone(t *testing.T) {
	args := []string{"compare", "--lab", "tickets.hollowtarn.example", "--type", "A", "--from", "office,isp"}
	d, code := runJSON(t, append(args, "--zone-servers")...)
	assert.Equal(t, 3, code)
	codes := map[string]string{}
	for _, f := range d.Findings {
		codes[f.Code] = f.About["server"]
	}
	assert.Equal(t, map[string]string{"cache-stale": "office", "answers-differ": "ns.farhost.test.", "serials-differ": "ns.farhost.test."}, codes)
	d, code = runJSON(t, args...)
	assert.Zero(t, code, "without the zone's word nobody is at fault")
	assert.Equal(t, "answer-differs", d.Findings[0].Code)
	o := run(t, append(args, "--bare")...)
	assert.ElementsMatch(t, []string{"office\t203.0.113.80", "isp\t203.0.113.140"}, strings.Split(strings.TrimSpace(o.stdout), "\n"))
}

func TestAsk(t *testing.T) {
	for _, tt := range []struct {
		name string
		args []string
		code int
		want []string
	}{
		{"values, alias, who and for how long", []string{"www.hollowtarn.example"}, 0, []string{"203.0.113.120", "2001:db8:113::120", "points (CNAME) to", "office (192.0.2.53)", "1 h (3600)"}},
		{"an answer from the zone itself", []string{"web.hollowtarn.example", "--from", "203.0.113.11"}, 0, []string{"the zone's own server"}},
		{"the old answer with what is left of it", []string{"tickets.hollowtarn.example", "--from", "office"}, 0, []string{"203.0.113.80", "41 min 20 s (2480)", "a cache"}},
		{"no such name is an answer", []string{"tikets.hollowtarn.example"}, 0, []string{"no such name (NXDOMAIN)"}},
		{"no such data is one too", []string{"summit.hollowtarn.example", "-t", "A"}, 0, []string{"NODATA"}},
		{"a failure is a fault", []string{"gondola.hollowtarn.example"}, 3, []string{"SERVFAIL", "server-failure"}},
		{"a host that is not there", []string{"www.hollowtarn.example", "--from", "192.0.2.200"}, 3, []string{"unreachable"}},
		{"a large answer comes over TCP", []string{"timetable.hollowtarn.example", "-t", "txt"}, 0, []string{"retried over TCP", "last car down"}},
		{"several types by number and name", []string{"hollowtarn.example", "-t", "TYPE15,soa"}, 0, []string{"10 mx1.hollowtarn.example.", "2026030902"}},
		{"a zone by its transfer", []string{"hollowtarn.example", "-t", "AXFR", "--over", "tcp", "--from", "ns.farhost.test"}, 0, []string{"65 records of the zone in the first message", "unquil transfer hollowtarn.example --from ns.farhost.test"}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			o := runIn(t, []string{"COLUMNS=80"}, append([]string{"ask", "--lab"}, tt.args...)...)
			o.holds(t, tt.code, tt.want, nil)
			assert.NotContains(t, o.stdout, "\x1b", "no colour in a pipe")
			for line := range strings.Lines(o.stdout) {
				assert.LessOrEqual(t, len([]rune(strings.TrimRight(line, "\n"))), 80)
			}
		})
	}
	assert.Equal(t, "203.0.113.120\n203.0.113.121\n", run(t, "ask", "--lab", "www.hollowtarn.example", "-t", "A", "--bare").stdout)
	assert.Contains(t, run(t, "ask", "--lab", "www.hollowtarn.example", "--color", "always").stdout, "\x1b[")
}

// TestBadInput holds that a mistake is answered by one sentence that names the
// thing, a remedy, and the right exit code.
func TestBadInput(t *testing.T) {
	folder := t.TempDir()
	file := func(name string, data []byte) string {
		path := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(path, data, 0o600))
		return path
	}
	for _, tt := range []struct {
		name string
		args []string
		code int
		want string
	}{
		{"a label too long", []string{"ask", strings.Repeat("a", 64) + ".example"}, 2, "label is longer than 63 bytes"},
		{"a name too long", []string{"ask", strings.Repeat("abcdefg.", 32) + "example"}, 2, "name is longer than 255 bytes"},
		{"an empty label", []string{"trace", "a..example"}, 2, `"a..example": empty label`},
		{"an unknown type", []string{"ask", "a.example", "-t", "TARN"}, 2, `"TARN": unknown record type`},
		{"a resolver that is none", []string{"ask", "a.example", "--from", "tarn"}, 2, `"tarn": not a resolver`},
		{"no name", []string{"ask"}, 2, "missing argument"},
		{"an unknown command", []string{"tarn"}, 2, "unquil tarn: there is no such command"},
		{"an unknown option", []string{"ask", "--tarn"}, 2, "--tarn after unquil ask: there is no such option"},
		{"an unknown letter", []string{"ask", "a.example", "-z"}, 2, "-z after unquil ask: there is no such option"},
		{"an option without its value", []string{"ask", "a.example", "--type"}, 2, "--type: its value is missing"},
		{"a number that is none", []string{"ask", "a.example", "--attempts", "x"}, 2, `--attempts "x": not a whole number`},
		{"a time without a unit", []string{"ask", "a.example", "--wait", "2"}, 2, `--wait "2": not a duration`},
		{"yes in another word", []string{"ask", "a.example", "--ipv4=perhaps"}, 2, `--ipv4 "perhaps": neither true nor false`},
		{"a packet that nobody counts", []string{"decode", "valley-morning.pcapng", "--packet", "0"}, 2, "--packet 0: the capture has no packet with this number"},
		{"a colour that is none", []string{"ask", "a.example", "--color", "green"}, 2, `--color "green"`},
		{"tries out of range", []string{"ask", "a.example", "--attempts", "-1"}, 2, "out of range"},
		{"a file that is not there", []string{"decode", "gone.pcap"}, 1, "gone.pcap"},
		{"an empty file", []string{"decode", file("empty.pcap", nil)}, 1, "the file is empty"},
		{"a file that is no capture", []string{"decode", file("letter.txt", []byte("dear technician"))}, 1, "neither a capture nor a server's record"},
		{"root hints without roots", []string{"trace", "a.example", "--lab", "--roots", file("hints", []byte("a. 60 A 192.0.2.1\n"))}, 1, "no root server"},
		{"root hints that cannot be read", []string{"trace", "a.example", "--lab", "--roots", file("bad", []byte(". 60 NS\n"))}, 1, "bad line 1 column 8: NSDNAME: value is missing"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			o := run(t, tt.args...)
			assert.Equal(t, tt.code, o.code)
			assert.Contains(t, o.stderr, tt.want)
			assert.Empty(t, o.stdout)
			lines := strings.Split(strings.TrimSpace(o.stderr), "\n")
			require.LessOrEqual(t, len(lines), 2, o.stderr)
			assert.True(t, strings.HasPrefix(lines[0], "unquil: "))
		})
	}
}

func TestDecodeMessage(t *testing.T) {
	signed, err := recording.SignedAnswer()
	require.NoError(t, err)
	raw := filepath.Join(t.TempDir(), "answer.bin")
	require.NoError(t, os.WriteFile(raw, signed, 0o600))
	inHex := filepath.Join(t.TempDir(), "answer.txt")
	require.NoError(t, os.WriteFile(inHex, []byte(hex.EncodeToString(signed[:50])+"\n"+hex.EncodeToString(signed[50:])+"\n"), 0o600))
	whole := run(t, "decode", "--message", raw)
	assert.Zero(t, whole.code, whole.stderr)
	for _, same := range [][]string{{inHex}, {hex.EncodeToString(signed)}, {base64.StdEncoding.EncodeToString(signed)}, {"signed-answer.dns", "--lab"}} {
		assert.Equal(t, whole, run(t, append([]string{"decode", "--message"}, same...)...))
	}
	text := squeezed(whole)
	for _, want := range []string{"a reply about piste.hollowtarn.example HTTPS: answered", `SvcParamValue "h2,h3"`, "whoever does not know the tag must not issue (critical)",
		"Bitmap A AAAA RRSIG HTTPS", "INFO-CODE 3 Stale Answer", `"two of three servers are silent"`, "LATITUDE 47 16 24.500 N"} {
		assert.Contains(t, text, want)
	}
	for line := range strings.Lines(whole.stdout) {
		assert.LessOrEqual(t, len([]rune(line)), 81)
	}
	broken := run(t, "decode", "--lab", "--message", "broken-answer.dns")
	assert.Equal(t, 3, broken.code)
	assert.Contains(t, squeezed(broken), "cannot be read to its end: SvcParams at byte 57: RDATA ends too soon. malformed")
	assert.NotContains(t, broken.stdout, "NODATA", "what it would have said is not known")
	assert.Contains(t, broken.stdout, "piste.hollowtarn.example.", "what comes before the break is named")
	d, code := runJSON(t, "decode", "--message", raw)
	assert.Zero(t, code)
	var result struct {
		Message wire.Message
		Pieces  []struct{ Bytes string }
	}
	require.NoError(t, json.Unmarshal(d.Result, &result))
	again := ""
	for _, p := range result.Pieces {
		again += p.Bytes
	}
	assert.Equal(t, hex.EncodeToString(signed), again, "the pieces are the whole message")
	for _, bad := range [][]string{{"--message", "tarn?"}, {"--message", ""}, {"--message", "00", "file.pcap"}, {}} {
		o := run(t, append([]string{"decode"}, bad...)...)
		assert.Equal(t, 2, o.code, "%v", bad)
	}
}

func TestAskShowsBytesAndUnicodeNames(t *testing.T) {
	o := run(t, "ask", "--lab", "Hütte.hollowtarn.example", "-t", "A", "--wire")
	assert.Zero(t, o.code, o.stderr)
	for _, want := range []string{"xn--htte-0ra.hollowtarn.example (hütte.hollowtarn.example)", "203.0.113.67", "exchange 1, asked of office", "exchange 1, replied by office", "recursion available", "QTYPE"} {
		assert.Contains(t, o.stdout, want)
	}
}

// When not even a root server can be reached, that says nothing of the name:
// the walk is told as not done, and the resolvers' answers still count.
func TestNoWayToTheRoots(t *testing.T) {
	hints := filepath.Join(t.TempDir(), "hints")
	require.NoError(t, os.WriteFile(hints, []byte(". 60 NS gone.roots.test.\ngone.roots.test. 60 A 192.0.2.200\n"), 0o600))
	o := run(t, "trace", "--lab", "--roots", hints, "www.hollowtarn.example")
	assert.Equal(t, 1, o.code)
	assert.Contains(t, o.stderr, "no root server could be reached")
	assert.NotContains(t, o.stdout, "fault")
	o = run(t, "why", "--lab", "--roots", hints, "www.hollowtarn.example")
	assert.Zero(t, o.code)
	assert.Contains(t, squeezed(o), "the zone's own servers could not be compared")
	assert.Contains(t, o.stdout, "  unknown ")
}

func TestDemoRunsThrough(t *testing.T) {
	o := run(t, "demo")
	require.Zero(t, o.code, o.stderr)
	assert.Equal(t, 15, strings.Count(o.stdout, "type: unquil "))
	session := run(t, "demo", "--step", "4")
	assert.Equal(t, 6, strings.Count(session.stdout, "\nask "), "a session of six lines")
	assert.Contains(t, squeezed(session), "ask ns.farhost.test for A: note")
	assert.Contains(t, o.stdout, "To hand over:")
}

func TestInterruptEndsAtOnceAndShowsWhatIsKnown(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("no interrupt can be sent there")
	}
	cmd := exec.Command(program, "trace", "--lab", "summit.camera.hollowtarn.example", "--wait", "1m")
	var stdout, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	require.NoError(t, cmd.Start())
	time.Sleep(700 * time.Millisecond) // the walk is at the silent servers by now
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	cmd.Wait()
	assert.Equal(t, 1, cmd.ProcessState.ExitCode())
	assert.Contains(t, stdout.String(), "refer to camera.hollowtarn.example")
	assert.Contains(t, stdout.String(), "unknown: interrupted before a reply")
	assert.NotContains(t, stdout.String(), "no-reply", "what was not waited for is not blamed")
	assert.Contains(t, stderr.String(), "interrupted before the end")
}

// A real server on a real socket: no lab in between.
func TestAskOverTheRealNetwork(t *testing.T) {
	conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	defer conn.Close()
	go func() {
		buf := make([]byte, 512)
		for {
			n, from, err := conn.ReadFromUDPAddrPort(buf)
			if err != nil {
				return
			}
			out := append([]byte(nil), buf[:n]...)
			out[2], out[3] = 0x85, 0x83 // a reply, authoritative: no such name
			conn.WriteToUDPAddrPort(out, from)
		}
	}()
	o := run(t, "ask", "nothing.example", "--from", strings.Replace(conn.LocalAddr().String(), ":", "#", 1))
	assert.Zero(t, o.code, o.stderr)
	assert.Contains(t, o.stdout, "no such name (NXDOMAIN)")
}

func BenchmarkStart(b *testing.B) {
	for b.Loop() {
		if err := exec.Command(program, "--version").Run(); err != nil {
			b.Fatal(err)
		}
	}
}
