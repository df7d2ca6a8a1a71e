package diagnosis

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/machine"
	"unquil/core/wire"
)

// Local is what this machine is set up to do with names, and how its resolvers
// take it.
type Local struct {
	Setup    machine.Setup
	SetupErr error
	Tried    []*exchange.Exchange // each listed resolver, asked for the servers of the root
	Name     *LocalName           // nil when no name was given
	Findings []finding.Finding
}

// LocalName is what this machine does with one name as typed.
type LocalName struct {
	Typed      string
	Candidates []machine.Candidate
	Hosts      []machine.HostsLine
	Asked      []*exchange.Exchange // of the first resolver, candidate by candidate, until one is there
	Found      *machine.Candidate   // the candidate that is there; nil when none is
	Resolver   []netip.Addr         // what the first resolver has for it
	System     []netip.Addr         // what the operating system's own look-up gives
	SystemErr  error
}

// SystemLookup is the operating system's own way to look a name up.
type SystemLookup func(ctx context.Context, name string) ([]netip.Addr, error)

// LookAround reads nothing itself: it tries the resolvers of a set-up, and with a
// name as typed says step by step what the machine does with it.
func (p Probe) LookAround(ctx context.Context, setup machine.Setup, setupErr error, resolvers []exchange.Server, typed string, absolute wire.Name, system SystemLookup) Local {
	l := Local{Setup: setup, SetupErr: setupErr}
	var requests []exchange.Request
	for _, server := range resolvers {
		requests = append(requests, exchange.Request{Server: server, Question: wire.Question{Name: wire.Root, Type: wire.NS, Class: wire.IN}})
	}
	l.Tried = p.Session.AskAll(ctx, requests)
	if setupErr != nil && len(resolvers) == 0 {
		l.Findings = append(l.Findings, finding.New(finding.NoResolver, finding.Fault, finding.About{}, "This machine has no resolver to ask."))
	}
	l.Findings = append(l.Findings, Answers(l.Tried)...)
	l.Findings = append(l.Findings, stubs(setup, l.Tried)...)
	if typed != "" && len(resolvers) > 0 {
		l.Name = p.localName(ctx, setup, resolvers[0], typed, absolute, system)
		l.Findings = append(l.Findings, l.Name.findings()...)
	}
	finding.Sort(l.Findings)
	return l
}

// stubs tells resolvers that are this machine itself.
func stubs(setup machine.Setup, tried []*exchange.Exchange) []finding.Finding {
	var found []finding.Finding
	for _, e := range tried {
		if !e.Server.Address.Addr().IsLoopback() {
			continue
		}
		behind := "what stands behind it cannot be read here"
		if len(setup.Behind) > 0 {
			var list []string
			for _, a := range setup.Behind {
				list = append(list, a.Addr().String())
			}
			behind = "behind it stands " + strings.Join(list, ", ")
		}
		found = append(found, finding.New(finding.StubInPath, finding.Note, finding.About{Server: e.Server.Name(), Address: e.Server.AddressText()},
			fmt.Sprintf("The resolver %s is this machine itself; %s.", e.Server.AddressText(), behind), e.Number))
	}
	return found
}

func (p Probe) localName(ctx context.Context, setup machine.Setup, resolver exchange.Server, typed string, absolute wire.Name, system SystemLookup) *LocalName {
	n := &LocalName{Typed: typed, Candidates: setup.Candidates(typed, absolute), Hosts: setup.InHosts(typed)}
	for i := range n.Candidates {
		pair := p.Session.AskAll(ctx, []exchange.Request{
			{Server: resolver, Question: wire.Question{Name: n.Candidates[i].Name, Type: wire.A, Class: wire.IN}},
			{Server: resolver, Question: wire.Question{Name: n.Candidates[i].Name, Type: wire.AAAA, Class: wire.IN}},
		})
		n.Asked = append(n.Asked, pair...)
		for _, e := range pair {
			for _, r := range e.Answer().Records {
				if a, ok := r.Address(); ok {
					n.Resolver = append(n.Resolver, a)
				}
			}
		}
		if len(n.Resolver) > 0 {
			n.Found = &n.Candidates[i]
			break
		}
	}
	if system != nil {
		n.System, n.SystemErr = system(ctx, typed)
	}
	return n
}

func (n *LocalName) findings() []finding.Finding {
	var found []finding.Finding
	var evidence []int
	for _, e := range n.Asked {
		evidence = append(evidence, e.Number)
	}
	about := finding.About{Name: n.Candidates[0].Name.String()}
	if n.Found != nil {
		about.Name = n.Found.Name.String()
	}
	if len(n.Hosts) > 0 {
		found = append(found, n.override(about, evidence))
	}
	if n.Found != nil && n.Found.Suffix != "" {
		found = append(found, finding.New(finding.SuffixAppended, finding.Note, about,
			fmt.Sprintf("%s was asked as %s: the suffix %s of the search list was put behind it.", n.Typed, n.Found.Name.Spoken(), n.Found.Suffix), evidence...))
	}
	// The last pair is the one that was meant, whether it was found or not.
	if wasted := len(n.Asked) - 2; wasted > 0 {
		found = append(found, finding.New(finding.SuffixDetour, finding.Note, about,
			fmt.Sprintf("%d of %d questions for %s were lost on the search list.", wasted, len(n.Asked), n.Typed), evidence...))
	}
	return append(found, Answers(n.Asked)...)
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
