package cli

import (
	"time"

	"golang.org/x/term"

	"unquil/core/conversation"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/ui/data"
	"unquil/ui/text"
)

// listenMode shows what is heard: lines as exchanges come about, or a view that is drawn anew,
// and at the end what it came to.
type listenMode struct {
	*listenRun
	lines    *lineWriter // JSON or CSV; nil: neither
	view     *text.View
	live     *text.Live // on a terminal; nil: it is none
	height   int        // of the terminal, in lines
	choose   func(*conversation.Transaction) bool
	late     bool          // what is chosen by is not known before an exchange is over
	sees     bool          // lines are shown
	came     text.Listened // the exchanges that came about
	waiting  map[int]bool  // those that have no reply yet, by number
	drawn    time.Time
	counted  uint64 // packets, when the rate was told last
	rate     int
	rateFrom time.Time
}

// mode is the mode that the options ask for.
func (r *listenRun) mode() *listenMode {
	m := &listenMode{listenRun: r, view: r.app.view(), lines: r.lineWriter(&r.l.decoding, true)}
	if m.lines != nil {
		m.lines.command, m.lines.whose = "listen", r.whose
		return m
	}
	view := r.l.view
	if r.l.command != "" { // whose output is not to be mixed with ours
		m.sees = view == "exchanges"
		return m
	}
	m.sees = view == "overview" || view == "exchanges"
	if file, ok := r.stdout.(terminal); ok && term.IsTerminal(int(file.Fd())) {
		m.live = m.view.NewLive()
		if _, height, err := term.GetSize(int(file.Fd())); err == nil {
			m.height = height
		}
	}
	return m
}

func (m *listenMode) plan(p *conversation.Plan) {
	m.choose, m.late = p.Choose, m.l.choice.NeedsFindings()
	p.Live = &conversation.Live{Look: m.look}
	p.Tell = m.told
	if m.lines == nil {
		p.Live.Soon, m.waiting = m.soon, map[int]bool{}
	}
	if !views[m.l.view].whole && m.reportFile == "" {
		p.Keep = -1
	}
	p.Select, p.Fetch = conversation.SelectNone, nil // what was heard is gone
	if m.lines == nil && m.sees && m.live == nil {
		text.New(m.stderr, columns(m.stderr, m.environ), text.Colour(m.colour), m.environ).Listening(m.state())
	}
}

// soon shows an exchange as it comes about.
func (m *listenMode) soon(t *conversation.Transaction) {
	if m.choose != nil && !m.choose(t) {
		return
	}
	if t.Waits() {
		m.waiting[t.Number] = true
	} else {
		delete(m.waiting, t.Number)
		m.count(t.Outcome())
	}
	if m.sees && !m.late {
		e := t.Exchange()
		m.line(&e, t)
	}
}

// count counts an exchange that has come to its end.
func (m *listenMode) count(outcome exchange.Outcome) {
	m.came.Exchanges++
	switch {
	case outcome == exchange.NoName:
		m.came.NoName++
	case outcome.Failed():
		m.came.Failed++
	}
}

func (m *listenMode) line(e *exchange.Exchange, t *conversation.Transaction) {
	if m.live != nil {
		m.live.Clear()
	}
	m.view.LiveLine(e, t.Waits(), m.whose(t), m.live == nil)
}

// told takes an exchange that is over.
func (m *listenMode) told(t *conversation.Transaction) {
	m.tell(t)
	if _, answered := t.ReplyView(); m.lines == nil && !answered {
		delete(m.waiting, t.Number)
		m.count(t.Outcome())
	}
	if m.lines != nil {
		m.lines.exchange(t)
	} else if m.sees && m.late {
		e := t.Exchange()
		m.line(&e, t)
	}
}

// look takes how far listening has come, and ends it where what was waited for is there, or nobody
// reads any more.
func (m *listenMode) look(o *conversation.Overview) {
	if code := finding.Code(m.l.until); code != "" && o.Found(code) {
		m.stop()
	}
	if m.view.Err() != nil || m.lines != nil && m.lines.err != nil {
		m.stop()
	}
	now := time.Now()
	if m.live == nil || now.Sub(m.drawn) < refresh {
		return
	}
	m.drawn = now
	state := m.state()
	if span := now.Sub(m.rateFrom); span >= time.Second {
		m.rate, m.counted, m.rateFrom = int(float64(state.Heard-m.counted)/span.Seconds()+0.5), state.Heard, now
	}
	state.PerSecond = m.rate
	state.Exchanges, state.Failed, state.NoName, state.Waiting = m.came.Exchanges, m.came.Failed, m.came.NoName, len(m.waiting)
	if m.sees {
		m.live.Foot(state)
		return
	}
	m.live.Over(m.height-1, func(v *text.View) {
		v.Foot(state)
		v.Gap()
		m.draw(v, o)
	})
}

// refresh is how often what is shown is drawn anew.
const refresh = 250 * time.Millisecond

// draw draws the view that was asked for.
func (m *listenMode) draw(v *text.View, o *conversation.Overview) {
	if m.l.view == "programs" {
		v.Programs(m.programs.Uses())
		return
	}
	views[m.l.view].draw(v, o)
}

// show is what a decodeMode has; end does it.
func (m *listenMode) show(*conversation.Study) error { return nil }

// end shows what listening came to.
func (m *listenMode) end(s *conversation.Study, state text.Listened) error {
	if m.lines != nil {
		more := data.LastLine{Interfaces: data.OfInterfaces(m.heard.Interfaces()), Programs: data.OfPrograms(m.programs.Uses()),
			Heard: &data.Heard{Packets: int(state.Heard), Lost: int(state.Lost), NotJudged: int(state.Unjudged), NotWritten: int(state.Unkept), Seconds: state.For.Seconds()}}
		if m.l.command != "" {
			more.While = data.OfWhile(m.ran.Command, m.ran.Took, m.ran.Exit, m.ran.Failed, &m.programs)
		}
		m.lines.more = more
		return m.lines.end(s.Overview)
	}
	if m.live != nil {
		m.live.Clear()
	}
	if m.sees && s.Exchanges > 0 {
		m.view.Gap()
	}
	if m.l.command != "" && !m.l.csv {
		m.view.While(m.ran, &m.programs)
		m.view.Gap()
	}
	switch {
	case m.l.csv:
		return data.WriteViewCSV(m.stdout, s.Overview, m.l.view)
	case m.l.view == "overview" || m.l.view == "exchanges":
		again := ""
		if m.l.to != "" && m.l.to != "-" && len(m.written) == 1 && m.redacted == nil && !m.l.numbered() {
			again = m.again(&decoding{paths: []string{m.l.to}, ports: m.l.ports, https: m.l.https}, false)
		}
		m.view.All = true // what was heard is gone, and cannot be looked at again
		m.view.Overview(state.On, again, s.Overview)
	default:
		m.draw(m.view, s.Overview)
	}
	m.view.Heard(state, m.leftOut)
	return m.view.Err()
}
