package delegation

import (
	"fmt"
	"slices"
	"strings"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// judge returns what is wrong on a walk.
func judge(w *Walk) []finding.Finding {
	var all []finding.Finding
	if w.End == EndNoWayOut {
		return nil
	}
	for _, step := range w.Steps {
		all = append(all, step.serverFindings()...)
	}
	if last := w.Last(); last != nil && last.Chosen != nil {
		all = append(all, last.differences()...)
	}
	all = append(all, w.aliasFindings()...)
	if w.End == EndLoop {
		zone := w.Last().Zone
		var evidence []int // the referrals that lead in the circle
		for _, step := range w.Steps {
			if step.Chosen != nil {
				evidence = append(evidence, step.Chosen.Exchange.Number)
			}
		}
		all = append(all, finding.New(finding.Loop, finding.Fault, finding.About{Zone: zone.String()},
			fmt.Sprintf("The servers of %s can only be found by asking the servers of %s.", zone.Spoken(), zone.Spoken()), evidence...))
	}
	finding.Sort(all)
	return all
}

// serverFindings says which of the zone's listed servers are of no use. While
// another one is, that is a concern; when none is, it is the fault.
func (s *Step) serverFindings() []finding.Finding {
	severity := finding.Fault
	for _, r := range s.Replies {
		if r.Stance.Usable() {
			severity = finding.Concern
		}
	}
	var all []finding.Finding
	for _, r := range s.Replies {
		if code, does := r.fault(); code != "" {
			about := finding.About{Zone: s.Zone.String(), Server: r.Host.String(), Name: s.Question.Name.String(), Type: s.Question.Type.String()}
			if r.Address.IsValid() {
				about.Address = r.Address.String()
			}
			f := finding.New(code, severity, about, fmt.Sprintf("%s is listed for %s and %s.", r.who(), s.Zone.Spoken(), does))
			f.Brief = r.who() + " " + does
			if r.Exchange != nil {
				f.AddEvidence(r.Exchange.Number)
			}
			all = append(all, f)
		}
		if r.Exchange != nil && r.Exchange.EDNSBroke != "" {
			all = append(all, finding.New(finding.EDNSBreaks, finding.Concern,
				finding.About{Zone: s.Zone.String(), Server: r.Host.String(), Address: r.Address.String()},
				fmt.Sprintf("%s answers only without EDNS; with it: %s.", r.who(), r.Exchange.EDNSBroke), r.Exchange.Number))
		}
		if r.Exchange != nil && r.Exchange.Took().Seconds() > 1 {
			all = append(all, finding.New(finding.Slow, finding.Concern,
				finding.About{Zone: s.Zone.String(), Server: r.Host.String(), Address: r.Address.String()},
				fmt.Sprintf("%s took %.1f s to answer.", r.Host.Spoken(), r.Exchange.Took().Seconds()), r.Exchange.Number))
		}
	}
	return all
}

// fault is what is wrong with a listed server, by its reply, as a code and as
// what follows its name in a sentence; "" when nothing is.
func (r *Reply) fault() (code finding.Code, does string) {
	switch r.Stance {
	case LameRefuses:
		return finding.LameServer, "refuses to answer for it"
	case LameElsewhere:
		return finding.LameServer, "refers elsewhere"
	case LameNoAuthority:
		return finding.LameServer, "answers without authority"
	case Fails:
		if r.Exchange.Outcome == exchange.Truncated {
			return finding.Truncated, "cuts its answer, and the whole cannot be got over TCP"
		}
		return finding.ServerFailure, fmt.Sprintf("fails to answer (%s)", r.Exchange.Outcome)
	case Silent:
		switch r.Exchange.Outcome {
		case exchange.Unreachable:
			return finding.Unreachable, "cannot be reached: nothing listens there"
		case exchange.Rejection:
			return finding.Malformed, fmt.Sprintf("sends what cannot be believed (%v)", r.Exchange.Err)
		}
		return finding.NoReply, "sends nothing back"
	case NotAsked:
		if r.Why == errNone.Error() {
			return finding.NSUnresolved, "has no address"
		}
	}
	return "", ""
}

// who is the server's host name, with its address where one is known.
func (r *Reply) who() string {
	if r.Address.IsValid() {
		return fmt.Sprintf("%s (%s)", r.Host.Spoken(), r.Address)
	}
	return r.Host.Spoken()
}

// Reference returns the reply that speaks for the zone: one with authority and
// the newest serial; without serials the first with authority. nil without any.
func (s *Step) Reference() *Reply {
	var best *Reply
	for _, r := range s.Replies {
		if r.Stance != Answers {
			continue
		}
		if best == nil {
			best = r
			continue
		}
		serial, ok := r.Serial()
		bestSerial, known := best.Serial()
		if ok && (!known || wire.NewerSerial(serial, bestSerial)) {
			best = r
		}
	}
	return best
}

// differences holds the servers of the last zone against each other.
func (s *Step) differences() []finding.Finding {
	reference := s.Reference()
	if reference == nil {
		return nil
	}
	newest, known := reference.Serial()
	var all []finding.Finding
	for _, r := range s.Replies {
		if r.Stance != Answers || r == reference {
			continue
		}
		about := finding.About{Name: s.Question.Name.String(), Type: s.Question.Type.String(), Zone: s.Zone.String(), Server: r.Host.String(), Address: r.Address.String()}
		serial, ok := r.Serial()
		behind := known && ok && wire.NewerSerial(newest, serial)
		differs := r.Exchange.Meaning() != reference.Exchange.Meaning()
		// That SOA records differ by their serial is told once, below.
		if differs && s.Question.Type != wire.SOA {
			severity, text := finding.Fault, fmt.Sprintf("%s answers %s; %s answers %s.", r.Host.Spoken(), said(r.Exchange), reference.Host.Spoken(), said(reference.Exchange))
			if behind {
				text = fmt.Sprintf("%s still answers %s, from serial %d; %s answers %s, from serial %d.", r.Host.Spoken(), said(r.Exchange), serial, reference.Host.Spoken(), said(reference.Exchange), newest)
			} else if known && ok && r.Exchange.Outcome == reference.Exchange.Outcome {
				// The same version of the zone: rotation or an answer by place, which is nothing to mend.
				severity = finding.Note
			}
			all = append(all, finding.New(finding.AnswersDiffer, severity, about, text, r.Exchange.Number, reference.Exchange.Number))
		}
		if behind {
			// A secondary that lags does no harm to a name that did not change.
			severity := finding.Note
			// That SOA records differ by their serial is told once, below.
			if differs && s.Question.Type != wire.SOA {
				severity = finding.Concern
			}
			all = append(all, finding.New(finding.SerialsDiffer, severity, about,
				fmt.Sprintf("%s holds serial %d of %s; the newest is %d.", r.Host.Spoken(), serial, s.Zone.Spoken(), newest), r.SOA.Number, reference.SOA.Number))
		}
	}
	return all
}

// said is what an exchange answers, in a few words that are safe to print.
func said(e *exchange.Exchange) string {
	if values := exchange.Values(e.Answer().Records); len(values) > 0 {
		return strings.Join(values, ", ")
	}
	return string(e.Outcome)
}

func (w *Walk) aliasFindings() []finding.Finding {
	if len(w.Aliases) == 0 {
		return nil
	}
	var evidence []int
	for _, step := range w.Steps {
		if step.Chosen != nil && step.Chosen.Stance == Answers {
			evidence = append(evidence, step.Chosen.Exchange.Number)
		}
	}
	about := finding.About{Name: w.Question.Name.String(), Type: w.Question.Type.String(), Zone: w.Last().Zone.String()}
	switch w.End {
	case EndAliasLoop:
		return []finding.Finding{finding.New(finding.AliasLoop, finding.Fault, about,
			fmt.Sprintf("%s is an alias that leads back to itself: %s.", w.Question.Name.Spoken(), w.chain()), evidence...)}
	case EndNoName:
		return []finding.Finding{finding.New(finding.AliasDangling, finding.Fault, about,
			fmt.Sprintf("%s is an alias for %s, which does not exist.", w.Question.Name.Spoken(), w.Name().Spoken()), evidence...)}
	}
	return nil
}

// chain is the aliases in words: "a leads to b, b leads to a".
func (w *Walk) chain() string {
	var links []string
	for _, alias := range w.Aliases {
		target, _ := alias.Target()
		links = append(links, fmt.Sprintf("%s leads to %s", alias.Name.Spoken(), target.Spoken()))
	}
	return strings.Join(links, ", ")
}

// saidBy names those who gave the walk its answer, and those of the same zone
// who give another one: nobody may read the answer as everybody's.
func (w *Walk) saidBy() string {
	last := w.Last()
	text := "the servers of " + last.Zone.Spoken()
	var others []string
	for _, f := range last.differences() {
		if server := strings.TrimSuffix(f.About.Server, "."); f.Code == finding.AnswersDiffer && f.Severity == finding.Fault && !slices.Contains(others, server) {
			others = append(others, server)
		}
	}
	switch len(others) {
	case 0:
		return text
	case 1:
		return text + "; but " + others[0] + " says otherwise"
	}
	return text + "; but " + strings.Join(others, ", ") + " say otherwise"
}

// Summary is how the walk ended, in one sentence without a final stop.
func (w *Walk) Summary() string {
	zone := ""
	if last := w.Last(); last != nil {
		zone = last.Zone.Spoken()
	}
	switch w.End {
	case EndAnswer:
		return fmt.Sprintf("resolves to %s, said by %s", strings.Join(exchange.Values(w.Records), ", "), w.saidBy())
	case EndNoData:
		return fmt.Sprintf("%s exists and has no %s record (NODATA), said by %s", w.Name().Spoken(), w.Question.Type, w.saidBy())
	case EndNoName:
		return fmt.Sprintf("no such name as %s (NXDOMAIN), said by %s", w.Name().Spoken(), w.saidBy())
	case EndAliasLoop:
		return fmt.Sprintf("stops at %s: the alias leads back to itself", zone)
	case EndNoServer:
		return fmt.Sprintf("stops at %s: no server listed for it gives a usable answer", zone)
	case EndLoop:
		return fmt.Sprintf("stops at %s: its servers can only be found through itself", zone)
	case EndNoWayOut:
		return "not walked: no root server could be reached from this network"
	case EndDownTo:
		return fmt.Sprintf("is delegated at %s to the servers of %s, where this walk stops", zone, w.Last().Child.Spoken())
	case EndBudget:
		return fmt.Sprintf("given up at %s: more questions or steps than one walk may take", zone)
	}
	return fmt.Sprintf("cut short at %s", zone)
}
