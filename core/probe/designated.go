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
	"unquil/core/wire"
)

// Designation is what a resolver says of its encrypted ways (DDR, RFC 9462 §4).
type Designation struct {
	Resolver exchange.Server
	Asked    *exchange.Exchange // for its service bindings
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
	switch {
	case o.Alike && o.Proven || o.Tried.Outcome == "":
		return nil
	case o.Alike:
		return []finding.Finding{finding.New(finding.EncryptedFails, finding.Concern, about,
			fmt.Sprintf("%s offers %s, but the certificate there does not name %s: programs that look for encrypted ways by themselves do not believe it.", d.Resolver.Name(), o.Over(), d.Resolver.Address.Addr()), d.Asked.Number, o.Tried.Number)}
	case o.Tried.Outcome.Good():
		return []finding.Finding{finding.New(finding.EncryptedFails, finding.Concern, about,
			fmt.Sprintf("%s says something else over %s than without encryption.", d.Resolver.Name(), o.Over()), d.Asked.Number, o.Tried.Number)}
	}
	return []finding.Finding{finding.New(finding.EncryptedFails, finding.Concern, about,
		fmt.Sprintf("%s offers %s, but it cannot be used there: %s.", d.Resolver.Name(), o.Over(), o.Failure()), d.Asked.Number, o.Tried.Number)}
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
