package tsig

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/wire"
)

var noon = time.Date(2026, 3, 9, 12, 0, 0, 0, time.UTC)

func key(t testing.TB, name, algorithm, secret string) *Key {
	k, err := NewKey(name, algorithm, secret)
	require.NoError(t, err)
	return k
}

func message(t testing.TB, id uint16, values ...string) []byte {
	m := wire.Message{ID: id, Questions: []wire.Question{{Name: wire.MustParseName("tarn.example"), Type: wire.AXFR, Class: wire.IN}}}
	for _, v := range values {
		data, err := wire.ParseRecordData(wire.A, wire.IN, v)
		require.NoError(t, err)
		m.Answer = append(m.Answer, wire.Record{Name: wire.MustParseName("a.tarn.example"), Type: wire.A, Class: wire.IN, TTL: 60, Data: data})
	}
	out, err := m.Bytes()
	require.NoError(t, err)
	return out
}

// A question is signed, checked by the server, and answered by several messages
// of which some go unsigned; what anybody changes on the way is noticed.
func TestConversation(t *testing.T) {
	const secret = "aG9sbG93IHRhcm4gaG9sbG93IHRhcm4="
	mine := key(t, "summit.key", "", secret)
	for _, tt := range []struct {
		name   string
		theirs *Key
		change func(replies [][]byte)
		now    time.Time
		fails  error
	}{
		{"all is well", key(t, "SUMMIT.key", "HMAC-SHA256.", secret), nil, noon, nil},
		{"all algorithms", key(t, "summit.key", "hmac-sha512", secret), nil, noon, ErrKey},
		{"another name", key(t, "valley.key", "", secret), nil, noon, ErrKey},
		{"another secret", key(t, "summit.key", "", "dGFybg=="), nil, noon, ErrSignature},
		{"an address changed in the first reply", mine, func(r [][]byte) { r[0][bytes.Index(r[0], []byte{192, 0, 2, 1})+3]++ }, noon, ErrSignature},
		{"an address changed where no signature is", mine, func(r [][]byte) { r[1][len(r[1])-1]++ }, noon, ErrSignature},
		{"a message taken out", mine, func(r [][]byte) { r[1] = nil }, noon, ErrSignature},
		{"the first without a signature", mine, func(r [][]byte) { r[0] = message(t, 7, "192.0.2.1") }, noon, ErrUnsigned},
		{"an hour late", mine, nil, noon.Add(time.Hour), ErrTime},
		{"an hour early", mine, nil, noon.Add(-time.Hour), ErrTime},
	} {
		t.Run(tt.name, func(t *testing.T) {
			client := Chain{Key: mine}
			query := client.Sign(message(t, 7), noon)
			require.True(t, Signed(query))
			server := Chain{Key: mine}
			require.NoError(t, server.Check(query, noon))
			server.Answer()
			server.Key = tt.theirs
			replies := [][]byte{server.Sign(message(t, 7, "192.0.2.1"), noon), message(t, 7, "192.0.2.2"), nil}
			server.Skip(replies[1])
			replies[2] = server.Sign(message(t, 7, "192.0.2.3"), noon)
			if tt.change != nil {
				tt.change(replies)
			}
			var err error
			for _, r := range replies {
				if err == nil && r != nil {
					err = client.Check(r, tt.now)
				}
			}
			if tt.fails == nil {
				require.NoError(t, err)
				assert.True(t, client.Settled())
				return
			}
			require.ErrorIs(t, err, tt.fails)
		})
	}
}

func TestKeysThatAreNone(t *testing.T) {
	for _, tt := range []struct {
		name, algorithm, secret string
		is                      error
	}{
		{"summit.key", "hmac-md5", "dGFybg==", ErrAlgorithm},
		{"summit.key", "", "not base64!", ErrKeyFile},
		{"summit.key", "", "", ErrKeyFile},
		{"a..b", "", "dGFybg==", ErrKeyFile},
		{".", "", "dGFybg==", ErrKeyFile},
	} {
		_, err := NewKey(tt.name, tt.algorithm, tt.secret)
		require.ErrorIs(t, err, tt.is)
		assert.NotContains(t, err.Error(), "not base64!")
	}
}

// Whatever comes, checking does not panic, and believes nothing that was not signed.
func FuzzCheck(f *testing.F) {
	k := key(f, "summit.key", "", "dGFybg==")
	c := Chain{Key: k}
	f.Add(c.Sign(message(f, 7), noon))
	f.Add(message(f, 7, "192.0.2.1"))
	f.Fuzz(func(t *testing.T, msg []byte) {
		check := Chain{Key: k}
		if check.Check(msg, noon) == nil {
			require.True(t, Signed(msg))
		}
	})
}
