package test

import (
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write the golden files again; read the difference before it is committed")

// shown are commands whose whole output is kept in testdata. With asJSON the keys and
// forms of their JSON are kept too, since scripts rely on them.
var shown = []struct {
	name   string
	asJSON bool
	args   []string
}{
	{"ask", true, []string{"ask", "www.hollowtarn.example", "tickets.hollowtarn.example", "tikets.hollowtarn.example", "-t", "A", "--from", "office"}},
	{"compare", true, []string{"compare", "tickets.hollowtarn.example", "-t", "A", "--from", "office,isp", "--zone-servers"}},
	{"trace", true, []string{"trace", "tickets.hollowtarn.example", "-t", "A"}},
	{"why", true, []string{"why", "status.lifts.hollowtarn.example", "-t", "A"}},
	{"why-healthy", false, []string{"why", "www.hollowtarn.example", "-t", "A"}},
	{"why-capture", true, []string{"why", "--capture", "valley-morning.pcapng"}},
	{"zone", true, []string{"zone", "hollowtarn.example"}},
	{"transfer", true, []string{"transfer", "lifts.hollowtarn.example", "--from", "dns1.hollowtarn.example"}},
	{"reverse", true, []string{"reverse", "203.0.113.80"}},
	{"local", true, []string{"local", "shop"}},
	{"watch", true, []string{"watch", "tickets.hollowtarn.example", "--from", "office,isp", "--every", "20m", "--for", "1h"}},
	{"decode", true, []string{"decode", "valley-morning.pcapng"}},
	{"decode-servers", false, []string{"decode", "valley-morning.pcapng", "--view", "servers"}},
	{"decode-exchange", false, []string{"decode", "valley-morning.pcapng", "--exchange", "3"}},
	{"decode-message", true, []string{"decode", "--message", "broken-answer.dns"}},
	{"listen", false, []string{"listen", "--for", "30s"}},
	{"listen-while", true, []string{"listen", "--while", "ask www.hollowtarn.example status.lifts.hollowtarn.example -t A --bare", "--lab-latency", "20ms", "--view", "programs"}},
	{"why-listen", true, []string{"why", "www.hollowtarn.example", "-t", "A", "--from", "office", "--lab-path", "repainted", "--listen"}},
	{"mail", true, []string{"mail", "lanternpost.test", "--selector", "spring", "--sender", "192.0.2.241"}},
	{"mail-broken", false, []string{"mail", "hollowtarn.example"}},
	{"owner", true, []string{"owner", "summit-huts.example", "203.0.113.80", "www.hollowtarn.example"}},
	{"why-expired", false, []string{"why", "summit-huts.example", "-t", "A"}},
	{"findings", false, []string{"findings", "lame-server"}},
	{"lab", true, []string{"lab", "show"}},
	{"help", false, []string{"--help"}},
	{"help-why", false, []string{"why", "--help"}},
}

// chance is what differs from run to run: questions go out at the same time, and their
// numbers are given as they do. A row of its own, or what ends a line.
var chance = regexp.MustCompile(`(\n +evidence {2,}|\s+evidence:\s+|\s+evidence\s+)(exchanges?)\s+\d+(?:,\s+\d+)*`)

// steady is an output without what differs from run to run.
func steady(text string) string {
	return chance.ReplaceAllStringFunc(text, func(cited string) string {
		part := chance.FindStringSubmatch(cited)
		if label := part[1]; strings.HasPrefix(label, "\n") && strings.HasSuffix(label, "  ") {
			return label + part[2] + " …"
		}
		return " " + strings.TrimSpace(part[1]) + " " + part[2] + " …"
	})
}

// The output of each command is what it was when somebody last read it.
func TestOutputsAreAsLastRead(t *testing.T) {
	for _, tt := range shown {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			for _, columns := range []string{"80", "120"} {
				o := runIn(t, []string{"COLUMNS=" + columns}, append([]string{"--lab"}, tt.args...)...)
				asLastRead(t, tt.name+"-"+columns+".txt", steady(o.stdout))
			}
			if tt.asJSON {
				o := run(t, append(append([]string{"--lab"}, tt.args...), "--json")...)
				asLastRead(t, tt.name+".keys", outline(t, o.stdout))
			}
		})
	}
}

// What happens in the lab happens by the lab's clock, whatever this machine's says: here, that of the year 2000.
func TestLabHasOneClock(t *testing.T) {
	for _, line := range []string{
		"why tickets.hollowtarn.example --type A --from office", "trace valley.gates.hollowtarn.example",
		"mail hollowtarn.example --sender 203.0.113.25", "zone hollowtarn.example", "compare tickets.hollowtarn.example --from office,isp --zone-servers",
	} {
		t.Run(line, func(t *testing.T) {
			t.Parallel()
			report := filepath.Join(t.TempDir(), "case.html")
			o := run(t, append(strings.Fields(line), "--lab", "--json", "--save", report+".json", "--report", report)...)
			require.Contains(t, []int{0, 3}, o.code, o.stderr)
			assert.Regexp(t, `"sent": ?"2026-03-09T07:4`, o.stdout)
			written, err := os.ReadFile(report)
			require.NoError(t, err)
			kept, err := os.ReadFile(report + ".json")
			require.NoError(t, err)
			for _, text := range []string{o.stdout, string(written), string(kept)} {
				assert.NotRegexp(t, `2000-0|(January|February) 2000`, text)
			}
		})
	}
}

// asLastRead compares a text with the golden file of that name.
func asLastRead(t *testing.T, name, text string) {
	t.Helper()
	path := filepath.Join("testdata", name)
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	kept, err := os.ReadFile(path)
	require.NoError(t, err, "write it: go test ./test -run AsLastRead -update")
	assert.Equal(t, string(kept), text, "%s: read what changed, then run with -update", name)
}

// outline is the paths of all keys in JSON documents, each with the form of its values.
func outline(t *testing.T, documents string) string {
	t.Helper()
	seen := map[string]bool{}
	var walk func(path string, v any)
	walk = func(path string, v any) {
		switch v := v.(type) {
		case map[string]any:
			for key, inner := range v {
				walk(path+"."+key, inner)
			}
		case []any:
			for _, inner := range v {
				walk(path+"[]", inner)
			}
		default:
			seen[fmt.Sprintf("%s %T\n", path, v)] = true
		}
	}
	decoder := json.NewDecoder(strings.NewReader(documents))
	for decoder.More() {
		var v any
		require.NoError(t, decoder.Decode(&v))
		walk("", v)
	}
	return strings.Join(slices.Sorted(maps.Keys(seen)), "")
}
