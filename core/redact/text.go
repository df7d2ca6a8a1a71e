package redact

import (
	"net/netip"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"unquil/core/wire"
)

var (
	// dashed is an address as names of hosts have it.
	dashed = lazily(`\d{1,3}-\d{1,3}-\d{1,3}-\d{1,3}`)
	// dotted is an address anywhere.
	dotted = lazily(`\d{1,3}\.\d{1,3}\.\d{1,3}\.\d{1,3}`)
)

// Text returns text with the names and addresses in it replaced. It takes time in
// proportion to its length.
func (r *Redactor) Text(text string) string {
	for _, label := range r.odd {
		text = r.replaceOdd(text, label)
	}
	var b strings.Builder
	for text != "" {
		word, rest := nextWord(text)
		if word == "" {
			_, size := utf8.DecodeRuneInString(rest)
			b.WriteString(rest[:size])
			text = rest[size:]
			continue
		}
		length := ""
		if strings.HasPrefix(rest, "/") {
			n := 1
			for n < len(rest) && n < 4 && rest[n] >= '0' && rest[n] <= '9' {
				n++
			}
			length = rest[1:n]
		}
		b.WriteString(r.word(word, length))
		text = rest
	}
	return b.String()
}

// replaceOdd replaces a label that is no word, as it is and as master files have it.
func (r *Redactor) replaceOdd(text, label string) string {
	forms := []string{label}
	if name, err := wire.Root.Child(label); err == nil {
		forms = append(forms, strings.ToLower(name.Spoken()))
	}
	for _, form := range forms {
		low := strings.ToLower(text)
		if len(low) != len(text) || !strings.Contains(low, form) {
			continue
		}
		var b strings.Builder
		for {
			at := strings.Index(low, form)
			if at < 0 {
				break
			}
			b.WriteString(text[:at] + r.labels[label])
			text, low = text[at+len(form):], low[at+len(form):]
		}
		text = b.String() + text
	}
	return text
}

// nextWord takes a run of what names and addresses are made of, with escapes as they are
// in master files (RFC 1035 §5.1), off the beginning of text.
func nextWord(text string) (word, rest string) {
	i := 0
	for i < len(text) {
		r, size := utf8.DecodeRuneInString(text[i:])
		switch {
		case r == '\\' && i+1 < len(text):
			_, next := utf8.DecodeRuneInString(text[i+1:])
			i += size + next
			continue
		case r < utf8.RuneSelf && (unicode.IsLetter(r) || unicode.IsDigit(r) || strings.ContainsRune("._-:", r)):
		case r >= utf8.RuneSelf && (unicode.IsLetter(r) || unicode.IsMark(r) || unicode.IsDigit(r)):
		default:
			return text[:i], text[i:]
		}
		i += size
	}
	return text, ""
}

// word replaces one word; length is what stands behind a slash after it.
func (r *Redactor) word(word, length string) string {
	for _, end := range []string{"", ".", ":"} { // of the sentence, perhaps
		trimmed := strings.TrimSuffix(word, end)
		if a, err := netip.ParseAddr(trimmed); err == nil {
			return r.network(a, trimmed, length) + word[len(trimmed):]
		}
	}
	// A word in front of a value, such as ip6:2001:db8::1, or a port behind it.
	if at := strings.IndexByte(word, ':'); at >= 0 && !strings.Contains(word[:at], `\`) {
		return r.word(word[:at], "") + ":" + r.word(word[at+1:], length)
	}
	if at := dotted().FindStringIndex(word); at != nil && (at[0] == 0 || !digit(word[at[0]-1])) && (at[1] == len(word) || !digit(word[at[1]])) && !reverseName(word) {
		if a, err := netip.ParseAddr(word[at[0]:at[1]]); err == nil {
			return r.word(word[:at[0]], "") + r.network(a, word[at[0]:at[1]], "") + r.word(word[at[1]:], "")
		}
	}
	return r.nameWord(word)
}

func digit(c byte) bool { return c >= '0' && c <= '9' }

func reverseName(word string) bool {
	low := strings.ToLower(strings.TrimRight(word, "."))
	return strings.HasSuffix(low, ".arpa")
}

// network is what stands for an address, or for the network that it begins.
func (r *Redactor) network(a netip.Addr, text, length string) string {
	if n, err := strconv.Atoi(length); err == nil && n < a.BitLen() {
		if p := netip.PrefixFrom(a.Unmap(), n); r.hidesIn(p) {
			return r.Prefix(p).Addr().String()
		}
		return text
	}
	if !r.hides(a) {
		return text
	}
	return r.Address(a).String()
}

// nameWord replaces the labels of a word that is, or may be, a name.
func (r *Redactor) nameWord(word string) string {
	if reverseName(word) {
		if name, err := wire.ParseName(strings.TrimRight(word, ".")); err == nil {
			out := r.Name(name).String()
			if !strings.HasSuffix(word, ".") {
				out = strings.TrimSuffix(out, ".")
			}
			return out
		}
	}
	labels := splitLabels(word)
	alone := len(labels) == 1 || len(labels) == 2 && labels[1] == ""
	for i, label := range labels {
		bare := unescaped(label)
		low := folded(bare)
		if _, hidden := r.labels[low]; alone && !(hidden && len(low) > 1 && !r.common(low)) && !r.tells(bare) && !dashed().MatchString(bare) {
			continue // a word of the report, as far as anybody can tell
		}
		if stands := r.label(bare); stands != bare {
			labels[i] = stands
		}
	}
	return strings.Join(labels, ".")
}

// splitLabels cuts at dots that are not escaped.
func splitLabels(word string) (labels []string) {
	from := 0
	for i := 0; i < len(word); i++ {
		switch word[i] {
		case '\\':
			i++
		case '.':
			labels = append(labels, word[from:i])
			from = i + 1
		}
	}
	return append(labels, word[from:])
}

// unescaped is a label as its bytes.
func unescaped(label string) string {
	if !strings.Contains(label, `\`) {
		return label
	}
	name, err := wire.ParseName(label)
	if err != nil || name.Labels() != 1 {
		return strings.ReplaceAll(label, `\`, "")
	}
	return name.Label(0)
}
