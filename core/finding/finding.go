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
	NoResolver          Code = "no-resolver"
	HostsOverride       Code = "hosts-override"
	SuffixAppended      Code = "suffix-appended"
	SuffixDetour        Code = "suffix-detour"
	StubInPath          Code = "stub-in-path"
	EncryptedFails      Code = "encrypted-fails"
	EDNSIgnored         Code = "edns-ignored"
	EDNSBreaks          Code = "edns-breaks"
	OneNetwork          Code = "one-network"
	TargetIsAlias       Code = "target-is-alias"
	TargetUnresolvable  Code = "target-unresolvable"
	ReverseMissing      Code = "reverse-missing"
	ReverseMismatch     Code = "reverse-mismatch"
	NoReply             Code = "no-reply"
	Unreachable         Code = "unreachable"
	CertificateRejected Code = "certificate-rejected"
	Refused             Code = "refused"
	ServerFailure       Code = "server-failure"
	Slow                Code = "slow"
	TCPRefused          Code = "tcp-refused"
	Truncated           Code = "truncated"
	WrongID             Code = "wrong-id"
	WrongQuestion       Code = "wrong-question"
	WrongSource         Code = "wrong-source"
	Malformed           Code = "malformed"
	LameServer          Code = "lame-server"
	NSUnresolved        Code = "ns-unresolvable"
	Loop                Code = "delegation-loop"
	NoDelegation        Code = "no-delegation"
	SerialsDiffer       Code = "serials-differ"
	AnswersDiffer       Code = "answers-differ"
	AliasLoop           Code = "alias-loop"
	AliasDangling       Code = "alias-dangling"
	CacheStale          Code = "cache-stale"
	CacheNegative       Code = "cache-negative"
	NameLost            Code = "name-lost"
	NSSetDiffers        Code = "ns-set-differs"
	ParentDiffers       Code = "parent-differs"
	GlueMissing         Code = "glue-missing"
	GlueDiffers         Code = "glue-differs"
	SingleServer        Code = "single-server"
	RecursionOpen       Code = "recursion-open"
	SOATimers           Code = "soa-timers"
	AliasWithData       Code = "alias-with-data"
	AliasLong           Code = "alias-long"
	NSIsAlias           Code = "ns-is-alias"
	NameDenied          Code = "name-denied"
	TransferRefused     Code = "transfer-refused"
	TransferOpen        Code = "transfer-open"
	TransferBroken      Code = "transfer-broken"
	ContentDiffers      Code = "content-differs"
	AnswerByPlace       Code = "answer-by-place"
	AnswerRewritten     Code = "answer-rewritten"
	AnswerBlocked       Code = "answer-blocked"
	AnswerLocal         Code = "answer-local"
	HintsOld            Code = "hints-old"
	ServersStale        Code = "servers-stale"
	AnswerDiffers       Code = "answer-differs"
	Unanswered          Code = "unanswered"
	Failed              Code = "failed"
	Undecodable         Code = "undecodable"
	LateReply           Code = "late-reply"
	PacketLost          Code = "packet-lost"
	RepeatedQuery       Code = "repeated-query"
	LoopedQuery         Code = "looped-query"
	RepliesDiffer       Code = "replies-differ"
	UnsolicitedReply    Code = "unsolicited-reply"
	NoNameBurst         Code = "no-name-burst"
	ReadableNames       Code = "readable-names"
	NameConflict        Code = "name-conflict"
	HalfFails           Code = "half-fails"
	OneSided            Code = "one-sided"

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

	DomainExpired       Code = "domain-expired"
	DomainExpiresSoon   Code = "domain-expires-soon"
	DomainOnHold        Code = "domain-on-hold"
	DomainUnregistered  Code = "domain-unregistered"
	RegistryDiffers     Code = "registry-differs"
	RegistryUnreachable Code = "registry-unreachable"

	MailNowhere            Code = "mail-nowhere"
	MailRefused            Code = "mail-refused"
	MXFallback             Code = "mx-fallback"
	SPFMissing             Code = "spf-missing"
	SPFSeveral             Code = "spf-several"
	SPFSyntax              Code = "spf-syntax"
	SPFTooManyLookups      Code = "spf-too-many-lookups"
	SPFVoidLookups         Code = "spf-void-lookups"
	SPFIncludeMissing      Code = "spf-include-missing"
	SPFLetsAll             Code = "spf-lets-all"
	SPFLoop                Code = "spf-loop"
	DKIMKeyWeak            Code = "dkim-key-weak"
	DKIMRevoked            Code = "dkim-revoked"
	DKIMMissing            Code = "dkim-missing"
	DKIMSyntax             Code = "dkim-syntax"
	DMARCMissing           Code = "dmarc-missing"
	DMARCSyntax            Code = "dmarc-syntax"
	DMARCReportsNotAllowed Code = "dmarc-reports-not-allowed"
	STSUnreachable         Code = "sts-unreachable"
	STSDiffers             Code = "sts-differs"
	TLSAInsecure           Code = "tlsa-insecure"
	AlteredOnTheWay        Code = "altered-on-the-way"
	AnsweredLocally        Code = "answered-locally"
	DroppedLocally         Code = "dropped-locally"
	SignatureExpired       Code = "signature-expired"
	SignatureNotYetValid   Code = "signature-not-yet-valid"
	SignatureMissing       Code = "signature-missing"
	SignatureWrong         Code = "signature-wrong"
	SignatureRunsOut       Code = "signature-runs-out"
	DSWithoutKey           Code = "ds-without-key"
	KeyUnsigned            Code = "key-unsigned"
	ChainMissing           Code = "chain-missing"
	DenialIncomplete       Code = "denial-incomplete"
	AlgorithmWeak          Code = "algorithm-weak"
	DSUnsupported          Code = "ds-unsupported"
	AlgorithmIncomplete    Code = "algorithm-incomplete"
	KeyShort               Code = "key-short"
	AnchorOld              Code = "anchor-old"
	ClockWrong             Code = "clock-wrong"
	SignersDiffer          Code = "signers-differ"
	NSEC3Rounds            Code = "nsec3-iterations"
	CDSWaiting             Code = "cds-waiting"
	RolloverUnsafe         Code = "rollover-unsafe"
	ValidationOff          Code = "validation-off"
	ValidationDiffers      Code = "validation-differs"
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
	{NoResolver, "this machine", "This machine has no resolver configured.", "Set a resolver in the network settings, or name one with --from."},
	{HostsOverride, "this machine", "This machine's hosts file gives the name a different address from the one its resolvers return.", "Remove the line from the hosts file, unless it is there on purpose."},
	{SuffixAppended, "this machine", "The name was looked up with a suffix from this machine's search list.", "Write the name with a final dot to look it up exactly as it is."},
	{SuffixDetour, "this machine", "The search list causes extra queries before the right name is looked up.", "Write the name with a final dot, or shorten the search list."},
	{StubInPath, "this machine", "The resolver is this machine itself, a stub that forwards queries to another one.", "Ask the resolver behind it as well, to see which of the two gives the answer."},
	{SourceDiffers, "this machine", "This machine's own look-up gives a different answer from its resolvers: another source of names comes first.", "Run unquil local to see where this machine looks names up, and in which order."},
	{NoWayOut, "this machine", "Nothing replies, neither a resolver nor a root server: this machine's traffic does not seem to get out.", "Check this machine's cable, wireless link and gateway first, then the firewall on the way out."},
	{HintsOld, "this machine", "The root hints name a server, or an address of one, that the root itself does not list.", "Bring the root hints up to date (--roots): the resolvers here may use the same old list."},
	{AlteredOnTheWay, "this machine", "What this machine sends or gets is changed on it: a query goes to another server than was asked, or a reply reaches the program with other contents than came over the wire.", "Look for what filters DNS on this machine: firewall rules, a VPN, security software."},
	{AnsweredLocally, "this machine", "Queries to a server are answered on this machine, and never leave it.", "Look for a stub resolver or security software on this machine that takes queries to port 53."},
	{DroppedLocally, "this machine", "This machine drops what is sent to a server, or what comes back from it.", "Look for a rule on this machine that drops port 53, a VPN, security software."},
	{EDNSLost, "this machine", "No query with EDNS sent from here gets a reply from any server on the way down from the root.", "Ask whoever runs the firewall in between to let DNS messages with EDNS (RFC 6891) through."},
	{Intercepted, "this machine", "Something on the path answers in place of the servers that are queried.", "Ask your network team whether port 53 is redirected on purpose. Until you know, whatever a server seems to say may come from that device."},
	{NoReply, "a server", "The server did not reply, however often it was queried.", "Ask whoever runs the server whether it is up, and whether a firewall drops port 53."},
	{CertificateRejected, "a server", "The server's certificate cannot be trusted, so nothing was asked over the encrypted connection.", "Check which name and issuer the certificate should have, and do not use the server until that is clear; whoever runs it has to renew or correct the certificate."},
	{Unreachable, "a server", "The network, or the host itself, reported that the server cannot be reached.", "Ask whoever runs the server whether it is running, and whether its address has changed."},
	{Refused, "a server", "The server understood the query and refused to answer it for you.", "Query from a network that the server serves, or use another resolver."},
	{ServerFailure, "a server", "The server tried and could not get an answer (SERVFAIL).", "Trace the name to see which of the zone's own servers the resolver has trouble with."},
	{EncryptedFails, "a server", "The resolver offers an encrypted way that cannot be used, or on which it answers otherwise.", "Ask whoever runs the resolver. Programs that look for encrypted ways by themselves lose time on this one, or go without."},
	{Slow, "a server", "The answer took more than a second.", "Ask again. If it stays slow, look at the path to that server and at the servers it has to query."},
	{ValidationOff, "a server", "The resolver does not validate: it hands on answers that are bogus.", "Use a resolver that validates, or ask whoever runs this one to turn it on."},
	{ValidationDiffers, "a server", "The resolver says that it has checked an answer, and its own records do not bear that out.", "Ask whoever runs the resolver by which trust anchors it judges."},
	{TCPRefused, "a server", "The server does not accept TCP connections, which large answers need.", "Ask whoever runs the server to open TCP port 53."},
	{EDNSIgnored, "a server", "The server replies as if EDNS did not exist.", "Nothing breaks because of it. Ask whoever runs the server to update it."},
	{EDNSBreaks, "a server", "The server fails when a query has EDNS, and answers without it.", "Ask whoever runs the server to update it, or the firewall in front of it."},
	{Truncated, "a server", "The answer was truncated to fit into UDP, and retrying over TCP failed too.", "Ask whoever runs the server to open TCP port 53, or to make the answer smaller."},
	{UDPLost, "a server", "The server answers over TCP, but nothing comes back over UDP.", "Ask whoever runs the firewall in between to let UDP port 53 through in both directions."},
	{LargeLost, "a server", "Large replies over UDP do not arrive; with a small buffer size advertised, the server answers.", "Ask whoever runs the network in between to let fragments through, or whoever runs the server to send at most 1232 bytes over UDP."},
	{WrongID, "a server", "A reply came with the wrong ID or client cookie.", "Look for a device in between, or an attacker guessing: capture the packets and see where they come from."},
	{WrongQuestion, "a server", "A reply came to a question that was not asked.", "Look for a device in between that mixes replies up."},
	{WrongSource, "a server", "A reply came from an address that was not queried.", "The server replies from another of its addresses: ask whoever runs it to bind each address separately."},
	{Malformed, "a server", "The reply is not a readable DNS message.", "Look at its bytes with --wire, and send them to whoever runs the server."},
	{Unsteady, "a server", "The server failed or did not reply, then answered the same query when it was asked again.", "Ask it several times (ask --repeat 20). If it keeps failing now and then, ask whoever runs it which of the servers it depends on is slow or unreliable."},
	{RecursionUnavailable, "a server", "The server was queried as a resolver, and is not one: it does not look names up for others.", "Use a resolver: take this address out of the list of resolvers, or have whoever runs it offer you recursion."},
	{RecursionOpen, "a server", "The zone's server looks up names in other zones for anybody, which attackers exploit.", "Ask whoever runs the server to turn recursion off, or to offer it to its own network only."},
	{NameDenied, "a server", "The server says that a name does not exist, although there are names below it or records of another type: resolvers may treat all of them as missing (RFC 8020).", "Ask whoever runs the server to update it: such a name exists and has no data."},
	{LameServer, "a delegation", "The parent lists this server for the zone, but it does not serve the zone.", "Ask the zone's operator to load the zone on that server, or to have the registry remove it from the delegation."},
	{ParentDiffers, "a zone", "The servers of the parent delegate the zone differently.", "Ask the registry, or whoever runs the parent zone, whether a change is still under way: one of its servers has an older delegation."},
	{NSSetDiffers, "a delegation", "The parent and the zone list different servers.", "Ask the zone's operator to have the registry list the same servers as the zone."},
	{GlueMissing, "a delegation", "A server's name is inside the zone, and the parent has no address (glue) for it.", "Ask the zone's operator to register the server's address with the registry."},
	{GlueDiffers, "a delegation", "The parent and the zone give different addresses for a server.", "Ask the zone's operator to have the registry correct the address."},
	{NSUnresolved, "a delegation", "The host name of a listed server does not resolve to an address.", "Ask the zone's operator to give that host an address, or to list another server."},
	{NSIsAlias, "a delegation", "The host name of a listed server is an alias (CNAME), which is not allowed (RFC 2181 §10.3): some resolvers do not find the server.", "Ask the zone's operator to list the name that has the address."},
	{SingleServer, "a delegation", "The zone has only one server: when it is down, so is the zone.", "Ask the zone's operator to add a server in another network."},
	{OneNetwork, "a delegation", "All the hosts are in one network: whatever takes it down takes all of them down.", "Ask the zone's operator to move one of them to another network."},
	{Loop, "a delegation", "The zone's servers can only be found by asking the zone's servers.", "Ask the zone's operator for at least one server whose name is in another zone, or for glue at the parent."},
	{NoDelegation, "a delegation", "No server on the way down says who serves the zone.", "Ask the registry whether the zone is registered and delegated."},
	{SerialsDiffer, "a zone", "The zone's own servers have different versions of the zone.", "Ask the zone's operator why that secondary does not get the updates: transfer refused, or NOTIFY lost."},
	{AnswersDiffer, "a zone", "The zone's own servers give different answers.", "Ask the zone's operator to bring that server up to date. Until then, anybody who asks it gets the older answer."},
	{SOATimers, "a zone", "A timer in the zone's SOA record is unusual.", "Nothing to do if it is intended."},
	{TransferRefused, "a zone", "The server does not let this machine transfer the zone.", "Ask whoever runs the server to allow transfers to this address or with this key. On a secondary that lags behind, this is the reason."},
	{TransferOpen, "a zone", "The server lets anybody transfer the whole zone.", "Ask whoever runs the server to allow transfers to its secondaries only, unless the zone is meant to be public."},
	{TransferBroken, "a zone", "The transfer started and did not finish properly: what came is not the whole zone.", "Try again. If it breaks again, send the evidence to whoever runs the server."},
	{ContentDiffers, "a zone", "The zone being served is not the zone it was compared with.", "Find out which of the two is right, and load that one."},
	{AliasLoop, "a zone", "The alias points back to itself.", "Ask the zone's operator to point one of the aliases to a name that has an address."},
	{AliasDangling, "a zone", "The alias points to a name that does not exist.", "Ask the zone's operator to create the name that the alias points to, or to change the alias."},
	{AliasWithData, "a zone", "A name has an alias (CNAME) together with other records, which is not allowed.", "Ask the zone's operator to replace the alias with the records of its target."},
	{AliasLong, "a zone", "The name is reached through a long chain of aliases: some resolvers give up, and every link can break.", "Ask the zone's operator to point the first alias closer to the end of the chain."},
	{SignatureExpired, "a zone's signatures", "The signatures of the zone ran out: resolvers that validate refuse its answers.", "Ask the zone's operator to sign the zone anew: its signer seems to have stopped."},
	{SignatureNotYetValid, "a zone's signatures", "The signatures of the zone are not valid yet.", "Check this machine's clock first. If that is right, ask the zone's operator: the signer's clock is ahead."},
	{SignatureMissing, "a zone's signatures", "The zone is signed, and records of it have no signature.", "Ask the zone's operator to sign the whole zone, and whether every server has the signed one."},
	{SignatureWrong, "a zone's signatures", "A signature does not fit the records that it is over.", "Ask the zone's operator to sign the zone anew; if that does not help, something changes the answers on their way."},
	{SignatureRunsOut, "a zone's signatures", "A signature on the way runs out within a day.", "Ask the zone's operator whether the zone is still signed anew in time."},
	{DSWithoutKey, "a zone's signatures", "The DS records at the zone above name no key that the zone has.", "Have the holder put the DS record of a key that the zone has in place at the registry."},
	{KeyUnsigned, "a zone's signatures", "The zone's keys are not signed by a key that its DS records name.", "Ask the zone's operator to sign the keys with that one, or have the DS record changed to the one that signs."},
	{ChainMissing, "a zone's signatures", "The zone above says that the zone is signed, and it is not.", "Ask the zone's operator to sign the zone, or have its DS records removed at the registry."},
	{DenialIncomplete, "a zone's signatures", "What the zone denies it does not prove.", "Ask the zone's operator to have the zone signed anew, by a current signer."},
	{SignersDiffer, "a zone's signatures", "The zone's servers give different keys.", "Ask the zone's operator whether the zone reaches every server. Until all give the same keys, leave the DS records alone."},
	{CDSWaiting, "a zone's signatures", "The zone asks for other DS records than the zone above has.", "Ask the zone's operator whether the registry takes them over by itself; if it does not, the holder has to put them in place there."},
	{RolloverUnsafe, "a zone's signatures", "The zone's keys are being replaced, and the next step would break what one of its servers answers.", "Have nobody take the next step until all servers give the same keys and signatures."},
	{DSUnsupported, "a zone's signatures", "The zone's DS records are of kinds that nobody checks: it counts as unsigned.", "Have the holder put a DS record of a current kind in place at the registry (digest type 2, and an algorithm such as ECDSA with P-256)."},
	{AlgorithmIncomplete, "a zone's signatures", "The zone has keys or DS records of an algorithm that does not sign all it has to (RFC 4035 §2.2).", "Ask the zone's operator to sign the whole zone with each algorithm of its keys, or to remove the keys of the one that does not."},
	{KeyShort, "a zone's signatures", "A key of the zone is shorter than it should be.", "Ask the zone's operator to replace the key by a longer one, or by one of a current algorithm such as ECDSA with P-256."},
	{NSEC3Rounds, "a zone's signatures", "The zone hashes its names again and again, or with a salt, for its denials (NSEC3).", "Ask the zone's operator to set the iterations to 0 and the salt to none (RFC 9276)."},
	{AlgorithmWeak, "a zone's signatures", "The zone is signed in a way that is no longer good enough.", "Ask the zone's operator to move to a current algorithm, such as ECDSA with P-256."},
	{ClockWrong, "this machine", "By this machine's clock not even the root's signatures are valid.", "Set this machine's clock, and try again."},
	{AnchorOld, "this machine", "The trust anchors that signatures are judged by name none of the root's keys.", "Bring the trust anchors up to date."},
	{TargetIsAlias, "a zone", "The record points to a host name that is an alias (CNAME), which is not allowed there (RFC 2181 §10.3).", "Ask the zone's operator to point it to the name that has the address."},
	{TargetUnresolvable, "a zone", "The record points to a host name that has no address, or whose address cannot be looked up.", "Ask the zone's operator to give that host an address, or to point the record elsewhere."},
	{AddressNowhere, "a zone", "A name or a listed server has an address that other machines cannot reach (loopback, unspecified, multicast, broadcast or link-local). No packet is sent there.", "Ask the zone's operator to enter the address of the intended host."},
	{CacheStale, "a cache", "The resolver still returns an answer that the zone no longer gives.", "Ask whoever runs the resolver to clear this name from its cache, or wait for the TTL to run out."},
	{NameLost, "a cache", "The zone no longer has the name; a cache still answers for it.", "Ask the zone's operator whether the name was removed on purpose; if not, have it put back. Leave the cache as it is: for its clients the name still works."},
	{CacheNegative, "a cache", "The resolver has cached that the name does not exist; it does now.", "Ask whoever runs the resolver to clear this name from its cache, or wait for the TTL to run out."},
	{AnswerDiffers, "a cache", "The resolvers give different answers, and nothing seen explains why.", "Compare again with --zone-servers to see which of them agrees with the zone."},
	{AnswerByPlace, "a cache", "The zone's own servers answer by client location, or rotate their answers, on purpose.", "Nothing to do. Compare with a client in the same place."},
	{AnswerRewritten, "a cache", "The resolver makes up an answer for a name that does not exist.", "Use another resolver, or have whoever runs this one turn that off."},
	{AnswerBlocked, "a cache", "The resolver withholds the answer: the name is on its block list, or it takes such addresses out.", "Ask whoever runs the resolver whether the name is on its list on purpose."},
	{AnswerLocal, "a cache", "The resolver answers from data of its own, and not from the zone: it overrides the name, or has a copy of the zone.", "Ask whoever runs the resolver to remove its own data for the name, or to bring it up to date."},
	{ServersStale, "a cache", "The resolver still asks servers that served the zone before: it has them cached.", "Ask whoever runs the resolver to clear the zone's NS records from its cache; clearing the name alone does not help."},
	{ValidationFails, "a cache", "The resolver rejects the answer as forged (DNSSEC): with checking disabled it returns one.", "Ask the zone's operator to check the zone's signatures and the DS record at the parent. If other validating resolvers answer, ask whoever runs this one to check its trust anchors and its clock."},
	{ReverseMissing, "addresses and names", "The address has no reverse name.", "Ask whoever holds the address range to add a PTR record, if a mail host or a log needs one."},
	{ReverseMismatch, "addresses and names", "The reverse name of the address does not resolve back to the address.", "Ask whoever holds the address range to correct the PTR record, or the zone's operator to correct the address."},
	{DomainExpired, "a registry", "The domain's registration ran out: nobody renewed it.", "Its holder has to renew it at its registrar."},
	{DomainExpiresSoon, "a registry", "The domain's registration runs out within 30 days.", "See that its holder renews it at its registrar."},
	{DomainOnHold, "a registry", "The registrar or the registry has taken the domain out of the DNS (RFC 8056).", "Ask the registrar why: unpaid, unconfirmed contact data, or a dispute."},
	{DomainUnregistered, "a registry", "The registry has no such domain: it was never registered, or was released.", "Check how the name is spelt. If it is right, its former holder has lost it: register it anew."},
	{RegistryDiffers, "a registry", "The registry has other name servers or DS records for the domain than the DNS has.", "Have the holder correct them at the registrar; if they were changed just now, wait for the registry to publish that."},
	{RegistryUnreachable, "a registry", "The registry could not be asked, or what it said could not be read.", "Try again later, or look at the registry's own web page."},
	{MailNowhere, "mail", "Mail for the domain goes nowhere: it has neither MX records nor an address, or none of its mail hosts has one.", "Ask the zone's operator for an MX record that names a host with an address, or for a null MX (0 .) if the domain takes no mail."},
	{MailRefused, "mail", "The domain says that it takes no mail (a null MX, RFC 7505).", "Nothing to do, if that is meant. Otherwise ask the zone's operator to put the mail hosts in its place."},
	{MXFallback, "mail", "The domain has no MX records: mail goes to its own addresses (RFC 5321 §5.1).", "Add an MX record, so that mail does not follow the web site when that moves."},
	{SPFMissing, "mail", "The domain does not say who may send its mail: it has no SPF record.", "Ask the zone's operator for one, such as v=spf1 mx -all; for a domain that sends nothing, v=spf1 -all."},
	{SPFSeveral, "mail", "The domain has more than one SPF record: receivers come to a permanent error (RFC 7208 §4.5).", "Ask the zone's operator to join them to one record."},
	{SPFSyntax, "mail", "The SPF record is in error: receivers come to a permanent error, and pass over all of it.", "Correct the term that is named."},
	{SPFTooManyLookups, "mail", "The SPF record takes more than 10 look-ups: receivers come to a permanent error (RFC 7208 §4.6.4).", "Replace includes of providers that are no longer used, and a and mx terms, by the networks that they stand for."},
	{SPFVoidLookups, "mail", "More than two look-ups of the SPF record find nothing: receivers come to a permanent error (RFC 7208 §4.6.4).", "Remove the terms whose names are gone."},
	{SPFIncludeMissing, "mail", "The SPF record includes a domain that has no SPF record: receivers come to a permanent error (RFC 7208 §5.2).", "Ask the provider which name to include, or remove the term."},
	{SPFLetsAll, "mail", "The SPF record lets everybody send, or networks so wide that it says nothing.", "End the record with -all or ~all, and name the networks that send."},
	{SPFLoop, "mail", "The SPF record leads back to itself: receivers come to a permanent error.", "Remove the include or redirect that closes the circle."},
	{DKIMKeyWeak, "mail", "The DKIM key is too short: receivers accept no RSA key of fewer than 1024 bits, and 2048 are recommended (RFC 8301).", "Have whoever sends the mail make a longer key, under a new selector."},
	{DKIMRevoked, "mail", "The DKIM key was revoked: its record is empty.", "Check that nothing signs with this selector any more."},
	{DKIMMissing, "mail", "There is no DKIM key with this selector.", "Take the selector from the DKIM-Signature header of a mail (s=), and ask the zone's operator to publish its key."},
	{DKIMSyntax, "mail", "The DKIM key cannot be used: its record is in error.", "Publish the key again as whoever sends the mail gives it; long keys are often cut off or quoted wrongly."},
	{DMARCMissing, "mail", "The domain does not say what receivers shall do with forged mail: it has no DMARC record.", "Add one, such as v=DMARC1; p=none; rua=mailto:... at _dmarc, read the reports, and then tighten it."},
	{DMARCSyntax, "mail", "The DMARC record is in error, or there are several.", "Correct it; there may be one record alone, and it begins with v=DMARC1; p=."},
	{DMARCReportsNotAllowed, "mail", "DMARC reports are to go to another domain, which does not say that it takes them (RFC 7489 §7.1).", "Ask that domain's operator for a TXT record v=DMARC1 at the name that was looked up, or send the reports to your own domain."},
	{STSUnreachable, "mail", "The domain announces a policy for TLS (MTA-STS), and it cannot be fetched or used.", "Check the web server of mta-sts below the domain: its certificate, and the file .well-known/mta-sts.txt as plain text without a redirect."},
	{STSDiffers, "mail", "The policy for TLS (MTA-STS) does not match the domain's mail hosts.", "Add the hosts to the policy, and give the TXT record a new id."},
	{TLSAInsecure, "mail", "A mail host has TLSA records in a zone that is not signed: they count for nothing (RFC 7672).", "Have the zone signed, or remove the TLSA records."},
	{Unanswered, "a capture", "The capture has the query and no reply to it.", "Check that the capture saw both directions, then query that server yourself."},
	{PacketLost, "a capture", "A query was answered only when it was sent again: its first packet, or the reply to it, was lost.", "If there are many, look for a full link or a bad cable between the client and that server; a capture at the other end shows which of the two packets is lost."},
	{LateReply, "a capture", "The reply came after the client had retried or asked another server.", "Find out why that server takes so long: query it yourself, or look at what it was querying in the meantime."},
	{RepeatedQuery, "a capture", "The client retried because no reply came in time.", "Check the path to that server for packet loss, and the server for load."},
	{LoopedQuery, "a capture", "The same packet keeps coming by, with the same ID, at once or with fewer hops left.", "Look for a loop in the network between the capture points: two cables between two switches, or routers that point at each other."},
	{RepliesDiffer, "a capture", "Two replies to one query say different things: two servers answered, or something on the path did.", "Compare where the two replies come from: hardware addresses and hops left."},
	{UnsolicitedReply, "a capture", "A reply came for which the capture has no query, judging by its ID or its source.", "Check whether the capture started in the middle. Many wrong IDs for one query look like an attacker guessing."},
	{Failed, "a capture", "The reply reports a failure.", "Trace the names that failed."},
	{NoNameBurst, "a capture", "One client asked for many names in a row that do not exist.", "Look at what that client runs: a search list, a typo in a configuration, or software that generates names."},
	{ReadableNames, "a capture", "Anybody who sees these packets can read which names were looked up.", "Nothing to do, unless that is unwanted: encrypted transports hide it."},
	{Undecodable, "a capture", "A packet to or from the DNS port is not a readable message.", "Look at the packet's bytes. A short one may have been cut off by the capture's snap length."},
	{NameConflict, "a capture", "Two hosts on the local link claim the same name.", "Rename one of the two hosts."},
	{HalfFails, "a capture", "Of a pair of queries for IPv4 and IPv6 addresses, one fails or is slow and may hold up the client.", "Query that server for both types, and see what the zone's own servers say to the one that fails."},
	{OneSided, "a capture", "The capture has packets in one direction only: silence in it says nothing about the servers.", "Capture again where both directions pass."},
}

// Of returns the catalogue's entry for a code; ok is false for an unknown one.
func Of(code Code) (Entry, bool) {
	i := slices.IndexFunc(Catalogue, func(e Entry) bool { return e.Code == code })
	if i < 0 {
		return Entry{}, false
	}
	return Catalogue[i], true
}

// Codes are the codes of all findings.
func Codes() (all []string) {
	for i := range Catalogue {
		all = append(all, string(Catalogue[i].Code))
	}
	return all
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
	f.Evidence = append(append([]int{}, f.Evidence...), numbers...) // never nil, which JSON has as null
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
	Certain  = "certain"  // nothing else would look the same
	Likely   = "likely"   // something else would, and nothing speaks for it
	Possible = "possible" // one of several causes that fit equally
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
