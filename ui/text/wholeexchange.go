package text

import (
	"cmp"
	"fmt"
	"net/netip"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"unquil/core/capture"
	"unquil/core/conversation"
	"unquil/core/exchange"
	"unquil/core/idn"
	"unquil/core/wire"
	"unquil/core/wording"
)

// WholeExchange draws one exchange: question and reply side by side, layer by
// layer, the records, another reply, and what it has to do with others. looks are its
// packets.
func (v *View) WholeExchange(e *exchange.Exchange, o *conversation.Overview, looks map[int]*conversation.WholePacket) {
	line := o.Lines[e.Number]
	other, otherSays := looks[line.OtherIn], ""
	headline := fmt.Sprintf("exchange %d: %s", e.Number, exchangeSentence(e))
	if other != nil {
		if m := read(other.Message); m.broken == nil && len(m.Questions) > 0 {
			otherSays = cameTo(&exchange.Exchange{Question: m.Questions[0], Reply: &m.Message, Outcome: exchange.Judge(m.Questions[0], &m.Message)})
			headline += "; " + severe["fault"].Render("another reply says") + " " + otherSays
		}
	}
	v.flow("", 0, headline, plainStyle)
	for _, a := range []netip.Addr{e.Client.Addr(), e.Server.Address.Addr()} {
		if host := o.Hosts[a]; host != "" {
			v.flow("", 2, fmt.Sprintf("the file names %s %s", a, host), quiet)
		}
	}
	v.line()
	sent := e.Attempts[0]
	last := e.Last()
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
	asked, replyIn, replied := read(sent.Query), last.ReceivedIn, "none in the capture"
	var reply *reading
	if e.Reply != nil {
		whole := read(last.Reply)
		reply = &whole
		replied = fmt.Sprintf("packet %d at %s, %s later", last.ReceivedIn, last.Received.Format(clock), Took(e.Waited()))
	} else if l := looks[line.CutIn]; l != nil {
		part := read(l.Message)
		reply, replyIn = &part, line.CutIn
		replied = fmt.Sprintf("packet %d at %s, of which the capture has %d of %d bytes", line.CutIn, l.Record.Time().Format(clock), len(l.Record.Data), l.Record.Length)
	}
	cells("packet", fmt.Sprintf("%d at %s", sent.SentIn, sent.Sent.Format("15:04:05.000000")), replied)
	left, right := layersOf(looks[sent.SentIn]), layersOf(looks[replyIn])
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
	if asked.broken != nil {
		cells("broken", asked.broken.Error(), "")
	}
	for _, row := range messageRows {
		words := ""
		if reply != nil {
			words = row.words(reply)
		}
		cells(row.title, row.words(&asked), words)
	}
	if e.Reply != nil {
		v.sections(e.Reply, false)
	}
	v.related(e, o, line)
	if other != nil {
		v.line()
		v.line("  ", strong.Render(fmt.Sprintf("the other reply, packet %d", line.OtherIn)))
		v.packetRows(other)
		if otherSays != "" {
			v.row("says", otherSays)
		}
	}
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
	var words []string
	for _, f := range []struct {
		bit  wire.Flags
		text string
	}{
		{wire.AA, "authoritative"}, {wire.TC, "cut"}, {wire.RD, "recursion wanted"}, {wire.RA, "recursion offered"}, {wire.AD, "data checked"}, {wire.CD, "checking off"},
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

// related lists the exchanges that one has to do with.
func (v *View) related(e *exchange.Exchange, o *conversation.Overview, line conversation.Line) {
	var rows [][2]string
	find := func(n int) string {
		other := o.Find(n)
		if other == nil {
			return fmt.Sprintf("exchange %d", n)
		}
		return fmt.Sprintf("exchange %d, %s of %s: %s", n, other.Asked(), other.Server.Name(), resultWords(other))
	}
	if n := line.Before.Number; n > 0 {
		rows = append(rows, [2]string{"before", find(n)})
	}
	if n := line.After.Number; n > 0 {
		rows = append(rows, [2]string{"then", find(n)})
	}
	if n := line.Half.Number; n > 0 {
		rows = append(rows, [2]string{"sibling", find(n)})
	}
	if other := o.Followed(e); other != nil {
		rows = append(rows, [2]string{"the alias", find(other.Number)})
	}
	for i, try := range e.Attempts[1:] {
		rows = append(rows, [2]string{"retry", fmt.Sprintf("in packet %d, %s after the first (attempt %d)", try.SentIn, Took(try.Sent.Sub(e.Sent())), i+2)})
	}
	for _, words := range relatedWords(conversation.Line{Parts: line.Parts, LastIn: line.LastIn, Lasted: line.Lasted, Guesses: line.Guesses, Looped: line.Looped, OtherIn: line.OtherIn, Forbidden: line.Forbidden, Cut: line.Cut}) {
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
