package registry

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"unquil/core/escape"
	"unquil/core/finding"
	"unquil/core/wire"
)

// Kind is what a subject is.
type Kind string

// The kinds.
const (
	AnAddress Kind = "address"
	ARange    Kind = "network"
	ANumber   Kind = "as-number"
	ADomain   Kind = "domain"
	AHost     Kind = "host"
)

// Subject is whose owner is asked for.
type Subject struct {
	Asked  string // as typed
	Kind   Kind
	Prefix netip.Prefix // of an address or a range
	Number uint32
	Name   wire.Name // of a domain or a host
	// Registrable is the domain that somebody registered to have a host.
	Registrable wire.Name
}

// Why a subject is none.
var (
	ErrSubject = errors.New("neither an address, a network, an AS number nor a name")
	ErrOwn     = errors.New("it is of no registry: such addresses are used inside networks alone")
)

var asNumber = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(?i)^as(\d+)$`) })

// ReadSubject reads what was typed. name reads a name; registrable is the domain that somebody
// registered to have it.
func ReadSubject(text string, name func(string) (wire.Name, error), registrable func(wire.Name) wire.Name) (s Subject, err error) {
	s.Asked = text
	if m := asNumber().FindStringSubmatch(text); m != nil {
		n, err := strconv.ParseUint(m[1], 10, 32)
		if err != nil {
			return s, ErrSubject
		}
		s.Kind, s.Number = ANumber, uint32(n)
		return s, nil
	}
	if address, err := netip.ParseAddr(text); err == nil {
		address = address.Unmap().WithZone("")
		s.Kind, s.Prefix = AnAddress, netip.PrefixFrom(address, address.BitLen())
		return s, ownUse(address)
	}
	if p, err := netip.ParsePrefix(text); err == nil {
		s.Kind, s.Prefix = ARange, p.Masked()
		return s, ownUse(p.Addr())
	}
	if from, to, ranged := strings.Cut(text, "-"); ranged {
		first, err1 := netip.ParseAddr(strings.TrimSpace(from))
		last, err2 := netip.ParseAddr(strings.TrimSpace(to))
		if err1 == nil && err2 == nil && first.BitLen() == last.BitLen() && !last.Less(first) {
			s.Kind, s.Prefix = ARange, around(first, last)
			return s, ownUse(first)
		}
	}
	if strings.Contains(text, "/") {
		return s, ErrSubject
	}
	if s.Name, err = name(text); err != nil {
		return s, err
	}
	if s.Name.IsRoot() {
		return s, ErrSubject
	}
	s.Kind, s.Registrable = AHost, registrable(s.Name)
	if s.Registrable.Equal(s.Name) {
		s.Kind = ADomain
	}
	return s, nil
}

func ownUse(a netip.Addr) error {
	if !Public(a) {
		return ErrOwn
	}
	return nil
}

// around is the smallest network with two addresses in it.
func around(first, last netip.Addr) netip.Prefix {
	for bits := first.BitLen(); ; bits-- {
		if p, _ := first.Prefix(bits); p.Contains(last) || bits == 0 {
			return p
		}
	}
}

// Item is what was learnt of one subject.
type Item struct {
	Subject
	Addresses []netip.Addr // of a host
	Networks  []*Network   // of an address, a range, an AS number; of a host's addresses, each once
	Answer    Answer       // of a domain
	Seen      Seen         // and what the DNS says of it
	Problem   string       // why nothing was learnt; "" where something was
}

// Of returns the network of an address, nil where that is not known.
func (i *Item) Of(a netip.Addr) *Network {
	at := slices.IndexFunc(i.Networks, func(n *Network) bool { return n.Contains(a) })
	if at < 0 {
		return nil
	}
	return i.Networks[at]
}

// Report is whose some subjects are.
type Report struct {
	Items    []Item
	Notes    []string
	Findings []finding.Finding
}

// Around is what a report needs of the DNS.
type Around struct {
	LookUp func(ctx context.Context, host wire.Name) []netip.Addr // the addresses of a host
	Seen   func(ctx context.Context, domain wire.Name) Seen
}

// Whose asks whose subjects are, all at once.
func (a *Asker) Whose(ctx context.Context, subjects []Subject, dns Around) *Report {
	r := &Report{Items: make([]Item, len(subjects))}
	var wait sync.WaitGroup
	var addresses []netip.Addr
	for i, s := range subjects {
		item := &r.Items[i]
		item.Subject = s
		switch s.Kind {
		case AnAddress:
			addresses = append(addresses, s.Prefix.Addr())
		case AHost:
			wait.Go(func() { item.host(ctx, a, dns) })
		case ADomain:
			wait.Go(func() { item.Answer = a.AnswerAbout(ctx, s.Name) })
			wait.Go(func() { item.Seen = dns.Seen(ctx, s.Name) })
		case ARange:
			wait.Go(func() { item.take(a.Prefix(ctx, s.Prefix)) })
		case ANumber:
			wait.Go(func() { item.take(a.Number(ctx, s.Number)) })
		}
	}
	known, why := a.Networks(ctx, addresses)
	wait.Wait()
	for i := range r.Items {
		item := &r.Items[i]
		switch item.Kind {
		case AnAddress:
			address := item.Prefix.Addr()
			item.take(known[address], why[address])
		case ADomain:
			r.Findings = append(r.Findings, item.Answer.Judge(item.Name, item.Seen)...)
		}
		if item.Problem != "" && item.Kind != ADomain {
			f := finding.New(finding.RegistryUnreachable, finding.Concern, finding.About{Name: item.Asked}, fmt.Sprintf("Who holds %s could not be learnt: %s.", escape.Of(item.Asked), item.Problem))
			r.Findings = append(r.Findings, f)
		}
	}
	r.Notes = a.Notes()
	finding.Sort(r.Findings)
	return r
}

// take takes what came of asking.
func (i *Item) take(n *Network, err error) {
	switch {
	case n != nil:
		i.Networks = append(i.Networks, n)
	case err != nil:
		i.Problem = problem(err)
	default:
		i.Problem = "it was cut short"
	}
}

func (i *Item) host(ctx context.Context, a *Asker, dns Around) {
	i.Addresses = dns.LookUp(ctx, i.Name)
	if len(i.Addresses) == 0 {
		i.Problem = "it has no address"
		return
	}
	known, why := a.Networks(ctx, i.Addresses)
	for _, address := range i.Addresses {
		switch n := known[address.Unmap()]; {
		case n != nil && !slices.Contains(i.Networks, n):
			i.Networks = append(i.Networks, n)
		case n == nil && i.Problem == "" && why[address] != nil:
			i.Problem = problem(why[address])
		}
	}
	if len(i.Networks) > 0 {
		i.Problem = ""
	}
}

// Known reports whether anything was learnt of any of the subjects.
func (r *Report) Known() bool {
	return slices.ContainsFunc(r.Items, func(i Item) bool {
		return len(i.Networks) > 0 || i.Answer.Domain != nil || i.Answer.Unknown || len(i.Addresses) > 0
	})
}
