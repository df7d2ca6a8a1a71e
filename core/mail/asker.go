package mail

import (
	"context"
	"net/netip"
	"sync"
	"sync/atomic"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// Asker asks resolvers: the first, and the next where that one fails. Each question is asked
// once. It is safe for use by many goroutines.
type Asker struct {
	Session   *exchange.Session
	Resolvers []exchange.Server
	// Judge says what the signatures make of an answer; nil: they are left alone.
	Judge func(ctx context.Context, e *exchange.Exchange) *Signed

	asked atomic.Int64
}

// maxQuestions is how many questions about one domain are asked: more than any that works has.
const maxQuestions = 400

// Ask asks one question. An exchange that could not be had any more has [exchange.ErrBudget].
func (a *Asker) Ask(ctx context.Context, name wire.Name, t wire.Type) *exchange.Exchange {
	q := wire.Question{Name: name, Type: t, Class: wire.IN}
	last := &exchange.Exchange{Question: q, Err: exchange.ErrBudget}
	if a.asked.Add(1) > maxQuestions {
		return last
	}
	for _, server := range a.Resolvers {
		last = a.Session.Ask(ctx, exchange.Request{Server: server, Question: q, Shared: true})
		if last.Outcome.Good() || ctx.Err() != nil {
			break
		}
	}
	return last
}

// both asks for the addresses of a name, IPv4 and IPv6 at once.
func (a *Asker) both(ctx context.Context, name wire.Name) (found [2]*exchange.Exchange) {
	var wait sync.WaitGroup
	for i, t := range []wire.Type{wire.A, wire.AAAA} {
		wait.Go(func() { found[i] = a.Ask(ctx, name, t) })
	}
	wait.Wait()
	return found
}

// Addresses are those of a name, of both families.
func (a *Asker) Addresses(ctx context.Context, name wire.Name) []netip.Addr {
	found := a.both(ctx, name)
	return addressesOf(found[:]...)
}

// addressesOf are the addresses that exchanges answered with.
func addressesOf(exchanges ...*exchange.Exchange) (all []netip.Addr) {
	for _, e := range exchanges {
		all = append(all, wire.Addresses(e.Answer().Records)...)
	}
	return all
}

// texts are those of TXT records, each as one string.
func texts(e *exchange.Exchange) (all []string) {
	for _, r := range e.Answer().Records {
		if r.Type == wire.TXT {
			all = append(all, r.Text())
		}
	}
	return all
}

// textsThat are those of TXT records that are of a kind.
func textsThat(are func(string) bool, e *exchange.Exchange) (all []string) {
	for _, text := range texts(e) {
		if are(text) {
			all = append(all, text)
		}
	}
	return all
}

// broke reports whether an exchange came to neither an answer nor a denial: what would have
// come is not known.
func broke(e *exchange.Exchange) bool { return e == nil || !e.Outcome.Good() }

// void reports whether there is nothing at the name: no such name, or no such record (RFC 7208
// §4.6.4).
func void(e *exchange.Exchange) bool {
	return e != nil && e.Outcome.Good() && len(e.Answer().Records) == 0
}
