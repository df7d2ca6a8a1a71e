package registry

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"unquil/core/escape"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/core/wording"
)

// Seen is what the DNS says of a domain, to be held against what its registry says.
type Seen struct {
	ParentTold bool        // the zone above answered: Parent is whom it delegates to, none for nobody
	Parent     []wire.Name // in any order
	ZoneTold   bool        // the zone answered: Zone are its own NS records
	Zone       []wire.Name
	DSTold     bool // the zone above was asked for DS records
	DS         []DS
	Evidence   []int // numbers of exchanges
}

// soon is how long before it runs out a domain is told of.
const soon = 30 * 24 * time.Hour

// Judge finds what is wrong with a domain, by what its registry says and what the DNS says.
func (a *Answer) Judge(name wire.Name, seen Seen) []finding.Finding {
	var all []finding.Finding
	find := func(code finding.Code, severity finding.Severity, format string, args ...any) *finding.Finding {
		f := finding.New(code, severity, finding.About{Name: name.String()}, fmt.Sprintf(format, args...), seen.Evidence...)
		all = append(all, f)
		return &all[len(all)-1]
	}
	spoken := name.Spoken()
	delegated := len(seen.Parent) > 0
	switch d := a.Domain; {
	case a.Problem != "":
		find(finding.RegistryUnreachable, finding.Concern, "Who holds %s could not be learnt: %s.", spoken, a.Problem).Evidence = nil // which is not in what was asked of the DNS
	case a.Unknown && delegated:
		find(finding.RegistryDiffers, finding.Concern, "%s is delegated, and its registry (%s) has nothing about it.", spoken, a.From)
	case a.Unknown:
		f := find(finding.DomainUnregistered, finding.Fault, "%s is not registered: its registry (%s) has nothing about it.", spoken, a.From)
		if !seen.ParentTold {
			f.Sure = finding.Likely
		}
	case d != nil:
		d.judgeTerm(find, delegated, seen.ParentTold, a.At)
		d.judgeServers(find, seen)
	}
	return all
}

type finder func(code finding.Code, severity finding.Severity, format string, args ...any) *finding.Finding

// Day is a day as it is told.
func Day(at time.Time) string { return at.Format("2 January 2006") }

// at is whom the holder turns to.
func (d *Domain) at() string {
	if d.Registrar == "" {
		return "its registrar"
	}
	return fmt.Sprintf("its registrar (%s)", d.Registrar)
}

// judgeTerm judges until when the domain is paid for, and what takes it out of the DNS.
func (d *Domain) judgeTerm(find finder, delegated, told bool, now time.Time) {
	name, until, held := d.Name.Spoken(), d.Until(), d.Held()
	severity := finding.Fault // somebody who asks for it now fails
	still := ""
	if delegated {
		severity, still = finding.Concern, "; it is still delegated"
	}
	deadline := ""
	if d.Deletes.After(now) {
		deadline = fmt.Sprintf(", by %s, or it is released", Day(d.Deletes))
	}
	over := slices.ContainsFunc(d.Statuses, func(s escape.Text) bool { return s == "pending delete" })
	next := fmt.Sprintf("Its holder has to renew it at %s%s.", d.at(), deadline)
	switch {
	case over:
		next = "Nobody can get it back now. Once it is released, it can be registered anew."
	case slices.Contains(d.Statuses, "redemption period"):
		next = fmt.Sprintf("Its holder has to get it back at %s, which costs more than a renewal%s.", d.at(), deadline)
	}
	expired := !until.IsZero() && until.Before(now)
	switch {
	case expired && len(held) > 0:
		find(finding.DomainExpired, severity, "%s expired on %s and is on hold (%s)%s.", name, Day(until), escape.Join(held, ", "), still).Next = next
		find(finding.DomainOnHold, severity, "%s is on hold (%s): %s%s.", name, escape.Join(held, ", "), saidOf(held), still).Next = next
	case expired && (delegated || !told):
		find(finding.DomainExpired, finding.Concern, "%s expired on %s%s.", name, Day(until), still).Next = next
	case expired:
		find(finding.DomainExpired, finding.Fault, "%s expired on %s, and is not delegated.", name, Day(until)).Next = next
	case len(held) > 0:
		f := find(finding.DomainOnHold, severity, "%s is on hold (%s): %s%s.", name, escape.Join(held, ", "), saidOf(held), still)
		switch {
		case slices.ContainsFunc(held, func(s escape.Text) bool { return statuses[string(s)].ends }):
			f.Next = next
		case slices.Equal(held, []escape.Text{"inactive"}):
			f.Next = fmt.Sprintf("Its holder has to name name servers for it at %s.", d.at())
		case !slices.Contains(held, "client hold"):
			f.Next = fmt.Sprintf("Ask %s why the registry put it on hold, and what lifts that.", d.at())
		default:
			f.Next = fmt.Sprintf("Ask %s why it is on hold: unpaid, unconfirmed contact data, or a dispute.", d.at())
		}
	case !until.IsZero() && until.Before(now.Add(soon)):
		find(finding.DomainExpiresSoon, finding.Concern, "%s expires on %s, in %s.", name, Day(until), wording.Count(int(until.Sub(now).Hours()/24), "day", "days")).Next =
			fmt.Sprintf("See that it is renewed at %s.", d.at())
	}
}

// saidOf is what statuses mean.
func saidOf(held []escape.Text) string {
	var words []string
	for _, s := range held {
		words = append(words, StatusWords(s))
	}
	return strings.Join(words, "; ")
}

// judgeServers holds the registry's servers and keys against those that the DNS has.
func (d *Domain) judgeServers(find finder, seen Seen) {
	if len(d.Held()) > 0 {
		return // it is not meant to be in the DNS as it is registered
	}
	name := d.Name.Spoken()
	var own []wire.Name
	for _, h := range d.Servers {
		own = append(own, h.Name)
	}
	next := fmt.Sprintf("Have the holder correct the name servers at %s; if they were changed just now, wait for the registry to publish that.", d.at())
	switch {
	case len(own) == 0: // the registry does not tell them
	case seen.ParentTold && len(seen.Parent) == 0:
		find(finding.RegistryDiffers, finding.Fault, "%s has %s at its registry, and is delegated to nobody.", name, wording.Count(len(own), "name server", "name servers")).Next = next
	case seen.ParentTold && !sameNames(own, seen.Parent):
		find(finding.RegistryDiffers, finding.Concern, "The registry has other name servers for %s than the zone above delegates it to: %s.", name, differing("the registry", own, "the zone above", seen.Parent)).Next = next
	case seen.ZoneTold && !sameNames(own, seen.Zone):
		find(finding.RegistryDiffers, finding.Concern, "The registry has other name servers for %s than the zone itself: %s.", name, differing("the registry", own, "the zone", seen.Zone)).Next = next
	}
	if d.Secured && seen.DSTold && len(seen.Parent) > 0 && !sameKeys(d.DS, seen.DS) {
		find(finding.RegistryDiffers, finding.Concern, "The registry has %s of %s, and the zone above has %s that differ.", wording.Count(len(d.DS), "DS record", "DS records"), name, orNone(len(seen.DS))).Next =
			fmt.Sprintf("Have the holder correct the DS records at %s; if they were changed just now, wait for the registry to publish that.", d.at())
	}
}

func orNone(n int) string {
	if n == 0 {
		return "none, and those"
	}
	return wording.Count(n, "record", "records")
}

func sameNames(a, b []wire.Name) bool { return len(lacking(a, b)) == 0 && len(lacking(b, a)) == 0 }

// lacking are the names that are in a and not in b.
func lacking(a, b []wire.Name) (only []wire.Name) {
	for _, n := range a {
		if !slices.ContainsFunc(b, n.Equal) {
			only = append(only, n)
		}
	}
	return only
}

func differing(ofA string, a []wire.Name, ofB string, b []wire.Name) string {
	var words []string
	for _, side := range []struct {
		who  string
		only []wire.Name
	}{{ofA, lacking(a, b)}, {ofB, lacking(b, a)}} {
		if len(side.only) == 0 {
			continue
		}
		var names []string
		for _, n := range side.only {
			names = append(names, n.Spoken())
		}
		words = append(words, fmt.Sprintf("%s alone has %s", side.who, wording.List(names)))
	}
	return strings.Join(words, ", ")
}

func sameKeys(a, b []DS) bool {
	in := func(all []DS) func(DS) bool { return func(d DS) bool { return slices.Contains(all, d) } }
	lacks := func(x, y []DS) bool { return slices.ContainsFunc(x, func(d DS) bool { return !in(y)(d) }) }
	return !lacks(a, b) && !lacks(b, a)
}
