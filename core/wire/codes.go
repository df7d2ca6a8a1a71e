package wire

import (
	"fmt"
	"strconv"
	"strings"
)

// registry is one IANA list of numbers and their mnemonics. An unknown number
// is written as prefix and number, and read back the same way (RFC 3597 §5).
type registry struct {
	prefix string
	names  map[uint16]string
	values map[string]uint16
}

func newRegistry(prefix string, names map[uint16]string) registry {
	values := make(map[string]uint16, len(names))
	for value, name := range names {
		values[name] = value
	}
	return registry{prefix, names, values}
}

func (r registry) text(v uint16) string {
	if name, ok := r.names[v]; ok {
		return name
	}
	return r.prefix + strconv.Itoa(int(v))
}

func (r registry) value(text string) (uint16, bool) {
	upper := strings.ToUpper(text)
	if v, ok := r.values[upper]; ok {
		return v, true
	}
	if digits, ok := strings.CutPrefix(upper, r.prefix); ok && digits != "" {
		v, err := strconv.ParseUint(digits, 10, 16)
		return uint16(v), err == nil
	}
	return 0, false
}

// Class is a CLASS (RFC 1035 §3.2.4).
type Class uint16

// The classes that the program itself asks for.
const (
	IN   Class = 1
	CH   Class = 3
	NONE Class = 254
	ANYC Class = 255
)

var classes = newRegistry("CLASS", map[uint16]string{1: "IN", 3: "CH", 4: "HS", 254: "NONE", 255: "ANY"})

func (c Class) String() string { return classes.text(uint16(c)) }

// ParseClass reads a class mnemonic or CLASS123.
func ParseClass(text string) (Class, error) {
	v, ok := classes.value(text)
	if !ok {
		return 0, fmt.Errorf("class %q: %w", text, ErrValue)
	}
	return Class(v), nil
}

// RCode is a response code, the extended ones included (RFC 1035 §4.1.1, RFC 6891 §6.1.3).
type RCode uint16

// The response codes that decide something.
const (
	NoError  RCode = 0
	FormErr  RCode = 1
	ServFail RCode = 2
	NXDomain RCode = 3
	NotImp   RCode = 4
	Refused  RCode = 5
	NotAuth  RCode = 9
	BadVers  RCode = 16
)

var rcodes = newRegistry("RCODE", map[uint16]string{
	0: "NOERROR", 1: "FORMERR", 2: "SERVFAIL", 3: "NXDOMAIN", 4: "NOTIMP", 5: "REFUSED",
	6: "YXDOMAIN", 7: "YXRRSET", 8: "NXRRSET", 9: "NOTAUTH", 10: "NOTZONE", 11: "DSOTYPENI",
	16: "BADVERS", 17: "BADKEY", 18: "BADTIME", 19: "BADMODE", 20: "BADNAME", 21: "BADALG",
	22: "BADTRUNC", 23: "BADCOOKIE",
})

func (r RCode) String() string { return rcodes.text(uint16(r)) }

// Opcode is the kind of query (RFC 1035 §4.1.1).
type Opcode uint8

// The opcodes that the program itself sends.
const (
	OpQuery  Opcode = 0
	OpNotify Opcode = 4
)

var opcodes = newRegistry("OPCODE", map[uint16]string{
	0: "QUERY", 1: "IQUERY", 2: "STATUS", 4: "NOTIFY", 5: "UPDATE", 6: "DSO",
})

func (o Opcode) String() string { return opcodes.text(uint16(o)) }

// Flags is the second 16 bits of a message header (RFC 1035 §4.1.1, RFC 4035 §3.2).
type Flags uint16

// The single-bit flags.
const (
	QR Flags = 1 << 15 // this is a response
	AA Flags = 1 << 10 // authoritative answer
	TC Flags = 1 << 9  // truncated
	RD Flags = 1 << 8  // recursion desired
	RA Flags = 1 << 7  // recursion available
	Z  Flags = 1 << 6  // must be zero
	AD Flags = 1 << 5  // authentic data
	CD Flags = 1 << 4  // checking disabled
)

// Has reports whether all of want are set.
func (f Flags) Has(want Flags) bool { return f&want == want }

// Opcode returns the four opcode bits.
func (f Flags) Opcode() Opcode { return Opcode(f >> 11 & 15) }

// RCode returns the four bits in the header; [Message.RCode] adds the extended ones.
func (f Flags) RCode() RCode { return RCode(f & 15) }

// WithOpcode and WithRCode return f with those four bits replaced.
func (f Flags) WithOpcode(o Opcode) Flags { return f&^(15<<11) | Flags(o&15)<<11 }

// WithRCode returns f with the low four bits of r.
func (f Flags) WithRCode(r RCode) Flags { return f&^15 | Flags(r&15) }

// flagRows are the single bits in header order: mnemonic, and what a set bit says.
var flagRows = []struct {
	Bit      Flags
	Mnemonic string
	Meaning  string
}{
	{QR, "QR", "this is a reply"},
	{AA, "AA", "the zone's own word (authoritative)"},
	{TC, "TC", "cut to fit (truncated)"},
	{RD, "RD", "recursion desired"},
	{RA, "RA", "recursion available"},
	{Z, "Z", "reserved bit set"},
	{AD, "AD", "the resolver checked the signatures (authentic data)"},
	{CD, "CD", "checking disabled"},
}

// Words returns what each set flag says, in header order.
func (f Flags) Words() []string {
	var words []string
	for _, row := range flagRows {
		if f.Has(row.Bit) {
			words = append(words, row.Meaning)
		}
	}
	return words
}
