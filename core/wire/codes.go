package wire

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// registry is one IANA list of numbers and their mnemonics. An unknown number
// is written as prefix and number, and read back the same way (RFC 3597 §5).
type registry struct {
	prefix string
	names  map[uint16]string
	fill   func() map[uint16]string // makes the names, where they are not there from the beginning; nil otherwise
	once   sync.Once
	values map[string]uint16 // by name in upper case, made when it is asked for first
}

func newRegistry(prefix string, names map[uint16]string) *registry {
	return &registry{prefix: prefix, names: names}
}

// byName are the values by name in upper case.
func (r *registry) byName() map[string]uint16 {
	r.once.Do(func() {
		if r.fill != nil {
			r.names = r.fill()
		}
		r.values = make(map[string]uint16, len(r.names))
		for value, name := range r.names {
			r.values[strings.ToUpper(name)] = value
		}
	})
	return r.values
}

// name is the name of a value; ok is false where it has none.
func (r *registry) name(v uint16) (name string, ok bool) {
	if r.fill != nil {
		r.byName()
	}
	name, ok = r.names[v]
	return name, ok
}

func (r *registry) text(v uint16) string {
	if name, ok := r.name(v); ok {
		return name
	}
	return r.prefix + strconv.Itoa(int(v))
}

// value reads a mnemonic in any case, or the prefix and a number.
func (r *registry) value(text string) (uint16, bool) {
	var buf [32]byte
	if len(text) > len(buf) {
		return 0, false
	}
	upper := buf[:len(text)]
	for i := range len(text) {
		c := text[i]
		if c-'a' < 26 {
			c -= 'a' - 'A'
		}
		upper[i] = c
	}
	if v, ok := r.byName()[string(upper)]; ok {
		return v, true
	}
	if r.prefix == "" || len(upper) <= len(r.prefix) || !strings.EqualFold(text[:len(r.prefix)], r.prefix) {
		return 0, false
	}
	v, err := strconv.ParseUint(text[len(r.prefix):], 10, 16)
	return uint16(v), err == nil
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

func (c Class) String() string {
	if c == IN { // as of nearly all
		return "IN"
	}
	return classes.text(uint16(c))
}

// ParseClass reads a class mnemonic or CLASS123. The error wraps ErrValue.
func ParseClass(text string) (Class, error) {
	v, ok := classes.value(text)
	if !ok {
		return 0, fmt.Errorf("class %q: %w", text, ErrValue)
	}
	return Class(v), nil
}

// ClassOf is [ParseClass] on bytes; ok is false for a word that is no class.
func ClassOf(text []byte) (c Class, ok bool) {
	v, ok := classes.value(borrow(text))
	return Class(v), ok
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
	YXDomain RCode = 6
	NotAuth  RCode = 9
	BadVers  RCode = 16
)

var rcodes = newRegistry("RCODE", map[uint16]string{
	0: "NOERROR", 1: "FORMERR", 2: "SERVFAIL", 3: "NXDOMAIN", 4: "NOTIMP", 5: "REFUSED",
	6: "YXDOMAIN", 7: "YXRRSET", 8: "NXRRSET", 9: "NOTAUTH", 10: "NOTZONE", 11: "DSOTYPENI",
	16: "BADVERS", 17: "BADKEY", 18: "BADTIME", 19: "BADMODE", 20: "BADNAME", 21: "BADALG",
	22: "BADTRUNC", 23: "BADCOOKIE",
})

// tsigErrors is rcodes as TSIG and TKEY use them: there 16 is BADSIG (RFC 8945 §3).
var tsigErrors = newRegistry("RCODE", func() map[uint16]string {
	names := maps.Clone(rcodes.names)
	names[16] = "BADSIG"
	return names
}())

func (r RCode) String() string { return rcodes.text(uint16(r)) }

// ParseRCode reads a mnemonic or RCODE123. The error wraps ErrValue.
func ParseRCode(text string) (RCode, error) {
	v, ok := rcodes.value(text)
	if !ok {
		return 0, fmt.Errorf("response code %q: %w", text, ErrValue)
	}
	return RCode(v), nil
}

// RCodes are the mnemonics of all response codes, in the order of their numbers.
func RCodes() (all []string) {
	for _, v := range slices.Sorted(maps.Keys(rcodes.names)) {
		all = append(all, rcodes.names[v])
	}
	return all
}

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

// ParseOpcode reads an opcode mnemonic or OPCODE3. The error wraps ErrValue.
func ParseOpcode(text string) (Opcode, error) {
	v, ok := opcodes.value(text)
	if !ok || v > 15 {
		return 0, fmt.Errorf("opcode %q: %w", text, ErrValue)
	}
	return Opcode(v), nil
}

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

// flagRows are the single bits in header order: mnemonic, name, and what a set bit says.
var flagRows = []struct {
	Bit                     Flags
	Mnemonic, Name, Meaning string
}{
	{QR, "QR", "", "this is a reply"},
	{AA, "AA", "authoritative", "the zone's own word (authoritative)"},
	{TC, "TC", "truncated", "cut to fit (truncated)"},
	{RD, "RD", "recursion desired", "recursion desired"},
	{RA, "RA", "recursion available", "recursion available"},
	{Z, "Z", "reserved bit set", "reserved bit set"},
	{AD, "AD", "authentic data", "the resolver checked the signatures (authentic data)"},
	{CD, "CD", "checking disabled", "checking disabled"},
}

// Words returns what each set flag says, in header order.
func (f Flags) Words() (words []string) {
	for _, row := range flagRows {
		if f.Has(row.Bit) {
			words = append(words, row.Meaning)
		}
	}
	return words
}

// Names returns the names of the set flags, in header order. That it is a reply has none.
func (f Flags) Names() (names []string) {
	for _, row := range flagRows {
		if f.Has(row.Bit) && row.Name != "" {
			names = append(names, row.Name)
		}
	}
	return names
}

// algorithms are the DNSSEC algorithm numbers.
var algorithms = newRegistry("ALGORITHM", map[uint16]string{
	0: "DELETE", 1: "RSAMD5", 2: "DH", 3: "DSA", 5: "RSASHA1", 6: "DSA-NSEC3-SHA1", 7: "RSASHA1-NSEC3-SHA1",
	8: "RSASHA256", 10: "RSASHA512", 12: "ECC-GOST", 13: "ECDSAP256SHA256", 14: "ECDSAP384SHA384", 15: "ED25519",
	16: "ED448", 17: "SM2SM3", 23: "ECC-GOST12", 252: "INDIRECT", 253: "PRIVATEDNS", 254: "PRIVATEOID",
})

// digestTypes are the hashes that a DS record may use.
var digestTypes = newRegistry("DIGEST", map[uint16]string{
	1: "SHA-1", 2: "SHA-256", 3: "GOST R 34.11-94", 4: "SHA-384", 5: "GOST R 34.11-2012", 6: "SM3",
})

// certTypes are the certificate types of RFC 4398 §2.1.
var certTypes = newRegistry("CERT", map[uint16]string{
	1: "PKIX", 2: "SPKI", 3: "PGP", 4: "IPKIX", 5: "ISPKI", 6: "IPGP", 7: "ACPKIX", 8: "IACPKIX", 253: "URI", 254: "OID",
})

// extendedErrors are the Extended DNS Error codes (RFC 8914 §5.2 and the registry).
var extendedErrors = newRegistry("EDE", map[uint16]string{
	0: "Other Error", 1: "Unsupported DNSKEY Algorithm", 2: "Unsupported DS Digest Type", 3: "Stale Answer",
	4: "Forged Answer", 5: "DNSSEC Indeterminate", 6: "DNSSEC Bogus", 7: "Signature Expired",
	8: "Signature Not Yet Valid", 9: "DNSKEY Missing", 10: "RRSIGs Missing", 11: "No Zone Key Bit Set",
	12: "NSEC Missing", 13: "Cached Error", 14: "Not Ready", 15: "Blocked", 16: "Censored", 17: "Filtered",
	18: "Prohibited", 19: "Stale NXDOMAIN Answer", 20: "Not Authoritative", 21: "Not Supported",
	22: "No Reachable Authority", 23: "Network Error", 24: "Invalid Data", 25: "Signature Expired before Valid",
	26: "Too Early", 27: "Unsupported NSEC3 Iterations Value", 28: "Unable to conform to policy", 29: "Synthesized",
	30: "Invalid Query Type",
})
