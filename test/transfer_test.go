package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// keyFile writes the key of the lab that opens transfers, with another secret if
// one is given.
func keyFile(t *testing.T, secret string) string {
	key := scenario(t).Keys[0]
	if secret == "" {
		secret = key.Secret
	}
	path := filepath.Join(t.TempDir(), "key.toml")
	require.NoError(t, os.WriteFile(path, []byte("name = \""+key.Name+"\"\nalgorithm = \""+key.Algorithm+"\"\nsecret = \""+secret+"\"\n"), 0o600))
	return path
}

func TestTransfer(t *testing.T) {
	key, wrong := keyFile(t, ""), keyFile(t, "dGFybg==")
	folder := t.TempDir()
	old := filepath.Join(folder, "old.zone")
	broken := filepath.Join(folder, "broken.zone")
	require.NoError(t, os.WriteFile(broken, []byte("tarn A not-an-address\n"), 0o600))
	const dns1, far = "--from=dns1.hollowtarn.example", "--from=ns.farhost.test"
	for _, tt := range []struct {
		name string
		args []string
		code int
		want []string
		not  []string
	}{
		{"given to anybody", []string{far, "--to", old}, 0, []string{"serial 2026030701, 64 records", "written " + old, "transfer-open"}, nil},
		{"refused", []string{dns1}, 3, []string{"was not transferred: the server does not allow the transfer (REFUSED)", "transfer-refused"}, nil},
		{"with the key", []string{dns1, "--key", key}, 0, []string{"serial 2026030902, 64 records", "signed with the key summit.hollowtarn.example"}, []string{"transfer-open"}},
		{"with another secret", []string{dns1, "--key", wrong}, 3, []string{"was not transferred"}, nil},
		{"over TLS", []string{dns1, "--key", key, "--over", "tls"}, 0, []string{"64 records"}, nil},
		{"what changed", []string{dns1, "--key", key, "--since", "2026030701"}, 0, []string{"changed from serial 2026030701 to 2026030902: 2 records removed, 2 records added", "removed tickets.hollowtarn.example 43200 A 203.0.113.80", "added tickets.hollowtarn.example 3600 A 203.0.113.140"}, nil},
		{"nothing changed", []string{dns1, "--key", key, "--since", "2026030902"}, 0, []string{"is at serial 2026030902: nothing changed"}, nil},
		{"against the old file", []string{dns1, "--key", key, "--against", old}, 0, []string{"2 records only at dns1.hollowtarn.example, 2 records only in " + old, "tickets.hollowtarn.example 43200 A 203.0.113.80", "content-differs"}, nil},
		{"against itself", []string{dns1, "--key", key, "--against", "dns1.hollowtarn.example"}, 0, []string{"every record is the same"}, []string{"content-differs"}},
		{"against a server that refuses", []string{far, "--against", "dns1.hollowtarn.example"}, 3, []string{"could not be compared"}, nil},
		{"against a file that is no zone", []string{far, "--against", broken}, 1, []string{"could not be compared"}, nil},
		{"no server is named", nil, 2, nil, nil},
		{"over UDP", []string{far, "--over", "udp"}, 2, nil, nil},
		{"a key file that is none", []string{far, "--key", broken}, 1, nil, nil},
		{"both changes and sorted", []string{far, "--since", "1", "--sorted"}, 2, nil, nil},
	} {
		t.Run(tt.name, func(t *testing.T) {
			o := run(t, append([]string{"transfer", "--lab", "hollowtarn.example"}, tt.args...)...)
			o.holds(t, tt.code, tt.want, tt.not)
			if tt.code == 1 || tt.code == 2 {
				assert.Contains(t, o.stderr, "next: ")
			}
		})
	}
	o := run(t, "transfer", "--lab", "hollowtarn.example", dns1, "--key", key, "--sorted", "--bare")
	lines := strings.Split(strings.TrimSpace(o.stdout), "\n")
	assert.Len(t, lines, 64)
	assert.Contains(t, lines[0], " SOA ")
	assert.NoFileExists(t, old+".part")
	d, code := runJSON(t, "transfer", "--lab", "hollowtarn.example", dns1, "--key", key, "--against", old)
	assert.Zero(t, code)
	assert.Contains(t, string(d.Result), `"only_other": 2`)
}

// A transfer that fails leaves no file that looks like a zone.
func TestTransferThatFailsLeavesNoZone(t *testing.T) {
	path := filepath.Join(t.TempDir(), "zone")
	o := run(t, "transfer", "--lab", "hollowtarn.example", "--from", "dns1.hollowtarn.example", "--to", path)
	assert.Equal(t, 3, o.code)
	assert.NoFileExists(t, path)
	assert.NoFileExists(t, path+".part")
	o = run(t, "transfer", "--lab", "hollowtarn.example", "--from", "ns.farhost.test", "--to", filepath.Join(t.TempDir(), "nowhere", "zone"))
	assert.Equal(t, 1, o.code)
	assert.Contains(t, o.stderr, "writing the zone")
}

func TestZoneOptions(t *testing.T) {
	key := keyFile(t, "")
	file := filepath.Join(t.TempDir(), "hollowtarn.zone")
	require.Zero(t, run(t, "transfer", "--lab", "hollowtarn.example", "--from", "dns1.hollowtarn.example", "--key", key, "--to", file).code)
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	lines := strings.SplitAfter(string(whole), "\n")
	folder := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(folder, "parts"), 0o700))
	split, outside := filepath.Join(folder, "split.zone"), filepath.Join(folder, "parts", "outside.zone")
	write := func(path string, parts ...string) {
		require.NoError(t, os.WriteFile(path, []byte(strings.Join(parts, "")), 0o600))
	}
	write(filepath.Join(folder, "parts", "hosts.zone"), lines[len(lines)/2:]...)
	write(split, append(lines[:len(lines)/2:len(lines)/2], "$INCLUDE parts/hosts.zone\n")...)
	write(outside, "$INCLUDE ../split.zone\n")
	assert.Contains(t, run(t, "zone", "--lab", "hollowtarn.example", "--against", outside).stderr,
		"outside.zone line 1 column 10: $INCLUDE: reading ../split.zone: it is not below the folder of the file that includes it")
	for _, tt := range []struct {
		name string
		args []string
		code int
		want []string
		not  []string
	}{
		{"against a file that includes another", []string{"hollowtarn.example", "--against", split}, 0, []string{"dns1.hollowtarn.example (203.0.113.11) serves exactly what it should"}, nil},
		{"against a file that includes one outside its folder", []string{"hollowtarn.example", "--against", outside}, 1, nil, nil},
		{"who gives the zone away", []string{"hollowtarn.example", "--try-transfer"}, 0, []string{"203.0.113.11 2026030902 yes yes no refused", "203.0.113.77 2026030701 yes yes no open", "transfer-open"}, nil},
		{"seen from a network that swallows EDNS", []string{"hollowtarn.example", "--lab-path", "before-edns", "--wait", "200ms"}, 0, []string{"edns-lost", "203.0.113.11 2026030902 yes no no"}, []string{"edns-breaks"}},
		{"when a copy expires", []string{"hollowtarn.example"}, 0, []string{"goes on answering for 1 week 4 days from now"}, nil},
		{"against the file that it is", []string{"hollowtarn.example", "--against", file}, 0, []string{"dns1.hollowtarn.example (203.0.113.11) serves exactly what it should", "ns.farhost.test (203.0.113.77) is missing 2 records and serves 2 records too many", "missing tickets.hollowtarn.example 3600 A 203.0.113.140"}, nil},
		{"against it whole", []string{"hollowtarn.example", "--against", file, "--try-transfer", "--key", key}, 0, []string{"(203.0.113.11) serves exactly what it should (by transferring the zone)"}, nil},
		{"a zone that nobody delegates", []string{"www.depot.hollowtarn.example", "--from", "ns.farhost.test"}, 3, []string{"depot.hollowtarn.example has 1 fault", "listed by nobody", "no-delegation"}, nil},
		{"that zone at two servers of which one has it", []string{"www.depot.hollowtarn.example", "--from", "dns1.hollowtarn.example,ns.farhost.test"}, 3, []string{"dns1.hollowtarn.example listed by nobody 203.0.113.11 not its own", "ns.farhost.test listed by nobody 203.0.113.77 2026030802"}, nil},
		{"a server that only the zone lists", []string{"valley.hollowtarn.example"}, 0, []string{"ns2.farhost.test listed by the zone alone 203.0.113.78 2026021501"}, nil},
		{"a file that is not there", []string{"hollowtarn.example", "--against", "nothing.zone"}, 1, nil, nil},
	} {
		t.Run(tt.name, func(t *testing.T) {
			run(t, append([]string{"zone", "--lab"}, tt.args...)...).holds(t, tt.code, tt.want, tt.not)
		})
	}
}
