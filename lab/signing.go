package lab

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/asn1"
	"encoding/base32"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"math/big"
	"slices"
	"strings"
	"sync"
	"time"

	"unquil/core/wire"
)

// Signing is how a zone is signed. Everything in it comes out the same each time.
type Signing struct {
	Zone      string
	Algorithm uint8  // 8, 13 or 15; 0 means 13
	NSEC3     bool   // names are denied by their hashes
	Salt      string // of these, in hex
	Rounds    int    // how many times more they are hashed
	OptOut    bool   `toml:"opt_out"` // unsigned delegations are left out
	// Steps are how far beyond their seeds the primes of RSA keys lie, of both keys: looking for them
	// takes longer than all else.
	Steps     [4]int64
	Without   []string // types whose records are not signed
	Spoils    []string // types whose signatures do not fit
	Digest    string   // what the zone above has of it: "" its key's, "other" another's, "unknown" one that nobody checks, "beside" both it and such a one
	KeysBy    string   // "daily" where the key that signs everything else signs the keys too, and the other does not
	Unserved  bool     // the zone above has a digest, and the zone itself is not signed
	Proofless bool     // nothing proves what is not there
	Lags      []string // hosts whose signatures ran out when the scenario began
	// Begins and Ends are when signatures are valid, from the scenario's beginning on; "" means a
	// week before and a fortnight after.
	Begins, Ends string
}

// signer signs one zone.
type signer struct {
	Signing
	zone         wire.Name
	entry, daily *signingKey // that signs the keys, and that signs everything else
	begins, ends time.Time
	salt         []byte

	mu   sync.Mutex
	made map[string]wire.Record // signatures by what they are over
}

// signingKey is a key with its secret.
type signingKey struct {
	record wire.Record
	tag    uint16
	sign   func(data []byte) []byte
	primes []*big.Int // of an RSA key
}

// denial is one NSEC or NSEC3 record of a zone: of a name, or of its hash.
type denial struct {
	owner wire.Name
	hash  string
	types []wire.Type
}

func newSigner(s Signing, begun time.Time) (*signer, error) {
	zone, err := wire.ParseName(s.Zone)
	if err != nil {
		return nil, fmt.Errorf("signing %q: %w", s.Zone, err)
	}
	if s.Algorithm == 0 {
		s.Algorithm = 13
	}
	out := &signer{Signing: s, zone: zone, begins: begun.Add(-7 * 24 * time.Hour), ends: begun.Add(14 * 24 * time.Hour), made: map[string]wire.Record{}}
	for _, bound := range []struct {
		text string
		to   *time.Time
	}{{s.Begins, &out.begins}, {s.Ends, &out.ends}} {
		if bound.text == "" {
			continue
		}
		after, err := time.ParseDuration(bound.text)
		if err != nil {
			return nil, fmt.Errorf("signing %s: %w", s.Zone, err)
		}
		*bound.to = begun.Add(after)
	}
	if out.salt, err = hex.DecodeString(s.Salt); err != nil {
		return nil, fmt.Errorf("signing %s: %w", s.Zone, err)
	}
	if out.entry, err = newSigningKey(zone, "entry", 257, s.Algorithm, s.Steps[:2]); err == nil {
		out.daily, err = newSigningKey(zone, "daily", 256, s.Algorithm, s.Steps[2:])
	}
	return out, err
}

// newSigningKey makes the key that a zone has for a purpose.
func newSigningKey(zone wire.Name, purpose string, flags uint16, algorithm uint8, steps []int64) (*signingKey, error) {
	seed := sha256.Sum256([]byte(zone.String() + purpose))
	k := &signingKey{}
	var public []byte
	switch algorithm {
	case 15:
		secret := ed25519.NewKeyFromSeed(seed[:])
		public = secret.Public().(ed25519.PublicKey)
		k.sign = func(data []byte) []byte { return ed25519.Sign(secret, data) }
	case 13:
		secret, err := ecdsa.ParseRawPrivateKey(elliptic.P256(), seed[:])
		if err != nil {
			return nil, err
		}
		point, err := secret.PublicKey.Bytes()
		if err != nil {
			return nil, err
		}
		public = point[1:]
		k.sign = func(data []byte) []byte {
			sum := sha256.Sum256(data)
			der, _ := secret.Sign(nil, sum[:], crypto.SHA256) // without chance, it is the same each time (RFC 6979)
			var pair struct{ R, S *big.Int }
			asn1.Unmarshal(der, &pair)
			out := make([]byte, 64)
			pair.R.FillBytes(out[:32])
			pair.S.FillBytes(out[32:])
			return out
		}
	case 8:
		secret := rsaSecret(seed[:], steps)
		k.primes = secret.Primes
		public = append([]byte{3, 1, 0, 1}, secret.N.Bytes()...)
		k.sign = func(data []byte) []byte {
			sum := sha256.Sum256(data)
			out, _ := rsa.SignPKCS1v15(nil, secret, crypto.SHA256, sum[:])
			return out
		}
	default:
		return nil, fmt.Errorf("the lab does not sign with algorithm %d", algorithm)
	}
	data := append(binary.BigEndian.AppendUint16(nil, flags), 3, algorithm)
	data = append(data, public...)
	k.record = wire.Record{Name: zone, Type: wire.DNSKEY, Class: wire.IN, TTL: 3600, Data: string(data)}
	sum := uint32(0)
	for i, b := range data {
		sum += uint32(b) << (8 * (1 - i%2))
	}
	k.tag = uint16(sum + sum>>16)
	return k, nil
}

// rsaSecret is a small key whose primes come from a seed: what is quick to make is good enough here.
func rsaSecret(seed []byte, steps []int64) *rsa.PrivateKey {
	e, one := big.NewInt(65537), big.NewInt(1)
	prime := func(which byte) *big.Int {
		var data []byte
		for i := range byte(2) {
			part := sha256.Sum256(append(seed, which, i))
			data = append(data, part[:]...)
		}
		data[0], data[len(data)-1] = data[0]|0xc0, data[len(data)-1]|1
		p := new(big.Int).SetBytes(data)
		return p.Add(p, big.NewInt(steps[which]))
	}
	p, q := prime(0), prime(1)
	phi := new(big.Int).Mul(new(big.Int).Sub(p, one), new(big.Int).Sub(q, one))
	secret := &rsa.PrivateKey{PublicKey: rsa.PublicKey{N: new(big.Int).Mul(p, q), E: 65537}, D: new(big.Int).ModInverse(e, phi), Primes: []*big.Int{p, q}}
	secret.Precompute()
	return secret
}

// digest is the DS record that the zone above has (RFC 4509).
func (s *signer) digest() wire.Record {
	sum := sha256.Sum256([]byte(s.zone.Fold().Wire() + s.entry.record.Data))
	data := append(binary.BigEndian.AppendUint16(nil, s.entry.tag), s.Algorithm, 2)
	return wire.Record{Name: s.zone, Type: wire.DS, Class: wire.IN, TTL: 3600, Data: string(append(data, sum[:]...))}
}

// vouch makes a zone one that is signed, if it is, and gives it the digests of those below it.
func (z *zone) vouch(signers map[string]*signer) {
	z.signer = signers[z.origin.String()]
	if z.signer == nil {
		return
	}
	if z.signer.Unserved {
		z.signer = nil
		return
	}
	add := func(r wire.Record) {
		z.nodes[r.Name.Fold()] = append(z.nodes[r.Name.Fold()], r)
		z.vouched = append(z.vouched, r)
	}
	add(z.signer.entry.record)
	add(z.signer.daily.record)
	if s := z.signer; s.NSEC3 {
		rounds := binary.BigEndian.AppendUint16([]byte{1, 0}, uint16(s.Rounds))
		add(wire.Record{Name: z.origin, Type: wire.NSEC3PARAM, Class: wire.IN, Data: string(append(append(rounds, byte(len(s.salt))), s.salt...))})
	}
	for _, below := range signers {
		if cut := z.delegation(below.zone); cut != nil && cut[0].Name.Equal(below.zone) {
			for _, ds := range below.digests() {
				add(ds)
			}
		}
	}
}

// digests are what the zone above has.
func (s *signer) digests() []wire.Record {
	right := s.digest()
	other := right
	switch s.Digest {
	case "":
		return []wire.Record{right}
	case "other":
		other.Data = "\x12\x34" + right.Data[2:]
		return []wire.Record{other}
	}
	other.Data = right.Data[:2] + "\xc8" + right.Data[3:] // of an algorithm that is not assigned
	if s.Digest == "unknown" {
		return []wire.Record{other}
	}
	return []wire.Record{other, right}
}

// lagging is the same signer as some servers have it, who sign no more.
func (s *signer) lagging() *signer {
	return &signer{Signing: s.Signing, zone: s.zone, entry: s.entry, daily: s.daily, begins: s.begins, ends: s.begins.Add(7*24*time.Hour - 100*time.Minute), salt: s.salt, made: map[string]wire.Record{}}
}

// over is the signature over a set of records; signed is the owner's name as it was signed, which of
// what a wildcard gives is the wildcard's.
func (s *signer) over(set []wire.Record, signed wire.Name) wire.Record {
	key := s.daily
	if set[0].Type == wire.DNSKEY && s.KeysBy == "" {
		key = s.entry
	}
	labels := signed.Labels()
	if labels > 0 && signed.Label(0) == "*" {
		labels--
	}
	order := binary.BigEndian
	head := order.AppendUint16(nil, uint16(set[0].Type))
	head = append(head, s.Algorithm, byte(labels))
	head = order.AppendUint32(head, set[0].TTL)
	head = order.AppendUint32(head, uint32(s.ends.Unix()))
	head = order.AppendUint32(head, uint32(s.begins.Unix()))
	head = order.AppendUint16(head, key.tag)
	data := append(slices.Clone(head), s.zone.Fold().Wire()...)
	sorted := make([]wire.Record, len(set))
	for i, r := range set {
		r.Name = signed
		sorted[i] = r.Canonical()
	}
	for _, r := range wire.SortCanonical(sorted) {
		data = append(data, r.Name.Wire()...)
		data = order.AppendUint16(order.AppendUint16(data, uint16(r.Type)), uint16(r.Class))
		data = order.AppendUint32(data, set[0].TTL)
		data = order.AppendUint16(data, uint16(len(r.Data)))
		data = append(data, r.Data...)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	made, known := s.made[string(data)]
	if !known {
		signature := key.sign(data)
		if slices.Contains(s.Spoils, set[0].Type.String()) {
			signature[7] ^= 1
		}
		made = wire.Record{Type: wire.RRSIG, Class: wire.IN, TTL: set[0].TTL, Data: string(head) + s.zone.Wire() + string(signature)}
		s.made[string(data)] = made
	}
	made.Name = set[0].Name
	return made
}

// sign adds to a reply what a question with DO set gets besides (RFC 4035 §3.1): signatures, and
// records that prove what is not there.
func (z *zone) sign(q wire.Question, m *wire.Message) {
	s := z.signer
	m.Answer = z.signed(m.Answer)
	for _, r := range m.Answer {
		if star := z.starOf(r.Name); !star.IsZero() && r.Type != wire.RRSIG {
			m.Authority = append(m.Authority, z.proves(r.Name.Ancestor(star.Labels()))...) // nothing nearer is there
			break
		}
	}
	name := q.Name
	for _, r := range m.Answer {
		if target, ok := r.Target(); ok && r.Type == wire.CNAME && r.Name.Equal(name) {
			name = target
		}
	}
	for _, r := range slices.Clone(m.Authority) {
		switch {
		case r.Type == wire.NS && !r.Name.Equal(z.origin):
			if ds := z.of(r.Name, wire.DS); len(ds) > 0 {
				m.Authority = append(m.Authority, z.signed(ds)...)
			} else {
				m.Authority = append(m.Authority, z.proves(r.Name)...)
			}
			m.Authority = dedupe(m.Authority)
			return
		case r.Type == wire.SOA:
			m.Authority = append(m.Authority, s.over([]wire.Record{r}, r.Name))
			m.Authority = append(m.Authority, z.denies(name)...)
		}
	}
	m.Authority = dedupe(m.Authority)
}

// dedupe leaves each record once.
func dedupe(records []wire.Record) (out []wire.Record) {
	for _, r := range records {
		if !slices.Contains(out, r) {
			out = append(out, r)
		}
	}
	return out
}

// signed is records with the signatures over their sets. An alias that a DNAME makes has none.
func (z *zone) signed(records []wire.Record) []wire.Record {
	out := slices.Clone(records)
	for i, r := range records {
		if slices.ContainsFunc(records[:i], func(o wire.Record) bool { return o.Type == r.Type && o.Name.Equal(r.Name) }) {
			continue
		}
		if r.Type == wire.CNAME && slices.ContainsFunc(records, func(o wire.Record) bool {
			return o.Type == wire.DNAME && r.Name.IsSubdomainOf(o.Name) && !r.Name.Equal(o.Name)
		}) || !r.Name.IsSubdomainOf(z.origin) || slices.Contains(z.signer.Without, r.Type.String()) {
			continue
		}
		var set []wire.Record
		for _, o := range records {
			if o.Type == r.Type && o.Name.Equal(r.Name) {
				set = append(set, o)
			}
		}
		as := r.Name
		if star := z.starOf(r.Name); !star.IsZero() {
			as = star
		}
		out = append(out, z.signer.over(set, as))
	}
	return out
}

// starOf is the wildcard that gives what a name has; the zero Name where the name has it itself.
func (z *zone) starOf(name wire.Name) wire.Name {
	if _, exists := z.nodes[name.Fold()]; exists || !name.IsSubdomainOf(z.origin) {
		return wire.Name{}
	}
	star, err := z.closest(name).Child("*")
	if _, has := z.nodes[star.Fold()]; err != nil || !has {
		return wire.Name{}
	}
	return star
}

// closest is the longest name above one that exists.
func (z *zone) closest(name wire.Name) wire.Name {
	for name = name.Parent(); !name.Equal(z.origin); name = name.Parent() {
		if _, exists := z.nodes[name.Fold()]; exists {
			break
		}
	}
	return name
}

// denies are the records that prove that a name has not what was asked for, or is not there.
func (z *zone) denies(name wire.Name) []wire.Record {
	if _, exists := z.nodes[name.Fold()]; exists {
		return z.proves(name)
	}
	closest := z.closest(name)
	star, _ := closest.Child("*")
	out := z.proves(name.Ancestor(closest.Labels() + 1))
	if z.signer.NSEC3 {
		out = append(out, z.proves(closest)...)
	}
	return append(out, z.proves(star)...)
}

// proves is the record of denial about a name, or in whose gap it lies, with its signature. Of a name
// that is left out of the chain the next one above it is proven too.
func (z *zone) proves(name wire.Name) []wire.Record {
	s := z.signer
	if s.Proofless {
		return nil
	}
	chain := z.denials()
	key := func(d denial) int { return d.owner.Compare(name) }
	if s.NSEC3 {
		hash := s.hash(name)
		key = func(d denial) int { return strings.Compare(d.hash, hash) }
	}
	at := len(chain) - 1
	for i, d := range chain {
		if key(d) <= 0 {
			at = i
		}
	}
	exact := key(chain[at]) == 0
	next := chain[(at+1)%len(chain)]
	types := slices.Clone(chain[at].types)
	r := wire.Record{Class: wire.IN, TTL: z.negative.TTL}
	if s.NSEC3 {
		flags := byte(0)
		if s.OptOut {
			flags = 1
		}
		owner, _ := z.origin.Child(strings.ToLower(base32.HexEncoding.WithPadding(base32.NoPadding).EncodeToString([]byte(chain[at].hash))))
		data := append([]byte{1, flags, byte(s.Rounds >> 8), byte(s.Rounds), byte(len(s.salt))}, s.salt...)
		data = append(append(data, sha1.Size), next.hash...)
		r.Name, r.Type, r.Data = owner, wire.NSEC3, string(append(data, bitmap(types)...))
	} else {
		r.Name, r.Type, r.Data = chain[at].owner, wire.NSEC, next.owner.Wire()+string(bitmap(append(types, wire.NSEC)))
	}
	out := []wire.Record{r, s.over([]wire.Record{r}, r.Name)}
	if s.NSEC3 && !exact && z.leftOut(name) {
		out = append(out, z.proves(name.Parent())...)
	}
	return out
}

// leftOut reports whether a name exists and is not in the chain.
func (z *zone) leftOut(name wire.Name) bool {
	_, exists := z.nodes[name.Fold()]
	return exists
}

// bitmap is a type bit map (RFC 4034 §4.1.2).
func bitmap(types []wire.Type) (out []byte) {
	slices.Sort(types)
	for i := 0; i < len(types); {
		window, bits, last := byte(types[i]>>8), [32]byte{}, 0
		for ; i < len(types) && byte(types[i]>>8) == window; i++ {
			last = int(types[i]&0xff) / 8
			bits[last] |= 0x80 >> (types[i] & 7)
		}
		out = append(append(out, window, byte(last+1)), bits[:last+1]...)
	}
	return out
}

func (s *signer) hash(name wire.Name) string {
	sum := sha1.Sum(append([]byte(name.Fold().Wire()), s.salt...))
	for range s.Rounds {
		sum = sha1.Sum(append(sum[:], s.salt...))
	}
	return string(sum[:])
}

// denials are the names that the zone's chain has, in its order.
func (z *zone) denials() []denial {
	s := z.signer
	s.mu.Lock()
	defer s.mu.Unlock()
	if z.chain != nil {
		return z.chain
	}
	for name, records := range z.nodes {
		if ns := z.delegation(name); ns != nil && !ns[0].Name.Equal(name) || len(records) == 0 && !s.NSEC3 {
			continue // glue, or an empty non-terminal
		}
		d := denial{owner: name}
		cut := !name.Equal(z.origin) && len(z.of(name, wire.NS)) > 0
		secure := false
		for _, r := range records {
			if cut && r.Type != wire.NS && r.Type != wire.DS || slices.Contains(d.types, r.Type) {
				continue
			}
			d.types = append(d.types, r.Type)
			secure = secure || r.Type == wire.DS
		}
		if cut && !secure && s.OptOut {
			continue
		}
		if len(d.types) > 0 && (!cut || secure || !s.NSEC3) {
			d.types = append(d.types, wire.RRSIG)
		}
		if s.NSEC3 {
			d.hash = s.hash(name)
		}
		z.chain = append(z.chain, d)
	}
	slices.SortFunc(z.chain, func(a, b denial) int {
		if s.NSEC3 {
			return strings.Compare(a.hash, b.hash)
		}
		return a.owner.Compare(b.owner)
	})
	return z.chain
}

// Anchors are the digests by which the lab's root is trusted.
func (l *Lab) Anchors() []wire.Record {
	if s := l.signers["."]; s != nil {
		return []wire.Record{s.digest()}
	}
	return nil
}
