package wire

import (
	"encoding/binary"
	"slices"
	"unsafe"
)

// Question is one entry of the question section (RFC 1035 §4.1.2).
type Question struct {
	Name  Name
	Type  Type
	Class Class
}

// Same reports whether both ask the same, letter case of the name ignored.
func (q Question) Same(r Question) bool {
	return q.Type == r.Type && q.Class == r.Class && q.Name.Equal(r.Name)
}

func (q Question) String() string {
	if q.Class != IN {
		return q.Name.String() + " " + q.Class.String() + " " + q.Type.String()
	}
	return q.Name.String() + " " + q.Type.String()
}

// Spoken is the question the way people say it, without the final dot.
func (q Question) Spoken() string { return q.Name.Spoken() + " " + q.Type.String() }

// Message is a whole DNS message (RFC 1035 §4.1) that owns what it holds.
type Message struct {
	ID         uint16
	Flags      Flags
	Questions  []Question
	Answer     []Record
	Authority  []Record
	Additional []Record // an OPT record (RFC 6891) stands here like any other
	Trailing   int      // bytes after the last record, which belong to nothing
}

// RCode returns the response code, with the upper bits of an OPT record if
// there is one (RFC 6891 §6.1.3).
func (m *Message) RCode() RCode {
	code := m.Flags.RCode()
	if opt, ok := m.OPT(); ok {
		code |= RCode(opt.TTL>>24) << 4
	}
	return code
}

// OPT returns the message's OPT record (RFC 6891).
func (m *Message) OPT() (Record, bool) {
	for _, r := range m.Additional {
		if r.Type == OPT {
			return r, true
		}
	}
	return Record{}, false
}

// Section returns the records of one of the three record sections.
func (m *Message) Section(s Section) []Record {
	switch s {
	case AnswerSection:
		return m.Answer
	case AuthoritySection:
		return m.Authority
	case AdditionalSection:
		return m.Additional
	}
	return nil
}

// ReadName reads the name at off, following compression pointers backwards
// only (RFC 1035 §4.1.4), and returns the offset after it. The error is a
// *ParseError.
func ReadName(msg []byte, off int) (Name, int, error) {
	var a arena
	next, err := expandName(&a, borrow(msg), off, len(msg))
	if err != nil {
		return Name{}, off, &ParseError{"name", off, err}
	}
	return Name{a.from(0)}, next, nil
}

// arena is where what was read is written one behind the other. When it grows, what is held
// of it stays where it was.
type arena struct{ bytes []byte }

func (a *arena) add(text string) { a.bytes = append(a.bytes, text...) }

// from is what was written from a place on: good until the arena is emptied.
func (a *arena) from(start int) string { return borrow(a.bytes[start:]) }

// borrow gives the bytes of msg as a string, which is good for as long as nobody writes to them.
func borrow(msg []byte) string { return unsafe.String(unsafe.SliceData(msg), len(msg)) }

// expandName adds the uncompressed form of the name at msg[off:end] and returns the offset
// after it.
func expandName(to *arena, msg string, off, end int) (int, error) {
	for l := startLabels(off, end); ; {
		label, err := l.next(msg)
		if err != nil {
			return 0, err
		}
		to.add(label)
		if len(label) == 1 {
			return l.after, nil
		}
	}
}

// labels steps through a name that may be compressed. Each pointer has to lead behind the
// header, to before the start of the run of labels it ends, so there is no loop.
type labels struct {
	off, end, start int // of the run
	size            int // of the labels so far
	after           int // the offset after the name; 0 as long as it is not known
}

func startLabels(off, end int) labels { return labels{off: off, end: end, start: off} }

// next is the next label with its length before it; the last one is a length alone.
func (l *labels) next(msg string) (label string, err error) {
	for {
		if l.off >= l.end {
			return "", ErrShort
		}
		n := int(msg[l.off])
		switch {
		case n >= 0xC0:
			if l.off+2 > l.end {
				return "", ErrShort
			}
			target := n&0x3f<<8 | int(msg[l.off+1])
			if l.after == 0 {
				l.after = l.off + 2
			}
			if target >= l.start || target < headerSize {
				return "", ErrPointer
			}
			// Behind a pointer lies an earlier part of the message, not this field.
			l.off, l.start, l.end = target, target, len(msg)
			continue
		case n > maxLabel:
			return "", ErrLabelType
		}
		if l.off+1+n > l.end {
			return "", ErrShort
		}
		if l.size += 1 + n; l.size > maxName {
			return "", ErrNameLong
		}
		label = msg[l.off : l.off+1+n]
		l.off += 1 + n
		if n == 0 && l.after == 0 {
			l.after = l.off
		}
		return label, nil
	}
}

// decoder reads a message from front to back. Everything it keeps is written
// to text, whose earlier contents stay valid when it grows.
type decoder struct {
	msg   string
	off   int
	text  arena
	first string // the name of the first question
	err   error
}

func (d *decoder) fail(field string, at int, err error) {
	if d.err == nil {
		d.err = &ParseError{field, at, err}
	}
}

func (d *decoder) u16(field string) uint16 {
	if d.err != nil || len(d.msg)-d.off < 2 {
		d.fail(field, d.off, ErrShort)
		return 0
	}
	d.off += 2
	return uint16(d.msg[d.off-2])<<8 | uint16(d.msg[d.off-1])
}

func (d *decoder) u32(field string) uint32 {
	return uint32(d.u16(field))<<16 | uint32(d.u16(field))
}

func (d *decoder) name(field string, end int) string {
	if d.err != nil {
		return ""
	}
	start := len(d.text.bytes)
	next, err := expandName(&d.text, d.msg, d.off, end)
	if err != nil {
		d.fail(field, d.off, err)
		return ""
	}
	d.off = next
	return d.text.from(start)
}

// owner is the name of a record: of most it is the one asked for, by a pointer to it.
func (d *decoder) owner() string {
	if d.first != "" && d.off+2 <= len(d.msg) && d.msg[d.off] == 0xC0 && d.msg[d.off+1] == headerSize {
		d.off += 2
		return d.first
	}
	return d.name("NAME", len(d.msg))
}

// recordHead is how many bytes stand between a record's name and its RDATA (RFC 1035 §4.1.3).
const recordHead = 10

func (d *decoder) question() Question {
	return Question{Name{d.name("QNAME", len(d.msg))}, Type(d.u16("QTYPE")), Class(d.u16("QCLASS"))}
}

func (d *decoder) record() (r Record) {
	r.Name.wire = d.owner()
	size := 0
	if d.err == nil && len(d.msg)-d.off >= recordHead {
		head := d.msg[d.off : d.off+recordHead]
		r.Type, r.Class = Type(head[0])<<8|Type(head[1]), Class(head[2])<<8|Class(head[3])
		r.TTL = uint32(head[4])<<24 | uint32(head[5])<<16 | uint32(head[6])<<8 | uint32(head[7])
		size = int(head[8])<<8 | int(head[9])
		d.off += recordHead
	} else { // which says where it ends
		r.Type, r.Class, r.TTL = Type(d.u16("TYPE")), Class(d.u16("CLASS")), d.u32("TTL")
		size = int(d.u16("RDLENGTH"))
	}
	if d.err != nil {
		return r
	}
	if len(d.msg)-d.off < size {
		d.fail("RDATA of "+r.Type.String(), d.off, ErrShort)
		return r
	}
	r.Data = d.rdata(r, d.off+size)
	return r
}

// rdata returns the RDATA that ends at end with its names uncompressed.
func (d *decoder) rdata(r Record, end int) string {
	row := rowOf(r.Type, r.Class)
	// An UPDATE names what it deletes by records without RDATA (RFC 2136 §2.4).
	if row == nil || d.off == end && (r.Class == ANYC || r.Class == NONE) {
		return d.copy(end)
	}
	base, start := d.off, len(d.text.bytes)
	rdata := d.msg[base:end]
	for i := range row.fields {
		f := &row.fields[i]
		for n := 0; ; n++ {
			if d.off == end && !f.due(n) {
				break
			}
			if f.kind.holds != nil && f.kind.holds(rdata, d.off-base) {
				d.name(f.name, end)
			} else if size, err := f.kind.span(rdata, d.off-base); err != nil {
				d.fail(f.name, d.off, err)
			} else {
				d.copy(d.off + size)
			}
			if d.err != nil {
				return ""
			}
			if f.last() {
				break
			}
		}
	}
	if d.off != end {
		d.fail("RDATA of "+row.mnemonic, d.off, ErrRDataLong)
		return ""
	}
	if len(d.text.bytes)-start > 65535 {
		d.fail("RDATA of "+row.mnemonic, base, ErrRDataSize)
		return ""
	}
	return d.text.from(start)
}

func (d *decoder) copy(end int) string {
	start := len(d.text.bytes)
	d.text.add(d.msg[d.off:end])
	d.off = end
	return d.text.from(start)
}

// ReadMessage reads a whole message. On an error, a *ParseError, the message
// holds what was read before it.
func ReadMessage(msg []byte) (Message, error) {
	var r Reader
	m, err := r.Read(msg)
	return *m, err
}

// Reader reads messages one after the other in the memory of those before, which are gone then:
// once the largest has been read it allocates nothing. The zero value is ready to use.
type Reader struct {
	message   Message
	questions []Question
	records   []Record
	decoder   decoder
}

// Read is [ReadMessage]. What it returns is good until the next call, and msg has to stay as it is
// no longer than the call.
func (r *Reader) Read(msg []byte) (*Message, error) {
	d, m := &r.decoder, &r.message
	*d = decoder{msg: borrow(msg), text: arena{d.text.bytes[:0]}}
	*m = Message{ID: d.u16("ID"), Flags: Flags(d.u16("flags"))}
	var counts [4]int
	for i, field := range [...]string{"QDCOUNT", "ANCOUNT", "NSCOUNT", "ARCOUNT"} {
		counts[i] = int(d.u16(field))
	}
	if d.err != nil {
		return m, d.err
	}
	d.text.bytes = slices.Grow(d.text.bytes, 2*len(msg))
	// The counts are only promises: a question takes 5 bytes at least, a record 11.
	r.questions = slices.Grow(r.questions[:0], min(counts[0], len(msg)/5))
	for range counts[0] {
		q := d.question()
		if d.err != nil {
			return m, d.err
		}
		r.questions = append(r.questions, q)
		m.Questions = r.questions
	}
	if counts[0] > 0 {
		d.first = m.Questions[0].Name.wire
	}
	all := slices.Grow(r.records[:0], min(counts[1]+counts[2]+counts[3], (len(msg)-d.off)/11))
	opts := 0
	for i, section := range [...]*[]Record{&m.Answer, &m.Authority, &m.Additional} {
		start := len(all)
		for range counts[i+1] {
			one := d.record()
			if one.Type == OPT && d.err == nil {
				if opts++; opts > 1 {
					d.fail("OPT", d.off, ErrSecondOPT)
				}
			}
			if d.err != nil {
				break
			}
			all = append(all, one)
		}
		if len(all) > start {
			*section = all[start:len(all):len(all)]
		}
		if d.err != nil {
			break
		}
	}
	if r.records = all[:0]; d.err != nil {
		return m, d.err
	}
	m.Trailing = len(msg) - d.off
	return m, nil
}

// Append appends the wire form of m to dst, names compressed where RFC 1035
// types allow it (RFC 3597 §4). The error is ErrMessageSize or, for an RDATA
// over 65535 bytes, ErrRDataSize.
func (m *Message) Append(dst []byte) ([]byte, error) {
	e := encoder{buf: dst, base: len(dst)}
	e.u16(m.ID)
	e.u16(uint16(m.Flags))
	for _, n := range []int{len(m.Questions), len(m.Answer), len(m.Authority), len(m.Additional)} {
		if n > 65535 {
			return dst, ErrMessageSize
		}
		e.u16(uint16(n))
	}
	for i := range m.Questions {
		e.name(m.Questions[i].Name.wire)
		e.u16(uint16(m.Questions[i].Type))
		e.u16(uint16(m.Questions[i].Class))
	}
	for _, section := range [][]Record{m.Answer, m.Authority, m.Additional} {
		for i := range section {
			if err := e.record(&section[i]); err != nil {
				return dst, err
			}
		}
	}
	if len(e.buf)-e.base > 65535 {
		return dst, ErrMessageSize
	}
	return e.buf, nil
}

// Bytes is [Message.Append] to nothing. The error is as there.
func (m *Message) Bytes() ([]byte, error) { return m.Append(make([]byte, 0, 512)) }

// encoder writes a message. seen is a small hash table of the offsets at which
// a name was written, for compression; when it is full, names are written out.
type encoder struct {
	buf  []byte
	base int
	seen [256]uint16
}

func (e *encoder) u16(v uint16) { e.buf = binary.BigEndian.AppendUint16(e.buf, v) }

func (e *encoder) record(r *Record) error {
	if len(r.Data) > 65535 {
		return ErrRDataSize
	}
	e.name(r.Name.wire)
	e.u16(uint16(r.Type))
	e.u16(uint16(r.Class))
	e.buf = binary.BigEndian.AppendUint32(e.buf, r.TTL)
	row := rowOf(r.Type, r.Class)
	if row == nil || row.rules&compressed == 0 {
		e.u16(uint16(len(r.Data)))
		e.buf = append(e.buf, r.Data...)
		return nil
	}
	start := len(e.buf)
	e.u16(0)
	written := 0
	for i := range row.fields {
		f := &row.fields[i]
		size, err := f.kind.span(r.Data, written)
		if err != nil {
			break // an RDATA that does not fit its type goes out as it is
		}
		if f.kind.holds != nil {
			e.name(r.Data[written : written+size])
		} else {
			e.buf = append(e.buf, r.Data[written:written+size]...)
		}
		written += size
	}
	e.buf = append(e.buf, r.Data[written:]...)
	binary.BigEndian.PutUint16(e.buf[start:], uint16(len(e.buf)-start-2))
	return nil
}

// name writes a name, ending in a pointer to where the rest of it already
// stands. Only the same letter case counts as the same, so that case survives.
func (e *encoder) name(name string) {
	if name == "" {
		name = "\x00" // the zero Name: there is no shorter thing to write
	}
	for at := 0; name[at] != 0; at += 1 + int(name[at]) {
		suffix := name[at:]
		slot := uint8(hashName(suffix))
		for range 4 {
			off := int(e.seen[slot])
			if off == 0 {
				if here := len(e.buf) - e.base; here < 1<<14 {
					e.seen[slot] = uint16(here)
				}
				break
			}
			if e.written(off, suffix) {
				e.u16(0xC000 | uint16(off))
				return
			}
			slot++
		}
		e.buf = append(e.buf, name[at:at+1+int(name[at])]...)
	}
	e.buf = append(e.buf, 0)
}

// written reports whether the name written at off is exactly suffix.
func (e *encoder) written(off int, suffix string) bool {
	msg := e.buf[e.base:]
	for at := 0; off < len(msg); {
		n := int(msg[off])
		if n >= 0xC0 {
			off = n&0x3f<<8 | int(msg[off+1])
			continue
		}
		end := at + 1 + n
		if end > len(suffix) || off+1+n > len(msg) || string(msg[off:off+1+n]) != suffix[at:end] {
			return false
		}
		if n == 0 {
			return end == len(suffix)
		}
		at, off = end, off+1+n
	}
	return false
}

func hashName(s string) uint32 {
	h := uint32(2166136261)
	for i := range len(s) {
		h = (h ^ uint32(s[i])) * 16777619
	}
	return h ^ h>>8 ^ h>>16
}
