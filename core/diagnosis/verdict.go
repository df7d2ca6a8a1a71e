package diagnosis

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"unquil/core/delegation"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/probe"
	"unquil/core/wire"
	"unquil/core/wording"
)

// Verdict is where and why a name fails. Without a Cause nothing was found
// wrong, and Next says what would tell more.
type Verdict struct {
	Name     wire.Name
	Names    []wire.Name // all that fail alike, Name among them; nil before [Group]
	Types    []wire.Type
	Severity finding.Severity // of the cause: Fault, or Concern where the name works; "" without a cause
	Where    Place
	At       string            // the server, resolver or zone at that place
	Cause    []finding.Finding // the findings that explain the failure: one kind, in one zone
	Text     string            // the cause in one sentence; without one, what the name leads to
	Sure     string            // certain, likely or possible, as finding has them
	Because  string            // what makes it so
	RuledOut []RuledOut        // what would look the same, and is not so
	Against  string            // what would look the same and is not ruled out, or else what to keep in mind; "" for nothing
	Who      string            // can fix it
	// Elsewhere is what other resolvers say to the same; "" where none was asked.
	Elsewhere string
	Next      string            // what to do now
	Lasts     uint32            // seconds after which it ends by itself; 0: no end known
	Ends      time.Time         // when that is, at the latest; zero without it
	Follows   []finding.Finding // seen besides, and explained by the cause
	Also      []finding.Finding // seen besides, for itself
	Checks    []Check
	Compared  []probe.Compared
}

// placing is where a verdict puts a failure, who can fix it, and what that rests on.
type placing struct {
	where Place
	at    string // the server, resolver or zone at that place
	who   string
	sure  string
	// because is what makes it so, and against what would look the same; "" where nothing does.
	because, against string
	rivals           []rival
	equal            bool // each rival fits as well
	ruledOut         []RuledOut
}

// ground is what somebody who knows how the exchanges came about makes of the place that the
// rules give to the cause of a verdict.
type ground func(v *Verdict, p placing) placing

// decide gives the verdict on what was found about a subject: the finding that explains the
// others is the cause, the grounds have their say on its place, and what is to be seen says
// how sure that is.
func decide(subject Verdict, found []finding.Finding, see sight, grounds ...ground) Verdict {
	v := subject
	found = promote(found, v.Compared)
	at := choose(found)
	if at < 0 {
		v.Also = found
		finding.Sort(v.Also)
		return v
	}
	v.Severity = found[at].Severity
	v.Cause, v.Follows, v.Also = partition(found, at)
	finding.Sort(v.Also)
	first := &v.Cause[0]
	p := v.place(first)
	for _, g := range grounds {
		p = g(&v, p)
	}
	see.cause = v.Cause
	p = p.weigh(&see)
	v.Where, v.At, v.Who, v.Sure, v.Because, v.Against, v.RuledOut = p.where, p.at, p.who, p.sure, p.because, p.against, p.ruledOut
	v.Next, v.Lasts, v.Text = first.Next, first.Lasts, v.said()
	return v
}

// choose is the finding that explains the others: of the heaviest the one whose rule stands
// highest, and that does not follow from another; -1 when no finding makes anybody fail.
func choose(found []finding.Finding) int {
	best := -1
	for i, f := range found {
		if f.Severity == finding.Note || rank(f) == len(rules) || explained(f, found) {
			continue
		}
		if best < 0 || f.Severity.Weight() > found[best].Severity.Weight() ||
			f.Severity == found[best].Severity && rank(f) < rank(found[best]) {
			best = i
		}
	}
	return best
}

// partition divides what was found: the cause with the finding that speaks for all in front,
// what follows from it, and what stands for itself.
func partition(found []finding.Finding, chosen int) (cause, follows, also []finding.Finding) {
	first := &found[chosen]
	r := rules[rank(*first)]
	cause = []finding.Finding{*first}
	for i, f := range found {
		switch {
		case i == chosen:
		case f.Severity == first.Severity && r.joins(first, f):
			cause = append(cause, f)
		case f.Severity != finding.Note && r.accounts(*first, f):
			follows = append(follows, f)
		default:
			also = append(also, f)
		}
	}
	return cause, follows, also
}

// place is where the rules put the cause.
func (v *Verdict) place(first *finding.Finding) placing {
	r := rules[rank(*first)]
	p := placing{where: r.place, at: first.About.Server, who: r.who, sure: cmp.Or(first.Sure, finding.Certain), because: r.sure, against: r.caveat, rivals: r.rivals, equal: r.equal}
	if p.where == ZoneServers && (v.Severity == finding.Concern || v.spares(first)) {
		p.where = OneServer
	}
	if slices.Contains(signatureFlaws, first.Code) && first.About.Server != "" {
		p.where, p.who = OneServer, holderAtHost
		return p
	}
	if r.ofZone && (p.where == ZoneServers || p.where == TheZoneData || p.where == TheDeleg && v.Severity == finding.Fault || p.at == "") {
		p.at = first.About.Zone
	}
	if zone, err := wire.ParseName(first.About.Zone); err == nil && first.About.Zone != "" && zone.Labels() <= 1 && zone.Labels() < v.Name.Labels() && p.where != TheZoneData {
		p.where, p.who = TheRegistry, registrySide
	}
	if p.where == TheZoneData && (p.at == "" || first.About.Zone == "") || p.where == BehindAnswer {
		p.at = v.zoneOf(first)
	}
	return p
}

// spares reports whether servers of the zone that a finding is about answer its question, and
// are not part of the cause.
func (v *Verdict) spares(f *finding.Finding) bool {
	for i := range v.Compared {
		c := &v.Compared[i]
		last := c.Walk.Last()
		if last == nil || c.Question.Type.String() != f.About.Type || last.Zone.String() != f.About.Zone {
			continue
		}
		return slices.ContainsFunc(last.Replies, func(r *delegation.Reply) bool {
			return r.Stance == delegation.Answers && !slices.ContainsFunc(v.Cause, func(of finding.Finding) bool { return of.About.Address == r.Address.String() })
		})
	}
	return false
}

// said is the cause in one sentence.
func (v *Verdict) said() string {
	text := v.Cause[0].Text
	if len(v.Cause) > 1 && v.Severity == finding.Fault {
		text = togetherText(v.Cause)
	}
	text = strings.TrimSuffix(text, ".") + v.onlyType()
	if v.Sure == finding.Possible {
		text += "; several causes fit that equally"
	}
	return text + "."
}

// zoneOf is the zone that the question of a finding was answered from; "" when that
// is not known.
func (v *Verdict) zoneOf(f *finding.Finding) string {
	for i := range v.Compared {
		if c := &v.Compared[i]; c.Walk != nil && c.Walk.Last() != nil && c.Question.Type.String() == f.About.Type {
			return c.Walk.Last().Zone.String()
		}
	}
	return ""
}

// Subject are the names that the verdict is about, the first three of many.
func (v *Verdict) Subject() string {
	var names []string
	for _, name := range v.Names[:min(len(v.Names), 3)] {
		names = append(names, name.Spoken())
	}
	switch more := len(v.Names) - 3; {
	case len(names) == 0:
		return v.Name.Spoken()
	case more > 0:
		names = append(names, "and "+wording.Number(more)+" more")
	}
	return strings.Join(names, ", ")
}

// Sentence is the verdict for one name with its name in front, unless it says the
// name itself.
func (v *Verdict) Sentence() string {
	subject := v.Subject()
	if len(v.Names) < 2 && strings.HasPrefix(v.Text, subject+" ") {
		return v.Text
	}
	return subject + ": " + v.Text
}

// Told are the checks that are told one by one, of a verdict that may be about
// thousands of names; more is how many there are besides.
type Told struct {
	Checks []Check
	More   int
}

// Told are all checks up to 30, and of more than that ten.
func (v *Verdict) Told() Told {
	n := len(v.Checks)
	if n > 30 {
		n = 10
	}
	return Told{v.Checks[:n], len(v.Checks) - n}
}

// explained reports whether a resolver's failure follows from what is wrong with
// the servers that it had to ask.
func explained(f finding.Finding, found []finding.Finding) bool {
	return f.About.Zone == "" && slices.ContainsFunc(found, func(g finding.Finding) bool {
		at := rank(g)
		return at < len(rules) && rules[at].ofZone && g.Severity == f.Severity && rules[at].accounts(g, f)
	})
}

// accounts reports whether what cause is about is the reason for another finding.
func (r rule) accounts(cause, f finding.Finding) bool {
	if !slices.Contains(r.explains, f.Code) {
		return false
	}
	return !r.sharing || f.About.Zone != "" || slices.ContainsFunc(f.Evidence, func(n int) bool { return slices.Contains(cause.Evidence, n) })
}

// joins reports whether f is part of the same cause: servers of one zone fail
// together, each in its own way.
func (r rule) joins(first *finding.Finding, f finding.Finding) bool {
	at := rank(f)
	if at == len(rules) {
		return false
	}
	if !r.ofZone || r.place == OneServer {
		return f.Code == first.Code && f.About.Zone == first.About.Zone && f.About.Server == first.About.Server
	}
	together := r.place == TheDeleg || r.place == ZoneServers
	other := rules[at].place == TheDeleg || rules[at].place == ZoneServers
	return f.About.Zone == first.About.Zone && (f.Code == first.Code || together && other && first.Severity == finding.Fault)
}

// workarounds are what this program gets round by itself, and a resolver may not.
var workarounds = []finding.Code{finding.EDNSBreaks, finding.LargeLost, finding.TCPRefused}

// promote makes faults of workarounds that every server of a zone calls for, when a resolver
// that works fails for the name, and nothing else explains that.
func promote(found []finding.Finding, compared []probe.Compared) []finding.Finding {
	fails := func(f finding.Finding) bool {
		return f.Severity == finding.Fault && f.About.Zone == "" && (f.Code == finding.ServerFailure || f.Code == finding.NoReply)
	}
	if !slices.ContainsFunc(found, fails) || slices.ContainsFunc(found, func(f finding.Finding) bool { return f.Severity == finding.Fault && !fails(f) }) {
		return found
	}
	promoted := slices.Clone(found)
	for i := range compared {
		last := compared[i].Walk.Last()
		if last == nil {
			continue
		}
		for _, code := range workarounds {
			var affected []*finding.Finding
			for at := range promoted {
				if f := &promoted[at]; f.Code == code && f.About.Zone == last.Zone.String() {
					affected = append(affected, f)
				}
			}
			if len(affected) < len(last.Replies) {
				continue
			}
			for _, f := range affected {
				f.Severity, f.Sure = finding.Fault, finding.Likely
			}
		}
	}
	return promoted
}

// onlyType says that the failure is one of several types' that were asked; "" when
// it is of all.
func (v *Verdict) onlyType() string {
	if len(v.Types) < 2 || v.Severity != finding.Fault {
		return ""
	}
	var failed, others []string
	for i := range v.Compared {
		c := &v.Compared[i]
		name := c.Question.Type.String()
		hit := slices.ContainsFunc(v.Cause, func(f finding.Finding) bool {
			return slices.ContainsFunc(f.Evidence, func(n int) bool { return has(c, n) })
		})
		if hit {
			failed = append(failed, name)
		} else {
			others = append(others, name)
		}
	}
	if len(failed) != 1 || len(others) == 0 {
		return ""
	}
	return fmt.Sprintf("; only %s fails, not %s", failed[0], strings.Join(others, ", "))
}

// has reports whether an exchange belongs to the comparison or its walk.
func has(c *probe.Compared, number int) bool {
	for i := range c.Groups {
		for _, m := range c.Groups[i].Members {
			if m.Exchange.Number == number {
				return true
			}
		}
	}
	if c.Walk != nil {
		for _, step := range c.Walk.Steps {
			for _, reply := range step.Replies {
				if reply.Exchange != nil && reply.Exchange.Number == number {
					return true
				}
			}
		}
	}
	return false
}

// truthUnseen is the ground that the zone's own servers were not seen to answer: what a
// resolver's failure was said to rest on falls.
func truthUnseen(v *Verdict, p placing) placing {
	if f := v.Cause[0]; f.Code == finding.ServerFailure && f.About.Zone == "" && !slices.ContainsFunc(v.Compared, func(c probe.Compared) bool { return c.Truth() != nil }) {
		p.sure, p.because = finding.Likely, "the resolver says so itself"
		p.rivals = []rival{{"a fault of the zone's own servers (which were not seen to answer)", "trace the name from a network that reaches them", "", nil}}
	}
	return p
}

// whatNext is what would tell more when no cause was found.
func (v *Verdict) whatNext() string {
	for _, c := range v.Checks {
		if c.State == Unknown && !strings.HasPrefix(c.What, theRegistry) { // which was asked for more, and not for what fails
			return fmt.Sprintf("To learn more, run the same from a network where this can be seen: %s (%s).", c.What, c.Saw)
		}
	}
	if domain, unknown := v.unregistered(); unknown {
		return fmt.Sprintf("Check the spelling first. The registry does not know %s: it was never registered, or its registration has lapsed; ask whoever should hold it.", domain.Spoken())
	}
	if slices.ContainsFunc(v.Compared, func(c probe.Compared) bool { return c.Truth() != nil && c.Truth().Outcome == exchange.NoName }) {
		return "Check the spelling of the name, and whether it was ever created."
	}
	return "If it still fails for somebody, ask exactly what they see, and run this on their machine: their resolver may answer differently."
}

// unregistered is the domain that a registry says does not exist; ok is false when the name
// fails further down, or not at all.
func (v *Verdict) unregistered() (domain wire.Name, ok bool) {
	for _, c := range v.Compared {
		if c.Truth() == nil || c.Truth().Outcome != exchange.NoName || c.Walk == nil || len(c.Walk.Aliases) > 0 {
			continue
		}
		if zone := c.Walk.Last().Zone; zone.Labels() == 1 && v.Name.Labels() > 1 {
			return v.Name.Ancestor(2), true
		}
	}
	return domain, false
}

// healthy is what the name leads to when nothing is wrong with it.
func (v *Verdict) healthy() string {
	var parts []string
	for _, c := range v.Compared {
		switch {
		case c.Truth() != nil && c.Truth().Outcome == exchange.NoName:
			text := "the zone itself says that the name does not exist (NXDOMAIN)"
			if c.Walk != nil && !c.Walk.Closest.IsZero() {
				text += fmt.Sprintf("; the closest name that exists is %s", c.Walk.Closest.Spoken())
			}
			return text
		case c.Truth() != nil:
			parts = append(parts, fmt.Sprintf("%s is %s", c.Question.Type, c.Truth().Says()))
		}
	}
	if len(parts) == 0 {
		return "nothing failed, but the zone's own servers could not be compared"
	}
	return strings.Join(parts, "; ") + "; the resolvers agree with the zone"
}

// togetherText is one sentence for several servers of one zone that all fail.
func togetherText(causes []finding.Finding) string {
	var each []string
	for _, f := range causes {
		each = append(each, cmp.Or(f.Brief, strings.TrimSuffix(f.Text, ".")))
	}
	all, zone := strings.Join(each, "; ")+".", causes[0].About.Zone
	if causes[0].Brief == "" || zone == "" {
		return all
	}
	return fmt.Sprintf("No server of %s answers for it: %s", cmp.Or(strings.TrimSuffix(zone, "."), "the root zone"), all)
}

// Evidence are the numbers of the exchanges that show the cause, in order.
func (v *Verdict) Evidence() []int {
	var all finding.Finding
	for _, f := range v.Cause {
		all.AddEvidence(f.Evidence...)
	}
	return all.Evidence
}

// Codes are those of the cause, each once, the one that speaks for all first.
func (v *Verdict) Codes() (codes []string) {
	for _, f := range v.Cause {
		if !slices.Contains(codes, string(f.Code)) {
			codes = append(codes, string(f.Code))
		}
	}
	return codes
}

// Findings are all of them: the cause, what follows from it, and what was seen besides.
func (v *Verdict) Findings() []finding.Finding { return slices.Concat(v.Cause, v.Follows, v.Also) }

// OK reports whether nothing was found that makes anybody fail.
func (v *Verdict) OK() bool { return v.Severity != finding.Fault }

// Blind reports whether nothing could be said at all: no check came out fine or wrong.
func (v *Verdict) Blind() bool {
	return !slices.ContainsFunc(v.Checks, func(c Check) bool { return c.State == Fine || c.State == Wrong })
}
