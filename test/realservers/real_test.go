//go:build realservers && linux

package realservers

import (
	"encoding/json"
	"fmt"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// document is what these tests read of the JSON.
type document struct {
	Findings []struct {
		Code, Severity, Text string
		About                map[string]string
	}
	Exchanges []struct {
		Number    int
		Outcome   string
		Transport string
		Question  struct{ Name, Type string }
		Server    struct{ Address string }
		Values    []string
	}
	Result json.RawMessage
}

func roots() string { return filepath.Join(folder, "hints") }

func runJSON(t testing.TB, args ...string) (d document, code int) {
	o := run(t, append(args, "--json")...)
	require.NoError(t, json.Unmarshal([]byte(o.stdout), &d), "%s%s", o.stdout, o.stderr)
	return d, o.code
}

// codes are the findings, with their weight and the server they are about.
func (d document) codes() (list []string) {
	for _, f := range d.Findings {
		list = append(list, strings.TrimSpace(f.Severity+" "+f.Code+" "+f.About["server"]))
	}
	slices.Sort(list)
	return slices.Compact(list)
}

// Every type that the primary takes comes back with the text of the master file,
// from the zone's own server and through both resolvers, over every transport.
func TestEveryType(t *testing.T) {
	require.Greater(t, len(typeRows), 50)
	ca := filepath.Join(folder, "tls.pem")
	for _, from := range []string{primaryAt, "tcp://" + primaryAt, secondaryAt, unboundAt, "tcp://" + unboundAt, "tls://" + unboundAt, kresdAt, "tcp://" + kresdAt, "tls://" + kresdAt} {
		t.Run(from, func(t *testing.T) {
			t.Parallel()
			for _, row := range typeRows {
				typ, text := row[0], row[1]
				if strings.HasSuffix(from, kresdAt) && notThroughKresd[typ] || strings.HasSuffix(from, unboundAt) && notThroughUnbound[typ] {
					continue
				}
				o := run(t, "ask", "t-"+strings.ToLower(typ)+".types.example.", "--type", typ, "--from", from, "--bare", "--ca", ca)
				assert.Equal(t, text, strings.TrimSpace(o.stdout), "%s %s", typ, o.stderr)
			}
		})
	}
}

// What resolvers keep to themselves: proofs of absence and signatures are theirs to
// use, and they give NODATA or SERVFAIL to who asks for them by name.
var (
	notThroughUnbound = map[string]bool{"NSEC": true}
	notThroughKresd   = map[string]bool{"SIG": true}
)

func TestLargeAnswers(t *testing.T) {
	for _, from := range []string{primaryAt, secondaryAt, unboundAt, kresdAt} {
		o := run(t, "ask", "large.hollowtarn.example.", "--type", "TXT", "--from", from, "--bare")
		assert.Equal(t, 250, strings.Count(o.stdout, "the long list the long list")/8, "%s %s", from, o.stderr)
		d, _ := runJSON(t, "ask", "large.hollowtarn.example.", "--type", "TXT", "--from", from)
		assert.Equal(t, "tcp", d.Exchanges[0].Transport, "retried over TCP")
	}
}

func TestCompare(t *testing.T) {
	d, code := runJSON(t, "compare", "www.hollowtarn.example", "a.b.hollow.hollowtarn.example", "nobody.hollowtarn.example", "anyone.guest.hollowtarn.example", "--from", unboundAt+","+kresdAt, "--zone-servers", "--roots", roots())
	assert.Zero(t, code)
	for _, f := range d.Findings {
		assert.NotEqual(t, "fault", f.Severity, f.Text)
	}
	var results []struct {
		Groups []json.RawMessage
	}
	require.NoError(t, json.Unmarshal(d.Result, &results))
	require.Len(t, results, 8)
	for _, r := range results {
		assert.Len(t, r.Groups, 1, "all agree")
	}
}

func TestTrace(t *testing.T) {
	for _, tt := range []struct {
		name  string
		code  int
		want  string
		found []string
	}{
		{"www.hollowtarn.example", 0, "resolves to 203.0.113.120, answered by the servers of hollowtarn.example", nil},
		{"host4999.crowd.example", 0, "resolves to 203.0.113.250", nil},
		{"b.hollow.hollowtarn.example", 0, "exists but has no A record (NODATA)", nil},
		{"nobody.hollowtarn.example", 0, "nobody.hollowtarn.example does not exist (NXDOMAIN)", nil},
		{"anyone.guest.hollowtarn.example", 0, "resolves to 203.0.113.66", nil},
		{"www.stopped.example", 3, "stops at stopped.example: no server listed for it gives a usable answer", []string{"fault unreachable ns.stopped.example."}},
		{"www.refused.example", 3, "stops at refused.example", []string{"fault lame-server dns1.hollowtarn.example.", "fault lame-server dns2.hollowtarn.example."}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			o := run(t, "trace", tt.name, "--roots", roots())
			assert.Equal(t, tt.code, o.code, o.stderr)
			assert.Contains(t, words(o.stdout), tt.want)
			d, _ := runJSON(t, "trace", tt.name, "--roots", roots())
			for _, want := range tt.found {
				assert.Contains(t, d.codes(), want)
			}
			if tt.found == nil {
				for _, f := range d.Findings {
					assert.NotEqual(t, "fault", f.Severity, f.Text)
				}
			}
		})
	}
}

func TestTransfer(t *testing.T) {
	key := write("key.toml", "name = \"summit.\"\nalgorithm = \"hmac-sha256\"\nsecret = \""+keySecret+"\"\n")
	from := func(server string, args ...string) outcome {
		return run(t, append([]string{"transfer", "--from", server}, args...)...)
	}
	whole := filepath.Join(t.TempDir(), "crowd.zone")
	o := from(primaryAt, "crowd.example", "--to", whole)
	assert.Zero(t, o.code, "%s%s", o.stdout, o.stderr)
	assert.Contains(t, words(o.stdout+o.stderr), "5,003 records")
	assert.Zero(t, from(secondaryAt, "crowd.example", "--against", whole).code, "the secondary has the same")
	assert.Equal(t, 3, from(primaryAt, "held.example").code, "not without the key")
	assert.Zero(t, from(primaryAt, "held.example", "--key", key).code)
	bad := write("bad.toml", "name = \"summit.\"\nalgorithm = \"hmac-sha256\"\nsecret = \"d3Jvbmc=\"\n")
	assert.NotZero(t, from(primaryAt, "held.example", "--key", bad).code)
}

// A secondary that is held back by one serial is seen, and once it has followed, it
// tells what changed.
func TestSecondaryThatLags(t *testing.T) {
	held(2)
	nsdReload(t, "held.example")
	require.NoError(t, await(primaryAt, "held.example."))
	var d document
	for range 20 { // the primary reads its file in its own time
		if d, _ = runJSON(t, "zone", "held.example", "--roots", roots()); len(d.codes()) > 0 && strings.Contains(strings.Join(d.codes(), " "), "serials-differ") {
			break
		}
	}
	assert.Contains(t, strings.Join(d.codes(), "; "), "serials-differ dns2.hollowtarn.example.")
	d, code := runJSON(t, "trace", "new.held.example", "--roots", roots())
	assert.Equal(t, 3, code)
	assert.Contains(t, d.codes(), "fault answers-differ dns2.hollowtarn.example.")

	out, err := exec.Command("knotc", "-c", filepath.Join(folder, "secondary.conf"), "zone-refresh", "held.example").CombinedOutput()
	require.NoError(t, err, "%s", out)
	var o outcome
	for range 50 {
		if o = run(t, "transfer", "held.example", "--from", secondaryAt, "--since", "1"); strings.Contains(o.stdout, "203.0.113.11") {
			break
		}
	}
	assert.Zero(t, o.code, "%s%s", o.stdout, o.stderr)
	assert.Contains(t, o.stdout, "new.held.example", "the change alone")
	assert.NotContains(t, o.stdout, "203.0.113.10\n", "and not what stayed")
	_, code = runJSON(t, "trace", "new.held.example", "--roots", roots())
	assert.Zero(t, code)
}

// Two servers with one serial and different data contradict each other, and a zone on its
// parent's own servers is a zone and no fault.
func TestServersThatContradictEachOther(t *testing.T) {
	d, code := runJSON(t, "zone", "twofold.example", "--also", "www.twofold.example", "--roots", roots())
	assert.Equal(t, 3, code)
	assert.Contains(t, strings.Join(d.codes(), "; "), "fault answers-differ")
	assert.NotContains(t, strings.Join(d.codes(), "; "), "serials-differ")
	for _, resolver := range []string{unboundAt, kresdAt} { // whichever of the two it has
		o := run(t, "why", "www.twofold.example", "--type", "A", "--from", resolver, "--roots", roots())
		assert.Equal(t, 3, o.code, o.stdout)
		assert.Contains(t, words(o.stdout), "where one of the zone's servers", resolver)
		assert.Contains(t, o.stdout, "answers-differ", resolver)
	}

	for _, command := range []string{"zone", "trace"} { // a change that one server of the registry has not heard of
		d, code = runJSON(t, command, "parted.example", "--roots", roots())
		assert.Zero(t, code, command)
		assert.Contains(t, strings.Join(d.codes(), "; "), "parent-differs", command)
	}

	d, code = runJSON(t, "zone", "www.below.hollowtarn.example", "--roots", roots())
	assert.Zero(t, code)
	assert.NotContains(t, strings.Join(d.codes(), "; "), "fault")
	assert.Contains(t, run(t, "zone", "www.below.hollowtarn.example", "--roots", roots()).stdout, "below.hollowtarn.example works")
	d, code = runJSON(t, "why", "www.below.hollowtarn.example", "--type", "A", "--from", unboundAt, "--roots", roots())
	assert.Zero(t, code)
	assert.NotContains(t, strings.Join(d.codes(), "; "), "fault")
}

func TestReverse(t *testing.T) {
	o := run(t, "reverse", "203.0.113.120", "203.0.113.80", "--from", unboundAt)
	assert.Contains(t, words(o.stdout), "web.hollowtarn.example, which resolves back")
	assert.Contains(t, o.stdout, "reverse-mismatch")
}

func TestWatchCountsARealCacheDown(t *testing.T) {
	for _, from := range []string{unboundAt, kresdAt} {
		o := run(t, "watch", "mx1.hollowtarn.example", "--type", "A", "--from", from, "--every", "1s", "--for", "3s")
		assert.Zero(t, o.code, o.stderr)
		assert.Contains(t, words(o.stdout), "0 changes", from)
		assert.NotContains(t, o.stdout, "several caches", from)
		assert.NotContains(t, o.stdout, "never falls", from)
	}
}

func TestWhy(t *testing.T) {
	verdict := func(args ...string) (where, at, cause string, code int) {
		d, code := runJSON(t, append(append([]string{"why"}, args...), "--roots", roots())...)
		var results []struct {
			Verdict struct{ Where, At, Cause string }
		}
		require.NoError(t, json.Unmarshal(d.Result, &results))
		v := results[0].Verdict
		return v.Where, v.At, v.Cause, code
	}
	for _, from := range []string{unboundAt, kresdAt} {
		for _, name := range []string{"www.hollowtarn.example", "anyone.guest.hollowtarn.example", "nobody.hollowtarn.example", "host17.crowd.example"} {
			_, _, cause, code := verdict(name, "--from", from)
			assert.Zero(t, code, name)
			assert.Contains(t, []string{"", "one-network"}, cause, name)
		}
		where, at, cause, code := verdict("www.stopped.example", "-t", "A", "--from", from)
		assert.Equal(t, "the zone's servers stopped.example. unreachable 3", fmt.Sprint(where, " ", at, " ", cause, " ", code))
		where, at, cause, code = verdict("www.refused.example", "-t", "A", "--from", from)
		assert.Equal(t, "the delegation refused.example. lame-server 3", fmt.Sprint(where, " ", at, " ", cause, " ", code))
		where, at, cause, code = verdict("www.hollowtarn.example", "-t", "A", "--from", nobodyAt)
		assert.Equal(t, "the path to the resolver "+nobodyAt+" unreachable 3", fmt.Sprint(where, " ", at, " ", cause, " ", code))
	}
	// A view that is meant is nobody's fault: the resolvers' network gets an address of its own.
	if viewsModule() != "" {
		for _, from := range []string{unboundAt, kresdAt} {
			assert.Equal(t, "203.0.113.9\n", run(t, "ask", "www.views.example", "-t", "A", "--from", from, "--bare").stdout)
			_, _, cause, code := verdict("www.views.example", "-t", "A", "--from", from)
			assert.Zero(t, code)
			assert.Contains(t, []string{"", "one-network"}, cause)
		}
		assert.Equal(t, "203.0.113.121\n", run(t, "ask", "www.views.example", "-t", "A", "--from", secondaryAt, "--bare").stdout)
	}
	// Both have an address of their own for one name; one of them takes private addresses out.
	for _, from := range []string{unboundAt, kresdAt} {
		where, at, cause, code := verdict("host18.crowd.example", "-t", "A", "--from", from)
		assert.Equal(t, "the resolver "+from+" answer-local 3", fmt.Sprint(where, " ", at, " ", cause, " ", code))
	}
	where, at, cause, code := verdict("inner.parted.example", "-t", "A", "--from", unboundAt)
	assert.Equal(t, "the resolver "+unboundAt+" answer-blocked 3", fmt.Sprint(where, " ", at, " ", cause, " ", code))
	_, _, _, code = verdict("inner.parted.example", "-t", "A", "--from", kresdAt)
	assert.Zero(t, code)
	// Both resolvers take the old address in before the host moves.
	for _, from := range []string{unboundAt, kresdAt} {
		assert.Equal(t, "203.0.113.80\n", run(t, "ask", "www.moves.example", "-t", "A", "--from", from, "--bare").stdout)
	}
	time.Sleep(1100 * time.Millisecond) // with all of its time left, an answer could be anything but old
	moves("203.0.113.140", 2)
	nsdReload(t, "moves.example")
	out, err := exec.Command("knotc", "-c", filepath.Join(folder, "secondary.conf"), "zone-refresh", "moves.example").CombinedOutput()
	require.NoError(t, err, "%s", out)
	for _, at := range []string{primaryAt, secondaryAt} {
		for range 50 {
			if o := run(t, "ask", "www.moves.example", "-t", "A", "--from", at, "--bare"); o.stdout == "203.0.113.140\n" {
				break
			}
		}
	}
	for _, from := range []string{unboundAt, kresdAt} {
		where, at, cause, code := verdict("www.moves.example", "-t", "A", "--from", from)
		assert.Equal(t, "the resolver "+from+" cache-stale 3", fmt.Sprint(where, " ", at, " ", cause, " ", code))
	}
}

// The evidence that the program keeps of these runs is read back to the same exchanges.
func TestKeptEvidence(t *testing.T) {
	for _, args := range [][]string{
		{"ask", "www.hollowtarn.example", "large.hollowtarn.example", "-t", "A,TXT", "--from", unboundAt + "," + kresdAt},
		{"trace", "www.hollowtarn.example", "--roots", roots()},
		{"why", "www.refused.example", "-t", "A", "--from", kresdAt, "--roots", roots()},
	} {
		file := filepath.Join(t.TempDir(), "kept.pcapng")
		d, _ := runJSON(t, append(args, "--keep", file)...)
		var asked []string
		for _, e := range d.Exchanges {
			asked = append(asked, fmt.Sprint(e.Question, e.Outcome, e.Server.Address, e.Values))
		}
		var read []string
		o := run(t, "decode", file, "--json")
		lines := strings.Split(strings.TrimSpace(o.stdout), "\n")
		for _, line := range lines[:len(lines)-1] {
			var e struct {
				Question struct{ Name, Type string }
				Outcome  string
				Server   struct{ Address string }
				Values   []string
				Related  json.RawMessage
			}
			require.NoError(t, json.Unmarshal([]byte(line), &e))
			if e.Outcome == "truncated" {
				continue // which was retried over TCP: for the program one exchange
			}
			read = append(read, fmt.Sprint(e.Question, e.Outcome, e.Server.Address, e.Values))
		}
		slices.Sort(asked)
		slices.Sort(read)
		assert.Equal(t, asked, read, "%v", args)
	}
}
