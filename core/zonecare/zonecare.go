// Package zonecare holds a zone's own servers side by side: do they agree with
// each other and with what the parent says of them, and are they set up as the
// standards ask?
package zonecare

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"sync"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/transfer"
	"unquil/core/tsig"
	"unquil/core/wire"
)

// Server is one server of the zone at one address, as the parent or the zone lists it.
type Server struct {
	Host    wire.Name
	Address netip.Addr
}

// Parent is what the parent zone says of the zone.
type Parent struct {
	Hosts []wire.Name
	Glue  map[wire.Name][]netip.Addr // by host in lower case; only of hosts inside the zone
}

// State is one server, with all that it was asked.
type State struct {
	Server
	SOA       *exchange.Exchange
	NS        *exchange.Exchange
	TCP       *exchange.Exchange // the SOA again, over TCP
	Stranger  *exchange.Exchange // a name of another zone, with recursion desired
	Serial    uint32
	HasSerial bool
	Unlisted  bool                 // the parent does not list it
	ByZone    bool                 // of the unlisted, that the zone itself lists it; otherwise who asks named it
	Sets      []*exchange.Exchange // what servers are compared by, in the order of the plan
	Transfer  *transfer.Result     // what came of asking it for the whole zone; nil when it was not tried
}

// NSID is what the server calls itself (RFC 5001), escaped; "" when it does not say.
func (s *State) NSID() string {
	if s.SOA.Reply == nil {
		return ""
	}
	e, _ := s.SOA.Reply.EDNS()
	id, _ := e.Option(wire.NSID)
	return wire.Escape(id)
}

// Expires is for how many seconds the server goes on without its primary, as far
// as it says so (RFC 7314).
func (s *State) Expires() (seconds uint32, ok bool) {
	if s.SOA.Reply == nil {
		return 0, false
	}
	e, _ := s.SOA.Reply.EDNS()
	return e.Expire()
}

// Recursive reports whether the server looks up names of other zones for
// strangers; known is false when that could not be seen.
func (s *State) Recursive() (is, known bool) {
	reply := s.Stranger.Reply
	return reply != nil && reply.Flags.Has(wire.RA) && s.Stranger.Outcome.Good(), reply != nil
}

// Plan says how to look at a zone's servers.
type Plan struct {
	Stranger    wire.Name   // a name that none of them should resolve for others
	Names       []wire.Name // names to compare the servers by, besides the apex
	TryTransfer bool        // ask each for the whole zone
	Key         *tsig.Key   // to ask for it with; nil: unsigned
	Unlisted    []Server    // to be looked at as well
	ByZone      []wire.Name // of their hosts, those that the zone lists
	Signed      bool        // the zone's keys are compared elsewhere
}

// Authoritative reports whether the server answers for the zone.
func (s *State) Authoritative() bool {
	return s.SOA.Authoritative() && s.SOA.Outcome == exchange.Answered
}

// Report is the whole comparison.
type Report struct {
	Zone     wire.Name
	Parent   Parent
	States   []*State
	Hosts    []wire.Name                // as the zone itself lists them, by its newest version
	SOA      wire.SOAData               // of the newest version; zero when no server gave one
	Known    bool                       // whether any server gave an SOA
	Own      map[wire.Name][]netip.Addr // addresses that the zone itself gives for its hosts inside it, by host in lower case
	Findings []finding.Finding

	shown       map[wire.Name][]*exchange.Exchange // the exchanges that gave Own
	differences []difference
}

// Addresses are those of the servers that were looked at.
func (r *Report) Addresses() (all []netip.Addr) {
	for _, s := range r.States {
		all = append(all, s.Server.Address)
	}
	return all
}

// Check asks every server of the zone all its questions at once.
func Check(ctx context.Context, session *exchange.Session, zone wire.Name, parent Parent, servers []Server, plan Plan) Report {
	r := Report{Zone: zone, Parent: parent, Own: map[wire.Name][]netip.Addr{}, shown: map[wire.Name][]*exchange.Exchange{}}
	var wait sync.WaitGroup
	questions := plan.contents(zone)
	for i, server := range append(slices.Clone(servers), plan.Unlisted...) {
		s := &State{Server: server, Unlisted: i >= len(servers), ByZone: i >= len(servers) && slices.ContainsFunc(plan.ByZone, server.Host.Equal)}
		r.States = append(r.States, s)
		wait.Go(func() { s.ask(ctx, session, zone, plan.Stranger) })
		wait.Go(func() { s.askContents(ctx, session, questions) })
		if plan.TryTransfer {
			wait.Go(func() { s.tryTransfer(ctx, session, zone, plan.Key) })
		}
	}
	wait.Wait()
	r.settle()
	r.compare()
	wait.Go(func() { r.askDifferences(ctx, session) })
	r.askGlue(ctx, session)
	wait.Wait()
	r.judge()
	finding.Sort(r.Findings)
	return r
}

func (s *State) ask(ctx context.Context, session *exchange.Session, zone, stranger wire.Name) {
	iterative := session.Client.Options
	iterative.Iterative, iterative.NSID, iterative.Expire = true, true, true
	recursive := session.Client.Options
	at, tcp := s.address(""), s.address(exchange.TCP)
	question := func(name wire.Name, t wire.Type) wire.Question {
		return wire.Question{Name: name, Type: t, Class: wire.IN}
	}
	answers := session.AskAll(ctx, []exchange.Request{
		{Server: at, Question: question(zone, wire.SOA), Options: &iterative},
		{Server: at, Question: question(zone, wire.NS), Options: &iterative, Shared: true},
		{Server: tcp, Question: question(zone, wire.SOA), Options: &iterative},
		{Server: at, Question: question(stranger, wire.A), Options: &recursive},
	})
	s.SOA, s.NS, s.TCP, s.Stranger = answers[0], answers[1], answers[2], answers[3]
	s.readSerial()
}

// errSeen ends a transfer that was only tried.
var errSeen = errors.New("seen enough")

// tryTransfer asks for the whole zone, and hangs up when its first record comes.
func (s *State) tryTransfer(ctx context.Context, session *exchange.Session, zone wire.Name, key *tsig.Key) {
	request := transfer.Request{Zone: zone, Server: s.address(exchange.TCP), Key: key}
	s.Transfer = transfer.Receive(ctx, session, request, func(transfer.Change) error { return errSeen })
	if errors.Is(s.Transfer.Err, errSeen) {
		s.Transfer.Err = nil
	}
}

// address is where the server is asked.
func (s *State) address(over exchange.Transport) exchange.Server {
	return exchange.Server{Host: s.Host.String(), Address: netip.AddrPortFrom(s.Address, 53), Transport: over}
}

func (s *State) readSerial() {
	for _, record := range s.SOA.Answer().Records {
		if soa, ok := record.Authority(); ok && s.Authoritative() {
			s.Serial, s.HasSerial = soa.Serial, true
		}
	}
}

// settle finds the newest version of the zone, and takes SOA and NS from it.
func (r *Report) settle() {
	var newest *State
	for _, s := range r.States {
		if s.HasSerial && (newest == nil || wire.NewerSerial(s.Serial, newest.Serial)) {
			newest = s
		}
	}
	if newest == nil {
		return
	}
	r.SOA, r.Known = mustSOA(newest.SOA), true
	for _, s := range append([]*State{newest}, r.States...) {
		// Seen on a walk, not every server was asked; a version that lags does not count.
		if s.NS == nil || !s.NS.Authoritative() || s.Serial != newest.Serial {
			continue
		}
		for _, record := range s.NS.Answer().Records {
			if host, ok := record.Target(); ok {
				r.Hosts = append(r.Hosts, host)
			}
		}
		return
	}
}

// Seen judges what a walk saw of a zone beside its way: how the parent's list and
// glue agree with the zone's own, and how its servers are spread. Each state has
// the SOA, and some the NS; own are the answers to questions for the addresses of
// the zone's hosts.
func Seen(zone wire.Name, parent Parent, states []*State, own []*exchange.Exchange) []finding.Finding {
	r := Report{Zone: zone, Parent: parent, States: states, Own: map[wire.Name][]netip.Addr{}, shown: map[wire.Name][]*exchange.Exchange{}}
	for _, s := range states {
		s.readSerial()
	}
	r.settle()
	for _, e := range own {
		r.takeAddresses(e)
	}
	if len(r.Hosts) > 0 {
		r.listed()
	}
	r.glue()
	r.spread()
	return r.Findings
}

func (r *Report) takeAddresses(e *exchange.Exchange) {
	key := e.Question.Name.Fold()
	r.shown[key] = append(r.shown[key], e)
	for _, record := range e.Answer().Records {
		if a, ok := record.Address(); ok {
			r.Own[key] = append(r.Own[key], a)
		}
	}
}

func mustSOA(e *exchange.Exchange) wire.SOAData {
	soa, _ := e.Answer().Records[0].Authority()
	return soa
}

// askGlue asks the first server that answers for the zone for the addresses of
// the hosts inside it.
func (r *Report) askGlue(ctx context.Context, session *exchange.Session) {
	at := slices.IndexFunc(r.States, (*State).Authoritative)
	if at < 0 {
		return
	}
	s := r.States[at]
	options := session.Client.Options
	options.Iterative = true
	var requests []exchange.Request
	for _, host := range union(r.Parent.Hosts, r.Hosts) {
		if host.IsSubdomainOf(r.Zone) {
			for _, t := range []wire.Type{wire.A, wire.AAAA} {
				requests = append(requests, exchange.Request{Server: s.SOA.Server, Question: wire.Question{Name: host, Type: t, Class: wire.IN}, Options: &options, Shared: true})
			}
		}
	}
	for _, e := range session.AskAll(ctx, requests) {
		r.takeAddresses(e)
	}
}

func union(a, b []wire.Name) []wire.Name {
	all := slices.Clone(a)
	for _, name := range b {
		if !slices.ContainsFunc(all, name.Equal) {
			all = append(all, name)
		}
	}
	return all
}

func (r *Report) about(host wire.Name) finding.About {
	about := finding.About{Zone: r.Zone.String()}
	if !host.IsZero() {
		about.Server = host.String()
	}
	return about
}

func (r *Report) find(code finding.Code, severity finding.Severity, host wire.Name, evidence []int, format string, args ...any) {
	r.Findings = append(r.Findings, finding.New(code, severity, r.about(host), fmt.Sprintf(format, args...), evidence...))
}
