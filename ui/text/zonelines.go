package text

import (
	"bytes"
	"fmt"
	"strings"

	"unquil/core/wording"
)

// ZoneLines takes a zone as a master file, and draws it with each name once.
type ZoneLines struct {
	view  *View
	most  int // lines that are drawn
	lines []string
	more  int
	rest  []byte // a line that has not ended yet
}

// Bounds on the lines of a zone that are drawn.
const (
	zonePage     = 40
	mostZoneLine = 200_000
)

// ZoneLines is ready to take a zone; without all it draws a page of it.
func (v *View) ZoneLines(all bool) *ZoneLines {
	z := &ZoneLines{view: v, most: zonePage}
	if all {
		z.most = mostZoneLine
	}
	return z
}

// Write takes lines of a master file, a record each. It has no error.
func (z *ZoneLines) Write(b []byte) (int, error) {
	n := len(b)
	for {
		end := bytes.IndexByte(b, '\n')
		if end < 0 {
			z.rest = append(z.rest, b...)
			return n, nil
		}
		line := string(append(z.rest, b[:end]...))
		z.rest, b = z.rest[:0], b[end+1:]
		if len(z.lines) < z.most {
			z.lines = append(z.lines, line)
		} else {
			z.more++
		}
	}
}

// Draw draws them.
func (z *ZoneLines) Draw() {
	v := z.view
	if len(z.lines) == 0 {
		return
	}
	v.line()
	v.line(strong.Render("what is in it"))
	before, widest := "", 0
	for _, line := range z.lines {
		widest = max(widest, strings.IndexByte(line, ' '))
	}
	for _, line := range z.lines {
		owner, rest, _ := strings.Cut(line, " ")
		ttl, rest, _ := strings.Cut(rest, " ")
		rest = strings.TrimPrefix(rest, "IN ")
		of, value, _ := strings.Cut(rest, " ")
		if v.Whole {
			v.line("  ", subject.Render(pad(owner, widest)), " ", pad(of, 11), quiet.Render(pad(ttl, 8)), value)
			continue
		}
		if owner != before {
			v.line("  ", subject.Render(owner))
			before = owner
		}
		v.flow("    "+pad(of, 11)+quiet.Render(pad(ttl, 8)), 24, value, plainStyle)
	}
	if z.more > 0 {
		v.flow("", 2, fmt.Sprintf("and %s more; --all shows them, --bare and --to FILE give them as a master file", wording.Count(z.more, "record", "records")), quiet)
	}
}
