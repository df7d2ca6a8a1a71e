package exchange

import (
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"strconv"
	"strings"

	"unquil/core/escape"
)

// ErrResolver says that a resolver cannot be understood as written.
var ErrResolver = errors.New("not a resolver: give ADDRESS, ADDRESS#PORT, HOST, a URI such as tls://ADDRESS, system, or a label from the configuration")

// Target is a resolver as written after --from: a server, or the name of a host
// that has to be looked up first.
type Target struct {
	Server Server
	Host   string // "" when the server's address is given; its port is then the one to use
}

// ports are where a transport is asked when nothing else is said.
var ports = map[Transport]uint16{UDP: 53, TCP: 53, TLS: 853, QUIC: 853, HTTPS: 443}

// ParseTarget reads a resolver as written after --from: ADDRESS, ADDRESS#PORT,
// HOST, HOST#PORT, or a URI of one of the transports (https with a path). A label
// has to be looked up before. The error wraps ErrResolver.
func ParseTarget(text string) (Target, error) {
	bad := fmt.Errorf("%q: %w", text, ErrResolver)
	if scheme, _, ok := strings.Cut(text, "://"); ok {
		u, err := url.Parse(text)
		transport := Transport(strings.ToLower(scheme))
		if err != nil || ports[transport] == 0 || u.User != nil || u.RawQuery != "" || u.Fragment != "" {
			return Target{}, bad
		}
		if transport != HTTPS && u.Path != "" && u.Path != "/" {
			return Target{}, bad
		}
		t, err := target(u.Hostname(), u.Port(), transport)
		if transport == HTTPS {
			t.Server.Path = u.Path
			if u.Path == "" || u.Path == "/" {
				t.Server.Path = "/dns-query" // RFC 8484 §4.1.1 asks with it throughout
			}
		}
		if err != nil {
			return Target{}, bad
		}
		return t, nil
	}
	host, port, given := strings.Cut(text, "#")
	if given && port == "" {
		return Target{}, bad
	}
	t, err := target(host, port, "")
	if err != nil {
		return Target{}, bad
	}
	return t, nil
}

func target(host, port string, transport Transport) (Target, error) {
	number := uint64(53)
	if transport != "" {
		number = uint64(ports[transport])
	}
	if port != "" {
		var err error
		if number, err = strconv.ParseUint(port, 10, 16); err != nil || number == 0 {
			return Target{}, ErrResolver
		}
	}
	t := Target{Server: Server{Transport: transport}}
	address, err := netip.ParseAddr(host)
	if err != nil {
		// One word is likelier a label that is not there than the name of a host.
		if !strings.Contains(strings.TrimSuffix(host, "."), ".") || strings.Trim(host, "0123456789.") == "" || strings.ContainsAny(host, " /:") {
			return Target{}, ErrResolver
		}
		t.Host, t.Server.TLSName = host, strings.TrimSuffix(host, ".")
		t.Server.Label = escape.Of(t.Server.TLSName)
	}
	t.Server.Address = netip.AddrPortFrom(address.Unmap(), uint16(number))
	return t, nil
}

// Over returns the server asked over another transport, at that transport's
// port if it was at the usual one.
func (s Server) Over(transport Transport) Server {
	before := s.Transport
	if before == "" {
		before = UDP
	}
	if s.Address.Port() == ports[before] {
		s.Address = netip.AddrPortFrom(s.Address.Addr(), ports[transport])
	}
	s.Transport = transport
	if transport == HTTPS && s.Path == "" {
		s.Path = "/dns-query"
	}
	return s
}

// FormatAddress writes an address the way the program reads it: ADDRESS#PORT.
func FormatAddress(a netip.AddrPort) string {
	return a.Addr().String() + "#" + strconv.Itoa(int(a.Port()))
}

// NetworkOf is the /24 or /48 of an address: what is commonly routed as one.
func NetworkOf(a netip.Addr) netip.Prefix {
	bits := 24
	if a.Is6() {
		bits = 48
	}
	p, _ := a.Prefix(bits) // the bits fit every address
	return p
}
