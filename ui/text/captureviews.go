package text

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"unquil/core/conversation"
	"unquil/core/delegation"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/sequence"
	"unquil/core/wording"
)

// Names, Servers and Clients are tables of what each had to do with.
func (v *View) Names(o *conversation.Overview) {
	if v.none(o) {
		return
	}
	rows, uncounted := o.Names()
	v.statTable("name", "clients", rows, uncounted)
	if o.Signed != nil {
		v.line()
		v.attested(o.Signed)
		v.flow("", labelWidth, "--signed STATE chooses the names that come to one of these", quiet)
	}
}

// Servers draws the servers of a capture.
func (v *View) Servers(o *conversation.Overview) {
	if v.none(o) {
		return
	}
	rows, uncounted := o.Servers()
	v.statTable("server", "clients", rows, uncounted)
}

// Clients draws the clients of a capture.
func (v *View) Clients(o *conversation.Overview) {
	if v.none(o) {
		return
	}
	rows, uncounted := o.Clients()
	v.statTable("client", "servers", rows, uncounted)
}

func (v *View) statTable(title, peers string, rows []conversation.Row, uncounted int) {
	const narrowest = 16
	columns := []column{{title: title, width: narrowest}, {"asked", 7, true}, {"failed", 7, true}, {"no name", 8, true}, {peers, 8, true}, {"median", 8, true}, {"95th", 8, true}, {"longest", 8, true}, {"  1 ms–3 s", 10, false}}
	drawn := fitting(columns, v.width, 8, 6, 3) // the bars go first
	left := v.width
	for _, at := range drawn[1:] {
		left -= columns[at].width
	}
	columns[0].width = max(left, narrowest)
	if v.Whole {
		for _, r := range rows[:min(len(rows), v.most())] {
			columns[0].width = max(columns[0].width, ansi.StringWidth(r.Key)+len(r.Host)+2)
		}
	}
	cells := [][]string{titles(columns)}
	above := map[int]string{} // keys that have a line of their own, by the row below
	var caches []string
	exact := true
	for _, r := range rows[:min(len(rows), v.most())] {
		s := r.Stat
		failed := fmt.Sprint(s.Failed)
		if s.Failed > 0 {
			failed = severe[finding.Fault].Render(failed)
		}
		words := []string{fmt.Sprint(s.Exchanges), failed, fmt.Sprint(s.NoName), fmt.Sprint(s.Peers()), "-", "-", "-"}
		bar := ""
		if s.Latency.Count() > 0 {
			words[4], words[5], words[6] = wording.Span(s.Latency.Quantile(50)), wording.Span(s.Latency.Quantile(95)), wording.Span(s.Latency.Max)
			bar = "  " + latencyBars(s.Latency.Bars())
			exact = exact && s.Latency.Exact()
		}
		if s.HasCache() {
			caches = append(caches, r.Key)
		}
		key := r.Key
		if r.Host != "" {
			key += " " + r.Host
		}
		if ansi.StringWidth(key) >= columns[0].width {
			above[len(cells)], key = key, ""
		}
		cells = append(cells, append(append([]string{key}, words...), bar))
	}
	for i := range cells {
		cells[i] = chosen(cells[i], drawn)
	}
	for i, line := range grid(chosen(columns, drawn), cells) {
		if key := above[i]; key != "" {
			v.line(cut(key, v.room()))
		}
		v.line(line)
	}
	v.rest(len(rows)-min(len(rows), v.most()), title+"s")
	if !exact {
		v.flow("", 2, "of thousands of exchanges, the median and the 95th percentile are about right: within a fifth", quiet)
	}
	if len(caches) > 0 {
		v.line()
		v.flow("", 2, "caches (their TTLs count down from answer to answer): "+strings.Join(caches, ", "), plainStyle)
	}
	if uncounted > 0 {
		v.flow("", 2, fmt.Sprintf("%s exchanges belong to rows beyond the limit: the lower rows are an estimate", wording.Number(uncounted)), quiet)
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
	if v.none(o) {
		return
	}
	all := sequence.Episodes(o.Kept)
	drawn := 0
	for i, p := range all {
		if drawn > v.most() {
			v.rest(len(all)-i, "episodes")
			break
		}
		if i > 0 {
			v.line()
		}
		drawn += len(p.Asked)
		failed := ""
		switch {
		case p.Failed > 0 && len(p.Asked) == 1:
			failed = ", " + severe[finding.Fault].Render("which failed")
		case p.Failed > 0:
			failed = ", " + severe[finding.Fault].Render(fmt.Sprintf("%d of them failed", p.Failed))
		}
		within := ""
		if p.Took > 0 {
			within = " within " + wording.Span(p.Took)
		}
		v.flow("", 0, fmt.Sprintf("%s  %s sent %s%s%s", p.Begins.Format(clock), subject.Render(p.Client.String()), wording.Count(len(p.Asked), "query", "queries"), within, failed), plainStyle)
		for _, a := range p.Asked {
			lead := strings.Repeat("  ", a.Depth+1)
			offset := "+" + wording.Span(a.Exchange.Sent().Sub(p.Begins))
			v.flow("  "+quiet.Render(fmt.Sprintf("%8s", offset)), 11+len(lead), fmt.Sprintf("%s: %s", a.Exchange.Asked(), resultWords(a.Exchange)), plainStyle)
		}
	}
	v.partial(o)
}

// partial says that a view was made of a part of the exchanges.
func (v *View) partial(o *conversation.Overview) {
	if o.NotKept > 0 {
		v.flow("", 2, fmt.Sprintf("made from the first %s exchanges; %s more were only counted", wording.Number(len(o.Kept)), wording.Number(o.NotKept)), quiet)
	}
}

// unauthorised says that a zone's server answers as one that has no authority.
func unauthorised(e *exchange.Exchange) string {
	if e.Outcome.Good() && !e.Authoritative() {
		return ", without authority"
	}
	return ""
}

// Paths draws the walks of resolvers, put together from their packets.
func (v *View) Paths(o *conversation.Overview) {
	all := sequence.ResolverWalks(o.Kept, delegation.PublishedAddresses())
	if len(all) == 0 {
		v.flow("", 0, "no walks: nobody in this capture queries without recursion, as a resolver does", plainStyle)
	}
	for i, p := range all {
		if i > 0 {
			v.line()
		}
		end := good.Render("reaches " + resultWords(p.Last()))
		switch {
		case !p.Ended():
			end = severe[finding.Fault].Render("stops at "+p.Last().Server.Name()+": ") + resultWords(p.Last()) + unauthorised(p.Last())
		case p.Last().Outcome != exchange.Answered:
			end = good.Render("ends with " + resultWords(p.Last()))
		}
		v.flow("", 0, fmt.Sprintf("%s  %s %s", p.Begins.Format(clock), subject.Render(p.Question.Spoken()), end), plainStyle)
		asked := "for no query in the capture"
		if p.Asked != nil {
			asked = fmt.Sprintf("for %s (exchange %d)", p.Asked.Client.Addr(), p.Asked.Number)
		}
		v.flow("", 2, quiet.Render(fmt.Sprintf("by %s, %s, %s in all", p.Resolver, asked, wording.Span(p.Took))), plainStyle)
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
			v.flow(lead+strong.Render(zone), len(lead)+2+ansi.StringWidth(zone), fmt.Sprintf("%s: %s%s %s", s.Exchange.Server.Name(), resultWords(s.Exchange), unauthorised(s.Exchange), quiet.Render(fmt.Sprintf("(%d)", s.Exchange.Number))), plainStyle)
		}
	}
	v.partial(o)
}

// LocalLink draws who claims and asks what on the local link.
func (v *View) LocalLink(o *conversation.Overview) {
	l := &o.LocalLink
	names := l.Names()
	v.flow("", 0, fmt.Sprintf("%s (%d ask for a unicast reply), %s (%d claim a name for one host only), %s included",
		wording.Count(l.Questions, "query", "queries"), l.Unicast, wording.Count(l.Announced, "announcement", "announcements"), l.Flushes, wording.Count(l.Known, "known answer", "known answers")), plainStyle)
	for _, f := range o.Findings {
		if f.Code == finding.NameConflict {
			v.flow("  "+severe[f.Severity].Render(string(f.Severity)), labelWidth, f.Text, plainStyle)
		}
	}
	for _, n := range names[:min(len(names), v.most())] {
		v.line()
		v.flow("", 2, subject.Render(n.Name.Spoken()), plainStyle)
		for _, c := range n.Claims {
			alone := ""
			if c.Unique {
				alone = ", for itself only"
			}
			v.flow("    "+c.Host.String(), 22, fmt.Sprintf("says %s%s %s", strings.Join(c.Values, ", "), alone, quiet.Render(fmt.Sprintf("(packet %d, %s)", c.Packet, wording.Count(c.Times, "time", "times")))), plainStyle)
		}
		if n.Asked > 0 {
			v.flow("    "+quiet.Render("asked"), 22, fmt.Sprintf("%s, by %s", wording.Count(n.Asked, "time", "times"), addresses(n.Askers)), plainStyle)
		}
		if len(n.Claims) == 0 {
			v.flow("", 22, "nobody claims it", quiet)
		}
	}
	v.rest(len(names)-min(len(names), v.most()), "names")
}

// Timeline draws questions and failures over time.
func (v *View) Timeline(o *conversation.Overview) {
	t := &o.Timeline
	if v.none(o) || len(t.Slots) == 0 {
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
	v.flow("", 0, fmt.Sprintf("%s from %s UTC; a column is %s", wording.Count(o.Exchanges, "exchange", "exchanges"), begins.Format("2006-01-02 15:04:05"), wording.Span(time.Duration(per)*t.Width)), plainStyle)
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
