package registry

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"time"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// Location is where the lists of registries are (RFC 9224 §1).
const Location = "https://data.iana.org/rdap/"

// maxList is how many bytes a list may have.
const maxList = 4 << 20

// services is a list of registries: which names, networks or numbers, and where each is asked.
type services struct {
	Services [][][]string `json:"services"`
}

// Kept is a list as it was fetched once.
type Kept struct {
	At    time.Time
	Fresh time.Duration // for how long it could be used without asking
	Tag   string
	Body  []byte
}

// Shelf keeps lists from one run to the next.
type Shelf interface {
	Get(key string) (Kept, bool)
	Put(key string, k Kept)
}

// list is one of the lists, by its file name.
func (a *Asker) list(ctx context.Context, file string) (*services, error) {
	return a.lists.once(file, func() (*services, error) {
		body, err := a.listed(ctx, file)
		if err != nil {
			return nil, fmt.Errorf("the list of registries (%s) is not there: %w", file, err)
		}
		var s services
		if nesting(body) > maxNesting || json.Unmarshal(body, &s) != nil || len(s.Services) == 0 {
			return nil, fmt.Errorf("the list of registries (%s): %w", file, ErrNotObject)
		}
		return &s, nil
	})
}

// listed is the text of a list: from the folder that was named, as it is kept while that is
// fresh, from its location, or else as it is kept, however old.
func (a *Asker) listed(ctx context.Context, file string) ([]byte, error) {
	if a.Folder != nil {
		return a.Folder(file)
	}
	location := a.Location
	if location == "" {
		location = Location
	}
	at, err := url.Parse(location)
	if err != nil {
		return nil, err
	}
	a.name(location)
	at = at.JoinPath(file)
	now := a.Client.Now()
	kept, had := Kept{}, false
	if a.Shelf != nil {
		kept, had = a.Shelf.Get(at.String())
	}
	if age := now.Sub(kept.At); had && age >= 0 && age < kept.Fresh {
		return kept.Body, nil
	}
	got, err := a.get(ctx, at.String(), "application/json", kept.Tag, maxList)
	switch {
	case err == nil && got.Status == http.StatusNotModified && had:
		kept.At, kept.Fresh = now, got.Fresh
	case err == nil && got.Status == http.StatusOK:
		kept = Kept{At: now, Fresh: got.Fresh, Tag: got.Tag, Body: got.Body}
	case had:
		a.note(fmt.Sprintf("the list of registries (%s) is as it was on %s: %s cannot be reached now", file, kept.At.Format("2 January 2006"), at.Host))
		return kept.Body, nil
	case err == nil:
		return nil, exchange.StatusError(got.Status)
	default:
		return nil, err
	}
	if a.Shelf != nil {
		a.Shelf.Put(at.String(), kept)
	}
	return kept.Body, nil
}

// find returns where what fits best is asked; fit is how well a key fits, below 0 for not at
// all.
func (s *services) find(fit func(key string) int) (base string, err error) {
	best := -1
	for _, service := range s.Services {
		if len(service) < 2 {
			continue
		}
		for _, key := range service[0] {
			if f := fit(key); f > best {
				best, base = f, secure(service[1])
			}
		}
	}
	switch {
	case best < 0:
		return "", ErrNoService
	case base == "":
		return "", ErrScheme
	}
	return base, nil
}

// secure is the first of some places that is asked over HTTPS.
func secure(places []string) string {
	for _, place := range places {
		if strings.HasPrefix(strings.ToLower(place), "https://") {
			return place
		}
	}
	return ""
}

// ofName fits the zones that a name lies in, the longest best (RFC 9224 §4).
func ofName(name wire.Name) func(string) int {
	return func(key string) int {
		zone, err := wire.ParseName(key)
		if err != nil || !name.IsSubdomainOf(zone) {
			return -1
		}
		return zone.Labels()
	}
}

// ofAddress fits the networks that an address lies in, the longest prefix best (RFC 9224 §5.1).
func ofAddress(a netip.Addr) func(string) int {
	return func(key string) int {
		p, err := netip.ParsePrefix(key)
		if err != nil || !p.Contains(a) {
			return -1
		}
		return p.Bits()
	}
}

// ofNumber fits the ranges that an AS number lies in (RFC 9224 §5.3).
func ofNumber(n uint32) func(string) int {
	return func(key string) int {
		from, to, ranged := strings.Cut(key, "-")
		if !ranged {
			to = from
		}
		first, err1 := strconv.ParseUint(from, 10, 32)
		last, err2 := strconv.ParseUint(to, 10, 32)
		if err1 != nil || err2 != nil || uint64(n) < first || uint64(n) > last {
			return -1
		}
		return 0
	}
}
