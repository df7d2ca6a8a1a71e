// Package signing says how a zone is signed, by what its servers give and what the zone above has of it:
// which key does what, at which stage of a roll-over it is, whether the next step of that would break it,
// and how soon it has to be signed anew. Whether a chain of trust holds is for package dnssec to say.
package signing

import (
	"cmp"
	"encoding/binary"
	"net/netip"
	"slices"
	"time"

	"unquil/core/dnssec"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// Server is what one server of a zone gives, asked for with signatures; what was not asked is nil.
type Server struct {
	Host    wire.Name
	Address netip.Addr
	Keys    *exchange.Exchange // DNSKEY
	SOA     *exchange.Exchange
	CDS     *exchange.Exchange
	CDNSKEY *exchange.Exchange
}

// Zone is what was seen of a signed zone.
type Zone struct {
	Name    wire.Name
	Digests []dnssec.Digest // that the zone above has
	Servers []Server
	Hashing *exchange.Exchange // NSEC3PARAM, of one server; nil: not asked
	Now     time.Time          // to judge as of
}

// Report is how a zone is signed.
type Report struct {
	Name     wire.Name
	Keys     []Key // those meant to be named from outside first, then by tag
	Rounds   int   // how many times more names are hashed for denials (RFC 5155 §3.1.3)
	Salted   bool
	Hashed   bool // names are denied by their hashes (NSEC3)
	Wanted   []uint16
	Removal  bool // the zone asks for its DS records to be removed (RFC 8078 §4)
	Named    []uint16
	Ends     time.Time     // when the first of the signatures over the keys and the SOA record runs out; zero: none was seen
	Validity time.Duration // from its beginning to its end
	Over     bool          // it has run out
	Stages   []Stage
	Findings []finding.Finding

	servers []seen
	now     time.Time
}

// Key is a key of the zone, or one that a DS record names.
type Key struct {
	Tag       uint16
	Algorithm dnssec.Algorithm
	Bits      int  // of an RSA key; 0 of others
	Entry     bool // it is meant to be named from outside (SEP)
	Revoked   bool
	Named     bool // by a DS record
	// Given, SignsKeys and SignsZone are the servers that give it, and where it signs the keys or the SOA
	// record; they are indexes of servers that gave keys.
	Given, SignsKeys, SignsZone []int
}

// Purpose is what a key is for, in the trade's words (RFC 9499).
func (k *Key) Purpose() string {
	switch {
	case !k.Entry && len(k.SignsKeys) == 0 || !k.Entry && !k.Named:
		return "ZSK"
	case len(k.SignsZone) > 0:
		return "CSK"
	}
	return "KSK"
}

// seen is a server that gave keys.
type seen struct {
	Server
	keys      []dnssec.Key
	overKeys  []dnssec.Signature
	overSOA   []dnssec.Signature
	soa       wire.SOAData
	longest   uint32 // TTL
	wanted    []uint16
	wantsKeys []uint16
	removal   bool
}

// tags are those of its keys, in ascending order.
func (s *seen) tags() (all []uint16) {
	for i := range s.keys {
		all = append(all, s.keys[i].Tag)
	}
	return ascending(all)
}

// Judge says how a zone is signed.
func (z *Zone) Judge() *Report {
	r := &Report{Name: z.Name, Wanted: []uint16{}, Named: []uint16{}, now: z.Now}
	for _, s := range z.Servers {
		if s.Keys != nil && s.Keys.Outcome.Good() {
			r.servers = append(r.servers, z.read(s))
		}
	}
	r.collect(z)
	r.hashing(z.Hashing)
	r.servedAlike()
	r.complete()
	r.sizes()
	r.renewal()
	r.rollOver()
	r.wants()
	return r
}

// read takes what a server gave apart.
func (z *Zone) read(s Server) seen {
	out := seen{Server: s}
	for _, r := range s.Keys.Answer().Records {
		if k, err := dnssec.ReadKey(r); err == nil && len(out.keys) < maxKeys {
			out.keys = append(out.keys, k)
		}
	}
	out.overKeys, out.longest = z.signatures(s.Keys, wire.DNSKEY)
	var ttl uint32
	if out.overSOA, ttl = z.signatures(s.SOA, wire.SOA); s.SOA != nil {
		for _, r := range s.SOA.Answer().Records {
			if soa, ok := r.Authority(); ok {
				out.soa, out.longest = soa, max(out.longest, ttl, soa.Minimum)
			}
		}
	}
	if s.CDS != nil {
		for _, r := range s.CDS.Answer().Records {
			switch d, err := dnssec.ReadDigest(r); {
			case err == nil && d.Algorithm == 0:
				out.removal = true
			case err == nil:
				out.wanted = append(out.wanted, d.Tag)
			}
		}
	}
	if s.CDNSKEY != nil {
		for _, r := range s.CDNSKEY.Answer().Records {
			switch k, err := dnssec.ReadKey(r); {
			case err == nil && k.Algorithm == 0:
				out.removal = true
			case err == nil:
				out.wantsKeys = append(out.wantsKeys, k.Tag)
			}
		}
	}
	out.wanted, out.wantsKeys = ascending(out.wanted), ascending(out.wantsKeys)
	return out
}

// Bounds on what is looked at of one server.
const (
	maxKeys       = 32
	maxSignatures = 64 // over one set
)

// signatures are those over the zone's own set of a type in an answer, and the TTL that it had when it was
// signed.
func (z *Zone) signatures(e *exchange.Exchange, t wire.Type) (all []dnssec.Signature, ttl uint32) {
	if e == nil || e.Reply == nil {
		return nil, 0
	}
	for _, set := range dnssec.Sets(e.Reply.Answer) {
		if set.Type != t || !set.Owner.Equal(z.Name) {
			continue
		}
		for _, s := range set.Signatures {
			if s.Signer.Equal(z.Name) && len(all) < maxSignatures {
				all, ttl = append(all, s), max(ttl, s.TTL)
			}
		}
	}
	return all, ttl
}

// collect puts the servers' keys together.
func (r *Report) collect(z *Zone) {
	find := func(tag uint16, a dnssec.Algorithm) *Key {
		at := slices.IndexFunc(r.Keys, func(k Key) bool { return k.Tag == tag && k.Algorithm == a })
		if at < 0 {
			r.Keys, at = append(r.Keys, Key{Tag: tag, Algorithm: a}), len(r.Keys)
		}
		return &r.Keys[at]
	}
	for i := range r.servers {
		s := &r.servers[i]
		for j := range s.keys {
			k := find(s.keys[j].Tag, s.keys[j].Algorithm)
			k.Entry, k.Revoked, k.Bits = s.keys[j].EntryPoint(), s.keys[j].Revoked(), s.keys[j].Bits()
			k.Given = append(k.Given, i)
		}
		mark := func(signatures []dnssec.Signature, at func(*Key) *[]int) {
			for _, signature := range signatures {
				if list := at(find(signature.Tag, signature.Algorithm)); !slices.Contains(*list, i) {
					*list = append(*list, i)
				}
			}
		}
		mark(s.overKeys, func(k *Key) *[]int { return &k.SignsKeys })
		mark(s.overSOA, func(k *Key) *[]int { return &k.SignsZone })
	}
	for _, d := range z.Digests {
		if d.Supported() {
			find(d.Tag, d.Algorithm).Named = true
		}
		r.Named = append(r.Named, d.Tag)
	}
	r.Named = ascending(r.Named)
	slices.SortStableFunc(r.Keys, func(a, b Key) int {
		outside := func(k Key) int { return map[bool]int{false: 1}[k.Entry || k.Named] }
		return cmp.Or(outside(a)-outside(b), cmp.Compare(a.Tag, b.Tag))
	})
}

// hashing reads how names are hashed (RFC 5155 §4.2).
func (r *Report) hashing(e *exchange.Exchange) {
	if e == nil {
		return
	}
	for _, record := range e.Answer().Records {
		if data := record.Data; record.Type == wire.NSEC3PARAM && len(data) >= 5 {
			r.Hashed, r.Rounds, r.Salted = true, int(binary.BigEndian.Uint16([]byte(data[2:4]))), data[4] != 0
			r.hashedInVain(e.Number)
			return
		}
	}
}

// Hosts are the names of some of the servers, by their indexes, each once; none is nil of no index.
func (r *Report) Hosts(indexes []int) []wire.Name {
	hosts := []wire.Name{}
	for i := range r.servers {
		if host := r.servers[i].Host; slices.Contains(indexes, i) && !slices.ContainsFunc(hosts, host.Equal) {
			hosts = append(hosts, host)
		}
	}
	return hosts
}

// ServerKeys are the keys that one server gives.
type ServerKeys struct {
	Host     wire.Name
	Address  netip.Addr
	Tags     []uint16 // in ascending order
	Exchange int
}

// Servers are those that gave keys.
func (r *Report) Servers() (all []ServerKeys) {
	for i := range r.servers {
		s := &r.servers[i]
		all = append(all, ServerKeys{s.Host, s.Address, s.tags(), s.Keys.Number})
	}
	return all
}

// Everywhere reports whether indexes are those of all servers that gave keys.
func (r *Report) Everywhere(indexes []int) bool { return len(indexes) == len(r.servers) }

// ascending are tags in order, each once.
func ascending(tags []uint16) []uint16 {
	slices.Sort(tags)
	return slices.Compact(tags)
}
