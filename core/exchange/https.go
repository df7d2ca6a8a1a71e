package exchange

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/netip"
	"net/url"
	"sync/atomic"
	"time"

	"unquil/core/wire"
)

// web is the HTTP client for one server; it keeps the server's connections.
type web struct {
	transport *http.Transport
	client    http.Client
	security  atomic.Pointer[Security]
}

func newWeb(c *Client, server Server, o Options) *web {
	w := &web{}
	w.transport = &http.Transport{
		TLSClientConfig:   tlsConfig(server, o, &w.security, c.Now, "h2", "http/1.1"),
		ForceAttemptHTTP2: true,
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return c.Network.Stream(ctx, server.Address)
		},
		MaxResponseHeaderBytes: 64 << 10,
		TLSHandshakeTimeout:    o.wait() + time.Second, // the question ends before; the connection must too
		IdleConnTimeout:        idleStream,
	}
	w.client = http.Client{Transport: w.transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	return w
}

// drop gives up the connections to a server that failed: one that hangs would be used again.
func (w *web) drop(c *Client, server Server) {
	forget(c, c.webs, server, w)
	w.transport.CloseIdleConnections()
}

const messageType = "application/dns-message" // RFC 8484 §6

func overHTTPS(ctx context.Context, c *Client, a *Attempt, server Server, query *wire.Message, o Options) (_ *wire.Message, err error) {
	if o.ID == nil {
		query.ID = 0 // the same question then is the same request (RFC 8484 §4.1)
	}
	if a.Query, err = query.Bytes(); err != nil {
		return nil, err
	}
	var local atomic.Pointer[netip.AddrPort] // told by a goroutine of the transport
	w := kept(c, &c.webs, server, func() *web { return newWeb(c, server, o) })
	request, err := newRequest(ctx, server, a.Query, o.HTTPGet)
	if err != nil {
		return nil, err
	}
	a.Sent = c.Now()
	request = request.WithContext(httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{GotConn: func(got httptrace.GotConnInfo) {
		local.Store(new(localAddress(got.Conn.LocalAddr())))
	}}))
	response, err := w.client.Do(request)
	if conn := local.Load(); conn != nil {
		a.Local = *conn
	}
	a.Security = w.security.Load()
	if err != nil {
		w.drop(c, server)
		if cause, ok := errors.AsType[*url.Error](err); ok {
			err = cause.Err // without the URL, which is the program's own
		}
		if known, ok := errors.AsType[*HandshakeError](err); ok {
			err = known
		}
		return nil, fmt.Errorf("asking over HTTPS: %w", err)
	}
	defer response.Body.Close()
	data, err := io.ReadAll(io.LimitReader(response.Body, maxMessage+1))
	now := c.Now()
	var m *wire.Message
	if err != nil {
		w.drop(c, server)
	} else if err = acceptable(response, data); err == nil {
		m, err = believe(data, query)
	}
	switch {
	case err != nil && ctx.Err() != nil && len(data) > 0: // a server that sees us go may end its reply in good order
		err = fmt.Errorf("%w (%d bytes of it)", ErrDripping, len(data))
		a.reject(now, server.Address, data, err)
		return nil, err
	case err != nil:
		a.reject(now, server.Address, data, err)
		return nil, fmt.Errorf("%w: %w", errNotBelieved, err)
	}
	a.Received, a.Reply = now, data
	return m, nil
}

func newRequest(ctx context.Context, server Server, query []byte, get bool) (*http.Request, error) {
	address := url.URL{Scheme: "https", Host: server.Address.String(), Path: server.Path}
	if server.TLSName != "" {
		address.Host = net.JoinHostPort(server.TLSName, fmt.Sprint(server.Address.Port()))
	}
	method, body := http.MethodPost, io.Reader(bytes.NewReader(query))
	if get {
		method, body = http.MethodGet, nil
		address.RawQuery = "dns=" + base64.RawURLEncoding.EncodeToString(query)
	}
	request, err := http.NewRequestWithContext(ctx, method, address.String(), body)
	if err != nil {
		return nil, err
	}
	request.Header.Set("Accept", messageType)
	request.Header.Set("User-Agent", "")
	if !get {
		request.Header.Set("Content-Type", messageType)
	}
	return request, nil
}

// acceptable says what is wrong with an HTTP response that should hold a message.
// StatusError is what a web server says in place of an answer.
type StatusError int

func (e StatusError) Error() string {
	return fmt.Sprintf("HTTP status %d (%s)", int(e), http.StatusText(int(e)))
}

func acceptable(response *http.Response, data []byte) error {
	switch {
	case response.StatusCode != http.StatusOK:
		return StatusError(response.StatusCode)
	case response.Header.Get("Content-Type") != messageType:
		return errors.New("the HTTP response is not a DNS message, judging by its content type")
	case len(data) > maxMessage:
		return wire.ErrMessageSize
	}
	return nil
}
