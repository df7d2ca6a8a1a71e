package exchange

import (
	"cmp"
	"context"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"unquil/core/wire"
)

// idleStream is how long a connection is kept without a question.
const idleStream = 20 * time.Second

// stream is one TCP or TLS connection that carries many questions at once
// (RFC 7766 §6.2.1.1): replies are told apart by their ID.
type stream struct {
	opening  sync.Mutex // held while it is dialled
	security atomic.Pointer[Security]

	mu      sync.Mutex
	conn    net.Conn // nil before it is dialled and after it has failed
	err     error    // why it failed
	asked   int
	waiting map[uint16]chan []byte
}

func overStream(ctx context.Context, c *Client, a *Attempt, server Server, query *wire.Message, o Options) (*wire.Message, error) {
	server.Transport = a.Transport
	s := kept(c, &c.streams, server, func() *stream { return &stream{} })
	for {
		a.Sent = c.Now()
		fresh, err := s.dial(ctx, c, a, server, o)
		a.Security = s.security.Load()
		if err != nil {
			return nil, err
		}
		m, err := s.ask(ctx, c, a, server, query)
		// A server may close an idle connection just when it is used again
		// (RFC 7766 §6.2.4): that is no failure of the question.
		if err != nil && !fresh && ctx.Err() == nil && errors.Is(err, ErrClosed) {
			continue
		}
		return m, err
	}
}

// dial connects unless there is a connection, and reports whether it did.
func (s *stream) dial(ctx context.Context, c *Client, a *Attempt, server Server, o Options) (fresh bool, err error) {
	s.opening.Lock()
	defer s.opening.Unlock()
	s.mu.Lock()
	connected := s.conn != nil
	s.mu.Unlock()
	if connected {
		return false, nil
	}
	server.Transport = a.Transport
	conn, err := c.connect(ctx, server, o, &s.security)
	if err != nil {
		return false, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.conn, s.err, s.asked, s.waiting = conn, nil, 0, map[uint16]chan []byte{}
	go s.read(conn)
	return true, nil
}

// connect opens a connection over TCP, or over TLS where that is the server's transport.
func (c *Client) connect(ctx context.Context, server Server, o Options, security *atomic.Pointer[Security]) (net.Conn, error) {
	conn, err := c.Network.Stream(ctx, server.Address)
	if err != nil {
		return nil, fmt.Errorf("connecting to %s: %w", FormatAddress(server.Address), err)
	}
	if server.Transport != TLS {
		return conn, nil
	}
	secure := tls.Client(conn, tlsConfig(server, o, security, c.Now, "dot"))
	if err := secure.HandshakeContext(ctx); err != nil {
		conn.Close()
		return nil, handshakeError(err)
	}
	return secure, nil
}

// read hands each reply to whoever waits for its ID, until the connection ends.
func (s *stream) read(conn net.Conn) {
	for {
		data, err := wire.ReadFramed(conn, nil)
		if err != nil {
			s.fail(conn, err)
			return
		}
		s.hand(conn, data)
	}
}

// hand gives a reply to who waits for it. Nobody ends the connection meanwhile, which closes what
// they wait on.
func (s *stream) hand(conn net.Conn, data []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.conn != conn {
		return // another connection has taken its place
	}
	var waiter chan []byte
	if len(data) >= 2 {
		waiter = s.waiting[binary.BigEndian.Uint16(data)]
	}
	if waiter == nil && len(s.waiting) == 1 {
		for _, only := range s.waiting { // what nobody waits for is shown to the one who does
			waiter = only
		}
	}
	if waiter == nil {
		return
	}
	select {
	case waiter <- data:
	default: // more than anybody can want: dropped
	}
}

// fail ends the connection; whoever waits is told by the closed channel.
func (s *stream) fail(conn net.Conn, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.conn != conn {
		return
	}
	conn.Close()
	s.conn, s.err = nil, err
	for id, waiter := range s.waiting {
		close(waiter)
		delete(s.waiting, id)
	}
}

// abandon ends a connection that did not answer, when nobody else waits for it: the server
// may have forgotten it, and be well on the next one.
func (s *stream) abandon(conn net.Conn) {
	s.mu.Lock()
	alone := len(s.waiting) <= 1
	s.mu.Unlock()
	if alone {
		s.fail(conn, ErrNoReply)
	}
}

func (s *stream) close(err error) {
	s.mu.Lock()
	conn := s.conn
	s.mu.Unlock()
	if conn != nil {
		s.fail(conn, err)
	}
}

func (s *stream) ask(ctx context.Context, c *Client, a *Attempt, server Server, query *wire.Message) (*wire.Message, error) {
	replies := make(chan []byte, maxRejected)
	s.mu.Lock()
	conn := s.conn
	if conn == nil {
		s.mu.Unlock()
		return nil, ErrClosed
	}
	for s.waiting[query.ID] != nil {
		query.ID = randomID()
	}
	s.waiting[query.ID] = replies
	s.asked++
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.waiting[query.ID] == replies {
			delete(s.waiting, query.ID)
		}
	}()
	var err error
	if a.Query, err = query.Bytes(); err != nil {
		return nil, err
	}
	a.Local, a.Sent = localAddress(conn.LocalAddr()), c.Now()
	conn.SetDeadline(c.after(idleStream))
	framed := append(binary.BigEndian.AppendUint16(make([]byte, 0, 2+len(a.Query)), uint16(len(a.Query))), a.Query...)
	if _, err := conn.Write(framed); err != nil {
		s.fail(conn, err)
		return nil, fmt.Errorf("%w: %w", ErrClosed, err)
	}
	for {
		select {
		case <-ctx.Done():
			s.abandon(conn)
			return nil, context.Cause(ctx)
		case data, ok := <-replies:
			if !ok {
				return nil, s.ended(a)
			}
			m, err := believe(data, query)
			if err != nil {
				a.reject(c.Now(), server.Address, data, err)
				continue
			}
			a.Received, a.Reply = c.Now(), data
			return m, nil
		}
	}
}

// ended is the error of a connection that ended before a reply was believed.
func (s *stream) ended(a *Attempt) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(a.Rejected) > 0 {
		return fmt.Errorf("%w: %w", errNotBelieved, a.Rejected[0].Err)
	}
	if errors.Is(s.err, io.ErrUnexpectedEOF) {
		return fmt.Errorf("%w: it broke off in the middle of a message", ErrClosed)
	}
	if s.err == io.EOF || s.err == nil {
		return ErrClosed
	}
	return fmt.Errorf("%w: %w", ErrClosed, cmp.Or(s.err, io.EOF))
}
