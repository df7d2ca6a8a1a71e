package wire

import (
	"encoding/binary"
	"math/bits"
	"math/rand/v2"
)

// hashSeed is another one each time the program runs, so that nobody can write
// messages whose hashes are the same.
var hashSeed, hashSecret = rand.Uint64(), rand.Uint64()

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
			first, last = Lower64(first), Lower64(last)
		}
		h = Mix(first^secret, last^h)
	}
	first, last := binary.LittleEndian.Uint64(end[:]), binary.LittleEndian.Uint64(end[8:])
	if capitals(first, last) {
		first, last = Lower64(first), Lower64(last)
	}
	return Mix(first^hashSecret, last^size^h)
}

func shortNameHash(b []byte, size uint64) uint64 {
	if len(b) >= 8 {
		first, last := Lower64(binary.LittleEndian.Uint64(b)), Lower64(binary.LittleEndian.Uint64(b[len(b)-8:]))
		return Mix(first^hashSecret, last^size^hashSeed)
	}
	var few uint64
	for _, c := range b {
		few = few<<8 | uint64(fold(c))
	}
	return Mix(few^hashSecret, size^hashSeed)
}

const ones = 0x0101010101010101 // in each of eight bytes

// capitals reports whether there may be some among twice eight bytes: any from @ to _, of
// which nearly all names have none.
func capitals(a, b uint64) bool { return (a&^(a<<1)|b&^(b<<1))&(0x40*ones) != 0 }

// Lower64 folds the letters among eight bytes (RFC 4343 §3).
func Lower64(b uint64) uint64 {
	low := b &^ (0x80 * ones)
	// The top bit of each byte: it is no less than A, but for those that are more than Z.
	upper := (low + (0x80-'A')*ones) &^ (low + (0x80-'Z'-1)*ones) &^ b & (0x80 * ones)
	return b | upper>>2
}

// fold64 mixes all bits with each other.
func fold64(h uint64) uint64 { return Mix(h, 0x9e3779b97f4a7c15) }

// Mix makes one hash of two values: the halves of their product are laid together.
func Mix(a, b uint64) uint64 {
	high, low := bits.Mul64(a, b)
	return high ^ low
}
