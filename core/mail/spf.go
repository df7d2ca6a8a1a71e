package mail

import (
	"fmt"
	"net/netip"
	"strings"
	"unicode/utf8"

	"unquil/core/wire"
	"unquil/core/wording"
)

// Record is an SPF record (RFC 7208 §4.5), term by term.
type Record struct {
	Text     string
	Terms    []Term
	Redirect *Term         // the domain whose record counts where no term fits; nil without one
	Explain  *Term         // where the explanation of a fail is; nil without one
	Errors   []SyntaxError // in the order of the text: one makes the whole record void
}

// Term is a mechanism, or a modifier.
type Term struct {
	Text      string
	At        int          // of its first byte in the record, from 0
	Qualifier byte         // + - ~ ?, of a mechanism
	Name      string       // in lower case
	Domain    string       // as it stands there, macros included; "" without one
	Network   netip.Prefix // of ip4 and ip6
	V4, V6    int          // lengths of the prefixes around addresses of a and mx
	Modifier  bool
}

// SyntaxError is what is wrong with a record, and where.
type SyntaxError struct {
	At    int    // byte in the text, from 0
	Word  string // what stands there
	Says  string
	Meant string // what was probably meant; "" where that is unknown
}

func (e SyntaxError) Error() string {
	text := fmt.Sprintf("%q at character %d %s", e.Word, e.At+1, e.Says)
	if e.Meant != "" {
		text += fmt.Sprintf("; probably meant: %s", e.Meant)
	}
	return text
}

// IsSPF reports whether a text is an SPF record of version 1 (RFC 7208 §4.5).
func IsSPF(text string) bool {
	const version = "v=spf1"
	return len(text) >= len(version) && strings.EqualFold(text[:len(version)], version) && (len(text) == len(version) || text[len(version)] == ' ')
}

// mechanism says what stands behind the name of one.
type mechanism struct {
	domain  need // a domain-spec behind a colon
	prefix  bool // lengths of prefixes behind a stroke
	network bool // a network behind a colon
	asks    bool // it counts as a look-up (RFC 7208 §4.6.4)
}

type need uint8

const (
	never need = iota
	may
	must
)

var syntax = map[string]mechanism{
	"all": {}, "include": {domain: must, asks: true}, "a": {domain: may, prefix: true, asks: true}, "mx": {domain: may, prefix: true, asks: true},
	"ptr": {domain: may, asks: true}, "ip4": {network: true}, "ip6": {network: true}, "exists": {domain: must, asks: true},
}

// meant are words that people write by mistake, and what they mean by them.
var meant = map[string]string{
	"ip": "ip4", "ipv4": "ip4", "ip-4": "ip4", "ipv6": "ip6", "inc": "include", "includes": "include", "incl": "include", "al": "all", "alll": "all", "host": "a", "mail": "mx", "exist": "exists",
}

// maxTerms is how many terms of one record are read: more than any has that works.
const maxTerms = 2_000

// ReadSPF reads an SPF record. What cannot be read is an error in it, and the rest is read on.
func ReadSPF(text string) *Record {
	r := &Record{Text: text}
	at := len("v=spf1")
	for at < len(text) && len(r.Terms) < maxTerms {
		if text[at] == ' ' {
			at++
			continue
		}
		end := at
		for end < len(text) && text[end] != ' ' {
			end++
		}
		r.term(text[at:end], at)
		at = end
	}
	return r
}

func (r *Record) fail(at int, word, says, better string) {
	if len(word) > 80 {
		word = word[:80] + "…"
	}
	r.Errors = append(r.Errors, SyntaxError{at, word, says, better})
}

// term reads one.
func (r *Record) term(word string, at int) {
	if i := strings.IndexFunc(word, func(c rune) bool { return c > '~' || c < '!' }); i >= 0 || !utf8.ValidString(word) {
		r.fail(at, wire.Escape(word), "has a character that does not belong there", "")
		return
	}
	t := Term{Text: word, At: at, Qualifier: '+', V4: 32, V6: 128}
	if name, value, ok := modifier(word); ok {
		t.Name, t.Domain, t.Modifier = strings.ToLower(name), value, true
		r.modify(t)
		return
	}
	rest := word
	if strings.IndexByte("+-~?", rest[0]) >= 0 {
		t.Qualifier, rest = rest[0], rest[1:]
	}
	end := strings.IndexAny(rest, ":/=")
	if end < 0 {
		end = len(rest)
	}
	t.Name = strings.ToLower(rest[:end])
	form, known := syntax[t.Name]
	if !known {
		r.unknown(t, rest)
		return
	}
	argument := rest[end:]
	switch {
	case form.network:
		r.network(t, argument)
	case strings.HasPrefix(argument, "="):
		r.fail(at, word, "has an equals sign where a colon belongs", t.sign()+t.Name+":"+argument[1:])
	default:
		r.mechanism(t, form, argument)
	}
}

// modifier reads a word of the form name=value, where the name is one that modifiers have.
func modifier(word string) (name, value string, ok bool) {
	name, value, ok = strings.Cut(word, "=")
	if !ok || name == "" || !letter(name[0]) || strings.IndexFunc(name, func(c rune) bool {
		return !letter(byte(c)) && (c < '0' || c > '9') && c != '-' && c != '_' && c != '.'
	}) >= 0 {
		return "", "", false
	}
	_, mechanism := syntax[strings.ToLower(name)]
	_, slip := meant[strings.ToLower(name)]
	return name, value, !mechanism && !slip
}

func letter(c byte) bool { return c|0x20 >= 'a' && c|0x20 <= 'z' }

// modify takes a modifier. One that is not known is passed over (RFC 7208 §6), though its
// macros must be well formed.
func (r *Record) modify(t Term) {
	switch t.Name {
	case "redirect", "exp":
		of := &r.Redirect
		if t.Name == "exp" {
			of = &r.Explain
		}
		if says := domainSpec(t.Domain); says != "" {
			r.fail(t.At, t.Text, says, "")
			return
		}
		if *of != nil {
			r.fail(t.At, t.Text, "stands there twice", "")
			return
		}
		kept := t
		*of = &kept
	default:
		if t.Name == "v" {
			r.fail(t.At, t.Text, "begins a second record", "a TXT record of its own, or one record with all terms")
			return
		}
		if _, err := macros(t.Domain); err != nil {
			r.fail(t.At, t.Text, err.Error(), "")
			return
		}
	}
	r.Terms = append(r.Terms, t)
}

// sign is the qualifier of a term as it was written; "" where it was left out.
func (t *Term) sign() string {
	if t.Text[0] == t.Qualifier {
		return t.Text[:1]
	}
	return ""
}

// unknown tells of a word that is no mechanism.
func (r *Record) unknown(t Term, rest string) {
	says, better, sign := "is no mechanism", "", t.sign()
	switch address, err := netip.ParsePrefix(rest); {
	case err == nil && address.Addr().Is4():
		better = sign + "ip4:" + rest
	case err == nil:
		better = sign + "ip6:" + rest
	default:
		if a, err := netip.ParseAddr(rest); err == nil {
			better = sign + map[bool]string{true: "ip4:", false: "ip6:"}[a.Is4()] + rest
		} else if name := meant[t.Name]; name != "" {
			better = sign + name + strings.Replace(rest[len(t.Name):], "=", ":", 1)
		} else if t.Name == "redirect" || t.Name == "exp" {
			says, better = "has a colon where an equals sign belongs", t.Name+"="+strings.TrimLeft(rest[len(t.Name):], ":")
		} else if near := wording.Nearest(t.Name, meantMechanisms); near != "" {
			better = sign + near + rest[len(t.Name):]
		} else if strings.Contains(rest, ".") && !strings.ContainsAny(rest, ":/=,;") {
			better = sign + "a:" + rest + " or " + sign + "include:" + rest
		}
	}
	r.fail(t.At, t.Text, says, better)
}

// meantMechanisms are those that somebody may have meant.
var meantMechanisms = []string{"include", "exists", "all", "ip4", "ip6", "ptr", "mx"}

// network reads the argument of ip4 and ip6.
func (r *Record) network(t Term, argument string) {
	text, ok := strings.CutPrefix(argument, ":")
	if !ok || text == "" {
		better := ""
		if after, is := strings.CutPrefix(argument, "="); is {
			better = t.Name + ":" + after
		}
		r.fail(t.At, t.Text, "lacks its network behind a colon", better)
		return
	}
	address, length, has := strings.Cut(text, "/")
	a, err := netip.ParseAddr(address)
	wants4 := t.Name == "ip4"
	switch {
	case err != nil || a.Zone() != "":
		r.fail(t.At, t.Text, "has no IP address behind the colon", "")
		return
	case a.Is4() != wants4:
		other := map[bool]string{true: "ip6:", false: "ip4:"}[wants4]
		r.fail(t.At, t.Text, "has an address of the other family", t.sign()+other+text)
		return
	}
	bits := a.BitLen()
	if has {
		n, ok := number(length, a.BitLen())
		if !ok {
			r.fail(t.At, t.Text, fmt.Sprintf("has a prefix length that is not a number from 0 to %d", a.BitLen()), "")
			return
		}
		bits = n
	}
	t.Network = netip.PrefixFrom(a, bits).Masked()
	r.Terms = append(r.Terms, t)
}

// number reads a length of a prefix, which has no zeros in front (RFC 7208 §5.6).
func number(text string, most int) (n int, ok bool) {
	if text == "" || len(text) > 3 || len(text) > 1 && text[0] == '0' {
		return 0, false
	}
	for _, c := range []byte(text) {
		if c < '0' || c > '9' {
			return 0, false
		}
		n = 10*n + int(c-'0')
	}
	return n, n <= most
}

// mechanism reads the argument of the other mechanisms.
func (r *Record) mechanism(t Term, form mechanism, argument string) {
	domain, hasDomain := strings.CutPrefix(argument, ":")
	lengths := ""
	if !hasDomain {
		domain, lengths = "", argument
	} else if form.prefix {
		// A macro may hold a stroke among its delimiters; a length stands at the end.
		if at := lengthsAt(domain); at >= 0 {
			domain, lengths = domain[:at], domain[at:]
		}
	}
	switch {
	case hasDomain && form.domain == never:
		r.fail(t.At, t.Text, "has something behind it, and nothing belongs there", t.sign()+t.Name)
		return
	case form.domain == must && domain == "":
		r.fail(t.At, t.Text, "lacks a name behind a colon", "")
		return
	case hasDomain && domain == "":
		r.fail(t.At, t.Text, "has nothing behind its colon", "")
		return
	case lengths != "" && !form.prefix:
		r.fail(t.At, t.Text, "has a prefix length, and none belongs there", "")
		return
	}
	if hasDomain {
		if says := domainSpec(domain); says != "" {
			better := ""
			if a, err := netip.ParseAddr(domain); err == nil && (t.Name == "a" || t.Name == "include" || t.Name == "mx") {
				better = t.sign() + map[bool]string{true: "ip4:", false: "ip6:"}[a.Is4()] + domain + lengths
			}
			r.fail(t.At, t.Text, says, better)
			return
		}
	}
	t.Domain = domain
	if lengths != "" && !t.lengths(lengths) {
		r.fail(t.At, t.Text, "has a prefix length that is none: /0 to /32, //0 to //128, or both", "")
		return
	}
	r.Terms = append(r.Terms, t)
}

// lengthsAt is where the prefix lengths begin at the end of a domain-spec; -1 without any.
func lengthsAt(domain string) int {
	at := len(domain)
	for at > 0 && (domain[at-1] >= '0' && domain[at-1] <= '9' || domain[at-1] == '/') {
		at--
	}
	if at = at + strings.IndexByte(domain[at:], '/'); at < len(domain) && at >= 0 && domain[at] == '/' {
		return at
	}
	return -1
}

// lengths reads /24, //64 or /24//64.
func (t *Term) lengths(text string) (ok bool) {
	v4, v6, both := strings.Cut(text, "//")
	if v4 != "" {
		if t.V4, ok = number(strings.TrimPrefix(v4, "/"), 32); !ok || v4[0] != '/' {
			return false
		}
	}
	if both {
		t.V6, ok = number(v6, 128)
	}
	return ok
}

// domainSpec says what is wrong with a domain-spec (RFC 7208 §7.1); "" for nothing.
func domainSpec(text string) string {
	if text == "" {
		return "lacks a name"
	}
	parts, err := macros(text)
	if err != nil {
		return err.Error()
	}
	if last := parts[len(parts)-1]; last.letter != 0 {
		return "" // it ends in a macro
	}
	text = strings.TrimSuffix(text, ".")
	top := text[strings.LastIndexByte(text, '.')+1:]
	switch {
	case !strings.Contains(text, "."):
		return "names no domain: a name with a dot belongs there"
	case top == "" || strings.IndexFunc(top, func(c rune) bool { return !letter(byte(c)) && (c < '0' || c > '9') && c != '-' }) >= 0 || top[0] == '-' || top[len(top)-1] == '-':
		return "names no domain: its last label is not one"
	case strings.IndexFunc(top, func(c rune) bool { return c < '0' || c > '9' }) < 0:
		return "names no domain: its last label is a number"
	}
	return ""
}
