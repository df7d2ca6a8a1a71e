package signing

import (
	"encoding/binary"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"unquil/core/dnssec"
	"unquil/core/exchange"
	"unquil/core/wire"
)

// gives is what one server of gates.hollowtarn.example gives. Keys are written as "5" for an entry key and
// "5z" for another; those that sign are named in keysBy and zoneBy.
type gives struct{ keys, keysBy, zoneBy, cds, cdnskey string }

var zone = wire.MustParseName("gates.hollowtarn.example.")

const now = 1_773_042_000 // in the morning of 9 March 2026

// tagged is a key whose tag is a number: it has no other content.
func tagged(tag uint16, flags uint16) string {
	data := append(binary.BigEndian.AppendUint16(nil, flags), 3, 13)
	sum := uint32(flags) + 3<<8 + 13
	return string(binary.BigEndian.AppendUint16(data, tag-uint16(sum)-1)) // the sum carries 1 (RFC 4034 appendix B)
}

func number(word string) uint16 {
	n := uint16(0)
	for _, c := range strings.TrimRight(word, "z-") {
		n = n*10 + uint16(c-'0')
	}
	return n
}

// answer is an exchange whose answer has records of a type, and signatures by keys.
func answer(n int, t wire.Type, signed string, days int, data ...string) *exchange.Exchange {
	e := &exchange.Exchange{Number: n, Question: wire.Question{Name: zone, Type: t, Class: wire.IN}, Outcome: exchange.Answered, Reply: &wire.Message{}}
	e.Reply.Questions = []wire.Question{e.Question}
	for _, d := range data {
		e.Reply.Answer = append(e.Reply.Answer, wire.Record{Name: zone, Type: t, Class: wire.IN, TTL: 3600, Data: d})
	}
	for _, by := range strings.Fields(signed) {
		head := append(binary.BigEndian.AppendUint16(nil, uint16(t)), 13, 3)
		for _, word := range []uint32{3600, uint32(now + days*86400), now - 86400} {
			head = binary.BigEndian.AppendUint32(head, word)
		}
		head = binary.BigEndian.AppendUint16(head, number(by))
		e.Reply.Answer = append(e.Reply.Answer, wire.Record{Name: zone, Type: wire.RRSIG, Class: wire.IN, TTL: 3600, Data: string(head) + zone.Wire() + "signature"})
	}
	return e
}

func (g gives) server(i, days int) Server {
	var keys, cds, cdnskey []string
	for _, word := range strings.Fields(g.keys) {
		flags := uint16(257)
		if strings.HasSuffix(word, "z") {
			flags = 256
		}
		keys = append(keys, tagged(number(word), flags))
	}
	for _, word := range strings.Fields(g.cds) {
		algorithm := byte(13)
		if word == "-" {
			algorithm = 0
		}
		cds = append(cds, string(append(binary.BigEndian.AppendUint16(nil, number(word)), algorithm, 2, 0xaa)))
	}
	for _, word := range strings.Fields(g.cdnskey) {
		cdnskey = append(cdnskey, tagged(number(word), 257))
	}
	soa := wire.SOAData{MName: zone, RName: zone, Refresh: 86400, Expire: 864000, Minimum: 600}
	return Server{Host: wire.MustParseName(string(rune('a'+i)) + ".test."), Keys: answer(10+i, wire.DNSKEY, g.keysBy, days, keys...),
		SOA: answer(20+i, wire.SOA, g.zoneBy, days, soa.Data()), CDS: answer(30+i, wire.CDS, "", 0, cds...), CDNSKEY: answer(40+i, wire.CDNSKEY, "", 0, cdnskey...)}
}

// TestJudge: what two servers give, against what the zone above has. The lab has the roll-overs as they are
// done; here are servers that are apart, and what is asked for of the zone above.
func TestJudge(t *testing.T) {
	plain := gives{"5 7z", "5", "7", "", ""}
	with := func(change func(*gives)) gives { g := plain; change(&g); return g }
	for _, c := range []struct {
		what    string
		above   []uint16
		days    int
		servers []gives
		found   []string // severity and code, then a part of the text
		stages  string
	}{
		{"nothing is known", []uint16{5}, 14, nil, nil, ""},
		{"as it should be", []uint16{5}, 14, []gives{plain, plain}, nil, ""},
		{"unsigned above", nil, 14, []gives{plain}, nil, ""},
		{"one has another ZSK", []uint16{5}, 14, []gives{plain, with(func(g *gives) { g.keys, g.zoneBy = "5 8z", "8" })},
			[]string{"concern signers-differ", "a.test gives keys 5, 7; b.test gives keys 5, 8.", "concern rollover-unsafe", "a.test is not signed with key 8"}, "ZSK, double signature"},
		{"one gives none", []uint16{5}, 14, []gives{plain, plain, {}}, []string{"concern signers-differ", "a.test, b.test give keys 5, 7; c.test gives none."}, ""},
		{"asks for what is there", []uint16{5}, 14, []gives{with(func(g *gives) { g.cds, g.cdnskey = "5", "5" })}, nil, ""},
		{"asks by CDNSKEY alone", []uint16{5}, 14, []gives{with(func(g *gives) { g.cdnskey = "6"; g.keys = "5 6 7z"; g.keysBy = "5 6" })}, []string{"note cds-waiting", "key 6 (CDNSKEY), which has those for key 5."}, "KSK, double signature"},
		{"asks for a key that it has not", []uint16{5}, 14, []gives{with(func(g *gives) { g.cds = "6" })}, []string{"note cds-waiting", "key 6 (CDS)", "concern rollover-unsafe", "no such key signs the keys that a.test gives"}, ""},
		{"asks for a key that signs nothing", []uint16{5}, 14, []gives{with(func(g *gives) { g.cds = "6"; g.keys = "5 6 7z" })}, []string{"note cds-waiting", "key 6 (CDS)", "concern rollover-unsafe", "no such key"}, "KSK, waiting"},
		{"asks for none", []uint16{5}, 14, []gives{with(func(g *gives) { g.cds = "-" })}, []string{"note cds-waiting", "remove its DS records"}, ""},
		{"asks for none, and there are none", nil, 14, []gives{with(func(g *gives) { g.cds = "-" })}, nil, ""},
		{"servers ask for different ones", []uint16{5}, 14, []gives{with(func(g *gives) { g.cds = "5" }), with(func(g *gives) { g.cds = "6" })}, []string{"concern signers-differ", "a.test asks DS records for key 5; b.test asks DS records for key 6."}, ""},
		{"not for long enough to reach caches", []uint16{5}, 1, []gives{plain}, []string{"concern signature-runs-out", "1 day 1 h", "note signature-runs-out", "a secondary without its primary goes on for 1 week 3 days"}, ""},
		{"a DS record of a key to come, twice", []uint16{5, 8, 9}, 14, []gives{plain}, nil, "KSK, DS record first, KSK, DS record first"},
	} {
		z := Zone{Name: zone, Now: time.Unix(now, 0).UTC()}
		for _, tag := range c.above {
			z.Digests = append(z.Digests, dnssec.Digest{Owner: zone, Tag: tag, Algorithm: 13, Type: 2})
		}
		if c.days == 1 {
			z.Now = z.Now.Add(-time.Minute)
		}
		for i, g := range c.servers {
			z.Servers = append(z.Servers, g.server(i, c.days))
		}
		r := z.Judge()
		if assert.Len(t, r.Findings, len(c.found)/2, "%s: %v", c.what, r.Findings) {
			for i, f := range r.Findings {
				assert.Equal(t, c.found[2*i], string(f.Severity)+" "+string(f.Code), c.what)
				assert.Contains(t, f.Text, c.found[2*i+1], c.what)
				assert.False(t, slices.Contains(f.Evidence, 0), c.what)
			}
		}
		var stages []string
		for _, s := range r.Stages {
			name, _, _ := strings.Cut(s.Name, " (")
			stages = append(stages, name)
			assert.Equal(t, s.Safe, s.Unready == "", c.what)
		}
		assert.Equal(t, c.stages, strings.Join(stages, ", "), c.what)
	}
}

// FuzzJudge: whatever servers give, what is said of it rests on what was asked, and no step is called safe
// that has a reason against it.
func FuzzJudge(f *testing.F) {
	f.Add("5 7z", "5", "7", "6 -", "5", "5 8 9", uint8(2), int8(14))
	f.Add("", "", "", "", "", "", uint8(0), int8(-3))
	f.Fuzz(func(t *testing.T, keys, keysBy, zoneBy, cds, cdnskey, above string, servers uint8, days int8) {
		if len(keys)+len(keysBy)+len(zoneBy)+len(cds)+len(cdnskey)+len(above) > 2000 {
			return // more than a message holds
		}
		z := Zone{Name: zone, Now: time.Unix(now, 0).UTC()}
		for _, word := range strings.Fields(above)[:min(len(strings.Fields(above)), 20)] {
			z.Digests = append(z.Digests, dnssec.Digest{Owner: zone, Tag: number(word), Algorithm: 13, Type: 2})
		}
		for i := range int(servers % 4) {
			g := gives{keys, keysBy, zoneBy, cds, cdnskey}
			if i == 2 {
				g.keys, g.zoneBy = zoneBy, keysBy
			}
			z.Servers = append(z.Servers, g.server(i, int(days)))
		}
		r := z.Judge()
		for _, finding := range r.Findings {
			assert.NotEmpty(t, finding.Text)
			assert.NotContains(t, finding.Evidence, 0)
		}
		for _, s := range r.Stages {
			assert.Equal(t, s.Safe, s.Unready == "")
			assert.NotEmpty(t, s.Keys)
			assert.NotContains(t, s.Text+s.Next+s.Unready, "{")
		}
		for i := range r.Keys {
			assert.Contains(t, []string{"KSK", "ZSK", "CSK"}, r.Keys[i].Purpose())
		}
	})
}
