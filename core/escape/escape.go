// Package escape makes text safe to show. What comes from the network, from a file or
// from the command line is a string; what went through this package is [Text], in which
// nothing acts on a terminal, turns the direction of what follows, or is not seen.
package escape

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// Text is text in which every character shows. What does not is written as \DDD, byte by
// byte (RFC 1035 §5.1).
type Text string

// Of returns s as text that shows.
func Of(s string) Text { return Text(escaped(s, "", false)) }

func (t Text) String() string { return string(t) }

// Error returns err with a text that shows; nil stays nil. It unwraps to err.
func Error(err error) error {
	if err == nil || string(Of(err.Error())) == err.Error() {
		return err
	}
	return shown{err}
}

type shown struct{ error }

func (e shown) Error() string { return string(Of(e.error.Error())) }

func (e shown) Unwrap() error { return e.error }

// Lines returns s with its line ends and tabs as they are, and all else as [Of] has it:
// the last look at a text that is made of many.
func Lines(s string) string { return escaped(s, "\n\t", false) }

// Styled is [Lines] for text that may hold the colours and weights that this program's
// own terminal styles are made of, and no other control sequence.
func Styled(s string) string { return escaped(s, "\n\t", true) }

// Shows reports whether a character shows by itself, in its place.
func Shows(r rune) bool {
	if r < 0x7f {
		return r >= ' '
	}
	return unicode.IsPrint(r) && !unicode.In(r, unicode.Other_Default_Ignorable_Code_Point, unicode.Variation_Selector) && r != blank
}

// blank is a pattern of Braille without a dot, which counts as a symbol.
const blank = '\u2800'

// escaped writes what does not show, and is not kept, as \DDD.
func escaped(s, keep string, styled bool) string {
	if all(s, keep) {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		if styled && s[i] == 0x1b {
			if n := styleAt(s[i:]); n > 0 {
				b.WriteString(s[i : i+n])
				i += n
				continue
			}
		}
		r, size := utf8.DecodeRuneInString(s[i:])
		if r == utf8.RuneError && size == 1 || !Shows(r) && !strings.ContainsRune(keep, r) {
			for _, c := range []byte(s[i : i+size]) {
				b.Write([]byte{'\\', '0' + c/100, '0' + c/10%10, '0' + c%10})
			}
		} else {
			b.WriteString(s[i : i+size])
		}
		i += size
	}
	return b.String()
}

// all reports whether every character may stay.
func all(s, keep string) bool {
	for i, r := range s {
		if r == utf8.RuneError {
			if _, size := utf8.DecodeRuneInString(s[i:]); size == 1 {
				return false
			}
		}
		if !Shows(r) && !strings.ContainsRune(keep, r) {
			return false
		}
	}
	return true
}

// styleAt is the length of the control sequence that s begins with, if it sets nothing but
// the style of characters (ECMA-48 §8.3.117); else 0.
func styleAt(s string) int {
	if len(s) < 3 || s[1] != '[' {
		return 0
	}
	end := strings.IndexByte(s[:min(len(s), maxStyle)], 'm')
	if end < 0 {
		return 0
	}
	for code := range strings.SplitSeq(s[2:end], ";") {
		if !styles[code] {
			return 0
		}
	}
	return end + 1
}

// styles are the codes of the terminal's styles that this program uses: none, bold, faint,
// and the colours of its own palette.
var styles = map[string]bool{"": true, "0": true, "1": true, "2": true, "31": true, "32": true, "33": true, "34": true, "36": true}

// maxStyle is how long such a sequence is at the most, in bytes.
const maxStyle = 24

// Join puts texts together.
func Join(texts []Text, between string) string {
	var b strings.Builder
	for i, t := range texts {
		if i > 0 {
			b.WriteString(between)
		}
		b.WriteString(string(t))
	}
	return b.String()
}
