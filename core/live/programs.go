package live

import (
	"cmp"
	"slices"
	"time"

	"unquil/core/conversation"
	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/wire"
)

// Bounds on what is counted of programs.
const (
	maxPrograms = 500
	maxNames    = 1000 // of one
	maxProcess  = 1000 // of one
	maxWaits    = 1 << 16
)

// Use is what the processes of one name asked for.
type Use struct {
	Name       escape.Text // of the program; "" stands for those that nobody knows
	Known      bool        // somebody knows whose these are
	Processes  []int       // that asked, up to a thousand
	Exchanges  int
	Failed     int // as [conversation.Stat] counts them
	NoName     int
	Unanswered int
	Latency    conversation.Histogram
	More       int // exchanges about names beyond those that are counted

	names map[wire.Name]*NameUse
}

// NameUse is how often a name was asked for.
type NameUse struct {
	Name      wire.Name
	Exchanges int
	Failed    int
	NoName    int
	Waited    time.Duration    // in all, from question to reply
	Outcome   exchange.Outcome // of the last that failed; "" without one
}

// Names are what was asked for: what failed first, and then what was asked for most.
func (u *Use) Names() []NameUse {
	var all []NameUse
	for _, n := range u.names {
		all = append(all, *n)
	}
	slices.SortFunc(all, func(a, b NameUse) int {
		return cmp.Or(cmp.Compare(b.Failed, a.Failed), cmp.Compare(b.Exchanges, a.Exchanges), cmp.Compare(a.Name.String(), b.Name.String()))
	})
	return all
}

// Programs counts exchanges by the program that asked.
type Programs struct {
	uses    map[escape.Text]*Use
	guessed int    // exchanges of the child that are guesses
	child   Use    // what the process asked that is watched, with those that it started
	waits   []wait // of these
	silent  bool   // one of these had no reply, and was not asked again
}

// wait is the time of one exchange.
type wait struct{ from, to int64 }

// Add counts an exchange. of is whose it is; nil: nobody knows.
func (p *Programs) Add(t *conversation.Transaction, of *Program) {
	if p.uses == nil {
		p.uses = map[escape.Text]*Use{}
	}
	p.addChild(t, of)
	if of != nil && of.Guess {
		of = nil
	}
	name := escape.Text("")
	if of != nil {
		name = of.Name
	}
	use := p.uses[name]
	if use == nil {
		if len(p.uses) >= maxPrograms {
			name = ""
			use = p.uses[name]
		}
		if use == nil {
			use = &Use{Name: name, Known: of != nil}
			p.uses[name] = use
		}
	}
	use.add(t, of)
}

// addChild counts an exchange of the process that is watched.
func (p *Programs) addChild(t *conversation.Transaction, of *Program) {
	if of == nil || !of.Child {
		return
	}
	count(&p.guessed, of.Guess)
	p.child.Known = true
	p.child.add(t, of)
	if len(p.waits) < maxWaits {
		p.waits = append(p.waits, waitOf(t))
	}
	if _, answered := t.ReplyView(); !answered && t.Line().After.Number == 0 {
		p.silent = true
	}
}

// waitOf is how long a program had to wait for an exchange: where it had no reply, until it asked
// once more, be it somebody else.
func waitOf(t *conversation.Transaction) wait {
	w := wait{from: t.First.At, to: t.Received}
	if w.to == 0 {
		sent := t.Sent()
		w.to = max(sent[len(sent)-1].At, t.Line().After.Sent)
	}
	return w
}

func (u *Use) add(t *conversation.Transaction, of *Program) {
	u.Exchanges++
	outcome, silent := t.Outcome(), false
	noName := outcome == exchange.NoName
	failed := !noName && outcome.Failed()
	if _, answered := t.ReplyView(); !answered && outcome.Silent() {
		silent = true
	}
	count(&u.NoName, noName)
	count(&u.Failed, failed)
	count(&u.Unanswered, silent)
	if took := t.Took(); took > 0 {
		u.Latency.Add(took)
	}
	if of != nil && len(u.Processes) < maxProcess && !slices.Contains(u.Processes, of.PID) {
		u.Processes = append(u.Processes, of.PID)
	}
	name, err := t.View().QName()
	if err != nil {
		u.More++
		return
	}
	name = name.Fold()
	n := u.names[name]
	if n == nil {
		if len(u.names) >= maxNames {
			u.More++
			return
		}
		if u.names == nil {
			u.names = map[wire.Name]*NameUse{}
		}
		n = &NameUse{Name: name}
		u.names[name] = n
	}
	n.Exchanges++
	n.Waited += time.Duration(waitOf(t).to - waitOf(t).from)
	count(&n.NoName, noName)
	count(&n.Failed, failed)
	if failed {
		n.Outcome = outcome
	}
}

func count(n *int, is bool) {
	if is {
		*n++
	}
}

// Uses are the programs, those that asked most first, and those that nobody knows last.
func (p *Programs) Uses() []*Use {
	var all []*Use
	for _, u := range p.uses {
		all = append(all, u)
	}
	slices.SortFunc(all, func(a, b *Use) int {
		if a.Known != b.Known {
			if a.Known {
				return -1
			}
			return 1
		}
		return cmp.Or(cmp.Compare(b.Exchanges, a.Exchanges), cmp.Compare(a.Name, b.Name))
	})
	return all
}

// Child is what the process asked that is watched, with those that it started.
func (p *Programs) Child() *Use { return &p.child }

// Guessed is how many exchanges are counted as the child's only because this machine asked while
// that ran.
func (p *Programs) Guessed() int { return p.guessed }

// HeldUp is for how long the process that is watched had a question open: names that were asked
// for at the same time count once. atLeast says that it waited for a reply that never came, and
// when it gave up does not show.
func (p *Programs) HeldUp() (total time.Duration, atLeast bool) {
	slices.SortFunc(p.waits, func(a, b wait) int { return cmp.Compare(a.from, b.from) })
	until := int64(0)
	for _, w := range p.waits {
		if from := max(w.from, until); w.to > from {
			total += time.Duration(w.to - from)
			until = w.to
		}
	}
	return total, p.silent
}
