package diagnosis

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"unquil/core/delegation"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/machine"
	"unquil/core/wire"
)

// Case is a name for which a verdict is wanted, and from where it is seen.
type Case struct {
	Typed     string // as it was typed; "" where Name says all
	Name      wire.Name
	Types     []wire.Type
	Address   netip.Addr // whose reverse name Name is; invalid where it is none
	Resolvers []exchange.Server
	Others    []exchange.Server // resolvers to hold those against: what they say is told, and not judged
	Setup     *machine.Setup    // of the machine whose resolvers these are; nil where they were named
	SetupErr  error             // what reading that set-up gave
	Watch     func([]Check)     // is called with all checks whenever one changes; nil: nobody
}

// State is how a check came out.
type State string

// The states.
const (
	Running State = "under way"
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

// board is the checks of one round, in the order in which a technician would make
// them, whatever the order in which they end.
type board struct {
	mu     sync.Mutex
	checks []Check
	watch  func([]Check)
}

func (b *board) begin(what string) (at int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.checks = append(b.checks, Check{What: what, State: Running})
	b.tell()
	return len(b.checks) - 1
}

func (b *board) end(at int, state State, saw string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.checks[at].State, b.checks[at].Saw = state, saw
	b.tell()
}

func (b *board) tell() {
	if b.watch != nil {
		b.watch(slices.Clone(b.checks))
	}
}

// round is one case on its way to a verdict.
type round struct {
	Probe
	Case
	board
	found     []finding.Finding
	questions []wire.Question
	answers   [][]*exchange.Exchange // by question, then by resolver
	others    []*exchange.Exchange   // of the first question
	control   []*exchange.Exchange   // by resolver: asked for the root servers, which every resolver knows
	compared  []Compared
}

// Why makes the round that a technician would make, everything at once that does
// not depend on what came before: this machine's set-up, its resolvers, the walk
// from the root with the zone's own servers, and then whatever tells the causes
// apart. When ctx ends, the verdict holds what is known.
func (p Probe) Why(ctx context.Context, c Case) Verdict {
	r := &round{Probe: p, Case: c}
	r.watch = c.Watch
	r.machine(ctx)
	for _, t := range c.Types {
		r.questions = append(r.questions, wire.Question{Name: r.Name, Type: t, Class: wire.IN})
	}
	r.askEverybody(ctx)
	r.judgeAnswers(ctx)
	r.judgeWay()
	r.judgeTargets(ctx)
	r.tellApart(ctx)
	r.noWayOut()
	r.soften()
	v := Verdict{Name: r.Name, Types: c.Types, Checks: r.checks, Compared: r.compared}
	v.decide(merge(r.found))
	r.nearer(&v)
	v.unseen()
	v.Elsewhere = r.elsewhere()
	v.finish()
	return v
}

// machine looks at what this machine makes of the name before anybody is asked.
func (r *round) machine(ctx context.Context) {
	if r.Setup == nil {
		return
	}
	at := r.begin("this machine's set-up")
	if errors.Is(r.SetupErr, machine.ErrNoResolver) {
		r.found = append(r.found, finding.New(finding.NoResolver, finding.Fault, finding.About{}, "This machine has no resolver to ask."))
	}
	if r.SetupErr != nil {
		r.end(at, Wrong, r.SetupErr.Error())
		return
	}
	var listed []string
	for _, address := range r.Setup.Resolvers {
		listed = append(listed, address.Addr().String())
	}
	saw := "asks " + strings.Join(listed, ", then ")
	typed := r.Typed
	if typed == "" {
		typed = r.Name.String()
	}
	candidates := r.Setup.Candidates(typed, r.Name)
	hosts := r.Setup.InHosts(typed)
	if len(r.Resolvers) == 0 || candidates[0].Suffix == "" && len(hosts) == 0 {
		r.end(at, Fine, saw)
		return
	}
	n := r.localName(ctx, *r.Setup, r.Resolvers[0], typed, r.Name, nil)
	switch {
	case n.Found != nil:
		r.Name = n.Found.Name
	case len(candidates) > 1 && r.Name.Labels() == 1:
		r.Name = candidates[0].Name // one label alone is meant with a suffix
	}
	if hidden := r.hidden(ctx, n); hidden != nil {
		n.Asked = append(n.Asked, hidden...)
	}
	for _, f := range n.findings() {
		if _, failed := failureCodes[f.Code]; !failed { // which is told where the resolver is judged
			r.found = append(r.found, f)
		}
	}
	state := Fine
	if finding.Worst(r.found) != "" && finding.Worst(r.found) != finding.Note {
		state = Wrong
	}
	if len(hosts) > 0 {
		saw += fmt.Sprintf("; its hosts file has %s", typed)
	}
	if n.Found != nil && n.Found.Suffix != "" {
		saw += fmt.Sprintf("; the search list makes %s of it", n.Found.Name.Spoken())
	}
	r.end(at, state, saw)
}

// hidden asks for the candidates behind the one that was found: where one of them
// says something else, the suffix has led to another name than may be meant.
func (r *round) hidden(ctx context.Context, n *LocalName) []*exchange.Exchange {
	if n.Found == nil || n.Found.Suffix == "" {
		return nil
	}
	behind := n.Candidates[slices.Index(n.Candidates, *n.Found)+1:]
	var requests []exchange.Request
	for _, c := range behind {
		requests = append(requests, exchange.Request{Server: r.Resolvers[0], Question: wire.Question{Name: c.Name, Type: wire.A, Class: wire.IN}})
	}
	asked := r.Session.AskAll(ctx, requests)
	for i, e := range asked {
		values := exchange.Values(e.Answer().Records)
		if e.Outcome != exchange.Answered || slices.ContainsFunc(e.Answer().Records, func(record wire.Record) bool {
			a, ok := record.Address()
			return ok && slices.Contains(n.Resolver, a)
		}) {
			continue
		}
		r.found = append(r.found, finding.New(finding.SuffixAppended, finding.Concern, finding.About{Name: n.Found.Name.String()},
			fmt.Sprintf("%s is taken for %s, by the suffix %s; behind it stands %s, with the address %s.", n.Typed, n.Found.Name.Spoken(), n.Found.Suffix, behind[i].Name.Spoken(), values[0]), e.Number))
	}
	return nil
}

// askEverybody puts the questions to the resolvers and walks to the zone's own
// servers, all at once.
func (r *round) askEverybody(ctx context.Context) {
	var wait sync.WaitGroup
	r.answers = make([][]*exchange.Exchange, len(r.questions))
	r.compared = make([]Compared, len(r.questions))
	for i := range r.answers {
		r.answers[i] = make([]*exchange.Exchange, len(r.Resolvers))
	}
	r.control = make([]*exchange.Exchange, len(r.Resolvers))
	for at, server := range r.Resolvers {
		requests := []exchange.Request{{Server: server, Question: wire.Question{Name: wire.Root, Type: wire.NS, Class: wire.IN}}}
		for _, q := range r.questions {
			requests = append(requests, exchange.Request{Server: server, Question: q})
		}
		check := r.begin(fmt.Sprintf("%s, asked for %s", server.Name(), typeWords(r.Types)))
		wait.Go(func() {
			exchanges := r.Session.AskAll(ctx, requests)
			r.control[at] = exchanges[0]
			var says []string
			state := Fine
			for i, e := range exchanges[1:] {
				r.answers[i][at] = e
				says = append(says, answerWords(e))
				switch {
				case e.Outcome == "":
					state = Unknown
				case !e.Outcome.Good():
					state = Wrong
				}
			}
			r.end(check, state, strings.Join(slices.Compact(says), "; "))
		})
	}
	for i, q := range r.questions {
		check := r.begin(fmt.Sprintf("walk from the root for %s", q.Type))
		wait.Go(func() {
			walker := delegation.Walker{Session: r.Session, Roots: r.Roots}
			r.compared[i].Walk = Trace(ctx, &walker, q)
			state, saw := walkState(r.compared[i].Walk)
			r.end(check, state, saw)
		})
	}
	if len(r.Others) > 0 && len(r.questions) > 0 {
		var requests []exchange.Request
		var names []string
		for _, server := range r.Others {
			requests = append(requests, exchange.Request{Server: server, Question: r.questions[0]})
			names = append(names, server.Name())
		}
		check := r.begin(fmt.Sprintf("other resolvers: %s", strings.Join(names, ", ")))
		wait.Go(func() {
			r.others = r.Session.AskAll(ctx, requests)
			r.end(check, Fine, r.elsewhere())
		})
	}
	wait.Wait()
}

// elsewhere is what other resolvers say to the first question; "" without any.
func (r *round) elsewhere() string {
	var words []string
	for _, e := range r.others {
		words = append(words, fmt.Sprintf("%s says %s", e.Server.Name(), answerWords(e)))
	}
	return strings.Join(words, "; ")
}

func typeWords(types []wire.Type) string {
	words := make([]string, len(types))
	for i, t := range types {
		words[i] = t.String()
	}
	return strings.Join(words, " and ")
}

// answerWords is an answer in a few words that are safe to print.
func answerWords(e *exchange.Exchange) string {
	switch {
	case e.Outcome == "":
		return "cut short"
	case len(e.Answer().Records) > 0:
		return strings.Join(exchange.Values(e.Answer().Records), ", ")
	}
	return string(e.Outcome)
}

func walkState(w *delegation.Walk) (State, string) {
	switch w.End {
	case delegation.EndNoWayOut, delegation.EndCutShort, delegation.EndBudget:
		return Unknown, w.Summary()
	}
	if finding.Worst(w.Findings) == finding.Fault {
		return Wrong, w.Summary()
	}
	return Fine, w.Summary()
}

// judgeAnswers holds the resolvers against the zone's own servers.
func (r *round) judgeAnswers(ctx context.Context) {
	if len(r.Resolvers) > 0 {
		check := r.begin("the resolvers against the zone's own servers")
		var wait sync.WaitGroup
		for i, q := range r.questions {
			wait.Go(func() { r.compared[i].Result = r.weigh(ctx, q, r.answers[i], r.compared[i].Walk) })
		}
		wait.Wait()
		state, saw := Fine, []string{}
		for i := range r.compared {
			c := &r.compared[i]
			if c.Truth() == nil {
				state = Unknown
			}
			if finding.Worst(c.Findings) == finding.Fault {
				state = Wrong
			}
			saw = append(saw, fmt.Sprintf("%s: %s", c.Question.Type, c.Headline()))
		}
		r.end(check, state, strings.Join(saw, "; "))
	}
	for i := range r.compared {
		r.found = append(r.found, r.compared[i].Findings...)
		for _, e := range r.answers[i] {
			about := finding.About{Name: e.Question.Name.String(), Type: e.Question.Type.String(), Server: e.Server.Name(), Address: e.Server.AddressText()}
			r.found = append(r.found, r.besides(e, about)...)
		}
	}
}

// besides is what is odd about a resolver's reply, beside what it says.
func (r *round) besides(e *exchange.Exchange, about finding.About) (found []finding.Finding) {
	if e.Reply != nil && !e.Reply.Flags.Has(wire.RA) && e.Outcome != exchange.Answered && e.Outcome != exchange.NoName {
		r.drop(e.Number)
		found = append(found, finding.New(finding.RecursionUnavailable, finding.Fault, about,
			fmt.Sprintf("%s offers no recursion: it is no resolver for you, and answers %s.", e.Server.Name(), e.Outcome), e.Number))
	}
	if e.Took() > slowAfter {
		found = append(found, finding.New(finding.Slow, finding.Concern, about, fmt.Sprintf("%s took %.1f s to answer.", e.Server.Name(), e.Took().Seconds()), e.Number))
	}
	for _, f := range oddities(e, about) {
		if _, told := failureCodes[f.Code]; !told || e.Outcome.Good() {
			found = append(found, f)
		}
	}
	return found
}

// failureCodes are what a server's failure to answer is told as.
var failureCodes = map[finding.Code]bool{
	finding.NoReply: true, finding.Unreachable: true, finding.Refused: true, finding.ServerFailure: true, finding.Truncated: true, finding.Malformed: true,
	finding.WrongID: true, finding.WrongQuestion: true, finding.WrongSource: true, finding.Failed: true,
}

// drop takes back what was found of the failure of one exchange, since something
// that says more takes its place.
func (r *round) drop(number int) {
	r.found = slices.DeleteFunc(r.found, func(f finding.Finding) bool {
		return (failureCodes[f.Code] || f.Code == finding.EDNSBreaks) && slices.Contains(f.Evidence, number)
	})
}

// judgeWay takes what the walks found, unless it was not the servers who spoke.
func (r *round) judgeWay() {
	for i := range r.compared {
		walk := r.compared[i].Walk
		if f, caught := intercepted(walk); caught {
			r.found = append(r.found, f)
			continue
		}
		r.found = append(r.found, walk.Findings...)
	}
	r.deniedType()
	r.nowhere()
}

// noWayOut says that nobody answers at all.
func (r *round) noWayOut() {
	var evidence []int
	for i := range r.compared {
		walk := r.compared[i].Walk
		if walk.End != delegation.EndNoWayOut {
			return
		}
		for _, reply := range walk.Last().Replies {
			if reply.Exchange != nil {
				evidence = append(evidence, reply.Exchange.Number)
			}
		}
		for _, e := range r.answers[i] {
			if !e.Outcome.Silent() {
				return
			}
			evidence = append(evidence, e.Number)
		}
	}
	if len(r.Resolvers) == 0 || slices.ContainsFunc(r.found, func(f finding.Finding) bool {
		return f.Severity == finding.Fault && f.Code != finding.NoReply && f.Code != finding.Unreachable
	}) {
		return // it may be that nobody but resolvers can be reached, or that they answer in another way
	}
	r.found = append(r.found, finding.New(finding.NoWayOut, finding.Fault, finding.About{}, "Neither a resolver nor a root server answers: nothing seems to leave this network.", evidence...))
}

// intercepted recognises somebody who answers in place of the root servers: they
// alone of all servers never offer recursion, and always speak with authority or refer.
func intercepted(walk *delegation.Walk) (f finding.Finding, caught bool) {
	if walk.Last() == nil || !walk.Steps[0].Zone.IsRoot() || walk.Steps[0].Given {
		return f, false
	}
	var evidence []int
	for _, reply := range walk.Steps[0].Replies {
		if reply.Exchange == nil || reply.Exchange.Reply == nil {
			continue
		}
		if reply.Stance.Usable() || !reply.Exchange.Reply.Flags.Has(wire.RA) {
			return f, false
		}
		evidence = append(evidence, reply.Exchange.Number)
	}
	if len(evidence) == 0 {
		return f, false
	}
	return finding.New(finding.Intercepted, finding.Concern, finding.About{},
		"The root servers seem to answer as resolvers do: somebody on the way answers in their place.", evidence...), true
}

// deniedType says which of the zone's servers deny a name for one type that they
// have for another.
func (r *round) deniedType() {
	type at struct{ host, address string }
	answered := map[at]*exchange.Exchange{}
	replies := func(each func(zone string, key at, e *exchange.Exchange)) {
		for i := range r.compared {
			last := r.compared[i].Walk.Last()
			if last == nil {
				continue
			}
			for _, reply := range last.Replies {
				if reply.Stance == delegation.Answers {
					each(last.Zone.String(), at{reply.Host.String(), reply.Address.String()}, reply.Exchange)
				}
			}
		}
	}
	replies(func(_ string, key at, e *exchange.Exchange) {
		if e.Outcome == exchange.Answered || e.Outcome == exchange.NoData {
			answered[key] = e
		}
	})
	replies(func(zone string, key at, e *exchange.Exchange) {
		if other := answered[key]; e.Outcome == exchange.NoName && other != nil && other.Question.Name.Equal(e.Question.Name) {
			r.found = append(r.found, finding.New(finding.NameDenied, finding.Fault,
				finding.About{Name: e.Question.Name.String(), Type: e.Question.Type.String(), Zone: zone, Server: key.host, Address: key.address},
				fmt.Sprintf("%s says for %s that there is no %s (NXDOMAIN), and answers for %s.", strings.TrimSuffix(key.host, "."), e.Question.Type, e.Question.Name.Spoken(), other.Question.Type),
				e.Number, other.Number))
		}
	})
}

// nowhere says that the zone itself gives addresses that lead nowhere from elsewhere.
func (r *round) nowhere() {
	for i := range r.compared {
		truth := r.compared[i].Truth()
		if truth == nil {
			continue
		}
		var bad []string
		for _, value := range truth.Values {
			if a, err := netip.ParseAddr(value); err == nil && (a.IsLoopback() || a.IsUnspecified() || a.IsLinkLocalUnicast()) {
				bad = append(bad, value)
			}
		}
		if len(bad) == 0 || isLocalhost(r.Name) {
			continue
		}
		severity := finding.Concern
		if len(bad) == len(truth.Values) {
			severity = finding.Fault
		}
		r.found = append(r.found, finding.New(finding.AddressNowhere, severity, finding.About{Name: r.Name.String(), Type: r.questions[i].Type.String()},
			fmt.Sprintf("The zone gives %s the address %s, which leads nowhere from another machine.", r.Name.Spoken(), strings.Join(bad, ", ")), truth.Members[0].Exchange.Number))
	}
}

// isLocalhost reports whether a name is this machine's own by its nature (RFC 6761 §6.3).
func isLocalhost(name wire.Name) bool {
	return name.Under(wire.MustParseName("localhost."))
}

// judgeTargets follows what the answers point at: hosts of mail and services, and
// the names of an address.
func (r *round) judgeTargets(ctx context.Context) {
	var lead []*exchange.Exchange
	for i := range r.answers {
		if at := slices.IndexFunc(r.answers[i], func(e *exchange.Exchange) bool { return e.Outcome == exchange.Answered }); at >= 0 {
			lead = append(lead, r.answers[i][at])
		} else if r.Address.IsValid() && len(r.answers[i]) > 0 && r.answers[i][0].Outcome.Good() {
			lead = append(lead, r.answers[i][0])
		}
	}
	if len(lead) == 0 || !r.Address.IsValid() && !slices.ContainsFunc(r.Types, func(t wire.Type) bool { return hostTypes[t] }) {
		return
	}
	check := r.begin("what the answer points at")
	var found []finding.Finding
	saw := "every host has an address"
	if r.Address.IsValid() {
		saw = "the name leads back to the address"
		reversal := Reversal{Address: r.Address, Name: r.Name, Exchange: lead[0]}
		r.leadBack(ctx, &reversal)
		found = reversal.findings(true)
	} else {
		_, found = r.Follow(ctx, lead)
	}
	state := Fine
	if worst := finding.Worst(found); worst == finding.Fault || worst == finding.Concern {
		state, saw = Wrong, found[0].Text
	}
	r.end(check, state, saw)
	r.found = append(r.found, found...)
}

// soften makes concerns of resolvers that fail where another of this machine's own
// answers: programs go on to the next.
func (r *round) soften() {
	if r.Setup == nil || len(r.Resolvers) < 2 {
		return
	}
	answers := func(at int) bool {
		return !slices.ContainsFunc(r.answers, func(of []*exchange.Exchange) bool { return !of[at].Outcome.Good() })
	}
	for at := range r.Resolvers {
		if answers(at) {
			for i := range r.found {
				if f := &r.found[i]; f.About.Zone == "" && failureCodes[f.Code] && f.Severity == finding.Fault {
					f.Severity = finding.Concern
					f.Text = strings.TrimSuffix(f.Text, ".") + "; programs lose time on it before they ask the next."
				}
			}
			return
		}
	}
}

// nearer moves the blame from the path to a resolver to the resolver itself, where
// that answers other questions.
func (r *round) nearer(v *Verdict) {
	for i, c := range r.control {
		if v.Where == PathOut && v.Cause[0].Code == finding.NoReply && c != nil && c.Outcome.Good() && v.At == r.Resolvers[i].Name() {
			v.Where, v.Who, v.Because, v.Against = TheResolver, operator, "it answers other questions at the same time", ""
			v.Cause[0].AddEvidence(c.Number)
		}
	}
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
