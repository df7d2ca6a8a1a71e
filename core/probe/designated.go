package probe

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/machine"
	"unquil/core/wire"
)

// Designation is what a resolver says of its encrypted ways (DDR, RFC 9462 §4), or what the machine's settings say.
type Designation struct {
	Resolver exchange.Server
	Asked    *exchange.Exchange // for its service bindings; nil: it was not
	Source   string             // the settings that say so; "" where the resolver does itself
	Offers   []Offer
}

// Offer is one encrypted way to a resolver, and how that took the question which it had without encryption.
type Offer struct {
	Server exchange.Server
	Tried  *exchange.Exchange
	Alike  bool // it said the same as without encryption
	Proven bool // its certificate names the resolver's address, without which nobody believes the offer (RFC 9462 §4.2)
}

// designator is the name whose service bindings are a resolver's own (RFC 9462 §4).
var designator = wire.MustParseName("_dns.resolver.arpa")

// Bounds on what resolvers are asked of their encrypted ways.
const (
	maxDesignating = 4
	maxOffers      = 6
)

// protocols are those that a resolver can be asked by, by their names in ALPN.
var protocols = map[string]exchange.Transport{"dot": exchange.TLS, "h2": exchange.HTTPS, "h3": exchange.HTTPS, "doq": exchange.QUIC}

// Designated asks the resolvers of a machine, which were tried before, which encrypted ways they have, and tries those.
func (p Prober) Designated(ctx context.Context, tried []*exchange.Exchange) (all []Designation, found []finding.Finding) {
	var requests []exchange.Request
	var plain []*exchange.Exchange
	for _, e := range tried {
		if e.Outcome.Good() && e.Server.Transport == "" && !e.Server.Address.Addr().IsLoopback() && len(requests) < maxDesignating {
			requests = append(requests, exchange.Request{Server: e.Server, Question: wire.Question{Name: designator, Type: wire.SVCB, Class: wire.IN}})
			plain = append(plain, e)
		}
	}
	for i, asked := range p.Session.AskAll(ctx, requests) {
		d := Designation{Resolver: asked.Server, Asked: asked}
		var ways []exchange.Request
		for _, server := range offersOf(asked) {
			d.Offers = append(d.Offers, Offer{Server: server})
			ways = append(ways, exchange.Request{Server: server, Question: plain[i].Question})
		}
		if len(ways) == 0 {
			continue
		}
		for j, e := range p.Session.AskAll(ctx, ways) {
			o := &d.Offers[j]
			o.Tried, o.Alike = e, e.Outcome.Good() && e.Meaning() == plain[i].Meaning()
			if last := e.Last(); last != nil && last.Security != nil {
				o.Proven = slices.Contains(last.Security.Names, escape.Of(asked.Server.Address.Addr().String()))
			}
			found = append(found, judgeOffer(&d, o)...)
		}
		all = append(all, d)
	}
	return all, found
}

// HandedOut tries the resolvers that the settings name a certificate for: the network hands such names out
// (DNR, RFC 9463 §3), or somebody set them by hand. What they say is held against those that were tried before.
func (p Prober) HandedOut(ctx context.Context, scopes []machine.Scope, tried []*exchange.Exchange) (all []Designation, found []finding.Finding) {
	var requests []exchange.Request
	for _, scope := range scopes {
		for _, end := range scope.Resolvers {
			name := scope.Named[end]
			if name == "" || len(requests) == maxDesignating*maxOffers {
				continue
			}
			plain := exchange.Server{Address: netip.AddrPortFrom(end.Addr(), 53), TLSName: name}
			server := plain.Over(exchange.TLS)
			if end.Port() != 53 {
				server.Address = end
			}
			plain.TLSName = ""
			all = append(all, Designation{Resolver: plain, Source: scope.Source, Offers: []Offer{{Server: server, Proven: true}}})
			requests = append(requests, exchange.Request{Server: server, Question: wire.Question{Name: wire.Root, Type: wire.NS, Class: wire.IN}})
		}
	}
	for i, e := range p.Session.AskAll(ctx, requests) {
		d := &all[i]
		d.Offers[0].Tried, d.Offers[0].Alike = e, e.Outcome.Good()
		for _, before := range tried {
			if before.Server.Address == d.Resolver.Address {
				d.Resolver = before.Server
				d.Offers[0].Alike = e.Outcome.Good() && e.Meaning() == before.Meaning()
			}
		}
		found = append(found, judgeOffer(d, &d.Offers[0])...)
	}
	return all, found
}

// offersOf are the encrypted ways that an answer tells of, the preferred ones first, each once.
func offersOf(asked *exchange.Exchange) (servers []exchange.Server) {
	var services []wire.Service
	for _, r := range asked.Answer().Records {
		if s, ok := r.Service(); ok {
			services = append(services, s)
		}
	}
	slices.SortStableFunc(services, func(a, b wire.Service) int { return cmp.Compare(a.Priority, b.Priority) })
	for _, s := range services {
		for _, protocol := range s.Protocols {
			transport, known := protocols[protocol]
			if !known || len(servers) == maxOffers {
				continue
			}
			// A hint elsewhere is not followed: what is meant is another way to the same resolver (§4.2).
			address := asked.Server.Address.Addr()
			server := exchange.Server{Address: netip.AddrPortFrom(address, 53), TLSName: strings.TrimSuffix(s.Target.String(), "."), Label: asked.Server.Label}
			if server = server.Over(transport); s.Port != 0 {
				server.Address = netip.AddrPortFrom(address, s.Port)
			}
			if transport == exchange.HTTPS {
				path, _, _ := strings.Cut(s.Path, "{")
				server.Path = cmp.Or(path, "/dns-query")
			}
			if !slices.Contains(servers, server) {
				servers = append(servers, server)
			}
		}
	}
	return servers
}

// judgeOffer says what is to be noted of an encrypted way.
func judgeOffer(d *Designation, o *Offer) []finding.Finding {
	about := finding.About{Server: d.Resolver.Name(), Address: d.Resolver.AddressText()}
	shown := []int{o.Tried.Number}
	if d.Asked != nil {
		shown = []int{d.Asked.Number, o.Tried.Number}
	}
	switch {
	case o.Alike && o.Proven || o.Tried.Outcome == "":
		return nil
	case o.Alike:
		return []finding.Finding{finding.New(finding.EncryptedFails, finding.Concern, about,
			fmt.Sprintf("%s offers %s, but the certificate there does not name %s: programs that look for encrypted ways by themselves do not believe it.", d.Resolver.Name(), o.Over(), d.Resolver.Address.Addr()), shown...)}
	case o.Tried.Outcome.Good():
		return []finding.Finding{finding.New(finding.EncryptedFails, finding.Concern, about,
			fmt.Sprintf("%s says something else over %s than without encryption.", d.Resolver.Name(), o.Over()), shown...)}
	}
	text := fmt.Sprintf("%s offers %s, but it cannot be used there: %s.", d.Resolver.Name(), o.Over(), o.Failure())
	if d.Source != "" {
		text = fmt.Sprintf("The settings in %s have %s queried over %s, but that does not work: %s.", d.Source, d.Resolver.Name(), o.Over(), o.Failure())
	}
	return []finding.Finding{finding.New(finding.EncryptedFails, finding.Concern, about, text, shown...)}
}

// Over is the transport as it is said, with the port where that is not its own.
func (o *Offer) Over() string {
	words := strings.ToUpper(string(o.Server.Transport))
	if _, _, other := strings.Cut(o.Server.AddressText(), "#"); other {
		words += fmt.Sprintf(" (port %d)", o.Server.Address.Port())
	}
	return words
}

// Failure is why it could not be asked that way.
func (o *Offer) Failure() string {
	if o.Tried.Err != nil {
		return o.Tried.Err.Error()
	}
	return o.Tried.Outcome.Words()
}
