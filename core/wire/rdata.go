package wire

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"encoding/hex"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Word is one word of a record's text: its bytes with the escapes still in
// place, and whether it stood in quotes.
type Word struct {
	Text   []byte
	Quoted bool
}

// Words are the words of one RDATA in master-file form. Origin is what relative
// names hang from; the zero Name stands for the root.
type Words struct {
	List   []Word
	Origin Name
	next   int
	start  int // where the RDATA being parsed begins in what it is appended to
}

// Reset makes w ready to read the words of another record.
func (w *Words) Reset(list []Word, origin Name) { w.List, w.Origin, w.next = list, origin, 0 }

// peek returns the next word, of which there has to be one.
func (w *Words) peek() Word { return w.List[w.next] }

func (w *Words) take() (Word, error) {
	if w.next >= len(w.List) {
		return Word{}, ErrMissing
	}
	w.next++
	return w.List[w.next-1], nil
}

func (w *Words) left() int { return len(w.List) - w.next }

// fail names the word taken last as the one at fault, or the place where one is missing.
func (w *Words) fail(field string, err error) error {
	at := w.next - 1
	if err == ErrMissing || err == ErrSurplus {
		at = w.next
	}
	return &TextError{Field: field, Word: max(at, 0), Err: err}
}

// ParseRData reads the words of an RDATA of type t, in the type's own form or
// in the generic one (\# length hex, RFC 3597 §5), and appends the wire form to
// dst. The error is a *TextError.
func ParseRData(dst []byte, t Type, c Class, words *Words) ([]byte, error) {
	if words.Origin.IsZero() {
		words.Origin = Root
	}
	start := len(dst)
	words.start = start
	row := rowOf(t, c)
	if len(words.List) > 0 && !words.List[0].Quoted && string(words.List[0].Text) == `\#` {
		dst, err := parseGeneric(dst, words)
		if err == nil && row != nil {
			if field, _, bad := row.check(string(dst[start:])); bad != nil {
				err = words.fail(field, bad)
			}
		}
		return dst, err
	}
	if row == nil {
		return dst, words.fail("RDATA of "+t.String(), ErrUnknownType)
	}
	for _, f := range row.fields {
		for n := 0; ; n++ {
			if words.left() == 0 && !f.due(n) {
				break
			}
			var err error
			if dst, err = f.kind.parse(dst, words); err != nil {
				return dst[:start], words.fail(f.name, err)
			}
			if f.last() {
				break
			}
		}
	}
	if words.left() > 0 {
		return dst[:start], words.fail("RDATA of "+t.String(), ErrSurplus)
	}
	if len(dst)-start > 65535 {
		return dst[:start], words.fail("RDATA of "+t.String(), ErrRDataSize)
	}
	return dst, nil
}

// parseGeneric reads \# length hex... (RFC 3597 §5).
func parseGeneric(dst []byte, words *Words) ([]byte, error) {
	words.next = 1
	word, err := words.take()
	if err != nil {
		return dst, words.fail("RDATA length", err)
	}
	size, err := strconv.ParseUint(string(word.Text), 10, 16)
	if err != nil {
		return dst, words.fail("RDATA length", ErrValue)
	}
	start := len(dst)
	for words.left() > 0 {
		word, _ = words.take()
		if dst, err = hex.AppendDecode(dst, word.Text); err != nil {
			return dst[:start], words.fail("RDATA", ErrValue)
		}
	}
	if len(dst)-start != int(size) {
		return dst[:start], words.fail("RDATA length", ErrValue)
	}
	return dst, nil
}

// due reports whether the field has to stand once more after n times, even with
// nothing left; last, whether one is the most there can be.
func (f *field) due(n int) bool {
	return f.repeat == once || f.repeat == atLeastOnce && n == 0
}

func (f *field) last() bool { return f.repeat == once || f.repeat == atMostOnce }

// each calls visit for every field of an uncompressed RDATA, in order, with its
// first and last index. The error says what does not fit the row, at which
// index, and in which field; the fields before it were visited.
func (r *row) each(rdata string, visit func(f *field, from, to int)) (name string, at int, err error) {
	for i := range r.fields {
		f := &r.fields[i]
		for n := 0; ; n++ {
			if at == len(rdata) && !f.due(n) {
				break
			}
			size, err := f.kind.span(rdata, at)
			if err != nil {
				return f.name, at, err
			}
			visit(f, at, at+size)
			at += size
			if f.last() {
				break
			}
		}
	}
	if at != len(rdata) {
		return "RDATA of " + r.mnemonic, at, ErrRDataLong
	}
	return "", at, nil
}

func (r *row) check(rdata string) (name string, at int, err error) {
	return r.each(rdata, func(*field, int, int) {})
}

// Record is one resource record (RFC 1035 §4.1.3). Data is the RDATA in wire
// form with every name in it uncompressed, so two records are the same bytes
// exactly when they are ==.
type Record struct {
	Name  Name
	Type  Type
	Class Class
	TTL   uint32 // seconds
	Data  string
}

// Addresses are those of A and AAAA records.
func Addresses(records []Record) (all []netip.Addr) {
	for _, r := range records {
		if address, ok := r.Address(); ok {
			all = append(all, address)
		}
	}
	return all
}

// ParseRecordData returns the RDATA for one line of text in master-file form,
// names absolute. The error says which field is wrong and why.
func ParseRecordData(t Type, c Class, text string) (string, error) {
	list, err := splitWords(text)
	if err != nil {
		return "", &TextError{"RDATA of " + t.String(), len(list), err}
	}
	data, err := ParseRData(nil, t, c, &Words{List: list})
	return string(data), err
}

// splitWords cuts text at white space that is not in quotes.
func splitWords(text string) (list []Word, err error) {
	for {
		if text = strings.TrimLeft(text, " \t"); text == "" {
			return list, nil
		}
		inQuotes, end := false, 0
	word:
		for ; end < len(text); end++ {
			switch c := text[end]; {
			case c == '\\':
				end++
			case c == '"':
				inQuotes = !inQuotes
			case (c == ' ' || c == '\t') && !inQuotes:
				break word
			}
		}
		if inQuotes || end > len(text) {
			return list, ErrEscape
		}
		word := Word{Text: []byte(text[:end])}
		if text[0] == '"' {
			if end < 2 || text[end-1] != '"' {
				return list, ErrValue
			}
			word = Word{word.Text[1 : end-1], true}
		}
		list, text = append(list, word), text[end:]
	}
}

// Value returns the RDATA in master-file form; in the generic form (RFC 3597 §5)
// when the type is unknown or the data does not fit it. It is safe to print.
func (r Record) Value() string { return string(r.AppendValue(nil)) }

// AppendValue appends what [Record.Value] returns.
func (r Record) AppendValue(dst []byte) []byte {
	if address, ok := r.Address(); ok { // as of most
		return address.AppendTo(dst)
	}
	if row := rowOf(r.Type, r.Class); row != nil {
		start, odd := len(dst), false
		_, _, err := row.each(r.Data, func(f *field, from, to int) {
			if odd = odd || f.kind.odd != nil && f.kind.odd(r.Data[from:to], r.Data[:from]); odd {
				return
			}
			before := len(dst)
			if before > start {
				dst = append(dst, ' ')
			}
			with := len(dst)
			if dst = f.kind.text(dst, r.Data[from:to], r.Data[:from]); len(dst) == with {
				dst = dst[:before] // a field that is written as nothing
			}
		})
		if err == nil && !odd {
			return dst
		}
		dst = dst[:start]
	}
	dst = append(dst, `\# `...)
	dst = strconv.AppendInt(dst, int64(len(r.Data)), 10)
	if len(r.Data) > 0 {
		dst = hex.AppendEncode(append(dst, ' '), []byte(r.Data))
	}
	return dst
}

// String returns the record as one line of a master file.
func (r Record) String() string { return string(r.Append(nil)) }

// Append appends the record as one line of a master file, without a line end.
func (r Record) Append(dst []byte) []byte {
	dst = appendName(dst, r.Name.wire)
	dst = append(dst, ' ')
	dst = strconv.AppendUint(dst, uint64(r.TTL), 10)
	dst = append(append(append(dst, ' '), r.Class.String()...), ' ')
	dst = append(append(dst, r.Type.String()...), ' ')
	return r.AppendValue(dst)
}

// Escape makes any text safe to show: what does not print is written \DDD (RFC
// 1035 §5.1).
func Escape(s string) string {
	var dst []byte
	for i := range len(s) {
		dst = appendPrintable(dst, s[i])
	}
	return string(dst)
}

// Field is one field of a record for a reader: the name its document gives it,
// its value in master-file form, and in plain words what it means.
type Field struct{ Name, Value, Meaning string }

// meaningOf joins what the value comes to and what the field is for.
func meaningOf(f *field, value string) string {
	if f.kind.means == nil {
		return f.says
	}
	switch means := f.kind.means(value); {
	case means == "":
		return f.says
	case f.says == "":
		return means
	default:
		return means + ": " + f.says
	}
}

// Fields returns the record's fields in order; none for an unknown type or an
// RDATA that does not fit its type.
func (r Record) Fields() []Field {
	row := rowOf(r.Type, r.Class)
	if row == nil {
		return nil
	}
	var fields []Field
	if _, _, err := row.each(r.Data, func(f *field, from, to int) {
		v := r.Data[from:to]
		if f.kind.odd != nil && f.kind.odd(v, r.Data[:from]) {
			fields = append(fields, Field{f.name, hexText(v), f.says})
			return
		}
		fields = append(fields, Field{f.name, string(f.kind.text(nil, v, r.Data[:from])), meaningOf(f, v)})
	}); err != nil {
		return nil
	}
	return fields
}

// Target returns the first domain name in the RDATA: the host of an NS, MX or
// SRV, where a CNAME leads, the MNAME of an SOA. ok is false when there is none.
func (r Record) Target() (target Name, ok bool) {
	row := rowOf(r.Type, r.Class)
	if row == nil {
		return Name{}, false
	}
	row.each(r.Data, func(f *field, from, to int) {
		if !ok && f.kind.holds != nil && f.kind.holds(r.Data, from) {
			target, ok = Name{r.Data[from:to]}, true
		}
	})
	return target, ok
}

// Text returns the strings of a TXT record as one, the way programs read them
// (RFC 7208 §3.3); "" for other types. It is as sent: escape it before it is shown.
func (r Record) Text() string {
	if r.Type != TXT {
		return ""
	}
	var all strings.Builder
	for data := r.Data; data != "" && len(data) > int(data[0]); data = data[1+int(data[0]):] {
		all.WriteString(data[1 : 1+int(data[0])])
	}
	return all.String()
}

// Address returns the address of an A or AAAA record; ok is false for other types.
func (r Record) Address() (address netip.Addr, ok bool) {
	switch {
	case r.Class != IN:
	case r.Type == A && len(r.Data) == 4, r.Type == AAAA && len(r.Data) == 16:
		return addressOf(r.Data), true
	}
	return netip.Addr{}, false
}

// Folded returns the record with TTL zero and every name in lower case: records
// that mean the same fold to the same value (RFC 4343).
func (r Record) Folded() Record {
	r.TTL = 0
	return r.folded(rowOf(r.Type, r.Class))
}

// Canonical returns the record in the form that is signed (RFC 4034 §6.2,
// RFC 6840 §5.1): the owner in lower case, and the names in the RDATA of those
// types that are listed there.
func (r Record) Canonical() Record {
	row := rowOf(r.Type, r.Class)
	if row != nil && row.rules&canonical == 0 {
		row = nil
	}
	return r.folded(row)
}

// CompareCanonical orders records canonically (RFC 4034 §6.1 and §6.3): by
// owner, class and type, then by the RDATA's canonical bytes.
func CompareCanonical(a, b Record) int {
	return cmp.Or(a.Name.Compare(b.Name), cmp.Compare(a.Class, b.Class), cmp.Compare(a.Type, b.Type),
		strings.Compare(a.Canonical().Data, b.Canonical().Data))
}

// SortCanonical puts records in canonical order and drops those that stand twice.
func SortCanonical(records []Record) []Record {
	slices.SortStableFunc(records, CompareCanonical)
	return slices.CompactFunc(records, func(a, b Record) bool { return CompareCanonical(a, b) == 0 })
}

// folded returns the record with its owner in lower case, and the names in its
// RDATA too if row says where they are.
func (r Record) folded(row *row) Record {
	r.Name = r.Name.Fold()
	if row == nil {
		return r
	}
	var folded []byte
	row.each(r.Data, func(f *field, from, to int) {
		if f.kind.holds != nil && f.kind.holds(r.Data, from) {
			for i := from; i < to; i++ {
				if c := fold(r.Data[i]); c != r.Data[i] {
					if folded == nil {
						folded = []byte(r.Data)
					}
					folded[i] = c
				}
			}
		}
	})
	if folded != nil {
		r.Data = string(folded)
	}
	return r
}

// SignedLabels returns how many labels of its owner an RRSIG record signs: fewer
// than the owner has when a wildcard gave the records (RFC 4034 §3.1.3). For other
// types it is that of the owner.
func (r Record) SignedLabels() int {
	if r.Type != RRSIG || len(r.Data) < 4 {
		return r.Name.Labels()
	}
	return int(r.Data[3])
}

// SignatureEnds is when an RRSIG record runs out (RFC 4034 §3.1.5); ok is false for other types. The time is read as
// the nearest one to now that has these 32 bits.
func (r Record) SignatureEnds(now time.Time) (at time.Time, ok bool) {
	if r.Type != RRSIG || len(r.Data) < 12 {
		return at, false
	}
	seconds, around := uint32(unsigned(r.Data[8:12])), now.Unix()
	return time.Unix(around+int64(int32(seconds-uint32(around))), 0).UTC(), true
}

// NewerSerial reports whether a is a later version of a zone than b (RFC 1982 §3.2).
func NewerSerial(a, b uint32) bool { return a != b && int32(a-b) > 0 }

// SOAData is the content of an SOA record (RFC 1035 §3.3.13); periods in seconds.
type SOAData struct {
	MName, RName                            Name
	Serial, Refresh, Retry, Expire, Minimum uint32
}

// Authority returns what an SOA record says; ok is false for other types.
func (r Record) Authority() (soa SOAData, ok bool) {
	if r.Type != SOA {
		return soa, false
	}
	row := rowOf(SOA, r.Class)
	if _, _, err := row.check(r.Data); err != nil {
		return soa, false
	}
	mname, _ := skipName(r.Data, 0)
	rname, _ := skipName(r.Data, mname)
	soa.MName, soa.RName = Name{r.Data[:mname]}, Name{r.Data[mname:rname]}
	for i, v := range []*uint32{&soa.Serial, &soa.Refresh, &soa.Retry, &soa.Expire, &soa.Minimum} {
		*v = uint32(unsigned(r.Data[rname+4*i : rname+4*i+4]))
	}
	return soa, true
}

// Data returns the RDATA of an SOA record.
func (soa SOAData) Data() string {
	var b bytes.Buffer
	b.WriteString(soa.MName.wire + soa.RName.wire)
	for _, v := range []uint32{soa.Serial, soa.Refresh, soa.Retry, soa.Expire, soa.Minimum} {
		b.Write(binary.BigEndian.AppendUint32(nil, v))
	}
	return b.String()
}
