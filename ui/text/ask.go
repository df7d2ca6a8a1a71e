package text

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/mail"
	"unquil/core/probe"
	"unquil/core/wire"
	"unquil/core/wording"
	"unquil/ui/data"
)

// Part is a part of an answer that can be shown.
type Part string

// The parts, and those that are shown when nothing is said.
var (
	PartNames  = []Part{"answer", "authority", "additional", "question", "header", "timing"}
	UsualParts = []Part{"answer", "timing"}
)

// Parts says which parts to show.
type Parts map[Part]bool

// Show is how much of the answers to show.
type Show struct {
	Parts   Parts
	Explain bool // a sentence for each field
}

// Block is what one server said of one name: an exchange a type, and what was
// asked besides.
type Block struct {
	Exchanges []*exchange.Exchange
	Timings   []exchange.Timing // of each exchange, when it was asked again and again
	Followed  []probe.Followed
	ZoneTTLs  map[wire.Question]probe.ZoneSays
	Validated []probe.Validated // what the signatures make of it, where that was asked for
	Now       time.Time         // as of which signatures are valid or not
}

// Gap parts two blocks.
func (v *View) Gap() { v.line() }

// More says how much of something is not shown.
func (v *View) More(n int, what string) { v.flow("", 2, fmt.Sprintf("and %d more %s", n, what), quiet) }

// Answers draws what one server said of one name.
func (v *View) Answers(b Block, show Show) {
	block := b.Exchanges
	v.flow("", 0, nameText(block[0].Question.Name), plainStyle)
	for i, e := range block {
		if show.Parts["header"] {
			v.header(e)
		}
		if show.Parts["question"] {
			v.row("question", e.Question.String())
		}
		if show.Parts["answer"] {
			v.values(e, b.Followed, show.Explain)
		}
		for _, section := range []wire.Section{wire.AuthoritySection, wire.AdditionalSection} {
			if show.Parts[Part(section.String())] && e.Reply != nil {
				v.section(section.String(), e.Reply.Section(section))
			}
		}
		if i < len(b.Timings) {
			v.timing(e, b.Timings[i])
		}
	}
	v.line()
	v.aliases(block)
	v.referrals(block)
	v.row(saidByLabel(block), v.saidBy(block, show.Parts["timing"]))
	if security := block[0].Last(); security != nil && security.Security != nil {
		v.row("secured", securityWords(security.Security))
	}
	if authority := authorityWords(b); authority != "" {
		v.row("authority", authority)
	}
	v.signed(b)
	v.validated(b.Validated)
	if lasts := lastsWords(block); lasts != "" {
		v.row("TTL", lasts)
	}
	for _, e := range block {
		for _, note := range notes(e) {
			v.row("note", note)
		}
	}
	if at := slices.IndexFunc(block, func(e *exchange.Exchange) bool { return e.Question.Type == wire.MX }); at >= 0 && len(b.Followed) > 0 {
		v.row("see also", fmt.Sprintf("unquil mail %s, for who may send its mail, and what else receivers look at", block[at].Question.Name.Spoken()))
	}
}

func (v *View) aliases(block []*exchange.Exchange) {
	var links []string
	for _, e := range block {
		for _, alias := range e.Answer().Aliases {
			target, _ := alias.Target()
			link := fmt.Sprintf("%s points (CNAME) to %s%s", alias.Name.Spoken(), target.Spoken(), v.markOf(target))
			if !slices.Contains(links, link) {
				links = append(links, link)
			}
		}
	}
	for i, link := range links {
		v.row(map[bool]string{true: "via"}[i == 0], link)
	}
}

// header draws the flags of a reply in words, and what EDNS says.
func (v *View) header(e *exchange.Exchange) {
	if e.Reply == nil {
		return
	}
	v.row("header", fmt.Sprintf("ID %d, %s; opcode %v, response code %v", e.Reply.ID, strings.Join(e.Reply.Flags.Words(), ", "), e.Reply.Flags.Opcode(), e.Reply.RCode()))
	if edns, ok := e.Reply.EDNS(); ok {
		words := fmt.Sprintf("accepts UDP messages of up to %d bytes", edns.Size)
		if edns.DO {
			words += ", DNSSEC records requested"
		}
		v.row("", "EDNS: "+words)
	}
}

// section draws the records of a section in master-file form.
func (v *View) section(name string, records []wire.Record) {
	label := name
	for _, r := range records {
		if r.Type == wire.OPT {
			continue
		}
		v.row(label, r.String())
		label = ""
	}
	if label != "" {
		v.row(label, "nothing")
	}
}

// bars are how a share of the longest time is drawn.
var bars = []rune("▁▂▃▄▅▆▇█")

// timing draws how long the replies took, as a line and as a small picture of
// the tries, the longest at full height; a try without a reply is x.
func (v *View) timing(e *exchange.Exchange, t exchange.Timing) {
	if t.Lost == t.Asked {
		v.row("timing", fmt.Sprintf("%s: none of %d was answered", e.Question.Type, t.Asked))
		return
	}
	words := fmt.Sprintf("%s: %d sent, %d lost; minimum %s, median %s, 95th percentile %s, maximum %s", e.Question.Type, t.Asked, t.Lost, wording.Span(t.Min), wording.Span(t.Median), wording.Span(t.P95), wording.Span(t.Max))
	if t.Later > 0 && t.First > 0 {
		words += fmt.Sprintf("; the first took %s, the others %s", wording.Span(t.First), wording.Span(t.Later))
	}
	v.row("timing", words)
	var picture strings.Builder
	for _, took := range t.Each[:min(len(t.Each), v.width-labelWidth)] {
		if took == 0 {
			picture.WriteRune('x')
			continue
		}
		picture.WriteRune(bars[int(took)*(len(bars)-1)/int(t.Max)])
	}
	v.flow("", labelWidth, picture.String(), good)
}

func securityWords(s *exchange.Security) string {
	if s.Version == "" {
		return "no certificate was received"
	}
	return fmt.Sprintf("%s; the certificate is for %s, issued by %s, until %s", s.Version, escape.Join(s.Names, ", "), s.Issuer, s.NotAfter.Format("2006-01-02 15:04 UTC"))
}

// Summary draws the counts of a long run.
func (v *View) Summary(s *data.Summary) {
	v.line()
	v.line(strong.Render("in all"))
	v.row("asked", fmt.Sprint(s.Asked))
	var parts []string
	for _, outcome := range slices.SortedFunc(maps.Keys(s.Outcomes), func(a, b string) int {
		return cmp.Or(cmp.Compare(s.Outcomes[b], s.Outcomes[a]), cmp.Compare(a, b))
	}) {
		parts = append(parts, fmt.Sprintf("%d %s", s.Outcomes[outcome], cmp.Or(outcome, "cut short")))
	}
	v.row("outcomes", strings.Join(parts, ", "))
	if s.Slowest != nil {
		v.row("slowest", fmt.Sprintf("%s %s from %s, %s", wording.Spoken(s.Slowest.Question.Name), s.Slowest.Question.Type, s.Slowest.Server, wording.Span(time.Duration(s.Slowest.Took*1e9))))
	}
}

// values draws the answer to one question, or in words why there is none; under
// each host that was followed, its addresses.
func (v *View) values(e *exchange.Exchange, followed []probe.Followed, explain bool) {
	label := "  " + quiet.Render(e.Question.Type.String())
	records := e.Answer().Records
	if e.Outcome != exchange.Answered || len(records) == 0 {
		style := plainStyle
		if !e.Outcome.Good() && e.Outcome != exchange.Referral { // whether one is right depends on who was asked
			style = severe["fault"]
		}
		v.flow(label, labelWidth, e.Outcome.Words(), style)
		if e.Err != nil && (e.Outcome == exchange.Rejection || e.Outcome == exchange.Unreachable || e.Outcome == "" && !errors.Is(e.Err, context.Canceled)) {
			v.flow("", labelWidth, e.Err.Error(), quiet)
		}
		return
	}
	if e.Question.Type.IsTransfer() {
		v.flow(label, labelWidth, wording.Count(len(records), "record", "records")+" of the zone in the first message", strong)
		v.flow("", labelWidth, Shell("unquil", "transfer", e.Question.Name.Spoken(), "--from", e.Server.Name())+" fetches all of it", quiet)
		return
	}
	for i, r := range records {
		if i > 0 {
			label = ""
		}
		v.flow(label, labelWidth, strong.Render(r.Value())+v.marksIn(r), plainStyle)
		if explain {
			v.explain(r)
		}
		for _, f := range followed {
			if target, ok := r.Target(); ok && f.From == e && (f.Host.Equal(target) || target.IsRoot() && f.Host.Equal(r.Name)) {
				v.followed(&f)
			}
		}
	}
}

// explain draws each field of a record with what it means.
func (v *View) explain(r wire.Record) {
	fields := r.Fields()
	if terms, ok := mail.SPF(r.Text()); ok {
		fields = terms
	}
	widest := 0
	for _, f := range fields {
		widest = max(widest, len(f.Name))
	}
	for _, f := range fields {
		text := wire.Escape(f.Value)
		if mailbox := mailboxOf(f, r.Type); mailbox != "" {
			text += " (" + mailbox + ")"
		}
		if f.Meaning != "" {
			text += quiet.Render("  " + f.Meaning)
		}
		indent := labelWidth + 2 + widest + 2
		v.flow(strings.Repeat(" ", labelWidth+2)+wire.Escape(f.Name), indent, text, plainStyle)
	}
}

// mailboxOf is the address that a mailbox field stands for.
func mailboxOf(f wire.Field, t wire.Type) string {
	if !(t == wire.SOA && f.Name == "RNAME") && f.Name != "mbox-dname" {
		return ""
	}
	name, err := wire.ParseName(f.Value)
	if err != nil || name.Labels() < 2 {
		return ""
	}
	return string(escape.Of(name.Label(0))) + "@" + name.Parent().Spoken()
}

func (v *View) followed(f *probe.Followed) {
	var words []string
	for _, a := range f.Addresses() {
		words = append(words, a.String()+v.markAt(a))
	}
	text := "at " + strings.Join(words, ", ")
	if len(words) == 0 {
		text = "has no address"
		for _, e := range f.Exchanges {
			if !e.Outcome.Good() {
				text = "its addresses are unknown: " + e.Outcome.Words()
			}
		}
	}
	if aliases := f.Exchanges[0].Answer().Aliases; len(aliases) > 0 {
		text = "is an alias (CNAME), " + text
	}
	v.flow("", labelWidth+2, f.Host.Spoken()+" "+text, quiet)
}

// saidByLabel introduces the server: a refusal or a referral is a reply, and no answer.
func saidByLabel(block []*exchange.Exchange) string {
	label := "asked"
	for _, e := range block {
		if e.Outcome.Good() {
			return "answered by"
		}
		if e.Reply != nil {
			label = "reply from"
		}
	}
	return label
}

// silence says how a server was asked in vain.
func silence(e *exchange.Exchange) string {
	attempts := wording.Count(e.Sends(), "attempt", "attempts")
	switch e.Outcome {
	case exchange.Unreachable:
		return "not reached in " + attempts
	case exchange.Rejection:
		return "no valid reply after " + attempts
	}
	return "no reply after " + attempts
}

// saidBy names the server, how it was asked and how long it took.
func (v *View) saidBy(block []*exchange.Exchange, timing bool) string {
	first := block[0]
	who := first.Server.AddressText()
	if first.Server.Label != "" || first.Server.Host != "" {
		who = fmt.Sprintf("%s%s (%s%s)", first.Server.Name(), v.markOfServer(first.Server), who, v.markAt(first.Server.Address.Addr()))
	} else {
		who += v.markAt(first.Server.Address.Addr())
	}
	over := strings.ToUpper(string(first.Transport()))
	var times []string
	for _, e := range block {
		switch {
		case e.Reply == nil && len(block) == 1:
			times = append(times, silence(e))
		case e.Reply == nil:
			times = append(times, fmt.Sprintf("%s %s", e.Question.Type, silence(e)))
		case !timing:
		case len(block) == 1:
			times = append(times, fmt.Sprintf("in %s, %s", wording.Span(e.Took()), wording.Count(e.Size(), "byte", "bytes")))
		default:
			times = append(times, fmt.Sprintf("%s in %s (%s)", e.Question.Type, wording.Span(e.Took()), wording.Count(e.Size(), "byte", "bytes")))
		}
	}
	return strings.TrimSuffix(fmt.Sprintf("%s over %s, %s", who, over, strings.Join(times, ", ")), ", ")
}

// authorityWords says whose word the answers are: the zone's, or a cache's, and
// how old that is as far as the TTL tells.
func authorityWords(b Block) string {
	for _, e := range b.Exchanges {
		if e.Outcome == exchange.Referral {
			zone, _, _ := exchange.ReferralZone(e.Reply)
			return "none: a referral, as " + zone.Spoken() + " is delegated to the servers above"
		}
		if !e.Outcome.Good() {
			continue
		}
		if e.Authoritative() {
			return "the zone's own server"
		}
		var ages []string
		for _, e := range b.Exchanges {
			zone, ok := b.ZoneTTLs[e.Question]
			records := e.Answer().Records
			switch {
			case !ok || len(records) == 0:
			case !zone.Same:
				ages = append(ages, fmt.Sprintf("the zone itself now gives a different answer for %s", e.Question.Type))
			case records[0].TTL <= zone.TTL:
				ages = append(ages, fmt.Sprintf("%s fetched %s ago, judging by the zone's own TTL", e.Question.Type, Seconds(zone.TTL-records[0].TTL)))
			}
		}
		if len(ages) > 0 {
			return "a cache, not the zone itself; " + strings.Join(ages, ", ")
		}
		return "a cache, not the zone itself: the zone may say something different now"
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
	switch last := len(e.Attempts) - 1; {
	case last < 1:
	case e.Attempts[last].Transport == exchange.TCP && e.Outcome == exchange.Truncated:
		all = append(all, about+": the reply over UDP was truncated, and retrying over TCP failed too.")
	case e.Attempts[last].Transport == exchange.TCP && e.Attempts[0].Transport == exchange.UDP:
		all = append(all, fmt.Sprintf("%s: the reply over UDP was truncated, so it was retried over TCP (%d bytes).", about, e.Size()))
	case e.Reply != nil && e.EDNSBroke == "":
		all = append(all, fmt.Sprintf("%s: answered only at attempt %d.", about, e.Sends()))
	}
	if e.Reply != nil {
		if edns, ok := e.Reply.EDNS(); ok {
			for _, o := range edns.Options[:min(len(edns.Options), maxOptions)] {
				all = append(all, fmt.Sprintf("%s: the server adds (%s) %s.", about, o.Name(), shorten(o.Text())))
			}
			if more := len(edns.Options) - maxOptions; more > 0 {
				all = append(all, fmt.Sprintf("%s: and %s more.", about, wording.Count(more, "option", "options")))
			}
		}
	}
	for _, a := range e.Attempts {
		for _, r := range a.Rejected {
			all = append(all, fmt.Sprintf("%s: a message from %s was rejected: %v.", about, exchange.FormatAddress(r.From), r.Err))
		}
	}
	if e.Answer().Loop {
		all = append(all, about+": the aliases point back to where they started.")
	}
	if e.Reply != nil && e.Reply.Trailing > 0 {
		all = append(all, fmt.Sprintf("%s: %d stray bytes follow the message.", about, e.Reply.Trailing))
	}
	return all
}

// Bounds on what is shown of options: a server may add as many as it likes.
const (
	maxOptions = 12
	maxOption  = 300 // characters of one
)

// shorten cuts a text that has no end.
func shorten(text string) string {
	if runes := []rune(text); len(runes) > maxOption {
		return string(runes[:maxOption]) + "…"
	}
	return text
}

// Records draws the records of replies in master-file form, one a line, the sections that are wanted one after the
// other. Where several servers were asked, the name of the one that sent a record stands before it with a tab.
func (v *View) Records(exchanges []*exchange.Exchange, parts Parts, several bool) {
	for _, e := range exchanges {
		lead := ""
		if several {
			lead = e.Server.Name() + "\t"
		}
		if e.Reply == nil {
			continue
		}
		for _, section := range []struct {
			part    Part
			records []wire.Record
		}{{"answer", e.Reply.Answer}, {"authority", e.Reply.Authority}, {"additional", e.Reply.Additional}} {
			for _, r := range section.records {
				if parts[section.part] && r.Type != wire.OPT {
					v.line(lead, r.String())
				}
			}
		}
	}
}

// Bare draws the asked values alone, one a line in master-file form; nameFirst puts the name
// that was asked for before each, and a tab.
func (v *View) Bare(exchanges []*exchange.Exchange, nameFirst bool) {
	for _, e := range exchanges {
		lead := ""
		if nameFirst {
			lead = e.Question.Name.String() + "\t"
		}
		for _, r := range e.Answer().Records {
			v.line(lead, r.Value())
		}
	}
}
