package cli

import (
	"fmt"
	"strings"

	"unquil/core/conversation"
	"unquil/core/exchange"
	"unquil/ui/data"
	"unquil/ui/text"
)

// decodeMode is one way to show captures.
type decodeMode interface {
	// plan adds what it needs of the captures.
	plan(*conversation.Plan)
	// show shows what they came to.
	show(*conversation.Study) error
}

// modeOf is the mode that the options ask for.
func (a *app) modeOf(d *decoding) decodeMode {
	lines := a.lineWriter(d, d.follow)
	switch {
	case d.packet != 0:
		return &packetMode{a, d}
	case lines != nil:
		return &linesMode{d, lines}
	case d.exchange != 0:
		return &exchangeMode{a, d}
	}
	return &viewMode{a, d}
}

// packetMode shows one packet whole, with the exchanges that it is a part of.
type packetMode struct {
	*app
	d *decoding
}

func (m *packetMode) plan(p *conversation.Plan) { p.Packet, p.Keep = m.d.packet, -1 }

func (m *packetMode) show(s *conversation.Study) error {
	var of []*exchange.Exchange
	for i := range s.Kept {
		of = append(of, &s.Kept[i])
	}
	whole := s.Packets[m.d.packet]
	if m.json {
		document := m.document("decode", nil)
		document.Result = data.OfLook(whole, of)
		return document.Write(m.stdout)
	}
	view := m.view()
	view.Packet(whole, of, m.wire)
	return view.Err()
}

// exchangeMode shows one exchange whole, layer by layer.
type exchangeMode struct {
	*app
	d *decoding
}

func (m *exchangeMode) plan(p *conversation.Plan) {
	number := m.d.exchange
	p.Also = func(t *conversation.Transaction) bool { return t.Number == number }
	p.Fetch = func(o *conversation.Overview) func(*conversation.Transaction) bool {
		if e := o.Find(number); e != nil {
			return o.RelatedTo(e)
		}
		return nil
	}
	p.Packets = func(o *conversation.Overview) []int { return o.Lines[number].Packets }
}

func (m *exchangeMode) show(s *conversation.Study) error {
	e := s.Find(m.d.exchange)
	if e == nil {
		return errNoExchange(m.d)
	}
	view := m.view()
	view.WholeExchange(e, s.Overview, s.Packets)
	if m.wire {
		view.Wire([]*exchange.Exchange{e})
		line := s.Lines[e.Number]
		for _, n := range []int{line.UnreadIn, line.OtherIn} {
			if p := s.Packets[n]; p != nil && p.Message != nil {
				view.WireOf(fmt.Sprintf("packet %d, from %s", n, p.From.Addr()), p.Message)
			}
		}
	}
	return view.Err()
}

func errNoExchange(d *decoding) error {
	return usage(fmt.Errorf("--exchange %d: %w", d.exchange, errExchange))
}

// linesMode writes exchanges as they come.
type linesMode struct {
	d     *decoding
	lines *lineWriter
}

func (m *linesMode) plan(p *conversation.Plan) {
	p.Tell = m.lines.exchange
	if !views[m.d.view].whole && p.Fetch == nil {
		p.Keep = -1
	}
}

func (m *linesMode) show(s *conversation.Study) error {
	if m.d.exchange != 0 && !s.Met {
		return errNoExchange(m.d)
	}
	return m.lines.end(s.Overview)
}

// viewMode draws a view of the whole.
type viewMode struct {
	*app
	d *decoding
}

func (m *viewMode) plan(p *conversation.Plan) {
	if !views[m.d.view].whole && p.Fetch == nil {
		p.Keep = -1
	}
}

func (m *viewMode) show(s *conversation.Study) error {
	if m.d.csv {
		return data.WriteViewCSV(m.stdout, s.Overview, m.d.view)
	}
	view := m.view()
	view.All = m.d.all
	if draw := views[m.d.view].draw; draw != nil {
		draw(view, s.Overview)
	} else {
		view.OfRun(m.d.ofRun, text.Shell(append([]string{"unquil", "why", "--capture"}, m.d.paths...)...))
		view.Overview(strings.Join(m.d.paths, " "), m.again(m.d, true), s.Overview)
	}
	return view.Err()
}

// captureView is one way to look at a capture; whole says that it is made of the
// exchanges themselves, and not of what was counted of them.
type captureView struct {
	draw  func(*text.View, *conversation.Overview)
	whole bool
}

// views are the ways to look at a capture. The overview is drawn with the name of the file.
var views = map[string]captureView{
	"overview":   {nil, false},
	"exchanges":  {(*text.View).Exchanges, true},
	"names":      {(*text.View).Names, false},
	"servers":    {(*text.View).Servers, false},
	"clients":    {(*text.View).Clients, false},
	"episodes":   {(*text.View).Episodes, true},
	"walks":      {(*text.View).Paths, true},
	"local-link": {(*text.View).LocalLink, false},
	"timeline":   {(*text.View).Timeline, false},
}
