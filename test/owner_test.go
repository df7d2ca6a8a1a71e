package test

import (
	"cmp"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every domain, address and number of which the lab's registries tell is told as they have it,
// and with what is wrong with it; the others with nothing above a note.
func TestOwnerBench(t *testing.T) {
	faults, healthy := 0, 0
	for _, o := range scenario(t).Owners {
		if o.Finding == "" {
			healthy++
		} else {
			faults++
		}
		t.Run(o.Asked+": "+o.What, func(t *testing.T) {
			got := run(t, "owner", "--lab", "--wait", "500ms", o.Asked)
			unreachable := o.Finding == "registry-unreachable"
			code := map[bool]int{true: 3}[o.Finding != "" && o.Severity == ""]
			if unreachable {
				code = 1 // whose it is could not be learnt
			}
			got.holds(t, code, o.Says, nil)
			var d struct {
				document
				Result []struct {
					Asked, Kind string
					RDAP        []struct{ Object map[string]any }
				}
			}
			require.NoError(t, json.Unmarshal([]byte(run(t, "owner", "--lab", "--json", "--wait", "500ms", o.Asked).stdout), &d))
			require.Len(t, d.Result, 1)
			assert.Equal(t, o.Asked, d.Result[0].Asked)
			found := false
			for _, f := range d.Findings {
				found = found || f.Code == o.Finding && f.Severity == cmp.Or(o.Severity, "fault")
				assert.False(t, o.Finding == "", "%s: %s", f.Code, f.Text)
				assert.NotEmpty(t, f.Next, f.Code)
			}
			assert.Equal(t, o.Finding != "", found, "%s, and found %v", o.Finding, d.Findings)
			if !unreachable && o.Finding != "domain-unregistered" && o.Asked != "ghost.example" {
				require.NotEmpty(t, d.Result[0].RDAP, "the object as it came stands beside")
				assert.NotEmpty(t, d.Result[0].RDAP[0].Object)
			}
		})
	}
	assert.GreaterOrEqual(t, faults, 15)
	assert.GreaterOrEqual(t, healthy, 8)
}

func TestOwnerShows(t *testing.T) {
	lists := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(lists, "ipv4.json"), []byte(`{"services": [[["203.0.113.0/24"], ["https://rdap.numbers.test/"]]]}`), 0o600))
	const web = "203.0.113.120 Hollow Tarn Cableways, HOLLOWTARN-HILL"
	for _, tt := range []struct {
		name string
		args []string
		code int
		want []string
		not  []string
	}{
		{"what is wrong leads", []string{"owner", "summit-huts.example"}, 3, []string{"fault summit-huts.example expired on 6 February 2026 and is on hold (client hold). Its holder has to renew it at its registrar (Farhost Names), by 23 March 2026, or it is released.",
			"status client hold: the registrar has taken it out of the DNS", "ns.farhost.test yes no unknown"}, nil},
		{"held against the DNS", []string{"owner", "hollowtarn.example"}, 0, []string{"hollowtarn.example is registered to Hollow Tarn Cableways at Farhost Names, until 2 April 2027.", "ns.farhost.test yes yes yes"}, nil},
		{"addresses of one network together", []string{"owner", "203.0.113.40", "198.51.100.70", "203.0.113.41"}, 0, []string{"203.0.113.40 and 203.0.113.41 belong to Hollow Tarn Cableways. network 203.0.113.0/26", "198.51.100.70 belongs to Lanternpost Mail."}, nil},
		{"bare", []string{"owner", "--bare", "203.0.113.40", "hollowtarn.example", "AS64500"}, 0, []string{"203.0.113.40 Hollow Tarn Cableways hollowtarn.example 2027-04-02 AS64500 Upland Internet"}, nil},
		{"lists of one's own", []string{"owner", "203.0.113.40", "--bootstrap", lists}, 0, []string{"HOLLOWTARN-WEB"}, nil},
		{"lists that lack it", []string{"owner", "198.51.100.70", "--bootstrap", lists}, 1, []string{"no registry for it is in the lists"}, nil},
		{"owners of an answer", []string{"ask", "www.hollowtarn.example", "--owners"}, 0, []string{"whose addresses " + web}, nil},
		{"of a way", []string{"trace", "www.hollowtarn.example", "--owners"}, 0, []string{web, "203.0.113.77 Farhost Ltd, FARHOST-1"}, nil},
		{"of a zone", []string{"zone", "fellcast.test", "--owners"}, 0, []string{"198.51.100.81 Lanternpost Mail, LANTERNPOST"}, nil},
		{"of mail", []string{"mail", "lanternpost.test", "--owners"}, 0, []string{"198.51.100.95 Lanternpost Mail, LANTERNPOST"}, nil},
		{"of reverse names", []string{"reverse", "203.0.113.120", "--owners"}, 0, []string{web}, nil},
		{"nobody is told unasked", []string{"ask", "www.hollowtarn.example"}, 0, nil, []string{"HOLLOWTARN-HILL"}},
		{"bare stays bare", []string{"ask", "www.hollowtarn.example", "--owners", "--bare"}, 0, []string{"203.0.113.121"}, []string{"whose"}},
		{"why asks the registry", []string{"why", "summit-huts.example", "-t", "A"}, 3, []string{"fault summit-huts.example expired on 6 February 2026", "where the root or registry", "the domain's holder, at its registrar", "by 23 March 2026, or it is released", "problem the registry, which is told summit-huts.example"}, nil},
		{"why does not", []string{"why", "summit-huts.example", "-t", "A", "--no-registry"}, 0, []string{"NXDOMAIN"}, []string{"expired on", "which is told"}},
		{"nor for a healthy name", []string{"why", "www.hollowtarn.example", "-t", "A"}, 0, nil, []string{"which is told"}},
		{"whose the silent server is", []string{"why", "summit.camera.hollowtarn.example", "-t", "A"}, 3, []string{"203.0.113.151 is an address of Hollow Tarn Cableways (noc@hollowtarn.example)."}, nil},
		{"an address inside a network", []string{"owner", "10.0.0.1"}, 2, nil, nil},
		{"plain HTTP", []string{"owner", "203.0.113.40", "--bootstrap", "http://rdap.infra.test/"}, 2, nil, nil},
		{"a folder that is not there", []string{"owner", "203.0.113.40", "--bootstrap", filepath.Join(lists, "no")}, 2, nil, nil},
		{"nothing", []string{"owner"}, 2, nil, nil},
	} {
		t.Run(tt.name, func(t *testing.T) {
			run(t, append(tt.args, "--lab")...).holds(t, tt.code, tt.want, tt.not)
		})
	}
	d := struct {
		Owners []struct{ Address, Problem string }
	}{}
	require.NoError(t, json.Unmarshal([]byte(run(t, "ask", "--lab", "--json", "www.hollowtarn.example", "--owners").stdout), &d))
	assert.Len(t, d.Owners, 4)
}

// What a registry told of a verdict is kept with its evidence, and judged again without it.
func TestWhyKeepsWhatTheRegistryTold(t *testing.T) {
	kept := filepath.Join(t.TempDir(), "huts.pcapng")
	first := run(t, "why", "--lab", "summit-huts.example", "-t", "A", "--keep", kept)
	again := run(t, "why", "--lab", "--capture", kept)
	assert.Equal(t, 3, again.code, again.stderr)
	head, _, _ := strings.Cut(squeezed(first), "evidence")
	assert.True(t, strings.HasPrefix(squeezed(again), head), "%s\n%s", head, again.stdout)
}

// Whoever holds an address has a name that no redaction knows: they are not told.
func TestRedactedReportsNameNoHolder(t *testing.T) {
	report := filepath.Join(t.TempDir(), "camera.md")
	assert.Equal(t, 3, run(t, "why", "--lab", "summit.camera.hollowtarn.example", "-t", "A", "--report", report, "--redact", "hollowtarn.example").code)
	text, err := os.ReadFile(report)
	require.NoError(t, err)
	assert.NotContains(t, string(text), "Cableways")
}

func TestBootstrapOfTheConfiguration(t *testing.T) {
	folder := t.TempDir()
	config := filepath.Join(folder, "config.toml")
	require.NoError(t, os.WriteFile(config, []byte("[registry]\nbootstrap = '"+folder+"'\n"), 0o600))
	o := run(t, "owner", "--lab", "--config", config, "203.0.113.40")
	assert.Equal(t, 1, o.code)
	assert.Contains(t, squeezed(o), "the list of registries (ipv4.json) is not there")
}

// In a session an address or a host of an answer is asked for by its number.
func TestOwnerInASession(t *testing.T) {
	script := filepath.Join(t.TempDir(), "lines")
	require.NoError(t, os.WriteFile(script, []byte("tickets.hollowtarn.example\nowner 1\n"), 0o600))
	o := run(t, "session", "--lab", "--script", script)
	assert.Contains(t, squeezed(o), "belongs to")
}
