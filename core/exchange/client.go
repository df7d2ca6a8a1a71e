package exchange

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"unquil/core/escape"
	"unquil/core/wire"
)

// Why a message that came was not believed, or why none came.
var (
	ErrWrongID       = errors.New("the reply has a different ID from the query")
	ErrWrongQuestion = errors.New("the reply is to a different question")
	ErrWrongSource   = errors.New("the reply came from a different address from the one queried")
	ErrNotReply      = errors.New("the message is a query, not a reply")
	ErrNoReply       = errors.New("no reply in time")
	ErrClosed        = errors.New("the server closed the connection without a reply")
	ErrWrongCookie   = errors.New("the reply has a different client cookie from the query")
	ErrDripping      = errors.New("a reply started and was not complete in time")
	ErrThisMachine   = errors.New("this machine cannot ask")
)

// Client asks questions. It is safe for use by many goroutines, and keeps
// connections open to be used again: call Close when done.
type Client struct {
	Network Network
	Now     func() time.Time // what exchanges are stamped with
	WaitBy  func() time.Time // the clock that connections wait by, which is this machine's; nil: Now is that
	Options Options
	Budget  *Budget // nil: none

	mu      sync.Mutex
	streams map[Server]*stream
	webs    map[Server]*web
	quics   map[Server]*quicLink
	limited atomic.Pointer[error]
}

// after is the time after a wait, as connections take it.
func (c *Client) after(wait time.Duration) time.Time {
	now := c.WaitBy
	if now == nil {
		now = c.Now
	}
	return now().Add(wait)
}

// Limited is why this machine itself could not ask, when first it could not; nil when it
// always could.
func (c *Client) Limited() error {
	if err := c.limited.Load(); err != nil {
		return *err
	}
	return nil
}

// Bounds on what one try keeps and reads.
const (
	maxRejected = 16
	maxMessage  = 65535 // bytes
)

// carry takes a query to the server one way and waits for a reply that can be
// believed. It fills in the attempt as it goes.
type carry func(ctx context.Context, c *Client, a *Attempt, server Server, query *wire.Message, o Options) (*wire.Message, error)

// carriers are the transports.
var carriers = map[Transport]carry{UDP: overUDP, TCP: overStream, TLS: overStream, HTTPS: overHTTPS, QUIC: overQUIC}

// Ask asks one server one question, over UDP and again over TCP if the reply is
// cut, and returns all that happened. It always returns; the outcome says how
// it ended. When ctx ends, the exchange holds what is known so far.
func (c *Client) Ask(ctx context.Context, server Server, question wire.Question) Exchange {
	return c.AskWith(ctx, server, question, c.Options)
}

// AskWith is [Client.Ask] with other options.
func (c *Client) AskWith(ctx context.Context, server Server, question wire.Question, o Options) Exchange {
	e := Exchange{Server: server, Question: question}
	over := cmp.Or(server.Transport, UDP)
	if over != UDP {
		c.attempt(ctx, &e, over, o)
		c.withoutEDNS(ctx, &e, over, o)
		return e
	}
	c.askUDP(ctx, &e, o)
	if e.Outcome == Truncated && server.Transport == "" {
		cut := e
		if c.attempt(ctx, &e, TCP, o); e.Reply == nil {
			// The cut reply is still the best there is.
			e.Reply, e.Outcome = cut.Reply, Truncated
		}
	}
	return e
}

// askUDP tries over UDP. The last of several tries goes without EDNS: whatever
// swallows the one kind of question and lets the other through is found that way.
func (c *Client) askUDP(ctx context.Context, e *Exchange, o Options) {
	tries := cmp.Or(o.Attempts, 2)
	for n := range tries {
		this := o
		this.WithoutEDNS = o.WithoutEDNS || tries > 1 && n == tries-1
		if !c.attempt(ctx, e, UDP, this) {
			continue
		}
		if this.WithoutEDNS && !o.WithoutEDNS && e.Reply != nil {
			// Lost packets look the same: only a question with EDNS that is lost once more tells.
			answered := *e
			if c.attempt(ctx, e, UDP, o); e.Reply == nil {
				e.Outcome, e.Reply, e.Err, e.EDNSBroke = answered.Outcome, answered.Reply, nil, NoReply
				e.believed = answered.believed
			}
		}
		break
	}
	c.withoutEDNS(ctx, e, UDP, o)
}

// withoutEDNS asks once more without EDNS when the reply says that the server
// could not do with it.
func (c *Client) withoutEDNS(ctx context.Context, e *Exchange, over Transport, o Options) {
	if o.WithoutEDNS || e.Reply == nil {
		return
	}
	_, kept := e.Reply.OPT()
	switch e.Outcome {
	case FormatError, NotImplemented:
	case ServerFailure:
		if !o.Iterative {
			return // a resolver's own trouble: asking again makes it go through all of it again
		}
	default:
		e.EDNSIgnored = !kept && e.EDNSBroke == ""
		return
	}
	before := *e
	o.WithoutEDNS = true
	if c.attempt(ctx, e, over, o); e.Reply == nil || e.Outcome == before.Outcome {
		e.Outcome, e.Reply, e.Err, e.believed = before.Outcome, before.Reply, nil, before.believed
		return
	}
	e.EDNSBroke = before.Outcome
}

// Disbelief is the word for why a message was not believed: wrong-id,
// wrong-question or wrong-source, and malformed for what is no message at all.
func Disbelief(err error) string {
	switch {
	case errors.Is(err, ErrWrongID) || errors.Is(err, ErrWrongCookie):
		return "wrong-id"
	case errors.Is(err, ErrWrongQuestion):
		return "wrong-question"
	case errors.Is(err, ErrWrongSource):
		return "wrong-source"
	}
	return "malformed"
}

// rest waits until a packet may go to an address; false when ctx ended before.
func (c *Client) rest(ctx context.Context, a netip.Addr) bool {
	wait := c.Budget.turn(a, c.Now())
	if wait <= 0 {
		return true
	}
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-timer.C:
		return true
	}
}

// attempt sends the question once and waits. It reports whether asking again
// over the same transport could change nothing.
func (c *Client) attempt(parent context.Context, e *Exchange, over Transport, o Options) bool {
	a := Attempt{Transport: over}
	if err := c.Budget.admit(e.Server.Address.Addr(), packetsOf(over)); err != nil {
		if len(e.Attempts) == 0 { // else what came of those before stands
			e.Outcome, e.Err = "", err
		}
		return true
	}
	if !c.rest(parent, e.Server.Address.Addr()) {
		e.Outcome, e.Err = "", context.Cause(parent)
		return true
	}
	ctx := parent
	if over != UDP { // whose socket has a deadline of its own, which costs less
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeoutCause(parent, o.wait(), ErrNoReply)
		defer cancel()
	}
	query := NewQuery(e.Question, o)
	reply, err := carriers[over](ctx, c, &a, e.Server, &query, o)
	if err != nil {
		if !errors.Is(err, ErrDripping) {
			err = cmp.Or(context.Cause(ctx), err)
		}
		err = escape.Error(err) // the peer may have had a say in it
	}
	a.Err = err
	e.Attempts = append(e.Attempts, a)
	e.Client, e.Err, e.Reply = a.Local, err, reply
	switch {
	case err == nil:
		e.Outcome, e.believed = Judge(e.Question, reply), len(e.Attempts)
		if e.Outcome == Rejection {
			e.Err = ErrAliasChain
			return true
		}
	case parent.Err() != nil:
		// Cut short from outside: how it would have ended is not known.
		e.Outcome, e.Err = "", context.Cause(parent)
		return true
	case errors.Is(err, ErrNoReply) || timedOut(err):
		e.Outcome, e.Err = NoReply, ErrNoReply
		if len(a.Rejected) > 0 {
			e.Outcome, e.Err = Rejection, a.Rejected[0].Err
		}
	case errors.Is(err, ErrDripping):
		e.Outcome = NoReply
	case errors.Is(err, errNotBelieved):
		e.Outcome = Rejection
	case localLimit(err, e.Server):
		c.runOut(e, err)
		return true
	default:
		e.Outcome = Unreachable
	}
	return e.Outcome != NoReply && e.Outcome != Rejection
}

// packetsOf is how many packets one question costs its server: a connection has to be made.
func packetsOf(over Transport) int {
	if over == UDP {
		return 1
	}
	return 3
}

// errNotBelieved marks a reply that was not believed where nothing better will come.
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
	case len(m.Questions) != 1 || !m.Questions[0].Same(query.Questions[0]):
		return nil, ErrWrongQuestion // in another letter case it is the same (RFC 4343)
	case !sameCookie(query, &m):
		return nil, ErrWrongCookie
	}
	return &m, err
}

// sameCookie reports whether a reply's client cookie is the question's, where both have one
// (RFC 7873 §5.3). One of a wrong length is none of ours either.
func sameCookie(query, reply *wire.Message) bool {
	asked, _ := query.EDNS()
	sent, has := asked.Option(wire.Cookie)
	if !has {
		return true
	}
	answered, _ := reply.EDNS()
	got, has := answered.Option(wire.Cookie)
	return !has || (len(got) == 8 || len(got) >= 16 && len(got) <= 40) && got[:8] == sent[:8]
}

// reject keeps a message that was not believed, as far as there is room.
func (a *Attempt) reject(at time.Time, from netip.AddrPort, data []byte, err error) {
	if len(a.Rejected) < maxRejected {
		a.Rejected = append(a.Rejected, Rejected{at, from, append([]byte(nil), data...), escape.Error(err)})
	}
}

// datagram is room for the largest message: it is used again, since a question
// needs it for a moment only.
var datagram = sync.Pool{New: func() any { return new([maxMessage]byte) }}

func overUDP(ctx context.Context, c *Client, a *Attempt, server Server, query *wire.Message, o Options) (m *wire.Message, err error) {
	if a.Query, err = query.Bytes(); err != nil {
		return nil, err
	}
	conn, err := c.Network.Datagrams(ctx, server.Address)
	if err != nil {
		return nil, fmt.Errorf("opening a UDP socket: %w", err)
	}
	defer conn.Close()
	a.Local = localAddress(conn.LocalAddr())
	a.Sent = c.Now()
	conn.SetReadDeadline(c.after(o.wait()))
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	if _, err := conn.WriteToUDPAddrPort(a.Query, server.Address); err != nil {
		return nil, fmt.Errorf("sending to %s: %w", FormatAddress(server.Address), err)
	}
	// A blocked read does not watch ctx.
	defer context.AfterFunc(ctx, func() { conn.SetReadDeadline(time.Unix(1, 0)) })()
	buf := datagram.Get().(*[maxMessage]byte)
	defer datagram.Put(buf)
	for {
		n, from, err := conn.ReadFromUDPAddrPort(buf[:])
		if err != nil {
			return nil, err
		}
		now := c.Now()
		from = netip.AddrPortFrom(from.Addr().Unmap(), from.Port())
		if from.Port() != server.Address.Port() || from.Addr() != server.Address.Addr().WithZone(from.Addr().Zone()) {
			a.reject(now, from, buf[:n], ErrWrongSource)
			continue
		}
		m, err := believe(buf[:n], query)
		if err != nil {
			a.reject(now, from, buf[:n], err)
			continue
		}
		a.Received, a.Reply = now, append([]byte(nil), buf[:n]...)
		return m, nil
	}
}

// localAddress is a socket's own address; invalid when it has none to tell.
func localAddress(a net.Addr) netip.AddrPort {
	if udp, ok := a.(*net.UDPAddr); ok {
		address := udp.AddrPort()
		return netip.AddrPortFrom(address.Addr().Unmap(), address.Port())
	}
	address, err := netip.ParseAddrPort(a.String())
	if err != nil {
		return netip.AddrPort{}
	}
	return netip.AddrPortFrom(address.Addr().Unmap(), address.Port())
}

// timedOut reports whether err says that the time of a socket was over.
// TimedOut reports whether an attempt ended because no reply came in time.
func (a *Attempt) TimedOut() bool { return errors.Is(a.Err, ErrNoReply) || timedOut(a.Err) }

// Forbidden reports whether this machine itself did not let the question leave.
func (a *Attempt) Forbidden() bool {
	return errors.Is(a.Err, syscall.EPERM) || errors.Is(a.Err, syscall.EACCES)
}

func timedOut(err error) bool {
	timeout, ok := errors.AsType[net.Error](err)
	return ok && timeout.Timeout() && !errors.Is(err, context.DeadlineExceeded)
}

// RefusedByNetwork reports whether err means that the network or the host said no, as
// against silence.
func RefusedByNetwork(err error) bool {
	return errors.Is(err, syscall.ECONNREFUSED) || errors.Is(err, syscall.ECONNRESET) ||
		errors.Is(err, syscall.EHOSTUNREACH) || errors.Is(err, syscall.ENETUNREACH)
}

// localLimit reports whether err means that this machine ran out of something: descriptors,
// buffers or ports. Without a port a connection over IPv4 has no address to come from; over
// IPv6 that is so wherever there is no IPv6.
func localLimit(err error, server Server) bool {
	if server.Address.Addr().Is4() && errors.Is(err, syscall.EADDRNOTAVAIL) {
		return true
	}
	for _, limit := range []error{syscall.EMFILE, syscall.ENFILE, syscall.ENOBUFS, syscall.ENOMEM, syscall.EADDRINUSE} {
		if errors.Is(err, limit) {
			return true
		}
	}
	return false
}

// runOut ends an exchange for want of something that this machine ran out of: whether the
// server would have answered is not known.
func (c *Client) runOut(e *Exchange, err error) {
	e.Outcome, e.Err = "", fmt.Errorf("%w: %w", ErrThisMachine, err)
	first := e.Err
	c.limited.CompareAndSwap(nil, &first)
}

// forget makes the next question to a server begin with a connection of its own: what is
// kept for it has failed.
func forget[T any](c *Client, all map[Server]*T, server Server, failed *T) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if all[server] == failed {
		delete(all, server)
	}
}

// kept returns what is kept for a server, made when it is first asked for.
func kept[T any](c *Client, all *map[Server]*T, server Server, make_ func() *T) *T {
	c.mu.Lock()
	defer c.mu.Unlock()
	if *all == nil {
		*all = map[Server]*T{}
	}
	if (*all)[server] == nil {
		(*all)[server] = make_()
	}
	return (*all)[server]
}

// Close closes the connections that were kept.
func (c *Client) Close() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, s := range c.streams {
		s.close(net.ErrClosed)
	}
	for _, w := range c.webs {
		w.transport.CloseIdleConnections()
	}
	for _, q := range c.quics {
		q.close()
	}
	c.streams, c.webs, c.quics = nil, nil, nil
}
