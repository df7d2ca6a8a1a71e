package exchange

import (
	"cmp"
	"errors"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"unquil/core/escape"
	"unquil/core/wire"
)

// ErrNotRecorded says that an earlier run did not ask this.
var ErrNotRecorded = errors.New("not queried when the evidence was kept")

// Recording is what an earlier run asked and what came of it. A session that has one asks
// nobody: each question gets what the same question got then. Replies come in the order in
// which they came then, and none before what was asked before it: what the run makes of
// whoever answers first it makes again.
type Recording struct {
	mu     sync.Mutex
	asked  map[recordedKey][]*recorded
	begun  []*recorded      // in the order in which they began; those that have begun again are taken off the front
	ended  []*recorded      // in the order in which they ended; those that have ended again are taken off the front
	number int              // the highest of the recording: what it does not hold is numbered above
	ever   map[everKey]bool // what was asked of whom, whatever the way
	// referrals are the exchanges that came to one, by server: all of them have ended.
	referrals map[netip.AddrPort][]*recorded
	pause     time.Duration
	timer     *time.Timer // of the next tick
	idle      bool        // since the last tick nothing has begun or ended
	stalls    int
}

// recorded is one exchange of a recording.
type recorded struct {
	Exchange
	again bool          // it has begun again, or never will
	done  chan struct{} // closed when it has ended again
}

// recordedKey is what makes a question the same as an earlier one: to whom, over what, and
// the query's bytes but for what is drawn by chance. A query that was never made has none.
type recordedKey struct {
	server Server
	query  string
	name   wire.Name
	t      wire.Type
}

// everKey is what was asked at an address.
type everKey struct {
	at   netip.AddrPort
	name wire.Name
	t    wire.Type
}

// Asked reports whether something was asked at an address; false of no recording.
func (r *Recording) Asked(at netip.AddrPort, q wire.Question) bool {
	return r != nil && r.ever[everKey{at, q.Name.Fold(), q.Type}]
}

// NewRecording makes a recording of exchanges. Between two replies it leaves a pause, in which
// what was made of the first comes to rest.
func NewRecording(exchanges []Exchange, pause time.Duration) *Recording {
	r := &Recording{ever: map[everKey]bool{}, asked: map[recordedKey][]*recorded{}, referrals: map[netip.AddrPort][]*recorded{}, pause: pause}
	for _, e := range exchanges {
		k := keyOf(e.Server, e.Question)
		r.ever[everKey{e.Server.Address, e.Question.Name.Fold(), e.Question.Type}] = true
		if len(e.Attempts) > 0 {
			if query, err := wire.ReadMessage(e.Attempts[0].Query); err == nil {
				k.query = plainQuery(query)
			}
		}
		known := &recorded{Exchange: e, done: make(chan struct{})}
		r.asked[k] = append(r.asked[k], known)
		r.begun, r.ended = append(r.begun, known), append(r.ended, known)
		r.number = max(r.number, e.Number)
		if e.Outcome == Referral && e.Reply != nil {
			ended := &recorded{Exchange: e, done: make(chan struct{})}
			close(ended.done)
			r.referrals[e.Server.Address] = append(r.referrals[e.Server.Address], ended)
		}
	}
	slices.SortStableFunc(r.begun, func(a, b *recorded) int { return a.Begun - b.Begun })
	slices.SortStableFunc(r.ended, func(a, b *recorded) int { return a.Ended - b.Ended })
	return r
}

// take begins the next exchange that a request had; one that has ended where it had none.
func (r *Recording) take(request Request, o Options) *recorded {
	k := keyOf(request.Server, request.Question)
	unasked := k
	k.query = plainQuery(NewQuery(request.Question, o))
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, k := range []recordedKey{k, unasked} {
		if known := r.asked[k]; len(known) > 0 {
			r.asked[k] = known[1:]
			known[0].again = true
			known[0].Server = request.Server // with the names that this one was asked by
			r.idle = false
			if r.pause > 0 || !r.end() {
				r.soon(cmp.Or(r.pause, stallTime))
			}
			return known[0]
		}
	}
	if known := r.referred(request); known != nil {
		return known
	}
	r.number++
	none := &recorded{Exchange: Exchange{Number: r.number, Server: request.Server, Question: request.Question, Err: ErrNotRecorded}, done: make(chan struct{})}
	close(none.done)
	return none
}

// referred is an exchange with the same server that referred whatever is in some zone to the
// servers of that zone, the name of a request among it: asked for that, it says the same. nil
// where there is none.
func (r *Recording) referred(request Request) *recorded {
	for _, known := range r.referrals[request.Server.Address] {
		if zone, _, _ := ReferralZone(known.Reply); request.Question.Name.IsSubdomainOf(zone) {
			return known
		}
	}
	return nil
}

// Where a run goes another way than it went, it waits so long for what it does not ask this
// time, and so often.
const (
	stallTime = 20 * time.Millisecond
	maxStalls = 20
)

// soon has [Recording.tick] called when what runs has come to rest.
func (r *Recording) soon(after time.Duration) {
	if r.timer == nil {
		r.timer = time.AfterFunc(after, r.tick)
	} else {
		r.timer.Reset(after)
	}
}

// tick is for when nothing has begun since what ended last: after a while what has not is
// given up.
func (r *Recording) tick() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.end() {
		return
	}
	at := slices.IndexFunc(r.ended, func(known *recorded) bool { return known.again })
	switch {
	case at < 0: // nothing waits
	case !r.idle && r.stalls < maxStalls:
		r.idle = true
		r.soon(stallTime)
	default:
		r.stalls++
		for _, known := range r.begun {
			known.again = known.again || known.Begun < r.ended[at].Ended
		}
		for _, known := range r.ended[:at] {
			known.again = true
		}
		r.soon(0)
	}
}

// end ends what ended next, where that has begun again and so has all that had begun before
// it ended; without a pause all that is so. It reports whether there was such.
func (r *Recording) end() (any bool) {
	for len(r.ended) > 0 && r.ended[0].again {
		for len(r.begun) > 0 && r.begun[0].again {
			r.begun = r.begun[1:]
		}
		if len(r.begun) > 0 && r.begun[0].Begun < r.ended[0].Ended {
			break
		}
		close(r.ended[0].done)
		r.ended, r.idle, any = r.ended[1:], false, true
		if r.pause > 0 {
			break
		}
	}
	if any {
		r.soon(cmp.Or(r.pause, stallTime))
	}
	return any
}

func keyOf(s Server, q wire.Question) recordedKey {
	s.Label, s.Host = "", "" // which do not travel
	return recordedKey{server: s, name: likeName(q.Name), t: q.Type}
}

// Chance begins the first label of a name that is made up beside others, to see what is
// said of one that nobody can have made.
const Chance = "unquil-"

// likeName is a name but for its letter case and for what is made up in it.
func likeName(n wire.Name) wire.Name {
	n = n.Fold()
	if first, _, _ := strings.Cut(n.String(), "."); strings.HasPrefix(first, Chance) {
		if like, err := n.Parent().Child(Chance); err == nil {
			return like
		}
	}
	return n
}

// plainQuery is a query without what is drawn by chance: its ID, letter case, made-up name
// and cookie.
func plainQuery(m wire.Message) string {
	m.ID = 0
	for i := range m.Questions {
		m.Questions[i].Name = likeName(m.Questions[i].Name)
	}
	if e, ok := m.EDNS(); ok {
		for i, option := range e.Options {
			if option.Code == wire.Cookie {
				e.Options[i].Data = ""
			}
		}
		m.Additional = []wire.Record{e.Record(wire.NoError)}
	}
	text, err := m.Bytes()
	if err != nil {
		return ""
	}
	return string(text)
}

// ErrorNote is an error as it is kept with evidence: its text, and what it can be told apart
// by. nil is no error.
type ErrorNote struct {
	Text   escape.Text
	Is     []string `json:",omitempty"` // words of notedErrors
	Step   string   `json:",omitempty"` // of a HandshakeError
	Status int      `json:",omitempty"` // of a StatusError
}

// notedErrors are the errors that judges tell apart.
var notedErrors = map[string]error{
	"wrong-id": ErrWrongID, "wrong-question": ErrWrongQuestion, "wrong-source": ErrWrongSource, "wrong-cookie": ErrWrongCookie,
	"not-a-reply": ErrNotReply, "no-reply": ErrNoReply, "closed": ErrClosed, "dripping": ErrDripping, "this-machine": ErrThisMachine,
	"alias-chain": ErrAliasChain, "budget": ErrBudget, "nowhere": ErrNowhere, "not-recorded": ErrNotRecorded,
	"refused": syscall.ECONNREFUSED, "reset": syscall.ECONNRESET, "host-unreachable": syscall.EHOSTUNREACH,
	"network-unreachable": syscall.ENETUNREACH, "no-address": syscall.EADDRNOTAVAIL, "no-family": syscall.EAFNOSUPPORT,
}

// NoteError is the note on an error; nil of nil.
func NoteError(err error) *ErrorNote {
	if err == nil {
		return nil
	}
	n := &ErrorNote{Text: escape.Of(err.Error())}
	for word, known := range notedErrors {
		if errors.Is(err, known) {
			n.Is = append(n.Is, word)
		}
	}
	if handshake, ok := errors.AsType[*HandshakeError](err); ok {
		n.Step = handshake.Step
	}
	if status, ok := errors.AsType[StatusError](err); ok {
		n.Status = int(status)
	}
	return n
}

// Err is the error of a note: one with the same text, and told apart as the same.
func (n *ErrorNote) Err() error {
	if n == nil {
		return nil
	}
	e := &noted{text: string(n.Text)}
	for _, word := range n.Is {
		if known := notedErrors[word]; known != nil {
			e.is = append(e.is, known)
		}
	}
	if n.Step != "" {
		e.is = append(e.is, &HandshakeError{n.Step, errors.New(strings.TrimPrefix(e.text, n.Step+": "))})
	}
	if n.Status != 0 {
		e.is = append(e.is, StatusError(n.Status))
	}
	return e
}

// noted is an error that was kept with evidence.
type noted struct {
	text string
	is   []error
}

func (e *noted) Error() string { return e.text }

func (e *noted) Unwrap() []error { return e.is }
