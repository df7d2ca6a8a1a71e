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
}

func (b *builder) begin(id, flags uint16, opcode, rcode uint64) {
	b.out = binary.BigEndian.AppendUint16(b.out[:0], id)
	b.out = binary.BigEndian.AppendUint16(b.out, flags|uint16(opcode&15)<<11|uint16(rcode&15))
	b.out = append(b.out, make([]byte, 8)...)
	b.counts, b.first, b.full = [4]uint16{}, nil, false
}

// maxMessage is how many bytes a message has at the most.
const maxMessage = 65535

func (b *builder) question(name []byte, kind classType) {
	if len(b.out)+len(name)+4 > maxMessage || b.counts[1]+b.counts[2]+b.counts[3] > 0 {
		return
	}
	if b.counts[0] == 0 {
		b.first = name
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
	if len(name) > 1 && string(name) == string(b.first) {
		name = []byte{0xc0, headerSize}
	}
	b.out = append(b.out, name...)
	b.out = binary.BigEndian.AppendUint16(b.out, kind.Type)
	b.out = binary.BigEndian.AppendUint16(b.out, kind.Class)
	b.out = binary.BigEndian.AppendUint32(b.out, ttl)
	b.out = binary.BigEndian.AppendUint16(b.out, uint16(len(data)))
	b.out = append(b.out, data...)
	b.counts[section]++
}

// message is what was put together. It is a copy.
func (b *builder) message() []byte {
	for i, n := range b.counts {
		binary.BigEndian.PutUint16(b.out[4+2*i:], n)
	}
	return append([]byte(nil), b.out...)
}

// compressed is a message with its names shortened as servers do (RFC 1035 §4.1.4), so that it has about the size that
// it had. What cannot be read stays as it is.
func compressed(data []byte) []byte {
	m, err := wire.ReadMessage(data)
	if err != nil {
		return data
	}
	short, err := m.Append(nil)
	if err != nil {
		return data
	}
	return short
}
