package probe

import (
	"encoding/binary"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/delegation"
	"unquil/core/dnssec"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/core/zonecare"
)

// TestSigningFindings: servers that do not give the same keys, and names that are hashed in vain.
func TestSigningFindings(t *testing.T) {
	name := func(text string) wire.Name {
		n, err := wire.ParseName(text)
		require.NoError(t, err)
		return n
	}
	keys := func(host string, number int, tags ...uint16) ServerKeys {
		return ServerKeys{Server: zonecare.Server{Host: name(host)}, Exchange: &exchange.Exchange{Number: number}, Tags: tags}
	}
	hashing := func(rounds uint16, salt string) *exchange.Exchange {
		data := string(binary.BigEndian.AppendUint16([]byte{1, 0}, rounds)) + string(rune(len(salt))) + salt
		q := wire.Question{Name: name("gates.hollowtarn.example"), Type: wire.NSEC3PARAM, Class: wire.IN}
		reply := &wire.Message{Questions: []wire.Question{q}, Answer: []wire.Record{{Name: q.Name, Type: q.Type, Class: q.Class, Data: data}}}
		return &exchange.Exchange{Number: 9, Question: q, Outcome: exchange.Answered, Reply: reply}
	}
	for _, c := range []struct {
		what     string
		zone     Zone
		code     finding.Code
		severity finding.Severity
		text     string
	}{
		{"nothing is known", Zone{}, "", "", ""},
		{"the same keys", Zone{Keys: []ServerKeys{keys("a.test", 1, 5, 7), keys("b.test", 2, 5, 7)}}, "", "", ""},
		{"one has another", Zone{Keys: []ServerKeys{keys("a.test", 1, 5, 7), keys("a.test", 2, 5, 7), keys("b.test", 3, 7)}}, finding.SignersDiffer, finding.Concern, "a.test gives keys 5, 7; b.test gives key 7."},
		{"one has none", Zone{Keys: []ServerKeys{keys("a.test", 1, 5), keys("c.test", 2, 5), keys("b.test", 3)}}, finding.SignersDiffer, finding.Concern, "a.test, c.test give key 5; b.test gives none."},
		{"hashed once", Zone{Hashing: hashing(0, "")}, "", "", ""},
		{"hashed with a salt", Zone{Hashing: hashing(0, "ab")}, finding.NSEC3Rounds, finding.Note, "with a salt"},
		{"hashed too often", Zone{Hashing: hashing(151, "")}, finding.NSEC3Rounds, finding.Concern, "counts as unsigned"},
	} {
		c.zone.Zone = name("gates.hollowtarn.example")
		found := c.zone.signingFindings()
		if c.code == "" {
			assert.Empty(t, found, c.what)
			continue
		}
		if assert.Len(t, found, 1, c.what) {
			assert.Equal(t, c.code, found[0].Code, c.what)
			assert.Equal(t, c.severity, found[0].Severity, c.what)
			assert.True(t, strings.Contains(found[0].Text, c.text), "%s: %s", c.what, found[0].Text)
		}
	}
}

// TestWantedFindings: what a zone asks to be put above it, and whether all its servers are ready for it.
func TestWantedFindings(t *testing.T) {
	zone, err := wire.ParseName("gates.hollowtarn.example")
	require.NoError(t, err)
	cds := func(tag uint16, algorithm byte) wire.Record {
		return wire.Record{Name: zone, Type: wire.CDS, Class: wire.IN, Data: string(append(binary.BigEndian.AppendUint16(nil, tag), algorithm, 2, 0xaa))}
	}
	for _, c := range []struct {
		what   string
		wanted []wire.Record
		above  []uint16
		gives  []uint16
		codes  []finding.Code
		text   string
	}{
		{"nothing", nil, []uint16{5}, []uint16{5}, nil, ""},
		{"what is there, by another digest", []wire.Record{cds(5, 13)}, []uint16{5}, []uint16{5}, nil, ""},
		{"a new key", []wire.Record{cds(7, 13)}, []uint16{5}, []uint16{5, 7}, []finding.Code{finding.CDSWaiting}, "asks the zone above for DS records for key 7 (CDS), which has those for key 5."},
		{"one more key", []wire.Record{cds(5, 13), cds(7, 13)}, []uint16{5}, []uint16{5}, []finding.Code{finding.CDSWaiting}, "keys 5, 7"},
		{"a key that a server does not have", []wire.Record{cds(7, 13)}, []uint16{5}, []uint16{5}, []finding.Code{finding.CDSWaiting, finding.RolloverUnsafe}, "gives key 5"},
		{"none any more", []wire.Record{cds(0, 0)}, []uint16{5}, []uint16{5}, []finding.Code{finding.CDSWaiting}, "to remove its DS records"},
		{"of a zone that has none above", []wire.Record{cds(7, 13)}, nil, []uint16{5}, nil, ""},
	} {
		q := wire.Question{Name: zone, Type: wire.CDS, Class: wire.IN}
		link := &dnssec.Link{Zone: zone}
		for _, tag := range c.above {
			link.Digests = append(link.Digests, dnssec.Digest{Owner: zone, Tag: tag, Algorithm: 13, Type: 2, Hash: []byte{0xbb}})
		}
		z := Zone{Report: zonecare.Report{Zone: zone}, Walk: &delegation.Walk{Validation: &delegation.Validation{Result: dnssec.Result{Chain: []*dnssec.Link{link}}}},
			Keys:   []ServerKeys{{Server: zonecare.Server{Host: zone}, Exchange: &exchange.Exchange{Number: 1}, Tags: c.gives}},
			Wanted: &exchange.Exchange{Number: 2, Question: q, Outcome: exchange.Answered, Reply: &wire.Message{Questions: []wire.Question{q}, Answer: c.wanted}}}
		var codes []finding.Code
		text := ""
		for _, f := range z.wantedFindings() {
			codes, text = append(codes, f.Code), text+f.Text
		}
		assert.Equal(t, c.codes, codes, c.what)
		assert.Contains(t, text, c.text, c.what)
	}
}
