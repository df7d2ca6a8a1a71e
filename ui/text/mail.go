package text

import (
	"fmt"
	"net/netip"
	"strings"

	"unquil/core/dnssec"
	"unquil/core/escape"
	"unquil/core/finding"
	"unquil/core/mail"
	"unquil/core/wire"
	"unquil/core/wording"
)

// Mail draws where mail for a domain goes, and who may send it.
func (v *View) Mail(r *mail.Report) {
	if c := r.Sending.Check; c != nil {
		v.senderCheck(c)
		v.line()
	}
	lead, indent := "", 0
	if len(r.Findings) > 0 && r.Findings[0].Severity == finding.Fault { // the worst comes first
		lead, indent = severe[finding.Fault].Render("fault"), len("fault")+2
	}
	v.flow(lead, indent, strings.Replace(r.Summary(), r.Domain.Spoken(), subject.Render(r.Domain.Spoken()), 1), plainStyle)
	v.line()
	v.line(strong.Render("receiving"))
	v.mailHosts(r)
	v.mailTLS(r)
	v.line()
	v.line(strong.Render("sending"))
	v.spf(r.Sending)
	v.dmarc(r)
	v.dkim(r.Sending)
	v.Findings("what to note", r.Findings)
}

func (v *View) senderCheck(c *mail.Check) {
	style := severe[finding.Fault]
	switch c.Result {
	case mail.Pass:
		style = good
	case mail.Neutral, mail.None, mail.SoftFail:
		style = severe[finding.Concern]
	}
	v.flow(style.Render(string(c.Result)), len(c.Result)+2, c.Says()+".", plainStyle)
	v.line()
	if c.Mechanism != "" {
		by := string(c.Mechanism) + " of " + c.Path[len(c.Path)-1].Spoken()
		for i := len(c.Path) - 2; i >= 0; i-- {
			by += ", which " + c.Path[i].Spoken() + " leads to"
		}
		v.row("by", by)
	}
	if c.Why != "" {
		v.row("because", c.Why)
	}
	if c.Explanation != "" {
		v.row("it says", string(c.Explanation))
	}
	v.row("look-ups", fmt.Sprintf("%d of %d; %d of %d found nothing", c.Lookups, mail.MaxLookups, c.VoidLookups, mail.MaxVoidLookups))
	v.row("evidence", wording.Exchanges(c.Evidence))
}

func (v *View) mailHosts(r *mail.Report) {
	in := r.Receiving
	if !in.Alias.IsZero() {
		v.row("via", fmt.Sprintf("%s points (CNAME) to %s%s", r.Domain.Spoken(), in.Alias.Spoken(), v.markOf(in.Alias)))
	}
	for i := range in.Hosts {
		h := &in.Hosts[i]
		label := "MX " + fmt.Sprint(h.Preference)
		switch {
		case in.Fallback:
			label = "address"
		case i > 0 && h.Preference == in.Hosts[i-1].Preference:
			label = "or"
		}
		name := strong.Render(h.Name.Spoken()) + v.markOf(h.Name)
		if !h.Alias.IsZero() {
			name += ", an alias (CNAME) of " + h.Alias.Spoken()
		}
		v.row(label, name)
		for _, a := range h.Addresses {
			v.flow("", labelWidth+2, a.Address.String()+v.markAt(a.Address)+reverseWords(&a), plainStyle)
		}
		if len(h.Addresses) == 0 {
			words := "has no address"
			if h.Broken() {
				words = "its addresses could not be looked up"
			}
			v.flow("", labelWidth+2, words, severe[finding.Fault])
		}
		if h.TLSA != nil && len(h.TLSA.Answer().Records) > 0 {
			v.flow("", labelWidth+2, tlsaWords(h), quiet)
		}
	}
	if in.Left > 0 {
		v.More(in.Left, "mail hosts")
	}
	if len(in.Hosts) == 0 {
		v.row("MX", map[bool]string{true: "none: the domain takes no mail", false: "none, and no address either"}[in.Null])
	}
}

// tlsaWords say how many TLSA records a host has, and whether they count.
func tlsaWords(h *mail.Host) string {
	n := len(h.TLSA.Answer().Records)
	which, those := "which count", "them"
	if n == 1 {
		which, those = "which counts", "it"
	}
	counts, known := h.Counts()
	switch {
	case !known:
		which += " only if the chain of trust leads to " + those + "; that could not be checked"
	case counts:
		which += ": the chain of trust leads to " + those
	case h.Signed != nil && h.Signed.State == dnssec.Bogus:
		which = severe[finding.Fault].Render("bogus") + ": senders that check signatures do not deliver there"
	default:
		which += " for nothing: the chain of trust does not lead to " + those
	}
	return wording.Count(n, "TLSA record", "TLSA records") + ", " + which
}

func reverseWords(a *mail.HostAddress) string {
	var names []string
	for _, n := range a.Names {
		names = append(names, n.Spoken())
	}
	switch {
	case len(a.Asked) == 0:
		return ""
	case a.Unknown:
		return quiet.Render(", whose reverse name could not be looked up")
	case len(names) == 0:
		return severe[finding.Concern].Render(", without a reverse name")
	case a.Back:
		return quiet.Render(", reverse name ") + strings.Join(names, ", ")
	}
	return ", reverse name " + strings.Join(names, ", ") + severe[finding.Concern].Render(", which does not lead back")
}

func (v *View) mailTLS(r *mail.Report) {
	s := r.STS
	switch {
	case s == nil:
		v.row("MTA-STS", "no policy")
	case s.Mode == "":
		v.row("MTA-STS", "a policy is announced, and it could not be read")
	default:
		v.row("MTA-STS", fmt.Sprintf("%s, for %s; kept for %s", s.Mode, strings.Join(quoted(s.Hosts), ", "), Seconds(uint32(max(s.MaxAge, 0)))))
	}
	if r.TLSTo != nil {
		to := strings.Join(words(r.TLSTo.To), ", ")
		if r.TLSTo.Wrong != "" {
			to = "in error: " + r.TLSTo.Wrong
		}
		v.row("TLS reports", to)
	}
}

func quoted(list []string) (out []string) {
	for _, text := range list {
		out = append(out, string(escape.Of(text)))
	}
	return out
}

func words(list []escape.Text) (out []string) {
	for _, text := range list {
		out = append(out, string(text))
	}
	return out
}

// maxNetworks is how many networks are listed one by one.
const maxNetworks = 40

func (v *View) spf(s *mail.Sending) {
	t := s.Tree
	if t.Record == nil {
		v.row("SPF", map[bool]string{true: "several records, and so none counts", false: "no record"}[t.Records > 1])
		return
	}
	v.row("SPF", wording.Count(s.Lookups, "look-up", "look-ups")+fmt.Sprintf(" of at most %d", mail.MaxLookups))
	v.branches(t, 1, false)
	if s.Broken() {
		v.row("may send", severe[finding.Fault].Render("nobody as it stands")+": receivers come to a permanent error; were it not for that, these could:")
	}
	label := "may send"
	if s.Broken() {
		label = ""
	}
	for i := 0; i < len(s.Networks); i += 1 {
		if i == maxNetworks {
			v.row("", fmt.Sprintf("and %d more networks; --bare lists all", len(s.Networks)-i))
			break
		}
		v.row(label, networkText(s.Networks[i]))
		label = ""
	}
	if len(s.Networks) == 0 {
		v.row(label, map[bool]string{true: "nobody", false: "nobody who is known: look-ups fail"}[s.Whole()])
	} else {
		v.flow("", labelWidth, countedAddresses(s), quiet)
	}
	if s.Open {
		v.row("", "and others, depending on what they say or are called (--sender ADDRESS tells)")
	}
}

// networkText is a network, or the address that it is.
func networkText(p netip.Prefix) string {
	if p.IsSingleIP() {
		return p.Addr().String()
	}
	return p.String()
}

func countedAddresses(s *mail.Sending) string {
	var parts []string
	if s.V4 != "0" {
		parts = append(parts, grouped(s.V4)+" IPv4")
	}
	if s.V6 != "0" {
		digits := grouped(s.V6)
		if len(s.V6) > 9 {
			digits = fmt.Sprintf("about 10^%d", len(s.V6)-1)
		}
		parts = append(parts, digits+" IPv6")
	}
	return "in all " + strings.Join(parts, " and ") + " addresses"
}

// grouped puts commas between the thousands of digits.
func grouped(digits string) string {
	for i := len(digits) - 3; i > 0; i -= 3 {
		digits = digits[:i] + "," + digits[i:]
	}
	return digits
}

// branches draws the terms of a record as a tree: what each brings, and at what cost.
// Of a record that is included, what fits nothing leaves the decision to the one above.
func (v *View) branches(t *mail.Tree, depth int, included bool) {
	lead := strings.Repeat("  ", depth+1)
	for i := range t.Branches {
		b := &t.Branches[i]
		v.flow(lead+strong.Render(wire.Escape(b.Term.Text)), len(lead)+len(wire.Escape(b.Term.Text))+2, branchWords(b, included), plainStyle)
		if b.Below != nil && depth < 12 {
			v.branches(b.Below, depth+1, included || b.Term.Name == "include")
		}
	}
	if t.Record == nil {
		return
	}
	for _, e := range t.Record.Errors {
		v.flow(lead+severe[finding.Fault].Render("in error"), len(lead)+10, e.Error(), plainStyle)
	}
}

// branchWords say what a term brings.
func branchWords(b *mail.Branch, included bool) string {
	var parts []string
	cost := ""
	if b.Counts > 0 {
		cost = quiet.Render(" (" + wording.Count(b.Counts, "look-up", "look-ups") + ")")
		if b.From > mail.MaxLookups {
			cost = severe[finding.Fault].Render(fmt.Sprintf(" (look-up %d: never made)", b.From))
		} else if b.To > mail.MaxLookups {
			cost = severe[finding.Fault].Render(fmt.Sprintf(" (look-ups %d to %d of %d)", b.From, b.To, mail.MaxLookups))
		}
	}
	switch {
	case b.Never:
		return quiet.Render("never reached")
	case b.Term.Modifier && b.Term.Name != "redirect":
		return quiet.Render(map[bool]string{true: "what is told to whom it turns away", false: "no meaning: passed over"}[b.Term.Name == "exp"])
	case b.Term.Name == "all" && included && b.Term.Qualifier != '+':
		return quiet.Render("nobody else from here")
	case b.Term.Name == "all":
		return map[byte]string{'-': "nobody else may", '~': "nobody else should", '?': "of all others nothing is said", '+': severe[finding.Concern].Render("everybody may")}[b.Term.Qualifier]
	case b.Depends:
		parts = append(parts, "depends on the sender")
	case b.Below != nil:
		parts = append(parts, belowWords(b.Below))
	case len(b.Networks) > 0 && b.Term.Network.IsValid():
		if b.Term.Qualifier != '+' {
			return map[byte]string{'-': "may not", '~': "should not", '?': "nothing is said of it"}[b.Term.Qualifier]
		}
		return ""
	case len(b.Networks) > 0:
		for i, p := range b.Networks {
			if i == 8 {
				parts = append(parts, fmt.Sprintf("and %d more", len(b.Networks)-i))
				break
			}
			parts = append(parts, networkText(p))
		}
	case b.Voids > 0:
		parts = append(parts, severe[finding.Concern].Render("nothing is there"))
	default:
		parts = append(parts, "nothing that could be looked up")
	}
	return strings.TrimSpace(strings.Join(parts, ", ") + cost)
}

func belowWords(t *mail.Tree) string {
	bad := severe[finding.Fault].Render
	switch {
	case t.Loop:
		return bad("leads back to itself")
	case t.Skipped:
		return "not followed: too many"
	case t.Records > 1:
		return bad("has several SPF records")
	case t.Record == nil && t.Exchange != nil && !t.Exchange.Outcome.Good():
		return bad("could not be looked up: " + t.Exchange.Outcome.Words())
	case t.Record == nil:
		return bad("has no SPF record")
	}
	return ""
}

func (v *View) dmarc(r *mail.Report) {
	d := r.Sending.DMARC
	if d == nil {
		v.row("DMARC", map[bool]string{true: "several records, and so none counts", false: "no record"}[r.Sending.Policies > 1])
		return
	}
	v.row("DMARC", fmt.Sprintf("%s: %s", d.Policy, r.Forged()))
	if !d.At.Equal(r.Domain) {
		v.row("", "as "+d.At.Spoken()+" says for what is below it")
	}
	if d.At.Equal(r.Domain) && d.Subdomains != d.Policy {
		v.row("", "for what is below it: "+d.Subdomains)
	}
	if d.StrictSPF || d.StrictDKIM {
		v.row("", "strict: the domain itself has to sign or send, and not one below or beside it")
	}
	if len(d.Reports) > 0 {
		v.row("reports", strings.Join(words(d.Reports), ", "))
	}
}

func (v *View) dkim(s *mail.Sending) {
	if len(s.DKIM) == 0 {
		v.row("DKIM", quiet.Render("not looked at: selectors cannot be listed; --selector takes the s= of a mail's DKIM-Signature"))
	}
	for i, k := range s.DKIM {
		label := map[bool]string{true: "DKIM"}[i == 0]
		words := k.Kind
		switch {
		case k.Broke:
			words = "could not be looked up"
		case k.Missing:
			words = "no key"
		case k.Wrong != "":
			words = severe[finding.Fault].Render("in error: ") + k.Wrong
		case k.Revoked:
			words = severe[finding.Concern].Render("revoked")
		case k.Bits > 0:
			words += fmt.Sprintf(", %d bits", k.Bits)
		}
		if k.Testing {
			words += ", in testing: failures are not to count"
		}
		v.row(label, string(k.Selector)+": "+words)
	}
}

// BareMail draws the networks that may send, one a line; none of a record that is void.
func (v *View) BareMail(r *mail.Report) {
	if c := r.Sending.Check; c != nil {
		v.line(string(c.Result))
		return
	}
	if r.Sending.Broken() {
		return
	}
	for _, p := range r.Sending.Networks {
		v.line(p.String())
	}
}
