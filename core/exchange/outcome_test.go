package exchange

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/wire"
)

func record(t *testing.T, name string, typ wire.Type, text string) wire.Record {
	data, err := wire.ParseRecordData(typ, wire.IN, text)
	require.NoError(t, err)
	return wire.Record{Name: wire.MustParseName(name), Type: typ, Class: wire.IN, TTL: 60, Data: data}
}

func TestJudge(t *testing.T) {
	soa := record(t, "example", wire.SOA, "a. b. 1 2 3 4 5")
	ns := record(t, "hollowtarn.example", wire.NS, "dns1.hollowtarn.example.")
	alias := record(t, "www.hollowtarn.example", wire.CNAME, "WEB.hollowtarn.example.")
	address := record(t, "web.hollowtarn.example", wire.A, "192.0.2.1")
	back := record(t, "web.hollowtarn.example", wire.CNAME, "www.hollowtarn.example.")
	for _, tt := range []struct {
		name      string
		flags     wire.Flags
		answer    []wire.Record
		authority []wire.Record
		want      Outcome
		inPlace   Outcome // as JudgeOutline sees it, where that differs
	}{
		{"records at the end of the aliases", 0, []wire.Record{alias, address}, nil, Answered, ""},
		{"the aliases may come in any order", 0, []wire.Record{address, alias}, nil, Answered, ""},
		{"an alias alone", 0, []wire.Record{alias}, []wire.Record{soa}, NoData, ""},
		{"aliases that go in a circle", 0, []wire.Record{alias, back}, nil, NoData, ""},
		{"a record of another name", 0, []wire.Record{address}, nil, NoData, Answered},
		{"nothing", wire.AA, nil, []wire.Record{soa}, NoData, ""},
		{"servers further down", 0, nil, []wire.Record{ns}, Referral, ""},
		{"servers beside an authoritative nothing", wire.AA, nil, []wire.Record{ns}, NoData, ""},
		{"no such name", wire.Flags(3), nil, []wire.Record{soa}, NoName, ""},
		{"an RCODE without a word of its own", wire.Flags(9), nil, nil, "notauth", ""},
		{"cut", wire.TC, []wire.Record{alias, address}, nil, Truncated, ""},
	} {
		t.Run(tt.name, func(t *testing.T) {
			q := wire.Question{Name: wire.MustParseName("www.hollowtarn.example"), Type: wire.A, Class: wire.IN}
			m := wire.Message{Flags: wire.QR | tt.flags, Questions: []wire.Question{q}, Answer: tt.answer, Authority: tt.authority}
			assert.Equal(t, tt.want, Judge(q, &m))
			data, err := m.Bytes()
			require.NoError(t, err)
			view, err := wire.ReadView(data)
			require.NoError(t, err)
			if tt.inPlace == "" {
				tt.inPlace = tt.want
			}
			assert.Equal(t, tt.inPlace, JudgeOutline(view.Flags(), view.Outline()))
		})
	}
}

func TestMeaningIgnoresWhatIsHarmless(t *testing.T) {
	exchange := func(answer ...wire.Record) *Exchange {
		q := wire.Question{Name: wire.MustParseName("mail.example"), Type: wire.MX, Class: wire.IN}
		m := &wire.Message{Flags: wire.QR, Answer: answer}
		return &Exchange{Question: q, Reply: m, Outcome: Judge(q, m)}
	}
	a, b := record(t, "mail.example", wire.MX, "10 MX1.example."), record(t, "MAIL.example", wire.MX, "20 mx2.example.")
	c := record(t, "mail.example", wire.MX, "10 mx1.example.")
	c.TTL = 7
	assert.Equal(t, exchange(a, b).Meaning(), exchange(b, c).Meaning(), "order, TTL and letter case")
	assert.Equal(t, exchange(a).Meaning(), exchange(a, c).Meaning(), "repeats")
	assert.NotEqual(t, exchange(a).Meaning(), exchange(a, b).Meaning())
	assert.True(t, slices.IsSorted(Values([]wire.Record{b, a})))
}
