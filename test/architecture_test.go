// Package test holds tests of the whole: of the built program, and of how the
// source hangs together.
package test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// mayImport says which packages of the project each package may import. An
// import goes down, never up, and never sideways between the judges.
var mayImport = map[string][]string{
	"core/wire":         {},
	"core/escape":       {},
	"core/wording":      {"core/wire"},
	"core/finding":      {"core/exchange"},
	"core/machine":      {"core/wire"},
	"core/idn":          {"core/wire"},
	"core/zonefile":     {"core/wire"},
	"core/exchange":     {"core/wire", "core/escape"},
	"core/capture":      {"core/escape"},
	"core/hello":        {"core/capture"},
	"core/evidence":     {"core/wire", "core/exchange", "core/capture"},
	"core/sequence":     {"core/wire", "core/exchange"},
	"core/conversation": {"core/wire", "core/wording", "core/escape", "core/exchange", "core/capture", "core/finding", "core/hello", "core/evidence"},
	"core/comparison":   {"core/wire", "core/exchange", "core/finding"},
	"core/delegation":   {"core/wording", "core/wire", "core/zonefile", "core/exchange", "core/finding"},
	"core/tsig":         {"core/wire"},
	"core/transfer":     {"core/wire", "core/exchange", "core/finding", "core/tsig"},
	"core/zonecare":     {"core/wording", "core/wire", "core/exchange", "core/finding", "core/tsig", "core/transfer"},
	"core/redact":       {"core/wire", "core/idn", "core/escape", "core/exchange"},
	"core/mail":         {"core/wire"},
	"core/probe":        {"core/zonecare", "core/transfer", "core/tsig", "core/wire", "core/exchange", "core/finding", "core/machine", "core/comparison", "core/delegation"},
	"core/diagnosis":    {"core/probe", "core/wording", "core/wire", "core/exchange", "core/finding", "core/machine", "core/comparison", "core/delegation", "core/conversation", "core/sequence"},
	"lab":               {"core/wire", "core/zonefile", "core/exchange", "core/capture", "core/tsig"},
	"lab/recording":     {"core/wire", "core/capture", "lab"},
	"lab/generate":      {"lab/recording"},
	"lab/labtest":       {"core/*", "lab"}, // for tests
	"ui/text":           {"core/*", "lab", "ui/data"},
	"ui/page":           {"core/*"},
	"ui/data":           {"core/*", "lab"},
	"ui/files":          {},
	"ui/cli":            {"core/*", "lab", "ui/text", "ui/data", "ui/page", "ui/files"},
	"cmd/unquil":        {"ui/cli"},
	"test/built":        {},
	"test":              {"core/*", "lab", "lab/recording", "ui/*"},
}

// outside are the packages that core may import besides the standard library.
var outside = map[string][]string{
	"core/exchange": {"golang.org/x/sys/unix", "github.com/quic-go/quic-go"},
	"core/idn":      {"golang.org/x/net/idna"},
	"core/capture":  {"github.com/klauspost/compress/gzip", "github.com/klauspost/compress/zstd"},
	// Conditions that people write; their evaluation is no part of the job itself.
	"core/conversation": {"github.com/expr-lang/expr", "github.com/expr-lang/expr/vm"},
}

func TestImportsGoDown(t *testing.T) {
	root := ".."
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		relative, err := filepath.Rel(root, filepath.Dir(path))
		require.NoError(t, err)
		from := filepath.ToSlash(relative)
		allowed, known := mayImport[from]
		assert.True(t, known, "%s is not in the table of packages", from)
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		require.NoError(t, err)
		for _, spec := range file.Imports {
			to, err := strconv.Unquote(spec.Path.Value)
			require.NoError(t, err)
			if own, ok := strings.CutPrefix(to, "unquil/"); ok {
				assert.True(t, matches(allowed, own), "%s imports %s", path, own)
			} else if strings.HasPrefix(from, "core/") && strings.Contains(strings.Split(to, "/")[0], ".") {
				assert.Contains(t, outside[from], to, "%s imports %s", path, to)
			}
		}
		return nil
	})
	require.NoError(t, err)
}

func matches(patterns []string, name string) bool {
	for _, p := range patterns {
		if prefix, ok := strings.CutSuffix(p, "*"); ok && strings.HasPrefix(name, prefix) || p == name {
			return true
		}
	}
	return false
}
