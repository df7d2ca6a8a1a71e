package cli

import (
	"sync/atomic"

	"unquil/core/casework"
	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/lab"
)

// standing is what the lines of a session share. Its methods may be called on nil: a run that
// stands alone shares nothing.
type standing struct {
	simulation *lab.Lab
	servers    map[string]exchange.Server // that --from may call by a word of this session
	marks      casework.Marks
	numbered   int // exchanges of the lines before
	now        atomic.Pointer[exchange.Session]
}

// lab is the simulated internet of the session: what is in its caches stays from line to line.
func (s *standing) lab() (*lab.Lab, error) {
	if s == nil {
		return nil, nil
	}
	return s.simulation, nil
}

// begin makes a run number its exchanges behind those of the lines before.
func (s *standing) begin(run *exchange.Session) {
	run.After = s.numbered
	s.now.Store(run)
}

// end takes what a run has numbered.
func (s *standing) end(run *exchange.Session) {
	if run == nil {
		return
	}
	begun, _ := run.Progress()
	s.numbered = max(s.numbered, run.After+begun)
	s.now.Store(nil)
}

// server is the server that a word of the session stands for.
func (s *standing) server(word string) (exchange.Server, bool) {
	if s == nil {
		return exchange.Server{}, false
	}
	server, ok := s.servers[word]
	return server, ok
}

// mark gives marks to what an exchange tells of.
func (s *standing) mark(e *exchange.Exchange) {
	if s != nil {
		s.marks.Take(e)
		s.callServers()
	}
}

// callServers lets --from call every marked server by its word.
func (s *standing) callServers() {
	for mark := 1; mark <= s.marks.Len(); mark++ {
		word, server := serverWord(s.marks.Of(mark))
		if server.Address.IsValid() {
			s.servers[word] = server
		}
	}
}

// progress tells how far the line is that is being run; "" when nothing was asked yet.
func (s *standing) progress() (begun, ended int) {
	if run := s.now.Load(); run != nil {
		return run.Progress()
	}
	return 0, 0
}

// follow keeps what the lines of an earlier day have numbered and marked.
func (s *standing) follow(c *casework.Case) {
	for i := range c.Steps {
		for at := range c.Steps[i].Exchanges {
			s.marks.Take(&c.Steps[i].Exchanges[at])
		}
	}
	s.numbered = c.LastExchange()
	s.callServers()
}

// typed is what was typed, as it may be shown.
func typed(text string) escape.Text { return escape.Of(text) }
