package probe

import (
	"context"
	"slices"

	"unquil/core/dnssec"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// Validated is what the signatures make of an answer, by the records of the server that gave it.
type Validated struct {
	Exchange *exchange.Exchange // of the answer
	Signed   *exchange.Exchange // the same asked for with signatures, and without the server's own checks
	dnssec.Result
	Claims   bool                 // the server says that it has checked the answer itself (AD)
	Unsigned bool                 // the server hands on no signature at all, not even of the root's keys
	Fetched  []*exchange.Exchange // what was asked for to check it, where nothing before had asked for that
}

// Checking is whether a server checks signatures itself, as far as one answer shows.
type Checking string

// What an answer shows of that.
const (
	ChecksAndSays Checking = "says-so" // it sets AD
	ChecksBogus   Checking = "refuses" // it fails where what it has is bogus
	ChecksNot     Checking = "no"      // it hands on what is bogus
	ChecksUnsaid  Checking = "unsaid"  // the answer is signed and good, and it does not say that it has looked
	ChecksUnknown Checking = "unknown" // nothing that it gave can tell
)

// Checking is what the answer shows of whether the server checks signatures itself.
func (v *Validated) Checking() Checking {
	switch {
	case v.Claims:
		return ChecksAndSays
	case v.Unsigned:
		return ChecksUnknown
	case v.State == dnssec.Bogus && v.Exchange.Outcome == exchange.ServerFailure:
		return ChecksBogus
	case v.State == dnssec.Bogus && v.Exchange.Outcome.Good():
		return ChecksNot
	case v.State == dnssec.Secure && v.Exchange.Outcome.Good():
		return ChecksUnsaid
	}
	return ChecksUnknown
}

// fromResolver has a resolver fetch keys and digests, without judging them.
type fromResolver struct {
	Prober
	server exchange.Server
	seen   *bool                 // a signature
	got    *[]*exchange.Exchange // so far
}

// Cut knows nothing: the resolver's records tell.
func (fromResolver) Cut(wire.Name) (is, known bool) { return false, false }

// Ask asks the resolver, which is the only one there is.
func (f fromResolver) Ask(ctx context.Context, _ wire.Name, q wire.Question, turn int) (*wire.Message, int) {
	if turn > 0 {
		return nil, 0
	}
	e := f.signed(ctx, f.server, q)
	*f.got = append(*f.got, e)
	if e.Reply == nil || !e.Outcome.Good() {
		return nil, e.Number
	}
	*f.seen = *f.seen || signs(e.Reply)
	return e.Reply, e.Number
}

// signs reports whether a message has a signature.
func signs(m *wire.Message) bool {
	is := func(r wire.Record) bool { return r.Type == wire.RRSIG }
	return slices.ContainsFunc(m.Answer, is) || slices.ContainsFunc(m.Authority, is)
}

// signed asks for something with its signatures, and has it handed on though it be broken.
func (p Prober) signed(ctx context.Context, server exchange.Server, q wire.Question) *exchange.Exchange {
	options := p.Session.Client.Options
	options.DNSSEC, options.CheckingDisabled, options.Checked = true, true, false
	return p.Session.Ask(ctx, exchange.Request{Server: server, Question: q, Options: &options, Shared: true})
}

// Validate says what the signatures make of the answers of one server.
func (p Prober) Validate(ctx context.Context, exchanges []*exchange.Exchange) (all []Validated, found []finding.Finding) {
	var validator *dnssec.Validator
	seen := false
	var got []*exchange.Exchange
	for _, e := range exchanges {
		if e.Question.Name.IsZero() || len(p.Anchors) == 0 || ctx.Err() != nil {
			continue
		}
		v := Validated{Exchange: e, Result: dnssec.Result{State: dnssec.Indeterminate}, Claims: e.Reply != nil && e.Reply.Flags.Has(wire.AD)}
		if v.Signed = p.signed(ctx, e.Server, e.Question); v.Signed.Reply != nil && v.Signed.Outcome.Good() {
			if validator == nil {
				validator = &dnssec.Validator{Source: fromResolver{p, e.Server, &seen, &got}, Anchors: p.Anchors, Now: p.AsOf}
			}
			seen, got = seen || signs(v.Signed.Reply), nil
			if v.Result = validator.Judge(ctx, e.Question, v.Signed.Reply); !seen {
				v.Result, v.Unsigned = dnssec.Result{State: dnssec.Indeterminate}, true
			}
		}
		v.Fetched, got = got, nil
		all = append(all, v)
		if !p.OwnJudgment {
			found = append(found, v.findings()...)
		}
	}
	return all, found
}

// HandsOnBogus is the finding of a server whose answer is bogus and was given all the same.
func HandsOnBogus(about finding.About, exchanges ...int) finding.Finding {
	return finding.New(finding.ValidationOff, finding.Note, about, about.Server+" hands on a bogus answer: it does not validate.", exchanges...)
}

// findings are what is to be said of how a server and its records agree.
func (v *Validated) findings() (found []finding.Finding) {
	if v.Break != nil && v.Break.Zone.IsRoot() {
		return nil // the clock or the anchors of this machine may be at fault
	}
	if v.Exchange.Question.Type == wire.ANY {
		return nil // what a server makes up instead of all records is signed by nobody (RFC 8482)
	}
	about := finding.About{Name: v.Exchange.Question.Name.String(), Type: v.Exchange.Question.Type.String(), Server: v.Exchange.Server.Name(), Address: v.Exchange.Server.AddressText()}
	numbers := []int{v.Exchange.Number, v.Signed.Number}
	name := v.Exchange.Server.Name()
	if v.State == dnssec.Bogus && v.Exchange.Outcome.Good() && !v.Claims {
		found = append(found, HandsOnBogus(about, numbers...))
	}
	if v.Claims && (v.State == dnssec.Bogus || v.State == dnssec.Insecure) {
		found = append(found, finding.New(finding.ValidationDiffers, finding.Concern, about, name+" says that it has checked the answer (AD), and by its own records that answer is "+string(v.State)+".", numbers...))
	}
	return found
}
