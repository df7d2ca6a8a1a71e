package lab

import (
	"crypto/sha1"
	"encoding/base32"
	"slices"
	"strings"

	"unquil/core/wire"
)

// denial is one NSEC or NSEC3 record of a zone: of a name, or of its hash.
type denial struct {
	owner wire.Name
	hash  string
	types []wire.Type
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
	out := append([]wire.Record{r}, s.over([]wire.Record{r}, r.Name)...)
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
