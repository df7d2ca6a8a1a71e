package mail

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/idn"
	"unquil/core/wire"
)

// Report is where mail for a domain goes, and who may send it.
type Report struct {
	Domain    wire.Name
	Receiving *Receiving  // nil: not asked
	Sending   *Sending    // nil: not asked
	STS       *STS        // nil: no record
	TLSTo     *TLSReports // nil: no record
	Findings  []finding.Finding

	stsAt, tlsAt *exchange.Exchange
}

// Sending is who may send mail for a domain.
type Sending struct {
	Tree     *Tree
	Lookups  int            // of an evaluation that nothing ends
	Voids    int            // void ones among them
	Networks []netip.Prefix // that may send, joined
	V4, V6   string         // how many addresses that is, in digits
	Open     bool           // others may send too, depending on what they say or are called
	Check    *Check         // of one sender; nil: none was asked about
	DMARC    *DMARC         // nil: no record
	Policies int            // how many DMARC records there are
	DKIM     []DKIM

	dmarcAt *exchange.Exchange
	reports map[string]*exchange.Exchange // by domain that reports go to: whether it allows that
}

// Broken reports whether the SPF record is void as a whole: receivers come to a permanent error.
func (s *Sending) Broken() bool {
	t := s.Tree
	return t.Records > 1 || t.Record != nil && (len(t.Record.Errors) > 0 || s.Lookups > MaxLookups || s.Voids > MaxVoidLookups || len(t.broken()) > 0)
}

// Whole reports whether all that the SPF record leads to could be looked up.
func (s *Sending) Whole() bool { return len(s.Tree.failed()) == 0 }

// Options say what is looked at.
type Options struct {
	Receiving, Sending bool
	Selectors          []string // of DKIM keys
	Sender             *Sender  // to be checked; nil: none
	// Policy fetches the policy file of a host; nil: it is not fetched.
	Policy func(ctx context.Context, host wire.Name, addresses []netip.Addr) (text string, err error)
}

// Of looks at the mail of a domain, everything at once that does not depend on what came before.
func (a *Asker) Of(ctx context.Context, domain wire.Name, o Options) *Report {
	r := &Report{Domain: domain}
	var wait sync.WaitGroup
	if o.Receiving {
		wait.Go(func() { r.Receiving = a.receive(ctx, domain, true) })
		wait.Go(func() { a.sts(ctx, r, o) })
		wait.Go(func() { a.tlsReports(ctx, r) })
	}
	if o.Sending {
		s := &Sending{reports: map[string]*exchange.Exchange{}}
		r.Sending = s
		wait.Go(func() { s.Tree = a.grow(ctx, domain, nil, &budget{left: maxRecords}) })
		wait.Go(func() { a.dmarc(ctx, domain, s) })
		s.DKIM = make([]DKIM, len(o.Selectors))
		for i, selector := range o.Selectors {
			wait.Go(func() { s.DKIM[i] = a.dkim(ctx, domain, selector) })
		}
		if o.Sender != nil {
			wait.Go(func() { s.Check = a.May(ctx, *o.Sender) })
		}
	}
	wait.Wait()
	if s := r.Sending; s != nil {
		s.Lookups, s.Voids = s.Tree.count(0)
		pass, _, open := s.Tree.may()
		v4, v6 := pass.count()
		s.Networks, s.Open, s.V4, s.V6 = pass.prefixes(), open, v4.String(), v6.String()
	}
	if r.STS != nil && r.Receiving != nil {
		for i := range r.Receiving.Hosts {
			h := &r.Receiving.Hosts[i]
			h.Covered = r.STS.Covers(h.Name)
		}
	}
	r.judge()
	return r
}

// sts looks up the policy for TLS.
func (a *Asker) sts(ctx context.Context, r *Report, o Options) {
	name, err := r.Domain.Child("_mta-sts")
	if err != nil {
		return
	}
	r.stsAt = a.Ask(ctx, name, wire.TXT)
	found := textsThat(IsSTS, r.stsAt)
	switch {
	case len(found) == 0:
		return
	case len(found) > 1:
		r.STS = &STS{Wrong: fmt.Sprintf("there are %d MTA-STS records", len(found))}
		return
	}
	r.STS = ReadSTSRecord(found[0])
	host, err := r.Domain.Child("mta-sts")
	if err != nil || o.Policy == nil {
		return
	}
	both := a.both(ctx, host)
	addresses := addressesOf(both[:]...)
	if len(addresses) == 0 {
		r.STS.Broke = fmt.Sprintf("%s has no address", host.Spoken())
		return
	}
	text, err := o.Policy(ctx, host, addresses)
	if err != nil {
		r.STS.Broke = string(escape.Of(err.Error()))
		return
	}
	r.STS.ReadPolicy(text)
}

func (a *Asker) tlsReports(ctx context.Context, r *Report) {
	name, err := r.Domain.Child("_tls")
	if err == nil {
		name, err = name.Child("_smtp")
	}
	if err != nil {
		return
	}
	r.tlsAt = a.Ask(ctx, name, wire.TXT)
	switch found := textsThat(IsTLSReports, r.tlsAt); len(found) {
	case 0:
	case 1:
		r.TLSTo = ReadTLSReports(found[0])
	default: // and so none counts (RFC 8460 §3)
		r.TLSTo = &TLSReports{Wrong: fmt.Sprintf("there are %d records, and only one may be", len(found))}
	}
}

// dmarc looks up the policy of a domain, or else that of its organisational domain.
func (a *Asker) dmarc(ctx context.Context, domain wire.Name, s *Sending) {
	org := idn.Registrable(domain)
	for _, at := range []wire.Name{domain, org} {
		name, err := at.Child("_dmarc")
		if err != nil {
			continue
		}
		s.dmarcAt = a.Ask(ctx, name, wire.TXT)
		found := textsThat(IsDMARC, s.dmarcAt)
		if s.Policies = len(found); s.Policies == 1 {
			s.DMARC = ReadDMARC(found[0], !at.Equal(domain))
			s.DMARC.At = at
		}
		if s.Policies > 0 || broke(s.dmarcAt) || at.Equal(org) {
			break
		}
	}
	if s.DMARC == nil {
		return
	}
	for _, to := range s.DMARC.reportDomains() {
		if idn.Registrable(to).Equal(org) || len(s.reports) >= maxHosts {
			continue
		}
		name, err := wire.ParseName(s.DMARC.At.Spoken() + "._report._dmarc." + to.Spoken())
		if err == nil {
			s.reports[to.Spoken()] = a.Ask(ctx, name, wire.TXT)
		}
	}
}

// dkim looks up one key.
func (a *Asker) dkim(ctx context.Context, domain wire.Name, selector string) DKIM {
	name, err := wire.ParseName(strings.TrimSuffix(selector, ".") + "._domainkey." + domain.Spoken())
	if err != nil {
		return DKIM{Selector: escape.Of(selector), Wrong: "the selector is no name: " + err.Error()}
	}
	e := a.Ask(ctx, name, wire.TXT)
	var k DKIM
	switch found := texts(e); {
	case broke(e):
		k.Broke = true
	case len(found) == 0:
		k.Missing = true
	default:
		k = ReadDKIM(found[0])
		if len(found) > 1 {
			k.Wrong = fmt.Sprintf("there are %d records, and only one may be", len(found))
		}
	}
	k.Selector, k.Name, k.Evidence = escape.Of(selector), name, e.Number
	return k
}

// Forget takes out of the report what it says of selectors that were only tried, and have no
// key.
func (r *Report) Forget(tried []string) {
	if r.Sending == nil {
		return
	}
	for _, selector := range tried {
		r.Sending.DKIM = slices.DeleteFunc(r.Sending.DKIM, func(k DKIM) bool { return k.Missing && string(k.Selector) == selector })
		r.Findings = slices.DeleteFunc(r.Findings, func(f finding.Finding) bool {
			return f.Code == finding.DKIMMissing && strings.HasPrefix(f.About.Name, strings.ToLower(selector)+"._domainkey.")
		})
	}
}
