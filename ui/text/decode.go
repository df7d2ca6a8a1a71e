package text

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"unquil/core/conversation"
	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wording"
)

// most is how many lines of one kind are drawn.
func (v *View) most() int {
	if v.All {
		return 1 << 30
	}
	return maxDrawn
}

// maxDrawn is how many a terminal is given where nobody asks for all.
const maxDrawn = 200

// clock is how times within a capture are written.
const clock = "15:04:05.000"

// Overview draws what happened in a capture: what went wrong first, with what to
// type to see it, then the figures. again is the command that reads the same files. It
// takes a screen, or with All as much as there is.
func (v *View) Overview(files, again string, o *conversation.Overview) {
	v.flow("", 0, subject.Render(string(escape.Of(files)))+": "+overviewSentence(o), plainStyle)
	if !v.All && o.Messages > 0 {
		v.onScreen(again, o)
		return
	}
	v.captureFindings(again, o)
	v.line()
	v.line(strong.Render("figures"))
	if !o.First.IsZero() {
		v.row("span", fmt.Sprintf("%s to %s UTC, %s", o.First.Format("2006-01-02 15:04:05"), o.Last.Format("15:04:05"), wording.Span(o.Last.Sub(o.First)))+absurdWords(o))
	}
	share := ""
	if o.Packets > 0 {
		share = fmt.Sprintf(" (%d %%)", 100*o.Messages/o.Packets)
	}
	v.row("packets", fmt.Sprintf("%s, of which %s are DNS messages%s", wording.Number(o.Packets), wording.Number(o.Messages), share))
	clients, _ := o.Clients()
	servers, _ := o.Servers()
	v.row("exchanges", fmt.Sprintf("%s, by %s with %s", wording.Number(o.Exchanges), wording.Count(len(clients), "client", "clients"), wording.Count(len(servers), "server", "servers")))
	if o.Exchanges > 0 {
		v.row("outcomes", outcomeCounts(o))
	}
	for _, extra := range []struct {
		count     int
		label     string
		one, many string
		which     string
	}{
		{o.Unsolicited, "unasked", "reply", "replies", " without a query in the capture"},
		{o.Duplicates, "duplicates", "packet", "packets", " captured twice"},
		{o.Incomplete, "fragments", "datagram", "datagrams", " with missing fragments"},
		{o.Lost, "lost", "packet", "packets", " that came too fast for whoever captured them"},
		{o.Gaps, "gaps", "place", "places", " in TCP streams with missing packets"},
		{o.Unreadable + o.Malformed, "unreadable", "packet", "packets", ""},
		{o.Unknown, "other links", "packet", "packets", " of link types that are not supported"},
		{o.Dropped, "not paired", "query", "queries", ", because too many were open at once"},
	} {
		if extra.count > 0 {
			v.row(extra.label, wording.Count(extra.count, extra.one, extra.many)+extra.which)
		}
	}
	for i, e := range o.Encrypted {
		if i == 5 {
			v.row("", fmt.Sprintf("and %d more", len(o.Encrypted)-i))
			break
		}
		host := ""
		if e.Host != "" {
			host = " (" + string(e.Host) + ")"
		}
		label := ""
		if i == 0 {
			label = "encrypted"
		}
		v.row(label, fmt.Sprintf("%s to %s%s over %s: %s, which cannot be read", e.Client.Addr(), exchange.Server{Address: e.Server}.AddressText(), host, strings.ToUpper(string(e.Over)), wording.Count(e.Packets, "packet", "packets")))
	}
	if l := &o.LocalLink; l.Questions+l.Announced > 0 {
		v.row("local link", fmt.Sprintf("%s, %s for %s", wording.Count(l.Questions, "question", "questions"), wording.Count(l.Announced, "announcement", "announcements"), wording.Count(len(l.Names()), "name", "names")))
	}
	v.attested(o.Signed)
	if len(o.Slowest) > 0 {
		v.line()
		v.line(strong.Render("slowest"))
		for _, s := range o.Slowest {
			v.flow("  "+fmt.Sprintf("%8s", wording.Span(s.Took)), labelWidth, fmt.Sprintf("%s from %s %s", s.Question.Spoken(), exchange.Server{Address: s.Server}.AddressText(), quiet.Render(fmt.Sprintf("(exchange %d)", s.Number))), plainStyle)
		}
	}
	if again == "" {
		return
	}
	v.line()
	v.flow("", 0, quiet.Render("more: --view exchanges, names, servers, clients, episodes, walks, local-link or timeline; --exchange N or --packet N shows one in full"), plainStyle)
}

// onScreen draws the worst findings in two lines each, and the figures in one.
func (v *View) onScreen(again string, o *conversation.Overview) {
	if len(o.Findings) > 0 {
		v.line()
	}
	worst := o.Findings[:min(len(o.Findings), maxOnScreen)]
	for _, f := range worst {
		v.inTwoLines(&f, closer(&f, o))
	}
	if rest := len(o.Findings) - len(worst) + o.MoreFound; rest > 0 {
		left := &conversation.Overview{Findings: o.Findings[len(worst):]}
		worse := strings.TrimPrefix(toNote(left.Findings), "; ")
		if worse != "" {
			worse = ", " + worse + " among them"
		}
		v.row("and", fmt.Sprintf("%d more findings%s: --all tells them", rest, worse))
	}
	v.line()
	clients, _ := o.Clients()
	servers, _ := o.Servers()
	figures := fmt.Sprintf("%s, %s, by %s with %s", wording.Count(o.Packets, "packet", "packets"), wording.Count(o.Exchanges, "exchange", "exchanges"), wording.Count(len(clients), "client", "clients"), wording.Count(len(servers), "server", "servers"))
	if !o.First.IsZero() {
		figures = fmt.Sprintf("%s UTC, %s%s; ", o.First.Format("2006-01-02 15:04:05"), wording.Span(o.Last.Sub(o.First)), absurdWords(o)) + figures
	}
	if o.Exchanges > 0 {
		figures += ": " + outcomeCounts(o)
	}
	v.row("figures", figures)
	if again != "" {
		v.row("closer", "--all for all of it, with what to do and how to look closer; --view exchanges, names, servers, clients, episodes, walks, local-link, timeline; --exchange N, --packet N")
	}
}

// maxOnScreen is how many findings a screen has room for.
const maxOnScreen = 5

// inTwoLines draws a finding: what was found and, where that leaves a line for it, how to look closer.
func (v *View) inTwoLines(f *finding.Finding, closer string) {
	lead, room := "  "+severe[f.Severity].Render(string(f.Severity)), max(v.room()-labelWidth, 24)
	lines := wrap(f.Text, room)
	if len(lines) > 2 {
		second := wrap(lines[1], room-2)[0] // whole words, and what says that there is more
		v.flow(lead, labelWidth, lines[0]+" "+second+" …", plainStyle)
		return
	}
	v.flow(lead, labelWidth, f.Text, plainStyle)
	if second := string(f.Code) + closer; len(lines) == 1 && ansi.StringWidth(second) <= room {
		v.flow("", labelWidth, second, quiet)
	}
}

// closer are the options that show what is behind a finding.
func closer(f *finding.Finding, o *conversation.Overview) string {
	choice := conversation.Showing(f)
	words := ""
	switch {
	case len(f.Evidence) == 0 && views[f.Code] != "":
		return "; look with --view " + views[f.Code]
	case len(f.Evidence) == 0 && len(f.Packets) > 0:
		return fmt.Sprintf("; look with --packet %d", f.Packets[0])
	case len(f.Evidence) == 0:
		return ""
	case len(f.Evidence) == 1:
		return fmt.Sprintf("; look with --exchange %d", f.Evidence[0])
	case o.Signed.Found(f):
		return "; look with --view exchanges --signed bogus"
	}
	for _, client := range choice.Clients {
		words += " --client " + client.Addr().String()
	}
	for _, server := range choice.Servers {
		words += " --server " + server.Addr().String()
	}
	return "; look with --view exchanges --finding " + string(f.Code) + words
}

// absurdWords says of a capture whose times cannot be that they are so.
func absurdWords(o *conversation.Overview) string {
	if !o.AbsurdTimes() {
		return ""
	}
	return "; the times are absurd: the clock was wrong, and so are the durations shown here"
}

// views show what findings without exchanges are about.
var views = map[finding.Code]string{finding.NameConflict: "local-link", finding.ReadableNames: "names"}

// captureFindings lists findings with the command that shows what is behind each.
func (v *View) captureFindings(again string, o *conversation.Overview) {
	if len(o.Findings) == 0 {
		return
	}
	v.line()
	v.line(strong.Render("what to note"))
	for _, f := range o.Findings[:min(len(o.Findings), maxTold)] {
		v.flow("  "+severe[f.Severity].Render(string(f.Severity)), labelWidth, f.Text, plainStyle)
		detail := string(f.Code)
		switch len(f.Evidence) {
		case 0:
			switch view := views[f.Code]; {
			case view != "":
				detail += fmt.Sprintf("; %s --view %s", again, view)
			case len(f.Packets) > 0:
				detail += fmt.Sprintf("; %s --packet %d", again, f.Packets[0])
			}
		case 1:
			detail += fmt.Sprintf("; %s --exchange %d", again, f.Evidence[0])
		default:
			if o.Signed.Found(&f) {
				detail += fmt.Sprintf("; %s --view exchanges --signed bogus", again)
				break
			}
			detail += fmt.Sprintf("; %s --view exchanges --finding %s", again, f.Code)
			choice := conversation.Showing(&f)
			for _, outcome := range choice.Outcomes {
				detail += " --outcome " + string(outcome)
			}
			for _, client := range choice.Clients {
				detail += " --client " + client.Addr().String()
			}
			for _, server := range choice.Servers {
				detail += " --server " + server.Addr().String()
			}
		}
		if again == "" {
			detail = string(f.Code) // there is nothing that could be looked at again
		}
		v.flow("", labelWidth, detail, quiet)
		if f.Severity != finding.Note {
			v.flow("", labelWidth, "next: "+f.Next, plainStyle)
		}
	}
	v.moreFindings(again, o)
}

// maxTold is how many findings of a capture are told one by one: a network with
// hundreds of clients has hundreds of them.
const maxTold = 40

// moreFindings counts the rest by code.
func (v *View) moreFindings(again string, o *conversation.Overview) {
	type kind struct {
		severity finding.Severity
		code     finding.Code
	}
	counts := map[kind]int{}
	var order []kind
	for _, f := range o.Findings[min(len(o.Findings), maxTold):] {
		k := kind{f.Severity, f.Code}
		if counts[k]++; counts[k] == 1 {
			order = append(order, k)
		}
	}
	for _, k := range order {
		v.flow("  "+severe[k.severity].Render(string(k.severity)), labelWidth, fmt.Sprintf("and %d more of %s", counts[k], k.code), plainStyle)
		if again != "" {
			v.flow("", labelWidth, fmt.Sprintf("%s --view exchanges --finding %s; --json has each", again, k.code), quiet)
		}
	}
	if o.MoreFound > 0 {
		v.flow("", 2, fmt.Sprintf("and %d more findings that were not kept", o.MoreFound), quiet)
	}
}

func overviewSentence(o *conversation.Overview) string {
	if o.Messages == 0 {
		return fmt.Sprintf("no DNS message in %s%s.", wording.Count(o.Packets, "packet", "packets"), toNote(o.Findings))
	}
	bad := 0
	for outcome, n := range o.Outcomes {
		if outcome.Failed() {
			bad += n
		}
	}
	result := wording.Count(o.Exchanges, "exchange", "exchanges") + ", none of which failed"
	switch {
	case o.Exchanges == 0 && o.LeftOut > 0:
		return fmt.Sprintf("none of %s fits the selection.", wording.Count(o.LeftOut, "exchange", "exchanges"))
	case o.Exchanges == 0:
		result = "no exchange to show"
	case o.Exchanges == 1 && bad == 0:
		result = "1 exchange, which did not fail"
	case bad > 0:
		result = severe[finding.Fault].Render(fmt.Sprintf("%s of %s failed", wording.Number(bad), wording.Count(o.Exchanges, "exchange", "exchanges")))
	}
	return result + toNote(o.Findings) + "."
}

// toNote counts what is worse than a note; "" when nothing is.
func toNote(found []finding.Finding) string {
	counts := map[finding.Severity]int{}
	for _, f := range found {
		counts[f.Severity]++
	}
	var parts []string
	if n := counts[finding.Fault]; n > 0 {
		parts = append(parts, wording.Count(n, "fault", "faults"))
	}
	if n := counts[finding.Concern]; n > 0 {
		parts = append(parts, wording.Count(n, "concern", "concerns"))
	}
	if len(parts) == 0 {
		return ""
	}
	return "; " + strings.Join(parts, " and ")
}

func outcomeCounts(o *conversation.Overview) string {
	outcomes := slices.SortedFunc(maps.Keys(o.Outcomes), func(a, b exchange.Outcome) int {
		return cmp.Or(cmp.Compare(o.Outcomes[b], o.Outcomes[a]), cmp.Compare(a, b))
	})
	var parts []string
	for _, outcome := range outcomes {
		parts = append(parts, fmt.Sprintf("%s %s", wording.Number(o.Outcomes[outcome]), outcome))
	}
	return strings.Join(parts, ", ")
}

// Written says how many packets were written to a file.
func (v *View) Written(packets, exchanges int, file string) {
	v.flow("", 0, fmt.Sprintf("%s of %s written to %s", wording.Count(packets, "packet", "packets"), wording.Count(exchanges, "exchange", "exchanges"), string(escape.Of(file))), plainStyle)
}

// Recorded says that exchanges were written, and as what.
func (v *View) Recorded(exchanges int, as, to string) {
	v.flow("", 0, fmt.Sprintf("%s written to %s as %s", wording.Count(exchanges, "exchange", "exchanges"), string(escape.Of(to)), as), plainStyle)
}

// Exchanges lists the exchanges of a capture in its order.
func (v *View) Exchanges(o *conversation.Overview) {
	if v.none(o) {
		return
	}
	for i := range o.Kept[:min(len(o.Kept), v.most())] {
		e := &o.Kept[i]
		related := relatedWords(o.Lines[e.Number])
		if v.Whole { // one exchange, one line
			v.exchangeLine(e, related)
			continue
		}
		v.ExchangeLine(e)
		for _, words := range related {
			v.flow("", 9, words, quiet)
		}
	}
	v.rest(o.Exchanges-min(len(o.Kept), v.most()), "exchanges")
}

// none says it where no exchange was selected, or the capture has none.
func (v *View) none(o *conversation.Overview) bool {
	if o.Exchanges > 0 {
		return false
	}
	says := "no exchange to show: the capture has none"
	if o.LeftOut > 0 {
		says = fmt.Sprintf("no exchange to show: none of %s fits the selection", wording.Number(o.LeftOut))
	}
	v.flow("", 0, says, plainStyle)
	return true
}

func (v *View) rest(n int, what string) {
	if n > 0 {
		v.flow("", 2, fmt.Sprintf("and %s more %s; narrow the selection, or give --all, --csv or --json", wording.Number(n), what), quiet)
	}
}

// relatedWords says what an exchange has to do with others.
func relatedWords(l conversation.Line) (words []string) {
	if n := l.Before.Number; n > 0 {
		words = append(words, fmt.Sprintf("retry of exchange %d", n))
	}
	if n := l.After.Number; n > 0 {
		words = append(words, fmt.Sprintf("retried in exchange %d, with %s", n, l.After.Server.Addr()))
	}
	if l.Parts > 0 {
		words = append(words, fmt.Sprintf("its reply continues in %s, the last after %s (packet %d)", wording.Count(l.Parts, "more message", "more messages"), wording.Span(l.Lasted), l.LastIn))
	}
	if l.Guesses > 0 {
		words = append(words, wording.Count(l.Guesses, "reply came with a wrong ID", "replies came with wrong IDs"))
	}
	if l.Looped {
		words = append(words, "its packet went round in a loop")
	}
	if l.OtherIn > 0 {
		words = append(words, fmt.Sprintf("a second reply says something else (packet %d)", l.OtherIn))
	}
	if l.Forbidden != "" {
		words = append(words, l.Forbidden)
	}
	if l.Cut {
		words = append(words, "the capture has only part of the reply")
	}
	return words
}

// ExchangeLine draws one exchange of a capture: when, who asked what, and what came of it.
func (v *View) ExchangeLine(e *exchange.Exchange) { v.exchangeLine(e, nil) }

// exchangeLine is ExchangeLine with more words behind it.
func (v *View) exchangeLine(e *exchange.Exchange, more []string) {
	text := fmt.Sprintf("%s  %s: %s %s", e.Sent().Format(clock), e.Asked(), resultWords(e),
		quiet.Render(fmt.Sprintf("(%s queried %s)", e.Client.Addr(), e.Server.Name())))
	for _, words := range more {
		text += "; " + words
	}
	v.flow(quiet.Render(fmt.Sprintf("%5d  ", e.Number)), 7, text, plainStyle)
}

// enoughValues is how many columns of values a line about an exchange takes.
const enoughValues = 120

// resultWords is what came of an exchange, and how long that took.
func resultWords(e *exchange.Exchange) string {
	timing := ""
	if e.Reply != nil {
		timing = " in " + wording.Span(e.Took())
	}
	if e.Sends() > 1 {
		timing += fmt.Sprintf(", %d attempts", e.Sends())
	}
	return cameTo(e) + timing
}

// cameTo is what came of an exchange.
func cameTo(e *exchange.Exchange) string {
	result := string(e.Outcome)
	if e.Outcome == exchange.Answered && e.Question.Type.IsTransfer() {
		result = wording.Count(len(e.Answer().Records), "record", "records") + " of the zone"
	} else if e.Outcome == exchange.Answered {
		values := exchange.Values(e.Answer().Records)
		if result = strings.Join(values, ", "); len(values) == 0 {
			result = string(e.Outcome)
		}
		if short := ansi.Truncate(result, enoughValues, "…"); short != result {
			result = fmt.Sprintf("%s (%s in all)", short, wording.Count(len(values), "value", "values"))
		}
	}
	if e.Outcome == exchange.Referral {
		zone, _, _ := exchange.ReferralZone(e.Reply)
		result = "referred to " + zone.Spoken()
	}
	if mnemonic := e.Outcome.Mnemonic(); mnemonic != "" {
		result += " (" + mnemonic + ")"
	}
	style := plainStyle
	if e.Outcome.Failed() {
		style = severe[finding.Fault]
	}
	return style.Render(result)
}
