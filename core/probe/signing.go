package probe

import (
	"context"
	"slices"
	"sync"

	"unquil/core/delegation"
	"unquil/core/dnssec"
	"unquil/core/exchange"
	"unquil/core/signing"
	"unquil/core/wire"
	"unquil/core/zonecare"
)

// signed reports whether a walk leads to what is signed, be it well or not.
func signed(w *delegation.Walk) bool {
	v := w.Validation
	return v != nil && v.State != dnssec.Insecure && v.State != dnssec.Indeterminate
}

// signing asks every server of a signed zone for its keys and what is signed with them, and says how the
// zone is signed; nil where it is not, or where its servers were not asked.
func (p Prober) signing(ctx context.Context, z *Zone) *signing.Report {
	if !signed(z.Walk) {
		return nil
	}
	options := p.Session.Client.Options
	options.DNSSEC, options.Iterative = true, true
	var wait sync.WaitGroup
	ask := func(s *zonecare.State, t wire.Type, to **exchange.Exchange) {
		wait.Go(func() {
			*to = p.Session.Ask(ctx, exchange.Request{Server: s.SOA.Server, Question: wire.Question{Name: z.Zone, Type: t, Class: wire.IN}, Options: &options, Shared: true})
		})
	}
	seen := signing.Zone{Name: z.Zone, Now: p.AsOf, Servers: make([]signing.Server, len(z.States))}
	hashed := false
	for i, s := range z.States {
		if !s.Authoritative() {
			continue
		}
		to := &seen.Servers[i]
		to.Host, to.Address = s.Host, s.Address
		ask(s, wire.DNSKEY, &to.Keys)
		ask(s, wire.SOA, &to.SOA)
		ask(s, wire.CDS, &to.CDS)
		ask(s, wire.CDNSKEY, &to.CDNSKEY)
		if !hashed {
			hashed = true
			ask(s, wire.NSEC3PARAM, &seen.Hashing)
		}
	}
	wait.Wait()
	seen.Servers = slices.DeleteFunc(seen.Servers, func(s signing.Server) bool { return s.Keys == nil })
	for _, l := range z.Walk.Validation.Chain {
		if l.Zone.Equal(z.Zone) && !l.Zone.IsRoot() {
			seen.Digests = l.Digests
		}
	}
	return seen.Judge()
}
