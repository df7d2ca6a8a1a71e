package test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// session runs lines in a session of the program.
func session(t testing.TB, lines string, args ...string) outcome {
	t.Helper()
	script := filepath.Join(t.TempDir(), "lines")
	require.NoError(t, os.WriteFile(script, []byte(lines), 0o600))
	return run(t, append([]string{"session", "--lab", "--script", script}, args...)...)
}

// A walk from the root by hand copies no name and no address: each line takes the mark of a
// server from the answer before.
func TestSessionWalksByMarks(t *testing.T) {
	lines := "from root\ntype A\ntickets.hollowtarn.example\n"
	var o outcome
	for _, zone := range []string{"example", "hollowtarn.example"} {
		o = session(t, lines)
		assert.Equal(t, 0, o.code, o.stderr)
		assert.Contains(t, squeezed(o), "refers to the servers of "+zone)
		assert.Contains(t, squeezed(o), "authority none: a referral, as "+zone+" is delegated to the servers above")
		_, after, _ := strings.Cut(squeezed(o), "the servers of "+zone+" ")
		mark := regexp.MustCompile(`^\S+ \[(\d+)\] at `).FindStringSubmatch(after)
		require.NotNil(t, mark, after)
		lines += "from " + mark[1] + " ask\n"
	}
	o = session(t, lines)
	assert.Equal(t, 5, strings.Count(lines, "\n"), "five short lines")
	o.holds(t, 0, []string{"A 203.0.113.140 [", "answered by dns1.hollowtarn.example [", "authority the zone's own server"}, []string{"a cache"})
}

func TestSessionLines(t *testing.T) {
	for _, tt := range []struct {
		name, lines string
		args        []string
		code        int
		want, not   []string
	}{
		{"a name is looked up, an address its name, several at once", "from office\nwww.hollowtarn.example 203.0.113.11\nhollowtarn.example\n", nil, 0,
			[]string{"A 203.0.113.120 [2] 203.0.113.121 [3]", "points (CNAME) to web.hollowtarn.example [1]", "203.0.113.11 dns1.hollowtarn.example [7], which resolves back", "looked up 11.113.0.203.in-addr.arpa", "answered by office (192.0.2.53 ["}, nil},
		{"what is chosen holds for every command that follows", "from isp; type mx; over tcp\nhollowtarn.example\nlocal\nask\ncompare --from office\n", nil, 0,
			[]string{"MX 10 mx1.hollowtarn.example.", "answered by isp (198.51.100.53", "over TCP", "only office gave a result", "marks [1] mx1.hollowtarn.example"}, []string{"over UDP"}},
		{"types parted by blanks", "from office type mx txt hollowtarn.example\n", nil, 0, []string{"MX 10 mx1", "TXT \"v=spf1"}, []string{"AAAA"}},
		{"a mark of a host asks its addresses, that of an address its name", "from office\ntype mx\nhollowtarn.example\n1\nmarks\n3\n", nil, 0,
			[]string{"mx1.hollowtarn.example A", "[1] mx1.hollowtarn.example"}, nil},
		{"trace and zone begin at the root whatever resolver is chosen", "from office\ntrace www.hollowtarn.example\nzone\n", nil, 0,
			[]string{". (the root)", "www.hollowtarn.example A resolves to", "ns.farhost.test"}, nil},
		{"why takes the last name and the chosen resolver", "from office; type a\ntickets.hollowtarn.example\nwhy\n", nil, 3, []string{"ns.farhost.test still answers 203.0.113.80"}, nil},
		{"usual takes choices back", "from kiosk; type mx\nfrom usual; type usual\nwww.hollowtarn.example\nfrom closed\nusual\nask\n", nil, 0, []string{"A 203.0.113.120", "answered by office"}, []string{"kiosk", "closed"}},
		{"remarks and empty lines are nothing", "# of the morning\n\nfrom office # no name\nnote \"# 5\"\n", nil, 0, nil, []string{"no name"}},
		{"the caches stay from line to line", "from isp; webcam2.hollowtarn.example\nlocal\nask\n", nil, 0, []string{"no such name (NXDOMAIN)"}, nil},
		{"options of ask may stand behind a name", "from office\nwww.hollowtarn.example --type A --follow\n", nil, 0, []string{"A 203.0.113.120"}, []string{"AAAA"}},
		{"an exchange is shown whole", "from office\nask www.hollowtarn.example --type A\nexchange 1 --wire\n", nil, 0,
			[]string{"exchange 1: www.hollowtarn.example A of office: 203.0.113.120", "question reply", "flags recursion desired", "www.hollowtarn.example CNAME", "QDCOUNT 1"}, nil},
		{"lines say what came of them", "from office; type a\ntickets.hollowtarn.example\nnote \"old shop\"\nwhy\nlines\n", nil, 3,
			[]string{"from office; type a", "tickets.hollowtarn.example exchange 1", "note: old shop", "faults"}, nil},
		{"the same again is no difference", "from office\nwww.hollowtarn.example\nagain\nagain 2\n", nil, 0, []string{"unchanged the same 2 answers"}, []string{"changed www"}},
		{"help", "help\nhelp trace\n", nil, 0, []string{"to keep the case together", "from RESOLVERS", "unquil trace NAME"}, []string{"unquil COMMAND"}},
		{"an end", "end\nwww.hollowtarn.example\n", nil, 0, nil, []string{"203.0.113"}},
		{"the worst exit code is the program's", "from office; type a; status.lifts.hollowtarn.example; www.hollowtarn.example\ndecode /nowhere.pcap\nwww.hollowtarn.example\n", nil, 1,
			[]string{"could not get an answer"}, nil},
	} {
		t.Run(tt.name, func(t *testing.T) { session(t, tt.lines, tt.args...).holds(t, tt.code, tt.want, tt.not) })
	}
}

// A line that cannot be understood costs a sentence; a script stops there unless it is to go on.
func TestSessionSlips(t *testing.T) {
	for line, want := range map[string]string{
		"trcae www.hollowtarn.example": "did you mean trace?",
		"zome":                         "did you mean zone?",
		"from ofice":                   "not a resolver",
		"type FOO":                     "unknown record type",
		"over carrier":                 "not a transport",
		"wait 1":                       "not a duration",
		"wait 1ms":                     "a wait of this length is a mistake",
		"attempts many":                "not a whole number",
		"from":                         "its value is missing",
		"a..b":                         "empty label",
		"99":                           "mark 99: no mark has this number",
		"from 99":                      "no mark has this number",
		"trace":                        "nothing was asked before it",
		"reverse":                      "nothing was asked before it",
		"again":                        "nothing was asked before it",
		"again 7":                      "no line of this session",
		"exchange 5":                   "no exchange of this session",
		"note":                         "there are no words to note",
		`note "open`:                   "a quotation is not closed",
		"report case.txt":              "a report is HTML or Markdown",
		"keep":                         "its value is missing",
		"session":                      "it needs a terminal of its own",
		"ask --nonsense":               "there is no such option",
	} {
		t.Run(line, func(t *testing.T) {
			stopped := session(t, line+"\nask www.hollowtarn.example\n")
			assert.Equal(t, 2, stopped.code)
			assert.Contains(t, words(stopped.stderr), want)
			assert.Contains(t, stopped.stderr, "stopped at line 1: ")
			assert.NotContains(t, stopped.stdout, "203.0.113.120")
			on := session(t, line+"\nask www.hollowtarn.example\n", "--go-on")
			assert.Equal(t, 2, on.code)
			assert.Contains(t, on.stdout, "203.0.113.120")
		})
	}
}

// A case is taken up again another day: its lines, marks and exchange numbers are there, and
// what changed meanwhile is told.
func TestSessionKeepsACase(t *testing.T) {
	folder := t.TempDir()
	file := filepath.Join(folder, "tickets.case")
	o := session(t, "from office; type a\ntickets.hollowtarn.example\nnote \"the caller sees the old shop\"\n", "--case", file)
	require.Equal(t, 0, o.code, o.stderr)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())

	report, packets := filepath.Join(folder, "case.html"), filepath.Join(folder, "case.pcapng")
	o = session(t, "ask 1 --from 203.0.113.11\nagain\nfrom 1\nlines\nreport "+report+"\nkeep "+packets+"\nkeep "+packets+"\n", "--case", file, "--lab-speed", "1000000")
	assert.Equal(t, 1, o.code, "an output does not replace a file")
	o.holds(t, 1, []string{"unchanged the same 1 answer", "note: the caller sees the old shop"}, nil)
	assert.Contains(t, words(o.stderr), "it exists already")

	page, err := os.ReadFile(report)
	require.NoError(t, err)
	for _, part := range []string{"What was done", "<code>tickets.hollowtarn.example</code>", "the caller sees the old shop", "203.0.113.80", "A session about tickets.hollowtarn.example"} {
		assert.Contains(t, string(page), part)
	}
	run(t, "decode", packets, "--packet", "1").holds(t, 0, []string{"comment exchange 1 (line 2: tickets.hollowtarn.example; note: the caller sees the old shop)"}, nil)

	// By then a negative answer has run out of the cache: that is a difference, and the only one.
	o = session(t, "from isp; type a; webcam2.hollowtarn.example www.hollowtarn.example\nfrom kiosk; wait 100ms; attempts 1; hollowtarn.example\nagain 1\n", "--lab-speed", "100000")
	o.holds(t, 3, []string{"changed webcam2.hollowtarn.example A from isp before no such name (NXDOMAIN) now 203.0.113.", "unchanged 1 other answer"}, nil)

	// Redacted, it names nobody; and what is asked again writes nothing.
	redacted := filepath.Join(folder, "redacted.md")
	o = session(t, "report "+redacted+" --redact hollowtarn.example\nwhy tickets.hollowtarn.example --from office --type A --report "+filepath.Join(folder, "why.html")+"\nagain 10\n", "--case", file)
	assert.Equal(t, 3, o.code, o.stderr)
	assert.Contains(t, squeezed(o), "unchanged")
	text, err := os.ReadFile(redacted)
	require.NoError(t, err)
	assert.Contains(t, string(text), "**tickets.hidden1.hidden2**")
	assert.NotContains(t, string(text), "hollowtarn")
	assert.NotContains(t, string(text), "203.0.113.")

	other := filepath.Join(folder, "notes.txt")
	require.NoError(t, os.WriteFile(other, []byte("shopping list\n"), 0o600))
	o = session(t, "local\n", "--case", other)
	assert.Equal(t, 1, o.code)
	assert.Contains(t, o.stderr, "not the file of a case")
	kept, _ := os.ReadFile(other)
	assert.Equal(t, "shopping list\n", string(kept), "what is no case is left alone")
}

// One line typed is one document.
func TestSessionJSON(t *testing.T) {
	o := session(t, "from office; type a\ntickets.hollowtarn.example\nwhy\nnote x\nmarks\nlines\nexchange 1\nagain 2\nbad..name\n", "--json", "--go-on")
	assert.Equal(t, 2, o.code)
	var commands []string
	for line := range strings.Lines(o.stdout) {
		var d document
		require.NoError(t, json.Unmarshal([]byte(line), &d), line)
		assert.Equal(t, 1, d.Schema)
		commands = append(commands, d.Command)
	}
	assert.Equal(t, []string{"session", "ask", "why", "session", "session", "session", "session", "session", "session"}, commands)
	assert.Contains(t, o.stdout, `"chosen":{"from":"office","type":"A"}`)
}

// A list of names is a stream: what holds no name costs its line, and the name can stand first.
func TestAskNamesAsAStream(t *testing.T) {
	cmd := exec.Command(program, "ask", "--lab", "--names", "-", "--type", "A", "--bare", "--name-first")
	cmd.Stdin = strings.NewReader("web.hollowtarn.example\nbad..name\nhut.guest.hollowtarn.example # by the lake\n")
	var stderr strings.Builder
	cmd.Stderr = &stderr
	out, err := cmd.Output()
	assert.Equal(t, 2, cmd.ProcessState.ExitCode(), "%v", err)
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	require.Len(t, lines, 3)
	assert.Equal(t, "web.hollowtarn.example.\t203.0.113.120", lines[0])
	assert.Regexp(t, `^hut\.guest\.hollowtarn\.example\.\t`, lines[2])
	assert.Contains(t, stderr.String(), `name "bad..name": empty label`)
	assert.Contains(t, stderr.String(), "1 line of the list: no name in it")
}

// Lines may come from a pipe: there is no prompt in what comes out.
func TestSessionOverAPipe(t *testing.T) {
	cmd := exec.Command(program, "session", "--lab")
	cmd.Stdin = strings.NewReader("from office; type a; web.hollowtarn.example\nask --bare\n")
	out, err := cmd.Output()
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(out), "web.hollowtarn.example\n"), "%s", out)
	assert.True(t, strings.HasSuffix(string(out), "\n203.0.113.120\n203.0.113.121\n"), "%s", out)
	assert.NotContains(t, string(out), "ask office")
}
