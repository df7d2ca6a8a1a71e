package comparison

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// EventKind is what happened to one resolver's answer.
type EventKind string

// The kinds of events.
const (
	First     EventKind = "first"     // the first answer
	Changed   EventKind = "changed"   // another answer, or another outcome
	Refreshed EventKind = "refreshed" // the same answer, fetched from the zone again
	Several   EventKind = "several"   // one more cache was seen behind the address
)

// Event is one change that was seen while watching.
type Event struct {
	At     time.Time
	Server exchange.Server
	// Question is what was asked.
	Question wire.Question
	Kind     EventKind
	Says     string // the answer, in a few words that are safe to print
	TTL      uint32 // seconds left
	Text     string // what happened, in one sentence
}

// Habit is how a resolver's TTL behaves over time.
type Habit string

// The habits.
const (
	Unclear    Habit = "not clear yet"
	CountsDown Habit = "counts down: one cache"
	Jumps      Habit = "jumps between countdowns: several caches behind one address"
	Constant   Habit = "never falls: the zone's own server, or a resolver that hides the age"
	TooRarely  Habit = "queried too rarely to tell: more than one TTL apart"
)

// slack is by how many seconds two replies of one cache may disagree on when
// their answer runs out: TTLs are whole seconds, and the way takes time.
const slack = 2

// maxCountdowns bounds the countdowns that one track follows at once.
const maxCountdowns = 16

// countdown is one cache's copy: when it runs out, and whether it was seen again
// after another one.
type countdown struct {
	ends     time.Time
	returned bool
}

// Track follows one resolver's answers over time.
type Track struct {
	Server    exchange.Server
	Question  wire.Question // that is followed
	About     string        // what it is called where several are followed; "" otherwise
	Says      string
	Outcome   exchange.Outcome
	Values    []string
	TTL       uint32    // as last told
	At        time.Time // when it was
	Refreshed time.Time // when the TTL last jumped up; zero: not seen yet
	Changes   int
	Asked     int
	Caches    int // how many have been seen behind the address; 0: none with a TTL

	meaning    string
	countdowns []countdown
	last       int // index of the countdown seen last; -1 without one
	firstTTL   uint32
	firstAt    time.Time
	same       int  // how often in a row the TTL was told again as it was
	dense      bool // two questions came within one TTL
}

// NewTrack begins to follow a resolver.
func NewTrack(server exchange.Server) *Track { return &Track{Server: server, last: -1} }

// Name is what to call the track: its server, with the question where several are followed.
func (t *Track) Name() string {
	if t.About == "" {
		return t.Server.Name()
	}
	return t.Server.Name() + " on " + t.About
}

// Ends is when the answer seen last runs out; zero without a TTL.
func (t *Track) Ends() time.Time {
	if t.last < 0 {
		return time.Time{}
	}
	return t.countdowns[t.last].ends
}

// Habit is how the TTL has behaved so far.
func (t *Track) Habit() Habit {
	switch {
	case t.Caches > 1:
		return Jumps
	case t.same > 1 && t.dense:
		return Constant
	case t.same > 1:
		return TooRarely
	case t.At.Sub(t.firstAt) > slack*time.Second && t.TTL < t.firstTTL || !t.Refreshed.IsZero():
		return CountsDown
	}
	return Unclear
}

// Add takes the next answer, given at a time of the clock that TTLs run by, and
// returns what happened.
func (t *Track) Add(at time.Time, e *exchange.Exchange) (events []Event) {
	t.Asked++
	note := func(kind EventKind, format string, args ...any) {
		events = append(events, Event{At: at, Server: t.Server, Question: t.Question, Kind: kind, Says: t.Says, TTL: t.TTL, Text: fmt.Sprintf(format, args...)})
	}
	answer := e.Answer()
	before, meaning, last := t.Says, e.Meaning(), t.At
	fresh := t.Asked == 1 || meaning != t.meaning
	t.meaning, t.Outcome, t.Values, t.At = meaning, e.Outcome, exchange.Values(answer.Records), at
	if t.Says = string(e.Outcome); len(t.Values) > 0 {
		t.Says = strings.Join(t.Values, ", ")
	}
	ttl, known := ttlOf(e, answer)
	previous := t.TTL
	t.TTL = ttl
	if !last.IsZero() && previous > 0 && at.Sub(last) < time.Duration(previous)*time.Second {
		t.dense = true
	}
	switch {
	case t.Asked == 1:
		note(First, "%s says %s", t.Name(), t.Says)
	case fresh:
		t.Changes++
		note(Changed, "%s now answers %s; before, it answered %s", t.Name(), t.Says, before)
	}
	if !known {
		return events
	}
	if fresh {
		// Another answer comes with a countdown of its own.
		t.firstTTL, t.firstAt, t.same = ttl, at, 0
	} else if t.same++; ttl != previous || at.Sub(t.firstAt) <= slack*time.Second {
		t.same = 0
	}
	t.count(at, ttl, fresh, note)
	return events
}

// count files the reply under the countdown it belongs to, and notes what that shows.
func (t *Track) count(at time.Time, ttl uint32, fresh bool, note func(EventKind, string, ...any)) {
	ends := at.Add(time.Duration(ttl) * time.Second)
	for i := range t.countdowns {
		if d := t.countdowns[i].ends.Sub(ends); d > slack*time.Second || d < -slack*time.Second {
			continue
		}
		if i != t.last && t.last >= 0 && t.same == 0 {
			// It comes back after another: these are two caches, not one that was refreshed.
			t.countdowns[i].returned, t.countdowns[t.last].returned = true, true
			if seen := t.distinct(); seen > t.Caches {
				t.Caches = seen
				if seen > 1 {
					note(Several, "%s: %d caches have been seen behind this address", t.Name(), seen)
				}
			}
		}
		t.countdowns[i].ends, t.last = ends, i
		t.Caches = max(t.Caches, 1)
		return
	}
	if old := t.last; old >= 0 && !fresh && t.same == 0 {
		left := t.countdowns[old].ends.Sub(at)
		t.Refreshed = at
		switch {
		case left > slack*time.Second:
			note(Refreshed, "%s now has a TTL of %s left, while the one before had %s: fetched early, or another cache", t.Name(), wire.Period(ttl), wire.Period(uint32(left/time.Second)))
		case left < -slack*time.Second:
			note(Refreshed, "%s fetched it again %s after the TTL ran out", t.Name(), wire.Period(uint32(-left/time.Second)))
		default:
			note(Refreshed, "%s fetched it again when the TTL ran out", t.Name())
		}
	}
	t.countdowns = slices.DeleteFunc(t.countdowns, func(c countdown) bool { return at.Sub(c.ends) > slack*time.Second })
	if len(t.countdowns) == maxCountdowns {
		t.countdowns = t.countdowns[1:]
	}
	t.countdowns = append(t.countdowns, countdown{ends: ends})
	t.last = len(t.countdowns) - 1
	t.Caches = max(t.Caches, 1)
}

// distinct is how many countdowns have been seen in alternation.
func (t *Track) distinct() (n int) {
	for _, c := range t.countdowns {
		if c.returned {
			n++
		}
	}
	return n
}

// ttlOf is the least TTL of an answer, or how long "there is none" is kept.
func ttlOf(e *exchange.Exchange, answer exchange.Answer) (ttl uint32, known bool) {
	if e.Reply == nil {
		return 0, false
	}
	if len(answer.Records) == 0 {
		_, ttl, known = exchange.Negative(e.Reply)
		return ttl, known
	}
	ttl = answer.Records[0].TTL
	for _, r := range answer.Records {
		ttl = min(ttl, r.TTL)
	}
	return ttl, true
}

// AgreeOnEach reports whether all tracks of each question say the same.
func AgreeOnEach(tracks []*Track) bool {
	by := map[wire.Question][]*Track{}
	for _, t := range tracks {
		by[t.Question] = append(by[t.Question], t)
	}
	for _, of := range by {
		if !Agree(of) {
			return false
		}
	}
	return len(tracks) > 0
}

// Agree reports whether all tracks that have been asked say the same.
func Agree(tracks []*Track) bool {
	for _, t := range tracks {
		if t.Asked == 0 || !t.Outcome.Good() || t.meaning != tracks[0].meaning {
			return false
		}
	}
	return len(tracks) > 0
}

// AllSay reports whether every track gives all of the values.
func AllSay(tracks []*Track, values []string) bool {
	return len(tracks) > 0 && !slices.ContainsFunc(tracks, func(t *Track) bool { return !gives(t.Values, values) })
}
