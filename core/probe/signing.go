package probe

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
	"sync"

	"unquil/core/dnssec"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/core/wording"
	"unquil/core/zonecare"
)

// ServerKeys are the keys that one server of a zone gives.
type ServerKeys struct {
	Server   zonecare.Server
	Exchange *exchange.Exchange
	Tags     []uint16 // in ascending order
}

// signing asks every server of a signed zone for the zone's keys, and how it hashes names.
func (p Prober) signing(ctx context.Context, z *Zone) {
	if v := z.Walk.Validation; v == nil || v.State == dnssec.Insecure || v.State == dnssec.Indeterminate {
		return
	}
	options := p.Session.Client.Options
	options.DNSSEC, options.Iterative = true, true
	ask := func(s *zonecare.State, t wire.Type) *exchange.Exchange {
		return p.Session.Ask(ctx, exchange.Request{Server: s.SOA.Server, Question: wire.Question{Name: z.Zone, Type: t, Class: wire.IN}, Options: &options, Shared: true})
	}
	var wait sync.WaitGroup
	keys := make([]*ServerKeys, len(z.States))
	for i, s := range z.States {
		if !s.Authoritative() {
			continue
		}
		wait.Go(func() {
			e := ask(s, wire.DNSKEY)
			keys[i] = &ServerKeys{Server: s.Server, Exchange: e, Tags: tagsOf(e)}
		})
		if z.Hashing == nil {
			z.Hashing, z.Wanted = &exchange.Exchange{}, &exchange.Exchange{}
			wait.Go(func() { *z.Hashing = *ask(s, wire.NSEC3PARAM) })
			wait.Go(func() { *z.Wanted = *ask(s, wire.CDS) })
		}
	}
	wait.Wait()
	for _, k := range keys {
		if k != nil && k.Exchange.Outcome.Good() {
			z.Keys = append(z.Keys, *k)
		}
	}
}

// tagsOf are the tags of the keys in an answer.
func tagsOf(e *exchange.Exchange) (tags []uint16) {
	for _, r := range e.Answer().Records {
		if key, err := dnssec.ReadKey(r); err == nil {
			tags = append(tags, key.Tag)
		}
	}
	slices.Sort(tags)
	return tags
}

// signingFindings are what is to be said of how a zone is signed, besides its chain of trust.
func (z *Zone) signingFindings() (found []finding.Finding) {
	var groups [][]ServerKeys // by the keys they give
	for _, k := range z.Keys {
		at := slices.IndexFunc(groups, func(g []ServerKeys) bool { return slices.Equal(g[0].Tags, k.Tags) })
		if at < 0 {
			groups, at = append(groups, nil), len(groups)
		}
		groups[at] = append(groups[at], k)
	}
	if len(groups) > 1 {
		var parts []string
		var numbers []int
		for _, g := range groups {
			var hosts []wire.Name
			for _, k := range g {
				numbers = append(numbers, k.Exchange.Number)
				if !slices.ContainsFunc(hosts, k.Server.Host.Equal) {
					hosts = append(hosts, k.Server.Host)
				}
			}
			gives := "give"
			if len(hosts) == 1 {
				gives = "gives"
			}
			parts = append(parts, wording.Names(hosts)+" "+gives+" "+tagWords(g[0].Tags))
		}
		found = append(found, finding.New(finding.SignersDiffer, finding.Concern, finding.About{Zone: z.Zone.String()},
			fmt.Sprintf("The servers of %s do not give the same keys: %s.", z.Zone.Spoken(), strings.Join(parts, "; ")), numbers...))
	}
	if rounds, salted, ok := z.hashing(); ok && (rounds > 0 || salted) {
		severity, text := finding.Note, fmt.Sprintf("%s hashes its names %s more for its denials (NSEC3)", z.Zone.Spoken(), wording.Count(rounds, "time", "times"))
		if salted {
			text += ", with a salt"
		}
		if rounds == 0 {
			text = z.Zone.Spoken() + " hashes its names with a salt for its denials (NSEC3)"
		}
		text += ": that costs its servers, and protects nothing."
		if rounds > dnssec.MaxIterations {
			severity, text = finding.Concern, fmt.Sprintf("%s hashes its names %d times more for its denials (NSEC3): above %d, what it denies counts as unsigned.", z.Zone.Spoken(), rounds, dnssec.MaxIterations)
		}
		found = append(found, finding.New(finding.NSEC3Rounds, severity, finding.About{Zone: z.Zone.String()}, text, z.Hashing.Number))
	}
	return found
}

// wantedFindings are what is to be said of the DS records that a zone asks for (RFC 7344 §4, RFC 8078).
func (z *Zone) wantedFindings() (found []finding.Finding) {
	if z.Wanted == nil || z.Walk == nil || z.Walk.Validation == nil {
		return nil
	}
	var wanted, has []dnssec.Digest
	for _, r := range z.Wanted.Answer().Records {
		if d, err := dnssec.ReadDigest(r); err == nil {
			wanted = append(wanted, d)
		}
	}
	for _, l := range z.Walk.Validation.Chain {
		if l.Zone.Equal(z.Zone) {
			has = l.Digests
		}
	}
	same := func(a, b dnssec.Digest) bool {
		return a.Tag == b.Tag && a.Algorithm == b.Algorithm && a.Type == b.Type && bytes.Equal(a.Hash, b.Hash)
	}
	missing := func(from, in []dnssec.Digest) bool {
		return slices.ContainsFunc(from, func(a dnssec.Digest) bool {
			return !slices.ContainsFunc(in, func(b dnssec.Digest) bool { return same(a, b) })
		})
	}
	if len(wanted) == 0 || len(has) == 0 || !missing(wanted, has) && !missing(has, wanted) {
		return nil
	}
	about := finding.About{Zone: z.Zone.String()}
	tags := make([]uint16, 0, len(wanted))
	for _, d := range wanted {
		if !slices.Contains(tags, d.Tag) {
			tags = append(tags, d.Tag)
		}
	}
	slices.Sort(tags)
	asks := "DS records for " + tagWords(tags)
	if len(wanted) == 1 && wanted[0].Algorithm == 0 {
		asks = "no DS records at all"
	}
	found = append(found, finding.New(finding.CDSWaiting, finding.Note, about,
		fmt.Sprintf("%s asks the zone above for %s (CDS), and the zone above has others.", z.Zone.Spoken(), asks), z.Wanted.Number))
	if wanted[0].Algorithm == 0 {
		return found
	}
	for _, k := range z.Keys {
		if !slices.ContainsFunc(tags, func(tag uint16) bool { return slices.Contains(k.Tags, tag) }) {
			f := finding.New(finding.RolloverUnsafe, finding.Concern, finding.About{Zone: z.Zone.String(), Server: k.Server.Host.String(), Address: k.Server.Address.String()},
				fmt.Sprintf("%s asks for DS records for %s, and %s gives %s: once the zone above has them, what that server answers is bogus.", z.Zone.Spoken(), tagWords(tags), k.Server.Host.Spoken(), tagWords(k.Tags)), z.Wanted.Number, k.Exchange.Number)
			return append(found, f)
		}
	}
	return found
}

// hashing is how a zone hashes its names (RFC 5155 §4.2); ok is false where it does not.
func (z *Zone) hashing() (rounds int, salted, ok bool) {
	if z.Hashing == nil {
		return 0, false, false
	}
	for _, r := range z.Hashing.Answer().Records {
		if data := r.Data; r.Type == wire.NSEC3PARAM && len(data) >= 5 {
			return int(binary.BigEndian.Uint16([]byte(data[2:4]))), data[4] != 0, true
		}
	}
	return 0, false, false
}

// tagWords are keys by their tags.
func tagWords(tags []uint16) string {
	if len(tags) == 0 {
		return "none"
	}
	words := make([]string, len(tags))
	for i, t := range tags {
		words[i] = fmt.Sprint(t)
	}
	return map[bool]string{true: "key ", false: "keys "}[len(tags) == 1] + strings.Join(words, ", ")
}
