package diagnosis

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/machine"
	"unquil/core/probe"
	"unquil/core/wire"
)

// typed is the name as it was typed.
func (c *Case) typed() string { return cmp.Or(c.Typed, c.Name.String()) }

// machine looks at what this machine makes of the name before anybody is asked.
func (r *round) machine(ctx context.Context) {
	if r.Setup == nil {
		return
	}
	at := r.begin("this machine's configuration")
	if errors.Is(r.SetupErr, machine.ErrNoResolver) {
		r.found = append(r.found, finding.New(finding.NoResolver, finding.Fault, finding.About{}, "This machine has no resolver configured."))
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
	typed := r.typed()
	candidates := r.Setup.Candidates(typed, r.Name)
	hosts := r.Setup.InHosts(typed)
	if len(r.Resolvers) == 0 || candidates[0].Suffix == "" && len(hosts) == 0 {
		r.end(at, Fine, saw)
		return
	}
	n := r.AsTyped(ctx, probe.Surroundings{Setup: *r.Setup, Resolvers: r.Resolvers}, typed, r.Name)
	switch {
	case n.Chosen != nil:
		r.Name = n.Chosen.Name
	case len(candidates) > 1 && r.Name.Labels() == 1:
		r.Name = candidates[0].Name // one label alone is meant with a suffix
	}
	if hidden := r.hidden(ctx, n); hidden != nil {
		n.Steps = append(n.Steps, probe.Step{Candidate: *n.Chosen, Exchanges: hidden})
	}
	for _, f := range n.Found() {
		if _, failed := failureCodes[f.Code]; !failed { // which is told where the resolver is judged
			r.found = append(r.found, f)
		}
	}
	state := Fine
	if finding.Worst(r.found) != "" && finding.Worst(r.found) != finding.Note {
		state = Wrong
	}
	if len(hosts) > 0 {
		saw += fmt.Sprintf("; its hosts file lists %s", typed)
	}
	if n.Chosen != nil && n.Chosen.Suffix != "" {
		saw += fmt.Sprintf("; the search list turns it into %s", n.Chosen.Name.Spoken())
	}
	r.end(at, state, saw)
}

// backHome looks a name up as programs on this machine do, and holds what comes back
// against its resolvers: another source of names may come before them.
func (r *round) backHome(ctx context.Context) {
	if r.Setup == nil {
		return
	}
	r.found = append(r.found, probe.Stubs(*r.Setup, r.control)...)
	if r.System == nil || !slices.ContainsFunc(r.Types, func(t wire.Type) bool { return t == wire.A || t == wire.AAAA }) {
		return
	}
	check := r.begin("this machine's own look-up")
	own, err := r.System(ctx, cmp.Or(r.Typed, r.Name.Spoken()))
	var known []netip.Addr
	var evidence []int
	for _, of := range r.answers {
		for _, e := range of {
			evidence = append(evidence, e.Number)
			for _, record := range e.Answer().Records {
				if a, ok := record.Address(); ok {
					known = append(known, a)
				}
			}
		}
	}
	words := make([]string, len(own))
	for i, a := range own {
		words[i] = a.String()
	}
	saw := strings.Join(words, ", ")
	if err != nil {
		saw = err.Error()
	}
	agrees := slices.ContainsFunc(own, func(a netip.Addr) bool { return slices.Contains(known, a) })
	told := slices.ContainsFunc(r.found, func(f finding.Finding) bool { return f.Code == finding.HostsOverride })
	if agrees || told || len(own) == 0 || len(known) == 0 {
		r.end(check, Fine, saw)
		return
	}
	r.end(check, Wrong, saw)
	r.found = append(r.found, finding.New(finding.SourceDiffers, finding.Concern, finding.About{Name: r.Name.String()},
		fmt.Sprintf("This machine's own look-up gives %s, and its resolvers answer %s: another source of names comes first here.", saw, known[0]), evidence...))
}

// hidden asks for the candidates behind the one that was found: where one of them
// says something else, the suffix has led to another name than may be meant.
func (r *round) hidden(ctx context.Context, n *probe.LocalName) []*exchange.Exchange {
	if n.Chosen == nil || n.Chosen.Suffix == "" {
		return nil
	}
	behind := n.Candidates[slices.Index(n.Candidates, *n.Chosen)+1:]
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
		r.found = append(r.found, finding.New(finding.SuffixAppended, finding.Concern, finding.About{Name: n.Chosen.Name.String()},
			fmt.Sprintf("%s is taken for %s, by the suffix %s; behind it stands %s, with the address %s.", n.Typed, n.Chosen.Name.Spoken(), n.Chosen.Suffix, behind[i].Name.Spoken(), values[0]), e.Number))
	}
	return nil
}
