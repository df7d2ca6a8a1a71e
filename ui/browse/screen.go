package browse

import (
	"context"
	"os"
	"strings"
	"sync/atomic"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	"unquil/core/escape"
	"unquil/ui/text"
)

// Run browses on a full screen until somebody ends it. The error is that of the terminal.
func Run(ctx context.Context, b *Browser, in *os.File, out interface{ Write([]byte) (int, error) }, environ []string) error {
	m := newModel(ctx, b)
	options := []tea.ProgramOption{tea.WithContext(ctx), tea.WithInput(in), tea.WithOutput(out), tea.WithEnvironment(environ), tea.WithoutSignalHandler()}
	if b.colour == text.Never {
		options = append(options, tea.WithColorProfile(colorprofile.ASCII))
	}
	_, err := tea.NewProgram(m, options...).Run()
	m.stop()
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// model is the full screen.
type model struct {
	*Browser
	ctx      context.Context
	stop     context.CancelFunc
	input    textinput.Model
	progress atomic.Pointer[string] // of the job that runs
	top      int                    // the screen's line on which the first item begins
	rows     []int                  // which item each of the lines after it is of
}

type (
	done  struct{ apply func() }
	clock struct{}
	look  struct{}
)

// The clock redraws progress; now and then one looks whether the files have grown.
const (
	drawEvery = 200 * time.Millisecond
	lookEvery = 2 * time.Second
)

func newModel(ctx context.Context, b *Browser) *model {
	m := &model{Browser: b, input: textinput.New()}
	m.ctx, m.stop = context.WithCancel(ctx)
	m.input.Prompt = ""
	m.input.KeyMap.Paste.SetEnabled(false)
	return m
}

func tick(after time.Duration, msg tea.Msg) tea.Cmd {
	return tea.Tick(after, func(time.Time) tea.Msg { return msg })
}

// Init begins to read.
func (m *model) Init() tea.Cmd {
	return tea.Batch(m.start(), tick(drawEvery, clock{}), tick(lookEvery, look{}))
}

// start begins the next job, if one is due.
func (m *model) start() tea.Cmd {
	run := m.Next(m.ctx, func(words string) { m.progress.Store(&words) })
	if run == nil {
		return nil
	}
	m.progress.Store(nil)
	return func() tea.Msg { return done{run()} }
}

// Update takes one event.
func (m *model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = max(msg.Width, 40), max(msg.Height, frame+3)
		if s := m.here(); s != nil {
			m.require(s)
		}
	case done:
		msg.apply()
	case clock:
		return m, tick(drawEvery, clock{})
	case look:
		m.Grown()
		return m, tea.Batch(m.start(), tick(lookEvery, look{}))
	case tea.KeyPressMsg:
		if m.asking != nil {
			return m, m.edit(msg)
		}
		if !m.Press(msg.String()) {
			return m, tea.Quit
		}
		m.ask()
	case tea.PasteMsg:
		if m.asking != nil {
			m.input.SetValue(m.input.Value() + msg.Content)
			m.input.CursorEnd()
			m.typed()
		}
	case tea.MouseWheelMsg:
		switch msg.Button {
		case tea.MouseWheelUp:
			m.move(-3)
		case tea.MouseWheelDown:
			m.move(3)
		}
	case tea.MouseClickMsg:
		m.click(msg.Y)
	}
	return m, m.start()
}

// click goes to the item on a line of the screen, and down from the one where one stands.
func (m *model) click(line int) {
	s := m.here()
	if line -= m.top; s == nil || s.page != nil || line < 0 || line >= len(m.rows) || m.rows[line] == noRow || m.asking != nil {
		return
	}
	if m.rows[line] == s.at {
		m.Down()
		return
	}
	m.move(m.rows[line] - s.at)
}

// ask opens the line to type in, where one is wanted.
func (m *model) ask() {
	if m.asking != nil {
		m.input.SetValue(m.asking.typed)
		m.input.CursorEnd()
		m.input.Focus()
	}
}

// edit takes a key of the line that is being typed.
func (m *model) edit(msg tea.KeyPressMsg) tea.Cmd {
	switch msg.String() {
	case "esc", "ctrl+c":
		m.asking = nil
		return m.start()
	case "enter":
		asked := m.asking
		m.asking = nil
		asked.done(strings.TrimSpace(m.input.Value()))
		return m.start()
	}
	before := m.input.Value()
	var cmd tea.Cmd
	m.input, cmd = m.input.Update(msg)
	if m.input.Value() != before {
		m.typed()
	}
	return tea.Batch(cmd, m.start())
}

// typed tells that what is being typed has changed.
func (m *model) typed() {
	if m.asking.changed != nil {
		m.asking.changed(m.input.Value())
	}
}

var (
	trailStyle = lipgloss.NewStyle().Bold(true).Foreground(lipgloss.Cyan)
	quiet      = lipgloss.NewStyle().Faint(true)
	bold       = lipgloss.NewStyle().Bold(true)
	bad        = lipgloss.NewStyle().Bold(true).Foreground(lipgloss.Red)
	good       = lipgloss.NewStyle().Foreground(lipgloss.Green)
)

// View draws the screen: the trail, a sentence, what is looked at, what came of the last key,
// and the keys.
func (m *model) View() tea.View {
	view := tea.NewView(strings.Join(m.lines(), "\n"))
	view.AltScreen, view.MouseMode = true, tea.MouseModeCellMotion
	view.WindowTitle = "unquil browse " + m.Title
	return view
}

func (m *model) lines() []string {
	width := m.width
	var out []string
	place := m.place()
	out = append(out, trailStyle.Render(ansi.Truncate(m.Trail(width), width, "…")))
	s := m.here()
	about := "reading"
	if s != nil {
		about = s.about()
	}
	room := width - ansi.StringWidth(place) - 2
	about = ansi.Truncate(about, max(room, 20), "…")
	out = append(out, quiet.Render(about)+strings.Repeat(" ", max(width-ansi.StringWidth(about)-ansi.StringWidth(place), 1))+quiet.Render(place), "")
	m.top = len(out)
	out = append(out, m.content(s)...)
	for len(out) < m.height-3 {
		out = append(out, "")
	}
	out = append(out[:min(len(out), m.height-3)], "", "", quiet.Render(ansi.Truncate(m.keyLine(), width, "…")))
	for i := range out { // whatever went wrong before, nothing acts from here on
		out[i] = ansi.Truncate(escape.Styled(out[i]), width, "")
	}
	out[len(out)-2] = m.foot()
	return out
}

// content are the lines of what is looked at. The item where one stands has a mark in front.
func (m *model) content(s *screen) (out []string) {
	m.rows = nil
	if s == nil {
		return nil
	}
	lines, rows := m.visible(s)
	if s.page != nil {
		return lines
	}
	m.rows = rows
	for i, line := range lines {
		lead := "  "
		if rows[i] == s.at && (i == 0 || rows[i-1] != s.at) {
			lead = bold.Render("> ")
		}
		out = append(out, lead+line)
	}
	return out
}

// foot is the line above the keys: what is typed, what is being done, or what came of it.
func (m *model) foot() string {
	if m.asking != nil {
		label := bold.Render(m.asking.label+":") + " "
		hint := m.asking.hint
		if m.asking.left != nil {
			if words, known := m.asking.left(); known {
				hint = words
			} else if p := m.progress.Load(); p != nil && m.running != nil && m.running.kind == "choose" {
				hint = *p
			}
		}
		m.input.SetWidth(max(m.width-ansi.StringWidth(label)-ansi.StringWidth(hint)-4, 16))
		// The line that is typed moves the cursor, and lets nothing in that could do more.
		return ansi.Truncate(label+m.input.View()+"  "+quiet.Render(escape.Styled(hint)), m.width, "…")
	}
	words := m.Working()
	if p := m.progress.Load(); p != nil && words != "" {
		words = *p
	}
	switch {
	case m.said != "" && m.wrong:
		return bad.Render(ansi.Truncate(string(escape.Of(m.said)), m.width, "…"))
	case m.said != "":
		return good.Render(ansi.Truncate(string(escape.Of(m.said)), m.width, "…"))
	}
	return quiet.Render(ansi.Truncate(words, m.width, "…"))
}

// keyLine names the keys that matter where one stands.
func (m *model) keyLine() string {
	s := m.here()
	switch {
	case m.asking != nil:
		return "Enter takes it, Esc leaves it"
	case s == nil:
		return "q ends"
	case s.one != 0 && s.page != nil:
		return "Enter bytes, Esc up, < > others of the list, o b f a s m related ones, ? help"
	case s.find != nil:
		return "Enter down, Esc up, / narrow, Space mark, w write, n note, 1-9 lists, ? help"
	}
	return "Enter down, Esc up, / narrow, 1-9 lists, ? help, q end"
}
