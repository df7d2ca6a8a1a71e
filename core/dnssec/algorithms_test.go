package dnssec

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"math/big"
	"testing"

	"github.com/cloudflare/circl/sign/ed448"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// signed is a key in its form in a DNSKEY record, and a signature by it.
type signed struct {
	algorithm         Algorithm
	public, signature []byte
}

var signedText = []byte("the piste is open")

// signEach signs a text in each way that is supported.
func signEach(t testing.TB) (all []signed) {
	t.Helper()
	digest := func(hash crypto.Hash) []byte {
		h := hash.New()
		h.Write(signedText)
		return h.Sum(nil)
	}
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	public := append([]byte{3, 1, 0, 1}, key.N.Bytes()...) // RFC 3110 §2, of the exponent 65537
	for _, a := range []struct {
		algorithm Algorithm
		hash      crypto.Hash
	}{{5, crypto.SHA1}, {7, crypto.SHA1}, {8, crypto.SHA256}, {10, crypto.SHA512}} {
		signature, err := rsa.SignPKCS1v15(rand.Reader, key, a.hash, digest(a.hash))
		require.NoError(t, err)
		all = append(all, signed{a.algorithm, public, signature})
	}
	for _, a := range []struct {
		algorithm Algorithm
		curve     elliptic.Curve
		hash      crypto.Hash
	}{{13, elliptic.P256(), crypto.SHA256}, {14, elliptic.P384(), crypto.SHA384}} {
		key, err := ecdsa.GenerateKey(a.curve, rand.Reader)
		require.NoError(t, err)
		r, s, err := ecdsa.Sign(rand.Reader, key, digest(a.hash))
		require.NoError(t, err)
		size := a.curve.Params().BitSize / 8
		halves := func(a, b *big.Int) []byte {
			return append(a.FillBytes(make([]byte, size)), b.FillBytes(make([]byte, size))...)
		}
		point, err := key.PublicKey.Bytes()
		require.NoError(t, err)
		all = append(all, signed{a.algorithm, point[1:], halves(r, s)})
	}
	public25519, private25519, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	public448, private448, err := ed448.GenerateKey(rand.Reader)
	require.NoError(t, err)
	return append(all, signed{15, public25519, ed25519.Sign(private25519, signedText)}, signed{16, public448, ed448.Sign(private448, signedText, "")})
}

// A signature of each algorithm fits the text that it is over and no other, and what is none is turned
// down whatever it holds.
func TestAlgorithms(t *testing.T) {
	for _, s := range signEach(t) {
		require.True(t, s.algorithm.Supported())
		verify, err := algorithms[s.algorithm].key(s.public)
		require.NoError(t, err, s.algorithm)
		assert.True(t, verify(signedText, s.signature), s.algorithm)
		assert.False(t, verify([]byte("the piste is shut"), s.signature), s.algorithm)
		assert.False(t, verify(signedText, make([]byte, len(s.signature))), "%v: of zeroes", s.algorithm)
		assert.False(t, verify(signedText, s.signature[1:]), "%v: cut", s.algorithm)
		assert.False(t, verify(signedText, append([]byte{0}, s.signature...)), "%v: longer", s.algorithm)
		assert.False(t, verify(signedText, nil), s.algorithm)
	}
}

// What checking one signature costs, by its algorithm; keys of RSA have 2048 bits.
func BenchmarkAlgorithms(b *testing.B) {
	for _, s := range signEach(b) {
		b.Run(s.algorithm.String(), func(b *testing.B) {
			for b.Loop() {
				verify, err := algorithms[s.algorithm].key(s.public)
				if err != nil || !verify(signedText, s.signature) {
					b.Fatal("it does not fit")
				}
			}
		})
	}
}
