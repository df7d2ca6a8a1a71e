package casework

import (
	"slices"

	"unquil/core/exchange"
	"unquil/core/finding"
)

// Changes is what became different between two times that the same was asked.
type Changes struct {
	Asked   int // questions that were put both times
	Answers []Answer
	New     []finding.Finding // found now, and not before
	Gone    []finding.Finding // found before, and not now
	Exit    [2]int            // exit codes, before and now
}

// Answer is a question whose answer became different.
type Answer struct{ Before, Now *exchange.Exchange }

// None reports whether nothing became different.
func (c *Changes) None() bool {
	return len(c.Answers)+len(c.New)+len(c.Gone) == 0 && c.Exit[0] == c.Exit[1]
}

// Worse reports whether any of it is for the worse: an answer is none any more, or something was found that is more
// than a note.
func (c *Changes) Worse() bool {
	return slices.ContainsFunc(c.New, func(f finding.Finding) bool { return f.Severity != finding.Note }) ||
		slices.ContainsFunc(c.Answers, Answer.worse)
}

// worse reports whether an answer is none any more, or says that there is nothing where there was something.
func (a Answer) worse() bool {
	return a.Before.Outcome.Good() && !a.Now.Outcome.Good() || a.Before.Outcome == exchange.Answered && a.Now.Outcome != exchange.Answered
}

// asked is what makes two questions the same.
type asked struct {
	server exchange.Server
	name   string
	typ    uint16
}

func askedIn(e *exchange.Exchange) asked {
	server := e.Server
	server.Label, server.Host = "", "" // the same server whatever it was called
	return asked{server, e.Question.Name.Fold().Wire(), uint16(e.Question.Type)}
}

// Compare tells what became different between two steps of the same command. Of several
// exchanges with the same question the last counts.
func Compare(before, now *Step) Changes {
	c := Changes{Exit: [2]int{before.Exit, now.Exit}}
	earlier := map[asked]*exchange.Exchange{}
	for i := range before.Exchanges {
		earlier[askedIn(&before.Exchanges[i])] = &before.Exchanges[i]
	}
	for i := len(now.Exchanges) - 1; i >= 0; i-- {
		e := &now.Exchanges[i]
		k := askedIn(e)
		then := earlier[k]
		if then == nil {
			continue
		}
		delete(earlier, k)
		c.Asked++
		if then.Meaning() != e.Meaning() {
			c.Answers = append(c.Answers, Answer{then, e})
		}
	}
	slices.Reverse(c.Answers)
	c.New, c.Gone = without(now.Findings, before.Findings), without(before.Findings, now.Findings)
	return c
}

// without are the findings that the others do not have.
func without(list, others []finding.Finding) (left []finding.Finding) {
	for _, f := range list {
		if !slices.ContainsFunc(others, func(o finding.Finding) bool { return alike(&f, &o) }) {
			left = append(left, f)
		}
	}
	return left
}
