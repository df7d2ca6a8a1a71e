package diagnosis

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"unquil/core/delegation"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/machine"
	"unquil/core/wire"
)

// State is how a check came out.
type State string

// The states.
const (
	Fine    State = "fine"
	Wrong   State = "wrong"
	Unknown State = "unknown"
)

// Check is one thing that was looked at, and what was seen.
type Check struct {
	What  string `json:"what"`
	State State  `json:"state"`
	Saw   string `json:"saw"`
}

// Verdict is where and why a name fails. Without a Cause nothing was found
// wrong, and Unknown says what could not be looked at.
type Verdict struct {
	Name     wire.Name
	Types    []wire.Type
	Where    Place
	At       string            // the server, resolver or zone at that place
	Cause    []finding.Finding // the findings that explain the failure: one kind, in one zone
	Text     string            // the cause in one sentence; without one, what the name leads to
	Sure     string            // "certain" or "likely"
	Because  string            // what makes it so
	Who      string            // can mend it
	Next     string            // what to do now
	Lasts    uint32            // seconds after which it ends by itself; 0: no end known
	Also     []finding.Finding // seen besides
	Checks   []Check
	Compared []Compared
}

// Why asks the resolvers and the zone's own servers for each type of a name,
// and weighs what comes back. setupErr is what reading this machine's set-up
// gave, when the resolvers come from there.
func (p Probe) Why(ctx context.Context, name wire.Name, types []wire.Type, resolvers []exchange.Server, setupErr error) Verdict {
	v := Verdict{Name: name, Types: types}
	var found []finding.Finding
	if setupErr != nil {
		v.Checks = append(v.Checks, Check{"this machine's resolvers", Wrong, setupErr.Error()})
		if errors.Is(setupErr, machine.ErrNoResolver) {
			found = append(found, finding.New(finding.NoResolver, finding.Fault, finding.About{}, "This machine has no resolver to ask."))
		}
	}
	questions := make([]wire.Question, len(types))
	for i, t := range types {
		questions[i] = wire.Question{Name: name, Type: t, Class: wire.IN}
	}
	v.Compared = p.Compare(ctx, resolvers, questions, true)
	for _, c := range v.Compared {
		found = append(found, c.AllFindings()...)
		v.Checks = append(v.Checks, checksOf(c)...)
	}
	v.decide(merge(found))
	return v
}

// merge drops what the question for another type has found already: the same
// thing wrong with the same server.
func merge(found []finding.Finding) []finding.Finding {
	type key struct {
		code                  finding.Code
		zone, server, address string
	}
	seen := map[key]int{}
	var kept []finding.Finding
	for _, f := range found {
		k := key{f.Code, f.About.Zone, f.About.Server, f.About.Address}
		if at, ok := seen[k]; ok {
			if f.Severity.Weight() > kept[at].Severity.Weight() {
				f, kept[at] = kept[at], f
			}
			kept[at].AddEvidence(f.Evidence...)
			continue
		}
		seen[k] = len(kept)
		kept = append(kept, f)
	}
	return kept
}

// decide picks the finding that explains the others.
func (v *Verdict) decide(found []finding.Finding) {
	best := len(rules)
	for _, f := range found {
		if f.Severity == finding.Fault {
			best = min(best, rank(f))
		}
	}
	if best == len(rules) {
		v.Also = found
		finding.Sort(v.Also)
		v.Text = v.healthy()
		return
	}
	r := rules[best]
	var first *finding.Finding
	for i, f := range found {
		if f.Severity == finding.Fault && first == nil && rank(f) == best {
			first = &found[i]
		}
	}
	for _, f := range found {
		// Servers of the same zone fail together, each in its own way.
		same := rank(f) == best || r.zone && r.place != OneServer && rules[min(rank(f), len(rules)-1)].place != TheZoneData
		if f.Severity == finding.Fault && same && f.About.Zone == first.About.Zone && (r.zone || f.About.Server == first.About.Server) {
			v.Cause = append(v.Cause, f)
		} else {
			v.Also = append(v.Also, f)
		}
	}
	finding.Sort(v.Also)
	v.Where, v.Who, v.Next, v.Sure, v.Because = r.place, r.who, first.Next, cmp.Or(first.Sure, finding.Certain), r.sure
	v.At, v.Lasts = first.About.Server, first.Lasts
	if r.zone && r.place != OneServer {
		v.At = first.About.Zone
	}
	v.Text = first.Text
	if len(v.Cause) > 1 {
		v.Text = togetherText(v.Cause)
	}
	if v.Where == TheResolver && first.Code == finding.AnswerDiffers {
		v.Sure = finding.Likely
	}
}

// healthy is what the name leads to when nothing is wrong with it.
func (v *Verdict) healthy() string {
	var parts []string
	for _, c := range v.Compared {
		switch {
		case c.Truth() != nil && c.Truth().Outcome == exchange.NoName:
			return "the zone itself says that there is no such name (NXDOMAIN); check how it is spelt"
		case c.Truth() != nil:
			parts = append(parts, fmt.Sprintf("%s is %s", c.Question.Type, c.Truth().Says()))
		}
	}
	if len(parts) == 0 {
		return "nothing that was asked failed, but the zone's own servers could not be held against it"
	}
	return strings.Join(parts, "; ") + "; the resolvers asked say the same as the zone"
}

// togetherText is one sentence for several servers of one zone that all fail.
func togetherText(causes []finding.Finding) string {
	var each []string
	for _, f := range causes {
		each = append(each, cmp.Or(f.Brief, strings.TrimSuffix(f.Text, ".")))
	}
	return fmt.Sprintf("No server of %s answers for it: %s.", strings.TrimSuffix(causes[0].About.Zone, "."), strings.Join(each, "; "))
}

// checksOf says what one comparison looked at, in the order a technician would.
func checksOf(c Compared) []Check {
	var checks []Check
	truth := c.Truth()
	for i := range c.Groups {
		g := &c.Groups[i]
		for _, m := range g.Members {
			if m.Own {
				continue
			}
			check := Check{What: fmt.Sprintf("%s asked for %s", m.Exchange.Server.Name(), c.Question.Type), State: Fine, Saw: g.Says()}
			switch {
			case m.Exchange.Outcome == "":
				check.State, check.Saw = Unknown, "cut short"
			case slices.ContainsFunc(c.Findings, func(f finding.Finding) bool {
				return f.Severity == finding.Fault && slices.Contains(f.Evidence, m.Exchange.Number)
			}):
				check.State = Wrong
			case truth == nil:
				check.Saw += ", which the zone's own word was not there to hold against"
			}
			checks = append(checks, check)
		}
	}
	if c.Walk != nil {
		checks = append(checks, walkCheck(c.Walk))
	}
	return checks
}

func walkCheck(w *delegation.Walk) Check {
	check := Check{What: fmt.Sprintf("walk from the root for %s", w.Question.Type), State: Fine, Saw: w.Summary()}
	switch w.End {
	case delegation.EndNoWayOut, delegation.EndCutShort, delegation.EndBudget:
		check.State = Unknown
	default:
		if finding.Worst(w.Findings) == finding.Fault {
			check.State = Wrong
		}
	}
	return check
}

// Evidence are the numbers of the exchanges that show the cause, in order.
func (v *Verdict) Evidence() []int {
	var all finding.Finding
	for _, f := range v.Cause {
		all.AddEvidence(f.Evidence...)
	}
	return all.Evidence
}

// OK reports whether nothing was found that makes anybody fail.
func (v *Verdict) OK() bool { return len(v.Cause) == 0 }

// Blind reports whether nothing could be said at all: no check came out fine or wrong.
func (v *Verdict) Blind() bool {
	return !slices.ContainsFunc(v.Checks, func(c Check) bool { return c.State != Unknown })
}
