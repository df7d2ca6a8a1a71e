package lab

import (
	"context"
	"fmt"
	"hash/fnv"
	"net"
	"net/netip"
	"os"
	"slices"
	"sync"
	"syscall"
	"time"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// Network reaches the lab's hosts by their virtual addresses. It has the
// methods that the program's client asks of a network.
type Network struct {
	lab  *Lab
	path Path
	sent *sent
	wire *Wire // where its packets are heard; nil: at the lab's, if there is one
}

// Heard is the same way into the lab with a wire of its own, whose frames have the time of a clock.
func (n Network) Heard(now func() time.Time) (Network, *Wire) {
	n.wire = newWire(now)
	return n, n.wire
}

// tapped is where its packets are heard; nil: nobody listens.
func (n Network) tapped() *Wire {
	switch {
	case n.path.Here == AnswersItself:
		return nil
	case n.wire != nil:
		return n.wire
	}
	return n.lab.tapped()
}

// sent counts what was sent over a path.
type sent struct {
	mu    sync.Mutex
	asked map[string]int // by server and question
}

// losesNext reports whether a path that loses packets by their order loses this one.
func (n Network) losesNext(server netip.AddrPort, query *wire.Message) bool {
	n.sent.mu.Lock()
	defer n.sent.mu.Unlock()
	question := fmt.Sprint(server, query.Questions)
	nth := n.sent.asked[question]
	n.sent.asked[question]++
	// Which of them it is does not hang on whose turn it is: runs are alike.
	sum := fnv.New32a()
	sum.Write([]byte(question))
	turn := int(sum.Sum32()%30) + nth
	return nth == 0 && slices.Contains(n.path.Loses, "first") || turn%3 == 0 && slices.Contains(n.path.Loses, "third") || turn%10 == 0 && slices.Contains(n.path.Loses, "tenth")
}

// Network returns a good way into the lab.
func (l *Lab) Network() Network { return Network{lab: l, sent: &sent{asked: map[string]int{}}} }

// Enter has a client ask in the lab, and stamp by its clock. It returns the client.
func (l *Lab) Enter(c *exchange.Client) *exchange.Client {
	c.Network, c.Now, c.WaitBy = l.Network(), l.Clock, time.Now
	return c
}

// NetworkOver returns the way into the lab over the path with that label. The error says that
// there is no such path.
func (l *Lab) NetworkOver(label string) (Network, error) {
	for _, p := range l.Scenario.Paths {
		if p.Label == label {
			return Network{lab: l, path: p, sent: &sent{asked: map[string]int{}}}, nil
		}
	}
	return Network{}, fmt.Errorf("the lab has no path %q", label)
}

// loses reports whether the path loses that kind of packet to and from a server.
func (p Path) loses(kind string, server netip.Addr, l *Lab) bool {
	if slices.Contains(p.Loses, "outside") && l.isResolver(server) {
		return false
	}
	return slices.Contains(p.Loses, "all") || slices.Contains(p.Loses, kind)
}

// via is whom a packet to server reaches.
func (n Network) via(server netip.AddrPort) netip.AddrPort {
	if n.path.Instead == "" || n.path.Here == Honest && n.lab.isResolver(server.Addr()) {
		return server
	}
	instead := n.lab.labels[n.path.Instead]
	if n.path.Here == Redirects && instead.Is4() != server.Addr().Is4() {
		return server // a rule of one family does not touch the other
	}
	return netip.AddrPortFrom(instead, server.Port())
}

func (l *Lab) isResolver(a netip.Addr) bool {
	_, is := l.hosts[a].(*twins)
	return is
}

// reach finds the loopback socket behind a server, or fails as the network
// would: a host that is not there is unreachable, a closed port refuses.
func (n Network) reach(server netip.AddrPort, udp bool) (netip.AddrPort, error) {
	d := door{server.Addr().Unmap(), service{server.Port(), udp}}
	if n.lab.hosts[d.host] == nil {
		return netip.AddrPort{}, os.NewSyscallError("connect", syscall.EHOSTUNREACH)
	}
	if d.host.Is6() && slices.Contains(n.path.Loses, "ipv6") {
		return netip.AddrPort{}, os.NewSyscallError("connect", syscall.ENETUNREACH)
	}
	if services[d.service] == nil || n.lab.closed[d.host] || !udp && n.lab.noTCP[d.host] {
		return netip.AddrPort{}, os.NewSyscallError("connect", syscall.ECONNREFUSED)
	}
	return n.lab.open(d)
}

// Stream connects to a server over TCP.
func (n Network) Stream(ctx context.Context, server netip.AddrPort) (net.Conn, error) {
	if n.path.loses("tcp", server.Addr(), n.lab) || n.path.Here == DropsQueries || n.path.Here == DropsReplies {
		<-ctx.Done()
		return nil, ctx.Err()
	}
	at, err := n.reach(n.via(server), false)
	if err != nil {
		return nil, err
	}
	n.lab.wait(n.lab.latency) // a connection takes a round trip of its own
	conn, err := n.lab.wires.dial(ctx, at)
	if err != nil {
		return nil, err
	}
	local := n.local(conn.LocalAddr(), server)
	return virtualConn{n.tapped().connection(conn, local, n.passing(server)), net.TCPAddrFromAddrPort(local)}, nil
}

// Datagrams opens a UDP socket from which server can be asked.
func (n Network) Datagrams(_ context.Context, server netip.AddrPort) (exchange.Datagrams, error) {
	at, err := n.reach(n.via(server), true)
	if err != nil {
		return nil, err
	}
	conn, err := n.lab.wires.socket(clientRoom)
	if err != nil {
		return nil, err
	}
	return &datagrams{conn, n.local(conn.LocalAddr(), server), server, at, n, n.tapped()}, nil
}

// passing is the server that packets to one are for once they are on the wire.
func (n Network) passing(server netip.AddrPort) netip.AddrPort {
	if n.path.Here == Redirects {
		return n.via(server)
	}
	return server
}

// local is the technician's virtual address of the server's family, with the real port.
func (n Network) local(a net.Addr, server netip.AddrPort) netip.AddrPort {
	port := addressOf(a).Port()
	if server.Addr().Is6() {
		return netip.AddrPortFrom(n.lab.Scenario.Machine6, port)
	}
	return netip.AddrPortFrom(n.lab.Scenario.Machine, port)
}

// virtualConn is a TCP connection that tells its virtual address.
type virtualConn struct {
	net.Conn
	local net.Addr
}

func (c virtualConn) LocalAddr() net.Addr { return c.local }

// datagrams is a UDP socket whose peer has a virtual and a real address.
type datagrams struct {
	exchange.Datagrams
	local         netip.AddrPort
	virtual, real netip.AddrPort
	network       Network
	wire          *Wire // nil: nobody listens
}

// lost reports whether the path loses such a packet to or from the server.
func (d *datagrams) lost(kind string) bool {
	return d.network.path.loses(kind, d.virtual.Addr(), d.network.lab)
}

// LocalAddr is the technician's virtual address.
func (d *datagrams) LocalAddr() net.Addr { return net.UDPAddrFromAddrPort(d.local) }

// WriteToUDPAddrPort sends to the virtual address that the socket was opened for.
func (d *datagrams) WriteToUDPAddrPort(b []byte, to netip.AddrPort) (int, error) {
	if to != d.virtual {
		return 0, os.NewSyscallError("sendto", syscall.EHOSTUNREACH)
	}
	if d.network.path.Here == DropsQueries {
		return len(b), nil
	}
	d.wire.datagram(true, d.local, d.network.passing(to), b)
	if query, err := wire.ReadMessage(b); err == nil {
		if _, edns := query.OPT(); d.lost("udp") || edns && d.lost("edns") || d.network.losesNext(to, &query) {
			return len(b), nil
		}
	}
	return d.Datagrams.WriteToUDPAddrPort(b, d.real)
}

// ReadFromUDPAddrPort receives, and names the sender by its virtual address.
func (d *datagrams) ReadFromUDPAddrPort(b []byte) (int, netip.AddrPort, error) {
	n, from, err := d.Datagrams.ReadFromUDPAddrPort(b)
	for err == nil && n > largest && d.lost("large") {
		n, from, err = d.Datagrams.ReadFromUDPAddrPort(b)
	}
	if from == d.real {
		from = d.virtual
	}
	if err != nil {
		return n, from, err
	}
	d.wire.datagram(false, d.network.passing(from), d.local, b[:n])
	switch d.network.path.Here {
	case DropsReplies:
		return d.ReadFromUDPAddrPort(b)
	case Rewrites:
		n = copy(b, rewritten(b[:n], d.network.path.Gives))
	}
	return n, from, nil
}
