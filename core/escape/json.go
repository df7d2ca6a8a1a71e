package escape

import (
	"fmt"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// AppendJSON appends s as a JSON string (RFC 8259 §7) in which every character shows: what
// does not stands as \uXXXX, and reads back as it was. What is no UTF-8 stands as U+FFFD.
func AppendJSON[T ~string | ~[]byte](dst []byte, s T) []byte {
	dst = append(dst, '"')
	start := 0
	for i := 0; i < len(s); {
		c := s[i]
		if c >= ' ' && c < 0x7f && c != '"' && c != '\\' {
			i++
			continue
		}
		dst = append(dst, s[start:i]...)
		r, size := rune(c), 1
		if c >= utf8.RuneSelf {
			r, size = utf8.DecodeRuneInString(string(s[i:min(i+utf8.UTFMax, len(s))]))
		}
		dst = appendJSONRune(dst, r)
		i += size
		start = i
	}
	return append(append(dst, s[start:]...), '"')
}

// appendJSONRune appends one character, which does not stand for itself.
func appendJSONRune(dst []byte, r rune) []byte {
	if at := strings.IndexRune("\"\\\b\f\n\r\t", r); at >= 0 {
		return append(dst, '\\', `"\bfnrt`[at])
	}
	first, second := utf16.EncodeRune(r)
	switch {
	case Shows(r):
		return utf8.AppendRune(dst, r)
	case first != utf8.RuneError:
		return fmt.Appendf(dst, `\u%04x\u%04x`, first, second)
	}
	return fmt.Appendf(dst, `\u%04x`, r)
}
