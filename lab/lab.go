package lab

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"sync"
	"time"

	"unquil/core/wire"
)

// patience is how long a resolver of the lab waits for a silent server. A real
// one waits longer; people who try the lab need not.
const patience = 200 * time.Millisecond

// Options says how to run the lab. The zero value is ready to use.
type Options struct {
	// Now is the lab's clock; nil means one that starts where the scenario begins.
	Now func() time.Time
	// Wait is called for as long as a resolver waits for a silent server; nil means time.Sleep.
	Wait func(time.Duration)
}

// Lab is the running simulated internet.
type Lab struct {
	Scenario *Scenario
	now      func() time.Time
	wait     func(time.Duration)
	hosts    map[netip.Addr]host
	closed   map[netip.Addr]bool
	labels   map[string]netip.Addr // resolvers
	hints    []wire.Record

	mu      sync.Mutex
	sockets map[netip.Addr]*sockets
}

// sockets are the loopback sockets behind one virtual address.
type sockets struct {
	udp *net.UDPConn
	tcp net.Listener
}

// New sets up the servers and resolvers of the scenario. Nothing listens until
// somebody asks over [Lab.Network].
func New(o Options) (*Lab, error) {
	scenario, err := Load()
	if err != nil {
		return nil, err
	}
	l := &Lab{
		Scenario: scenario, now: o.Now, wait: o.Wait,
		hosts: map[netip.Addr]host{}, closed: map[netip.Addr]bool{}, labels: map[string]netip.Addr{},
		sockets: map[netip.Addr]*sockets{},
	}
	if l.now == nil {
		begun := time.Now()
		l.now = func() time.Time { return scenario.Begins.Add(time.Since(begun)) }
	}
	if l.wait == nil {
		l.wait = time.Sleep
	}
	zones := map[Served]*zone{}
	for _, s := range scenario.Servers {
		server := &authoritative{state: s.State}
		for _, served := range s.Zones {
			if zones[served] == nil {
				if zones[served], err = newZone(served); err != nil {
					return nil, err
				}
			}
			server.zones = append(server.zones, zones[served])
			if z := zones[served]; z.origin.IsRoot() && l.hints == nil {
				l.hints = rootHints(z)
			}
		}
		l.place(server, s.Addresses, s.State)
	}
	for _, config := range scenario.Resolvers {
		r, err := newResolver(l, config, l.hints)
		if err != nil {
			return nil, err
		}
		l.place(r, config.Addresses, config.State)
		l.labels[config.Label] = config.Addresses[0]
	}
	return l, nil
}

func (l *Lab) place(h host, addresses []netip.Addr, state State) {
	for _, a := range addresses {
		l.hosts[a] = h
		l.closed[a] = state == Closed
	}
}

// rootHints are the root's NS records and the addresses of their hosts.
func rootHints(z *zone) []wire.Record {
	hints := z.of(wire.Root, wire.NS)
	for _, ns := range hints {
		target, _ := ns.Target()
		hints = append(hints, append(z.of(target, wire.A), z.of(target, wire.AAAA)...)...)
	}
	return hints
}

// Hints returns the lab's root hints.
func (l *Lab) Hints() []wire.Record { return l.hints }

// Resolver returns the address of the resolver with that label.
func (l *Lab) Resolver(label string) (netip.AddrPort, bool) {
	a, ok := l.labels[label]
	return netip.AddrPortFrom(a, 53), ok
}

// deliver takes a question to a host without a socket, as UDP would and then
// TCP; nil is silence.
func (l *Lab) deliver(to netip.Addr, query *wire.Message) *wire.Message {
	h := l.hosts[to]
	if h == nil || l.closed[to] {
		return nil
	}
	data, err := query.Bytes()
	if err != nil {
		return nil
	}
	for _, stream := range []bool{false, true} {
		out := respond(h, data, stream)
		if out == nil {
			l.wait(patience)
			return nil
		}
		reply, err := wire.ReadMessage(out)
		if err != nil {
			return nil
		}
		if !reply.Flags.Has(wire.TC) {
			return &reply
		}
	}
	return nil
}

// listen opens the sockets behind a virtual address, once.
func (l *Lab) listen(a netip.Addr) (*sockets, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if s := l.sockets[a]; s != nil {
		return s, nil
	}
	udp, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		return nil, fmt.Errorf("lab: %w", err)
	}
	tcp, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		udp.Close()
		return nil, fmt.Errorf("lab: %w", err)
	}
	s := &sockets{udp, tcp}
	l.sockets[a] = s
	go serveUDP(udp, l.hosts[a])
	go serveTCP(tcp, l.hosts[a])
	return s, nil
}

// Close ends all sockets.
func (l *Lab) Close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, s := range l.sockets {
		s.udp.Close()
		s.tcp.Close()
	}
	l.sockets = map[netip.Addr]*sockets{}
}

func serveUDP(conn *net.UDPConn, h host) {
	buf := make([]byte, 65535)
	for {
		n, from, err := conn.ReadFromUDPAddrPort(buf)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			continue // an ICMP error of an earlier reply
		}
		query := append([]byte(nil), buf[:n]...)
		go func() {
			if out := respond(h, query, false); out != nil {
				conn.WriteToUDPAddrPort(out, from)
			}
		}()
	}
}

// idle is how long a TCP connection may say nothing.
const idle = 10 * time.Second

func serveTCP(listener net.Listener, h host) {
	for {
		conn, err := listener.Accept()
		if err != nil {
			return
		}
		go func() {
			defer conn.Close()
			for {
				conn.SetDeadline(time.Now().Add(idle))
				var size [2]byte
				if _, err := io.ReadFull(conn, size[:]); err != nil {
					return
				}
				query := make([]byte, binary.BigEndian.Uint16(size[:]))
				if _, err := io.ReadFull(conn, query); err != nil {
					return
				}
				if out := respond(h, query, true); out != nil {
					conn.Write(append(binary.BigEndian.AppendUint16(nil, uint16(len(out))), out...))
				}
			}
		}()
	}
}
