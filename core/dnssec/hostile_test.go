package dnssec_test

import (
	"context"
	"crypto/sha1"
	"encoding/binary"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/dnssec"
	"unquil/core/wire"
)

// counted is a source that gives what it is told to, and counts.
type counted struct {
	reply func(q wire.Question) *wire.Message
	asked int
}

func (c *counted) Cut(wire.Name) (is, known bool) { return false, false }

func (c *counted) Ask(_ context.Context, _ wire.Name, q wire.Question, _ int) (*wire.Message, int) {
	c.asked++
	return c.reply(q), c.asked
}

// crowd is a reply with many keys of one tag, and many signatures that each of them could have made.
func crowd(q wire.Question, keys, signatures int) *wire.Message {
	m := &wire.Message{Flags: wire.QR | wire.AA, Questions: []wire.Question{q}, Additional: []wire.Record{wire.EDNS{Size: 4096, DO: true}.Record(wire.NoError)}}
	name := q.Name
	if q.Type == wire.DNSKEY {
		for i := range keys {
			data := []byte{1, 1, 3, 15}
			key := make([]byte, 32)
			key[0], key[2] = byte(i), byte(255-i) // the sum stays the same, and so does the tag
			m.Answer = append(m.Answer, wire.Record{Name: name, Type: wire.DNSKEY, Class: wire.IN, TTL: 60, Data: string(append(data, key...))})
		}
	} else {
		m.Answer = append(m.Answer, wire.Record{Name: name, Type: wire.A, Class: wire.IN, TTL: 60, Data: "\xc0\x00\x02\x01"})
		q.Type = wire.A
	}
	k, _ := dnssec.ReadKey(crowdKey(name))
	for i := range signatures {
		data := binary.BigEndian.AppendUint16(nil, uint16(q.Type))
		data = append(data, 15, byte(name.Labels()))
		data = binary.BigEndian.AppendUint32(data, 60)
		data = binary.BigEndian.AppendUint32(data, 1<<31-1)
		data = binary.BigEndian.AppendUint32(data, uint32(i))
		data = binary.BigEndian.AppendUint16(data, k.Tag)
		m.Answer = append(m.Answer, wire.Record{Name: name, Type: wire.RRSIG, Class: wire.IN, TTL: 60, Data: string(data) + "\x00" + strings.Repeat("s", 64)})
	}
	return m
}

func crowdKey(name wire.Name) wire.Record {
	key := make([]byte, 36)
	copy(key, []byte{1, 1, 3, 15})
	key[4], key[6] = 0, 255
	return wire.Record{Name: name, Type: wire.DNSKEY, Class: wire.IN, TTL: 60, Data: string(key)}
}

// A zone of many keys with one tag, and many signatures by each, does not keep anybody busy: what is
// checked is bounded, whatever a message holds (the attack is known as KeyTrap).
func TestCrowdsOfKeys(t *testing.T) {
	source := &counted{reply: func(q wire.Question) *wire.Message { return crowd(q, 200, 200) }}
	v := &dnssec.Validator{Source: source, Anchors: []wire.Record{crowdKey(wire.Root)}, Now: time.Unix(1_773_042_000, 0)}
	q := wire.Question{Name: wire.MustParseName("www.example."), Type: wire.A, Class: wire.IN}
	r := v.Judge(t.Context(), q, crowd(q, 0, 200))
	assert.Equal(t, dnssec.Bogus, r.State)
	assert.LessOrEqual(t, v.Spent(), 128)
	assert.LessOrEqual(t, source.asked, 20)
}

// hashed is an NSEC3 record of a zone.
func hashed(zone, owner string, iterations int, until byte) wire.Record {
	data := []byte{1, 0, byte(iterations >> 8), byte(iterations), 0, sha1.Size}
	data = append(data, strings.Repeat(string(rune(until)), sha1.Size)...)
	return wire.Record{Name: wire.MustParseName(owner + "." + zone), Type: wire.NSEC3, Class: wire.IN, TTL: 60, Data: string(data)}
}

// Denials by more rounds than anybody computes make a zone count as unsigned; names of a hundred
// labels cost no more than a bounded number of hashes.
func TestRoundsAndLabels(t *testing.T) {
	deep := strings.Repeat("a.", 100) + "example."
	for _, c := range []struct {
		rounds int
		name   string
		want   string
	}{{2500, "no.example.", "too costly"}, {151, "no.example.", "too costly"}, {150, "no.example.", "unproven"}, {150, deep, "unproven"}, {0, deep, "unproven"}} {
		got, work := dnssec.Deny(wire.MustParseName("example."), []wire.Record{hashed("example.", strings.Repeat("0", 32), c.rounds, 0xff)}, wire.MustParseName(c.name))
		assert.Equal(t, c.want, got, "%d rounds, %s", c.rounds, c.name[:10])
		assert.LessOrEqual(t, work, 420)
		if c.want == "too costly" {
			assert.Zero(t, work, "nothing is hashed in vain")
		}
	}
	for _, odd := range []wire.Record{
		{Type: wire.NSEC3, Name: wire.MustParseName("x.example."), Data: "\x01"},
		{Type: wire.NSEC3, Name: wire.MustParseName("x.example."), Data: "\x01\x00\x00\x00\xff"},
		{Type: wire.NSEC3, Name: wire.MustParseName(strings.Repeat("0", 32) + ".example."), Data: "\x01\x00\x00\x00\x00\xff"},
		{Type: wire.NSEC3, Name: wire.MustParseName(strings.Repeat("0", 32) + ".example."), Data: "\x01\x02\x00\x00\x00\x14" + strings.Repeat("x", 20)}, // a flag that nobody knows
		{Type: wire.NSEC, Name: wire.MustParseName("a.example."), Data: "\x03abc"},
		{Type: wire.NSEC, Name: wire.MustParseName("a.example."), Data: wire.MustParseName("elsewhere.test.").Wire() + "\x00\x01\x40"}, // its next name lies outside
		{Type: wire.NSEC, Name: wire.MustParseName("a.test."), Data: wire.MustParseName("z.example.").Wire() + "\x00\x01\x40"},
	} {
		got, _ := dnssec.Deny(wire.MustParseName("example."), []wire.Record{odd}, wire.MustParseName("no.example."))
		assert.Equal(t, "unproven", got, fmt.Sprintf("%q", odd.Data))
	}
}

// Whatever messages hold, the validator comes to an end, and to one of its states.
func FuzzValidator(f *testing.F) {
	f.Add([]byte("\x00\x01\x80\x00\x00\x01\x00\x00\x00\x00\x00\x00\x03www\x07example\x00\x00\x01\x00\x01"), uint8(0))
	q := wire.Question{Name: wire.MustParseName("www.example."), Type: wire.A, Class: wire.IN}
	for kind := range uint8(4) {
		data, err := crowd(q, 3, 3).Bytes()
		require.NoError(f, err)
		f.Add(data, kind)
	}
	f.Fuzz(func(t *testing.T, data []byte, kind uint8) {
		m, err := wire.ReadMessage(data)
		if err != nil || len(m.Questions) == 0 {
			return
		}
		source := &counted{reply: func(asked wire.Question) *wire.Message {
			switch kind % 4 {
			case 0:
				return &m
			case 1:
				return crowd(asked, 2, 2)
			case 2:
				own := m
				own.Answer = append(crowd(asked, 1, 1).Answer, m.Answer...)
				return &own
			}
			return nil
		}}
		v := &dnssec.Validator{Source: source, Anchors: append([]wire.Record{crowdKey(wire.Root)}, m.Answer...), Now: time.Unix(1_773_042_000, 0)}
		r := v.Judge(t.Context(), m.Questions[0], &m)
		assert.Contains(t, []dnssec.State{dnssec.Secure, dnssec.Insecure, dnssec.Bogus, dnssec.Indeterminate}, r.State)
		assert.LessOrEqual(t, v.Spent(), 128)
		assert.LessOrEqual(t, source.asked, 1000)
	})
}
