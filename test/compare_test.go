package test

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCompareNamesCauses(t *testing.T) {
	for _, tt := range []struct {
		name, from string
		code       int
		want       []string
		not        []string
	}{
		{"tickets", "office,isp", 3, []string{"4 of 6 agree with the zone", "an older answer, gone from office within 1 week", "cache-stale (certain)", "answers-differ", "serials-differ"}, nil},
		{"webcam2", "isp,office", 3, []string{"a cached negative answer", "cache-negative (certain)"}, nil},
		{"tikets", "cafe,isp", 3, []string{"a made-up answer", "answer-rewritten (certain)", "the same for 2 random names"}, nil},
		{"snow", "office,isp,public", 0, []string{"a different answer for its location, as intended", "answer-by-place (certain)"}, []string{" fault ", " concern "}},
		{"web", "office,isp,public", 0, []string{"agree"}, []string{" fault ", " concern "}},
		{"web", "office,kiosk,closed", 3, []string{"kiosk did not reply", "closed refuses to answer"}, nil},
	} {
		t.Run(tt.name+" from "+tt.from, func(t *testing.T) {
			o := run(t, append(quick, "compare", tt.name+".hollowtarn.example", "-t", "A", "--from", tt.from, "--zone-servers")...)
			o.holds(t, tt.code, tt.want, tt.not)
		})
	}
}

func TestCompareTellsWhoValidates(t *testing.T) {
	for name, want := range map[string][]string{
		"www.ran-out.works.example":      {"office does not validate: it hands on what is bogus", "isp may validate or not: it hands on no signatures", "public validates: what it has is bogus, and it does not hand that on", "validation-off"},
		"www.signed.works.example":       {"office has good signatures, and does not say that it has checked them (no AD)", "public validates: it says that it has checked its answer (AD)"},
		"www.novel.works.example":        {"office, public may validate or not: this name is not signed"},
		"nobody.proofless.works.example": {"office does not validate", "public validates: what it has is bogus"},
	} {
		o := run(t, "compare", "--lab", name, "-t", "A", "--from", "office,isp,public", "--validate")
		for _, words := range want {
			assert.Contains(t, squeezed(o), words, name)
		}
	}
	var d struct {
		Result []struct {
			Validations []struct{ Server, State, Validates string }
		}
	}
	o := run(t, "compare", "--lab", "www.ran-out.works.example", "-t", "A,MX", "--from", "office,public", "--validate", "--as-of", "2026-03-09T05:00:00Z", "--json")
	require.NoError(t, json.Unmarshal([]byte(o.stdout), &d))
	require.Len(t, d.Result, 2)
	for _, r := range d.Result {
		require.Len(t, r.Validations, 2)
		for _, v := range r.Validations {
			assert.Equal(t, "secure", v.State, "as of an hour before")
		}
	}
	assert.NotContains(t, o.stdout, "validation-", "resolvers judge by now")
}

func TestCompareForms(t *testing.T) {
	keep := filepath.Join(t.TempDir(), "compare.pcapng")
	args := []string{"compare", "--lab", "tickets.hollowtarn.example", "-t", "A", "--from", "office,isp,public"}
	o := run(t, append(args, "--zone-servers", "--expect", "203.0.113.140", "--keep", keep)...)
	assert.Equal(t, 3, o.code)
	for _, want := range []string{"5 of 7 have it (71 %)", "still old office, ns.farhost.test", "within 1 week"} {
		assert.Contains(t, squeezed(o), want)
	}
	kept := squeezed(run(t, "decode", keep, "--view", "exchanges", "--type", "A"))
	assert.Contains(t, kept, "tickets.hollowtarn.example A: 203.0.113.80")
	assert.Contains(t, kept, "(2001:db8:0:2::10 queried 2001:db8:113::11)")

	for from, words := range map[string]string{"isp": "only isp gave a result", "isp,public": "both agree"} { // nobody differs from anybody
		o := run(t, "compare", "--lab", "tickets.hollowtarn.example", "-t", "A", "--from", from)
		assert.Contains(t, o.stdout, words)
		assert.Contains(t, squeezed(o), "answer 203.0.113.140")
		assert.NotContains(t, o.stdout, "differs", from)
	}

	rows, err := csv.NewReader(strings.NewReader(run(t, append(args, "--csv")...).stdout)).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 4)
	assert.Equal(t, "server", rows[0][2])
	values := map[string]string{}
	for _, row := range rows[1:] {
		values[row[2]] = row[7]
	}
	assert.Equal(t, map[string]string{"office": "203.0.113.80", "isp": "203.0.113.140", "public": "203.0.113.140"}, values)

	d, _ := runJSON(t, append(args, "--expect", "203.0.113.140")...)
	var result []struct {
		Move struct{ Have, Lack []string }
	}
	require.NoError(t, json.Unmarshal(d.Result, &result))
	assert.Equal(t, []string{"office"}, result[0].Move.Lack)
	assert.Contains(t, squeezed(run(t, append(args, "--over", "tls")...)), "isp 198.51.100.53, a cache, TTL 1 h (3600), over TLS")
}

func TestWatch(t *testing.T) {
	for _, tt := range []struct {
		name string
		args []string
		code int
		want []string
	}{
		{"a move reaches the last cache", []string{"tickets.hollowtarn.example", "--from", "office,isp", "--every", "100ms", "--lab-speed", "800", "--for", "20s", "--until", "203.0.113.140"}, 0,
			[]string{"office says 203.0.113.80, for 4", "office now answers 203.0.113.140; before, it answered 203.0.113.80", "all give 203.0.113.140"}},
		{"until all agree", []string{"web.hollowtarn.example", "--from", "office,isp", "--every", "100ms", "--until-agree"}, 0, []string{"1 round: all say the same"}},
		{"two caches behind one address", []string{"hollowtarn.example", "-t", "MX", "--from", "public", "--every", "100ms", "--for", "1s", "--lab-speed", "50"}, 0, []string{"2 caches have been seen behind this address", "several caches behind one address"}},
		{"the zone's own server never counts down", []string{"web.hollowtarn.example", "--from", "203.0.113.11", "--every", "100ms", "--for", "1s", "--lab-speed", "50"}, 0, []string{"never falls", "0 changes"}},
		{"what does not come about", []string{"web.hollowtarn.example", "--from", "office", "--every", "50ms", "--for", "200ms", "--until", "192.0.2.1"}, 3, []string{"not reached: all give 192.0.2.1"}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			o := run(t, append([]string{"watch", "--lab"}, tt.args...)...)
			o.holds(t, tt.code, tt.want, nil)
		})
	}
	lines := strings.Split(strings.TrimSpace(run(t, "watch", "--lab", "web.hollowtarn.example", "--from", "office", "--every", "50ms", "--for", "150ms", "--json").stdout), "\n")
	var first struct{ Event, Server, Says string }
	require.NoError(t, json.Unmarshal([]byte(lines[0]), &first))
	assert.Equal(t, "first office 203.0.113.120, 203.0.113.121", first.Event+" "+first.Server+" "+first.Says)
	assert.Contains(t, lines[len(lines)-1], `"summary"`)
	for _, bad := range [][]string{{"--every", "0s"}, {"--until", "x", "--until-agree"}, {"--for", "-1s"}} {
		assert.Equal(t, 2, run(t, append([]string{"watch", "--lab", "a.example"}, bad...)...).code)
	}
}

// A monitor reads what is seen of several names, a command runs at each change, and an interruption is the usual end.
func TestInterruptedWatchSumsUp(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("no interrupt can be sent there")
	}
	changes := filepath.Join(t.TempDir(), "changes.jsonl")
	cmd := exec.Command(program, "watch", "--lab", "tickets.hollowtarn.example", "web.hollowtarn.example", "--from", "office,isp", "--every", "100ms", "--for", "0",
		"--lab-speed", "2000", "--metrics", "0", "--registry", "--on-change", "cat >> "+changes)
	var stdout bytes.Buffer
	cmd.Stdout = &stdout
	stderr, err := cmd.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	told, err := bufio.NewReader(stderr).ReadString('\n')
	require.NoError(t, err)
	_, address, found := strings.Cut(strings.TrimSpace(told), "metrics at ")
	require.True(t, found, told)
	scrape := func() string {
		reply, err := http.Get(address)
		require.NoError(t, err)
		defer reply.Body.Close()
		assert.Contains(t, reply.Header.Get("Content-Type"), "application/openmetrics-text")
		text, err := io.ReadAll(reply.Body)
		require.NoError(t, err)
		return string(text)
	}
	require.Eventually(t, func() bool {
		text := scrape()
		return strings.Contains(text, `unquil_changes_total{name="tickets.hollowtarn.example",type="A",server="office"} 1`) &&
			strings.Contains(text, `unquil_agreement{name="tickets.hollowtarn.example",type="A"} 1`)
	}, 20*time.Second, 100*time.Millisecond)
	text := scrape()
	for _, part := range []string{`unquil_queries_total{name="web.hollowtarn.example",type="A",server="isp",outcome="answered"} `, `unquil_reply_seconds_bucket{name="web.hollowtarn.example",type="A",server="isp",le="+Inf"} `, "unquil_ttl_left_seconds{", `unquil_domain_left_seconds{domain="hollowtarn.example"} `} {
		assert.Contains(t, text, part)
	}
	assert.True(t, strings.HasSuffix(text, "\n# EOF\n"))
	assert.Eventually(t, func() bool { _, err := os.Stat(changes); return err == nil }, 5*time.Second, 50*time.Millisecond)
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	cmd.Wait()
	assert.Equal(t, 0, cmd.ProcessState.ExitCode())
	assert.Contains(t, stdout.String(), ": interrupted")
	assert.Contains(t, stdout.String(), "office on tickets.hollowtarn.example A now answers 203.0.113.140")
	event, err := os.ReadFile(changes)
	require.NoError(t, err)
	assert.Contains(t, string(event), `"event":"changed"`)
}
