// Package browse walks about in captures: from what went wrong down to the byte, one thing at a
// time, with a trail that says where one is.
//
// A [Browser] is where somebody stands and what they may do; it knows no terminal. Two things
// hold one: a full screen with keys, and a plain form of lines that a screen reader can follow.
package browse

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"unquil/core/conversation"
	"unquil/core/exchange"
	"unquil/core/wording"
	"unquil/ui/text"
)

// Source is what is browsed, and where what is marked goes.
type Source struct {
	Title   string // the files, as they may be shown
	Archive *conversation.Archive
	// Size is how many bytes the files have by now.
	Size func() int64
	// Write writes exchanges and the notes on them to a file, by the ending of its name, and says
	// what it wrote. It is called beside everything else.
	Write func(ctx context.Context, path string, chosen *conversation.Chosen, notes map[int]string) (said string, err error)
}

// Browser is where somebody stands in captures.
type Browser struct {
	Source
	overview *conversation.Overview
	all      *conversation.Chosen // every exchange
	size     int64                // of the files when they were surveyed
	trail    []*screen
	known    map[int]*exchange.Exchange // fetched ones, by number
	lines    map[int]conversation.Line
	marked   *conversation.Chosen
	unmarked map[int]bool
	notes    map[int]string
	jobs     []*job
	running  *job
	said     string // what came of the last thing that was done
	wrong    bool   // that it failed
	asking   *asking
	colour   text.Colour
	linear   bool // pages are read line by line
	width    int
	height   int
}

// screen is one thing that is looked at: a list of items, or a page.
type screen struct {
	name  string        // in the trail
	about func() string // what it is, in a sentence
	count func() int    // of the items, or of the page's lines
	item  func(v *text.View, i int, whole bool)
	head  func(i int) string  // a line above an item; nil, or "": none
	page  func(v *text.View)  // instead of items; nil: it is a list
	down  func(i int) *screen // what is below an item; nil, or returning nil: nothing
	need  func(from, to int)  // asks for what the items from one to another need
	find  func(i int) int     // the number of the exchange that an item is; 0: none
	of    *choice             // of a list of exchanges
	one   int                 // of a page about one exchange: its number
	list  string              // its name among the lists; "" for others
	at    int                 // the item where one stands, or the first line that is shown
	top   int                 // the first item that is shown
	drawn []string            // the page's lines, at a width
	wide  int
}

// choice is some of the exchanges.
type choice struct {
	filter   conversation.Filter
	chosen   *conversation.Chosen
	counting string // what they are, while they are still being looked for
}

// job is work that takes time: run is called beside everything else, and what it returns
// where everything else is.
type job struct {
	kind  string // a later one of its kind takes its place
	says  string // what is being done
	run   func(ctx context.Context, tell func(string)) func()
	stop  context.CancelFunc
	stale bool
}

// asking is a line that is being typed.
type asking struct {
	label   string
	typed   string
	changed func(typed string) // while it is typed; nil: nothing
	done    func(typed string)
	hint    string
	left    func() (words string, known bool) // how many a condition leaves; nil: it is none
}

// New is a browser that has not read anything yet.
func New(s Source, colour text.Colour) *Browser {
	b := &Browser{Source: s, colour: colour, width: 80, height: 24, known: map[int]*exchange.Exchange{}, lines: map[int]conversation.Line{},
		marked: &conversation.Chosen{}, unmarked: map[int]bool{}, notes: map[int]string{}}
	b.survey()
	return b
}

// survey reads the captures for all that there is to list.
func (b *Browser) survey() {
	size := b.Size()
	b.later(&job{kind: "survey", says: "reading " + b.Title, run: func(ctx context.Context, tell func(string)) func() {
		overview, all, err := b.Archive.Survey(ctx, func(bytes int64) {
			if size > 0 {
				tell(fmt.Sprintf("reading %s: %d of %d MB", b.Title, min(bytes, size)/1_000_000, size/1_000_000))
			}
		})
		return func() {
			b.size = size
			if err != nil {
				b.say(true, "reading %s: %v", b.Title, err)
			}
			if overview == nil {
				return
			}
			first := b.overview == nil
			b.overview, b.all = overview, all
			b.learn(overview)
			if first {
				b.trail = []*screen{b.findings()}
				return
			}
			b.refresh()
		}
	}})
}

// Grown looks whether the files have grown, and reads them again if so.
func (b *Browser) Grown() {
	if b.overview != nil && b.running == nil && len(b.jobs) == 0 && b.Size() > b.size {
		b.survey()
	}
}

// refresh makes the lists of the trail anew from what was read anew.
func (b *Browser) refresh() {
	for i, s := range b.trail {
		if s.list == "" {
			continue
		}
		fresh := b.listed(s.list)
		fresh.at, fresh.top = min(s.at, max(fresh.count()-1, 0)), s.top
		b.trail[i] = fresh
	}
	b.say(false, "the file has grown: %s by now", wording.Count(b.overview.Exchanges, "exchange", "exchanges"))
}

// learn keeps exchanges that were read.
func (b *Browser) learn(o *conversation.Overview) {
	if len(b.known) > maxKnown {
		clear(b.known)
		clear(b.lines)
		for i := range b.overview.Kept {
			b.keep(b.overview, i)
		}
	}
	for i := range o.Kept {
		b.keep(o, i)
	}
}

func (b *Browser) keep(o *conversation.Overview, i int) {
	e := &o.Kept[i]
	b.known[e.Number], b.lines[e.Number] = e, o.Lines[e.Number]
}

// maxKnown is how many exchanges are remembered, besides those of the overview.
const maxKnown = 16_000

// later adds a job. One of its kind that waits, or runs, is given up.
func (b *Browser) later(j *job) {
	b.jobs = slices.DeleteFunc(b.jobs, func(other *job) bool { return other.kind == j.kind })
	b.jobs = append(b.jobs, j)
	if b.running != nil && b.running.kind == j.kind {
		b.running.stale = true
		b.running.stop()
	}
}

// Next begins the next job: it returns what is to be run beside everything else, and takes what
// came of it back with Done. nil: nothing is to be done, or a job runs.
func (b *Browser) Next(ctx context.Context, tell func(string)) func() (done func()) {
	if b.running != nil || len(b.jobs) == 0 {
		return nil
	}
	j := b.jobs[0]
	b.jobs = b.jobs[1:]
	ctx, j.stop = context.WithCancel(ctx)
	b.running = j
	return func() func() {
		apply := j.run(ctx, tell)
		return func() {
			j.stop()
			b.running = nil
			if !j.stale {
				apply()
			}
		}
	}
}

// Working says what is being done; "" when nothing is.
func (b *Browser) Working() string {
	if b.running == nil {
		return ""
	}
	return b.running.says
}

// say says what came of something.
func (b *Browser) say(wrong bool, format string, args ...any) {
	b.said, b.wrong = fmt.Sprintf(format, args...), wrong
}

// here is the screen that is shown; nil before anything was read.
func (b *Browser) here() *screen {
	if len(b.trail) == 0 {
		return nil
	}
	return b.trail[len(b.trail)-1]
}

// go goes down to a screen.
func (b *Browser) enter(s *screen) {
	if s == nil {
		return
	}
	if len(b.trail) >= maxTrail {
		b.trail = slices.Delete(b.trail, 1, 2)
	}
	b.trail = append(b.trail, s)
}

// maxTrail is how deep one can go: what is further up is forgotten, but for the first.
const maxTrail = 40

// Up goes back one step, and reports false where one stands at the top.
func (b *Browser) Up() bool {
	if len(b.trail) < 2 {
		return false
	}
	b.trail = b.trail[:len(b.trail)-1]
	s := b.here()
	if s.of != nil && s.of.counting != "" { // another search took the place of this one
		b.count(s.of, s.of.counting)
	}
	b.require(s)
	return true
}

// Trail says where one is, as far as there is room for it: the end matters most.
func (b *Browser) Trail(width int) string {
	var names []string
	for _, s := range b.trail {
		names = append(names, s.name)
	}
	for skipped := 0; ; skipped++ {
		words := b.Title
		if skipped > 0 {
			words += " / …"
		}
		for _, name := range names[min(skipped, len(names)):] {
			words += " / " + name
		}
		if len([]rune(words)) <= width || skipped >= len(names)-1 {
			return words
		}
	}
}

// move goes to an item, or scrolls a page.
func (b *Browser) move(by int) {
	s := b.here()
	if s == nil {
		return
	}
	last := max(s.count()-1, 0)
	if s.page != nil {
		last = max(len(b.lined(s))-b.room(), 0)
	}
	s.at = min(max(s.at+by, 0), last)
	b.require(s)
}

// require asks for what the items around the one where one stands need.
func (b *Browser) require(s *screen) {
	if s.need != nil {
		s.need(max(s.at-b.height, 0), min(s.at+2*b.height, s.count()))
	}
}

// lined is a page's lines.
func (b *Browser) lined(s *screen) []string {
	if s.drawn == nil || s.wide != b.width {
		s.drawn, s.wide = text.Drawn(b.width, b.colour, func(v *text.View) {
			v.Linear = b.linear
			s.page(v)
		}), b.width
	}
	return s.drawn
}

// room is how many lines there are for what is looked at.
func (b *Browser) room() int { return max(b.height-frame, 3) }

// frame is how many lines the trail, the sentence and the foot take.
const frame = 6

// visible are the lines of what is looked at that fit, and of a list which item each is of: the
// one where one stands is whole, the others take a line each.
func (b *Browser) visible(s *screen) (lines []string, rows []int) {
	room := b.room()
	if s.page != nil {
		all := b.lined(s)
		s.at = min(s.at, max(len(all)-room, 0))
		return all[s.at:min(s.at+room, len(all))], nil
	}
	count, width := s.count(), max(b.width-2, 20)
	if count == 0 {
		return nil, nil
	}
	s.at = min(s.at, count-1)
	whole := text.Drawn(width, b.colour, func(v *text.View) { s.item(v, s.at, true) })
	whole = whole[:min(len(whole), room)]
	below := room - len(whole)
	if s.head != nil {
		below = max(below-maxHeads, 0)
	}
	s.top = max(min(s.top, s.at), s.at-below)
	for i := s.top; i < count && len(lines) < room; i++ {
		if s.head != nil && s.head(i) != "" {
			lines = append(lines, text.Drawn(width, b.colour, func(v *text.View) { v.Heading(s.head(i)) })...)
			rows = append(rows, noRow)
		}
		item := whole
		if i != s.at {
			item = text.Drawn(width, b.colour, func(v *text.View) { s.item(v, i, false) })
			item = item[:min(len(item), 1)]
		}
		for _, line := range item {
			lines, rows = append(lines, line), append(rows, i)
		}
	}
	return lines[:min(len(lines), room)], rows[:min(len(rows), room)]
}

// noRow is the row of a line that is of no item, and maxHeads how many of them a list has at
// the most.
const (
	noRow    = -1
	maxHeads = 3
)

// mark marks the exchange where one stands for writing, or takes the mark away.
func (b *Browser) mark() {
	number := b.standsOn()
	if number == 0 {
		b.say(true, "only exchanges can be marked")
		return
	}
	if b.isMarked(number) {
		b.unmarked[number] = true
	} else {
		b.marked.Add(number)
		delete(b.unmarked, number)
	}
	b.say(false, "%s marked; w writes %s", wording.Count(b.markedCount(), "exchange", "exchanges"), map[bool]string{true: "it", false: "them"}[b.markedCount() == 1])
	if s := b.here(); s.page == nil && s.at < s.count()-1 {
		b.move(1)
	}
}

func (b *Browser) isMarked(number int) bool { return b.marked.Has(number) && !b.unmarked[number] }

func (b *Browser) markedCount() int { return b.marked.Count() - len(b.unmarked) }

// markedOnes are those that are marked.
func (b *Browser) markedOnes() *conversation.Chosen {
	c := &conversation.Chosen{}
	for i := range b.marked.Count() {
		if n := b.marked.Number(i); !b.unmarked[n] {
			c.Add(n)
		}
	}
	return c
}

// standsOn is the number of the exchange where one stands; 0 for none.
func (b *Browser) standsOn() int {
	s := b.here()
	switch {
	case s == nil:
	case s.one != 0:
		return s.one
	case s.find != nil && s.count() > 0:
		return s.find(s.at)
	}
	return 0
}

// toWrite is what w writes: what is marked, or else what is looked at.
func (b *Browser) toWrite() (chosen *conversation.Chosen, what string) {
	s := b.here()
	switch {
	case b.markedCount() > 0:
		return b.markedOnes(), wording.Count(b.markedCount(), "marked exchange", "marked exchanges")
	case s != nil && s.one != 0:
		return conversation.ChosenFrom([]int{s.one}), fmt.Sprintf("exchange %d", s.one)
	case s != nil && s.of != nil && s.of.chosen != nil && s.of.chosen.Count() > 0:
		return s.of.chosen, wording.Count(s.of.chosen.Count(), "exchange", "exchanges")
	}
	return nil, ""
}

// write asks where to write.
func (b *Browser) write() {
	chosen, what := b.toWrite()
	if chosen == nil {
		b.say(true, "nothing to write here: mark exchanges with Space")
		return
	}
	b.asking = &asking{label: "write " + what + " to", hint: "FILE.pcapng, FILE.csv, FILE.html or FILE.md", done: func(path string) { b.writeTo(path, chosen) }}
}

func (b *Browser) writeTo(path string, chosen *conversation.Chosen) {
	if path == "" {
		return
	}
	notes := map[int]string{}
	for n, note := range b.notes {
		notes[n] = note
	}
	b.later(&job{kind: "write", says: "writing", run: func(ctx context.Context, _ func(string)) func() {
		said, err := b.Write(ctx, path, chosen, notes)
		return func() {
			if err != nil {
				b.say(true, "%v", err)
				return
			}
			b.say(false, "%s", said)
		}
	}})
}

// note asks for words about the exchange where one stands.
func (b *Browser) note() {
	number := b.standsOn()
	if number == 0 {
		b.say(true, "a note belongs to an exchange")
		return
	}
	b.asking = &asking{label: fmt.Sprintf("note on exchange %d", number), typed: b.notes[number], hint: "it stands in the comments of captures that w writes",
		done: func(words string) { b.noteOn(number, words) }}
}

func (b *Browser) noteOn(number int, words string) {
	words = strings.TrimSpace(words)
	if words == "" {
		delete(b.notes, number)
		b.say(false, "no note on exchange %d", number)
		return
	}
	b.notes[number] = words
	b.marked.Add(number)
	delete(b.unmarked, number)
	b.say(false, "noted; exchange %d is marked, and w writes it with the note", number)
}
