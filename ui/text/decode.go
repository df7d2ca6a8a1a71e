package text

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"unquil/core/capture"
	"unquil/core/conversation"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// maxDrawn is how many lines of one kind a terminal is given; --json gives all.
const maxDrawn = 200

// clock is how times within a capture are written.
const clock = "15:04:05.000"

// Overview draws what happened in a capture: what went wrong first, with what to
// type to see it, then the figures.
func (v *View) Overview(file string, o *conversation.Overview) {
	v.flow("", 0, subject.Render(file)+": "+overviewSentence(o), plainStyle)
	v.captureFindings(file, o)
	v.line()
	v.line(strong.Render("figures"))
	if !o.First.IsZero() {
		v.row("span", fmt.Sprintf("%s to %s UTC, %s", o.First.Format("2006-01-02 15:04:05"), o.Last.Format("15:04:05"), Took(o.Last.Sub(o.First))))
	}
	share := ""
	if o.Packets > 0 {
		share = fmt.Sprintf(" (%d %%)", 100*o.Messages/o.Packets)
	}
	v.row("packets", fmt.Sprintf("%d, of which %d hold DNS messages%s", o.Packets, o.Messages, share))
	clients, _ := o.Clients()
	servers, _ := o.Servers()
	v.row("exchanges", fmt.Sprintf("%d, by %s of %s", o.Exchanges, plural(len(clients), "client", "clients"), plural(len(servers), "server", "servers")))
	if o.Exchanges > 0 {
		v.row("outcomes", outcomeCounts(o))
	}
	for _, extra := range []struct {
		count int
		label string
		text  string
	}{
		{o.Unsolicited, "replies", "%d without a question in the capture"},
		{o.Duplicates, "copies", "%d of packets that were captured twice"},
		{o.Incomplete, "fragments", "%d datagrams stayed without some of theirs"},
		{o.Gaps, "gaps", "%d places in TCP streams where packets are missing"},
		{o.Unreadable + o.Malformed, "unreadable", "%d packets"},
		{o.Unknown, "other links", "%d packets of link types that are not read"},
		{o.Dropped, "not paired", "%d questions, since too many were open at once"},
	} {
		if extra.count > 0 {
			v.row(extra.label, fmt.Sprintf(extra.text, extra.count))
		}
	}
	for i, e := range o.Encrypted {
		if i == 5 {
			v.row("", fmt.Sprintf("and %d more", len(o.Encrypted)-i))
			break
		}
		host := ""
		if e.Host != "" {
			host = " (" + wire.Escape(e.Host) + ")"
		}
		label := ""
		if i == 0 {
			label = "encrypted"
		}
		v.row(label, fmt.Sprintf("%s to %s%s over %s: %s that cannot be read", e.Client.Addr(), exchange.Server{Address: e.Server}.AddressText(), host, strings.ToUpper(string(e.Over)), plural(e.Packets, "packet", "packets")))
	}
	if l := &o.LocalLink; l.Questions+l.Announced > 0 {
		v.row("local link", fmt.Sprintf("%s, %s for %s", plural(l.Questions, "question", "questions"), plural(l.Announced, "announcement", "announcements"), plural(len(l.Names()), "name", "names")))
	}
	if len(o.Slowest) > 0 {
		v.line()
		v.line(strong.Render("slowest"))
		for _, s := range o.Slowest {
			v.flow("  "+fmt.Sprintf("%8s", Took(s.Took)), labelWidth, fmt.Sprintf("%s from %s %s", s.Question.Spoken(), exchange.Server{Address: s.Server}.AddressText(), quiet.Render(fmt.Sprintf("(exchange %d)", s.Number))), plainStyle)
		}
	}
	v.line()
	v.flow("", 0, quiet.Render("more: --view exchanges, names, servers, clients, episodes, walks, local-link or timeline; --exchange N shows one whole"), plainStyle)
}

// captureFindings lists findings with the command that shows what is behind each.
func (v *View) captureFindings(file string, o *conversation.Overview) {
	if len(o.Findings) == 0 {
		return
	}
	v.line()
	v.line(strong.Render("what to note"))
	for _, f := range o.Findings {
		v.flow("  "+severe[f.Severity].Render(string(f.Severity)), labelWidth, f.Text, plainStyle)
		detail := string(f.Code)
		switch len(f.Evidence) {
		case 0:
		case 1:
			detail += fmt.Sprintf("; unquil decode %s --exchange %d", file, f.Evidence[0])
		default:
			detail += fmt.Sprintf("; unquil decode %s --view exchanges --finding %s", file, f.Code)
			if f.About.Client != "" {
				detail += " --client " + f.About.Client
			} else if f.About.Address != "" {
				detail += " --server " + f.About.Address
			}
		}
		v.flow("", labelWidth, detail, quiet)
		if f.Severity != finding.Note {
			v.flow("", labelWidth, "next: "+f.Next, plainStyle)
		}
	}
	if o.MoreFound > 0 {
		v.flow("", 2, fmt.Sprintf("and %d more findings that are not kept", o.MoreFound), quiet)
	}
}

func overviewSentence(o *conversation.Overview) string {
	if o.Messages == 0 {
		return fmt.Sprintf("no DNS message in its %s.", plural(o.Packets, "packet", "packets"))
	}
	bad := 0
	for outcome, n := range o.Outcomes {
		if !outcome.Good() && outcome != exchange.Referral && outcome != exchange.Truncated && outcome != conversation.CutOff && outcome != conversation.Open {
			bad += n
		}
	}
	if bad == 0 {
		return fmt.Sprintf("%s, and none of them failed.", plural(o.Exchanges, "exchange", "exchanges"))
	}
	return severe[finding.Fault].Render(fmt.Sprintf("%d of %s failed.", bad, plural(o.Exchanges, "exchange", "exchanges")))
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

// Written says how many packets were written to a file.
func (v *View) Written(packets, exchanges int, file string) {
	v.flow("", 0, fmt.Sprintf("%s of %s written to %s", plural(packets, "packet", "packets"), plural(exchanges, "exchange", "exchanges"), file), plainStyle)
}

// Exchanges lists the exchanges of a capture in its order.
func (v *View) Exchanges(o *conversation.Overview) {
	for i := range o.Kept[:min(len(o.Kept), maxDrawn)] {
		e := &o.Kept[i]
		v.ExchangeLine(e)
		for _, words := range relatedWords(o.Lines[e.Number]) {
			v.flow("", 9, words, quiet)
		}
	}
	v.rest(o.Exchanges-min(len(o.Kept), maxDrawn), "exchanges")
}

func (v *View) rest(n int, what string) {
	if n > 0 {
		v.flow("", 2, fmt.Sprintf("and %d more %s; choose fewer, or take --json or --csv", n, what), quiet)
	}
}

// relatedWords says what an exchange has to do with others.
func relatedWords(l conversation.Line) (words []string) {
	if n := l.Before.Number; n > 0 {
		words = append(words, fmt.Sprintf("asked again, after exchange %d", n))
	}
	if n := l.After.Number; n > 0 {
		words = append(words, fmt.Sprintf("asked again in exchange %d, of %s", n, l.After.Server.Addr()))
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
		words = append(words, "the capture holds a part of the reply only")
	}
	return words
}

// ExchangeLine draws one exchange of a capture: when, who asked what, and what came of it.
func (v *View) ExchangeLine(e *exchange.Exchange) {
	text := fmt.Sprintf("%s  %s: %s %s", e.Sent().Format(clock), e.Question.Spoken(), resultWords(e),
		quiet.Render(fmt.Sprintf("(%s asked %s)", e.Client.Addr(), e.Server.Name())))
	v.flow(quiet.Render(fmt.Sprintf("%5d  ", e.Number)), 7, text, plainStyle)
}

// resultWords is what came of an exchange, and how long that took.
func resultWords(e *exchange.Exchange) string {
	result := string(e.Outcome)
	if e.Outcome == exchange.Answered {
		result = strings.Join(exchange.Values(e.Answer().Records), ", ")
	}
	if e.Outcome == exchange.Referral {
		zone, _, _ := exchange.ReferralZone(e.Reply)
		result = "referred to " + zone.Spoken()
	}
	timing := ""
	if e.Reply != nil {
		timing = " in " + Took(e.Took())
	}
	if e.Tries() > 1 {
		timing += fmt.Sprintf(", asked %d times", e.Tries())
	}
	style := plainStyle
	if !e.Outcome.Good() && e.Outcome != exchange.Referral && e.Outcome != exchange.Truncated && e.Outcome != conversation.Open && e.Outcome != conversation.CutOff {
		style = severe[finding.Fault]
	}
	return style.Render(result) + timing
}

// Names, Servers and Clients are tables of what each had to do with.
func (v *View) Names(o *conversation.Overview) {
	rows, uncounted := o.Names()
	v.statTable("name", "clients", rows, uncounted)
}

// Servers draws the servers of a capture.
func (v *View) Servers(o *conversation.Overview) {
	rows, uncounted := o.Servers()
	v.statTable("server", "clients", rows, uncounted)
}

// Clients draws the clients of a capture.
func (v *View) Clients(o *conversation.Overview) {
	rows, uncounted := o.Clients()
	v.statTable("client", "servers", rows, uncounted)
}

func (v *View) statTable(title, peers string, rows []conversation.Row, uncounted int) {
	widths := []int{7, 7, 8, 8, 8, 8, 8}
	first := v.width - 2 - 8
	for _, w := range widths {
		first -= w
	}
	first = max(first, 16)
	line := func(key string, words []string, bar string) {
		if ansi.StringWidth(key) >= first { // on a line of its own
			v.line(cut(key, v.width))
			key = ""
		}
		text := pad(key, first)
		for i, w := range widths {
			text += strings.Repeat(" ", max(w-ansi.StringWidth(words[i]), 0)) + words[i]
		}
		v.line(text, "  ", bar)
	}
	line(quiet.Render(title), []string{quiet.Render("asked"), quiet.Render("failed"), quiet.Render("no name"), quiet.Render(peers), quiet.Render("median"), quiet.Render("95 %"), quiet.Render("longest")}, quiet.Render("1 ms–3 s"))
	var caches []string
	for _, r := range rows[:min(len(rows), maxDrawn)] {
		s := r.Stat
		failed := fmt.Sprint(s.Failed)
		if s.Failed > 0 {
			failed = severe[finding.Fault].Render(failed)
		}
		words := []string{fmt.Sprint(s.Exchanges), failed, fmt.Sprint(s.NoName), fmt.Sprint(s.Peers()), "-", "-", "-"}
		bar := ""
		if s.Latency.Count > 0 {
			words[4], words[5], words[6] = Took(s.Latency.Quantile(50)), Took(s.Latency.Quantile(95)), Took(s.Latency.Max)
			bar = latencyBars(s.Latency.Bars())
		}
		if s.HasCache() {
			caches = append(caches, r.Key)
		}
		line(r.Key, words, bar)
	}
	v.rest(len(rows)-min(len(rows), maxDrawn), title+"s")
	if len(caches) > 0 {
		v.line()
		v.flow("", 2, "caches, whose TTLs count down from answer to answer: "+strings.Join(caches, ", "), plainStyle)
	}
	if uncounted > 0 {
		v.flow("", 2, fmt.Sprintf("%d exchanges belong to rows that there was no room to count: the lower rows are an estimate", uncounted), quiet)
	}
}

func latencyBars(counts [8]int) string {
	most := slices.Max(counts[:])
	var b strings.Builder
	for _, n := range counts {
		if n == 0 {
			b.WriteRune('·')
			continue
		}
		b.WriteRune(bars[min((n*8-1)/most, 7)])
	}
	return b.String()
}

// Episodes draws what each client asked in one go.
func (v *View) Episodes(o *conversation.Overview) {
	all := o.Episodes()
	drawn := 0
	for i, p := range all {
		if drawn > maxDrawn {
			v.rest(len(all)-i, "episodes")
			break
		}
		if i > 0 {
			v.line()
		}
		drawn += len(p.Asked)
		failed := ""
		if p.Failed > 0 {
			failed = severe[finding.Fault].Render(fmt.Sprintf(", %d of them failed", p.Failed))
		}
		within := ""
		if p.Took > 0 {
			within = " within " + Took(p.Took)
		}
		v.flow("", 0, fmt.Sprintf("%s  %s asked %s%s%s", p.Begins.Format(clock), subject.Render(p.Client.String()), plural(len(p.Asked), "question", "questions"), within, failed), plainStyle)
		for _, a := range p.Asked {
			lead := strings.Repeat("  ", a.Depth+1)
			offset := "+" + Took(a.Exchange.Sent().Sub(p.Begins))
			v.flow("  "+quiet.Render(fmt.Sprintf("%8s", offset)), 11+len(lead), fmt.Sprintf("%s: %s", a.Exchange.Question.Spoken(), resultWords(a.Exchange)), plainStyle)
		}
	}
	v.partial(o)
}

// partial says that a view was made of a part of the exchanges.
func (v *View) partial(o *conversation.Overview) {
	if o.NotKept > 0 {
		v.flow("", 2, fmt.Sprintf("made of the first %d exchanges; %d more were only counted", len(o.Kept), o.NotKept), quiet)
	}
}

// Paths draws the walks of resolvers, put together from their packets.
func (v *View) Paths(o *conversation.Overview) {
	all := o.Paths()
	if len(all) == 0 {
		v.flow("", 0, "no walk: nobody in this capture asks without recursion, as a resolver does", plainStyle)
	}
	for i, p := range all {
		if i > 0 {
			v.line()
		}
		end := good.Render("reaches " + resultWords(p.Last()))
		if !p.Ended() {
			end = severe[finding.Fault].Render("stops at "+p.Last().Server.Name()+": ") + resultWords(p.Last())
			if p.Last().Outcome.Good() {
				end += ", without authority"
			}
		}
		v.flow("", 0, fmt.Sprintf("%s  %s %s", p.Begins.Format(clock), subject.Render(p.Question.Spoken()), end), plainStyle)
		asked := "for no question in the capture"
		if p.Asked != nil {
			asked = fmt.Sprintf("for %s (exchange %d)", p.Asked.Client.Addr(), p.Asked.Number)
		}
		v.flow("", 2, quiet.Render(fmt.Sprintf("by %s, %s, %s in all", p.Resolver, asked, Took(p.Took))), plainStyle)
		depth := -1
		for i, s := range p.Steps {
			if i == 0 || !s.Zone.Equal(p.Steps[i-1].Zone) {
				depth++
			}
			zone := "?"
			if !s.Zone.IsZero() {
				zone = s.Zone.Spoken()
			}
			lead := strings.Repeat("  ", min(depth, 8)+1)
			v.flow(lead+strong.Render(zone), len(lead)+2+ansi.StringWidth(zone), fmt.Sprintf("%s: %s %s", s.Exchange.Server.Name(), resultWords(s.Exchange), quiet.Render(fmt.Sprintf("(%d)", s.Exchange.Number))), plainStyle)
		}
	}
	v.partial(o)
}

// LocalLink draws who claims and asks what on the local link.
func (v *View) LocalLink(o *conversation.Overview) {
	l := &o.LocalLink
	names := l.Names()
	v.flow("", 0, fmt.Sprintf("%s (%d want a reply to themselves alone), %s (%d claim a name for one host alone), %s sent along",
		plural(l.Questions, "question", "questions"), l.Unicast, plural(l.Announced, "announcement", "announcements"), l.Flushes, plural(l.Known, "known answer", "known answers")), plainStyle)
	for _, f := range o.Findings {
		if f.Code == finding.NameConflict {
			v.flow("  "+severe[f.Severity].Render(string(f.Severity)), labelWidth, f.Text, plainStyle)
		}
	}
	for _, n := range names[:min(len(names), maxDrawn)] {
		v.line()
		v.flow("", 2, subject.Render(n.Name.Spoken()), plainStyle)
		for _, c := range n.Claims {
			alone := ""
			if c.Unique {
				alone = ", alone"
			}
			v.flow("    "+c.Host.String(), 22, fmt.Sprintf("says %s%s %s", strings.Join(c.Values, ", "), alone, quiet.Render(fmt.Sprintf("(packet %d, %s)", c.Packet, plural(c.Times, "time", "times")))), plainStyle)
		}
		if n.Asked > 0 {
			v.flow("    "+quiet.Render("asked"), 22, fmt.Sprintf("%s, by %s", plural(n.Asked, "time", "times"), addresses(n.Askers)), plainStyle)
		}
		if len(n.Claims) == 0 {
			v.flow("", 22, "nobody claims it", quiet)
		}
	}
	v.rest(len(names)-min(len(names), maxDrawn), "names")
}

// Timeline draws questions and failures over time.
func (v *View) Timeline(o *conversation.Overview) {
	t := &o.Timeline
	if len(t.Slots) == 0 {
		v.flow("", 0, "no question in the capture", plainStyle)
		return
	}
	room := v.width - 8
	per := (len(t.Slots) + room - 1) / room
	var asked, failed, none []int
	for i := 0; i < len(t.Slots); i += per {
		var sum conversation.Slot
		for _, s := range t.Slots[i:min(i+per, len(t.Slots))] {
			sum.Asked, sum.Failed, sum.NoName = sum.Asked+s.Asked, sum.Failed+s.Failed, sum.NoName+s.NoName
		}
		asked, failed, none = append(asked, sum.Asked), append(failed, sum.Failed), append(none, sum.NoName)
	}
	begins := time.Unix(0, t.Begins).UTC()
	v.flow("", 0, fmt.Sprintf("%s from %s UTC; a column is %s", plural(o.Exchanges, "exchange", "exchanges"), begins.Format("2006-01-02 15:04:05"), Took(time.Duration(per)*t.Width)), plainStyle)
	v.line()
	v.histogram("asked", asked, 8, good.Render)
	v.histogram("failed", failed, 4, severe[finding.Fault].Render)
	v.histogram("no name", none, 4, severe[finding.Concern].Render)
	columns := len(asked)
	axis := []byte(strings.Repeat(" ", columns+9))
	for at := 0; at+8 <= columns || at == 0; at += 20 {
		copy(axis[at:], begins.Add(time.Duration(at*per)*t.Width).Format("15:04:05"))
	}
	v.line(strings.Repeat(" ", 8), quiet.Render(strings.TrimRight(string(axis), " ")))
}

// histogram draws counts as columns of a height of rows, with the largest beside it.
func (v *View) histogram(title string, counts []int, rows int, paint func(...string) string) {
	most := slices.Max(counts)
	if most == 0 {
		v.line(pad(quiet.Render(title), 8), quiet.Render("none"))
		v.line()
		return
	}
	for row := rows; row > 0; row-- {
		label := ""
		switch row {
		case rows:
			label = quiet.Render(title)
		case rows - 1:
			label = quiet.Render(fmt.Sprintf("≤ %d", most))
		}
		var b strings.Builder
		for _, n := range counts {
			eighths := (n*rows*8+most-1)/most - (row-1)*8
			switch {
			case eighths <= 0 && row == 1:
				b.WriteRune('·')
			case eighths <= 0:
				b.WriteRune(' ')
			default:
				b.WriteRune(bars[min(eighths, 8)-1])
			}
		}
		v.line(pad(label, 8), paint(strings.TrimRight(b.String(), " ")))
	}
	v.line()
}

// WholeExchange draws one exchange: question and reply side by side, layer by
// layer, the records, and what it has to do with others.
func (v *View) WholeExchange(e *exchange.Exchange, o *conversation.Overview, layers map[int][]capture.Layer) {
	v.flow("", 0, fmt.Sprintf("exchange %d: %s asked %s for %s %s: %s", e.Number, e.Client.Addr(), e.Server.Name(), nameText(e.Question.Name), e.Question.Type, resultWords(e)), plainStyle)
	v.line()
	line := o.Lines[e.Number]
	sent := e.Attempts[0]
	last := e.Last()
	query, err := wire.ReadMessage(sent.Query)
	label := 12
	half := (v.width - label - 2) / 2
	cells := func(title, left, right string) {
		a, b := wrap(left, half), wrap(right, half)
		for i := range max(len(a), len(b)) {
			head := ""
			if i == 0 {
				head = quiet.Render(title)
			}
			v.line(pad("  "+head, label), pad(at(a, i), half), "  ", at(b, i))
		}
	}
	cells("", strong.Render("question"), strong.Render("reply"))
	replied := "none in the capture"
	if e.Reply != nil {
		replied = fmt.Sprintf("packet %d at %s, %s later", last.ReceivedIn, last.Received.Format(clock), Took(e.Waited()))
	}
	cells("packet", fmt.Sprintf("%d at %s", sent.SentIn, sent.Sent.Format("15:04:05.000000")), replied)
	left, right := layers[sent.SentIn], layers[last.ReceivedIn]
	for i := range max(len(left), len(right)) {
		name := ""
		words := [2]string{}
		for side, list := range [][]capture.Layer{left, right} {
			if i < len(list) {
				name = cmp.Or(name, list[i].Name)
				words[side] = layerWords(list[i])
				if list[i].Name != name {
					words[side] = list[i].Name + ": " + words[side]
				}
			}
		}
		cells(name, words[0], words[1])
	}
	replyWords := func(f func(m *wire.Message) string) string {
		if e.Reply == nil {
			return ""
		}
		return f(e.Reply)
	}
	if err != nil {
		cells("broken", err.Error(), "")
	}
	both := func(title string, f func(m *wire.Message) string) { cells(title, f(&query), replyWords(f)) }
	both("ID", func(m *wire.Message) string { return fmt.Sprintf("%d (0x%04x)", m.ID, m.ID) })
	both("flags", flagWords)
	both("EDNS", ednsWords)
	both("records", func(m *wire.Message) string {
		return fmt.Sprintf("%d answer, %d authority, %d additional", len(m.Answer), len(m.Authority), len(m.Additional))
	})
	if e.Reply != nil {
		for _, s := range []struct {
			title   string
			records []wire.Record
		}{{"answer", e.Reply.Answer}, {"authority", e.Reply.Authority}, {"additional", e.Reply.Additional}} {
			begun := false
			for _, r := range s.records {
				if r.Type == wire.OPT {
					continue
				}
				if !begun {
					v.line()
					v.line("  ", strong.Render(s.title))
					begun = true
				}
				v.flow("    "+r.Name.Spoken(), 4+max(ansi.StringWidth(r.Name.Spoken())+1, 24), fmt.Sprintf("%-8s %s  %s", r.Type, r.Value(), quiet.Render("kept "+Seconds(r.TTL))), plainStyle)
			}
		}
	}
	v.related(e, o, line)
}

func layerWords(l capture.Layer) string {
	words := make([]string, len(l.Fields))
	for i, f := range l.Fields {
		words[i] = f[0] + " " + f[1]
	}
	return strings.Join(words, ", ")
}

// flagWords says the header's flags as people would.
func flagWords(m *wire.Message) string {
	var words []string
	for _, f := range []struct {
		bit  wire.Flags
		text string
	}{
		{wire.AA, "with authority"}, {wire.TC, "cut"}, {wire.RD, "recursion wanted"}, {wire.RA, "recursion offered"}, {wire.AD, "data checked"}, {wire.CD, "checking off"},
	} {
		if m.Flags.Has(f.bit) {
			words = append(words, f.text)
		}
	}
	if m.Flags.Has(wire.QR) {
		words = append(words, m.RCode().String())
	}
	if o := m.Flags.Opcode(); o != wire.OpQuery {
		words = append(words, o.String())
	}
	if len(words) == 0 {
		return "none"
	}
	return strings.Join(words, ", ")
}

func ednsWords(m *wire.Message) string {
	e, ok := m.EDNS()
	if !ok {
		return "none"
	}
	words := []string{fmt.Sprintf("up to %d bytes", e.Size)}
	if e.DO {
		words = append(words, "DNSSEC wanted")
	}
	for _, o := range e.Options {
		words = append(words, o.Name()+" "+o.Text())
	}
	return strings.Join(words, ", ")
}

// related lists the exchanges that one has to do with.
func (v *View) related(e *exchange.Exchange, o *conversation.Overview, line conversation.Line) {
	var rows [][2]string
	find := func(n int) string {
		at := slices.IndexFunc(o.Kept, func(e exchange.Exchange) bool { return e.Number == n })
		if at < 0 {
			return fmt.Sprintf("exchange %d", n)
		}
		other := &o.Kept[at]
		return fmt.Sprintf("exchange %d, %s of %s: %s", n, other.Question.Spoken(), other.Server.Name(), resultWords(other))
	}
	if n := line.Before.Number; n > 0 {
		rows = append(rows, [2]string{"before", find(n)})
	}
	if n := line.After.Number; n > 0 {
		rows = append(rows, [2]string{"then", find(n)})
	}
	if n := line.Half.Number; n > 0 {
		rows = append(rows, [2]string{"other half", find(n)})
	}
	if alias := e.Answer(); len(alias.Aliases) > 0 {
		for i := range o.Kept {
			if other := &o.Kept[i]; other.Question.Name.Equal(alias.Name) && other.Client.Addr() == e.Client.Addr() {
				rows = append(rows, [2]string{"the alias", find(other.Number)})
				break
			}
		}
	}
	for i, try := range e.Attempts[1:] {
		rows = append(rows, [2]string{"tried again", fmt.Sprintf("in packet %d, %s after the first (try %d)", try.SentIn, Took(try.Sent.Sub(e.Sent())), i+2)})
	}
	for _, words := range relatedWords(conversation.Line{Looped: line.Looped, OtherIn: line.OtherIn, Forbidden: line.Forbidden, Cut: line.Cut}) {
		rows = append(rows, [2]string{"note", words})
	}
	if len(rows) > 0 {
		v.line()
		v.line("  ", strong.Render("related"))
	}
	for _, r := range rows {
		v.flow("    "+quiet.Render(r[0]), 17, r[1], plainStyle)
	}
}
