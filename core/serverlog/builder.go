package serverlog

import (
	"encoding/binary"

	"unquil/core/wire"
)

// builder puts a message together (RFC 1035 §4.1).
type builder struct {
	out    []byte
	counts [4]uint16
	first  []byte // the name asked for, where records point to
	full   bool
	long   bool // it may have names that servers would have shortened
	read   wire.Reader
	short  []byte
}

func (b *builder) begin(id, flags uint16, opcode, rcode uint64) {
	b.out = binary.BigEndian.AppendUint16(b.out[:0], id)
	b.out = binary.BigEndian.AppendUint16(b.out, flags|uint16(opcode&15)<<11|uint16(rcode&15))
	b.out = append(b.out, 0, 0, 0, 0, 0, 0, 0, 0)
	b.counts, b.first, b.full, b.long = [4]uint16{}, nil, false, false
}

// maxMessage is how many bytes a message has at the most.
const maxMessage = 65535

func (b *builder) question(name []byte, kind classType) {
	if len(b.out)+len(name)+4 > maxMessage || b.counts[1]+b.counts[2]+b.counts[3] > 0 {
		return
	}
	if b.counts[0] == 0 {
		b.first = name
	} else {
		b.long = true
	}
	b.out = append(b.out, name...)
	b.out = binary.BigEndian.AppendUint16(b.out, kind.Type)
	b.out = binary.BigEndian.AppendUint16(b.out, kind.Class)
	b.counts[0]++
}

func (b *builder) record(section int, name []byte, kind classType, ttl uint32, data []byte) {
	if b.full = b.full || len(b.out)+len(name)+10+len(data) > maxMessage || len(data) > maxMessage; b.full {
		return // sections come in their order: what is behind one that has no room has none
	}
	switch {
	case len(name) <= 1:
		b.out = append(b.out, name...)
	case string(name) == string(b.first):
		b.out = append(b.out, 0xc0, headerSize)
	default:
		b.out, b.long = append(b.out, name...), true
	}
	switch wire.Type(kind.Type) {
	case wire.A, wire.AAAA, wire.TXT, wire.OPT: // in whose data there is no name
	default:
		b.long = true
	}
	b.out = binary.BigEndian.AppendUint16(b.out, kind.Type)
	b.out = binary.BigEndian.AppendUint16(b.out, kind.Class)
	b.out = binary.BigEndian.AppendUint32(b.out, ttl)
	b.out = binary.BigEndian.AppendUint16(b.out, uint16(len(data)))
	b.out = append(b.out, data...)
	b.counts[section]++
}

// message is what was put together, with its names shortened as servers do (RFC 1035 §4.1.4), so that it has about the
// size that it had. It is good until another one is begun. What cannot be read stays as it is.
func (b *builder) message() []byte {
	for i, n := range b.counts {
		binary.BigEndian.PutUint16(b.out[4+2*i:], n)
	}
	if !b.long {
		return b.out
	}
	m, err := b.read.Read(b.out)
	if err != nil {
		return b.out
	}
	short, err := m.Append(b.short[:0])
	if err != nil {
		return b.out
	}
	b.short = short
	return short
}
