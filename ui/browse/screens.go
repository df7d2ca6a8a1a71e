package browse

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"unquil/core/conversation"
	"unquil/core/delegation"
	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/sequence"
	"unquil/core/wire"
	"unquil/core/wording"
	"unquil/ui/text"
)

// Lists are what can be listed, in the order of their keys from 1 on.
var Lists = []string{"findings", "exchanges", "names", "servers", "clients", "episodes", "walks", "local link", "time line"}

// listed is the list of a name.
func (b *Browser) listed(name string) *screen {
	var s *screen
	switch name {
	case "findings":
		s = b.findings()
	case "exchanges":
		s = b.exchanges("exchanges", &choice{chosen: b.all})
	case "names":
		rows, left := b.overview.Names()
		s = b.stats(rows, left, "names", "name", "clients", func(r conversation.Row) (conversation.Filter, bool) {
			n, err := wire.ParseName(r.Key)
			return conversation.About(n), err == nil
		})
	case "servers":
		rows, left := b.overview.Servers()
		s = b.stats(rows, left, "servers", "server", "clients", func(r conversation.Row) (conversation.Filter, bool) {
			a := text.HostOf(r)
			return conversation.With(a), a.IsValid()
		})
	case "clients":
		rows, left := b.overview.Clients()
		s = b.stats(rows, left, "clients", "client", "servers", func(r conversation.Row) (conversation.Filter, bool) {
			a := text.HostOf(r)
			return conversation.By(a), a.IsValid()
		})
	case "episodes":
		s = b.episodes()
	case "walks":
		s = b.walks()
	case "local link":
		s = b.localLink()
	default:
		s = b.timeline()
	}
	s.list = name
	return s
}

// findings lists what was found, worst first.
func (b *Browser) findings() *screen {
	found := b.overview.Findings
	s := &screen{name: "findings", list: "findings", count: func() int { return len(found) }}
	s.about = func() string {
		if len(found) == 0 {
			return fmt.Sprintf("nothing to note in %s: 2 lists them", wording.Count(b.overview.Exchanges, "exchange", "exchanges"))
		}
		more := ""
		if b.overview.MoreFound > 0 {
			more = fmt.Sprintf("; %d more were not kept", b.overview.MoreFound)
		}
		return fmt.Sprintf("%s in %s, the worst first%s", wording.Count(len(found), "finding", "findings"), wording.Count(b.overview.Exchanges, "exchange", "exchanges"), more)
	}
	s.item = func(v *text.View, i int, whole bool) { v.FindingItem(&found[i], whole) }
	s.down = func(i int) *screen {
		f := &found[i]
		switch {
		case len(f.Evidence) == 0 && f.Code == finding.NameConflict:
			return b.listed("local link")
		case len(f.Evidence) == 0 && len(f.Packets) > 0:
			return b.packet(f.Packets[0])
		case len(f.Evidence) == 0:
			b.say(true, "no exchange of its own shows this")
			return nil
		}
		filter := conversation.Showing(f)
		c := &choice{filter: filter, chosen: conversation.ChosenFrom(f.Evidence)}
		if len(f.Evidence) > 1 && b.all.Count() > c.chosen.Count() {
			b.count(c, "all exchanges that show it")
		}
		return b.exchanges(string(f.Code), c)
	}
	return s
}

// numbered is the choice of some numbers.
func numbered(numbers []int) *choice {
	chosen := conversation.ChosenFrom(numbers)
	return &choice{filter: conversation.Filter{Within: chosen}, chosen: chosen}
}

// count finds the exchanges of a choice.
func (b *Browser) count(c *choice, what string) {
	size := b.size
	c.counting = what
	b.later(&job{kind: "choose", says: "looking for " + what, run: func(ctx context.Context, tell func(string)) func() {
		chosen, err := b.Archive.Choose(ctx, c.filter, func(count int, bytes int64) {
			if size > 0 {
				tell(fmt.Sprintf("%s so far, %d %% read", wording.Count(count, "exchange", "exchanges"), min(100*bytes/size, 100)))
			}
		})
		return func() {
			if err != nil {
				b.say(true, "%v", err)
				return
			}
			if c.counting = ""; c.chosen == nil || chosen.Count() > c.chosen.Count() {
				c.chosen = chosen
			}
			if s := b.here(); s != nil {
				b.require(s)
			}
		}
	}})
}

// exchanges lists some exchanges.
func (b *Browser) exchanges(name string, c *choice) *screen {
	s := &screen{name: name, of: c}
	number := func(i int) int { return c.chosen.Number(i) }
	s.count = func() int {
		if c.chosen == nil {
			return 0
		}
		return c.chosen.Count()
	}
	s.about = func() string {
		if c.chosen == nil {
			return "looking for them"
		}
		words := wording.Count(c.chosen.Count(), "exchange", "exchanges")
		if c.filter.Where != "" {
			words += " where " + string(escape.Of(c.filter.Where))
		}
		return words
	}
	s.item = func(v *text.View, i int, whole bool) {
		n := number(i)
		if e := b.known[n]; e != nil {
			v.ExchangeItem(e, b.lines[n], b.isMarked(n), b.notes[n], whole)
		} else {
			v.Unfetched(n)
		}
	}
	s.find = number
	s.need = func(from, to int) { b.fetch(c.chosen, from, to) }
	s.down = func(i int) *screen { return b.whole(number(i)) }
	b.require(s)
	return s
}

// fetch asks for the exchanges at some places of a choice that are not known, and for those
// around them.
func (b *Browser) fetch(chosen *conversation.Chosen, from, to int) {
	missing := false
	for i := from; i < to && !missing; i++ {
		missing = b.known[chosen.Number(i)] == nil
	}
	if !missing {
		return
	}
	var wanted []int
	for i := max(from-aroundFetched, 0); i < min(to+aroundFetched, chosen.Count()); i++ {
		if n := chosen.Number(i); b.known[n] == nil {
			wanted = append(wanted, n)
		}
	}
	b.later(&job{kind: "fetch", says: "reading the exchanges", run: func(ctx context.Context, _ func(string)) func() {
		o, err := b.Archive.Fetch(ctx, wanted)
		return func() {
			if o != nil {
				b.learn(o)
			}
			if err != nil && !errors.Is(err, context.Canceled) {
				b.say(true, "%v", err)
			}
		}
	}})
}

// aroundFetched is how many exchanges before and behind those that are shown are fetched too.
const aroundFetched = 400

// whole shows one exchange, question and reply side by side.
func (b *Browser) whole(number int) *screen {
	if number == 0 {
		return nil
	}
	s := &screen{name: fmt.Sprintf("exchange %s", wording.Number(number)), one: number}
	var packets map[int]*conversation.WholePacket
	o := &conversation.Overview{Lines: map[int]conversation.Line{}, Hosts: b.overview.Hosts}
	begin := func() bool {
		e := b.known[number]
		if e != nil && len(o.Kept) == 0 {
			o.Kept, o.Lines[number] = append(o.Kept, *e), b.lines[number]
		}
		return e != nil
	}
	s.about = func() string { return "Enter goes down to its bytes" }
	s.page = func(v *text.View) {
		e := o.Find(number)
		if e == nil {
			v.Unfetched(number)
			return
		}
		v.WholeExchange(e, o, packets)
		if note := b.notes[number]; note != "" {
			v.Noted(note)
		}
	}
	s.count = func() int { return len(b.lined(s)) }
	s.down = func(int) *screen { return b.bytes(o.Find(number), packets) }
	b.wholeOf(number, begin, o, &packets, s)
	begin()
	return s
}

// wholeOf reads what a page about one exchange shows.
func (b *Browser) wholeOf(number int, begin func() bool, o *conversation.Overview, packets *map[int]*conversation.WholePacket, s *screen) {
	more := &conversation.Overview{Lines: map[int]conversation.Line{}, Hosts: o.Hosts}
	e := b.known[number]
	if e != nil {
		more.Kept, more.Lines[number] = append(more.Kept, *e), b.lines[number]
	}
	b.later(&job{kind: "whole", says: fmt.Sprintf("reading exchange %d", number), run: func(ctx context.Context, _ func(string)) func() {
		var err error
		if e == nil {
			if more, err = b.Archive.Fetch(ctx, []int{number}); more == nil {
				more = &conversation.Overview{}
			}
		}
		var found map[int]*conversation.WholePacket
		if err == nil {
			found, err = b.Archive.Whole(ctx, more, number)
		}
		return func() {
			b.learn(more)
			if begin() {
				o.Kept, o.Lines = more.Kept, more.Lines
			}
			if *packets = found; err != nil && !errors.Is(err, context.Canceled) {
				b.say(true, "%v", err)
			}
			s.drawn = nil
		}
	}})
}

// part is a run of bytes with its name.
type part struct {
	piece wire.Piece
	data  []byte
	head  string // of the first of a packet
}

// bytes lists the bytes of an exchange's packets, each with its name.
func (b *Browser) bytes(e *exchange.Exchange, packets map[int]*conversation.WholePacket) *screen {
	if e == nil {
		return nil
	}
	var parts []part
	add := func(head string, data []byte, pieces []wire.Piece) {
		for i, p := range pieces {
			name := ""
			if i == 0 {
				name = head
			}
			parts = append(parts, part{p, data, name})
		}
	}
	add2 := func(what string, number int, message []byte) {
		if whole := packets[number]; whole != nil {
			data, pieces := text.PacketPieces(whole)
			add(fmt.Sprintf("%s, packet %d", what, number), data, pieces)
		} else if message != nil {
			pieces, _ := wire.Pieces(message)
			add(what, message, pieces)
		}
	}
	first, last := e.Attempts[0], e.Last()
	add2("question", first.SentIn, first.Query)
	line := b.lines[e.Number]
	switch {
	case e.Reply != nil:
		add2("reply", last.ReceivedIn, last.Reply)
	case line.UnreadIn > 0:
		add2("reply, which cannot be read", line.UnreadIn, nil)
	}
	if line.OtherIn > 0 {
		add2("another reply", line.OtherIn, nil)
	}
	return b.parts("bytes", parts, e.Number)
}

// parts lists bytes.
func (b *Browser) parts(name string, parts []part, number int) *screen {
	s := &screen{name: name, one: number, count: func() int { return len(parts) }}
	s.about = func() string {
		if len(parts) == 0 {
			return "the capture holds no byte of it"
		}
		return "every byte by its name; the field under the cursor is explained"
	}
	s.head = func(i int) string { return parts[i].head }
	s.item = func(v *text.View, i int, whole bool) { v.PieceItem(parts[i].piece, parts[i].data, whole) }
	return s
}

// packet shows one packet and its bytes.
func (b *Browser) packet(number int) *screen {
	var whole *conversation.WholePacket
	s := &screen{name: fmt.Sprintf("packet %s", wording.Number(number))}
	s.about = func() string { return "Enter goes down to its bytes" }
	s.page = func(v *text.View) {
		if whole != nil {
			v.Packet(whole, nil, false)
		}
	}
	s.count = func() int { return len(b.lined(s)) }
	s.down = func(int) *screen {
		if whole == nil {
			return nil
		}
		data, pieces := text.PacketPieces(whole)
		var parts []part
		for _, p := range pieces {
			parts = append(parts, part{p, data, ""})
		}
		if len(parts) > 0 {
			parts[0].head = s.name
		}
		return b.parts("bytes", parts, 0)
	}
	b.later(&job{kind: "whole", says: "reading " + s.name, run: func(ctx context.Context, _ func(string)) func() {
		readers, err := b.Archive.Source.Open()
		var found map[int]*conversation.WholePacket
		if err == nil {
			found, err = conversation.WholePackets([]int{number}, readers, b.Archive.Ports)
		}
		return func() {
			if err != nil {
				b.say(true, "%v", err)
			}
			whole, s.drawn = found[number], nil
		}
	}})
	return s
}

// stats lists names, servers or clients.
func (b *Browser) stats(rows []conversation.Row, left int, name, one, peers string, filter func(conversation.Row) (conversation.Filter, bool)) *screen {
	s := &screen{name: name, count: func() int { return len(rows) }}
	s.about = func() string {
		words := fmt.Sprintf("%s, the busiest first", wording.Count(len(rows), one, name))
		if left > 0 {
			words += fmt.Sprintf("; %s exchanges belong to rows beyond the limit", wording.Number(left))
		}
		return words
	}
	s.item = func(v *text.View, i int, whole bool) { v.StatItem(rows[i], peers, whole) }
	s.down = func(i int) *screen {
		f, ok := filter(rows[i])
		if !ok {
			return nil
		}
		c := &choice{filter: f}
		b.count(c, "the exchanges of "+rows[i].Key)
		return b.exchanges(rows[i].Key, c)
	}
	return s
}

// kept says of how many exchanges a list was made.
func (b *Browser) kept() string {
	if b.overview.NotKept == 0 {
		return ""
	}
	return fmt.Sprintf("; made from the first %s exchanges", wording.Number(len(b.overview.Kept)))
}

func (b *Browser) episodes() *screen {
	all := sequence.Episodes(b.overview.Kept)
	s := &screen{name: "episodes", count: func() int { return len(all) }}
	s.about = func() string {
		return wording.Count(len(all), "episode", "episodes") + ": what each client asked in one go" + b.kept()
	}
	s.item = func(v *text.View, i int, whole bool) { v.EpisodeItem(&all[i], whole) }
	s.down = func(i int) *screen {
		var numbers []int
		for _, a := range all[i].Asked {
			numbers = append(numbers, a.Exchange.Number)
		}
		return b.exchanges("episode of "+all[i].Client.String(), numbered(numbers))
	}
	return s
}

func (b *Browser) walks() *screen {
	all := sequence.ResolverWalks(b.overview.Kept, delegation.PublishedAddresses())
	s := &screen{name: "walks", count: func() int { return len(all) }}
	s.about = func() string {
		return wording.Count(len(all), "walk", "walks") + " of resolvers, from server to server" + b.kept()
	}
	s.item = func(v *text.View, i int, whole bool) { v.WalkItem(all[i], whole) }
	s.down = func(i int) *screen {
		var numbers []int
		for _, step := range all[i].Steps {
			numbers = append(numbers, step.Exchange.Number)
		}
		return b.exchanges("walk to "+all[i].Question.Spoken(), numbered(numbers))
	}
	return s
}

func (b *Browser) localLink() *screen {
	names := b.overview.LocalLink.Names()
	s := &screen{name: "local link", count: func() int { return len(names) }}
	s.about = func() string { return wording.Count(len(names), "name", "names") + " of the local link" }
	s.item = func(v *text.View, i int, whole bool) { v.LocalItem(names[i], whole) }
	s.down = func(i int) *screen {
		if len(names[i].Claims) == 0 {
			b.say(true, "nobody claims it")
			return nil
		}
		return b.packet(names[i].Claims[0].Packet)
	}
	return s
}

func (b *Browser) timeline() *screen {
	t := &b.overview.Timeline
	most := 0
	for _, slot := range t.Slots {
		most = max(most, slot.Asked)
	}
	begins := func(i int) time.Time { return time.Unix(0, t.Begins).UTC().Add(time.Duration(i) * t.Width) }
	s := &screen{name: "time line", count: func() int { return len(t.Slots) }}
	s.about = func() string { return fmt.Sprintf("a line is %s", wording.Span(t.Width)) }
	s.item = func(v *text.View, i int, _ bool) { v.SlotItem(begins(i), t.Slots[i], most) }
	s.down = func(i int) *screen {
		c := &choice{filter: conversation.Filter{From: begins(i), To: begins(i + 1).Add(-1)}}
		at := begins(i).Format("15:04:05")
		b.count(c, "the exchanges of "+at)
		return b.exchanges("from "+at, c)
	}
	return s
}

// related are the ways from one exchange to others, by key.
var related = []struct {
	key, word, about string
	to               func(b *Browser, e *exchange.Exchange, line conversation.Line) (*screen, string)
}{
	{"o", "half", "its other half: A or AAAA of the same name", func(b *Browser, _ *exchange.Exchange, l conversation.Line) (*screen, string) {
		return b.whole(l.Half.Number), "nothing was asked beside it"
	}},
	{"b", "before", "the try before", func(b *Browser, _ *exchange.Exchange, l conversation.Line) (*screen, string) {
		return b.whole(l.Before.Number), "it was not asked before"
	}},
	{"f", "following", "the try that followed", func(b *Browser, _ *exchange.Exchange, l conversation.Line) (*screen, string) {
		return b.whole(l.After.Number), "it was not tried again"
	}},
	{"a", "alias", "where the client asked for the end of the alias", func(b *Browser, e *exchange.Exchange, _ conversation.Line) (*screen, string) {
		answer := e.Answer()
		if len(answer.Aliases) == 0 {
			return nil, "its answer has no alias"
		}
		c := &choice{filter: conversation.By(e.Client.Addr()).Around(e.Sent(), 10*time.Second)}
		c.filter.Exactly = answer.Name
		b.count(c, "the questions for "+answer.Name.Spoken())
		return b.exchanges("alias "+answer.Name.Spoken(), c), ""
	}},
	{"s", "same", "the same name, whoever was asked", func(b *Browser, e *exchange.Exchange, _ conversation.Line) (*screen, string) {
		c := &choice{filter: conversation.About(e.Question.Name)}
		b.count(c, "the questions for "+e.Question.Name.Spoken())
		return b.exchanges(e.Question.Name.Spoken(), c), ""
	}},
	{"m", "minute", "the same client, half a minute before and after", func(b *Browser, e *exchange.Exchange, _ conversation.Line) (*screen, string) {
		c := &choice{filter: conversation.By(e.Client.Addr()).Around(e.Sent(), 30*time.Second)}
		b.count(c, "what "+e.Client.Addr().String()+" asked around then")
		return b.exchanges(e.Client.Addr().String()+" around "+e.Sent().Format("15:04:05"), c), ""
	}},
}

// relate goes from the exchange where one stands to what it has to do with.
func (b *Browser) relate(key string) bool {
	for _, r := range related {
		if r.key != key && r.word != key {
			continue
		}
		e := b.known[b.standsOn()]
		if e == nil {
			b.say(true, "that goes from an exchange")
			return true
		}
		to, none := r.to(b, e, b.lines[e.Number])
		if to == nil {
			b.say(true, "%s", none)
		}
		b.enter(to)
		return true
	}
	return false
}

// narrow asks for a condition, and counts while it is typed what it leaves.
func (b *Browser) narrow() {
	base, name := conversation.Filter{}, "all exchanges"
	if s := b.here(); s != nil && s.of != nil {
		base, name = s.of.filter, s.name
	}
	var last *choice
	counted := func(condition string) {
		if last = nil; strings.TrimSpace(condition) == "" {
			b.asking.hint = "such as " + example
			return
		}
		if err := checked(condition); err != nil {
			b.asking.hint = string(escape.Of(err.Error()))
			return
		}
		c := &choice{filter: base.And(condition)}
		last = c
		b.asking.hint = "counting"
		b.count(c, "what is left")
	}
	b.asking = &asking{label: "narrow " + name + " to", hint: "such as " + example, changed: counted}
	b.asking.done = func(condition string) {
		if strings.TrimSpace(condition) == "" {
			return
		}
		if last == nil {
			if err := checked(condition); err != nil {
				b.say(true, "%s", escape.Of(err.Error()))
				return
			}
			last = &choice{filter: base.And(condition)}
			b.count(last, "what is left")
		}
		b.enter(b.exchanges(condition, last))
	}
	b.asking.left = func() (string, bool) {
		if last == nil || last.chosen == nil {
			return "", false
		}
		return wording.Count(last.chosen.Count(), "exchange", "exchanges") + " left", true
	}
}

// checked is what is wrong with a condition; nil: nothing.
func checked(condition string) error {
	_, err := (&conversation.Filter{Where: condition}).Compile()
	return err
}

// example is a condition to begin with.
const example = `outcome = server-failure and took > 200ms`
