package probe

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/machine"
	"unquil/core/wire"
	"unquil/core/wording"
)

// Local is what this machine is set up to do with names, and how its resolvers
// take it.
type Local struct {
	Setup    machine.Setup
	SetupErr error
	Tried    []*exchange.Exchange // each listed resolver, asked for the servers of the root
	Secure   []Designation        // the encrypted ways that those tell of
	Name     *LocalName           // nil when no name was given
	Findings []finding.Finding
}

// LocalName is what this machine does with one name as typed.
type LocalName struct {
	Typed      string
	Candidates []machine.Candidate
	Hosts      []machine.HostsLine
	Steps      []Step             // one resolver asked for one candidate, until one is there
	Chosen     *machine.Candidate // the candidate that is there; nil when none is
	Resolver   []netip.Addr       // what the resolver that answered has for it
	System     []netip.Addr       // what the operating system's own look-up gives
	SystemErr  error
}

// Step is one resolver asked for one candidate.
type Step struct {
	Candidate machine.Candidate
	Exchanges []*exchange.Exchange // by type
}

// Asked is all that was asked.
func (n *LocalName) Asked() (all []*exchange.Exchange) {
	for _, s := range n.Steps {
		all = append(all, s.Exchanges...)
	}
	return all
}

// SystemLookup is the operating system's own way to look a name up.
type SystemLookup func(ctx context.Context, name string) ([]netip.Addr, error)

// Surroundings are what a machine has for looking names up.
type Surroundings struct {
	Setup     machine.Setup
	SetupErr  error // of reading it
	Resolvers []exchange.Server
	System    SystemLookup // the machine's own; nil where it cannot be tried
	// Wait is how long it waits for one resolver before it asks the next, and Tries how often it
	// goes through all of them; 0 means as the session has it, and once.
	Wait  time.Duration
	Tries int
}

// LookAround reads nothing itself: it tries the resolvers of a set-up, and with a
// name as typed says step by step what the machine does with it. absolute is the same
// name as it stands; typed is "" without one.
func (p Prober) LookAround(ctx context.Context, around Surroundings, typed string, absolute wire.Name) Local {
	l := Local{Setup: around.Setup, SetupErr: around.SetupErr}
	var requests []exchange.Request
	for _, server := range around.Resolvers {
		requests = append(requests, exchange.Request{Server: server, Question: wire.Question{Name: wire.Root, Type: wire.NS, Class: wire.IN}})
	}
	l.Tried = p.Session.AskAll(ctx, requests)
	if around.SetupErr != nil && len(around.Resolvers) == 0 {
		l.Findings = append(l.Findings, finding.New(finding.NoResolver, finding.Fault, finding.About{}, "This machine has no resolver configured."))
	}
	l.Findings = append(l.Findings, Answers(l.Tried)...)
	l.Findings = append(l.Findings, Stubs(around.Setup, l.Tried)...)
	secure, found := p.Designated(ctx, l.Tried)
	l.Secure, l.Findings = secure, append(l.Findings, found...)
	handed, found := p.HandedOut(ctx, around.Setup.Scopes, l.Tried)
	l.Secure, l.Findings = append(l.Secure, handed...), append(l.Findings, found...)
	if typed != "" && len(around.Resolvers) > 0 {
		l.Name = p.AsTyped(ctx, around, typed, absolute)
		l.Findings = append(l.Findings, l.Name.Found()...)
	}
	l.soften(around)
	l.Findings = finding.Merge(l.Findings)
	finding.Sort(l.Findings)
	return l
}

// soften makes concerns of resolvers that fail where another answers: programs go on to the
// next, after they have waited.
func (l *Local) soften(around Surroundings) {
	if !slices.ContainsFunc(l.Tried, func(e *exchange.Exchange) bool { return e.Outcome.Good() }) {
		return
	}
	for i := range l.Findings {
		f := &l.Findings[i]
		at := slices.IndexFunc(l.Tried, func(e *exchange.Exchange) bool { return e.Server.Name() == f.About.Server && !e.Outcome.Good() })
		if at < 0 || f.Severity != finding.Fault {
			continue
		}
		f.Severity = finding.Concern
		lost := "before they ask the next"
		if l.Tried[at].Outcome == exchange.NoReply && around.Wait > 0 {
			lost = fmt.Sprintf("(%s for each query) before they ask the next", wording.Span(around.Wait))
		}
		f.Text = strings.TrimSuffix(f.Text, ".") + "; programs lose time on it " + lost + "."
	}
}

// Stubs tells resolvers that are this machine itself.
func Stubs(setup machine.Setup, tried []*exchange.Exchange) []finding.Finding {
	var found []finding.Finding
	for _, e := range tried {
		if !e.Server.Address.Addr().IsLoopback() {
			continue
		}
		behind := "which resolver is behind it cannot be read here"
		if len(setup.Behind) > 0 {
			var list []string
			for _, a := range setup.Behind {
				list = append(list, a.Addr().String())
			}
			behind = "behind it: " + strings.Join(list, ", ")
		}
		found = append(found, finding.New(finding.StubInPath, finding.Note, finding.About{Server: e.Server.Name(), Address: e.Server.AddressText()},
			fmt.Sprintf("The resolver %s is this machine itself; %s.", e.Server.AddressText(), behind), e.Number))
	}
	return found
}

// AsTyped looks a name up as the machine would, by its resolvers in their order.
func (p Prober) AsTyped(ctx context.Context, around Surroundings, typed string, absolute wire.Name) *LocalName {
	n := &LocalName{Typed: typed, Candidates: around.Setup.Candidates(typed, absolute), Hosts: around.Setup.InHosts(typed)}
	n.Chosen, n.Steps = p.Search(ctx, around, n.Candidates, []wire.Type{wire.A, wire.AAAA}, wire.IN)
	for _, e := range n.Asked() {
		for _, r := range e.Answer().Records {
			if a, ok := r.Address(); ok {
				n.Resolver = append(n.Resolver, a)
			}
		}
	}
	if around.System != nil {
		n.System, n.SystemErr = around.System(ctx, typed)
	}
	return n
}

// Search asks for one candidate after the other, all types at once, until one has an answer:
// the first resolver, and the next where that one fails. It returns that candidate, nil where
// there is none, and what was asked. Where nobody replies it ends.
func (p Prober) Search(ctx context.Context, around Surroundings, candidates []machine.Candidate, types []wire.Type, class wire.Class) (chosen *machine.Candidate, steps []Step) {
	options := p.Session.Client.Options
	if around.Wait > 0 {
		options.Wait, options.Attempts = around.Wait, 1
	}
	for i := range candidates {
		silent := true
	candidate:
		for range max(around.Tries, 1) {
			for _, resolver := range around.Resolvers {
				var requests []exchange.Request
				for _, t := range types {
					requests = append(requests, exchange.Request{Server: resolver, Question: wire.Question{Name: candidates[i].Name, Type: t, Class: class}, Options: &options})
				}
				answers := p.Session.AskAll(ctx, requests)
				steps = append(steps, Step{candidates[i], answers})
				silent = silent && !slices.ContainsFunc(answers, func(e *exchange.Exchange) bool { return e.Reply != nil })
				if slices.ContainsFunc(answers, func(e *exchange.Exchange) bool { return e.Outcome == exchange.Answered }) {
					return &candidates[i], steps
				}
				if ctx.Err() != nil {
					return nil, steps
				}
				if !slices.ContainsFunc(answers, func(e *exchange.Exchange) bool { return !e.Outcome.Good() }) {
					break candidate // it is not there
				}
			}
		}
		if silent {
			break
		}
	}
	return nil, steps
}

// Appended says that a name was asked with a suffix of the search list behind it.
func Appended(typed string, c machine.Candidate, evidence ...int) finding.Finding {
	return finding.New(finding.SuffixAppended, finding.Note, finding.About{Name: c.Name.String()},
		fmt.Sprintf("%s was looked up as %s: this machine's search list adds %s.", typed, c.Name.Spoken(), c.Suffix), evidence...)
}

// Found is what there is to say of the name.
func (n *LocalName) Found() []finding.Finding {
	var found []finding.Finding
	var evidence []int
	for _, e := range n.Asked() {
		evidence = append(evidence, e.Number)
	}
	about := finding.About{Name: n.Candidates[0].Name.String()}
	if n.Chosen != nil {
		about.Name = n.Chosen.Name.String()
	}
	if len(n.Hosts) > 0 {
		found = append(found, n.override(about, evidence))
	}
	if n.Chosen != nil && n.Chosen.Suffix != "" {
		found = append(found, Appended(n.Typed, *n.Chosen, evidence...))
	}
	// The last candidate is the one that was meant, whether it was found or not.
	all, wasted := 0, 0
	for _, step := range n.Steps {
		all += len(step.Exchanges)
		if step.Candidate != n.Steps[len(n.Steps)-1].Candidate {
			wasted += len(step.Exchanges)
		}
	}
	if wasted > 0 {
		found = append(found, finding.New(finding.SuffixDetour, finding.Note, about,
			fmt.Sprintf("%d of %d queries for %s were wasted on the search list.", wasted, all, n.Typed), evidence...))
	}
	return append(found, Answers(n.Asked())...)
}

// override compares the hosts file with the resolver.
func (n *LocalName) override(about finding.About, evidence []int) finding.Finding {
	var lines, addresses []string
	differs := len(n.Resolver) > 0
	for _, h := range n.Hosts {
		lines, addresses = append(lines, fmt.Sprint(h.Number)), append(addresses, h.Address.String())
		differs = differs && !slices.Contains(n.Resolver, h.Address)
	}
	text := fmt.Sprintf("The hosts file (line %s) gives %s the address %s", strings.Join(lines, ", "), n.Typed, strings.Join(addresses, ", "))
	if differs {
		return finding.New(finding.HostsOverride, finding.Fault, about, fmt.Sprintf("%s; the resolver says %s.", text, n.Resolver[0]), evidence...)
	}
	return finding.New(finding.HostsOverride, finding.Note, about, text+".", evidence...)
}
