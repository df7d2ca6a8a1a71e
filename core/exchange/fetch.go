package exchange

import (
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"time"

	"unquil/core/escape"
)

// Wanted is a document that a web server is asked for, over HTTPS. No redirect is followed.
type Wanted struct {
	URL     *url.URL
	Address netip.Addr // of its host, whose name the certificate has to have
	Accept  string     // media types; "" for any
	Tag     string     // entity tag of what is there already; "" for nothing
	Most    int        // bytes that it may have
}

// Fetched is what a web server gave.
type Fetched struct {
	Status   int
	Kind     string // its media type, in lower case
	To       string // where it redirects; "" for nowhere
	Body     []byte // of status 200
	Tag      string // entity tag
	Fresh    time.Duration
	Later    time.Duration // that it asks to wait (Retry-After); 0 where it does not say
	Security *Security     // nil before a certificate was seen
}

// Why a document is not had.
var (
	ErrLate     = errors.New("it does not answer in time")
	ErrRedirect = errors.New("the server redirects to another address")
	ErrNotPlain = errors.New("it is not plain text")
	ErrPageSize = errors.New("it is longer than such a text may be")
)

// Fetch asks for a document. The error says at which step it failed.
func (c *Client) Fetch(ctx context.Context, wanted Wanted) (Fetched, error) {
	host := wanted.URL.Hostname()
	o := c.Options
	o.TLSName = host
	whole := ctx
	ctx, stop := context.WithTimeout(ctx, 3*o.wait())
	defer stop()
	port := uint16(443)
	if text := wanted.URL.Port(); text != "" {
		n, err := strconv.ParseUint(text, 10, 16)
		if err != nil {
			return Fetched{}, err
		}
		port = uint16(n)
	}
	w := newWeb(c, Server{Address: netip.AddrPortFrom(wanted.Address, port), Transport: HTTPS, TLSName: host}, o)
	defer w.transport.CloseIdleConnections()
	w.transport.DisableCompression = true // what a small text unpacks to has no bound
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, wanted.URL.String(), nil)
	if err != nil {
		return Fetched{}, err
	}
	request.Header.Set("User-Agent", "")
	if wanted.Accept != "" {
		request.Header.Set("Accept", wanted.Accept)
	}
	if wanted.Tag != "" {
		request.Header.Set("If-None-Match", wanted.Tag)
	}
	response, err := w.client.Do(request)
	got := Fetched{Security: w.security.Load()}
	if err != nil {
		if cause, ok := errors.AsType[*url.Error](err); ok {
			err = cause.Err
		}
		if known, ok := errors.AsType[*HandshakeError](err); ok {
			err = known
		}
		if ctx.Err() != nil && whole.Err() == nil {
			err = ErrLate
		}
		return got, err
	}
	defer response.Body.Close()
	got.Status, got.To, got.Tag = response.StatusCode, response.Header.Get("Location"), response.Header.Get("ETag")
	got.Kind, _, _ = mime.ParseMediaType(response.Header.Get("Content-Type"))
	got.Fresh, got.Later = freshness(response.Header, c.Now()), retryAfter(response.Header, c.Now())
	if got.Status != http.StatusOK {
		return got, nil
	}
	got.Body, err = io.ReadAll(io.LimitReader(response.Body, int64(wanted.Most)+1))
	switch {
	case err != nil && ctx.Err() != nil:
		return got, fmt.Errorf("%w (%d bytes of it)", ErrDripping, len(got.Body))
	case err != nil:
		return got, err
	case len(got.Body) > wanted.Most:
		return got, ErrPageSize
	}
	return got, nil
}

// freshness is for how long a document may be used again without asking (RFC 9111 §4.2.1).
func freshness(h http.Header, now time.Time) time.Duration {
	for directive := range strings.SplitSeq(h.Get("Cache-Control"), ",") {
		name, value, _ := strings.Cut(strings.TrimSpace(directive), "=")
		switch strings.ToLower(name) {
		case "no-store", "no-cache":
			return 0
		case "max-age":
			if seconds, err := strconv.ParseUint(value, 10, 31); err == nil {
				return time.Duration(seconds) * time.Second
			}
		}
	}
	if expires, err := http.ParseTime(h.Get("Expires")); err == nil {
		return max(expires.Sub(now), 0)
	}
	return 0
}

// retryAfter is how long a server asks to wait (RFC 9110 §10.2.3).
func retryAfter(h http.Header, now time.Time) time.Duration {
	text := h.Get("Retry-After")
	if seconds, err := strconv.ParseUint(text, 10, 31); err == nil {
		return time.Duration(seconds) * time.Second
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(at.Sub(now), 0)
	}
	return 0
}

// Page is a small text that a web server gives over HTTPS.
type Page struct {
	Text     string
	Security *Security // nil before a certificate was seen
}

// Page fetches a text of at most some bytes from a host at an address, with a certificate for
// that host. It follows no redirect. The error says at which step it failed.
func (c *Client) Page(ctx context.Context, host string, address netip.Addr, path string, most int) (Page, error) {
	got, err := c.Fetch(ctx, Wanted{URL: &url.URL{Scheme: "https", Host: host, Path: path}, Address: address, Most: most})
	page := Page{Security: got.Security}
	switch {
	case err != nil:
		return page, err
	case got.Status >= 300 && got.Status < 400:
		return page, fmt.Errorf("%w (%s)", ErrRedirect, escape.Of(got.To))
	case got.Status != http.StatusOK:
		return page, StatusError(got.Status)
	case got.Kind != "text/plain":
		return page, fmt.Errorf("%w (%s)", ErrNotPlain, escape.Of(got.Kind))
	}
	page.Text = string(got.Body)
	return page, nil
}
