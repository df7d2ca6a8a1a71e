package exchange

import (
	"context"
	"net"
	"net/netip"
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

// Datagrams opens a UDP socket of the server's address family.
func (i Internet) Datagrams(ctx context.Context, server netip.AddrPort) (Datagrams, error) {
	network := "udp4"
	if server.Addr().Is6() {
		network = "udp6"
	}
	// Without control the kernel keeps ICMP errors from an unconnected socket.
	config := net.ListenConfig{Control: tellErrors}
	local := ":0"
	if i.Source.IsValid() {
		local = netip.AddrPortFrom(i.Source, 0).String()
	}
	conn, err := config.ListenPacket(ctx, network, local)
	if err != nil {
		return nil, err
	}
	return conn.(*net.UDPConn), nil
}

// Stream connects over TCP.
func (i Internet) Stream(ctx context.Context, server netip.AddrPort) (net.Conn, error) {
	var dialer net.Dialer
	if i.Source.IsValid() {
		dialer.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(i.Source, 0))
	}
	return dialer.DialContext(ctx, "tcp", server.String())
}
