package diagnosis

import (
	"context"
	"fmt"

	"unquil/core/conversation"
	"unquil/core/wire"
)

// Inquest is what is to be judged of captures, and how they are read.
type Inquest struct {
	Names   []wire.Name // all that failed when there are none
	Types   []wire.Type // all when there are none
	Options conversation.Options
	// NotJudged is how many exchanges were too many to be judged, once that is known.
	NotJudged int
	// Given is what the run was given whose evidence a capture is, once that is known; nil where
	// it is none.
	Given any
}

// AbsentError says that nobody in the captures asks for a name.
type AbsentError struct{ Name wire.Name }

func (e AbsentError) Error() string { return fmt.Sprintf("nobody asks for %s", e.Name.Spoken()) }

// Of reads captures as often as it takes, and judges them: see [Captured]. The evidence of a
// run of [Why] is judged as that run was, so that it comes to the same. The error is an
// AbsentError, or that of reading, as [conversation.NewStudy] has it.
func (q *Inquest) Of(ctx context.Context, source conversation.Source) ([]Verdict, *conversation.Overview, error) {
	if verdicts, exchanges, ok := q.OfRun(ctx, source); ok {
		return verdicts, &conversation.Overview{Kept: exchanges}, nil
	}
	var s *suspects
	plan := conversation.Plan{Options: q.Options}
	if len(q.Names) == 0 {
		plan.Settled = true // what later packets tell of others is judged too
		plan.Gather = func() func(*conversation.Transaction) {
			s = &suspects{}
			return s.see
		}
		plan.Fetch = func(*conversation.Overview) func(*conversation.Transaction) bool {
			if len(s.names) == 0 {
				return nil
			}
			return s.telling()
		}
	} else {
		s = &suspects{}
		for _, name := range q.Names {
			s.add(name)
		}
		plan.Also = s.telling()
	}
	study, err := conversation.NewStudy(ctx, source, plan)
	if study == nil {
		return nil, nil, err
	}
	q.NotJudged = study.Missed + s.left
	if len(q.Names) == 0 {
		return Captured(study.Overview, wire.Name{}, q.Types), study.Overview, err
	}
	var verdicts []Verdict
	for _, name := range q.Names {
		of := Captured(study.Overview, name, q.Types)
		if len(of) == 0 {
			return nil, study.Overview, AbsentError{name}
		}
		verdicts = append(verdicts, of...)
	}
	return Group(verdicts), study.Overview, err
}
