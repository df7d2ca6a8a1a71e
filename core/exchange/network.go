package exchange

import (
	"context"
	"net"
	"net/netip"
	"sync"
	"time"
)

// Network is how the client reaches servers: the real one is [Internet], and a
// simulated one can stand in for it.
type Network interface {
	// Datagrams opens a socket on a fresh port to ask server over UDP. The
	// socket is not connected, so that a reply from elsewhere can be seen.
	Datagrams(ctx context.Context, server netip.AddrPort) (Datagrams, error)
	// Stream connects to server over TCP.
	Stream(ctx context.Context, server netip.AddrPort) (net.Conn, error)
}

// Datagrams is an unconnected UDP socket.
type Datagrams interface {
	ReadFromUDPAddrPort(b []byte) (int, netip.AddrPort, error)
	WriteToUDPAddrPort(b []byte, to netip.AddrPort) (int, error)
	SetReadDeadline(t time.Time) error
	LocalAddr() net.Addr
	Close() error
}

// Internet is the real network. The zero value is ready to use.
type Internet struct {
	Source netip.Addr // to send from; invalid: as the system chooses
}

// Datagrams opens a UDP socket of the server's address family. The error is the system's.
func (i Internet) Datagrams(ctx context.Context, server netip.AddrPort) (Datagrams, error) {
	network := "udp4"
	if server.Addr().Is6() {
		network = "udp6"
	}
	config := net.ListenConfig{Control: prepare}
	source := i.Source
	if !source.IsValid() {
		var err error
		if source, err = routes.source(ctx, network, server); err != nil {
			return nil, err
		}
	}
	conn, err := config.ListenPacket(ctx, network, netip.AddrPortFrom(source, 0).String())
	if err != nil {
		routes.forget(server.Addr())
		return nil, err
	}
	return conn.(*net.UDPConn), nil
}

// routes are the addresses that the system sent from to servers just before: to ask it each time takes as long
// as a question.
var routes routeMemory

type routeMemory struct {
	mu    sync.Mutex
	known map[netip.Addr]route // by server
}

type route struct {
	source netip.Addr
	left   int // how often it is believed still
}

// How often a route is believed, and how many are.
const (
	routeUses = 64
	maxRoutes = 1024
)

// source is the address that the system sends to a server from. The error is the system's.
func (r *routeMemory) source(ctx context.Context, network string, server netip.AddrPort) (netip.Addr, error) {
	r.mu.Lock()
	known := r.known[server.Addr()]
	if known.left > 0 {
		known.left--
		r.known[server.Addr()] = known
	}
	r.mu.Unlock()
	if known.source.IsValid() && known.left > 0 {
		return known.source, nil
	}
	source, err := sourceFor(ctx, network, server)
	if err != nil {
		return source, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.known == nil || len(r.known) >= maxRoutes {
		r.known = map[netip.Addr]route{}
	}
	r.known[server.Addr()] = route{source, routeUses}
	return source, nil
}

// forget forgets a route that did not work.
func (r *routeMemory) forget(server netip.Addr) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.known, server)
}

// sourceFor is the address that the system sends to a server from. An unconnected
// socket does not know it, and evidence without it names no asker; connecting another
// one asks the routing table and sends nothing.
func sourceFor(ctx context.Context, network string, server netip.AddrPort) (netip.Addr, error) {
	var dialer net.Dialer
	conn, err := dialer.DialContext(ctx, network, server.String())
	if err != nil {
		return netip.Addr{}, err
	}
	defer conn.Close()
	return conn.LocalAddr().(*net.UDPAddr).AddrPort().Addr(), nil
}

// Stream connects over TCP. The error is the system's, or that of ctx.
func (i Internet) Stream(ctx context.Context, server netip.AddrPort) (net.Conn, error) {
	var dialer net.Dialer
	if i.Source.IsValid() {
		dialer.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(i.Source, 0))
	}
	return dialer.DialContext(ctx, "tcp", server.String())
}
