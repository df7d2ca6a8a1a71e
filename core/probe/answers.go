package probe

import (
	"fmt"

	"unquil/core/comparison"
	"unquil/core/exchange"
	"unquil/core/finding"
)

// Answers says what is wrong with answers by themselves, without asking
// anybody else. That a name does not exist is an answer, and no fault.
func Answers(exchanges []*exchange.Exchange) []finding.Finding {
	var all []finding.Finding
	for _, e := range exchanges {
		about := finding.AboutExchange(e)
		answer := e.Answer()
		f, failed := comparison.Failure(e)
		switch {
		case failed:
			all = append(all, f)
		case answer.Loop:
			all = append(all, finding.New(finding.AliasLoop, finding.Fault, about,
				fmt.Sprintf("%s points (CNAME) back to itself.", e.Question.Name.Spoken()), e.Number))
		case e.Outcome == exchange.NoName && len(answer.Aliases) > 0:
			all = append(all, finding.New(finding.AliasDangling, finding.Fault, about,
				fmt.Sprintf("%s points (CNAME) to %s, which does not exist.", e.Question.Name.Spoken(), answer.Name.Spoken()), e.Number))
		case e.Outcome != "" && !e.Outcome.Good() && e.Outcome != exchange.Referral:
			all = append(all, finding.New(finding.Failed, finding.Fault, about,
				fmt.Sprintf("%s reports a failure (%s).", e.Server.Name(), e.Outcome), e.Number))
		}
		all = append(all, Oddities(e, about)...)
		if f, slow := finding.SlowReply(about, e.Server.Name(), e); slow {
			all = append(all, f)
		}
	}
	all = finding.Merge(all)
	finding.Sort(all)
	return all
}

// Oddities are what was strange about an exchange, answered or not.
func Oddities(e *exchange.Exchange, about finding.About) []finding.Finding {
	var all []finding.Finding
	if f, breaks := finding.EDNSBroken(about, e.Server.Name(), e); breaks {
		all = append(all, f)
	}
	if e.EDNSIgnored {
		all = append(all, finding.New(finding.EDNSIgnored, finding.Note, about, fmt.Sprintf("%s replies as if EDNS did not exist.", e.Server.Name()), e.Number))
	}
	for _, a := range e.Attempts {
		for _, r := range a.Rejected {
			if code := finding.Code(exchange.Disbelief(r.Err)); code != finding.Malformed {
				all = append(all, finding.New(code, finding.Concern, about,
					fmt.Sprintf("A message from %s was rejected: %v.", exchange.FormatAddress(r.From), r.Err), e.Number))
			}
		}
		if a.Transport == exchange.TCP && e.Server.Transport == "" && a.Reply == nil && e.Outcome == exchange.Truncated && a.Err != nil {
			all = append(all, finding.New(finding.TCPRefused, finding.Fault, about,
				fmt.Sprintf("%s does not answer over TCP (%v), and its answer does not fit into UDP.", e.Server.Name(), a.Err), e.Number))
		}
	}
	return all
}
