package text

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"unquil/core/conversation"
	"unquil/core/exchange"
	"unquil/core/finding"
)

// maxDrawn is how many exchanges a terminal is given; --json gives all.
const maxDrawn = 200

// Overview draws what happened in a capture: what went wrong first, then the
// figures, then the exchanges.
func (v *View) Overview(file string, o *conversation.Overview) {
	v.flow("", 0, subject.Render(file)+": "+overviewSentence(o), plainStyle)
	v.Findings("what to note", o.Findings)
	if o.MoreFound > 0 {
		v.flow("", 2, fmt.Sprintf("and %d more findings that are not kept", o.MoreFound), quiet)
	}
	v.line()
	v.line(strong.Render("figures"))
	if !o.First.IsZero() {
		v.row("span", fmt.Sprintf("%s to %s UTC, %s", o.First.Format("2006-01-02 15:04:05"), o.Last.Format("15:04:05"), Took(o.Last.Sub(o.First))))
	}
	v.row("packets", fmt.Sprintf("%d, of which %d hold DNS messages", o.Packets, o.Messages))
	v.row("exchanges", fmt.Sprintf("%d, by %s of %s", o.Exchanges, plural(len(o.Clients), "client", "clients"), plural(len(o.Servers), "server", "servers")))
	v.row("outcomes", outcomeCounts(o))
	if o.Unsolicited > 0 {
		v.row("replies", fmt.Sprintf("%d without a question in the capture", o.Unsolicited))
	}
	if o.Dropped > 0 {
		v.row("not paired", fmt.Sprintf("%d questions, since too many were open at once", o.Dropped))
	}
	v.line()
	v.line(strong.Render("exchanges"))
	for i := range o.Kept[:min(len(o.Kept), maxDrawn)] {
		v.exchangeLine(&o.Kept[i])
	}
	if rest := o.Exchanges - min(len(o.Kept), maxDrawn); rest > 0 {
		v.flow("", 2, fmt.Sprintf("and %d more; --json gives them all", rest), quiet)
	}
}

func overviewSentence(o *conversation.Overview) string {
	if o.Messages == 0 {
		return fmt.Sprintf("no DNS message in its %s.", plural(o.Packets, "packet", "packets"))
	}
	faults := 0
	for _, f := range o.Findings {
		if f.Severity == finding.Fault {
			faults += len(f.Evidence)
		}
	}
	if faults == 0 {
		return fmt.Sprintf("%s, and none of them failed.", plural(o.Exchanges, "exchange", "exchanges"))
	}
	return fmt.Sprintf("%d of %s failed.", faults, plural(o.Exchanges, "exchange", "exchanges"))
}

func outcomeCounts(o *conversation.Overview) string {
	outcomes := slices.SortedFunc(maps.Keys(o.Outcomes), func(a, b exchange.Outcome) int {
		return cmp.Or(cmp.Compare(o.Outcomes[b], o.Outcomes[a]), cmp.Compare(a, b))
	})
	var parts []string
	for _, outcome := range outcomes {
		parts = append(parts, fmt.Sprintf("%d %s", o.Outcomes[outcome], outcome))
	}
	return strings.Join(parts, ", ")
}

// exchangeLine draws one exchange of a capture: when, who asked what, and what came of it.
func (v *View) exchangeLine(e *exchange.Exchange) {
	result := string(e.Outcome)
	if e.Outcome == exchange.Answered {
		result = strings.Join(exchange.Values(e.Answer().Records), ", ")
	}
	timing := ""
	if e.Reply != nil {
		timing = " in " + Took(e.Took())
	}
	if e.Tries() > 1 {
		timing += fmt.Sprintf(", asked %d times", e.Tries())
	}
	style := plainStyle
	if !e.Outcome.Good() && e.Outcome != exchange.Referral && e.Outcome != exchange.Truncated {
		style = severe[finding.Fault]
	}
	head := fmt.Sprintf("%5d  ", e.Number)
	who := quiet.Render(fmt.Sprintf("(%s asked %s)", e.Client.Addr(), e.Server.Name()))
	text := fmt.Sprintf("%s  %s: %s%s %s", e.Sent().Format("15:04:05.000"), e.Question.Spoken(), style.Render(result), timing, who)
	v.flow(quiet.Render(head), 7, text, plainStyle)
}
