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

// Evidence is what was asked besides, to tell why answers differ.
type Evidence struct {
	// ByPlace is, for a resolver's exchange, the zone's own servers asked for
	// what clients in that resolver's network would get.
	ByPlace map[*exchange.Exchange][]*exchange.Exchange
	// Again is one of the zone's own servers asked the same several times more.
	Again []*exchange.Exchange
	// MadeUp is, for a resolver's exchange, that resolver asked for names that
	// nobody can have made.
	MadeUp map[*exchange.Exchange][]*exchange.Exchange
	// Zone is, for a resolver's exchange, what that resolver says of the zone itself.
	Zone map[*exchange.Exchange]ZoneThere
	// Origin is the zone, and Hosts are its servers as the parent and the zone list them, in
	// lower case; none where that is not known.
	Origin wire.Name
	Hosts  []string
}

// ZoneThere is what a resolver says of a zone: its SOA and NS records; nil where it was not asked.
type ZoneThere struct{ SOA, NS *exchange.Exchange }

// doubt is one difference to be explained: what a resolver says, against what
// the zone says.
type doubt struct {
	member   Member
	group    *Group
	truth    *Group
	evidence Evidence
	serial   uint32   // the zone's newest; 0 when not known
	own      bool     // the resolver is one of the zone's own servers
	heldUpBy []Member // of the zone's own servers: those that give the same, or the alias that it followed
}

// cause tries to explain a difference; ok is false when it is another one.
type cause func(d doubt) (f finding.Finding, ok bool)

// causes are tried in turn, the surest and most particular first.
var causes = []cause{servedStale, blocked, heldUp, serversStale, lost, rewritten, byPlace, local, private, negative, stale}

// difference says why a resolver's answer is not the zone's.
func (r *Result) difference(d doubt) finding.Finding {
	for _, cause := range causes {
		if f, ok := cause(d); ok {
			return f
		}
	}
	e := d.member.Exchange
	if !e.Outcome.Good() {
		return d.finding(finding.Failed, finding.Fault, "%s does not answer (%s).", e.Server.Name(), e.Outcome)
	}
	return d.finding(finding.AnswerDiffers, finding.Fault, "%s answers %s; the zone says %s, and nothing seen explains the difference.", e.Server.Name(), d.group.Says(), d.truth.Says())
}

func (d doubt) finding(code finding.Code, severity finding.Severity, format string, args ...any) finding.Finding {
	return finding.New(code, severity, about(d.member.Exchange), fmt.Sprintf(format, args...), d.member.Exchange.Number, d.truth.Members[0].Exchange.Number)
}

// nowhere are addresses that lead to no host: filters hand them out.
func nowhere(values []string) bool {
	return len(values) > 0 && !slices.ContainsFunc(values, func(v string) bool {
		return !LeadsNowhere(v)
	})
}

// LeadsNowhere reports whether a value is an address that no other machine can be
// reached by: loopback, unspecified, or of one link.
func LeadsNowhere(value string) bool {
	a, err := netip.ParseAddr(value)
	return err == nil && exchange.Nowhere(a) != ""
}

// Nowhere says in a finding that addresses of a name lead nowhere: a fault if all do, else a
// concern; ok is false when none does. gives begins its sentence: "The zone gives X".
func Nowhere(addresses []string, about finding.About, gives string, evidence ...int) (f finding.Finding, ok bool) {
	var bad []string
	for _, value := range addresses {
		if LeadsNowhere(value) {
			bad = append(bad, value)
		}
	}
	if len(bad) == 0 {
		return f, false
	}
	severity := finding.Concern
	if len(bad) == len(addresses) {
		severity = finding.Fault
	}
	return finding.New(finding.AddressNowhere, severity, about,
		fmt.Sprintf("%s the address %s, which no other machine can reach.", gives, strings.Join(bad, ", ")), evidence...), true
}

// withheld are the Extended DNS Errors by which a resolver says that it withholds an answer,
// and on whose account (RFC 8914 §4.16 to §4.18).
var withheld = map[uint16]string{
	15: "by a list of its operator (Blocked)",
	16: "since it has to by law (Censored)",
	17: "since you asked for that (Filtered)",
}

// prohibited is the Extended DNS Error of a resolver that the client may not ask (RFC 8914
// §4.19).
const prohibited = 18

// blocked is an answer withheld: a reply says so, or the address leads nowhere.
func blocked(d doubt) (f finding.Finding, ok bool) {
	e := d.member.Exchange
	if e.Reply == nil {
		return f, false
	}
	if edns, has := e.Reply.EDNS(); has {
		for _, o := range edns.Options {
			code, _, extra, is := o.ExtendedError()
			if extra != "" {
				extra = ": " + wire.Escape(extra)
			}
			switch {
			case is && code == prohibited:
				f = d.finding(finding.Refused, finding.Fault, "%s says that you may not ask it (Prohibited)%s.", e.Server.Name(), extra)
				f.Next = "Use a resolver that is meant for you, or ask whoever runs this one to let this machine's network in."
				f.Sure = finding.Certain
				return f, true
			case is && withheld[code] != "":
				f = d.finding(finding.AnswerBlocked, finding.Fault, "%s withholds the answer, %s%s; it says so itself.", e.Server.Name(), withheld[code], extra)
				f.Sure = finding.Certain
				return f, true
			}
		}
	}
	if _, _, proof := exchange.Negative(e.Reply); e.Outcome == exchange.NoName && !proof && !e.Authoritative() && d.truth.Outcome == exchange.Answered {
		f = d.finding(finding.AnswerBlocked, finding.Fault, "%s says that the name does not exist, without naming the zone that says so; the zone says %s.", e.Server.Name(), d.truth.Says())
		f.Sure = finding.Likely
		return f, true
	}
	if nowhere(d.group.Values) && !nowhere(d.truth.Values) {
		f = d.finding(finding.AnswerBlocked, finding.Fault, "%s answers %s, an address that leads nowhere; the zone says %s.", e.Server.Name(), d.group.Says(), d.truth.Says())
		f.Sure = finding.Likely
		return f, true
	}
	return f, false
}

// rewritten is data where the zone says that there is no such name; names that
// nobody has and that get the same prove it.
func rewritten(d doubt) (f finding.Finding, ok bool) {
	e := d.member.Exchange
	if d.truth.Outcome != exchange.NoName || e.Outcome != exchange.Answered {
		return f, false
	}
	same := 0
	f = d.finding(finding.AnswerRewritten, finding.Fault, "%s answers %s, although the zone says that the name does not exist.", e.Server.Name(), d.group.Says())
	f.Sure = finding.Likely
	denied := 0
	for _, made := range d.evidence.MadeUp[e] {
		if made.Outcome == exchange.NoName {
			denied++
		}
		if made.Meaning() == e.Meaning() {
			same++
			f.AddEvidence(made.Number)
		}
	}
	if denied > 0 && same == 0 {
		return f, false // it makes nothing up: it has this from before
	}
	if same > 1 {
		f.Sure = finding.Certain
		f.Text = strings.TrimSuffix(f.Text, ".") + fmt.Sprintf(", and the same for %d random names.", same)
	}
	return f, true
}

// byPlace is an answer that the zone's own servers give to other clients, or in turn.
func byPlace(d doubt) (f finding.Finding, ok bool) {
	e := d.member.Exchange
	if d.truth.Outcome != exchange.Answered {
		return f, false
	}
	for _, there := range d.evidence.ByPlace[e] {
		if there.Meaning() == e.Meaning() && there.Authoritative() && e.Outcome != exchange.Answered {
			f = d.finding(finding.AnswerByPlace, finding.Fault, "For clients in the network of %s the zone's own server answers %s; for others it has %s.", e.Server.Name(), d.group.Says(), d.truth.Says())
			f.Next = "Ask the zone's operator whether its view for that network is to lack this."
			f.AddEvidence(there.Number)
			f.About.Zone, f.Sure = d.evidence.Origin.String(), finding.Certain
			return f, true
		}
		if there.Meaning() == e.Meaning() && there.Authoritative() {
			f = d.finding(finding.AnswerByPlace, finding.Note, "%s gets a different answer for its location, as intended: the zone's own server answers %s for clients there.", e.Server.Name(), d.group.Says())
			f.AddEvidence(there.Number)
			f.Sure = finding.Certain
			return f, true
		}
	}
	// In turn: every value of the resolver's is one that the zone's own server gives at some time.
	given := map[string]bool{}
	answers := map[string]bool{}
	for _, again := range d.evidence.Again {
		answers[again.Meaning()] = true
		for _, v := range exchange.Values(again.Answer().Records) {
			given[v] = true
		}
	}
	if len(answers) > 1 && !slices.ContainsFunc(d.group.Values, func(v string) bool { return !given[v] }) {
		f = d.finding(finding.AnswerByPlace, finding.Note, "%s has one of several answers that the zone's own server rotates.", e.Server.Name())
		for _, again := range d.evidence.Again {
			f.AddEvidence(again.Number)
		}
		f.Sure = finding.Certain
		return f, true
	}
	return f, false
}

// negative is "there is none" remembered from before there was.
func negative(d doubt) (f finding.Finding, ok bool) {
	e := d.member.Exchange
	if e.Outcome != exchange.NoName && e.Outcome != exchange.NoData || d.truth.Outcome != exchange.Answered {
		return f, false
	}
	f = d.finding(finding.CacheNegative, finding.Fault, "%s answers %s; the zone has %s.", e.Server.Name(), e.Outcome, d.truth.Says())
	f.Sure = finding.Likely
	if soa, ttl, has := exchange.Negative(e.Reply); has {
		f.Lasts = ttl
		// A fresh "none" comes with the whole of the zone's negative TTL.
		if content, _ := soa.Authority(); ttl < content.Minimum && !e.Authoritative() {
			f.Sure = finding.Certain
		}
	}
	return f, true
}

// heldUp is an answer that one of the zone's own servers still gives: it is that server that
// differs, and the resolver only asked it.
func heldUp(d doubt) (f finding.Finding, ok bool) {
	own := d.heldUpBy
	if len(own) == 0 {
		return f, false
	}
	code := finding.CacheStale
	if e := d.member.Exchange; e.Outcome != exchange.Answered {
		code = finding.CacheNegative
	}
	var hosts []string
	f = d.finding(code, finding.Fault, "")
	for _, m := range own {
		f.AddEvidence(m.Exchange.Number)
		f.Lasts = max(f.Lasts, m.Expire)
		if host := m.Exchange.Server.Name(); !slices.Contains(hosts, host) {
			hosts = append(hosts, host)
		}
	}
	who := wording.List(hosts)
	does := "does " + who + ", one of the zone's own servers"
	if len(hosts) > 1 {
		does = "do " + who + ", servers of the zone itself"
	}
	f.Text = fmt.Sprintf("%s answers %s, as %s; the zone's newest version says %s.", d.member.Exchange.Server.Name(), d.group.Says(), does, d.truth.Says())
	f.Next = fmt.Sprintf("Have the zone's operator bring %s up to date first: until then the resolver can fetch the old answer again.", who)
	f.Sure = finding.Certain
	return f, true
}

// lost is a name that the zone no longer has, out of a cache that still has it: one that
// answers for no other name that does not exist.
func lost(d doubt) (f finding.Finding, ok bool) {
	e := d.member.Exchange
	if d.truth.Outcome != exchange.NoName || e.Outcome != exchange.Answered || e.Authoritative() {
		return f, false
	}
	denied := 0
	for _, made := range d.evidence.MadeUp[e] {
		if made.Meaning() == e.Meaning() {
			return f, false // it answers for whatever does not exist
		}
		if made.Outcome == exchange.NoName {
			denied++
		}
	}
	if denied == 0 {
		return f, false
	}
	f = d.finding(finding.NameLost, finding.Fault, "The zone no longer has %s; %s still answers %s from its cache.", e.Question.Name.Spoken(), e.Server.Name(), d.group.Says())
	for _, made := range d.evidence.MadeUp[e] {
		f.AddEvidence(made.Number)
	}
	f.Lasts, f.Sure = d.group.leastOf(d.member), finding.Likely
	return f, true
}

// stale is an older answer out of a cache: one that has been counted down.
func stale(d doubt) (f finding.Finding, ok bool) {
	e := d.member.Exchange
	if e.Outcome != exchange.Answered || e.Authoritative() {
		return f, false
	}
	f = d.finding(finding.CacheStale, finding.Fault, "%s still answers %s; the zone says %s.", e.Server.Name(), d.group.Says(), d.truth.Says())
	f.Lasts = d.group.leastOf(d.member)
	// With as much time left as the zone gives, it was not fetched from this zone before.
	return f, f.Lasts < d.truth.MostTTL || d.truth.MostTTL == 0
}

// Open returns the members whose difference from the zone needs more evidence to
// be explained, and whether the zone says that there is no such name.
func (r *Result) Open() (members []Member, noName bool) {
	truth := r.Truth()
	if truth == nil {
		return nil, false
	}
	for i := range r.Groups {
		g := &r.Groups[i]
		for _, m := range g.Members {
			if o := m.Exchange.Outcome; g != truth && !m.Own && (o.Good() || o == exchange.ServerFailure && truth.Outcome.Good()) {
				members = append(members, m)
			}
		}
	}
	return members, truth.Outcome == exchange.NoName
}
