package test

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"
)

func TestWhySays(t *testing.T) {
	morning := filepath.Join(captures(t), "valley-morning.pcapng")
	for _, tt := range []struct {
		name string
		args []string
		code int
		want []string
		not  []string
	}{
		{"the cause first, who can fix it and until when", []string{"why", "--lab", "tickets.hollowtarn.example", "-t", "A", "--from", "office"}, 3,
			[]string{"fault tickets.hollowtarn.example: ns.farhost.test still answers 203.0.113.80, from serial 2026030701 (7 March 2026, change 1)", "where one of the zone's servers: ns.farhost.test", "how sure certain", "who can fix it the zone's operator", "until it ends by itself within 1 week 4 days (", "caused by it fault office answers 203.0.113.80, as does ns.farhost.test, one of the zone's own servers"}, nil},
		{"what follows from the cause", []string{"why", "--lab", "status.lifts.hollowtarn.example", "-t", "A"}, 3,
			[]string{"where the delegation: lifts.hollowtarn.example", "caused by it fault office could not get an answer", "problem walk from the root for A: stops at lifts.hollowtarn.example"}, nil},
		{"a name that works, and what was checked", []string{"why", "--lab", "www.hollowtarn.example"}, 0,
			[]string{"nothing wrong www.hollowtarn.example: A is 203.0.113.120", "what to do If it still fails for somebody", "OK this machine's configuration: asks 192.0.2.53", "OK walk from the root for AAAA"}, []string{"follows from it"}},
		{"a name that is not there, and the nearest that is", []string{"why", "--lab", "a.b.www.hollowtarn.example", "-t", "A"}, 0,
			[]string{"nothing wrong a.b.www.hollowtarn.example: the zone itself says that the name does not exist (NXDOMAIN); the closest name that exists is www.hollowtarn.example", "Check the spelling of the name"}, nil},
		{"one type alone", []string{"why", "--lab", "web.hollowtarn.example", "--from", "halfblind"}, 3, []string{"; only AAAA fails, not A."}, nil},
		{"what cannot be seen, and what would tell", []string{"why", "--lab", "www.hollowtarn.example", "-t", "A", "--lab-path", "inside", "--wait", "200ms", "--attempts", "1"}, 0,
			[]string{"nothing wrong", "could not be compared", "unknown walk from the root for A: not walked", "To learn more, run the same from a network where this can be seen"}, nil},
		{"what cannot be told for sure", []string{"why", "--lab", "web.hollowtarn.example", "-t", "A", "--from", "stranded", "--lab-path", "inside", "--wait", "200ms", "--attempts", "1"}, 3,
			[]string{"how sure likely: the resolver says so itself", "were not seen to answer"}, nil},
		{"other resolvers beside", []string{"why", "--lab", "web.hollowtarn.example", "-t", "A", "--from", "closed", "--also", "isp"}, 3, []string{"where the resolver: closed", "elsewhere isp says 203.0.113.120", "OK other resolvers: isp"}, nil},
		{"one of the zone's own servers, asked as a resolver", []string{"why", "--lab", "summit.hollowtarn.example", "--from", "dns1.hollowtarn.example"}, 0, []string{"nothing wrong"}, []string{"recursion-unavailable"}},
		{"an address stands for its name", []string{"why", "--lab", "203.0.113.80"}, 0, []string{"works, with a concern", "reverse-mismatch", "where the zone's data: 113.0.203.in-addr.arpa"}, nil},
		{"several names of one cause", []string{"why", "--lab", "a.closing.works.example", "b.closing.works.example", "web.hollowtarn.example", "-t", "A"}, 3,
			[]string{"fault a.closing.works.example, b.closing.works.example: No server of closing.works.example answers for it", "nothing wrong web.hollowtarn.example"}, nil},
		{"a capture as a whole", []string{"why", "--capture", morning}, 3, []string{"fault summit.camera.hollowtarn.example, status.lifts.hollowtarn.example, web.hollowtarn.example: 192.0.2.53 could not get an answer", "a fault of the zone's own servers (the capture does not show them) would look the same"}, nil},
		{"a name of a capture", []string{"why", "--capture", morning, "tickets.hollowtarn.example"}, 0, []string{"nothing wrong tickets.hollowtarn.example"}, nil},
		{"a finding's page", []string{"findings", "cache-stale"}, 0, []string{"cache-stale about a cache", "who can fix it whoever runs the resolver"}, nil},
		{"all findings", []string{"findings"}, 0, []string{"of this machine"[3:], "glue-differs The parent and the zone give different addresses for a server."}, nil},
	} {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			run(t, tt.args...).holds(t, tt.code, tt.want, tt.not)
		})
	}
}

// Evidence that why keeps tells the same story wherever it is read: as it was live, word for
// word and with the same exit code, and decode names its verdict. Redacted, it is packets alone.
func TestEvidenceTellsTheSame(t *testing.T) {
	for name, args := range map[string][]string{
		"a fault":              {"tickets.hollowtarn.example", "-t", "A", "--from", "office"},
		"a healthy name":       {"www.hollowtarn.example", "--from", "office"},
		"several names":        {"a.closing.works.example", "web.hollowtarn.example", "-t", "A"},
		"a name as it's typed": {"summit", "--lab-machine", "typed", "-t", "A"},
		"an address":           {"203.0.113.80"},
		"nobody replies":       {"www.hollowtarn.example", "-t", "A", "--lab-path", "sealed", "--wait", "200ms"},
		"a cut reply":          {"season.passes.hollowtarn.example", "-t", "TXT"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			folder := t.TempDir()
			kept, report, redacted := filepath.Join(folder, "kept.pcapng"), filepath.Join(folder, "report.md"), filepath.Join(folder, "redacted.md")
			live := run(t, append([]string{"why", "--lab", "--keep", kept, "--report", report}, args...)...)
			for _, file := range []string{kept, filepath.Join(folder, "report.pcapng")} {
				again := run(t, "why", "--capture", file)
				assert.Equal(t, live.stdout, again.stdout)
				assert.Equal(t, live.code, again.code, again.stderr)
			}
			copied := filepath.Join(folder, "copied.md")
			assert.Equal(t, live.stdout, run(t, "why", "--capture", kept, "--report", copied).stdout)
			assert.Equal(t, live.stdout, run(t, "why", "--capture", filepath.Join(folder, "copied.pcapng")).stdout)
			told := run(t, "decode", kept)
			assert.Equal(t, live.code, told.code)
			assert.Contains(t, told.stdout, "what the run that kept these packets found")
			assert.NotContains(t, run(t, "decode", kept, "--outcome", "answered").stdout, "what the run that kept")
			assert.Contains(t, run(t, "decode", kept, "--json").stdout, `"verdicts":[{`)
			run(t, append([]string{"why", "--lab", "--report", redacted, "--redact", "hollowtarn.example,works.example"}, args...)...)
			packets, err := os.ReadFile(filepath.Join(folder, "redacted.pcapng"))
			require.NoError(t, err)
			assert.NotContains(t, string(packets), `"Run"`)
		})
	}
}

// A server that fails is told of in both commands, though nobody was left without an answer.
func TestDecodeAndWhyEndAlike(t *testing.T) {
	kept := filepath.Join(t.TempDir(), "kept.pcapng")
	run(t, "trace", "--lab", "www.limping.works.example", "-t", "A", "--keep", kept)
	why, decode := run(t, "why", "--capture", kept), run(t, "decode", kept)
	assert.Equal(t, 3, decode.code)
	why.holds(t, 3, []string{"works, with a concern", "what else the capture shows fault 192.0.2.10 queried 192.0.2.130"}, nil)
	d, code := runJSON(t, "why", "--capture", kept)
	assert.Equal(t, 3, code)
	assert.Equal(t, "unanswered", d.Findings[0].Code)
}

// A run is sparing: what is known is not asked again, and of servers that serve everybody a few are asked.
func TestWhySparesServers(t *testing.T) {
	for _, c := range []struct {
		names []string
		most  int
	}{
		{[]string{"www.hollowtarn.example"}, 40},
		{[]string{"www.hollowtarn.example", "web.hollowtarn.example", "dns1.hollowtarn.example", "dns2.hollowtarn.example"}, 80},
	} {
		for range 3 { // whichever servers chance picks
			o := run(t, append([]string{"why", "--lab", "--json", "--from", "office"}, c.names...)...)
			assert.Equal(t, 0, o.code)
			var d struct {
				Exchanges []struct {
					Server   struct{ Address string }
					Question struct{ Name, Type string }
				}
			}
			require.NoError(t, json.Unmarshal([]byte(o.stdout), &d))
			assert.Less(t, len(d.Exchanges), c.most, c.names)
			asked, tops := map[string]int{}, map[string]bool{}
			for _, e := range d.Exchanges {
				key := e.Server.Address + " " + e.Question.Name + " " + e.Question.Type
				asked[key]++
				assert.Equal(t, 1, asked[key], "%s was asked twice", key)
				if strings.HasPrefix(e.Server.Address, "198.51.100.") && e.Question.Name == "hollowtarn.example." && e.Question.Type == "A" {
					tops[e.Server.Address] = true
				}
			}
			assert.Len(t, tops, 4, "two of the root's servers, and two of the registry's")
		}
	}
	o := run(t, "trace", "--lab", "www.hollowtarn.example")
	assert.Contains(t, squeezed(o), "2 of 5 server addresses, picked at random, refer to example")
	assert.Contains(t, squeezed(run(t, "trace", "--lab", "www.hollowtarn.example", "--every-server")), "north.roots.test refers to example (198.51.100.3")
	assert.NotContains(t, run(t, "zone", "--lab", ".").stdout, "picked at random")
}

func TestWhyRefuses(t *testing.T) {
	morning := filepath.Join(captures(t), "valley-morning.pcapng")
	for _, tt := range []struct {
		name string
		args []string
		code int
		want string
	}{
		{"no name", []string{"why", "--lab"}, 2, "missing argument"},
		{"a name that nobody asked for", []string{"why", "--capture", morning, "nobody.example"}, 2, "nobody looked it up in this capture"},
		{"a file that is not there", []string{"why", "--capture", "nowhere.pcap"}, 1, "check the name of the file"},
		{"a report of another kind", []string{"why", "--lab", "www.hollowtarn.example", "--report", "a.doc"}, 2, "ends in .html or .md"},
		{"a report where none can be", []string{"why", "--lab", "www.hollowtarn.example", "--report", filepath.Join(morning, "a.html")}, 1, "writing the report"},
		{"what was heard in the lab", []string{"why", "--lab", "www.hollowtarn.example", "--listen", "--heard", "x.pcapng"}, 2, "nothing passes an interface in the lab"},
		{"redacting nothing", []string{"why", "--lab", "www.hollowtarn.example", "--redact", "clients"}, 2, "--redact without --report"},
		{"a path that the lab lacks", []string{"why", "--lab", "www.hollowtarn.example", "--lab-path", "moon"}, 2, `no path "moon"`},
		{"a machine that the lab lacks", []string{"why", "--lab", "www.hollowtarn.example", "--lab-machine", "moon"}, 2, "the lab has no such machine"},
		{"a finding that is none", []string{"findings", "nonsense"}, 2, "unquil findings lists them all"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			o := run(t, tt.args...)
			assert.Equal(t, tt.code, o.code, o.stderr)
			assert.Contains(t, o.stderr, tt.want)
			assert.LessOrEqual(t, strings.Count(o.stderr, "\n"), 2)
			assert.Empty(t, o.stdout, "what cannot be done is refused before anybody is asked")
		})
	}
}

// The JSON holds the reasoning: the checks, the cause with its evidence, and which
// finding explains which.
func TestWhyReasonsInJSON(t *testing.T) {
	d, code := runJSON(t, "why", "--lab", "status.lifts.hollowtarn.example", "-t", "A")
	assert.Equal(t, 3, code)
	var results []struct {
		Names   []string
		Checks  []struct{ What, State, Saw string }
		Verdict struct {
			Cause, At, Severity, But string
			Evidence                 []int
		}
		Explained []struct{ Code, By string }
	}
	require.NoError(t, json.Unmarshal(d.Result, &results))
	require.Len(t, results, 1)
	assert.Equal(t, []string{"status.lifts.hollowtarn.example."}, results[0].Names)
	assert.Equal(t, "lame-server", results[0].Verdict.Cause)
	assert.NotEmpty(t, results[0].Verdict.Evidence)
	assert.Equal(t, "server-failure", results[0].Explained[0].Code)
	assert.Equal(t, "lame-server", results[0].Explained[0].By)
	assert.Len(t, results[0].Checks, 5)
}

// What the pages in docs/ say is what the program says.
func TestPagesAreCurrent(t *testing.T) {
	page, err := os.ReadFile("../docs/findings.md")
	require.NoError(t, err)
	assert.Equal(t, string(page), run(t, "findings", "--page").stdout, "write it again: go run ./cmd/unquil findings --page > docs/findings.md")
}

// reports are commands with a report, and what must stand in it.
var reports = []struct {
	name   string
	browse bool // it is opened in a browser too: one of every kind of table and picture is
	args   []string
	want   []string
}{
	{"why.html", true, []string{"why", "tickets.hollowtarn.example", "-t", "A", "--from", "office"}, []string{"Where and why tickets.hollowtarn.example fails", "1 week", "answers-differ", "Who asked whom, and when"}},
	{"compare.html", false, []string{"compare", "tickets.hollowtarn.example", "-t", "A", "--from", "office,isp", "--zone-servers"}, []string{"Who says what to tickets.hollowtarn.example A"}},
	{"trace.html", false, []string{"trace", "status.lifts.hollowtarn.example"}, []string{"lifts.hollowtarn.example: it stops here"}},
	{"zone.html", false, []string{"zone", "valley.hollowtarn.example"}, []string{"The servers of valley.hollowtarn.example", "ns-set-differs"}},
	{"decode.html", true, []string{"decode", "valley-morning.pcapng"}, []string{"Its servers", "no-name-burst"}},
	{"capture.html", false, []string{"why", "--capture", "valley-morning.pcapng"}, []string{"server-failure"}},
	{"why.md", false, []string{"why", "status.lifts.hollowtarn.example", "-t", "A"}, []string{"## fault: status.lifts.hollowtarn.example", "it stops here"}},
}

// A report holds what the command found; the capture beside it reads back; and in a
// real browser the page opens without a complaint, asks nobody for anything, and
// prints on A4.
func TestReports(t *testing.T) {
	for _, tt := range reports {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			folder := t.TempDir()
			file := filepath.Join(folder, tt.name)
			o := run(t, append(append([]string{"--lab"}, tt.args...), "--report", file)...)
			assert.Contains(t, o.stderr, "report written to ")
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			for _, part := range tt.want {
				assert.True(t, strings.Contains(string(text), part), "%s lacks %q", tt.name, part)
			}
			evidence := strings.TrimSuffix(file, filepath.Ext(file)) + ".pcapng"
			assert.True(t, strings.Contains(string(text), filepath.Base(evidence)))
			assert.Contains(t, run(t, "decode", evidence).stdout, "exchanges")
			if filepath.Ext(file) == ".html" {
				leadsSomewhere(t, string(text))
			}
			if tt.browse {
				inBrowser(t, file, string(text))
			}
		})
	}
}

// browsers bounds how many browsers run at once.
var browsers = make(chan struct{}, 2)

// leadsSomewhere checks that every link within a page has its target.
func leadsSomewhere(t *testing.T, text string) {
	root, err := html.Parse(strings.NewReader(text))
	require.NoError(t, err)
	ids := map[string]bool{}
	var links []string
	for n := range root.Descendants() {
		for _, a := range n.Attr {
			switch a.Key {
			case "id":
				ids[a.Val] = true
			case "href":
				links = append(links, a.Val)
			}
		}
	}
	for _, link := range links {
		if anchor, inside := strings.CutPrefix(link, "#"); inside {
			assert.True(t, ids[anchor], "nothing is called %s", anchor)
		}
	}
}

// inBrowser opens a page in headless Chromium.
func inBrowser(t *testing.T, file, text string) {
	browser, err := exec.LookPath("chromium")
	if err != nil {
		t.Skip("Chromium is not installed: the page was not opened in it (apt-get install --no-install-recommends chromium)")
	}
	browsers <- struct{}{}
	defer func() { <-browsers }()
	folder := filepath.Dir(file)
	opened := func(args ...string) string {
		args = append([]string{"--headless", "--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-component-update", "--no-first-run",
			"--user-data-dir=" + filepath.Join(folder, "profile"), "--host-resolver-rules=MAP * ~NOTFOUND", "--enable-logging=stderr", "--v=0"}, args...)
		cmd := exec.Command(browser, append(args, "file://"+file)...)
		cmd.Env = append(os.Environ(), "HOME="+folder)
		said, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", said)
		return string(said)
	}
	netLog := filepath.Join(folder, "net.json")
	said := opened("--dump-dom", "--log-net-log="+netLog)
	assert.False(t, strings.Contains(said, "CONSOLE"), "the browser complains")
	assert.True(t, strings.Contains(said, "How this was made"), "the page is drawn to its end")
	log, err := os.ReadFile(netLog)
	require.NoError(t, err)
	for _, asked := range regexp.MustCompile(`"url":"([^"]*)"`).FindAllStringSubmatch(string(log), -1) {
		assert.False(t, strings.HasPrefix(asked[1], "http") && strings.Contains(text, asked[1]), "the page asks for %s", asked[1])
	}
	pdf := filepath.Join(folder, "page.pdf")
	opened("--no-pdf-header-footer", "--print-to-pdf="+pdf)
	printed, err := os.ReadFile(pdf)
	require.NoError(t, err)
	assert.Regexp(t, `MediaBox \[0 0 59[45]\.\d+ 84[12]\.\d+\]`, string(printed), "A4 is 595 by 842 points")
}

// A redacted report and its capture have no trace of what was to go, in any form that the
// words, the bytes or the pictures of a report may have it in.
func TestRedactedReportTellsNoSecret(t *testing.T) {
	for _, tt := range []struct {
		name    string
		args    []string
		report  string
		secrets []string
		kept    []string
	}{
		{"a name", []string{"why", "tickets.hollowtarn.example", "-t", "A", "--from", "office", "--redact", "tickets.hollowtarn.example"}, "report.html",
			[]string{"tickets", "hollowtarn", "192.0.2.10", "203.0.113.", "74 69 63 6b 65 74 73", "c0 00 02 0a", "stekcit"}, []string{"hidden1.hidden2.hidden3", "cache-stale", "240.0.0.1"}},
		{"with a search suffix, as a text", []string{"why", "tikets", "--lab-machine", "typed", "--redact", "tikets.hollowtarn.example"}, "report.md",
			[]string{"tikets", "hollowtarn", "203.0.113."}, []string{"hidden1"}},
		{"a capture, its clients alone", []string{"decode", "valley-morning.pcapng", "--redact", "clients"}, "report.html",
			[]string{"192.0.2.21", "192.0.2.22", "c0 00 02 15"}, []string{"tickets.hollowtarn.example", "192.0.2.53"}},
		{"a capture of what cannot be read", []string{"decode", "mangled.pcapng", "--redact", "hollowtarn.example"}, "report.md",
			[]string{"hollowtarn", "192.0.2."}, []string{"since it could not be read", "240.0.0."}},
		{"a walk", []string{"trace", "lifts.hollowtarn.example", "--redact", "lifts.hollowtarn.example"}, "report.html",
			[]string{"lifts", "hollowtarn", "2001:db8"}, []string{"lame-server"}},
		{"a comparison", []string{"compare", "snow.hollowtarn.example", "--from", "office,isp", "--zone-servers", "--redact", "snow.hollowtarn.example"}, "report.md",
			[]string{"snow.", "hollowtarn", "203.0.113."}, []string{"answer-by-place"}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			folder := t.TempDir()
			o := run(t, append(tt.args, "--lab", "--report", filepath.Join(folder, tt.report))...)
			require.Contains(t, []int{0, 3}, o.code, o.stderr)
			report, err := os.ReadFile(filepath.Join(folder, tt.report))
			require.NoError(t, err)
			packets, err := os.ReadFile(filepath.Join(folder, "report.pcapng"))
			require.NoError(t, err)
			for _, secret := range tt.secrets {
				for _, form := range []string{secret, strings.ToUpper(secret), hex.EncodeToString([]byte(secret)), base64.RawStdEncoding.EncodeToString([]byte(secret))} {
					assert.False(t, strings.Contains(string(report), form), "the report holds %s", form)
					assert.False(t, strings.Contains(string(packets), form), "the capture holds %s", form)
				}
			}
			for _, kept := range tt.kept {
				assert.True(t, strings.Contains(string(report), kept), "the report lacks %s", kept)
			}
			assert.Contains(t, []int{0, 3}, run(t, "decode", filepath.Join(folder, "report.pcapng")).code)
		})
	}
	o := run(t, "why", "--lab", "tickets.hollowtarn.example", "--from", "office", "--report", filepath.Join(t.TempDir(), "tickets.md"), "--redact", "tickets.hollowtarn.example")
	assert.Contains(t, o.stderr, "the name of the report file gives away what was redacted")
}

// What vouches for what is in the report, with the link at which the chain breaks.
func TestReportShowsTheChain(t *testing.T) {
	path := filepath.Join(t.TempDir(), "gates.html")
	o := run(t, "why", "--lab", "valley.gates.hollowtarn.example", "--type", "A", "--from", "public", "--report", path)
	require.Equal(t, 3, o.code, o.stderr)
	page, err := os.ReadFile(path)
	require.NoError(t, err)
	for _, want := range []string{"What vouches for what on the way to valley.gates.hollowtarn.example A: bogus", "the trust anchor", "THE CHAIN BREAKS HERE: signature-expired", "ran out 9 March 2026 06:00",
		"the chain breaks here: The signature over the keys of gates.hollowtarn.example ran out", "When the signatures on the way to valley.gates.hollowtarn.example A are valid", "now: 9 March 2026 07:40", "ran out 9 March 06:00"} {
		assert.Contains(t, string(page), want)
	}
	again := run(t, "why", "--lab", "--capture", strings.TrimSuffix(path, ".html")+".pcapng")
	assert.Equal(t, o.stdout, again.stdout, "its evidence comes to the same")
}

// The state of an answer, its chain and what it is judged by can be had in other ways.
func TestTraceValidates(t *testing.T) {
	folder := t.TempDir()
	anchors := filepath.Join(folder, "anchors")
	require.NoError(t, os.WriteFile(anchors, []byte(". 3600 IN DS 1 13 2 00112233445566778899AABBCCDDEEFF00112233445566778899AABBCCDDEEFF\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "none"), []byte(". 3600 IN NS a.\n"), 0o600))
	for _, c := range []struct {
		args string
		want string
		code int
	}{
		{"www.hollowtarn.example", "signatures secure: signed from the root's key down, for", 0},
		{"season.passes.hollowtarn.example --type TXT", "passes.hollowtarn.example not signed, as hollowtarn.example proves", 3},
		{"ns.farhost.test", "signatures insecure: not signed all the way", 0},
		{"valley.gates.hollowtarn.example", "gates.hollowtarn.example the chain breaks here", 3},
		{"www.half-signed.works.example", "ran out at 06:00 on 9 March 2026, as two.works.example gives it; what other servers give is valid", 0},
		{"www.novel.works.example", "names its keys in a way that nobody checks: it counts as unsigned", 0},
		{"www.hollowtarn.example --as-of 2027-03-09T07:40:00Z", "clock-wrong", 3},
		{"www.hollowtarn.example --anchor " + anchors, "anchor-old", 3},
		{"www.hollowtarn.example --anchor " + filepath.Join(folder, "none"), "it holds no DS or DNSKEY record", 2},
		{"www.hollowtarn.example --as-of tomorrow", "not a time", 2},
	} {
		o := run(t, append([]string{"trace", "--lab"}, strings.Fields(c.args)...)...)
		assert.Contains(t, words(o.stdout+o.stderr), c.want, c.args)
		assert.Equal(t, c.code, o.code, c.args)
	}
	assert.NotContains(t, run(t, "trace", "--lab", "www.hollowtarn.example", "--no-validate").stdout, "signatures")
}
