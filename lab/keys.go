package lab

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/asn1"
	"encoding/binary"
	"fmt"
	"math/big"
	"strings"

	"unquil/core/wire"
)

// KeyPlan is one key of a zone.
type KeyPlan struct {
	Name      string   // which with the zone's makes it
	Algorithm uint8    // 0: the zone's
	Entry     bool     // it is meant to be named from outside (SEP)
	Named     bool     // the zone above names it
	Signs     []string // "keys", "zone", or both
	Hidden    bool     // it is not among the zone's keys
	Revoked   bool
	Missing   []string // hosts that neither have it nor sign with it
	Short     bool     // of RSA, half as long as others
	Steps     [2]int64 // of its primes
}

// signingKey is a key with its secret.
type signingKey struct {
	KeyPlan
	record wire.Record
	tag    uint16
	sign   func(data []byte) []byte
	primes []*big.Int // of an RSA key
}

// newSigningKey makes a key of a zone.
func newSigningKey(zone wire.Name, plan KeyPlan) (*signingKey, error) {
	seed := sha256.Sum256([]byte(zone.String() + plan.Name))
	k := &signingKey{KeyPlan: plan}
	flags := uint16(256)
	if plan.Entry {
		flags |= 1
	}
	if plan.Revoked {
		flags |= 128
	}
	var public []byte
	switch plan.Algorithm {
	case 15:
		secret := ed25519.NewKeyFromSeed(seed[:])
		public = secret.Public().(ed25519.PublicKey)
		k.sign = func(data []byte) []byte { return ed25519.Sign(secret, data) }
	case 13:
		secret, err := ecdsa.ParseRawPrivateKey(elliptic.P256(), seed[:])
		if err != nil {
			return nil, err
		}
		point, err := secret.PublicKey.Bytes()
		if err != nil {
			return nil, err
		}
		public = point[1:]
		k.sign = func(data []byte) []byte {
			sum := sha256.Sum256(data)
			der, _ := secret.Sign(nil, sum[:], crypto.SHA256) // without chance, it is the same each time (RFC 6979)
			var pair struct{ R, S *big.Int }
			asn1.Unmarshal(der, &pair)
			out := make([]byte, 64)
			pair.R.FillBytes(out[:32])
			pair.S.FillBytes(out[32:])
			return out
		}
	case 5, 7, 8:
		secret := rsaSecret(seed[:], plan.Steps, plan.Short)
		k.primes = secret.Primes
		public = append([]byte{3, 1, 0, 1}, secret.N.Bytes()...)
		k.sign = func(data []byte) []byte {
			if plan.Algorithm != 8 {
				sum := sha1.Sum(data)
				return rsaSign(secret, sha1Name+string(sum[:]))
			}
			sum := sha256.Sum256(data)
			return rsaSign(secret, sha256Name+string(sum[:]))
		}
	default:
		return nil, fmt.Errorf("the lab does not sign with algorithm %d", plan.Algorithm)
	}
	data := append(binary.BigEndian.AppendUint16(nil, flags), 3, plan.Algorithm)
	data = append(data, public...)
	k.record = wire.Record{Name: zone, Type: wire.DNSKEY, Class: wire.IN, TTL: 3600, Data: string(data)}
	sum := uint32(0)
	for i, b := range data {
		sum += uint32(b) << (8 * (1 - i%2))
	}
	k.tag = uint16(sum + sum>>16)
	return k, nil
}

// rsaSecret is a small key whose primes come from a seed: what is quick to make is good enough here.
func rsaSecret(seed []byte, steps [2]int64, short bool) *rsa.PrivateKey {
	e, one := big.NewInt(65537), big.NewInt(1)
	prime := func(which byte) *big.Int {
		var data []byte
		for i := range byte(2) {
			part := sha256.Sum256(append(seed, which, i))
			data = append(data, part[:]...)
		}
		if short {
			data = data[:len(data)/2]
		}
		data[0], data[len(data)-1] = data[0]|0xc0, data[len(data)-1]|1
		p := new(big.Int).SetBytes(data)
		return p.Add(p, big.NewInt(steps[which]))
	}
	p, q := prime(0), prime(1)
	phi := new(big.Int).Mul(new(big.Int).Sub(p, one), new(big.Int).Sub(q, one))
	secret := &rsa.PrivateKey{PublicKey: rsa.PublicKey{N: new(big.Int).Mul(p, q), E: 65537}, D: new(big.Int).ModInverse(e, phi), Primes: []*big.Int{p, q}}
	secret.Precompute()
	return secret
}

// What stands before a hash in what is signed with RSA (RFC 8017 §9.2).
const (
	sha1Name   = "\x30\x21\x30\x09\x06\x05\x2b\x0e\x03\x02\x1a\x05\x00\x04\x14"
	sha256Name = "\x30\x31\x30\x0d\x06\x09\x60\x86\x48\x01\x65\x03\x04\x02\x01\x05\x00\x04\x20"
)

// rsaSign signs a hash with its name before it, with keys that may be too short for the library.
func rsaSign(secret *rsa.PrivateKey, named string) []byte {
	size := secret.Size()
	padded := "\x00\x01" + strings.Repeat("\xff", size-len(named)-3) + "\x00" + named
	m := new(big.Int).SetBytes([]byte(padded))
	p, q := secret.Primes[0], secret.Primes[1]
	one := big.NewInt(1)
	mp := new(big.Int).Exp(m, new(big.Int).Mod(secret.D, new(big.Int).Sub(p, one)), p)
	mq := new(big.Int).Exp(m, new(big.Int).Mod(secret.D, new(big.Int).Sub(q, one)), q)
	h := new(big.Int).Sub(mp, mq)
	h.Mod(h.Mul(h, new(big.Int).ModInverse(q, p)), p)
	return mq.Add(mq, h.Mul(h, q)).FillBytes(make([]byte, size))
}

// digest is the DS record that the zone above has (RFC 4509), or the CDS record that asks for it.
func (k *signingKey) digest(t wire.Type) wire.Record {
	zone := k.record.Name
	sum := sha256.Sum256([]byte(zone.Fold().Wire() + k.record.Data))
	data := append(binary.BigEndian.AppendUint16(nil, k.tag), k.Algorithm, 2)
	return wire.Record{Name: zone, Type: t, Class: wire.IN, TTL: 3600, Data: string(append(data, sum[:]...))}
}
