// Package text draws results for a terminal or a pipe. It decides nothing: what
// is true was decided in core.
//
// Everything is written styled; [New] puts a writer below that takes the
// colours out again where they are not wanted. What a colour says is always
// said in words too.
package text

import (
	"fmt"
	"io"
	"strings"
	"unicode"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	"unquil/core/casework"
	"unquil/core/escape"
	"unquil/core/finding"
	"unquil/core/idn"
	"unquil/core/wire"
	"unquil/core/wording"
)

// Colour says when to colour.
type Colour string

// The choices of --color.
const (
	Auto   Colour = "auto"
	Always Colour = "always"
	Never  Colour = "never"
)

// View draws into one place.
type View struct {
	// Marks are shown behind the hosts and addresses of answers; nil: there are none.
	Marks *casework.Marks
	// Linear puts what stands side by side one below the other, for who hears it read.
	Linear bool
	// Whole leaves every line as long as it is: one record, one line, for other programs.
	Whole bool
	// All draws all there is, be it many.
	All bool

	w     io.Writer
	width int // columns
	err   error
}

// New returns a view that writes to w, width columns wide. environ is the
// environment as os.Environ gives it: with Auto it decides, NO_COLOR included.
func New(w io.Writer, width int, colour Colour, environ []string) *View {
	out := colorprofile.NewWriter(w, environ)
	switch colour {
	case Always:
		out.Profile = colorprofile.ANSI256
	case Never:
		out.Profile = colorprofile.NoTTY
	}
	if width == 0 { // of a pipe: what is drawn to a scale
		width = 80
	}
	return &View{w: out, width: max(width, 40)}
}

// Coloured reports whether what is written to w is coloured where nobody says so.
func Coloured(w io.Writer, environ []string) bool {
	return colorprofile.NewWriter(w, environ).Profile > colorprofile.ASCII
}

// room is how wide a line may be; what is drawn to a scale is as wide as the view in any case.
func (v *View) room() int {
	if v.Whole {
		return 1 << 30
	}
	return v.width
}

// Err is the first error of writing, if there was one.
func (v *View) Err() error { return v.err }

// line is the one way to the terminal: whatever went wrong before, nothing acts from here on.
func (v *View) line(parts ...string) {
	if v.err == nil {
		_, v.err = io.WriteString(v.w, escape.Styled(strings.TrimRight(strings.Join(parts, ""), " "))+"\n")
	}
}

// The styles use the terminal's own palette, so they fit a light theme as well
// as a dark one.
var (
	plainStyle = lipgloss.NewStyle()
	subject    = lipgloss.NewStyle().Bold(true).Foreground(lipgloss.Cyan)
	strong     = lipgloss.NewStyle().Bold(true)
	quiet      = lipgloss.NewStyle().Faint(true)
	good       = lipgloss.NewStyle().Foreground(lipgloss.Green)
	severe     = map[finding.Severity]lipgloss.Style{
		finding.Fault:   lipgloss.NewStyle().Bold(true).Foreground(lipgloss.Red),
		finding.Concern: lipgloss.NewStyle().Foreground(lipgloss.Yellow),
		finding.Note:    lipgloss.NewStyle().Foreground(lipgloss.Blue),
	}
)

// flow writes text from column indent on, wrapped at the width; first stands at
// the beginning of the first line, and is no wider than indent.
func (v *View) flow(first string, indent int, text string, style lipgloss.Style) {
	lines := wrap(text, max(v.room()-indent, 24))
	for i, line := range lines {
		lead := strings.Repeat(" ", indent)
		if i == 0 {
			lead = first + strings.Repeat(" ", max(indent-ansi.StringWidth(first), 0))
		}
		v.line(lead, style.Render(strings.TrimRight(line, " ")))
	}
}

// wrap breaks text at spaces into lines of at most width columns; a word that is
// longer is broken behind a dot, as a long name has, or anywhere. A hyphen is no place to break: names have them.
func wrap(text string, width int) []string {
	var lines []string
	line, used := "", 0
	for word := range strings.SplitSeq(text, " ") {
		size := ansi.StringWidth(word)
		if used > 0 && used+1+size > width {
			lines, line, used = append(lines, line), "", 0
		}
		for ; size > width; size = ansi.StringWidth(word) {
			head := ansi.Truncate(word, width, "")
			if dot := strings.LastIndexByte(head, '.'); dot > len(head)/2 {
				head = head[:dot+1]
			}
			lines = append(lines, head)
			word = ansi.TruncateLeft(word, ansi.StringWidth(head), "")
		}
		if used > 0 {
			line, used = line+" ", used+1
		}
		line, used = line+word, used+size
	}
	return append(lines, line)
}

const labelWidth = 15

// row writes a labelled line of a block.
func (v *View) row(label, text string) {
	v.flow("  "+quiet.Render(label), labelWidth, text, plainStyle)
}

// Findings lists findings, heaviest first as they come, with what to do next.
func (v *View) Findings(title string, findings []finding.Finding) {
	v.findings(title, findings, true)
}

func (v *View) findings(title string, findings []finding.Finding, advice bool) {
	if len(findings) == 0 {
		return
	}
	v.line()
	v.line(strong.Render(title))
	for i, f := range findings {
		style := severe[f.Severity]
		v.flow("  "+style.Render(string(f.Severity)), labelWidth, f.Text, plainStyle)
		detail := string(f.Code)
		if f.Sure != "" {
			detail += " (" + f.Sure + ")"
		}
		if f.Lasts > 0 {
			detail += "; ends by itself within " + Seconds(f.Lasts)
		}
		if len(f.Evidence) > 0 {
			detail += "; evidence: " + wording.Exchanges(f.Evidence)
		}
		v.flow("", labelWidth, detail, quiet)
		// The same advice to several servers in a row is given once, below the last.
		repeated := i+1 < len(findings) && findings[i+1].Next == f.Next && findings[i+1].Severity == f.Severity
		if advice && f.Severity != finding.Note && !repeated {
			v.flow("", labelWidth, "next: "+f.Next, plainStyle)
		}
	}
}

// Seconds says a TTL the way people do, with the number of seconds.
func Seconds(s uint32) string {
	if s > 1<<31-1 {
		return fmt.Sprintf("%d, which is absurd and counts as 0 (RFC 2181 §8)", s)
	}
	if s < 60 {
		return wire.Period(s)
	}
	return fmt.Sprintf("%s (%d)", wire.Period(s), s)
}

// Shell is words as a shell reads them back: what is not plain is quoted. What does not
// show cannot be typed, and is escaped.
func Shell(words ...string) string {
	special := func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r) && !strings.ContainsRune("_./:,@%+=-#", r)
	}
	out := make([]string, len(words))
	for i, w := range words {
		w = string(escape.Of(w))
		if w == "" || w[0] == '#' || strings.ContainsFunc(w, special) {
			w = "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
		}
		out[i] = w
	}
	return strings.Join(out, " ")
}

// nameText is a name as it stands, and beside it the form in letters beyond
// ASCII that its holder would write.
func nameText(name wire.Name) string {
	text := subject.Render(name.Spoken())
	if shown, ok := idn.Unicode(name); ok {
		text += " (" + shown + ")"
	}
	return text
}

// raw writes text as it is: for moving the cursor of a terminal.
func (v *View) raw(text string) {
	if v.err == nil {
		_, v.err = io.WriteString(v.w, text)
	}
}

// cut shortens a styled text to a width.
func cut(text string, width int) string { return ansi.Truncate(text, width, "…") }
