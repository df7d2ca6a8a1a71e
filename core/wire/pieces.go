package wire

import (
	"fmt"
	"strconv"
	"strings"
)

// Piece is a run of bytes of a message that has one name.
type Piece struct {
	Offset, Length int
	Part           string // "header", "question 1", "answer 2", … "beyond the message"
	Field          string // as the RFC names it
	Value          string // safe to print
	Meaning        string // in plain words; empty when the value says it all
}

// Pieces names every byte of msg in order: the pieces cover it without a gap or
// an overlap. Where the message breaks, the rest is one last piece, and the
// error, a *ParseError, says what is broken.
func Pieces(msg []byte) ([]Piece, error) {
	p := piecer{decoder: decoder{msg: borrow(msg)}, part: "header"}
	err := p.message()
	if rest := len(msg) - p.done; rest > 0 {
		if err != nil {
			p.add("unread", p.done, len(msg), err.Error(), "")
		} else {
			p.part = "beyond the message"
			p.add("trailing bytes", p.done, len(msg), "the counts promise nothing here", "")
		}
	}
	return p.pieces, err
}

// piecer walks a message like a decoder and notes each field; done is how far
// the noted pieces reach.
type piecer struct {
	decoder
	part   string
	pieces []Piece
	done   int
	flags  uint32
}

func (p *piecer) add(field string, from, to int, value, meaning string) {
	if to > from {
		p.pieces = append(p.pieces, Piece{Offset: from, Length: to - from, Part: p.part, Field: field, Value: value, Meaning: meaning})
	}
	p.done = to
}

// number notes an integer field of two or four bytes.
func (p *piecer) number(field string, size int, say func(v uint32) (value, meaning string)) uint32 {
	at := p.off
	var v uint32
	if size == 2 {
		v = uint32(p.u16(field))
	} else {
		v = p.u32(field)
	}
	if p.err == nil {
		value, meaning := say(v)
		p.add(field, at, p.off, value, meaning)
	}
	return v
}

func (p *piecer) message() error {
	p.number("ID", 2, func(v uint32) (string, string) { return fmt.Sprintf("%d (0x%04x)", v, v), "" })
	p.flags = p.number("flags", 2, func(v uint32) (string, string) { return fmt.Sprintf("0x%04x", v), Flags(v).meaning() })
	var counts [4]int
	for i, field := range []string{"QDCOUNT", "ANCOUNT", "NSCOUNT", "ARCOUNT"} {
		counts[i] = int(p.number(field, 2, func(v uint32) (string, string) {
			return decimal(v), fmt.Sprintf("entries in the %v section", Section(i))
		}))
	}
	for i, n := range counts {
		for k := 0; k < n && p.err == nil; k++ {
			p.part = fmt.Sprintf("%v %d", Section(i), k+1)
			if Section(i) == QuestionSection {
				p.nameField("QNAME", len(p.msg))
				p.number("QTYPE", 2, sayType)
				p.number("QCLASS", 2, sayClass)
			} else {
				p.recordPieces()
			}
		}
	}
	return p.err
}

// meaning says all that the flags word holds.
func (f Flags) meaning() string {
	words := f.Words()
	if !f.Has(QR) {
		words = append([]string{"this is a question"}, words...)
	}
	return fmt.Sprintf("%s; opcode %v, response code %v", strings.Join(words, ", "), f.Opcode(), f.RCode())
}

func decimal(v uint32) string { return strconv.FormatUint(uint64(v), 10) }

func sayType(v uint32) (string, string) { return Type(v).String(), Type(v).Source() }

func sayClass(v uint32) (string, string) { return Class(v).String(), "" }

// nameField notes a name, and where its compression leads.
func (p *piecer) nameField(field string, end int) {
	at := p.off
	name := p.name(field, end)
	if p.err != nil {
		return
	}
	meaning := ""
	if pointer := p.off - 2; p.pointerEnds(at, pointer) {
		target := int(p.msg[pointer]&0x3f)<<8 | int(p.msg[pointer+1])
		var rest arena
		if _, err := expandName(&rest, p.msg, target, len(p.msg)); err == nil {
			meaning = fmt.Sprintf("compression: points to byte %d, %q", target, appendName(nil, rest.from(0)))
		}
	}
	p.add(field, at, p.off, string(appendName(nil, name)), meaning)
}

// pointerEnds reports whether the labels from at lead to a pointer at pointer.
func (p *piecer) pointerEnds(at, pointer int) bool {
	for at < pointer && p.msg[at] != 0 {
		at += 1 + int(p.msg[at])
	}
	return at == pointer && p.msg[at] >= 0xC0
}

func (p *piecer) recordPieces() {
	p.nameField("NAME", len(p.msg))
	t, c := Type(p.number("TYPE", 2, sayType)), IN
	if t == OPT {
		p.number("CLASS", 2, func(v uint32) (string, string) { return decimal(v), "largest UDP reply the sender takes, in bytes" })
		p.number("TTL", 4, func(v uint32) (string, string) {
			meaning := fmt.Sprintf("upper response code bits %d, EDNS version %d", v>>24, v>>16&0xff)
			if v>>24 != 0 {
				meaning += fmt.Sprintf(", so the response code is %v", RCode(v>>24<<4)|Flags(p.flags).RCode())
			}
			if v&0x8000 != 0 {
				meaning += ", DNSSEC records wanted (DO)"
			}
			return fmt.Sprintf("0x%08x", v), meaning
		})
	} else {
		c = Class(p.number("CLASS", 2, sayClass))
		p.number("TTL", 4, func(v uint32) (string, string) { return decimal(v), Period(v) })
	}
	p.rdataPieces(t, c)
}

func (p *piecer) rdataPieces(t Type, c Class) {
	size := int(p.number("RDLENGTH", 2, func(v uint32) (string, string) { return decimal(v), "bytes of RDATA" }))
	if p.err != nil {
		return
	}
	base, end := p.off, p.off+size
	if end > len(p.msg) {
		p.fail("RDATA of "+t.String(), p.off, ErrShort)
		return
	}
	row := rowOf(t, c)
	if row == nil || size == 0 && (c == ANYC || c == NONE) {
		if size > 0 {
			p.add("RDATA", base, end, "of a type that is not known here", "")
		}
		p.off = end
		return
	}
	rdata := p.msg[base:end]
	for i := range row.fields {
		f := &row.fields[i]
		for n := 0; p.err == nil; n++ {
			if p.off == end && !f.due(n) {
				break
			}
			p.rdataField(f, rdata, base, end)
			if f.last() {
				break
			}
		}
	}
	if p.err == nil && p.off != end {
		p.fail("RDATA of "+row.mnemonic, p.off, ErrRDataLong)
	}
}

func (p *piecer) rdataField(f *field, rdata string, base, end int) {
	at := p.off - base
	if f.kind.holds != nil && f.kind.holds(rdata, at) {
		p.nameField(f.name, end)
		if p.err == nil && f.says != "" {
			last := &p.pieces[len(p.pieces)-1]
			last.Meaning = strings.TrimSuffix(f.says+"; "+last.Meaning, "; ")
		}
		return
	}
	size, err := f.kind.span(rdata, at)
	if err != nil {
		p.fail(f.name, p.off, err)
		return
	}
	value, before := rdata[at:at+size], rdata[:at]
	switch {
	case size == 0: // nothing stands there, so there is no byte to name
	case f.kind.parts != nil:
		for _, part := range f.kind.parts(value) {
			p.add(part.name, p.done, p.done+part.size, part.value, part.meaning)
		}
	case f.kind.odd != nil && f.kind.odd(value, before):
		p.add(f.name, p.off, p.off+size, hexText(value), "not of the form that the document asks for")
	default:
		p.add(f.name, p.off, p.off+size, string(f.kind.text(nil, value, before)), meaningOf(f, value))
	}
	p.off += size
}
