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

	"unquil/core/escape"
)

// Page is a small text that a web server gives over HTTPS.
type Page struct {
	Text     string
	Security *Security // nil before a certificate was seen
}

// Why a page is not had.
var (
	ErrRedirect = errors.New("the server redirects to another address")
	ErrNotPlain = errors.New("it is not plain text")
	ErrPageSize = errors.New("it is longer than such a text may be")
)

// Page fetches a text of at most some bytes from a host at an address, with a certificate for
// that host. It follows no redirect. The error says at which step it failed.
func (c *Client) Page(ctx context.Context, host string, address netip.Addr, path string, most int) (Page, error) {
	o := c.Options
	o.TLSName = host
	ctx, stop := context.WithTimeout(ctx, 3*o.wait())
	defer stop()
	w := newWeb(c, Server{Address: netip.AddrPortFrom(address, 443), Transport: HTTPS, TLSName: host}, o)
	defer w.transport.CloseIdleConnections()
	w.transport.DisableCompression = true // what a small text unpacks to has no bound
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, (&url.URL{Scheme: "https", Host: host, Path: path}).String(), nil)
	if err != nil {
		return Page{}, err
	}
	request.Header.Set("User-Agent", "")
	response, err := w.client.Do(request)
	page := Page{Security: w.security.Load()}
	if err != nil {
		if cause, ok := errors.AsType[*url.Error](err); ok {
			err = cause.Err
		}
		if known, ok := errors.AsType[*HandshakeError](err); ok {
			err = known
		}
		return page, err
	}
	defer response.Body.Close()
	switch kind, _, _ := mime.ParseMediaType(response.Header.Get("Content-Type")); {
	case response.StatusCode >= 300 && response.StatusCode < 400:
		return page, fmt.Errorf("%w (%s)", ErrRedirect, escape.Of(response.Header.Get("Location")))
	case response.StatusCode != http.StatusOK:
		return page, StatusError(response.StatusCode)
	case kind != "text/plain":
		return page, fmt.Errorf("%w (%s)", ErrNotPlain, escape.Of(response.Header.Get("Content-Type")))
	}
	text, err := io.ReadAll(io.LimitReader(response.Body, int64(most)+1))
	switch {
	case err != nil && ctx.Err() != nil:
		return page, fmt.Errorf("%w (%d bytes of it)", ErrDripping, len(text))
	case err != nil:
		return page, err
	case len(text) > most:
		return page, ErrPageSize
	}
	page.Text = string(text)
	return page, nil
}
