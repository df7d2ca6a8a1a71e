package conversation

import (
	"net/netip"
	"slices"
	"time"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// Filter says which exchanges of a capture count. The zero Filter is all of them.
type Filter struct {
	Names            []string           // patterns with * and ?
	Exactly          wire.Name          // this name and no other
	Within           *Chosen            // these; nil: all
	Asking           map[wire.Name]bool // for one of these names, in lower case; nil: all
	Under            wire.Name
	Types            []wire.Type
	Outcomes         []exchange.Outcome
	Clients, Servers []netip.Prefix
	ID               *uint16
	Slower           time.Duration
	From, To         time.Time // when it was asked; the zero Time is no bound
	Finding          finding.Code
	Where            string // a condition, as [Fields] tells

	patterns  []string // Names as they are matched
	condition *condition
	buffer    []byte
}

// Compile makes the choice ready, and returns it as a function for one goroutine; nil when all
// exchanges count. The error is a [*ConditionError].
func (c *Filter) Compile() (func(*Transaction) bool, error) {
	c.patterns, c.condition = nil, nil
	for _, pattern := range c.Names {
		c.patterns = append(c.patterns, folded(pattern))
	}
	if c.Where != "" {
		var err error
		if c.condition, err = parseCondition(c.Where); err != nil {
			return nil, err
		}
	}
	if len(c.Names)+len(c.Types)+len(c.Outcomes)+len(c.Clients)+len(c.Servers) == 0 && c.Under.IsZero() && c.Exactly.IsZero() && c.Within == nil && c.Asking == nil && c.ID == nil &&
		c.Slower == 0 && c.From.IsZero() && c.To.IsZero() && c.Finding == "" && c.Where == "" {
		return nil, nil
	}
	return c.matches, nil
}

// NeedsFindings reports whether a choice that was compiled depends on what is found of exchanges, of which
// later packets may tell.
func (c *Filter) NeedsFindings() bool {
	return c.Finding != "" || c.condition != nil && c.condition.findings
}

func (c *Filter) matches(p *Transaction) bool {
	in := func(list []netip.Prefix, a netip.Addr) bool {
		return len(list) == 0 || slices.ContainsFunc(list, func(n netip.Prefix) bool { return n.Contains(a) })
	}
	sent := p.First.At
	switch {
	case c.Within != nil && !c.Within.Has(p.Number), !in(c.Clients, p.Client().Addr()), !in(c.Servers, p.Server().Addr()),
		len(c.Types) > 0 && !slices.Contains(c.Types, p.View().QType()),
		len(c.Outcomes) > 0 && !slices.Contains(c.Outcomes, p.Outcome()),
		c.ID != nil && p.unpackQuestion().id != *c.ID,
		c.Slower > 0 && p.Waited() < c.Slower && p.Answered(), c.Slower > 0 && !p.Answered(),
		!c.From.IsZero() && sent < c.From.UnixNano(), !c.To.IsZero() && sent > c.To.UnixNano(),
		c.Finding != "" && !slices.Contains(p.Codes, c.Finding):
		return false
	}
	if len(c.patterns) > 0 || c.Asking != nil || !c.Under.IsZero() || !c.Exactly.IsZero() {
		q, ok := p.View().Question()
		if !ok || !c.Exactly.IsZero() && !q.Name.Equal(c.Exactly) || !c.Under.IsZero() && !q.Name.IsSubdomainOf(c.Under) || c.Asking != nil && !c.Asking[q.Name.Fold()] {
			return false
		}
		if len(c.patterns) > 0 {
			c.buffer = q.Name.AppendSpoken(c.buffer[:0])
		}
	}
	if len(c.patterns) > 0 && !slices.ContainsFunc(c.patterns, func(pattern string) bool { return like(pattern, c.buffer) }) {
		return false
	}
	return c.condition == nil || c.condition.test(p)
}
