package dnssec

import (
	"encoding/base32"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/wire"
	"unquil/core/zonefile"
)

func record(t testing.TB, text string) wire.Record {
	t.Helper()
	records, err := zonefile.Read(strings.NewReader(text+"\n"), zonefile.Options{Origin: wire.Root})
	require.NoError(t, err, text)
	require.Len(t, records, 1)
	return records[0]
}

// The examples of the standards: each key has its digest, and each signature is one by that key.
func TestVectors(t *testing.T) {
	for _, c := range []struct {
		what, key, ds, signed, signature, at string
	}{
		{"RFC 6605 §6.1, P-256", "example.net. 3600 IN DNSKEY 257 3 13 GojIhhXUN/u4v54ZQqGSnyhWJwaubCvTmeexv7bR6edbkrSqQpF64cYbcB7wNcP+e+MAnLr+Wi9xMWyQLc8NAA==",
			"example.net. 3600 IN DS 55648 13 2 b4c8c1fe2e7477127b27115656ad6256f424625bf5c1e2770ce6d6e37df61d17",
			"www.example.net. 3600 IN A 192.0.2.1", "www.example.net. 3600 IN RRSIG A 13 3 3600 20100909100439 20100812100439 55648 example.net. qx6wLYqmh+l9oCKTN6qIc+bw6ya+KJ8oMz0YP107epXAyGmt+3SNruPFKG7tZoLBLlUzGGus7ZwmwWep666VCw==", "2010-08-20"},
		{"RFC 6605 §6.2, P-384", "example.net. 3600 IN DNSKEY 257 3 14 xKYaNhWdGOfJ+nPrL8/arkwf2EY3MDJ+SErKivBVSum1w/egsXvSADtNJhyem5RCOpgQ6K8X1DRSEkrbYQ+OB+v8/uX45NBwY8rp65F6Glur8I/mlVNgF6W/qTI37m40",
			"example.net. 3600 IN DS 10771 14 4 72d7b62976ce06438e9c0bf319013cf801f09ecc84b8d7e9495f27e305c6a9b0563a9b5f4d288405c3008a946df983d6",
			"www.example.net. 3600 IN A 192.0.2.1", "www.example.net. 3600 IN RRSIG A 14 3 3600 20100909102025 20100812102025 10771 example.net. /L5hDKIvGDyI1fcARX3z65qrmPsVz73QD1Mr5CEqOiLP95hxQouuroGCeZOvzFaxsT8Glr74hbavRKayJNuydCuzWTSSPdz7wnqXL5bdcJzusdnI0RSMROxxwGipWcJm", "2010-08-20"},
		{"RFC 8080 §6.1, Ed25519", "example.com. 3600 IN DNSKEY 257 3 15 l02Woi0iS8Aa25FQkUd9RMzZHJpBoRQwAQEX1SxZJA4=",
			"example.com. 3600 IN DS 3613 15 2 3aa5ab37efce57f737fc1627013fee07bdf241bd10f3b1964ab55c78e79a304b",
			"example.com. 3600 IN MX 10 mail.example.com.", "example.com. 3600 IN RRSIG MX 15 2 3600 1440021600 1438207200 3613 example.com. oL9krJun7xfBOIWcGHi7mag5/hdZrKWw15jPGrHpjQeRAvTdszaPD+QLs3fx8A4M3e23mRZ9VrbpMngwcrqNAg==", "2015-08-10"},
		{"RFC 8080 §6.2, Ed448", "example.com. 3600 IN DNSKEY 257 3 16 3kgROaDjrh0H2iuixWBrc8g2EpBBLCdGzHmn+G2MpTPhpj/OiBVHHSfPodx1FYYUcJKm1MDpJtIA",
			"example.com. 3600 IN DS 9713 16 2 6ccf18d5bc5d7fc2fceb1d59d17321402f2aa8d368048db93dd811f5cb2b19c7", "", "", ""},
		{"RFC 4509 §2.3, a digest by SHA-256", "dskey.example.com. 86400 IN DNSKEY 256 3 5 AQOeiiR0GOMYkDshWoSKz9XzfwJr1AYtsmx3TGkJaNXVbfi/2pHm822aJ5iI9BMzNXxeYCmZDRD99WYwYqUSdjMmmAphXdvxegXd/M5+X7OrzKBaMbCVdFLUUh6DhweJBjEVv5f2wwjM9XzcnOf+EPbtG9DMBmADjFDc2w/rljwvFw==",
			"dskey.example.com. 86400 IN DS 60485 5 2 D4B7D520E7BB5F0F67674A0CCEB1E3E0614B93C4F9E99B8383F6A1E4469DA50A", "", "", ""},
		{"RFC 4034 §5.4, one by SHA-1", "dskey.example.com. 86400 IN DNSKEY 256 3 5 AQOeiiR0GOMYkDshWoSKz9XzfwJr1AYtsmx3TGkJaNXVbfi/2pHm822aJ5iI9BMzNXxeYCmZDRD99WYwYqUSdjMmmAphXdvxegXd/M5+X7OrzKBaMbCVdFLUUh6DhweJBjEVv5f2wwjM9XzcnOf+EPbtG9DMBmADjFDc2w/rljwvFw==",
			"dskey.example.com. 86400 IN DS 60485 5 1 2BB183AF5F22588179A53B0A98631FAD1A292118", "", "", ""},
		{"RFC 4035 appendix B, RSA with SHA-1", "example. 3600 IN DNSKEY 256 3 5 AQOy1bZVvpPqhg4j7EJoM9rI3ZmyEx2OzDBVrZy/lvI5CQePxXHZS4i8dANH4DX3tbHol61ek8EFMcsGXxKciJFHyhl94C+NwILQdzsUlSFovBZsyl/NX6yEbtw/xN9ZNcrbYvgjjZ/UVPZIySFNsgEYvh0z2542lzMKR4Dh8uZffQ==",
			"", "x.w.example. 3600 IN MX 1 xx.example.", "x.w.example. 3600 IN RRSIG MX 5 3 3600 20040509183619 20040409183619 38519 example. Il2WTZ+Bkv+OytBx4LItNW5mjB4RCwhOO8y1XzPHZmZUTVYL7LaA63f6T9ysVBzJRI3KRjAPH3U1qaYnDoN1DrWqmi9RJe4FoObkbcdm7P3Ikx70ePCoFgRz1Yq+bVVXCvGuAU4xALv3W/Y1jNSlwZ2mSWKHfxFQxPtLj8s32+k=", "2004-04-20"},
	} {
		t.Run(c.what, func(t *testing.T) {
			key, err := ReadKey(record(t, c.key))
			require.NoError(t, err)
			if c.ds != "" {
				digest, err := ReadDigest(record(t, c.ds))
				require.NoError(t, err)
				assert.Equal(t, digest.Tag, key.Tag)
				assert.True(t, digest.Matches(&key))
				digest.Hash[0] ^= 1
				assert.False(t, digest.Matches(&key))
			}
			if c.signed == "" {
				return
			}
			now, err := time.Parse(time.DateOnly, c.at)
			require.NoError(t, err)
			sets := Sets([]wire.Record{record(t, c.signed), record(t, c.signature)})
			require.Len(t, sets, 1)
			check := func(now time.Time) verified {
				return (&checks{left: 10}).verify(sets[0], key.Owner, []*Key{&key}, now)
			}
			v := check(now)
			require.NotNil(t, v.by, "%+v", v.broken)
			assert.Equal(t, SignatureExpired, check(now.AddDate(1, 0, 0)).broken.Flaw)
			assert.Equal(t, SignatureNotYet, check(now.AddDate(-1, 0, 0)).broken.Flaw)
			sets[0].Signatures[0].Data[5] ^= 1
			assert.Equal(t, SignatureWrong, check(now).broken.Flaw)
			assert.Equal(t, SignatureWrong, check(now.AddDate(1, 0, 0)).broken.Flaw, "that it ran out is not what is wrong with it")
		})
	}
}

// The names of RFC 5155 appendix A have the hashes that stand there.
func TestHashes(t *testing.T) {
	way := hashing{1, 12, "\xaa\xbb\xcc\xdd"}
	for name, want := range map[string]string{
		"example.": "0p9mhaveqvm6t7vbl5lop2u3t2rp3tom", "a.example.": "35mthgpgcu1qg68fab165klnsnk3dpvl", "ai.example.": "gjeqe526plbf1g8mklp59enfd789njgi",
		"ns1.example.": "2t7b4g4vsa5smi47k61mv5bv1a22bojr", "ns2.example.": "q04jkcevqvmu85r014c7dkba38o0ji5r", "w.example.": "k8udemvp1j2f7eg6jebps17vp3n8i58h",
		"*.w.example.": "r53bq7cc2uvmubfu5ocmm6pers9tk9en", "x.w.example.": "b4um86eghhds6nea196smvmlo4ors995", "y.w.example.": "ji6neoaepv8b5o6k4ev33abha8ht9fgc",
		"X.y.W.example.": "2vptu5timamqttgl4luu9kg21e0aor3s", "xx.example.": "t644ebqk9bibcna874givr6joj62mlhv",
	} {
		assert.Equal(t, want, strings.ToLower(base32.HexEncoding.EncodeToString([]byte(way.hash(wire.MustParseName(name))))), name)
	}
}

// Keys that no zone has are turned down before anything is computed with them.
func TestOddKeys(t *testing.T) {
	rsa := func(exponent, modulus string) []byte { return []byte(string(rune(len(exponent))) + exponent + modulus) }
	good := "\x81" + strings.Repeat("\x55", 126) + "\x57"
	for _, c := range []struct {
		what      string
		algorithm Algorithm
		public    []byte
		ok        bool
	}{
		{"an ordinary one", 8, rsa("\x01\x00\x01", good), true},
		{"with a long way to say its exponent's size", 8, append([]byte{0, 0, 3, 1, 0, 1}, good...), true},
		{"nothing", 8, nil, false},
		{"an exponent of 0", 8, rsa("\x00", good), false},
		{"of 1", 8, rsa("\x01", good), false},
		{"an even one", 8, rsa("\x04", good), false},
		{"one of a thousand bytes", 8, append([]byte{0, 3, 0xe8}, make([]byte, 2000)...), false},
		{"one that is longer than the key", 8, []byte{200, 1, 2, 3}, false},
		{"a modulus of 512 bits", 8, rsa("\x03", good[:63]+"\x57"), true},
		{"the same, for SHA-512", 10, rsa("\x03", good[:63]+"\x57"), false},
		{"a modulus of 256 bits", 8, rsa("\x03", good[:31]+"\x57"), false},
		{"of 8192", 8, rsa("\x03", strings.Repeat(good, 8)), false},
		{"an even modulus", 8, rsa("\x03", good[:127]+"\x56"), false},
		{"a point that is not on the curve", 13, make([]byte, 64), false},
		{"half a point", 13, make([]byte, 32), false},
		{"the wrong size", 15, make([]byte, 31), false},
		{"the wrong size too", 16, make([]byte, 32), false},
		{"the right one", 15, make([]byte, 32), true},
	} {
		_, err := algorithms[c.algorithm].key(c.public)
		assert.Equal(t, c.ok, err == nil, "%s: %v", c.what, err)
	}
	for _, r := range []wire.Record{{Type: wire.DNSKEY, Data: "abc"}, {Type: wire.DS, Data: "abcd"}, {Type: wire.RRSIG, Data: strings.Repeat("x", 17)}, {Type: wire.RRSIG, Data: strings.Repeat("x", 18) + "\x3fshort"}, {Type: wire.RRSIG, Data: strings.Repeat("x", 18) + "\x00"}} {
		_, keyErr := ReadKey(r)
		_, digestErr := ReadDigest(r)
		_, signatureErr := ReadSignature(r)
		assert.Error(t, keyErr)
		assert.Error(t, digestErr)
		assert.Error(t, signatureErr)
	}
	assert.False(t, Algorithm(1).Supported())
	assert.Equal(t, "algorithm 253", Algorithm(253).String())
	assert.NotEmpty(t, Algorithm(5).Weak())
	assert.Empty(t, Algorithm(13).Weak())
}

// The 32 bits of a signature's times mean the moment nearest to when it is looked at.
func TestTimesWrap(t *testing.T) {
	at := func(text string) time.Time { d, _ := time.Parse(time.DateOnly, text); return d }
	s := Signature{begins: 10, ends: 4294967290}
	assert.Equal(t, 2106, s.Begins(at("2106-02-01")).Year(), "ten seconds after the bits ran over")
	assert.Equal(t, 2106, s.Ends(at("2106-02-20")).Year())
	assert.Equal(t, 1970, s.Begins(at("1971-01-01")).Year())
	assert.Equal(t, 1969, s.Ends(at("1971-01-01")).Year())
}
