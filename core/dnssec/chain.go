package dnssec

import (
	"context"
	"time"

	"unquil/core/wire"
)

// Source gets messages for a validator. It may be asked by many goroutines at once.
type Source interface {
	// Ask returns what one of the servers of a zone says to a question, with its signatures: for another
	// turn, another server. It is nil where none says anything that can be used. number is that of the
	// exchange.
	Ask(ctx context.Context, zone wire.Name, q wire.Question, turn int) (m *wire.Message, number int)
	// Cut says whether a zone begins at a name, as far as that is known without asking.
	Cut(name wire.Name) (is, known bool)
}

// Link is one zone of a chain of trust.
type Link struct {
	Zone     wire.Name
	State    State
	Digests  []Digest  // that the zone above gives for it; of the first, those of the anchors
	Keys     []*Key    // of the zone; none where they were not got
	Trusted  []*Key    // those that may sign
	By       uint16    // the tag of the key that vouches for the others
	Break    *Break    // why it is not secure; nil where it is, or is not signed
	Begins   time.Time // from when the signatures over its keys and digests are valid, and until when the first is
	Expires  time.Time
	Unsigned bool  // the zone above proves that it is not signed
	Seen     []int // exchanges

	digested verified // of the DS records
}

// Validator says what is to be made of answers. It remembers what it learnt of zones: it is for
// one run, and not safe for use by many goroutines.
type Validator struct {
	Source  Source
	Anchors []wire.Record // DS or DNSKEY records
	Now     time.Time     // to judge as of

	links  map[string]*Link
	checks checks
}

// Result is what an answer came to.
type Result struct {
	State   State
	Zone    wire.Name // where the chain ended, or broke
	Break   *Break    // nil where it is not broken
	Expires time.Time // when the first signature on the way runs out; zero where nothing was signed
	Chain   []*Link   // from the anchor down
	Begins  time.Time // from when the signatures of the answer itself are valid, and until when the first is; zero where it has none
	Ends    time.Time
	OptOut  bool // insecure because a denial leaves out unsigned delegations
	Weak    []Algorithm
}

// anchorOf are the digests of the anchors for the zone nearest to a name, and that zone.
func (v *Validator) anchorOf(name wire.Name) (zone wire.Name, digests []Digest, ok bool) {
	best := -1
	for _, r := range v.Anchors {
		if !name.IsSubdomainOf(r.Name) || r.Name.Labels() < best {
			continue
		}
		if r.Name.Labels() > best {
			best, zone, digests = r.Name.Labels(), r.Name, nil
		}
		if d, err := ReadDigest(r); err == nil && r.Type == wire.DS {
			digests = append(digests, d)
		} else if k, err := ReadKey(r); err == nil && r.Type == wire.DNSKEY {
			digests = append(digests, Digest{k.Owner, k.Tag, k.Algorithm, 2, digestOf(2, &k)})
		}
	}
	return zone, digests, best >= 0
}

// zoneOf is the chain of trust down to the zone that a name lies in, from the anchor on. forDS is for
// a name whose DS records are meant: those are the zone's above.
func (v *Validator) zoneOf(ctx context.Context, name wire.Name, forDS bool) []*Link {
	if forDS && !name.IsRoot() {
		name = name.Parent()
	}
	anchor, digests, ok := v.anchorOf(name)
	if !ok {
		return nil
	}
	first := v.links[anchor.Fold().Wire()]
	if first == nil {
		first = &Link{Zone: anchor, Digests: digests}
		v.keep(first)
		v.takeKeys(ctx, first)
		if first.Break != nil && first.Break.Flaw == DSWithoutKey {
			first.Break.Flaw = AnchorOld
		}
	}
	chain := []*Link{first}
	for count := anchor.Labels() + 1; count <= name.Labels(); count++ {
		above := chain[len(chain)-1]
		if above.State != Secure {
			return chain
		}
		below := name.Ancestor(count)
		if is, known := v.Source.Cut(below); known && !is {
			continue
		}
		link, cut := v.step(ctx, above, below)
		if cut {
			chain = append(chain, link)
		}
	}
	return chain
}

func (v *Validator) keep(l *Link) {
	if v.links == nil {
		v.links = map[string]*Link{}
	}
	v.links[l.Zone.Fold().Wire()] = l
}

// step goes from a secure zone to a name below it; cut is false where no zone begins there.
func (v *Validator) step(ctx context.Context, above *Link, name wire.Name) (l *Link, cut bool) {
	if known, is := v.links[name.Fold().Wire()]; is {
		return known, known != nil
	}
	l = &Link{Zone: name}
	q := wire.Question{Name: name, Type: wire.DS, Class: wire.IN}
	v.keep(l)
	for turn := range maxTurns {
		m, number := v.Source.Ask(ctx, above.Zone, q, turn)
		if l.note(number); m == nil {
			break
		}
		if cut = v.digests(ctx, above, l, m); l.State != Bogus {
			break
		}
	}
	switch {
	case !cut && l.State == "":
		l.State = Indeterminate
		return l, true
	case !cut:
		v.links[name.Fold().Wire()] = nil // no zone begins there
		return nil, false
	}
	return l, true
}

// maxTurns is how many servers of a zone are asked for one thing before it counts as broken: one that
// lags behind the others breaks nothing.
const maxTurns = 3

// digests takes what a server of the zone above says of a zone's DS records; cut is false where no zone
// begins there.
func (v *Validator) digests(ctx context.Context, above, l *Link, m *wire.Message) (cut bool) {
	name := l.Zone
	l.State, l.Break, l.Digests = "", nil, nil
	for _, set := range Sets(m.Answer) {
		if set.Type != wire.DS || !set.Owner.Equal(name) {
			continue
		}
		l.digested = v.checks.verify(set, above.Zone, above.Trusted, v.Now)
		for _, r := range set.Records[:min(len(set.Records), maxDigests)] {
			if d, err := ReadDigest(r); err == nil {
				l.Digests = append(l.Digests, d)
			}
		}
		if l.digested.by == nil {
			l.fail(m, l.digested.broken)
			return true
		}
		l.Begins, l.Expires = l.digested.by.Begins(v.Now), l.digested.ends
		v.takeKeys(ctx, l)
		return true
	}
	if v.leadsOn(above, name, m) {
		l.State = Secure
		return false
	}
	p, cut, broken := v.noDigest(above, name, m)
	switch {
	case p == unproven:
		l.fail(m, broken)
		return true
	case p == tooCostly:
		l.State, l.Unsigned = Insecure, true
		l.Break = &Break{Flaw: ManyIterations, Zone: above.Zone, Owner: name, Type: wire.DS}
		return true
	case cut:
		l.State, l.Unsigned = Insecure, true
		return true
	}
	l.State = Secure
	return false
}

// leadsOn reports whether a name has a signed alias, or lies below one of a whole tree: then no zone
// begins there.
func (v *Validator) leadsOn(above *Link, name wire.Name, m *wire.Message) bool {
	for _, set := range Sets(m.Answer) {
		at := set.Type == wire.CNAME && set.Owner.Equal(name)
		over := set.Type == wire.DNAME && name.IsSubdomainOf(set.Owner) && !name.Equal(set.Owner) && set.Owner.IsSubdomainOf(above.Zone)
		if (at || over) && v.checks.verify(set, above.Zone, above.Trusted, v.Now).by != nil {
			return true
		}
	}
	return false
}

// noDigest is what a message without DS records proves.
func (v *Validator) noDigest(above *Link, name wire.Name, m *wire.Message) (p proof, cut bool, broken *Break) {
	d, _, broken := v.denials(above, m)
	if broken != nil {
		return unproven, false, broken
	}
	if m.RCode() == wire.NXDomain {
		if p = d.noName(name); p == proven {
			return p, false, nil
		}
	}
	if p == unproven {
		p, cut = d.unsigned(name)
	}
	if p == unproven {
		broken = &Break{Flaw: DenialIncomplete, Zone: above.Zone, Owner: name, Type: wire.DS}
	}
	return p, cut || p == optedOut, broken
}

// denials are the records of denial in a message that a zone's keys have signed; ends is when the
// first of their signatures runs out. broken says why one has no valid signature.
func (v *Validator) denials(zone *Link, m *wire.Message) (d *denials, ends time.Time, broken *Break) {
	var signed []*Set
	for _, set := range Sets(m.Authority) {
		if set.Type != wire.NSEC && set.Type != wire.NSEC3 {
			continue
		}
		checked := v.checks.verify(set, zone.Zone, zone.Trusted, v.Now)
		if checked.by == nil {
			broken = checked.broken
			continue
		}
		if _, is := checked.wildcard(set); is {
			continue // a wildcard's own record says nothing of the name that it was given for
		}
		signed, ends = append(signed, set), earlier(ends, checked.ends)
	}
	return readDenials(zone.Zone, signed), ends, broken
}

// takeKeys gets the keys of a zone, and says which of them are to be trusted.
func (v *Validator) takeKeys(ctx context.Context, l *Link) {
	supported := false
	for _, d := range l.Digests {
		supported = supported || d.Supported()
	}
	if !supported {
		l.State, l.Unsigned = Insecure, true // as if there were none (RFC 4035 §5.2)
		l.Break = &Break{Flaw: UnsupportedDigest, Zone: l.Zone, Owner: l.Zone, Type: wire.DS}
		return
	}
	l.State = Indeterminate
	for turn := range maxTurns {
		m, number := v.Source.Ask(ctx, l.Zone, wire.Question{Name: l.Zone, Type: wire.DNSKEY, Class: wire.IN}, turn)
		if l.note(number); m == nil {
			return
		}
		if v.keys(l, m); l.State == Secure {
			return
		}
	}
}

// keys takes the keys that one server of a zone gives.
func (v *Validator) keys(l *Link, m *wire.Message) {
	l.State, l.Break = Indeterminate, nil
	for _, set := range Sets(m.Answer) {
		if set.Type != wire.DNSKEY || !set.Owner.Equal(l.Zone) {
			continue
		}
		var by verified
		l.Keys = readKeys(set)
		if l.Trusted, by = v.checks.trustKeys(set, l.Digests, v.Now); by.by == nil {
			l.fail(m, by.broken)
			return
		}
		l.State, l.By, l.Expires = Secure, by.key.Tag, earlier(l.Expires, by.ends)
		if begins := by.by.Begins(v.Now); begins.After(l.Begins) {
			l.Begins = begins
		}
		return
	}
	l.fail(m, &Break{Flaw: ChainMissing, Zone: l.Zone, Owner: l.Zone, Type: wire.DNSKEY})
}

// fail breaks the chain at a link, by what a message shows.
func (l *Link) fail(m *wire.Message, b *Break) {
	if l.State, l.Break = Bogus, b; blind(m, b) {
		l.State, l.Break = Indeterminate, nil
	}
}

func (l *Link) note(number int) {
	if number > 0 {
		l.Seen = append(l.Seen, number)
	}
}

// earlier is the earlier of two times, of which a zero one says nothing.
func earlier(a, b time.Time) time.Time {
	if a.IsZero() || !b.IsZero() && b.Before(a) {
		return b
	}
	return a
}

// Judge says what is to be made of the answer to a question: each set in its answer section, and the
// denial where there is nothing. Each link of an alias chain counts by itself; the worst of them is
// the state of all.
func (v *Validator) Judge(ctx context.Context, q wire.Question, m *wire.Message) Result {
	r := Result{State: Secure}
	v.checks.left = maxChecks
	sets := Sets(m.Answer)
	synthesised := map[string]bool{} // aliases that a DNAME in the message gives (RFC 6672 §5.3.1)
	for _, set := range sets {
		if set.Type == wire.DNAME {
			for _, alias := range sets {
				if alias.Type == wire.CNAME && len(alias.Signatures) == 0 && fromDNAME(set, alias) {
					synthesised[alias.Owner.Fold().Wire()] = true
				}
			}
		}
	}
	name, answered := q.Name, false
	for _, set := range sets {
		if set.Type == wire.CNAME && synthesised[set.Owner.Fold().Wire()] {
			name = targetOf(set, name)
			continue
		}
		v.judgeSet(ctx, &r, set, m)
		switch {
		case set.Type == wire.CNAME && q.Type != wire.CNAME && q.Type != wire.ANY:
			name = targetOf(set, name)
		case set.Owner.Equal(name) && (set.Type == q.Type || q.Type == wire.ANY):
			answered = true
		}
	}
	// A zone's own server says nothing of where an alias leads out of its zones.
	elsewhere := !name.Equal(q.Name) && m.RCode() == wire.NoError && len(m.Authority) == 0
	if !answered && !elsewhere && m.RCode() != wire.YXDomain {
		v.judgeDenial(ctx, &r, wire.Question{Name: name, Type: q.Type, Class: q.Class}, m)
	}
	return r
}

// targetOf is where an alias leads; the name itself where it leads nowhere.
func targetOf(set *Set, name wire.Name) wire.Name {
	if target, ok := set.Records[0].Target(); ok && set.Owner.Equal(name) {
		return target
	}
	return name
}

// fromDNAME reports whether an alias is the one that a DNAME record makes (RFC 6672 §3.1).
func fromDNAME(dname, alias *Set) bool {
	to, ok := dname.Records[0].Target()
	if !ok || !alias.Owner.IsSubdomainOf(dname.Owner) || alias.Owner.Equal(dname.Owner) {
		return false
	}
	made, err := alias.Owner.Rebase(dname.Owner, to)
	target, has := alias.Records[0].Target()
	return err == nil && has && made.Equal(target)
}

// blind reports whether a message cannot have signatures: it came without EDNS, in which they are
// asked for (RFC 3225). What it lacks says nothing then.
func blind(m *wire.Message, b *Break) bool {
	_, extended := m.OPT()
	return !extended && (b == nil || b.Flaw == SignatureMissing || b.Flaw == DenialIncomplete || b.Flaw == KeyUnsigned || b.Flaw == ChainMissing)
}

// worse takes the state of one more part.
func (r *Result) worse(state State, zone wire.Name, broken *Break) {
	weight := map[State]int{Secure: 0, Insecure: 1, Indeterminate: 2, Bogus: 3}
	if weight[state] > weight[r.State] {
		r.State, r.Zone, r.Break = state, zone, broken
	}
}

// chain notes the chain of one part; ok is false where that is not secure.
func (r *Result) chain(links []*Link) (last *Link, ok bool) {
	if len(links) == 0 {
		r.worse(Indeterminate, wire.Name{}, nil)
		return nil, false
	}
	if len(links) > len(r.Chain) || r.State == Secure {
		r.Chain = links
	}
	last = links[len(links)-1]
	for _, l := range links {
		r.Expires = earlier(r.Expires, l.Expires)
	}
	if r.Zone.IsZero() {
		r.Zone = last.Zone
	}
	if last.State != Secure {
		r.worse(last.State, last.Zone, last.Break)
		return last, false
	}
	return last, true
}

func (v *Validator) judgeSet(ctx context.Context, r *Result, set *Set, m *wire.Message) {
	zone, ok := r.chain(v.zoneOf(ctx, set.Owner, set.Type == wire.DS))
	if !ok {
		return
	}
	checked := v.checks.verify(set, zone.Zone, zone.Trusted, v.Now)
	switch {
	case checked.by != nil:
	case blind(m, checked.broken):
		r.worse(Indeterminate, zone.Zone, nil)
		return
	default:
		r.worse(Bogus, zone.Zone, checked.broken)
		return
	}
	r.Expires, r.Ends = earlier(r.Expires, checked.ends), earlier(r.Ends, checked.ends)
	if begins := checked.by.Begins(v.Now); begins.After(r.Begins) {
		r.Begins = begins
	}
	r.weak(checked.key.Algorithm)
	labels, is := checked.wildcard(set)
	if !is {
		return
	}
	d, ends, broken := v.denials(zone, m)
	r.Expires, r.Ends = earlier(r.Expires, ends), earlier(r.Ends, ends)
	r.denied(m, d.noCloser(set.Owner, labels), zone, broken, set.Owner, set.Type)
}

// weak notes an algorithm that is no longer good enough.
func (r *Result) weak(a Algorithm) {
	for _, known := range r.Weak {
		if known == a {
			return
		}
	}
	if a.Weak() != "" {
		r.Weak = append(r.Weak, a)
	}
}

// denied takes what records of denial prove.
func (r *Result) denied(m *wire.Message, p proof, zone *Link, broken *Break, name wire.Name, t wire.Type) {
	switch p {
	case optedOut:
		r.OptOut = true
		r.worse(Insecure, zone.Zone, nil)
	case tooCostly:
		r.worse(Insecure, zone.Zone, &Break{Flaw: ManyIterations, Zone: zone.Zone, Owner: name, Type: t})
	case unproven:
		if blind(m, broken) {
			r.worse(Indeterminate, zone.Zone, nil)
			return
		}
		if broken == nil {
			broken = &Break{Flaw: DenialIncomplete, Zone: zone.Zone, Owner: name, Type: t}
		}
		r.worse(Bogus, zone.Zone, broken)
	}
}

func (v *Validator) judgeDenial(ctx context.Context, r *Result, q wire.Question, m *wire.Message) {
	zone, ok := r.chain(v.zoneOf(ctx, q.Name, q.Type == wire.DS))
	if !ok {
		return
	}
	d, ends, broken := v.denials(zone, m)
	r.Expires, r.Ends = earlier(r.Expires, ends), earlier(r.Ends, ends)
	p := unproven
	if m.RCode() == wire.NXDomain {
		p = d.noName(q.Name)
	} else {
		p = d.noType(q.Name, q.Type)
	}
	r.denied(m, p, zone, broken, q.Name, q.Type)
}

// Down is the chain of trust to the zone that a name lies in, where there is no answer to judge.
func (v *Validator) Down(ctx context.Context, name wire.Name) Result {
	r := Result{State: Secure}
	v.checks.left = maxChecks
	r.chain(v.zoneOf(ctx, name, false))
	return r
}
