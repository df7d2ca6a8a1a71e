package text

import (
	"fmt"
	"strings"

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
