package text

import (
	"fmt"
	"slices"
	"strings"

	"unquil/core/exchange"
)

// Answers draws what each server said of each name: the exchanges of one name
// and server that follow each other make one block.
func (v *View) Answers(exchanges []*exchange.Exchange) {
	for start := 0; start < len(exchanges); {
		end := start + 1
		for end < len(exchanges) && exchanges[end].Server == exchanges[start].Server &&
			exchanges[end].Question.Name == exchanges[start].Question.Name {
			end++
		}
		if start > 0 {
			v.line()
		}
		v.answerBlock(exchanges[start:end])
		start = end
	}
}

func (v *View) answerBlock(block []*exchange.Exchange) {
	first := block[0]
	v.flow("", 0, nameText(first.Question.Name), plainStyle)
	for _, e := range block {
		v.values(e)
	}
	v.line()
	var aliases []string
	for _, e := range block {
		for _, alias := range e.Answer().Aliases {
			target, _ := alias.Target()
			link := fmt.Sprintf("%s is an alias that leads to %s", alias.Name.Spoken(), target.Spoken())
			if !slices.Contains(aliases, link) {
				aliases = append(aliases, link)
			}
		}
	}
	for i, link := range aliases {
		v.row(map[bool]string{true: "by way of"}[i == 0], link)
	}
	v.row("said by", saidBy(block))
	if authority := authorityWords(block); authority != "" {
		v.row("authority", authority)
	}
	if lasts := lastsWords(block); lasts != "" {
		v.row("lasts", lasts)
	}
	for _, e := range block {
		for _, note := range notes(e) {
			v.row("note", note)
		}
	}
}

// values draws the answer to one question, or in words why there is none.
func (v *View) values(e *exchange.Exchange) {
	label := "  " + quiet.Render(e.Question.Type.String())
	records := e.Answer().Records
	if e.Outcome != exchange.Answered || len(records) == 0 {
		style := plainStyle
		if !e.Outcome.Good() {
			style = severe["fault"]
		}
		v.flow(label, labelWidth, Outcome(e.Outcome), style)
		if e.Err != nil && e.Outcome == exchange.Rejection {
			v.flow("", labelWidth, e.Err.Error(), quiet)
		}
		return
	}
	for i, r := range records {
		if i > 0 {
			label = ""
		}
		v.flow(label, labelWidth, r.Value(), strong)
	}
}

// saidBy names the server, how it was asked and how long it took.
func saidBy(block []*exchange.Exchange) string {
	first := block[0]
	who := first.Server.AddressText()
	if first.Server.Label != "" || first.Server.Host != "" {
		who = fmt.Sprintf("%s (%s)", first.Server.Name(), who)
	}
	over := strings.ToUpper(string(first.Transport()))
	var times []string
	for _, e := range block {
		switch {
		case e.Reply == nil:
			times = append(times, fmt.Sprintf("%s nothing after %s", e.Question.Type, plural(e.Tries(), "try", "tries")))
		case len(block) == 1:
			times = append(times, "in "+Took(e.Took()))
		default:
			times = append(times, fmt.Sprintf("%s in %s", e.Question.Type, Took(e.Took())))
		}
	}
	return fmt.Sprintf("%s over %s, %s", who, over, strings.Join(times, ", "))
}

func authorityWords(block []*exchange.Exchange) string {
	for _, e := range block {
		if !e.Outcome.Good() {
			continue
		}
		if e.Authoritative() {
			return "the zone's own server"
		}
		return "a cache, not the zone itself: what the zone says now may differ"
	}
	return ""
}

// lastsWords says how long each answer may be kept.
func lastsWords(block []*exchange.Exchange) string {
	var parts []string
	for _, e := range block {
		var text string
		if records := e.Answer().Records; len(records) > 0 {
			least, most := records[0].TTL, records[0].TTL
			for _, r := range records {
				least, most = min(least, r.TTL), max(most, r.TTL)
			}
			text = Seconds(least)
			if most > least {
				text += " to " + Seconds(most)
			}
		} else if e.Reply != nil && e.Outcome.Good() {
			if _, ttl, ok := exchange.Negative(e.Reply); ok {
				text = Seconds(ttl)
			}
		}
		if text != "" {
			parts = append(parts, e.Question.Type.String()+" "+text)
		}
	}
	if len(block) == 1 && len(parts) == 1 {
		return strings.TrimPrefix(parts[0], block[0].Question.Type.String()+" ")
	}
	return strings.Join(parts, ", ")
}

// notes are what a reader should not miss about one exchange.
func notes(e *exchange.Exchange) (all []string) {
	about := e.Question.Type.String()
	if len(e.Attempts) > 1 && e.Attempts[0].Transport == exchange.UDP && e.Transport() == exchange.TCP {
		if e.Outcome == exchange.Truncated {
			all = append(all, about+": the reply over UDP was cut, and TCP gave none.")
		} else {
			all = append(all, fmt.Sprintf("%s: the reply over UDP was cut, so it was asked again over TCP (%d bytes).", about, e.Size()))
		}
	} else if e.Tries() > 1 && e.Reply != nil {
		all = append(all, fmt.Sprintf("%s: answered only at try %d.", about, e.Tries()))
	}
	for _, a := range e.Attempts {
		for _, r := range a.Rejected {
			all = append(all, fmt.Sprintf("%s: a message from %s was not believed: %v.", about, exchange.FormatAddress(r.From), r.Err))
		}
	}
	if e.Answer().Loop {
		all = append(all, about+": the aliases lead back to where they began.")
	}
	if e.Reply != nil && e.Reply.Trailing > 0 {
		all = append(all, fmt.Sprintf("%s: %d bytes follow the message that belong to nothing.", about, e.Reply.Trailing))
	}
	return all
}

// Bare draws the asked values alone, one a line in master-file form.
func (v *View) Bare(exchanges []*exchange.Exchange) {
	for _, e := range exchanges {
		for _, r := range e.Answer().Records {
			v.line(r.Value())
		}
	}
}
