package registry

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/wire"
	"unquil/core/wording"
)

// Why a registry is not asked, or does not tell.
var (
	ErrUnknown   = errors.New("the registry has nothing about it")
	ErrNoService = errors.New("no registry for it is in the lists: it cannot be asked this way")
	ErrScheme    = errors.New("registries are asked over HTTPS alone")
	ErrInside    = errors.New("it leads to an address that is no registry's")
	ErrRounds    = errors.New("it redirects too often")
	ErrNoHost    = errors.New("it has no address")
	ErrNotRDAP   = errors.New("what came is no RDAP")
)

// BusyError says that a registry takes no more questions for now (RFC 9083 §6, RFC 6585 §4).
type BusyError struct{ After time.Duration } // 0: it does not say for how long

func (e BusyError) Error() string {
	if e.After == 0 {
		return "it takes no more questions for now"
	}
	return "it takes no more questions for the next " + wording.Span(e.After)
}

// Bounds on what is asked.
const (
	maxObject    = 1 << 20         // bytes of one answer
	maxRedirects = 4               // to get one
	maxPause     = 3 * time.Second // that a registry may ask for, and is waited for
	maxAtOnce    = 4               // questions to one registry
	maxTried     = 2               // addresses of one registry
	maxNetworks  = 64              // whose some addresses are
)

// Asker asks registries. What was asked once is not asked again. It is safe for use by many
// goroutines.
type Asker struct {
	Client *exchange.Client
	// LookUp finds the addresses of a registry's host.
	LookUp func(ctx context.Context, host wire.Name) []netip.Addr
	// Location is where the lists are, as a URL; "" for the standard's own.
	Location string
	// Own says that who asks chose the lists: registries in them may be anywhere, even on this
	// machine. What a registry leads to may not.
	Own bool
	// Folder reads a list by its file name, in place of fetching it; nil: they are fetched.
	Folder func(file string) ([]byte, error)
	// Shelf keeps lists between runs; nil: nothing is kept.
	Shelf Shelf

	lists    memo[*services]
	networks memo[*Network]
	domains  memo[*Domain]

	mu    sync.Mutex
	hosts map[string]*registryHost
	named map[string]bool // hosts that may be anywhere
	notes []string
}

// registryHost is what is known of one server.
type registryHost struct {
	turn chan struct{} // as many as may ask at once
	busy error         // that it takes no more questions; nil: it does
}

// memo makes each thing once.
type memo[T any] struct {
	mu    sync.Mutex
	known map[string]*made[T]
}

type made[T any] struct {
	done  chan struct{} // closed when it is made
	thing T
	err   error
}

func (m *memo[T]) once(key string, f func() (T, error)) (T, error) {
	m.mu.Lock()
	known, had := m.known[key]
	if !had {
		known = &made[T]{done: make(chan struct{})}
		if m.known == nil {
			m.known = map[string]*made[T]{}
		}
		m.known[key] = known
	}
	m.mu.Unlock()
	if !had {
		known.thing, known.err = f()
		close(known.done)
	}
	<-known.done
	return known.thing, known.err
}

func (a *Asker) note(text string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if !slices.Contains(a.notes, text) {
		a.notes = append(a.notes, text)
	}
}

// Notes are what is to be known of how the registries were found.
func (a *Asker) Notes() []string {
	a.mu.Lock()
	defer a.mu.Unlock()
	return slices.Clone(a.notes)
}

func (a *Asker) host(name string) *registryHost {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.hosts == nil {
		a.hosts = map[string]*registryHost{}
	}
	h := a.hosts[name]
	if h == nil {
		h = &registryHost{turn: make(chan struct{}, maxAtOnce)}
		a.hosts[name] = h
	}
	return h
}

// Address asks whose an address is.
func (a *Asker) Address(ctx context.Context, address netip.Addr) (*Network, error) {
	address = address.Unmap().WithZone("")
	return a.ip(ctx, address, address.String())
}

// Prefix asks whose a network is.
func (a *Asker) Prefix(ctx context.Context, p netip.Prefix) (*Network, error) {
	return a.ip(ctx, p.Addr(), p.Masked().String())
}

func (a *Asker) ip(ctx context.Context, first netip.Addr, path string) (*Network, error) {
	return a.networks.once(path, func() (*Network, error) {
		file := "ipv6.json"
		if first.Is4() {
			file = "ipv4.json"
		}
		n, err := a.network(ctx, file, ofAddress(first), "ip/"+path)
		if err == nil && !n.Contains(first) {
			return nil, about(n.Source.Host, ErrOther)
		}
		return n, err
	})
}

// Number asks whose an AS number is.
func (a *Asker) Number(ctx context.Context, number uint32) (*Network, error) {
	path := fmt.Sprintf("autnum/%d", number)
	return a.networks.once(path, func() (*Network, error) {
		n, err := a.network(ctx, "asn.json", ofNumber(number), path)
		if err == nil && (n.First.IsValid() || n.FirstAS > number || n.LastAS < number) {
			return nil, about(n.Source.Host, ErrOther)
		}
		return n, err
	})
}

func (a *Asker) network(ctx context.Context, file string, fit func(string) int, path string) (*Network, error) {
	list, err := a.list(ctx, file)
	if err != nil {
		return nil, err
	}
	base, err := list.find(fit)
	if err != nil {
		return nil, err
	}
	source, err := a.object(ctx, base, path)
	if err != nil {
		return nil, err
	}
	n, err := network(source.Raw)
	if err != nil {
		return nil, about(source.Host, err)
	}
	n.Source = source
	return n, nil
}

// Domain asks the registry of a domain, and the registrar that it names. The registry is told
// the name.
func (a *Asker) Domain(ctx context.Context, name wire.Name) (*Domain, error) {
	name = name.Fold()
	return a.domains.once(name.String(), func() (*Domain, error) {
		list, err := a.list(ctx, "dns.json")
		if err != nil {
			return nil, err
		}
		base, err := list.find(ofName(name))
		if err != nil {
			return nil, err
		}
		path := "domain/" + url.PathEscape(name.Spoken())
		source, err := a.object(ctx, base, path)
		if err != nil {
			return nil, err
		}
		d, related, err := domain(source.Raw, name)
		if err != nil {
			return nil, about(source.Host, err)
		}
		d.Sources = []Source{source}
		if related != "" && related != source.URL {
			a.registrar(ctx, d, related)
		}
		return d, nil
	})
}

// registrar asks the registrar too. What the registry says stands without it.
func (a *Asker) registrar(ctx context.Context, d *Domain, at string) {
	source, err := a.fetch(ctx, at)
	if err != nil {
		d.Missing = problem(err)
		return
	}
	more, _, err := domain(source.Raw, d.Name)
	if err != nil {
		d.Missing = problem(about(source.Host, err))
		return
	}
	more.Sources = []Source{source}
	d.add(more)
}

// problem is an error as it is told.
func problem(err error) string {
	if errors.Is(err, context.Canceled) {
		return "it was cut short"
	}
	return string(escape.Of(err.Error()))
}

// AnswerAbout is what comes of asking about a domain, as it can be kept.
func (a *Asker) AnswerAbout(ctx context.Context, name wire.Name) Answer {
	d, err := a.Domain(ctx, name)
	answer := Answer{At: a.Client.Now(), Domain: d, Unknown: errors.Is(err, ErrUnknown), Notes: a.Notes()}
	switch {
	case d != nil:
		answer.From = d.Sources[0].Host
	case answer.Unknown:
		answer.From, _, _ = strings.Cut(err.Error(), ": ")
	default:
		answer.Problem = problem(err)
	}
	return answer
}

// Contact is whose an address is and how they are reached, in words; "" where that is unknown.
func (a *Asker) Contact(ctx context.Context, address netip.Addr) (words string, asked bool) {
	n, err := a.Address(ctx, address)
	if err != nil || n.Whose() == "" {
		return "", true
	}
	words = string(n.Whose())
	for _, c := range []Contact{n.Technical, n.Abuse} {
		for _, how := range []escape.Text{c.Mail, c.Phone} {
			if how != "" {
				return fmt.Sprintf("%s (%s)", words, how), true
			}
		}
	}
	return words, true
}

// Networks asks whose addresses are, a question a network as far as that can be foreseen: of
// addresses that lie near each other first one, and then those that are not in its network.
// Those that no registry has are left out; why is by address, of those that could not be asked.
func (a *Asker) Networks(ctx context.Context, addresses []netip.Addr) (known map[netip.Addr]*Network, why map[netip.Addr]error) {
	known, why = map[netip.Addr]*Network{}, map[netip.Addr]error{}
	var networks []*Network
	left := make([]netip.Addr, 0, len(addresses))
	for _, address := range addresses {
		if address = address.Unmap().WithZone(""); Public(address) && !slices.Contains(left, address) {
			left = append(left, address)
		}
	}
	for len(left) > 0 && len(networks)+len(why) < maxNetworks && ctx.Err() == nil {
		near := map[netip.Prefix]bool{}
		var now, later []netip.Addr
		for _, address := range left {
			bits := 32
			if address.Is4() {
				bits = 16
			}
			p, _ := address.Prefix(bits)
			if near[p] {
				later = append(later, address)
			} else {
				near[p], now = true, append(now, address)
			}
		}
		found, errs := make([]*Network, len(now)), make([]error, len(now))
		var wait sync.WaitGroup
		for i, address := range now {
			wait.Go(func() { found[i], errs[i] = a.Address(ctx, address) })
		}
		wait.Wait()
		for i, address := range now {
			if found[i] == nil {
				why[address] = errs[i]
				continue
			}
			known[address] = found[i]
			networks = append(networks, found[i])
		}
		left = slices.DeleteFunc(later, func(address netip.Addr) bool {
			at := slices.IndexFunc(networks, func(n *Network) bool { return n.Contains(address) })
			if at >= 0 {
				known[address] = networks[at]
			}
			return at >= 0
		})
	}
	for _, address := range left {
		why[address] = exchange.ErrBudget
	}
	return known, why
}
