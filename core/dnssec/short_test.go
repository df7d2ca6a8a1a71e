package dnssec

import (
	"crypto"
	"crypto/sha1"
	"crypto/sha256"
	"math/big"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestShortRSA: keys that the library refuses are checked all the same, by the letter of RFC 8017.
func TestShortRSA(t *testing.T) {
	p, _ := new(big.Int).SetString("f1d6f0b6ab5a1d3f2c9e8c5b4a392817161514131211100f0e0d0c0b0a090811", 16)
	q, _ := new(big.Int).SetString("e3c2b1a0918273645546372819fafbfcfdfeff00112233445566778899aabb03", 16)
	for one := big.NewInt(2); !p.ProbablyPrime(20); {
		p.Add(p, one)
	}
	for one := big.NewInt(2); !q.ProbablyPrime(20); {
		q.Add(q, one)
	}
	n, e, one := new(big.Int).Mul(p, q), big.NewInt(65537), big.NewInt(1)
	d := new(big.Int).ModInverse(e, new(big.Int).Mul(new(big.Int).Sub(p, one), new(big.Int).Sub(q, one)))
	require.NotNil(t, d)
	require.Equal(t, 512, n.BitLen())
	public := append([]byte{3, 1, 0, 1}, n.Bytes()...)
	data := []byte("what is signed")
	sign := func(named string, before string) []byte {
		padded := before
		for len(padded)+1+len(named) < 64 {
			padded += "\xff"
		}
		return new(big.Int).Exp(new(big.Int).SetBytes([]byte(padded+"\x00"+named)), d, n).FillBytes(make([]byte, 64))
	}
	long, short := sha256.Sum256(data), sha1.Sum(data)
	for _, c := range []struct {
		what      string
		algorithm Algorithm
		signature []byte
		ok        bool
	}{
		{"SHA-256", 8, sign(hashNames[crypto.SHA256]+string(long[:]), "\x00\x01"), true},
		{"SHA-1", 7, sign(hashNames[crypto.SHA1]+string(short[:]), "\x00\x01"), true},
		{"by another algorithm", 8, sign(hashNames[crypto.SHA1]+string(short[:]), "\x00\x01"), false},
		{"of another padding", 8, sign(hashNames[crypto.SHA256]+string(long[:]), "\x00\x02"), false},
		{"of something else", 8, sign(hashNames[crypto.SHA256]+string(long[1:])+"x", "\x00\x01"), false},
		{"without the name of the hash", 8, sign(string(long[:]), "\x00\x01"), false},
		{"too short", 8, make([]byte, 63), false},
		{"as large as the modulus", 8, n.FillBytes(make([]byte, 64)), false},
		{"of zero", 8, make([]byte, 64), false},
	} {
		check, err := algorithms[c.algorithm].key(public)
		require.NoError(t, err)
		assert.Equal(t, c.ok, check(data, c.signature), c.what)
		assert.False(t, c.ok && check([]byte("something else"), c.signature), c.what)
	}
	k := Key{Algorithm: 8, Public: public}
	assert.Equal(t, 512, k.Bits())
	k.Algorithm = 13
	assert.Zero(t, k.Bits(), "no RSA key")
	k = Key{Algorithm: 8, Public: []byte{1}}
	assert.Zero(t, k.Bits(), "no key at all")
}
