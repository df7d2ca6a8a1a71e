package test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The lab's morning is heard as it comes: a line for each exchange when it has its reply, silence
// when it has lasted, and at the end what the capture of it gives.
func TestListenInTheLab(t *testing.T) {
	path := filepath.Join(t.TempDir(), "heard.pcapng")
	o := run(t, "listen", "--lab", "--for", "2m", "--to", path)
	assert.Equal(t, 3, o.code, o.stderr)
	said := strings.Split(o.stdout, "\n")
	assert.Contains(t, words(o.stderr), "listening at lab0, writing to "+path)
	var numbers []string
	for _, line := range said {
		if line == "" {
			break
		}
		numbers = append(numbers, strings.Fields(line)[0])
	}
	assert.Equal(t, []string{"9", "10", "13", "11", "12", "14"}, numbers[8:14], "the 13th has its answer before the two others are found silent")
	assert.Contains(t, o.stdout, "   11  07:40:12.000  www.hollowtarn.example A: no reply for 5 s, sent 3 times (192.0.2.140 queried 192.0.2.66)\n", "on a pipe a line is whole")
	assert.Contains(t, words(o.stdout), "lab0: 5 of 40 exchanges failed; 4 faults and 1 concern.")
	assert.Contains(t, words(o.stdout), "unquil decode "+path+" --exchange", "what was heard can be looked at again")
	again := run(t, "decode", path, "--all")
	rest := func(text string) string {
		return text[strings.Index(text, "what to note"):strings.Index(text, "\nmore:")]
	}
	assert.Equal(t, words(rest(again.stdout)), words(rest(o.stdout)), "and gives the same")
}

// Every choice of decode works on what is heard, and so do its forms.
func TestListenChooses(t *testing.T) {
	for _, c := range []struct {
		args  string
		wants []string
		not   string
	}{
		{"--name tickets.*", []string{"tickets.hollowtarn.example A: 203.0.113.80", "lab0: 4 exchanges, none of which failed"}, "tikets"},
		{"--where took>500ms", []string{"summit.camera.hollowtarn.example A: server-failure", "ridge.north"}, "tickets.hollowtarn.example A"},
		{"--finding slow", []string{"ridge.north.hollowtarn.example A: 203.0.113.165 in 1.3 s"}, "tickets.hollowtarn.example A"},
		{"--outcome no-name --view exchanges", []string{"tikets.hollowtarn.example A: no-name (NXDOMAIN)"}, "server-failure"},
		{"--view servers", []string{"192.0.2.53", "median"}, "tickets.hollowtarn.example A:"},
		{"--view names", []string{"www.hollowtarn.example"}, "07:40:00.000"},
		{"--view programs", []string{"not known", "camera.hollowtarn.example"}, "07:40:00.000"},
		{"--view exchanges --until-finding answer-rewritten", []string{"tikets.hollowtarn.example A: 192.0.2.98"}, "shop.hollowtarn"},
	} {
		o := run(t, append([]string{"listen", "--lab", "--for", "2m"}, strings.Fields(c.args)...)...)
		for _, want := range c.wants {
			assert.Contains(t, words(o.stdout), want, "%s: %s", c.args, o.stderr)
		}
		assert.NotContains(t, words(o.stdout), c.not, c.args)
	}
	csv := run(t, "listen", "--lab", "--for", "20s", "--csv")
	assert.Equal(t, 14, strings.Count(csv.stdout, "\n"), csv.stdout)
	o := run(t, "listen", "--lab", "--for", "20s", "--json", "--view", "programs")
	lines := strings.Split(strings.TrimSpace(o.stdout), "\n")
	require.Len(t, lines, 14, "an exchange a line, and the summary")
	var last struct {
		Command    string
		Interfaces []string
		Heard      struct{ Packets, Lost int }
		Programs   []struct{ Exchanges int }
		Summary    struct{ Exchanges, Lost int }
	}
	require.NoError(t, json.Unmarshal([]byte(lines[13]), &last))
	assert.Equal(t, "listen", last.Command)
	assert.Equal(t, []string{"lab0"}, last.Interfaces)
	assert.Equal(t, 13, last.Summary.Exchanges)
	assert.Equal(t, 13, last.Programs[0].Exchanges)
	assert.Greater(t, last.Heard.Packets, 20)
}

// A command is listened to: what it asked for, what failed, and how long that held it up.
func TestListenWhileInTheLab(t *testing.T) {
	o := run(t, "listen", "--lab", "--lab-latency", "100ms", "--while", "unquil ask www.hollowtarn.example status.lifts.hollowtarn.example --type A")
	assert.Equal(t, 3, o.code)
	said := words(o.stdout)
	assert.Contains(t, said, "with exit code 3. It asked for 2 names in 2 exchanges; names held it up for")
	assert.Contains(t, said, "status.lifts.hollowtarn.example, once: server-failure")
	assert.Contains(t, o.stderr, "203.0.113.120", "what the command says goes to standard error")
	report := filepath.Join(t.TempDir(), "report.html")
	o = run(t, "listen", "--lab", "--while", "ask timetable.hollowtarn.example --type TXT", "--report", report)
	page, err := os.ReadFile(report)
	require.NoError(t, err, o.stderr)
	assert.Contains(t, string(page), "timetable.hollowtarn.example")
	assert.Contains(t, words(o.stdout), "truncated its answer once", "over TCP too is heard")
	o = run(t, "listen", "--lab", "--while", "no-such-command")
	assert.Contains(t, words(o.stdout), "with exit code 2. It was not seen to ask for any name.")
}

// What is heard goes to files without what is redacted, and rings of files hold no more than they may.
func TestListenToFiles(t *testing.T) {
	folder := t.TempDir()
	o := run(t, "listen", "--lab", "--for", "3m", "--to", filepath.Join(folder, "ring.pcapng"), "--files", "2", "--every", "30s")
	assert.NotEqual(t, 2, o.code, o.stderr)
	files, err := filepath.Glob(filepath.Join(folder, "ring-*"))
	require.NoError(t, err)
	assert.Len(t, files, 2)
	o = run(t, "listen", "--lab", "--for", "1m", "--to", filepath.Join(folder, "ring.pcapng"), "--every", "30s")
	assert.Equal(t, 1, o.code, "an earlier run has left files of that name")
	assert.Contains(t, o.stderr, "it exists already")
	path := filepath.Join(folder, "redacted.pcapng")
	o = run(t, "listen", "--lab", "--for", "1m", "--to", path, "--redact", "hollowtarn.example")
	assert.NotEqual(t, 2, o.code, o.stderr)
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.NotContains(t, strings.ToLower(string(data)), "hollowtarn")
	assert.Contains(t, words(run(t, "decode", path, "--view", "exchanges").stdout), "server-failure")
	o = run(t, "listen", "--lab", "--for", "1m", "--to", path)
	assert.Equal(t, 1, o.code)
	assert.Contains(t, o.stderr, "it exists already")
}

func TestListenOptions(t *testing.T) {
	for args, want := range map[string]string{
		"--files 3":                         "add --each 100MB, or --every 10m",
		"--each 1GB":                        "add --to FILE.pcapng",
		"--each 5 --to x.pcapng":            "the least is 64kB",
		"--each lots --to x.pcapng":         "the least is 64kB",
		"--each 64kB --to -":                "these options exclude each other",
		"--others":                          "add --interface NAME",
		"--until-finding nonsense":          "not a finding",
		"--view nonsense":                   "not a view",
		"--redact hollowtarn.example":       "--redact without --report",
		"--for -1s":                         "out of range",
		"--every 10ms --to x.pcapng":        "out of range",
		"--where nonsense":                  "condition",
		"--port 0":                          "not a port",
		"file.pcapng":                       "unexpected argument",
		"--while 'unclosed":                 "a quotation is not closed",
		"--interface near --no-such-option": "there is no such option",
	} {
		o := run(t, append([]string{"listen", "--lab", "--for", "1s"}, strings.Split(args, " ")...)...)
		if strings.HasPrefix(args, "--while") {
			assert.Contains(t, words(o.stdout), want, args)
			continue
		}
		assert.Equal(t, 2, o.code, args)
		assert.Contains(t, o.stderr, want, args)
	}
	o := run(t, "why", "--lab", "www.hollowtarn.example", "--heard", "x.pcapng")
	assert.Equal(t, 2, o.code)
	assert.Contains(t, o.stderr, "add --listen")
}

// On a terminal lines come with a foot below, in its width, and Ctrl-C ends with the overview.
func TestListenInATerminal(t *testing.T) {
	eachSize(t, func(t *testing.T, columns, rows int) {
		x := terminalOf(t, columns, rows, nil, "listen", "--lab-speed", "8")
		x.sees("07:40:14.000 summit.camera.hollowtarn.example A: server-", "listening ·", "1 failed, 2 no name")
		for _, line := range strings.Split(x.screen(), "\n") {
			assert.Less(t, len([]rune(line)), columns)
		}
		x.keys("C-c")
		x.sees("it ended with 3")
		x = terminalOf(t, columns, rows, nil, "listen", "--lab-speed", "20", "--view", "servers")
		x.sees("listening ·", "server asked failed", "192.0.2.66")
		assert.Equal(t, 1, strings.Count(x.screen(), "listening"), "it is drawn over itself")
		x.keys("C-c")
		x.sees("it ended with")
	})
}
