package live

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/netip"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/serverlog"
	"unquil/core/wire"
)

// tapped is a stream of dnstap with so many questions and their replies.
func tapped(t *testing.T, exchanges int) []byte {
	var b bytes.Buffer
	w, err := serverlog.NewDnstapWriter(&b, "office")
	require.NoError(t, err)
	client, server := netip.MustParseAddrPort("192.0.2.21:50000"), netip.MustParseAddrPort("192.0.2.53:53")
	for i := range exchanges {
		m := wire.Message{ID: uint16(i), Questions: []wire.Question{{Name: wire.MustParseName("www.hollowtarn.example."), Type: wire.A, Class: wire.IN}}}
		query, err := m.Bytes()
		require.NoError(t, err)
		m.Flags = wire.QR
		reply, err := m.Bytes()
		require.NoError(t, err)
		require.NoError(t, w.Message(&serverlog.Message{At: int64(i) + 1, From: client, To: server, Data: query}, serverlog.Client, false))
		require.NoError(t, w.Message(&serverlog.Message{At: int64(i) + 2, From: server, To: client, Data: reply}, serverlog.Client, true))
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

// Many servers are heard at once, each whole; what ends in the middle or says something else is told of, and who stays
// silent is turned away when all is over.
func TestServers(t *testing.T) {
	socket := filepath.Join(t.TempDir(), "s")
	if len(socket) > 100 {
		t.Skip("the path of a socket has to be short")
	}
	listener, err := net.Listen("unix", socket)
	require.NoError(t, err)
	tap := ListenToServers(listener, "unix:s")
	assert.Equal(t, []Interface{{Name: "unix:s", Link: capture.Ethernet}}, tap.Interfaces())
	dial := func() net.Conn {
		conn, err := net.Dial("unix", socket)
		require.NoError(t, err)
		return conn
	}
	const senders, each = 8, 500
	whole := tapped(t, each)
	answers := make(chan string, senders)
	for range senders {
		go func() {
			conn := dial()
			defer conn.Close()
			conn.Write(whole)
			finish, _ := io.ReadAll(io.LimitReader(conn, 12))
			answers <- fmt.Sprintf("%x", finish)
		}()
	}
	cut, stranger, silent := dial(), dial(), dial()
	cut.Write(whole[:len(whole)/2+1])
	cut.Close()
	stranger.Write([]byte("EHLO office\r\n"))
	numbers := map[uint16]int{}
	heard := 0
	for until := time.Now().Add(20 * time.Second); heard < senders*each*2 && time.Now().Before(until); {
		require.NoError(t, tap.Receive(50*time.Millisecond, func(p *Packet) {
			assert.Equal(t, capture.Served, p.Link)
			heard++
			numbers[binary.BigEndian.Uint16(p.Data[38:])]++
		}))
	}
	assert.GreaterOrEqual(t, heard, senders*each*2)
	assert.Len(t, numbers, each)
	for range senders {
		assert.Equal(t, "000000000000000400000005", <-answers, "each is told that it is done")
	}
	require.Eventually(t, func() bool { return len(tap.Troubles()) == 2 }, 5*time.Second, 10*time.Millisecond)
	troubles := strings.Join(tap.Troubles(), "\n")
	assert.Contains(t, troubles, "the file ends in the middle of a record")
	assert.Contains(t, troubles, "frame at byte 0")
	lost, err := tap.Lost()
	assert.NoError(t, err)
	assert.Zero(t, lost)
	require.NoError(t, tap.Close())
	_, err = silent.Read(make([]byte, 1))
	assert.Error(t, err, "nobody waits for ever")
}

// More senders than there is room for are turned away.
func TestServersHaveABound(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	tap := ListenToServers(listener, "tcp")
	for range maxSenders + 3 {
		conn, err := net.Dial("tcp", listener.Addr().String())
		require.NoError(t, err)
		defer conn.Close()
	}
	require.Eventually(t, func() bool { return len(tap.Troubles()) == 3 }, 5*time.Second, 10*time.Millisecond)
	require.NoError(t, tap.Close())
}
