package test

import (
	"bytes"
	"compress/gzip"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/wire"
	"unquil/lab/recording"
)

// captures writes the lab's captures to a folder.
func captures(t testing.TB) string {
	folder := t.TempDir()
	for name, content := range recording.Files {
		data, err := content()
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), data, 0o600))
	}
	return folder
}

// lines are the JSON lines of a capture: the exchanges, and the summary.
func lines(t testing.TB, args ...string) (exchanges []map[string]any, summary map[string]any) {
	o := run(t, append([]string{"decode", "--json"}, args...)...)
	decoder := json.NewDecoder(strings.NewReader(o.stdout))
	for decoder.More() {
		var line map[string]any
		require.NoError(t, decoder.Decode(&line), "%s", o.stderr)
		exchanges = append(exchanges, line)
	}
	require.NotEmpty(t, exchanges, "%s", o.stderr)
	last := exchanges[len(exchanges)-1]
	return exchanges[:len(exchanges)-1], last["summary"].(map[string]any)
}

// Beyond what is kept of a large capture, whatever the overview points at can still be
// Signatures of a capture are checked by its own keys, as of the time of its packets.
func TestDecodeChecksSignatures(t *testing.T) {
	kept := filepath.Join(t.TempDir(), "kept.pcapng")
	run(t, "why", "--lab", "valley.gates.hollowtarn.example", "--from", "public", "--keep", kept)
	o := run(t, "decode", "--lab", kept, "--all")
	o.holds(t, 3, []string{"fault The signature over", "of gates.hollowtarn.example ran out at 06:00 on 9 March 2026, and so it is with", "--view exchanges --signed bogus",
		"8 bogus", "secure, with the whole chain of trust in the capture"}, []string{"ran out at 07:40"})
	names := func(state string) (rows []string) {
		var d struct {
			Summary struct {
				Names      struct{ Rows []struct{ Key string } }
				Signatures struct{ Names map[string][]string }
			}
		}
		lines := strings.Split(strings.TrimSpace(run(t, "decode", "--lab", kept, "--view", "names", "--signed", state, "--json").stdout), "\n")
		require.NoError(t, json.Unmarshal([]byte(lines[len(lines)-1]), &d))
		for _, row := range d.Summary.Names.Rows {
			rows = append(rows, row.Key)
		}
		assert.Len(t, d.Summary.Signatures.Names[state], len(rows), state)
		return rows
	}
	assert.ElementsMatch(t, []string{"*.gates.hollowtarn.example", "gates.hollowtarn.example", "valley.gates.hollowtarn.example"}, names("bogus"))
	assert.Contains(t, names("secure"), "hollowtarn.example")
	assert.NotContains(t, run(t, "decode", "--lab", kept, "--no-validate").stdout, "signatures")
	assert.NotContains(t, run(t, "decode", kept).stdout, "secure, with", "the published anchors are not the lab's")
	for next, options := range map[string][]string{"give --signed bogus": {"--signed", "well"}, "leave one of them out": {"--signed", "bogus", "--no-validate"}} {
		refused := run(t, append([]string{"decode", "--lab", kept}, options...)...)
		refused.holds(t, 2, nil, nil)
		assert.Contains(t, refused.stderr, "next: "+next)
	}
}

// looked at, judged and handed over.
func TestLateInALargeCapture(t *testing.T) {
	large := filepath.Join(t.TempDir(), "large.pcap.gz")
	file, err := os.Create(large)
	require.NoError(t, err)
	packed := gzip.NewWriter(file)
	w, err := capture.NewWriter(packed, capture.Ethernet)
	require.NoError(t, err)
	at, number := time.Date(2026, 3, 9, 7, 40, 0, 0, time.UTC), 0
	exchange := func(name string, rcode wire.RCode, answer ...wire.Record) int {
		number++
		client, server := netip.AddrPortFrom(netip.MustParseAddr("192.0.2.21"), uint16(1024+number)), netip.MustParseAddrPort("192.0.2.53:53")
		m := wire.Message{ID: uint16(number), Flags: wire.RD, Questions: []wire.Question{{Name: wire.MustParseName(name), Type: wire.A, Class: wire.IN}}}
		query, err := m.Bytes()
		require.NoError(t, err)
		m.Flags, m.Answer = wire.RD|wire.RA|wire.QR|wire.Flags(rcode), answer
		reply, err := m.Bytes()
		require.NoError(t, err)
		require.NoError(t, w.Packet(at, capture.AppendFrame(nil, client, server, query), ""))
		require.NoError(t, w.Packet(at.Add(2*time.Millisecond), capture.AppendFrame(nil, server, client, reply), ""))
		at = at.Add(5 * time.Millisecond)
		return number
	}
	record := func(name string, of wire.Type, value string) wire.Record {
		data, err := wire.ParseRecordData(of, wire.IN, value)
		require.NoError(t, err)
		return wire.Record{Name: wire.MustParseName(name), Type: of, Class: wire.IN, TTL: 300, Data: data}
	}
	address := record("web.hollowtarn.example", wire.A, "203.0.113.120")
	for range 20_500 {
		exchange("web.hollowtarn.example", 0, address)
	}
	alias := exchange("www.hollowtarn.example", 0, record("www.hollowtarn.example", wire.CNAME, "web.hollowtarn.example."))
	followed := exchange("web.hollowtarn.example", 0, address)
	failed := exchange("tickets.hollowtarn.example", wire.ServFail)
	again := exchange("tickets.hollowtarn.example", wire.ServFail)
	require.NoError(t, packed.Close())
	require.NoError(t, file.Close())

	for _, tt := range []struct {
		name       string
		args       []string
		code       int
		want, lack []string
	}{
		{"an exchange and what its client asked next", []string{"decode", large, "--exchange", fmt.Sprint(alias)}, 0, []string{"www.hollowtarn.example A", fmt.Sprintf("the alias exchange %d, web.hollowtarn.example A of 192.0.2.53: 203.0.113.120", followed)}, nil},
		{"one that failed and was asked again", []string{"decode", large, "--exchange", fmt.Sprint(failed)}, 0, []string{"server-failure", fmt.Sprintf("then exchange %d, tickets.hollowtarn.example A of 192.0.2.53: server-failure", again)}, nil},
		{"no such exchange", []string{"decode", large, "--exchange", "99999"}, 2, nil, nil},
		{"the verdict on all of it", []string{"why", "--capture", large}, 3, []string{"fault tickets.hollowtarn.example: 192.0.2.53 could not get an answer", fmt.Sprintf("exchanges %d, %d", failed, again)}, []string{"not judged"}},
		{"the verdict on a name", []string{"why", "--capture", large, "tickets.hollowtarn.example"}, 3, []string{"asked 2 times by 1 client"}, nil},
		{"more than is kept of one name", []string{"why", "--capture", large, "web.hollowtarn.example"}, 0, []string{"nothing wrong", "asked 20,501 times by 1 client"}, nil},
	} {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			run(t, tt.args...).holds(t, tt.code, tt.want, tt.lack)
		})
	}
	t.Run("the report of standard input", func(t *testing.T) {
		t.Parallel()
		report := filepath.Join(t.TempDir(), "late.md")
		stdin, err := os.Open(large)
		require.NoError(t, err)
		defer stdin.Close()
		cmd := exec.Command(program, "decode", "-", "--report", report)
		cmd.Stdin = stdin
		output, err := cmd.CombinedOutput()
		require.ErrorContains(t, err, "exit status 3", "%s", output)
		text, err := os.ReadFile(report)
		require.NoError(t, err)
		assert.Contains(t, string(text), "The evidence packets are in late.pcapng; those of 502 more exchanges are not.")
		assert.True(t, strings.Contains(string(text), fmt.Sprintf("\n### Exchange %d\n", failed)), "the evidence is listed")
	})
}

// The same capture comes to the same each time, and on one processor as on several: the hashes by which its messages
// are found are others in each run.
func TestSameEachTime(t *testing.T) {
	busy := filepath.Join(t.TempDir(), "busy.pcap")
	file, err := os.Create(busy)
	require.NoError(t, err)
	_, err = recording.WriteVaried(file, 60_000, recording.Pcap)
	require.NoError(t, err)
	require.NoError(t, file.Close())
	for _, options := range [][]string{{"--all"}, {"--csv"}, {"--json", "--view", "clients"}, {"--view", "names", "--csv"}, {"--view", "servers", "--csv"}, {"--view", "timeline", "--csv"}, {"--view", "episodes", "--csv"}, {"--finding", "half-fails", "--csv"}} {
		t.Run(strings.Join(options, " "), func(t *testing.T) {
			t.Parallel()
			first := run(t, append([]string{"decode", busy}, options...)...)
			require.Equal(t, 3, first.code, first.stderr)
			for _, processors := range []string{"1", "2"} {
				cmd := exec.Command(program, append([]string{"decode", busy}, options...)...)
				cmd.Env = append(os.Environ(), "GOMAXPROCS="+processors)
				again, err := cmd.Output()
				require.ErrorContains(t, err, "exit status 3")
				if first.stdout != string(again) {
					a, b := strings.Split(first.stdout, "\n"), strings.Split(string(again), "\n")
					for i := range min(len(a), len(b)) {
						require.Equal(t, a[i], b[i], "line %d", i+1)
					}
					require.Len(t, b, len(a))
				}
			}
		})
	}
}

// commandOf finds the commands that show the exchanges behind a finding.
var commandOf = regexp.MustCompile(`unquil decode (\S+ --lab(?: --(?:view exchanges|finding \S+|outcome \S+|client \S+|server \S+|exchange \d+))+)`)

// Each finding that the scenario says a capture holds is found, as heavy as it is
// said to be, and no other fault is.
func TestCapturesShowWhatTheyHold(t *testing.T) {
	folder := captures(t)
	faults := map[string]int{}
	for _, want := range scenario(t).Captured {
		if want.Severity == "fault" {
			faults[want.File]++
		}
		t.Run(want.File+" "+want.Finding+" "+want.About, func(t *testing.T) {
			_, summary := lines(t, filepath.Join(folder, want.File))
			found := false
			for _, f := range summary["findings"].([]any) {
				f := f.(map[string]any)
				found = found || f["code"] == want.Finding && f["severity"] == want.Severity && strings.Contains(f["text"].(string), want.About)
			}
			assert.True(t, found)
		})
	}
	for file, n := range faults {
		path := filepath.Join(folder, file)
		_, summary := lines(t, path)
		got := 0
		commands := commandOf.FindAllStringSubmatch(squeezed(run(t, "decode", "--lab", file, "--all")), -1)
		for _, f := range summary["findings"].([]any) {
			f := f.(map[string]any)
			if f["severity"] == "fault" {
				got++
			}
			evidence, _ := f["evidence"].([]any)
			if len(evidence) == 0 {
				continue
			}
			next := commands[0]
			commands = commands[1:]
			if _, number, one := strings.Cut(next[1], "--exchange "); one {
				assert.Equal(t, fmt.Sprint(evidence), "["+number+"]", "what is shown of %s in %s", f["code"], file)
				continue
			}
			chosen, _ := lines(t, strings.Fields(next[1])...)
			var numbers []any
			for _, e := range chosen {
				numbers = append(numbers, e["number"])
			}
			assert.Subset(t, numbers, evidence, "%s shows %s in %s", next[1], f["code"], file)
		}
		assert.Empty(t, commands)
		if file != "resolver-uplink.pcap" { // where each of the servers that fail is one
			assert.Equal(t, n, got, "faults in %s", file)
		}
	}
}

func TestDecodeViews(t *testing.T) {
	folder := captures(t)
	morning, uplink := filepath.Join(folder, "valley-morning.pcapng"), filepath.Join(folder, "resolver-uplink.pcap")
	mangled, copied := filepath.Join(folder, "mangled.pcapng"), filepath.Join(folder, "copied.pcapng")
	for _, tt := range []struct {
		name string
		args []string
		code int
		want []string
		not  []string
	}{
		{"the overview", []string{morning}, 3, []string{"7 of 360 exchanges failed", "12 more findings", "--all for all of it"}, []string{"next:"}},
		{"all of the overview", []string{morning, "--all"}, 3, []string{"7 of 360 exchanges failed", "--view exchanges --finding unanswered --client 192.0.2.140", "public.resolvers.test", "phone.hollowtarn.example A from 192.0.2.53"}, nil},
		{"exchanges", []string{morning, "--view", "exchanges"}, 3, []string{"3 07:40:02.100 tickets.hollowtarn.example A: 203.0.113.80 in 0.4 ms (192.0.2.21 queried 192.0.2.53)", "retried in exchange"}, nil},
		{"names", []string{morning, "--view", "names"}, 3, []string{"www.hollowtarn.example"}, []string{"estimate"}},
		{"servers", []string{morning, "--view", "servers"}, 3, []string{"192.0.2.53 354 4 14 8", "count down from answer to answer): 192.0.2.53", "192.0.2.66 2 2 0 1 - - -"}, nil},
		{"clients", []string{morning, "--view", "clients"}, 3, []string{"192.0.2.140"}, nil},
		{"episodes", []string{morning, "--view", "episodes", "--client", "192.0.2.71"}, 3, []string{"192.0.2.71 sent 30 queries within 1", "part14.guest.hollowtarn.example AAAA"}, nil},
		{"walks", []string{uplink, "--view", "walks"}, 3, []string{"www.hollowtarn.example A reaches 203.0.113.120", "for 192.0.2.21 (exchange 1)", ". 198.51.100.1: referred to example", "status.lifts.hollowtarn.example A stops at 198.51.100.91", "without authority"}, nil},
		{"no walks", []string{morning, "--view", "walks"}, 3, []string{"no walk"}, nil},
		{"the local link", []string{morning, "--view", "local-link"}, 3, []string{"both claim printer.local", "192.0.2.51 says A 192.0.2.51, for itself only", "nobody claims it"}, nil},
		{"the timeline", []string{morning, "--view", "timeline"}, 3, []string{"a column is", "07:40:00"}, nil},
		{"one exchange", []string{morning, "--exchange", "3"}, 0, []string{"question reply", "IPv4 from 192.0.2.21", "recursion available", "TTL 41 min 18 s (2478)", "sibling exchange 4"}, nil},
		{"one exchange with its bytes", []string{morning, "--exchange", "3", "--wire"}, 0, []string{"QNAME tickets.hollowtarn.example.", "ADDRESS 203.0.113.80"}, nil},
		{"one that was asked again", []string{morning, "--exchange", "43"}, 0, []string{"retry in packet"}, nil},
		{"one that is not there", []string{morning, "--exchange", "9999"}, 2, nil, nil},
		{"one with two replies", []string{morning, "--exchange", "34"}, 0, []string{"192.0.2.98 TTL 1 min", "the other reply, packet 80", "says 203.0.113.140"}, nil},
		{"one whose reply was cut", []string{mangled, "--exchange", "2"}, 0, []string{"of which the capture has 72 of 125 bytes", "additional, as its header says"}, []string{"a second reply"}},
		{"one whose reply was cut, with its bytes", []string{mangled, "--exchange", "2", "--wire"}, 0, []string{"packet 4, from 192.0.2.53", "2 8180 flags"}, nil},
		{"one that somebody guessed at", []string{mangled, "--exchange", "5"}, 0, []string{"5 replies came with wrong IDs"}, nil},
		{"one as CSV", []string{mangled, "--exchange", "2", "--csv"}, 0, []string{"2,2026-03-09T07:40:02Z,192.0.2.21,64234,192.0.2.53,53,udp,web.hollowtarn.example.,A,cut-off"}, []string{"www."}},
		{"the packets of one", []string{mangled, "--exchange", "2", "--to", copied}, 0, []string{"2 packets of 1 exchange written"}, nil},
		{"one as JSON that is not there", []string{morning, "--exchange", "9999", "--json"}, 2, nil, []string{"{"}},
		{"a packet", []string{morning, "--packet", "1"}, 0, []string{"packet 1, 192.0.2.21 to 192.0.2.53: a question about www.hollowtarn.example A", "part of exchange 1"}, []string{"QNAME"}},
		{"a packet with its bytes", []string{morning, "--packet", "1", "--wire"}, 0, []string{"14 4500004f00004000 IPv4", "QNAME www.hollowtarn.example."}, nil},
		{"a packet of the local link", []string{morning, "--packet", "35"}, 0, []string{"printer.local A 192.0.2.41 TTL 2 min (120), replacing all that was cached before"}, nil},
		{"a segment", []string{morning, "--packet", "16"}, 0, []string{"a TCP segment with 769 bytes of its stream", "ends of exchange 6"}, nil},
		{"an ICMP error", []string{morning, "--packet", "126"}, 0, []string{"192.0.2.60 reports that a packet from 192.0.2.71 did not reach 192.0.2.60: nothing listens there", "part of exchange 56"}, nil},
		{"a packet with broken headers", []string{mangled, "--packet", "7"}, 0, []string{"cannot be read: UDP at byte 34: it is said to be larger than what carries it", "34 ebaf0035403ddd27 unread"}, nil},
		{"a packet with a broken message", []string{mangled, "--packet", "6"}, 0, []string{"compression pointer does not point back to a name", "EDNS not known"}, nil},
		{"a packet put together", []string{mangled, "--packet", "11", "--wire"}, 0, []string{"fragments put together from 2", "the message in it, put together from fragments", "part of exchange 3"}, nil},
		{"a reply that nobody asked for", []string{mangled, "--packet", "15"}, 0, []string{"part of no exchange in the capture"}, nil},
		{"a packet as JSON", []string{mangled, "--packet", "7", "--json"}, 0, []string{`"broken": "UDP at byte 34: it is said to be larger than what carries it"`, `"name": "IPv4", "offset": 14, "size": 20`}, nil},
		{"a packet that is not there", []string{morning, "--packet", "9999"}, 2, nil, nil},
		{"a packet and an exchange", []string{morning, "--packet", "1", "--exchange", "1"}, 2, nil, nil},
		{"by name and type", []string{morning, "--view", "exchanges", "--name", "tick*", "--type", "aaaa"}, 0, []string{"tickets.hollowtarn.example AAAA"}, []string{"tickets.hollowtarn.example A:", "www."}},
		{"by zone", []string{uplink, "--view", "exchanges", "--under", "farhost.test"}, 0, []string{"book.lodge.farhost.test"}, []string{"hollowtarn"}},
		{"by outcome", []string{morning, "--view", "exchanges", "--outcome", "server-failure"}, 3, []string{"server-failure"}, []string{"no-name"}},
		{"by server and time taken", []string{morning, "--view", "exchanges", "--server", "192.0.2.0/24", "--slower", "2s"}, 3, []string{"summit.camera.hollowtarn.example A"}, []string{"ridge.north"}},
		{"by time", []string{morning, "--view", "exchanges", "--between", "07:40:02,07:40:05"}, 0, []string{"tickets.hollowtarn.example A", "timetable.hollowtarn.example TXT"}, []string{"www."}},
		{"by finding", []string{morning, "--view", "exchanges", "--finding", "half-fails"}, 3, []string{"web.hollowtarn.example AAAA: server-failure"}, []string{"tickets"}},
		{"by a condition", []string{morning, "--view", "exchanges", "--where", `outcome = no-name and client = 192.0.2.22 and took > 21ms`}, 3, []string{"tikets.hollowtarn.example A: no-name"}, []string{"farhost"}},
		{"by ID", []string{morning, "--view", "exchanges", "--id", "19805"}, 0, []string{"tickets.hollowtarn.example A"}, []string{"AAAA"}},
		{"findings are narrowed too", []string{morning, "--client", "192.0.2.21"}, 3, []string{"status.lifts.hollowtarn.example"}, []string{"192.0.2.66", "no-name-burst"}},
		{"nothing that was selected", []string{morning, "--view", "exchanges", "--id", "0"}, 0, []string{"no exchange to show: none of 360 fits the selection"}, nil},
		{"nothing in the overview", []string{morning, "--id", "0", "--all"}, 0, []string{"none of 360 exchanges fits the selection.", "duplicates 1 packet captured twice"}, []string{"failed"}},
		{"a view that is none", []string{morning, "--view", "everything"}, 2, nil, nil},
		{"a condition that is none", []string{morning, "--where", "took >"}, 2, nil, nil},
		{"a condition over nothing", []string{morning, "--where", "colour == 3"}, 2, nil, nil},
		{"times that are none", []string{morning, "--between", "noon"}, 2, nil, nil},
		{"a finding that is none", []string{morning, "--finding", "gremlins"}, 2, nil, nil},
		{"two files as one", []string{morning, uplink}, 3, []string{"of 388 exchanges failed"}, nil},
	} {
		t.Run(tt.name, func(t *testing.T) {
			o := run(t, append([]string{"decode"}, tt.args...)...)
			o.holds(t, tt.code, tt.want, tt.not)
			if tt.code == 2 {
				assert.Regexp(t, `next: |"next":`, o.stderr)
			}
		})
	}
}

// Every view of every capture is drawn, and nothing from a packet reaches the
// terminal raw.
func TestEveryViewOfEveryCapture(t *testing.T) {
	folder := captures(t)
	for name := range recording.Files {
		if !strings.Contains(name, ".pcap") {
			continue
		}
		for _, args := range [][]string{{"--view", "overview"}, {"--view", "exchanges"}, {"--view", "names"}, {"--view", "servers"}, {"--view", "clients"}, {"--view", "episodes"},
			{"--view", "walks"}, {"--view", "local-link"}, {"--view", "timeline"}, {"--exchange", "2"}, {"--exchange", "3", "--wire"}, {"--json"}, {"--csv"}} {
			o := run(t, append([]string{"decode", filepath.Join(folder, name)}, args...)...)
			assert.NotEmpty(t, o.stdout, "%s %s", name, args)
			assert.NotContains(t, o.stdout, "\x1b", "%s %s", name, args)
			assert.NotContains(t, o.stdout, "\x07", "%s %s", name, args)
			assert.Empty(t, o.stderr, "%s %s", name, args)
		}
	}
}

// What is drawn keeps to the width that is asked for, down to 60 columns; what cannot be broken, such as a command to
// paste, may be longer.
func TestWidths(t *testing.T) {
	for _, args := range []string{"ask www.hollowtarn.example", "reverse 203.0.113.25", "compare tickets.hollowtarn.example --from office,isp --zone-servers", "trace tickets.hollowtarn.example",
		"zone hollowtarn.example", "zone hollowtarn.example --try-transfer", "mail hollowtarn.example", "owner hollowtarn.example", "why tickets.hollowtarn.example", "why north.hollowtarn.example", "local", "findings", "lab show", "transfer hollowtarn.example --from ns.farhost.test",
		"decode valley-morning.pcapng", "decode valley-morning.pcapng --view names", "decode valley-morning.pcapng --view servers", "decode valley-morning.pcapng --view clients", "decode valley-morning.pcapng --view exchanges",
		"decode valley-morning.pcapng --view timeline", "decode valley-morning.pcapng --view episodes", "decode resolver-uplink.pcap --view walks", "decode valley-morning.pcapng --view local-link", "decode valley-morning.pcapng --exchange 3"} {
		for _, width := range []int{60, 80} {
			t.Run(fmt.Sprintf("%s in %d", args, width), func(t *testing.T) {
				t.Parallel()
				o := run(t, append(strings.Fields(args), "--lab", "--width", fmt.Sprint(width))...)
				require.NotEmpty(t, o.stdout, o.stderr)
				for _, line := range strings.Split(o.stdout, "\n") {
					if words := strings.Fields(line); len(words) > 1 && !strings.Contains(line, "unquil ") {
						assert.LessOrEqual(t, utf8.RuneCountInString(line), width, line)
					}
				}
			})
		}
	}
}

func TestDecodeForms(t *testing.T) {
	folder := captures(t)
	morning := filepath.Join(folder, "valley-morning.pcapng")
	exchanges, summary := lines(t, morning, "--view", "servers")
	assert.Len(t, exchanges, 360)
	assert.NotEmpty(t, summary["servers"])
	rows, err := csv.NewReader(strings.NewReader(run(t, "decode", morning, "--csv").stdout)).ReadAll()
	require.NoError(t, err)
	assert.Len(t, rows, 361)

	// What is chosen by a finding says so, each exchange and the summary.
	for _, code := range []string{"suffix-appended", "no-name-burst", "half-fails"} {
		exchanges, summary := lines(t, morning, "--finding", code)
		for _, e := range exchanges {
			assert.Contains(t, e["findings"], code)
		}
		told := fmt.Sprint(summary["findings"])
		assert.Contains(t, told, "code:"+code)
		assert.Contains(t, told, "that 1 client looked up", "of those chosen")
	}

	// What is chosen can be written, and reads back as what it was.
	chosen := filepath.Join(folder, "chosen.pcapng")
	o := run(t, "decode", morning, "--name", "timetable*", "--to", chosen)
	assert.Contains(t, o.stdout, "packets of 2 exchanges written")
	back, _ := lines(t, chosen)
	require.Len(t, back, 2)
	assert.Equal(t, "truncated", back[0]["outcome"])
	assert.Equal(t, "answered", back[1]["outcome"], "with all of its TCP connection")
	torn := filepath.Join(folder, "fragments.pcapng")
	assert.Zero(t, run(t, "decode", filepath.Join(folder, "mangled.pcapng"), "--where", `type = TXT and took > 0s`, "--to", torn).code)
	back, _ = lines(t, torn)
	require.NotEmpty(t, back)
	assert.Equal(t, "answered", back[0]["outcome"], "with all of its fragments")

	data, err := os.ReadFile(morning)
	require.NoError(t, err)
	t.Run("packed", func(t *testing.T) {
		var packed bytes.Buffer
		w := gzip.NewWriter(&packed)
		w.Write(data)
		w.Close()
		path := filepath.Join(folder, "morning.pcapng.gz")
		require.NoError(t, os.WriteFile(path, packed.Bytes(), 0o600))
		assert.Contains(t, run(t, "decode", path).stdout, "7 of 360 exchanges failed")
	})
	t.Run("host names in the file", func(t *testing.T) {
		record := "\x01\x00\x11\x00" + "\xc0\x00\x02\x35office \x1b[31m\x00" + "\x00\x00\x00" // an IPv4 address and its name
		block := "\x04\x00\x00\x00\x28\x00\x00\x00" + record + "\x00\x00\x00\x00" + "\x28\x00\x00\x00"
		path := filepath.Join(folder, "named.pcapng")
		require.NoError(t, os.WriteFile(path, append(bytes.Clone(data), block...), 0o600))
		run(t, "decode", path, "--view", "servers").holds(t, 3, []string{`192.0.2.53 office \027[31m 354`}, []string{"\x1b"})
		run(t, "decode", path, "--exchange", "3").holds(t, 0, []string{`the file names 192.0.2.53 office`}, []string{"\x1b"})
		_, summary := lines(t, path, "--view", "servers")
		first := summary["servers"].(map[string]any)["rows"].([]any)[0].(map[string]any)
		assert.Contains(t, first["host"], "office")
	})
	t.Run("standard input", func(t *testing.T) {
		for _, args := range [][]string{{"decode", "-"}, {"decode", "-", "--exchange", "3"}} {
			cmd := exec.Command(program, args...)
			cmd.Stdin = bytes.NewReader(data)
			out, _ := cmd.Output()
			assert.Contains(t, string(out), "192.0.2.53")
		}
	})
	t.Run("cut", func(t *testing.T) {
		cut := filepath.Join(folder, "cut.pcapng")
		require.NoError(t, os.WriteFile(cut, data[:len(data)/2], 0o600))
		o := run(t, "decode", cut)
		assert.Equal(t, 1, o.code)
		assert.Contains(t, o.stderr, "the file ends in the middle of a packet")
		assert.Contains(t, o.stdout, "summit.camera.hollowtarn.example", "what came before the cut is shown")
	})
	t.Run("still being written", func(t *testing.T) {
		var out bytes.Buffer
		for _, wait := range []time.Duration{1500, 6000, 24000} { // longer where the machine is busy
			growing := filepath.Join(folder, "growing.pcapng")
			require.NoError(t, os.WriteFile(growing, data[:3000], 0o600))
			cmd := exec.Command(program, "decode", growing, "--follow-file")
			out.Reset()
			cmd.Stdout = &out
			require.NoError(t, cmd.Start())
			file, err := os.OpenFile(growing, os.O_APPEND|os.O_WRONLY, 0)
			require.NoError(t, err)
			file.Write(data[3000:])
			file.Close()
			time.Sleep(wait * time.Millisecond)
			require.NoError(t, cmd.Process.Signal(os.Interrupt))
			cmd.Wait()
			if strings.Contains(out.String(), "of 360 exchanges failed") {
				return
			}
		}
		assert.Fail(t, "what is written while it reads is not read", "%s", out.String())
	})
}

// What the other commands keep, decode reads back as the same exchanges.
func TestKeptFilesReadBack(t *testing.T) {
	for _, args := range [][]string{
		{"ask", "www.hollowtarn.example", "timetable.hollowtarn.example", "--type", "A,TXT", "--from", "office,isp"},
		{"trace", "tickets.hollowtarn.example"},
		{"trace", "summit.camera.hollowtarn.example", "--wait", "100ms", "--attempts", "1"},
		{"compare", "tickets.hollowtarn.example", "--from", "office,isp", "--zone-servers"},
	} {
		t.Run(args[0], func(t *testing.T) {
			keep := filepath.Join(t.TempDir(), "kept.pcapng")
			d, _ := runJSON(t, append(args, "--lab", "--keep", keep)...)
			count := map[string]int{}
			for _, e := range d.Exchanges {
				count[e.Question.Name+" "+e.Question.Type+" "+e.Outcome]++
			}
			back, _ := lines(t, keep)
			for _, e := range back {
				q := e["question"].(map[string]any)
				key := q["name"].(string) + " " + q["type"].(string) + " " + e["outcome"].(string)
				if e["outcome"] != "truncated" { // the same exchange goes on over TCP
					count[key]--
				}
			}
			for key, n := range count {
				assert.Zero(t, n, key)
			}
		})
	}
}

// A file may have any name: it is shown as it reads, and nothing in it reaches the terminal
// as a command. What to type next can be typed.
func TestDecodeShowsFileNamesSafely(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("such names cannot be given there")
	}
	content, err := os.ReadFile(filepath.Join(captures(t), "mangled.pcapng"))
	require.NoError(t, err)
	folder := t.TempDir()
	odd := filepath.Join(folder, "hütte it's\x1b[31m.pcapng")
	require.NoError(t, os.WriteFile(odd, content, 0o644))
	o := run(t, "decode", odd)
	assert.NotContains(t, o.stdout, "\x1b")
	assert.Contains(t, squeezed(o), `hütte it's\027[31m.pcapng: 8 exchanges`)
	assert.NotContains(t, run(t, "decode", odd+"?").stderr, "\x1b")
	plain := filepath.Join(folder, "it's $HOME.pcapng")
	require.NoError(t, os.WriteFile(plain, content, 0o644))
	next := regexp.MustCompile(`unsolicited-reply; unquil (.*? --exchange \d+)`).FindStringSubmatch(squeezed(run(t, "decode", plain, "--all")))
	require.NotNil(t, next)
	out, err := exec.Command("sh", "-c", program+" "+next[1]).CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Contains(t, string(out), "exchange 5")
}

// What is chosen is packed where the name of the file asks for it, and so is the evidence of a run; files of one's own
// come before the lab's, and a choice that nothing fits says of how many.
func TestPackedOutputs(t *testing.T) {
	folder := t.TempDir()
	for _, end := range []string{"", ".gz", ".zst"} {
		chosen := filepath.Join(folder, "failed.pcapng"+end)
		o := run(t, "decode", "--lab", "valley-morning.pcapng", "--outcome", "SERVFAIL", "--to", chosen)
		assert.Contains(t, o.stdout, "8 packets of 4 exchanges")
		assert.Contains(t, run(t, "decode", chosen).stdout, "4 of 4 exchanges failed")
		kept := filepath.Join(folder, "kept.pcapng"+end)
		require.Zero(t, run(t, "ask", "--lab", "www.hollowtarn.example", "--keep", kept).code)
		assert.Contains(t, run(t, "decode", kept).stdout, "2 exchanges, none of which failed")
	}
	assert.Contains(t, run(t, "decode", "--lab", "valley-morning.pcapng", "--name", "nosuch.example").stdout, "none of 360 exchanges fits the selection")
	t.Chdir(folder)
	data, err := os.ReadFile("failed.pcapng")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile("valley-morning.pcapng", data, 0o600))
	o := run(t, "decode", "--lab", "valley-morning.pcapng")
	assert.Contains(t, o.stdout, "4 of 4 exchanges failed")
	assert.Contains(t, o.stderr, "the lab's capture of that name is not read")
}

// Every view is a table of its own as CSV.
func TestViewsAsCSV(t *testing.T) {
	for view, heading := range map[string]string{"names": "name,exchanges,failed", "servers": "server,port,exchanges", "clients": "client,exchanges", "timeline": "begins,seconds,asked", "episodes": "client,begins,took",
		"walks": "resolver,name,type", "local-link": "name,asked,askers", "exchanges": "number,time,client,client_port"} {
		file := "valley-morning.pcapng"
		if view == "walks" {
			file = "resolver-uplink.pcap"
		}
		o := run(t, "decode", "--lab", file, "--view", view, "--csv")
		rows, err := csv.NewReader(strings.NewReader(o.stdout)).ReadAll()
		require.NoError(t, err, view)
		assert.Greater(t, len(rows), 1, view)
		assert.True(t, strings.HasPrefix(o.stdout, heading), "%s: %s", view, rows[0])
	}
	all := run(t, "decode", "--lab", "valley-morning.pcapng", "--view", "exchanges", "--all")
	assert.Len(t, strings.Split(strings.TrimSpace(all.stdout), "\n"), 360)
}
