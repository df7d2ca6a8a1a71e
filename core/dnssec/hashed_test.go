package dnssec

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"unquil/core/wire"
)

// The zone of RFC 5155 appendix A, as far as its answers need it: a record a line, with its signature.
var hashedParts = map[string]string{
	"keys": `example. 3600 IN DNSKEY 256 3 7 AwEAAaetidLzsKWUt4swWR8yu0wPHPiUi8LUsAD0QPWU+wzt89epO6tHzkMBVDkC7qphQO2hTY4hHn9npWFRw5BYubE=
example. 3600 IN DNSKEY 257 3 7 AwEAAcUlFV1vhmqx6NSOUOq2R/dsR7Xm3upJj7IommWSpJABVfW8Q0rOvXdM6kzt+TAu92L9AbsUdblMFin8CVF3n4s=
example. 3600 IN RRSIG DNSKEY 7 1 3600 20150420235959 20051021000000 12708 example. AuU4juU9RaxescSmStrQks3Gh9FblGBlVU31uzMZ/U/FpsUb8aC6QZS+sTsJXnLnz7flGOsmMGQZf3bH+QsCtg==`,
	"soa": `example. 3600 IN SOA ns1.example. bugs.x.w.example. 1 3600 300 3600000 3600
example. 3600 IN RRSIG SOA 7 1 3600 20150420235959 20051021000000 40430 example. Hu25UIyNPmvPIVBrldN+9Mlp9Zql39qaUd8iq4ZLlYWfUUbbAS41pG+68z81q1xhkYAcEyHdVI2LmKusbZsT0Q==`,
	"0p9m": `0p9mhaveqvm6t7vbl5lop2u3t2rp3tom.example. 3600 IN NSEC3 1 1 12 aabbccdd 2t7b4g4vsa5smi47k61mv5bv1a22bojr MX DNSKEY NS SOA NSEC3PARAM RRSIG
0p9mhaveqvm6t7vbl5lop2u3t2rp3tom.example. 3600 IN RRSIG NSEC3 7 2 3600 20150420235959 20051021000000 40430 example. OSgWSm26B+cS+dDL8b5QrWr/dEWhtCsKlwKLIBHYH6blRxK9rC0bMJPwQ4mLIuw85H2EY762BOCXJZMnpuwhpA==`,
	"2t7b": `2t7b4g4vsa5smi47k61mv5bv1a22bojr.example. 3600 IN NSEC3 1 1 12 aabbccdd 2vptu5timamqttgl4luu9kg21e0aor3s A RRSIG
2t7b4g4vsa5smi47k61mv5bv1a22bojr.example. 3600 IN RRSIG NSEC3 7 2 3600 20150420235959 20051021000000 40430 example. OmBvJ1Vgg1hCKMXHFiNeIYHK9XVW0iLDLwJN4TFoNxZuP03gAXEI634YwOc4YBNITrj413iqNI6mRk/r1dOSUw==`,
	"35mt": `35mthgpgcu1qg68fab165klnsnk3dpvl.example. 3600 IN NSEC3 1 1 12 aabbccdd b4um86eghhds6nea196smvmlo4ors995 NS DS RRSIG
35mthgpgcu1qg68fab165klnsnk3dpvl.example. 3600 IN RRSIG NSEC3 7 2 3600 20150420235959 20051021000000 40430 example. g6jPUUpduAJKRljUsN8gB4UagAX0NxY9shwQAynzo8EUWH+z6hEIBlUTPGj15eZll6VhQqgZXtAIR3chwgW+SA==`,
	"b4um": `b4um86eghhds6nea196smvmlo4ors995.example. 3600 IN NSEC3 1 1 12 aabbccdd gjeqe526plbf1g8mklp59enfd789njgi MX RRSIG
b4um86eghhds6nea196smvmlo4ors995.example. 3600 IN RRSIG NSEC3 7 2 3600 20150420235959 20051021000000 40430 example. ZkPG3M32lmoHM6pa3D6gZFGB/rhL//Bs3Omh5u4m/CUiwtblEVOaAKKZd7S959OeiX43aLX3pOv0TSTyiTxIZg==`,
	"ji6n": `ji6neoaepv8b5o6k4ev33abha8ht9fgc.example. 3600 IN NSEC3 1 1 12 aabbccdd k8udemvp1j2f7eg6jebps17vp3n8i58h
ji6neoaepv8b5o6k4ev33abha8ht9fgc.example. 3600 IN RRSIG NSEC3 7 2 3600 20150420235959 20051021000000 40430 example. gPkFp1s2QDQ6wQzcg1uSebZ61W33rUBDcTj72F3kQ490fEdp7k1BUIfbcZtPbX3YCpE+sIt0MpzVSKfTwx4uYA==`,
	"k8ud": `k8udemvp1j2f7eg6jebps17vp3n8i58h.example. 3600 IN NSEC3 1 1 12 aabbccdd kohar7mbb8dc2ce8a9qvl8hon4k53uhi
k8udemvp1j2f7eg6jebps17vp3n8i58h.example. 3600 IN RRSIG NSEC3 7 2 3600 20150420235959 20051021000000 40430 example. FtXGbvF0+wf8iWkyo73enAuVx03klN+pILBKS6qCcftVtfH4yVzsEZquJ27NHR7ruxJWDNMtOtx7w9WfcIg62A==`,
	"q04j": `q04jkcevqvmu85r014c7dkba38o0ji5r.example. 3600 IN NSEC3 1 1 12 aabbccdd r53bq7cc2uvmubfu5ocmm6pers9tk9en A RRSIG
q04jkcevqvmu85r014c7dkba38o0ji5r.example. 3600 IN RRSIG NSEC3 7 2 3600 20150420235959 20051021000000 40430 example. hV5I89b+4FHJDATp09g4bbN0R1F845CaXpL3ZxlMKimoPAyqletMlEWwLfFia7sdpSzn+ZlNNlkxWcLsIlMmUg==`,
	"r53b": `r53bq7cc2uvmubfu5ocmm6pers9tk9en.example. 3600 IN NSEC3 1 1 12 aabbccdd t644ebqk9bibcna874givr6joj62mlhv MX RRSIG
r53bq7cc2uvmubfu5ocmm6pers9tk9en.example. 3600 IN RRSIG NSEC3 7 2 3600 20150420235959 20051021000000 40430 example. aupviViruXs4bDg9rCbezzBMf9h1ZlDvbW/CZFKulIGXXLj8B/fsDJarXVDA9bnUoRhEbKp+HF1FWKW7RIJdtQ==`,
	"mx": `a.z.w.example. 3600 IN MX 1 ai.example.
a.z.w.example. 3600 IN RRSIG MX 7 2 3600 20150420235959 20051021000000 40430 example. CikebjQwGQPwijVcxgcZcSJKtfynugtlBiKb9FcBTrmOoyQ4InoWVudhCWsh/URX3lc4WRUMivEBP6+4KS3ldA==`,
}

// hashedSource gives the keys of that zone.
type hashedSource struct{ t *testing.T }

func (s hashedSource) Cut(wire.Name) (is, known bool) { return false, true }

func (s hashedSource) Ask(_ context.Context, _ wire.Name, q wire.Question, _ int) (*wire.Message, int) {
	return hashedMessage(s.t, q, wire.NoError, "keys", ""), 1
}

// hashedMessage is a message with parts of that zone in its answer and its authority section.
func hashedMessage(t *testing.T, q wire.Question, code wire.RCode, answer, authority string) *wire.Message {
	m := &wire.Message{Flags: wire.Flags(0).WithRCode(code) | wire.QR | wire.AA, Questions: []wire.Question{q}, Additional: []wire.Record{wire.EDNS{Size: 1232, DO: true}.Record(code)}}
	for _, side := range []struct {
		parts string
		to    *[]wire.Record
	}{{answer, &m.Answer}, {authority, &m.Authority}} {
		for _, part := range strings.Fields(side.parts) {
			for _, line := range strings.Split(hashedParts[part], "\n") {
				*side.to = append(*side.to, record(t, line))
			}
		}
	}
	return m
}

// TestHashedAnswers: the answers of RFC 5155 appendix B, each with its signatures, and what becomes of each
// without one of its parts. The zone leaves unsigned delegations out of its chain, so that what lies in a
// gap of it counts as unsigned (§9.2).
func TestHashedAnswers(t *testing.T) {
	for _, c := range []struct {
		what, name        string
		t                 wire.Type
		code              wire.RCode
		answer, authority string
		want              State
		needs             bool // each of the parts of its authority section, without which it is bogus
	}{
		{"B.1, no such name", "a.c.x.w.example.", wire.A, wire.NXDomain, "", "soa 0p9m b4um 35mt", Insecure, false},
		{"B.1, in the gap alone", "a.c.x.w.example.", wire.A, wire.NXDomain, "", "soa 35mt", Bogus, false},
		{"B.2, no such type", "ns1.example.", wire.MX, wire.NoError, "", "soa 2t7b", Secure, true},
		{"B.2.1, an empty non-terminal", "y.w.example.", wire.A, wire.NoError, "", "soa ji6n", Secure, true},
		{"B.4, a wildcard", "a.z.w.example.", wire.MX, wire.NoError, "mx", "q04j", Insecure, true},
		{"B.5, no such type of a wildcard", "a.z.w.example.", wire.AAAA, wire.NoError, "", "soa k8ud q04j r53b", Insecure, true},
		{"B.6, no DS record at the top of a zone", "example.", wire.DS, wire.NoError, "", "soa 0p9m", Indeterminate, false},
	} {
		judge := func(authority string) State {
			v := &Validator{Source: hashedSource{t}, Anchors: []wire.Record{record(t, strings.Split(hashedParts["keys"], "\n")[1])}, Now: time.Date(2010, 1, 1, 0, 0, 0, 0, time.UTC)}
			q := wire.Question{Name: wire.MustParseName(c.name), Type: c.t, Class: wire.IN}
			return v.Judge(t.Context(), q, hashedMessage(t, q, c.code, c.answer, authority)).State
		}
		assert.Equal(t, c.want, judge(c.authority), c.what)
		for _, part := range strings.Fields(c.authority) {
			if c.needs && part != "soa" {
				assert.Equal(t, Bogus, judge(strings.Replace(c.authority, part, "", 1)), "%s, without %s", c.what, part)
			}
		}
	}
}
