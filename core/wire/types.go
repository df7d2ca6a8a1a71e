package wire

import (
	"fmt"
	"slices"
)

// Type is a record type or question type (RFC 1035 §3.2.2 and §3.2.3).
type Type uint16

// The types that the program itself asks for or decides on. Every other one is
// known to the table alone.
const (
	A     Type = 1
	NS    Type = 2
	CNAME Type = 5
	SOA   Type = 6
	PTR   Type = 12
	MX    Type = 15
	TXT   Type = 16
	AAAA  Type = 28
	SRV   Type = 33
	OPT   Type = 41
	IXFR  Type = 251
	AXFR  Type = 252
	ANY   Type = 255
)

// row is one record type: its mnemonic, where it is specified, and its fields
// in wire order under the names that document gives them.
type row struct {
	mnemonic string
	source   string
	fields   []field
	rules    rule
}

// field is one field of an RDATA. A repeated field goes on to the end of the RDATA.
type field struct {
	name   string
	kind   *kind
	repeat repeat
}

// repeat says how often a field stands: once, or until the RDATA ends.
type repeat uint8

const (
	once repeat = iota
	atLeastOnce
	anyTimes
)

// rule is what sets a type apart from the rest.
type rule uint8

const (
	compressed   rule = 1 << iota // names in the RDATA may be compressed when written (RFC 3597 §4)
	internetOnly                  // the format holds for class IN alone
	questionOnly                  // a question type: no record has it
	pseudo                        // travels in messages, never in a zone
)

// rows is the table of record types.
var rows = map[Type]row{
	1:   {"A", "RFC 1035 §3.4.1", []field{{"ADDRESS", ipv4, once}}, internetOnly},
	2:   {"NS", "RFC 1035 §3.3.11", []field{{"NSDNAME", domain, once}}, compressed},
	5:   {"CNAME", "RFC 1035 §3.3.1", []field{{"CNAME", domain, once}}, compressed},
	6:   {"SOA", "RFC 1035 §3.3.13", []field{{"MNAME", domain, once}, {"RNAME", domain, once}, {"SERIAL", u32, once}, {"REFRESH", seconds, once}, {"RETRY", seconds, once}, {"EXPIRE", seconds, once}, {"MINIMUM", seconds, once}}, compressed},
	12:  {"PTR", "RFC 1035 §3.3.12", []field{{"PTRDNAME", domain, once}}, compressed},
	15:  {"MX", "RFC 1035 §3.3.9", []field{{"PREFERENCE", u16, once}, {"EXCHANGE", domain, once}}, compressed},
	16:  {"TXT", "RFC 1035 §3.3.14", []field{{"TXT-DATA", characters, atLeastOnce}}, 0},
	28:  {"AAAA", "RFC 3596 §2.2", []field{{"ADDRESS", ipv6, once}}, internetOnly},
	33:  {"SRV", "RFC 2782", []field{{"Priority", u16, once}, {"Weight", u16, once}, {"Port", u16, once}, {"Target", domain, once}}, 0},
	41:  {"OPT", "RFC 6891 §6.1.2", []field{{"OPTION", option, anyTimes}}, pseudo},
	251: {"IXFR", "RFC 1995", nil, questionOnly},
	252: {"AXFR", "RFC 5936", nil, questionOnly},
	255: {"ANY", "RFC 1035 §3.2.3", nil, questionOnly},
}

var typeNames = newRegistry("TYPE", func() map[uint16]string {
	names := make(map[uint16]string, len(rows))
	for number, row := range rows {
		names[uint16(number)] = row.mnemonic
	}
	return names
}())

// String returns the mnemonic, or TYPE123 for a type that is not in the table.
func (t Type) String() string { return typeNames.text(uint16(t)) }

// ParseType reads a mnemonic in any case, or TYPE123.
func ParseType(text string) (Type, error) {
	v, ok := typeNames.value(text)
	if !ok {
		return 0, fmt.Errorf("%q: %w", text, ErrUnknownType)
	}
	return Type(v), nil
}

// Types returns every type of the table that a zone may hold, by number.
func Types() []Type {
	var all []Type
	for t, row := range rows {
		if row.rules&(questionOnly|pseudo) == 0 {
			all = append(all, t)
		}
	}
	slices.Sort(all)
	return all
}

// Source returns the document that specifies the type, or "" for an unknown one.
func (t Type) Source() string { return rows[t].source }

// common holds the rows of the types below 64, where nearly all traffic is:
// an index is several times faster than the map.
var common = func() (table [64]*row) {
	for t, r := range rows {
		if int(t) < len(table) {
			table[t] = &r
		}
	}
	return table
}()

// rowOf returns the row that says how an RDATA is laid out, or nil when it is opaque.
func rowOf(t Type, c Class) *row {
	var r *row
	if int(t) < len(common) {
		r = common[t]
	} else if found, ok := rows[t]; ok {
		r = &found
	}
	if r == nil || r.rules&questionOnly != 0 || r.rules&internetOnly != 0 && c != IN {
		return nil
	}
	return r
}
