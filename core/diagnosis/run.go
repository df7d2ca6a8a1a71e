package diagnosis

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"unquil/core/conversation"
	"unquil/core/delegation"
	"unquil/core/evidence"
	"unquil/core/exchange"
	"unquil/core/machine"
	"unquil/core/probe"
	"unquil/core/wire"
)

// Run is one run of [Why] over some cases, with all that it is given beside the replies: kept
// with these as evidence, it can be made again, and comes to the same verdicts.
type Run struct {
	Cases   []Case
	Options exchange.Options
	Roots   []delegation.Server
	Anchors []wire.Record `json:",omitempty"` // what signatures were judged by, and as of when
	AsOf    time.Time     `json:",omitzero"`
	Seed    uint64        `json:",omitempty"` // what chance began with
	// OwnJudgment says that the anchors or the time are not those that resolvers judge by.
	OwnJudgment bool `json:",omitempty"`
	Ended       time.Time
	Unread      []*exchange.ErrorNote `json:",omitempty"` // by case: what reading the set-up gave
	Looked      []*LookedUp           `json:",omitempty"` // by case: what the machine's own look-up gave; nil where there was none
	Heard       *Heard                `json:",omitempty"` // what registries told; nil where none was asked
	Passed      []*Passing            `json:",omitempty"` // by case: what passed over the interfaces; nil where nobody listened
}

// LookedUp is what a machine's own look-up gave.
type LookedUp struct {
	Addresses []netip.Addr
	Err       *exchange.ErrorNote
}

// Verdicts makes the run, and notes what it was given.
func (r *Run) Verdicts(ctx context.Context, p probe.Prober) []Verdict {
	r.Options, r.Roots, r.Anchors, r.AsOf = p.Session.Client.Options, p.Roots, p.Anchors, p.AsOf
	r.Seed, r.OwnJudgment = p.Seed, p.OwnJudgment
	r.Options.CAs = nil
	r.Unread, r.Looked = make([]*exchange.ErrorNote, len(r.Cases)), make([]*LookedUp, len(r.Cases))
	r.Passed = make([]*Passing, len(r.Cases))
	cases := slices.Clone(r.Cases)
	var mu sync.Mutex
	var told noting
	for i := range cases {
		if cases[i].Registry != nil {
			told.Registries, cases[i].Registry = cases[i].Registry, &told
		}
		r.Unread[i] = exchange.NoteError(cases[i].SetupErr)
		if cases[i].Wire != nil {
			passed := &notingWire{Wire: cases[i].Wire}
			cases[i].Wire, r.Passed[i] = passed, &passed.told
		}
		own := cases[i].System
		if own == nil {
			continue
		}
		cases[i].System = func(ctx context.Context, name string) ([]netip.Addr, error) {
			addresses, err := own(ctx, name)
			mu.Lock()
			defer mu.Unlock()
			r.Looked[i] = &LookedUp{addresses, exchange.NoteError(err)}
			return addresses, err
		}
	}
	verdicts := WhyAll(ctx, p, cases)
	if told.heard.Answers != nil || told.heard.Contacts != nil {
		r.Heard = &told.heard
	}
	if !slices.ContainsFunc(r.Passed, func(p *Passing) bool { return p != nil }) {
		r.Passed = nil
	}
	r.Ended = p.Session.Client.Now()
	return Group(verdicts)
}

// Given is what to keep of the run with its exchanges: of a hosts file only the lines about
// the names that were asked for.
func (r *Run) Given() any {
	given := *r
	given.Cases = slices.Clone(r.Cases)
	for i := range given.Cases {
		c := &given.Cases[i]
		if c.Setup == nil {
			continue
		}
		setup := *c.Setup
		setup.Hosts = setup.InHosts(c.typed())
		c.Setup = &setup
	}
	return given
}

// again makes a run again from its exchanges. It returns these, with what was not asked then.
func (r *Run) again(ctx context.Context, exchanges []exchange.Exchange) (verdicts []Verdict, all []exchange.Exchange) {
	var unasked []exchange.Exchange
	cases := slices.Clone(r.Cases)
	for i := range cases {
		c := &cases[i]
		if i < len(r.Unread) && r.Unread[i] != nil {
			c.SetupErr = unreadSetup(r.Unread[i].Err())
		}
		if r.Heard != nil {
			c.Registry = r.Heard
		}
		if i < len(r.Passed) && r.Passed[i] != nil {
			c.Wire = r.Passed[i]
		}
		if i < len(r.Looked) && r.Looked[i] != nil {
			looked := r.Looked[i]
			c.System = func(context.Context, string) ([]netip.Addr, error) { return looked.Addresses, looked.Err.Err() }
		}
	}
	for _, pause := range pauses {
		client := &exchange.Client{Now: func() time.Time { return r.Ended }, Options: r.Options, Budget: exchange.NewBudget(len(cases))}
		session := &exchange.Session{Client: client, Recording: exchange.NewRecording(exchanges, pause)}
		verdicts = WhyAll(ctx, probe.Prober{Session: session, Roots: r.Roots, Anchors: r.Anchors, AsOf: r.AsOf, Seed: r.Seed, OwnJudgment: r.OwnJudgment}, cases)
		unasked = slices.DeleteFunc(session.Exchanges(), func(e exchange.Exchange) bool { return !errors.Is(e.Err, exchange.ErrNotRecorded) })
		if len(unasked) == 0 || len(unasked) > len(exchanges)/2 { // it is not the run that these are of: no pause helps
			break
		}
	}
	return verdicts, append(exchanges, unasked...)
}

// pauses are how long a run that is made again rests after each reply: where a busy machine
// made it go another way than it went, it is made once more, and more slowly.
var pauses = []time.Duration{0, 200 * time.Microsecond, 4 * time.Millisecond}

// unreadSetup is the error of reading a set-up, told apart as package machine has it.
func unreadSetup(err error) error {
	for _, known := range []error{machine.ErrNoResolver, machine.ErrUnread} {
		if rest, ok := strings.CutPrefix(err.Error(), known.Error()); ok {
			return fmt.Errorf("%w%s", known, rest)
		}
	}
	return err
}

// OfRun judges captures that are the evidence of a run as that run judged itself; ok is false
// where they are not, or not of these names and types.
func (q *Inquest) OfRun(ctx context.Context, source conversation.Source) (verdicts []Verdict, exchanges []exchange.Exchange, ok bool) {
	if !source.Again() {
		return nil, nil, false
	}
	readers, err := source.Open()
	if err != nil || len(readers) != 1 {
		return nil, nil, false
	}
	given, exchanges, err := evidence.ReadRun(readers[0])
	var run Run
	if err != nil || json.Unmarshal(given, &run) != nil || !run.sound() {
		return nil, nil, false
	}
	verdicts, exchanges = run.again(ctx, exchanges)
	verdicts = slices.DeleteFunc(verdicts, func(v Verdict) bool { return !q.about(&v) })
	if len(verdicts) < max(len(q.Names), 1) {
		return nil, nil, false
	}
	q.Given = given
	return Group(verdicts), exchanges, true
}

// Bounds on a run that is made again.
const (
	maxCases     = 1000
	maxQuestions = 1000 // of one case, to resolvers
)

// sound reports whether a run that was read back is one that can have been made.
func (r *Run) sound() bool {
	return len(r.Cases) > 0 && len(r.Cases) <= maxCases && !slices.ContainsFunc(r.Cases, func(c Case) bool {
		unusable := func(s exchange.Server) bool { return !s.Address.IsValid() }
		return c.Name.IsZero() || len(c.Types) == 0 || len(c.Types)*(len(c.Resolvers)+len(c.Others)) > maxQuestions || slices.ContainsFunc(c.Resolvers, unusable) || slices.ContainsFunc(c.Others, unusable)
	})
}

// about reports whether a verdict is about one of the names that are wanted, and their types.
func (q *Inquest) about(v *Verdict) bool {
	named := func(n wire.Name) bool { return n.Equal(v.Name) }
	wanted := func(t wire.Type) bool { return slices.Contains(q.Types, t) }
	return (len(q.Names) == 0 || slices.ContainsFunc(q.Names, named)) &&
		(len(q.Types) == 0 || len(q.Types) == len(v.Types) && !slices.ContainsFunc(v.Types, func(t wire.Type) bool { return !wanted(t) }))
}
