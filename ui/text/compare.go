package text

import (
	"fmt"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"unquil/core/comparison"
	"unquil/core/exchange"
	"unquil/core/probe"
	"unquil/core/wire"
	"unquil/core/wording"
)

// Compared draws comparisons, one a question.
func (v *View) Compared(results []probe.Compared, expect map[wire.Type][]string) {
	for i := range results {
		if i > 0 {
			v.line()
		}
		v.compared(&results[i], expect)
	}
}

func (v *View) compared(c *probe.Compared, expect map[wire.Type][]string) {
	v.flow("", 0, nameText(c.Question.Name)+" "+c.Question.Type.String()+": "+c.Headline(), plainStyle)
	if !c.Asked {
		v.flow("", 2, "The zone's own servers were not queried (--zone-servers does that), so this does not tell who is right.", quiet)
	} else if c.Truth() == nil {
		v.flow("", 2, "None of the zone's own servers gave an answer to compare the others with.", quiet)
	}
	if values := expect[c.Question.Type]; len(values) > 0 {
		v.move(c.Expect(values))
	}
	for i := range c.Groups {
		v.line()
		v.group(&c.Groups[i], c.Contested())
	}
	v.checking(c.Validated)
	v.Findings("what to note", c.AllFindings())
}

// move draws how far a change has come: a bar with the share that has it, and
// when the last one can have it.
func (v *View) move(m comparison.Move) {
	total := len(m.Have) + len(m.Lack) + len(m.Unknown)
	const width = 30
	done := width * len(m.Have) / max(total, 1)
	v.line()
	v.row("change", fmt.Sprintf("to %s", strings.Join(m.Expected, ", ")))
	v.flow("", labelWidth, good.Render(strings.Repeat("█", done))+quiet.Render(strings.Repeat("░", width-done))+fmt.Sprintf(" %d of %d have it (%d %%)", len(m.Have), total, 100*len(m.Have)/max(total, 1)), plainStyle)
	for _, group := range []struct {
		label   string
		members []comparison.Member
	}{{"still old", m.Lack}, {"unknown", m.Unknown}} {
		var names []string
		for _, member := range group.members {
			names = append(names, member.Exchange.Server.Name())
		}
		if len(names) > 0 {
			v.row(group.label, strings.Join(names, ", "))
		}
	}
	if m.Lasts > 0 {
		v.row("done by", "the last cache can have dropped the old answer within "+Seconds(m.Lasts))
	}
}

func (v *View) group(g *comparison.Group, contested bool) {
	title, style := "answer", good
	switch {
	case g.Truth:
		title, style = "zone says", good
	case g.Outcome == "":
		title, style = "unknown", quiet
	case !g.Outcome.Good():
		title, style = "failed", severe["fault"]
	case contested:
		title, style = "differs", severe["concern"]
	}
	says := g.Values
	if len(says) == 0 {
		says = []string{g.Outcome.Words()}
	}
	for i, value := range says {
		label := ""
		if i == 0 {
			label = "  " + style.Render(title)
		}
		v.flow(label, 16, value, strong)
	}
	for _, alias := range g.Aliases {
		target, _ := alias.Target()
		v.flow("", 16, fmt.Sprintf("via %s, which points (CNAME) to %s", alias.Name.Spoken(), target.Spoken()), quiet)
	}
	widest := 0
	for _, m := range g.Members {
		widest = max(widest, ansi.StringWidth(m.Exchange.Server.Name()))
	}
	for _, m := range g.Members {
		name := m.Exchange.Server.Name()
		v.flow("    "+name, 4+min(widest, 30)+2, memberWords(m), quiet)
	}
}

func memberWords(m comparison.Member) string {
	e := m.Exchange
	var words []string
	if address := e.Server.AddressText(); address != e.Server.Name() {
		words = append(words, address)
	}
	switch {
	case m.Own && m.Serial != 0:
		words = append(words, fmt.Sprintf("zone's own server, serial %d", m.Serial))
	case m.Own:
		words = append(words, "zone's own server")
	case e.Outcome == exchange.Answered && !e.Authoritative():
		records := e.Answer().Records
		words = append(words, "a cache, TTL "+Seconds(records[0].TTL))
	}
	if over := e.Transport(); over != exchange.UDP && over != "" {
		words = append(words, "over "+strings.ToUpper(string(over)))
	}
	if e.Reply != nil {
		words = append(words, wording.Span(e.Took()))
	}
	return strings.Join(words, ", ")
}

// BareCompared draws one line a server: its name, a tab, its values with commas
// between, or the word for how it ended.
func (v *View) BareCompared(results []probe.Compared) {
	for i := range results {
		for _, g := range results[i].Groups {
			says := strings.Join(g.Values, ",")
			if says == "" {
				says = string(g.Outcome)
			}
			for _, m := range g.Members {
				v.line(m.Exchange.Server.Name(), "\t", says)
			}
		}
	}
}
