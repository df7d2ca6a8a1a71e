package zonefile

import (
	"bufio"
	"io"

	"unquil/core/wire"
)

const maxEntry = 1 << 20 // bytes of words in one entry

// word is one word of an entry: where it lies in the entry's text, and where
// it stood in the file.
type word struct {
	from, to     int
	line, column int
	quoted       bool
}

// lexer cuts a master file into entries: a directive or a record with all its
// continuation lines (RFC 1035 §5.1).
type lexer struct {
	in           *bufio.Reader
	line, column int // of the byte read last
	newline      bool

	text  []byte // of the entry's words, reused from entry to entry
	words []word
	blank bool // the entry starts with white space: the owner is the one before
}

func newLexer(r io.Reader) lexer {
	return lexer{in: bufio.NewReaderSize(r, 64<<10), newline: true}
}

func (l *lexer) read() (byte, error) {
	c, err := l.in.ReadByte()
	if err != nil {
		return 0, err
	}
	if l.newline {
		l.line, l.column, l.newline = l.line+1, 0, false
	}
	l.column++
	l.newline = c == '\n'
	return c, nil
}

// unread takes back the byte read last, which is not a line end.
func (l *lexer) unread() {
	l.in.UnreadByte()
	l.column--
}

// next reads one entry that has words. It returns io.EOF after the last, an
// *Error for an entry that cannot be cut (and has skipped it), or the reader's error.
func (l *lexer) next(file string) error {
	for {
		l.text, l.words, l.blank = l.text[:0], l.words[:0], false
		err := l.entry(file)
		if err != nil && (err != io.EOF || len(l.words) == 0) {
			return err
		}
		if len(l.words) > 0 {
			return nil
		}
	}
}

func (l *lexer) entry(file string) error {
	depth, first := 0, true
	var open word // the outermost parenthesis, for the error
	fail := func(at word, field string, err error) error {
		return &Error{file, at.line, at.column, field, err}
	}
	for {
		c, err := l.read()
		if err != nil {
			if err == io.EOF && depth > 0 {
				return fail(open, "entry", ErrParen)
			}
			return err
		}
		switch c {
		case '\n':
			if depth == 0 {
				return nil
			}
		case ' ', '\t', '\r':
			l.blank = l.blank || first && c != '\r'
		case ';':
			if err := l.skipLine(); err != nil {
				return err
			}
		case '(':
			if depth++; depth == 1 {
				open = word{line: l.line, column: l.column}
			}
		case ')':
			if depth--; depth < 0 {
				at := word{line: l.line, column: l.column}
				l.skipLine()
				l.read()
				return fail(at, "entry", ErrParen)
			}
		case '"':
			w := word{from: len(l.text), line: l.line, column: l.column, quoted: true}
			if err := l.quoted(); err != nil {
				return fail(w, "string", err)
			}
			w.to = len(l.text)
			l.words = append(l.words, w)
		default:
			w := word{from: len(l.text), line: l.line, column: l.column}
			l.plain(c)
			w.to = len(l.text)
			l.words = append(l.words, w)
		}
		first = false
		if len(l.text) > maxEntry {
			at := word{line: l.line, column: l.column}
			l.skipLine()
			return fail(at, "entry", ErrLong)
		}
	}
}

// skipLine reads up to the line end and leaves it to be read.
func (l *lexer) skipLine() error {
	for {
		c, err := l.in.ReadByte()
		if err != nil {
			return err
		}
		if c == '\n' {
			return l.in.UnreadByte()
		}
	}
}

// plain reads the rest of a word that begins with c. An escaped byte is kept
// with its backslash, for the field's own reader.
func (l *lexer) plain(c byte) {
	for {
		l.text = append(l.text, c)
		if c == '\\' {
			next, err := l.read()
			if err != nil {
				return
			}
			if next == '\n' {
				l.in.UnreadByte()
				l.newline = false
				return
			}
			l.text = append(l.text, next)
		}
		var err error
		if c, err = l.read(); err != nil || len(l.text) > maxEntry {
			return
		}
		switch c {
		case '\n':
			l.in.UnreadByte()
			l.newline = false
			return
		case ' ', '\t', '\r', ';', '(', ')', '"':
			l.unread()
			return
		}
	}
}

func (l *lexer) quoted() error {
	for len(l.text) <= maxEntry {
		c, err := l.read()
		switch {
		case err != nil || c == '\n':
			return ErrQuote
		case c == '"':
			return nil
		}
		l.text = append(l.text, c)
		if c == '\\' {
			next, err := l.read()
			if err != nil || next == '\n' {
				return ErrQuote
			}
			l.text = append(l.text, next)
		}
	}
	return ErrLong
}

// wireWords appends the entry's words from index on to list, aliasing the entry.
func (l *lexer) wireWords(list []wire.Word, from int) []wire.Word {
	for _, w := range l.words[from:] {
		list = append(list, wire.Word{Text: l.text[w.from:w.to], Quoted: w.quoted})
	}
	return list
}

func (l *lexer) wordText(i int) []byte { return l.text[l.words[i].from:l.words[i].to] }
