package diagnosis

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"unquil/core/delegation"
	"unquil/core/finding"
	"unquil/core/idn"
	"unquil/core/probe"
	"unquil/core/registry"
	"unquil/core/wire"
)

// Registries tell whose a domain or an address is.
type Registries interface {
	AnswerAbout(ctx context.Context, domain wire.Name) registry.Answer
	// Contact is whose an address is and how they are reached, in words; "" where that is unknown.
	// asked is false where nobody is to be asked that.
	Contact(ctx context.Context, address netip.Addr) (words string, asked bool)
}

// theRegistry begins the check of what a registry says of what follows.
const theRegistry = "the registry, which is told "

// delegationFaults are what is wrong with a delegation: its registry may know why.
var delegationFaults = []finding.Code{finding.LameServer, finding.NSUnresolved, finding.Loop, finding.NoDelegation, finding.NSSetDiffers, finding.GlueDiffers, finding.GlueMissing, finding.AddressNowhere}

// judgeRegistry asks the registry of the name's domain, where the zone above does not know
// the domain, or what it says of it is wrong.
func (r *round) judgeRegistry(ctx context.Context) {
	if r.Registry == nil || len(r.compared) == 0 || ctx.Err() != nil {
		return
	}
	domain := idn.Registrable(r.Name)
	if domain.Labels() < 2 || !r.inDoubt(domain) {
		return
	}
	check := r.begin(theRegistry + domain.Spoken())
	answer := r.Registry.AnswerAbout(ctx, domain)
	state, saw := Fine, "registered, and in order"
	for _, f := range answer.Judge(domain, probe.SeenOf(r.compared[0].Walk, domain)) {
		switch {
		case f.Code == finding.RegistryUnreachable:
			f.Severity = finding.Note
			state, saw = Unknown, strings.TrimSuffix(f.Text, ".")
		case f.Severity != finding.Note && state == Fine:
			state, saw = Wrong, strings.TrimSuffix(f.Text, ".")
		}
		r.found = append(r.found, f)
	}
	r.end(check, state, saw)
}

// inDoubt reports whether it is the registry that may know why a domain fails.
func (r *round) inDoubt(domain wire.Name) bool {
	for i := range r.compared {
		walk := r.compared[i].Walk
		last := walk.Last()
		if walk.End == delegation.EndNoName && len(walk.Aliases) == 0 && last != nil && !last.Zone.Equal(domain) && domain.IsSubdomainOf(last.Zone) {
			return true
		}
	}
	return slices.ContainsFunc(r.found, func(f finding.Finding) bool {
		return f.Severity == finding.Fault && f.About.Zone == domain.String() && slices.Contains(delegationFaults, f.Code)
	})
}

// whose adds to what is to be done whose the address is that does not reply, or that an answer
// has and nobody reaches.
func (r *round) whose(ctx context.Context, v *Verdict) {
	if r.Registry == nil || len(v.Cause) == 0 || v.Severity != finding.Fault || ctx.Err() != nil {
		return
	}
	f := &v.Cause[0]
	address, err := netip.ParseAddr(f.About.Address)
	silent := f.About.Zone != "" && (f.Code == finding.NoReply || f.Code == finding.Unreachable)
	if err != nil || !silent && f.Code != finding.AddressNowhere || !registry.Public(address) {
		return
	}
	contact, asked := r.Registry.Contact(ctx, address)
	if !asked {
		return
	}
	check := r.begin(theRegistry + address.String())
	if contact == "" {
		r.end(check, Unknown, "who holds it could not be learnt")
	} else {
		r.end(check, Fine, contact)
		v.Next += fmt.Sprintf(" %s is an address of %s.", address, contact)
	}
	v.Checks = r.checks
}

// Heard is what registries told in a run: kept with its evidence, it is told again.
type Heard struct {
	Answers  map[string]registry.Answer `json:",omitempty"` // by domain
	Contacts map[string]string          `json:",omitempty"` // by address
}

// AnswerAbout is what was told of a domain.
func (t *Heard) AnswerAbout(_ context.Context, domain wire.Name) registry.Answer {
	if answer, ok := t.Answers[domain.String()]; ok {
		return answer
	}
	return registry.Answer{Problem: "it was not asked when the evidence was kept"}
}

// Contact is what was told of an address.
func (t *Heard) Contact(_ context.Context, address netip.Addr) (words string, asked bool) {
	words, asked = t.Contacts[address.String()]
	return words, asked
}

// noting are registries whose words are noted.
type noting struct {
	Registries
	mu    sync.Mutex
	heard Heard
}

func (n *noting) AnswerAbout(ctx context.Context, domain wire.Name) registry.Answer {
	answer := n.Registries.AnswerAbout(ctx, domain)
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.heard.Answers == nil {
		n.heard.Answers = map[string]registry.Answer{}
	}
	n.heard.Answers[domain.String()] = answer
	return answer
}

func (n *noting) Contact(ctx context.Context, address netip.Addr) (words string, asked bool) {
	if words, asked = n.Registries.Contact(ctx, address); !asked {
		return words, asked
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.heard.Contacts == nil {
		n.heard.Contacts = map[string]string{}
	}
	n.heard.Contacts[address.String()] = words
	return words, true
}
