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
	AsOf     time.Time
	Answered bool               // there was an answer to judge; otherwise it is the chain as far as it goes
	Servers  []ServerSignatures // what the servers of the last zone give, where that differs
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
			if signature, err := dnssec.ReadSignature(r); err == nil && signature.Signer.Equal(step.Zone) && (step.Name.IsSubdomainOf(name) || r.Name.IsSubdomainOf(name)) {
				return false, true
			}
		}
	}
	return false, false
}

// maxVouchers is how many servers of a zone are asked for its keys until one gives them.
const maxVouchers = 3

// Ask asks servers of a zone until one has an answer; for another turn it begins at another one.
func (s *signedBy) Ask(ctx context.Context, zone wire.Name, q wire.Question, turn int) (m *wire.Message, number int) {
	all := s.servers(zone, q.Type)
	if turn == 0 && len(all) > 0 {
		first := s.Session.First(q, all[0])
		all = append([]exchange.Server{first}, slices.DeleteFunc(all, func(o exchange.Server) bool { return o.Address == first.Address })...)
	}
	for _, server := range all[min(turn, len(all)):min(turn+maxVouchers, len(all))] {
		if ctx.Err() != nil {
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
	// A zone that the walk did not come by is on the servers of the one above, which went past it.
	var at *Step
	for _, step := range s.walk.Steps {
		if zone.IsSubdomainOf(step.Zone) && (at == nil || step.Zone.Labels() >= at.Zone.Labels()) {
			at = step
		}
	}
	if at != nil {
		if at.Chosen != nil {
			add(at.Chosen.Exchange.Server)
		}
		for _, r := range at.Replies {
			if r.Stance.Usable() {
				add(r.Exchange.Server)
			}
		}
	}
	if nearest, known := s.deepest(zone); len(all) == 0 || at != nil && nearest.Labels() > at.Zone.Labels() {
		all = nil
		for _, server := range known {
			for _, address := range server.Addresses {
				add(s.server(server.Host, address))
			}
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
	to = c.Session.First(q, to)
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
		if step.Chosen == nil || step.Chosen.Stance != Answers || step.Short {
			continue
		}
		result := v.Judge(ctx, step.Question, step.Chosen.Exchange.Reply)
		var own []ServerSignatures
		for _, r := range step.Replies {
			if r.Stance == Answers {
				own = append(own, ServerSignatures{r, v.Judge(ctx, step.Question, r.Exchange.Reply)})
			}
		}
		for _, s := range own { // a resolver that gets something broken asks another server
			if worse(result.State, s.State) {
				result = s.Result
			}
		}
		if first || worse(result.State, all.State) {
			all.Result = result
		}
		first = false
		for _, s := range own {
			if s.State != result.State || !s.Expires.Equal(result.Expires) {
				all.Servers = append(all.Servers, s)
			}
		}
	}
	if all.Answered = !first; first {
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

// judge says what is wrong with the signatures.
func (v *Validation) judge(walk *Walk) (found []finding.Finding) {
	timely := v.Break == nil || v.Break.Flaw != dnssec.SignatureExpired && v.Break.Flaw != dnssec.SignatureNotYet
	if v.State == dnssec.Bogus && len(v.Chain) == 1 && !timely && v.Zone.IsRoot() {
		f := finding.New(finding.ClockWrong, finding.Fault, finding.About{Name: walk.Question.Name.String(), Type: walk.Question.Type.String()},
			fmt.Sprintf("As of %s not even the root's signatures are valid: the clock that signatures are judged by is wrong.", wording.Moment(v.AsOf)), v.seen()...)
		return append(found, f)
	}
	if v.State == dnssec.Bogus && v.Break != nil {
		found = append(found, v.broken(v.Break, walk))
	}
	told := map[wire.Name]bool{}
	for i := range v.Servers {
		s := &v.Servers[i]
		if s.State == dnssec.Bogus && s.Break != nil && v.State != dnssec.Bogus && !told[s.Reply.Host] {
			told[s.Reply.Host] = true
			found = append(found, v.ofServer(s, walk))
		}
	}
	if left := v.Expires.Sub(v.AsOf); v.State == dnssec.Secure && v.Answered && left < dnssec.Soon {
		found = append(found, finding.New(finding.SignatureRunsOut, finding.Concern, finding.About{Zone: v.Zone.String(), Name: walk.Question.Name.String(), Type: walk.Question.Type.String()},
			fmt.Sprintf("A signature on the way to %s runs out in %s, at %s.", walk.Question.Name.Spoken(), wording.Span(left), wording.Moment(v.Expires)), v.seen()...))
	}
	if b := v.Break; b != nil && v.State == dnssec.Insecure {
		if words, ok := unchecked[b.Flaw]; ok {
			found = append(found, finding.New(finding.Code(b.Flaw), finding.Note, finding.About{Zone: b.Zone.String()}, fmt.Sprintf(words, b.Zone.Spoken()), v.seen()...))
		}
	}
	for _, weak := range v.Weak {
		found = append(found, finding.New(finding.AlgorithmWeak, finding.Concern, finding.About{Zone: v.Zone.String()},
			fmt.Sprintf("%s is signed by %s: %s.", v.Zone.Spoken(), weak, weak.Weak()), v.seen()...))
	}
	return found
}

// unchecked say why what is signed counts as if it were not.
var unchecked = map[dnssec.Flaw]string{
	dnssec.UnsupportedDigest: "The DS records of %s are of kinds that nobody checks: the zone counts as unsigned.",
	dnssec.ManyIterations:    "%s hashes its names so often for its denials (NSEC3) that these do not count: what they are about counts as unsigned.",
}

// broken is the finding about a break.
func (v *Validation) broken(b *dnssec.Break, walk *Walk) finding.Finding {
	if b.Flaw == dnssec.AnchorOld {
		f := finding.New(finding.AnchorOld, finding.Fault, finding.About{Name: walk.Question.Name.String(), Type: walk.Question.Type.String()}, b.Sentence()+": nothing can be checked by them.", v.seen()...)
		f.Next = b.Next()
		return f
	}
	f := finding.New(finding.Code(b.Flaw), finding.Fault, finding.About{Zone: b.Zone.String(), Name: walk.Question.Name.String(), Type: walk.Question.Type.String()}, b.Sentence()+": resolvers that validate do not accept it.", v.seen()...)
	f.Next = b.Next()
	return f
}

// ofServer is the finding about one server whose signatures are broken, where others' are not.
func (v *Validation) ofServer(s *ServerSignatures, walk *Walk) finding.Finding {
	f := v.broken(s.Break, walk)
	text, _, _ := strings.Cut(f.Text, ": resolvers")
	f.Severity, f.Text = finding.Concern, fmt.Sprintf("%s, as %s gives it; what other servers give is valid.", text, s.Reply.Host.Spoken())
	f.About.Server, f.About.Address = s.Reply.Host.String(), s.Reply.Address.String()
	f.Evidence = []int{s.Reply.Exchange.Number}
	f.Next = "Ask the zone's operator why that server has an older version of the zone: transfer refused, or NOTIFY lost."
	return f
}

// seen are the exchanges that show the chain.
func (v *Validation) seen() (numbers []int) {
	for _, link := range v.Chain {
		numbers = append(numbers, link.Seen...)
	}
	return numbers
}
