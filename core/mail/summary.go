package mail

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"unquil/core/wording"
)

// Summary says in one sentence where mail goes, who may send it, and what becomes of forged
// mail.
func (r *Report) Summary() string {
	return strings.Join([]string{r.goes(), r.maySend(), r.Forged()}, "; ") + "."
}

// goes says where mail for the domain goes.
func (r *Report) goes() string {
	in, domain := r.Receiving, r.Domain.Spoken()
	switch {
	case broke(in.Exchange):
		return fmt.Sprintf("Where mail for %s goes is not known (%s)", domain, outcomeOf(in.Exchange))
	case in.Null && !in.Mixed:
		return domain + " takes no mail"
	case len(in.Hosts) == 0:
		return "Mail for " + domain + " goes nowhere"
	case !in.Fallback && !slices.ContainsFunc(in.Hosts, func(h Host) bool { return len(h.Addresses) > 0 || h.Broken() }):
		return "Mail for " + domain + " goes nowhere: none of its mail hosts has an address"
	case in.Fallback:
		return "Mail for " + domain + " goes to its own address, as it has no MX records"
	}
	var words []string
	for i := range in.Hosts {
		h := &in.Hosts[i]
		switch {
		case i == 0:
			words = append(words, h.Name.Spoken())
		case h.Preference == in.Hosts[i-1].Preference:
			words = append(words, "or "+h.Name.Spoken())
		default:
			words = append(words, "then "+h.Name.Spoken())
		}
	}
	const most = 4
	if left := len(words) - most + in.Left; left > 0 && len(words) > most {
		words = append(words[:most], fmt.Sprintf("and %d more", left))
	}
	return "Mail for " + domain + " goes to " + strings.Join(words, ", ")
}

// maySend says who may send.
func (r *Report) maySend() string {
	s := r.Sending
	t := s.Tree
	switch {
	case broke(t.Exchange):
		return "who may send it is not known (" + outcomeOf(t.Exchange) + ")"
	case t.Records == 0:
		return "it does not say who may send its mail"
	case s.Broken():
		return s.error() + ", so receivers come to a permanent error"
	case !s.Whole():
		return "who may send it is not wholly known, as look-ups fail"
	case s.nobody():
		return "nobody may send mail for it"
	case slices.Contains(s.Networks, netip.PrefixFrom(netip.IPv4Unspecified(), 0)):
		return "everybody may send it"
	}
	words := ""
	switch n := len(s.Networks); {
	case n == 0:
		return "who may send it depends on the sender"
	case n > 1:
		words = wording.Count(n, "network", "networks") + " may send it"
	case s.Networks[0].IsSingleIP():
		words = s.Networks[0].Addr().String() + " may send it"
	default:
		words = s.Networks[0].String() + " may send it"
	}
	if s.Open {
		words += ", and others, depending on the sender"
	}
	return words
}

// error says what makes the SPF record void.
func (s *Sending) error() string {
	t := s.Tree
	switch broken := t.broken(); {
	case t.Records > 1:
		return fmt.Sprintf("it has %d SPF records", t.Records)
	case len(t.Record.Errors) > 0:
		return fmt.Sprintf("its SPF record is in error at %q", t.Record.Errors[0].Word)
	case len(broken) > 0:
		says := strings.Replace(broken[0].says, "The SPF record of "+t.Domain.Spoken()+" ", "its SPF record ", 1)
		return strings.Replace(says, "The SPF", "the SPF", 1)
	case s.Lookups > MaxLookups:
		return fmt.Sprintf("its SPF record takes %s, and at most %d are allowed", wording.Count(s.Lookups, "look-up", "look-ups"), MaxLookups)
	}
	return fmt.Sprintf("%s of its SPF record find nothing, and at most %d are allowed to", wording.Count(s.Voids, "look-up", "look-ups"), MaxVoidLookups)
}

// Forged says what becomes of mail that others send in the domain's name.
func (r *Report) Forged() string {
	s := r.Sending
	d := s.DMARC
	switch {
	case broke(s.dmarcAt):
		return "what becomes of forged mail is not known"
	case d == nil || d.Void() || s.Policies > 1:
		return "forged mail is let through, unless a receiver decides otherwise"
	case d.Policy == "none":
		return "forged mail is let through, and reported at the most"
	}
	words := map[string]string{"quarantine": "forged mail is put aside as spam", "reject": "forged mail is refused"}[d.Policy]
	switch {
	case d.Testing:
		words += " once the policy is no longer in testing"
	case d.Percent < 100:
		words += fmt.Sprintf(" (%d %% of it)", d.Percent)
	}
	return words
}

// Says is what a check came to, in words.
func (c *Check) Says() string {
	who := fmt.Sprintf("%s may send mail for %s", c.Sender, c.Identity)
	switch c.Result {
	case Pass:
		return who
	case Fail:
		return fmt.Sprintf("%s may not send mail for %s: receivers refuse it", c.Sender, c.Identity)
	case SoftFail:
		return fmt.Sprintf("%s should not send mail for %s: receivers let it through with suspicion", c.Sender, c.Identity)
	case Neutral:
		return fmt.Sprintf("nothing is said of whether %s may send mail for %s", c.Sender, c.Identity)
	case None:
		return fmt.Sprintf("whether %s may send mail for %s cannot be told: there is no SPF record", c.Sender, c.Identity)
	case TempError:
		return fmt.Sprintf("whether %s may send mail for %s cannot be told now: a look-up failed", c.Sender, c.Identity)
	}
	return fmt.Sprintf("whether %s may send mail for %s cannot be told: the record is in error", c.Sender, c.Identity)
}
