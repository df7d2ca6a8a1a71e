package lab

import (
	"cmp"
	"context"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/quic-go/quic-go"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// service is one way to reach a host of the lab.
type service struct {
	port uint16
	udp  bool
}

// door is a service of one host, and opened it is a loopback socket.
type door struct {
	host    netip.Addr
	service service
}

// opened is the loopback address behind a door, and what closes it.
type opened struct {
	at     netip.AddrPort
	closer io.Closer
}

// services say who serves what comes in at a door.
var services = map[service]func(l *Lab, a netip.Addr) (opened, error){
	{53, true}:   (*Lab).openUDP,
	{53, false}:  (*Lab).openTCP,
	{853, false}: (*Lab).openTLS,
	{443, false}: (*Lab).openHTTPS,
	{853, true}:  (*Lab).openQUIC,
}

// Open returns the loopback address behind one of the lab's hosts, for who asks
// it without [Lab.Network]: UDP or TCP at the server's port. The error says that there is no such
// server, or is that of listening.
func (l *Lab) Open(server netip.AddrPort, udp bool) (netip.AddrPort, error) {
	return l.Network().reach(server, udp)
}

// open opens the door, once.
func (l *Lab) open(d door) (netip.AddrPort, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if o, ok := l.doors[d]; ok {
		return o.at, nil
	}
	o, err := services[d.service](l, d.host)
	if err != nil {
		return netip.AddrPort{}, fmt.Errorf("lab: %w", err)
	}
	l.doors[d] = o
	return o.at, nil
}

// Close ends all sockets.
func (l *Lab) Close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, o := range l.doors {
		o.closer.Close()
	}
	l.doors = map[door]opened{}
}

// wires carry what hosts say to one another, between loopback addresses.
type wires interface {
	socket(room int) (packets, error) // for so many packets that wait, at least
	listen() (net.Listener, error)
	dial(ctx context.Context, to netip.AddrPort) (net.Conn, error)
}

// packets is a UDP socket on a free port.
type packets interface {
	net.PacketConn
	exchange.Datagrams
}

var loopback = netip.AddrFrom4([4]byte{127, 0, 0, 1})

// sockets are wires through the system's loopback interface.
type sockets struct{}

func (sockets) socket(int) (packets, error) {
	return net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(loopback, 0)))
}

func (sockets) listen() (net.Listener, error) {
	return net.ListenTCP("tcp4", net.TCPAddrFromAddrPort(netip.AddrPortFrom(loopback, 0)))
}

func (sockets) dial(ctx context.Context, to netip.AddrPort) (net.Conn, error) {
	var dialer net.Dialer
	return dialer.DialContext(ctx, "tcp4", to.String())
}

// addressOf is an address of wires.
func addressOf(a net.Addr) netip.AddrPort { return netip.MustParseAddrPort(a.String()) }

// stream opens a TCP socket and has serve take its connections.
func (l *Lab) stream(serve func(net.Listener)) (opened, error) {
	listener, err := l.wires.listen()
	if err != nil {
		return opened{}, err
	}
	go serve(listener)
	return opened{addressOf(listener.Addr()), listener}, nil
}

// secured is a TLS configuration with the certificate of the machine at a.
func (l *Lab) secured(a netip.Addr, protocols ...string) (*tls.Config, error) {
	certificate, err := l.certificate(a)
	return &tls.Config{Certificates: []tls.Certificate{certificate}, NextProtos: protocols}, err
}

// Respond is what a host of the lab replies to a message from a client, over UDP or in a
// stream; nil when it says nothing, or there is no such host.
func (l *Lab) Respond(host, client netip.Addr, query []byte, stream bool) []byte {
	h := l.hosts[host]
	if h == nil {
		return nil
	}
	return respond(h, client, query, stream)
}

// Has reports whether there is a host at an address.
func (l *Lab) Has(host netip.Addr) bool { return l.hosts[host] != nil }

// replier is where one host's replies to the technician's machine leave.
type replier struct {
	host
	client netip.Addr
	lab    *Lab
}

func (l *Lab) replier(a netip.Addr) replier { return replier{l.hosts[a], l.Scenario.Machine, l} }

func (c replier) respond(query []byte, stream bool) []byte {
	c.lab.travel(c.host.oddity().late)
	return respond(c.host, c.client, query, stream)
}

func (l *Lab) openUDP(a netip.Addr) (opened, error) {
	conn, err := l.wires.socket(serverRoom)
	if err != nil {
		return opened{}, err
	}
	go serveUDP(conn, l.replier(a))
	return opened{addressOf(conn.LocalAddr()), conn}, nil
}

func (l *Lab) openTCP(a netip.Addr) (opened, error) {
	return l.stream(func(listener net.Listener) { serveTCP(listener, l.replier(a)) })
}

func (l *Lab) openTLS(a netip.Addr) (opened, error) {
	config, err := l.secured(a, "dot")
	if err != nil {
		return opened{}, err
	}
	return l.stream(func(listener net.Listener) {
		serveTCP(tls.NewListener(listener, config), l.replier(a))
	})
}

func (l *Lab) openHTTPS(a netip.Addr) (opened, error) {
	config, err := l.secured(a, "h2", "http/1.1")
	if err != nil {
		return opened{}, err
	}
	handler := web(l.replier(a))
	if sites := l.webs[a]; len(sites) > 0 {
		handler = pages(sites)
	}
	if here := l.registries[a]; len(here) > 0 {
		handler = l.tells(here)
	}
	server := &http.Server{Handler: handler, TLSConfig: config, ReadTimeout: idle, ErrorLog: log.New(io.Discard, "", 0)}
	return l.stream(func(listener net.Listener) { server.ServeTLS(listener, "", "") })
}

// pages are what a web server gives, by host and path.
func pages(sites []Web) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		at := slices.IndexFunc(sites, func(site Web) bool { return strings.EqualFold(site.Host, r.Host) && site.Path == r.URL.Path })
		if at < 0 {
			http.NotFound(w, r)
			return
		}
		site := sites[at]
		if site.To != "" {
			http.Redirect(w, r, site.To, http.StatusFound)
			return
		}
		w.Header().Set("Content-Type", cmp.Or(site.Type, "text/plain"))
		w.WriteHeader(cmp.Or(site.Status, http.StatusOK))
		io.WriteString(w, site.Text)
		for site.Endless && r.Context().Err() == nil {
			if _, err := io.WriteString(w, strings.Repeat("mx: *.works.example\n", 400)); err != nil {
				return
			}
		}
	})
}

// web is DNS over HTTPS (RFC 8484) at /dns-query.
func web(c replier) http.Handler {
	const messageType = "application/dns-message"
	mux := http.NewServeMux()
	mux.HandleFunc("/dns-query", func(w http.ResponseWriter, r *http.Request) {
		var query []byte
		var err error
		switch {
		case r.Method == http.MethodGet:
			query, err = base64.RawURLEncoding.DecodeString(r.URL.Query().Get("dns"))
		case r.Method == http.MethodPost && r.Header.Get("Content-Type") == messageType:
			query, err = io.ReadAll(io.LimitReader(r.Body, 65535))
		default:
			err = errors.New("neither GET nor POST of a message")
		}
		if err != nil {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		out := c.respond(query, true)
		if out == nil {
			<-r.Context().Done()
			return
		}
		w.Header().Set("Content-Type", messageType)
		w.Write(out)
	})
	return mux
}

func (l *Lab) openQUIC(a netip.Addr) (opened, error) {
	config, err := l.secured(a, "doq")
	if err != nil {
		return opened{}, err
	}
	conn, err := l.wires.socket(clientRoom)
	if err != nil {
		return opened{}, err
	}
	listener, err := quic.Listen(conn, config, &quic.Config{MaxIdleTimeout: idle})
	if err != nil {
		conn.Close()
		return opened{}, err
	}
	go serveQUIC(listener, l.replier(a))
	return opened{addressOf(conn.LocalAddr()), conn}, nil
}

func serveUDP(conn packets, c replier) {
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
			out := c.respond(query, false)
			if out == nil {
				return
			}
			if c.host.oddity().elsewhere {
				if other, err := c.lab.wires.socket(clientRoom); err == nil {
					defer other.Close()
					other.WriteToUDPAddrPort(out, from)
				}
				return
			}
			conn.WriteToUDPAddrPort(out, from)
		}()
	}
}

// idle is how long a connection may say nothing.
const idle = 10 * time.Second

func serveTCP(listener net.Listener, c replier) {
	for {
		conn, err := listener.Accept()
		if err != nil {
			return
		}
		go func() {
			defer conn.Close()
			for {
				conn.SetDeadline(time.Now().Add(idle))
				query, err := wire.ReadFramed(conn, nil)
				if err != nil {
					return
				}
				// One question does not wait for another's answer (RFC 7766 §6.2.1.1).
				go func() {
					if c.transfer(query, func(out []byte) { conn.Write(wire.AppendFramed(nil, out)) }) {
						return
					}
					if out := c.respond(query, true); out != nil {
						conn.Write(wire.AppendFramed(nil, out))
					}
				}()
			}
		}()
	}
}

func serveQUIC(listener *quic.Listener, c replier) {
	for {
		conn, err := listener.Accept(context.Background())
		if err != nil {
			return
		}
		go func() {
			for {
				stream, err := conn.AcceptStream(context.Background())
				if err != nil {
					return
				}
				go func() {
					defer stream.Close()
					if query, err := wire.ReadFramed(stream, nil); err == nil {
						if out := c.respond(query, true); out != nil {
							stream.Write(wire.AppendFramed(nil, out))
						}
					}
				}()
			}
		}()
	}
}
