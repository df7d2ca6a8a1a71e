package wire

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
)

// EDNS is what an OPT record says (RFC 6891 §6.1).
type EDNS struct {
	Size    uint16 // largest UDP message the sender takes, in bytes
	Version uint8
	DO      bool // DNSSEC records are wanted (RFC 3225)
	Options []Option
}

// Option is one EDNS option: its code, and its data as it stands.
type Option struct {
	Code uint16
	Data string
}

// The options that the program itself sends or decides on.
const (
	NSID         uint16 = 3
	ClientSubnet uint16 = 8
	Expire       uint16 = 9
	Cookie       uint16 = 10
	KeepAlive    uint16 = 11
	Padding      uint16 = 12
	EDE          uint16 = 15
)

// EDNS returns what the message's OPT record says; ok is false without one, or
// with options that cannot be told apart.
func (m *Message) EDNS() (e EDNS, ok bool) {
	r, found := m.OPT()
	if !found {
		return e, false
	}
	e = EDNS{Size: uint16(r.Class), Version: uint8(r.TTL >> 16), DO: r.TTL&0x8000 != 0}
	_, _, err := rowOf(OPT, IN).each(r.Data, func(_ *field, from, to int) {
		e.Options = append(e.Options, Option{uint16(unsigned(r.Data[from : from+2])), r.Data[from+4 : to]})
	})
	return e, err == nil
}

// EDNS reports whether the message has a well-formed OPT record, and whether that has DNSSEC records
// sent too (RFC 3225). ok is false for a damaged message.
func (v View) EDNS() (do, ok bool) {
	if v.Count(AdditionalSection) == 0 {
		return false, false
	}
	found := false
	c := v.Records()
	for c.Next() {
		if r := &c.Record; !found && r.Section == AdditionalSection && r.Type == OPT {
			found, do, ok = true, r.TTL&0x8000 != 0, wholeOptions(r.Data)
		}
	}
	return do && ok && c.Err == nil, ok && c.Err == nil
}

// wholeOptions reports whether options fill their RDATA (RFC 6891 §6.1.2).
func wholeOptions(data []byte) bool {
	for len(data) >= 4 {
		size := 4 + int(binary.BigEndian.Uint16(data[2:]))
		if size > len(data) {
			return false
		}
		data = data[size:]
	}
	return len(data) == 0
}

// Record returns the OPT record that says e, with the upper bits of an extended
// response code (0 in a query).
func (e EDNS) Record(code RCode) Record {
	r := Record{Name: Root, Type: OPT, Class: Class(e.Size), TTL: uint32(code>>4)<<24 | uint32(e.Version)<<16}
	if e.DO {
		r.TTL |= 0x8000
	}
	var data []byte
	for _, o := range e.Options {
		data = appendUnsigned(appendUnsigned(data, uint64(o.Code), 2), uint64(len(o.Data)), 2)
		data = append(data, o.Data...)
	}
	r.Data = string(data)
	return r
}

// Option returns the data of the first option with that code.
func (e EDNS) Option(code uint16) (data string, ok bool) {
	for _, o := range e.Options {
		if o.Code == code {
			return o.Data, true
		}
	}
	return "", false
}

// optionRow is one EDNS option: its registry name, its document, and its data
// in words; text returns false for data of another form.
type optionRow struct {
	name, source string
	text         func(data string) (string, bool)
}

// options is the registry of EDNS option codes.
var options = map[uint16]optionRow{
	1:  {"LLQ", "RFC 8764", nil},
	2:  {"Update Lease", "RFC 9664", nil},
	3:  {"NSID", "RFC 5001", textNSID},
	5:  {"DAU", "RFC 6975", textCodes(algorithms)},
	6:  {"DHU", "RFC 6975", textCodes(digestTypes)},
	7:  {"N3U", "RFC 6975", textCodes(newRegistry("", map[uint16]string{1: "SHA-1"}))},
	8:  {"ECS", "RFC 7871", textSubnet},
	9:  {"EXPIRE", "RFC 7314", textExpire},
	10: {"COOKIE", "RFC 7873", textCookie},
	11: {"TCP-KEEPALIVE", "RFC 7828", textKeepAlive},
	12: {"PADDING", "RFC 7830", func(data string) (string, bool) { return fmt.Sprintf("%d bytes", len(data)), true }},
	13: {"CHAIN", "RFC 7901", textChain},
	14: {"KEY-TAG", "RFC 8145", textKeyTags},
	15: {"EDE", "RFC 8914", textEDE},
	18: {"REPORT-CHANNEL", "RFC 9567", textReport},
	19: {"ZONEVERSION", "RFC 9660", textZoneVersion},
}

// Name is the option's registry name, or OPTION123 for an unknown one.
func (o Option) Name() string {
	if row, ok := options[o.Code]; ok {
		return row.name
	}
	return "OPTION" + strconv.Itoa(int(o.Code))
}

// Text is the option's data in words; in hex for an unknown option, or for data
// that does not have the option's form. It is safe to print.
func (o Option) Text() string {
	if row := options[o.Code]; row.text != nil {
		if text, ok := row.text(o.Data); ok {
			return text
		}
	}
	return hexText(o.Data)
}

// printable is s in quotes, with what does not print escaped.
func printable(s string) string { return string(appendQuoted(nil, s)) }

func textNSID(data string) (string, bool) {
	if data == "" {
		return "asked for", true
	}
	for i := range len(data) {
		if data[i] < ' ' || data[i] >= 0x7f {
			return hexText(data), true
		}
	}
	return printable(data), true
}

func textCodes(names *registry) func(string) (string, bool) {
	return func(data string) (string, bool) {
		var words []string
		for i := range len(data) {
			words = append(words, names.text(uint16(data[i])))
		}
		return strings.Join(words, " "), true
	}
}

// Subnet reads a client subnet option (RFC 7871 §6): the network, and for how
// much of it the answer holds.
func (o Option) Subnet() (network netip.Prefix, scope int, ok bool) {
	d := o.Data
	if len(d) < 4 {
		return network, 0, false
	}
	size := aplSize(unsigned(d[:2]))
	if size == 0 || len(d)-4 > size || int(d[2]) > 8*size || int(d[3]) > 8*size {
		return network, 0, false
	}
	a := addressOf((d[4:] + strings.Repeat("\x00", 16))[:size])
	return netip.PrefixFrom(a, int(d[2])), int(d[3]), true
}

// NewSubnet returns the option that asks for the answer a client in network would get.
func NewSubnet(network netip.Prefix) Option {
	network = network.Masked()
	family := uint64(1)
	if network.Addr().Is6() {
		family = 2
	}
	data := append(appendUnsigned(nil, family, 2), byte(network.Bits()), 0)
	return Option{ClientSubnet, string(append(data, network.Addr().AsSlice()[:(network.Bits()+7)/8]...))}
}

func textSubnet(data string) (string, bool) {
	network, scope, ok := Option{ClientSubnet, data}.Subnet()
	if !ok {
		return "", false
	}
	return fmt.Sprintf("for clients in %s; the answer holds for /%d", network, scope), true
}

// Expire returns the seconds that an EXPIRE option holds (RFC 7314); ok is false
// when the reply has none.
func (e EDNS) Expire() (seconds uint32, ok bool) {
	data, ok := e.Option(Expire)
	if !ok || len(data) != 4 {
		return 0, false
	}
	return uint32(unsigned(data)), true
}

func textExpire(data string) (string, bool) {
	switch len(data) {
	case 0:
		return "asked for", true
	case 4:
		v := uint32(unsigned(data))
		return fmt.Sprintf("the zone expires in %s (%d)", Period(v), v), true
	}
	return "", false
}

func textCookie(data string) (string, bool) {
	switch n := len(data); {
	case n == 8:
		return "client " + hexText(data), true
	case n >= 16 && n <= 40:
		return "client " + hexText(data[:8]) + ", server " + hexText(data[8:]), true
	}
	return "", false
}

func textKeepAlive(data string) (string, bool) {
	switch len(data) {
	case 0:
		return "asked for", true
	case 2:
		return fmt.Sprintf("the connection is kept for %.1f s", float64(unsigned(data))/10), true
	}
	return "", false
}

func textName(data string) (string, bool) {
	end, err := skipName(data, 0)
	if err != nil || end != len(data) {
		return "", false
	}
	return Name{data}.String(), true
}

func textChain(data string) (string, bool) {
	name, ok := textName(data)
	return "trusted from " + name + " down", ok
}

func textReport(data string) (string, bool) {
	name, ok := textName(data)
	return "errors are reported under " + name, ok
}

func textKeyTags(data string) (string, bool) {
	if len(data)%2 != 0 {
		return "", false
	}
	return "trusts keys " + strings.ReplaceAll(string(textNumbers(nil, data)), ",", " "), true
}

// ExtendedError reads an Extended DNS Error (RFC 8914 §2): its code, the code's
// registry name, and the extra text as sent.
func (o Option) ExtendedError() (code uint16, name, extra string, ok bool) {
	if o.Code != EDE || len(o.Data) < 2 {
		return 0, "", "", false
	}
	code = uint16(unsigned(o.Data[:2]))
	return code, extendedErrors.names[code], o.Data[2:], true
}

func textEDE(data string) (string, bool) {
	code, name, extra, ok := Option{EDE, data}.ExtendedError()
	if !ok {
		return "", false
	}
	text := fmt.Sprintf("%d", code)
	if name != "" {
		text += " (" + name + ")"
	}
	if extra != "" {
		text += " " + printable(extra)
	}
	return text, true
}

func textZoneVersion(data string) (string, bool) {
	switch {
	case data == "":
		return "asked for", true
	case len(data) == 6 && data[1] == 0:
		return fmt.Sprintf("SOA serial %d of the zone with %d labels", unsigned(data[2:]), data[0]), true
	case len(data) >= 2:
		return fmt.Sprintf("version of type %d, %s, of the zone with %d labels", data[1], hexText(data[2:]), data[0]), true
	}
	return "", false
}

// option is one EDNS option within an OPT record: code, length, data.
var option = &kind{
	name: "option",
	span: func(rdata string, at int) (int, error) {
		if err := enough(rdata, at, 4); err != nil {
			return 0, err
		}
		n := 4 + int(unsigned(rdata[at+2:at+4]))
		return n, enough(rdata, at, n)
	},
	// An OPT record has no master-file form (RFC 6891 §6.1.1).
	text:  func(dst []byte, _, _ string) []byte { return dst },
	odd:   func(string, string) bool { return true },
	parse: func(dst []byte, _ *Words) ([]byte, error) { return dst, ErrValue },
	parts: func(field string) []part {
		o := Option{uint16(unsigned(field[:2])), field[4:]}
		all := []part{{2, "OPTION-CODE", fmt.Sprintf("%d (%s)", o.Code, o.Name()), options[o.Code].source}, {2, "OPTION-LENGTH", strconv.Itoa(len(o.Data)), "bytes that follow"}}
		if _, name, extra, ok := o.ExtendedError(); ok {
			all = append(all, part{2, "INFO-CODE", strconv.Itoa(int(unsigned(o.Data[:2]))), name})
			if extra != "" {
				all = append(all, part{len(extra), "EXTRA-TEXT", printable(extra), "the sender's own words"})
			}
			return all
		}
		if o.Data != "" {
			all = append(all, part{len(o.Data), "OPTION-DATA", o.Text(), ""})
		}
		return all
	},
}
