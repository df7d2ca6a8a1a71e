// Package comparison holds the answers of several servers to one question
// against each other, and against what the zone itself says.
package comparison

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"syscall"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// Member is one server's answer. Own says that the server is one of the zone's
// own; Serial is the zone's serial as that server has it, 0 when not known.
type Member struct {
	Exchange *exchange.Exchange
	Own      bool
	Serial   uint32
	Expire   uint32 // seconds after which it gives the zone up without an update (RFC 1035 §3.3.13); 0 when not known
}

// Group is the members whose answers mean the same.
type Group struct {
	Members []Member
	Outcome exchange.Outcome
	Aliases []wire.Record // of the first member
	Values  []string      // at the end of the aliases, in a fixed order
	// LeastTTL and MostTTL are the bounds of what is left, in seconds; both 0 without records.
	LeastTTL, MostTTL uint32
	Truth             bool // what the zone itself says now
}

// Result is a whole comparison.
type Result struct {
	Question wire.Question
	Groups   []Group // the zone's own answer first, then the larger before the smaller, what was cut short last
	Asked    bool    // the zone's own servers are among the members
	Findings []finding.Finding
	Evidence Evidence // what was asked besides
}

// Compare groups the answers to one question and says what the differences
// are. The zone's truth is the answer of its own server named by reference (an
// index into members), or -1 when it is not known.
func Compare(question wire.Question, members []Member, reference int, evidence Evidence) Result {
	r := Result{Question: question, Evidence: evidence, Asked: slices.ContainsFunc(members, func(m Member) bool { return m.Own })}
	index := map[string]int{}
	for i, m := range members {
		key := m.Exchange.Meaning()
		at, ok := index[key]
		if !ok {
			at = len(r.Groups)
			index[key] = at
			answer := m.Exchange.Answer()
			r.Groups = append(r.Groups, Group{Outcome: m.Exchange.Outcome, Aliases: answer.Aliases, Values: exchange.Values(answer.Records)})
		}
		r.Groups[at].add(m)
		r.Groups[at].Truth = r.Groups[at].Truth || i == reference
	}
	slices.SortStableFunc(r.Groups, func(a, b Group) int {
		if a.Truth != b.Truth {
			return map[bool]int{true: -1, false: 1}[a.Truth]
		}
		if unknown := a.Outcome == ""; unknown != (b.Outcome == "") {
			return map[bool]int{true: 1, false: -1}[unknown]
		}
		return len(b.Members) - len(a.Members)
	})
	r.judge()
	return r
}

func (g *Group) add(m Member) {
	for _, record := range m.Exchange.Answer().Records {
		if len(g.Members) == 0 && g.MostTTL == 0 || record.TTL < g.LeastTTL {
			g.LeastTTL = record.TTL
		}
		g.MostTTL = max(g.MostTTL, record.TTL)
	}
	g.Members = append(g.Members, m)
}

// Says is what the group answers, in a few words that are safe to print.
func (g *Group) Says() string {
	if len(g.Values) > 0 {
		return strings.Join(g.Values, ", ")
	}
	return string(g.Outcome)
}

// Truth returns the group that gives the zone's own answer, nil when not known.
func (r *Result) Truth() *Group {
	for i := range r.Groups {
		if r.Groups[i].Truth {
			return &r.Groups[i]
		}
	}
	return nil
}

// Differs reports whether two servers gave different answers.
func (r *Result) Differs() bool {
	answers := 0
	for _, g := range r.Groups {
		if g.Outcome.Good() {
			answers++
		}
	}
	return answers > 1
}

// judge says of each group that differs what is the matter with it.
func (r *Result) judge() {
	truth := r.Truth()
	for i := range r.Groups {
		g := &r.Groups[i]
		for _, m := range g.Members {
			// The zone's own servers are judged where the zone is walked.
			if m.Own || m.Exchange.Outcome == "" {
				continue
			}
			d := r.doubt(m, g, truth)
			if f, failed := Failure(m.Exchange); failed {
				if truth != nil {
					for _, reason := range []cause{blocked, serversStale} {
						if known, ok := reason(d); ok {
							f = known // the failure has a reason that the replies give
							break
						}
					}
				}
				r.Findings = append(r.Findings, f)
			} else if truth != nil && g != truth && r.Question.Type != wire.ANY { // to which everybody may give what it likes (RFC 8482)
				r.Findings = append(r.Findings, r.difference(d))
			}
		}
	}
	if truth == nil {
		r.disagreement()
	}
	finding.Sort(r.Findings)
}

// doubt is a member that may differ from what the zone says.
func (r *Result) doubt(m Member, g, truth *Group) doubt {
	d := doubt{member: m, group: g, truth: truth, evidence: r.Evidence}
	for i := range r.Groups {
		for _, other := range r.Groups[i].Members {
			if other.Own && other.Exchange.Server.Address == m.Exchange.Server.Address {
				d.own = true
			}
			if other.Own && r.Groups[i].Truth {
				d.serial = other.Serial
			}
			if other.Own && (&r.Groups[i] == g || &r.Groups[i] != truth && sameAlias(m.Exchange, other.Exchange)) {
				d.heldUpBy = append(d.heldUpBy, other)
			}
		}
	}
	return d
}

func about(e *exchange.Exchange) finding.About {
	return finding.AboutExchange(e)
}

// failures are the outcomes that answer nothing, and what each says.
var failures = map[exchange.Outcome]struct {
	code finding.Code
	text string
}{
	exchange.NoReply:       {finding.NoReply, "%s did not reply."},
	exchange.Unreachable:   {finding.Unreachable, "%s cannot be reached: nothing is listening there."},
	exchange.Rejection:     {finding.Malformed, "%s sent a reply that cannot be trusted."},
	exchange.Refused:       {finding.Refused, "%s refuses to answer."},
	exchange.ServerFailure: {finding.ServerFailure, "%s could not get an answer (SERVFAIL)."},
	exchange.Truncated:     {finding.Truncated, "%s truncated its answer, and retrying over TCP failed too."},
}

// Failure says that a server gave no answer at all, and how; ok is false when
// it gave one.
func Failure(e *exchange.Exchange) (f finding.Finding, ok bool) {
	row, failed := failures[e.Outcome]
	if !failed {
		return f, false
	}
	if handshake, is := errors.AsType[*exchange.HandshakeError](e.Err); is && e.Outcome == exchange.Unreachable {
		return finding.New(finding.CertificateRejected, finding.Fault, about(e), fmt.Sprintf("%s: the encrypted connection failed: %v.", e.Server.Name(), handshake), e.Number), true
	}
	if e.Outcome == exchange.Unreachable && e.Err != nil {
		switch {
		case errors.Is(e.Err, syscall.EHOSTUNREACH) || errors.Is(e.Err, syscall.ENETUNREACH):
			f = finding.New(row.code, finding.Fault, about(e), fmt.Sprintf("%s cannot be reached: the network says that there is no route to it.", e.Server.Name()), e.Number)
			f.Next = "Check the address, and ask your network team why there is no route to it."
			return f, true
		case !exchange.RefusedByNetwork(e.Err):
			return finding.New(row.code, finding.Fault, about(e), fmt.Sprintf("%s: no connection could be made: %v.", e.Server.Name(), e.Err), e.Number), true
		}
	}
	switch {
	case errors.Is(e.Err, exchange.ErrAliasChain):
		f = finding.New(finding.AliasLong, finding.Fault, about(e), fmt.Sprintf("The answer from %s for %s is unusable: %v.", e.Server.Name(), e.Question.Spoken(), e.Err), e.Number)
		return f, true
	case errors.Is(e.Err, exchange.ErrDripping):
		f = finding.New(finding.Slow, finding.Fault, about(e), fmt.Sprintf("%s started to answer and was too slow: %v.", e.Server.Name(), e.Err), e.Number)
		return f, true
	}
	if status, is := errors.AsType[exchange.StatusError](e.Err); is {
		f = finding.New(finding.Failed, finding.Fault, about(e), fmt.Sprintf("%s answers with %v.", e.Server.Name(), status), e.Number)
		f.Next = "Check the path of the server's URL: many use /dns-query."
		if status >= 500 {
			f.Next = "Ask whoever runs the server: its web server fails."
		}
		return f, true
	}
	if e.Outcome == exchange.Rejection {
		return finding.New(finding.Code(exchange.Disbelief(e.Err)), finding.Fault, about(e), fmt.Sprintf("%s sent a reply that cannot be trusted: %v.", e.Server.Name(), e.Err), e.Number), true
	}
	return finding.New(row.code, finding.Fault, about(e), fmt.Sprintf(row.text, e.Server.Name()), e.Number), true
}

// sameAlias reports whether two answers begin with the same alias.
func sameAlias(a, b *exchange.Exchange) bool {
	x, y := a.Answer().Aliases, b.Answer().Aliases
	return len(x) > 0 && len(y) > 0 && x[0].Folded().Value() == y[0].Folded().Value()
}

// leastOf is the least TTL in a member's answer, in seconds.
func (g *Group) leastOf(m Member) uint32 {
	least := g.MostTTL
	for _, record := range m.Exchange.Answer().Records {
		least = min(least, record.TTL)
	}
	return least
}

// disagreement says that resolvers differ when the zone's word is not known:
// then nobody can be blamed, only the difference told.
func (r *Result) disagreement() {
	var good []*Group
	for i := range r.Groups {
		if r.Groups[i].Outcome.Good() {
			good = append(good, &r.Groups[i])
		}
	}
	for _, g := range good[min(1, len(good)):] {
		m := g.Members[0]
		r.Findings = append(r.Findings, finding.New(finding.AnswerDiffers, finding.Concern, about(m.Exchange),
			fmt.Sprintf("%s answers %s; %s answers %s.", m.Exchange.Server.Name(), g.Says(), good[0].Members[0].Exchange.Server.Name(), good[0].Says()),
			m.Exchange.Number, good[0].Members[0].Exchange.Number))
	}
}

// Contested reports whether an answer stands against another: without a second one, or the
// zone's own, nobody differs from anybody.
func (r *Result) Contested() bool {
	good := 0
	for i := range r.Groups {
		if r.Groups[i].Outcome.Good() {
			good++
		}
	}
	return good > 1
}

// Headline is the whole comparison in one sentence: how many agree, who
// differs and how.
func (r *Result) Headline() string {
	var known []*Group
	total, unknown := 0, 0
	for i := range r.Groups {
		if g := &r.Groups[i]; g.Outcome == "" {
			unknown += len(g.Members) // cut short: they agree with nobody
		} else {
			known = append(known, g)
			total += len(g.Members)
		}
	}
	text := "nothing is known"
	switch {
	case total == 1:
		text = fmt.Sprintf("only %s gave a result", known[0].Members[0].Exchange.Server.Name())
	case len(known) == 1 && !known[0].Outcome.Good():
		text = fmt.Sprintf("%s fail in the same way: %s", everyOf(total), known[0].Outcome)
	case len(known) == 1:
		text = everyOf(total) + " agree"
	case len(known) > 1:
		var others []string
		for _, g := range known[1:] {
			others = append(others, r.groupWords(g))
		}
		agree := "agree"
		alone := !slices.ContainsFunc(known, func(g *Group) bool { return len(g.Members) > 1 })
		switch {
		case r.Truth() != nil:
			agree = "agree with the zone"
		case !known[0].Outcome.Good():
			agree = fmt.Sprintf("fail in the same way (%s)", known[0].Outcome)
		}
		text = fmt.Sprintf("%d of %d %s; %s", len(known[0].Members), total, agree, strings.Join(others, "; "))
		if alone && r.Truth() == nil { // nobody agrees with anybody
			text = fmt.Sprintf("%s says %s; %s", known[0].Members[0].Exchange.Server.Name(), known[0].Says(), strings.Join(others, "; "))
		}
	}
	if unknown > 0 {
		text += fmt.Sprintf("; %d unknown, interrupted", unknown)
	}
	return text
}

// everyOf is all of two or more, in words.
func everyOf(total int) string {
	if total == 2 {
		return "both"
	}
	return fmt.Sprintf("all %d", total)
}

// differences say in the headline what kind of difference it is.
var differences = map[finding.Code]string{
	finding.CacheStale: "an older answer", finding.CacheNegative: "a cached negative answer", finding.AnswerByPlace: "a different answer for its location, as intended",
	finding.AnswerRewritten: "a made-up answer", finding.AnswerBlocked: "a blocked name", finding.AnswerLocal: "data of its own", finding.ServersStale: "what the zone's former servers say",
}

// groupWords names who is in a group that differs, and how it differs.
func (r *Result) groupWords(g *Group) string {
	var parts []string
	addresses := map[string]int{} // by server: how many of them say this
	for _, m := range g.Members {
		name := m.Exchange.Server.Name()
		if addresses[name]++; addresses[name] == 1 {
			parts = append(parts, name)
		}
	}
	for i, name := range parts {
		if n := addresses[name]; n > 1 {
			parts[i] = fmt.Sprintf("%s (%d addresses)", name, n)
		}
	}
	who, verb := strings.Join(parts, " and "), "differ"
	if len(parts) == 1 {
		verb = "differs"
	}
	if len(parts) > 3 {
		who = fmt.Sprintf("%s and %d more", parts[0], len(parts)-1)
	}
	if !g.Outcome.Good() {
		return fmt.Sprintf("%s gave no answer (%s)", who, g.Outcome)
	}
	how := "says " + g.Says()
	for _, f := range r.Findings {
		if words, ok := differences[f.Code]; ok && slices.Contains(f.Evidence, g.Members[0].Exchange.Number) {
			how = words
			if f.Code == finding.CacheStale && f.Sure == finding.Likely {
				how = "what seems an older answer"
			}
			if f.Code == finding.AnswerByPlace && f.Severity == finding.Fault {
				how = "what the zone gives to its network"
			}
			if f.Lasts > 0 {
				how += fmt.Sprintf(", gone from %s within %s", strings.TrimSuffix(f.About.Server, "."), wire.Period(f.Lasts))
			}
		}
	}
	return fmt.Sprintf("%s %s: %s", who, verb, how)
}
