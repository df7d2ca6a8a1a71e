package exchange

import (
	"context"
	"slices"
	"sync"

	"unquil/core/wire"
)

// inFlight is how many questions are out at once.
const inFlight = 64

// Request is one question for one server.
type Request struct {
	Server   Server
	Question wire.Question
	Options  *Options // nil: the client's own
	// Shared lets the run ask it once: who asks the same server the same in the same way
	// again gets the same exchange.
	Shared bool
}

// Session asks through a client, numbers the exchanges from 1 and keeps them
// all: it is the evidence of one run. It is safe for use by many goroutines.
type Session struct {
	Client *Client
	// Forgets makes it keep none of them, so that memory does not grow with a
	// run whose exchanges are shown as they come.
	Forgets bool
	// After is the number of the last exchange before this session, where it goes on from
	// another.
	After int
	// Recording answers in place of the network; nil: nothing does.
	Recording *Recording

	mu        sync.Mutex
	exchanges []*Exchange
	begun     int
	ended     int
	events    int // beginnings and ends
	shared    map[sharedKey]*sharedExchange
	first     map[wire.Question]Server
}

// First is the server that a question goes to of which any of several would do: the one that it went to first in
// this session, so that it is not put to another as well; server where it went to none. In a recording it is one
// that was asked.
func (s *Session) First(q wire.Question, server Server) Server {
	s.mu.Lock()
	defer s.mu.Unlock()
	if known, ok := s.first[q]; ok {
		return known
	}
	if s.Recording != nil && !s.Recording.Asked(server.Address, q) {
		return server
	}
	if s.first == nil {
		s.first = map[wire.Question]Server{}
	}
	s.first[q] = server
	return server
}

// sharedKey is what makes two questions one.
type sharedKey struct {
	server   Server
	question wire.Question
	options  Options
}

// sharedExchange is one that several wait for.
type sharedExchange struct {
	done chan struct{} // closed when it has ended
	e    *Exchange
}

// maxShared is how many of them are remembered.
const maxShared = 1 << 14

// share returns the exchange that a request shares, and whether it is for the caller to
// ask it. nil: it shares none.
func (s *Session) share(r Request) (*sharedExchange, bool) {
	if !r.Shared || s.Forgets {
		return nil, true
	}
	k := sharedKey{r.Server, wire.Question{Name: r.Question.Name.Fold(), Type: r.Question.Type, Class: r.Question.Class}, s.options(r)}
	s.mu.Lock()
	defer s.mu.Unlock()
	if known := s.shared[k]; known != nil {
		return known, false
	}
	if s.shared == nil {
		s.shared = map[sharedKey]*sharedExchange{}
	}
	fresh := &sharedExchange{done: make(chan struct{})}
	if len(s.shared) < maxShared {
		s.shared[k] = fresh
	}
	return fresh, true
}

// Ask asks and keeps one exchange.
func (s *Session) Ask(ctx context.Context, r Request) *Exchange {
	shared, mine := s.share(r)
	if !mine {
		return shared.wait(ctx, r)
	}
	e := s.fill(ctx, r, s.reserve(r))
	shared.end(e)
	return e
}

// wait waits for an exchange that somebody else asks. When ctx ends before, it is one
// that was cut short.
func (x *sharedExchange) wait(ctx context.Context, r Request) *Exchange {
	select {
	case <-x.done:
		return x.e
	case <-ctx.Done():
		return &Exchange{Server: r.Server, Question: r.Question, Err: context.Cause(ctx)}
	}
}

func (x *sharedExchange) end(e *Exchange) {
	if x != nil {
		x.e = e
		close(x.done)
	}
}

// AskAll asks all requests at once, at most 64 in flight, and returns the
// exchanges in the order of the requests, numbered in that order. Those that
// ctx cut short are there too, as far as they came.
func (s *Session) AskAll(ctx context.Context, requests []Request) []*Exchange {
	exchanges := make([]*Exchange, len(requests))
	shared, mine := make([]*sharedExchange, len(requests)), make([]bool, len(requests))
	for i, r := range requests {
		if shared[i], mine[i] = s.share(r); mine[i] {
			exchanges[i] = s.reserve(r)
		}
	}
	var wait sync.WaitGroup
	slots := make(chan struct{}, inFlight)
	for i, r := range requests {
		if !mine[i] {
			continue
		}
		slots <- struct{}{}
		wait.Go(func() {
			s.fill(ctx, r, exchanges[i])
			shared[i].end(exchanges[i])
			<-slots
		})
	}
	wait.Wait()
	for i, r := range requests {
		if !mine[i] {
			exchanges[i] = shared[i].wait(ctx, r)
		}
	}
	return exchanges
}

// Start asks without waiting; done is called with the exchange when it has ended.
func (s *Session) Start(ctx context.Context, r Request, done func(*Exchange)) {
	shared, mine := s.share(r)
	if !mine {
		go func() { done(shared.wait(ctx, r)) }()
		return
	}
	e := s.reserve(r)
	go func() {
		s.fill(ctx, r, e)
		shared.end(e)
		done(e)
	}()
}

// reserve gives a request its number before it is asked, so that numbers follow
// the plan and not the race of the replies.
func (s *Session) reserve(r Request) *Exchange {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.begun++
	e := &Exchange{Number: s.After + s.begun, Server: r.Server, Question: r.Question, Begun: s.event()}
	if s.Recording != nil {
		known := s.Recording.take(r, s.options(r))
		e.Number, e.recorded = known.Number, known
	}
	if !s.Forgets {
		s.exchanges = append(s.exchanges, e)
	}
	return e
}

// Converse is [Client.Conversation], kept as one exchange of the session. Errors are as there.
func (s *Session) Converse(ctx context.Context, r Request, query []byte, take func(msg []byte) (enough bool, err error)) (*Exchange, error) {
	e := s.reserve(r)
	if s.Recording != nil {
		return e, ErrNotRecorded // of a transfer evidence has no more than its beginning
	}
	done, err := s.Client.Conversation(ctx, r.Server, r.Question, query, s.options(r), take)
	return s.put(e, done), err
}

// options are those of a request.
func (s *Session) options(r Request) Options {
	if r.Options != nil {
		return *r.Options
	}
	return s.Client.Options
}

func (s *Session) fill(ctx context.Context, r Request, e *Exchange) *Exchange {
	if known := e.recorded; known != nil {
		select {
		case <-known.done:
			return s.put(e, known.Exchange)
		case <-ctx.Done():
			return s.put(e, Exchange{Server: r.Server, Question: r.Question, Err: context.Cause(ctx)})
		}
	}
	return s.put(e, s.Client.AskWith(ctx, r.Server, r.Question, s.options(r)))
}

// event counts one more beginning or end. The session is locked.
func (s *Session) event() int {
	s.events++
	return s.events
}

// put replaces a reserved exchange by what came of it.
func (s *Session) put(e *Exchange, done Exchange) *Exchange {
	s.mu.Lock()
	defer s.mu.Unlock()
	done.Number, done.Begun, done.Ended = e.Number, e.Begun, s.event()
	s.ended++
	*e = done
	return e
}

// Progress returns how many exchanges have begun and how many of them have ended.
func (s *Session) Progress() (begun, ended int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.begun, s.ended
}

// Exchanges returns all exchanges so far, by number. One that is still under
// way has no outcome yet.
func (s *Session) Exchanges() []Exchange {
	s.mu.Lock()
	defer s.mu.Unlock()
	all := make([]Exchange, len(s.exchanges))
	for i, e := range s.exchanges {
		all[i] = *e
	}
	slices.SortFunc(all, func(a, b Exchange) int { return a.Number - b.Number })
	return all
}
