package capture

import (
	"encoding/binary"
	"net/netip"
)

// Endpoint is one end of a packet's way: the address and port of a host. It is a small plain
// value without a pointer, since every packet of a capture has two of them. The zero
// Endpoint is none; == tells two of them apart.
type Endpoint struct {
	high, low uint64 // of the address; of IPv4 low alone
	port      uint16
	family    uint8 // 4 or 6, as the version of IP; 0: no address
}

// at is the same host at a port.
func (e Endpoint) at(port uint16) Endpoint {
	e.port = port
	return e
}

// EndpointOf is the end that an address and a port make, without a zone.
func EndpointOf(a netip.AddrPort) Endpoint {
	switch ip := a.Addr(); {
	case ip.Is4():
		b := ip.As4()
		return host4(b[:]).at(a.Port())
	case ip.Is6():
		b := ip.As16()
		return host6(b[:]).at(a.Port())
	}
	return Endpoint{port: a.Port()}
}

// host4 and host6 are the hosts with the address that stands in ip.
func host4(ip []byte) Endpoint { return Endpoint{low: uint64(binary.BigEndian.Uint32(ip)), family: 4} }

func host6(ip []byte) Endpoint {
	return Endpoint{high: binary.BigEndian.Uint64(ip), low: binary.BigEndian.Uint64(ip[8:]), family: 6}
}

// Addr is the host's address; the zero Addr of none.
func (e Endpoint) Addr() netip.Addr {
	var b [16]byte
	binary.BigEndian.PutUint64(b[:], e.high)
	binary.BigEndian.PutUint64(b[8:], e.low)
	switch e.family {
	case 4:
		return netip.AddrFrom4([4]byte(b[12:]))
	case 6:
		return netip.AddrFrom16(b)
	}
	return netip.Addr{}
}

// Port is the port.
func (e Endpoint) Port() uint16 { return e.port }

// AddrPort is both.
func (e Endpoint) AddrPort() netip.AddrPort { return netip.AddrPortFrom(e.Addr(), e.port) }

// Host is the same host, whatever the port: with port 0.
func (e Endpoint) Host() Endpoint { return e.at(0) }

// Words are the end as numbers, the same for the same end: to be hashed.
func (e Endpoint) Words() (high, low uint64, port uint16) { return e.high, e.low, e.port }

func (e Endpoint) String() string { return e.AddrPort().String() }
