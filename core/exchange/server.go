package exchange

import (
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
)

// ErrResolver says that a resolver cannot be understood as written.
var ErrResolver = errors.New("not a resolver: give ADDRESS, ADDRESS#PORT, udp://ADDRESS, tcp://ADDRESS, system, or a label from the configuration")

// ParseServer reads a resolver as written after --from, when it is an address:
// ADDRESS, ADDRESS#PORT, udp://ADDRESS:PORT or tcp://ADDRESS:PORT. A label has
// to be looked up before. The error wraps ErrResolver.
func ParseServer(text string) (Server, error) {
	if scheme, _, ok := strings.Cut(text, "://"); ok {
		u, err := url.Parse(text)
		transport := Transport(strings.ToLower(scheme))
		if err != nil || transport != UDP && transport != TCP || u.Path != "" && u.Path != "/" {
			return Server{}, fmt.Errorf("%q: %w", text, ErrResolver)
		}
		address, err := parseAddress(u.Hostname(), u.Port())
		if err != nil {
			return Server{}, fmt.Errorf("%q: %w", text, ErrResolver)
		}
		return Server{Address: address, Transport: transport}, nil
	}
	host, port, _ := strings.Cut(text, "#")
	address, err := parseAddress(host, port)
	if err != nil {
		return Server{}, fmt.Errorf("%q: %w", text, ErrResolver)
	}
	return Server{Address: address}, nil
}

func parseAddress(host, port string) (netip.AddrPort, error) {
	address, err := netip.ParseAddr(host)
	if err != nil {
		return netip.AddrPort{}, err
	}
	number := uint64(53)
	if port != "" {
		if number, err = strconv.ParseUint(port, 10, 16); err != nil || number == 0 {
			return netip.AddrPort{}, ErrResolver
		}
	}
	return netip.AddrPortFrom(address.Unmap(), uint16(number)), nil
}

// FormatAddress writes an address the way the program reads it: ADDRESS#PORT.
func FormatAddress(a netip.AddrPort) string {
	return a.Addr().String() + "#" + strconv.Itoa(int(a.Port()))
}
