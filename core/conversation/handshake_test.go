package conversation

import (
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"encoding/binary"
	"net"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/quic-go/quic-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
)

// hello is a TLS ClientHello with extensions.
func hello(extensions ...[]byte) []byte {
	u16 := func(n int) []byte { return binary.BigEndian.AppendUint16(nil, uint16(n)) }
	all := bytes.Join(extensions, nil)
	body := bytes.Join([][]byte{{3, 3}, make([]byte, 32), {4, 1, 2, 3, 4}, u16(4), {0x13, 1, 0x13, 2}, {1, 0}, u16(len(all)), all}, nil)
	return bytes.Join([][]byte{{22, 3, 1}, u16(len(body) + 4), {1, 0}, u16(len(body)), body}, nil)
}

func named(host string) []byte {
	n := len(host)
	return append([]byte{0, 0, 0, byte(n + 5), 0, byte(n + 3), 0, 0, byte(n)}, host...)
}

func TestServerName(t *testing.T) {
	other := []byte{0, 43, 0, 3, 2, 3, 4}
	for name, tt := range map[string]struct {
		data []byte
		want string
	}{
		"alone":              {hello(named("dns.tarn.example")), "dns.tarn.example"},
		"behind another":     {hello(other, named("dns.tarn.example")), "dns.tarn.example"},
		"without one":        {hello(other), ""},
		"not a handshake":    {bytes.Repeat([]byte{23}, 80), ""},
		"cut":                {hello(named("dns.tarn.example"))[:60], ""},
		"nothing":            {nil, ""},
		"a length that lies": {hello([]byte{0, 0, 0, 9, 0, 7, 0, 0, 200, 'a', 'b', 'c', 'd'}), ""},
	} {
		assert.Equal(t, tt.want, tlsName(tt.data), name)
	}
	whole := hello(other, named("dns.tarn.example"))
	for n := range whole {
		tlsName(whole[:n]) // whatever is missing, it does not panic
	}
}

// What cannot be read is counted, with whom it goes to where the handshake shows it.
func TestEncrypted(t *testing.T) {
	var buf bytes.Buffer
	w, err := capture.NewWriter(&buf, capture.Ethernet)
	require.NoError(t, err)
	at := begin
	connection := func(port, server string, host string) {
		from, to := netip.MustParseAddrPort("192.0.2.21:"+port), netip.MustParseAddrPort(server)
		s := capture.NewStream(from, to)
		for _, frame := range append(s.Open(), s.Append(nil, from, hello(named(host))), s.Append(nil, to, make([]byte, 50))) {
			at = at.Add(5 * time.Millisecond)
			require.NoError(t, w.Packet(at, frame, ""))
		}
	}
	connection("5001", "203.0.113.200:853", "tarn.example")
	connection("5002", "203.0.113.201:443", "dns.tarn.example")
	connection("5003", "203.0.113.202:443", "shop.tarn.example")
	connection("5004", "203.0.113.203:443", "quiet.tarn.example")
	datagrams := func(port, server string, data ...[]byte) {
		for _, d := range data {
			at = at.Add(time.Millisecond)
			require.NoError(t, w.Packet(at, capture.AppendFrame(nil, netip.MustParseAddrPort("192.0.2.21:"+port), netip.MustParseAddrPort(server), d), ""))
		}
	}
	datagrams("5005", "203.0.113.204:853", make([]byte, 60))
	datagrams("5006", "203.0.113.205:853", opening(t, "tarn.example", quic.Version1)...)
	datagrams("5006", "203.0.113.205:853", opening(t, "other.example", quic.Version2)...) // from the same port
	datagrams("5007", "203.0.113.206:443", opening(t, "dns.tarn.example", quic.Version2)...)
	datagrams("5008", "203.0.113.207:443", opening(t, "shop.tarn.example", quic.Version1)...)
	r, err := capture.NewReader(&buf)
	require.NoError(t, err)
	o, err := Read(t.Context(), []*capture.Reader{r}, Options{HTTPS: []string{"quiet.tarn.example"}})
	require.NoError(t, err)
	var got []string
	for _, e := range o.Encrypted {
		got = append(got, string(e.Over)+" "+e.Server.String()+" "+string(cmp.Or(e.Host, "-")))
	}
	assert.Equal(t, []string{"tls 203.0.113.200:853 tarn.example", "https 203.0.113.201:443 dns.tarn.example", "https 203.0.113.203:443 quiet.tarn.example", "quic 203.0.113.204:853 -",
		"quic 203.0.113.205:853 tarn.example", "https 203.0.113.206:443 dns.tarn.example"}, got)
	assert.Positive(t, o.Encrypted[0].Handshake)
	assert.Zero(t, o.Exchanges)
}

// opening is what a QUIC client sends to a server that says nothing, as far as its
// first flight goes: a ClientHello that does not fit one packet.
func opening(t testing.TB, host string, version quic.Version) (datagrams [][]byte) {
	silent, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	defer silent.Close()
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	go quic.DialAddr(ctx, silent.LocalAddr().String(), &tls.Config{ServerName: host, NextProtos: []string{"doq"}}, &quic.Config{Versions: []quic.Version{version}})
	buf := make([]byte, 2000)
	for len(datagrams) < 2 {
		require.NoError(t, silent.SetReadDeadline(time.Now().Add(20*time.Second)))
		n, err := silent.Read(buf)
		require.NoError(t, err)
		datagrams = append(datagrams, bytes.Clone(buf[:n]))
	}
	return datagrams
}

// The name is found whatever the order of the packets, and nothing is made of less
// than all of it, or of what was changed on the way.
func TestNamesOfQUIC(t *testing.T) {
	first := opening(t, "dns.tarn.example", quic.Version1)
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
		var h hellos
		got := ""
		for _, d := range tt.datagrams {
			got = cmp.Or(got, h.name(&capture.Packet{From: capture.EndOf(desk), To: capture.EndOf(isp), Payload: d}))
		}
		assert.Equal(t, tt.want, got, name)
	}
	var h hellos
	for i := range 2 * maxHellos {
		h.name(&capture.Packet{From: capture.EndOf(netip.AddrPortFrom(desk.Addr(), uint16(i))), To: capture.EndOf(isp), Payload: second[0]})
	}
	assert.LessOrEqual(t, len(h.open), maxHellos)
	assert.Len(t, h.order, len(h.open))
}

// FuzzHandshake changes first packets before and behind their protection.
func FuzzHandshake(f *testing.F) {
	for _, d := range opening(f, "dns.tarn.example", quic.Version1) {
		f.Add(d)
	}
	f.Add(hello(named("dns.tarn.example")))
	f.Add([]byte{6, 0, 3, 1, 2, 3, 2, 0, 0, 0, 0, 6, 0x40, 3, 1, 9})
	f.Fuzz(func(t *testing.T, data []byte) {
		tlsName(data)
		helloName(data)
		var h hellos
		h.name(&capture.Packet{From: capture.EndOf(desk), To: capture.EndOf(isp), Payload: data})
		var parts partialHello
		parts.read(data)
		helloName(parts.whole())
	})
}
