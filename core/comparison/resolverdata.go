package comparison

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/core/wording"
)

// staleAnswers are the Extended DNS Errors by which a resolver says that what it gives is out
// of date, since it got nothing fresh (RFC 8914 §4.4 and §4.20, RFC 8767).
var staleAnswers = map[uint16]finding.Code{3: finding.CacheStale, 19: finding.CacheNegative}

// SaysStale reports whether a resolver says of its answer that it is stale.
func SaysStale(e *exchange.Exchange) bool { return saysStale(e) != "" }

// saysStale is what to call that; "" where it does not say so.
func saysStale(e *exchange.Exchange) finding.Code {
	if e.Reply == nil || !e.Outcome.Good() {
		return ""
	}
	edns, _ := e.Reply.EDNS()
	for _, o := range edns.Options {
		if code, _, _, is := o.ExtendedError(); is && staleAnswers[code] != "" {
			return staleAnswers[code]
		}
	}
	return ""
}

// servedStale is an answer that the resolver itself calls stale.
func servedStale(d doubt) (f finding.Finding, ok bool) {
	e := d.member.Exchange
	code := saysStale(e)
	if code == "" {
		return f, false
	}
	f = d.finding(code, finding.Fault, "%s serves %s from before, and says itself that this is stale; the zone says %s.", e.Server.Name(), d.group.Says(), d.truth.Says())
	f.Next = "Ask whoever runs the resolver why it gets no fresh answer from the zone's servers: it serves stale answers only while it cannot."
	f.Sure = finding.Certain
	return f, true
}

// serversStale is a resolver that has servers in its cache which the zone no longer has.
func serversStale(d doubt) (f finding.Finding, ok bool) {
	ns := d.evidence.Zone[d.member.Exchange].NS
	if ns == nil || ns.Outcome != exchange.Answered || ns.Authoritative() || len(d.evidence.Hosts) == 0 {
		return f, false
	}
	var old []string
	for _, record := range ns.Answer().Records {
		host, is := record.Target()
		if !is {
			continue
		}
		if slices.Contains(d.evidence.Hosts, host.Fold().String()) {
			return f, false // some of them are right: it finds the zone
		}
		old = append(old, host.Spoken())
		f.Lasts = max(f.Lasts, record.TTL)
	}
	if len(old) == 0 {
		return f, false
	}
	lasts, e := f.Lasts, d.member.Exchange
	slices.Sort(old)
	serve, gets := "do not serve it", "gets no answer from there"
	if len(old) == 1 {
		serve = "does not serve it"
	}
	if e.Outcome.Good() {
		gets = "answers " + d.group.Says()
	}
	f = d.finding(finding.ServersStale, finding.Fault, "%s still asks %s for %s, which %s any more: it has cached that for another %s. It %s; the zone says %s.",
		e.Server.Name(), wording.List(old), d.evidence.Origin.Spoken(), serve, wire.Period(lasts), gets, d.truth.Says())
	f.AddEvidence(ns.Number)
	f.Lasts = max(lasts, d.group.leastOf(d.member))
	return f, true
}

// local is an answer that a resolver gives as its own word, which it has no right to: it is
// none of the zone's servers.
func local(d doubt) (f finding.Finding, ok bool) {
	e := d.member.Exchange
	if !e.Authoritative() || d.own {
		return f, false
	}
	soa := d.evidence.Zone[e].SOA
	copied := false
	if soa != nil && soa.Outcome == exchange.Answered && soa.Authoritative() && len(soa.Answer().Records) > 0 {
		if there, is := soa.Answer().Records[0].Authority(); is {
			copied = true
			f = d.finding(finding.AnswerLocal, finding.Fault, "%s answers %s from its own copy of %s, with serial %s; the zone says %s.", e.Server.Name(), d.group.Says(), d.evidence.Origin.Spoken(), wording.Serial(there.Serial), d.truth.Says())
			if d.serial != 0 && d.serial != there.Serial {
				f.Text = strings.TrimSuffix(f.Text, ".") + fmt.Sprintf(", in serial %s.", wording.Serial(d.serial))
			}
			f.Next = "Ask whoever runs the resolver to bring its copy of the zone up to date, or to remove it."
			f.AddEvidence(soa.Number)
		}
	}
	if !copied {
		f = d.finding(finding.AnswerLocal, finding.Fault, "%s answers %s as an authority (AA), and is none of the zone's servers: that is an entry of its own; the zone says %s.", e.Server.Name(), d.group.Says(), d.truth.Says())
	}
	f.Sure = finding.Certain
	return f, true
}

// private is an answer without the zone's private addresses, which the resolver takes out.
func private(d doubt) (f finding.Finding, ok bool) {
	e := d.member.Exchange
	var inner, outer []string
	for _, v := range d.truth.Values {
		if a, err := netip.ParseAddr(v); err == nil && a.IsPrivate() {
			inner = append(inner, v)
		} else {
			outer = append(outer, v)
		}
	}
	_, _, proof := exchange.Negative(e.Reply)
	without := len(outer) == 0 && (e.Outcome == exchange.NoData || e.Outcome == exchange.NoName) && !proof
	if len(inner) == 0 || !without && (len(outer) == 0 || !slices.Equal(outer, d.group.Values)) {
		return f, false
	}
	severity := finding.Fault
	if !without {
		severity = finding.Concern // programs have the others
	}
	f = d.finding(finding.AnswerBlocked, severity, "%s leaves out %s: it seems to take private addresses out of answers; the zone gives %s.", e.Server.Name(), wording.List(inner), d.truth.Says())
	f.Next = "Ask whoever runs the resolver to let private addresses of this zone through, or query the resolver of the network that they belong to."
	f.Sure = finding.Likely
	return f, true
}
