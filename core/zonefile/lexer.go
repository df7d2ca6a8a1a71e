package zonefile

import (
	"bufio"
	"bytes"
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
	in    *bufio.Reader
	line  int
	long  []byte   // a line that does not fit the reader's buffer
	again [][]byte // lines that were read ahead

	text  []byte // of the entry's words, reused from entry to entry
	words []word
	blank bool // the entry starts with white space: the owner is the one before
}

func newLexer(r io.Reader) lexer { return lexer{in: bufio.NewReaderSize(r, 4<<10)} }

// What a byte does to an unquoted word.
const (
	goesOn = iota
	ends
	special // an escape, or what may come before a quoted value
)

var does = [256]uint8{' ': ends, '\t': ends, '\r': ends, '\n': ends, ';': ends, '(': ends, ')': ends, '"': ends, '\\': special, '=': special}

// next reads one entry that has words. It returns io.EOF after the last, an
// *Error for an entry that cannot be cut (and has skipped it), or the reader's error.
func (l *lexer) next(file string) error {
	for {
		l.text, l.words, l.blank = l.text[:0], l.words[:0], false
		if err := l.entry(file); err != nil && (err != io.EOF || len(l.words) == 0) {
			return err
		}
		if len(l.words) > 0 {
			return nil
		}
	}
}

// entry reads lines until the parentheses of the first are closed.
func (l *lexer) entry(file string) error {
	depth := 0
	var open word // the outermost parenthesis, for the error
	for first := true; first || depth > 0; first = false {
		line, err := l.readLine()
		if len(line) == 0 && err != nil {
			if err == io.EOF && depth > 0 {
				return &Error{file, open.line, open.column, "entry", ErrParen}
			}
			return err
		}
		if err == ErrLong || len(l.text) > maxEntry {
			return &Error{file, l.line, 1, "entry", ErrLong}
		}
		if first {
			l.blank = line[0] == ' ' || line[0] == '\t'
		}
		for i := 0; i < len(line); {
			switch c := line[i]; c {
			case ' ', '\t', '\r', '\n':
				i++
			case ';':
				i = len(line)
			case '(':
				if depth++; depth == 1 {
					open = word{line: l.line, column: i + 1}
				}
				i++
			case ')':
				if depth--; depth < 0 {
					return &Error{file, l.line, i + 1, "entry", ErrParen}
				}
				i++
			default:
				end, ok := l.word(line, i)
				if !ok {
					at := l.line
					if line, ok = l.joined(line, i); !ok {
						return &Error{file, at, i + 1, "string", ErrQuote}
					}
					end, _ = l.word(line, i)
				}
				i = end
			}
		}
	}
	return nil
}

// maxQuoted is how many bytes a quoted string may go on for over the ends of lines (RFC 1035
// §5.1): one whose end is missing must not take the rest of the file with it.
const maxQuoted = 4 << 10

// joined is line with those behind it, up to where the word at line[at:] ends. ok is false when
// that is nowhere near: then they are read again as lines of their own.
func (l *lexer) joined(line []byte, at int) (all []byte, ok bool) {
	var taken [][]byte
	first := l.line
	all = bytes.Clone(line)
	for len(all)-len(line) < maxQuoted {
		more, err := l.readLine()
		if len(more) == 0 || err == ErrLong {
			break
		}
		taken, all = append(taken, bytes.Clone(more)), append(all, more...)
		words, text := len(l.words), len(l.text)
		_, ok = l.word(all, at)
		l.words, l.text = l.words[:words], l.text[:text]
		if ok {
			return all, true
		}
	}
	l.line, l.again = first, append(taken, l.again...)
	return nil, false
}

// readLine returns the next line with its end, if it has one, good until the next call.
func (l *lexer) readLine() ([]byte, error) {
	l.line++
	if len(l.again) > 0 {
		line := l.again[0]
		l.again = l.again[1:]
		return line, nil
	}
	line, err := l.in.ReadSlice('\n')
	if err != bufio.ErrBufferFull {
		return line, err
	}
	l.long = append(l.long[:0], line...)
	for err == bufio.ErrBufferFull {
		line, err = l.in.ReadSlice('\n')
		if len(l.long) <= maxEntry {
			l.long = append(l.long, line...)
		}
	}
	if len(l.long) > maxEntry {
		return l.long, ErrLong
	}
	return l.long, err
}

// word takes the word at line[at:] and returns the index after it; ok is false, and nothing is
// taken, when a quote is not closed in line. Escaped bytes keep their backslash,
// for the field's own reader.
func (l *lexer) word(line []byte, at int) (end int, ok bool) {
	w := word{from: len(l.text), line: l.line, column: at + 1}
	if line[at] == '"' {
		end, ok := quoted(line, at)
		if !ok {
			return end, false
		}
		w.quoted = true
		l.text = append(l.text, line[at+1:end-1]...)
		w.to = len(l.text)
		l.words = append(l.words, w)
		return end, true
	}
	i := at
	for i < len(line) && does[line[i]] != ends {
		switch {
		case does[line[i]] == goesOn:
			i++
		case line[i] == '\\' && i+1 < len(line) && line[i+1] != '\n':
			i += 2
		case line[i] == '=' && i+1 < len(line) && line[i+1] == '"':
			// A service parameter's value may be quoted within its word (RFC 9460 §2.1).
			if i, ok = quoted(line, i+1); !ok {
				return i, false
			}
		default:
			i++
		}
	}
	l.text = append(l.text, line[at:i]...)
	w.to = len(l.text)
	l.words = append(l.words, w)
	return i, true
}

// quoted returns the index after the closing quote of the string at line[at:].
func quoted(line []byte, at int) (end int, ok bool) {
	for i := at + 1; i < len(line); i++ {
		switch line[i] {
		case '"':
			return i + 1, true
		case '\\':
			i++
		}
	}
	return len(line), false
}

// wireWords appends the entry's words from index on to list, aliasing the entry.
func (l *lexer) wireWords(list []wire.Word, from int) []wire.Word {
	for _, w := range l.words[from:] {
		list = append(list, wire.Word{Text: l.text[w.from:w.to], Quoted: w.quoted})
	}
	return list
}

func (l *lexer) wordText(i int) []byte { return l.text[l.words[i].from:l.words[i].to] }
