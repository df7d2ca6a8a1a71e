package diagnosis

import (
	"slices"

	"unquil/core/finding"
)

// Place is where a name fails.
type Place string

// The places, from the caller outwards.
const (
	ThisMachine  Place = "this machine"
	PathOut      Place = "the path to the resolver"
	TheResolver  Place = "the resolver"
	TheRegistry  Place = "the root or registry"
	TheDeleg     Place = "the delegation"
	ZoneServers  Place = "the zone's servers"
	OneServer    Place = "one of the zone's servers"
	TheZoneData  Place = "the zone's data"
	BehindAnswer Place = "the network behind an answer"
	NowhereFound Place = ""
)

// Who can mend it.
const (
	you          = "you, on this machine"
	network      = "your network team"
	operator     = "whoever runs the resolver"
	holder       = "the zone's operator"
	holderAtHost = "the zone's operator, with whoever runs those servers"
	registry     = "the zone's registry"
)

// rule says where a finding places the failure and who can mend it. zone tells
// a finding about one of a zone's servers from the same about a resolver.
type rule struct {
	code    finding.Code
	zone    bool
	place   Place
	who     string
	sure    string // what makes it so
	against string // what speaks against it, or looks the same
	// explains are the findings that follow from it, wherever they are seen.
	explains []finding.Code
}

// What resolvers do when those they ask do not answer.
var resolverFails = []finding.Code{finding.ServerFailure, finding.NoReply, finding.Failed, finding.Slow, finding.Refused}

const firewall = "a firewall on the way would look the same: try from another network"

// rules is ordered: what is nearer to the cause stands higher, so a resolver's
// failure comes after the servers it had to ask, and what concerns one server of
// several after what stops all.
var rules = []rule{
	{finding.NoResolver, false, ThisMachine, you, "the machine's own configuration says so", "", nil},
	{finding.HostsOverride, false, ThisMachine, you, "the hosts file is read before any resolver is asked", "some programs do not read the hosts file", nil},
	{finding.NoWayOut, false, PathOut, network, "neither a resolver nor a root server replies", "many networks let only their resolvers out, and then the resolver alone is to blame", []finding.Code{finding.NoReply, finding.Unreachable}},
	{finding.AliasLoop, true, TheZoneData, holder, "the aliases come from the zone's own servers", "", resolverFails},
	{finding.AliasDangling, true, TheZoneData, holder, "the zone's own servers say that the target does not exist", "", []finding.Code{finding.AliasDangling, finding.Failed}},
	{finding.Loop, true, TheDeleg, holder, "the name of each server depends on the others", "", slices.Concat(resolverFails, []finding.Code{finding.NSUnresolved, finding.GlueMissing})},
	{finding.NoDelegation, true, TheDeleg, holder, "the parent's own servers were queried", "", []finding.Code{finding.AnswersDiffer}},
	{finding.LameServer, true, TheDeleg, holderAtHost, "every server that the parent lists was queried", "a server may refuse only you: try from another network", resolverFails},
	{finding.AddressNowhere, true, TheDeleg, holder, "the parent's own servers give that address", "", resolverFails},
	{finding.NSUnresolved, true, TheDeleg, holder, "every server that the parent lists was looked up", "", resolverFails},
	{finding.UDPLost, false, PathOut, network, "the same query is answered over TCP", "the server itself may accept TCP only", []finding.Code{finding.UDPLost, finding.NoReply}},
	{finding.UDPLost, true, ZoneServers, holderAtHost, "the same query is answered over TCP", "a firewall near this machine would look the same: try from another network", resolverFails},
	{finding.LargeLost, false, PathOut, network, "with a small buffer size advertised, it answers", "the server itself may send oversized packets", []finding.Code{finding.LargeLost, finding.EDNSBreaks}},
	{finding.LargeLost, true, ZoneServers, holderAtHost, "with a small buffer size advertised, they answer", firewall, resolverFails},
	{finding.NoReply, true, ZoneServers, holderAtHost, "every server that the parent lists was queried more than once", firewall, resolverFails},
	{finding.Unreachable, true, ZoneServers, holderAtHost, "every server that the parent lists was queried", "", resolverFails},
	{finding.WrongID, true, ZoneServers, holderAtHost, "the replies are in the evidence", "a device on the path may be answering in their place", resolverFails},
	{finding.WrongQuestion, true, ZoneServers, holderAtHost, "the replies are in the evidence", "a device on the path may be answering in their place", resolverFails},
	{finding.WrongSource, true, ZoneServers, holderAtHost, "the replies are in the evidence", "address translation near this machine would look the same", resolverFails},
	{finding.Malformed, true, ZoneServers, holderAtHost, "the replies are in the evidence", "a device on the path may damage them", resolverFails},
	{finding.ServerFailure, true, ZoneServers, holderAtHost, "the servers say so themselves", "", resolverFails},
	{finding.Refused, true, ZoneServers, holderAtHost, "the servers say so themselves", "a server may refuse only you: try from another network", resolverFails},
	{finding.Truncated, true, ZoneServers, holderAtHost, "TCP was tried as well", firewall, slices.Concat(resolverFails, []finding.Code{finding.TCPRefused})},
	{finding.NameDenied, true, ZoneServers, holderAtHost, "the same servers answer for another type, or for names below it", "", []finding.Code{finding.NameDenied, finding.CacheNegative}},
	{finding.RecursionUnavailable, false, TheResolver, you, "the resolver's own replies say so", "it may offer recursion to other clients", nil},
	{finding.ValidationFails, false, TheResolver, operator, "with checking disabled the same resolver answers", "if other validating resolvers fail too, the zone's signatures are to blame", []finding.Code{finding.ServerFailure}},
	{finding.AnswerRewritten, false, TheResolver, operator, "the zone's own servers say that there is no such name", "", nil},
	{finding.AnswerBlocked, false, TheResolver, operator, "the zone's own servers do answer", "", nil},
	{finding.CacheStale, false, TheResolver, operator, "the zone's own servers were queried at the same time", "if it still says so once the TTL has run out, it is configured to, and this is no cached answer", nil},
	{finding.CacheNegative, false, TheResolver, operator, "the zone's own servers were queried at the same time", "", nil},
	{finding.TargetUnresolvable, false, TheZoneData, holder, "both address types were looked up for the host", "", nil},
	{finding.AddressNowhere, false, BehindAnswer, holder, "the zone's own servers give that address", "it works on that host itself", nil},
	{finding.AnswersDiffer, true, OneServer, holderAtHost, "the servers were queried at the same time", "", []finding.Code{finding.SerialsDiffer}},
	{finding.Refused, false, TheResolver, operator, "the resolver says so itself", "", nil},
	{finding.ServerFailure, false, TheResolver, operator, "the zone's own servers do answer", "they answer this machine, but it may not be able to reach them", nil},
	{finding.NoReply, false, PathOut, network, "every attempt timed out", "the resolver itself may be down", nil},
	{finding.Unreachable, false, PathOut, network, "the network reported it", "", nil},
	{finding.WrongID, false, PathOut, network, "the replies are in the evidence", "the resolver itself may be at fault", nil},
	{finding.WrongQuestion, false, PathOut, network, "the replies are in the evidence", "the resolver itself may be at fault", nil},
	{finding.WrongSource, false, TheResolver, operator, "the replies are in the evidence", "address translation in between would look the same", nil},
	{finding.Malformed, false, PathOut, network, "the replies are in the evidence", "the resolver itself may be at fault", nil},
	{finding.Truncated, false, TheResolver, operator, "TCP was tried as well", "", []finding.Code{finding.TCPRefused}},
	{finding.TCPRefused, false, TheResolver, operator, "a connection was attempted", "", nil},
	{finding.AnswerDiffers, false, TheResolver, operator, "the zone's own servers were queried at the same time", "nothing seen explains the difference", nil},
	{finding.Failed, false, TheResolver, operator, "the resolver says so itself", "", nil},
	{finding.LoopedQuery, false, PathOut, network, "the same packet came by again and again", "", []finding.Code{finding.NoReply, finding.LateReply}},
	{finding.RepliesDiffer, false, PathOut, network, "both replies are in the capture", "two servers behind one address would look the same", nil},
	{finding.UnsolicitedReply, false, PathOut, network, "the replies are in the capture", "", nil},
	{finding.LateReply, false, TheResolver, operator, "the times are those of the capture", "the path to it may be slow", []finding.Code{finding.NoReply}},
	{finding.HalfFails, false, TheResolver, operator, "both questions are in the capture", "", nil},
	{finding.SourceDiffers, false, ThisMachine, you, "the machine's own look-up was tried", "an answer by location or rotation would look the same: try again", nil},
	{finding.SuffixAppended, false, ThisMachine, you, "the machine's own search list was used", "it may be intended", nil},
	{finding.EDNSLost, false, PathOut, network, "several servers answer without EDNS, and none with it", "", []finding.Code{finding.EDNSBreaks}},
	{finding.EDNSBreaks, false, PathOut, network, "the same query is answered without EDNS", "the resolver itself may be old", []finding.Code{finding.EDNSBreaks}},
	{finding.EDNSBreaks, true, ZoneServers, holderAtHost, "the same query is answered without EDNS", firewall, resolverFails},
	{finding.TCPRefused, true, ZoneServers, holderAtHost, "a connection was attempted", firewall, resolverFails},
	{finding.Unsteady, false, TheResolver, operator, "the same query was sent twice", "it may have been busy for a moment", []finding.Code{finding.HalfFails}},
	{finding.Intercepted, false, PathOut, network, "root servers do not offer recursion, and these replies do", "", nil},
	{finding.GlueMissing, true, TheDeleg, holder, "the parent's own servers were queried", "", nil},
	{finding.GlueDiffers, true, TheDeleg, holder, "parent and zone were queried at the same time", "", nil},
	{finding.NSSetDiffers, true, TheDeleg, holder, "parent and zone were queried at the same time", "", nil},
	{finding.NSIsAlias, true, TheDeleg, holder, "the server's name was looked up", "", nil},
	{finding.SerialsDiffer, true, OneServer, holderAtHost, "the servers were queried at the same time", "", nil},
	{finding.AliasLong, true, TheZoneData, holder, "the aliases come from the zone's own servers", "", nil},
	{finding.TargetIsAlias, false, TheZoneData, holder, "the host was asked for", "", nil},
	{finding.ReverseMismatch, false, TheZoneData, holder, "name and address were both asked for", "", nil},
	{finding.ReverseMissing, false, TheZoneData, holder, "the address was asked for", "many addresses need no reverse name", nil},
	{finding.Slow, true, OneServer, holderAtHost, "the time was measured here", "the path to it may be slow", []finding.Code{finding.Slow}},
	{finding.Slow, false, TheResolver, operator, "the time was measured here", "the path to it may be slow, or the servers that it has to query", nil},
	{finding.SingleServer, true, TheDeleg, holder, "the parent's list was read", "", nil},
	{finding.OneNetwork, true, TheDeleg, holder, "the servers' addresses were compared", "one address may belong to many machines (anycast)", nil},
	{finding.OneNetwork, false, TheZoneData, holder, "the hosts' addresses were compared", "one address may belong to many machines (anycast)", nil},
}

// rank is the rule for a finding and its place in the order; len(rules) for one
// that no rule knows.
func rank(f finding.Finding) int {
	for i, r := range rules {
		if r.code == f.Code && r.zone == (f.About.Zone != "") {
			return i
		}
	}
	return len(rules)
}

// Placing is where a finding places a failure, as the rules have it.
type Placing struct {
	OfZone  bool // it is about one of a zone's servers, and not about a resolver
	Place   Place
	Who     string // can mend it
	Sure    string // what makes it so
	Against string // what speaks against it; "" where nothing does
	// Explains are the findings that follow from it.
	Explains []finding.Code
}

// Placings are where the rules place a finding: none, one, or one each for
// resolvers and for a zone's servers.
func Placings(code finding.Code) (all []Placing) {
	for _, r := range rules {
		if r.code == code {
			all = append(all, Placing{r.zone, r.place, r.who, r.sure, r.against, r.explains})
		}
	}
	return all
}
