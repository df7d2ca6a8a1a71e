package dnssec

import (
	"crypto/sha1"
	"encoding/base32"
	"strings"

	"unquil/core/wire"
)

// proof is what records of denial prove.
type proof uint8

const (
	unproven  proof = iota
	proven          // it is as the reply says
	optedOut        // an unsigned delegation may be there (RFC 5155 §6)
	tooCostly       // names are hashed more often than anybody computes (RFC 9276 §3.2)
)

// MaxIterations is how many times more a name is hashed at the most, for the result to count
// (RFC 9276 §3.2).
const MaxIterations = 150

// maxHashed is how many names are hashed for one reply.
const maxHashed = 400

// denials are the records of a reply that say what a zone does not have. All have been signed by
// the zone's keys.
type denials struct {
	zone   wire.Name
	plain  []span // NSEC
	hashed []span // NSEC3
	way    hashing
	mixed  bool // hashed ones in different ways
	work   int  // names that were hashed
}

// span is one such record: nothing lies between what it begins with and what it ends before.
type span struct {
	owner, next wire.Name // of NSEC
	from, until string    // of NSEC3: hashes
	types       typeSet
	optOut      bool
}

// hashing is how the names of an NSEC3 record are hashed (RFC 5155 §5).
type hashing struct {
	algorithm  uint8
	iterations uint16
	salt       string
}

// typeSet is a type bit map (RFC 4034 §4.1.2).
type typeSet string

func (s typeSet) has(t wire.Type) bool {
	for b := string(s); len(b) >= 2; {
		window, size := b[0], int(b[1])
		if len(b) < 2+size {
			return false
		}
		if window == byte(t>>8) {
			at := int(t&0xff) / 8
			return at < size && b[2+at]&(0x80>>(t&7)) != 0
		}
		b = b[2+size:]
	}
	return false
}

// delegation reports whether the types are those of a zone cut, seen from above.
func (s typeSet) delegation() bool { return s.has(wire.NS) && !s.has(wire.SOA) }

// readDenials takes the records apart that deny something in a zone. Those that do not belong to
// the zone, or reach beyond it, are left out.
func readDenials(zone wire.Name, sets []*Set) *denials {
	d := &denials{zone: zone}
	for _, set := range sets {
		for _, r := range set.Records {
			switch {
			case !r.Name.IsSubdomainOf(zone):
			case r.Type == wire.NSEC:
				if next, types, ok := cutName(r.Data); ok && next.IsSubdomainOf(zone) {
					d.plain = append(d.plain, span{owner: r.Name, next: next, types: typeSet(types)})
				}
			case r.Type == wire.NSEC3:
				d.addHashed(r)
			}
		}
	}
	return d
}

// addHashed takes an NSEC3 record apart (RFC 5155 §3.2). Unknown ways and flags make it count for
// nothing (§8.1, §8.2).
func (d *denials) addHashed(r wire.Record) {
	b := r.Data
	if len(b) < 5 || len(b) < 6+int(b[4]) || !r.Name.Parent().Equal(d.zone) {
		return
	}
	way := hashing{b[0], uint16(b[2])<<8 | uint16(b[3]), b[5 : 5+int(b[4])]}
	rest := b[5+int(b[4]):]
	size := int(rest[0])
	if way.algorithm != 1 || b[1]&^1 != 0 || size != sha1.Size || len(rest) < 1+size {
		return
	}
	owner, err := base32.HexEncoding.WithPadding(base32.NoPadding).DecodeString(strings.ToUpper(r.Name.Label(0)))
	if err != nil || len(owner) != sha1.Size {
		return
	}
	if len(d.hashed) > 0 && d.way != way {
		d.mixed = true
		return
	}
	d.way = way
	d.hashed = append(d.hashed, span{from: string(owner), until: rest[1 : 1+size], types: typeSet(rest[1+size:]), optOut: b[1]&1 != 0})
}

// hash is the hash of a name (RFC 5155 §5).
func (w *hashing) hash(name wire.Name) string {
	data := []byte(name.Fold().Wire() + w.salt)
	sum := sha1.Sum(data)
	for range w.iterations {
		sum = sha1.Sum(append(sum[:], w.salt...))
	}
	return string(sum[:])
}

func (d *denials) hash(name wire.Name) string {
	d.work++
	return d.way.hash(name)
}

// at is the record about a name itself; nil without one.
func (d *denials) at(name wire.Name) *span {
	for i := range d.plain {
		if d.plain[i].owner.Equal(name) {
			return &d.plain[i]
		}
	}
	if len(d.hashed) > 0 {
		h := d.hash(name)
		for i := range d.hashed {
			if d.hashed[i].from == h {
				return &d.hashed[i]
			}
		}
	}
	return nil
}

// over is the hashed record in whose gap a name lies; nil without one.
func (d *denials) over(name wire.Name) *span {
	h := d.hash(name)
	for i := range d.hashed {
		if s := &d.hashed[i]; between(strings.Compare(s.from, h), strings.Compare(h, s.until), strings.Compare(s.from, s.until)) {
			return s
		}
	}
	return nil
}

// covering is the plain record in whose gap a name lies; nil without one. One of a zone cut, or of
// a name with DNAME, says nothing of what is below (RFC 6840 §4.1).
func (d *denials) covering(name wire.Name) *span {
	for i := range d.plain {
		s := &d.plain[i]
		if name.IsSubdomainOf(s.owner) && (s.types.delegation() || s.types.has(wire.DNAME)) {
			continue
		}
		if between(s.owner.Compare(name), name.Compare(s.next), s.owner.Compare(s.next)) {
			return s
		}
	}
	return nil
}

// between reports whether something lies in a gap, by how it compares with the gap's ends, and
// these with each other: the last gap goes round to the first name.
func between(fromIt, itUntil, fromUntil int) bool {
	if fromUntil < 0 {
		return fromIt < 0 && itUntil < 0
	}
	return fromIt < 0 || itUntil < 0
}

// usable says whether hashed records can be used at all.
func (d *denials) usable() proof {
	switch {
	case len(d.hashed) == 0 && len(d.plain) == 0, d.mixed:
		return unproven
	case len(d.hashed) > 0 && d.way.iterations > MaxIterations:
		return tooCostly
	}
	return proven
}

// noType is what proves that a name has no records of a type, and no alias (RFC 4035 §5.4, RFC 5155
// §8.5 to §8.7).
func (d *denials) noType(name wire.Name, t wire.Type) proof {
	if p := d.usable(); p != proven {
		return p
	}
	if s := d.at(name); s != nil {
		return d.lacks(s, t)
	}
	if len(d.plain) > 0 {
		return d.noTypePlain(name, t)
	}
	closest, nextCloser, p := d.encloser(name)
	if p == unproven {
		return unproven
	}
	if wildcard, err := closest.Child("*"); err == nil {
		if s := d.at(wildcard); s != nil && d.lacks(s, t) == proven {
			return p
		}
	}
	if s := d.over(nextCloser); t == wire.DS && s != nil && s.optOut {
		return optedOut
	}
	return unproven
}

// noTypePlain is noType by plain records, none of which is about the name itself: it is an empty
// non-terminal, or a wildcard stands for it.
func (d *denials) noTypePlain(name wire.Name, t wire.Type) proof {
	s := d.covering(name)
	if s == nil {
		return unproven
	}
	if s.next.IsSubdomainOf(name) {
		return proven
	}
	wildcard, err := closestOf(name, s).Child("*")
	if err != nil {
		return unproven
	}
	if s := d.at(wildcard); s != nil {
		return d.lacks(s, t)
	}
	return unproven
}

// lacks is what a record about a name itself proves of a type there. That of a zone cut speaks for
// DS alone, and that of the zone below for all but DS (RFC 6840 §4.1, RFC 4035 §5.2).
func (d *denials) lacks(s *span, t wire.Type) proof {
	switch {
	case s.types.has(t), s.types.has(wire.CNAME), t != wire.DS && s.types.delegation(), t == wire.DS && s.types.has(wire.SOA) && !d.zone.IsRoot():
		return unproven
	}
	return proven
}

// noName is what proves that there is no such name, nor a wildcard for it (RFC 4035 §5.4, RFC 5155 §8.4).
func (d *denials) noName(name wire.Name) proof {
	if p := d.usable(); p != proven {
		return p
	}
	if len(d.plain) > 0 {
		s := d.covering(name)
		if s == nil || s.next.IsSubdomainOf(name) { // a name with others below it exists
			return unproven
		}
		wildcard, err := closestOf(name, s).Child("*")
		if err != nil || d.covering(wildcard) == nil {
			return unproven
		}
		return proven
	}
	closest, _, p := d.encloser(name)
	if p == unproven {
		return unproven
	}
	wildcard, err := closest.Child("*")
	if err != nil || d.over(wildcard) == nil {
		return unproven
	}
	return p
}

// noCloser is what proves that a wildcard rightly stands for a name: nothing nearer to it exists
// (RFC 4035 §5.3.4, RFC 5155 §8.8). labels is how many labels the wildcard has below its asterisk.
func (d *denials) noCloser(name wire.Name, labels int) proof {
	if p := d.usable(); p != proven {
		return p
	}
	if len(d.plain) > 0 {
		if s := d.covering(name); s == nil || closestOf(name, s).Labels() > labels {
			return unproven
		}
		return proven
	}
	s := d.over(name.Ancestor(labels + 1))
	switch {
	case s == nil:
		return unproven
	case s.optOut:
		return optedOut
	}
	return proven
}

// unsigned is what proves that a delegation has no DS: that of a zone that is not signed, or of
// none at all, which cut says.
func (d *denials) unsigned(name wire.Name) (p proof, cut bool) {
	if p := d.usable(); p != proven {
		return p, false
	}
	if s := d.at(name); s != nil {
		return d.lacks(s, wire.DS), s.types.has(wire.NS)
	}
	if len(d.hashed) > 0 {
		if _, nextCloser, p := d.encloser(name); p != unproven {
			if s := d.over(nextCloser); s != nil && s.optOut {
				return optedOut, true
			}
		}
	}
	return d.noType(name, wire.DS), false
}

// closestOf is the longest name that a plain record proves to exist above one in its gap.
func closestOf(name wire.Name, s *span) wire.Name {
	best := wire.Root
	for _, end := range []wire.Name{s.owner, s.next} {
		for a := end; ; a = a.Parent() {
			if name.IsSubdomainOf(a) {
				if a.Labels() > best.Labels() {
					best = a
				}
				break
			}
		}
	}
	return best
}

// encloser is the longest name above one that is proven to exist, and the next one towards it,
// which is proven not to (RFC 5155 §8.3).
func (d *denials) encloser(name wire.Name) (closest, nextCloser wire.Name, p proof) {
	for next := name; next.Labels() > d.zone.Labels(); next = next.Parent() {
		if d.work > maxHashed {
			return closest, next, unproven
		}
		s := d.at(next.Parent())
		if s == nil {
			continue
		}
		if s.types.delegation() || s.types.has(wire.DNAME) { // what is below is another zone's
			return closest, next, unproven
		}
		switch gap := d.over(next); {
		case gap == nil:
			return closest, next, unproven
		case gap.optOut:
			return next.Parent(), next, optedOut
		}
		return next.Parent(), next, proven
	}
	return closest, nextCloser, unproven
}
