package mail

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/wire"
)

// Result is what an evaluation comes to (RFC 7208 §2.6).
type Result string

// The results.
const (
	None      Result = "none"
	Neutral   Result = "neutral"
	Pass      Result = "pass"
	Fail      Result = "fail"
	SoftFail  Result = "softfail"
	TempError Result = "temperror"
	PermError Result = "permerror"
)

// qualified are the results of a match, by its qualifier.
var qualified = map[byte]Result{'+': Pass, '-': Fail, '~': SoftFail, '?': Neutral}

// Check is whether a sender may send for a domain.
type Check struct {
	Result      Result
	Sender      netip.Addr
	Identity    string      // whom it was checked for: the mailbox, or the name of HELO
	Mechanism   escape.Text // the term that decided; "" for none
	Path        []wire.Name // the domains from the one checked to the one whose term it is
	Explanation escape.Text // of a fail, by the domain; "" for none
	Why         string      // an error, or why there is no result; "" for others
	Lookups     int
	VoidLookups int
	Evidence    []int
}

// evaluation is one run of check_host (RFC 7208 §4).
type evaluation struct {
	*Asker
	ctx    context.Context
	sender *Sender
	check  *Check
	why    string
	looked bool // for the sender's own name
}

// May checks whether an address may send for a mailbox. Without one (the null reverse-path) the
// name given with HELO counts (RFC 7208 §2.4).
func (a *Asker) May(ctx context.Context, s Sender) *Check {
	s.Address = s.Address.Unmap().WithZone("")
	c := &Check{Sender: s.Address}
	if s.Domain == "" {
		s.Local, s.Domain = "postmaster", s.Helo
		c.Identity = "HELO " + string(escape.Of(s.Helo))
	} else {
		if s.Local == "" {
			s.Local = "postmaster" // RFC 7208 §4.3
		}
		c.Identity = string(escape.Of(s.Local + "@" + s.Domain))
	}
	e := &evaluation{Asker: a, ctx: ctx, sender: &s, check: c}
	domain, err := wire.ParseName(strings.TrimSuffix(s.Domain, "."))
	if err != nil || domain.Labels() < 2 || strings.ContainsAny(s.Domain, "[]:\\ ") {
		c.Result, c.Why = None, fmt.Sprintf("%q is no domain that could have a record", escape.Of(s.Domain))
		return c
	}
	c.Result = e.host(domain, nil)
	c.Why = e.why
	return c
}

func (e *evaluation) fail(r Result, format string, args ...any) Result {
	if e.why == "" {
		e.why = fmt.Sprintf(format, args...)
	}
	return r
}

// ask asks, and keeps the exchange as evidence.
func (e *evaluation) ask(name wire.Name, t wire.Type) *exchange.Exchange {
	x := e.Ask(e.ctx, name, t)
	if x.Number > 0 && !slices.Contains(e.check.Evidence, x.Number) {
		e.check.Evidence = append(e.check.Evidence, x.Number)
	}
	return x
}

// host evaluates the record of a domain. above are the domains that led to it.
func (e *evaluation) host(domain wire.Name, above []wire.Name) Result {
	answer := e.ask(domain, wire.TXT)
	if broke(answer) {
		return e.fail(TempError, "the TXT records of %s could not be looked up (%s)", domain.Spoken(), outcomeOf(answer))
	}
	found := textsThat(IsSPF, answer)
	switch {
	case len(found) == 0:
		return e.fail(None, "%s has no SPF record", domain.Spoken())
	case len(found) > 1:
		return e.fail(PermError, "%s has %d SPF records", domain.Spoken(), len(found))
	}
	r := ReadSPF(found[0])
	if len(r.Errors) > 0 {
		return e.fail(PermError, "the SPF record of %s: %v", domain.Spoken(), r.Errors[0])
	}
	path := append(slices.Clone(above), domain)
	for i := range r.Terms {
		t := &r.Terms[i]
		if t.Modifier {
			continue
		}
		fits, broken := e.fits(t, domain, path)
		if broken != "" {
			return broken
		}
		if fits {
			result := qualified[t.Qualifier]
			if t.Name != "include" { // of which the term that let it pass was kept
				e.check.Mechanism, e.check.Path = escape.Of(t.Text), path
			}
			if result == Fail {
				e.explain(r, domain)
			}
			return result
		}
	}
	if r.Redirect == nil || slices.ContainsFunc(r.Terms, func(t Term) bool { return t.Name == "all" && !t.Modifier }) {
		return Neutral
	}
	target, broken := e.target(r.Redirect, domain)
	if broken != "" {
		return broken
	}
	if !e.lookup() {
		return e.fail(PermError, "more than %d look-ups", MaxLookups)
	}
	if target.IsZero() {
		return e.fail(PermError, "%s redirects to what is no name", domain.Spoken())
	}
	result := e.host(target, path)
	if result == None {
		e.why = ""
		return e.fail(PermError, "%s redirects to %s, which has no SPF record", domain.Spoken(), target.Spoken())
	}
	return result
}

func outcomeOf(x *exchange.Exchange) string {
	if x == nil || x.Outcome == "" {
		return "not asked"
	}
	return string(x.Outcome)
}

// lookup counts a look-up, and reports whether it may be made.
func (e *evaluation) lookup() bool {
	e.check.Lookups++
	return e.check.Lookups <= MaxLookups
}

// empty counts a void look-up, and returns what that breaks.
func (e *evaluation) empty(x *exchange.Exchange) Result {
	if void(x) {
		if e.check.VoidLookups++; e.check.VoidLookups > MaxVoidLookups {
			return e.fail(PermError, "more than %d look-ups found nothing; the last was %s", MaxVoidLookups, x.Question.Spoken())
		}
	}
	return ""
}

// target is the name that a term means; zero where what it expands to is none.
func (e *evaluation) target(t *Term, domain wire.Name) (wire.Name, Result) {
	if t.Domain == "" {
		return domain, ""
	}
	parts, err := macros(t.Domain)
	if err != nil {
		return wire.Name{}, e.fail(PermError, "%s: %v", escape.Of(t.Text), err)
	}
	if slices.ContainsFunc(parts, func(m macro) bool { return m.letter == 'p' }) {
		e.ownName(domain)
	}
	text, ok := expand(parts, e.sender, domain.Spoken(), false)
	if !ok {
		return wire.Name{}, e.fail(PermError, "%s has a macro that only explanations have", escape.Of(t.Text))
	}
	name, err := wire.ParseName(fitted(text))
	if err != nil || name.IsRoot() {
		return wire.Name{}, ""
	}
	return name, ""
}

// fits reports whether a mechanism fits the sender; broken is the result that ends all.
func (e *evaluation) fits(t *Term, domain wire.Name, path []wire.Name) (fits bool, broken Result) {
	switch t.Name {
	case "all":
		return true, ""
	case "ip4", "ip6":
		return t.Network.Contains(e.sender.Address), ""
	}
	if !e.lookup() {
		return false, e.fail(PermError, "more than %d look-ups: %s of %s would be the next", MaxLookups, escape.Of(t.Text), domain.Spoken())
	}
	target, broken := e.target(t, domain)
	if broken != "" || target.IsZero() {
		return false, broken
	}
	switch t.Name {
	case "include":
		return e.includes(t, target, domain, path)
	case "a":
		return e.around(t, target)
	case "mx":
		return e.mx(t, target)
	case "exists":
		x := e.ask(target, wire.A)
		if broke(x) {
			return false, e.fail(TempError, "%s could not be looked up (%s)", x.Question.Spoken(), outcomeOf(x))
		}
		return len(x.Answer().Records) > 0, e.empty(x)
	}
	return e.ptr(target)
}

// includes evaluates an include (RFC 7208 §5.2).
func (e *evaluation) includes(t *Term, target, domain wire.Name, path []wire.Name) (bool, Result) {
	if slices.ContainsFunc(path, target.Equal) {
		return false, e.fail(PermError, "%s includes %s, which leads back to it", domain.Spoken(), target.Spoken())
	}
	mechanism, at, explanation := e.check.Mechanism, e.check.Path, e.check.Explanation
	before := *e.sender
	result := e.host(target, path)
	e.sender.Host = before.Host
	if result != Pass {
		e.check.Mechanism, e.check.Path, e.check.Explanation = mechanism, at, explanation
	}
	switch result {
	case Pass:
		return true, ""
	case TempError, PermError:
		return false, result
	case None:
		e.why = ""
		return false, e.fail(PermError, "%s includes %s, which has no SPF record", domain.Spoken(), target.Spoken())
	}
	return false, ""
}

// family is the type of the sender's address.
func (e *evaluation) family() wire.Type {
	if e.sender.Address.Is4() {
		return wire.A
	}
	return wire.AAAA
}

// near reports whether the sender is near an address, as near as a term says.
func (e *evaluation) near(t *Term, x *exchange.Exchange) bool {
	bits := t.V6
	if e.sender.Address.Is4() {
		bits = t.V4
	}
	for _, address := range addressesOf(x) {
		if p, err := address.Prefix(bits); err == nil && p.Contains(e.sender.Address) {
			return true
		}
	}
	return false
}

func (e *evaluation) around(t *Term, target wire.Name) (bool, Result) {
	x := e.ask(target, e.family())
	if broke(x) {
		return false, e.fail(TempError, "%s could not be looked up (%s)", x.Question.Spoken(), outcomeOf(x))
	}
	return e.near(t, x), e.empty(x)
}

func (e *evaluation) mx(t *Term, target wire.Name) (bool, Result) {
	x := e.ask(target, wire.MX)
	if broke(x) {
		return false, e.fail(TempError, "%s could not be looked up (%s)", x.Question.Spoken(), outcomeOf(x))
	}
	if broken := e.empty(x); broken != "" {
		return false, broken
	}
	var hosts []wire.Name
	for _, r := range x.Answer().Records {
		if host, ok := r.Target(); ok && !host.IsRoot() {
			hosts = append(hosts, host)
		}
	}
	if len(hosts) > maxHosts {
		return false, e.fail(PermError, "%s has %d mail hosts, more than the %d that an mx term may have", target.Spoken(), len(hosts), maxHosts)
	}
	for _, host := range hosts {
		found := e.ask(host, e.family())
		if broke(found) {
			return false, e.fail(TempError, "%s could not be looked up (%s)", found.Question.Spoken(), outcomeOf(found))
		}
		if e.near(t, found) {
			return true, ""
		}
	}
	return false, ""
}

// validated are the names of the sender's address that lead back to it, at most ten of them
// looked at (RFC 7208 §5.5).
func (e *evaluation) validated() (names []wire.Name, x *exchange.Exchange) {
	reverse, err := wire.ReverseName(e.sender.Address.String())
	if err != nil {
		return nil, nil
	}
	x = e.ask(reverse, wire.PTR)
	for i, r := range x.Answer().Records {
		name, ok := r.Target()
		if i >= maxHosts || !ok {
			break
		}
		if slices.Contains(addressesOf(e.ask(name, e.family())), e.sender.Address) {
			names = append(names, name)
		}
	}
	return names, x
}

func (e *evaluation) ptr(target wire.Name) (bool, Result) {
	names, x := e.validated()
	return slices.ContainsFunc(names, func(name wire.Name) bool { return name.IsSubdomainOf(target) }), e.empty(x)
}

// ownName looks up what the p macro stands for: a name in the domain rather than another.
func (e *evaluation) ownName(domain wire.Name) {
	if e.looked {
		return
	}
	e.looked = true
	best := -1
	names, _ := e.validated()
	for _, name := range names {
		fit := 0
		switch {
		case name.Equal(domain):
			fit = 2
		case name.IsSubdomainOf(domain):
			fit = 1
		}
		if fit > best {
			best, e.sender.Host = fit, name.Spoken()
		}
	}
}

// explain looks up what a domain says to whom it turns away (RFC 7208 §6.2). Whatever goes
// wrong, there is none.
func (e *evaluation) explain(r *Record, domain wire.Name) {
	e.check.Explanation = ""
	if r.Explain == nil {
		return
	}
	why := e.why
	target, broken := e.target(r.Explain, domain)
	e.why = why
	if broken != "" || target.IsZero() {
		return
	}
	found := texts(e.ask(target, wire.TXT))
	if len(found) != 1 {
		return
	}
	parts, err := macros(found[0])
	if err != nil || strings.ContainsFunc(found[0], func(c rune) bool { return c > '~' }) {
		return
	}
	if text, ok := expand(parts, e.sender, domain.Spoken(), true); ok {
		e.check.Explanation = escape.Of(text)
	}
}
