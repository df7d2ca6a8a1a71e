// Package test holds tests of the whole: of the built program, and of how the
// source hangs together.
package test

import (
	"go/ast"
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
	"core/wire":            {},
	"core/escape":          {},
	"core/wording":         {"core/wire"},
	"core/finding":         {"core/exchange"},
	"core/machine":         {"core/wire"},
	"core/idn":             {"core/wire"},
	"core/zonefile":        {"core/wire"},
	"core/exchange":        {"core/wire", "core/escape"},
	"core/serverlog":       {"core/wire"},
	"core/capture":         {"core/escape", "core/serverlog"},
	"core/hello":           {"core/capture"},
	"core/evidence":        {"core/wire", "core/escape", "core/exchange", "core/capture"},
	"core/sequence":        {"core/wire", "core/exchange"},
	"core/attest":          {"core/dnssec", "core/wire", "core/finding"},
	"core/conversation":    {"core/attest", "core/wire", "core/wording", "core/escape", "core/exchange", "core/capture", "core/finding", "core/hello", "core/evidence", "core/serverlog"},
	"core/comparison":      {"core/wording", "core/wire", "core/exchange", "core/finding"},
	"core/dnssec":          {"core/wire"},
	"core/delegation":      {"core/dnssec", "core/idn", "core/wording", "core/wire", "core/zonefile", "core/exchange", "core/finding"},
	"core/tsig":            {"core/wire"},
	"core/transfer":        {"core/wire", "core/exchange", "core/finding", "core/tsig"},
	"core/zonecare":        {"core/wording", "core/wire", "core/exchange", "core/finding", "core/tsig", "core/transfer"},
	"core/redact":          {"core/wire", "core/idn", "core/escape", "core/exchange"},
	"core/live":            {"core/wire", "core/escape", "core/exchange", "core/capture", "core/conversation", "core/serverlog"},
	"core/mail":            {"core/dnssec", "core/wire", "core/wording", "core/escape", "core/exchange", "core/finding", "core/idn"},
	"core/registry":        {"core/wire", "core/wording", "core/escape", "core/exchange", "core/finding"},
	"core/signing":         {"core/dnssec", "core/wording", "core/wire", "core/exchange", "core/finding"},
	"core/probe":           {"core/escape", "core/dnssec", "core/signing", "core/wording", "core/zonecare", "core/transfer", "core/tsig", "core/wire", "core/exchange", "core/finding", "core/machine", "core/comparison", "core/delegation", "core/registry"},
	"core/diagnosis":       {"core/dnssec", "core/capture", "core/probe", "core/mail", "core/registry", "core/idn", "core/wording", "core/wire", "core/exchange", "core/finding", "core/machine", "core/comparison", "core/delegation", "core/conversation", "core/sequence", "core/evidence"},
	"lab":                  {"core/dnssec", "core/wire", "core/zonefile", "core/exchange", "core/capture", "core/tsig"},
	"lab/recording":        {"core/wire", "core/capture", "lab"},
	"lab/recording/served": {"core/capture", "core/conversation", "core/serverlog", "lab/recording"},
	"lab/generate":         {"lab/recording", "lab/recording/served"},
	"core/casework":        {"core/wire", "core/escape", "core/exchange", "core/finding", "core/evidence"},
	"lab/labtest":          {"core/*", "lab"}, // for tests
	"ui/text":              {"core/*", "lab", "ui/data"},
	"ui/page":              {"core/*"},
	"ui/data":              {"core/*", "lab"},
	"ui/files":             {},
	"ui/session":           {},
	"ui/browse":            {"core/*", "ui/text"},
	"ui/cli":               {"core/*", "lab", "ui/text", "ui/data", "ui/page", "ui/files", "ui/session", "ui/browse"},
	"cmd/unquil":           {"ui/cli"},
	"cmd/manual":           {"ui/cli", "ui/data", "core/finding", "core/wire"},
	"cmd/release":          {"ui/cli"},
	"test/built":           {},
	"test/namespaces":      {},
	"test/underwine":       {},
	"test/engines":         {},
	"test":                 {"core/*", "lab", "lab/recording", "ui/*"},
}

// outside are the packages that core may import besides the standard library.
var outside = map[string][]string{
	"core/exchange":  {"golang.org/x/sys/unix", "github.com/quic-go/quic-go"},
	"core/machine":   {"golang.org/x/sys/windows", "golang.org/x/sys/windows/registry"},                 // what Windows says of its adapters
	"core/idn":       {"golang.org/x/net/idna", "golang.org/x/net/publicsuffix"},                        // scripts, and which domains people can register names in
	"core/dnssec":    {"github.com/cloudflare/circl/sign/ed448"},                                        // which the standard library lacks
	"core/live":      {"golang.org/x/net/bpf", "golang.org/x/sys/unix"},                                 // what the system is told with
	"core/serverlog": {"google.golang.org/protobuf/encoding/protowire", "github.com/fxamacker/cbor/v2"}, // the open formats that servers write
	"core/capture":   {"github.com/klauspost/compress/gzip", "github.com/klauspost/compress/zstd"},
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

// unfit are packages of the standard library that core does not import: it reads no file,
// flag or environment, and writes to no stream, that was not handed to it.
var unfit = []string{"os", "flag", "log", "log/slog"}

// clocks read the machine's own time; core is handed its clocks.
var clocks = map[string]bool{"Now": true, "Since": true, "Until": true, "NewTicker": true, "Tick": true}

func TestCoreReadsNothingByItself(t *testing.T) {
	eachFile(t, "../core", func(path string, file *ast.File) {
		if strings.HasSuffix(path, "_test.go") {
			return
		}
		for _, spec := range file.Imports {
			to, _ := strconv.Unquote(spec.Path.Value)
			assert.NotContains(t, unfit, to, path)
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if of, ok := n.(*ast.SelectorExpr); ok && clocks[of.Sel.Name] {
				if from, ok := of.X.(*ast.Ident); ok && from.Name == "time" {
					t.Errorf("%s calls time.%s", path, of.Sel.Name)
				}
			}
			return true
		})
	})
}

// A fuzz target begins with something to change: without a seed it tries next to nothing.
func TestFuzzTargetsHaveSeeds(t *testing.T) {
	targets := 0
	eachFile(t, "..", func(path string, file *ast.File) {
		for _, d := range file.Decls {
			f, ok := d.(*ast.FuncDecl)
			if !ok || !strings.HasPrefix(f.Name.Name, "Fuzz") || !strings.HasSuffix(path, "_test.go") {
				continue
			}
			targets++
			seeded := false
			ast.Inspect(f, func(n ast.Node) bool {
				of, ok := n.(*ast.SelectorExpr)
				seeded = seeded || ok && of.Sel.Name == "Add"
				return true
			})
			assert.True(t, seeded, "%s of %s adds no seed", f.Name.Name, path)
		}
	})
	assert.Greater(t, targets, 10)
}

// eachFile parses every Go file under a folder.
func eachFile(t *testing.T, root string, each func(path string, file *ast.File)) {
	require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() && strings.HasSuffix(path, ".go") {
			file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
			require.NoError(t, err)
			each(path, file)
		}
		return err
	}))
}

func matches(patterns []string, name string) bool {
	for _, p := range patterns {
		if prefix, ok := strings.CutSuffix(p, "*"); ok && strings.HasPrefix(name, prefix) || p == name {
			return true
		}
	}
	return false
}
