package exchange

import (
	"context"
	"errors"
	"net/netip"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/wire"
)

// A session with a recording asks nobody: each question gets what it got then, in the order in
// which that ended, though another order of asking would end in another. What was not asked
// then is said not to have been, unless a server has referred all that is in its zone elsewhere.
func TestRecordingAnswers(t *testing.T) {
	server := func(last byte) Server {
		return Server{Address: netip.AddrPortFrom(netip.AddrFrom4([4]byte{192, 0, 2, last}), 53)}
	}
	ask := func(name string) wire.Question {
		return wire.Question{Name: wire.MustParseName(name), Type: wire.A, Class: wire.IN}
	}
	recorded := func(number, begun, ended int, s Server, name string, o Options, outcome Outcome) Exchange {
		query := NewQuery(ask(name), o)
		data, err := query.Bytes()
		require.NoError(t, err)
		return Exchange{Number: number, Begun: begun, Ended: ended, Server: s, Question: ask(name), Outcome: outcome, Attempts: []Attempt{{Query: data}}}
	}
	refers := recorded(5, 5, 6, server(9), "a.tarn.example", Options{Iterative: true}, Referral)
	refers.Reply = &wire.Message{Flags: wire.QR, Questions: []wire.Question{ask("a.tarn.example")}, Authority: []wire.Record{
		{Name: wire.MustParseName("tarn.example"), Type: wire.NS, Class: wire.IN, TTL: 60, Data: wire.MustParseName("ns.tarn.example").Wire()}}}
	all := []Exchange{
		recorded(1, 1, 4, server(1), "www.example", Options{}, NoReply), // began first, ended last
		recorded(2, 2, 3, server(2), "www.example", Options{}, Refused),
		recorded(3, 7, 8, server(1), "www.example", Options{}, Answered), // asked the same later
		recorded(4, 9, 10, server(1), "unquil-abc.example", Options{Cookie: true}, NoName),
		refers,
		{Number: 6, Begun: 11, Ended: 12, Server: server(3), Question: ask("www.example"), Err: ErrBudget},
	}
	for _, pause := range []time.Duration{0, time.Millisecond} {
		synctest.Test(t, func(t *testing.T) {
			s := &Session{Client: &Client{Now: time.Now}, Recording: NewRecording(all, pause)}
			var order []int
			var mu sync.Mutex
			var wait sync.WaitGroup
			for _, last := range []byte{1, 2} {
				wait.Add(1)
				s.Start(t.Context(), Request{Server: server(last), Question: ask("WWW.example")}, func(e *Exchange) {
					defer wait.Done()
					mu.Lock()
					order = append(order, e.Number)
					mu.Unlock()
				})
				time.Sleep(time.Microsecond) // asked in this order
			}
			wait.Wait()
			if pause > 0 { // else both end at once, and who is heard first is open
				assert.Equal(t, []int{2, 1}, order)
			}
			assert.Equal(t, Answered, s.Ask(t.Context(), Request{Server: server(1), Question: ask("www.example")}).Outcome, "the second time")
			assert.Equal(t, NoName, s.Ask(t.Context(), Request{Server: server(1), Question: ask("unquil-xyz.example"), Options: &Options{Cookie: true}}).Outcome, "another made-up name")
			iterative := Options{Iterative: true}
			assert.Equal(t, 5, s.Ask(t.Context(), Request{Server: server(9), Question: ask("a.tarn.example"), Options: &iterative}).Number)
			assert.Equal(t, Referral, s.Ask(t.Context(), Request{Server: server(9), Question: ask("other.tarn.example"), Options: &iterative}).Outcome)
			assert.ErrorIs(t, s.Ask(t.Context(), Request{Server: server(3), Question: ask("www.example")}).Err, ErrBudget, "what was never sent")
			none := s.Ask(t.Context(), Request{Server: server(1), Question: ask("www.example")})
			assert.ErrorIs(t, none.Err, ErrNotRecorded)
			assert.Equal(t, 7, none.Number)
			assert.Empty(t, none.Outcome)
		})
	}
	// Where the run goes another way than it went, it does not wait for ever.
	synctest.Test(t, func(t *testing.T) {
		s := &Session{Client: &Client{Now: time.Now}, Recording: NewRecording(all, 0)}
		begun := time.Now()
		assert.Equal(t, NoReply, s.Ask(t.Context(), Request{Server: server(1), Question: ask("www.example")}).Outcome, "the other question never comes")
		assert.Less(t, time.Since(begun), time.Second)
		ctx, cancel := context.WithCancelCause(t.Context())
		cancel(errors.New("enough"))
		assert.Empty(t, s.Ask(ctx, Request{Server: server(9), Question: ask("elsewhere.example")}).Outcome)
	})
}
