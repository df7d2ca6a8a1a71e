package exchange

import (
	"crypto/tls"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A server that hung and does so no more is seen as healed with the next question, over
// every transport that keeps connections; and what hung is let go of.
func TestHealedServersAreSeenAtOnce(t *testing.T) {
	mine, trusted := certificate(t, "", time.Now().Add(-time.Hour))
	var hangs atomic.Bool
	var open atomic.Int64
	hangs.Store(true)
	stop := make(chan struct{})
	defer close(stop)
	serve := func(c net.Conn) {
		open.Add(1)
		defer open.Add(-1)
		hung := hangs.Load() // and goes on hanging
		for query := readQuery(c); query != nil; query = readQuery(c) {
			if hung {
				io.Copy(io.Discard, c)
				return
			}
			c.Write(good(query))
		}
	}
	web := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		open.Add(1)
		defer open.Add(-1)
		query, _ := io.ReadAll(r.Body)
		if hangs.Load() {
			select {
			case <-r.Context().Done():
			case <-stop:
			}
			return
		}
		w.Header().Set("Content-Type", messageType)
		w.Write(good(query)[2:])
	}))
	web.TLS = &tls.Config{Certificates: []tls.Certificate{mine}}
	web.EnableHTTP2 = true
	web.StartTLS()
	defer web.Close()
	for over, address := range map[Transport]netip.AddrPort{TCP: tcpServer(t, serve), TLS: tlsServer(t, &tls.Config{Certificates: []tls.Certificate{mine}}, serve), HTTPS: netip.MustParseAddrPort(web.Listener.Addr().String())} {
		t.Run(string(over), func(t *testing.T) {
			hangs.Store(true)
			client := &Client{Network: Internet{}, Now: time.Now, Options: Options{Wait: 200 * time.Millisecond, CAs: trusted}}
			defer client.Close()
			server := Server{Address: address, Transport: over, Path: "/"}
			for range 3 {
				assert.Equal(t, NoReply, client.Ask(t.Context(), server, question).Outcome)
			}
			hangs.Store(false)
			client.Options.Wait = 20 * time.Second
			e := client.Ask(t.Context(), server, question)
			assert.Equal(t, Answered, e.Outcome, "%v", e.Err)
			client.Close()
			require.Eventually(t, func() bool { return open.Load() == 0 }, 20*time.Second, 10*time.Millisecond, "nothing stays open")
		})
	}
}

// Handshakes that never end let go of their connections.
func TestHandshakesThatNeverEndAreGivenUp(t *testing.T) {
	_, trusted := certificate(t, "", time.Now())
	var open atomic.Int64
	address := tcpServer(t, func(c net.Conn) {
		open.Add(1)
		defer open.Add(-1)
		io.Copy(io.Discard, c)
	})
	client := &Client{Network: Internet{}, Now: time.Now, Options: Options{Wait: 50 * time.Millisecond, CAs: trusted}}
	for range 5 {
		for _, over := range []Transport{TLS, HTTPS} {
			assert.Equal(t, NoReply, client.Ask(t.Context(), Server{Address: address, Transport: over, Path: "/"}, question).Outcome)
		}
	}
	require.Eventually(t, func() bool { return open.Load() == 0 }, 20*time.Second, 10*time.Millisecond, "before anybody closes the client")
}

// A reply that comes byte by byte is slow, and no silence.
func TestDrippingReplies(t *testing.T) {
	mine, trusted := certificate(t, "", time.Now().Add(-time.Hour))
	web := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		query, _ := io.ReadAll(r.Body)
		w.Header().Set("Content-Type", messageType)
		for _, c := range good(query)[2:] {
			w.Write([]byte{c})
			w.(http.Flusher).Flush()
			select {
			case <-r.Context().Done():
				return
			case <-time.After(50 * time.Millisecond):
			}
		}
	}))
	web.TLS = &tls.Config{Certificates: []tls.Certificate{mine}}
	web.StartTLS()
	defer web.Close()
	client := &Client{Network: Internet{}, Now: time.Now, Options: Options{Wait: 300 * time.Millisecond, CAs: trusted}}
	defer client.Close()
	e := client.Ask(t.Context(), Server{Address: netip.MustParseAddrPort(web.Listener.Addr().String()), Transport: HTTPS, Path: "/"}, question)
	assert.Equal(t, NoReply, e.Outcome)
	require.ErrorIs(t, e.Err, ErrDripping)
	require.Len(t, e.Attempts[0].Rejected, 1)
	assert.NotEmpty(t, e.Attempts[0].Rejected[0].Data, "what came is evidence")
}
