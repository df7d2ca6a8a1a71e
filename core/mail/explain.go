// Package mail reads what a domain says of its mail: so far, who may send it (SPF, RFC 7208).
package mail

import (
	"strings"

	"unquil/core/wire"
)

// qualifiers are what comes of a match (RFC 7208 §4.6.2).
var qualifiers = map[byte]string{'+': "may send", '-': "must not send (fail)", '~': "should not send (softfail)", '?': "nothing is said about them (neutral)"}

// mechanisms say which senders are meant (RFC 7208 §5).
var mechanisms = map[string]string{
	"all": "everybody else", "include": "whoever this other name lets send", "a": "the addresses of this name", "mx": "the mail hosts of this name",
	"ptr": "hosts whose address's name ends in this one (not to be used any more)", "ip4": "this IPv4 range", "ip6": "this IPv6 range", "exists": "everybody for whom this made-up name exists",
}

// modifiers are the other terms (RFC 7208 §6).
var modifiers = map[string]string{"redirect": "look at this other name instead", "exp": "where to find the explanation for who is turned away"}

// SPF reads the text of a TXT record as a list of who may send mail for a name,
// one field a term; ok is false for a text of another kind.
func SPF(text string) (terms []wire.Field, ok bool) {
	words := strings.Fields(text)
	if len(words) == 0 || !strings.EqualFold(words[0], "v=spf1") {
		return nil, false
	}
	terms = append(terms, wire.Field{Name: words[0], Meaning: "who may send mail for this name (SPF); the first term that fits decides"})
	for _, word := range words[1:] {
		name := strings.ToLower(word)
		qualifier := byte('+')
		if _, given := qualifiers[name[0]]; given {
			qualifier, name = name[0], name[1:]
		}
		if at := strings.IndexAny(name, ":/="); at >= 0 {
			name = name[:at]
		}
		meaning := "not an SPF term: the whole record is in error"
		if who, known := mechanisms[name]; known {
			meaning = who + ": " + qualifiers[qualifier]
		} else if what, known := modifiers[name]; known {
			meaning = what
		} else if strings.Contains(word, "=") {
			meaning = "an unknown modifier: it is ignored"
		}
		terms = append(terms, wire.Field{Name: word, Meaning: meaning})
	}
	return terms, true
}
