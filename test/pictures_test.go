package test

import (
	"go/ast"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// importsOf are what each package of the project imports of the others, by path.
func importsOf(t *testing.T) map[string]map[string]bool {
	all := map[string]map[string]bool{}
	for _, root := range []string{"core", "ui", "lab", "cmd"} {
		eachFile(t, "../"+root, func(path string, file *ast.File) {
			if strings.HasSuffix(path, "_test.go") {
				return
			}
			from := strings.TrimPrefix(filepath.ToSlash(filepath.Dir(path)), "../")
			if all[from] == nil {
				all[from] = map[string]bool{}
			}
			for _, spec := range file.Imports {
				if to, _ := strconv.Unquote(spec.Path.Value); strings.HasPrefix(to, "unquil/") {
					all[from][strings.TrimPrefix(to, "unquil/")] = true
				}
			}
		})
	}
	return all
}

// blocks are what stands between fences in the page on the architecture.
func blocks(t *testing.T) []string {
	page, err := os.ReadFile("../docs/architecture.md")
	require.NoError(t, err)
	var all []string
	for i, part := range strings.Split(string(page), "```") {
		if i%2 == 1 {
			all = append(all, part)
		}
	}
	require.Len(t, all, 3)
	return all
}

// The picture of the layers has every package once, and none imports what stands above it.
func TestLayersAreAsDrawn(t *testing.T) {
	row := map[string]int{}
	for i, line := range strings.Split(blocks(t)[0], "\n") {
		for _, name := range regexp.MustCompile(`\b(?:core|ui|cmd)/[a-z]+\b`).FindAllString(line, -1) {
			assert.NotContains(t, row, name)
			row[name] = i
		}
	}
	for from, imports := range importsOf(t) {
		if strings.HasPrefix(from, "lab") {
			continue
		}
		assert.Contains(t, row, from, "the picture lacks a package")
		for to := range imports {
			if !strings.HasPrefix(to, "lab") {
				assert.Greater(t, row[to], row[from], "%s imports %s, which stands beside or above it", from, to)
			}
		}
	}
}

// The picture of a question's way names functions that are there, in packages of which each imports the next.
func TestWayIsAsDrawn(t *testing.T) {
	imports := importsOf(t)
	functions := map[string]map[string]bool{}
	eachFile(t, "..", func(path string, file *ast.File) {
		from := strings.TrimPrefix(filepath.ToSlash(filepath.Dir(path)), "../")
		if functions[from] == nil {
			functions[from] = map[string]bool{}
		}
		for _, d := range file.Decls {
			if f, ok := d.(*ast.FuncDecl); ok {
				functions[from][f.Name.Name] = true
			}
		}
	})
	for _, block := range blocks(t)[1:] {
		previous := ""
		for _, line := range strings.Split(strings.TrimSpace(block), "\n") {
			words := strings.Fields(line)
			name, function := words[0], words[1]
			assert.True(t, functions[name][function], "%s.%s is not there", name, function)
			if previous != "" && previous != name {
				assert.True(t, imports[previous][name] || imports[name][previous], "%s and %s do not know each other", previous, name)
			}
			previous = name
		}
	}
}
