// Package finding is the catalogue of what the program can find, and the shape
// in which it says so.
package finding

import (
	"cmp"
	"slices"
)

// Severity is what a finding means to whoever is calling.
type Severity string

// The severities.
const (
	Note    Severity = "note"    // worth knowing, nothing to mend
	Concern Severity = "concern" // it works, but something is broken, slow or one step from failing
	Fault   Severity = "fault"   // somebody who asks now fails or gets a wrong answer
)

// Weight orders severities: the heavier, the larger.
func (s Severity) Weight() int {
	return map[Severity]int{Note: 1, Concern: 2, Fault: 3}[s]
}

// Code names a kind of finding.
type Code string

// The codes that can be found. What each means is in the catalogue.
const (
	NoResolver         Code = "no-resolver"
	HostsOverride      Code = "hosts-override"
	SuffixAppended     Code = "suffix-appended"
	SuffixDetour       Code = "suffix-detour"
	StubInPath         Code = "stub-in-path"
	EDNSIgnored        Code = "edns-ignored"
	EDNSBreaks         Code = "edns-breaks"
	OneNetwork         Code = "one-network"
	TargetIsAlias      Code = "target-is-alias"
	TargetUnresolvable Code = "target-unresolvable"
	ReverseMissing     Code = "reverse-missing"
	ReverseMismatch    Code = "reverse-mismatch"
	NoReply            Code = "no-reply"
	Unreachable        Code = "unreachable"
	Refused            Code = "refused"
	ServerFailure      Code = "server-failure"
	Slow               Code = "slow"
	TCPRefused         Code = "tcp-refused"
	Truncated          Code = "truncated"
	WrongID            Code = "wrong-id"
	WrongQuestion      Code = "wrong-question"
	WrongSource        Code = "wrong-source"
	Malformed          Code = "malformed"
	LameServer         Code = "lame-server"
	NSUnresolved       Code = "ns-unresolvable"
	Loop               Code = "delegation-loop"
	NoDelegation       Code = "no-delegation"
	SerialsDiffer      Code = "serials-differ"
	AnswersDiffer      Code = "answers-differ"
	AliasLoop          Code = "alias-loop"
	AliasDangling      Code = "alias-dangling"
	CacheStale         Code = "cache-stale"
	CacheNegative      Code = "cache-negative"
	NSSetDiffers       Code = "ns-set-differs"
	GlueMissing        Code = "glue-missing"
	GlueDiffers        Code = "glue-differs"
	SingleServer       Code = "single-server"
	RecursionOpen      Code = "recursion-open"
	SOATimers          Code = "soa-timers"
	AliasWithData      Code = "alias-with-data"
	AliasLong          Code = "alias-long"
	NSIsAlias          Code = "ns-is-alias"
	NameDenied         Code = "name-denied"
	TransferRefused    Code = "transfer-refused"
	TransferOpen       Code = "transfer-open"
	TransferBroken     Code = "transfer-broken"
	ContentDiffers     Code = "content-differs"
	AnswerByPlace      Code = "answer-by-place"
	AnswerRewritten    Code = "answer-rewritten"
	AnswerBlocked      Code = "answer-blocked"
	AnswerDiffers      Code = "answer-differs"
	Unanswered         Code = "unanswered"
	Failed             Code = "failed"
	Undecodable        Code = "undecodable"
	LateReply          Code = "late-reply"
	RepeatedQuery      Code = "repeated-query"
	LoopedQuery        Code = "looped-query"
	RepliesDiffer      Code = "replies-differ"
	UnsolicitedReply   Code = "unsolicited-reply"
	NoNameBurst        Code = "no-name-burst"
	ReadableNames      Code = "readable-names"
	NameConflict       Code = "name-conflict"
	HalfFails          Code = "half-fails"
	OneSided           Code = "one-sided"

	RecursionUnavailable Code = "recursion-unavailable"
	ValidationFails      Code = "validation-fails"
	UDPLost              Code = "udp-lost"
	LargeLost            Code = "large-lost"
	EDNSLost             Code = "edns-lost"
	NoWayOut             Code = "no-way-out"
	Intercepted          Code = "intercepted"
	AddressNowhere       Code = "address-nowhere"
	Unsteady             Code = "unsteady"
	SourceDiffers        Code = "source-differs"
)

// Entry is one code's page in the catalogue.
type Entry struct {
	Code    Code   `json:"code"`
	About   string `json:"about"`   // what kind of thing it is found of
	Meaning string `json:"meaning"` // what it says about the thing it names
	Next    string `json:"next"`    // what to do, when the finding itself does not know better
}

// Catalogue lists every code, grouped by what it is about.
var Catalogue = []Entry{
	{NoResolver, "this machine", "This machine has no resolver to ask.", "Set a resolver in the network settings, or name one with --from."},
	{HostsOverride, "this machine", "This machine's hosts file gives the name another address than the resolvers do.", "Take the line out of the hosts file, unless it is there on purpose."},
	{SuffixAppended, "this machine", "The name was asked with a suffix of this machine's search list behind it.", "Write the name with a final dot to have it asked as it is."},
	{SuffixDetour, "this machine", "Questions are lost on the search list before the right one is asked.", "Write the name with a final dot, or shorten the search list."},
	{StubInPath, "this machine", "The resolver is this machine itself, which passes the question on to another.", "Ask the resolver behind it too, to see which of the two gives the answer."},
	{SourceDiffers, "this machine", "This machine's own look-up gives another answer than its resolvers do: another source of names comes before them.", "See with unquil local where this machine looks names up, and in which order."},
	{NoWayOut, "this machine", "Nobody answers, neither a resolver nor a root server: nothing that this machine sends seems to get out.", "Look at this machine's cable, wireless link and gateway first, then at the firewall on the way out."},
	{EDNSLost, "this machine", "No question with EDNS gets from here to any of the servers on the way from the root.", "Ask whoever runs the firewall in between to let DNS messages with EDNS (RFC 6891) through."},
	{Intercepted, "this machine", "Somebody on the way answers in place of the servers that are asked.", "Ask your network's people whether port 53 is redirected on purpose; until then what servers seem to say is the word of whoever answers instead."},
	{NoReply, "a server", "The server sent nothing back, however often it was asked.", "Ask whoever runs the server whether it is up and whether a firewall drops port 53."},
	{Unreachable, "a server", "The network or the host itself said that nothing listens there.", "Ask whoever runs the server to start it, or take its address out of the zone."},
	{Refused, "a server", "The server understood the question and will not answer it for you.", "Ask from a network that the server serves, or ask another resolver."},
	{ServerFailure, "a server", "The server tried and could not give an answer (SERVFAIL).", "Trace the name to see which of the zone's own servers the resolver stumbles over."},
	{Slow, "a server", "The answer took more than a second.", "Ask again: if it stays slow, look at the path to that server and at the servers it has to ask."},
	{TCPRefused, "a server", "The server takes no TCP connection, which large answers need.", "Ask whoever runs the server to open TCP port 53."},
	{EDNSIgnored, "a server", "The server answers as if there were no EDNS.", "Nothing fails by it; ask whoever runs the server to bring it up to date."},
	{EDNSBreaks, "a server", "The server fails when a question has EDNS, and answers without.", "Ask whoever runs the server to bring it, or the firewall before it, up to date."},
	{Truncated, "a server", "The answer was cut to fit UDP and the whole could not be got over TCP.", "Ask whoever runs the server to open TCP port 53, or have the answer made smaller."},
	{UDPLost, "a server", "Over TCP the server answers, over UDP nothing comes back.", "Ask whoever runs the firewall in between to let UDP port 53 through, both ways."},
	{LargeLost, "a server", "Large replies over UDP do not arrive: offered little room, the server answers.", "Ask whoever runs the network in between to let fragments through, or whoever runs the server to send no more than 1232 bytes over UDP."},
	{WrongID, "a server", "A reply came with an ID that was not asked.", "Look for a device in between, or an attacker guessing: capture the packets and see where it comes from."},
	{WrongQuestion, "a server", "A reply came to a question that was not asked.", "Look for a device in between that mixes replies up."},
	{WrongSource, "a server", "A reply came from an address that was not asked.", "The server answers from another of its addresses: ask whoever runs it to bind its addresses one by one."},
	{Malformed, "a server", "The reply is not a DNS message that can be read.", "Look at its bytes with --wire, and hand them to whoever runs the server."},
	{Unsteady, "a server", "The server failed (SERVFAIL), and answered the same question when it was asked again.", "Ask it several times (ask --repeat 20): if it goes on failing now and then, ask whoever runs it which of the servers it has to ask is slow or unsteady."},
	{RecursionUnavailable, "a server", "The server was asked as a resolver, and is none: it looks nothing up for others.", "Ask a resolver: take this address out of the list of resolvers, or have whoever runs it offer recursion to you."},
	{RecursionOpen, "a server", "The zone's server looks up names of other zones for strangers, which attackers make use of.", "Ask whoever runs the server to offer recursion to nobody, or to its own network only."},
	{NameDenied, "a server", "The server says that there is no such name where there are names below it, or records of another type: resolvers may take them all for missing (RFC 8020).", "Ask whoever runs the server to bring it up to date: such a name exists and has no data."},
	{LameServer, "a delegation", "The parent lists this server for the zone, and it does not serve the zone.", "Ask the zone's holder to load the zone on that server, or to take the server off the list at the registry."},
	{NSSetDiffers, "a delegation", "The parent and the zone list different servers.", "Ask the zone's holder to have the registry list what the zone lists."},
	{GlueMissing, "a delegation", "A server's name lies inside the zone, and the parent gives no address for it.", "Ask the zone's holder to register the server's address with the registry."},
	{GlueDiffers, "a delegation", "The parent and the zone give a server different addresses.", "Ask the zone's holder to have the registry correct the address."},
	{NSUnresolved, "a delegation", "The host name of a listed server leads to no address.", "Ask the zone's holder to give that host an address, or to list another."},
	{NSIsAlias, "a delegation", "The host name of a listed server is an alias, which is not allowed there (RFC 2181 §10.3): some resolvers do not find the server.", "Ask the zone's holder to list the name that has the address."},
	{SingleServer, "a delegation", "The zone has one server: when it is gone, so is the zone.", "Ask the zone's holder to add a server in another network."},
	{OneNetwork, "a delegation", "All hosts stand in one network: what breaks one breaks all.", "Ask the zone's holder to have one of them elsewhere."},
	{Loop, "a delegation", "To find the zone's servers one needs the zone's servers.", "Ask the zone's holder for at least one server whose name lies elsewhere, or for glue at the parent."},
	{NoDelegation, "a delegation", "No server on the way says who serves the zone.", "Ask the registry whether the zone is registered and delegated."},
	{SerialsDiffer, "a zone", "The zone's own servers hold different versions of the zone.", "Ask the zone's holder why that secondary does not take the updates: transfer refused, or notify lost."},
	{AnswersDiffer, "a zone", "The zone's own servers give different answers.", "Ask the zone's holder to bring that server up to date; until then who asks it gets the older answer."},
	{SOATimers, "a zone", "A timer in the zone's SOA record is unusual.", "Nothing, if it is so on purpose."},
	{TransferRefused, "a zone", "The server does not give the zone to this machine.", "Ask whoever runs the server to allow transfers to this address or this key; from a secondary that lags, this is why."},
	{TransferOpen, "a zone", "The server gives the whole zone to whoever asks.", "Ask whoever runs the server to allow transfers to its secondaries alone, unless the zone is meant to be read."},
	{TransferBroken, "a zone", "The transfer began and did not come to a sound end: what came of it is not the zone.", "Try once more; if it breaks again, hand the evidence to whoever runs the server."},
	{ContentDiffers, "a zone", "The zone as it is served is not the zone that it was held against.", "Look which of the two is meant to be right, and load that one."},
	{AliasLoop, "a zone", "The alias leads back to itself.", "Ask the zone's holder to point one of the aliases at a name that has an address."},
	{AliasDangling, "a zone", "The alias leads to a name that does not exist.", "Ask the zone's holder to create the name the alias leads to, or to change the alias."},
	{AliasWithData, "a zone", "An alias stands beside other records of the same name, which is not allowed.", "Ask the zone's holder to put the target's records there instead of the alias."},
	{AliasLong, "a zone", "The name is reached over a long chain of aliases: some resolvers give up on the way, and each link can break.", "Ask the zone's holder to point the first alias nearer to the end."},
	{TargetIsAlias, "a zone", "The record points at a host name that is an alias, which is not allowed there (RFC 2181 §10.3).", "Ask the zone's holder to point it at the name that has the address."},
	{TargetUnresolvable, "a zone", "The record points at a host name that has no address.", "Ask the zone's holder to give that host an address, or to point elsewhere."},
	{AddressNowhere, "a zone", "A name or a listed server has an address that leads nowhere from another machine (loopback, unspecified, multicast, broadcast, or of one link); no packet is sent there.", "Ask the zone's holder to give the name the address of the host that is meant."},
	{CacheStale, "a cache", "The resolver still hands out an answer that the zone no longer gives.", "Ask whoever runs the resolver to clear this name from its cache, or wait until it runs out."},
	{CacheNegative, "a cache", "The resolver remembers that there was no such name; by now there is.", "Ask whoever runs the resolver to clear this name from its cache, or wait until it runs out."},
	{AnswerDiffers, "a cache", "The resolvers answer differently, and nothing seen explains it.", "Compare again with --zone-servers to see which of them the zone agrees with."},
	{AnswerByPlace, "a cache", "The zone's own servers answer by the place of who asks, or in turn, on purpose.", "Nothing: compare with who asks from the same place."},
	{AnswerRewritten, "a cache", "The resolver makes up an answer for a name that does not exist.", "Ask another resolver, or have whoever runs this one turn that off."},
	{AnswerBlocked, "a cache", "The resolver withholds the answer, by a list of names that it does not resolve.", "Ask whoever runs the resolver whether the name is on its list on purpose."},
	{ValidationFails, "a cache", "The resolver takes the answer for forged (DNSSEC): with checking disabled it gives one.", "Ask the zone's holder to look at the zone's signatures and at the DS record at the parent; if other validating resolvers answer, ask whoever runs this one about its trust anchors and its clock."},
	{ReverseMissing, "addresses and names", "The address has no name.", "Ask whoever holds the address range to add a PTR record, if a mail host or a log needs one."},
	{ReverseMismatch, "addresses and names", "The address's name does not lead back to the address.", "Ask whoever holds the address range to correct the PTR record, or the zone's holder the address."},
	{Unanswered, "a capture", "The capture holds the question and no reply to it.", "Look whether the capture saw both directions; then ask that server yourself."},
	{LateReply, "a capture", "The reply came after the client had asked again or elsewhere.", "Look why that server takes so long: ask it yourself, or look at what it asked meanwhile."},
	{RepeatedQuery, "a capture", "The client asked again, as no reply came in time.", "Look at the path to that server for lost packets, and at the server for load."},
	{LoopedQuery, "a capture", "The same packet goes round and round: its ID and all are the same, at once or with fewer hops left.", "Look for a loop in the network between the places where it was captured: two cables between two switches, or routers that point at each other."},
	{RepliesDiffer, "a capture", "Two replies to one question say different things: two servers answer, or somebody in between.", "Compare where the two replies come from: hardware addresses and hops left."},
	{UnsolicitedReply, "a capture", "A reply came to which the capture holds no question, by its ID or its source.", "Look whether the capture began in the middle; many with wrong IDs at one question look like somebody guessing."},
	{Failed, "a capture", "The reply reports a failure.", "Trace the names it failed for."},
	{NoNameBurst, "a capture", "One client asked for many names in a row that do not exist.", "Look at what that client runs: a search list, a typing slip in a configuration, or software that makes names up."},
	{ReadableNames, "a capture", "Whoever sees these packets can read which names were asked for.", "Nothing, unless that is not wanted: encrypted transports hide it."},
	{Undecodable, "a capture", "A packet to or from the DNS port is not a message that can be read.", "Look at the packet's bytes; a short one may have been cut by the capture's snap length."},
	{NameConflict, "a capture", "Two hosts of the local link claim the same name.", "Rename one of the two hosts."},
	{HalfFails, "a capture", "Of the questions for IPv4 and IPv6 addresses that are asked together one fails or is slow, and may hold up the client.", "Ask that server for both types, and see what its own servers say to the one that fails."},
	{OneSided, "a capture", "The capture holds packets of one direction only: silence in it says nothing of the servers.", "Capture again where both directions pass."},
}

// Of returns the catalogue's entry for a code; ok is false for an unknown one.
func Of(code Code) (Entry, bool) {
	i := slices.IndexFunc(Catalogue, func(e Entry) bool { return e.Code == code })
	if i < 0 {
		return Entry{}, false
	}
	return Catalogue[i], true
}

// Meaning is what the catalogue says of a code; "" of an unknown one.
func (c Code) Meaning() string {
	entry, _ := Of(c)
	return entry.Meaning
}

// About names what a finding is about, as far as it applies. Names are in text
// form with the final dot.
type About struct {
	Name    string `json:"name,omitempty"`
	Type    string `json:"type,omitempty"`
	Zone    string `json:"zone,omitempty"`
	Server  string `json:"server,omitempty"`  // host name as the zone lists it, or a resolver's label or address as asked
	Address string `json:"address,omitempty"` // the server's
	Client  string `json:"client,omitempty"`
	Outcome string `json:"outcome,omitempty"` // of the exchanges of a capture, where they have one in common
}

// Finding is one thing found, with what shows it.
type Finding struct {
	Code     Code     `json:"code"`
	Severity Severity `json:"severity"`
	About    About    `json:"about"`
	Text     string   `json:"text"`              // one sentence, safe to print
	Evidence []int    `json:"evidence"`          // numbers of the exchanges that show it
	Packets  []int    `json:"packets,omitempty"` // of a capture: numbers of packets that show it beside those of the exchanges
	Next     string   `json:"next"`              // what to do
	Sure     string   `json:"sure,omitempty"`    // Certain or Likely, where the cause is inferred
	// Brief is Text without what it is listed for, to be joined with others of one zone; "" where there is none.
	Brief string `json:"-"`
	// Lasts is for how many seconds at most it goes on if nobody does anything; 0: no end known.
	Lasts uint32 `json:"lasts,omitempty"`
}

// New makes a finding with the catalogue's advice.
func New(code Code, severity Severity, about About, text string, evidence ...int) Finding {
	entry, _ := Of(code)
	f := Finding{Code: code, Severity: severity, About: about, Text: text, Next: entry.Next}
	f.AddEvidence(evidence...)
	return f
}

// AddEvidence adds exchange numbers to those that show the finding, in order and each once.
func (f *Finding) AddEvidence(numbers ...int) {
	f.Evidence = append(slices.Clone(f.Evidence), numbers...)
	slices.Sort(f.Evidence)
	f.Evidence = slices.Compact(f.Evidence)
}

// Sort puts the heavier findings first and keeps the order of equals.
func Sort(all []Finding) {
	slices.SortStableFunc(all, func(a, b Finding) int { return cmp.Compare(b.Severity.Weight(), a.Severity.Weight()) })
}

// Worst returns the heaviest severity among them, "" of none.
func Worst(all []Finding) Severity {
	var worst Severity
	for _, f := range all {
		if f.Severity.Weight() > worst.Weight() {
			worst = f.Severity
		}
	}
	return worst
}

// How sure a finding is of its cause.
const (
	Certain = "certain"
	Likely  = "likely"
)

// Merge drops what the question for another type has found already: the same
// thing wrong with the same server.
func Merge(found []Finding) []Finding {
	type key struct {
		code                  Code
		zone, server, address string
	}
	seen := map[key]int{}
	var kept []Finding
	var evidence [][]int
	for _, f := range found {
		k := key{f.Code, f.About.Zone, f.About.Server, f.About.Address}
		if at, ok := seen[k]; ok {
			if f.Severity.Weight() > kept[at].Severity.Weight() {
				f, kept[at] = kept[at], f
			}
			evidence[at] = append(evidence[at], f.Evidence...)
			continue
		}
		seen[k] = len(kept)
		kept, evidence = append(kept, f), append(evidence, nil)
	}
	for i, more := range evidence {
		kept[i].AddEvidence(more...)
	}
	return kept
}
