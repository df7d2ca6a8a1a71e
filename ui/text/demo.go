package text

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"unquil/core/wording"
	"unquil/lab"
)

// Story tells what the demo is about.
func (v *View) Story() error {
	scenario, err := lab.Load()
	if err != nil {
		return err
	}
	v.flow("", 0, strings.TrimSpace(scenario.Story), plainStyle)
	return v.err
}

// Scene opens one scene of the demo: the complaint and the command for it.
func (v *View) Scene(number, of int, said string, command []string) {
	v.line()
	v.line(quiet.Render(strings.Repeat("_", v.width)))
	v.line()
	v.flow("", 0, fmt.Sprintf("%d of %d  ", number, of)+strong.Render(said), plainStyle)
	v.flow("", 0, "type: unquil "+Shell(command...)+" --lab", subject)
	v.line()
}

// Screen shows so many lines of what is written to it: those that matter, and before them the first ones. It says how
// many it left out.
type Screen struct {
	W       io.Writer
	Most    int      // lines; 0: all
	Matters []string // what lines that matter have in them
	text    []byte
}

func (s *Screen) Write(b []byte) (int, error) {
	if s.Most == 0 {
		return s.W.Write(b)
	}
	s.text = append(s.text, b...)
	return len(b), nil
}

// Close shows what there is room for.
func (s *Screen) Close() error {
	if len(s.text) == 0 {
		return nil
	}
	lines := strings.Split(strings.TrimSuffix(string(s.text), "\n"), "\n")
	var out strings.Builder
	left, gap := 0, false
	for i, shown := range s.choose(lines) {
		if shown {
			out.WriteString(lines[i] + "\n")
		} else if left++; !gap {
			out.WriteString("…\n")
		}
		gap = !shown
	}
	text := out.String()
	if left > 0 {
		text = strings.TrimSuffix(text, "…\n") + "… and " + wording.Count(left, "more line", "more lines") + "\n"
	}
	_, err := io.WriteString(s.W, text)
	return err
}

// choose says which lines are shown: all that matter, and as many of the first as there is room for beside them.
func (s *Screen) choose(lines []string) []bool {
	shown := make([]bool, len(lines))
	for first := min(len(lines), s.Most); first >= 0; first-- {
		for i, line := range lines {
			shown[i] = i < first || slices.ContainsFunc(s.Matters, func(has string) bool { return strings.Contains(ansi.Strip(line), has) })
		}
		rows := 0 // with one for each gap but the last
		last := len(lines)
		for last > 0 && !shown[last-1] {
			last--
		}
		for i := range last {
			if !shown[i] && (i == 0 || shown[i-1]) && shown[i+1] {
				shown[i] = true // instead of a sign that one line is missing
			}
			if shown[i] || i == 0 || shown[i-1] {
				rows++
			}
		}
		if rows <= s.Most {
			break
		}
	}
	return shown
}

// Learned closes a scene with what it showed.
func (v *View) Learned(text string) {
	v.line()
	v.flow(good.Render("learned"), 9, text, plainStyle)
}

// Say writes a text as it is.
func (v *View) Say(text string) {
	v.line()
	v.line(text)
}

// Typed shows a line that is typed at a prompt.
func (v *View) Typed(prompt, line string) {
	v.line(quiet.Render(prompt), " ", strong.Render(line))
}
