// Package hello reads the name of the server out of what a client sends first when it
// begins to encrypt: a ClientHello of TLS, plain over TCP, or in the first packets of QUIC.
package hello

import (
	"bytes"
	"cmp"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"slices"

	"unquil/core/capture"
)

// ServerName is the server name of a ClientHello in a TLS record (RFC 8446 §5.1); ""
// when data is none or has none. Escape it before it is shown.
func ServerName(data []byte) string {
	if len(data) < 5 || data[0] != 22 || data[1] != 3 {
		return ""
	}
	return helloName(data[5:])
}

// helloName is the server name of a ClientHello (RFC 8446 §4.1.2, RFC 6066 §3), of
// which the end may be missing; "" when data is none or has none.
func helloName(data []byte) string {
	if len(data) < 38 || data[0] != 1 {
		return ""
	}
	b := reader{data[38:], false}
	b.take(b.number(1)) // session
	b.take(b.number(2)) // cipher suites
	b.take(b.number(1)) // compression
	b.number(2)
	for len(b.rest) > 0 {
		kind, value := b.number(2), reader{b.take(b.number(2)), false}
		if b.short {
			return ""
		}
		if kind == 0 {
			value.number(2)
			if value.number(1) != 0 {
				return ""
			}
			return string(value.take(value.number(2)))
		}
	}
	return ""
}

// reader takes numbers and bytes from the front; once they run short it gives none.
type reader struct {
	rest  []byte
	short bool
}

func (b *reader) take(n int) (taken []byte) {
	if n > len(b.rest) || b.short {
		b.rest, b.short = nil, true
		return nil
	}
	taken, b.rest = b.rest[:n:n], b.rest[n:]
	return taken
}

// number takes a number of that many bytes.
func (b *reader) number(size int) (n int) {
	for _, c := range b.take(size) {
		n = n<<8 | int(c)
	}
	return n
}

// length takes a number that says by itself how many bytes it has (RFC 9000 §16).
func (b *reader) length() int {
	if len(b.rest) == 0 {
		b.short = true
		return 0
	}
	size := 1 << (b.rest[0] >> 6)
	return b.number(size) & (1<<(8*size-2) - 1)
}

// quicVersion is what differs between the versions of QUIC: all of it is known to
// everybody, so that who sees a first packet can read it.
type quicVersion struct {
	initial                  byte // the type of the first packets
	salt                     []byte
	key, iv, headerKey, mine string // the labels that secrets are derived under
}

var quicVersions = map[uint32]quicVersion{
	1:          {0, unhex("38762cf7f55934b34d179ae6a4c80cadccbb7f0a"), "quic key", "quic iv", "quic hp", "client in"},       // RFC 9001 §5.2
	0x6b3343cf: {1, unhex("0dede3def700a6db819381be6e269dcbf9bd2ed9"), "quicv2 key", "quicv2 iv", "quicv2 hp", "client in"}, // RFC 9369 §3
}

func unhex(s string) []byte {
	b, _ := hex.DecodeString(s)
	return b
}

// Bounds on the handshakes that are not whole yet.
const (
	maxHellos = 256
	maxHello  = 16 << 10 // bytes
)

// QUIC puts together what the first packets of QUIC connections say: a ClientHello
// comes in several of them, in any order.
type QUIC struct {
	open  map[[2]capture.Endpoint]*partialHello
	order [][2]capture.Endpoint // the oldest first
}

type partialHello struct {
	id    []byte // the server's connection ID that the client made up, from which the keys come
	parts []helloPart
	size  int // of all parts
}

type helloPart struct {
	at   int
	data []byte
}

// ServerName takes a packet of a client, and returns the server name as soon as that is
// known; "" before, and when it is no such packet.
func (h *QUIC) ServerName(p *capture.Packet) string {
	data := p.Payload
	if len(data) < 7 || data[0]&0xc0 != 0xc0 || p.TCP {
		return ""
	}
	version, known := quicVersions[binary.BigEndian.Uint32(data[1:])]
	if !known || data[0]>>4&3 != version.initial {
		return ""
	}
	b := reader{data[5:], false}
	id := b.take(b.number(1))
	b.take(b.number(1)) // the client's own ID
	b.take(b.length())  // token
	size := b.length()
	header := len(data) - len(b.rest)
	if sealed := b.take(size); b.short || len(sealed) < 20 || len(id) == 0 {
		return ""
	}
	connection := [2]capture.Endpoint{p.From, p.To}
	hello := h.open[connection]
	if hello == nil {
		hello = &partialHello{id: slices.Clone(id)}
		h.add(connection, hello)
	}
	plain := version.open(hello.id, data[:header+size], header)
	if plain == nil && !bytes.Equal(hello.id, id) { // another connection from the same port
		*hello = partialHello{id: slices.Clone(id)}
		plain = version.open(id, data[:header+size], header)
	}
	hello.read(plain)
	name := helloName(hello.whole())
	if name != "" || hello.size > maxHello {
		h.forget(connection)
	}
	return name
}

func (h *QUIC) add(connection [2]capture.Endpoint, hello *partialHello) {
	if h.open == nil {
		h.open = map[[2]capture.Endpoint]*partialHello{}
	}
	if len(h.order) == maxHellos {
		h.forget(h.order[0])
	}
	h.open[connection], h.order = hello, append(h.order, connection)
}

func (h *QUIC) forget(connection [2]capture.Endpoint) {
	delete(h.open, connection)
	if i := slices.Index(h.order, connection); i >= 0 {
		h.order = slices.Delete(h.order, i, i+1)
	}
}

// open takes the protection off a client's first packet (RFC 9001 §5), of which the
// packet number begins at header. It returns the frames; nil when that fails.
func (v quicVersion) open(id, packet []byte, header int) []byte {
	secret, _ := hkdf.Extract(sha256.New, id, v.salt)
	secret = derive(secret, v.mine, sha256.Size)
	headerBlock, _ := aes.NewCipher(derive(secret, v.headerKey, 16))
	block, _ := aes.NewCipher(derive(secret, v.key, 16))
	sealer, _ := cipher.NewGCM(block)
	var mask [aes.BlockSize]byte
	headerBlock.Encrypt(mask[:], packet[header+4:header+4+len(mask)])
	head := slices.Clone(packet[:header+4])
	head[0] ^= mask[0] & 0x0f
	size := int(head[0]&3) + 1 // of the packet number
	nonce := derive(secret, v.iv, sealer.NonceSize())
	for i := range size {
		head[header+i] ^= mask[1+i]
		nonce[len(nonce)-size+i] ^= head[header+i]
	}
	plain, err := sealer.Open(nil, nonce, packet[header+size:], head[:header+size])
	if err != nil {
		return nil
	}
	return plain
}

// derive is HKDF-Expand-Label without a context (RFC 8446 §7.1).
func derive(secret []byte, label string, size int) []byte {
	info := append([]byte{byte(size >> 8), byte(size), byte(len("tls13 ") + len(label))}, "tls13 "+label...)
	key, _ := hkdf.Expand(sha256.New, secret, string(append(info, 0)), size)
	return key
}

// read takes the parts of the handshake out of a packet's frames (RFC 9000 §19).
func (h *partialHello) read(frames []byte) {
	b := reader{frames, false}
	for len(b.rest) > 0 && h.size <= maxHello {
		switch b.number(1) {
		case 0, 1: // padding, ping
		case 2: // acknowledgement
			b.length()
			b.length()
			ranges := b.length()
			b.length()
			for ; ranges > 0 && !b.short; ranges-- {
				b.length()
				b.length()
			}
		case 6: // handshake data
			at := b.length()
			if data := b.take(b.length()); len(data) > 0 {
				h.parts, h.size = append(h.parts, helloPart{at, data}), h.size+len(data)
			}
		default:
			return
		}
	}
}

// whole is the beginning of the handshake, as far as there is no gap.
func (h *partialHello) whole() (data []byte) {
	slices.SortStableFunc(h.parts, func(a, b helloPart) int { return cmp.Compare(a.at, b.at) })
	for _, p := range h.parts {
		if p.at > len(data) {
			break
		}
		if skip := len(data) - p.at; skip < len(p.data) {
			data = append(data, p.data[skip:]...)
		}
	}
	return data
}
