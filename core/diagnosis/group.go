package diagnosis

import (
	"context"
	"slices"
	"sync"

	"unquil/core/finding"
	"unquil/core/probe"
	"unquil/core/wire"
)

// together is how many cases are looked into at once.
const together = 6

// WhyAll is [Why] for several cases, and returns the verdicts in their order.
func WhyAll(ctx context.Context, p probe.Prober, cases []Case) []Verdict {
	verdicts := make([]Verdict, len(cases))
	var wait sync.WaitGroup
	slots := make(chan struct{}, together)
	for i, c := range cases {
		slots <- struct{}{}
		wait.Go(func() {
			verdicts[i] = Why(ctx, p, c)
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
	var groups [][]Verdict
	for _, v := range verdicts {
		if len(v.Names) == 0 {
			v.Names = []wire.Name{v.Name}
		}
		if len(v.Cause) == 0 {
			groups = append(groups, []Verdict{v})
			continue
		}
		k := cause{code: v.Cause[0].Code, severity: v.Severity, where: v.Where, at: v.At}
		if v.Where == TheZoneData || v.Where == BehindAnswer {
			k.name = v.Cause[0].About.Name
		}
		i, known := at[k]
		if !known {
			i = len(groups)
			at[k], groups = i, append(groups, nil)
		}
		groups[i] = append(groups[i], v)
	}
	var all []Verdict
	for _, group := range groups {
		all = append(all, asOne(group))
	}
	slices.SortStableFunc(all, func(a, b Verdict) int { return b.Severity.Weight() - a.Severity.Weight() })
	return all
}

// asOne is the first of the verdicts with what the others have besides.
func asOne(group []Verdict) Verdict {
	one := group[0]
	if len(group) == 1 {
		return one
	}
	one.Names, one.Checks, one.Compared = nil, nil, nil
	named, checked := map[wire.Name]bool{}, map[Check]bool{}
	var cause, follows, also []finding.Finding
	for _, v := range group {
		for _, name := range v.Names {
			if !named[name.Fold()] {
				one.Names = append(one.Names, name)
			}
			named[name.Fold()] = true
		}
		for _, check := range v.Checks {
			if !checked[check] {
				one.Checks = append(one.Checks, check)
			}
			checked[check] = true
		}
		one.Compared = append(one.Compared, v.Compared...)
		one.Lasts = max(one.Lasts, v.Lasts)
		if v.Ends.After(one.Ends) {
			one.Ends = v.Ends
		}
		cause, follows, also = append(cause, v.Cause...), append(follows, v.Follows...), append(also, v.Also...)
	}
	one.Cause, one.Follows, one.Also = finding.Merge(cause), finding.Merge(follows), finding.Merge(also)
	return one
}
