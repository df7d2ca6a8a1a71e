package exchange

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"io"
	"log"
	"math/big"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/wire"
)

// certificate is self-signed for a name and loopback, valid for a day from then on.
func certificate(t testing.TB, name string, from time.Time) (tls.Certificate, *x509.CertPool) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "tarn test authority"}, NotBefore: from, NotAfter: from.Add(24 * time.Hour),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature, DNSNames: []string{name}}
	if name == "" {
		template.DNSNames, template.IPAddresses = nil, []net.IP{net.IPv4(127, 0, 0, 1)}
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	parsed, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	pool := x509.NewCertPool()
	pool.AddCert(parsed)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, pool
}

func tlsServer(t testing.TB, config *tls.Config, serve func(net.Conn)) netip.AddrPort {
	return tcpServer(t, func(c net.Conn) { serve(tls.Server(c, config)) })
}

func TestHandshakesThatFailSayWhereAndWhy(t *testing.T) {
	answering := func(c net.Conn) {
		if query := readQuery(c); query != nil {
			c.Write(good(query))
			io.Copy(io.Discard, c)
		}
	}
	now := time.Now()
	right, trusted := certificate(t, "", now.Add(-time.Hour))
	expired, trustedOld := certificate(t, "", now.Add(-48*time.Hour))
	early, trustedEarly := certificate(t, "", now.Add(time.Hour))
	named, trustedNamed := certificate(t, "dns.tarn.example", now.Add(-time.Hour))
	for _, tt := range []struct {
		name    string
		config  *tls.Config
		cas     *x509.CertPool
		tlsName string
		outcome Outcome
		why     string
		seen    bool // whether what the certificate says is known
	}{
		{"all is well", &tls.Config{Certificates: []tls.Certificate{right}}, trusted, "", Answered, "", true},
		{"all is well, by name", &tls.Config{Certificates: []tls.Certificate{named}}, trustedNamed, "dns.tarn.example", Answered, "", true},
		{"for another name", &tls.Config{Certificates: []tls.Certificate{named}}, trustedNamed, "", Unreachable, `checking the certificate: it is not for "127.0.0.1"`, true},
		{"signed by nobody known", &tls.Config{Certificates: []tls.Certificate{right}}, trustedNamed, "", Unreachable, "checking the certificate: it is not signed by an authority trusted here", true},
		{"expired", &tls.Config{Certificates: []tls.Certificate{expired}}, trustedOld, "", Unreachable, "checking the certificate: it is valid only from", true},
		{"not valid yet", &tls.Config{Certificates: []tls.Certificate{early}}, trustedEarly, "", Unreachable, "checking the certificate: it is valid only from", true},
		{"a version of TLS too old", &tls.Config{Certificates: []tls.Certificate{right}, MaxVersion: tls.VersionTLS11, MinVersion: tls.VersionTLS10}, trusted, "", Unreachable, "TLS handshake: ", false},
	} {
		t.Run(tt.name, func(t *testing.T) {
			client := &Client{Network: Internet{}, Now: time.Now, Options: Options{Wait: patience(tt.outcome), CAs: tt.cas, TLSName: tt.tlsName}}
			defer client.Close()
			e := client.Ask(t.Context(), Server{Address: tlsServer(t, tt.config, answering), Transport: TLS}, question)
			assert.Equal(t, tt.outcome, e.Outcome, "%v", e.Err)
			if tt.why != "" {
				require.ErrorContains(t, e.Err, tt.why)
				require.ErrorAs(t, e.Err, new(*HandshakeError))
			}
			assert.Equal(t, tt.seen, e.Last().Security != nil)
		})
	}
	t.Run("no TLS at all", func(t *testing.T) {
		address := tcpServer(t, func(c net.Conn) { io.WriteString(c, "220 mail.tarn.example ready\r\n"); io.Copy(io.Discard, c) })
		client := &Client{Network: Internet{}, Now: time.Now, Options: Options{Wait: patience(Unreachable), CAs: trusted}}
		e := client.Ask(t.Context(), Server{Address: address, Transport: TLS}, question)
		assert.Equal(t, Unreachable, e.Outcome)
		require.ErrorContains(t, e.Err, "TLS handshake")
	})
	t.Run("a handshake that never ends", func(t *testing.T) {
		address := tcpServer(t, func(c net.Conn) { io.Copy(io.Discard, c) })
		client := &Client{Network: Internet{}, Now: time.Now, Options: Options{Wait: 100 * time.Millisecond, CAs: trusted}}
		for _, over := range []Transport{TLS, HTTPS} {
			e := client.Ask(t.Context(), Server{Address: address, Transport: over, Path: "/"}, question)
			assert.Equal(t, NoReply, e.Outcome, "%s: %v", over, e.Err)
		}
	})
	t.Run("a QUIC server that is deaf", func(t *testing.T) {
		conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
		require.NoError(t, err)
		defer conn.Close()
		client := &Client{Network: Internet{}, Now: time.Now, Options: Options{Wait: 150 * time.Millisecond, CAs: trusted}}
		defer client.Close()
		e := client.Ask(t.Context(), Server{Address: conn.LocalAddr().(*net.UDPAddr).AddrPort(), Transport: QUIC}, question)
		assert.Equal(t, NoReply, e.Outcome, "%v", e.Err)
	})
}

// patience is how long a test waits for an outcome: briefly where silence is the
// point, and otherwise so long that a busy machine does not look like a silent server.
func patience(o Outcome) time.Duration {
	if o == NoReply {
		return 250 * time.Millisecond
	}
	return 20 * time.Second
}

func TestHostileWebServers(t *testing.T) {
	pair, trusted := certificate(t, "", time.Now().Add(-time.Hour))
	body := func(r *http.Request) []byte {
		if r.Method == http.MethodGet {
			query, _ := base64.RawURLEncoding.DecodeString(r.URL.Query().Get("dns"))
			return query
		}
		query, _ := io.ReadAll(r.Body)
		return query
	}
	reply := func(w http.ResponseWriter, data []byte) {
		w.Header().Set("Content-Type", messageType)
		w.Write(data)
	}
	for _, tt := range []struct {
		name    string
		get     bool
		serve   http.HandlerFunc
		outcome Outcome
		why     string
	}{
		{"POST", false, func(w http.ResponseWriter, r *http.Request) {
			if r.Method == http.MethodPost && r.Header.Get("Content-Type") == messageType && r.Header.Get("User-Agent") == "" {
				reply(w, changed(body(r), func(*wire.Message) {}))
			}
		}, Answered, ""},
		{"GET", true, func(w http.ResponseWriter, r *http.Request) { reply(w, changed(body(r), func(*wire.Message) {})) }, Answered, ""},
		{"an error page", false, func(w http.ResponseWriter, r *http.Request) { http.Error(w, "no", http.StatusTeapot) }, Rejection, "HTTP status 418"},
		{"a redirect is not followed", false, func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/elsewhere", http.StatusFound) }, Rejection, "HTTP status 302"},
		{"a page of text", false, func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, "<html>welcome</html>") }, Rejection, "is not a DNS message"},
		{"noise of the right type", false, func(w http.ResponseWriter, r *http.Request) { reply(w, []byte("tarn")) }, Rejection, "ends too soon"},
		{"a megabyte", false, func(w http.ResponseWriter, r *http.Request) { reply(w, make([]byte, 1<<20)) }, Rejection, "longer than 65535"},
		{"a reply to another question", false, func(w http.ResponseWriter, r *http.Request) {
			reply(w, changed(body(r), func(m *wire.Message) { m.Questions[0].Type = wire.TXT }))
		}, Rejection, "a different question"},
		{"silence", false, func(w http.ResponseWriter, r *http.Request) { <-r.Context().Done() }, NoReply, ""},
		{"headers without end", false, func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("X-Tarn", strings.Repeat("y", 1<<20))
			reply(w, nil)
		}, Unreachable, ""},
	} {
		t.Run(tt.name, func(t *testing.T) {
			listener, err := net.Listen("tcp4", "127.0.0.1:0")
			require.NoError(t, err)
			server := &http.Server{Handler: tt.serve, TLSConfig: &tls.Config{Certificates: []tls.Certificate{pair}}, ErrorLog: log.New(io.Discard, "", 0)}
			go server.ServeTLS(listener, "", "")
			defer server.Close()
			client := &Client{Network: Internet{}, Now: time.Now, Options: Options{Wait: patience(tt.outcome), CAs: trusted, HTTPGet: tt.get}}
			defer client.Close()
			e := client.Ask(t.Context(), Server{Address: listener.Addr().(*net.TCPAddr).AddrPort(), Transport: HTTPS, Path: "/dns-query"}, question)
			assert.Equal(t, tt.outcome, e.Outcome, "%v", e.Err)
			if tt.why != "" {
				require.ErrorContains(t, e.Err, tt.why)
			}
			for _, r := range e.Last().Rejected {
				assert.LessOrEqual(t, len(r.Data), maxMessage+1)
			}
		})
	}
}
