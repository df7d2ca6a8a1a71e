package data

import (
	"time"

	"unquil/core/casework"
	"unquil/core/exchange"
	"unquil/core/finding"
)

// Changed is what became different since a line was run.
type Changed struct {
	Line    string            `json:"line"` // as it was typed
	Args    []string          `json:"args"` // the command that it came to
	At      time.Time         `json:"at"`   // when it was run before
	Asked   int               `json:"asked"`
	Worse   bool              `json:"worse"` // some of it is for the worse
	Answers []ChangedAnswer   `json:"answers"`
	New     []finding.Finding `json:"new"`
	Gone    []finding.Finding `json:"gone"`
}

// ChangedAnswer is one answer that did.
type ChangedAnswer struct {
	Question any         `json:"question"`
	Server   string      `json:"server"`
	Before   AnswerGiven `json:"before"`
	Now      AnswerGiven `json:"now"`
}

// AnswerGiven is what an exchange came to.
type AnswerGiven struct {
	Exchange int      `json:"exchange"`
	Outcome  string   `json:"outcome"`
	Values   []string `json:"values"`
}

// OfChanges is the JSON of what became different.
func OfChanges(before *casework.Step, c *casework.Changes) Changed {
	given := func(e *exchange.Exchange) AnswerGiven {
		values := exchange.Values(e.Answer().Records)
		if values == nil {
			values = []string{}
		}
		return AnswerGiven{e.Number, string(e.Outcome), values}
	}
	out := Changed{Line: string(before.Line), Args: append([]string{}, before.Args...), At: before.At, Asked: c.Asked, Worse: c.Worse(), Answers: []ChangedAnswer{}, New: c.New, Gone: c.Gone}
	for _, a := range c.Answers {
		out.Answers = append(out.Answers, ChangedAnswer{OfExchanges([]exchange.Exchange{*a.Now}, false)[0].Question, a.Now.Server.Name(), given(a.Before), given(a.Now)})
	}
	if out.New == nil {
		out.New = []finding.Finding{}
	}
	if out.Gone == nil {
		out.Gone = []finding.Finding{}
	}
	return out
}
