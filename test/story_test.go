package test

import (
	"encoding/json"
	"fmt"
	"net"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/wire"
)

// told are commands that find something, or nothing.
var told = [][]string{
	{"ask", "www.hollowtarn.example"},
	{"ask", "gondola.hollowtarn.example", "mail.valley.hollowtarn.example", "-t", "A,MX", "--follow", "--from", "office,closed"},
	{"compare", "tickets.hollowtarn.example", "-t", "A", "--from", "office,isp", "--zone-servers"},
	{"compare", "web.hollowtarn.example", "--from", "office,isp,kiosk", "--wait", "100ms"},
	{"trace", "tickets.hollowtarn.example"},
	{"trace", "status.lifts.hollowtarn.example"},
	{"why", "summit.camera.hollowtarn.example", "-t", "A", "--wait", "100ms", "--attempts", "1"},
	{"why", "www.hollowtarn.example"},
	{"why", "www.mixed-bag.works.example", "-t", "A", "--wait", "1500ms", "--attempts", "1"},
	{"why", "www.mixed-bag.works.example", "www.given-up.works.example", "shop", "-t", "A", "--wait", "1500ms", "--attempts", "1", "--also", "isp"},
	{"why", "--capture", "valley-morning.pcapng"},
	{"why", "203.0.113.80"},
	{"zone", "valley.hollowtarn.example"},
	{"zone", "lifts.hollowtarn.example"},
	{"zone", "hollowtarn.example", "--try-transfer"},
	{"zone", "www.depot.hollowtarn.example", "--from", "ns.farhost.test"},
	{"trace", "book.lodge.hollowtarn.example", "--every-server"},
	{"trace", "www.depot.hollowtarn.example"},
	{"trace", "_sip._tcp.hollowtarn.example", "-t", "SRV", "--minimise"},
	{"trace", "www.hollowtarn.example", "--from", "second.registry.test"},
	{"transfer", "hollowtarn.example", "--from", "ns.farhost.test"},
	{"transfer", "hollowtarn.example", "--from", "dns1.hollowtarn.example"},
	{"decode", "mangled.pcapng"},
	{"decode", "loop.pcap"},
	{"decode", "resolver-uplink.pcap"},
	{"reverse", "203.0.113.80"},
	{"local", "shop"},
	{"decode", "valley-morning.pcapng"},
	{"decode", "--message", "broken-answer.dns"},
}

// The text and the JSON of a command tell the same findings with the same
// severities, and end with the same exit code.
func TestTextAndJSONTellTheSameStory(t *testing.T) {
	for _, args := range told {
		t.Run(strings.Join(args[:2], " "), func(t *testing.T) {
			t.Parallel()
			args := append([]string{"--lab"}, args...)
			whole := slices.Clone(args)
			if args[1] == "decode" && args[2] != "--message" {
				whole = append(whole, "--all")
			}
			text, asJSON := run(t, whole...), run(t, append(args, "--json")...)
			assert.Equal(t, text.code, asJSON.code)
			var d document
			if args[1] == "decode" && args[2] != "--message" {
				lines := strings.Split(strings.TrimSpace(asJSON.stdout), "\n")
				var last struct {
					Summary struct{ Findings json.RawMessage }
				}
				require.NoError(t, json.Unmarshal([]byte(lines[len(lines)-1]), &last))
				require.NoError(t, json.Unmarshal(last.Summary.Findings, &d.Findings))
			} else {
				require.NoError(t, json.Unmarshal([]byte(asJSON.stdout), &d), asJSON.stdout)
			}
			all := squeezed(text)
			worst := ""
			for _, f := range d.Findings {
				assert.Contains(t, all, f.Code)
				// A verdict joins the findings of one cause to one sentence.
				if args[1] != "why" {
					assert.Contains(t, all, words(f.Text))
				}
				assert.NotEmpty(t, f.Next)
				if f.Severity == "fault" {
					worst = "fault"
				}
			}
			assert.Equal(t, worst == "fault", text.code == 3)
		})
	}
}

// No line is wider than it may be, and colour changes nothing but colour.
func TestWidthsAndColours(t *testing.T) {
	t.Parallel()
	in := func(columns string, args ...string) string {
		return runIn(t, []string{"COLUMNS=" + columns, "TERM=xterm-256color"}, append([]string{"--lab"}, args...)...).stdout
	}
	for _, args := range told {
		for columns, limit := range map[string]int{"70": 70, "80": 80, "300": 120} {
			for line := range strings.Lines(in(columns, args...)) {
				assert.LessOrEqual(t, ansi.StringWidth(strings.TrimRight(line, "\n")), limit, "%v: %s", args, line)
			}
		}
	}
	for _, args := range [][]string{{"lab", "show"}, {"decode", "valley-morning.pcapng"}, {"decode", "--message", "signed-answer.dns"}} {
		coloured := in("80", append(args, "--color", "always")...)
		assert.Contains(t, coloured, "\x1b[")
		assert.Equal(t, in("80", args...), ansi.Strip(coloured))
	}
}

// ours are the control sequences that the program's own styles are made of.
var ours = regexp.MustCompile(`\x1b\[(0|1|2|31|32|33|34|36|;)*m`)

// What a server sends reaches neither a terminal nor a file as control bytes.
func TestNothingFromTheNetworkIsPrintedRaw(t *testing.T) {
	conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	defer conn.Close()
	evil := "\x1b]0;owned\x07\x1b[35m\r\n\x00\x9b"
	go func() {
		buf := make([]byte, 4096)
		for {
			n, from, err := conn.ReadFromUDPAddrPort(buf)
			if err != nil {
				return
			}
			m, _ := wire.ReadMessage(buf[:n])
			m.Flags |= wire.QR
			label, _ := wire.Root.Child(evil)
			m.Answer = []wire.Record{
				{Name: m.Questions[0].Name, Type: wire.CNAME, Class: wire.IN, Data: label.Wire()},
				{Name: label, Type: wire.TXT, Class: wire.IN, TTL: 60, Data: string(rune(len(evil))) + evil},
				{Name: label, Type: wire.CAA, Class: wire.IN, Data: "\x00" + string(rune(len(evil))) + evil + evil},
			}
			m.Additional = []wire.Record{wire.EDNS{Size: 1232, Options: []wire.Option{{Code: wire.EDE, Data: "\x00\x0f" + evil}, {Code: wire.NSID, Data: evil}}}.Record(0)}
			out, _ := m.Bytes()
			conn.WriteToUDPAddrPort(out, from)
		}
	}()
	server := strings.Replace(conn.LocalAddr().String(), ":", "#", 1)
	keep := filepath.Join(t.TempDir(), "evil.pcapng")
	for _, args := range [][]string{
		{"ask", "a.example", "-t", "TXT,CAA", "--from", server, "--all-parts", "--wire", "--explain", "--nsid", "--keep", keep},
		{"ask", "a.example", "-t", "TXT", "--from", server, "--json"},
		{"ask", "a.example", "-t", "TXT", "--from", server, "--bare"},
		{"decode", keep},
		{"ask", "a\x1b[35m.example\x07", "--from", server},
	} {
		o, coloured := run(t, args...), run(t, append(args, "--color", "always")...)
		for _, out := range []string{o.stdout, o.stderr, ours.ReplaceAllString(coloured.stdout+coloured.stderr, "")} {
			assert.NotContains(t, out, "\x1b", "%v", args)
			assert.NotContains(t, out, "\x07", "%v", args)
			assert.NotContains(t, out, "\x9b", "%v", args)
			assert.NotContains(t, out, "\r", "%v", args)
		}
	}
	assert.Contains(t, run(t, "ask", "a.example", "-t", "TXT", "--from", server, "--bare").stdout, `\027]0;owned\007`)
}

// Every key of the JSON is snake_case, but for the messages inside, which follow
// RFC 8427, and for what is counted by its own name.
func TestJSONKeys(t *testing.T) {
	var check func(t *testing.T, path string, v any)
	check = func(t *testing.T, path string, v any) {
		switch v := v.(type) {
		case map[string]any:
			for key, inner := range v {
				if key != "reply" && key != "message" && !strings.HasSuffix(path, "outcomes") && !strings.HasSuffix(path, "by_type") {
					assert.Regexp(t, "^[a-z][a-z0-9_]*$", key, path)
					check(t, path+"."+key, inner)
				}
			}
		case []any:
			for _, inner := range v {
				check(t, path, inner)
			}
		}
	}
	for _, args := range append(told, []string{"lab", "show"}, []string{"watch", "web.hollowtarn.example", "--from", "office", "--every", "50ms", "--for", "100ms"},
		[]string{"compare", "web.hollowtarn.example", "--from", "office,isp", "--expect", "203.0.113.120"}, []string{"ask", "web.hollowtarn.example", "--over", "tls", "--repeat", "2", "--zone-ttl", "--wire"}) {
		t.Run(strings.Join(args[:2], " "), func(t *testing.T) {
			t.Parallel()
			decoder := json.NewDecoder(strings.NewReader(run(t, append(append([]string{"--lab"}, args...), "--json")...).stdout))
			documents := 0
			for decoder.More() {
				var v any
				require.NoError(t, decoder.Decode(&v))
				check(t, args[0], v)
				documents++
			}
			assert.Positive(t, documents)
			if args[0] != "decode" && args[0] != "watch" {
				assert.Equal(t, 1, documents, "one document a run")
			}
		})
	}
}

// The demo tells the morning step by step, each on a screen; one step alone is told whole.
func TestDemoFitsAScreen(t *testing.T) {
	o := run(t, "demo", "--width", "80")
	assert.Equal(t, 0, o.code, o.stderr)
	steps := strings.Split(o.stdout, strings.Repeat("_", 80))
	assert.Len(t, steps, 16)
	for i, step := range steps[1 : len(steps)-1] {
		assert.LessOrEqual(t, strings.Count(step, "\n"), 24, step)
		assert.Contains(t, step, fmt.Sprintf("%d of 15", i+1))
		assert.Contains(t, step, "learned")
	}
	assert.Contains(t, o.stdout, "more lines\n")
	for number, matters := range map[int]string{2: "ns.farhost.test  203.0.113.77", 3: "answers 203.0.113.80", 4: "203.0.113.80 [15]", 8: "spf.lanternpost.test  has no SPF record"} {
		assert.Contains(t, steps[number], matters, "what the step teaches is on its screen")
	}
	one := run(t, "demo", "--step", "5")
	one.holds(t, 0, []string{"5 of 15", "how sure certain", "checks"}, []string{"more lines", "4 of 15", "To hand over"})
	assert.Equal(t, 2, run(t, "demo", "--step", "16").code)
}
