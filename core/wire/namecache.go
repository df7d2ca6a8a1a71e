package wire

import "encoding/binary"

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
	key := Mix(binary.LittleEndian.Uint64(begin[:])^hashSecret, binary.LittleEndian.Uint64(begin[8:])^hashSeed)
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

// View is [Read], with a look whether the name is a familiar one. The error is as there.
func (names *NameCache) View(msg []byte) (View, Hashes, error) {
	if h, size := names.Read(msg); size > 0 {
		return Named(msg, size), h, nil
	}
	return Read(msg)
}

// Named is the view of a message whose one question has a name of so many bytes, as
// [NameCache.Read] told.
func Named(msg []byte, size int) View { return View{msg, uint16(size), uint16(headerSize + size + 4)} }
