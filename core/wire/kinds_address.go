package wire

import (
	"encoding/hex"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
)

// The kinds of addresses, of many networks, and of what stands in for one.
var (
	hexGroups = &kind{
		name: "hex groups",
		span: fixed(8),
		text: func(dst []byte, field, _ string) []byte {
			return fmt.Appendf(dst, "%04x:%04x:%04x:%04x", unsigned(field[:2]), unsigned(field[2:4]), unsigned(field[4:6]), unsigned(field[6:]))
		},
		parse: oneWord(func(dst, text []byte) ([]byte, error) { return grouped(dst, text, ':', 4, 2) }),
	}

	nsap = &kind{
		name: "nsap",
		span: rest,
		text: func(dst []byte, field, _ string) []byte { return appendHex(append(dst, "0x"...), field) },
		parse: oneWord(func(dst, text []byte) ([]byte, error) {
			digits, ok := strings.CutPrefix(strings.ToLower(string(text)), "0x")
			if !ok {
				return dst, ErrValue
			}
			out, err := hex.AppendDecode(dst, []byte(strings.ReplaceAll(digits, ".", "")))
			if err != nil {
				return dst, ErrValue
			}
			return out, nil
		}),
	}

	// atmAddress is a telephone number after +, or else hex.
	atmAddress = &kind{
		name: "ATM address",
		span: func(rdata string, at int) (int, error) { return len(rdata) - at, enough(rdata, at, 1) },
		text: func(dst []byte, field, _ string) []byte {
			if field[0] == 1 {
				return append(append(dst, '+'), field[1:]...)
			}
			return appendHex(dst, field[1:])
		},
		odd: func(field, _ string) bool {
			return len(field) == 1 || field[0] > 1 || field[0] == 1 && strings.Trim(field[1:], "0123456789") != ""
		},
		parse: oneWord(func(dst, text []byte) ([]byte, error) {
			if digits, ok := strings.CutPrefix(string(text), "+"); ok {
				if digits == "" || strings.Trim(digits, "0123456789") != "" {
					return dst, ErrValue
				}
				return append(append(dst, 1), digits...), nil
			}
			out, err := hex.AppendDecode(append(dst, 0), []byte(strings.ReplaceAll(string(text), ".", "")))
			if err != nil || len(text) == 0 {
				return dst, ErrValue
			}
			return out, nil
		}),
	}

	// relayType is the D bit and the type of an AMTRELAY (RFC 8777 §4.2), written as two words.
	relayType = &kind{
		name: "relay type",
		span: fixed(1),
		text: func(dst []byte, field, _ string) []byte {
			return fmt.Appendf(dst, "%d %d", field[0]>>7, field[0]&0x7f)
		},
		parse: func(dst []byte, words *Words) ([]byte, error) {
			start := len(dst)
			dst, err := u8.parse(dst, words)
			if err == nil {
				dst, err = u8.parse(dst, words)
			}
			if err != nil {
				return dst[:start], err
			}
			if dst[start] > 1 || dst[start+1] > 0x7f {
				return dst[:start], ErrValue
			}
			dst[start] = dst[start]<<7 | dst[start+1]
			return dst[:start+1], nil
		},
		means: func(field string) string {
			form := map[byte]string{0: "no relay", 1: "an IPv4 address", 2: "an IPv6 address", 3: "a name"}[field[0]&0x7f]
			if field[0] >= 0x80 {
				return "look for one nearby first; " + form
			}
			return form
		},
	}

	// gateway is nothing, an address or a name, as the second byte of the RDATA says
	// (RFC 4025 §2.5, RFC 8777 §4.2.4).
	gateway = &kind{
		name: "gateway",
		span: func(rdata string, at int) (int, error) {
			if at < 2 {
				return 0, ErrRDataShort
			}
			switch rdata[1] & 0x7f {
			case 0:
				return 0, nil
			case 1:
				return ipv4.span(rdata, at)
			case 2:
				return ipv6.span(rdata, at)
			case 3:
				return domain.span(rdata, at)
			}
			return len(rdata) - at, nil
		},
		text: func(dst []byte, field, before string) []byte {
			switch before[1] & 0x7f {
			case 0:
				return append(dst, '.')
			case 3:
				return appendName(dst, field)
			}
			return addressOf(field).AppendTo(dst)
		},
		odd: func(_, before string) bool { return before[1]&0x7f > 3 },
		parse: func(dst []byte, words *Words) ([]byte, error) {
			switch dst[words.start+1] & 0x7f {
			case 0:
				word, err := words.take()
				if err == nil && string(word.Text) != "." {
					err = ErrValue
				}
				return dst, err
			case 1:
				return ipv4.parse(dst, words)
			case 2:
				return ipv6.parse(dst, words)
			case 3:
				return domain.parse(dst, words)
			}
			return dst, ErrValue
		},
		holds: func(rdata string, _ int) bool { return rdata[1]&0x7f == 3 },
	}

	// a6Suffix is the low bits of an IPv6 address, as many as the prefix leaves (RFC 2874 §3.1).
	a6Suffix = &kind{
		name: "A6 suffix",
		span: func(rdata string, at int) (int, error) {
			if at < 1 {
				return 0, ErrRDataShort
			}
			if rdata[0] > 128 {
				return 0, ErrValue
			}
			n := suffixBytes(rdata[0])
			return n, enough(rdata, at, n)
		},
		text: func(dst []byte, field, _ string) []byte {
			return addressOf(strings.Repeat("\x00", 16-len(field)) + field).AppendTo(dst)
		},
		// Bits of the first byte that belong to the prefix should be zero.
		odd: func(field, before string) bool { return field != "" && field[0] != maskedFirst(field[0], before[0]) },
		parse: func(dst []byte, words *Words) ([]byte, error) {
			prefix := dst[words.start]
			if prefix > 128 {
				return dst, ErrValue
			}
			start := len(dst)
			dst, err := ipv6.parse(dst, words)
			if err != nil {
				return dst, err
			}
			suffix := dst[start+16-suffixBytes(prefix):]
			if len(suffix) > 0 {
				suffix[0] = maskedFirst(suffix[0], prefix)
			}
			return append(dst[:start], suffix...), nil
		},
	}

	// a6Name stands only when there is a prefix.
	a6Name = &kind{
		name: "A6 name",
		span: func(rdata string, at int) (int, error) {
			if at < 1 {
				return 0, ErrRDataShort
			}
			if rdata[0] == 0 {
				return 0, nil
			}
			return domain.span(rdata, at)
		},
		text: domain.text,
		parse: func(dst []byte, words *Words) ([]byte, error) {
			if dst[words.start] == 0 {
				return dst, nil
			}
			return domain.parse(dst, words)
		},
		holds: func(rdata string, _ int) bool { return rdata[0] > 0 },
	}

	// hostIdentity is the lengths, the HIT and the key of a HIP record (RFC 8005 §5).
	hostIdentity = &kind{
		name: "host identity",
		span: func(rdata string, at int) (int, error) {
			if err := enough(rdata, at, 4); err != nil {
				return 0, err
			}
			n := 4 + int(rdata[at]) + int(unsigned(rdata[at+2:at+4]))
			return n, enough(rdata, at, n)
		},
		text: func(dst []byte, field, _ string) []byte {
			hit := 4 + int(field[0])
			dst = append(strconv.AppendUint(dst, uint64(field[1]), 10), ' ')
			return appendBase64(append(appendHex(dst, field[4:hit]), ' '), field[hit:])
		},
		odd: func(field, _ string) bool { return field[0] == 0 || len(field) == 4+int(field[0]) },
		parse: func(dst []byte, words *Words) ([]byte, error) {
			start := len(dst)
			dst, err := u8.parse(append(dst, 0), words)
			if err != nil {
				return dst[:start], err
			}
			dst = append(dst, 0, 0)
			for i, kind := range []*kind{hexRest, base64Rest} {
				word, err := words.take()
				if err != nil {
					return dst[:start], err
				}
				at := len(dst)
				if dst, err = kind.parse(dst, &Words{List: []Word{word}}); err != nil {
					return dst[:start], err
				}
				size := len(dst) - at
				if size == 0 || i == 0 && size > 255 || size > 65535 {
					return dst[:start], ErrValue
				}
				if i == 0 {
					dst[start] = byte(size)
				} else {
					dst[start+2], dst[start+3] = byte(size>>8), byte(size)
				}
			}
			return dst, nil
		},
		parts: func(field string) []part {
			hit := int(field[0])
			return []part{{1, "HIT length", strconv.Itoa(hit), "bytes of the tag"}, {1, "PK algorithm", strconv.Itoa(int(field[1])), "the key's algorithm"},
				{2, "PK length", strconv.Itoa(len(field) - 4 - hit), "bytes of the key"}, {hit, "HIT", hexText(field[4 : 4+hit]), "the host identity tag"},
				{len(field) - 4 - hit, "Public Key", string(appendBase64(nil, field[4+hit:])), "the host's key"}}
		},
	}

	// aplItem is one address range of an APL (RFC 3123 §4).
	aplItem = &kind{
		name: "address range",
		span: func(rdata string, at int) (int, error) {
			if err := enough(rdata, at, 4); err != nil {
				return 0, err
			}
			n := 4 + int(rdata[at+3]&0x7f)
			return n, enough(rdata, at, n)
		},
		text: func(dst []byte, field, _ string) []byte {
			if field[3]&0x80 != 0 {
				dst = append(dst, '!')
			}
			family := unsigned(field[:2])
			dst = append(strconv.AppendUint(dst, family, 10), ':')
			dst = addressOf((field[4:] + strings.Repeat("\x00", 16))[:aplSize(family)]).AppendTo(dst)
			return strconv.AppendUint(append(dst, '/'), uint64(field[2]), 10)
		},
		odd: func(field, _ string) bool {
			size := aplSize(unsigned(field[:2]))
			// Bytes that are zero at the end are left out, or the text would not lead back here.
			return size == 0 || len(field)-4 > size || int(field[2]) > 8*size || len(field) > 4 && field[len(field)-1] == 0
		},
		parse: oneWord(func(dst, text []byte) ([]byte, error) {
			word, negated := strings.CutPrefix(string(text), "!")
			family, prefix, ok := strings.Cut(word, ":")
			p, err := netip.ParsePrefix(prefix)
			number := map[string]byte{"1": 1, "2": 2}[family]
			if !ok || err != nil || number == 0 || p.Addr().Is4() != (number == 1) || p.Addr().Is4In6() && number == 1 {
				return dst, ErrValue
			}
			bytes := strings.TrimRight(string(p.Addr().AsSlice()), "\x00")
			size := byte(len(bytes))
			if negated {
				size |= 0x80
			}
			return append(append(dst, 0, number, byte(p.Bits()), size), bytes...), nil
		}),
		means: func(field string) string {
			if field[3]&0x80 != 0 {
				return "all but this range"
			}
			return "this range"
		},
	}

	// ports is the bit map of a WKS record: a bit for each port from 0 on (RFC 1035 §3.4.2).
	ports = &kind{
		name: "ports",
		span: rest,
		text: func(dst []byte, field, _ string) []byte {
			for i, port := range portsOf(field) {
				if i > 0 {
					dst = append(dst, ' ')
				}
				dst = strconv.AppendInt(dst, int64(port), 10)
			}
			return dst
		},
		odd: func(field, _ string) bool { return field != "" && field[len(field)-1] == 0 || len(field) > 8192 },
		parse: func(dst []byte, words *Words) ([]byte, error) {
			start := len(dst)
			for words.left() > 0 {
				word, _ := words.take()
				port, ok := services[strings.ToLower(string(word.Text))]
				if !ok {
					v, err := strconv.ParseUint(string(word.Text), 10, 16)
					if err != nil {
						return dst[:start], ErrValue
					}
					port = int(v)
				}
				for len(dst)-start <= port/8 {
					dst = append(dst, 0)
				}
				dst[start+port/8] |= 0x80 >> (port % 8)
			}
			return dst, nil
		},
	}
)

// services are the names that old WKS records use for ports.
var services = map[string]int{"ftp-data": 20, "ftp": 21, "telnet": 23, "smtp": 25, "time": 37, "domain": 53, "tftp": 69, "finger": 79, "http": 80, "pop3": 110, "nntp": 119, "ntp": 123}

func portsOf(bits string) (ports []int) {
	for i := range 8 * len(bits) {
		if bits[i/8]&(0x80>>(i%8)) != 0 {
			ports = append(ports, i)
		}
	}
	return ports
}

func aplSize(family uint64) int { return map[uint64]int{1: 4, 2: 16}[family] }

// suffixBytes is how many bytes hold what a prefix of an A6 leaves of the address.
func suffixBytes(prefix byte) int { return (128 - int(prefix) + 7) / 8 }

// maskedFirst is the suffix's first byte without the bits of the prefix.
func maskedFirst(b, prefix byte) byte { return b & (0xff >> (prefix % 8)) }

// hyphenated is a hardware address of size bytes, in hex with hyphens (RFC 7043).
func hyphenated(name string, size int) *kind {
	return &kind{
		name: name,
		span: fixed(size),
		text: func(dst []byte, field, _ string) []byte {
			for i := range len(field) {
				if i > 0 {
					dst = append(dst, '-')
				}
				dst = appendHex(dst, field[i:i+1])
			}
			return dst
		},
		parse: oneWord(func(dst, text []byte) ([]byte, error) { return grouped(dst, text, '-', size, 1) }),
	}
}

// grouped reads count groups of hex, each of size bytes, with a separator between.
func grouped(dst, text []byte, separator byte, count, size int) ([]byte, error) {
	groups := strings.Split(string(text), string(separator))
	if len(groups) != count {
		return dst, ErrValue
	}
	start := len(dst)
	for _, group := range groups {
		out, err := hex.AppendDecode(dst, []byte(group))
		if err != nil || len(group) != 2*size {
			return dst[:start], ErrValue
		}
		dst = out
	}
	return dst, nil
}
