package wire

import (
	"encoding/binary"
	"encoding/hex"
	"net/netip"
	"strconv"
	"strings"
)

// kind is one way in which a field can be laid out. RDATA is handed over whole,
// names uncompressed, with the index at which the field starts.
type kind struct {
	name  string
	span  func(rdata string, at int) (int, error)        // the field's length in bytes
	text  func(dst []byte, field string) []byte          // appends the field in master-file form
	parse func(dst []byte, words *Words) ([]byte, error) // appends the wire form of the next words
	means func(field string) string                      // in plain words for Pieces; nil: the text says it all
	holds func(rdata string, at int) (isName bool)       // whether a domain name stands here; nil: never
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

func always(string, int) bool { return true }

// number is an unsigned integer of size bytes, written in decimal.
func number(name string, size int) *kind {
	return &kind{
		name: name,
		span: fixed(size),
		text: func(dst []byte, field string) []byte { return strconv.AppendUint(dst, unsigned(field), 10) },
		parse: func(dst []byte, words *Words) ([]byte, error) {
			word, err := words.take()
			if err != nil {
				return dst, err
			}
			v, err := strconv.ParseUint(string(word.Text), 10, 8*size)
			if err != nil {
				return dst, ErrValue
			}
			return appendUnsigned(dst, v, size), nil
		},
	}
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

var (
	u16 = number("u16", 2)
	u32 = number("u32", 4)

	// seconds is a period, which master files may also write with units (1h30m).
	seconds = &kind{
		name: "seconds",
		span: fixed(4),
		text: u32.text,
		parse: func(dst []byte, words *Words) ([]byte, error) {
			word, err := words.take()
			if err != nil {
				return dst, err
			}
			v, ok := ParseTTL(string(word.Text))
			if !ok {
				return dst, ErrValue
			}
			return binary.BigEndian.AppendUint32(dst, v), nil
		},
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
		text: func(dst []byte, field string) []byte { return appendName(dst, field) },
		parse: func(dst []byte, words *Words) ([]byte, error) {
			word, err := words.take()
			if err != nil {
				return dst, err
			}
			return appendNameText(dst, word.Text, words.Origin)
		},
		holds: always,
	}

	ipv4 = address("ipv4", 4)
	ipv6 = address("ipv6", 16)

	characters = &kind{
		name: "string",
		span: counted,
		text: func(dst []byte, field string) []byte { return appendQuoted(dst, field[1:]) },
		parse: func(dst []byte, words *Words) ([]byte, error) {
			word, err := words.take()
			if err != nil {
				return dst, err
			}
			start := len(dst)
			dst, err = appendUnescaped(append(dst, 0), word.Text)
			if err != nil {
				return dst[:start], err
			}
			if len(dst)-start > 256 {
				return dst[:start], ErrStringLong
			}
			dst[start] = byte(len(dst) - start - 1)
			return dst, nil
		},
	}

	// option is one EDNS option (RFC 6891 §6.1.2): code, length, data.
	option = &kind{
		name: "option",
		span: func(rdata string, at int) (int, error) {
			if len(rdata)-at < 4 || len(rdata)-at-4 < int(unsigned(rdata[at+2:at+4])) {
				return 0, ErrRDataShort
			}
			return 4 + int(unsigned(rdata[at+2:at+4])), nil
		},
		text: func(dst []byte, field string) []byte {
			dst = strconv.AppendUint(dst, unsigned(field[:2]), 10)
			return hex.AppendEncode(append(dst, ':'), []byte(field[4:]))
		},
		parse: func(dst []byte, words *Words) ([]byte, error) { return dst, ErrValue },
	}
)

// address is an IP address of size bytes in its usual text form.
func address(name string, size int) *kind {
	return &kind{
		name: name,
		span: fixed(size),
		text: func(dst []byte, field string) []byte {
			var a netip.Addr
			if size == 4 {
				a = netip.AddrFrom4([4]byte([]byte(field)))
			} else {
				a = netip.AddrFrom16([16]byte([]byte(field)))
			}
			return a.AppendTo(dst)
		},
		parse: func(dst []byte, words *Words) ([]byte, error) {
			word, err := words.take()
			if err != nil {
				return dst, err
			}
			bytes, err := addressBytes(string(word.Text))
			if err != nil || len(bytes) != size {
				return dst, ErrValue
			}
			return append(dst, bytes...), nil
		},
	}
}

// addressBytes returns the 4 or 16 bytes of an IP address without a zone.
func addressBytes(text string) ([]byte, error) {
	a, err := netip.ParseAddr(text)
	if err != nil || a.Zone() != "" {
		return nil, ErrValue
	}
	return a.AsSlice(), nil
}

// appendQuoted appends s as a quoted character-string (RFC 1035 §5.1).
func appendQuoted(dst []byte, s string) []byte {
	dst = append(dst, '"')
	for i := range len(s) {
		switch c := s[i]; {
		case c == '"' || c == '\\':
			dst = append(dst, '\\', c)
		case c < ' ' || c >= 0x7f:
			dst = append(dst, '\\', '0'+c/100, '0'+c/10%10, '0'+c%10)
		default:
			dst = append(dst, c)
		}
	}
	return append(dst, '"')
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

// units are the letters that master files allow after a number of seconds.
var units = []struct {
	letter byte
	size   uint64
	one    string
	many   string
}{{'W', 604800, "week", "weeks"}, {'D', 86400, "day", "days"}, {'H', 3600, "h", "h"}, {'M', 60, "min", "min"}, {'S', 1, "s", "s"}}

// ParseTTL reads a period in seconds, plain (5400) or with units (1h30m).
// It has to fit 32 bits.
func ParseTTL(text string) (uint32, bool) {
	if text == "" || text[0] < '0' || text[0] > '9' {
		return 0, false
	}
	var total, v uint64
	digits := false
next:
	for i := range len(text) {
		c := text[i]
		if c >= '0' && c <= '9' {
			v, digits = v*10+uint64(c-'0'), true
			if v > 1<<32 {
				return 0, false
			}
			continue
		}
		for _, u := range units {
			if c&^0x20 == u.letter && digits {
				total, v, digits = total+v*u.size, 0, false
				continue next
			}
		}
		return 0, false
	}
	if total += v; total > 1<<32-1 {
		return 0, false
	}
	return uint32(total), true
}

// Period says a number of seconds the way people do, in at most two units:
// "41 min 20 s", "1 h", "7 days".
func Period(s uint32) string {
	var parts []string
	rest := uint64(s)
	for _, u := range units {
		n := rest / u.size
		rest %= u.size
		if n == 0 {
			if len(parts) > 0 {
				break
			}
			continue
		}
		word := u.one
		if n > 1 {
			word = u.many
		}
		parts = append(parts, strconv.FormatUint(n, 10)+" "+word)
		if len(parts) == 2 {
			break
		}
	}
	if len(parts) == 0 {
		return "0 s"
	}
	return strings.Join(parts, " ")
}
