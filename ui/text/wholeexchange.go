package text

import (
	"cmp"
	"fmt"
	"net/netip"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"unquil/core/capture"
	"unquil/core/conversation"
	"unquil/core/evidence"
	"unquil/core/exchange"
	"unquil/core/idn"
	"unquil/core/wire"
	"unquil/core/wording"
)

// pairRow is a line of two cells, one of the question and one of its reply.
type pairRow struct{ title, question, reply string }

// exchangePage is one exchange of a capture, ready to be drawn.
type exchangePage struct {
	headline string
	named    []string // what the file calls the two hosts
	rows     []pairRow
	other    *conversation.WholePacket // that holds another reply; nil without one
	says     string                    // what that says; "" where it cannot be read
	related  [][2]string
}

// WholeExchange draws one exchange: question and reply side by side, layer by
// layer, the records, another reply, and what it has to do with others. packets are its
// packets, by number.
func (v *View) WholeExchange(e *exchange.Exchange, o *conversation.Overview, packets map[int]*conversation.WholePacket) {
	line := o.Lines[e.Number]
	page := pageOf(e, o, packets)
	v.flow("", 0, page.headline, plainStyle)
	for _, named := range page.named {
		v.flow("", 2, named, quiet)
	}
	v.line()
	for _, row := range page.rows {
		v.cells(row)
	}
	if e.Reply != nil {
		v.sections(e.Reply, false)
	}
	if len(page.related) > 0 {
		v.line()
		v.line("  ", strong.Render("related"))
	}
	for _, r := range page.related {
		v.flow("    "+quiet.Render(r[0]), 17, r[1], plainStyle)
	}
	if page.other != nil {
		v.line()
		v.line("  ", strong.Render(fmt.Sprintf("the other reply, packet %d", line.OtherIn)))
		v.packetRows(page.other)
		if page.says != "" {
			v.row("says", page.says)
		}
	}
}

// cells draws a row of two cells.
func (v *View) cells(row pairRow) {
	const label = 12
	if v.Linear {
		for _, side := range [][2]string{{"question, ", row.question}, {"reply, ", row.reply}} {
			if row.title != "" && side[1] != "" {
				v.flow("  "+quiet.Render(side[0]+row.title), 24, side[1], plainStyle)
			}
		}
		return
	}
	half := (v.width - label - 2) / 2
	left, right := wrap(row.question, half), wrap(row.reply, half)
	for i := range max(len(left), len(right)) {
		head := ""
		if i == 0 {
			head = quiet.Render(row.title)
		}
		v.line(pad("  "+head, label), pad(at(left, i), half), "  ", at(right, i))
	}
}

// pageOf is what is to be shown of an exchange.
func pageOf(e *exchange.Exchange, o *conversation.Overview, packets map[int]*conversation.WholePacket) exchangePage {
	line := o.Lines[e.Number]
	page := exchangePage{headline: fmt.Sprintf("exchange %d: %s", e.Number, exchangeSentence(e)), other: packets[line.OtherIn], related: related(e, o, line)}
	if page.other != nil {
		if m := read(page.other.Message); m.broken == nil && len(m.Questions) > 0 {
			page.says = cameTo(&exchange.Exchange{Question: m.Questions[0], Reply: &m.Message, Outcome: exchange.Judge(m.Questions[0], &m.Message)})
			page.headline += "; " + severe["fault"].Render("another reply says") + " " + page.says
		}
	}
	for _, a := range []netip.Addr{e.Client.Addr(), e.Server.Address.Addr()} {
		if host := o.Hosts[a]; host != "" {
			page.named = append(page.named, fmt.Sprintf("the file names %s %s", a, host))
		}
	}
	page.rows = pairRows(e, line, packets)
	return page
}

// pairRows are question and reply side by side, layer by layer.
func pairRows(e *exchange.Exchange, line conversation.Line, packets map[int]*conversation.WholePacket) []pairRow {
	sent, last := e.Attempts[0], e.Last()
	asked, replyIn, replied := read(sent.Query), last.ReceivedIn, "none in the capture"
	var reply *reading
	if e.Reply != nil {
		whole := read(last.Reply)
		reply = &whole
		replied = fmt.Sprintf("packet %d at %s, %s later", last.ReceivedIn, last.Received.Format(clock), wording.Span(e.Waited()))
	} else if p := packets[line.UnreadIn]; p != nil {
		part := read(p.Message)
		reply, replyIn = &part, line.UnreadIn
		replied = fmt.Sprintf("packet %d at %s, which cannot be read", line.UnreadIn, p.Record.Time().Format(clock))
		if len(p.Record.Data) < p.Record.Length {
			replied = fmt.Sprintf("packet %d at %s, of which the capture has %d of %d bytes", line.UnreadIn, p.Record.Time().Format(clock), len(p.Record.Data), p.Record.Length)
		}
	}
	rows := []pairRow{
		{"", strong.Render("question"), strong.Render("reply")},
		{"packet", fmt.Sprintf("%d at %s", sent.SentIn, sent.Sent.Format("15:04:05.000000")), replied},
	}
	if said := [2]string{commentOf(packets[sent.SentIn]), commentOf(packets[replyIn])}; said[0]+said[1] != "" {
		rows = append(rows, pairRow{"comment", said[0], said[1]})
	}
	rows = append(rows, layerRows(layersOf(packets[sent.SentIn]), layersOf(packets[replyIn]))...)
	if asked.broken != nil {
		rows = append(rows, pairRow{"broken", asked.broken.Error(), ""})
	}
	for _, row := range messageRows {
		words := ""
		if reply != nil {
			words = row.words(reply)
		}
		rows = append(rows, pairRow{row.title, row.words(&asked), words})
	}
	return rows
}

// commentOf is what the file says about a packet; "" for nothing.
func commentOf(l *conversation.WholePacket) string {
	if l == nil {
		return ""
	}
	return wire.Escape(string(evidence.Remark(l.Record.Comment)))
}

// layerRows are the headers of two packets side by side.
func layerRows(left, right []capture.Layer) (rows []pairRow) {
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
		rows = append(rows, pairRow{name, words[0], words[1]})
	}
	return rows
}

func layersOf(l *conversation.WholePacket) []capture.Layer {
	if l == nil {
		return nil
	}
	return l.Layers
}

// exchangeSentence is who asked whom for what, and what came of it.
func exchangeSentence(e *exchange.Exchange) string {
	asked := subject.Render(e.Asked())
	if shown, ok := idn.Unicode(e.Question.Name); ok {
		asked += " (" + shown + ")"
	}
	return fmt.Sprintf("%s asked %s for %s: %s", e.Client.Addr(), e.Server.Name(), asked, resultWords(e))
}

// reading is a message as far as it can be read.
type reading struct {
	wire.Message
	counts [3]uint16 // of records, as its header says
	broken error
}

func read(message []byte) (r reading) {
	r.Message, r.broken = wire.ReadMessage(message)
	if v, _ := wire.ReadView(message); v.HasHeader() {
		r.counts = [3]uint16{v.Count(wire.AnswerSection), v.Count(wire.AuthoritySection), v.Count(wire.AdditionalSection)}
	}
	return r
}

// messageRows are what a message says before its records.
var messageRows = []struct {
	title string
	words func(r *reading) string
}{
	{"ID", func(r *reading) string { return fmt.Sprintf("%d (0x%04x)", r.ID, r.ID) }},
	{"flags", func(r *reading) string { return flagWords(&r.Message) }},
	{"EDNS", func(r *reading) string {
		if _, ok := r.EDNS(); !ok && r.broken != nil {
			return "not known"
		}
		return ednsWords(&r.Message)
	}},
	{"records", func(r *reading) string {
		text := fmt.Sprintf("%d answer, %d authority, %d additional", r.counts[0], r.counts[1], r.counts[2])
		if r.broken != nil {
			text += ", as its header says"
		}
		return text
	}},
}

// sections lists the records of a message. multicast says that it is one of the local
// link, where a bit of a record's class is a flag (RFC 6762 §10.2).
func (v *View) sections(m *wire.Message, multicast bool) {
	for _, s := range []struct {
		title   string
		records []wire.Record
	}{{"answer", m.Answer}, {"authority", m.Authority}, {"additional", m.Additional}} {
		begun := false
		for _, r := range s.records {
			if r.Type == wire.OPT {
				continue
			}
			kept := "TTL " + Seconds(r.TTL)
			if multicast && r.Class&0x8000 != 0 {
				r.Class &^= 0x8000
				kept += ", replacing all that was cached before"
			}
			if !begun {
				v.line()
				v.line("  ", strong.Render(s.title))
				begun = true
			}
			v.flow("    "+r.Name.Spoken(), 4+max(ansi.StringWidth(r.Name.Spoken())+1, 24), fmt.Sprintf("%-8s %s  %s", r.Type, r.Value(), quiet.Render(kept)), plainStyle)
		}
	}
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
	words := m.Flags.Names()
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
		words = append(words, "DNSSEC requested")
	}
	for _, o := range e.Options[:min(len(e.Options), maxOptions)] {
		words = append(words, o.Name()+" "+shorten(o.Text()))
	}
	if more := len(e.Options) - maxOptions; more > 0 {
		words = append(words, fmt.Sprintf("and %s more", wording.Count(more, "option", "options")))
	}
	return strings.Join(words, ", ")
}

// related are the exchanges that one has to do with, each behind what it is to it.
func related(e *exchange.Exchange, o *conversation.Overview, line conversation.Line) (rows [][2]string) {
	add := func(what string, n int) {
		if n == 0 {
			return
		}
		words := fmt.Sprintf("exchange %d", n)
		if other := o.Find(n); other != nil {
			words += fmt.Sprintf(", %s of %s: %s", other.Asked(), other.Server.Name(), resultWords(other))
		}
		rows = append(rows, [2]string{what, words})
	}
	add("before", line.Before.Number)
	add("then", line.After.Number)
	add("sibling", line.Half.Number)
	if other := o.Followed(e); other != nil {
		add("the alias", other.Number)
	}
	for i, try := range e.Attempts[1:] {
		rows = append(rows, [2]string{"retry", fmt.Sprintf("in packet %d, %s after the first (attempt %d)", try.SentIn, wording.Span(try.Sent.Sub(e.Sent())), i+2)})
	}
	line.Before, line.After = conversation.Link{}, conversation.Link{} // which stand above
	for _, words := range relatedWords(line) {
		rows = append(rows, [2]string{"note", words})
	}
	return rows
}
