package mail

import (
	"context"
	"fmt"

	"unquil/core/dnssec"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// Signed is what the signatures make of some records that mail depends on.
type Signed struct {
	dnssec.Result
	Exchange *exchange.Exchange // that asked for them
	Evidence []int              // what was asked to check them
}

// signatures has the signatures over an answer judged; nil where they are left alone.
func (a *Asker) signatures(ctx context.Context, e *exchange.Exchange) *Signed {
	if a.Judge == nil || e == nil || e.Number == 0 {
		return nil
	}
	return a.Judge(ctx, e)
}

// bogus reports whether senders that check signatures do not accept the records.
func (s *Signed) bogus() bool { return s != nil && s.State == dnssec.Bogus && s.Break != nil }

// Counts reports whether a host's TLSA records count (RFC 7672 §2.2); known is false where it was not to
// be found out.
func (h *Host) Counts() (counts, known bool) {
	switch {
	case h.Unsigned != nil:
		return false, true
	case h.Signed == nil || h.Signed.State == dnssec.Indeterminate:
		return false, false
	}
	return h.Signed.State == dnssec.Secure, true
}

// judgeSigned tells of records that no sender accepts who checks signatures; so says what that does to
// mail.
func (r *Report) judgeSigned(s *Signed, severity finding.Severity, owner wire.Name, so string) {
	if !s.bogus() || s.Break.Zone.IsRoot() { // of the root's, this machine's clock or anchors may be at fault
		return
	}
	b := s.Break
	f := r.find(finding.Code(b.Flaw), severity, s.Exchange, "%s: %s.", b.Sentence(), so)
	f.About.Name, f.About.Zone = owner.String(), b.Zone.String()
	f.AddEvidence(s.Evidence...)
	f.Next = fmt.Sprintf("Trace %s for %s: it shows which signature, key or DS record is wrong, and on which server.", s.Exchange.Question.Name.Spoken(), s.Exchange.Question.Type)
}
