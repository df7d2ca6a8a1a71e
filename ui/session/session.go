// Package session holds the prompt of a session at a terminal: editing a line, going through
// earlier ones, completing words, and showing how far the line is that runs. What a line means
// is the shell's.
package session

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
)

// Shell runs lines.
type Shell interface {
	// Prompt says what is chosen.
	Prompt() string
	// Run runs a line, writes what came of it to out, and reports whether the session is over.
	Run(ctx context.Context, line string, width int, out io.Writer) (end bool)
	// Complete returns where in a line the word begins that stands before a place, in bytes, and
	// what it may become.
	Complete(line string, at int) (from int, words []string)
	// Progress says how far the line is that runs; it is called while Run is.
	Progress() string
}

// Options say how a session is held.
type Options struct {
	Shell   Shell
	In      *os.File
	Out     io.Writer
	Environ []string
	Plain   bool                    // without colours
	Hello   string                  // said at first
	Earlier []string                // lines, the oldest first
	Keep    func(line []byte) error // keeps a line for the next session; nil: nobody does
}

// Run holds a session until it is over. The error is that of the terminal.
func Run(ctx context.Context, o Options) error {
	m := New(ctx, o)
	options := []tea.ProgramOption{tea.WithContext(ctx), tea.WithInput(o.In), tea.WithOutput(o.Out), tea.WithEnvironment(o.Environ), tea.WithoutSignalHandler()}
	if o.Plain {
		options = append(options, tea.WithColorProfile(colorprofile.ASCII))
	}
	p := tea.NewProgram(m, options...)
	m.print = func(text string) { p.Println(text) }
	_, err := p.Run()
	m.stop()
	if ctx.Err() != nil {
		return nil // it was ended, and that is no failure of the terminal
	}
	return err
}

// Model is the state of the prompt.
type Model struct {
	Options
	input   textinput.Model
	ctx     context.Context
	print   func(text string) // writes whole lines above the prompt, in order
	width   int
	earlier []string
	at      int      // which of the earlier lines is shown; len(earlier): the one that is being typed
	typed   string   // that one, while an earlier one is shown
	queue   []string // lines that wait for their turn
	runs    context.CancelFunc
	began   time.Time
	said    string   // progress of the line that runs
	choices []string // that a word may become
	chosen  int      // the choice that stands in the line; -1: none does
	from    int      // where it begins there
	armed   bool     // the next Ctrl-C on an empty line ends the session
	hint    string
	over    bool
}

// The messages of a line that runs.
type (
	ended   struct{ over bool }
	elapsed struct{}
)

var (
	quiet = lipgloss.NewStyle().Faint(true)
	loud  = lipgloss.NewStyle().Foreground(lipgloss.Cyan)
	bold  = lipgloss.NewStyle().Bold(true)
)

// New is the model of a session that begins.
func New(ctx context.Context, o Options) *Model {
	input := textinput.New()
	input.CharLimit = maxLine
	input.Prompt = ""
	input.KeyMap.Paste.SetEnabled(false) // it would run programs that read the clipboard; terminals paste by themselves
	input.Focus()
	m := &Model{Options: o, input: input, ctx: ctx, width: 80, earlier: o.Earlier, at: len(o.Earlier), chosen: -1}
	m.print = func(string) {}
	return m
}

// Init says hello.
func (m *Model) Init() tea.Cmd {
	cmds := []tea.Cmd{m.input.Focus()}
	if m.Hello != "" {
		cmds = append(cmds, tea.Println(quiet.Render(ansi.Wrap(m.Hello, m.width, ""))))
	}
	return tea.Sequence(cmds...)
}

// Update takes one event.
func (m *Model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width = max(msg.Width, 20)
		return m, nil
	case tea.KeyPressMsg:
		return m, m.key(msg)
	case tea.PasteMsg:
		return m, m.paste(msg.Content)
	case ended:
		m.runs = nil
		if msg.over {
			m.over = true
			return m, tea.Quit
		}
		return m, m.next()
	case elapsed:
		if m.runs == nil {
			return m, nil
		}
		m.said = m.Shell.Progress()
		return m, tick()
	}
	var cmd tea.Cmd
	m.input, cmd = m.input.Update(msg)
	return m, cmd
}

func tick() tea.Cmd {
	return tea.Tick(200*time.Millisecond, func(time.Time) tea.Msg { return elapsed{} })
}

// key takes one key.
func (m *Model) key(msg tea.KeyPressMsg) tea.Cmd {
	armed := m.armed
	m.armed, m.hint = false, ""
	switch key := msg.String(); key {
	case "ctrl+c":
		return m.interrupt(armed)
	case "ctrl+d":
		if m.input.Value() != "" {
			break // deletes a character, as in any line
		}
		m.over = true
		m.stop()
		return tea.Quit
	case "enter":
		m.forget()
		line := strings.TrimSpace(m.input.Value())
		m.input.Reset()
		return m.enter(line)
	case "tab", "shift+tab":
		if m.runs == nil {
			m.complete(key == "tab")
		}
		return nil
	case "up", "down":
		m.forget()
		m.history(key == "up")
		return nil
	}
	m.forget()
	var cmd tea.Cmd
	m.input, cmd = m.input.Update(msg)
	return cmd
}

// interrupt ends what is being asked; on a line that is being typed it empties that; on an
// empty one the second in a row ends the session.
func (m *Model) interrupt(armed bool) tea.Cmd {
	m.forget()
	switch {
	case m.runs != nil:
		m.runs()
		m.queue, m.armed = nil, true
	case m.input.Value() != "":
		m.input.Reset()
		m.at, m.armed = len(m.earlier), true
	case armed:
		m.over = true
		return tea.Quit
	default:
		m.armed, m.hint = true, "Ctrl-C again, or Ctrl-D, ends the session"
	}
	return nil
}

// stop ends what runs.
func (m *Model) stop() {
	if m.runs != nil {
		m.runs()
	}
}

// enter takes a whole line.
func (m *Model) enter(line string) tea.Cmd {
	if line != "" && m.Keep != nil && (len(m.earlier) == 0 || m.earlier[len(m.earlier)-1] != line) {
		if err := m.Keep([]byte(line + "\n")); err != nil {
			m.hint = "the line was not kept for the next session: " + err.Error()
		}
	}
	m.earlier = remember(m.earlier, line)
	m.at, m.typed = len(m.earlier), ""
	m.queue = append(m.queue, line)
	if m.runs != nil {
		return nil
	}
	return m.next()
}

// next begins the line whose turn it is.
func (m *Model) next() tea.Cmd {
	if len(m.queue) == 0 {
		return nil
	}
	line := m.queue[0]
	m.queue = m.queue[1:]
	echo := ansi.Wrap(loud.Render(m.Shell.Prompt())+" "+bold.Render(line), m.width, "")
	ctx, cancel := context.WithCancel(m.ctx)
	m.runs, m.began, m.said = cancel, time.Now(), ""
	width := m.width
	return tea.Batch(tick(), func() tea.Msg {
		defer cancel()
		m.print(echo)
		if line == "" {
			return ended{}
		}
		out := &lines{print: m.print, width: width}
		over := m.Shell.Run(ctx, line, width, out)
		out.end()
		return ended{over}
	})
}

// paste takes what was pasted: each line of it as if it had been typed.
func (m *Model) paste(text string) tea.Cmd {
	m.forget()
	parts := strings.Split(strings.ReplaceAll(text, "\r", "\n"), "\n")
	var cmds []tea.Cmd
	for i, part := range parts {
		before, after := m.input.Value()[:m.place()], m.input.Value()[m.place():]
		m.input.SetValue(before + part + after)
		m.input.SetCursor(len([]rune(before + part)))
		if i < len(parts)-1 {
			line := strings.TrimSpace(m.input.Value())
			m.input.Reset()
			if line != "" {
				cmds = append(cmds, m.enter(line))
			}
		}
	}
	return tea.Batch(cmds...)
}

// place is where the cursor is, in bytes.
func (m *Model) place() int {
	runes := []rune(m.input.Value())
	return len(string(runes[:min(m.input.Position(), len(runes))]))
}

// history shows the line before or after.
func (m *Model) history(back bool) {
	if m.at == len(m.earlier) {
		m.typed = m.input.Value()
	}
	if back {
		m.at = max(m.at-1, 0)
	} else {
		m.at = min(m.at+1, len(m.earlier))
	}
	value := m.typed
	if m.at < len(m.earlier) {
		value = m.earlier[m.at]
	}
	m.input.SetValue(value)
	m.input.CursorEnd()
}

// complete completes the word before the cursor: as far as all that it may become agree, and
// from then on each of them in turn.
func (m *Model) complete(forward bool) {
	if len(m.choices) == 0 {
		var words []string
		m.from, words = m.Shell.Complete(m.input.Value(), m.place())
		if len(words) == 0 {
			m.hint = "nothing to complete"
			return
		}
		word := common(words)
		if len(words) == 1 {
			if !strings.HasSuffix(word, "/") {
				word += " "
			}
			m.insert(word)
			return
		}
		m.choices = words
		if len(word) > m.place()-m.from {
			m.insert(word)
		}
		return
	}
	if n := len(m.choices); forward {
		m.chosen = (m.chosen + 1) % n
	} else {
		m.chosen = (max(m.chosen, 0) + n - 1) % n
	}
	m.insert(m.choices[m.chosen])
}

// insert puts a word in the place of the one before the cursor.
func (m *Model) insert(word string) {
	value, at := m.input.Value(), m.place()
	before := value[:m.from] + word
	m.input.SetValue(before + value[at:])
	m.input.SetCursor(len([]rune(before)))
}

// forget takes the choices away.
func (m *Model) forget() { m.choices, m.chosen = nil, -1 }

// common is what words begin with, all of them.
func common(words []string) string {
	start := words[0]
	for _, w := range words[1:] {
		for !strings.HasPrefix(w, start) {
			start = start[:len(start)-1]
		}
	}
	for len(start) > 0 && strings.ToValidUTF8(start, "") != start {
		start = start[:len(start)-1]
	}
	return start
}

// View draws the prompt, and below it what helps.
func (m *Model) View() tea.View {
	if m.over {
		return tea.NewView("")
	}
	var below []string
	if m.runs != nil {
		line := "…"
		if m.said != "" && time.Since(m.began) > 300*time.Millisecond {
			line = m.said + "; Ctrl-C ends it"
		}
		below = append(below, quiet.Render(line))
		if n := len(m.queue); n > 0 {
			below = append(below, quiet.Render(fmt.Sprintf("%d more to come", n)))
		}
	}
	prompt := ""
	if m.runs == nil { // what is chosen may be changing
		prompt = loud.Render(m.Shell.Prompt()) + " "
	}
	m.input.SetWidth(max(m.width-ansi.StringWidth(prompt)-1, 10))
	below = append(below, prompt+m.input.View())
	if len(m.choices) > 0 {
		below = append(below, m.choicesLines()...)
	}
	if m.hint != "" {
		below = append(below, quiet.Render(ansi.Truncate(m.hint, m.width, "…")))
	}
	return tea.NewView(strings.Join(below, "\n"))
}

// maxChoiceLines is how many lines the choices take.
const maxChoiceLines = 6

// choicesLines are the choices in columns.
func (m *Model) choicesLines() (rows []string) {
	widest := 0
	for _, c := range m.choices {
		widest = max(widest, ansi.StringWidth(c))
	}
	columns := max(m.width/(widest+2), 1)
	room := columns * maxChoiceLines
	first := max(m.chosen, 0) / room * room
	line := ""
	for i, c := range m.choices[first:min(first+room, len(m.choices))] {
		cell := c + strings.Repeat(" ", widest+2-ansi.StringWidth(c))
		if first+i == m.chosen {
			cell = bold.Underline(true).Render(c) + strings.Repeat(" ", widest+2-ansi.StringWidth(c))
		}
		if line += cell; (i+1)%columns == 0 {
			rows, line = append(rows, ansi.Truncate(line, m.width, "")), ""
		}
	}
	if line != "" {
		rows = append(rows, ansi.Truncate(line, m.width, ""))
	}
	if more := len(m.choices) - first - room; more > 0 {
		rows = append(rows, quiet.Render(fmt.Sprintf("and %d more", more)))
	}
	return rows
}

// lines prints what is written, as many whole lines at once as come at once.
type lines struct {
	print func(string)
	width int // what is wider is wrapped
	part  string
}

func (l *lines) Write(b []byte) (int, error) {
	l.part += string(b)
	if end := strings.LastIndexByte(l.part, '\n'); end >= 0 {
		l.print(visible(ansi.Wrap(l.part[:end], l.width, "")))
		l.part = l.part[end+1:]
	}
	return len(b), nil
}

// visible keeps an empty line one.
func visible(text string) string {
	if text == "" {
		return " "
	}
	return text
}

// end prints what has no end of line, and parts what came from the next prompt.
func (l *lines) end() {
	if l.part != "" {
		l.print(ansi.Wrap(l.part, l.width, ""))
	}
}
