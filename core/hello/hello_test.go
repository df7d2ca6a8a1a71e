package hello

import (
	"bytes"
	"cmp"
	"net/netip"
	"slices"
	"testing"

	"github.com/quic-go/quic-go"
	"github.com/stretchr/testify/assert"

	"unquil/core/capture"
	"unquil/lab/labtest"
)

var (
	desk = netip.MustParseAddrPort("192.0.2.21:50000")
	isp  = netip.MustParseAddrPort("198.51.100.53:53")
)

func TestServerName(t *testing.T) {
	other := []byte{0, 43, 0, 3, 2, 3, 4}
	for name, tt := range map[string]struct {
		data []byte
		want string
	}{
		"alone":              {labtest.ClientHello(labtest.ServerNameExtension("dns.tarn.example")), "dns.tarn.example"},
		"behind another":     {labtest.ClientHello(other, labtest.ServerNameExtension("dns.tarn.example")), "dns.tarn.example"},
		"without one":        {labtest.ClientHello(other), ""},
		"not a handshake":    {bytes.Repeat([]byte{23}, 80), ""},
		"cut":                {labtest.ClientHello(labtest.ServerNameExtension("dns.tarn.example"))[:60], ""},
		"nothing":            {nil, ""},
		"a length that lies": {labtest.ClientHello([]byte{0, 0, 0, 9, 0, 7, 0, 0, 200, 'a', 'b', 'c', 'd'}), ""},
	} {
		assert.Equal(t, tt.want, ServerName(tt.data), name)
	}
	whole := labtest.ClientHello(other, labtest.ServerNameExtension("dns.tarn.example"))
	for n := range whole {
		ServerName(whole[:n]) // whatever is missing, it does not panic
	}
}

// The name is found whatever the order of the packets, and nothing is made of less
// than all of it, or of what was changed on the way.
func TestNamesOfQUIC(t *testing.T) {
	first := labtest.QUICOpening(t, "dns.tarn.example", quic.Version1)
	second := slices.Clone(first)
	slices.Reverse(second)
	changed := bytes.Clone(first[0])
	changed[len(changed)-1] ^= 1
	for name, tt := range map[string]struct {
		datagrams [][]byte
		want      string
	}{
		"in order":              {first, "dns.tarn.example"},
		"out of order":          {second, "dns.tarn.example"},
		"one of them twice":     {slices.Insert(slices.Clone(first), 1, first[0]), "dns.tarn.example"},
		"changed":               {[][]byte{changed}, ""},
		"cut":                   {[][]byte{first[0][:40]}, ""},
		"of an unknown version": {[][]byte{append([]byte{0xc0, 9, 9, 9, 9}, first[0][5:]...)}, ""},
	} {
		var h QUIC
		got := ""
		for _, d := range tt.datagrams {
			got = cmp.Or(got, h.ServerName(&capture.Packet{From: capture.EndpointOf(desk), To: capture.EndpointOf(isp), Payload: d}))
		}
		assert.Equal(t, tt.want, got, name)
	}
	var h QUIC
	for i := range 2 * maxHellos {
		h.ServerName(&capture.Packet{From: capture.EndpointOf(netip.AddrPortFrom(desk.Addr(), uint16(i))), To: capture.EndpointOf(isp), Payload: second[0]})
	}
	assert.LessOrEqual(t, len(h.open), maxHellos)
	assert.Len(t, h.order, len(h.open))
}

// FuzzHandshake changes first packets before and behind their protection.
func FuzzHandshake(f *testing.F) {
	for _, d := range labtest.QUICOpening(f, "dns.tarn.example", quic.Version1) {
		f.Add(d)
	}
	f.Add(labtest.ClientHello(labtest.ServerNameExtension("dns.tarn.example")))
	f.Add([]byte{6, 0, 3, 1, 2, 3, 2, 0, 0, 0, 0, 6, 0x40, 3, 1, 9})
	f.Fuzz(func(t *testing.T, data []byte) {
		ServerName(data)
		helloName(data)
		var h QUIC
		h.ServerName(&capture.Packet{From: capture.EndpointOf(desk), To: capture.EndpointOf(isp), Payload: data})
		var parts partialHello
		parts.read(data)
		helloName(parts.whole())
	})
}
