package text

import (
	"fmt"
	"net/netip"
	"strings"

	"unquil/core/exchange"
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
		sources = strings.Join(l.Setup.Sources, ", then ")
	}
	v.row("sources", sources)
	v.row("hosts file", wording.Count(len(l.Setup.Hosts), "line", "lines"))
	if l.SetupErr != nil {
		v.row("resolvers", severe["fault"].Render(l.SetupErr.Error()))
	}
	for i, e := range l.Tried {
		v.row(map[bool]string{true: "resolvers"}[i == 0], resolverWords(e))
	}
	if l.Setup.Caveat != "" {
		v.row("but", l.Setup.Caveat)
	}
	if len(l.Setup.Search) > 0 {
		v.row("suffixes", strings.Join(l.Setup.Search, ", then "))
	}
	v.row("ndots", fmt.Sprintf("%d: a name with fewer dots is tried with the search list first", l.Setup.Dots))
	if len(l.Setup.Options) > 0 {
		v.row("options", strings.Join(l.Setup.Options, " "))
	}
	for _, unread := range l.Setup.Unread {
		v.row("not read", unread)
	}
	if l.Name == nil {
		v.Findings("what to note", l.Findings)
	}
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
	for i := 0; i+1 < len(n.Asked); i += 2 {
		what := "as typed"
		if suffix := n.Candidates[i/2].Suffix; suffix != "" {
			what = "with " + suffix + " from the search list"
		}
		say(fmt.Sprintf("%s, %s: %s", n.Asked[i].Question.Name.Spoken(), what, pairWords(n.Asked[i], n.Asked[i+1])))
	}
	if rest := n.Candidates[len(n.Asked)/2:]; len(rest) > 0 {
		var names []string
		for _, c := range rest {
			names = append(names, c.Name.Spoken())
		}
		say("not tried any more: " + strings.Join(names, ", "))
	}
	switch {
	case n.SystemErr != nil:
		v.row("the system", "its own look-up says: "+n.SystemErr.Error())
	case n.System != nil:
		v.row("the system", "its own look-up says "+joinAddresses(n.System))
	}
}

// pairWords is what came of asking for A and AAAA.
func pairWords(a, aaaa *exchange.Exchange) string {
	values := append(exchange.Values(a.Answer().Records), exchange.Values(aaaa.Answer().Records)...)
	if len(values) > 0 {
		return strings.Join(values, ", ")
	}
	return a.Outcome.Words()
}

func joinAddresses(all []netip.Addr) string {
	words := make([]string, len(all))
	for i, a := range all {
		words[i] = a.String()
	}
	return strings.Join(words, ", ")
}
