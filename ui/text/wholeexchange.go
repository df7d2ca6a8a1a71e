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
	"unquil/core/wire"
)

// WholeExchange draws one exchange: question and reply side by side, layer by
// layer, the records, and what it has to do with others.
func (v *View) WholeExchange(e *exchange.Exchange, o *conversation.Overview, layers map[int][]capture.Layer) {
	v.flow("", 0, fmt.Sprintf("exchange %d: %s asked %s for %s %s: %s", e.Number, e.Client.Addr(), e.Server.Name(), nameText(e.Question.Name), e.Question.Type, resultWords(e)), plainStyle)
	for _, a := range []netip.Addr{e.Client.Addr(), e.Server.Address.Addr()} {
		if host := o.Hosts[a]; host != "" {
			v.flow("", 2, fmt.Sprintf("the file calls %s %s", a, wire.Escape(host)), quiet)
		}
	}
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
		other := o.Find(n)
		if other == nil {
			return fmt.Sprintf("exchange %d", n)
		}
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
	if other := o.Followed(e); other != nil {
		rows = append(rows, [2]string{"the alias", find(other.Number)})
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
