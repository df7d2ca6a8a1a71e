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

// Who can fix it.
const (
	you          = "you, on this machine"
	network      = "your network team"
	operator     = "whoever runs the resolver"
	holder       = "the zone's operator"
	holderAtHost = "the zone's operator, with whoever runs those servers"
	registrySide = "the zone's registry"
	registrant   = "the domain's holder, at its registrar"
)

// rule says where a finding places the failure and who can fix it.
type rule struct {
	code   finding.Code
	ofZone bool // it is about one of a zone's servers, and not about a resolver
	place  Place
	who    string  // can fix it
	sure   string  // what makes it so
	rivals []rival // the other causes that would show the same
	equal  bool    // each of them fits as well as this one
	caveat string  // what is to be kept in mind all the same
	// explains are the findings that follow from it, wherever they are seen.
	explains []finding.Code
	sharing  bool // of those, only such as rest on an exchange of its own
}

// What resolvers do when those they ask do not answer.
var resolverFails = []finding.Code{finding.ServerFailure, finding.NoReply, finding.Failed, finding.Slow, finding.Refused}

// signatureFlaws are what can be wrong with the signatures that one server gives.
var signatureFlaws = []finding.Code{finding.SignatureExpired, finding.SignatureNotYetValid, finding.SignatureMissing, finding.SignatureWrong, finding.DenialIncomplete}

// keysSeen makes sure how a zone is signed.
const keysSeen = "the keys, digests and signatures on the way were fetched and checked"

// What resolvers that validate do with a zone whose signatures are broken.
var signaturesBreak = append([]finding.Code{finding.ValidationFails}, resolverFails...)

// heardHere makes sure what this machine does with packets.
const heardHere = "the packets were heard at this machine's interfaces"

// What is seen through a machine that meddles with what it sends and gets.
var meddled = slices.Concat(resolverFails, []finding.Code{finding.Unreachable, finding.AnswersDiffer, finding.AnswerDiffers, finding.AnswerRewritten, finding.AnswerBlocked, finding.AnswerLocal,
	finding.CacheStale, finding.CacheNegative, finding.Intercepted, finding.UDPLost, finding.LargeLost, finding.EDNSLost, finding.EDNSBreaks, finding.NoWayOut, finding.PacketLost, finding.Unsteady,
	finding.NameLost, finding.NameDenied, finding.NoDelegation, finding.LameServer, finding.WrongSource, finding.WrongID, finding.WrongQuestion, finding.Malformed, finding.RecursionUnavailable,
	finding.HintsOld, finding.SerialsDiffer, finding.ContentDiffers, finding.NSSetDiffers, finding.GlueDiffers,
	finding.SignatureWrong, finding.SignatureMissing, finding.DenialIncomplete, finding.KeyUnsigned, finding.DSWithoutKey, finding.ChainMissing})

// rules is ordered: what is nearer to the cause stands higher, so a resolver's
// failure comes after the servers it had to ask, and what concerns one server of
// several after what stops all.
var rules = []rule{
	{code: finding.NoResolver, place: ThisMachine, who: you, sure: "the machine's own configuration says so"},
	{code: finding.HostsOverride, place: ThisMachine, who: you, sure: "the hosts file is read before any resolver is asked", caveat: "some programs do not read the hosts file"},
	{code: finding.DroppedLocally, place: ThisMachine, who: you, sure: heardHere, explains: meddled},
	{code: finding.AnsweredLocally, place: ThisMachine, who: you, sure: heardHere, caveat: "it may be meant: many systems have a stub resolver", explains: meddled},
	{code: finding.AlteredOnTheWay, place: ThisMachine, who: you, sure: heardHere, explains: meddled},
	{code: finding.NoWayOut, place: PathOut, who: network, sure: "neither a resolver nor a root server replies", explains: []finding.Code{finding.NoReply, finding.Unreachable}},
	{code: finding.DomainExpired, place: TheRegistry, who: registrant, sure: "the registry itself was asked", explains: slices.Concat(resolverFails, []finding.Code{finding.DomainOnHold, finding.RegistryDiffers, finding.NoDelegation, finding.LameServer, finding.NSUnresolved})},
	{code: finding.DomainOnHold, place: TheRegistry, who: registrant, sure: "the registry itself was asked", explains: slices.Concat(resolverFails, []finding.Code{finding.RegistryDiffers, finding.NoDelegation, finding.LameServer, finding.NSUnresolved})},
	{code: finding.DomainUnregistered, place: TheRegistry, who: registrant, sure: "registry and zone above were both asked", explains: []finding.Code{finding.NoDelegation}},
	{code: finding.AliasLoop, ofZone: true, place: TheZoneData, who: holder, sure: "the aliases come from the zone's own servers", explains: resolverFails},
	{code: finding.AliasDangling, ofZone: true, place: TheZoneData, who: holder, sure: "the zone's own servers say that the target does not exist", explains: []finding.Code{finding.AliasDangling, finding.Failed}},
	{code: finding.Loop, ofZone: true, place: TheDeleg, who: holder, sure: "the name of each server depends on the others", explains: slices.Concat(resolverFails, []finding.Code{finding.NSUnresolved, finding.GlueMissing})},
	{code: finding.NoDelegation, ofZone: true, place: TheDeleg, who: holder, sure: "the parent's own servers were queried", explains: []finding.Code{finding.AnswersDiffer}},
	{code: finding.ParentDiffers, ofZone: true, place: TheDeleg, who: registrySide, sure: "all servers of the parent were queried", explains: []finding.Code{finding.LameServer}},
	{code: finding.LameServer, ofZone: true, place: TheDeleg, who: holderAtHost, sure: "every server that the parent lists was queried", rivals: []rival{onlyYou}, explains: resolverFails},
	{code: finding.AddressNowhere, ofZone: true, place: TheDeleg, who: holder, sure: "the parent's own servers give that address", explains: resolverFails},
	{code: finding.NSUnresolved, ofZone: true, place: TheDeleg, who: holder, sure: "every server that the parent lists was looked up", explains: resolverFails},
	{code: finding.UDPLost, place: PathOut, who: network, sure: "the same query is answered over TCP", rivals: []rival{{"a resolver that accepts TCP only", "ask whoever runs it, or capture at the resolver", "", nil}}, explains: []finding.Code{finding.UDPLost, finding.NoReply}},
	{code: finding.UDPLost, ofZone: true, place: ZoneServers, who: holderAtHost, sure: "the same query is answered over TCP", rivals: []rival{nearUDP}, explains: resolverFails},
	{code: finding.LargeLost, place: PathOut, who: network, sure: "with a small buffer size advertised, it answers", rivals: []rival{{"a resolver that sends packets larger than its own link takes", "capture at the resolver, and see what leaves it", "", nil}}, explains: []finding.Code{finding.LargeLost, finding.EDNSBreaks}},
	{code: finding.LargeLost, ofZone: true, place: ZoneServers, who: holderAtHost, sure: "with a small buffer size advertised, they answer", rivals: []rival{nearLarge}, explains: resolverFails},
	{code: finding.NoReply, ofZone: true, place: ZoneServers, who: holderAtHost, sure: "every server that the parent lists was queried more than once", rivals: []rival{nearUDP, route}, explains: resolverFails},
	{code: finding.Unreachable, ofZone: true, place: ZoneServers, who: holderAtHost, sure: "every server that the parent lists was queried", rivals: []rival{route}, explains: resolverFails},
	{code: finding.WrongID, ofZone: true, place: ZoneServers, who: holderAtHost, sure: "the replies are in the evidence", rivals: []rival{nearDevice}, explains: resolverFails},
	{code: finding.WrongQuestion, ofZone: true, place: ZoneServers, who: holderAtHost, sure: "the replies are in the evidence", rivals: []rival{nearDevice}, explains: resolverFails},
	{code: finding.WrongSource, ofZone: true, place: ZoneServers, who: holderAtHost, sure: "the replies are in the evidence", rivals: []rival{{"address translation near this machine", "ask from another network", "other servers reply from the address that was asked", repliesOverUDP}}, explains: resolverFails},
	{code: finding.Malformed, ofZone: true, place: ZoneServers, who: holderAtHost, sure: "the replies are in the evidence", rivals: []rival{nearDevice}, explains: resolverFails},
	{code: finding.ServerFailure, ofZone: true, place: ZoneServers, who: holderAtHost, sure: "the servers say so themselves", explains: resolverFails},
	{code: finding.Failed, ofZone: true, place: ZoneServers, who: holderAtHost, sure: "the servers say so themselves", explains: resolverFails},
	{code: finding.Refused, ofZone: true, place: ZoneServers, who: holderAtHost, sure: "the servers say so themselves", rivals: []rival{onlyYou}, explains: resolverFails},
	{code: finding.Truncated, ofZone: true, place: ZoneServers, who: holderAtHost, sure: "TCP was tried as well", rivals: []rival{nearTCP}, explains: slices.Concat(resolverFails, []finding.Code{finding.TCPRefused})},
	{code: finding.NameDenied, ofZone: true, place: ZoneServers, who: holderAtHost, sure: "the same servers answer for another type, or for names below it", explains: []finding.Code{finding.NameDenied, finding.CacheNegative}},
	{code: finding.NameLost, place: TheZoneData, who: holder, sure: "the zone's own servers say that there is no such name, and the resolver makes nothing up"},
	{code: finding.RecursionUnavailable, place: TheResolver, who: you, sure: "the resolver's own replies say so", caveat: "it may offer recursion to other clients"},
	{code: finding.ValidationFails, place: TheResolver, who: operator, sure: "with checking disabled the same resolver answers", rivals: []rival{{"a zone whose signatures are broken", "ask another resolver that validates: if it fails too, the zone is to blame", "a resolver that validates answers", validates}}, explains: []finding.Code{finding.ServerFailure}},
	{code: finding.AnswerRewritten, place: TheResolver, who: operator, sure: "the zone's own servers say that there is no such name"},
	{code: finding.AnswerBlocked, place: TheResolver, who: operator, sure: "the zone's own servers do answer"},
	{code: finding.ServersStale, place: TheResolver, who: operator, sure: "the resolver was asked for the zone's servers", rivals: []rival{{"a rule on the resolver that sends this zone's queries to those servers", "ask whoever runs it, or ask it again for the zone's NS records: what is cached counts down", "the TTL of the zone's NS records there counts down", serversCountDown}}, explains: resolverFails},
	{code: finding.AnswerByPlace, ofZone: true, place: TheZoneData, who: holder, sure: "one of the zone's own servers was asked on behalf of both networks"},
	{code: finding.AnswerLocal, place: TheResolver, who: operator, sure: "the zone's own servers were queried at the same time", rivals: []rival{quietlyStale, bySubnet}, caveat: "it may be meant: networks often have a view of their own for inside"},
	{code: finding.CacheStale, place: TheResolver, who: operator, sure: "the zone's own servers were queried at the same time", rivals: []rival{override, bySubnet}},
	{code: finding.CacheNegative, place: TheResolver, who: operator, sure: "the zone's own servers were queried at the same time"},
	{code: finding.TargetUnresolvable, place: TheZoneData, who: holder, sure: "both address types were looked up for the host", explains: []finding.Code{finding.MailNowhere}},
	{code: finding.MailNowhere, place: TheZoneData, who: holder, sure: "the MX records and the hosts' addresses were looked up"},
	{code: finding.AddressNowhere, place: BehindAnswer, who: holder, sure: "the zone's own servers give that address", caveat: "it works on that host itself"},
	{code: finding.AnswersDiffer, ofZone: true, place: OneServer, who: holderAtHost, sure: "the servers were queried at the same time", explains: []finding.Code{finding.SerialsDiffer, finding.CacheStale, finding.CacheNegative}, sharing: true},
	{code: finding.Refused, place: TheResolver, who: operator, sure: "the resolver says so itself"},
	{code: finding.ServerFailure, place: TheResolver, who: operator, sure: "the zone's own servers do answer", rivals: []rival{{"a fault of the network between the resolver and the zone's servers", "have its operator query them from there", "it fails for everything", nil}}},
	{code: finding.NoReply, place: PathOut, who: network, sure: "every attempt timed out", equal: true, rivals: []rival{{"a resolver that is down", "ask whoever runs it, or try from another network", "", nil}}},
	{code: finding.CertificateRejected, place: TheResolver, who: operator, sure: "the certificate was read", rivals: []rival{{"a device on the way that intercepts encrypted connections", "look at the certificate from another network", "", nil}}},
	{code: finding.Unreachable, place: PathOut, who: network, sure: "the network reported it"},
	{code: finding.WrongID, place: PathOut, who: network, sure: "the replies are in the evidence", rivals: []rival{itself}},
	{code: finding.WrongQuestion, place: PathOut, who: network, sure: "the replies are in the evidence", rivals: []rival{itself}},
	{code: finding.WrongSource, place: TheResolver, who: operator, sure: "the replies are in the evidence", rivals: []rival{{"address translation between here and the resolver", "capture at the resolver, and see what leaves it", "", nil}}},
	{code: finding.Malformed, place: PathOut, who: network, sure: "the replies are in the evidence", rivals: []rival{itself}},
	{code: finding.Truncated, place: TheResolver, who: operator, sure: "TCP was tried as well", explains: []finding.Code{finding.TCPRefused}},
	{code: finding.TCPRefused, place: TheResolver, who: operator, sure: "a connection was attempted"},
	{code: finding.AnswerDiffers, place: TheResolver, who: operator, sure: "the zone's own servers were queried at the same time", equal: true, rivals: []rival{{"an answer by place that the zone gives", "ask the zone's operator whether it is meant", "", nil}, {"an override on the resolver", "ask whoever runs it", "", nil}}},
	{code: finding.Failed, place: TheResolver, who: operator, sure: "the resolver says so itself"},
	{code: finding.LoopedQuery, place: PathOut, who: network, sure: "the same packet came by again and again", explains: []finding.Code{finding.NoReply, finding.LateReply}},
	{code: finding.RepliesDiffer, place: PathOut, who: network, sure: "both replies are in the capture", rivals: []rival{{"two servers behind one address", "ask whoever runs the server", "", nil}}},
	{code: finding.UnsolicitedReply, place: PathOut, who: network, sure: "the replies are in the capture", rivals: []rival{itself}},
	{code: finding.LateReply, place: TheResolver, who: operator, sure: "the times are those of the capture", rivals: []rival{{"a slow network on the way to it", "capture at the server", "", nil}}, explains: []finding.Code{finding.NoReply}},
	{code: finding.HalfFails, place: TheResolver, who: operator, sure: "both questions are in the capture"},
	{code: finding.SourceDiffers, place: ThisMachine, who: you, sure: "the machine's own look-up was tried", rivals: []rival{{"an answer by location or rotation", "try again, several times", "", nil}}},
	{code: finding.SuffixAppended, place: ThisMachine, who: you, sure: "the machine's own search list was used", caveat: "it may be intended"},
	{code: finding.PacketLost, place: PathOut, who: network, sure: "the same queries were answered when they were sent again", rivals: []rival{{"servers that limit how often they reply", "ask from another network, and less often", "", nil}}, explains: []finding.Code{finding.Unsteady, finding.NoReply}},
	{code: finding.HintsOld, place: ThisMachine, who: you, sure: "the hints were held against the root's own list"},
	{code: finding.EDNSLost, place: PathOut, who: network, sure: "several servers answer without EDNS, and none with it", explains: []finding.Code{finding.EDNSBreaks}},
	{code: finding.EDNSBreaks, place: PathOut, who: network, sure: "the same query is answered without EDNS", rivals: []rival{{"a resolver too old for EDNS", "ask whoever runs it", "", nil}}, explains: []finding.Code{finding.EDNSBreaks}},
	{code: finding.EDNSBreaks, ofZone: true, place: ZoneServers, who: holderAtHost, sure: "the same query is answered without EDNS", rivals: []rival{nearEDNS}, explains: resolverFails},
	{code: finding.TCPRefused, ofZone: true, place: ZoneServers, who: holderAtHost, sure: "a connection was attempted", rivals: []rival{nearTCP}, explains: resolverFails},
	{code: finding.Unsteady, place: TheResolver, who: operator, sure: "the same query was sent twice", caveat: "it may have been busy for a moment", explains: []finding.Code{finding.HalfFails}},
	{code: finding.Unsteady, ofZone: true, place: OneServer, who: holderAtHost, sure: "the same query was sent twice", rivals: []rival{{"loss on the way", "ask from another network", "", nil}}},
	{code: finding.Intercepted, place: PathOut, who: network, sure: "root servers do not offer recursion, and these replies do"},
	{code: finding.GlueMissing, ofZone: true, place: TheDeleg, who: holder, sure: "the parent's own servers were queried"},
	{code: finding.GlueDiffers, ofZone: true, place: TheDeleg, who: holder, sure: "parent and zone were queried at the same time"},
	{code: finding.NSSetDiffers, ofZone: true, place: TheDeleg, who: holder, sure: "parent and zone were queried at the same time"},
	{code: finding.NSIsAlias, ofZone: true, place: TheDeleg, who: holder, sure: "the server's name was looked up"},
	{code: finding.SerialsDiffer, ofZone: true, place: OneServer, who: holderAtHost, sure: "the servers were queried at the same time"},
	{code: finding.ValidationOff, place: TheResolver, who: operator, sure: keysSeen},
	{code: finding.ValidationDiffers, place: TheResolver, who: operator, sure: keysSeen, rivals: []rival{{"trust anchors of its own", "ask whoever runs it", "", nil}}},
	{code: finding.ClockWrong, place: ThisMachine, who: you, sure: keysSeen, rivals: []rival{{"root servers that are not the root's", "ask from another network", "", nil}}},
	{code: finding.AnchorOld, place: ThisMachine, who: you, sure: keysSeen, rivals: []rival{{"root servers that are not the root's", "ask from another network", "", nil}}},
	{code: finding.DSWithoutKey, ofZone: true, place: TheDeleg, who: registrant, sure: keysSeen, explains: signaturesBreak},
	{code: finding.ChainMissing, ofZone: true, place: TheDeleg, who: registrant, sure: keysSeen, explains: signaturesBreak},
	{code: finding.KeyUnsigned, ofZone: true, place: TheZoneData, who: holder, sure: keysSeen, rivals: []rival{stripped}, explains: signaturesBreak},
	{code: finding.SignatureExpired, ofZone: true, place: TheZoneData, who: holder, sure: keysSeen, explains: signaturesBreak},
	{code: finding.SignatureNotYetValid, ofZone: true, place: TheZoneData, who: holder, sure: keysSeen, explains: signaturesBreak},
	{code: finding.SignatureMissing, ofZone: true, place: TheZoneData, who: holder, sure: keysSeen, rivals: []rival{stripped}, explains: signaturesBreak},
	{code: finding.SignatureWrong, ofZone: true, place: TheZoneData, who: holder, sure: keysSeen, rivals: []rival{{"a device near this machine that changes answers", "ask from another network", "", nil}}, explains: signaturesBreak},
	{code: finding.DenialIncomplete, ofZone: true, place: TheZoneData, who: holder, sure: keysSeen, rivals: []rival{stripped}, explains: signaturesBreak},
	{code: finding.SignatureRunsOut, ofZone: true, place: TheZoneData, who: holder, sure: keysSeen},
	{code: finding.SignersDiffer, ofZone: true, place: TheZoneData, who: holder, sure: "the servers were queried at the same time"},
	{code: finding.CDSWaiting, ofZone: true, place: TheDeleg, who: registrant, sure: keysSeen},
	{code: finding.RolloverUnsafe, ofZone: true, place: TheZoneData, who: holder, sure: keysSeen},
	{code: finding.NSEC3Rounds, ofZone: true, place: TheZoneData, who: holder, sure: keysSeen},
	{code: finding.DSUnsupported, ofZone: true, place: TheDeleg, who: registrant, sure: keysSeen},
	{code: finding.AlgorithmIncomplete, ofZone: true, place: TheZoneData, who: holder, sure: keysSeen},
	{code: finding.KeyShort, ofZone: true, place: TheZoneData, who: holder, sure: keysSeen},
	{code: finding.AlgorithmWeak, ofZone: true, place: TheZoneData, who: holder, sure: keysSeen},
	{code: finding.RegistryDiffers, place: TheRegistry, who: registrant, sure: "registry and zone above were both asked"},
	{code: finding.DomainExpiresSoon, place: TheRegistry, who: registrant, sure: "the registry itself was asked"},
	{code: finding.RegistryUnreachable, place: TheRegistry, who: registrySide, sure: "it was tried", rivals: []rival{{"a network that lets nobody out over HTTPS", "ask from another network", "", nil}}},
	{code: finding.AliasLong, ofZone: true, place: TheZoneData, who: holder, sure: "the aliases come from the zone's own servers"},
	{code: finding.SPFSeveral, place: TheZoneData, who: holder, sure: "the records were read"},
	{code: finding.SPFSyntax, place: TheZoneData, who: holder, sure: "the record was read"},
	{code: finding.SPFLoop, place: TheZoneData, who: holder, sure: "every record on the way was read", explains: []finding.Code{finding.SPFTooManyLookups}},
	{code: finding.SPFIncludeMissing, place: TheZoneData, who: holder, sure: "what it includes was looked up", explains: []finding.Code{finding.SPFVoidLookups}},
	{code: finding.SPFTooManyLookups, place: TheZoneData, who: holder, sure: "the look-ups were counted", explains: []finding.Code{finding.SPFVoidLookups}},
	{code: finding.SPFVoidLookups, place: TheZoneData, who: holder, sure: "the look-ups were made"},
	{code: finding.STSDiffers, place: TheZoneData, who: holder, sure: "the policy and the MX records were read"},
	{code: finding.DKIMKeyWeak, place: TheZoneData, who: holder, sure: "the key was read"},
	{code: finding.DKIMSyntax, place: TheZoneData, who: holder, sure: "the record was read"},
	{code: finding.STSUnreachable, place: TheZoneData, who: holder, sure: "the policy was asked for"},
	{code: finding.SPFMissing, place: TheZoneData, who: holder, sure: "the domain's texts were read"},
	{code: finding.SPFLetsAll, place: TheZoneData, who: holder, sure: "the record was read", caveat: "a provider may send from many networks"},
	{code: finding.DMARCSyntax, place: TheZoneData, who: holder, sure: "the record was read"},
	{code: finding.DMARCReportsNotAllowed, place: TheZoneData, who: holder, sure: "both domains were asked"},
	{code: finding.DMARCMissing, place: TheZoneData, who: holder, sure: "the domain and the one above it were asked"},
	{code: finding.DKIMRevoked, place: TheZoneData, who: holder, sure: "the record was read"},
	{code: finding.DKIMMissing, place: TheZoneData, who: holder, sure: "the selector was looked up"},
	{code: finding.TLSAInsecure, place: TheZoneData, who: holder, sure: "the zone was asked for its keys"},
	{code: finding.MXFallback, place: TheZoneData, who: holder, sure: "the MX records and the addresses were looked up"},
	{code: finding.MailRefused, place: TheZoneData, who: holder, sure: "the MX records were read"},
	{code: finding.TargetIsAlias, place: TheZoneData, who: holder, sure: "the host was asked for"},
	{code: finding.ReverseMismatch, place: TheZoneData, who: holder, sure: "name and address were both asked for"},
	{code: finding.ReverseMissing, place: TheZoneData, who: holder, sure: "the address was asked for", caveat: "many addresses need no reverse name"},
	{code: finding.Slow, ofZone: true, place: OneServer, who: holderAtHost, sure: "the time was measured here", rivals: []rival{{"a slow network on the way to it", "ask from another network", "", nil}}, explains: []finding.Code{finding.Slow}},
	{code: finding.Slow, place: TheResolver, who: operator, sure: "the time was measured here", rivals: []rival{{"a slow network on the way to it", "ask from another network", "", nil}, {"slow servers that it has to query", "query them yourself: unquil trace shows their times", "", nil}}},
	{code: finding.SingleServer, ofZone: true, place: TheDeleg, who: holder, sure: "the parent's list was read"},
	{code: finding.OneNetwork, ofZone: true, place: TheDeleg, who: holder, sure: "the servers' addresses were compared", caveat: "one address may belong to many machines (anycast)"},
	{code: finding.OneNetwork, place: TheZoneData, who: holder, sure: "the hosts' addresses were compared", caveat: "one address may belong to many machines (anycast)"},
}

// rank is the rule for a finding and its place in the order; len(rules) for one
// that no rule knows.
func rank(f finding.Finding) int {
	for i, r := range rules {
		if r.code == f.Code && r.ofZone == (f.About.Zone != "") {
			return i
		}
	}
	return len(rules)
}

// Placing is where a finding places a failure, as the rules have it.
type Placing struct {
	OfZone bool // it is about one of a zone's servers, and not about a resolver
	Place  Place
	Who    string      // can fix it
	Sure   string      // what makes it so
	Rivals [][3]string // the other causes that would show the same: name, what rules it out (""), what would tell
	Caveat string      // what is to be kept in mind; "" for nothing
	// Explains are the findings that follow from it.
	Explains []finding.Code
}

// Placings are where the rules place a finding: none, one, or one each for
// resolvers and for a zone's servers.
func Placings(code finding.Code) (all []Placing) {
	for _, r := range rules {
		if r.code == code {
			p := Placing{OfZone: r.ofZone, Place: r.place, Who: r.who, Sure: r.sure, Caveat: r.caveat, Explains: r.explains}
			for _, other := range r.rivals {
				p.Rivals = append(p.Rivals, [3]string{other.name, other.shows, other.tells})
			}
			all = append(all, p)
		}
	}
	return all
}
