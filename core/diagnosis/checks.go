package diagnosis

import (
	"slices"
	"sync"
)

// State is how a check came out.
type State string

// The states.
const (
	Running State = "under way"
	Fine    State = "fine"
	Wrong   State = "wrong"
	Unknown State = "unknown"
)

// Word is what a person reads of a state.
func (s State) Word() string {
	switch s {
	case Fine:
		return "OK"
	case Wrong:
		return "problem"
	}
	return string(s)
}

// Check is one thing that was looked at, and what was seen.
type Check struct {
	What  string `json:"what"`
	State State  `json:"state"`
	Saw   string `json:"saw"`
}

// board is the checks of one round, in the order in which a technician would make
// them, whatever the order in which they end.
type board struct {
	mu     sync.Mutex
	checks []Check
	watch  func([]Check)
}

func (b *board) begin(what string) (at int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.checks = append(b.checks, Check{What: what, State: Running})
	b.tell()
	return len(b.checks) - 1
}

func (b *board) end(at int, state State, saw string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.checks[at].State, b.checks[at].Saw = state, saw
	b.tell()
}

func (b *board) tell() {
	if b.watch != nil {
		b.watch(slices.Clone(b.checks))
	}
}
