package delegation

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"unquil/core/dnssec"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/core/wording"
)

// Validation is what the signatures on the way make of a walk's answer.
type Validation struct {
	dnssec.Result
	AsOf    time.Time
	Servers []ServerSignatures // what the servers of the last zone give, where that differs
}

// ServerSignatures is what one server's own answer comes to.
type ServerSignatures struct {
	Reply *Reply
	dnssec.Result
}

// signedBy asks the servers of a walk's zones for keys and digests.
type signedBy struct {
	*run
	walk *Walk
}

// Cut says what the walk showed of where zones begin. Below the zone that answered none begins, if
// what it said was signed by its own keys.
func (s *signedBy) Cut(name wire.Name) (is, known bool) {
	for i, step := range s.walk.Steps {
		if step.Zone.Equal(name) {
			return true, true
		}
		if step.Chosen == nil || step.Chosen.Stance != Answers || !name.IsSubdomainOf(step.Zone) || i+1 < len(s.walk.Steps) && s.walk.Steps[i+1].Name.Equal(step.Name) {
			continue
		}
		m := step.Chosen.Exchange.Reply
		for _, r := range slices.Concat(m.Answer, m.Authority) {
			if signature, err := dnssec.ReadSignature(r); err == nil && signature.Signer.Equal(step.Zone) && step.Name.IsSubdomainOf(name) {
				return false, true
			}
		}
	}
	return false, false
}

// maxVouchers is how many servers of a zone are asked for its keys until one gives them.
const maxVouchers = 3

// Ask asks servers of a zone until one has an answer with authority.
func (s *signedBy) Ask(ctx context.Context, zone wire.Name, q wire.Question) (m *wire.Message, number int) {
	tried := 0
	for _, server := range s.servers(zone, q.Type) {
		if tried++; tried > maxVouchers || ctx.Err() != nil {
			break
		}
		options := s.options()
		e := s.Session.Ask(ctx, exchange.Request{Server: server, Options: &options, Shared: true, Question: q})
		if number = e.Number; e.Reply != nil && e.Outcome.Good() {
			return e.Reply, number
		}
	}
	return nil, number
}

// servers are those of a zone that are to be asked, the ones first that were asked already.
func (s *signedBy) servers(zone wire.Name, t wire.Type) (all []exchange.Server) {
	add := func(server exchange.Server) {
		if !slices.ContainsFunc(all, func(o exchange.Server) bool { return o.Address == server.Address }) {
			all = append(all, server)
		}
	}
	if early, known := s.keysFrom[zone.Fold()]; known && t == wire.DNSKEY {
		add(early)
	}
	for _, step := range s.walk.Steps {
		if !step.Zone.Equal(zone) {
			continue
		}
		if step.Chosen != nil {
			add(step.Chosen.Exchange.Server)
		}
		for _, r := range step.Replies {
			if r.Stance.Usable() {
				add(r.Exchange.Server)
			}
		}
	}
	if len(all) > 0 {
		return all
	}
	at, known := s.deepest(zone)
	if !at.Equal(zone) {
		return nil // a zone that the walk did not come by
	}
	for _, server := range known {
		for _, address := range server.Addresses {
			add(s.server(server.Host, address))
		}
	}
	return all
}

// vouchers asks, while the walk goes on, for the keys of the zone that it has come to.
func (c *course) vouchers(ctx context.Context) {
	for _, server := range c.servers {
		at := slices.IndexFunc(server.Addresses, netip.Addr.Is4)
		if at < 0 {
			continue
		}
		to := c.server(server.Host, server.Addresses[at])
		c.early(ctx, to, wire.Question{Name: c.zone, Type: wire.DNSKEY, Class: wire.IN})
		c.mu.Lock()
		defer c.mu.Unlock()
		if c.keysFrom == nil {
			c.keysFrom = map[wire.Name]exchange.Server{}
		}
		c.keysFrom[c.zone.Fold()] = to
		return
	}
}

// vouch asks, while the walk goes on, whether a zone is signed that a reply refers to.
func (c *course) vouch(ctx context.Context, step *Step) {
	c.early(ctx, step.Chosen.Exchange.Server, wire.Question{Name: step.Child, Type: wire.DS, Class: wire.IN})
}

// early puts a question whose answer is looked at when the walk is done.
func (c *course) early(ctx context.Context, to exchange.Server, q wire.Question) {
	if len(c.Anchors) == 0 || len(c.path) > 0 || len(c.Start) > 0 {
		return
	}
	if why, _ := c.admit(to.Address.Addr()); why != "" {
		return
	}
	options := c.options()
	c.pending.Add(1)
	c.Session.Start(ctx, exchange.Request{Server: to, Options: &options, Shared: true, Question: q}, func(*exchange.Exchange) { c.pending.Done() })
}

// validate says what the signatures make of the walk.
func (w *run) validate(ctx context.Context, walk *Walk) {
	if len(w.Anchors) == 0 || ctx.Err() != nil || len(w.Start) > 0 {
		return
	}
	v := &dnssec.Validator{Source: &signedBy{w, walk}, Anchors: w.Anchors, Now: w.AsOf}
	all := &Validation{AsOf: w.AsOf, Result: dnssec.Result{State: dnssec.Indeterminate}}
	first := true
	for _, step := range walk.Steps {
		if step.Chosen == nil || step.Chosen.Stance != Answers || !step.Question.Name.Equal(step.Name) {
			continue
		}
		result := v.Judge(ctx, step.Question, step.Chosen.Exchange.Reply)
		if first || worse(result.State, all.State) {
			all.Result = result
		}
		first = false
		for _, r := range step.Replies {
			if r.Stance != Answers {
				continue
			}
			if own := v.Judge(ctx, step.Question, r.Exchange.Reply); own.State != result.State || !own.Expires.Equal(result.Expires) {
				all.Servers = append(all.Servers, ServerSignatures{r, own})
			}
		}
	}
	if first {
		all.Result = v.Down(ctx, walk.Name())
	}
	walk.Validation = all
	walk.Findings = append(walk.Findings, all.judge(walk)...)
}

// worse reports whether a state outweighs another: an answer is as good as its worst part.
func worse(a, b dnssec.State) bool {
	weight := map[dnssec.State]int{dnssec.Secure: 0, dnssec.Insecure: 1, dnssec.Indeterminate: 2, dnssec.Bogus: 3}
	return weight[a] > weight[b]
}

// soon is how near a signature's end is to be told: most zones sign anew a week before.
const soon = 24 * time.Hour

// judge says what is wrong with the signatures.
func (v *Validation) judge(walk *Walk) (found []finding.Finding) {
	if v.State == dnssec.Bogus && v.Break != nil {
		f := v.broken(v.Break, walk)
		found = append(found, f)
	}
	for _, s := range v.Servers {
		if s.State != dnssec.Bogus || s.Break == nil || v.State == dnssec.Bogus {
			continue
		}
		f := v.broken(s.Break, walk)
		f.Severity = finding.Concern
		f.About.Server, f.About.Address = s.Reply.Host.String(), s.Reply.Address.String()
		f.Text = strings.TrimSuffix(f.Text, ".") + ", as " + s.Reply.Host.Spoken() + " gives them; the other servers' are valid."
		f.Evidence = []int{s.Reply.Exchange.Number}
		found = append(found, f)
	}
	if left := v.Expires.Sub(v.AsOf); v.State == dnssec.Secure && left < soon {
		found = append(found, finding.New(finding.SignatureRunsOut, finding.Concern, finding.About{Zone: v.Zone.String(), Name: walk.Question.Name.String(), Type: walk.Question.Type.String()},
			fmt.Sprintf("A signature on the way to %s runs out in %s, at %s.", walk.Question.Name.Spoken(), wording.Span(left), v.Expires.Format("15:04 on 2 January 2006")), v.seen()...))
	}
	for _, weak := range v.Weak {
		found = append(found, finding.New(finding.AlgorithmWeak, finding.Concern, finding.About{Zone: v.Zone.String()},
			fmt.Sprintf("%s is signed by %s: %s.", v.Zone.Spoken(), weak, weak.Weak()), v.seen()...))
	}
	return found
}

// flaws say what each flaw is, in a sentence about a zone and the set that shows it, and who mends it.
var flaws = map[dnssec.Flaw]struct{ text, next string }{
	dnssec.SignatureExpired: {"The signature over %[2]s of %[1]s ran out at %[3]s", "Ask the zone's operator to sign the zone anew: its signer seems to have stopped."},
	dnssec.SignatureNotYet:  {"The signature over %[2]s of %[1]s is not valid before %[4]s", "Check this machine's clock first. If that is right, ask the zone's operator: the signer's clock is ahead."},
	dnssec.SignatureMissing: {"%[1]s is signed, and there is no signature over %[2]s", "Ask the zone's operator to sign the whole zone, and whether every server has the signed one."},
	dnssec.SignatureWrong:   {"The signature over %[2]s of %[1]s does not fit the records", "Ask the zone's operator to sign the zone anew; if that does not help, something changes the answers on their way."},
	dnssec.DSWithoutKey:     {"The DS record of %[1]s names a key with tag %[5]d, and the zone has no such key", "Have the holder put the DS record of a key that the zone has in place at the registry."},
	dnssec.KeyUnsigned:      {"The keys of %[1]s are not signed by the one that its DS record names (tag %[5]d)", "Ask the zone's operator to sign the keys with that one, or have the DS record changed to the one that signs."},
	dnssec.ChainMissing:     {"The zone above says that %[1]s is signed, and the zone gives no keys", "Ask the zone's operator to sign the zone, or have its DS records removed at the registry."},
	dnssec.DenialIncomplete: {"%[1]s denies %[2]s and does not prove it", "Ask the zone's operator to have the zone signed anew, by a current signer."},
	dnssec.AnchorOld:        {"None of the keys of %[1]s is one that the trust anchors name", "Bring the trust anchors up to date."},
}

// broken is the finding about a break.
func (v *Validation) broken(b *dnssec.Break, walk *Walk) finding.Finding {
	what := "the " + b.Type.String() + " records"
	switch {
	case b.Flaw == dnssec.DenialIncomplete:
		what = b.Owner.Spoken() + " " + b.Type.String()
	case !b.Owner.Equal(b.Zone):
		what += " of " + b.Owner.Spoken()
	}
	if b.Owner.Equal(b.Zone) && b.Type == wire.DNSKEY {
		what = "the keys"
	}
	clock := func(t time.Time) string { return t.Format("15:04 on 2 January 2006") }
	words := flaws[b.Flaw]
	f := finding.New(finding.Code(b.Flaw), finding.Fault, finding.About{Zone: b.Zone.String(), Name: walk.Question.Name.String(), Type: walk.Question.Type.String()},
		fmt.Sprintf(words.text+"%[6]s", b.Zone.Spoken(), what, clock(b.Since), clock(b.Until), b.Tag, ""), v.seen()...)
	f.Text = strings.TrimSuffix(f.Text, ".") + ": resolvers that validate do not accept it."
	f.Next = words.next
	return f
}

// seen are the exchanges that show the chain.
func (v *Validation) seen() (numbers []int) {
	for _, link := range v.Chain {
		numbers = append(numbers, link.Seen...)
	}
	return numbers
}
