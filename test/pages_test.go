package test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// example is a command on a page, and what it writes.
var example = regexp.MustCompile("(?s)```console\n\\$ unquil ([^\n]*)\n(.*?)```")

// pageLines is how many lines of an output a page shows.
const pageLines = 24

// The page of each command shows what the command writes, in time that is simulated.
func TestPagesAreAsRead(t *testing.T) {
	pages, err := filepath.Glob("../docs/commands/*.md")
	require.NoError(t, err)
	assert.Greater(t, len(pages), 12)
	for _, page := range pages {
		t.Run(strings.TrimSuffix(filepath.Base(page), ".md"), func(t *testing.T) {
			t.Parallel()
			text, err := os.ReadFile(page)
			require.NoError(t, err)
			now := example.ReplaceAllStringFunc(string(text), func(block string) string {
				line := example.FindStringSubmatch(block)[1]
				o := runIn(t, []string{"COLUMNS=80"}, shellWords(line)...)
				lines := strings.SplitAfter(steady(o.stdout), "\n")
				if len(lines) > pageLines+1 {
					lines = append(lines[:pageLines], fmt.Sprintf("… and %d more lines\n", len(lines)-1-pageLines))
				}
				return "```console\n$ unquil " + line + "\n" + strings.Join(lines, "") + "```"
			})
			if *update {
				require.NoError(t, os.WriteFile(page, []byte(now), 0o644))
			}
			assert.Equal(t, string(text), now, "read what changed: go test ./test -run PagesAreAsRead -update")
		})
	}
}

// shellWords takes a line apart at its blanks, but for those within single quotes.
func shellWords(line string) (all []string) {
	for i, part := range strings.Split(line, "'") {
		if i%2 == 1 {
			all = append(all, part)
		} else {
			all = append(all, strings.Fields(part)...)
		}
	}
	return all
}

// Links within the documentation lead somewhere.
func TestLinksLead(t *testing.T) {
	var pages []string
	for _, pattern := range []string{"../*.md", "../docs/*.md", "../docs/*/*.md"} {
		found, err := filepath.Glob(pattern)
		require.NoError(t, err)
		pages = append(pages, found...)
	}
	headings := func(path string) string {
		text, _ := os.ReadFile(path)
		return strings.ToLower(string(text))
	}
	links := 0
	for _, page := range pages {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, m := range regexp.MustCompile(`\]\(([^)#\s]*)(#[^)\s]*)?\)`).FindAllStringSubmatch(string(text), -1) {
			if strings.Contains(m[1], "://") {
				continue
			}
			links++
			to := page
			if m[1] != "" {
				to = filepath.Join(filepath.Dir(page), m[1])
				_, err := os.Stat(to)
				assert.NoError(t, err, "%s links to %s", page, m[1])
			}
			if m[2] != "" {
				assert.Contains(t, headings(to), "# "+strings.ReplaceAll(m[2][1:], "-", " "), "%s links to %s", page, m[0])
			}
		}
	}
	assert.Greater(t, links, 80)
	pictures, err := filepath.Glob("../docs/screenshots/*.png")
	require.NoError(t, err)
	assert.Less(t, len(pictures), 20)
	var all strings.Builder
	for _, page := range pages {
		all.WriteString(headings(page))
	}
	for _, picture := range pictures {
		assert.Contains(t, all.String(), "screenshots/"+filepath.Base(picture), "a picture that no page shows")
	}
}
