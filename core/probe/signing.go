package probe

import (
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
	return ascending(tags)
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
		var ways []string
		if rounds > 0 {
			ways = append(ways, wording.Count(rounds, "time", "times")+" more")
		}
		if salted {
			ways = append(ways, "with a salt")
		}
		severity, so := finding.Note, "that costs its servers, and protects nothing"
		if rounds > dnssec.MaxIterations {
			severity, so = finding.Concern, fmt.Sprintf("above %d, what it denies counts as unsigned", dnssec.MaxIterations)
		}
		found = append(found, finding.New(finding.NSEC3Rounds, severity, finding.About{Zone: z.Zone.String()},
			fmt.Sprintf("%s hashes its names %s for its denials (NSEC3): %s.", z.Zone.Spoken(), strings.Join(ways, " and "), so), z.Hashing.Number))
	}
	return found
}

// wantedFindings are what is to be said of the DS records that a zone asks for (RFC 7344 §4, RFC 8078). They
// are compared by the keys they name: the zone above may prefer other digests of them.
func (z *Zone) wantedFindings() (found []finding.Finding) {
	if z.Wanted == nil || z.Walk == nil || z.Walk.Validation == nil {
		return nil
	}
	var wanted, has []uint16
	removed := false // the record that asks for none has an algorithm that none is (RFC 8078 §4)
	for _, r := range z.Wanted.Answer().Records {
		if d, err := dnssec.ReadDigest(r); err == nil {
			wanted, removed = append(wanted, d.Tag), removed || d.Algorithm == 0
		}
	}
	for _, l := range z.Walk.Validation.Chain {
		for _, d := range l.Digests {
			if l.Zone.Equal(z.Zone) {
				has = append(has, d.Tag)
			}
		}
	}
	wanted, has = ascending(wanted), ascending(has)
	about := finding.About{Zone: z.Zone.String()}
	switch {
	case len(wanted) == 0 || len(has) == 0 || slices.Equal(wanted, has):
		return nil
	case removed:
		return append(found, finding.New(finding.CDSWaiting, finding.Note, about,
			fmt.Sprintf("%s asks the zone above to remove its DS records (CDS), and they are still there.", z.Zone.Spoken()), z.Wanted.Number))
	}
	found = append(found, finding.New(finding.CDSWaiting, finding.Note, about,
		fmt.Sprintf("%s asks the zone above for DS records for %s (CDS), which has those for %s.", z.Zone.Spoken(), tagWords(wanted), tagWords(has)), z.Wanted.Number))
	for _, k := range z.Keys {
		if !slices.ContainsFunc(wanted, func(tag uint16) bool { return slices.Contains(k.Tags, tag) }) {
			about.Server, about.Address = k.Server.Host.String(), k.Server.Address.String()
			return append(found, finding.New(finding.RolloverUnsafe, finding.Concern, about,
				fmt.Sprintf("%s asks for DS records for %s, and %s gives %s: once the zone above has them, what that server answers is bogus.", z.Zone.Spoken(), tagWords(wanted), k.Server.Host.Spoken(), tagWords(k.Tags)), z.Wanted.Number, k.Exchange.Number))
		}
	}
	return found
}

// ascending are tags in order, each once.
func ascending(tags []uint16) []uint16 {
	slices.Sort(tags)
	return slices.Compact(tags)
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
