package browse

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"unquil/core/escape"
	"unquil/core/wording"
	"unquil/ui/text"
)

// plainItems is how many items the plain form tells at once.
const plainItems = 20

// plainWidth is how long the lines of an item may be: they are not cut, and a screen reader
// wraps by itself.
const plainWidth = 400

// plain is the form of lines: each is read aloud whole, and what is typed is words.
type plain struct {
	*Browser
	ctx  context.Context
	out  io.Writer
	from int // the first item that was told
	err  error
}

// RunPlain browses by lines of words, until they end or one says so. The error is that of
// reading or writing.
func RunPlain(ctx context.Context, b *Browser, in io.Reader, out io.Writer) error {
	b.colour, b.width, b.height = text.Never, 100, plainItems
	b.linear = true
	p := &plain{Browser: b, ctx: ctx, out: out}
	p.work()
	p.tell()
	lines := bufio.NewScanner(in)
	for p.err == nil && ctx.Err() == nil && lines.Scan() {
		b.said, b.wrong = "", false
		before := b.here()
		if !p.do(strings.TrimSpace(lines.Text())) {
			return p.err
		}
		p.work()
		if b.said != "" {
			p.say(b.said)
		}
		if b.here() != before {
			p.from = 0
			p.tell()
		}
	}
	if p.err != nil {
		return p.err
	}
	return lines.Err()
}

// work does all that is to be done, one after the other.
func (p *plain) work() {
	for run := p.Next(p.ctx, func(string) {}); run != nil; run = p.Next(p.ctx, func(string) {}) {
		run()()
	}
}

func (p *plain) say(line string) {
	if p.err == nil {
		_, p.err = fmt.Fprintln(p.out, escape.Styled(line))
	}
}

// tell tells what one stands on: where that is, what it is, and its items with the numbers by
// which they are called.
func (p *plain) tell() {
	s := p.here()
	if s == nil {
		p.say(p.said)
		return
	}
	if p.from == 0 {
		p.say("")
		p.say("at: " + p.Trail(plainWidth))
		p.say(s.about())
	}
	if s.page != nil {
		for _, line := range p.lined(s) {
			p.say(line)
		}
		return
	}
	until := min(p.from+plainItems, s.count())
	if s.need != nil {
		s.need(p.from, until)
		p.work()
	}
	for i := p.from; i < until; i++ {
		if s.head != nil && s.head(i) != "" {
			p.say(s.head(i))
		}
		lines := text.Drawn(plainWidth, text.Never, func(v *text.View) {
			v.Linear = true
			s.item(v, i, s.find == nil && s.one == 0)
		})
		for at, line := range lines {
			if line = strings.TrimSpace(line); at == 0 && s.find == nil {
				line = fmt.Sprintf("%d: %s", i+1, line)
			}
			p.say(line)
		}
	}
	if left := s.count() - until; left > 0 {
		p.say(wording.Count(left, "more item: the word more tells it", "more items: the word more tells the next"))
	}
}

// do does what a line says, and reports false where one wants to end.
func (p *plain) do(line string) bool {
	word, rest, _ := strings.Cut(line, " ")
	rest = strings.TrimSpace(rest)
	s := p.here()
	switch word {
	case "":
	case "end", "quit", "exit":
		return false
	case "help":
		p.enter(p.help(true))
	default:
		if s == nil {
			p.Browser.say(true, "nothing was read")
			return true
		}
		p.act(s, word, rest)
	}
	return true
}

func (p *plain) act(s *screen, word, rest string) {
	if number, err := strconv.Atoi(strings.ReplaceAll(word, ",", "")); err == nil {
		p.down(s, number)
		return
	}
	switch word {
	case "up":
		if !p.Up() {
			p.Browser.say(false, "this is the top")
		}
	case "down":
		p.Down()
	case "more":
		if s.page != nil || p.from+plainItems >= s.count() {
			p.Browser.say(false, "that was all")
			return
		}
		p.from += plainItems
		p.tell()
	case "list":
		n := slices.Index(Lists, rest)
		if n < 0 {
			p.Browser.say(true, "the lists are %s", strings.Join(Lists, ", "))
			return
		}
		p.List(n)
	case "where":
		p.narrow()
		asked := p.asking
		p.asking = nil
		asked.done(rest)
	case "previous":
		p.beside(-1)
	case "next":
		p.beside(1)
	case "mark":
		p.stand(s, rest, p.mark)
	case "note":
		number, words, _ := strings.Cut(rest, " ")
		if _, err := strconv.Atoi(number); err != nil {
			number, words = "", rest
		}
		p.stand(s, number, func() {
			if on := p.standsOn(); on != 0 {
				p.noteOn(on, words)
			} else {
				p.Browser.say(true, "a note belongs to an exchange")
			}
		})
	case "write":
		chosen, _ := p.toWrite()
		if chosen == nil || rest == "" {
			p.Browser.say(true, "mark exchanges, and name a file: write FILE.pcapng")
			return
		}
		p.writeTo(rest, chosen)
	default:
		if !p.relate(word) {
			p.Browser.say(true, "%q is no word here; help lists them", escape.Of(word))
		}
	}
}

// down goes down to the item of a number: an exchange is called by its own.
func (p *plain) down(s *screen, number int) {
	at := number - 1
	if s.find != nil && s.of.chosen != nil {
		at = s.of.chosen.Place(number)
		if !s.of.chosen.Has(number) {
			at = -1
		}
	}
	if s.page != nil || at < 0 || at >= s.count() {
		p.Browser.say(true, "there is no item %d here", number)
		return
	}
	s.at = at
	p.Down()
}

// stand does something where one stands, or on the exchange of a number.
func (p *plain) stand(s *screen, number string, do func()) {
	if n, err := strconv.Atoi(number); err == nil && s.of != nil && s.of.chosen != nil && s.of.chosen.Has(n) {
		s.at = s.of.chosen.Place(n)
	}
	do()
}
