package registry

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"unquil/core/escape"
	"unquil/core/finding"
	"unquil/core/wire"
)

func names(words ...string) (all []wire.Name) {
	for _, w := range words {
		all = append(all, wire.MustParseName(w))
	}
	return all
}

func TestJudge(t *testing.T) {
	now := time.Date(2026, 3, 9, 8, 0, 0, 0, time.UTC)
	day := func(n int) time.Time { return now.AddDate(0, 0, n) }
	one := names("one.fell.test.")
	there := Seen{ParentTold: true, Parent: one, ZoneTold: true, Zone: one, DSTold: true}
	gone := Seen{ParentTold: true}
	of := func(d Domain) Answer {
		d.Name, d.Registrar = wire.MustParseName("tarn.example."), "Cairn Names"
		return Answer{At: now, Domain: &d, From: "rdap.fell.test"}
	}
	held := func(words ...escape.Text) []escape.Text { return words }
	fault, concern := finding.Fault, finding.Concern
	for _, tt := range []struct {
		what     string
		answer   Answer
		seen     Seen
		code     finding.Code // the first; "" for none
		severity finding.Severity
		text     string
		next     string
	}{
		{"in order", of(Domain{Expires: day(200), Servers: []Host{{Name: one[0]}}, Secured: true}), there, "", "", "", ""},
		{"locks are no matter", of(Domain{Expires: day(200), Statuses: held("client delete prohibited", "server transfer prohibited")}), there, "", "", "", ""},
		{"nothing told", of(Domain{}), there, "", "", "", ""},
		{"in 31 days", of(Domain{Expires: day(31)}), there, "", "", "", ""},
		{"in 29 days", of(Domain{Expires: day(29)}), there, finding.DomainExpiresSoon, concern, "in 29 days", "renewed at its registrar (Cairn Names)"},
		{"tomorrow", of(Domain{Expires: day(1)}), there, finding.DomainExpiresSoon, concern, "in 1 day", ""},
		{"yesterday, still delegated", of(Domain{Expires: day(-1)}), there, finding.DomainExpired, concern, "expired on 8 March 2026; it is still delegated", "has to renew it"},
		{"yesterday, and gone", of(Domain{Expires: day(-1)}), gone, finding.DomainExpired, fault, "and is not delegated", ""},
		{"yesterday, and who knows", of(Domain{Expires: day(-1)}), Seen{}, finding.DomainExpired, concern, "expired on 8 March 2026.", ""},
		{"ran out and on hold", of(Domain{Expires: day(-9), Statuses: held("client hold"), Deletes: day(9)}), gone, finding.DomainExpired, fault, "is on hold (client hold)", "by 18 March 2026, or it is released"},
		{"renewed by itself, unpaid, on hold", of(Domain{Expires: day(350), RegistrarExpires: day(-10), Statuses: held("auto renew period", "client hold")}), gone, finding.DomainExpired, fault, "expired on 27 February 2026", ""},
		{"on hold and paid", of(Domain{Expires: day(90), Statuses: held("client hold")}), gone, finding.DomainOnHold, fault, "the registrar has taken it out", "unpaid, unconfirmed"},
		{"on hold and still delegated", of(Domain{Expires: day(90), Statuses: held("server hold")}), there, finding.DomainOnHold, concern, "it is still delegated", "why the registry put it on hold"},
		{"redeemable", of(Domain{Statuses: held("redemption period"), Deletes: day(20)}), gone, finding.DomainOnHold, fault, "it was deleted", "get it back at its registrar (Cairn Names)"},
		{"about to be released", of(Domain{Expires: day(-70), Statuses: held("pending delete")}), gone, finding.DomainExpired, fault, "pending delete", "Nobody can get it back now"},
		{"without name servers", of(Domain{Expires: day(90), Statuses: held("inactive")}), gone, finding.DomainOnHold, fault, "no name servers", "name name servers"},
		{"not registered", Answer{Unknown: true, From: "rdap.fell.test"}, gone, finding.DomainUnregistered, fault, "is not registered", ""},
		{"not registered, and delegated", Answer{Unknown: true, From: "rdap.fell.test"}, there, finding.RegistryDiffers, concern, "nothing about it", ""},
		{"not reached", Answer{Problem: "x"}, there, finding.RegistryUnreachable, concern, "could not be learnt: x", ""},
		{"other servers above", of(Domain{Servers: []Host{{Name: names("two.fell.test.")[0]}}}), there, finding.RegistryDiffers, concern, "the registry alone has two.fell.test, the zone above alone has one.fell.test", "correct the name servers"},
		{"other servers in the zone", of(Domain{Servers: []Host{{Name: one[0]}}}), Seen{ParentTold: true, Parent: one, ZoneTold: true, Zone: names("one.fell.test.", "two.fell.test.")}, finding.RegistryDiffers, concern, "the zone alone has two.fell.test", ""},
		{"servers, and nobody above", of(Domain{Servers: []Host{{Name: one[0]}}}), gone, finding.RegistryDiffers, fault, "delegated to nobody", ""},
		{"keys above alone", of(Domain{Secured: true}), Seen{ParentTold: true, Parent: one, DSTold: true, DS: []DS{{1, 13, 2, "AA"}}}, finding.RegistryDiffers, concern, "DS records", ""},
		{"the same keys", of(Domain{Secured: true, DS: []DS{{1, 13, 2, "AA"}}}), Seen{ParentTold: true, Parent: one, DSTold: true, DS: []DS{{1, 13, 2, "AA"}}}, "", "", "", ""},
	} {
		found := tt.answer.Judge(wire.MustParseName("tarn.example."), tt.seen)
		if tt.code == "" {
			assert.Empty(t, found, tt.what)
			continue
		}
		if assert.NotEmpty(t, found, tt.what) {
			assert.Equal(t, tt.code, found[0].Code, tt.what)
			assert.Equal(t, tt.severity, found[0].Severity, tt.what)
			assert.Contains(t, found[0].Text, tt.text, tt.what)
			assert.Contains(t, found[0].Next, tt.next, tt.what)
		}
	}
}
