// Package casework keeps a case: the lines that a technician typed about one complaint, what
// came of each, the notes, and the exchanges that are the evidence.
package casework

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"unquil/core/escape"
	"unquil/core/evidence"
	"unquil/core/exchange"
	"unquil/core/finding"
)

// Case is what was done about one complaint, in order. The zero value is one that begins.
type Case struct{ Steps []Step }

// Step is one line of a case.
type Step struct {
	Number   int // from 1
	At       time.Time
	Line     escape.Text       `json:",omitempty"` // as it was typed
	Note     escape.Text       `json:",omitempty"` // the technician's own words
	Args     []string          `json:",omitempty"` // the command that it came to, without the program's name; nil: none that asks
	Said     escape.Text       `json:",omitempty"` // what was shown, without colours
	Exit     int               // exit code of the command
	Findings []finding.Finding `json:",omitempty"`
	Left     int               `json:",omitempty"` // exchanges that were counted and not kept

	Exchanges []exchange.Exchange `json:"-"` // by number
}

// step is a step as a file holds it.
type step struct {
	Step
	Evidence []json.RawMessage `json:",omitempty"` // an account of each exchange
}

// Bounds on a case: what is beyond them is counted.
const (
	MaxExchanges = 50_000    // in all
	maxSaid      = 1 << 20   // bytes that one line showed
	maxLine      = 256 << 20 // bytes of a step in a file
)

// ErrNoCase says that a file is not one of a case, or was changed by something else.
var ErrNoCase = errors.New("it is not the file of a case")

// header is the first line of a file.
type header struct {
	Unquil string // version
	Case   int    // version of the form
}

const form = 1

// Header is the first line of a case's file. version is that of the program.
func Header(version string) []byte {
	line, _ := json.Marshal(header{version, form})
	return append(line, '\n')
}

// Marshal is a step as a line of a case's file.
func (s *Step) Marshal() ([]byte, error) {
	out := step{Step: *s}
	for i := range s.Exchanges {
		account, err := evidence.Account(&s.Exchanges[i])
		if err != nil {
			return nil, fmt.Errorf("noting exchange %d: %w", s.Exchanges[i].Number, err)
		}
		out.Evidence = append(out.Evidence, account)
	}
	line, err := json.Marshal(out)
	return append(line, '\n'), err
}

// Read reads a case's file, and returns how many of its bytes are whole lines: a program that
// ended while it wrote leaves part of one behind. The error wraps ErrNoCase, or is that of r.
func Read(r io.Reader) (c *Case, whole int64, err error) {
	in := bufio.NewReaderSize(r, 1<<16)
	c = &Case{}
	for number := 0; ; number++ {
		line, err := readLine(in)
		if err == io.EOF {
			if number == 0 {
				return nil, 0, ErrNoCase
			}
			return c, whole, nil
		}
		if err != nil {
			return nil, 0, err
		}
		if number == 0 {
			var h header
			if json.Unmarshal(line, &h) != nil || h.Unquil == "" || h.Case != form {
				return nil, 0, ErrNoCase
			}
		} else if err := c.take(line); err != nil {
			return nil, 0, fmt.Errorf("line %d: %w", number+1, err)
		}
		whole += int64(len(line))
	}
}

// readLine reads one line with its end. One that has none is the end of the file.
func readLine(in *bufio.Reader) (line []byte, err error) {
	for {
		part, err := in.ReadSlice('\n')
		line = append(line, part...)
		switch {
		case err == nil:
			return line, nil
		case err != bufio.ErrBufferFull:
			return nil, err
		case len(line) > maxLine:
			return nil, ErrNoCase
		}
	}
}

// take takes one step of a file. The error wraps ErrNoCase.
func (c *Case) take(line []byte) error {
	var in step
	if err := json.Unmarshal(line, &in); err != nil {
		return fmt.Errorf("%w: %w", ErrNoCase, err)
	}
	if in.Number != len(c.Steps)+1 || !safe(&in.Step) {
		return ErrNoCase
	}
	last, room := c.LastExchange(), MaxExchanges-c.count()
	for i, account := range in.Evidence {
		e, err := evidence.FromAccount(account)
		if err == nil && (e.Number <= last || i >= room) {
			err = ErrNoCase
		}
		if err != nil {
			return fmt.Errorf("%w: exchange %d of it: %w", ErrNoCase, i+1, err)
		}
		last = e.Number
		in.Exchanges = append(in.Exchanges, e)
	}
	c.Steps = append(c.Steps, in.Step)
	return nil
}

// safe reports whether the texts of a step are ones that this program writes: a file may come
// from anybody.
func safe(s *Step) bool {
	for _, f := range s.Findings {
		a := f.About
		if !plain(f.Text + f.Next + string(f.Code) + string(f.Severity) + f.Sure + a.Name + a.Type + a.Zone + a.Server + a.Address + a.Client + a.Outcome) {
			return false
		}
	}
	for line := range strings.Lines(string(s.Said)) {
		if !plain(strings.TrimSuffix(line, "\n")) {
			return false
		}
	}
	return plain(string(s.Line)) && plain(string(s.Note)) && plain(strings.Join(s.Args, " "))
}

func plain(text string) bool { return string(escape.Of(text)) == text }

// Add adds a step, gives it its number, and returns it. What is beyond the bounds of a case is
// left out, and counted.
func (c *Case) Add(s Step) *Step {
	s.Number = len(c.Steps) + 1
	if room := max(MaxExchanges-c.count(), 0); len(s.Exchanges) > room {
		s.Left += len(s.Exchanges) - room
		s.Exchanges = s.Exchanges[:room]
	}
	if !plain(strings.Join(s.Args, " ")) {
		s.Args = nil // nobody could say what was asked again
	}
	if len(s.Said) > maxSaid {
		end := strings.LastIndexByte(string(s.Said[:maxSaid]), '\n') + 1
		s.Said = s.Said[:end] + "…"
	}
	c.Steps = append(c.Steps, s)
	return &c.Steps[len(c.Steps)-1]
}

func (c *Case) count() (n int) {
	for i := range c.Steps {
		n += len(c.Steps[i].Exchanges)
	}
	return n
}

// LastExchange is the number of the last exchange of the case; 0 without one.
func (c *Case) LastExchange() (last int) {
	for i := range c.Steps {
		for at := range c.Steps[i].Exchanges {
			last = max(last, c.Steps[i].Exchanges[at].Number)
		}
	}
	return last
}

// Exchange returns the exchange of a number; nil when the case has none.
func (c *Case) Exchange(number int) *exchange.Exchange {
	for i := range c.Steps {
		list := c.Steps[i].Exchanges
		if at, found := slices.BinarySearchFunc(list, number, func(e exchange.Exchange, n int) int { return e.Number - n }); found {
			return &list[at]
		}
	}
	return nil
}

// Exchanges are all of the case, by number.
func (c *Case) Exchanges() (all []exchange.Exchange) {
	for i := range c.Steps {
		all = append(all, c.Steps[i].Exchanges...)
	}
	return all
}

// Findings are those of all steps, each once: what is found again replaces what was found before.
func (c *Case) Findings() (all []finding.Finding) {
	for i := range c.Steps {
		for _, f := range c.Steps[i].Findings {
			same := func(other finding.Finding) bool { return alike(&other, &f) }
			if at := slices.IndexFunc(all, same); at >= 0 {
				all[at] = f
			} else {
				all = append(all, f)
			}
		}
	}
	finding.Sort(all)
	return all
}

// alike reports whether two findings say the same of the same.
func alike(a, b *finding.Finding) bool {
	return a.Code == b.Code && a.Severity == b.Severity && a.About == b.About
}

// Keep writes the evidence of the case as a capture: beside the first packet of each line
// stands the line, and the notes that follow it. The error is that of w.
func (c *Case) Keep(w io.Writer) error {
	out, err := evidence.New(w)
	if err != nil {
		return err
	}
	out.Beside = map[int]string{}
	first := 0
	for i := range c.Steps {
		s := &c.Steps[i]
		switch {
		case len(s.Exchanges) > 0:
			first = s.Exchanges[0].Number
			out.Beside[first] = fmt.Sprintf("line %d: %s", s.Number, shorten(s.Line))
		case s.Note != "" && first > 0:
			out.Beside[first] += "; note: " + shorten(s.Note)
		}
	}
	return out.AddAll(c.Exchanges(), nil)
}

// shorten keeps a comment readable.
func shorten(text escape.Text) string {
	const most = 400
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most]) + "…"
	}
	return string(bytes.TrimSpace([]byte(text)))
}
