package wire

import (
	"encoding/base64"
	"encoding/hex"
	"net/netip"
	"strconv"
)

// kind is one way in which a field can be laid out. The RDATA a field stands in
// is handed over with every name uncompressed.
type kind struct {
	name string
	// span returns the field's length in bytes, at rdata[at:].
	span func(rdata string, at int) (int, error)
	// text appends the field in master-file form. before is the RDATA up to the field.
	text func(dst []byte, field, before string) []byte
	// parse appends the wire form of the next words.
	parse func(dst []byte, words *Words) ([]byte, error)
	// odd reports that text cannot carry the field: it is then shown as an
	// unknown type is. nil: never.
	odd func(field, before string) bool
	// means says in plain words what the value comes to. nil: the text says it all.
	means func(field string) string
	// parts cuts a field of several values into them, for the naming of bytes. nil: it is one.
	parts func(field string) []part
	// holds reports whether a domain name stands here. nil: never.
	holds func(rdata string, at int) bool
}

// part is one value within a field.
type part struct {
	size                 int
	name, value, meaning string
}

// fixed is the span of a field of n bytes.
func fixed(n int) func(string, int) (int, error) {
	return func(rdata string, at int) (int, error) {
		if len(rdata)-at < n {
			return 0, ErrRDataShort
		}
		return n, nil
	}
}

// counted is the span of a field whose first byte counts the rest.
func counted(rdata string, at int) (int, error) {
	if at >= len(rdata) || len(rdata)-at-1 < int(rdata[at]) {
		return 0, ErrRDataShort
	}
	return 1 + int(rdata[at]), nil
}

// sized is the span of a field whose first two bytes count the rest.
func sized(rdata string, at int) (int, error) {
	if len(rdata)-at < 2 {
		return 0, ErrRDataShort
	}
	n := 2 + int(unsigned(rdata[at:at+2]))
	return n, enough(rdata, at, n)
}

func enough(rdata string, at, n int) error {
	if len(rdata)-at < n {
		return ErrRDataShort
	}
	return nil
}

// rest is the span of a field that takes all that is left.
func rest(rdata string, at int) (int, error) { return len(rdata) - at, nil }

// someRest is rest, of which there has to be some.
func someRest(rdata string, at int) (int, error) {
	if at >= len(rdata) {
		return 0, ErrRDataShort
	}
	return rest(rdata, at)
}

// some makes a parser of one that may take nothing.
func some(parse func(dst []byte, words *Words) ([]byte, error)) func([]byte, *Words) ([]byte, error) {
	return func(dst []byte, words *Words) ([]byte, error) {
		before := len(dst)
		out, err := parse(dst, words)
		if err == nil && len(out) == before {
			err = ErrMissing
		}
		return out, err
	}
}

func always(string, int) bool { return true }

// oneWord makes a parser of one word from what turns its text into bytes.
func oneWord(parse func(dst, text []byte) ([]byte, error)) func([]byte, *Words) ([]byte, error) {
	return func(dst []byte, words *Words) ([]byte, error) {
		word, err := words.take()
		if err != nil {
			return dst, err
		}
		return parse(dst, word.Text)
	}
}

// number is an unsigned integer of size bytes, written in decimal.
func number(name string, size int) *kind {
	return &kind{
		name: name,
		span: fixed(size),
		text: func(dst []byte, field, _ string) []byte { return strconv.AppendUint(dst, unsigned(field), 10) },
		parse: oneWord(func(dst, text []byte) ([]byte, error) {
			v, err := strconv.ParseUint(borrow(text), 10, 8*size)
			if err != nil {
				return dst, ErrValue
			}
			return appendUnsigned(dst, v, size), nil
		}),
	}
}

// coded is a number whose values have names; master files may give either.
func coded(name string, size int, names *registry) *kind {
	k := number(name, size)
	decimal := k.parse
	k.means = func(field string) string {
		name, _ := names.name(uint16(unsigned(field)))
		return name
	}
	k.parse = func(dst []byte, words *Words) ([]byte, error) {
		if words.left() > 0 {
			if v, ok := names.value(borrow(words.peek().Text)); ok && v>>(8*size) == 0 {
				words.take()
				return appendUnsigned(dst, uint64(v), size), nil
			}
		}
		return decimal(dst, words)
	}
	return k
}

// named is a coded number that is written by its name where it has one.
func named(name string, size int, names *registry) *kind {
	k := coded(name, size, names)
	k.means = nil
	k.text = func(dst []byte, field, _ string) []byte {
		v := uint16(unsigned(field))
		if text, ok := names.name(v); ok {
			return append(dst, text...)
		}
		return strconv.AppendUint(dst, uint64(v), 10)
	}
	return k
}

// flags is a number whose bits have names, from the highest bit down.
func flags(name string, size int, bits map[uint64]string) *kind {
	k := number(name, size)
	k.means = func(field string) string {
		v, text := unsigned(field), ""
		for bit := uint64(1) << (8*size - 1); bit > 0; bit >>= 1 {
			if says := bits[bit]; v&bit != 0 && says != "" {
				if text != "" {
					text += ", "
				}
				text += says
			}
		}
		return text
	}
	return k
}

// unsigned reads a big-endian integer of up to 8 bytes.
func unsigned(field string) (v uint64) {
	for i := range len(field) {
		v = v<<8 | uint64(field[i])
	}
	return v
}

func appendUnsigned(dst []byte, v uint64, size int) []byte {
	for i := size - 1; i >= 0; i-- {
		dst = append(dst, byte(v>>(8*i)))
	}
	return dst
}

// address is an IP address of size bytes in its usual text form.
func address(name string, size int) *kind {
	return &kind{
		name: name,
		span: fixed(size),
		text: func(dst []byte, field, _ string) []byte { return addressOf(field).AppendTo(dst) },
		parse: oneWord(func(dst, text []byte) ([]byte, error) {
			if size == 4 {
				return appendIPv4(dst, text)
			}
			a, err := netip.ParseAddr(borrow(text))
			if err != nil || a.Zone() != "" || !a.Is6() {
				return dst, ErrValue
			}
			b := a.As16()
			return append(dst, b[:]...), nil
		}),
	}
}

// addressOf is the address of 4 or 16 bytes.
func addressOf(field string) netip.Addr {
	if len(field) == 4 {
		return netip.AddrFrom4([4]byte([]byte(field)))
	}
	return netip.AddrFrom16([16]byte([]byte(field)))
}

// appendIPv4 reads a dotted quad.
func appendIPv4(dst, text []byte) ([]byte, error) {
	start, v, digits := len(dst), 0, 0
	for i := 0; i <= len(text); i++ {
		if i < len(text) && text[i] != '.' {
			c := text[i]
			if c < '0' || c > '9' || digits > 0 && v == 0 {
				return dst[:start], ErrValue
			}
			if v, digits = v*10+int(c-'0'), digits+1; v > 255 {
				return dst[:start], ErrValue
			}
			continue
		}
		if digits == 0 {
			return dst[:start], ErrValue
		}
		dst, v, digits = append(dst, byte(v)), 0, 0
	}
	if len(dst)-start != 4 {
		return dst[:start], ErrValue
	}
	return dst, nil
}

// addressBytes returns the 4 or 16 bytes of an IP address without a zone.
func addressBytes(text string) ([]byte, error) {
	a, err := netip.ParseAddr(text)
	if err != nil || a.Zone() != "" {
		return nil, ErrValue
	}
	return a.AsSlice(), nil
}

var (
	u8  = number("u8", 1)
	u16 = number("u16", 2)
	u32 = number("u32", 4)
	u64 = number("u64", 8)

	ipv4 = address("ipv4", 4)
	ipv6 = address("ipv6", 16)

	// seconds is a period, which master files may also write with units (1h30m).
	seconds = &kind{
		name: "seconds",
		span: fixed(4),
		text: u32.text,
		parse: oneWord(func(dst, text []byte) ([]byte, error) {
			v, ok := ParseTTL(borrow(text))
			if !ok {
				return dst, ErrValue
			}
			return appendUnsigned(dst, uint64(v), 4), nil
		}),
		means: func(field string) string { return Period(uint32(unsigned(field))) },
	}

	domain = &kind{
		name: "name",
		span: func(rdata string, at int) (int, error) {
			end, err := skipName(rdata, at)
			if err == ErrShort {
				err = ErrRDataShort
			}
			return end - at, err
		},
		text: func(dst []byte, field, _ string) []byte { return appendName(dst, field) },
		parse: func(dst []byte, words *Words) ([]byte, error) {
			word, err := words.take()
			if err != nil {
				return dst, err
			}
			return appendNameText(dst, word.Text, words.Origin)
		},
		holds: always,
	}

	characters = &kind{
		name:  "string",
		span:  counted,
		text:  func(dst []byte, field, _ string) []byte { return appendQuoted(dst, field[1:]) },
		parse: oneWord(appendCounted),
	}

	// tag is a character-string that is written without quotes where it can be.
	tag = &kind{
		name: "tag",
		span: counted,
		text: func(dst []byte, field, _ string) []byte {
			for i := range len(field) - 1 {
				if c := fold(field[i+1]); (c < 'a' || c > 'z') && (c < '0' || c > '9') {
					return appendQuoted(dst, field[1:])
				}
			}
			if len(field) == 1 {
				return append(dst, `""`...)
			}
			return append(dst, field[1:]...)
		},
		parse: characters.parse,
	}

	// quotedRest is one string that goes on to the end of the RDATA, without a count.
	quotedRest = &kind{
		name:  "quoted rest",
		span:  rest,
		text:  func(dst []byte, field, _ string) []byte { return appendQuoted(dst, field) },
		parse: oneWord(func(dst, text []byte) ([]byte, error) { return appendUnescaped(dst, text) }),
	}

	hexRest = &kind{
		name:  "hex",
		span:  rest,
		text:  func(dst []byte, field, _ string) []byte { return appendHex(dst, field) },
		parse: func(dst []byte, words *Words) ([]byte, error) { return joined(dst, words, hex.AppendDecode) },
	}

	base64Rest = &kind{
		name: "base64",
		span: rest,
		text: func(dst []byte, field, _ string) []byte { return appendBase64(dst, field) },
		parse: func(dst []byte, words *Words) ([]byte, error) {
			return joined(dst, words, base64.StdEncoding.AppendDecode)
		},
	}

	// hexData and base64Data are the same, and not nothing.
	hexData    = &kind{name: "hex", span: someRest, text: hexRest.text, parse: some(hexRest.parse)}
	base64Data = &kind{name: "base64", span: someRest, text: base64Rest.text, parse: some(base64Rest.parse)}

	// keyData is a key, which one whose flags say that there is none does not have (RFC 2535
	// §3.1.2).
	keyData = &kind{
		name: "base64",
		span: func(rdata string, at int) (int, error) {
			if at >= 4 && rdata[at-4]&0xC0 == 0xC0 {
				return rest(rdata, at)
			}
			return someRest(rdata, at)
		},
		text: base64Rest.text,
		parse: func(dst []byte, words *Words) ([]byte, error) {
			if len(dst) >= 4 && dst[len(dst)-4]&0xC0 == 0xC0 {
				return base64Rest.parse(dst, words)
			}
			return base64Data.parse(dst, words)
		},
	}

	// sizedData is a 16-bit length and as many bytes: the length, then base64.
	sizedData = &kind{
		name: "sized data",
		span: sized,
		text: func(dst []byte, field, _ string) []byte {
			dst = strconv.AppendInt(dst, int64(len(field)-2), 10)
			if len(field) > 2 {
				dst = appendBase64(append(dst, ' '), field[2:])
			}
			return dst
		},
		parse: func(dst []byte, words *Words) ([]byte, error) {
			start := len(dst)
			dst, err := u16.parse(dst, words)
			if err != nil || unsigned(string(dst[start:])) == 0 {
				return dst, err
			}
			dst, err = oneWord(func(dst, text []byte) ([]byte, error) { return base64.StdEncoding.AppendDecode(dst, text) })(dst, words)
			if err != nil || len(dst)-start-2 != int(unsigned(string(dst[start:start+2]))) {
				return dst[:start], ErrValue
			}
			return dst, nil
		},
		parts: func(field string) []part {
			return []part{{2, "Size", strconv.Itoa(len(field) - 2), "bytes that follow"}, {len(field) - 2, "Data", hexText(field[2:]), ""}}
		},
	}

	// base64OrDash is base64 to the end of the RDATA, "-" when there is none.
	base64OrDash = &kind{
		name: "base64 or -",
		span: rest,
		text: func(dst []byte, field, _ string) []byte {
			if field == "" {
				return append(dst, '-')
			}
			return appendBase64(dst, field)
		},
		parse: func(dst []byte, words *Words) ([]byte, error) {
			if words.left() == 1 && string(words.peek().Text) == "-" {
				words.take()
				return dst, nil
			}
			return base64Rest.parse(dst, words)
		},
	}
)

// appendHex and appendBase64 write bytes as text.
func appendHex(dst []byte, s string) []byte { return hex.AppendEncode(dst, []byte(s)) }

func appendBase64(dst []byte, s string) []byte {
	return base64.StdEncoding.AppendEncode(dst, []byte(s))
}

func hexText(s string) string { return string(appendHex(nil, s)) }

// joined decodes all words that are left as if there were no space between them.
func joined(dst []byte, words *Words, decode func(dst, src []byte) ([]byte, error)) ([]byte, error) {
	start := len(dst)
	var all []byte
	for words.left() > 0 {
		word, _ := words.take()
		if words.left() == 0 && all == nil {
			all = word.Text
			break
		}
		all = append(all, word.Text...)
	}
	dst, err := decode(dst, all)
	if err != nil {
		return dst[:start], ErrValue
	}
	return dst, nil
}

// appendCounted appends what text stands for as a character-string (RFC 1035 §3.3).
func appendCounted(dst, text []byte) ([]byte, error) {
	start := len(dst)
	dst, err := appendUnescaped(append(dst, 0), text)
	if err != nil {
		return dst[:start], err
	}
	if len(dst)-start > 256 {
		return dst[:start], ErrStringLong
	}
	dst[start] = byte(len(dst) - start - 1)
	return dst, nil
}

// appendQuoted appends s as a quoted character-string (RFC 1035 §5.1).
func appendQuoted(dst []byte, s string) []byte {
	dst = append(dst, '"')
	for i := range len(s) {
		if c := s[i]; c == '"' || c == '\\' {
			dst = append(dst, '\\', c)
		} else {
			dst = appendPrintable(dst, c)
		}
	}
	return append(dst, '"')
}

// appendPrintable appends c as it is when it prints, or else as \DDD.
func appendPrintable(dst []byte, c byte) []byte {
	if c < ' ' || c >= 0x7f {
		return append(dst, '\\', '0'+c/100, '0'+c/10%10, '0'+c%10)
	}
	return append(dst, c)
}

// appendUnescaped appends the bytes that s stands for.
func appendUnescaped(dst, s []byte) ([]byte, error) {
	for i := 0; i < len(s); {
		c := s[i]
		i++
		if c == '\\' {
			var n int
			if c, n = unescape(s, i); n == 0 {
				return dst, ErrEscape
			}
			i += n
		}
		dst = append(dst, c)
	}
	return dst, nil
}
