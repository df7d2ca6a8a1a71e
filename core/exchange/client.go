package exchange

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"sync"
	"syscall"
	"time"

	"unquil/core/wire"
)

// Why a message that came was not believed.
var (
	ErrWrongID       = errors.New("reply has another ID than the question")
	ErrWrongQuestion = errors.New("reply is to another question")
	ErrWrongSource   = errors.New("reply came from another address than was asked")
	ErrNotReply      = errors.New("message is a question, not a reply")
	ErrNoReply       = errors.New("no reply in time")
)

// Options says how to ask. The zero value is ready to use.
type Options struct {
	Wait        time.Duration // for one try; 0 means 2 s
	Tries       int           // how many tries over UDP; 0 means 2
	Size        uint16        // largest UDP reply, in bytes, as offered (RFC 6891 §6.2.3); 0 means 1232
	Iterative   bool          // leave recursion desired clear, as one does with a zone's own servers
	WithoutEDNS bool
}

// Client asks questions. It is safe for use by many goroutines.
type Client struct {
	Network Network
	Now     func() time.Time
	Options Options
}

// maxRejected is how many messages that are not believed one try keeps.
const maxRejected = 16

// Ask asks one server one question, over UDP and again over TCP if the reply is
// cut, and returns all that happened. It always returns; the outcome says how
// it ended. When ctx ends, the exchange holds what is known so far.
func (c *Client) Ask(ctx context.Context, server Server, question wire.Question) Exchange {
	return c.AskWith(ctx, server, question, c.Options)
}

// AskWith is [Client.Ask] with other options.
func (c *Client) AskWith(ctx context.Context, server Server, question wire.Question, o Options) Exchange {
	e := Exchange{Server: server, Question: question}
	if server.Transport != TCP {
		for range cmp.Or(o.Tries, 2) {
			if c.attempt(ctx, &e, UDP, o) {
				break
			}
		}
		if e.Outcome != Truncated {
			return e
		}
	}
	if server.Transport != UDP {
		cut := e
		if c.attempt(ctx, &e, TCP, o); e.Reply == nil && cut.Reply != nil {
			// The cut reply is still the best there is.
			e.Reply, e.Outcome = cut.Reply, Truncated
		}
	}
	return e
}

// attempt sends the question once and waits. It reports whether asking again
// over the same transport could change nothing.
func (c *Client) attempt(parent context.Context, e *Exchange, over Transport, o Options) bool {
	ctx, cancel := context.WithTimeoutCause(parent, cmp.Or(o.Wait, 2*time.Second), ErrNoReply)
	defer cancel()
	a := Attempt{Transport: over}
	query := NewQuery(e.Question, o)
	var err error
	if a.Query, err = query.Bytes(); err == nil {
		var reply *wire.Message
		if over == UDP {
			reply, err = c.overUDP(ctx, &a, e.Server.Address, &query)
		} else {
			reply, err = c.overTCP(ctx, &a, e.Server.Address, &query)
		}
		e.Reply = reply
	}
	a.Err = err
	e.Attempts = append(e.Attempts, a)
	e.Client = a.Local
	e.Err = err
	switch {
	case err == nil:
		e.Outcome = Judge(e.Question, e.Reply)
	case parent.Err() != nil:
		// Cut short from outside: how it would have ended is not known.
		e.Outcome, e.Err = "", context.Cause(parent)
		return true
	case isTimeout(err):
		e.Outcome, e.Err = NoReply, ErrNoReply
		if len(a.Rejected) > 0 {
			e.Outcome, e.Err = Rejection, a.Rejected[0].Err
		}
	case errors.Is(err, errNotBelieved):
		e.Outcome = Rejection
	default:
		e.Outcome = Unreachable
	}
	return e.Outcome != NoReply && e.Outcome != Rejection
}

func isTimeout(err error) bool {
	return errors.Is(err, ErrNoReply) || errors.Is(err, os.ErrDeadlineExceeded) || errors.Is(err, context.DeadlineExceeded)
}

// NewQuery returns the message that asks q, with a random ID.
func NewQuery(q wire.Question, o Options) wire.Message {
	var id [2]byte
	rand.Read(id[:])
	m := wire.Message{ID: binary.BigEndian.Uint16(id[:]), Questions: []wire.Question{q}}
	if !o.Iterative {
		m.Flags |= wire.RD
	}
	if !o.WithoutEDNS {
		m.Additional = []wire.Record{{Name: wire.Root, Type: wire.OPT, Class: wire.Class(cmp.Or(o.Size, 1232))}}
	}
	return m
}

// errNotBelieved marks a reply over a stream that was not believed: nothing
// better will come there.
var errNotBelieved = errors.New("reply not believed")

// believe returns the message if it answers query, or why it does not.
func believe(data []byte, query *wire.Message) (*wire.Message, error) {
	m, err := wire.ReadMessage(data)
	switch {
	case err != nil && len(m.Questions) == 0:
		return nil, err
	case m.ID != query.ID:
		return nil, ErrWrongID
	case !m.Flags.Has(wire.QR):
		return nil, ErrNotReply
	case len(m.Questions) == 0 && m.RCode() != wire.NoError:
		// A server that could not read the question need not repeat it.
		return &m, err
	case len(m.Questions) != 1 || m.Questions[0] != query.Questions[0]:
		return nil, ErrWrongQuestion // letter case included: it is part of what only the server knows
	}
	return &m, err
}

func (c *Client) overUDP(ctx context.Context, a *Attempt, server netip.AddrPort, query *wire.Message) (*wire.Message, error) {
	conn, err := c.Network.Datagrams(ctx, server)
	if err != nil {
		return nil, fmt.Errorf("opening a UDP socket: %w", err)
	}
	defer conn.Close()
	// A blocked read does not watch ctx.
	defer context.AfterFunc(ctx, func() { conn.SetReadDeadline(time.Unix(1, 0)) })()
	a.Local = localAddress(conn.LocalAddr())
	a.Sent = c.Now()
	if _, err := conn.WriteToUDPAddrPort(a.Query, server); err != nil {
		return nil, fmt.Errorf("sending to %s: %w", FormatAddress(server), err)
	}
	buf := make([]byte, 65535)
	for {
		n, from, err := conn.ReadFromUDPAddrPort(buf)
		now := c.Now()
		if err != nil {
			return nil, cmp.Or(context.Cause(ctx), err)
		}
		from = netip.AddrPortFrom(from.Addr().Unmap(), from.Port())
		var m *wire.Message
		if from.Port() != server.Port() || from.Addr() != server.Addr().WithZone(from.Addr().Zone()) {
			err = ErrWrongSource
		} else {
			m, err = believe(buf[:n], query)
		}
		if m != nil && err == nil {
			a.Received, a.Reply = now, append([]byte(nil), buf[:n]...)
			return m, nil
		}
		if len(a.Rejected) < maxRejected {
			a.Rejected = append(a.Rejected, Rejected{now, from, append([]byte(nil), buf[:n]...), err})
		}
	}
}

func (c *Client) overTCP(ctx context.Context, a *Attempt, server netip.AddrPort, query *wire.Message) (*wire.Message, error) {
	a.Sent = c.Now()
	conn, err := c.Network.Stream(ctx, server)
	if err != nil {
		return nil, fmt.Errorf("connecting to %s: %w", FormatAddress(server), cmp.Or(context.Cause(ctx), err))
	}
	defer conn.Close()
	defer context.AfterFunc(ctx, func() { conn.SetDeadline(time.Unix(1, 0)) })()
	a.Local = localAddress(conn.LocalAddr())
	framed := append(binary.BigEndian.AppendUint16(nil, uint16(len(a.Query))), a.Query...)
	a.Sent = c.Now()
	if _, err := conn.Write(framed); err != nil {
		return nil, cmp.Or(context.Cause(ctx), err)
	}
	var size [2]byte
	if _, err := io.ReadFull(conn, size[:]); err != nil {
		return nil, cmp.Or(context.Cause(ctx), err)
	}
	data := make([]byte, binary.BigEndian.Uint16(size[:]))
	if _, err := io.ReadFull(conn, data); err != nil {
		return nil, cmp.Or(context.Cause(ctx), err)
	}
	now := c.Now()
	m, err := believe(data, query)
	if m == nil || err != nil {
		a.Rejected = append(a.Rejected, Rejected{now, server, data, err})
		return nil, fmt.Errorf("%w: %w", errNotBelieved, err)
	}
	a.Received, a.Reply = now, data
	return m, nil
}

// localAddress is a socket's own address; invalid when it has none to tell.
func localAddress(a net.Addr) netip.AddrPort {
	address, err := netip.ParseAddrPort(a.String())
	if err != nil {
		return netip.AddrPort{}
	}
	return netip.AddrPortFrom(address.Addr().Unmap(), address.Port())
}

// Refusal reports whether err means that the network or the host said no, as
// against silence.
func Refusal(err error) bool {
	return errors.Is(err, syscall.ECONNREFUSED) || errors.Is(err, syscall.ECONNRESET) ||
		errors.Is(err, syscall.EHOSTUNREACH) || errors.Is(err, syscall.ENETUNREACH)
}

// Request is one question for one server.
type Request struct {
	Server   Server
	Question wire.Question
	Options  *Options // nil: the client's own
}

// Session asks through a client, numbers the exchanges from 1 and keeps them
// all: it is the evidence of one run. It is safe for use by many goroutines.
type Session struct {
	Client *Client

	mu        sync.Mutex
	exchanges []*Exchange
	ended     int
}

// Ask asks and keeps one exchange.
func (s *Session) Ask(ctx context.Context, r Request) *Exchange {
	return s.fill(ctx, r, s.reserve(r))
}

// AskAll asks all requests at once, at most 64 in flight, and returns the
// exchanges in the order of the requests, numbered in that order. Those that
// ctx cut short are there too, as far as they came.
func (s *Session) AskAll(ctx context.Context, requests []Request) []*Exchange {
	exchanges := make([]*Exchange, len(requests))
	for i, r := range requests {
		exchanges[i] = s.reserve(r)
	}
	var wait sync.WaitGroup
	slots := make(chan struct{}, 64)
	for i, r := range requests {
		slots <- struct{}{}
		wait.Go(func() {
			s.fill(ctx, r, exchanges[i])
			<-slots
		})
	}
	wait.Wait()
	return exchanges
}

// Start asks without waiting; done is called with the exchange when it has ended.
func (s *Session) Start(ctx context.Context, r Request, done func(*Exchange)) {
	e := s.reserve(r)
	go func() { done(s.fill(ctx, r, e)) }()
}

// reserve gives a request its number before it is asked, so that numbers follow
// the plan and not the race of the replies.
func (s *Session) reserve(r Request) *Exchange {
	s.mu.Lock()
	defer s.mu.Unlock()
	e := &Exchange{Number: len(s.exchanges) + 1, Server: r.Server, Question: r.Question}
	s.exchanges = append(s.exchanges, e)
	return e
}

func (s *Session) fill(ctx context.Context, r Request, e *Exchange) *Exchange {
	o := s.Client.Options
	if r.Options != nil {
		o = *r.Options
	}
	done := s.Client.AskWith(ctx, r.Server, r.Question, o)
	s.mu.Lock()
	defer s.mu.Unlock()
	done.Number = e.Number
	s.ended++
	*e = done
	return e
}

// Progress returns how many exchanges have begun and how many of them have ended.
func (s *Session) Progress() (begun, ended int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.exchanges), s.ended
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
	return all
}
