package wire

import (
	"encoding/binary"
	"math/bits"
	"math/rand/v2"
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

// QName returns the first question's name; it allocates.
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

// hashSeed is another one each time the program runs, so that nobody can write
// messages whose hashes are the same.
var hashSeed, hashSecret = rand.Uint64(), rand.Uint64()

// NameCache are names that were read before: most messages of a capture are about few. The
// zero value is ready to use.
type NameCache [1 << 13]familiarName

// familiarName is a name as it stood, and its hash.
type familiarName struct {
	hash uint64
	size uint8 // in bytes; 0: none
	name [87]byte
}

// place is where a name is remembered that begins with these bytes.
func (names *NameCache) place(begin *[16]byte) *familiarName {
	key := foldTwo(binary.LittleEndian.Uint64(begin[:])^hashSecret, binary.LittleEndian.Uint64(begin[8:])^hashSeed)
	return &names[key%uint64(len(names))]
}

// Read returns the hashes of a message's question and how many bytes its name has, as
// [View.Hashes] and [View.NameSize] do, but only of a message that looks like most do:
// 0 bytes where [Read] has to tell more.
func (names *NameCache) Read(msg []byte) (h Hashes, size int) {
	if len(msg) < headerSize+16 || len(msg) > maxMessage || msg[4] != 0 || msg[5] != 1 {
		return Hashes{}, 0
	}
	known := names.place((*[16]byte)(msg[headerSize:]))
	size = int(known.size)
	end := headerSize + size
	if end > len(msg)-4 || string(known.name[:size]) != string(msg[headerSize:end]) || size == 0 {
		return known.read(msg)
	}
	rest := (*[4]byte)(msg[end:])
	return hashes(known.hash, binary.BigEndian.Uint32(rest[:])), size
}

// read reads the question of a message, and remembers its name.
func (k *familiarName) read(msg []byte) (Hashes, int) {
	v, h, err := Read(msg)
	if err != nil {
		return Hashes{}, 0
	}
	if v.NameSize() <= len(k.name) {
		k.hash, k.size = h.Name, uint8(copy(k.name[:], msg[headerSize:headerSize+v.NameSize()]))
	}
	return h, v.NameSize()
}

// View is [Read], with a look whether the name is a familiar one.
func (names *NameCache) View(msg []byte) (View, Hashes, error) {
	if h, size := names.Read(msg); size > 0 {
		return Named(msg, size), h, nil
	}
	return Read(msg)
}

// Named is the view of a message whose one question has a name of so many bytes, as
// [NameCache.Read] told.
func Named(msg []byte, size int) View { return View{msg, uint16(size), uint16(headerSize + size + 4)} }

// Hashes are those of a message's first question, letter case ignored.
type Hashes struct {
	Name, Question uint64 // of its name alone, and of all of it; 0 without one
	Type           Type
}

// Read is [ReadView] with [View.Hashes]. It does not believe a first name that is
// compressed: there is nothing before it to point at.
func Read(msg []byte) (View, Hashes, error) {
	v, err := ReadView(msg)
	if err != nil {
		return v, Hashes{}, err
	}
	for off := headerSize; off < headerSize+v.NameSize(); off += 1 + int(msg[off]) {
		if msg[off] >= 0xC0 {
			return v, Hashes{}, &ParseError{"QNAME", headerSize, ErrPointer}
		}
	}
	return v, v.Hashes(), nil
}

// NameSize is how many bytes the first question's name has, up to 255; 0 without one.
func (v View) NameSize() int { return int(v.qname) }

// Hashes returns those of the first question.
func (v View) Hashes() Hashes {
	if v.qname == 0 {
		return Hashes{}
	}
	end := headerSize + v.qname
	return hashes(nameHash(v.msg[headerSize:end]), binary.BigEndian.Uint32(v.msg[end:]))
}

// hashes are those of a question whose name has a hash, with its type and class.
func hashes(name uint64, rest uint32) Hashes {
	return Hashes{name, fold64(name ^ uint64(rest)), Type(rest >> 16)}
}

// nameHash hashes a name in wire form, letter case ignored.
func nameHash(b []byte) uint64 {
	// Sixteen bytes at a time; the last ones overlap those before them. The length stands
	// where the root's zero stands, so that it does not blend with a label's.
	h, size := hashSeed, uint64(len(b))<<56
	if len(b) < 16 {
		return shortNameHash(b, size)
	}
	end := (*[16]byte)(b[len(b)-16:])
	for secret := hashSecret; len(b) > 16; b = b[16:] {
		block := (*[16]byte)(b)
		first, last := binary.LittleEndian.Uint64(block[:]), binary.LittleEndian.Uint64(block[8:])
		if capitals(first, last) {
			first, last = lower64(first), lower64(last)
		}
		h = foldTwo(first^secret, last^h)
	}
	first, last := binary.LittleEndian.Uint64(end[:]), binary.LittleEndian.Uint64(end[8:])
	if capitals(first, last) {
		first, last = lower64(first), lower64(last)
	}
	return foldTwo(first^hashSecret, last^size^h)
}

func shortNameHash(b []byte, size uint64) uint64 {
	if len(b) >= 8 {
		first, last := lower64(binary.LittleEndian.Uint64(b)), lower64(binary.LittleEndian.Uint64(b[len(b)-8:]))
		return foldTwo(first^hashSecret, last^size^hashSeed)
	}
	var few uint64
	for _, c := range b {
		few = few<<8 | uint64(fold(c))
	}
	return foldTwo(few^hashSecret, size^hashSeed)
}

const ones = 0x0101010101010101 // in each of eight bytes

// capitals reports whether there may be some among twice eight bytes: any from @ to _, of
// which nearly all names have none.
func capitals(a, b uint64) bool { return (a&^(a<<1)|b&^(b<<1))&(0x40*ones) != 0 }

// lower64 folds the letters among eight bytes (RFC 4343 §3).
func lower64(b uint64) uint64 {
	low := b &^ (0x80 * ones)
	// The top bit of each byte: it is no less than A, but for those that are more than Z.
	upper := (low + (0x80-'A')*ones) &^ (low + (0x80-'Z'-1)*ones) &^ b & (0x80 * ones)
	return b | upper>>2
}

// fold64 mixes all bits with each other.
func fold64(h uint64) uint64 { return foldTwo(h, 0x9e3779b97f4a7c15) }

// foldTwo lays the halves of a product together.
func foldTwo(a, b uint64) uint64 {
	high, low := bits.Mul64(a, b)
	return high ^ low
}

// Outline is what a look at the types of a message's records tells. It has few fields, so
// that it is handed on in registers.
type Outline struct {
	Holds Holds
	Code  RCode  // with the upper bits that OPT holds (RFC 6891 §6.1.3)
	TTL   uint32 // of the first answer, in seconds
	// Addresses is the same for two answer sections with the same addresses, in whatever
	// order and for however long. It is another number each time the program runs.
	Addresses uint64
}

// Holds is what a message holds.
type Holds uint8

// What it may hold.
const (
	HoldsAnswer Holds = 1 << iota // a record of the asked type in the answer section
	HoldsAny                      // a record at all in the answer section, or the promise of one
	HoldsNS                       // such a record in the authority section
	HoldsSOA                      // the same
)

// Has reports whether it holds that.
func (h Holds) Has(one Holds) bool { return h&one != 0 }

// Outline reads the message once, as far as it is sound, and allocates nothing. It is
// apart from [View.Records], since every reply of a capture goes through it.
func (v View) Outline() (o Outline) {
	msg, header, wanted := v.msg, v.header(), v.QType()
	off := int(v.records)
	o.Code = v.Flags().RCode()
	for left := binary.BigEndian.Uint16(header[6:]); left > 0; left-- {
		first := o.Holds == 0
		o.Holds |= HoldsAny
		if off = afterOwner(msg, off); off < 0 || off > len(msg)-10 {
			return o
		}
		t, size := Type(msg[off])<<8|Type(msg[off+1]), int(msg[off+8])<<8|int(msg[off+9])
		data := off + 10
		if size > len(msg)-data {
			return o
		}
		if first {
			o.TTL = binary.BigEndian.Uint32(msg[off+4 : off+8])
		}
		if t == wanted || wanted.AsksForOthers() {
			o.Holds |= HoldsAnswer
		}
		if t == A && size == 4 {
			o.Addresses += fold64(hashSeed ^ uint64(binary.BigEndian.Uint32(msg[data:])))
		} else if t == AAAA && size == 16 {
			o.Addresses += fold64(fold64(hashSeed^binary.BigEndian.Uint64(msg[data:])) ^ binary.BigEndian.Uint64(msg[data+8:]))
		}
		off = data + size
	}
	authority := int(binary.BigEndian.Uint16(header[8:]))
	for left := authority + int(binary.BigEndian.Uint16(header[10:])); left > 0; left-- {
		if off = afterOwner(msg, off); off < 0 || off > len(msg)-10 {
			return o
		}
		t, size := Type(msg[off])<<8|Type(msg[off+1]), int(msg[off+8])<<8|int(msg[off+9])
		if size > len(msg)-off-10 {
			return o
		}
		if authority--; authority >= 0 {
			if t == NS {
				o.Holds |= HoldsNS
			} else if t == SOA {
				o.Holds |= HoldsSOA
			}
		} else if t == OPT {
			o.Code |= RCode(msg[off+4]) << 4
		}
		off += 10 + size
	}
	return o
}

// afterOwner returns where a record's type stands, whose owner stands at off; less than 0
// where that is not sound.
func afterOwner(msg []byte, off int) int {
	if off < 0 || off >= len(msg) || msg[off]-1 < 0xBF { // neither compressed nor the root, as few are
		return afterAnyOwner(msg, off)
	}
	return off + 1 + int(msg[off]>>7)
}

func afterAnyOwner(msg []byte, off int) int {
	off, err := skipWireName(msg, off)
	if err != nil {
		return -1
	}
	return off
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
