// Package zonecare holds a zone's own servers side by side: do they agree with
// each other and with what the parent says of them, and are they set up as the
// standards ask?
package zonecare

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"unquil/core/exchange"
	"unquil/core/finding"
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
	SOA      wire.Authority             // of the newest version; zero when no server gave one
	Known    bool                       // whether any server gave an SOA
	Own      map[wire.Name][]netip.Addr // addresses that the zone itself gives for its hosts inside it, by host in lower case
	Findings []finding.Finding

	shown map[wire.Name][]*exchange.Exchange // the exchanges that gave Own
}

// Check asks every server of the zone all its questions at once. stranger is a
// name that none of them should resolve for others.
func Check(ctx context.Context, session *exchange.Session, zone wire.Name, parent Parent, servers []Server, stranger wire.Name) Report {
	r := Report{Zone: zone, Parent: parent, Own: map[wire.Name][]netip.Addr{}, shown: map[wire.Name][]*exchange.Exchange{}}
	var wait sync.WaitGroup
	for _, server := range servers {
		s := &State{Server: server}
		r.States = append(r.States, s)
		wait.Go(func() { s.ask(ctx, session, zone, stranger) })
	}
	wait.Wait()
	r.settle()
	r.askGlue(ctx, session)
	r.judge()
	finding.Sort(r.Findings)
	return r
}

func (s *State) ask(ctx context.Context, session *exchange.Session, zone, stranger wire.Name) {
	iterative := session.Client.Options
	iterative.Iterative, iterative.NSID = true, true
	recursive := session.Client.Options
	at := exchange.Server{Host: s.Host.String(), Address: netip.AddrPortFrom(s.Address, 53)}
	tcp := at
	tcp.Transport = exchange.TCP
	question := func(name wire.Name, t wire.Type) wire.Question {
		return wire.Question{Name: name, Type: t, Class: wire.IN}
	}
	answers := session.AskAll(ctx, []exchange.Request{
		{Server: at, Question: question(zone, wire.SOA), Options: &iterative},
		{Server: at, Question: question(zone, wire.NS), Options: &iterative},
		{Server: tcp, Question: question(zone, wire.SOA), Options: &iterative},
		{Server: at, Question: question(stranger, wire.A), Options: &recursive},
	})
	s.SOA, s.NS, s.TCP, s.Stranger = answers[0], answers[1], answers[2], answers[3]
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
	for _, record := range newest.NS.Answer().Records {
		if host, ok := record.Target(); ok {
			r.Hosts = append(r.Hosts, host)
		}
	}
}

func mustSOA(e *exchange.Exchange) wire.Authority {
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
	var hosts []wire.Name
	for _, host := range union(r.Parent.Hosts, r.Hosts) {
		if host.Under(r.Zone) {
			hosts = append(hosts, host)
			for _, t := range []wire.Type{wire.A, wire.AAAA} {
				requests = append(requests, exchange.Request{Server: s.SOA.Server, Question: wire.Question{Name: host, Type: t, Class: wire.IN}, Options: &options})
			}
		}
	}
	for i, e := range session.AskAll(ctx, requests) {
		key := hosts[i/2].Fold()
		r.shown[key] = append(r.shown[key], e)
		for _, record := range e.Answer().Records {
			if a, ok := record.Address(); ok {
				r.Own[key] = append(r.Own[key], a)
			}
		}
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

func spoken(names []wire.Name) string {
	var words []string
	for _, n := range names {
		words = append(words, n.Spoken())
	}
	return strings.Join(words, ", ")
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
