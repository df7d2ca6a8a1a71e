package probe

import (
	"context"
	"encoding/binary"
	"fmt"

	"unquil/core/delegation"
	"unquil/core/exchange"
	"unquil/core/registry"
	"unquil/core/wire"
)

// Registered walks to a domain, and tells what the DNS says of it that a registry knows too:
// whom the zone above delegates it to and with which keys, and what the zone itself lists.
func (p Prober) Registered(ctx context.Context, domain wire.Name) registry.Seen {
	walker := p.Walker()
	walker.Anchors = nil
	walk := walker.Walk(ctx, wire.Question{Name: domain, Type: wire.NS, Class: wire.IN})
	seen := SeenOf(walk, domain)
	at := above(walk, domain)
	if at == nil || at.Chosen == nil {
		return seen
	}
	e := p.Session.Ask(ctx, exchange.Request{Server: at.Chosen.Exchange.Server, Question: wire.Question{Name: domain, Type: wire.DS, Class: wire.IN}})
	if !e.Outcome.Good() || !e.Authoritative() {
		return seen
	}
	seen.DSTold = true
	seen.Evidence = append(seen.Evidence, e.Number)
	for _, r := range e.Answer().Records {
		if data := []byte(r.Data); r.Type == wire.DS && len(data) > 4 {
			seen.DS = append(seen.DS, registry.DS{Tag: binary.BigEndian.Uint16(data), Algorithm: data[2], Digest: data[3], Value: fmt.Sprintf("%X", data[4:])})
		}
	}
	return seen
}

// above is the step of a walk at the zone above a domain, as far as it came; nil where it did
// not begin.
func above(walk *delegation.Walk, domain wire.Name) (at *delegation.Step) {
	for _, s := range walk.Steps {
		if s.Zone.Equal(domain) || !domain.IsSubdomainOf(s.Zone) {
			break
		}
		at = s
	}
	return at
}

// SeenOf is what a walk to a name, in a domain or its own, shows of the domain.
func SeenOf(walk *delegation.Walk, domain wire.Name) (seen registry.Seen) {
	parent := above(walk, domain)
	if parent == nil || parent.Chosen == nil {
		return seen
	}
	seen.Evidence = []int{parent.Chosen.Exchange.Number}
	switch {
	case parent.Child.Equal(domain):
		seen.ParentTold, seen.Parent = true, parentView(parent, domain).Hosts
	case parent == walk.Last() && parent.Chosen.Stance == delegation.Answers && walk.End == delegation.EndNoName && parent.Chosen.Exchange.Authoritative():
		seen.ParentTold = true
	}
	last := walk.Last()
	if last.Chosen == nil || !last.Zone.Equal(domain) || walk.Question.Type != wire.NS || walk.End != delegation.EndAnswer {
		return seen
	}
	seen.ZoneTold = true
	for _, r := range walk.Records {
		if host, ok := r.Target(); ok && r.Type == wire.NS {
			seen.Zone = append(seen.Zone, host)
		}
	}
	seen.Evidence = append(seen.Evidence, last.Chosen.Exchange.Number)
	return seen
}
