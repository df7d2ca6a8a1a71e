package labtest

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/binary"
	"net"
	"testing"
	"time"

	"github.com/quic-go/quic-go"
	"github.com/stretchr/testify/require"
)

// ClientHello is a TLS ClientHello with extensions.
func ClientHello(extensions ...[]byte) []byte {
	u16 := func(n int) []byte { return binary.BigEndian.AppendUint16(nil, uint16(n)) }
	all := bytes.Join(extensions, nil)
	body := bytes.Join([][]byte{{3, 3}, make([]byte, 32), {4, 1, 2, 3, 4}, u16(4), {0x13, 1, 0x13, 2}, {1, 0}, u16(len(all)), all}, nil)
	return bytes.Join([][]byte{{22, 3, 1}, u16(len(body) + 4), {1, 0}, u16(len(body)), body}, nil)
}

// ServerNameExtension is the extension that names the host (RFC 6066 §3).
func ServerNameExtension(host string) []byte {
	n := len(host)
	return append([]byte{0, 0, 0, byte(n + 5), 0, byte(n + 3), 0, 0, byte(n)}, host...)
}

// QUICOpening is what a QUIC client sends to a server that says nothing, as far as its
// first flight goes: a ClientHello that does not fit one packet.
func QUICOpening(t testing.TB, host string, version quic.Version) (datagrams [][]byte) {
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
