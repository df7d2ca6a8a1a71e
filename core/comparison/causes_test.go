package comparison

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// Each cause, with what speaks for it and how sure that makes it; and the
// harmless differences that are no cause at all.
func TestCauses(t *testing.T) {
	now := []string{"203.0.113.140"}
	zone := says{"dns1", true, 3600, 0, now}
	nothing := says{"dns1", true, 300, wire.NXDomain, nil}
	answers := func(own bool, all ...[]string) (list []*exchange.Exchange) {
		for i, values := range all {
			list = append(list, says{"x", own, 3600, 0, values}.member(t, 100+i).Exchange)
		}
		return list
	}
	filtered := func(m Member, code string) Member {
		m.Exchange.Reply.Additional = []wire.Record{wire.EDNS{Size: 1232, Options: []wire.Option{{Code: wire.EDE, Data: code + "by \x1b law"}}}.Record(0)}
		return m
	}
	for _, tt := range []struct {
		name     string
		resolver says
		zone     says
		ede      string
		evidence func(e *exchange.Exchange) Evidence
		code     finding.Code
		severity finding.Severity
		sure     string
	}{
		{"a null address", says{"filter", false, 60, 0, []string{"0.0.0.0"}}, zone, "", nil, finding.AnswerBlocked, finding.Fault, finding.Likely},
		{"a loopback address", says{"filter", false, 60, 0, []string{"127.0.0.1"}}, zone, "", nil, finding.AnswerBlocked, finding.Fault, finding.Likely},
		{"no name, with the word that it is filtered", says{"filter", false, 60, wire.NXDomain, nil}, zone, "\x00\x11", nil, finding.AnswerBlocked, finding.Fault, finding.Certain},
		{"refused, with the word that it is censored", says{"filter", false, 60, wire.Refused, nil}, zone, "\x00\x10", nil, finding.AnswerBlocked, finding.Fault, finding.Certain},
		{"refused, with the word that you may not ask", says{"closed", false, 60, wire.Refused, nil}, zone, "\x00\x12", nil, finding.Refused, finding.Fault, finding.Certain},
		{"refused, without a word", says{"closed", false, 60, wire.Refused, nil}, zone, "", nil, finding.Refused, finding.Fault, ""},
		{"data for no name, and the same for made-up names", says{"cafe", false, 60, 0, now}, nothing, "", func(e *exchange.Exchange) Evidence {
			return Evidence{MadeUp: map[*exchange.Exchange][]*exchange.Exchange{e: answers(false, now, now)}}
		}, finding.AnswerRewritten, finding.Fault, finding.Certain},
		{"data for no name, and nothing for made-up names", says{"cafe", false, 60, 0, now}, nothing, "", nil, finding.AnswerRewritten, finding.Fault, finding.Likely},
		{"a name that the zone lost", says{"archive", false, 60, 0, now}, nothing, "", func(e *exchange.Exchange) Evidence {
			denied := says{"archive", false, 60, wire.NXDomain, nil}.member(t, 200).Exchange
			return Evidence{MadeUp: map[*exchange.Exchange][]*exchange.Exchange{e: {denied, denied}}}
		}, finding.NameLost, finding.Fault, finding.Likely},
		{"what the zone says to clients there", says{"isp", false, 60, 0, []string{"198.51.100.181"}}, zone, "", func(e *exchange.Exchange) Evidence {
			return Evidence{ByPlace: map[*exchange.Exchange][]*exchange.Exchange{e: answers(true, []string{"198.51.100.181"})}}
		}, finding.AnswerByPlace, finding.Note, finding.Certain},
		{"one of several that the zone gives in turn", says{"isp", false, 60, 0, []string{"192.0.2.2"}}, zone, "", func(*exchange.Exchange) Evidence {
			return Evidence{Again: answers(true, []string{"192.0.2.1"}, []string{"192.0.2.2"}, []string{"192.0.2.3"})}
		}, finding.AnswerByPlace, finding.Note, finding.Certain},
		{"the zone's steady answer does not explain another", says{"isp", false, 3600, 0, []string{"192.0.2.2"}}, zone, "", func(*exchange.Exchange) Evidence {
			return Evidence{Again: answers(true, now, now, now)}
		}, finding.AnswerDiffers, finding.Fault, ""},
		{"none, remembered for a while", says{"isp", false, 100, wire.NXDomain, nil}, zone, "", nil, finding.CacheNegative, finding.Fault, finding.Certain},
		{"none, fetched just now", says{"isp", false, 300, wire.NXDomain, nil}, zone, "", nil, finding.CacheNegative, finding.Fault, finding.Likely},
		{"an older answer, counted down", says{"office", false, 2480, 0, []string{"203.0.113.80"}}, zone, "", nil, finding.CacheStale, finding.Fault, ""},
	} {
		t.Run(tt.name, func(t *testing.T) {
			resolver := tt.resolver.member(t, 1)
			if tt.ede != "" {
				resolver = filtered(resolver, tt.ede)
			}
			evidence := Evidence{}
			if tt.evidence != nil {
				evidence = tt.evidence(resolver.Exchange)
			}
			r := Compare(question, []Member{resolver, tt.zone.member(t, 2)}, 1, evidence)
			if assert.Len(t, r.Findings, 1) {
				f := r.Findings[0]
				assert.Equal(t, []any{tt.code, tt.severity, tt.sure}, []any{f.Code, f.Severity, f.Sure})
				assert.NotContains(t, f.Text, "\x1b")
			}
			assert.NotEmpty(t, r.Headline())
		})
	}
}

func TestExpect(t *testing.T) {
	r := compare(t, []says{{"office", false, 2480, 0, []string{"203.0.113.80"}}, {"isp", false, 60, 0, []string{"203.0.113.140"}}, {"public", false, 200, wire.NXDomain, nil}, {"ns", true, 43200, 0, []string{"203.0.113.80"}}}, -1)
	move := r.Expect([]string{"203.0.113.140"})
	assert.Len(t, move.Have, 1)
	assert.Len(t, move.Lack, 3)
	assert.Equal(t, uint32(2480), move.Lasts, "the zone's own server does not forget by itself")
	assert.Len(t, r.Expect([]string{"203.0.113.80"}).Have, 2)
}

// Expected values are read as values of the types that are asked for, and compared as such.
func TestExpected(t *testing.T) {
	types := []wire.Type{wire.A, wire.AAAA, wire.MX, wire.TXT}
	for _, tt := range []struct {
		values []string
		types  []wire.Type
		want   map[wire.Type][]string
	}{
		{[]string{"203.0.113.1"}, types[:2], map[wire.Type][]string{wire.A: {"203.0.113.1"}}},
		{[]string{"2001:DB8:0:0::1"}, types[:2], map[wire.Type][]string{wire.AAAA: {"2001:db8::1"}}},
		{[]string{"10 mx1.hollowtarn.example"}, types[2:3], map[wire.Type][]string{wire.MX: {"10 mx1.hollowtarn.example."}}},
		{[]string{"last car down"}, types[3:], map[wire.Type][]string{wire.TXT: {`"last car down"`}}},
		{[]string{"tarn"}, types[:2], nil},
	} {
		got, err := ParseExpected(tt.values, tt.types)
		if tt.want == nil {
			require.ErrorIs(t, err, ErrExpected)
			continue
		}
		require.NoError(t, err, "%v", tt.values)
		assert.Equal(t, tt.want, got)
	}
	r := compare(t, []says{{"new", false, 60, 0, []string{"203.0.113.1"}}, {"old", false, 40, 0, []string{"203.0.113.2"}}, {"mute", false, 0, wire.ServFail, nil}}, -1)
	move := r.Expect([]string{"203.0.113.1"})
	assert.Equal(t, []int{1, 1, 1, 40}, []int{len(move.Have), len(move.Lack), len(move.Unknown), int(move.Lasts)})
	assert.True(t, r.Differs())
}
