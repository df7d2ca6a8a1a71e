package delegation

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"syscall"
	"time"

	"unquil/core/exchange"
	"unquil/core/wire"
)

var (
	errLoop   = errors.New("the server is needed to find its own address")
	errBudget = errors.New("too many questions")
	errNone   = errors.New("its host name has no address")
	// errNowhere is exchange.ErrNowhere, of a server that a zone lists.
	errNowhere = exchange.ErrNowhere
)

// ask puts the step's question to every server, and returns the first usable
// reply, or nil when there is none; the rest are collected after it returns,
// and counted in w.pending. The error says why a server could not be asked.
func (w *run) ask(ctx context.Context, step *Step, servers []Server, path []wire.Name) (*Reply, error) {
	for _, s := range servers {
		step.order = append(step.order, s.Host)
	}
	step.glueless = len(servers) > 0 && !slices.ContainsFunc(servers, func(s Server) bool { return len(s.Addresses) > 0 })
	first, rest := w.few(step, servers, len(path) > 0)
	batches := [][]Server{first}
	if w.One {
		batches = oneByOne(servers)
	} else if len(rest) > 0 {
		step.rest, batches = rest, [][]Server{first, rest}
	} else if len(path) > 0 && len(servers) > sideServers {
		// A side walk only needs a way through.
		batches = [][]Server{servers[:sideServers], servers[sideServers:]}
	}
	if w.Few && len(path) > 0 && len(rest) == 0 && !w.One {
		batches = sideBatches(servers)
	}
	if w.Few && !w.One && len(batches) == 2 && w.Session.Recording != nil {
		if asked, spared := w.askedThen(step, servers); len(asked) > 0 {
			step.rest, batches = spared, [][]Server{asked}
		}
	}
	var failed error
	if w.Few && !w.One && len(batches) == 2 {
		return w.hedged(ctx, step, batches, path)
	}
	for _, batch := range batches {
		for r := range w.askAll(ctx, step, batch, path) {
			if r.err != nil {
				failed = r.err
			}
			if r.Stance.Usable() {
				return r.Reply, nil
			}
		}
	}
	return nil, failed
}

// askedThen parts servers into those that an earlier run asked, which is made again, and those that it spared.
func (w *run) askedThen(step *Step, servers []Server) (asked, spared []Server) {
	for _, s := range servers {
		mine, others := Server{Host: s.Host}, Server{Host: s.Host}
		for _, a := range s.Addresses {
			if w.Session.Recording.Asked(w.server(s.Host, a).Address, step.Question) {
				mine.Addresses = append(mine.Addresses, a)
			} else {
				others.Addresses = append(others.Addresses, a)
			}
		}
		if len(mine.Addresses) > 0 {
			asked = append(asked, mine)
		}
		if len(others.Addresses) > 0 || len(s.Addresses) == 0 {
			spared = append(spared, others)
		}
	}
	return asked, spared
}

// hedged asks a few servers, and the rest where those are of no use, or do not reply soon.
func (w *run) hedged(ctx context.Context, step *Step, batches [][]Server, path []wire.Name) (*Reply, error) {
	var failed error
	few, rest := w.askAll(ctx, step, batches[0], path), (<-chan result)(nil)
	begun := false
	more := func() {
		if !begun {
			begun = true
			w.mu.Lock()
			step.rest = nil // all are asked
			w.mu.Unlock()
			rest = w.askAll(ctx, step, batches[1], path)
		}
	}
	soon := time.NewTimer(cmp.Or(w.Session.Client.Options.Wait, usualWait) / hedge)
	defer soon.Stop()
	for few != nil || rest != nil {
		var r result
		var open bool
		select {
		case r, open = <-few:
			if !open {
				few = nil
				more()
				continue
			}
		case r, open = <-rest:
			if !open {
				rest = nil
				continue
			}
		case <-soon.C:
			more()
			continue
		}
		if r.err != nil {
			failed = r.err
		}
		if r.Stance.Usable() {
			if few != nil && len(path) == 0 {
				w.pending.Go(func() {
					for range few { // until all of the few have replied, or not
					}
					w.mu.Lock()
					differ := step.differ()
					w.mu.Unlock()
					if differ {
						w.spared(ctx, step)
					}
				})
			}
			return r.Reply, nil
		}
	}
	return nil, failed
}

// The rest of a zone's servers is asked when a few have not replied for this part of the time that a reply is
// waited for.
const (
	hedge     = 4
	usualWait = 2 * time.Second
)

// sideBatches are the servers of a zone that a side walk asks: two addresses, and the rest if those are of no
// use.
func sideBatches(servers []Server) [][]Server {
	single := oneByOne(servers)
	if len(single) <= fewServers {
		return [][]Server{servers}
	}
	var batches [2][]Server
	for i, one := range single {
		at := min(i/fewServers, 1)
		batches[at] = append(batches[at], one...)
	}
	return batches[:]
}

// oneByOne takes servers apart into single addresses, those first that are known.
func oneByOne(servers []Server) (batches [][]Server) {
	var unknown [][]Server
	for _, s := range servers {
		for _, a := range s.Addresses {
			batches = append(batches, []Server{{s.Host, []netip.Addr{a}}})
		}
		if len(s.Addresses) == 0 {
			unknown = append(unknown, []Server{s})
		}
	}
	return append(batches, unknown...)
}

type result struct {
	*Reply
	err error
}

// askAll asks the servers at all their addresses. The channel has room for all
// replies, so that nobody has to read it to its end.
func (w *run) askAll(ctx context.Context, step *Step, servers []Server, path []wire.Name) <-chan result {
	results := make(chan result, len(servers)*(2*maxAddresses+1))
	var group sync.WaitGroup
	w.pending.Add(1) // before anything starts: what it starts may count in w.pending too
	note := func(r *Reply, err error) {
		w.mu.Lock()
		step.Replies = append(step.Replies, r)
		w.mu.Unlock()
		results <- result{r, err}
	}
	each := func(host wire.Name, addresses []netip.Addr) {
		for _, address := range addresses {
			why, err := w.admit(address)
			if w.mu.Lock(); why == "" && step.asked >= maxAsked {
				why, err = fmt.Sprintf("%d addresses of this zone's servers were asked", step.asked), errBudget
			}
			w.mu.Unlock()
			if why != "" {
				note(&Reply{Host: host, Address: address, Stance: NotAsked, Why: why}, err)
				continue
			}
			w.mu.Lock()
			step.asked++
			more := step.asked <= w.aside() && len(path) == 0 && !w.One && !step.Zone.IsRoot() && (!w.Few || !isTop(step.Zone))
			w.mu.Unlock()
			group.Go(func() { note(w.askOne(ctx, step, host, address, len(path) > 0)) })
			if more {
				w.beside(ctx, step, host, w.server(host, address), w.options(), servers)
			}
		}
	}
	for _, server := range servers {
		if len(server.Addresses) > 0 {
			each(server.Host, server.Addresses)
			continue
		}
		group.Go(func() {
			addresses, err := w.addresses(ctx, server.Host, path)
			if err != nil {
				note(&Reply{Host: server.Host, Stance: NotAsked, Why: err.Error()}, err)
				return
			}
			each(server.Host, addresses)
		})
	}
	go func() {
		defer w.pending.Done()
		group.Wait()
		close(results)
	}()
	return results
}

// spared asks the servers of a step that were spared, once.
func (w *run) spared(ctx context.Context, step *Step) {
	w.mu.Lock()
	rest := step.rest
	step.rest = nil
	w.mu.Unlock()
	if ctx.Err() == nil && len(rest) > 0 && w.Session.Recording == nil {
		w.askAll(ctx, step, rest, nil)
	}
}

// admit says why an address is not to be asked; "" when it is.
func (w *run) admit(address netip.Addr) (string, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if what := exchange.Nowhere(address); what != "" && !w.allows(address) {
		return fmt.Sprintf("%v (%s)", errNowhere, what), errNowhere
	}
	if address.Is6() && w.noRoute >= withoutRoute {
		return fmt.Sprintf("this machine has no IPv6: the network had no route to %d other addresses", w.noRoute), nil
	}
	if w.asked++; w.asked > maxQuestions {
		return errBudget.Error(), errBudget
	}
	return "", nil
}

// allows reports whether the walk may ask at an address of this machine: it begins at such
// addresses, so it is a tree of the person's own.
func (w *Walker) allows(address netip.Addr) bool {
	return address.IsLoopback() && slices.ContainsFunc(slices.Concat(w.Roots, w.Start), func(s Server) bool {
		return slices.ContainsFunc(s.Addresses, netip.Addr.IsLoopback)
	})
}

// edns is what is known of questions with EDNS.
type edns uint8

const (
	untold    edns = iota
	arrives        // at a server
	swallowed      // at several, so that what is in the way is near
)

// severalHosts is how many have to lose a question with EDNS, and answer it without, to
// show that it is none of theirs.
const severalHosts = 3

// notice learns from a step that found its way. Where nothing with EDNS gets through,
// every question would wait for that to show: the walk goes on without. Servers that
// were named by who asks may all stand behind one firewall of theirs.
func (w *Walker) notice(step *Step) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if slices.ContainsFunc(step.Replies, func(r *Reply) bool { return r.Exchange != nil && r.Exchange.EDNSArrived() }) {
		w.edns = arrives
	}
	if w.edns == untold && !step.Given && len(step.order) >= severalHosts && step.asked >= severalHosts && step.Chosen.Exchange.EDNSBroke == exchange.NoReply {
		w.edns = swallowed
	}
}

func (w *Walker) server(host wire.Name, address netip.Addr) exchange.Server {
	return exchange.Server{Host: host.String(), Address: netip.AddrPortFrom(address, 53), Transport: w.Over}
}

func (w *run) askOne(ctx context.Context, step *Step, host wire.Name, address netip.Addr, side bool) (*Reply, error) {
	server, options := w.server(host, address), w.options()
	r := &Reply{Host: host, Address: address}
	var soa sync.WaitGroup
	if !step.Zone.IsRoot() && !side && (!w.Few || !isTop(step.Zone)) {
		// Beside the question itself, so that versions can be told apart without a further round trip.
		soa.Add(1)
		asks := options
		asks.Expire = true // how long it goes on without its primary (RFC 7314)
		w.Session.Start(ctx, exchange.Request{Server: server, Options: &asks, Shared: true,
			Question: wire.Question{Name: step.Zone, Type: wire.SOA, Class: wire.IN}},
			func(e *exchange.Exchange) { r.SOA = e; soa.Done() })
	}
	r.Exchange = w.Session.Ask(ctx, exchange.Request{Server: server, Question: step.Question, Options: &options, Shared: true})
	r.Stance = stance(step.Zone, r.Exchange)
	var refused error
	if errors.Is(r.Exchange.Err, exchange.ErrBudget) || errors.Is(r.Exchange.Err, exchange.ErrNowhere) {
		r.Stance, r.Why, refused = NotAsked, r.Exchange.Err.Error(), errBudget
	}
	if address.Is6() && noRoute(r.Exchange.Err) {
		w.mu.Lock()
		w.noRoute++
		w.mu.Unlock()
		r.Stance, r.Why = NotAsked, "this machine has no route to it"
	}
	if address.Is6() && r.Exchange.Reply != nil {
		w.mu.Lock()
		w.noRoute = -maxQuestions // there is IPv6, whatever single addresses it does not lead to
		w.mu.Unlock()
	}
	if r.Stance == LameRefuses {
		soa.Wait()
		if r.SOA != nil && r.SOA.Outcome == exchange.Answered && r.SOA.Authoritative() {
			r.Stance = Fails // it serves the zone, and refuses this question
		}
	}
	if r.Stance.Usable() {
		// The walk need not wait for the serial; whoever reads it waits for w.pending.
		w.pending.Go(soa.Wait)
	} else {
		soa.Wait()
	}
	return r, refused
}

// withoutRoute is how many IPv6 addresses have to be out of reach, without one that answers,
// to show that this machine has no IPv6.
const withoutRoute = 2

// noRoute reports whether this machine itself had no way to send.
func noRoute(err error) bool {
	return errors.Is(err, syscall.ENETUNREACH) || errors.Is(err, syscall.EADDRNOTAVAIL) || errors.Is(err, syscall.EAFNOSUPPORT)
}

// stance judges what a server of zone replied.
func stance(zone wire.Name, e *exchange.Exchange) Stance {
	switch o := e.Outcome; {
	case o == "":
		return CutShort
	case errors.Is(e.Err, exchange.ErrAliasChain) && e.Authoritative():
		return Answers
	case o.Silent():
		return Silent
	case o == exchange.Refused || o == "notauth":
		return LameRefuses
	case o == exchange.Referral:
		child, _, _ := exchange.ReferralZone(e.Reply)
		if child.IsSubdomainOf(zone) && !child.Equal(zone) {
			return Refers
		}
		return LameElsewhere
	case o.Good() && e.Authoritative():
		return Answers
	case o.Good():
		return LameNoAuthority
	}
	return Fails
}

// addresses finds the addresses of a server's host by a walk of its own.
func (w *run) addresses(ctx context.Context, host wire.Name, path []wire.Name) ([]netip.Addr, error) {
	w.mu.Lock()
	known, ok := w.hosts[host.Fold()]
	w.mu.Unlock()
	if ok {
		return orNone(known)
	}
	if slices.ContainsFunc(path, host.Equal) {
		return nil, errLoop
	}
	if len(path) >= maxDepth {
		return nil, errBudget
	}
	path = append(slices.Clone(path), host)
	walks := make([]*Walk, 2)
	var group sync.WaitGroup
	for i, t := range []wire.Type{wire.A, wire.AAAA} {
		group.Go(func() { walks[i] = w.follow(ctx, wire.Question{Name: host, Type: t, Class: wire.IN}, path) })
	}
	group.Wait()
	var found []netip.Addr
	for _, walk := range walks {
		for _, r := range walk.Records {
			if a, ok := r.Address(); ok && len(found) < 2*maxAddresses {
				found = append(found, a)
			}
		}
		if walk.End == EndLoop {
			return nil, errLoop
		}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.side = append(w.side, walks...)
	if ctx.Err() == nil {
		w.hosts[host.Fold()] = found
	}
	return orNone(found)
}

func orNone(addresses []netip.Addr) ([]netip.Addr, error) {
	if len(addresses) == 0 {
		return nil, errNone
	}
	return addresses, nil
}
