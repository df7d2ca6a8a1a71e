package wire

import (
	"fmt"
	"slices"
)

// Type is a record type or question type (RFC 1035 §3.2.2 and §3.2.3).
type Type uint16

// The types that the program itself asks for or decides on. Every other one is
// known to the table alone.
const (
	A      Type = 1
	NS     Type = 2
	CNAME  Type = 5
	SOA    Type = 6
	PTR    Type = 12
	MX     Type = 15
	TXT    Type = 16
	AAAA   Type = 28
	SRV    Type = 33
	DNAME  Type = 39
	OPT    Type = 41
	SVCB   Type = 64
	DS     Type = 43
	DNSKEY Type = 48
	TLSA   Type = 52
	HTTPS  Type = 65
	RRSIG  Type = 46
	NSEC   Type = 47
	NSEC3  Type = 50
	CDS    Type = 59
	TSIG   Type = 250
	IXFR   Type = 251
	AXFR   Type = 252
	ANY    Type = 255
	CAA    Type = 257

	NSEC3PARAM Type = 51
	CDNSKEY    Type = 60
)

// row is one record type: its mnemonic, where it is specified, and its fields
// in wire order under the names that document gives them.
type row struct {
	mnemonic string
	source   string
	rules    rule
	fields   []field
}

// field is one field of an RDATA: its name, how it is laid out, how often it
// stands, and what it is for, in a few words for a reader who never saw one.
type field struct {
	name   string
	kind   *kind
	repeat repeat
	says   string
}

// repeat says how often a field stands.
type repeat uint8

const (
	once        repeat = iota
	atMostOnce         // if there is anything left of the RDATA
	atLeastOnce        // until the RDATA ends
	anyTimes           // until the RDATA ends
)

// rule is what sets a type apart from the rest.
type rule uint8

const (
	compressed   rule = 1 << iota // names in the RDATA may be compressed when written (RFC 3597 §4)
	canonical                     // names in the RDATA are lower case in canonical form (RFC 4034 §6.2, RFC 6840 §5.1)
	internetOnly                  // the format holds for class IN alone
	questionOnly                  // a question type: no record has it
	pseudo                        // travels in messages, never in a zone
)

// rows is the table of record types.
var rows = map[Type]row{
	1:  {"A", "RFC 1035 §3.4.1", internetOnly, []field{{"ADDRESS", ipv4, once, "the host's IPv4 address"}}},
	2:  {"NS", "RFC 1035 §3.3.11", compressed | canonical, []field{{"NSDNAME", domain, once, "a server of this zone"}}},
	3:  {"MD", "RFC 1035 §3.3.4", compressed | canonical, []field{{"MADNAME", domain, once, "a mail destination (obsolete)"}}},
	4:  {"MF", "RFC 1035 §3.3.5", compressed | canonical, []field{{"MADNAME", domain, once, "a mail forwarder (obsolete)"}}},
	5:  {"CNAME", "RFC 1035 §3.3.1", compressed | canonical, []field{{"CNAME", domain, once, "the name that this one points to"}}},
	6:  {"SOA", "RFC 1035 §3.3.13", compressed | canonical, soaFields},
	7:  {"MB", "RFC 1035 §3.3.3", compressed | canonical, []field{{"MADNAME", domain, once, "the host of this mailbox (experimental)"}}},
	8:  {"MG", "RFC 1035 §3.3.6", compressed | canonical, []field{{"MGMNAME", domain, once, "a member of this mail group (experimental)"}}},
	9:  {"MR", "RFC 1035 §3.3.8", compressed | canonical, []field{{"NEWNAME", domain, once, "the mailbox's new name (experimental)"}}},
	10: {"NULL", "RFC 1035 §3.3.10", 0, nil},
	11: {"WKS", "RFC 1035 §3.4.2", internetOnly, []field{{"ADDRESS", ipv4, once, "the host's IPv4 address"}, {"PROTOCOL", ipProtocol, once, "the IP protocol of the services"}, {"BIT MAP", ports, once, "the ports with a service"}}},
	12: {"PTR", "RFC 1035 §3.3.12", compressed | canonical, []field{{"PTRDNAME", domain, once, "the name that this address or name points to"}}},
	13: {"HINFO", "RFC 1035 §3.3.2", 0, []field{{"CPU", characters, once, "the kind of machine"}, {"OS", characters, once, "its operating system"}}},
	14: {"MINFO", "RFC 1035 §3.3.7", compressed | canonical, []field{{"RMAILBX", domain, once, "who is responsible for the list"}, {"EMAILBX", domain, once, "where errors go"}}},
	15: {"MX", "RFC 1035 §3.3.9", compressed | canonical, []field{{"PREFERENCE", u16, once, "lower is tried first"}, {"EXCHANGE", domain, once, "the host that takes mail for this name"}}},
	16: {"TXT", "RFC 1035 §3.3.14", 0, []field{{"TXT-DATA", characters, atLeastOnce, ""}}},
	17: {"RP", "RFC 1183 §2.2", canonical, []field{{"mbox-dname", domain, once, "the responsible person's mailbox, the first dot read as @"}, {"txt-dname", domain, once, "where a TXT says more about them"}}},
	18: {"AFSDB", "RFC 1183 §1", canonical, []field{{"subtype", u16, once, "the kind of server"}, {"hostname", domain, once, "the server"}}},
	19: {"X25", "RFC 1183 §3.1", 0, []field{{"PSDN-address", characters, once, "the address in the packet network"}}},
	20: {"ISDN", "RFC 1183 §3.2", 0, []field{{"ISDN-address", characters, once, "the telephone number"}, {"sa", characters, atMostOnce, "the subaddress"}}},
	21: {"RT", "RFC 1183 §3.3", canonical, []field{{"preference", u16, once, "lower is tried first"}, {"intermediate-host", domain, once, "the host that passes packets on"}}},
	22: {"NSAP", "RFC 1706 §5", internetOnly, []field{{"NSAP", nsap, once, "the OSI address"}}},
	23: {"NSAP-PTR", "RFC 1348", 0, []field{{"owner", domain, once, "the name of this OSI address"}}},
	24: {"SIG", "RFC 2535 §4.1", canonical, sigFields},
	25: {"KEY", "RFC 2535 §3.1", 0, []field{{"flags", u16, once, "what the key is for"}, {"protocol", u8, once, "the protocol it is for"}, {"algorithm", algorithm, once, "the key's algorithm"}, {"public key", keyData, once, "the key itself"}}},
	26: {"PX", "RFC 2163 §4", canonical | internetOnly, []field{{"PREFERENCE", u16, once, "lower is tried first"}, {"MAP822", domain, once, "the Internet mail domain"}, {"MAPX400", domain, once, "the X.400 domain"}}},
	27: {"GPOS", "RFC 1712 §3", 0, []field{{"LONGITUDE", characters, once, "degrees east"}, {"LATITUDE", characters, once, "degrees north"}, {"ALTITUDE", characters, once, "metres"}}},
	28: {"AAAA", "RFC 3596 §2.2", internetOnly, []field{{"ADDRESS", ipv6, once, "the host's IPv6 address"}}},
	29: {"LOC", "RFC 1876 §2", 0, []field{{"LOC", location, once, "a place on the earth"}}},
	30: {"NXT", "RFC 2535 §5.2", canonical, []field{{"next domain name", domain, once, "no name exists between the owner and this one (obsolete)"}, {"type bit map", oldBitmap, once, "the types that the owner does have"}}},
	31: {"EID", "IANA registry, template of 1995", 0, []field{{"EID", hexRest, once, "an endpoint identifier"}}},
	32: {"NIMLOC", "IANA registry, template of 1995", 0, []field{{"NIMLOC", hexRest, once, "a Nimrod locator"}}},
	33: {"SRV", "RFC 2782", canonical, []field{{"Priority", u16, once, "lower is tried first"}, {"Weight", u16, once, "among equals, the more the likelier"}, {"Port", u16, once, "where the service listens"}, {"Target", domain, once, "the host that runs it"}}},
	34: {"ATMA", "AF-DANS-0152.000", internetOnly, []field{{"ADDRESS", atmAddress, once, "the ATM address"}}},
	35: {"NAPTR", "RFC 3403 §4", canonical, []field{{"ORDER", u16, once, "lower is worked through first"}, {"PREFERENCE", u16, once, "among equals, lower is preferred"}, {"FLAGS", characters, once, "what comes next: S an SRV, A an address, U a URI"}, {"SERVICES", characters, once, "the service and protocol"}, {"REGEXP", characters, once, "how to rewrite the name"}, {"REPLACEMENT", domain, once, "the next name, if REGEXP is empty"}}},
	36: {"KX", "RFC 2230 §3", canonical | internetOnly, []field{{"PREFERENCE", u16, once, "lower is tried first"}, {"EXCHANGER", domain, once, "the host that exchanges keys"}}},
	37: {"CERT", "RFC 4398 §2", 0, []field{{"type", certType, once, "the kind of certificate"}, {"key tag", u16, once, "which key it belongs to"}, {"algorithm", algorithm, once, "that key's algorithm"}, {"certificate or CRL", base64Data, once, "the certificate itself"}}},
	38: {"A6", "RFC 2874 §3.1", canonical | internetOnly, []field{{"Prefix len.", u8, once, "how many bits another name holds"}, {"Address suffix", a6Suffix, once, "the rest of the address"}, {"Prefix name", a6Name, once, "the name that holds the prefix"}}},
	39: {"DNAME", "RFC 6672 §2.1", canonical, []field{{"target", domain, once, "what all names below this one are aliases into"}}},
	40: {"SINK", "draft-eastlake-kitchen-sink", 0, []field{{"meaning", u8, once, ""}, {"coding", u8, once, ""}, {"subcoding", u8, once, ""}, {"data", base64Rest, once, ""}}},
	41: {"OPT", "RFC 6891 §6.1.2", pseudo, []field{{"OPTION", option, anyTimes, ""}}},
	42: {"APL", "RFC 3123 §4", internetOnly, []field{{"APITEM", aplItem, anyTimes, "an address range; ! takes it out again"}}},
	43: {"DS", "RFC 4034 §5.1", 0, dsFields},
	44: {"SSHFP", "RFC 4255 §3.1", 0, []field{{"algorithm", sshAlgorithm, once, "the host key's algorithm"}, {"fp type", sshDigest, once, "how it was hashed"}, {"fingerprint", hexData, once, "what the key has to hash to"}}},
	45: {"IPSECKEY", "RFC 4025 §2", 0, []field{{"precedence", u8, once, "lower is tried first"}, {"gateway type", gatewayType, once, "the form of the gateway"}, {"algorithm", u8, once, "the key's algorithm"}, {"gateway", gateway, once, "where to send the packets"}, {"public key", base64Rest, once, "the key itself"}}},
	46: {"RRSIG", "RFC 4034 §3.1", canonical, sigFields},
	47: {"NSEC", "RFC 4034 §4.1", 0, []field{{"Next Domain Name", domain, once, "no name exists between the owner and this one"}, {"Type Bit Maps", typeBitmap, once, "the types that the owner does have"}}},
	48: {"DNSKEY", "RFC 4034 §2.1", 0, keyFields},
	49: {"DHCID", "RFC 4701 §3.1", internetOnly, []field{{"DHCID", base64Data, once, "which DHCP client the name was given to, hashed"}}},
	50: {"NSEC3", "RFC 5155 §3.2", 0, []field{{"Hash Algorithm", nsec3Hash, once, "how names are hashed here"}, {"Flags", nsec3Flags, once, ""}, {"Iterations", u16, once, "how many times more it is hashed"}, {"Salt", salt, once, "hashed along with each name"}, {"Next Hashed Owner Name", hashedName, once, "no name hashes to between the owner and this"}, {"Type Bit Maps", typeBitmap, once, "the types that the owner's name does have"}}},
	51: {"NSEC3PARAM", "RFC 5155 §4.2", 0, []field{{"Hash Algorithm", nsec3Hash, once, "how names are hashed here"}, {"Flags", u8, once, ""}, {"Iterations", u16, once, "how many times more it is hashed"}, {"Salt", salt, once, "hashed along with each name"}}},
	52: {"TLSA", "RFC 6698 §2.1", 0, tlsaFields},
	53: {"SMIMEA", "RFC 8162 §2", 0, tlsaFields},
	55: {"HIP", "RFC 8005 §5", 0, []field{{"HIT and public key", hostIdentity, once, "the host's identity"}, {"Rendezvous Servers", domain, anyTimes, "where the host can be met"}}},
	56: {"NINFO", "IANA registry, template of 2008", 0, []field{{"ZS-DATA", characters, atLeastOnce, "the state of the zone"}}},
	57: {"RKEY", "IANA registry, template of 2008", 0, []field{{"flags", u16, once, ""}, {"protocol", u8, once, ""}, {"algorithm", algorithm, once, ""}, {"public key", base64Rest, once, ""}}},
	58: {"TALINK", "IANA registry, template of 2010", 0, []field{{"previous", domain, once, "the trust anchor list entry before"}, {"next", domain, once, "the one after"}}},
	59: {"CDS", "RFC 7344 §3.1", 0, dsFields},
	60: {"CDNSKEY", "RFC 7344 §3.2", 0, keyFields},
	61: {"OPENPGPKEY", "RFC 7929 §2.1", 0, []field{{"public key", base64Data, once, "the mailbox's OpenPGP key"}}},
	62: {"CSYNC", "RFC 7477 §2.1", 0, []field{{"SOA Serial", u32, once, "from which version on the parent may act"}, {"Flags", csyncFlags, once, ""}, {"Type Bit Map", typeBitmap, once, "the types that the parent should copy"}}},
	63: {"ZONEMD", "RFC 8976 §2.2", 0, []field{{"Serial", u32, once, "the version that was hashed"}, {"Scheme", zonemdScheme, once, "what was hashed"}, {"Hash Algorithm", zonemdHash, once, "how it was hashed"}, {"Digest", hexData, once, "what the zone has to hash to"}}},
	64: {"SVCB", "RFC 9460 §2.2", 0, svcFields},
	65: {"HTTPS", "RFC 9460 §9", 0, svcFields},
	66: {"DSYNC", "RFC 9859 §2.1", 0, []field{{"RRtype", coveredType, once, "what is told of: CDS or CSYNC"}, {"Scheme", dsyncScheme, once, "how"}, {"Port", u16, once, "where the receiver listens"}, {"Target", domain, once, "the receiver of notifications"}}},
	67: {"HHIT", "RFC 9886 §5.1", 0, []field{{"HHIT", base64Data, once, "the registration of a hierarchical host identity"}}},
	68: {"BRID", "RFC 9886 §5.2", 0, []field{{"BRID", base64Data, once, "what an unmanned aircraft broadcasts of itself"}}},
	99: {"SPF", "RFC 7208 §3.1", 0, []field{{"TXT-DATA", characters, atLeastOnce, "mail senders (obsolete: a TXT says it now)"}}},

	100: {"UINFO", "IANA registry, reserved", 0, nil},
	101: {"UID", "IANA registry, reserved", 0, nil},
	102: {"GID", "IANA registry, reserved", 0, nil},
	103: {"UNSPEC", "IANA registry, reserved", 0, nil},
	104: {"NID", "RFC 6742 §2.1", 0, []field{{"Preference", u16, once, "lower is preferred"}, {"NodeID", hexGroups, once, "the node's identifier"}}},
	105: {"L32", "RFC 6742 §2.2", 0, []field{{"Preference", u16, once, "lower is preferred"}, {"Locator32", ipv4, once, "where the node is"}}},
	106: {"L64", "RFC 6742 §2.3", 0, []field{{"Preference", u16, once, "lower is preferred"}, {"Locator64", hexGroups, once, "where the node is"}}},
	107: {"LP", "RFC 6742 §2.4", 0, []field{{"Preference", u16, once, "lower is preferred"}, {"FQDN", domain, once, "the name with the locators"}}},
	108: {"EUI48", "RFC 7043 §3.1", 0, []field{{"EUI-48", hyphenated("eui48", 6), once, "the interface's hardware address"}}},
	109: {"EUI64", "RFC 7043 §4.1", 0, []field{{"EUI-64", hyphenated("eui64", 8), once, "the interface's hardware address"}}},
	128: {"NXNAME", "RFC 9824 §3.1", pseudo, nil},
	249: {"TKEY", "RFC 2930 §2", pseudo, []field{{"Algorithm", domain, once, "what the key will be used with"}, {"Inception", signatureTime, once, "valid from"}, {"Expiration", signatureTime, once, "valid until"}, {"Mode", tkeyMode, once, "how the key is agreed on"}, {"Error", errorCode, once, ""}, {"Key Data", sizedData, once, ""}, {"Other Data", sizedData, once, ""}}},
	250: {"TSIG", "RFC 8945 §4.2", pseudo, []field{{"Algorithm Name", domain, once, "how the message was signed"}, {"Time Signed", clockTime, once, "by the signer's clock"}, {"Fudge", u16, once, "seconds that clocks may differ"}, {"MAC", sizedData, once, "the signature"}, {"Original ID", u16, once, "the ID that was signed"}, {"Error", errorCode, once, ""}, {"Other Data", sizedData, once, "with BADTIME, the server's clock"}}},
	251: {"IXFR", "RFC 1995", questionOnly, nil},
	252: {"AXFR", "RFC 5936", questionOnly, nil},
	253: {"MAILB", "RFC 1035 §3.2.3", questionOnly, nil},
	254: {"MAILA", "RFC 1035 §3.2.3", questionOnly, nil},
	255: {"ANY", "RFC 1035 §3.2.3", questionOnly, nil},
	256: {"URI", "RFC 7553 §4", 0, []field{{"Priority", u16, once, "lower is tried first"}, {"Weight", u16, once, "among equals, the more the likelier"}, {"Target", quotedRest, once, "the URI"}}},
	257: {"CAA", "RFC 8659 §4.1", 0, []field{{"Flags", caaFlags, once, ""}, {"Tag", tag, once, "issue: who may issue certificates; issuewild: for wildcards; iodef: where to report"}, {"Value", quotedRest, once, ""}}},
	258: {"AVC", "IANA registry, template of 2016", 0, []field{{"AVC-DATA", characters, atLeastOnce, "an application's description"}}},
	259: {"DOA", "draft-durand-doa-over-dns", 0, []field{{"DOA-ENTERPRISE", u32, once, "whose numbering"}, {"DOA-TYPE", u32, once, "the kind of object"}, {"DOA-LOCATION", u8, once, "where its data is"}, {"DOA-MEDIA-TYPE", characters, once, "the data's media type"}, {"DOA-DATA", base64OrDash, once, "the data"}}},
	260: {"AMTRELAY", "RFC 8777 §4.2", 0, []field{{"precedence", u8, once, "lower is tried first"}, {"D-bit and type", relayType, once, "whether to look for it first, and the form of the relay"}, {"relay", gateway, once, "the multicast relay"}}},
	261: {"RESINFO", "RFC 9606 §4", 0, []field{{"RESINFO", characters, atLeastOnce, "what the resolver says it can do"}}},
	262: {"WALLET", "IANA registry, template of 2024", 0, []field{{"WALLET", characters, atLeastOnce, "a wallet's address"}}},

	263: {"CLA", "draft-johnson-dns-ipn-cla", 0, []field{{"CLA", characters, atLeastOnce, "the convergence layers of a node"}}},
	264: {"IPN", "draft-johnson-dns-ipn-cla", 0, []field{{"IPN", u64, once, "the number of a node"}}},

	32768: {"TA", "IANA registry, template of 2005", 0, dsFields},
	32769: {"DLV", "RFC 8749", 0, dsFields},
}

var (
	soaFields = []field{
		{"MNAME", domain, once, "the primary server, where the zone is changed"},
		{"RNAME", domain, once, "the mailbox of whoever is responsible, the first dot read as @"},
		{"SERIAL", u32, once, "the version of the zone"},
		{"REFRESH", seconds, once, "how often a secondary asks for a new version"},
		{"RETRY", seconds, once, "how soon it asks again when that failed"},
		{"EXPIRE", seconds, once, "after how long without the primary it stops answering"},
		{"MINIMUM", seconds, once, "how long \"there is none\" may be remembered"},
	}
	dsFields = []field{
		{"Key Tag", u16, once, "which key of the zone below is meant"},
		{"Algorithm", algorithm, once, "that key's algorithm"},
		{"Digest Type", digestType, once, "how it was hashed"},
		{"Digest", hexData, once, "what the key has to hash to"},
	}
	keyFields = []field{
		{"Flags", keyFlags, once, ""},
		{"Protocol", u8, once, "always 3"},
		{"Algorithm", algorithm, once, "the key's algorithm"},
		{"Public Key", base64Data, once, "the key itself"},
	}
	sigFields = []field{
		{"Type Covered", coveredType, once, "the records that are signed"},
		{"Algorithm", algorithm, once, "how they were signed"},
		{"Labels", u8, once, "labels in the owner name; fewer than it has tell a wildcard"},
		{"Original TTL", seconds, once, "the TTL that was signed"},
		{"Signature Expiration", signatureTime, once, "valid until"},
		{"Signature Inception", signatureTime, once, "valid from"},
		{"Key Tag", u16, once, "which key signed"},
		{"Signer's Name", domain, once, "the zone of that key"},
		{"Signature", base64Data, once, ""},
	}
	tlsaFields = []field{
		{"Cert. Usage", tlsaUsage, once, "what the certificate has to do with the server's"},
		{"Selector", tlsaSelector, once, "what of it is compared"},
		{"Matching Type", tlsaMatching, once, "in what form"},
		{"Certificate Association Data", hexData, once, "what it is compared with"},
	}
	svcFields = []field{
		{"SvcPriority", u16, once, "lower is tried first; 0 makes it an alias"},
		{"TargetName", domain, once, "the host to go to; . means the owner itself"},
		{"SvcParams", svcParams, once, "how to reach it"},
	}
)

// typeNames are the mnemonics of the table. They are taken from it when they are asked for first, since
// kinds in it refer to them.
var typeNames = &registry{prefix: "TYPE"}

// commonNames are those of them below 256: they are asked for at every record.
var commonNames [256]string

func init() {
	typeNames.fill = mnemonics
	for t, row := range common[:len(commonNames)] {
		if row != nil {
			commonNames[t] = row.mnemonic
		}
	}
}

func mnemonics() map[uint16]string {
	names := make(map[uint16]string, len(rows))
	for number, row := range rows {
		names[uint16(number)] = row.mnemonic
	}
	return names
}

// IsTransfer reports whether who asks for the type wants a zone, or what changed in it
// (RFC 5936, RFC 1995): the answer has records of all types and names.
func (t Type) IsTransfer() bool { return t == AXFR || t == IXFR }

// AsksForOthers reports whether the type is one of questions alone, for records of other
// types: ANY, a transfer, or one of the two for mail (RFC 1035 §3.2.3).
func (t Type) AsksForOthers() bool { return t >= IXFR && t <= ANY }

// String returns the mnemonic, or TYPE123 for a type that is not in the table.
func (t Type) String() string {
	if int(t) < len(commonNames) && commonNames[t] != "" {
		return commonNames[t]
	}
	return typeNames.text(uint16(t))
}

// ParseType reads a mnemonic in any case, or TYPE123. The error wraps ErrUnknownType.
func ParseType(text string) (Type, error) {
	v, ok := typeNames.value(text)
	if !ok {
		return 0, fmt.Errorf("%q: %w", text, ErrUnknownType)
	}
	return Type(v), nil
}

// TypeOf is [ParseType] on bytes, without an error to build: ok is false for a
// word that is no type.
func TypeOf(text []byte) (t Type, ok bool) {
	v, ok := typeNames.value(borrow(text))
	return Type(v), ok
}

// Types returns every type of the table that a zone may hold, by number.
func Types() []Type {
	var all []Type
	for t, row := range rows {
		if row.rules&(questionOnly|pseudo) == 0 {
			all = append(all, t)
		}
	}
	slices.Sort(all)
	return all
}

// Source returns the document that specifies the type, or "" for an unknown one.
func (t Type) Source() string { return rows[t].source }

// common holds the rows of the types below 300, where nearly all traffic is:
// an index is several times faster than the map.
var common = func() (table [300]*row) {
	for t, r := range rows {
		if int(t) < len(table) {
			table[t] = &r
		}
	}
	return table
}()

// rowOf returns the row that says how an RDATA is laid out, or nil when it is opaque.
func rowOf(t Type, c Class) *row {
	var r *row
	if int(t) < len(common) {
		r = common[t]
	} else if found, ok := rows[t]; ok {
		r = &found
	}
	if r == nil || r.fields == nil || r.rules&internetOnly != 0 && c != IN {
		return nil
	}
	return r
}
