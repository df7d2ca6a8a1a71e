package data

import (
	"time"

	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/live"
)

// Program is a process that asked.
type Program struct {
	Name escape.Text `json:"name"`
	PID  int         `json:"pid"`
}

// OfProgram returns a process as JSON has it; nil for none.
func OfProgram(p *live.Program) *Program {
	if p == nil {
		return nil
	}
	return &Program{p.Name, p.PID}
}

// ProgramUse is what one program asked for.
type ProgramUse struct {
	Name       escape.Text `json:"name,omitempty"` // absent: nobody knows whose these are
	PIDs       []int       `json:"pids,omitempty"`
	Exchanges  int         `json:"exchanges"`
	Failed     int         `json:"failed"`
	NoName     int         `json:"no_name"`
	Unanswered int         `json:"unanswered"`
	Median     *float64    `json:"median,omitempty"` // seconds
	P95        *float64    `json:"95th,omitempty"`
	Names      []NameUse   `json:"names"`
}

// NameUse is how often a name was asked for.
type NameUse struct {
	Name      string           `json:"name"`
	Exchanges int              `json:"exchanges"`
	Failed    int              `json:"failed"`
	NoName    int              `json:"no_name"`
	Waited    float64          `json:"waited"` // seconds
	Last      exchange.Outcome `json:"last_failure,omitempty"`
}

// OfPrograms returns what programs asked for as JSON has it.
func OfPrograms(uses []*live.Use) []ProgramUse {
	return each(uses, func(u *live.Use) ProgramUse {
		j := ProgramUse{Exchanges: u.Exchanges, Failed: u.Failed, NoName: u.NoName, Unanswered: u.Unanswered, Names: ofNameUses(u)}
		if u.Known {
			j.Name, j.PIDs = u.Name, u.Processes
		}
		if u.Latency.Count() > 0 {
			j.Median, j.P95 = new(u.Latency.Quantile(50).Seconds()), new(u.Latency.Quantile(95).Seconds())
		}
		return j
	})
}

func ofNameUses(u *live.Use) []NameUse {
	return each(u.Names(), func(n live.NameUse) NameUse {
		return NameUse{n.Name.String(), n.Exchanges, n.Failed, n.NoName, n.Waited.Seconds(), n.Outcome}
	})
}

// While is what a command asked for while it ran.
type While struct {
	Command   escape.Text `json:"command"`
	Took      float64     `json:"took"` // seconds
	Exchanges int         `json:"exchanges"`
	Names     []NameUse   `json:"names"`
	Guessed   int         `json:"not_seen_who"` // exchanges that count as its by their time
	HeldUp    float64     `json:"held_up"`      // seconds
	AtLeast   bool        `json:"held_up_at_least"`
	ExitCode  *int        `json:"exit_code,omitempty"`
	NotRun    escape.Text `json:"not_run,omitempty"` // why
}

// OfWhile returns what a command asked for while it ran as JSON has it.
func OfWhile(command string, took time.Duration, exit int, failed string, p *live.Programs) *While {
	held, atLeast := p.HeldUp()
	j := &While{Command: escape.Of(command), Took: took.Seconds(), Exchanges: p.Child().Exchanges, Names: ofNameUses(p.Child()), Guessed: p.Guessed(), HeldUp: held.Seconds(), AtLeast: atLeast}
	if failed == "" {
		j.ExitCode = &exit
	} else {
		j.NotRun = escape.Of(failed)
	}
	return j
}

// Heard is how much of the traffic was heard; all but the seconds are packets.
type Heard struct {
	Packets    int     `json:"packets"`
	Lost       int     `json:"lost"`
	NotJudged  int     `json:"not_judged"`
	NotWritten int     `json:"not_written"`
	Seconds    float64 `json:"seconds"`
}

// OfInterfaces returns the names of interfaces as JSON has them.
func OfInterfaces(met []live.Interface) []string {
	names := []string{}
	for _, i := range met {
		names = append(names, string(escape.Of(i.Name)))
	}
	return names
}
