package wire

// The kinds whose values have names, and those whose bits have.
var (
	algorithm    = coded("algorithm", 1, algorithms)
	digestType   = coded("digest type", 1, digestTypes)
	certType     = named("certificate type", 2, certTypes)
	coveredType  = named("type", 2, typeNames)
	errorCode    = coded("error", 2, tsigErrors)
	gatewayType  = coded("gateway type", 1, newRegistry("", map[uint16]string{0: "no gateway", 1: "an IPv4 address", 2: "an IPv6 address", 3: "a name"}))
	sshAlgorithm = coded("SSH algorithm", 1, newRegistry("", map[uint16]string{1: "RSA", 2: "DSA", 3: "ECDSA", 4: "Ed25519", 6: "Ed448"}))
	sshDigest    = coded("SSH digest", 1, newRegistry("", map[uint16]string{1: "SHA-1", 2: "SHA-256"}))
	nsec3Hash    = coded("NSEC3 hash", 1, newRegistry("", map[uint16]string{1: "SHA-1"}))
	zonemdScheme = coded("ZONEMD scheme", 1, newRegistry("", map[uint16]string{1: "SIMPLE"}))
	dsyncScheme  = coded("DSYNC scheme", 1, newRegistry("", map[uint16]string{1: "NOTIFY"}))
	zonemdHash   = coded("ZONEMD hash", 1, newRegistry("", map[uint16]string{1: "SHA384", 2: "SHA512"}))
	tkeyMode     = coded("TKEY mode", 2, newRegistry("", map[uint16]string{1: "server assignment", 2: "Diffie-Hellman exchange", 3: "GSS-API negotiation", 4: "resolver assignment", 5: "key deletion"}))
	tlsaUsage    = coded("TLSA usage", 1, newRegistry("", map[uint16]string{0: "PKIX-TA", 1: "PKIX-EE", 2: "DANE-TA", 3: "DANE-EE", 255: "PrivCert"}))
	tlsaSelector = coded("TLSA selector", 1, newRegistry("", map[uint16]string{0: "Cert", 1: "SPKI", 255: "PrivSel"}))
	tlsaMatching = coded("TLSA matching", 1, newRegistry("", map[uint16]string{0: "Full", 1: "SHA2-256", 2: "SHA2-512", 255: "PrivMatch"}))
	ipProtocol   = named("IP protocol", 1, newRegistry("", map[uint16]string{6: "TCP", 17: "UDP"}))

	keyFlags   = flags("key flags", 2, map[uint64]string{256: "zone key", 128: "revoked", 1: "secure entry point"})
	nsec3Flags = flags("NSEC3 flags", 1, map[uint64]string{1: "unsigned delegations may be left out (opt-out)"})
	csyncFlags = flags("CSYNC flags", 2, map[uint64]string{2: "the SOA serial has to be reached (soaminimum)", 1: "act at once (immediate)"})
	caaFlags   = flags("CAA flags", 1, map[uint64]string{128: "whoever does not know the tag must not issue (critical)"})
)
