package lab

import (
	"context"
	"io"
	"net"
	"net/netip"
	"os"
	"sync"
	"syscall"
	"time"
)

// memory carries packets and connections without sockets. Everything in it waits on
// channels and timers alone, so that a test can let simulated time pass
// ([testing/synctest]): what takes a second then takes one however busy the machine is.
type memory struct {
	mu        sync.Mutex
	last      uint16 // port given out
	sockets   map[netip.AddrPort]*mailbox
	listeners map[netip.AddrPort]*doorkeeper
}

func newMemory() *memory {
	return &memory{sockets: map[netip.AddrPort]*mailbox{}, listeners: map[netip.AddrPort]*doorkeeper{}, last: 1023}
}

// port is a free one; m.mu is held.
func (m *memory) port() netip.AddrPort {
	for {
		m.last = max(m.last+1, 1024)
		at := netip.AddrPortFrom(loopback, m.last)
		if m.sockets[at] == nil && m.listeners[at] == nil {
			return at
		}
	}
}

// How many packets wait in a socket before it loses some: in that of a server more than a whole
// bench of faults sends at once.
const (
	clientRoom = 64
	serverRoom = 6144
)

func (m *memory) socket(room int) (packets, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	box := &mailbox{memory: m, at: m.port(), in: make(chan parcel, room), closed: make(chan struct{}), until: newDeadline()}
	m.sockets[box.at] = box
	return box, nil
}

func (m *memory) listen() (net.Listener, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	l := &doorkeeper{memory: m, at: m.port(), in: make(chan net.Conn), closed: make(chan struct{})}
	m.listeners[l.at] = l
	return l, nil
}

func (m *memory) dial(ctx context.Context, to netip.AddrPort) (net.Conn, error) {
	m.mu.Lock()
	l, own := m.listeners[to], m.port()
	m.mu.Unlock()
	if l == nil {
		return nil, os.NewSyscallError("connect", syscall.ECONNREFUSED)
	}
	there, back := newFlow(), newFlow()
	select {
	case l.in <- &ended{in: there, out: back, local: l.at, remote: own}:
		return &ended{in: back, out: there, local: own, remote: to}, nil
	case <-l.closed:
		return nil, os.NewSyscallError("connect", syscall.ECONNREFUSED)
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// parcel is a packet under way.
type parcel struct {
	from netip.AddrPort
	data []byte
}

// mailbox is a UDP socket.
type mailbox struct {
	memory *memory
	at     netip.AddrPort
	in     chan parcel
	until  *deadline
	once   sync.Once
	closed chan struct{}
}

func (b *mailbox) ReadFromUDPAddrPort(data []byte) (int, netip.AddrPort, error) {
	select {
	case p := <-b.in:
		return copy(data, p.data), p.from, nil
	case <-b.until.passed():
		return 0, netip.AddrPort{}, os.ErrDeadlineExceeded
	case <-b.closed:
		return 0, netip.AddrPort{}, net.ErrClosed
	}
}

// WriteToUDPAddrPort loses what nobody waits for and what is too much, as UDP does.
func (b *mailbox) WriteToUDPAddrPort(data []byte, to netip.AddrPort) (int, error) {
	b.memory.mu.Lock()
	peer := b.memory.sockets[to]
	b.memory.mu.Unlock()
	if peer != nil {
		select {
		case peer.in <- parcel{b.at, append([]byte(nil), data...)}:
		default:
		}
	}
	return len(data), nil
}

// SetReadBuffer and SetWriteBuffer are what QUIC asks for; a mailbox has its size.
func (b *mailbox) SetReadBuffer(int) error { return nil }

// SetWriteBuffer does nothing, see SetReadBuffer.
func (b *mailbox) SetWriteBuffer(int) error { return nil }

func (b *mailbox) ReadFrom(data []byte) (int, net.Addr, error) {
	n, from, err := b.ReadFromUDPAddrPort(data)
	return n, net.UDPAddrFromAddrPort(from), err
}

func (b *mailbox) WriteTo(data []byte, to net.Addr) (int, error) {
	return b.WriteToUDPAddrPort(data, to.(*net.UDPAddr).AddrPort())
}

func (b *mailbox) Close() error {
	b.once.Do(func() {
		b.memory.mu.Lock()
		defer b.memory.mu.Unlock()
		delete(b.memory.sockets, b.at)
		close(b.closed)
	})
	return nil
}

func (b *mailbox) LocalAddr() net.Addr               { return net.UDPAddrFromAddrPort(b.at) }
func (b *mailbox) SetReadDeadline(t time.Time) error { b.until.set(t); return nil }
func (b *mailbox) SetDeadline(t time.Time) error     { return b.SetReadDeadline(t) }
func (b *mailbox) SetWriteDeadline(time.Time) error  { return nil } // writing never waits

// doorkeeper is a TCP socket that takes connections.
type doorkeeper struct {
	memory *memory
	at     netip.AddrPort
	in     chan net.Conn
	once   sync.Once
	closed chan struct{}
}

func (l *doorkeeper) Accept() (net.Conn, error) {
	select {
	case conn := <-l.in:
		return conn, nil
	case <-l.closed:
		return nil, net.ErrClosed
	}
}

func (l *doorkeeper) Close() error {
	l.once.Do(func() {
		l.memory.mu.Lock()
		defer l.memory.mu.Unlock()
		delete(l.memory.listeners, l.at)
		close(l.closed)
	})
	return nil
}

func (l *doorkeeper) Addr() net.Addr { return net.TCPAddrFromAddrPort(l.at) }

// flow is one direction of a connection.
type flow struct {
	in     chan []byte
	rest   []byte // of what was taken from in; the reader's
	read   *deadline
	write  *deadline
	once   sync.Once
	closed chan struct{}
}

func newFlow() *flow {
	return &flow{in: make(chan []byte, 256), read: newDeadline(), write: newDeadline(), closed: make(chan struct{})}
}

func (f *flow) close() { f.once.Do(func() { close(f.closed) }) }

// ended is one end of a connection.
type ended struct {
	in, out       *flow
	local, remote netip.AddrPort
}

func (c *ended) Read(b []byte) (int, error) {
	f := c.in
	if len(f.rest) == 0 {
		select { // what was sent before the end still arrives
		case f.rest = <-f.in:
		default:
			select {
			case f.rest = <-f.in:
			case <-f.read.passed():
				return 0, os.ErrDeadlineExceeded
			case <-f.closed:
				select {
				case f.rest = <-f.in:
				default:
					return 0, io.EOF
				}
			}
		}
	}
	n := copy(b, f.rest)
	f.rest = f.rest[n:]
	return n, nil
}

func (c *ended) Write(b []byte) (int, error) {
	select {
	case <-c.out.closed:
		return 0, os.NewSyscallError("write", syscall.ECONNRESET)
	default:
	}
	select {
	case c.out.in <- append([]byte(nil), b...):
		return len(b), nil
	case <-c.out.write.passed():
		return 0, os.ErrDeadlineExceeded
	case <-c.out.closed:
		return 0, os.NewSyscallError("write", syscall.ECONNRESET)
	}
}

// Close ends both directions.
func (c *ended) Close() error {
	c.in.close()
	c.out.close()
	return nil
}

func (c *ended) LocalAddr() net.Addr                { return net.TCPAddrFromAddrPort(c.local) }
func (c *ended) RemoteAddr() net.Addr               { return net.TCPAddrFromAddrPort(c.remote) }
func (c *ended) SetReadDeadline(t time.Time) error  { c.in.read.set(t); return nil }
func (c *ended) SetWriteDeadline(t time.Time) error { c.out.write.set(t); return nil }
func (c *ended) SetDeadline(t time.Time) error {
	c.in.read.set(t)
	c.out.write.set(t)
	return nil
}

// deadline is a time after which waiting ends.
type deadline struct {
	mu    sync.Mutex
	timer *time.Timer
	over  chan struct{}
}

func newDeadline() *deadline { return &deadline{over: make(chan struct{})} }

// set moves it; the zero time means never.
func (d *deadline) set(t time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.timer != nil && !d.timer.Stop() {
		<-d.over // it has passed, or is about to
	}
	d.timer = nil
	select {
	case <-d.over:
		d.over = make(chan struct{})
	default:
	}
	if t.IsZero() {
		return
	}
	over := d.over
	if left := time.Until(t); left > 0 {
		d.timer = time.AfterFunc(left, func() { close(over) })
	} else {
		close(over)
	}
}

// passed is closed when the time has come.
func (d *deadline) passed() <-chan struct{} {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.over
}
