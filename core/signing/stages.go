package signing

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"unquil/core/dnssec"
	"unquil/core/finding"
	"unquil/core/wording"
)

// Stage is a stage of a roll-over that a zone is at.
type Stage struct {
	Name    string // such as "KSK, double signature"
	Text    string // what is seen
	Next    string // the step that would come next
	Safe    bool   // that step breaks nothing now, as far as the servers show
	Unready string // why it is not; "" where it is
	Keys    []uint16
}

// stage is a row of the table of stages. What is seen cannot always tell which way a roll-over goes: then
// the text says both.
type stage struct {
	name string // with the section that describes it
	// keys are those that make it this stage; none: it is not.
	keys     func(*Report) []*Key
	together bool   // all of them make one stage; otherwise each does
	text     string // {keys}, {algorithm} and {wait}, a TTL, stand for themselves
	next     string
	// lacks reports whether the next step would break what one server answers.
	lacks func(r *Report, k *Key, server int) bool
	why   string // what that server does not do, and what comes of it; {server} and {keys} stand for themselves
}

// stages are the stages of roll-overs (RFC 6781 §4.1, RFC 7583 §3).
var stages = []stage{
	{"algorithm, signatures first (RFC 6781 §4.1.4)", (*Report).signaturesFirst, false,
		"the zone is signed with {algorithm} too, and has no key for that yet, or no longer",
		"to publish the keys of {algorithm}, once the signatures have been out for {wait}, or to remove the signatures",
		func(_ *Report, k *Key, server int) bool { return !slices.Contains(k.SignsZone, server) }, "{server} does not give such signatures: resolvers that want them would not accept its answers"},
	{"algorithm, both in place (RFC 6781 §4.1.4)", (*Report).otherAlgorithm, false,
		"the zone has keys and signatures with {algorithm} ({keys}), which no DS record names: it is new, or is to be removed",
		"the DS record of {keys} in the zone above, once the keys have been out for {wait}; or to remove them",
		(*Report).lacksAlgorithm, "{server} does not give {keys} as one that signs the keys, with signatures over the zone: with that DS record alone, what it answers is bogus"},
	{"KSK, double signature (RFC 6781 §4.1.2)", (*Report).unnamedKSK, false,
		"{keys} signs the keys beside the one that the zone above names: it is new and waits for its DS record, or is to be removed",
		"to replace the DS record by that of {keys}, once the key has been out for {wait}; or to remove it",
		func(_ *Report, k *Key, server int) bool { return !k.vouches(server) }, "{server} does not give {keys} as one that signs the keys: with that DS record alone, what it answers is bogus"},
	{"KSK, waiting (RFC 7583 §3.3)", (*Report).idleKSK, false,
		"{keys} is published and signs nothing: it stands by, or is new",
		"to have {keys} sign the keys",
		func(_ *Report, k *Key, server int) bool { return !slices.Contains(k.Given, server) }, "{server} does not give {keys}"},
	{"KSK, DS record first (RFC 7583 §3.3.2)", (*Report).namedAbsent, false,
		"the zone above names {keys} too, which the zone does not have: it is to come, stands by, or is gone",
		"to replace the KSK by {keys}, once the DS record has been out for its TTL; or to remove that DS record",
		nil, ""},
	{"KSK, both named (RFC 7583 §3.3.3)", (*Report).bothNamed, true,
		"the zone above names {keys}, and each of them signs the keys",
		"to remove the DS record of the older one, and that key after the DS record's TTL",
		func(_ *Report, k *Key, server int) bool { return !k.vouches(server) }, "{server} does not give {keys} as one that signs the keys: with the other DS record removed, what it answers is bogus"},
	{"ZSK, published in advance (RFC 6781 §4.1.1.1)", (*Report).idleZSK, false,
		"{keys} is published and signs nothing: it is new, or was replaced and is to be removed",
		"to sign the zone with {keys}, once the key has been out for {wait}; or to remove it",
		func(_ *Report, k *Key, server int) bool { return !slices.Contains(k.Given, server) }, "{server} does not give {keys}: resolvers that have their keys from there would not accept what it signs"},
	{"ZSK, double signature (RFC 6781 §4.1.1.2)", (*Report).doubleZSK, true,
		"the zone is signed with {keys}, each by itself",
		"to remove the older one and its signatures, once the newer ones have been out for {wait}",
		func(_ *Report, k *Key, server int) bool { return !slices.Contains(k.SignsZone, server) }, "{server} is not signed with {keys}"},
	{"KSK, revoked (RFC 5011 §2.1)", (*Report).revoked, false,
		"{keys} is revoked: resolvers that trust it as an anchor drop it",
		"to remove {keys}, once resolvers have had time to see that",
		nil, ""},
}

// rollOver finds the stages that a zone is at, and tells where the next step would break it.
func (r *Report) rollOver() {
	if len(r.servers) == 0 {
		return
	}
	for i := range stages {
		row := &stages[i]
		switch keys := row.keys(r); {
		case len(keys) == 0:
		case row.together:
			r.at(row, keys)
		default:
			for _, k := range keys {
				r.at(row, []*Key{k})
			}
		}
	}
}

// at notes a stage that the zone is at, by some keys.
func (r *Report) at(row *stage, keys []*Key) {
	s := Stage{Name: row.name, Safe: true}
	for _, k := range keys {
		s.Keys = append(s.Keys, k.Tag)
	}
	words := strings.NewReplacer("{keys}", TagWords(ascending(slices.Clone(s.Keys))), "{algorithm}", keys[0].Algorithm.String(), "{wait}", wording.Span(r.wait()))
	s.Text, s.Next = words.Replace(row.text), words.Replace(row.next)
	for at := range r.servers {
		for _, k := range keys {
			if row.lacks == nil || !row.lacks(r, k, at) || !s.Safe {
				continue
			}
			s.Safe, s.Unready = false, strings.NewReplacer("{server}", r.servers[at].Host.Spoken(), "{keys}", fmt.Sprintf("key %d", k.Tag)).Replace(row.why)
			about, _, _ := strings.Cut(row.name, " (")
			r.findAt(&r.servers[at], finding.RolloverUnsafe, finding.Concern, fmt.Sprintf("The roll-over of %s (%s) must not go on yet: %s.", r.Name.Spoken(), about, s.Unready), r.servers[at].Keys.Number)
		}
	}
	r.Stages = append(r.Stages, s)
}

// wait is how long caches may hold what was there before: the longest TTL that was seen.
func (r *Report) wait() time.Duration {
	longest := uint32(0)
	for i := range r.servers {
		longest = max(longest, r.servers[i].longest)
	}
	return time.Duration(longest) * time.Second
}

// where are the keys that something holds of.
func (r *Report) where(is func(*Key) bool) (keys []*Key) {
	for i := range r.Keys {
		if k := &r.Keys[i]; !k.Revoked && is(k) {
			keys = append(keys, k)
		}
	}
	return keys
}

// vouched reports whether the zone above names a key of an algorithm that the zone has.
func (r *Report) vouched(a dnssec.Algorithm) bool {
	return slices.ContainsFunc(r.Keys, func(k Key) bool { return k.Algorithm == a && k.Named && len(k.Given) > 0 })
}

func (r *Report) signaturesFirst() []*Key {
	return r.where(func(k *Key) bool {
		return len(k.Given) == 0 && len(k.SignsZone) > 0 && !slices.ContainsFunc(r.Keys, func(o Key) bool { return o.Algorithm == k.Algorithm && len(o.Given) > 0 })
	})
}

func (r *Report) otherAlgorithm() []*Key {
	return r.where(func(k *Key) bool {
		return len(k.Given) > 0 && len(k.SignsKeys) > 0 && !r.vouched(k.Algorithm) && slices.ContainsFunc(r.Keys, func(o Key) bool { return r.vouched(o.Algorithm) })
	})
}

// lacksAlgorithm reports whether a server is not ready for a key's algorithm to be the only one that counts.
func (r *Report) lacksAlgorithm(k *Key, server int) bool {
	return !k.vouches(server) || !slices.ContainsFunc(r.servers[server].overSOA, func(s dnssec.Signature) bool { return s.Algorithm == k.Algorithm })
}

func (r *Report) unnamedKSK() []*Key {
	return r.where(func(k *Key) bool {
		return k.Entry && !k.Named && len(k.SignsKeys) > 0 && len(k.Given) > 0 && r.vouched(k.Algorithm)
	})
}

func (r *Report) idleKSK() []*Key {
	return r.where(func(k *Key) bool {
		return k.Entry && !k.Named && len(k.SignsKeys) == 0 && len(k.SignsZone) == 0 && len(k.Given) > 0
	})
}

func (r *Report) namedAbsent() []*Key {
	return r.where(func(k *Key) bool {
		return k.Named && len(k.Given) == 0 && slices.ContainsFunc(r.Keys, func(o Key) bool { return o.Named && len(o.Given) > 0 })
	})
}

func (r *Report) bothNamed() []*Key {
	both := r.where(func(k *Key) bool { return k.Named && len(k.Given) > 0 && len(k.SignsKeys) > 0 })
	if len(both) < 2 {
		return nil
	}
	return both
}

func (r *Report) idleZSK() []*Key {
	return r.where(func(k *Key) bool {
		return !k.Entry && !k.Named && len(k.Given) > 0 && len(k.SignsZone) == 0 && len(k.SignsKeys) == 0 &&
			slices.ContainsFunc(r.Keys, func(o Key) bool { return o.Algorithm == k.Algorithm && len(o.SignsZone) > 0 })
	})
}

func (r *Report) doubleZSK() []*Key {
	signing := r.where(func(k *Key) bool { return !k.Entry && len(k.Given) > 0 && len(k.SignsZone) > 0 })
	if len(signing) < 2 || signing[0].Algorithm != signing[1].Algorithm {
		return nil
	}
	return signing
}

func (r *Report) revoked() (keys []*Key) {
	for i := range r.Keys {
		if r.Keys[i].Revoked {
			keys = append(keys, &r.Keys[i])
		}
	}
	return keys
}
