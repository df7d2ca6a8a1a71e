package wire

import (
	"encoding/base32"
	"encoding/hex"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
)

// The kinds of signed zones: times, hashes, and which types a name has.
var (
	// signatureTime is seconds since 1970, written YYYYMMDDHHmmSS (RFC 4034 §3.2).
	signatureTime = &kind{
		name: "time",
		span: fixed(4),
		text: func(dst []byte, field, _ string) []byte {
			return time.Unix(int64(unsigned(field)), 0).UTC().AppendFormat(dst, "20060102150405")
		},
		parse: oneWord(func(dst, text []byte) ([]byte, error) {
			if len(text) == 14 {
				t, err := time.Parse("20060102150405", string(text))
				if err != nil || t.Unix() < 0 || t.Unix() > math.MaxUint32 {
					return dst, ErrValue
				}
				return appendUnsigned(dst, uint64(t.Unix()), 4), nil
			}
			v, err := strconv.ParseUint(string(text), 10, 32)
			if err != nil {
				return dst, ErrValue
			}
			return appendUnsigned(dst, v, 4), nil
		}),
		means: func(field string) string {
			return time.Unix(int64(unsigned(field)), 0).UTC().Format("2006-01-02 15:04:05 UTC")
		},
	}

	// clockTime is 48 bits of seconds since 1970.
	clockTime = func() *kind {
		k := *number("u48", 6)
		k.means = func(field string) string {
			return time.Unix(int64(unsigned(field)), 0).UTC().Format("2006-01-02 15:04:05 UTC")
		}
		return &k
	}()

	salt = &kind{
		name: "salt",
		span: counted,
		text: func(dst []byte, field, _ string) []byte {
			if len(field) == 1 {
				return append(dst, '-')
			}
			return appendHex(dst, field[1:])
		},
		parse: oneWord(func(dst, text []byte) ([]byte, error) {
			if string(text) == "-" {
				return append(dst, 0), nil
			}
			return countedDecode(dst, text, hex.AppendDecode)
		}),
		parts: func(field string) []part {
			return []part{{1, "Salt Length", strconv.Itoa(len(field) - 1), "bytes that follow"}, {len(field) - 1, "Salt", hexText(field[1:]), ""}}
		},
	}

	// hashedName is a hash in base32 with the extended hex alphabet (RFC 5155 §3.3).
	hashedName = &kind{
		name: "hashed name",
		span: counted,
		text: func(dst []byte, field, _ string) []byte { return base32hex.AppendEncode(dst, []byte(field[1:])) },
		odd:  func(field, _ string) bool { return len(field) == 1 },
		parse: oneWord(func(dst, text []byte) ([]byte, error) {
			return countedDecode(dst, []byte(strings.ToUpper(string(text))), base32hex.AppendDecode)
		}),
		parts: func(field string) []part {
			return []part{{1, "Hash Length", strconv.Itoa(len(field) - 1), "bytes that follow"},
				{len(field) - 1, "Next Hashed Owner Name", string(base32hex.AppendEncode(nil, []byte(field[1:]))), "the hash that comes next in the zone"}}
		},
	}
)

var base32hex = base32.HexEncoding.WithPadding(base32.NoPadding)

// countedDecode appends decoded text behind a byte that counts it.
func countedDecode(dst, text []byte, decode func(dst, src []byte) ([]byte, error)) ([]byte, error) {
	start := len(dst)
	dst, err := decode(append(dst, 0), text)
	if size := len(dst) - start - 1; err != nil || size == 0 || size > 255 {
		return dst[:start], ErrValue
	}
	dst[start] = byte(len(dst) - start - 1)
	return dst, nil
}

// typeBitmap is the types that a name has (RFC 4034 §4.1.2): blocks of a window
// number, a length, and as many bytes of bits.
var typeBitmap = &kind{
	name: "type bit maps",
	span: func(rdata string, at int) (int, error) {
		for i := at; i < len(rdata); {
			if len(rdata)-i < 2 || len(rdata)-i-2 < int(rdata[i+1]) {
				return 0, ErrRDataShort
			}
			i += 2 + int(rdata[i+1])
		}
		return len(rdata) - at, nil
	},
	text: func(dst []byte, field, _ string) []byte {
		for i, t := range bitmapTypes(field) {
			if i > 0 {
				dst = append(dst, ' ')
			}
			dst = append(dst, t.String()...)
		}
		return dst
	},
	odd: func(field, _ string) bool {
		previous := -1
		for i := 0; i < len(field); i += 2 + int(field[i+1]) {
			size := int(field[i+1])
			if int(field[i]) <= previous || size == 0 || size > 32 || field[i+1+size] == 0 {
				return true
			}
			previous = int(field[i])
		}
		return false
	},
	parse: func(dst []byte, words *Words) ([]byte, error) {
		var types []Type
		for words.left() > 0 {
			word, _ := words.take()
			t, ok := TypeOf(word.Text)
			if !ok {
				return dst, ErrUnknownType
			}
			types = append(types, t)
		}
		return appendBitmap(dst, types), nil
	},
	parts: func(field string) (all []part) {
		for i := 0; i < len(field); {
			size := int(field[i+1])
			var names []string
			for _, t := range bitmapTypes(field[i : i+2+size]) {
				names = append(names, t.String())
			}
			all = append(all,
				part{1, "Window Block", strconv.Itoa(int(field[i])), fmt.Sprintf("types from %d on", int(field[i])*256)},
				part{1, "Bitmap Length", strconv.Itoa(size), "bytes that follow"},
				part{size, "Bitmap", strings.Join(names, " "), "a bit for each type"})
			i += 2 + size
		}
		return all
	},
}

// oldBitmap is the types from 0 to 127 of a name, a bit each (RFC 2535 §5.2).
var oldBitmap = &kind{
	name: "type bit map",
	span: someRest,
	text: func(dst []byte, field, _ string) []byte {
		for i, bit := range portsOf(field) {
			if i > 0 {
				dst = append(dst, ' ')
			}
			dst = append(dst, Type(bit).String()...)
		}
		return dst
	},
	odd: func(field, _ string) bool { return len(field) > 16 || field[len(field)-1] == 0 || field[0]&0x80 != 0 },
	parse: func(dst []byte, words *Words) ([]byte, error) {
		var bits [16]byte
		most := -1
		for words.left() > 0 {
			word, _ := words.take()
			t, ok := TypeOf(word.Text)
			if !ok {
				return dst, ErrUnknownType
			}
			if t == 0 || t > 127 {
				return dst, ErrValue
			}
			bits[t/8] |= 0x80 >> (t % 8)
			most = max(most, int(t/8))
		}
		if most < 0 {
			return dst, ErrMissing
		}
		return append(dst, bits[:most+1]...), nil
	},
}

func bitmapTypes(field string) (types []Type) {
	for i := 0; i < len(field); i += 2 + int(field[i+1]) {
		for _, bit := range portsOf(field[i+2 : i+2+int(field[i+1])]) {
			types = append(types, Type(int(field[i])*256+bit))
		}
	}
	return types
}

func appendBitmap(dst []byte, types []Type) []byte {
	slices.Sort(types)
	for len(types) > 0 {
		window := types[0] >> 8
		var bits [32]byte
		size := 0
		for len(types) > 0 && types[0]>>8 == window {
			low := int(types[0] & 0xff)
			bits[low/8] |= 0x80 >> (low % 8)
			size, types = low/8+1, types[1:]
		}
		dst = append(append(dst, byte(window), byte(size)), bits[:size]...)
	}
	return dst
}
