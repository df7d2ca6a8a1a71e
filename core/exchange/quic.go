package exchange

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"github.com/quic-go/quic-go"

	"unquil/core/wire"
)

// quicLink is one QUIC connection (RFC 9250): each question has a stream of its own.
type quicLink struct {
	opening   sync.Mutex
	transport *quic.Transport
	conn      *quic.Conn
	security  atomic.Pointer[Security]
}

// dial connects unless there is a connection that still lives.
func (q *quicLink) dial(ctx context.Context, c *Client, server Server, o Options) (*quic.Conn, error) {
	q.opening.Lock()
	defer q.opening.Unlock()
	if q.conn != nil && q.conn.Context().Err() == nil {
		return q.conn, nil
	}
	q.shut()
	socket, err := c.Network.Datagrams(ctx, server.Address)
	if err != nil {
		return nil, fmt.Errorf("opening a UDP socket: %w", err)
	}
	q.transport = &quic.Transport{Conn: &packetConn{socket, server.Address}}
	conn, err := q.transport.Dial(ctx, net.UDPAddrFromAddrPort(server.Address), tlsConfig(server, o, &q.security, c.Now, "doq"),
		&quic.Config{HandshakeIdleTimeout: o.wait(), MaxIdleTimeout: idleStream})
	if err != nil {
		q.shut()
		if known, ok := errors.AsType[*HandshakeError](err); ok {
			err = known
		}
		if timeout, ok := errors.AsType[net.Error](err); ok && timeout.Timeout() { // whichever clock of the handshake ran out
			err = ErrNoReply
		}
		return nil, fmt.Errorf("QUIC handshake: %w", err)
	}
	q.conn = conn
	return conn, nil
}

// shut closes what there is; q.opening is held.
func (q *quicLink) shut() {
	if q.conn != nil {
		q.conn.CloseWithError(0, "") // DOQ_NO_ERROR (RFC 9250 §4.3)
	}
	if q.transport != nil {
		q.transport.Close()
		q.transport.Conn.Close()
	}
	q.conn, q.transport = nil, nil
}

func (q *quicLink) close() {
	q.opening.Lock()
	defer q.opening.Unlock()
	q.shut()
}

func overQUIC(ctx context.Context, c *Client, a *Attempt, server Server, query *wire.Message, o Options) (_ *wire.Message, err error) {
	query.ID = 0 // RFC 9250 §4.2.1
	if a.Query, err = query.Bytes(); err != nil {
		return nil, err
	}
	q := kept(c, &c.quics, server, func() *quicLink { return &quicLink{} })
	a.Sent = c.Now()
	conn, err := q.dial(ctx, c, server, o)
	a.Security = q.security.Load()
	if err != nil {
		return nil, err
	}
	a.Local = localAddress(conn.LocalAddr())
	stream, err := conn.OpenStreamSync(ctx)
	if err != nil {
		return nil, fmt.Errorf("opening a QUIC stream: %w", err)
	}
	defer context.AfterFunc(ctx, func() { stream.CancelRead(3) })() // DOQ_REQUEST_CANCELLED
	a.Sent = c.Now()
	if _, err = stream.Write(wire.AppendFramed(nil, a.Query)); err == nil {
		err = stream.Close() // no more is asked on this stream
	}
	if err != nil {
		return nil, fmt.Errorf("sending over QUIC: %w", err)
	}
	data, err := io.ReadAll(io.LimitReader(stream, maxMessage+3))
	if err != nil {
		forget(c, c.quics, server, q) // one that hangs would be used again
		go q.close()
		return nil, fmt.Errorf("receiving over QUIC: %w", err)
	}
	now := c.Now()
	if len(data) < 2 || len(data)-2 != int(binary.BigEndian.Uint16(data)) {
		err = errors.New("the stream does not contain one whole message")
		a.reject(now, server.Address, data, err)
		return nil, fmt.Errorf("%w: %w", errNotBelieved, err)
	}
	m, err := believe(data[2:], query)
	if err != nil {
		a.reject(now, server.Address, data, err)
		return nil, fmt.Errorf("%w: %w", errNotBelieved, err)
	}
	a.Received, a.Reply = now, data[2:]
	return m, nil
}

// packetConn is a socket of this program's network as QUIC wants it.
type packetConn struct {
	Datagrams
	peer netip.AddrPort
}

func (p *packetConn) ReadFrom(b []byte) (int, net.Addr, error) {
	n, from, err := p.ReadFromUDPAddrPort(b)
	if err != nil {
		return n, nil, err
	}
	return n, net.UDPAddrFromAddrPort(netip.AddrPortFrom(from.Addr().Unmap(), from.Port())), nil
}

func (p *packetConn) WriteTo(b []byte, _ net.Addr) (int, error) {
	return p.WriteToUDPAddrPort(b, p.peer)
}

// SetReadBuffer and SetWriteBuffer leave the buffers as they are: a few small
// messages need no more.
func (p *packetConn) SetReadBuffer(int) error { return nil }

// SetWriteBuffer does nothing, see SetReadBuffer.
func (p *packetConn) SetWriteBuffer(int) error { return nil }

func (p *packetConn) SetDeadline(t time.Time) error { return p.SetReadDeadline(t) }

func (p *packetConn) SetWriteDeadline(time.Time) error { return nil }
