package diagnosis

import "unquil/core/finding"

// Place is where a name fails.
type Place string

// The places, from the caller outwards.
const (
	ThisMachine  Place = "this machine"
	PathOut      Place = "the path to the resolver"
	TheResolver  Place = "the resolver"
	TheDeleg     Place = "the delegation"
	ZoneServers  Place = "the zone's servers"
	OneServer    Place = "one of the zone's servers"
	TheZoneData  Place = "the zone's data"
	NowhereFound Place = ""
)

// Who can mend it.
const (
	you          = "you, on this machine"
	network      = "your network's people"
	operator     = "whoever runs the resolver"
	holder       = "the zone's holder"
	holderAtHost = "the zone's holder, with whoever runs those servers"
)

// rule says where a finding places the failure and who can mend it. zone tells
// a finding about one of a zone's servers from the same about a resolver.
type rule struct {
	code  finding.Code
	zone  bool
	place Place
	who   string
	sure  string // what makes it so
}

// rules is ordered: a finding explains those in the rows below it. What is
// nearer to the cause stands higher, so a resolver's failure comes after the
// servers it had to ask.
var rules = []rule{
	{finding.NoResolver, false, ThisMachine, you, "the machine's own set-up says so"},
	{finding.AliasLoop, true, TheZoneData, holder, "the zone's own servers give the aliases"},
	{finding.AliasDangling, true, TheZoneData, holder, "the zone's own servers say that the target does not exist"},
	{finding.Loop, true, TheDeleg, holder, "each server's name needs the others"},
	{finding.NoDelegation, true, TheDeleg, holder, "the parent's own servers were asked"},
	{finding.LameServer, true, TheDeleg, holderAtHost, "every server that the parent lists was asked"},
	{finding.NSUnresolved, true, TheDeleg, holder, "every server that the parent lists was looked up"},
	{finding.NoReply, true, ZoneServers, holderAtHost, "every server that the parent lists was asked, more than once"},
	{finding.Unreachable, true, ZoneServers, holderAtHost, "every server that the parent lists was asked"},
	{finding.Malformed, true, ZoneServers, holderAtHost, "the replies are kept as evidence"},
	{finding.ServerFailure, true, ZoneServers, holderAtHost, "the servers say so themselves"},
	{finding.Truncated, true, ZoneServers, holderAtHost, "the whole answer was asked for over TCP too"},
	{finding.CacheStale, false, TheResolver, operator, "the zone's own servers were asked at the same time"},
	{finding.CacheNegative, false, TheResolver, operator, "the zone's own servers were asked at the same time"},
	{finding.AnswerRewritten, false, TheResolver, operator, "the zone's own servers say that there is no such name"},
	{finding.AnswerBlocked, false, TheResolver, operator, "the zone's own servers do answer"},
	{finding.AnswersDiffer, true, OneServer, holderAtHost, "the servers were asked at the same time"},
	{finding.Refused, false, TheResolver, operator, "the resolver says so itself"},
	{finding.ServerFailure, false, TheResolver, operator, "the zone's own servers do answer"},
	{finding.NoReply, false, PathOut, network, "every try timed out"},
	{finding.Unreachable, false, PathOut, network, "the network said so"},
	{finding.Malformed, false, PathOut, network, "the replies are kept as evidence"},
	{finding.Truncated, false, TheResolver, operator, "the whole answer was asked for over TCP too"},
	{finding.AnswerDiffers, false, TheResolver, operator, "the zone's own servers were asked at the same time"},
	{finding.Failed, false, TheResolver, operator, "the resolver says so itself"},
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
