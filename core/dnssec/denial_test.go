package dnssec

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"unquil/core/wire"
)

// plainZone is the chain of NSEC records of RFC 4035 appendix A.
var plainZone = []string{
	"example. NSEC a.example. NS SOA MX RRSIG NSEC DNSKEY", "a.example. NSEC ai.example. NS DS RRSIG NSEC", "ai.example. NSEC b.example. A HINFO AAAA RRSIG NSEC",
	"b.example. NSEC ns1.example. NS RRSIG NSEC", "ns1.example. NSEC ns2.example. A RRSIG NSEC", "ns2.example. NSEC *.w.example. A RRSIG NSEC",
	"*.w.example. NSEC x.w.example. MX RRSIG NSEC", "x.w.example. NSEC x.y.w.example. MX RRSIG NSEC", "x.y.w.example. NSEC xx.example. MX RRSIG NSEC", "xx.example. NSEC example. A HINFO AAAA RRSIG NSEC",
}

// hashedZone is that of NSEC3 records of RFC 5155 appendix A: each hash, and the types of its name.
var hashedZone = [][2]string{
	{"0p9mhaveqvm6t7vbl5lop2u3t2rp3tom", "MX DNSKEY NS SOA NSEC3PARAM RRSIG"}, {"2t7b4g4vsa5smi47k61mv5bv1a22bojr", "A RRSIG"}, {"2vptu5timamqttgl4luu9kg21e0aor3s", "MX RRSIG"},
	{"35mthgpgcu1qg68fab165klnsnk3dpvl", "NS DS RRSIG"}, {"b4um86eghhds6nea196smvmlo4ors995", "MX RRSIG"}, {"gjeqe526plbf1g8mklp59enfd789njgi", "HINFO A AAAA RRSIG"}, {"ji6neoaepv8b5o6k4ev33abha8ht9fgc", ""},
	{"k8udemvp1j2f7eg6jebps17vp3n8i58h", ""}, {"kohar7mbb8dc2ce8a9qvl8hon4k53uhi", "A RRSIG"}, {"q04jkcevqvmu85r014c7dkba38o0ji5r", "A RRSIG"}, {"r53bq7cc2uvmubfu5ocmm6pers9tk9en", "MX RRSIG"}, {"t644ebqk9bibcna874givr6joj62mlhv", "HINFO A AAAA RRSIG"},
}

// of are the records of the two zones that stand at some places.
func plainOf(t *testing.T, at ...int) *denials {
	s := &Set{}
	for _, i := range at {
		s.Records = append(s.Records, record(t, strings.Replace(plainZone[i], " NSEC ", " 3600 IN NSEC ", 1)))
	}
	return readDenials(wire.MustParseName("example."), []*Set{s})
}

func hashedOf(t *testing.T, optOut int, at ...int) *denials {
	s := &Set{}
	for _, i := range at {
		one, next := hashedZone[i], hashedZone[(i+1)%len(hashedZone)]
		s.Records = append(s.Records, record(t, fmt.Sprintf("%s.example. 3600 IN NSEC3 1 %d 12 aabbccdd %s %s", one[0], optOut, next[0], one[1])))
	}
	return readDenials(wire.MustParseName("example."), []*Set{s})
}

// What the examples of the standards prove they prove, and less of them proves nothing.
func TestDenials(t *testing.T) {
	all := func(n int) (at []int) {
		for i := range n {
			at = append(at, i)
		}
		return at
	}
	name := wire.MustParseName
	for _, c := range []struct {
		what     string
		records  []int // of the plain zone
		hashed   []int // of the hashed one
		ask      func(d *denials) proof
		want     proof
		optedOut proof // by hashed records that leave delegations out
	}{
		{"a name that is not there", []int{3, 0}, nil, func(d *denials) proof { return d.noName(name("ml.example.")) }, proven, 0},
		{"without the proof that there is no wildcard", []int{3}, nil, func(d *denials) proof { return d.noName(name("ml.example.")) }, unproven, 0},
		{"without the gap it lies in", []int{0}, nil, func(d *denials) proof { return d.noName(name("ml.example.")) }, unproven, 0},
		{"a name that is there", all(10), nil, func(d *denials) proof { return d.noName(name("ns1.example.")) }, unproven, 0},
		{"one that exists for others below it", all(10), nil, func(d *denials) proof { return d.noName(name("w.example.")) }, unproven, 0},
		{"a name behind the last", all(10), nil, func(d *denials) proof { return d.noName(name("zz.example.")) }, proven, 0},
		{"a name below a delegation, of which its record says nothing", []int{3, 0}, nil, func(d *denials) proof { return d.noName(name("mc.b.example.")) }, unproven, 0},
		{"a name for which a wildcard stands", all(10), nil, func(d *denials) proof { return d.noName(name("a.z.w.example.")) }, unproven, 0},
		{"a type that a name has not", []int{4}, []int{1}, func(d *denials) proof { return d.noType(name("ns1.example."), wire.MX) }, proven, proven},
		{"a type that it has", []int{4}, []int{1}, func(d *denials) proof { return d.noType(name("ns1.example."), wire.A) }, unproven, unproven},
		{"another name's record", []int{5}, []int{9}, func(d *denials) proof { return d.noType(name("ns1.example."), wire.MX) }, unproven, unproven},
		{"an empty non-terminal", []int{7}, []int{6}, func(d *denials) proof { return d.noType(name("y.w.example."), wire.A) }, proven, proven},
		{"a type that a wildcard has not", []int{8, 6}, []int{7, 9, 10}, func(d *denials) proof { return d.noType(name("a.z.w.example."), wire.AAAA) }, proven, optedOut},
		{"one that it has", []int{8, 6}, []int{7, 9, 10}, func(d *denials) proof { return d.noType(name("a.z.w.example."), wire.MX) }, unproven, unproven},
		{"without the wildcard's own record", []int{8}, []int{7, 9}, func(d *denials) proof { return d.noType(name("a.z.w.example."), wire.AAAA) }, unproven, unproven},
		{"a wildcard that rightly stands for a name", []int{8}, []int{9}, func(d *denials) proof { return d.noCloser(name("a.z.w.example."), 2) }, proven, optedOut},
		{"one where something nearer exists", []int{7}, []int{4}, func(d *denials) proof { return d.noCloser(name("a.x.w.example."), 2) }, unproven, unproven},
		{"a digest that the zone below says it has not: that is for the one above to say", []int{0}, []int{0}, func(d *denials) proof { return d.noType(name("example."), wire.DS) }, unproven, unproven},
		{"what a delegation has not, as the zone above says: that is for the one below", []int{1}, []int{3}, func(d *denials) proof { return d.noType(name("a.example."), wire.MX) }, unproven, unproven},
		{"a delegation without a digest", []int{3}, nil, func(d *denials) proof { p, _ := d.unsigned(name("b.example.")); return p }, proven, 0},
		{"one with a digest", []int{1}, []int{3}, func(d *denials) proof { p, _ := d.unsigned(name("a.example.")); return p }, unproven, unproven},
		{"a name that is not there, by hashes", nil, []int{0, 3, 4}, func(d *denials) proof { return d.noName(name("a.c.x.w.example.")) }, proven, optedOut},
		{"without its closest encloser", nil, []int{0, 3}, func(d *denials) proof { return d.noName(name("a.c.x.w.example.")) }, unproven, unproven},
		{"without the gap of the next closer name", nil, []int{3, 4}, func(d *denials) proof { return d.noName(name("a.c.x.w.example.")) }, unproven, unproven},
		{"without that of the wildcard", nil, []int{0, 4}, func(d *denials) proof { return d.noName(name("a.c.x.w.example.")) }, unproven, unproven},
		{"a delegation that is left out", nil, []int{0, 3}, func(d *denials) proof { p, _ := d.unsigned(name("c.example.")); return p }, unproven, optedOut},
	} {
		if c.records != nil {
			assert.Equal(t, c.want, c.ask(plainOf(t, c.records...)), "%s", c.what)
		}
		if c.hashed != nil {
			assert.Equal(t, c.want, c.ask(hashedOf(t, 0, c.hashed...)), "%s, by hashes", c.what)
			assert.Equal(t, c.optedOut, c.ask(hashedOf(t, 1, c.hashed...)), "%s, by hashes that leave delegations out", c.what)
		}
	}
	_, cut := plainOf(t, 3).unsigned(name("b.example."))
	assert.True(t, cut)
	_, cut = plainOf(t, 4).unsigned(name("ns1.example."))
	assert.False(t, cut, "no zone begins there")
	mixed := readDenials(name("example."), []*Set{{Records: append(
		[]wire.Record{record(t, "0p9mhaveqvm6t7vbl5lop2u3t2rp3tom.example. 3600 IN NSEC3 1 0 12 aabbccdd 2t7b4g4vsa5smi47k61mv5bv1a22bojr A")},
		record(t, "2t7b4g4vsa5smi47k61mv5bv1a22bojr.example. 3600 IN NSEC3 1 0 11 aabbccdd 2vptu5timamqttgl4luu9kg21e0aor3s A"))}})
	assert.Equal(t, unproven, mixed.noType(name("ns1.example."), wire.MX), "hashes of two ways are compared with nothing")
}

// A type bit map is read as far as it goes.
func TestTypeSets(t *testing.T) {
	set := typeSet("\x00\x06\x40\x01\x00\x00\x00\x03\x01\x01\x40") // A, MX, RRSIG, NSEC, CAA
	for typ, has := range map[wire.Type]bool{wire.A: true, wire.MX: true, wire.RRSIG: true, wire.NSEC: true, wire.CAA: true, wire.NS: false, wire.AAAA: false, wire.Type(256): false, wire.Type(512): false} {
		assert.Equal(t, has, set.has(typ), typ)
	}
	for _, broken := range []typeSet{"", "\x00", "\x00\x20\x40", "\x00\x00"} {
		assert.False(t, broken.has(wire.A))
	}
	assert.True(t, typeSet("\x00\x01\x20").delegation())
	assert.False(t, typeSet("\x00\x01\x22").delegation())
}
