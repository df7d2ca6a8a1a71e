package test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a run came to is saved, and another day's is held against it: only what changed is told, and the exit code
// says whether that is for the worse.
func TestSavedResults(t *testing.T) {
	folder := t.TempDir()
	for _, args := range [][]string{
		{"ask", "tickets.hollowtarn.example", "--from", "office,isp"}, {"compare", "tickets.hollowtarn.example", "--from", "office,isp"}, {"trace", "tickets.hollowtarn.example"},
		{"zone", "hollowtarn.example"}, {"why", "tickets.hollowtarn.example", "--from", "office"}, {"mail", "hollowtarn.example", "lanternpost.test"},
	} {
		t.Run(args[0], func(t *testing.T) {
			file := filepath.Join(folder, args[0]+".json")
			args = append(args, "--lab")
			first := run(t, append(args, "--save", file)...)
			assert.NotEmpty(t, first.stdout)
			o := run(t, append(args, "--changes-from", file)...)
			o.holds(t, 0, []string{"unquil " + args[0], "unchanged", "the same"}, []string{"  before"})

			// Somebody changes what was: every answer is another one, and nothing was found.
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			var d map[string]any
			require.NoError(t, json.Unmarshal(text, &d))
			assertSchemas(t, string(text))
			assert.Equal(t, args[0] != "ask", d["result"] != nil, "what is saved is the whole result")
			worse := 0
			for _, f := range d["findings"].([]any) {
				if f.(map[string]any)["severity"] != "note" {
					worse = 3
				}
			}
			d["findings"] = []any{}
			for _, e := range d["exchanges"].([]any) {
				reply, _ := e.(map[string]any)["reply"].(map[string]any)
				answers, _ := reply["answerRRs"].([]any)
				for _, r := range answers {
					if r := r.(map[string]any); r["TYPEname"] == "A" {
						r["RDATAHEX"] = "cb007109"
					}
				}
			}
			text, err = json.Marshal(d)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(file, text, 0o600))
			o = run(t, append(args, "--changes-from", file)...)
			if args[0] != "zone" { // of which nobody asks for an address
				assert.Contains(t, squeezed(o), "before 203.0.113.9")
			}
			assert.Equal(t, worse, o.code, o.stdout)
			again, _ := runJSON(t, append(args, "--changes-from", file)...)
			assert.Equal(t, args[0], again.Command)
		})
	}
	broken := filepath.Join(folder, "broken.json")
	require.NoError(t, os.WriteFile(broken, []byte("{}"), 0o600))
	o := run(t, "ask", "--lab", "www.hollowtarn.example", "--changes-from", broken)
	assert.Equal(t, 1, o.code)
	assert.Contains(t, o.stderr, "not a result that the program saved")
}
