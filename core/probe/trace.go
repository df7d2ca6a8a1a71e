package probe

import (
	"context"
	"slices"

	"unquil/core/delegation"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/core/zonecare"
)

// Trace walks to the servers of a name, and judges on the way how each zone's
// servers agree with what its parent says of them.
func Trace(ctx context.Context, walker *delegation.Walker, q wire.Question) *delegation.Walk {
	walk := walker.Walk(ctx, q)
	for i := 1; i < len(walk.Steps); i++ {
		walk.Findings = append(walk.Findings, zoneSeen(walk.Steps[i-1], walk.Steps[i])...)
	}
	finding.Sort(walk.Findings)
	return walk
}

// zoneSeen judges what was seen of a zone beside the way.
func zoneSeen(before, step *delegation.Step) []finding.Finding {
	parent := parentView(before, step.Zone)
	if len(parent.Hosts) == 0 {
		return nil
	}
	var states []*zonecare.State
	var own []*exchange.Exchange
	for _, r := range step.Replies {
		if r.SOA == nil {
			continue
		}
		s := &zonecare.State{Server: zonecare.Server{Host: r.Host, Address: r.Address}, SOA: r.SOA}
		for _, a := range step.Extra {
			if a.Address == r.Address && a.Exchange.Question.Type == wire.NS && a.Exchange.Question.Name.Equal(step.Zone) {
				s.NS = a.Exchange
			}
		}
		states = append(states, s)
	}
	for _, host := range parent.Hosts {
		for _, t := range []wire.Type{wire.A, wire.AAAA} {
			if e := step.Asked(host, t); e != nil && !slices.Contains(own, e) {
				own = append(own, e)
			}
		}
	}
	if len(states) == 0 {
		return nil
	}
	return zonecare.Seen(step.Zone, parent, states, own)
}
