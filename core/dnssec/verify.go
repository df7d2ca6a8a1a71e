package dnssec

import (
	"slices"
	"time"

	"unquil/core/wire"
)

// State is what validation comes to (RFC 4035 §4.3).
type State string

// The states.
const (
	Secure        State = "secure"        // signed, along an unbroken chain from an anchor
	Insecure      State = "insecure"      // a link on the way says that it is not signed
	Bogus         State = "bogus"         // signed, and something of the signatures is wrong
	Indeterminate State = "indeterminate" // nothing that was seen can tell
)

// Flaw is what breaks a chain of trust.
type Flaw string

// The flaws; each has the word of its finding.
const (
	SignatureExpired  Flaw = "signature-expired"
	SignatureNotYet   Flaw = "signature-not-yet-valid"
	SignatureMissing  Flaw = "signature-missing"
	SignatureWrong    Flaw = "signature-wrong"
	DSWithoutKey      Flaw = "ds-without-key"
	KeyUnsigned       Flaw = "key-unsigned"
	ChainMissing      Flaw = "chain-missing"
	DenialIncomplete  Flaw = "denial-incomplete"
	AnchorOld         Flaw = "anchor-old"
	UnsupportedDigest Flaw = "ds-unsupported" // no break: the zone counts as unsigned
	ManyIterations    Flaw = "nsec3-iterations"
)

// Break is where and why a chain ends.
type Break struct {
	Flaw      Flaw
	Zone      wire.Name // whose records or signatures these are
	Owner     wire.Name
	Type      wire.Type
	Tag       uint16 // of the key that a signature or DS names; 0 for none
	Algorithm Algorithm
	Since     time.Time // when it ran out; zero otherwise
	Until     time.Time // before which it is not valid; zero otherwise
	Begins    time.Time // of a signature that is not valid now: from when until when it is; zero otherwise
	Ends      time.Time
}

// Soon is how near a signature's end is to be told: most zones sign anew a week before.
const Soon = 24 * time.Hour

// Bounds on what is computed for one answer. Keys that share a tag, and signatures by keys that do,
// cost a check for each pair: a few messages could make a validator busy for hours.
const (
	maxChecks     = 128 // signatures that are verified
	maxSignatures = 8   // over one set
	maxSameTag    = 3   // keys that one signature is tried with
	maxKeys       = 32  // of one zone
	maxDigests    = 16  // of one delegation
)

// checks counts what may still be verified.
type checks struct{ left int }

// verified is what checking a set came to.
type verified struct {
	by      *Signature // a valid one; nil where there is none
	key     *Key       // that made it
	ends    time.Time  // of the valid signature that holds longest
	broken  *Break     // why none is valid
	skipped bool       // none could be checked, by its algorithm
}

// Checker checks sets by keys that it is given, whoever vouches for those.
type Checker struct{ checks }

// NewChecker returns one that verifies at most so many signatures.
func NewChecker(limit int) *Checker { return &Checker{checks{left: limit}} }

// Left is how many signatures it may still verify.
func (c *Checker) Left() int { return c.left }

// Check says why no signature over a set is valid, as of a time; nil where one is.
func (c *Checker) Check(set *Set, zone wire.Name, keys []*Key, now time.Time) *Break {
	return c.verify(set, zone, keys, now).broken
}

// wildcard reports whether the set was given by a wildcard, and how many labels that has below
// its asterisk.
func (v *verified) wildcard(set *Set) (labels int, is bool) {
	return v.by.Labels, v.by.Labels < set.Owner.Labels() && set.Owner.Label(0) != "*"
}

// verify checks the signatures over a set with the keys of a zone, as of a time. One valid signature
// is enough (RFC 4035 §5.3.3). Of those that are not valid the flaw is told that is nearest to being
// none: that a signature ran out is said only where nothing else is wrong with it.
func (c *checks) verify(set *Set, zone wire.Name, keys []*Key, now time.Time) (v verified) {
	rank := map[Flaw]int{SignatureMissing: 0, SignatureWrong: 1, SignatureNotYet: 2, SignatureExpired: 3}
	fail := func(b Break) {
		b.Zone, b.Owner, b.Type = zone, set.Owner, set.Type
		if v.broken == nil || rank[b.Flaw] > rank[v.broken.Flaw] || b.Flaw == SignatureExpired && v.broken.Flaw == b.Flaw && b.Since.After(v.broken.Since) {
			v.broken = &b
		}
	}
	fail(Break{Flaw: SignatureMissing})
	unsupported := 0
	for i := range set.Signatures[:min(len(set.Signatures), maxSignatures)] {
		s := &set.Signatures[i]
		if !s.Signer.Equal(zone) {
			continue // another zone's
		}
		if !s.Algorithm.Supported() {
			unsupported++
			continue
		}
		key := c.keyOf(set, s, keys)
		begins, ends := s.Begins(now), s.Ends(now)
		switch {
		case key == nil:
			fail(Break{Flaw: SignatureWrong, Tag: s.Tag, Algorithm: s.Algorithm})
		case now.Before(begins):
			fail(Break{Flaw: SignatureNotYet, Tag: s.Tag, Algorithm: s.Algorithm, Until: begins, Begins: begins, Ends: ends})
		case now.After(ends):
			fail(Break{Flaw: SignatureExpired, Tag: s.Tag, Algorithm: s.Algorithm, Since: ends, Begins: begins, Ends: ends})
		case ends.After(v.ends):
			v.by, v.key, v.ends = s, key, ends
		}
	}
	if v.by != nil {
		v.broken = nil
	}
	v.skipped = v.by == nil && unsupported > 0 && v.broken.Flaw == SignatureMissing
	return v
}

// keyOf is the key that made a signature; nil where none did that is known.
func (c *checks) keyOf(set *Set, s *Signature, keys []*Key) *Key {
	data, ok := signedData(set, s)
	if !ok {
		return nil
	}
	tried := 0
	for _, k := range keys {
		if k.Tag != s.Tag || k.Algorithm != s.Algorithm || !k.Signs() {
			continue
		}
		if tried++; tried > maxSameTag || c.left <= 0 {
			break
		}
		c.left--
		check, err := algorithms[k.Algorithm].key(k.Public)
		if err == nil && check(data, s.Data) {
			return k
		}
	}
	return nil
}

// readKeys are the keys of a set.
func readKeys(set *Set) (keys []*Key) {
	for _, r := range set.Records[:min(len(set.Records), maxKeys)] {
		if k, err := ReadKey(r); err == nil {
			keys = append(keys, &k)
		}
	}
	return keys
}

// trustKeys says which keys of a zone are to be trusted by the digests that the zone above gives,
// or an anchor does: all of a key set that one of the named keys has signed (RFC 4035 §5.2).
func (c *checks) trustKeys(set *Set, digests []Digest, now time.Time) (keys []*Key, v verified) {
	zone := set.Owner
	keys = readKeys(set)
	var named []*Key
	for _, k := range keys {
		if k.Signs() && slices.ContainsFunc(digests, func(d Digest) bool { return d.Supported() && d.Matches(k) }) {
			named = append(named, k)
		}
	}
	if len(named) == 0 {
		b := Break{Flaw: DSWithoutKey, Zone: zone, Owner: zone, Type: wire.DNSKEY}
		if len(digests) > 0 {
			b.Tag, b.Algorithm = digests[0].Tag, digests[0].Algorithm
		}
		return nil, verified{broken: &b}
	}
	if v = c.verify(set, zone, named, now); v.by != nil {
		return keys, v
	}
	if v.broken.Flaw == SignatureMissing || v.broken.Flaw == SignatureWrong {
		// Signed, but by none of the keys that are vouched for; or signed wrongly by one that is.
		wrong := slices.ContainsFunc(set.Signatures, func(s Signature) bool {
			return slices.ContainsFunc(named, func(k *Key) bool { return k.Tag == s.Tag && k.Algorithm == s.Algorithm })
		})
		if !wrong {
			v.broken.Flaw, v.broken.Tag, v.broken.Algorithm = KeyUnsigned, named[0].Tag, named[0].Algorithm
		}
	}
	return nil, v
}
