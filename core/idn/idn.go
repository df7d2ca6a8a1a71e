// Package idn converts domain names between the form that people type and the
// ASCII form that travels (RFC 5891, with the mapping of UTS 46).
package idn

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/net/idna"

	"unquil/core/wire"
)

// lookup maps and checks as one does with a name that somebody typed.
// Underscores are let through: service names have them.
var lookup = idna.New(idna.MapForLookup(), idna.BidiRule(), idna.CheckJoiners(true), idna.StrictDomainName(false))

// Parse reads a name as typed. One with letters beyond ASCII is converted; any
// other is read as [wire.ParseName] reads it. The error wraps that of the
// conversion or of ParseName.
func Parse(text string) (wire.Name, error) {
	if ascii(text) {
		return wire.ParseName(text)
	}
	if !utf8.ValidString(text) {
		return wire.Name{}, fmt.Errorf("%w: not UTF-8", wire.ErrValue)
	}
	converted, err := lookup.ToASCII(text)
	if err != nil {
		return wire.Name{}, fmt.Errorf("%w: %w", wire.ErrValue, err)
	}
	return wire.ParseName(converted)
}

// Unicode returns the form of name that its holder would write, without the
// final dot; ok is false when that is no other than the ASCII form, or when the
// name does not convert back to itself. Show it only beside the ASCII form:
// different names can look alike.
func Unicode(name wire.Name) (text string, ok bool) {
	spoken := name.Spoken()
	if !strings.Contains(strings.ToLower(spoken), "xn--") {
		return "", false
	}
	text, err := lookup.ToUnicode(spoken)
	if err != nil || ascii(text) || strings.IndexFunc(text, hidden) >= 0 {
		return "", false
	}
	back, err := Parse(text)
	return text, err == nil && back.Equal(name)
}

// hidden reports whether a letter has no shape of its own to see.
func hidden(r rune) bool {
	return !unicode.In(r, unicode.L, unicode.M, unicode.N) && r != '.' && r != '-' && r != '_'
}

func ascii(text string) bool {
	return strings.IndexFunc(text, func(r rune) bool { return r >= 0x80 }) < 0
}
