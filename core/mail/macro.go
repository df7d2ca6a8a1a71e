package mail

import (
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"
)

// macro is a piece of a macro-string (RFC 7208 §7): literal text, or a letter to be expanded.
type macro struct {
	text       string // literal
	letter     byte   // in lower case; 0: literal
	escape     bool   // the letter was a capital: the value is escaped as in a URL
	keep       int    // how many parts from the right are kept; 0: all
	reverse    bool
	delimiters string
}

// Why a macro-string cannot be read.
var (
	errMacro       = errors.New("has a macro that is not well formed")
	errMacroLetter = errors.New("has a macro of a letter that there is not")
)

// macros reads a macro-string. The error wraps errMacro or errMacroLetter.
func macros(text string) (parts []macro, err error) {
	literal := ""
	flush := func() {
		if literal != "" {
			parts, literal = append(parts, macro{text: literal}), ""
		}
	}
	for text != "" {
		if text[0] != '%' {
			literal, text = literal+text[:1], text[1:]
			continue
		}
		if len(text) < 2 {
			return nil, errMacro
		}
		switch text[1] {
		case '%':
			literal, text = literal+"%", text[2:]
			continue
		case '_':
			literal, text = literal+" ", text[2:]
			continue
		case '-':
			literal, text = literal+"%20", text[2:]
			continue
		case '{':
		default:
			return nil, fmt.Errorf("%w: %% is followed by neither {, nor %%, _ or -", errMacro)
		}
		end := strings.IndexByte(text, '}')
		if end < 3 {
			return nil, fmt.Errorf("%w: it is not closed, or empty", errMacro)
		}
		m, err := readMacro(text[2:end])
		if err != nil {
			return nil, err
		}
		flush()
		parts, text = append(parts, m), text[end+1:]
	}
	flush()
	return parts, nil
}

// readMacro reads what stands between the braces.
func readMacro(text string) (macro, error) {
	m := macro{letter: text[0] | 0x20, escape: text[0] < 'a', delimiters: "."}
	if strings.IndexByte("slodiphcrtv", m.letter) < 0 || !letter(text[0]) {
		return m, errMacroLetter
	}
	text = text[1:]
	for digits := 0; text != "" && text[0] >= '0' && text[0] <= '9'; digits++ {
		if digits == 3 {
			return m, errMacro
		}
		m.keep, text = 10*m.keep+int(text[0]-'0'), text[1:]
		if m.keep == 0 && (text == "" || text[0] < '0' || text[0] > '9') {
			return m, fmt.Errorf("%w: it keeps no part", errMacro)
		}
	}
	if text != "" && text[0]|0x20 == 'r' {
		m.reverse, text = true, text[1:]
	}
	for _, c := range []byte(text) {
		if strings.IndexByte(".-+,/_=", c) < 0 {
			return m, errMacro
		}
	}
	if text != "" {
		m.delimiters = text
	}
	return m, nil
}

// Sender is who wants to send, as a macro sees it.
type Sender struct {
	Address netip.Addr
	Local   string // the part of the mailbox before the @
	Domain  string // the part behind it
	Helo    string
	Host    string // the name of its address, as far as that leads back; "" for unknown
	Us      string // the host that receives; "" for unknown
	Now     time.Time
}

// bare reports whether a macro-string can be expanded without knowing the sender: its only
// macro is the domain of the record.
func bare(parts []macro) bool {
	return !slices.ContainsFunc(parts, func(m macro) bool { return m.letter != 0 && m.letter != 'd' })
}

// maxExpanded is how long a text may become, in bytes.
const maxExpanded = 10_000

// expand expands a macro-string for a record of a domain. explanation says that it is one, in
// which more letters may stand. ok is false where a letter may not stand there.
func expand(parts []macro, s *Sender, domain string, explanation bool) (text string, ok bool) {
	var b strings.Builder
	for _, m := range parts {
		if m.letter == 0 {
			b.WriteString(m.text)
		} else if strings.IndexByte("crt", m.letter) >= 0 && !explanation {
			return "", false
		} else {
			b.WriteString(m.of(s, domain))
		}
		if b.Len() > maxExpanded {
			return b.String()[:maxExpanded], true
		}
	}
	return b.String(), true
}

// of is the value of a macro.
func (m macro) of(s *Sender, domain string) string {
	value := ""
	switch m.letter {
	case 's':
		value = s.Local + "@" + s.Domain
	case 'l':
		value = s.Local
	case 'o':
		value = s.Domain
	case 'd':
		value = domain
	case 'i':
		value = dotted(s.Address)
	case 'p':
		value = orUnknown(s.Host)
	case 'v':
		value = map[bool]string{true: "in-addr", false: "ip6"}[s.Address.Is4()]
	case 'h':
		value = s.Helo
	case 'c':
		value = s.Address.String()
	case 'r':
		value = orUnknown(s.Us)
	case 't':
		value = fmt.Sprint(s.Now.Unix())
	}
	if m.keep > 0 || m.reverse || m.delimiters != "." {
		parts := split(value, m.delimiters)
		if m.reverse {
			slices.Reverse(parts)
		}
		if m.keep > 0 && m.keep < len(parts) {
			parts = parts[len(parts)-m.keep:]
		}
		value = strings.Join(parts, ".")
	}
	if m.escape {
		value = strings.ReplaceAll(url.QueryEscape(value), "+", "%20")
	}
	return value
}

// split cuts a text at each of some characters, empty parts included.
func split(text, delimiters string) (parts []string) {
	for {
		at := strings.IndexAny(text, delimiters)
		if at < 0 {
			return append(parts, text)
		}
		parts, text = append(parts, text[:at]), text[at+1:]
	}
}

func orUnknown(name string) string {
	if name == "" {
		return "unknown"
	}
	return name
}

// dotted is an address as macros have it: an IPv6 address by its nibbles.
func dotted(a netip.Addr) string {
	if a.Is4() {
		return a.String()
	}
	var b strings.Builder
	for i, c := range a.As16() {
		if i > 0 {
			b.WriteByte('.')
		}
		fmt.Fprintf(&b, "%x.%x", c>>4, c&15)
	}
	return b.String()
}

// fitted is an expanded domain-spec as a name: where it is longer than 253 characters, labels
// are taken off its left end (RFC 7208 §7.3).
func fitted(text string) string {
	text = strings.TrimSuffix(text, ".")
	for len(text) > 253 {
		_, rest, more := strings.Cut(text, ".")
		if !more {
			return ""
		}
		text = rest
	}
	return text
}
