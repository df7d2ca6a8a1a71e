package dnssec

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"fmt"
	"math/big"
	"strings"

	"github.com/cloudflare/circl/sign/ed448"

	"unquil/core/wire"
)

// Algorithm is how a zone is signed, as IANA numbers it.
type Algorithm uint8

// verifier reports whether a signature is one over data.
type verifier func(data, signature []byte) bool

// algorithms are those that signatures are checked with (RFC 8624 §3.1 and its successor, RFC 9905).
// Those that are not among them count as if there were none (RFC 4035 §5.2).
var algorithms = map[Algorithm]struct {
	name string
	weak string // why it is no longer good enough; "" where it is
	key  func(public []byte) (verifier, error)
}{
	5:  {"RSA with SHA-1", sha1Weak, rsaKey(crypto.SHA1, minModulus)},
	7:  {"RSA with SHA-1", sha1Weak, rsaKey(crypto.SHA1, minModulus)},
	8:  {"RSA with SHA-256", "", rsaKey(crypto.SHA256, minModulus)},
	10: {"RSA with SHA-512", "", rsaKey(crypto.SHA512, libraryModulus)},
	13: {"ECDSA with P-256", "", ecdsaKey(elliptic.P256(), crypto.SHA256)},
	14: {"ECDSA with P-384", "", ecdsaKey(elliptic.P384(), crypto.SHA384)},
	15: {"Ed25519", "", ed25519Key},
	16: {"Ed448", "", ed448Key},
}

const sha1Weak = "it rests on SHA-1, and validators are dropping it (RFC 9905)"

// Supported reports whether signatures of the algorithm are checked.
func (a Algorithm) Supported() bool { return algorithms[a].key != nil }

// Weak is why the algorithm is no longer good enough; "" where it is, or is not known.
func (a Algorithm) Weak() string { return algorithms[a].weak }

func (a Algorithm) String() string {
	if known := algorithms[a]; known.name != "" {
		return known.name
	}
	return fmt.Sprintf("algorithm %d", uint8(a))
}

// Bounds on keys: RFC 3110 §2 lets exponents be as long as moduli, which only costs whoever checks.
const (
	maxModulus     = 4096 // bits (RFC 8624 §3.1)
	minModulus     = 512  // bits (RFC 3110 §2, RFC 5702 §2.1)
	libraryModulus = 1024 // bits: what the library takes, and the least for SHA-512 (RFC 5702 §2.2)
	maxExponent    = 4    // bytes
)

// readRSA takes a key of RFC 3110 §2 apart.
func readRSA(public []byte) (n, e *big.Int, err error) {
	if len(public) < 3 {
		return nil, nil, ErrKey
	}
	size, rest := int(public[0]), public[1:]
	if size == 0 {
		size, rest = int(public[1])<<8|int(public[2]), public[3:]
	}
	if size == 0 || size > maxExponent || len(rest) <= size {
		return nil, nil, ErrKey
	}
	return new(big.Int).SetBytes(rest[size:]), new(big.Int).SetBytes(rest[:size]), nil
}

// rsaKey reads a key of RFC 3110 §2, of at least some bits.
func rsaKey(hash crypto.Hash, least int) func([]byte) (verifier, error) {
	return func(public []byte) (verifier, error) {
		n, e, err := readRSA(public)
		if err != nil || n.BitLen() < least || n.BitLen() > maxModulus || n.Bit(0) == 0 || e.Bit(0) == 0 || e.Int64() < 3 || e.Int64() > 1<<31-1 {
			return nil, ErrKey
		}
		return func(data, signature []byte) bool {
			h := hash.New()
			h.Write(data)
			if n.BitLen() < libraryModulus {
				return shortRSA(n, e, hash, h.Sum(nil), signature)
			}
			return rsa.VerifyPKCS1v15(&rsa.PublicKey{N: n, E: int(e.Int64())}, hash, h.Sum(nil), signature) == nil
		}, nil
	}
}

// hashNames are what comes before a hash in what is signed (RFC 8017 §9.2).
var hashNames = map[crypto.Hash]string{
	crypto.SHA1:   "\x30\x21\x30\x09\x06\x05\x2b\x0e\x03\x02\x1a\x05\x00\x04\x14",
	crypto.SHA256: "\x30\x31\x30\x0d\x06\x09\x60\x86\x48\x01\x65\x03\x04\x02\x01\x05\x00\x04\x20",
}

// shortRSA checks a signature by a key that is too short for the library: resolvers still take those
// (RFC 8017 §8.2.2).
func shortRSA(n, e *big.Int, hash crypto.Hash, sum, signature []byte) bool {
	size := (n.BitLen() + 7) / 8
	s := new(big.Int).SetBytes(signature)
	named := hashNames[hash] + string(sum)
	if len(signature) != size || s.Cmp(n) >= 0 || hashNames[hash] == "" || size < len(named)+11 {
		return false
	}
	want := "\x00\x01" + strings.Repeat("\xff", size-len(named)-3) + "\x00" + named
	return string(s.Exp(s, e, n).FillBytes(make([]byte, size))) == want
}

// ecdsaKey reads a key of RFC 6605 §4: the two halves of a point.
func ecdsaKey(curve elliptic.Curve, hash crypto.Hash) func([]byte) (verifier, error) {
	size := (curve.Params().BitSize + 7) / 8
	return func(public []byte) (verifier, error) {
		if len(public) != 2*size {
			return nil, ErrKey
		}
		key, err := ecdsa.ParseUncompressedPublicKey(curve, append([]byte{4}, public...))
		if err != nil {
			return nil, ErrKey // the point is not on the curve
		}
		return func(data, signature []byte) bool {
			if len(signature) != 2*size {
				return false
			}
			h := hash.New()
			h.Write(data)
			return ecdsa.Verify(key, h.Sum(nil), new(big.Int).SetBytes(signature[:size]), new(big.Int).SetBytes(signature[size:]))
		}, nil
	}
}

// ed25519Key reads a key of RFC 8080 §3.
func ed25519Key(public []byte) (verifier, error) {
	if len(public) != ed25519.PublicKeySize {
		return nil, ErrKey
	}
	return func(data, signature []byte) bool {
		return len(signature) == ed25519.SignatureSize && ed25519.Verify(public, data, signature)
	}, nil
}

// ed448Key reads the other key of RFC 8080 §3.
func ed448Key(public []byte) (verifier, error) {
	if len(public) != ed448.PublicKeySize {
		return nil, ErrKey
	}
	return func(data, signature []byte) bool {
		return len(signature) == ed448.SignatureSize && ed448.Verify(public, data, signature, "")
	}, nil
}

// digestOf is the digest of a key in some way (RFC 4034 §5.1.4, RFC 4509, RFC 6605 §2); nil where
// the way is not known.
func digestOf(kind uint8, k *Key) []byte {
	data := []byte(k.Owner.Fold().Wire() + k.data)
	switch kind {
	case 1:
		sum := sha1.Sum(data)
		return sum[:]
	case 2:
		sum := sha256.Sum256(data)
		return sum[:]
	case 4:
		sum := sha512.Sum384(data)
		return sum[:]
	}
	return nil
}

// Supported reports whether the digest, and the algorithm of its key, are among those that count.
func (d *Digest) Supported() bool {
	return d.Algorithm.Supported() && (d.Type == 1 || d.Type == 2 || d.Type == 4)
}

// signedData is what a signature over a set is made of (RFC 4034 §3.1.8.1); ok is false where it
// cannot be one over it. Each record has the TTL that it had when it was signed.
func signedData(set *Set, s *Signature) (data []byte, ok bool) {
	owner, ok := signedOwner(set.Owner, s.Labels)
	if !ok {
		return nil, false
	}
	data = append(append(data, s.fixed...), s.Signer.Fold().Wire()...)
	records := make([]wire.Record, len(set.Records))
	for i, r := range set.Records {
		r.Name = owner
		records[i] = r.Canonical()
	}
	for _, r := range wire.SortCanonical(records) {
		data = append(data, r.Name.Wire()...)
		data = append(data, byte(r.Type>>8), byte(r.Type), byte(r.Class>>8), byte(r.Class), byte(s.TTL>>24), byte(s.TTL>>16), byte(s.TTL>>8), byte(s.TTL), byte(len(r.Data)>>8), byte(len(r.Data)))
		data = append(data, r.Data...)
	}
	return data, true
}

// signedOwner is the name that was signed: the owner, or the wildcard that gave it.
func signedOwner(owner wire.Name, labels int) (wire.Name, bool) {
	has := owner.Labels()
	if has > 0 && owner.Label(0) == "*" {
		has--
	}
	switch {
	case labels == has:
		return owner.Fold(), true
	case labels > has:
		return owner, false // nothing has more labels than it has
	}
	wildcard, err := owner.Ancestor(labels).Child("*")
	return wildcard.Fold(), err == nil
}
