package comparison

import (
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

var question = wire.Question{Name: wire.MustParseName("tickets.hollowtarn.example"), Type: wire.A, Class: wire.IN}

// says is a resolver's answer: addresses with one TTL, or a failure.
type says struct {
	label  string
	own    bool
	ttl    uint32
	code   wire.RCode
	values []string
}

func (s says) member(t testing.TB, number int) Member {
	m := &wire.Message{Flags: (wire.QR | wire.RA).WithRCode(s.code)}
	if s.own {
		m.Flags |= wire.AA
	}
	for _, v := range s.values {
		data, err := wire.ParseRecordData(wire.A, wire.IN, v)
		require.NoError(t, err)
		m.Answer = append(m.Answer, wire.Record{Name: question.Name, Type: wire.A, Class: wire.IN, TTL: s.ttl, Data: data})
	}
	if len(s.values) == 0 && s.code != wire.ServFail {
		soa := wire.SOAData{MName: wire.Root, RName: wire.Root, Minimum: 300}
		m.Authority = []wire.Record{{Name: question.Name.Parent(), Type: wire.SOA, Class: wire.IN, TTL: s.ttl, Data: soa.Data()}}
	}
	e := &exchange.Exchange{Number: number, Question: question, Reply: m, Outcome: exchange.Judge(question, m),
		Server: exchange.Server{Label: escape.Of(s.label), Address: netip.MustParseAddrPort("192.0.2.53:53")}}
	return Member{Exchange: e, Own: s.own}
}

func compare(t testing.TB, all []says, reference int) Result {
	var members []Member
	for i, s := range all {
		members = append(members, s.member(t, i+1))
	}
	return Compare(question, members, reference, Evidence{})
}

func TestCompare(t *testing.T) {
	now, old := []string{"203.0.113.140"}, []string{"203.0.113.80"}
	for _, tt := range []struct {
		name      string
		all       []says
		reference int
		headline  string
		found     []finding.Code
		lasts     uint32 // of the first finding
	}{
		{"all alike", []says{{"office", false, 60, 0, now}, {"isp", false, 7, 0, now}, {"dns1", true, 3600, 0, now}}, 2, "all 3 agree", nil, 0},
		{"order is harmless", []says{{"office", false, 60, 0, []string{"192.0.2.1", "192.0.2.2"}}, {"isp", false, 60, 0, []string{"192.0.2.2", "192.0.2.1"}}}, -1, "both agree", nil, 0},
		{"a stale cache, and the server it comes from", []says{{"office", false, 2480, 0, old}, {"isp", false, 3600, 0, now}, {"dns1", true, 3600, 0, now}, {"ns", true, 43200, 0, old}}, 2,
			"2 of 4 agree with the zone; office and ns differ: an older answer", []finding.Code{finding.CacheStale}, 0},
		{"a stale cache alone", []says{{"office", false, 2480, 0, old}, {"dns1", true, 3600, 0, now}}, 1, "1 of 2 agree with the zone; office differs: an older answer, gone from office within 41 min 20 s", []finding.Code{finding.CacheStale}, 2480},
		{"fetched just now and different all the same", []says{{"office", false, 3600, 0, old}, {"dns1", true, 3600, 0, now}}, 1, "1 of 2 agree with the zone; office differs: says 203.0.113.80", []finding.Code{finding.AnswerDiffers}, 0},
		{"a remembered nothing", []says{{"isp", false, 200, wire.NXDomain, nil}, {"dns1", true, 3600, 0, now}}, 1, "1 of 2 agree with the zone; isp differs: a cached negative answer, gone from isp within 3 min 20 s", []finding.Code{finding.CacheNegative}, 200},
		{"a failure", []says{{"isp", false, 0, wire.ServFail, nil}, {"dns1", true, 3600, 0, now}}, 1, "1 of 2 agree with the zone; isp gave no answer (server-failure)", []finding.Code{finding.ServerFailure}, 0},
		{"without the zone's word nobody is to blame", []says{{"office", false, 60, 0, old}, {"isp", false, 60, 0, now}}, -1, "office says 203.0.113.80; isp differs: says 203.0.113.140", []finding.Code{finding.AnswerDiffers}, 0},
	} {
		t.Run(tt.name, func(t *testing.T) {
			r := compare(t, tt.all, tt.reference)
			assert.Equal(t, tt.headline, r.Headline())
			assert.Equal(t, strings.Contains(tt.headline, "differ"), r.Contested())
			var found []finding.Code
			for _, f := range r.Findings {
				found = append(found, f.Code)
				assert.NotEmpty(t, f.Evidence)
			}
			assert.Equal(t, tt.found, found)
			if len(found) > 0 {
				assert.Equal(t, tt.lasts, r.Findings[0].Lasts)
				want := finding.Fault
				if tt.reference < 0 {
					want = finding.Concern
				}
				assert.Equal(t, want, r.Findings[0].Severity)
			}
		})
	}
}

func TestCutShortAgreesWithNobody(t *testing.T) {
	known := says{"office", false, 60, 0, []string{"203.0.113.140"}}.member(t, 1)
	cut := Member{Exchange: &exchange.Exchange{Number: 2, Question: question, Server: exchange.Server{Label: "kiosk"}}}
	again := cut
	r := Compare(question, []Member{cut, again, known}, -1, Evidence{})
	assert.Equal(t, "only office gave a result; 2 unknown, interrupted", r.Headline())
	assert.Equal(t, exchange.Answered, r.Groups[0].Outcome)
	assert.Empty(t, r.Findings, "what is not known is nobody's fault")
	r = Compare(question, []Member{cut}, -1, Evidence{})
	assert.Equal(t, "nothing is known; 1 unknown, interrupted", r.Headline())
}

// Whatever the order of resolvers and records, the groups are the same, and
// every answer is in exactly one.
func TestGroupsArePartition(t *testing.T) {
	pool := []string{"192.0.2.1", "192.0.2.2", "192.0.2.3"}
	random := rand.New(rand.NewPCG(1, 2))
	for range 200 {
		var all []says
		for i := range 1 + random.IntN(8) {
			s := says{label: string(rune('a' + i)), ttl: uint32(random.IntN(100))}
			for _, v := range random.Perm(3)[:random.IntN(4)] {
				s.values = append(s.values, pool[v])
			}
			all = append(all, s)
		}
		groups := func() map[string]string {
			of := map[string]string{}
			r := compare(t, all, -1)
			for _, g := range r.Groups {
				for _, m := range g.Members {
					require.NotContains(t, of, m.Exchange.Server.Name())
					of[m.Exchange.Server.Name()] = g.Says()
				}
			}
			require.Len(t, of, len(all))
			return of
		}
		first := groups()
		random.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		for i := range all {
			random.Shuffle(len(all[i].values), func(a, b int) {
				v := all[i].values
				v[a], v[b] = v[b], v[a]
			})
		}
		assert.Equal(t, first, groups())
	}
}
