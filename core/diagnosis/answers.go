package diagnosis

import (
	"fmt"
	"time"

	"unquil/core/comparison"
	"unquil/core/exchange"
	"unquil/core/finding"
)

// slowAfter is from when on a live answer counts as slow.
const slowAfter = time.Second

// Answers says what is wrong with answers by themselves, without asking
// anybody else. That a name does not exist is an answer, and no fault.
func Answers(exchanges []*exchange.Exchange) []finding.Finding {
	var all []finding.Finding
	for _, e := range exchanges {
		about := finding.About{Name: e.Question.Name.String(), Type: e.Question.Type.String(), Server: e.Server.Name(), Address: e.Server.AddressText()}
		answer := e.Answer()
		f, failed := comparison.Failure(e)
		switch {
		case failed:
			all = append(all, f)
		case answer.Loop:
			all = append(all, finding.New(finding.AliasLoop, finding.Fault, about,
				fmt.Sprintf("%s is an alias that leads back to itself.", e.Question.Name.Spoken()), e.Number))
		case e.Outcome == exchange.NoName && len(answer.Aliases) > 0:
			all = append(all, finding.New(finding.AliasDangling, finding.Fault, about,
				fmt.Sprintf("%s is an alias for %s, which does not exist.", e.Question.Name.Spoken(), answer.Name.Spoken()), e.Number))
		case e.Outcome != "" && !e.Outcome.Good() && e.Outcome != exchange.Referral:
			all = append(all, finding.New(finding.Failed, finding.Fault, about,
				fmt.Sprintf("%s reports a failure (%s).", e.Server.Name(), e.Outcome), e.Number))
		}
		if e.Took() > slowAfter {
			all = append(all, finding.New(finding.Slow, finding.Concern, about,
				fmt.Sprintf("%s took %.1f s to answer.", e.Server.Name(), e.Took().Seconds()), e.Number))
		}
	}
	all = merge(all)
	finding.Sort(all)
	return all
}
