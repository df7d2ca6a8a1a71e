package cli

import (
	"cmp"

	"unquil/core/conversation"
	"unquil/core/live"
	"unquil/ui/data"
	"unquil/ui/text"
)

// lineWriter writes exchanges as they come: JSON lines, or CSV, or with
// --follow-file the view's own lines.
type lineWriter struct {
	d       *decoding
	pairs   *data.Pairs // JSON and CSV
	json    bool
	view    *text.View
	err     error
	command string                                        // "" is decode
	whose   func(*conversation.Transaction) *live.Program // nil: nobody knows
	more    data.LastLine                                 // what there is besides
}

// lineWriter returns nil when exchanges are shown all at once, at the end. Live says that each is
// wanted at once.
func (a *app) lineWriter(d *decoding, live bool) *lineWriter {
	l := &lineWriter{d: d}
	switch {
	case d.packet != 0:
		return nil
	case a.json:
		l.pairs, l.json = data.NewPairs(a.stdout, false, live), true
	case d.csv && data.HasTable(d.view) && d.exchange == 0:
		return nil
	case d.csv:
		l.pairs = data.NewPairs(a.stdout, true, live)
	case (d.follow || d.all) && d.view == "exchanges" && d.exchange == 0:
		l.view = a.view()
	default:
		return nil
	}
	return l
}

// exchange writes one.
func (l *lineWriter) exchange(p *conversation.Transaction) {
	if l.err != nil {
		return
	}
	switch {
	case l.pairs != nil && l.whose != nil:
		l.err = l.pairs.Write(p, data.OfProgram(l.whose(p)))
	case l.pairs != nil:
		l.err = l.pairs.Write(p, nil)
	default:
		e := p.Exchange()
		l.view.ExchangeLine(&e)
		l.err = l.view.Err()
	}
}

// end writes the summary, and what is left.
func (l *lineWriter) end(o *conversation.Overview) error {
	if l.pairs == nil || l.err != nil {
		return l.err
	}
	if !l.json {
		return l.pairs.End(nil)
	}
	last := l.more
	last.Unquil, last.Command, last.Schema, last.Summary = version(), cmp.Or(l.command, "decode"), data.Schema, data.OfOverview(o, l.d.view)
	if l.command == "" {
		last.Files = l.d.paths
	}
	last.Verdicts = data.OfVerdicts(l.d.ofRun)
	return l.pairs.End(last)
}
