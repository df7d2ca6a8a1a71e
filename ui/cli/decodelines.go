package cli

import (
	"cmp"
	"encoding/json"
	"maps"

	"unquil/core/conversation"
	"unquil/core/live"
	"unquil/ui/data"
	"unquil/ui/text"
)

// lineWriter writes exchanges as they come: JSON lines, or CSV, or with
// --follow-file the view's own lines.
type lineWriter struct {
	d       *decoding
	encoder *json.Encoder
	csv     *data.Rows
	view    *text.View
	err     error
	command string                                        // "" is decode
	whose   func(*conversation.Transaction) *live.Program // nil: nobody knows
	more    map[string]any                                // for the last line
}

// lineWriter returns nil when exchanges are shown all at once, at the end.
func (a *app) lineWriter(d *decoding) *lineWriter {
	l := &lineWriter{d: d}
	switch {
	case d.packet != 0:
		return nil
	case a.json:
		l.encoder = data.NewEncoder(a.stdout)
	case d.csv:
		l.csv = data.NewRows(a.stdout)
		l.err = l.csv.Write(data.ExchangeColumns...)
	case d.follow && d.view == "exchanges":
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
	e := p.Exchange()
	switch {
	case l.encoder != nil:
		line := data.OfPaired(&e, p.Line())
		if l.whose != nil {
			line.Program = data.OfProgram(l.whose(p))
		}
		l.err = l.encoder.Encode(line)
	case l.csv != nil:
		l.err = l.csv.Write(data.ExchangeRow(&e)...)
	default:
		l.view.ExchangeLine(&e)
		l.err = l.view.Err()
	}
}

// end writes the summary.
func (l *lineWriter) end(o *conversation.Overview) error {
	if l.csv != nil {
		return l.csv.End()
	}
	if l.err != nil || l.encoder == nil {
		return l.err
	}
	last := map[string]any{"unquil": version(), "command": cmp.Or(l.command, "decode"), "schema": data.Schema, "summary": data.OfOverview(o, l.d.view)}
	if l.command == "" {
		last["files"] = l.d.paths
	}
	maps.Copy(last, l.more)
	if len(l.d.ofRun) > 0 {
		last["verdicts"] = data.OfVerdicts(l.d.ofRun)
	}
	return l.encoder.Encode(last)
}
