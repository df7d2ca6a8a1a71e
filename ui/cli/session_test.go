package cli

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/ui/files"
)

// newTestShell is a session in the lab.
func newTestShell(t *testing.T) *shell {
	t.Helper()
	a := &app{ctx: t.Context(), files: &files.Files{}, stdout: &bytes.Buffer{}, stderr: &bytes.Buffer{}, environ: []string{"UNQUIL_LAB=1", "HOME=" + t.TempDir()}}
	a.lab, a.speed, a.colour = true, 1, "never"
	a.Group = map[string][]string{"everyone": {"office", "isp"}}
	s := newShell(a, nil)
	require.NoError(t, a.openStanding())
	t.Cleanup(s.simulation.Close)
	return s
}

// Tab completes what may stand where the cursor is: words, types, resolvers, codes, views,
// files, options, and names that were seen.
func TestSessionCompletes(t *testing.T) {
	s := newTestShell(t)
	t.Chdir(t.TempDir())
	require.NoError(t, os.MkdirAll("reports/old", 0o755))
	require.NoError(t, os.WriteFile("reports/case.html", nil, 0o600))
	require.NoError(t, os.WriteFile("relay.pcap", nil, 0o600))
	s.line(t.Context(), "ask hollowtarn.example --type mx --from office", &bytes.Buffer{}, &bytes.Buffer{})
	for _, tt := range []struct {
		line string // the cursor is at its end
		from int
		want []string
	}{
		{"tra", 0, []string{"trace", "transfer"}},
		{"from off", 5, []string{"office"}},
		{"from office,ev", 5, []string{"office,everyone"}},
		{"ask x.example --from ro", 21, []string{"root"}},
		{"type AAA", 5, []string{"AAAA"}},
		{"type a,nsec3p", 5, []string{"a,NSEC3PARAM"}},
		{"ask x.example -t DNSK", 17, []string{"DNSKEY"}},
		{"ask x.example --type=cname,dnsk", 21, []string{"cname,DNSKEY"}},
		{"over t", 5, []string{"tcp", "tls"}},
		{"dnssec o", 7, []string{"off", "on"}},
		{"from office type m", 17, nil},
		{"findings lame-", 9, []string{"lame-server"}},
		{"decode --view cl", 14, []string{"clients"}},
		{"decode --finding unans", 17, []string{"unanswered"}},
		{"decode valley-m", 7, []string{"valley-morning.cdns", "valley-morning.dnstap", "valley-morning.pcapng"}},
		{"decode rel", 7, []string{"relay.pcap"}},
		{"report rep", 7, []string{"reports/"}},
		{"report reports/", 7, []string{"reports/case.html", "reports/old/"}},
		{"report x.html --red", 14, []string{"--redact"}},
		{"compare x --zone-s", 10, []string{"--zone-servers"}},
		{"ask mx1.h", 4, []string{"mx1.hollowtarn.example"}},
		{"from isp; hollowt", 10, []string{"hollowtarn.example"}},
		{"help tra", 5, []string{"trace", "transfer"}},
		{"note tra", 5, nil},
		{"nothingofthekind", 0, nil},
	} {
		from, words := s.Complete(tt.line, len(tt.line))
		assert.Equal(t, tt.from, from, tt.line)
		if strings.HasPrefix(tt.line, "from office type m") {
			assert.Contains(t, words, "MX", tt.line)
			continue
		}
		assert.Equal(t, tt.want, words, tt.line)
	}
	from, words := s.Complete("tra www.example", 3)
	assert.Equal(t, 0, from)
	assert.Contains(t, words, "trace", "before the cursor, whatever follows")
}

// The prompt says in words what is chosen, and no more than fits.
func TestSessionPrompts(t *testing.T) {
	s := newTestShell(t)
	for _, tt := range []struct{ line, prompt string }{
		{"", "ask system for A, AAAA:"},
		{"from office,isp type mx,txt", "ask office, isp for MX, TXT:"},
		{"over tcp; wait 1s", "ask office, isp for MX, TXT over TCP, wait 1s:"},
		{"dnssec; recursion off; over usual; wait usual", "ask office, isp for MX, TXT, no recursion, dnssec:"},
		{"usual from root", "ask root for A, AAAA:"},
		{"from 192.0.2.1,192.0.2.2,192.0.2.3,192.0.2.4,192.0.2.5,192.0.2.6", "ask 192.0.2.1, 192.0.2.2, 192.0.2.3, 192.0.2.4, 192.0.2.5, …:"},
	} {
		assert.Equal(t, exitDone, s.line(t.Context(), tt.line, &bytes.Buffer{}, &bytes.Buffer{}), tt.line)
		assert.Equal(t, tt.prompt, s.Prompt())
	}
}

// A line that is ended keeps what is known, and the next one works.
func TestSessionLineIsEnded(t *testing.T) {
	s := newTestShell(t)
	ctx, stop := context.WithCancel(t.Context())
	stop()
	var out bytes.Buffer
	s.line(ctx, "www.hollowtarn.example", &out, &out)
	s.line(t.Context(), "ask www.hollowtarn.example --type A", &out, &out)
	assert.Contains(t, out.String(), "203.0.113.120")
	assert.Equal(t, "working", s.Progress(), "nothing is being asked")
}

func TestStateFile(t *testing.T) {
	assert.Equal(t, filepath.Join("/state", "unquil", "history"), stateFile([]string{"XDG_STATE_HOME=/state", "HOME=/home/me"}, "history"))
	assert.Contains(t, stateFile([]string{"HOME=/home/me", "LOCALAPPDATA=/local"}, "history"), filepath.Join("unquil", "history"))
	assert.Empty(t, stateFile(nil, "history"))
}

// The lines of a session at a terminal are kept for the next, readable by their owner alone.
func TestHistoryIsKept(t *testing.T) {
	var open files.Files
	path := filepath.Join(t.TempDir(), "state", "unquil", "history")
	for _, line := range []string{"one\n", "two\n"} {
		journal, err := open.Journal(path, true)
		require.NoError(t, err)
		require.NoError(t, journal.Share([]byte(line)))
		require.NoError(t, journal.Close())
	}
	kept, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "one\ntwo\n", string(kept))
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())
}

// Whatever is typed, its words are read back from their quoted form.
func FuzzSplitLine(f *testing.F) {
	for _, line := range []string{`note "the caller's" x`, `ask a\.b.example # remark`, `decode --where 'a == "b"'`, "", `"`, "a;b ; c"} {
		f.Add(line)
	}
	f.Fuzz(func(t *testing.T, line string) {
		words, err := splitLine(line)
		if err != nil {
			assert.ErrorIs(t, err, errQuote)
			return
		}
		var quoted []string
		for _, w := range words {
			quoted = append(quoted, `"`+strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(w)+`"`)
		}
		again, err := splitLine(strings.Join(quoted, " "))
		require.NoError(t, err)
		assert.Equal(t, words, again)
	})
}
