package lab

import (
	"cmp"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
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
	// Keys are the zone's keys; none: an entry key, which the zone above names and which signs the keys, and
	// a daily one, which signs everything else.
	Keys  []KeyPlan
	Wants []string // keys that it asks the zone above to name (CDS, CDNSKEY); "remove" asks for none
	// Offers are the keys of CDNSKEY, where they are others than those of CDS.
	Offers []string
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
	keys         []*signingKey
	begins, ends time.Time
	salt         []byte

	mu   sync.Mutex
	made map[string]wire.Record // signatures by what they are over
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
	if len(s.Keys) == 0 {
		s.Keys = []KeyPlan{{Name: "entry", Entry: true, Named: true, Signs: []string{"keys"}, Steps: [2]int64(s.Steps[:2])}, {Name: "daily", Signs: []string{"zone"}, Steps: [2]int64(s.Steps[2:])}}
		if s.KeysBy == "daily" {
			s.Keys[0].Signs, s.Keys[1].Signs = nil, []string{"keys", "zone"}
		}
	}
	for _, plan := range s.Keys {
		plan.Algorithm = cmp.Or(plan.Algorithm, s.Algorithm)
		key, err := newSigningKey(zone, plan)
		if err != nil {
			return nil, err
		}
		out.keys = append(out.keys, key)
	}
	return out, nil
}

// key is the key of that name; nil where there is none.
func (s *signer) key(name string) *signingKey {
	for _, k := range s.keys {
		if k.Name == name {
			return k
		}
	}
	return nil
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
	for _, k := range z.signer.keys {
		if !k.Hidden {
			add(k.record)
		}
	}
	z.signer.wanted(add)
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

// named are the digests of the keys that the zone above names.
func (s *signer) named() (all []wire.Record) {
	for _, k := range s.keys {
		if k.Named {
			all = append(all, k.digest(wire.DS))
		}
	}
	return all
}

// digests are what the zone above has, which may be wrong.
func (s *signer) digests() []wire.Record {
	all := s.named()
	if s.Digest == "" {
		return all
	}
	right := all[0]
	other := right
	switch s.Digest {
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

// wanted adds the records by which a zone asks for DS records (RFC 7344, RFC 8078).
func (s *signer) wanted(add func(wire.Record)) {
	offers := s.Offers
	if len(offers) == 0 {
		offers = s.Wants
	}
	for _, name := range s.Wants {
		if k := s.key(name); k != nil {
			add(k.digest(wire.CDS))
		} else {
			add(wire.Record{Name: s.zone, Type: wire.CDS, Class: wire.IN, TTL: 3600, Data: "\x00\x00\x00\x00\x00"})
		}
	}
	for _, name := range offers {
		if k := s.key(name); k != nil {
			r := k.record
			r.Type = wire.CDNSKEY
			add(r)
		} else {
			add(wire.Record{Name: s.zone, Type: wire.CDNSKEY, Class: wire.IN, TTL: 3600, Data: "\x00\x00\x03\x00\x00"})
		}
	}
}

// at is the zone as one of its servers has it: one may have stopped to fetch it, or have other keys.
func (z *zone) at(host string) *zone {
	s := z.signer
	if s == nil {
		return z
	}
	lags := slices.Contains(s.Lags, host)
	lacks := func(k *signingKey) bool { return slices.Contains(k.Missing, host) }
	if !lags && !slices.ContainsFunc(s.keys, lacks) {
		return z
	}
	own := *z
	own.signer = &signer{Signing: s.Signing, zone: s.zone, keys: slices.Clone(s.keys), begins: s.begins, ends: s.ends, salt: s.salt, made: map[string]wire.Record{}}
	if lags {
		own.signer.ends = s.begins.Add(7*24*time.Hour - 100*time.Minute)
	}
	own.signer.keys = slices.DeleteFunc(own.signer.keys, lacks)
	own.nodes = maps.Clone(z.nodes)
	own.nodes[z.origin.Fold()] = slices.DeleteFunc(slices.Clone(z.nodes[z.origin.Fold()]), func(r wire.Record) bool {
		return slices.ContainsFunc(s.keys, func(k *signingKey) bool { return lacks(k) && k.record == r })
	})
	return &own
}

// over are the signatures over a set of records; signed is the owner's name as it was signed, which of
// what a wildcard gives is the wildcard's.
func (s *signer) over(set []wire.Record, signed wire.Name) (all []wire.Record) {
	what := "zone"
	if t := set[0].Type; t == wire.DNSKEY {
		what = "keys"
	}
	for _, k := range s.keys {
		if slices.Contains(k.Signs, what) {
			all = append(all, s.by(k, set, signed))
		}
	}
	return all
}

// by is the signature of one key.
func (s *signer) by(key *signingKey, set []wire.Record, signed wire.Name) wire.Record {
	labels := signed.Labels()
	if labels > 0 && signed.Label(0) == "*" {
		labels--
	}
	order := binary.BigEndian
	head := order.AppendUint16(nil, uint16(set[0].Type))
	head = append(head, key.Algorithm, byte(labels))
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
			m.Authority = append(m.Authority, s.over([]wire.Record{r}, r.Name)...)
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
		out = append(out, z.signer.over(set, as)...)
	}
	return out
}

// Anchors are the digests by which the lab's root is trusted.
func (l *Lab) Anchors() []wire.Record {
	if s := l.signers["."]; s != nil {
		return s.named()
	}
	return nil
}

// RootAnchors are the same of a lab that nobody has begun.
func RootAnchors() ([]wire.Record, error) {
	scenario, err := Load()
	if err != nil {
		return nil, err
	}
	for _, signing := range scenario.Signed {
		if signing.Zone == "." {
			s, err := newSigner(signing, scenario.Begins)
			if err != nil {
				return nil, err
			}
			return s.named(), nil
		}
	}
	return nil, nil
}
