package delegation

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/core/wording"
)

// judge returns what is wrong on a walk.
func judge(w *Walk) []finding.Finding {
	var all []finding.Finding
	if w.End == EndNoWayOut {
		return nil
	}
	for _, step := range w.Steps {
		all = append(all, step.serverFindings()...)
		all = append(all, step.parents()...)
	}
	if near, ok := w.swallowed(); ok {
		all = append(slices.DeleteFunc(all, func(f finding.Finding) bool { return f.Code == finding.EDNSBreaks }), near)
	}
	for _, step := range w.Steps {
		if step.Chosen != nil && step.Chosen.Stance == Answers {
			all = append(all, step.differences()...)
		}
	}
	all = append(all, w.aliasFindings()...)
	all = append(all, w.nameFindings()...)
	all = append(all, w.hostFindings()...)
	all = append(w.blameHints(all), w.hintFindings()...)
	if w.End == EndLoop {
		zone := w.Last().Zone
		var evidence []int // the referrals that lead in the circle
		for _, step := range w.Steps {
			if step.Chosen != nil {
				evidence = append(evidence, step.Chosen.Exchange.Number)
			}
		}
		all = append(all, finding.New(finding.Loop, finding.Fault, finding.About{Zone: zone.String()}, w.circle(), evidence...))
	}
	finding.Sort(all)
	return all
}

// circle says whose servers need whom to be found.
func (w *Walk) circle() string {
	zone := w.Last().Zone
	text := fmt.Sprintf("The servers of %s can only be found by asking the servers of %s", zone.Spoken(), zone.Spoken())
	var hosts, others []wire.Name
	for _, r := range w.Last().Replies {
		if !r.Address.IsValid() && !slices.ContainsFunc(hosts, r.Host.Equal) {
			hosts = append(hosts, r.Host)
		}
	}
	for _, side := range w.AddressWalks {
		if last := side.Last(); last != nil && !last.Zone.Equal(zone) && last.Zone.Labels() > 1 && !slices.ContainsFunc(others, last.Zone.Equal) {
			others = append(others, last.Zone)
		}
	}
	if len(others) > 0 {
		text += ", by way of " + wording.Names(others)
	}
	if len(hosts) > 0 {
		text += fmt.Sprintf("; no parent gives an address (glue) for %s", wording.Names(hosts))
	}
	return text + "."
}

// swallowed is the finding that nothing with EDNS gets through to anybody, which is
// no server's fault.
func (w *Walk) swallowed() (f finding.Finding, ok bool) {
	var evidence []int
	var hosts []wire.Name
	for _, step := range w.Steps {
		for _, r := range step.Replies {
			if r.Exchange == nil {
				continue
			}
			if r.Exchange.EDNSArrived() {
				return f, false
			}
			if r.Exchange.EDNSBroke == exchange.NoReply && !step.Given {
				evidence = append(evidence, r.Exchange.Number)
				if !slices.ContainsFunc(hosts, r.Host.Equal) {
					hosts = append(hosts, r.Host)
				}
			}
		}
	}
	text := fmt.Sprintf("No query with EDNS gets through: each of the %d servers queried answers only without it.", len(hosts))
	return finding.New(finding.EDNSLost, finding.Concern, finding.About{}, text, evidence...), len(hosts) >= severalHosts
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
		if r.Exchange != nil && r.Address.IsPrivate() && !s.Given {
			all = append(all, finding.New(finding.AddressNowhere, finding.Note,
				finding.About{Zone: s.Zone.String(), Server: r.Host.String(), Address: r.Address.String()},
				fmt.Sprintf("%s is listed for %s with the private address %s, which other networks cannot reach.", r.Host.Spoken(), s.Zone.Spoken(), r.Address), r.Exchange.Number))
		}
		if code, does := r.fault(); code != "" {
			about := finding.About{Zone: s.Zone.String(), Server: r.Host.String(), Name: s.Question.Name.String(), Type: s.Question.Type.String()}
			if r.Address.IsValid() {
				about.Address = r.Address.String()
			}
			text := fmt.Sprintf("%s is listed for %s and %s.", r.who(), s.Zone.Spoken(), does)
			if s.Given {
				text, about.Zone = fmt.Sprintf("%s, where this walk begins, %s.", r.who(), strings.ReplaceAll(does, " for it", "")), ""
				if code == finding.LameServer {
					code = given[r.Stance]
				}
			}
			f := finding.New(code, severity, about, text)
			if s.Given && r.Exchange != nil && r.Exchange.Reply != nil && r.Exchange.Reply.Flags.Has(wire.RA) {
				f.Text = fmt.Sprintf("%s, where this walk begins, is a resolver, which was asked without recursion: it %s.", r.who(), strings.ReplaceAll(does, " for it", ""))
				f.Next = "Begin at servers of a zone, or ask the resolver itself with unquil ask."
			}
			f.Brief = r.who() + " " + does
			if r.Exchange != nil {
				f.AddEvidence(r.Exchange.Number)
			}
			all = append(all, f)
		}
		if r.Exchange != nil && r.Exchange.Outcome == exchange.Truncated && r.Exchange.Transport() == exchange.UDP {
			all = append(all, finding.New(finding.TCPRefused, finding.Concern,
				finding.About{Zone: s.Zone.String(), Server: r.Host.String(), Address: r.Address.String()},
				fmt.Sprintf("%s does not accept TCP connections, and its answer is too large for UDP.", r.who()), r.Exchange.Number))
		}
		about := finding.About{Zone: s.Zone.String(), Server: r.Host.String(), Address: r.Address.String()}
		if f, breaks := finding.EDNSBroken(about, r.who(), r.Exchange); breaks {
			all = append(all, f)
		}
		if f, slow := finding.SlowReply(about, r.Host.Spoken(), r.Exchange); slow {
			all = append(all, f)
		}
	}
	return all
}

// given is what a server does that nobody listed, where a listed one would be lame.
var given = map[Stance]finding.Code{LameRefuses: finding.Refused, LameElsewhere: finding.NoDelegation, LameNoAuthority: finding.NoDelegation}

// fault is what is wrong with a listed server, by its reply, as a code and as
// what follows its name in a sentence; "" when nothing is.
func (r *Reply) fault() (code finding.Code, does string) {
	switch r.Stance {
	case LameRefuses:
		return finding.LameServer, "refuses queries for it"
	case LameElsewhere:
		return finding.LameServer, "refers elsewhere"
	case LameNoAuthority:
		return finding.LameServer, "answers without authority"
	case Fails:
		if r.Exchange.Outcome == exchange.Truncated {
			return finding.Truncated, "truncates its answer, and retrying over TCP fails too"
		}
		if r.Exchange.Outcome == exchange.Refused {
			return finding.Refused, fmt.Sprintf("refuses queries for %s of this name, and answers for the zone", r.Exchange.Question.Type)
		}
		if r.Exchange.Outcome != exchange.ServerFailure {
			return finding.Failed, fmt.Sprintf("fails to answer (%s)", r.Exchange.Outcome.Named())
		}
		return finding.ServerFailure, "fails to answer (SERVFAIL)"
	case Silent:
		switch r.Exchange.Outcome {
		case exchange.Unreachable:
			return finding.Unreachable, "cannot be reached: nothing is listening there"
		case exchange.Rejection:
			return finding.Code(exchange.Disbelief(r.Exchange.Err)), fmt.Sprintf("sends replies that cannot be trusted (%v)", r.Exchange.Err)
		}
		return finding.NoReply, "does not reply"
	case NotAsked:
		switch {
		case r.Why == errNone.Error():
			return finding.NSUnresolved, "has no address"
		case r.Exchange == nil && exchange.Nowhere(r.Address) != "":
			return finding.AddressNowhere, fmt.Sprintf("was not queried: no public server can have that address (%s)", exchange.Nowhere(r.Address))
		}
	}
	return "", ""
}

// who is the server's host name, with its address where one is known.
func (r *Reply) who() string {
	if host := r.Host.Spoken(); !r.Address.IsValid() || host == r.Address.String() {
		return host
	}
	return fmt.Sprintf("%s (%s)", r.Host.Spoken(), r.Address)
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
		if f, ok := s.undelegated(r, reference, about); ok {
			all = append(all, f)
			differs = false // said by that
		}
		// That SOA records differ by their serial is told once, below.
		if differs && s.Question.Type != wire.SOA {
			apart := false // they have one version, and each says its own every time
			sure := ""
			severity, text := finding.Fault, fmt.Sprintf("%s answers %s; %s answers %s.", r.Host.Spoken(), said(r.Exchange), reference.Host.Spoken(), said(reference.Exchange))
			if behind {
				text = fmt.Sprintf("%s still answers %s, from serial %s; %s answers %s, from serial %s.", r.Host.Spoken(), said(r.Exchange), wording.Serial(serial), reference.Host.Spoken(), said(reference.Exchange), wording.Serial(newest))
			} else if !known || !ok {
				text = strings.TrimSuffix(text, ".") + "; which of them is newer is not known: no serial came from one."
				sure = finding.Likely
			} else {
				// The same version of the zone: rotation or an answer by place, which is nothing to mend,
				// unless each says its own every time.
				if r.Exchange.Outcome == reference.Exchange.Outcome {
					severity = finding.Note
				}
				if apart = serial == newest && r.steady() && reference.steady(); apart {
					severity = finding.Fault
					text = fmt.Sprintf("%s and %s have the same serial (%d) of %s and always give different answers: %s and %s.",
						r.Host.Spoken(), reference.Host.Spoken(), serial, s.Zone.Spoken(), said(r.Exchange), said(reference.Exchange))
				}
			}
			f := finding.New(finding.AnswersDiffer, severity, about, text, r.Exchange.Number, reference.Exchange.Number)
			f.Sure = sure
			if apart {
				f.About.Server, f.About.Address = "", "" // which of them is right, nobody can see
				f.Next = "Ask the zone's operator which answer is right, and to raise the serial so that the other server fetches the zone again."
				for _, e := range slices.Concat(r.again, reference.again) {
					f.AddEvidence(e.Number)
				}
			}
			if behind {
				f.Lasts = r.Expires() // if it takes no update until then, it gives the zone up
			}
			all = append(all, f)
		}
		if behind {
			// A secondary that lags does no harm to a name that did not change.
			severity := finding.Note
			// That SOA records differ by their serial is told once, below.
			if differs && s.Question.Type != wire.SOA {
				severity = finding.Concern
			}
			all = append(all, finding.New(finding.SerialsDiffer, severity, about,
				fmt.Sprintf("%s has serial %s of %s; the newest is %s.", r.Host.Spoken(), wording.Serial(serial), s.Zone.Spoken(), wording.Serial(newest)), r.SOA.Number, reference.SOA.Number))
		}
	}
	return all
}

// undelegated says that of two servers of a zone only one takes its answer from a
// zone further down: nobody who asks the other gets there.
func (s *Step) undelegated(r, reference *Reply, about finding.About) (finding.Finding, bool) {
	mine, theirs := r.Apex(), reference.Apex()
	if mine.IsZero() || theirs.IsZero() || mine.Equal(theirs) {
		return finding.Finding{}, false
	}
	holder, other := r, reference
	if theirs.Labels() > mine.Labels() {
		holder, other = reference, r
	}
	zone := holder.Apex()
	about.Zone, about.Server, about.Address = zone.String(), holder.Host.String(), holder.Address.String()
	f := finding.New(finding.NoDelegation, finding.Fault, about,
		fmt.Sprintf("%s has a zone %s and answers from it; %s says %s, because %s does not delegate that zone.",
			holder.Host.Spoken(), zone.Spoken(), other.Host.Spoken(), said(other.Exchange), s.Zone.Spoken()),
		holder.Exchange.Number, holder.apex.Number, other.Exchange.Number, other.apex.Number)
	f.Next = finding.AddNSRecords(s.Zone.Spoken(), zone.Spoken())
	return f, true
}

// said is what an exchange answers, in a few words that are safe to print.
func said(e *exchange.Exchange) string {
	if values := exchange.Values(e.Answer().Records); len(values) > 0 {
		return strings.Join(values, ", ")
	}
	switch e.Outcome {
	case exchange.NoName:
		return "no such name (NXDOMAIN)"
	case exchange.NoData:
		return "no such record (NODATA)"
	}
	return string(e.Outcome)
}

// aliasMany is how many aliases in a row are still usual.
const aliasMany = 8

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
	about := finding.About{Name: w.Question.Name.String(), Type: w.Question.Type.String(), Zone: w.aliasZone().String()}
	if len(w.Aliases) > aliasMany && w.End != EndAliasLoop {
		return []finding.Finding{finding.New(finding.AliasLong, finding.Concern, about,
			fmt.Sprintf("%s is reached through %d aliases: %s.", w.Question.Name.Spoken(), len(w.Aliases), w.chain()), evidence...)}
	}
	switch w.End {
	case EndAliasLoop:
		return []finding.Finding{finding.New(finding.AliasLoop, finding.Fault, about,
			fmt.Sprintf("%s points (CNAME) back to itself: %s.", w.Question.Name.Spoken(), w.chain()), evidence...)}
	case EndNoName:
		return []finding.Finding{finding.New(finding.AliasDangling, finding.Fault, about,
			fmt.Sprintf("%s points (CNAME) to %s, which does not exist.", w.Question.Name.Spoken(), w.Name().Spoken()), evidence...)}
	}
	return nil
}

// aliasZone is the zone that holds the last alias: who can change it, and not who holds what it
// points to.
func (w *Walk) aliasZone() wire.Name {
	for _, step := range slices.Backward(w.Steps) {
		if step.Chosen != nil && step.Chosen.Stance == Answers && step.aliases < len(w.Aliases) && w.Aliases[len(w.Aliases)-1].Name.IsSubdomainOf(step.Zone) {
			return step.Zone
		}
	}
	return w.Last().Zone
}

// nameFindings says which servers deny a name that has names below it: those are
// then denied too by resolvers that conclude so (RFC 8020 §2).
func (w *Walk) nameFindings() (all []finding.Finding) {
	tell := func(s *Step, host wire.Name, address string, denial, answer *exchange.Exchange) {
		all = append(all, finding.New(finding.NameDenied, finding.Concern,
			finding.About{Name: denial.Question.Name.String(), Zone: s.Zone.String(), Server: host.String(), Address: address},
			fmt.Sprintf("%s says that %s does not exist (NXDOMAIN), but has %s below it.", host.Spoken(), denial.Question.Name.Spoken(), s.Name.Spoken()),
			denial.Number, answer.Number))
	}
	for i, s := range w.Steps {
		if s.Chosen == nil || s.Chosen.Stance != Answers {
			continue
		}
		if next := i + 1; s.Short {
			// Shown with a minimised name, and then with the whole one.
			if s.Chosen.Exchange.Outcome == exchange.NoName && next < len(w.Steps) && w.Steps[next].Chosen != nil &&
				w.Steps[next].Zone.Equal(s.Zone) && w.Steps[next].Chosen.Exchange.Outcome != exchange.NoName {
				tell(s, s.Chosen.Host, s.Chosen.Address.String(), s.Chosen.Exchange, w.Steps[next].Chosen.Exchange)
			}
			continue
		}
		if s.Chosen.Exchange.Outcome == exchange.NoName {
			continue
		}
		for _, a := range s.extraAnswers() {
			if a.Exchange.Outcome == exchange.NoName && s.Name.IsSubdomainOf(a.Exchange.Question.Name) && !s.Name.Equal(a.Exchange.Question.Name) {
				tell(s, a.Host, a.Address.String(), a.Exchange, s.Chosen.Exchange)
				break
			}
		}
	}
	return all
}

// hostFindings says which listed servers have a host name that is an alias.
func (w *Walk) hostFindings() (all []finding.Finding) {
	told := map[wire.Name]bool{}
	for _, side := range w.AddressWalks {
		host := side.Question.Name
		if len(side.Aliases) == 0 || told[host.Fold()] {
			continue
		}
		for _, s := range w.Steps {
			if slices.ContainsFunc(s.order, host.Equal) {
				told[host.Fold()] = true
				target, _ := side.Aliases[0].Target()
				f := finding.New(finding.NSIsAlias, finding.Concern, finding.About{Zone: s.Zone.String(), Server: host.String()},
					fmt.Sprintf("%s is listed for %s and is an alias (CNAME) for %s.", host.Spoken(), s.Zone.Spoken(), target.Spoken()))
				if last := side.Last(); last != nil && last.Chosen != nil {
					f.AddEvidence(last.Chosen.Exchange.Number)
				}
				all = append(all, f)
				break
			}
		}
	}
	return all
}

// blameHints makes the hints the cause where a root server is of no use at an address that
// the root itself does not give it.
func (w *Walk) blameHints(all []finding.Finding) []finding.Finding {
	p := w.Priming
	for i := range all {
		f := &all[i]
		host, err := wire.ParseName(f.About.Server)
		if f.About.Zone != "." || f.Severity == finding.Note || f.Brief == "" || err != nil || len(w.Steps) == 0 || w.Steps[0].Given {
			continue
		}
		says := ""
		switch {
		case p == nil && f.Severity == finding.Fault:
			says = "no server of the hints could be asked for the list that the root has now"
		case p == nil:
			continue
		case slices.ContainsFunc(p.Gone, host.Equal):
			says = "the root itself does not list that server"
		case slices.ContainsFunc(p.Moved, host.Equal):
			says = "the root itself gives that server another address"
		default:
			continue
		}
		changed := finding.New(finding.HintsOld, finding.Concern, finding.About{}, fmt.Sprintf("Among the root hints, %s; %s.", strings.TrimSuffix(f.Brief, " for it"), says), f.Evidence...)
		if p == nil {
			changed.Sure = finding.Likely
		} else {
			changed.AddEvidence(p.Exchange.Number)
		}
		changed.Brief = f.Brief
		*f = changed
	}
	return all
}

// hintFindings holds the root hints against what the root says of itself.
func (w *Walk) hintFindings() (all []finding.Finding) {
	p := w.Priming
	if p == nil {
		return nil
	}
	for _, kind := range []struct {
		names []wire.Name
		text  string
	}{
		{p.Unknown, "The root lists %s, which is missing from the root hints."},
		{p.Gone, "The root hints name %s, which the root does not list."},
		{p.Moved, "The root gives %s a different address from the root hints."},
	} {
		if len(kind.names) > 0 {
			all = append(all, finding.New(finding.HintsOld, finding.Note, finding.About{}, fmt.Sprintf(kind.text, wording.Names(kind.names)), p.Exchange.Number))
		}
	}
	return all
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
	if last.Given && last.Chosen != nil {
		text = last.Chosen.Host.Spoken() // of what zone it serves nothing is known
	}
	var others []string
	for _, f := range last.differences() {
		if server := cmp.Or(strings.TrimSuffix(f.About.Server, "."), "one of them"); (f.Code == finding.AnswersDiffer || f.Code == finding.NoDelegation) && f.Severity == finding.Fault && !slices.Contains(others, server) {
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
		return fmt.Sprintf("resolves to %s, answered by %s", strings.Join(exchange.Values(w.Records), ", "), w.saidBy())
	case EndNoData:
		return fmt.Sprintf("%s exists but has no %s record (NODATA), answered by %s", w.Name().Spoken(), w.Question.Type, w.saidBy())
	case EndNoName:
		return fmt.Sprintf("%s does not exist (NXDOMAIN), answered by %s", w.Name().Spoken(), w.saidBy())
	case EndAliasLoop:
		return fmt.Sprintf("stops at %s: the alias points back to itself", zone)
	case EndNoServer:
		if w.Last().Given {
			return "stops where it starts: no usable answer there"
		}
		return fmt.Sprintf("stops at %s: no server listed for it gives a usable answer", zone)
	case EndLoop:
		return fmt.Sprintf("stops at %s: its servers can only be found through the zone itself", zone)
	case EndNoWayOut:
		return "not walked: no root server could be reached from this network"
	case EndDownTo:
		return fmt.Sprintf("is delegated by %s to the servers of %s, where this walk stops", zone, w.Last().Child.Spoken())
	case EndBudget:
		if len(w.Aliases) > aliasMany {
			return fmt.Sprintf("given up at %s after %d aliases: the chain is longer than the limit", zone, len(w.Aliases))
		}
		return fmt.Sprintf("given up at %s: the walk hit its limit of queries or steps", zone)
	}
	return fmt.Sprintf("interrupted at %s", zone)
}
