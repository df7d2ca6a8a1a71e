package zonecare

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/core/wording"
)

// judge says what is unusual about the zone's servers. Whether each answers for
// the zone at all is told by the walk that led here.
func (r *Report) judge() {
	r.listed()
	r.glue()
	r.spread()
	for _, s := range r.States {
		r.server(s)
	}
	r.serials()
	r.contents()
	if r.Known {
		r.timers()
	}
}

// listed holds the parent's list of servers against the zone's own.
func (r *Report) listed() {
	if !r.Known || len(r.Parent.Hosts) == 0 {
		return
	}
	missing := without(r.Hosts, r.Parent.Hosts)
	surplus := without(r.Parent.Hosts, r.Hosts)
	evidence := r.evidence(func(s *State) *exchange.Exchange { return s.NS })
	for _, host := range slices.Clone(missing) {
		if meant, dotless := r.withoutDot(host); dotless {
			missing = without(missing, []wire.Name{host})
			r.find(finding.NSSetDiffers, finding.Concern, host, evidence, "The zone lists %s, which is %s without its final dot in the zone file.", host.Spoken(), meant.Spoken())
			r.Findings[len(r.Findings)-1].Next = fmt.Sprintf("Ask the zone's operator to write %s with a final dot in the NS record.", meant.Spoken())
		}
	}
	if len(missing) > 0 {
		r.find(finding.NSSetDiffers, finding.Concern, wire.Name{}, evidence, "The zone lists %s, and the parent does not.", wording.Names(missing))
	}
	if len(surplus) > 0 {
		r.find(finding.NSSetDiffers, finding.Concern, wire.Name{}, evidence, "The parent lists %s, and the zone does not.", wording.Names(surplus))
	}
}

// withoutDot is the name that was meant where one has the zone's name twice at its end, as it
// has when its final dot is missing in the zone file; ok is false for others.
func (r *Report) withoutDot(host wire.Name) (meant wire.Name, ok bool) {
	if r.Zone.IsRoot() || !host.IsSubdomainOf(r.Zone) || host.Labels() <= r.Zone.Labels() {
		return meant, false
	}
	written, err := wire.ParseName(strings.TrimSuffix(strings.ToLower(host.String()), strings.ToLower(r.Zone.String())))
	if err != nil {
		return meant, false
	}
	known := slices.ContainsFunc(r.Parent.Hosts, written.Equal)
	return written, known || written.IsSubdomainOf(r.Zone) && !written.Equal(r.Zone)
}

func without(all, taken []wire.Name) (rest []wire.Name) {
	for _, name := range all {
		if !slices.ContainsFunc(taken, name.Equal) {
			rest = append(rest, name)
		}
	}
	return rest
}

// evidence are the numbers of one exchange a server.
func (r *Report) evidence(of func(*State) *exchange.Exchange) (numbers []int) {
	for _, s := range r.States {
		if e := of(s); e != nil {
			numbers = append(numbers, e.Number)
		}
	}
	return numbers
}

// glue holds the addresses that the parent gives against the zone's own.
func (r *Report) glue() {
	for _, host := range r.Parent.Hosts {
		if !host.IsSubdomainOf(r.Zone) {
			continue
		}
		glue, own := r.Parent.Glue[host.Fold()], r.Own[host.Fold()]
		var evidence []int
		for _, e := range r.shown[host.Fold()] {
			evidence = append(evidence, e.Number)
		}
		for _, e := range r.shown[host.Fold()] {
			if aliases := e.Answer().Aliases; len(aliases) > 0 {
				target, _ := aliases[0].Target()
				r.find(finding.NSIsAlias, finding.Concern, host, []int{e.Number}, "%s is listed for %s and is an alias (CNAME) for %s.", host.Spoken(), r.Zone.Spoken(), target.Spoken())
				break
			}
		}
		switch {
		case len(glue) == 0:
			severity := finding.Fault
			if slices.ContainsFunc(r.Parent.Hosts, func(other wire.Name) bool {
				return !other.IsSubdomainOf(r.Zone) || len(r.Parent.Glue[other.Fold()]) > 0
			}) {
				severity = finding.Concern // there is another way in
			}
			r.find(finding.GlueMissing, severity, host, evidence, "%s is inside the zone, and the parent has no address (glue) for it.", host.Spoken())
		case len(own) > 0:
			if old := differing(glue, own); len(old) > 0 {
				r.find(finding.GlueDiffers, finding.Concern, host, evidence, "The parent gives %s the address %s, the zone itself %s.", host.Spoken(), old[0], own[0])
			} else if unlisted := differing(own, glue); len(unlisted) > 0 {
				r.find(finding.GlueDiffers, finding.Note, host, evidence, "The zone gives %s the address %s too, which the parent does not know.", host.Spoken(), unlisted[0])
			}
		}
	}
}

func differing(a, b []netip.Addr) (only []netip.Addr) {
	for _, address := range a {
		if !slices.Contains(b, address) {
			only = append(only, address)
		}
	}
	return only
}

// spread says when one thing that breaks takes all servers with it.
func (r *Report) spread() {
	hosts, networks := map[string]bool{}, map[netip.Prefix]bool{}
	for _, s := range r.States {
		if s.Unlisted && !s.ByZone {
			continue
		}
		hosts[s.Host.Fold().String()] = true
		networks[exchange.NetworkOf(s.Address)] = true
	}
	if !slices.ContainsFunc(r.States, func(s *State) bool { return s.Address.Is6() }) {
		for _, host := range r.Parent.Hosts { // which may have IPv6 addresses, and this machine none
			for _, a := range r.Parent.Glue[host.Fold()] {
				if a.Is6() {
					networks[exchange.NetworkOf(a)] = true
				}
			}
		}
	}
	evidence := r.evidence(func(s *State) *exchange.Exchange { return s.SOA })
	listed := union(r.Parent.Hosts, r.Hosts)
	switch {
	case len(hosts) == 0: // nobody lists any
	case len(listed) == 1 || len(listed) == 0 && len(hosts) == 1:
		r.find(finding.SingleServer, finding.Concern, r.States[0].Host, evidence, "%s has a single server, %s.", r.Zone.Spoken(), r.States[0].Host.Spoken())
	case len(hosts) < len(listed): // of the others nobody knows where they stand
	case len(networks) == 1:
		for p := range networks {
			r.find(finding.OneNetwork, finding.Concern, wire.Name{}, evidence, "All servers of %s are in one network, %s.", r.Zone.Spoken(), p)
		}
	}
}

// server says what is unusual about one server that does answer.
func (r *Report) server(s *State) {
	if !s.Authoritative() {
		if s.ByZone {
			r.byZone(s)
		}
		return
	}
	who := s.Host.Spoken() + " (" + s.Address.String() + ")"
	if s.TCP.Reply == nil && s.TCP.Outcome != "" {
		r.find(finding.TCPRefused, finding.Concern, s.Host, []int{s.TCP.Number}, "%s does not answer over TCP (%s), which large answers need.", who, s.TCP.Outcome)
	}
	if s.SOA.EDNSBroke != "" {
		r.find(finding.EDNSBreaks, finding.Concern, s.Host, []int{s.SOA.Number}, "%s answers only without EDNS; with it: %s.", who, s.SOA.EDNSBroke)
	} else if s.SOA.EDNSIgnored {
		r.find(finding.EDNSIgnored, finding.Note, s.Host, []int{s.SOA.Number}, "%s replies as if EDNS did not exist.", who)
	}
	if is, _ := s.Recursive(); is {
		r.find(finding.RecursionOpen, finding.Concern, s.Host, []int{s.Stranger.Number}, "%s looks up names in other zones for anybody.", who)
	}
	if t := s.Transfer; t != nil && t.Err == nil && t.Request.Key == nil {
		r.find(finding.TransferOpen, finding.Concern, s.Host, []int{t.Exchange.Number}, "%s lets this machine transfer the whole zone without a key.", who)
	}
	for _, record := range s.SOA.Reply.Answer {
		if record.Type == wire.CNAME && record.Name.Equal(r.Zone) {
			r.find(finding.AliasWithData, finding.Fault, s.Host, []int{s.SOA.Number}, "%s has an alias (CNAME) at the zone's own name, together with other records.", who)
		}
	}
}

// byZone says of a server that only the zone lists that it is of no use. Of the
// others the walk says so.
func (r *Report) byZone(s *State) {
	code, does := finding.LameServer, "does not serve it"
	switch s.SOA.Outcome {
	case "":
		return // cut short
	case exchange.NoReply:
		code, does = finding.NoReply, "does not reply"
	case exchange.Unreachable:
		code, does = finding.Unreachable, "cannot be reached"
	}
	r.find(code, finding.Concern, s.Host, []int{s.SOA.Number}, "%s (%s) is listed by the zone itself and %s.", s.Host.Spoken(), s.Address, does)
}

// serials says which servers are behind, and until when they go on so.
func (r *Report) serials() {
	for _, s := range r.States {
		if r.Known && s.HasSerial && wire.NewerSerial(r.SOA.Serial, s.Serial) {
			until := "for up to " + wire.Period(mustSOA(s.SOA).Expire)
			if left, ok := s.Expires(); ok {
				until = "for " + wire.Period(left) + " from now"
			}
			behind := fmt.Sprintf(", %d behind the newest, %s", r.SOA.Serial-s.Serial, wording.Serial(r.SOA.Serial))
			if _, _, dated := wording.DatedSerial(s.Serial); dated { // dates are not subtracted like numbers
				behind = "; the newest is " + wording.Serial(r.SOA.Serial)
			}
			r.find(finding.SerialsDiffer, finding.Concern, s.Host, []int{s.SOA.Number}, "%s has serial %s%s; if it cannot reach its primary, it goes on answering %s.", s.Host.Spoken(), wording.Serial(s.Serial), behind, until)
		}
	}
}

// timerRules are what the timers of an SOA usually are (RFC 1912 §2.2, RFC 2308
// §5): each says when it is unusual, and what follows.
var timerRules = []struct {
	unusual func(s wire.SOAData) bool
	text    string
}{
	{func(s wire.SOAData) bool { return s.Expire < s.Refresh+s.Retry }, "EXPIRE is shorter than REFRESH plus RETRY: a secondary that misses one refresh stops answering."},
	{func(s wire.SOAData) bool { return s.Retry >= s.Refresh }, "RETRY is not shorter than REFRESH: after a failed refresh, a secondary waits just as long as after a successful one."},
	{func(s wire.SOAData) bool { return s.Refresh < 1200 }, "REFRESH is under 20 minutes: secondaries check more often than usual."},
	{func(s wire.SOAData) bool { return s.Refresh > 43200 }, "REFRESH is over 12 hours: without NOTIFY, a change takes that long to arrive."},
	{func(s wire.SOAData) bool { return s.Expire < 604800 }, "EXPIRE is under a week: if the primary is down for that long, the whole zone goes down."},
	{func(s wire.SOAData) bool { return s.Minimum > 86400 }, "MINIMUM is over a day: a name that is looked up before it exists stays missing for that long."},
}

// timers tells unusual SOA timers. They are the zone's holder's choice: a note each.
func (r *Report) timers() {
	evidence := r.evidence(func(s *State) *exchange.Exchange { return s.SOA })
	for _, text := range UnusualTimers(r.SOA) {
		r.find(finding.SOATimers, finding.Note, wire.Name{}, evidence, "%s", text)
	}
}

// UnusualTimers says what is unusual about the timers of an SOA, a sentence each.
func UnusualTimers(soa wire.SOAData) (all []string) {
	for _, rule := range timerRules {
		if rule.unusual(soa) {
			all = append(all, rule.text)
		}
	}
	return all
}
