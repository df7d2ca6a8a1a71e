package wire

import (
	"encoding/base64"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// ErrParamOrder says that SvcParams are not in ascending order of their keys,
// or that a key stands twice (RFC 9460 §2.2).
var ErrParamOrder = errors.New("keys are not in ascending order, each once")

// Why SvcParams do not fit each other.
var (
	ErrParamMandatory = errors.New("mandatory names itself or a key that is not there")
	ErrParamDefault   = errors.New("no-default-alpn without alpn")
)

// svcKey is one row of the registry of service parameter keys. text and parse
// may be nil, for a key that has no value of its own form.
type svcKey struct {
	name    string
	meaning string
	valid   func(value string) bool
	text    func(dst []byte, value string) []byte // what follows "=" in quotes or not; nil: the key stands alone
	parse   func(dst []byte, text []byte) ([]byte, error)
}

// svcKeys is the registry of RFC 9460 §14.3, with RFC 9461, RFC 9540 and their like.
var svcKeys = map[uint16]svcKey{
	0: {"mandatory", "keys that have to be understood, or the record is left aside", ascendingKeys, textKeys, parseKeys},
	1: {"alpn", "the protocols spoken there", validALPN, textALPN, parseALPN},
	2: {"no-default-alpn", "only the protocols of alpn are spoken", empty, nil, nil},
	3: {"port", "the port to connect to", exactly(2), func(dst []byte, v string) []byte { return strconv.AppendUint(dst, unsigned(v), 10) },
		func(dst, text []byte) ([]byte, error) { return u16.parse(dst, &Words{List: []Word{{Text: text}}}) }},
	4: {"ipv4hint", "addresses to try before asking for them", listOf(4), textHints(4), parseHints(ipv4)},
	5: {"ech", "how to encrypt the first TLS message", nonEmpty, func(dst []byte, v string) []byte { return appendBase64(dst, v) },
		func(dst, text []byte) ([]byte, error) { return base64.StdEncoding.AppendDecode(dst, text) }},
	6: {"ipv6hint", "addresses to try before asking for them", listOf(16), textHints(16), parseHints(ipv6)},
	7: {"dohpath", "the path for DNS over HTTPS", nonEmpty, textString, appendUnescaped},
	8: {"ohttp", "oblivious HTTP is spoken", empty, nil, nil},
	9: {"tls-supported-groups", "the key exchanges that TLS takes there", listOf(2), textNumbers, parseNumbers},
}

func empty(v string) bool    { return v == "" }
func nonEmpty(v string) bool { return v != "" }

func exactly(n int) func(string) bool { return func(v string) bool { return len(v) == n } }

func listOf(size int) func(string) bool {
	return func(v string) bool { return v != "" && len(v)%size == 0 }
}

// ascendingKeys reports whether v is key numbers, each larger than the one before.
func ascendingKeys(v string) bool {
	for i := 2; i+1 < len(v); i += 2 {
		if v[i:i+2] <= v[i-2:i] {
			return false
		}
	}
	return v != "" && len(v)%2 == 0
}

// svcParam is one parameter: its key and the bytes of its value.
type svcParam struct {
	key   uint16
	value string
}

// svcKeyNames are the keys' names, taken from their table when they are asked for first.
var svcKeyNames = &registry{prefix: "key"}

func init() {
	svcKeyNames.fill = func() map[uint16]string {
		names := make(map[uint16]string, len(svcKeys))
		for key, row := range svcKeys {
			names[key] = row.name
		}
		return names
	}
}

// svcParams is all parameters of a service binding, to the end of the RDATA.
var svcParams = &kind{
	name: "service parameters",
	span: func(rdata string, at int) (int, error) {
		previous := -1
		for i := at; i < len(rdata); {
			if len(rdata)-i < 4 || len(rdata)-i-4 < int(unsigned(rdata[i+2:i+4])) {
				return 0, ErrRDataShort
			}
			if key := int(unsigned(rdata[i : i+2])); key <= previous {
				return 0, ErrParamOrder
			} else {
				previous = key
			}
			i += 4 + int(unsigned(rdata[i+2:i+4]))
		}
		return len(rdata) - at, nil
	},
	text: func(dst []byte, field, _ string) []byte {
		for i, p := range paramsOf(field) {
			if i > 0 {
				dst = append(dst, ' ')
			}
			dst = p.append(dst)
		}
		return dst
	},
	parse: func(dst []byte, words *Words) ([]byte, error) {
		var params []svcParam
		for words.left() > 0 {
			word, _ := words.take()
			p, err := parseParam(word.Text)
			if err != nil {
				return dst, err
			}
			params = append(params, p)
		}
		slices.SortFunc(params, func(a, b svcParam) int { return int(a.key) - int(b.key) })
		for i, p := range params {
			if i > 0 && p.key == params[i-1].key {
				return dst, ErrParamOrder
			}
			dst = appendUnsigned(appendUnsigned(dst, uint64(p.key), 2), uint64(len(p.value)), 2)
			dst = append(dst, p.value...)
		}
		return dst, consistent(params)
	},
	odd: func(field, _ string) bool { return consistent(paramsOf(field)) != nil },
	parts: func(field string) (all []part) {
		for _, p := range paramsOf(field) {
			row := svcKeys[p.key]
			all = append(all,
				part{2, "SvcParamKey", fmt.Sprintf("%d (%s)", p.key, svcKeyNames.text(p.key)), row.meaning},
				part{2, "SvcParamValue length", strconv.Itoa(len(p.value)), "bytes that follow"})
			if p.value != "" {
				all = append(all, part{len(p.value), "SvcParamValue", string(p.AppendValue(nil)), ""})
			}
		}
		return all
	},
}

// consistent says what is wrong between parameters: mandatory keys that are not there or are
// mandatory by themselves (RFC 9460 §8), and no default where nothing else is offered (§7.1.2).
func consistent(params []svcParam) error {
	has := func(key uint16) bool {
		return slices.ContainsFunc(params, func(p svcParam) bool { return p.key == key })
	}
	for _, p := range params {
		switch {
		case !p.own():
		case p.key == 0:
			for i := 0; i+1 < len(p.value); i += 2 {
				if key := uint16(unsigned(p.value[i : i+2])); key == 0 || !has(key) {
					return ErrParamMandatory
				}
			}
		case p.key == 2:
			if !has(1) {
				return ErrParamDefault
			}
		}
	}
	return nil
}

func paramsOf(field string) (params []svcParam) {
	for i := 0; i < len(field); {
		size := int(unsigned(field[i+2 : i+4]))
		params = append(params, svcParam{uint16(unsigned(field[i : i+2])), field[i+4 : i+4+size]})
		i += 4 + size
	}
	return params
}

// own reports whether the value is of the form that the key's row gives.
func (p svcParam) own() bool {
	row, known := svcKeys[p.key]
	return known && row.valid(p.value)
}

func (p svcParam) append(dst []byte) []byte {
	if !p.own() {
		// A value of the wrong form is written as an unknown key's is.
		dst = strconv.AppendUint(append(dst, "key"...), uint64(p.key), 10)
		if p.value == "" {
			return dst
		}
		return textString(append(dst, '='), p.value)
	}
	dst = append(dst, svcKeys[p.key].name...)
	if svcKeys[p.key].text == nil {
		return dst
	}
	return p.AppendValue(append(dst, '='))
}

func (p svcParam) AppendValue(dst []byte) []byte {
	if row := svcKeys[p.key]; p.own() && row.text != nil {
		return row.text(dst, p.value)
	}
	return textString(dst, p.value)
}

// parseParam reads key, key=value or key="value".
func parseParam(text []byte) (svcParam, error) {
	name, value, given := strings.Cut(string(text), "=")
	if v, ok := strings.CutPrefix(value, `"`); ok {
		value = strings.TrimSuffix(v, `"`)
	}
	key, known := svcKeyNames.value(name)
	if !known || name != strings.ToLower(name) { // RFC 9460 §2.1
		return svcParam{}, ErrValue
	}
	if row, ok := svcKeys[key]; ok && row.name == strings.ToLower(name) {
		if row.parse == nil {
			if given {
				return svcParam{}, ErrValue
			}
			return svcParam{key: key}, nil
		}
		out, err := row.parse(nil, []byte(value))
		if err == nil && !row.valid(string(out)) || len(out) > 65535 {
			err = ErrValue
		}
		return svcParam{key, string(out)}, err
	}
	out, err := appendUnescaped(nil, []byte(value))
	if len(out) > 65535 {
		err = ErrValue
	}
	return svcParam{key, string(out)}, err
}

// textString writes a value as one word: quoted, with what does not print escaped.
func textString(dst []byte, v string) []byte { return appendQuoted(dst, v) }

func textKeys(dst []byte, v string) []byte {
	for i := 0; i < len(v); i += 2 {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = append(dst, svcKeyNames.text(uint16(unsigned(v[i:i+2])))...)
	}
	return dst
}

func parseKeys(dst, text []byte) ([]byte, error) {
	var keys []uint16
	for word := range strings.SplitSeq(string(text), ",") {
		key, ok := svcKeyNames.value(word)
		if !ok {
			return dst, ErrValue
		}
		keys = append(keys, key)
	}
	slices.Sort(keys) // RFC 9460 §8
	for _, key := range keys {
		dst = appendUnsigned(dst, uint64(key), 2)
	}
	return dst, nil
}

// validALPN reports whether v is counted strings, none empty.
func validALPN(v string) bool {
	for i := 0; i < len(v); i += 1 + int(v[i]) {
		if n := int(v[i]); n == 0 || len(v)-i-1 < n {
			return false
		}
	}
	return v != ""
}

// textALPN writes protocol names with commas between. A comma or backslash
// within a name is escaped for the list, and that again for the string
// (RFC 9460 appendix A.1).
func textALPN(dst []byte, v string) []byte {
	var list []byte
	for i := 0; i < len(v); i += 1 + int(v[i]) {
		if i > 0 {
			list = append(list, ',')
		}
		for _, c := range []byte(v[i+1 : i+1+int(v[i])]) {
			if c == ',' || c == '\\' {
				list = append(list, '\\')
			}
			list = append(list, c)
		}
	}
	return appendQuoted(dst, string(list))
}

func parseALPN(dst, text []byte) ([]byte, error) {
	list, err := appendUnescaped(nil, text)
	if err != nil {
		return dst, err
	}
	name := []byte{0}
	for i := 0; i <= len(list); i++ {
		if i < len(list) && list[i] != ',' {
			if list[i] == '\\' && i+1 < len(list) {
				i++
			}
			name = append(name, list[i])
			continue
		}
		if len(name) == 1 || len(name) > 256 {
			return dst, ErrValue
		}
		name[0] = byte(len(name) - 1)
		dst, name = append(dst, name...), name[:1]
	}
	return dst, nil
}

func textHints(size int) func(dst []byte, v string) []byte {
	return func(dst []byte, v string) []byte {
		for i := 0; i < len(v); i += size {
			if i > 0 {
				dst = append(dst, ',')
			}
			dst = addressOf(v[i : i+size]).AppendTo(dst)
		}
		return dst
	}
}

func parseHints(k *kind) func(dst, text []byte) ([]byte, error) {
	return func(dst, text []byte) (_ []byte, err error) {
		for word := range strings.SplitSeq(string(text), ",") {
			if dst, err = k.parse(dst, &Words{List: []Word{{Text: []byte(word)}}}); err != nil {
				return dst, err
			}
		}
		return dst, nil
	}
}

func textNumbers(dst []byte, v string) []byte {
	for i := 0; i < len(v); i += 2 {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = strconv.AppendUint(dst, unsigned(v[i:i+2]), 10)
	}
	return dst
}

func parseNumbers(dst, text []byte) ([]byte, error) { return parseHints(u16)(dst, text) }

// Service is what an SVCB or HTTPS record says in ServiceMode (RFC 9460 §2.4.3).
type Service struct {
	Priority  uint16 // lower is tried first
	Target    Name
	Protocols []string     // alpn
	Port      uint16       // 0: the protocol's own
	Hints     []netip.Addr // addresses to try before asking for them
	Path      string       // dohpath, as sent
}

// Service reads an SVCB or HTTPS record; ok is false for other types, for an alias (priority 0) and for data that
// does not fit the type.
func (r Record) Service() (s Service, ok bool) {
	row := rowOf(r.Type, r.Class)
	if r.Type != SVCB && r.Type != HTTPS || row == nil || len(r.Data) < 3 {
		return s, false
	}
	if _, _, err := row.check(r.Data); err != nil {
		return s, false
	}
	if s.Priority = uint16(unsigned(r.Data[:2])); s.Priority == 0 {
		return s, false
	}
	end, _ := skipName(r.Data, 2) // which the check went past
	s.Target = Name{r.Data[2:end]}
	for params := r.Data[end:]; len(params) >= 4; {
		size := 4 + int(unsigned(params[2:4]))
		value := params[4:size]
		switch unsigned(params[:2]) {
		case 1:
			for list := value; list != ""; list = list[1+int(list[0]):] {
				s.Protocols = append(s.Protocols, list[1:1+int(list[0])])
			}
		case 3:
			s.Port = uint16(unsigned(value))
		case 4, 6:
			width := 4
			if unsigned(params[:2]) == 6 {
				width = 16
			}
			for at := 0; at+width <= len(value); at += width {
				s.Hints = append(s.Hints, addressOf(value[at:at+width]))
			}
		case 7:
			s.Path = value
		}
		params = params[size:]
	}
	return s, true
}
