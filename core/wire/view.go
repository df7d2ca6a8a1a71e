package wire

import (
	"encoding/binary"
)

const headerSize = 12 // bytes (RFC 1035 §4.1.1)

// Section is one of the four parts of a message.
type Section uint8

// The sections in wire order (RFC 1035 §4.1).
const (
	QuestionSection Section = iota
	AnswerSection
	AuthoritySection
	AdditionalSection
)

func (s Section) String() string {
	return [...]string{"question", "answer", "authority", "additional"}[s&3]
}

// View reads a message in place, without allocating. It aliases the message
// and is good for as long as those bytes are.
type View struct {
	msg     []byte
	qname   uint16 // length in bytes of the first question's name as it stands; 0: no question
	records uint16 // where the records start
}

// maxMessage is the size of the largest message that there can be (RFC 1035 §4.2.2).
const maxMessage = 65535

// ReadView checks the header and the questions of msg, of which no more than a message
// can have is looked at. The error is a *ParseError; the view's header can be read all the
// same, if the message has one.
func ReadView(msg []byte) (View, error) {
	msg = msg[:min(len(msg), maxMessage)]
	v := View{msg: msg, records: headerSize}
	if len(msg) < headerSize {
		return v, &ParseError{"header", len(msg), ErrShort}
	}
	for i := range int(v.Count(QuestionSection)) {
		end, err := skipWireName(msg, int(v.records))
		if err != nil {
			return v, &ParseError{"QNAME", int(v.records), err}
		}
		if len(msg)-end < 4 {
			return v, &ParseError{"QTYPE", end, ErrShort}
		}
		if i == 0 {
			v.qname = uint16(end - headerSize)
		}
		v.records = uint16(end + 4)
	}
	return v, nil
}

// Bytes are the message's own: change them, and the view is none.
func (v View) Bytes() []byte { return v.msg }

// Over returns the view of a copy of the same message, or of a copy cut after its
// questions.
func (v View) Over(msg []byte) View {
	if len(msg) < int(v.records) {
		msg = msg[:min(len(msg), headerSize)]
		return View{msg: msg, records: uint16(len(msg))}
	}
	v.msg = msg
	return v
}

// skipWireName returns the offset after the name at off, which may be
// compressed; where a pointer leads is not looked at.
func skipWireName(msg []byte, off int) (int, error) {
	for start := off; off < len(msg); {
		n := int(msg[off])
		switch {
		case n == 0:
			return off + 1, nil
		case n >= 0xC0:
			if off+2 > len(msg) {
				return 0, ErrShort
			}
			return off + 2, nil
		case n > maxLabel:
			return 0, ErrLabelType
		}
		if off += 1 + n; off-start >= maxName {
			return 0, ErrNameLong
		}
	}
	return 0, ErrShort
}

// ID returns the message's identifier.
func (v View) ID() uint16 { return binary.BigEndian.Uint16(v.header()[:]) }

func (v View) header() *[headerSize]byte { return (*[headerSize]byte)(v.msg) }

// Flags returns the header's flags, opcode and response code.
func (v View) Flags() Flags { return Flags(binary.BigEndian.Uint16(v.header()[2:])) }

// Count returns how many entries the header promises for a section.
func (v View) Count(s Section) uint16 { return binary.BigEndian.Uint16(v.header()[4+2*int(s):]) }

// HasHeader reports whether the message is long enough for one: [ReadView] takes no other.
func (v View) HasHeader() bool { return len(v.msg) >= headerSize }

// HasQuestion reports whether there is a question at all.
func (v View) HasQuestion() bool { return v.qname > 0 }

// QType returns the first question's type, 0 without one.
func (v View) QType() Type {
	if v.qname == 0 {
		return 0
	}
	at := headerSize + int(v.qname)
	return Type(v.msg[at])<<8 | Type(v.msg[at+1])
}

// QClass returns the first question's class, 0 without one.
func (v View) QClass() Class {
	if v.qname == 0 {
		return 0
	}
	return Class(binary.BigEndian.Uint16(v.msg[headerSize+int(v.qname)+2:]))
}

// Question returns the first question, which is good for as long as the message's bytes are; ok is false
// without one.
func (v View) Question() (q Question, ok bool) {
	if v.qname == 0 {
		return q, false
	}
	name := v.msg[headerSize : headerSize+int(v.qname)]
	if end, err := skipName(name, 0); err != nil || end != len(name) {
		return q, false // it is compressed, which a first name cannot be
	}
	return Question{Name{borrow(name)}, v.QType(), v.QClass()}, true
}

// QName returns the first question's name; it allocates. The error is a *ParseError.
func (v View) QName() (Name, error) {
	if v.qname == 0 {
		return Name{}, nil
	}
	name, _, err := ReadName(v.msg, headerSize)
	return name, err
}

// QuestionBytes returns the first question as it stands: name, type, class.
// A first name has nothing to be compressed against, so two questions are one
// when these bytes are, but for letter case.
func (v View) QuestionBytes() []byte {
	if v.qname == 0 {
		return nil
	}
	return v.msg[headerSize : headerSize+int(v.qname)+4]
}

// Records walks the records of the message in order.
func (v View) Records() RecordCursor {
	return RecordCursor{
		msg: v.msg, off: int(v.records), section: AnswerSection,
		left: [4]uint16{0, v.Count(AnswerSection), v.Count(AuthoritySection), v.Count(AdditionalSection)},
	}
}

// RecordCursor steps through the records of a message and allocates nothing:
//
//	c := view.Records() // before the loop: in its head it would be copied at each step
//	for c.Next() {
//		use(c.Record)
//	}
type RecordCursor struct {
	Record  RecordView
	Err     error // a *ParseError once Next has returned false for damage, nil at a clean end
	msg     []byte
	off     int
	section Section
	left    [4]uint16
}

// RecordView is one record in place.
type RecordView struct {
	Section Section
	NameAt  int // offset of the owner name in the message
	Type    Type
	Class   Class
	TTL     uint32 // seconds
	Data    []byte // the RDATA as it stands: names in it may be compressed
}

// Next steps to the next record and reports whether there is one.
func (c *RecordCursor) Next() bool {
	for c.left[c.section] == 0 {
		if c.section == AdditionalSection {
			return false
		}
		c.section++
	}
	msg, fixed := c.msg, c.off+2
	if c.off >= len(msg) || msg[c.off] < 0xC0 { // nearly all owners are compressed
		var err error
		if fixed, err = skipWireName(msg, c.off); err != nil {
			c.Err = &ParseError{"NAME", c.off, err}
			return false
		}
	}
	data := fixed + 10
	if data > len(msg) {
		c.Err = &ParseError{"TYPE", min(fixed, len(msg)), ErrShort}
		return false
	}
	head := msg[fixed:data:data]
	end := data + int(binary.BigEndian.Uint16(head[8:]))
	if end > len(msg) {
		c.Err = &ParseError{"RDATA", data, ErrShort}
		return false
	}
	r := &c.Record
	r.Section, r.NameAt = c.section, c.off
	r.Type, r.Class = Type(binary.BigEndian.Uint16(head)), Class(binary.BigEndian.Uint16(head[2:]))
	r.TTL, r.Data = binary.BigEndian.Uint32(head[4:]), msg[data:end:end]
	c.left[c.section]--
	c.off = end
	return true
}

// Offset returns the offset after the last record read; once Next has returned
// false without an error, what lies beyond is not part of the message.
func (c *RecordCursor) Offset() int { return c.off }
