package test

import (
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The example of every option of every command does what it is an example of, as the reference has it.
func TestEveryOptionOnce(t *testing.T) {
	reference, err := os.ReadFile("../docs/reference.md")
	require.NoError(t, err)
	schemas, err := published() // before the folder is another
	require.NoError(t, err)
	require.NotEmpty(t, schemas)
	t.Chdir(t.TempDir())
	require.Zero(t, run(t, "lab", "export", "lab").code)
	root := run(t, "ask", "--lab", ".", "--type", "DNSKEY", "--records")
	for name, text := range map[string]string{
		"list.txt": "www.hollowtarn.example\ntickets.hollowtarn.example\n", "domains.txt": "hollowtarn.example\n", "addresses.txt": "203.0.113.80\n", "own.key": root.stdout,
	} {
		require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
	}
	prepared, err := os.ReadDir(".")
	require.NoError(t, err)

	own := regexp.MustCompile(`--(ca|source) `) // which take what only some machine has
	lines := map[string]bool{}
	for _, m := range regexp.MustCompile("(?m)^- `--.* as in `(.*)`$").FindAllStringSubmatch(string(reference), -1) {
		lines[strings.TrimPrefix(strings.ReplaceAll(m[1], `\`, ""), "unquil ")] = true
	}
	assert.Greater(t, len(lines), 250)
	for line := range lines {
		words := shellWords(line)
		switch words[0] {
		case "listen", "session", "browse", "watch": // which a person ends
			continue
		}
		if strings.Contains(line, "--follow-file") || strings.Contains(line, "--listen") {
			continue
		}
		if first, _, again := strings.Cut(line, " --changes-from "); again {
			require.Contains(t, []int{0, 3}, run(t, append(shellWords(first), "--save", "monday.json")...).code, first)
		}
		o := runIn(t, []string{"UNQUIL_LAB=1", "COLUMNS=80"}, words...)
		if own.MatchString(line) && o.code != 0 && o.code != 3 {
			assert.Contains(t, o.stderr, "unquil: ", line)
		} else {
			assert.Contains(t, []int{0, 3}, o.code, "%s: %s", line, o.stderr)
		}
		made, err := os.ReadDir(".")
		require.NoError(t, err)
		for _, entry := range made {
			if !slices.ContainsFunc(prepared, func(p os.DirEntry) bool { return p.Name() == entry.Name() }) {
				require.NoError(t, os.RemoveAll(entry.Name()))
			}
		}
	}
}
