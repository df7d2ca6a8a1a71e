package text

import (
	"bytes"
	"fmt"
	"io"
	"strings"

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

// Screen shows the first lines of what is written to it, and says how many more there were.
type Screen struct {
	W    io.Writer
	Most int // lines; 0: all
	rest []byte
	seen int
}

func (s *Screen) Write(b []byte) (int, error) {
	if s.Most == 0 {
		return s.W.Write(b)
	}
	s.rest = append(s.rest, b...)
	for {
		line, rest, whole := bytes.Cut(s.rest, []byte("\n"))
		if !whole {
			return len(b), nil
		}
		if s.seen++; s.seen <= s.Most {
			if _, err := s.W.Write(append(bytes.Clone(line), '\n')); err != nil {
				return 0, err
			}
		}
		s.rest = append(s.rest[:0], rest...)
	}
}

// Close says what was left out.
func (s *Screen) Close() error {
	if len(s.rest) > 0 { // a last line without an end
		if _, err := s.Write([]byte("\n")); err != nil {
			return err
		}
	}
	if s.Most == 0 || s.seen <= s.Most {
		return nil
	}
	_, err := fmt.Fprintf(s.W, "… and %s\n", wording.Count(s.seen-s.Most, "more line", "more lines"))
	return err
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
