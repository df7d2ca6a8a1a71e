package wire

import "encoding/binary"

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
	HoldsAnswer    Holds = 1 << iota // a record of the asked type in the answer section
	HoldsAny                         // a record at all in the answer section, or the promise of one
	HoldsNS                          // such a record in the authority section
	HoldsSOA                         // the same
	BreaksOff                        // a record that its header promises and that cannot be read, or is not there
	HoldsSignature                   // an RRSIG record in the answer or authority section
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
			return o.broken()
		}
		t, size := Type(msg[off])<<8|Type(msg[off+1]), int(msg[off+8])<<8|int(msg[off+9])
		data := off + 10
		if size > len(msg)-data {
			return o.broken()
		}
		if first {
			o.TTL = binary.BigEndian.Uint32(msg[off+4 : off+8])
		}
		if t == wanted || wanted.AsksForOthers() {
			o.Holds |= HoldsAnswer
		}
		if t == RRSIG {
			o.Holds |= HoldsSignature
		} else if t == A && size == 4 {
			o.Addresses += fold64(hashSeed ^ uint64(binary.BigEndian.Uint32(msg[data:])))
		} else if t == AAAA && size == 16 {
			o.Addresses += fold64(fold64(hashSeed^binary.BigEndian.Uint64(msg[data:])) ^ binary.BigEndian.Uint64(msg[data+8:]))
		}
		off = data + size
	}
	authority := int(binary.BigEndian.Uint16(header[8:]))
	for left := authority + int(binary.BigEndian.Uint16(header[10:])); left > 0; left-- {
		if off = afterOwner(msg, off); off < 0 || off > len(msg)-10 {
			return o.broken()
		}
		t, size := Type(msg[off])<<8|Type(msg[off+1]), int(msg[off+8])<<8|int(msg[off+9])
		if size > len(msg)-off-10 {
			return o.broken()
		}
		if authority--; authority >= 0 {
			if t == NS {
				o.Holds |= HoldsNS
			} else if t == SOA {
				o.Holds |= HoldsSOA
			} else if t == RRSIG {
				o.Holds |= HoldsSignature
			}
		} else if t == OPT {
			o.Code |= RCode(msg[off+4]) << 4
		}
		off += 10 + size
	}
	return o
}

// broken is the outline of a message that is not sound from here on.
func (o Outline) broken() Outline {
	o.Holds |= BreaksOff
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
