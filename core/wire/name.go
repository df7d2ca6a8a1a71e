package wire

import (
	"fmt"
	"strings"
)

const (
	maxName  = 255 // bytes in wire form (RFC 1035 §2.3.4)
	maxLabel = 63
)

// Name is an absolute domain name in wire form (RFC 1035 §3.1), 1 to 255 bytes,
// letter case as sent. It is immutable. The zero Name is no name; the root is
// one. == compares bytes, so compare names with [Name.Equal].
type Name struct{ wire string }

// Root is the name of the root zone.
var Root = Name{"\x00"}

// ParseName reads a name from its text form (RFC 1035 §5.1). A missing final
// dot is taken as there. The error wraps ErrNameLong, ErrLabelLong,
// ErrLabelEmpty or ErrEscape.
func ParseName(text string) (Name, error) {
	return ParseNameIn(text, Root)
}

// ParseNameIn is [ParseName], but a name without a final dot is relative to
// origin, and "@" is origin itself. Errors are those of [ParseName].
func ParseNameIn(text string, origin Name) (Name, error) {
	var buf [maxName + 1]byte
	wire, err := appendNameText(buf[:0], text, origin)
	if err != nil {
		return Name{}, err
	}
	return Name{string(wire)}, nil
}

// MustParseName is [ParseName] for names fixed in the program; it panics on a
// bad one.
func MustParseName(text string) Name {
	name, err := ParseName(text)
	if err != nil {
		panic(fmt.Sprintf("name %q: %v", text, err))
	}
	return name
}

// NameFromWire takes a whole uncompressed name in wire form, as [Name.Wire] gives. The error
// wraps ErrNameLong, ErrLabelLong or ErrPointer, or says that it ends too soon.
func NameFromWire(wire string) (Name, error) {
	end, err := skipName(wire, 0)
	switch {
	case err != nil:
		return Name{}, err
	case end != len(wire):
		return Name{}, ErrSurplus
	}
	return Name{wire}, nil
}

// text is what both a string and the bytes of a file can be read from.
type text interface{ ~string | ~[]byte }

// appendNameText appends the wire form of the name written in s to dst.
func appendNameText[T text](dst []byte, s T, origin Name) ([]byte, error) {
	start := len(dst)
	if len(s) == 0 {
		return dst, ErrLabelEmpty
	}
	if len(s) == 1 && s[0] == '@' {
		return append(dst, origin.wire...), nil
	}
	if len(s) == 1 && s[0] == '.' {
		return append(dst, 0), nil
	}
	label := len(dst) // where the length byte of the current label stands
	dst = append(dst, 0)
	absolute := false
	for i := 0; i < len(s); {
		c := s[i]
		if c == '.' {
			if len(dst)-label == 1 {
				return dst[:start], ErrLabelEmpty
			}
			dst[label] = byte(len(dst) - label - 1)
			label = len(dst)
			dst = append(dst, 0)
			absolute = i == len(s)-1
			i++
			continue
		}
		if c == '\\' {
			c, n := unescape(s, i+1)
			if n == 0 {
				return dst[:start], ErrEscape
			}
			dst = append(dst, c)
			i += 1 + n
		} else {
			run := i // most labels have nothing to unescape
			for i < len(s) && s[i] != '.' && s[i] != '\\' {
				i++
			}
			dst = append(dst, s[run:i]...)
		}
		if len(dst)-label-1 > maxLabel {
			return dst[:start], ErrLabelLong
		}
	}
	if absolute {
		// The byte of the label after the final dot is the root's.
		if len(dst)-start > maxName {
			return dst[:start], ErrNameLong
		}
		return dst, nil
	}
	dst[label] = byte(len(dst) - label - 1)
	dst = append(dst, origin.wire...)
	if len(dst)-start > maxName {
		return dst[:start], ErrNameLong
	}
	return dst, nil
}

// unescape reads what follows a backslash at s[at:] and returns the byte it
// stands for and how many bytes of s it took; 0 of them is an error.
func unescape[T text](s T, at int) (byte, int) {
	if at >= len(s) {
		return 0, 0
	}
	c := s[at]
	if c < '0' || c > '9' {
		return c, 1
	}
	if at+2 >= len(s) {
		return 0, 0
	}
	v := 0
	for _, d := range []byte{s[at], s[at+1], s[at+2]} {
		if d < '0' || d > '9' {
			return 0, 0
		}
		v = v*10 + int(d-'0')
	}
	if v > 255 {
		return 0, 0
	}
	return byte(v), 3
}

// skipName returns the index after the uncompressed name at data[at:].
func skipName[T text](data T, at int) (int, error) {
	for i := at; ; {
		if i >= len(data) {
			return 0, ErrShort
		}
		n := int(data[i])
		switch {
		case n > maxLabel:
			return 0, ErrLabelType
		case n == 0:
			if i+1-at > maxName {
				return 0, ErrNameLong
			}
			return i + 1, nil
		}
		i += 1 + n
	}
}

// Wire returns the name's wire form, letter case as sent.
func (n Name) Wire() string { return n.wire }

// IsZero reports whether n is no name at all.
func (n Name) IsZero() bool { return n.wire == "" }

// IsRoot reports whether n is the root.
func (n Name) IsRoot() bool { return n.wire == "\x00" }

// String returns the text form with the final dot; whatever is not a plain
// printing character is escaped (RFC 1035 §5.1), so it is safe to print.
// The zero Name gives "".
func (n Name) String() string {
	return string(appendName(nil, n.wire))
}

// Append appends what [Name.String] returns.
func (n Name) Append(dst []byte) []byte { return appendName(dst, n.wire) }

// Spoken is the text form without the final dot, the way people say names; the
// root stays ".". It is safe to print.
func (n Name) Spoken() string {
	if text := n.String(); len(text) > 1 {
		return text[:len(text)-1]
	}
	return "."
}

// AppendSpoken appends what [Name.Spoken] returns.
func (n Name) AppendSpoken(dst []byte) []byte {
	start := len(dst)
	if dst = appendName(dst, n.wire); len(dst)-start > 1 {
		dst = dst[:len(dst)-1]
	}
	return dst
}

// Clone is the same name in memory of its own: those of a [View] or a [Reader] are good only for as long as what they
// were read from.
func (n Name) Clone() Name { return Name{strings.Clone(n.wire)} }

// MarshalText and UnmarshalText let a name stand in JSON and other text forms. MarshalText has no
// error.
func (n Name) MarshalText() ([]byte, error) { return appendName(nil, n.wire), nil }

// UnmarshalText reads the form that MarshalText gives. The error is that of [ParseName].
func (n *Name) UnmarshalText(b []byte) (err error) {
	*n, err = ParseName(string(b))
	return err
}

// appendName appends the text form of an uncompressed wire name to dst.
func appendName[T text](dst []byte, wire T) []byte {
	if len(wire) == 0 {
		return dst
	}
	if wire[0] == 0 {
		return append(dst, '.')
	}
	for i := 0; i < len(wire) && wire[i] != 0; {
		end := i + 1 + int(wire[i])
		plain := i + 1
		for i++; i < end; i++ {
			if !standsForItself[wire[i]] {
				dst = appendLabelByte(append(dst, wire[plain:i]...), wire[i])
				plain = i + 1
			}
		}
		dst = append(append(dst, wire[plain:end]...), '.')
	}
	return dst
}

// standsForItself are the bytes of a label that need no escape.
var standsForItself = func() (table [256]bool) {
	for c := byte('!'); c < 0x7f; c++ {
		table[c] = !strings.ContainsRune(`.\";()@$`, rune(c))
	}
	return table
}()

func appendLabelByte(dst []byte, c byte) []byte {
	switch c {
	case '.', '\\', '"', ';', '(', ')', '@', '$':
		return append(dst, '\\', c)
	}
	if c <= ' ' || c >= 0x7f {
		return append(dst, '\\', '0'+c/100, '0'+c/10%10, '0'+c%10)
	}
	return append(dst, c)
}

// Equal reports whether n and m are one name, ASCII case ignored (RFC 4343 §3).
func (n Name) Equal(m Name) bool {
	// A length byte is at most 63, below 'A': folding every byte is safe.
	return len(n.wire) == len(m.wire) && (n.wire == m.wire || equalFolded(n.wire, m.wire))
}

func equalFolded(a, b string) bool {
	for i := range len(a) {
		if a[i] != b[i] && fold(a[i]) != fold(b[i]) {
			return false
		}
	}
	return true
}

func fold(c byte) byte {
	if c-'A' < 26 {
		return c + 'a' - 'A'
	}
	return c
}

// Fold returns the name in lower case: equal names fold to the same value, so
// it can be a map key.
func (n Name) Fold() Name {
	for i := range len(n.wire) {
		if c := n.wire[i]; fold(c) != c {
			folded := []byte(n.wire)
			for ; i < len(folded); i++ {
				folded[i] = fold(folded[i])
			}
			return Name{string(folded)}
		}
	}
	return n
}

// Parent returns the name without its first label; the root's parent is the root.
func (n Name) Parent() Name {
	if len(n.wire) <= 1 {
		return n
	}
	return Name{n.wire[1+int(n.wire[0]):]}
}

// Labels returns how many labels n has, the root's not counted.
func (n Name) Labels() int {
	count := 0
	for i := 0; i < len(n.wire) && n.wire[i] != 0; i += 1 + int(n.wire[i]) {
		count++
	}
	return count
}

// Label returns the bytes of label i, counted from the left, unescaped.
func (n Name) Label(i int) string {
	at := 0
	for ; i > 0; i-- {
		at += 1 + int(n.wire[at])
	}
	return n.wire[at+1 : at+1+int(n.wire[at])]
}

// Ancestor returns the last count labels of n; all of n if it has no more.
func (n Name) Ancestor(count int) Name {
	for drop := n.Labels() - count; drop > 0; drop-- {
		n = n.Parent()
	}
	return n
}

// IsSubdomainOf reports whether n is zone or a name below it (RFC 9499, "subdomain").
func (n Name) IsSubdomainOf(zone Name) bool {
	drop := n.Labels() - zone.Labels()
	return drop >= 0 && n.Ancestor(zone.Labels()).Equal(zone)
}

// Rebase returns n with the ancestor from replaced by to, as a DNAME record does
// (RFC 6672 §2.2). The error is ErrNameLong; n has to be under from.
func (n Name) Rebase(from, to Name) (Name, error) {
	kept := n.wire[:len(n.wire)-len(from.wire)]
	if len(kept)+len(to.wire) > maxName {
		return Name{}, ErrNameLong
	}
	return Name{kept + to.wire}, nil
}

// Child returns label put before n. The error is ErrLabelLong, ErrLabelEmpty
// or ErrNameLong.
func (n Name) Child(label string) (Name, error) {
	switch {
	case label == "":
		return Name{}, ErrLabelEmpty
	case len(label) > maxLabel:
		return Name{}, ErrLabelLong
	case len(label)+1+len(n.wire) > maxName:
		return Name{}, ErrNameLong
	}
	return Name{string(rune(len(label))) + label + n.wire}, nil
}

// Compare orders names canonically (RFC 4034 §6.1): by label from the root
// down, ASCII case folded.
func (n Name) Compare(m Name) int {
	a, b := n.Labels(), m.Labels()
	for i := 1; i <= min(a, b); i++ {
		if c := compareFolded(n.Label(a-i), m.Label(b-i)); c != 0 {
			return c
		}
	}
	return a - b
}

func compareFolded(a, b string) int {
	for i := range min(len(a), len(b)) {
		if x, y := fold(a[i]), fold(b[i]); x != y {
			return int(x) - int(y)
		}
	}
	return len(a) - len(b)
}

// ReverseName returns the name under in-addr.arpa or ip6.arpa whose PTR record
// names the address (RFC 1035 §3.5, RFC 3596 §2.5). The error says that the text is no address.
func ReverseName(address string) (Name, error) {
	bytes, err := addressBytes(address)
	if err != nil {
		return Name{}, err
	}
	var b strings.Builder
	if len(bytes) == 4 {
		for i := 3; i >= 0; i-- {
			fmt.Fprintf(&b, "%d.", bytes[i])
		}
		return ParseName(b.String() + "in-addr.arpa.")
	}
	for i := 15; i >= 0; i-- {
		fmt.Fprintf(&b, "%x.%x.", bytes[i]&15, bytes[i]>>4)
	}
	return ParseName(b.String() + "ip6.arpa.")
}
