// Package dnssec says whether records are what their zone's holder signed: it follows the chain
// of trust from an anchor down (RFC 4033, 4034 and 4035, with RFC 6840), and says at which link
// and since when it is broken.
//
// It asks nobody and reads no clock: whoever uses it hands it messages, and the time to judge as
// of. What it computes for one answer is bounded, whatever the messages hold.
package dnssec

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"time"

	"unquil/core/wire"
)

// Why a record of DNSSEC cannot be used.
var (
	ErrRecord      = errors.New("its data is too short, or contradicts itself")
	ErrKey         = errors.New("the key is none that can be")
	ErrUnsupported = errors.New("the algorithm is not supported")
)

// Flags of a key (RFC 4034 §2.1.1, RFC 5011 §7).
const (
	zoneKey    = 0x0100
	entryPoint = 0x0001
	revoked    = 0x0080
)

// Key is a DNSKEY record.
type Key struct {
	Owner     wire.Name
	Flags     uint16
	Protocol  uint8
	Algorithm Algorithm
	Public    []byte
	Tag       uint16
	data      string // the RDATA
}

// ReadKey takes a DNSKEY record apart. The error is ErrRecord.
func ReadKey(r wire.Record) (k Key, err error) {
	if r.Type != wire.DNSKEY && r.Type != wire.CDNSKEY || len(r.Data) < 4 {
		return k, fmt.Errorf("DNSKEY: %w", ErrRecord)
	}
	b := []byte(r.Data)
	return Key{r.Name, binary.BigEndian.Uint16(b), b[2], Algorithm(b[3]), b[4:], keyTag(b), r.Data}, nil
}

// keyTag is the number by which signatures name a key (RFC 4034 appendix B). Two keys may share it.
func keyTag(data []byte) uint16 {
	sum := uint32(0)
	for i, b := range data {
		if i%2 == 0 {
			sum += uint32(b) << 8
		} else {
			sum += uint32(b)
		}
	}
	return uint16(sum + sum>>16)
}

// Signs reports whether the key may sign records of its zone.
func (k *Key) Signs() bool { return k.Flags&zoneKey != 0 && k.Flags&revoked == 0 && k.Protocol == 3 }

// Revoked reports whether the key says of itself that it is not to be trusted any more (RFC 5011 §2.1).
func (k *Key) Revoked() bool { return k.Flags&revoked != 0 }

// Bits is how long an RSA key is; 0 of others, and of what is no key.
func (k *Key) Bits() int {
	if k.Algorithm != 5 && k.Algorithm != 7 && k.Algorithm != 8 && k.Algorithm != 10 {
		return 0
	}
	n, _, err := readRSA(k.Public)
	if err != nil {
		return 0
	}
	return n.BitLen()
}

// EntryPoint reports whether the key is meant to be named from outside the zone.
func (k *Key) EntryPoint() bool { return k.Flags&entryPoint != 0 }

// Digest is a DS record: it names a key of the zone that it is about.
type Digest struct {
	Owner     wire.Name
	Tag       uint16
	Algorithm Algorithm
	Type      uint8
	Hash      []byte
}

// ReadDigest takes a DS record apart. The error is ErrRecord.
func ReadDigest(r wire.Record) (d Digest, err error) {
	if r.Type != wire.DS && r.Type != wire.CDS || len(r.Data) < 5 {
		return d, fmt.Errorf("DS: %w", ErrRecord)
	}
	b := []byte(r.Data)
	return Digest{r.Name, binary.BigEndian.Uint16(b), Algorithm(b[2]), b[3], b[4:]}, nil
}

// Matches reports whether it is a digest of a key (RFC 4034 §5.1.4).
func (d *Digest) Matches(k *Key) bool {
	if d.Tag != k.Tag || d.Algorithm != k.Algorithm || !d.Owner.Equal(k.Owner) {
		return false
	}
	sum := digestOf(d.Type, k)
	return sum != nil && slices.Equal(sum, d.Hash)
}

// Signature is an RRSIG record.
type Signature struct {
	Owner     wire.Name
	Covered   wire.Type
	Algorithm Algorithm
	Labels    int
	TTL       uint32 // that the records had when they were signed, in seconds
	ends      uint32
	begins    uint32
	Tag       uint16
	Signer    wire.Name // the zone
	Data      []byte
	fixed     []byte // the RDATA up to the signer
}

// ReadSignature takes an RRSIG record apart. The error is ErrRecord.
func ReadSignature(r wire.Record) (s Signature, err error) {
	const fixed = 18
	if r.Type != wire.RRSIG || len(r.Data) < fixed {
		return s, fmt.Errorf("RRSIG: %w", ErrRecord)
	}
	b := []byte(r.Data)
	signer, rest, ok := cutName(r.Data[fixed:])
	if !ok || len(rest) == 0 {
		return s, fmt.Errorf("RRSIG: %w", ErrRecord)
	}
	order := binary.BigEndian
	return Signature{r.Name, wire.Type(order.Uint16(b)), Algorithm(b[2]), int(b[3]), order.Uint32(b[4:]), order.Uint32(b[8:]), order.Uint32(b[12:]), order.Uint16(b[16:]), signer, []byte(rest), b[:fixed]}, nil
}

// cutName takes the name with which RDATA begins off it; ok is false where it begins with none.
func cutName(data string) (name wire.Name, rest string, ok bool) {
	at := 0
	for at < len(data) && data[at] != 0 {
		if data[at] > 63 {
			return name, "", false
		}
		at += 1 + int(data[at])
	}
	if at >= len(data) {
		return name, "", false
	}
	name, err := wire.NameFromWire(data[:at+1])
	return name, data[at+1:], err == nil
}

// Begins and Ends are between when the signature is valid. Their 32 bits count seconds since 1970,
// and wrap: what they say is the moment nearest to when it is looked at (RFC 4034 §3.1.5, RFC 1982).
func (s *Signature) Begins(now time.Time) time.Time { return near(s.begins, now) }

// Ends is as Begins.
func (s *Signature) Ends(now time.Time) time.Time { return near(s.ends, now) }

func near(stamp uint32, now time.Time) time.Time {
	return time.Unix(now.Unix()+int64(int32(stamp-uint32(now.Unix()))), 0).UTC()
}

// Set is the records of one name and type, with the signatures over them.
type Set struct {
	Owner      wire.Name
	Type       wire.Type
	Class      wire.Class
	Records    []wire.Record
	Signatures []Signature
	Unreadable int // signatures of which nothing can be made
}

// Sets are the sets of some records, in the order in which their first records stand. Signatures
// over what is not there are left out.
func Sets(records []wire.Record) (all []*Set) {
	find := func(owner wire.Name, t wire.Type, c wire.Class) *Set {
		for _, s := range all {
			if s.Type == t && s.Class == c && s.Owner.Equal(owner) {
				return s
			}
		}
		return nil
	}
	for _, r := range records {
		if r.Type == wire.RRSIG || r.Type == wire.OPT || len(all) >= maxSets {
			continue
		}
		s := find(r.Name, r.Type, r.Class)
		if s == nil {
			s = &Set{Owner: r.Name, Type: r.Type, Class: r.Class}
			all = append(all, s)
		}
		s.Records = append(s.Records, r)
	}
	for _, r := range records {
		if r.Type != wire.RRSIG || len(r.Data) < 2 {
			continue
		}
		if s := find(r.Name, wire.Type(binary.BigEndian.Uint16([]byte(r.Data))), r.Class); s != nil {
			if signature, err := ReadSignature(r); err == nil {
				s.Signatures = append(s.Signatures, signature)
			} else {
				s.Unreadable++
			}
		}
	}
	return all
}

// maxSets is how many sets of one message are looked at.
const maxSets = 200
