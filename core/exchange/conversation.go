package exchange

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"sync/atomic"
	"time"

	"unquil/core/escape"
	"unquil/core/wire"
)

// Conversation sends one query over a connection of its own, TCP or TLS, and
// hands over the messages that come back, until take says that it has enough:
// what zone transfers need (RFC 5936 §2.2). Each message has o.Wait to come in.
//
// The exchange holds the query and the first reply. take gets each message's
// bytes, which are overwritten by the next; an error of it ends the conversation
// and is returned. The other errors are of the network, ErrNoReply and ErrClosed.
func (c *Client) Conversation(ctx context.Context, server Server, q wire.Question, query []byte, o Options, take func(msg []byte) (enough bool, err error)) (Exchange, error) {
	if server.Transport != TLS {
		server.Transport = TCP
	}
	e := Exchange{Server: server, Question: q, Attempts: []Attempt{{Transport: server.Transport, Query: query}}}
	a := &e.Attempts[0]
	if err := c.Budget.admit(server.Address.Addr(), packetsOf(server.Transport)); err != nil {
		e.Err, e.Attempts = err, nil
		return e, err
	}
	err := escape.Error(c.converse(ctx, &e, a, server, o, take)) // the peer may have had a say in it
	a.Err, e.Err, e.Client = err, err, a.Local
	switch {
	case e.Reply != nil:
		e.Outcome = Judge(q, e.Reply)
	case ctx.Err() != nil:
		e.Err = context.Cause(ctx)
		return e, e.Err
	case errors.Is(err, ErrNoReply):
		e.Outcome = NoReply
	case errors.Is(err, errNotBelieved):
		e.Outcome = Rejection
	case localLimit(err, server):
		c.runOut(&e, err)
	default:
		e.Outcome = Unreachable
	}
	if err != nil && ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	return e, err
}

func (c *Client) converse(ctx context.Context, e *Exchange, a *Attempt, server Server, o Options, take func([]byte) (bool, error)) error {
	var security atomic.Pointer[Security]
	a.Sent = c.Now()
	dialling, cancel := context.WithTimeoutCause(ctx, o.wait(), ErrNoReply)
	defer cancel()
	conn, err := c.connect(dialling, server, o, &security)
	a.Security = security.Load()
	if err != nil {
		if errors.Is(context.Cause(dialling), ErrNoReply) {
			return ErrNoReply
		}
		return err
	}
	defer conn.Close()
	defer context.AfterFunc(ctx, func() { conn.SetDeadline(time.Unix(1, 0)) })()
	a.Local, a.Sent = localAddress(conn.LocalAddr()), c.Now()
	conn.SetDeadline(c.after(o.wait()))
	if _, err := conn.Write(wire.AppendFramed(nil, a.Query)); err != nil {
		return fmt.Errorf("%w: %w", ErrClosed, err)
	}
	in := &patient{conn: conn, limit: func() time.Time { return c.after(o.wait()) }}
	buf := make([]byte, maxMessage)
	for first := true; ; first = false {
		in.renew()
		if ctx.Err() != nil { // after the deadline was renewed, so that the end is not missed
			return context.Cause(ctx)
		}
		msg, err := wire.ReadFramed(in, buf)
		if err != nil {
			return streamError(err)
		}
		if first {
			m, err := wire.ReadMessage(msg)
			switch {
			case err != nil:
			case m.ID != binary.BigEndian.Uint16(a.Query):
				err = ErrWrongID
			case !m.Flags.Has(wire.QR):
				err = ErrNotReply
			}
			if err != nil {
				a.reject(c.Now(), server.Address, msg, err)
				return fmt.Errorf("%w: %w", errNotBelieved, err)
			}
			a.Received, a.Reply, e.Reply = c.Now(), append([]byte(nil), msg...), &m
			e.believed = 1
		}
		if enough, err := take(msg); enough || err != nil {
			return err
		}
	}
}

// patient reads from a connection, which has to deliver each message in time.
type patient struct {
	conn interface {
		io.Reader
		SetReadDeadline(time.Time) error
	}
	limit func() time.Time // for the next message
	have  []byte           // read and not handed over yet
	buf   [32 << 10]byte
}

// renew gives the next message its time.
func (p *patient) renew() { p.conn.SetReadDeadline(p.limit()) }

func (p *patient) Read(b []byte) (int, error) {
	if len(p.have) == 0 {
		n, err := p.conn.Read(p.buf[:])
		if n == 0 {
			return 0, err
		}
		p.have = p.buf[:n]
	}
	n := copy(b, p.have)
	p.have = p.have[n:]
	return n, nil
}

// streamError is what the end of a connection means.
func streamError(err error) error {
	switch {
	case timedOut(err):
		return ErrNoReply
	case err == io.EOF:
		return ErrClosed
	case errors.Is(err, io.ErrUnexpectedEOF):
		return fmt.Errorf("%w: it broke off in the middle of a message", ErrClosed)
	}
	return fmt.Errorf("%w: %w", ErrClosed, err)
}
