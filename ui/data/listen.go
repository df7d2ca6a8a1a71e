package data

import (
	"time"

	"unquil/core/escape"
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

// OfPrograms returns what programs asked for as JSON has it. One without a name is those of which
// nobody knows whose they are.
func OfPrograms(uses []*live.Use) []any {
	list := []any{}
	for _, u := range uses {
		j := map[string]any{"exchanges": u.Exchanges, "failed": u.Failed, "no_name": u.NoName, "unanswered": u.Unanswered, "names": ofNameUses(u)}
		if u.Known {
			j["name"], j["pids"] = u.Name, u.Processes
		}
		if u.Latency.Count() > 0 {
			j["median"], j["95th"] = u.Latency.Quantile(50).Seconds(), u.Latency.Quantile(95).Seconds()
		}
		list = append(list, j)
	}
	return list
}

func ofNameUses(u *live.Use) []any {
	list := []any{}
	for _, n := range u.Names() {
		j := map[string]any{"name": n.Name.String(), "exchanges": n.Exchanges, "failed": n.Failed, "no_name": n.NoName, "waited": n.Waited.Seconds()}
		if n.Outcome != "" {
			j["last_failure"] = n.Outcome
		}
		list = append(list, j)
	}
	return list
}

// OfWhile returns what a command asked for while it ran as JSON has it.
func OfWhile(command string, took time.Duration, exit int, failed string, p *live.Programs) any {
	held, atLeast := p.HeldUp()
	j := map[string]any{"command": escape.Of(command), "took": took.Seconds(), "exchanges": p.Child().Exchanges, "names": ofNameUses(p.Child()), "not_seen_who": p.Guessed(), "held_up": held.Seconds(), "held_up_at_least": atLeast}
	if failed == "" {
		j["exit_code"] = exit
	} else {
		j["not_run"] = escape.Of(failed)
	}
	return j
}

// OfInterfaces returns the names of interfaces as JSON has them.
func OfInterfaces(met []live.Interface) []string {
	names := []string{}
	for _, i := range met {
		names = append(names, string(escape.Of(i.Name)))
	}
	return names
}
