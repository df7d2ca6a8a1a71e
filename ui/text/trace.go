package text

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"unquil/core/delegation"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/core/wording"
)

// Walk draws a walk as the way down it is: each zone one step further in, its
// servers folded to one line while they agree and unfolded where they do not, or
// where every is asked for.
func (v *View) Walk(w *delegation.Walk, every bool) {
	style := good
	if finding.Worst(w.Findings) == finding.Fault {
		style = severe[finding.Fault]
	}
	v.flow("", 0, nameText(w.Question.Name)+" "+w.Question.Type.String()+" "+style.Render(w.Summary()+brokenWords(w)), plainStyle)
	if w.Wildcard != nil {
		how := "the answer comes from the wildcard "
		if !w.Wildcard.Proven {
			how = "the answer may come from a wildcard: the same records are at "
		}
		v.row("wildcard", how+w.Wildcard.Name.Spoken())
	}
	if !w.Closest.IsZero() {
		v.row("closest", w.Closest.Spoken()+" exists; there is no "+below(w.Name(), w.Closest)+" below it")
	}
	v.line()
	if p := w.Priming; p != nil && len(p.Unknown)+len(p.Gone)+len(p.Moved) == 0 {
		v.flow("", 2, "the root hints agree with the root: "+wording.Count(len(p.Listed), "server", "servers"), quiet)
	}
	depth := 0
	for i, step := range w.Steps {
		if i > 0 && !w.Steps[i-1].Child.Equal(step.Zone) {
			if !step.Name.Equal(w.Steps[i-1].Name) {
				depth = 0
				v.line(quiet.Render("  the alias points to "), subject.Render(step.Name.Spoken()))
			} else {
				depth--
			}
		}
		v.step(step, depth, every)
		depth++
	}
	for _, side := range w.AddressWalks {
		if side.End != delegation.EndNoData { // that a server has no IPv6 address is no news
			v.flow("", 2, fmt.Sprintf("on the side: %s %s", side.Question.Spoken(), side.Summary()), quiet)
		}
	}
	v.validation(w)
	v.times(w)
	v.Findings("what to note", w.Findings)
}

// times says how long the walk took, and how long a resolver would take.
func (v *View) times(w *delegation.Walk) {
	if w.Known > 0 {
		text := wording.Span(w.Known) + " until the answer was known"
		if w.End != delegation.EndAnswer && w.End != delegation.EndNoData && w.End != delegation.EndNoName {
			text = wording.Span(w.Known) + " until that was known"
		}
		if w.Resolver > 0 {
			text += "; a resolver that queries one server per level needs about " + wording.Span(w.Resolver)
		}
		if w.Took > w.Known+w.Known/4 {
			text += "; " + wording.Span(w.Took) + " until the last server had answered or timed out"
		}
		v.line()
		v.row("time", text)
	}
}

func (v *View) step(s *delegation.Step, depth int, every bool) {
	lead := strings.Repeat("  ", depth+1)
	zone := s.Zone.Spoken()
	if s.Given {
		zone = "the starting point"
		every = true
	} else if s.Zone.IsRoot() {
		zone = ". (the root)"
	}
	shown := ""
	if s.Short {
		shown = quiet.Render("  queried only for " + s.Question.Spoken())
	}
	v.line(lead, strong.Render(zone), shown)
	lead += "  "
	if words, agree := agreement(s); agree && !every {
		v.flow(lead, len(lead), words, plainStyle)
		return
	}
	widest := 0
	for _, r := range s.Replies {
		widest = max(widest, ansi.StringWidth(r.Host.Spoken()))
	}
	apart := slices.ContainsFunc(s.Replies, func(r *delegation.Reply) bool {
		return r.Stance == delegation.Refers && s.Chosen != nil && s.Chosen.Stance == delegation.Refers && r.Lists() != s.Chosen.Lists()
	})
	for _, r := range s.Replies {
		words := replyWords(r, s.Given)
		if apart && r.Stance == delegation.Refers {
			words += ": " + r.Lists()
		}
		v.flow(lead+r.Host.Spoken(), len(lead)+widest+2, words, plainStyle)
	}
	if n := s.Spared(); n > 0 {
		v.flow(lead, len(lead), wording.Count(n, "more server address was not asked", "more server addresses were not asked"), quiet)
	}
}

// below is the part of name that hangs directly from closest.
func below(name, closest wire.Name) string {
	return name.Ancestor(closest.Labels() + 1).Spoken()
}

// agreement says in one line what all servers of a step said alike.
func agreement(s *delegation.Step) (string, bool) {
	asked := 0
	var least time.Duration
	for _, r := range s.Replies {
		if r.Stance == delegation.NotAsked {
			continue
		}
		if !r.Stance.Usable() || r.Stance != s.Replies[0].Stance || said(r) != said(s.Replies[0]) || r.Lists() != s.Replies[0].Lists() {
			return "", false
		}
		if took := r.Exchange.Took(); asked == 0 || took < least {
			least = took
		}
		asked++
	}
	if asked == 0 {
		return "", false
	}
	words := said(s.Replies[0])
	verb, rest, _ := strings.Cut(words, " ")
	many := strings.TrimSuffix(verb, "s") + " " + rest
	switch spared := s.Spared(); {
	case spared > 0 && asked == 1:
		words = fmt.Sprintf("1 of %d server addresses %s", asked+spared, words)
	case spared > 0:
		words = fmt.Sprintf("%d of %d server addresses, picked at random, %s", asked, asked+spared, many)
	case asked == 1:
		words = "its only server " + words
	case asked == 2:
		words = "both server addresses " + many
	default:
		words = fmt.Sprintf("all %d server addresses %s", asked, many)
	}
	return fmt.Sprintf("%s %s", words, quiet.Render("("+wording.Span(least)+" at best)")), true
}

// said is what a usable reply says, its verb first.
func said(r *delegation.Reply) string {
	if r.Stance == delegation.Refers {
		child, _, _ := exchange.ReferralZone(r.Exchange.Reply)
		return "refers to " + child.Spoken()
	}
	answer := r.Exchange.Answer()
	if values := exchange.Values(answer.Records); len(values) > 0 {
		return "answers " + strings.Join(values, ", ")
	}
	if len(answer.Aliases) > 0 {
		return "points (CNAME) to " + answer.Name.Spoken()
	}
	return "says " + r.Exchange.Outcome.Words()
}

// stanceWords says what is wrong with a reply that a walk cannot use.
var stanceWords = map[delegation.Stance]string{
	delegation.LameRefuses:     "refuses to answer",
	delegation.LameElsewhere:   "refers elsewhere",
	delegation.LameNoAuthority: "answers without authority",
	delegation.CutShort:        "unknown: interrupted before a reply",
}

// replyWords says what came of asking a server. Only one that is listed is lame: what
// was given to begin at may well serve something else.
func replyWords(r *delegation.Reply, given bool) string {
	var words string
	bad := severe[finding.Fault].Render
	switch {
	case r.Stance.Usable():
		words = said(r)
	case r.Stance == delegation.NotAsked:
		return "was not queried: " + r.Why
	case stanceWords[r.Stance] != "":
		words = stanceWords[r.Stance]
		if r.Stance != delegation.CutShort && !given {
			words += " (lame)"
		}
		words = bad(words)
	default:
		words = bad(r.Exchange.Outcome.Words())
	}
	var details []string
	if address := r.Address.String(); address != r.Host.Spoken() {
		details = append(details, address)
	}
	if serial, ok := r.Serial(); ok && r.Stance == delegation.Answers {
		details = append(details, fmt.Sprintf("serial %d", serial))
	}
	if r.Exchange.Reply != nil {
		details = append(details, wording.Span(r.Exchange.Took()))
	}
	if len(details) > 0 {
		words += quiet.Render(" (" + strings.Join(details, ", ") + ")")
	}
	return words
}

// BareWalk draws the answer's values alone.
func (v *View) BareWalk(w *delegation.Walk) {
	for _, r := range w.Records {
		v.line(r.Value())
	}
}
