package signing

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"unquil/core/dnssec"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/core/wording"
)

func (r *Report) find(code finding.Code, severity finding.Severity, text string, evidence ...int) *finding.Finding {
	r.Findings = append(r.Findings, finding.New(code, severity, finding.About{Zone: r.Name.String()}, text, evidence...))
	return &r.Findings[len(r.Findings)-1]
}

// findAt is find, about one server.
func (r *Report) findAt(s *seen, code finding.Code, severity finding.Severity, text string, evidence ...int) {
	f := r.find(code, severity, text, evidence...)
	f.About.Server, f.About.Address = s.Host.String(), s.Address.String()
}

// hashedInVain tells of hashing that costs and does not protect (RFC 9276 §3.1).
func (r *Report) hashedInVain(number int) {
	var ways []string
	if r.Rounds > 0 {
		ways = append(ways, wording.Count(r.Rounds, "time", "times")+" more")
	}
	if r.Salted {
		ways = append(ways, "with a salt")
	}
	if len(ways) == 0 {
		return
	}
	severity, so := finding.Note, "that costs its servers, and protects nothing"
	if r.Rounds > dnssec.MaxIterations {
		severity, so = finding.Concern, fmt.Sprintf("above %d, what it denies counts as unsigned", dnssec.MaxIterations)
	}
	r.find(finding.NSEC3Rounds, severity, fmt.Sprintf("%s hashes its names %s for its denials (NSEC3): %s.", r.Name.Spoken(), strings.Join(ways, " and "), so), number)
}

// servedAlike tells of servers that do not give the same keys.
func (r *Report) servedAlike() {
	if words, numbers := r.differ((*seen).tags, TagWords); words != "" {
		r.find(finding.SignersDiffer, finding.Concern, fmt.Sprintf("The servers of %s do not give the same keys: %s.", r.Name.Spoken(), words), numbers...)
	}
}

// differ says which servers give what, where they do not give the same; "" where they do.
func (r *Report) differ(what func(*seen) []uint16, say func([]uint16) string) (words string, numbers []int) {
	var groups []string
	hosts := map[string][]wire.Name{}
	for i := range r.servers {
		s := &r.servers[i]
		gives := say(what(s))
		if !slices.Contains(groups, gives) {
			groups = append(groups, gives)
		}
		if !slices.ContainsFunc(hosts[gives], s.Host.Equal) {
			hosts[gives] = append(hosts[gives], s.Host)
		}
		numbers = append(numbers, s.Keys.Number)
	}
	if len(groups) < 2 {
		return "", nil
	}
	var parts []string
	for _, g := range groups {
		verb := map[bool]string{true: " gives ", false: " give "}[len(hosts[g]) == 1]
		parts = append(parts, wording.Names(hosts[g])+verb+g)
	}
	return strings.Join(parts, "; "), numbers
}

// complete tells of algorithms that do not sign all they have to: each that a DS record names the keys, and
// each of the keys the whole zone (RFC 4035 §2.2). Most validators are content with one.
func (r *Report) complete() {
	type lack struct {
		a    dnssec.Algorithm
		over string
	}
	lacking := map[lack][]int{} // by what is not signed: the servers
	var order []lack
	has := map[lack]string{}
	need := func(a dnssec.Algorithm, over string, signatures []dnssec.Signature, what string, server int) {
		if len(signatures) == 0 || !a.Supported() || slices.ContainsFunc(signatures, func(g dnssec.Signature) bool { return g.Algorithm == a }) {
			return // a set that nobody signed breaks the chain, and is told as that
		}
		l := lack{a, over}
		if lacking[l] == nil {
			order = append(order, l)
		}
		if has[l] = what; !slices.Contains(lacking[l], server) {
			lacking[l] = append(lacking[l], server)
		}
	}
	for i := range r.servers {
		s := &r.servers[i]
		for j := range r.Keys {
			k := &r.Keys[j]
			if k.Named {
				need(k.Algorithm, "its keys", s.overKeys, "a DS record", i)
			}
			if slices.Contains(k.Given, i) && !k.Revoked {
				need(k.Algorithm, "its SOA record", s.overSOA, "a key", i)
			}
		}
	}
	for _, l := range order {
		at := lacking[l]
		who := "its servers give"
		if !r.Everywhere(at) {
			hosts := r.Hosts(at)
			who = wording.Names(hosts) + map[bool]string{true: " gives", false: " give"}[len(hosts) == 1]
		}
		var numbers []int
		for _, i := range at {
			numbers = append(numbers, r.servers[i].Keys.Number)
		}
		r.find(finding.AlgorithmIncomplete, finding.Concern, fmt.Sprintf("%s has %s with %s, and %s no such signature over %s: validators that hold to RFC 4035 do not accept it.", r.Name.Spoken(), has[l], l.a, who, l.over), numbers...)
	}
}

// How long an RSA key has to be: what validators still take, and what is recommended (RFC 8624 §3.1).
const (
	leastBits  = 1024
	shouldBits = 2048
)

// sizes tells of keys that are too short.
func (r *Report) sizes() {
	for i := range r.Keys {
		k := &r.Keys[i]
		if k.Bits == 0 || k.Bits >= shouldBits {
			continue
		}
		severity, so := finding.Note, fmt.Sprintf("%d are recommended", shouldBits)
		if k.Bits < leastBits {
			severity, so = finding.Concern, fmt.Sprintf("many validators do not use one with fewer than %d", leastBits)
		}
		r.find(finding.KeyShort, severity, fmt.Sprintf("Key %d of %s has %d bits; %s.", k.Tag, r.Name.Spoken(), k.Bits, so), r.servers[k.Given[0]].Keys.Number)
	}
}

// renewal tells whether the zone is signed anew in time: what is signed has to outlast the caches that hold
// it and the secondaries that fetch it (RFC 6781 §4.4.2).
func (r *Report) renewal() {
	var at *seen
	need, expire := time.Duration(0), time.Duration(0)
	for i := range r.servers {
		s := &r.servers[i]
		for _, over := range [][]dnssec.Signature{s.overKeys, s.overSOA} {
			begins, ends := r.longest(over)
			if !ends.IsZero() && (r.Ends.IsZero() || ends.Before(r.Ends)) {
				r.Ends, r.Validity, at = ends, ends.Sub(begins), s
			}
		}
		need = max(need, time.Duration(s.longest+s.soa.Refresh)*time.Second)
		expire = max(expire, time.Duration(s.soa.Expire)*time.Second)
	}
	if at == nil {
		return
	}
	left := r.Ends.Sub(r.now)
	r.Over = left < 0
	switch {
	case left < 0 || left < dnssec.Soon: // which is told with the chain of trust
	case left < need:
		r.findAt(at, finding.SignatureRunsOut, finding.Concern, fmt.Sprintf("A signature of %s runs out in %s, at %s: less than its TTLs and the time between two transfers (refresh) need, %s.",
			r.Name.Spoken(), wording.Span(left.Round(time.Minute)), wording.Moment(r.Ends), wording.Span(need)), at.Keys.Number)
	}
	if left > 0 && r.Validity < expire {
		r.find(finding.SignatureRunsOut, finding.Note, fmt.Sprintf("Signatures of %s are made for %s, and a secondary without its primary goes on for %s (the SOA's expire): for the rest of that it would serve signatures that have run out.",
			r.Name.Spoken(), wording.Span(r.Validity), wording.Span(expire)), at.Keys.Number)
	}
}

// longest is when the signature of a set begins and ends that holds longest.
func (r *Report) longest(over []dnssec.Signature) (begins, ends time.Time) {
	for i := range over {
		if e := over[i].Ends(r.now); e.After(ends) {
			begins, ends = over[i].Begins(r.now), e
		}
	}
	return begins, ends
}

// wants tells of DS records that a zone asks for (RFC 7344 §4, RFC 8078). They are compared by the keys they
// name: the zone above may prefer other digests of them.
func (r *Report) wants() {
	say := func(tags []uint16) string { return "DS records for " + TagWords(tags) }
	if words, numbers := r.differ(func(s *seen) []uint16 { return s.wanted }, say); words != "" {
		r.find(finding.SignersDiffer, finding.Concern, fmt.Sprintf("The servers of %s do not ask the zone above for the same (CDS): %s.", r.Name.Spoken(), strings.ReplaceAll(words, "give", "ask")), numbers...)
		return
	}
	if len(r.servers) == 0 {
		return
	}
	s := &r.servers[0]
	r.Wanted, r.Removal = append(r.Wanted, s.wanted...), s.removal
	asks, evidence := "CDS", s.CDS
	switch {
	case len(s.wanted) == 0 && len(s.wantsKeys) > 0:
		r.Wanted, asks, evidence = s.wantsKeys, "CDNSKEY", s.CDNSKEY
	case len(s.wanted) > 0 && len(s.wantsKeys) > 0 && !slices.Equal(s.wanted, s.wantsKeys):
		r.find(finding.CDSWaiting, finding.Concern, fmt.Sprintf("%s asks the zone above for DS records for %s (CDS) and for %s (CDNSKEY): both have to name the same keys.", r.Name.Spoken(), TagWords(s.wanted), TagWords(s.wantsKeys)), s.CDS.Number, s.CDNSKEY.Number)
	}
	switch {
	case r.Removal && len(r.Named) > 0:
		r.find(finding.CDSWaiting, finding.Note, fmt.Sprintf("%s asks the zone above to remove its DS records (CDS), and they are still there.", r.Name.Spoken()), s.CDS.Number)
		return
	case len(r.Wanted) == 0 || len(r.Named) == 0:
		return
	case slices.Equal(r.Wanted, r.Named):
		return
	}
	r.find(finding.CDSWaiting, finding.Note, fmt.Sprintf("%s asks the zone above for DS records for %s (%s), which has those for %s.", r.Name.Spoken(), TagWords(r.Wanted), asks, TagWords(r.Named)), evidence.Number)
	for i := range r.servers {
		s := &r.servers[i]
		told := slices.ContainsFunc(r.Findings, func(f finding.Finding) bool {
			return f.Code == finding.RolloverUnsafe && f.About.Server == s.Host.String()
		})
		if !told && !slices.ContainsFunc(r.Keys, func(k Key) bool { return slices.Contains(r.Wanted, k.Tag) && k.vouches(i) }) {
			r.findAt(s, finding.RolloverUnsafe, finding.Concern, fmt.Sprintf("%s asks for DS records for %s, and no such key signs the keys that %s gives: once the zone above has them, what that server answers is bogus.",
				r.Name.Spoken(), TagWords(r.Wanted), s.Host.Spoken()), evidence.Number, s.Keys.Number)
			return
		}
	}
}

// vouches reports whether a server gives the key, and has its keys signed by it.
func (k *Key) vouches(server int) bool {
	return slices.Contains(k.Given, server) && slices.Contains(k.SignsKeys, server)
}

// TagWords are keys by their tags.
func TagWords(tags []uint16) string {
	if len(tags) == 0 {
		return "none"
	}
	words := make([]string, len(tags))
	for i, t := range tags {
		words[i] = fmt.Sprint(t)
	}
	return map[bool]string{true: "key ", false: "keys "}[len(tags) == 1] + strings.Join(words, ", ")
}
