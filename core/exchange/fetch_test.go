package exchange

import (
	"context"
	"crypto/x509"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFreshnessAndPauses(t *testing.T) {
	now := time.Date(2026, 3, 9, 8, 0, 0, 0, time.UTC)
	for _, tt := range []struct {
		header       http.Header
		fresh, later time.Duration
	}{
		{http.Header{}, 0, 0},
		{http.Header{"Cache-Control": {"public, max-age=3600"}}, time.Hour, 0},
		{http.Header{"Cache-Control": {"Max-Age=60"}, "Expires": {"Mon, 09 Mar 2026 10:00:00 GMT"}}, time.Minute, 0},
		{http.Header{"Cache-Control": {"no-store, max-age=3600"}}, 0, 0},
		{http.Header{"Cache-Control": {"max-age=soon"}, "Expires": {"Mon, 09 Mar 2026 09:00:00 GMT"}}, time.Hour, 0},
		{http.Header{"Expires": {"Mon, 09 Mar 2026 07:00:00 GMT"}}, 0, 0},
		{http.Header{"Expires": {"0"}}, 0, 0},
		{http.Header{"Retry-After": {"120"}}, 0, 2 * time.Minute},
		{http.Header{"Retry-After": {"Mon, 09 Mar 2026 08:00:30 GMT"}}, 0, 30 * time.Second},
		{http.Header{"Retry-After": {"-5"}}, 0, 0},
		{http.Header{"Retry-After": {"99999999999999999999"}}, 0, 0},
	} {
		assert.Equal(t, tt.fresh, freshness(tt.header, now), tt.header)
		assert.Equal(t, tt.later, retryAfter(tt.header, now), tt.header)
	}
}

// What a web server gives is taken as it is, bounded, and without going anywhere else.
func TestFetch(t *testing.T) {
	mux := http.NewServeMux()
	mux.HandleFunc("/text", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("ETag", `"7"`)
		if r.Header.Get("If-None-Match") == `"7"` {
			w.WriteHeader(http.StatusNotModified)
			return
		}
		w.Header().Set("Content-Type", "Text/Plain; charset=utf-8")
		io.WriteString(w, "hello, "+r.Header.Get("Accept")+r.Header.Get("User-Agent"))
	})
	mux.HandleFunc("/html", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		io.WriteString(w, "<p>")
	})
	mux.HandleFunc("/moved", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "/text", http.StatusMovedPermanently)
	})
	mux.HandleFunc("/gone", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusGone) })
	mux.HandleFunc("/long", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/plain")
		io.WriteString(w, strings.Repeat("x", 2000))
	})
	mux.HandleFunc("/drip", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/plain")
		for r.Context().Err() == nil {
			if _, err := io.WriteString(w, "x"); err != nil {
				return
			}
			w.(http.Flusher).Flush()
			time.Sleep(20 * time.Millisecond)
		}
	})
	server := httptest.NewTLSServer(mux)
	defer server.Close()
	pool := x509.NewCertPool()
	pool.AddCert(server.Certificate())
	client := &Client{Network: Internet{}, Now: time.Now, Options: Options{Wait: 300 * time.Millisecond, CAs: pool}}
	defer client.Close()
	at, err := url.Parse(server.URL)
	require.NoError(t, err)
	local := netip.MustParseAddr("127.0.0.1")
	fetch := func(ctx context.Context, path, tag string) (Fetched, error) {
		return client.Fetch(ctx, Wanted{URL: at.JoinPath(path), Address: local, Accept: "a/b", Tag: tag, Most: 1000})
	}
	got, err := fetch(t.Context(), "/text", "")
	require.NoError(t, err)
	assert.Equal(t, "hello, a/b", string(got.Body), "who asks is not told")
	assert.Equal(t, []any{200, "text/plain", `"7"`}, []any{got.Status, got.Kind, got.Tag})
	assert.NotNil(t, got.Security)
	for path, status := range map[string]int{"/moved": 301, "/gone": 410, "/none": 404} {
		got, err := fetch(t.Context(), path, "")
		assert.NoError(t, err, path)
		assert.Equal(t, status, got.Status, path)
		assert.Empty(t, got.Body, path)
	}
	got, err = fetch(t.Context(), "/text", `"7"`)
	assert.NoError(t, err)
	assert.Equal(t, http.StatusNotModified, got.Status)
	_, err = fetch(t.Context(), "/long", "")
	assert.ErrorIs(t, err, ErrPageSize)
	_, err = fetch(t.Context(), "/drip", "")
	assert.ErrorIs(t, err, ErrDripping)
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = fetch(ended, "/text", "")
	assert.ErrorIs(t, err, context.Canceled)
	client.Options.CAs = nil
	_, err = fetch(t.Context(), "/text", "")
	var handshake *HandshakeError
	assert.ErrorAs(t, err, &handshake, "of a certificate that nobody vouches for")
}
