package diagnosis

import (
	"context"
	"slices"
	"sync"

	"unquil/core/finding"
	"unquil/core/wire"
)

// together is how many cases are looked into at once.
const together = 6

// WhyAll is [Probe.Why] for several cases, and returns the verdicts in their order.
func (p Probe) WhyAll(ctx context.Context, cases []Case) []Verdict {
	verdicts := make([]Verdict, len(cases))
	var wait sync.WaitGroup
	slots := make(chan struct{}, together)
	for i, c := range cases {
		slots <- struct{}{}
		wait.Go(func() {
			verdicts[i] = p.Why(ctx, c)
			<-slots
		})
	}
	wait.Wait()
	return verdicts
}

// Group makes one verdict of those that have one cause: twenty names on one dead
// server are one failure. What is wrong with a name's own data stays by itself.
func Group(verdicts []Verdict) []Verdict {
	type cause struct {
		code     finding.Code
		severity finding.Severity
		where    Place
		at, name string
	}
	at := map[cause]int{}
	var all []Verdict
	for _, v := range verdicts {
		if len(v.Names) == 0 {
			v.Names = []wire.Name{v.Name}
		}
		if len(v.Cause) == 0 {
			all = append(all, v)
			continue
		}
		k := cause{code: v.Cause[0].Code, severity: v.Severity, where: v.Where, at: v.At}
		if v.Where == TheZoneData || v.Where == BehindAnswer {
			k.name = v.Cause[0].About.Name
		}
		i, known := at[k]
		if !known {
			at[k], all = len(all), append(all, v)
			continue
		}
		g := &all[i]
		for _, name := range v.Names {
			if !slices.ContainsFunc(g.Names, name.Equal) {
				g.Names = append(g.Names, name)
			}
		}
		g.Compared = append(g.Compared, v.Compared...)
		g.Lasts = max(g.Lasts, v.Lasts)
		g.Cause = merge(append(slices.Clip(g.Cause), v.Cause...))
		g.Follows = merge(append(slices.Clip(g.Follows), v.Follows...))
		g.Also = merge(append(slices.Clip(g.Also), v.Also...))
		for _, check := range v.Checks {
			if !slices.Contains(g.Checks, check) {
				g.Checks = append(g.Checks, check)
			}
		}
	}
	slices.SortStableFunc(all, func(a, b Verdict) int { return b.Severity.Weight() - a.Severity.Weight() })
	return all
}
