package browse

import (
	"fmt"
	"strconv"
	"strings"

	"unquil/ui/text"
)

// key is something to press, or in the plain form a word to type.
type key struct {
	keys  string // as they are shown
	word  string // in the plain form; "" for none there
	about string
}

// keys are all of them, in the order of the help.
var keys = []key{
	{"↑ ↓ PgUp PgDn Home End", "", "go to another item, or scroll a page"},
	{"Enter", "NUMBER, down", "go down: from a finding to its exchanges, to one of them whole, to its bytes"},
	{"Esc", "up", "go back up"},
	{"1 to 9", "list NAME", "list " + strings.Join(Lists, ", ")},
	{"/", "where CONDITION", "narrow to the exchanges that meet a condition, such as " + example},
	{"< >", "previous, next", "the exchange before or behind in the list that one came from"},
	{"o", "half", related[0].about},
	{"b", "before", related[1].about},
	{"f", "following", related[2].about},
	{"a", "alias", related[3].about},
	{"s", "same", related[4].about},
	{"m", "minute", related[5].about},
	{"Space", "mark", "mark an exchange for writing, or take the mark away"},
	{"n", "note WORDS", "note something on an exchange: it is kept in the capture that w writes"},
	{"w", "write FILE", "write what is marked, or else what is looked at: FILE.pcapng, FILE.csv, FILE.html or FILE.md"},
	{"?", "help", "show this"},
	{"q", "end", "end"},
}

// help is a page about the keys, or in the plain form the words.
func (b *Browser) help(plain bool) *screen {
	s := &screen{name: "help", about: func() string { return "what can be done, and how" }}
	s.page = func(v *text.View) {
		var rows [][2]string
		for _, k := range keys {
			switch {
			case !plain:
				rows = append(rows, [2]string{k.keys, k.about})
			case k.word != "":
				rows = append(rows, [2]string{k.word, k.about})
			}
		}
		v.Rows(rows)
	}
	s.count = func() int { return len(b.lined(s)) }
	return s
}

// Press does what a key stands for, and reports false where one wants to end. A key that
// stands for nothing does nothing.
func (b *Browser) Press(name string) (goOn bool) {
	b.said, b.wrong = "", false
	s := b.here()
	switch name {
	case "q", "ctrl+c":
		return false
	case "?":
		b.enter(b.help(false))
		return true
	}
	if s == nil {
		return true // nothing was read yet
	}
	switch name {
	case "up":
		b.move(-1)
	case "down":
		b.move(1)
	case "pgup":
		b.move(-b.room())
	case "pgdown":
		b.move(b.room())
	case "home":
		b.move(-s.count())
	case "end":
		b.move(s.count())
	case "enter", "right":
		b.Down()
	case "esc", "left", "backspace":
		if !b.Up() {
			b.say(false, "this is the top; q ends")
		}
	case "space":
		b.mark()
	case "w":
		b.write()
	case "n":
		b.note()
	case "/":
		b.narrow()
	case "<", ">":
		b.beside(map[string]int{"<": -1, ">": 1}[name])
	default:
		if n, err := strconv.Atoi(name); err == nil && n >= 1 && n <= len(Lists) {
			b.List(n - 1)
			return true
		}
		b.relate(name)
	}
	return true
}

// Down goes down from where one stands.
func (b *Browser) Down() {
	s := b.here()
	if s == nil || s.down == nil || s.page == nil && s.count() == 0 {
		b.say(false, "nothing is below this")
		return
	}
	b.enter(s.down(s.at))
}

// List shows one of the lists.
func (b *Browser) List(n int) {
	b.trail = []*screen{b.listed(Lists[n])}
	b.require(b.here())
}

// beside goes from a page about an exchange to the one before or behind it in the list above.
func (b *Browser) beside(by int) {
	if s := b.here(); s.one == 0 || s.page == nil || len(b.trail) < 2 {
		b.say(true, "that goes from one exchange to the next")
		return
	}
	above := b.trail[len(b.trail)-2]
	if above.find == nil || above.at+by < 0 || above.at+by >= above.count() {
		b.say(false, "there is no other in that direction")
		return
	}
	b.trail = b.trail[:len(b.trail)-1]
	b.move(by)
	b.Down()
}

// place says where one stands in a list.
func (b *Browser) place() string {
	s := b.here()
	if s == nil || s.count() == 0 {
		return ""
	}
	if s.page != nil {
		if all := len(b.lined(s)); all > b.room() {
			return fmt.Sprintf("lines %d to %d of %d", s.at+1, min(s.at+b.room(), all), all)
		}
		return ""
	}
	return fmt.Sprintf("%d of %d", s.at+1, s.count())
}
