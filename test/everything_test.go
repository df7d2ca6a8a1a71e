package test

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every option of every command does something else than to fall over, as the reference has it.
func TestEveryOptionOnce(t *testing.T) {
	reference, err := os.ReadFile("../docs/reference.md")
	require.NoError(t, err)
	schemas, err := published() // before the folder is another
	require.NoError(t, err)
	require.NotEmpty(t, schemas)
	t.Chdir(t.TempDir())
	require.Zero(t, run(t, "lab", "export", "lab").code)
	content, err := os.ReadFile("lab/captures/valley-morning.pcapng")
	require.NoError(t, err)
	for _, name := range []string{"morning", "monday", "monday-1", "failed"} {
		require.NoError(t, os.WriteFile(name+".pcapng", content, 0o600))
	}
	require.NoError(t, os.WriteFile("list.txt", []byte("www.hollowtarn.example\ntickets.hollowtarn.example\n"), 0o600))
	run(t, "ask", "--lab", "www.hollowtarn.example", "--save", "yesterday.json")

	lines := map[string]bool{}
	for _, m := range regexp.MustCompile("(?m)^- `--.* as in `(.*)`$").FindAllStringSubmatch(string(reference), -1) {
		lines[strings.TrimPrefix(strings.ReplaceAll(m[1], `\`, ""), "unquil ")] = true
	}
	assert.Greater(t, len(lines), 100)
	for line := range lines {
		words := shellWords(line)
		switch words[0] {
		case "listen", "session", "browse", "watch": // which a person ends
			continue
		}
		if strings.Contains(line, "--follow-file") || strings.Contains(line, "--listen") {
			continue
		}
		o := runIn(t, []string{"UNQUIL_LAB=1", "COLUMNS=80"}, words...)
		assert.Contains(t, []int{0, 1, 2, 3}, o.code, line)
		if o.code == 1 || o.code == 2 {
			assert.Contains(t, o.stderr, "unquil: ", line)
		}
	}
}
