package text

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"unquil/core/exchange"
	"unquil/core/machine"
	"unquil/core/probe"
	"unquil/core/wording"
)

// Local draws what a machine does with names, in the order in which it does it.
func (v *View) Local(l *probe.Local) {
	if l.Name != nil {
		v.localName(l.Name)
		v.Findings("what to note", l.Findings)
		v.line()
	}
	v.line(strong.Render("this machine, in the order it looks names up"))
	sources := "the hosts file, then the resolvers (the default order)"
	if l.Setup.Sources != nil {
		sources = strings.Join(sourceWords(l.Setup.Sources), ", then ")
	}
	v.row("sources", sources)
	v.row("hosts file", wording.Count(len(l.Setup.Hosts), "line", "lines"))
	if l.SetupErr != nil {
		v.row("resolvers", severe["fault"].Render(l.SetupErr.Error()))
	}
	for i, e := range l.Tried {
		v.row(map[bool]string{true: "resolvers"}[i == 0], resolverWords(e))
	}
	last := ""
	for i := range l.Secure {
		d := &l.Secure[i]
		for j := range d.Offers {
			o := &d.Offers[j]
			title, words := "encrypted", d.Resolver.Name()+" offers "+o.Over()+" as "+o.Server.TLSName
			if d.Source != "" {
				title, words = "handed out", d.Resolver.Name()+" over "+o.Over()+" as "+o.Server.TLSName+" (by the network or by hand, in "+d.Source+")"
			}
			if o.Alike {
				words += fmt.Sprintf(": answers alike, in %s", wording.Span(o.Tried.Took()))
			} else {
				words += ": " + severe["concern"].Render(o.Failure())
			}
			v.row(map[bool]string{true: title}[title != last], words)
			last = title
		}
	}
	for i, s := range l.Setup.Scopes {
		v.row(map[bool]string{true: "besides"}[i == 0], scopeWords(&s))
	}
	if l.Setup.Container {
		v.row("container", "these files are a container's: whoever runs it writes its list of resolvers")
	}
	if l.Setup.Caveat != "" {
		v.row("but", l.Setup.Caveat)
	}
	if len(l.Setup.Search) > 0 {
		v.row("suffixes", strings.Join(l.Setup.Search, ", then "))
	}
	v.row("ndots", fmt.Sprintf("%d: a name with fewer dots is tried with the search list first", l.Setup.Dots))
	if len(l.Setup.Options) > 0 {
		v.row("options", strings.Join(optionWords(l.Setup.Options), "; "))
	}
	for _, unread := range l.Setup.Unread {
		v.row("not read", unread)
	}
	if l.Name == nil {
		v.Findings("what to note", l.Findings)
	}
}

// actions say what becomes of a look-up after a source of names (nsswitch.conf), where that is not to go on.
var actions = map[string]string{"notfound=return": "if it has no such name, the look-up ends there", "unavail=return": "if it cannot be asked, the look-up ends there",
	"tryagain=return": "if it does not reply, the look-up ends there", "success=continue": "even if it has the name, the next is asked too", "!unavail=return": "the look-up ends there, unless it cannot be asked"}

// sourceWords are the sources of names in order, with what becomes of a look-up after each.
func sourceWords(sources []string) (words []string) {
	for _, s := range sources {
		action := strings.ToLower(strings.Trim(s, "[]"))
		if !strings.HasPrefix(s, "[") || len(words) == 0 {
			words = append(words, s)
			continue
		}
		says := actions[action]
		if says == "" {
			says = action
		}
		words[len(words)-1] += " (" + says + ")"
	}
	return words
}

// settings say what options of resolv.conf do; those with a number have it behind.
var settings = map[string]string{
	"rotate": "the resolvers are asked in turn", "timeout": "seconds of patience with each", "attempts": "rounds through all of them", "ndots": "dots that a name needs to be tried as it is first",
	"edns0": "queries have EDNS", "trust-ad": "what a resolver says of signatures (AD) is believed", "use-vc": "over TCP only", "single-request": "A and AAAA one after the other",
	"single-request-reopen": "A and AAAA from different ports", "no-tld-query": "single labels are not asked as they are", "no-aaaa": "no query for AAAA", "inet6": "IPv6 addresses first", "debug": "for who looks for faults",
}

// optionWords are options as they are written, with what they do.
func optionWords(options []string) (words []string) {
	for _, option := range options {
		name, _, _ := strings.Cut(option, ":")
		if says := settings[name]; says != "" {
			option += " (" + says + ")"
		}
		words = append(words, option)
	}
	return words
}

// scopeWords say whom a system asks for some names.
func scopeWords(s *machine.Scope) string {
	var resolvers []string
	for _, r := range s.Resolvers {
		resolvers = append(resolvers, exchange.Server{Address: r}.AddressText())
	}
	words := strings.Join(resolvers, ", ")
	if len(s.Domains) > 0 {
		words += " for names in " + wording.List(s.Domains)
	}
	if s.Interface != "" {
		words += " over " + s.Interface
	}
	return words + " (" + s.Source + ")"
}

// resolverWords says how a resolver took a question.
func resolverWords(e *exchange.Exchange) string {
	who := e.Server.Name()
	if address := e.Server.AddressText(); address != who {
		who += " (" + address + ")"
	}
	if e.Reply == nil {
		return who + ": " + severe["fault"].Render(e.Outcome.Words())
	}
	words := e.Outcome.Words()
	if e.Outcome.Good() {
		words = good.Render("answers")
	}
	return fmt.Sprintf("%s: %s in %s", who, words, wording.Span(e.Took()))
}

// localName draws what the machine does with one name as typed.
func (v *View) localName(n *probe.LocalName) {
	result := "is not found by the resolver"
	if asked := n.Asked(); len(asked) > 0 && !slices.ContainsFunc(asked, func(e *exchange.Exchange) bool { return e.Outcome.Good() }) {
		result = "could not be looked up: no resolver answered"
	}
	if n.Chosen != nil {
		result = fmt.Sprintf("is looked up as %s and is %s", n.Chosen.Name.Spoken(), joinAddresses(n.Resolver))
	}
	if len(n.Hosts) > 0 {
		var own []netip.Addr
		for _, h := range n.Hosts {
			own = append(own, h.Address)
		}
		result = fmt.Sprintf("is %s according to the hosts file; for the resolver it %s", joinAddresses(own), result)
	}
	v.flow("", 0, subject.Render(n.Typed)+" "+result, plainStyle)
	v.line()
	step := 0
	say := func(text string) {
		step++
		v.flow(fmt.Sprintf("  step %d", step), labelWidth, text, plainStyle)
	}
	if len(n.Hosts) == 0 {
		say("not in the hosts file")
	}
	for _, h := range n.Hosts {
		say(fmt.Sprintf("the hosts file, line %d, gives %s: a program stops here", h.Number, h.Address))
	}
	tried := map[machine.Candidate]bool{}
	several := slices.ContainsFunc(n.Steps, func(s probe.Step) bool { return s.Exchanges[0].Server != n.Steps[0].Exchanges[0].Server })
	for _, s := range n.Steps {
		what := "as typed"
		if s.Candidate.Suffix != "" {
			what = "with " + s.Candidate.Suffix + " from the search list"
		}
		if several {
			what += ", asked of " + s.Exchanges[0].Server.Name()
		}
		tried[s.Candidate] = true
		say(fmt.Sprintf("%s, %s: %s", s.Candidate.Name.Spoken(), what, addressesWords(s.Exchanges)))
	}
	var rest []string
	for _, c := range n.Candidates {
		if !tried[c] {
			rest = append(rest, c.Name.Spoken())
		}
	}
	if len(rest) > 0 {
		say("not tried any more: " + strings.Join(rest, ", "))
	}
	switch {
	case n.SystemErr != nil:
		v.row("the system", "its own look-up says: "+n.SystemErr.Error())
	case n.System != nil:
		v.row("the system", "its own look-up says "+joinAddresses(n.System))
	}
}

// addressesWords is what came of asking for addresses.
func addressesWords(all []*exchange.Exchange) string {
	var values []string
	for _, e := range all {
		values = append(values, exchange.Values(e.Answer().Records)...)
	}
	if len(values) > 0 {
		return strings.Join(values, ", ")
	}
	return all[0].Outcome.Words()
}

func joinAddresses(all []netip.Addr) string {
	words := make([]string, len(all))
	for i, a := range all {
		words[i] = a.String()
	}
	return strings.Join(words, ", ")
}
