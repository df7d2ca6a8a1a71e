// Package tsig signs DNS messages with a shared secret, and checks such
// signatures (RFC 8945).
package tsig

import (
	"crypto/hmac"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"slices"
	"strings"
	"time"

	"unquil/core/wire"
)

// Why a message is not accepted, or a key cannot be used.
var (
	ErrUnsigned  = errors.New("the message is not signed")
	ErrKey       = errors.New("the message is signed with another key")
	ErrSignature = errors.New("the signature is wrong: another secret, or the message was changed")
	ErrTime      = errors.New("the signature's time is too far from this machine's clock")
	ErrKeyFile   = errors.New("not a key file")
	ErrAlgorithm = errors.New("not an algorithm for signing messages")
)

// fudge is how many seconds the clocks of both sides may differ (RFC 8945 §10).
const fudge = 300

// algorithms are those of RFC 8945 §6, but for the one that is no longer safe.
var algorithms = map[string]func() hash.Hash{
	"hmac-sha1": sha1.New, "hmac-sha224": sha256.New224, "hmac-sha256": sha256.New, "hmac-sha384": sha512.New384, "hmac-sha512": sha512.New,
}

// Key is a secret that two parties share.
type Key struct {
	Name      wire.Name
	Algorithm string // such as hmac-sha256
	Secret    []byte
}

// NewKey is a key from its parts as text: its name, its algorithm (hmac-sha256
// when that is "") and its secret in base64. The error wraps ErrKeyFile or ErrAlgorithm.
func NewKey(name, algorithm, secret string) (*Key, error) {
	if algorithm == "" {
		algorithm = "hmac-sha256"
	}
	k := &Key{Algorithm: strings.ToLower(strings.TrimSuffix(algorithm, "."))}
	if algorithms[k.Algorithm] == nil {
		return nil, fmt.Errorf("%q: %w", algorithm, ErrAlgorithm)
	}
	var err error
	if k.Name, err = wire.ParseName(name); err != nil || k.Name.IsRoot() {
		return nil, fmt.Errorf("%w: name %q", ErrKeyFile, name)
	}
	if k.Secret, err = base64.StdEncoding.DecodeString(secret); err != nil || len(k.Secret) == 0 {
		return nil, fmt.Errorf("%w: the secret is not base64", ErrKeyFile) // which is not shown
	}
	return k, nil
}

// Chain signs or checks the messages of one conversation in turn: each signature
// covers the one before (RFC 8945 §5.3.1). Make a new one for each question.
type Chain struct {
	Key      *Key
	previous []byte // the MAC before
	unsigned []byte // messages that came without a signature since
	skipped  int
	later    bool // past the first reply
}

// maxUnsigned is how many messages in a row may go without a signature (RFC 8945 §5.3.1).
const maxUnsigned = 99

// Sign returns the message with a signature appended.
func (c *Chain) Sign(msg []byte, now time.Time) []byte {
	stamp := uint64(now.Unix())
	mac := c.mac(msg, stamp, fudge, 0, nil)
	c.previous, c.later, c.unsigned = mac, c.previous != nil, nil
	signed := append(slices.Clone(msg), c.Key.Name.Fold().Wire()...)
	signed = binary.BigEndian.AppendUint16(signed, uint16(wire.TSIG))
	signed = binary.BigEndian.AppendUint16(signed, uint16(wire.ANY))
	signed = binary.BigEndian.AppendUint32(signed, 0)
	data := c.algorithm()
	data = appendTime(data, stamp)
	data = binary.BigEndian.AppendUint16(data, fudge)
	data = binary.BigEndian.AppendUint16(data, uint16(len(mac)))
	data = append(data, mac...)
	data = append(data, msg[0], msg[1], 0, 0, 0, 0)
	signed = binary.BigEndian.AppendUint16(signed, uint16(len(data)))
	signed = append(signed, data...)
	binary.BigEndian.PutUint16(signed[10:], binary.BigEndian.Uint16(signed[10:])+1)
	return signed
}

// Answer turns a chain that has checked a question to signing the replies.
func (c *Chain) Answer() { c.later = false }

// Skip leaves a reply without a signature; that of the next covers it.
func (c *Chain) Skip(msg []byte) { c.unsigned = append(c.unsigned, msg...) }

// Check reports why the message is not to be believed; nil when it is. A message
// without a signature between signed ones is taken until the next signed one
// covers it: [Chain.Settled] says whether all are covered. The error is ErrUnsigned, ErrKey,
// ErrSignature or ErrTime.
func (c *Chain) Check(msg []byte, now time.Time) error {
	s, err := split(msg)
	if err != nil {
		return err
	}
	if s == nil {
		if c.skipped++; !c.later || c.skipped > maxUnsigned {
			return ErrUnsigned
		}
		c.Skip(msg)
		return nil
	}
	if !s.name.Equal(c.Key.Name) || !strings.EqualFold(s.algorithm, string(c.algorithm())) {
		return ErrKey
	}
	if !hmac.Equal(s.mac, c.mac(s.message, s.time, s.fudge, s.code, s.other)) {
		if s.code != 0 {
			return fmt.Errorf("the server says %s of the key %s; %s: %w", codeText(s.code), c.Key.Name.Spoken(), codeAdvice[s.code], ErrSignature)
		}
		return ErrSignature
	}
	c.previous, c.later, c.unsigned, c.skipped = s.mac, true, nil, 0
	if s.code == 18 {
		return fmt.Errorf("the server says BADTIME of the key %s; %s: %w", c.Key.Name.Spoken(), codeAdvice[18], ErrTime)
	}
	if off := now.Unix() - int64(s.time); off > int64(s.fudge) || -off > int64(s.fudge) {
		return ErrTime
	}
	return nil
}

// Settled reports whether a signature covers every message so far.
func (c *Chain) Settled() bool { return c.skipped == 0 }

// Signed reports whether a message carries a signature at all.
func Signed(msg []byte) bool {
	s, err := split(msg)
	return err == nil && s != nil
}

func codeText(code uint16) string {
	return map[uint16]string{16: "BADSIG", 17: "BADKEY", 18: "BADTIME", 22: "BADTRUNC"}[code]
}

// codeAdvice is what to compare, by the error of a signature (RFC 8945 §5.2).
var codeAdvice = map[uint16]string{
	16: "compare the secret",
	17: "compare the name of the key, and its algorithm",
	18: "compare both clocks",
	22: "the server wants longer signatures",
}

func (c *Chain) algorithm() []byte {
	return []byte(wire.MustParseName(c.Key.Algorithm).Wire())
}

// mac covers what came before, the message, and what the signature says beside
// it (RFC 8945 §4.3.3): of a later message only the times.
func (c *Chain) mac(msg []byte, stamp uint64, fudge, code uint16, other []byte) []byte {
	h := hmac.New(algorithms[c.Key.Algorithm], c.Key.Secret)
	if c.previous != nil {
		h.Write(binary.BigEndian.AppendUint16(nil, uint16(len(c.previous))))
		h.Write(c.previous)
	}
	h.Write(c.unsigned)
	h.Write(msg)
	var variables []byte
	if !c.later {
		variables = append(variables, c.Key.Name.Fold().Wire()...)
		variables = append(variables, 0, 255, 0, 0, 0, 0)
		variables = append(variables, c.algorithm()...)
	}
	variables = binary.BigEndian.AppendUint16(appendTime(variables, stamp), fudge)
	if !c.later {
		variables = binary.BigEndian.AppendUint16(variables, code)
		variables = binary.BigEndian.AppendUint16(variables, uint16(len(other)))
		variables = append(variables, other...)
	}
	h.Write(variables)
	return h.Sum(nil)
}

func appendTime(b []byte, t uint64) []byte {
	return append(binary.BigEndian.AppendUint16(b, uint16(t>>32)), byte(t>>24), byte(t>>16), byte(t>>8), byte(t))
}

// signature is a TSIG record, and the message as it was before it was signed.
type signature struct {
	message   []byte
	name      wire.Name
	algorithm string // in wire form
	time      uint64
	fudge     uint16
	mac       []byte
	code      uint16
	other     []byte
}

// split takes the signature off a message; nil when there is none. It has to be
// the last record (RFC 8945 §5.1).
func split(msg []byte) (*signature, error) {
	v, err := wire.ReadView(msg)
	if err != nil {
		return nil, err
	}
	c := v.Records()
	for c.Next() {
	}
	if c.Err != nil {
		return nil, c.Err
	}
	start, at := c.Record.NameAt, c.Offset()
	if c.Record.Type != wire.TSIG {
		return nil, nil
	}
	s := &signature{message: slices.Clone(msg[:start])}
	binary.BigEndian.PutUint16(s.message[10:], v.Count(wire.AdditionalSection)-1)
	var off int
	if s.name, off, err = wire.ReadName(msg, start); err != nil {
		return nil, err
	}
	data := msg[off+10 : at]
	algorithm, n, err := wire.ReadName(data, 0)
	if err != nil || len(data) < n+10 {
		return nil, ErrSignature
	}
	s.algorithm = algorithm.Wire()
	s.time = uint64(binary.BigEndian.Uint16(data[n:]))<<32 | uint64(binary.BigEndian.Uint32(data[n+2:]))
	s.fudge = binary.BigEndian.Uint16(data[n+6:])
	size := int(binary.BigEndian.Uint16(data[n+8:]))
	if data = data[n+10:]; len(data) < size+6 {
		return nil, ErrSignature
	}
	s.mac, data = slices.Clone(data[:size]), data[size:] // msg may be overwritten by the next
	copy(s.message, data[:2])                            // the ID as it was signed
	s.code = binary.BigEndian.Uint16(data[2:])
	if s.other = data[6:]; len(s.other) != int(binary.BigEndian.Uint16(data[4:])) {
		return nil, ErrSignature
	}
	return s, nil
}
