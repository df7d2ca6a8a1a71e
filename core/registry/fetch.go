package registry

import (
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/wire"
)

// name lets the host of a place be anywhere, where who asks chose it.
func (a *Asker) name(place string) {
	at, err := url.Parse(place)
	if err != nil || !a.Own {
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.named == nil {
		a.named = map[string]bool{}
	}
	a.named[strings.ToLower(at.Hostname())] = true
}

// get fetches a document, following redirects to other registries.
func (a *Asker) get(ctx context.Context, from, accept, tag string, most int) (got exchange.Fetched, err error) {
	at, err := url.Parse(from)
	if err != nil {
		return got, ErrScheme
	}
	for range maxRedirects {
		if got, err = a.step(ctx, at, accept, tag, most); err != nil {
			return got, err
		}
		if got.Status < 300 || got.Status >= 400 || got.Status == http.StatusNotModified {
			return got, nil
		}
		to, err := at.Parse(got.To)
		if err != nil || got.To == "" {
			return got, exchange.StatusError(got.Status)
		}
		at = to
	}
	return got, ErrRounds
}

// step asks one server once, or again where it asks for a short pause.
func (a *Asker) step(ctx context.Context, at *url.URL, accept, tag string, most int) (got exchange.Fetched, err error) {
	if at.Scheme != "https" || at.Hostname() == "" || at.User != nil {
		return got, ErrScheme
	}
	name := strings.ToLower(at.Hostname())
	h := a.host(name)
	select {
	case h.turn <- struct{}{}:
		defer func() { <-h.turn }()
	case <-ctx.Done():
		return got, ctx.Err()
	}
	a.mu.Lock()
	busy := h.busy
	a.mu.Unlock()
	if busy != nil {
		return got, about(name, busy)
	}
	addresses, err := a.addresses(ctx, name)
	if err != nil {
		return got, about(name, err)
	}
	for again := range 2 {
		for _, address := range addresses {
			got, err = a.Client.Fetch(ctx, exchange.Wanted{URL: at, Address: address, Accept: accept, Tag: tag, Most: most})
			if err == nil || ctx.Err() != nil {
				break
			}
		}
		if err != nil || got.Status != http.StatusTooManyRequests {
			break
		}
		if again > 0 || got.Later == 0 || got.Later > maxPause {
			err = BusyError{got.Later}
			a.mu.Lock()
			h.busy = err
			a.mu.Unlock()
			break
		}
		select {
		case <-time.After(got.Later):
		case <-ctx.Done():
			return got, ctx.Err()
		}
	}
	if err != nil {
		err = about(name, err)
	}
	return got, err
}

func about(host string, err error) error { return fmt.Errorf("%s: %w", escape.Of(host), err) }

// addresses are those of a registry's host that it can have: a link or a redirect may name
// anything.
func (a *Asker) addresses(ctx context.Context, host string) ([]netip.Addr, error) {
	var all []netip.Addr
	a.mu.Lock()
	named := a.named[host]
	a.mu.Unlock()
	if literal, err := netip.ParseAddr(host); err == nil {
		all = []netip.Addr{literal}
	} else if named && host == "localhost" { // RFC 6761 §6.3
		all = []netip.Addr{netip.AddrFrom4([4]byte{127, 0, 0, 1}), netip.IPv6Loopback()}
	} else {
		name, err := wire.ParseName(host)
		if err != nil || name.Labels() < 2 {
			return nil, ErrNoHost
		}
		if all = a.LookUp(ctx, name); len(all) == 0 {
			return nil, ErrNoHost
		}
	}
	if !named {
		all = slices.DeleteFunc(slices.Clone(all), func(address netip.Addr) bool { return !Public(address) })
	}
	if len(all) == 0 {
		return nil, ErrInside
	}
	return all[:min(len(all), maxTried)], nil
}

// Public reports whether an address can be anybody's on the internet: registries are asked
// about such alone, and at such alone.
func Public(a netip.Addr) bool {
	a = a.Unmap()
	return a.IsGlobalUnicast() && !a.IsPrivate() && !shared.Contains(a)
}

// shared is for carriers inside their own networks (RFC 6598).
var shared = netip.MustParsePrefix("100.64.0.0/10")

const mediaType = "application/rdap+json" // RFC 7480 §4.2

// object asks a registry for one object (RFC 9082 §3.1).
func (a *Asker) object(ctx context.Context, base, path string) (Source, error) {
	at, err := url.Parse(base)
	if err != nil {
		return Source{}, ErrScheme
	}
	a.name(base)
	return a.fetch(ctx, at.JoinPath(path).String())
}

func (a *Asker) fetch(ctx context.Context, from string) (Source, error) {
	s := Source{URL: string(escape.Of(from))}
	if at, err := url.Parse(from); err == nil {
		s.Host = string(escape.Of(strings.ToLower(at.Hostname())))
	}
	got, err := a.get(ctx, from, mediaType, "", maxObject)
	switch {
	case err != nil:
		return s, err
	case got.Status == http.StatusNotFound:
		return s, about(s.Host, ErrUnknown)
	case got.Status != http.StatusOK:
		return s, about(s.Host, exchange.StatusError(got.Status))
	case got.Kind != mediaType && got.Kind != "application/json":
		return s, about(s.Host, fmt.Errorf("%w, but %s", ErrNotRDAP, escape.Of(got.Kind)))
	}
	s.Raw = got.Body
	return s, nil
}
