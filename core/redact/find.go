package redact

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"html"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"sync"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// Finder looks through what was written for what should not be there.
type Finder struct {
	r     *Redactor
	forms []form
}

// form is one way in which a chosen label may be written.
type form struct {
	label   string
	pattern []byte
}

// Finder returns the one that knows all that was replaced so far, and will be.
func (r *Redactor) Finder() *Finder { return r.find }

func newFinder(r *Redactor, common func(string) bool) *Finder {
	f := &Finder{r: r}
	for _, label := range r.telling {
		for _, text := range []string{label, reversed(label)} {
			if common(text) {
				continue
			}
			f.forms = append(f.forms, form{label, []byte(text)}, form{label, []byte(hex.EncodeToString([]byte(text)))}, form{label, spaced(text)})
		}
		for _, text := range []string{label, strings.ToUpper(label), strings.ToUpper(label[:1]) + label[1:]} {
			for shift := range 3 {
				f.forms = append(f.forms, form{label, inBase64(text, shift)})
			}
		}
	}
	f.forms = slices.DeleteFunc(f.forms, func(form form) bool { return len(form.pattern) < 4 })
	return f
}

func reversed(text string) string {
	letters := []rune(text)
	slices.Reverse(letters)
	return string(letters)
}

// spaced is text in hex, byte by byte.
func spaced(text string) []byte {
	var b bytes.Buffer
	for i := range len(text) {
		if i > 0 {
			b.WriteByte(' ')
		}
		b.WriteString(hex.EncodeToString([]byte{text[i]}))
	}
	return b.Bytes()
}

// inBase64 is what text always looks like in base64 when it begins shift bytes into a
// group; the characters at its ends depend on what stands beside it.
func inBase64(text string, shift int) []byte {
	encoded := base64.RawStdEncoding.EncodeToString(append(make([]byte, shift), text...))
	from := []int{0, 2, 3}[shift]
	end := len(encoded)
	if (shift+len(text))%3 != 0 {
		end--
	}
	if from >= end {
		return nil
	}
	return []byte(encoded[from:end])
}

// names returns the chosen label that data holds; "" when it holds none.
func (f *Finder) names(data string) string {
	lower := bytes.ToLower([]byte(data))
	for _, form := range f.forms {
		if bytes.Contains(lower, form.pattern) || bytes.Contains([]byte(data), form.pattern) {
			return form.label
		}
	}
	return ""
}

// Find returns a chosen label or a replaced address that a finished file holds, in text,
// escaped for a page or for Markdown, in hex, in base64, in wire form, backwards or in its
// own letters; "" when it holds none.
func (f *Finder) Find(file []byte) string {
	shown := html.UnescapeString(strings.ReplaceAll(string(file), `\`, ""))
	for _, text := range []string{string(file), shown} {
		if label := f.names(text); label != "" {
			return label
		}
	}
	for _, kind := range []struct {
		pattern *regexp.Regexp
		read    func(text string) (netip.Addr, bool)
	}{{dotted(), parsed}, {dashed(), fromDashed}, {colons(), parsed}, {hexCells(), fromHex}, {backwards(), fromReverse}} {
		for _, at := range kind.pattern.FindAllIndex(file, -1) {
			if a, ok := kind.read(string(file[at[0]:at[1]])); ok && f.replaced(a) {
				return a.String()
			}
		}
	}
	return ""
}

// FindIn is Find for exchanges as they are written to a capture, where addresses are bytes.
func (f *Finder) FindIn(exchanges []exchange.Exchange) string {
	for i := range exchanges {
		e := &exchanges[i]
		addresses := []netip.Addr{e.Server.Address.Addr()}
		for _, a := range e.Attempts {
			addresses = append(addresses, a.Local.Addr())
			for _, data := range append(rejectedData(a), a.Query, a.Reply) {
				m, _ := wire.ReadMessage(data)
				for _, r := range slices.Concat(m.Answer, m.Authority, m.Additional) {
					if address, ok := r.Address(); ok {
						addresses = append(addresses, address)
					}
				}
			}
		}
		for _, a := range addresses {
			if f.replaced(a.Unmap()) {
				return a.String()
			}
		}
	}
	return ""
}

func rejectedData(a exchange.Attempt) (all [][]byte) {
	for _, rejected := range a.Rejected {
		all = append(all, rejected.Data)
	}
	return all
}

// replaced reports whether an address is one of those that others stand for, and not
// itself one that stands for another.
func (f *Finder) replaced(a netip.Addr) bool {
	_, ok := f.r.stands[a]
	return ok && !(a.Is4() && a.As4()[0] >= 240 || a.Is6() && a.As16()[0] == 0xfd)
}

// The patterns are made when they are needed: that takes longer than all else at the start of the program.
var (
	colons    = lazily(`[0-9A-Fa-f]{0,4}(?::[0-9A-Fa-f]{0,4}){2,7}(?:\d{1,3}\.\d{1,3}\.\d{1,3}\.\d{1,3})?`)
	hexCells  = lazily(`>(?:[0-9a-f]{2} ){15}[0-9a-f]{2}<|>(?:[0-9a-f]{2} ){3}[0-9a-f]{2}<`)
	backwards = lazily(`(?i)(?:\d{1,3}\.){4}in-addr\.arpa|(?:[0-9a-f]\.){32}ip6\.arpa`)
)

// lazily is a pattern that is made when it is asked for first.
func lazily(pattern string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(pattern) })
}

func parsed(text string) (netip.Addr, bool) {
	a, err := netip.ParseAddr(text)
	return a, err == nil
}

func fromDashed(text string) (netip.Addr, bool) { return parsed(strings.ReplaceAll(text, "-", ".")) }

func fromHex(text string) (netip.Addr, bool) {
	data, err := hex.DecodeString(strings.ReplaceAll(strings.Trim(text, "><"), " ", ""))
	if err != nil {
		return netip.Addr{}, false
	}
	return netip.AddrFromSlice(data)
}

func fromReverse(text string) (netip.Addr, bool) {
	text = strings.ToLower(text)
	if digits, ok := strings.CutSuffix(text, ".in-addr.arpa"); ok {
		parts := strings.Split(digits, ".")
		slices.Reverse(parts)
		return parsed(strings.Join(parts, "."))
	}
	parts := strings.Split(strings.TrimSuffix(text, ".ip6.arpa"), ".")
	slices.Reverse(parts)
	data, err := hex.DecodeString(strings.Join(parts, ""))
	if err != nil {
		return netip.Addr{}, false
	}
	return netip.AddrFromSlice(data)
}
