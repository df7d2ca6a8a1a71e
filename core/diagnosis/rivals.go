package diagnosis

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"unquil/core/comparison"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/core/wording"
)

// How sure a verdict is, is computed: each rule names the other causes that would show the
// same, its rivals, and a verdict is certain when an exchange contradicts each of them. A
// cause that one believed exchange contradicts is out, however well it ranks (de Kleer,
// "Diagnosing multiple faults", and Reiter, "A theory of diagnosis from first principles",
// both 1987).

// rival is another cause that would show the same as the one that a rule places.
type rival struct {
	name  string // a noun phrase: "a firewall near this machine"
	tells string // what would tell the two apart from somewhere else: "ask from another network"
	shows string // what the exchanges that rule it out show: "other servers answer from here"
	// contradicted returns exchanges that rule it out; none when nothing at hand does.
	contradicted func(s *sight) []*exchange.Exchange
}

// RuledOut is a rival that an exchange contradicts.
type RuledOut struct {
	What string // the rival
	By   string // what contradicts it
	Seen []int  // in these exchanges
}

// sight is what there is to see when a verdict is decided.
type sight struct {
	cause     []finding.Finding
	exchanges []*exchange.Exchange // in the order in which the round wanted them
	resolvers []*exchange.Exchange // of these, the answers of resolvers to what the verdict is about
}

// blames reports whether the cause is about the server of an exchange.
func (s *sight) blames(e *exchange.Exchange) bool {
	return slices.ContainsFunc(s.cause, func(f finding.Finding) bool {
		return f.About.Address == e.Server.Address.Addr().String() || f.About.Address == e.Server.AddressText() || f.About.Server == e.Server.Name()
	})
}

// another is the first exchange with a server that is not blamed and of which something
// holds, as a list.
func (s *sight) another(holds func(e *exchange.Exchange) bool) []*exchange.Exchange {
	for _, e := range s.exchanges {
		if e != nil && !s.blames(e) && holds(e) {
			return []*exchange.Exchange{e}
		}
	}
	return nil
}

func repliesOverUDP(s *sight) []*exchange.Exchange {
	return s.another(func(e *exchange.Exchange) bool { return e.Reply != nil && e.Transport() == exchange.UDP })
}

// signaturesArrive is an exchange in which signatures came.
func signaturesArrive(s *sight) []*exchange.Exchange {
	return s.another(func(e *exchange.Exchange) bool {
		return e.Reply != nil && slices.ContainsFunc(slices.Concat(e.Reply.Answer, e.Reply.Authority), func(r wire.Record) bool { return r.Type == wire.RRSIG })
	})
}

func ednsArrives(s *sight) []*exchange.Exchange { return s.another((*exchange.Exchange).EDNSArrived) }

func repliesOverTCP(s *sight) []*exchange.Exchange {
	return s.another(func(e *exchange.Exchange) bool { return e.Reply != nil && e.Transport() == exchange.TCP })
}

// fragmented is the size from which on a reply over UDP comes in fragments on an ordinary link.
const fragmented = 1500 - 28

func largeArrives(s *sight) []*exchange.Exchange {
	return s.another(func(e *exchange.Exchange) bool {
		return e.Reply != nil && e.Transport() == exchange.UDP && e.Size() > fragmented
	})
}

// failsElsewhere are the failures of resolvers in other networks than this machine's: they
// ask the same servers from there.
func failsElsewhere(s *sight) []*exchange.Exchange {
	for _, e := range s.resolvers {
		if e != nil && e.Outcome == exchange.ServerFailure && elsewhere(e) {
			return []*exchange.Exchange{e}
		}
	}
	return nil
}

// refusesNobody are the replies of blamed servers where none of them refuses, or else the
// failure of a resolver elsewhere.
func refusesNobody(s *sight) (replies []*exchange.Exchange) {
	for _, e := range s.exchanges {
		if e == nil || !slices.ContainsFunc(s.cause, func(f finding.Finding) bool { return slices.Contains(f.Evidence, e.Number) }) {
			continue
		}
		if e.Outcome == exchange.Refused {
			return failsElsewhere(s)
		}
		if e.Reply != nil && !slices.Contains(replies, e) {
			replies = append(replies, e)
		}
	}
	if len(replies) == 0 {
		return failsElsewhere(s)
	}
	return replies
}

// elsewhere reports whether a resolver stands in another network than the machine that asked
// it, as far as their addresses tell.
func elsewhere(e *exchange.Exchange) bool {
	server := e.Server.Address.Addr().Unmap()
	if server.IsPrivate() || server.IsLoopback() || server.IsLinkLocalUnicast() {
		return false
	}
	for _, a := range e.Attempts {
		if own := a.Local.Addr().Unmap(); own.IsValid() && own.BitLen() == server.BitLen() && exchange.NetworkOf(own).Contains(server) {
			return false
		}
	}
	return len(e.Attempts) > 0
}

// validates are answers of resolvers that vouch for the signatures of what they answer.
func validates(s *sight) []*exchange.Exchange {
	for _, e := range s.resolvers {
		if e != nil && e.Outcome == exchange.Answered && e.Reply.Flags.Has(wire.AD) && !s.blames(e) {
			return []*exchange.Exchange{e}
		}
	}
	return nil
}

// The rivals that several rules have.
var (
	route        = rival{"a fault of the network between here and those servers", "ask from another network", "a resolver in another network fails too", failsElsewhere}
	onlyYou      = rival{"a server that refuses this client alone", "ask from another network", "none of them refuses, or a resolver in another network fails too", refusesNobody}
	nearUDP      = rival{"a firewall near this machine", "ask from another network", "other servers answer from here over UDP", repliesOverUDP}
	nearEDNS     = rival{"a firewall near this machine that drops EDNS", "ask from another network", "other servers answer from here with EDNS", ednsArrives}
	nearTCP      = rival{"a firewall near this machine that closes TCP port 53", "ask from another network", "other servers answer from here over TCP", repliesOverTCP}
	nearLarge    = rival{"a firewall near this machine that drops fragments", "ask from another network", "large replies of other servers arrive", largeArrives}
	nearDevice   = rival{"a device near this machine that answers in their place", "ask from another network", "replies of other servers arrive unharmed", repliesOverUDP}
	stripped     = rival{"a device near this machine that takes signatures out", "ask from another network", "other signatures arrive", signaturesArrive}
	override     = rival{"an override on the resolver", "ask it again: an override does not count down", "its TTL counts down, or it says itself that its answer is stale", fromCache}
	bySubnet     = rival{"an answer that the zone gives to the resolver's network", "ask the zone's operator whether it answers by network", "the zone answers by network and gives that one something else, or the resolver says that it is the authority itself", notBySubnet}
	quietlyStale = rival{"a stale answer that the resolver serves without saying so", "ask whoever runs the resolver", "it says itself that it is the authority", callsItselfAuthority}
	itself       = rival{"a fault of the resolver itself", "capture at the resolver, and see what leaves it", "", nil}
)

// callsItselfAuthority are answers of a blamed resolver with AA set, which no cache sets.
func callsItselfAuthority(s *sight) []*exchange.Exchange {
	for _, e := range s.resolvers {
		if e != nil && s.blames(e) && e.Authoritative() {
			return []*exchange.Exchange{e}
		}
	}
	return nil
}

// serversCountDown are two answers of a blamed resolver about a zone's servers, of which the
// later has less time left.
func serversCountDown(s *sight) []*exchange.Exchange {
	return lessLeft(s, func(e *exchange.Exchange) bool { return e.Question.Type == wire.NS })
}

// fromCache are answers of a blamed resolver that come out of a cache: it says so itself, or
// they count down.
func fromCache(s *sight) []*exchange.Exchange {
	for _, e := range s.resolvers {
		if e != nil && s.blames(e) && comparison.SaysStale(e) {
			return []*exchange.Exchange{e}
		}
	}
	return countsDown(s)
}

// countsDown are two answers of a blamed resolver of which the later has less time left: it is
// a cache.
func countsDown(s *sight) []*exchange.Exchange {
	return lessLeft(s, func(e *exchange.Exchange) bool { return e.Question.Type != wire.NS })
}

func lessLeft(s *sight, of func(e *exchange.Exchange) bool) []*exchange.Exchange {
	for i, later := range s.exchanges {
		if later == nil || !s.blames(later) || later.Outcome != exchange.Answered || !of(later) {
			continue
		}
		for _, e := range s.exchanges[:i] {
			if e != nil && e.Server == later.Server && e.Question.Same(later.Question) && e.Meaning() == later.Meaning() && later.Sent().Sub(e.Sent()) >= time.Second &&
				later.Answer().Records[0].TTL < e.Answer().Records[0].TTL {
				return []*exchange.Exchange{e, later}
			}
		}
	}
	return nil
}

// notBySubnet are answers that no view of the zone can have led to.
func notBySubnet(s *sight) []*exchange.Exchange {
	if own := callsItselfAuthority(s); own != nil {
		return own
	}
	return knowsSubnets(s)
}

// knowsSubnets are answers of the zone's own servers that say that they are for a blamed
// resolver's network, and differ from what that resolver says.
func knowsSubnets(s *sight) []*exchange.Exchange {
	for _, e := range s.exchanges {
		if e == nil || s.blames(e) || !e.Authoritative() || e.Outcome != exchange.Answered {
			continue
		}
		edns, _ := e.Reply.EDNS()
		for _, o := range edns.Options {
			network, scope, is := o.Subnet()
			if is && scope > 0 && slices.ContainsFunc(s.resolvers, func(of *exchange.Exchange) bool {
				return of != nil && s.blames(of) && of.Question.Same(e.Question) && network.Contains(of.Server.Address.Addr()) && of.Meaning() != e.Meaning()
			}) {
				return []*exchange.Exchange{e}
			}
		}
	}
	return nil
}

// weigh says how sure a placing is, by what is to be seen.
func (p placing) weigh(s *sight) placing {
	var left []rival
	for _, r := range p.rivals {
		var by []*exchange.Exchange
		if r.contradicted != nil {
			by = r.contradicted(s)
		}
		if len(by) == 0 {
			left = append(left, r)
			continue
		}
		out := RuledOut{What: r.name, By: r.shows}
		for _, e := range by {
			out.Seen = append(out.Seen, e.Number)
		}
		p.ruledOut = append(p.ruledOut, out)
	}
	if len(left) == 0 {
		return p
	}
	if p.sure == finding.Certain {
		p.sure = finding.Likely
	}
	if p.equal {
		p.sure = finding.Possible
	}
	var names, tells []string
	for _, r := range left {
		names = append(names, r.name)
		if !slices.Contains(tells, r.tells) {
			tells = append(tells, r.tells)
		}
	}
	p.against = fmt.Sprintf("%s would look the same; to tell them apart, %s", wording.Either(names), strings.Join(tells, "; "))
	return p
}
