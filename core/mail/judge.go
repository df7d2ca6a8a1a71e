package mail

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"unquil/core/dnssec"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/core/wording"
)

// judge finds what is wrong. A fault is only what makes mail fail or be refused now.
func (r *Report) judge() {
	if r.Receiving != nil {
		r.judgeReceiving()
		r.judgeSTS()
	}
	if r.Sending != nil {
		r.judgeSPF()
		r.judgeDMARC()
		r.judgeDKIM()
	}
	r.Findings = finding.Merge(r.Findings)
	finding.Sort(r.Findings)
}

func (r *Report) find(code finding.Code, severity finding.Severity, e *exchange.Exchange, format string, args ...any) *finding.Finding {
	about := finding.About{Name: r.Domain.String()} // and not who gave the records: that is no fault of theirs
	if e != nil && e.Number > 0 {
		about.Type = e.Question.Type.String()
	}
	f := finding.New(code, severity, about, fmt.Sprintf(format, args...))
	if e != nil && e.Number > 0 {
		f.AddEvidence(e.Number)
	}
	r.Findings = append(r.Findings, f)
	return &r.Findings[len(r.Findings)-1]
}

// failures are the findings of exchanges that came to neither an answer nor a denial.
var failures = map[exchange.Outcome]finding.Code{exchange.ServerFailure: finding.ServerFailure, exchange.NoReply: finding.NoReply, exchange.Refused: finding.Refused, exchange.Unreachable: finding.Unreachable}

// unknown tells that something could not be looked up, and what that makes of it.
func (r *Report) unknown(e *exchange.Exchange, so string) {
	if e == nil || e.Outcome == "" {
		return // it was cut short, or there were too many
	}
	code, known := failures[e.Outcome]
	if !known {
		code = finding.Failed
	}
	f := r.find(code, finding.Fault, e, "%s could not be looked up (%s): %s.", e.Question.Spoken(), e.Outcome, so)
	about := finding.AboutExchange(e)
	f.About.Server, f.About.Address = about.Server, about.Address
	f.Next = fmt.Sprintf("Trace %s for %s, to see which server on its way fails.", e.Question.Name.Spoken(), e.Question.Type)
}

func spoken(names []wire.Name) string {
	var words []string
	for _, n := range names {
		words = append(words, n.Spoken())
	}
	return strings.Join(words, ", ")
}

func (r *Report) judgeReceiving() {
	in, domain := r.Receiving, r.Domain.Spoken()
	reachable := 0
	for i := range in.Hosts {
		if len(in.Hosts[i].Addresses) > 0 {
			reachable++
		}
	}
	switch {
	case broke(in.Exchange):
		r.unknown(in.Exchange, "senders keep mail for it, and try again")
		return
	case in.Mixed:
		r.find(finding.MailRefused, finding.Concern, in.Exchange, "%s says that it takes no mail (a null MX), and names mail hosts all the same.", domain).Next =
			"Ask the zone's operator to remove the null MX, or the others."
	case in.Null:
		r.find(finding.MailRefused, finding.Note, in.Exchange, "%s takes no mail, and says so (a null MX).", domain)
		return
	case len(in.Hosts) == 0:
		severity := finding.Fault
		if r.Sending != nil && r.Sending.Tree != nil && r.Sending.nobody() {
			severity = finding.Note // it is not meant for mail at all
		}
		r.find(finding.MailNowhere, severity, in.Exchange, "Mail for %s goes nowhere: it has neither MX records nor an address.", domain)
		return
	case in.Fallback:
		r.find(finding.MXFallback, finding.Note, in.Exchange, "%s has no MX records: mail goes to its own addresses.", domain)
	}
	r.judgeSigned(in.Signed, finding.Fault, r.Domain, "senders that check signatures keep mail back")
	for i := range in.Hosts {
		r.judgeHost(&in.Hosts[i], reachable)
	}
	if reachable == 0 && !in.Fallback && !slices.ContainsFunc(in.Hosts, func(h Host) bool { return h.Broken() }) {
		f := r.find(finding.MailNowhere, finding.Fault, in.Exchange, "Mail for %s goes nowhere: none of its mail hosts has an address.", domain)
		for i := range in.Hosts {
			f.AddEvidence(in.Hosts[i].Asked[0].Number, in.Hosts[i].Asked[1].Number)
		}
	}
	networks := map[netip.Prefix]bool{}
	var evidence []int
	for i := range in.Hosts {
		for _, a := range in.Hosts[i].Addresses {
			networks[a.Network] = true
		}
		evidence = append(evidence, in.Hosts[i].Asked[0].Number, in.Hosts[i].Asked[1].Number)
	}
	if reachable > 1 && len(networks) == 1 {
		for only := range networks {
			r.find(finding.OneNetwork, finding.Concern, in.Exchange, "The %d mail hosts of %s are all in one network, %s.", reachable, domain, only).AddEvidence(evidence...)
		}
	}
}

func (r *Report) judgeHost(h *Host, reachable int) {
	e := r.Receiving.Exchange
	points := fmt.Sprintf("The MX record of %s points to %s", r.Domain.Spoken(), h.Name.Spoken())
	evidence := []int{h.Asked[0].Number, h.Asked[1].Number}
	if !h.Alias.IsZero() && !r.Receiving.Fallback {
		r.find(finding.TargetIsAlias, finding.Concern, e, "%s, which is an alias (CNAME).", points).AddEvidence(evidence...)
	}
	severity := finding.Fault
	if reachable > 0 {
		severity = finding.Concern
	}
	switch {
	case h.Broken():
		at := slices.IndexFunc(h.Asked[:], func(x *exchange.Exchange) bool { return broke(x) })
		f := r.find(finding.TargetUnresolvable, severity, e, "%s, whose address cannot be looked up (%s).", points, outcomeOf(h.Asked[at]))
		f.Sure, f.Next = finding.Likely, fmt.Sprintf("Trace %s, to see which server on its way fails.", h.Name.Spoken())
		f.AddEvidence(evidence...)
	case len(h.Addresses) == 0 && !r.Receiving.Fallback:
		r.find(finding.TargetUnresolvable, severity, e, "%s, which has no address.", points).AddEvidence(evidence...)
	}
	for i := range h.Addresses {
		r.judgeReverse(h, &h.Addresses[i])
	}
	r.judgeTLSA(h, severity)
}

// judgeTLSA judges the TLSA records of a host: what is bogus has senders wait, and what is not signed they
// pass over (RFC 7672 §2.1.1, §2.1.2).
func (r *Report) judgeTLSA(h *Host, severity finding.Severity) {
	if h.TLSA == nil {
		return
	}
	mx := r.Receiving.Signed
	if !mx.bogus() { // else it has been told
		r.judgeSigned(h.Signed, severity, h.Name, "senders that check signatures do not deliver there")
	}
	counts, known := h.Counts()
	switch {
	case broke(h.TLSA) || h.Signed.bogus() || counts || !known:
	case h.Unsigned != nil:
		r.find(finding.TLSAInsecure, finding.Concern, h.TLSA, "%s has TLSA records, and its zone is not signed: senders pass over them.", h.Name.Spoken()).AddEvidence(h.Unsigned.Number)
	default:
		ends := "the chain of trust ends at " + h.Signed.Zone.Spoken()
		if last := len(h.Signed.Chain) - 1; last >= 0 && h.Signed.Chain[last].Zone.Equal(h.Signed.Zone) && h.Signed.Chain[last].Unsigned && h.Signed.Break == nil {
			ends = h.Signed.Zone.Spoken() + " is not signed"
		}
		r.find(finding.TLSAInsecure, finding.Concern, h.TLSA, "%s has TLSA records, and %s: senders pass over them.", h.Name.Spoken(), ends).AddEvidence(h.Signed.Evidence...)
	}
	if counts && mx != nil && mx.State == dnssec.Insecure && !r.Receiving.Fallback {
		r.find(finding.TLSAInsecure, finding.Note, h.TLSA, "The TLSA records of %s count, and the MX records of %s, which lead there, are not signed: somebody who forges those gets round them.", h.Name.Spoken(), r.Domain.Spoken()).AddEvidence(mx.Evidence...)
	}
}

// judgeReverse judges the reverse names of an address: receivers refuse mail of hosts without,
// so it matters where the host sends too.
func (r *Report) judgeReverse(h *Host, a *HostAddress) {
	if len(a.Asked) == 0 || a.Unknown || a.Back {
		return
	}
	severity := finding.Note
	sends := ""
	if s := r.Sending; s != nil && s.Tree != nil && slices.ContainsFunc(s.Networks, func(p netip.Prefix) bool { return p.Contains(a.Address) }) {
		severity, sends = finding.Concern, "; it may send too, and receivers refuse mail from such an address"
	}
	e := a.Asked[0]
	var f *finding.Finding
	if len(a.Names) == 0 {
		f = r.find(finding.ReverseMissing, severity, e, "%s, an address of the mail host %s, has no reverse name%s.", a.Address, h.Name.Spoken(), sends)
	} else {
		f = r.find(finding.ReverseMismatch, severity, e, "%s, an address of the mail host %s, has the reverse name %s, which does not lead back to it%s.", a.Address, h.Name.Spoken(), spoken(a.Names), sends)
	}
	for _, x := range a.Asked[1:] {
		f.AddEvidence(x.Number)
	}
}

func (r *Report) judgeSTS() {
	s := r.STS
	if s == nil {
		return
	}
	domain := r.Domain.Spoken()
	switch {
	case s.Wrong != "":
		r.find(finding.STSUnreachable, finding.Concern, r.stsAt, "%s announces a policy for TLS (MTA-STS), and senders cannot use it: %s.", domain, s.Wrong)
	case s.Broke != "":
		r.find(finding.STSUnreachable, finding.Concern, r.stsAt, "%s announces a policy for TLS (MTA-STS), and it cannot be fetched: %s.", domain, s.Broke)
	case s.Mode == "enforce" || s.Mode == "testing":
		var outside []wire.Name
		for i := range r.Receiving.Hosts {
			if h := &r.Receiving.Hosts[i]; !h.Covered {
				outside = append(outside, h.Name)
			}
		}
		if len(outside) == 0 {
			return
		}
		severity, so := finding.Concern, "senders that honour it do not deliver there"
		switch {
		case s.Mode == "testing":
			so = "it is in testing, and mail is delivered all the same"
		case len(outside) == len(r.Receiving.Hosts):
			severity, so = finding.Fault, "senders that honour it deliver nothing"
		}
		r.find(finding.STSDiffers, severity, r.stsAt, "The policy for TLS (MTA-STS) of %s does not match %s: %s.", domain, spoken(outside), so).AddEvidence(r.Receiving.Exchange.Number)
	}
}

// nobody reports whether the SPF record lets nobody send.
func (s *Sending) nobody() bool {
	return s.Tree.Record != nil && len(s.Networks) == 0 && !s.Open && !s.Broken() && s.Whole()
}

// problem is what makes a receiver come to a permanent error somewhere below a record.
type problem struct {
	code finding.Code
	at   *exchange.Exchange
	says string
}

// broken are the problems below a record.
func (t *Tree) broken() (all []problem) {
	for i := range t.Branches {
		b := &t.Branches[i]
		if b.Never || b.Below == nil {
			continue
		}
		below := b.Below
		verb := "includes"
		if b.Term.Name == "redirect" {
			verb = "redirects to"
		}
		leads := fmt.Sprintf("The SPF record of %s %s %s", t.Domain.Spoken(), verb, below.Domain.Spoken())
		switch {
		case below.Loop:
			all = append(all, problem{finding.SPFLoop, t.Exchange, leads + ", which leads back to it"})
		case below.Skipped || broke(below.Exchange):
		case below.Records == 0:
			all = append(all, problem{finding.SPFIncludeMissing, below.Exchange, leads + ", which has no SPF record"})
		case below.Records > 1:
			all = append(all, problem{finding.SPFSeveral, below.Exchange, fmt.Sprintf("%s, which has %d SPF records", leads, below.Records)})
		case len(below.Record.Errors) > 0:
			all = append(all, problem{finding.SPFSyntax, below.Exchange, fmt.Sprintf("%s, whose record is in error: %v", leads, below.Record.Errors[0])})
		}
		all = append(all, below.broken()...)
	}
	return all
}

// failed are the look-ups below a record that came to nothing that could be known.
func (t *Tree) failed() (all []*exchange.Exchange) {
	for i := range t.Branches {
		b := &t.Branches[i]
		for _, e := range b.Asked {
			if broke(e) && e.Outcome != "" {
				all = append(all, e)
				break
			}
		}
		if b.Below != nil {
			all = append(all, b.Below.failed()...)
		}
	}
	return all
}

// tooMany is how many addresses of IPv4 no sender needs: more than a /8 has.
const tooMany = 8

func (r *Report) judgeSPF() {
	s, domain := r.Sending, r.Domain.Spoken()
	t := s.Tree
	if broke(t.Exchange) {
		r.unknown(t.Exchange, "receivers come to a temporary error")
		return
	}
	refused := "receivers come to a permanent error, and many then refuse its mail"
	switch {
	case t.Records == 0:
		if r.Receiving == nil || !r.Receiving.Null {
			r.find(finding.SPFMissing, finding.Concern, t.Exchange, "%s does not say who may send its mail: it has no SPF record.", domain)
		}
		return
	case t.Records > 1:
		r.find(finding.SPFSeveral, finding.Fault, t.Exchange, "%s has %d SPF records: %s.", domain, t.Records, refused)
		return
	}
	for _, e := range t.Record.Errors {
		r.find(finding.SPFSyntax, finding.Fault, t.Exchange, "The SPF record of %s is in error: %v; %s.", domain, e, refused)
	}
	for _, e := range t.failed() {
		r.unknown(e, "what depends on it in the SPF record of "+domain+" comes to a temporary error")
	}
	for _, p := range t.broken() {
		f := r.find(p.code, finding.Fault, p.at, "%s: %s.", p.says, refused)
		if t.Exchange != p.at {
			f.AddEvidence(t.Exchange.Number)
		}
	}
	if s.Lookups > MaxLookups {
		r.find(finding.SPFTooManyLookups, finding.Fault, t.Exchange, "The SPF record of %s takes %s, and at most %d are allowed: %s.", domain, wording.Count(s.Lookups, "look-up", "look-ups"), MaxLookups, refused).AddEvidence(t.evidence()...)
	}
	if s.Voids > MaxVoidLookups {
		r.find(finding.SPFVoidLookups, finding.Fault, t.Exchange, "%s of the SPF record of %s find nothing, and at most %d are allowed: %s.", wording.Count(s.Voids, "look-up", "look-ups"), domain, MaxVoidLookups, refused).AddEvidence(t.evidence()...)
	}
	for _, wide := range s.Networks {
		if wide.Addr().Is4() && wide.Bits() < tooMany || wide.Addr().Is6() && wide.Bits() < 16 {
			r.find(finding.SPFLetsAll, finding.Concern, t.Exchange, "The SPF record of %s lets %s send its mail.", domain, everybody(wide))
			break
		}
	}
}

func everybody(p netip.Prefix) string {
	if p.Bits() == 0 {
		return "everybody"
	}
	return "everybody in " + p.String()
}

// evidence are the exchanges of a record and of all below.
func (t *Tree) evidence() (numbers []int) {
	if t.Exchange != nil && t.Exchange.Number > 0 {
		numbers = append(numbers, t.Exchange.Number)
	}
	for i := range t.Branches {
		for _, e := range t.Branches[i].Asked {
			if e.Number > 0 {
				numbers = append(numbers, e.Number)
			}
		}
		if t.Branches[i].Below != nil {
			numbers = append(numbers, t.Branches[i].Below.evidence()...)
		}
	}
	slices.Sort(numbers)
	return slices.Compact(numbers)
}

func (r *Report) judgeDMARC() {
	s, domain := r.Sending, r.Domain.Spoken()
	switch {
	case broke(s.dmarcAt):
		return
	case s.Policies > 1:
		r.find(finding.DMARCSyntax, finding.Concern, s.dmarcAt, "%s has %d DMARC records: receivers pass over them all.", domain, s.Policies)
		return
	case s.DMARC == nil:
		r.find(finding.DMARCMissing, finding.Concern, s.dmarcAt, "%s does not say what to do with forged mail: it has no DMARC record.", domain)
		return
	case s.DMARC.Wrong != "":
		so := "receivers pass over it"
		if !s.DMARC.Void() {
			so = "the rest of it counts"
		}
		r.find(finding.DMARCSyntax, finding.Concern, s.dmarcAt, "The DMARC record of %s is in error: %s; %s.", s.DMARC.At.Spoken(), s.DMARC.Wrong, so)
	}
	for _, to := range sortedNames(s.reports) {
		e := s.reports[to]
		if broke(e) || slices.ContainsFunc(texts(e), IsDMARC) {
			continue
		}
		r.find(finding.DMARCReportsNotAllowed, finding.Concern, e, "DMARC reports about %s are to go to %s, which does not say that it takes them: they are not sent.", s.DMARC.At.Spoken(), to).AddEvidence(s.dmarcAt.Number)
	}
}

func sortedNames(m map[string]*exchange.Exchange) (names []string) {
	for name := range m {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// How long an RSA key has to be (RFC 8301 §3.2).
const (
	leastBits  = 1024
	shouldBits = 2048
)

func (r *Report) judgeDKIM() {
	for i := range r.Sending.DKIM {
		k := &r.Sending.DKIM[i]
		add := func(code finding.Code, severity finding.Severity, format string, args ...any) {
			f := r.find(code, severity, nil, format, args...)
			if f.About.Name = k.Name.String(); k.Evidence > 0 {
				f.AddEvidence(k.Evidence)
			}
		}
		name := fmt.Sprintf("The DKIM key %s of %s", k.Selector, r.Domain.Spoken())
		switch {
		case k.Broke:
		case k.Missing:
			add(finding.DKIMMissing, finding.Concern, "%s is not there: mail that is signed with it fails.", name)
		case k.Wrong != "":
			add(finding.DKIMSyntax, finding.Fault, "%s cannot be used: %s.", name, k.Wrong)
		case k.Revoked:
			add(finding.DKIMRevoked, finding.Concern, "%s was revoked: mail that is signed with it fails.", name)
		case k.Kind == "rsa" && k.Bits < leastBits:
			add(finding.DKIMKeyWeak, finding.Fault, "%s has %d bits: receivers do not accept fewer than %d.", name, k.Bits, leastBits)
		case k.Kind == "rsa" && k.Bits < shouldBits:
			add(finding.DKIMKeyWeak, finding.Concern, "%s has %d bits; %d are recommended.", name, k.Bits, shouldBits)
		}
	}
}
