package diagnosis

import (
	"unquil/core/dnssec"
	"unquil/core/finding"
	"unquil/core/probe"
)

// uncheckedHere notes resolvers that hand on what the walk found to be bogus: they do not validate, and whoever
// asks them sees nothing of the fault. It asks nobody.
func (r *round) uncheckedHere() {
	if r.OwnJudgment {
		return // resolvers judge by other anchors, or as of another time
	}
	told := map[string]bool{}
	for i := range r.compared {
		walk := r.compared[i].Walk
		if walk == nil || walk.Validation == nil || walk.Validation.State != dnssec.Bogus || walk.Validation.Break == nil || walk.Validation.Break.Zone.IsRoot() {
			continue
		}
		for _, e := range r.answers[i] {
			if e == nil || !e.Outcome.Good() || told[e.Server.Name()] {
				continue
			}
			told[e.Server.Name()] = true
			r.found = append(r.found, probe.HandsOnBogus(finding.AboutExchange(e), e.Number))
		}
	}
}
