package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"

	"unquil/core/delegation"
	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/probe"
	"unquil/core/wording"
)

// resolvers turns what --from says into servers. The error of setup is that of
// reading this machine's own list, when that was asked for.
func (a *app) resolvers(ctx context.Context, from []string) (servers []exchange.Server, setup, err error) {
	if len(from) == 0 {
		from = []string{"system"}
		if len(a.Ask.From) > 0 {
			from = a.Ask.From
		}
	}
	for _, word := range a.expand(from, 0) {
		if word == "system" {
			own, err := a.machine()
			setup = errors.Join(setup, err)
			for _, address := range own.Resolvers {
				servers = append(servers, exchange.Server{Address: address, Label: escape.Of(a.labelOf(address.Addr().String()))})
			}
			continue
		}
		if server, ok := a.standing.server(word); ok {
			servers = append(servers, server)
			continue
		}
		if word == "root" {
			server, err := a.rootServer()
			if err != nil {
				return nil, nil, err
			}
			servers = append(servers, server)
			continue
		}
		if a.simulation != nil {
			if server, ok := a.inLab(word); ok {
				servers = append(servers, server)
				continue
			}
		}
		known, labelled := a.Resolver[word]
		if labelled {
			word, known.At = known.At, word
		} else {
			word = a.serverIn(word)
		}
		target, err := exchange.ParseTarget(word)
		if err != nil {
			return nil, nil, usage(fmt.Errorf("%w%s", err, wording.OrNearest(word, a.labels())))
		}
		if labelled {
			target.Server.Label = escape.Of(known.At)
		}
		if target.Host != "" {
			if target.Server, err = a.lookUp(ctx, target); err != nil {
				return nil, nil, err
			}
		}
		servers = append(servers, target.Server)
	}
	servers, err = a.question.fit(servers)
	for _, s := range servers {
		a.session.Client.Budget.Name(s.Address.Addr())
	}
	return servers, setup, err
}

// inLab is the resolver of the lab with that label, or its server of that name.
func (a *app) inLab(word string) (exchange.Server, bool) {
	if address, ok := a.simulation.Resolver(word); ok {
		return exchange.Server{Address: address, Label: escape.Of(word)}, true
	}
	host := strings.ToLower(strings.TrimSuffix(word, ".")) + "."
	if address, ok := a.simulation.Scenario.AddressOf(host); ok {
		return exchange.Server{Address: netip.AddrPortFrom(address, 53), Host: host}, true
	}
	return exchange.Server{}, false
}

// labelOf is what the lab calls a resolver.
func (a *app) labelOf(address string) string {
	if a.simulation == nil {
		return ""
	}
	for _, r := range a.simulation.Scenario.Resolvers {
		for _, own := range r.Addresses {
			if own.String() == address {
				return r.Label
			}
		}
	}
	return ""
}

// rootServers are those of --roots, of the lab, or the published ones.
func (a *app) rootServers() ([]delegation.Server, error) {
	switch {
	case a.roots != "":
		text, err := a.files.Read(a.roots, maxSettings)
		if err != nil {
			return nil, fmt.Errorf("reading root hints: %w", err)
		}
		roots, err := delegation.ReadRoots(bytes.NewReader(text), a.roots)
		for _, root := range roots {
			a.session.Client.Budget.Name(root.Addresses...)
		}
		return roots, err
	case a.simulation != nil:
		return delegation.Roots(a.simulation.Hints()), nil
	}
	return delegation.PublishedRoots(), nil
}

// rootServer is one of the root servers: what --from root asks.
func (a *app) rootServer() (exchange.Server, error) {
	roots, err := a.rootServers()
	if err != nil {
		return exchange.Server{}, err
	}
	for _, root := range roots {
		for _, address := range root.Addresses {
			if address.Is4() == !a.onlyIPv6 {
				return exchange.Server{Address: netip.AddrPortFrom(address, 53), Host: root.Host.String()}, nil
			}
		}
	}
	return exchange.Server{}, errNoRoot
}

// begin opens the network and turns --from into servers. setup is the error of
// reading this machine's own list; without any server it is the error.
func (a *app) begin(ctx context.Context, from []string) (prober probe.Prober, servers []exchange.Server, setup, err error) {
	if err = a.open(); err != nil {
		return prober, nil, nil, err
	}
	if servers, setup, err = a.resolvers(ctx, from); err != nil {
		return prober, nil, nil, err
	}
	if prober, err = a.prober(); err == nil && len(servers) == 0 {
		err = setup
	}
	return prober, servers, setup, err
}

func (a *app) prober() (probe.Prober, error) {
	roots, err := a.rootServers()
	return probe.Prober{Session: a.session, Roots: roots, Seed: rand.Uint64()}, err
}

// labels are the words that stand for resolvers: those of the configuration, and of the lab where that is used.
func (a *app) labels() []string {
	all := []string{"system", "root"}
	for label := range a.Resolver {
		all = append(all, label)
	}
	for group := range a.Group {
		all = append(all, group)
	}
	if a.lab {
		all = append(all, labLabels()...)
	}
	slices.Sort(all)
	return all
}
