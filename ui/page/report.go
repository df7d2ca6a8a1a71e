// Package page draws a report to hand over: one self-contained HTML file, or a text
// in Markdown. It decides nothing: what is true was decided in core.
package page

import (
	"bytes"
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"unquil/core/casework"
	"unquil/core/conversation"
	"unquil/core/delegation"
	"unquil/core/diagnosis"
	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/probe"
	"unquil/core/wire"
	"unquil/core/wording"
)

// Report is all that one run came to.
type Report struct {
	Command   string // as it was typed
	Version   string
	Made      time.Time
	Lab       bool // it is about the simulated internet
	Headline  string
	Verdicts  []diagnosis.Verdict
	Walks     []*delegation.Walk
	Compared  []probe.Compared
	Steps     []casework.Step // of a session: what was typed, and what came of it
	Tables    []Table
	Findings  []finding.Finding // heaviest first; those of the verdicts among them
	Exchanges []exchange.Exchange
	Evidence  string // the name of the capture beside the report; "" without one
	Left      int    // exchanges that were counted, and are neither in the report nor in that capture
	Redacted  bool
	Cut       int // records, options and messages that could not be redacted, and are left out
}

// Replaced says what redaction did to the report.
func (r *Report) Replaced() string {
	text := "Names and addresses in it are replaced by others, the same everywhere"
	if r.Cut > 0 {
		text += "; left out, since it could not be read: " + wording.Count(r.Cut, "record, option or message", "records, options or messages")
	}
	return text
}

// Few are the exchanges of a step that are listed with it.
func (r *Report) Few(of []exchange.Exchange) []*exchange.Exchange {
	var few []*exchange.Exchange
	for i := range of[:min(len(of), maxOfStep)] {
		few = append(few, &of[i])
	}
	return few
}

// Table is rows under a heading.
type Table struct {
	Title   string
	Columns []string
	Rows    [][]string
}

// Bounds on what a report shows; what is beyond is in the capture beside it.
const (
	maxShown  = 250 // exchanges
	maxLadder = 48
	maxOfStep = 12 // exchanges
	maxLanes  = 8
	maxPieces = 600 // of one message
)

//go:embed report.html
var layout string

//go:embed style.css
var style string

// HTML writes the report as one file that needs nothing else.
func HTML(w io.Writer, r *Report) error {
	p := newPage(r)
	for _, walk := range r.allWalks() {
		picture := walkPicture(walk)
		if n := len(p.Ways); n > 0 && p.Ways[n-1].Picture == picture { // for another type of the same name
			p.Ways[n-1].Title += " and " + walk.Question.Type.String()
			continue
		}
		p.Ways = append(p.Ways, drawing{fmt.Sprintf("The way to %s", walk.Question.Spoken()), picture})
		if times := validityPicture(walk); times != "" {
			p.Times = append(p.Times, drawing{fmt.Sprintf("When the signatures on the way to %s are valid", walk.Question.Spoken()), times})
		}
	}
	if picture, left := ladder(p.telling(), p.evidence, p.shown); picture != "" {
		title := "Who asked whom, and when"
		if left > 0 {
			title += fmt.Sprintf(" (and %s below)", wording.Count(left, "exchange", "exchanges"))
		}
		p.Ladder = drawing{title, picture}
	}
	p.Latency = drawing{"How long replies took, server by server", latencyPlot(r.Exchanges)}
	p.Tables = r.allTables()
	t, err := template.New("report").Funcs(template.FuncMap{
		"where": whereWords, "took": took, "clock": clock, "period": wire.Period, "said": said, "plural": wording.Count, "exchanges": wording.Exchanges,
	}).Parse(layout)
	if err != nil {
		return err
	}
	return t.Execute(w, p)
}

// page is what the layout draws.
type page struct {
	*Report
	Style    template.CSS
	Ways     []drawing
	Times    []drawing // of signatures
	Tables   []Table
	Ladder   drawing
	Latency  drawing
	Chosen   []*exchange.Exchange // those shown, by number
	NotIn    int                  // how many are not
	shown    map[int]bool
	evidence map[int]bool // of the findings
}

// drawing is a picture with its title.
type drawing struct {
	Title   string
	Picture template.HTML
}

// newPage takes the exchanges that are evidence first, and then the rest while there is room.
func newPage(r *Report) *page {
	p := &page{Report: r, Style: template.CSS(style), shown: map[int]bool{}, evidence: map[int]bool{}}
	for _, f := range p.Findings {
		for _, n := range f.Evidence {
			p.evidence[n] = true
		}
	}
	for _, wanted := range []bool{true, false} {
		for i := range p.Exchanges {
			if e := &p.Exchanges[i]; p.evidence[e.Number] == wanted && len(p.Chosen) < maxShown {
				p.Chosen = append(p.Chosen, e)
				p.shown[e.Number] = true
			}
		}
	}
	p.NotIn = len(p.Exchanges) - len(p.Chosen)
	slices.SortFunc(p.Chosen, func(a, b *exchange.Exchange) int { return a.Number - b.Number })
	return p
}

// telling are the exchanges that tell the story: those that findings rest on, and
// those that verdicts and walks come from. Without any of them it is all.
func (p *page) telling() []*exchange.Exchange {
	wanted := map[int]bool{}
	take := func(e *exchange.Exchange) { wanted[e.Number] = true }
	for _, f := range p.Findings {
		for _, n := range f.Evidence {
			wanted[n] = true
		}
	}
	for _, w := range p.allWalks() {
		for _, step := range w.Steps {
			for _, reply := range step.Replies {
				if reply.Exchange != nil {
					take(reply.Exchange)
				}
			}
		}
	}
	for _, c := range p.allCompared() {
		for _, g := range c.Groups {
			for _, m := range g.Members {
				take(m.Exchange)
			}
		}
	}
	var all []*exchange.Exchange
	for _, e := range p.Chosen {
		if wanted[e.Number] {
			all = append(all, e)
		}
	}
	if len(all) == 0 {
		return p.Chosen
	}
	return all
}

// Links are exchange numbers, each to be linked where it is shown.
func (p *page) Links(numbers []int) (links []link) {
	for _, n := range numbers {
		links = append(links, link{n, p.shown[n]})
	}
	return links
}

type link struct {
	Number int
	Shown  bool
}

// Parts are the messages of an exchange, with every byte named.
func (p *page) Parts(e *exchange.Exchange) (all []part) {
	add := func(title string, at time.Time, data []byte) {
		if len(data) == 0 {
			return
		}
		pieces, broken := wire.Pieces(data)
		part := part{Title: title, At: at, Size: len(data)}
		if broken != nil {
			part.Broken = broken.Error()
		}
		last := ""
		for _, piece := range pieces[:min(len(pieces), maxPieces)] {
			if piece.Part == last { // it is said once, where it begins
				piece.Part = ""
			} else {
				last = piece.Part
			}
			part.Rows = append(part.Rows, named{piece, fmt.Sprintf("% x", data[piece.Offset:piece.Offset+min(piece.Length, 16)]) + more(piece.Length-16)})
		}
		part.More = len(pieces) - len(part.Rows)
		all = append(all, part)
	}
	for i := range e.Attempts {
		a := &e.Attempts[i]
		try := ""
		if len(e.Attempts) > 1 {
			try = fmt.Sprintf(", try %d", i+1)
		}
		add(fmt.Sprintf("Question over %s%s", strings.ToUpper(string(a.Transport)), try), a.Sent, a.Query)
		for _, rejected := range a.Rejected {
			add("Not believed, from "+exchange.FormatAddress(rejected.From)+": "+rejected.Err.Error(), rejected.At, rejected.Data)
		}
		add("Reply"+try, a.Received, a.Reply)
	}
	return all
}

func more(n int) string {
	if n > 0 {
		return fmt.Sprintf(" and %d more", n)
	}
	return ""
}

// part is one message, its bytes named.
type part struct {
	Title  string
	At     time.Time
	Size   int
	Broken string
	Rows   []named
	More   int // pieces that are not shown
}

type named struct {
	wire.Piece
	Hex string
}

// allWalks are those of the run and those of its verdicts and comparisons.
func (r *Report) allWalks() (walks []*delegation.Walk) {
	add := func(w *delegation.Walk) {
		if w != nil && len(w.Steps) > 0 && !slices.Contains(walks, w) {
			walks = append(walks, w)
		}
	}
	for _, w := range r.Walks {
		add(w)
	}
	for _, c := range r.allCompared() {
		add(c.Walk)
	}
	return walks
}

// allCompared are the comparisons of the run and those of its verdicts.
func (r *Report) allCompared() (all []*probe.Compared) {
	for i := range r.Compared {
		all = append(all, &r.Compared[i])
	}
	for i := range r.Verdicts {
		for k := range r.Verdicts[i].Compared {
			all = append(all, &r.Verdicts[i].Compared[k])
		}
	}
	return all
}

// allTables are a matrix for each comparison, and the run's own.
func (r *Report) allTables() (all []Table) {
	for _, c := range r.allCompared() {
		if len(c.Groups) > 0 {
			all = append(all, matrix(c))
		}
	}
	for _, w := range r.allWalks() {
		if w.Validation != nil && len(w.Validation.Chain) > 0 {
			all = append(all, chainTable(w))
		}
	}
	return append(all, r.Tables...)
}

// matrix is a comparison as a table: a row for each server, the groups as columns of
// what they say.
func matrix(c *probe.Compared) Table {
	t := Table{Title: fmt.Sprintf("Who says what to %s", c.Question.Spoken()), Columns: []string{"server", "asked as", "says", "for", "in line with the zone"}}
	for i := range c.Groups {
		g := &c.Groups[i]
		inLine := "not known"
		switch {
		case c.Truth() == g:
			inLine = "yes"
		case c.Truth() != nil && g.Outcome != "":
			inLine = "NO"
		}
		for _, m := range g.Members {
			as := "resolver"
			if m.Own {
				as = "the zone's own"
			}
			kept := ""
			if g.MostTTL > 0 {
				kept = wire.Period(g.LeastTTL)
			}
			t.Rows = append(t.Rows, []string{fmt.Sprintf("%s (%s)", m.Exchange.Server.Name(), m.Exchange.Server.AddressText()), as, g.Says(), kept, inLine})
		}
	}
	return t
}

// ZoneTable is a zone's servers side by side.
func ZoneTable(z *probe.Zone) Table {
	t := Table{Title: "The servers of " + z.Zone.Spoken(), Columns: []string{"server", "address", "serial", "over TCP", "listed by"}}
	for _, s := range z.States {
		serial, listed, tcp := "not known", "the parent", "not tried"
		if s.HasSerial {
			serial = fmt.Sprint(s.Serial)
		}
		switch {
		case s.Unlisted && s.ByZone:
			listed = "the zone alone"
		case s.Unlisted:
			listed = "nobody"
		}
		if s.TCP != nil {
			tcp = said(s.TCP)
		}
		t.Rows = append(t.Rows, []string{s.Host.Spoken(), s.Address.String(), serial, tcp, listed})
	}
	return t
}

// CaptureTables are what a capture holds, and its servers.
func CaptureTables(o *conversation.Overview) []Table {
	span := wire.Period(uint32(min(max(o.Last.Sub(o.First).Round(time.Second).Seconds(), 0), math.MaxUint32)))
	whole := Table{Title: "The capture", Columns: []string{"begins", "span", "packets", "DNS messages", "exchanges", "cannot be read"}, Rows: [][]string{{
		o.First.UTC().Format("2006-01-02 15:04:05") + " UTC", span, fmt.Sprint(o.Packets), fmt.Sprint(o.Messages), fmt.Sprint(o.Exchanges), fmt.Sprint(o.Unreadable + o.Malformed)}}}
	servers := Table{Title: "Its servers", Columns: []string{"server", "asked", "failed", "no such name", "median", "longest"}}
	rows, _ := o.Servers()
	for _, row := range rows[:min(len(rows), maxRows)] {
		s := row.Stat
		servers.Rows = append(servers.Rows, []string{row.Key, fmt.Sprint(s.Exchanges), fmt.Sprint(s.Failed), fmt.Sprint(s.NoName), median(&s.Latency), wording.Span(s.Latency.Max)})
	}
	return []Table{whole, servers}
}

func median(h *conversation.Histogram) string {
	words := wording.Span(h.Quantile(50))
	if !h.Exact() {
		words = "about " + words
	}
	return words
}

// maxRows is how many rows of a table of a capture are shown.
const maxRows = 100

// said is what an exchange came to, in a few words that are safe to print.
func said(e *exchange.Exchange) string {
	switch values := exchange.Values(e.Answer().Records); {
	case e.Outcome == "":
		return "cut short"
	case len(values) > 3:
		return fmt.Sprintf("%s and %d more", strings.Join(values[:3], ", "), len(values)-3)
	case len(values) > 0:
		return strings.Join(values, ", ")
	}
	return string(e.Outcome)
}

func whereWords(v diagnosis.Verdict) string {
	if at := wording.Spoken(v.At); at != "" {
		return string(v.Where) + ": " + at
	}
	return string(v.Where)
}

func took(e *exchange.Exchange) string {
	if d := e.Waited(); d > 0 {
		return wording.Span(d)
	}
	return ""
}

func clock(at time.Time) string {
	if at.IsZero() {
		return ""
	}
	return at.UTC().Format("15:04:05.000000")
}

// Text is the report drawn by draw. Nothing in it acts, whatever core was given: a report
// is opened by people who have not asked for it.
func Text(draw func(io.Writer, *Report) error, r *Report) ([]byte, error) {
	var b bytes.Buffer
	if err := draw(&b, r); err != nil {
		return nil, err
	}
	return []byte(escape.Lines(b.String())), nil
}

// Common reports whether reports hold a word in lower case, or one that it is a part of,
// whatever they are about.
func Common(word string) bool { return strings.Contains(blank(), word) }

// blank is the layout, the catalogue, and an empty report, in lower case.
var blank = sync.OnceValue(func() string {
	var b bytes.Buffer
	b.WriteString(layout + style + markdownLayout)
	for _, entry := range finding.Catalogue {
		fmt.Fprintln(&b, entry.Code, entry.About, entry.Meaning, entry.Next)
	}
	empty := &Report{Lab: true, Redacted: true, Cut: 2, Left: 2, Evidence: " ", Findings: []finding.Finding{{Severity: finding.Fault}},
		Verdicts: []diagnosis.Verdict{{}, {Severity: finding.Fault, Cause: []finding.Finding{{}}, Against: " ", Elsewhere: " ", Lasts: 1}}, Exchanges: []exchange.Exchange{{}}}
	for _, draw := range []func(io.Writer, *Report) error{HTML, Markdown} {
		if err := draw(&b, empty); err != nil {
			panic(err) // the layout is the program's own
		}
	}
	return strings.ToLower(b.String())
})
