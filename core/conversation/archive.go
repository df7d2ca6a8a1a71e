package conversation

import (
	"context"
	"errors"
	"math/bits"
	"net/netip"
	"slices"
	"time"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// Archive answers what is asked of captures of any size. For each answer it reads them again,
// as far as that takes, so that memory does not grow with them. It is not safe for use by many
// goroutines, but for its answers: each is the caller's own.
type Archive struct {
	Source Source
	Ports  []uint16 // as in [Options]
	HTTPS  []string

	late *LaterFindings // what the last survey found of exchanges when they had been judged
}

// Chosen is a choice of exchanges, in the order of their numbers. It takes a bit for each
// exchange of the captures.
type Chosen struct {
	set   numbers
	count int
	ranks []int // how many come before each run of words of the set; made anew when it has grown
}

// rankWords is how many words of a set one rank is of.
const rankWords = 32

// ranked are the ranks of the set as it is.
func (c *Chosen) ranked() []int {
	if c.ranks == nil {
		before := 0
		for i, word := range c.set {
			if i%rankWords == 0 {
				c.ranks = append(c.ranks, before)
			}
			before += bits.OnesCount64(word)
		}
	}
	return c.ranks
}

// ChosenFrom is a choice of some numbers.
func ChosenFrom(list []int) *Chosen {
	c := &Chosen{}
	for _, n := range list {
		c.Add(n)
	}
	return c
}

// Add adds a number.
func (c *Chosen) Add(n int) {
	if n > 0 && !c.set.has(n) {
		c.set.add(n)
		c.count, c.ranks = c.count+1, nil
	}
}

// Count is how many they are.
func (c *Chosen) Count() int { return c.count }

// Has reports whether the exchange of a number is one of them.
func (c *Chosen) Has(number int) bool { return number > 0 && c.set.has(number) }

// Choose reports whether an exchange is one of them.
func (c *Chosen) Choose(t *Transaction) bool { return c.Has(t.Number) }

// Number is the number of the one at a place, from 0; 0 beyond the last.
func (c *Chosen) Number(place int) int {
	if place < 0 || place >= c.count {
		return 0
	}
	ranks := c.ranked()
	run, exact := slices.BinarySearch(ranks, place)
	for exact && run+1 < len(ranks) && ranks[run+1] == place { // runs without any
		run++
	}
	if !exact {
		run--
	}
	place -= ranks[run]
	for i := run * rankWords; i < len(c.set); i++ {
		word := c.set[i]
		here := bits.OnesCount64(word)
		if place >= here {
			place -= here
			continue
		}
		for ; place > 0; place-- {
			word &= word - 1
		}
		return i*64 + bits.TrailingZeros64(word)
	}
	return 0
}

// Place is the place at which a number is, or would be.
func (c *Chosen) Place(number int) int {
	word := number / 64
	if number <= 0 {
		return 0
	}
	if word >= len(c.set) {
		return c.count
	}
	place := c.ranked()[word/rankWords]
	for _, w := range c.set[word/rankWords*rankWords : word] {
		place += bits.OnesCount64(w)
	}
	return place + bits.OnesCount64(c.set[word]&(1<<(number%64)-1))
}

// options are those of a reading that keeps no more than it is told to.
func (a *Archive) options() Options {
	return Options{Ports: a.Ports, HTTPS: a.HTTPS, Keep: -1, Late: a.late}
}

// Survey reads the captures for an overview and the numbers of all exchanges. The error is that
// of [NewStudy]; what was read before it is returned too.
func (a *Archive) Survey(ctx context.Context, progress func(bytes int64)) (*Overview, *Chosen, error) {
	a.late = nil
	options := a.options()
	options.Keep, options.Progress = 0, progress
	all := &Chosen{}
	study, err := NewStudy(ctx, a.Source, Plan{Options: options, Fetch: (*Overview).Shows, Tell: func(t *Transaction) { all.Add(t.Number) }})
	if study == nil {
		return nil, nil, err
	}
	a.late = study.Late()
	return study.Overview, all, err
}

// Choose reads the captures for the exchanges that a filter lets through; tell is called now
// and then with how many they are so far, and with how many bytes were read. The error wraps
// ErrCondition, or is that of a file or of ctx.
func (a *Archive) Choose(ctx context.Context, f Filter, tell func(count int, bytes int64)) (*Chosen, error) {
	choose, err := f.Compile()
	if err != nil {
		return nil, err
	}
	chosen := &Chosen{}
	options := a.options()
	options.Choose = choose
	options.Progress = func(bytes int64) { tell(chosen.count, bytes) }
	options.Each = func(t *Transaction) { chosen.Add(t.Number) }
	readers, err := a.Source.Open()
	if err != nil {
		return nil, err
	}
	_, err = Read(ctx, readers, options)
	if ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	return chosen, err
}

// maxFetched is how many exchanges are fetched at once.
const maxFetched = 2_000

// Fetch reads the captures until it has the exchanges of some numbers, at most 2,000 of them.
// They are those that the overview keeps, with their lines; its counts are void. The error is
// that of a file or of ctx.
func (a *Archive) Fetch(ctx context.Context, wanted []int) (*Overview, error) {
	wanted = wanted[:min(len(wanted), maxFetched)]
	if len(wanted) == 0 {
		return &Overview{Lines: map[int]Line{}}, nil
	}
	set := ChosenFrom(wanted)
	return a.fetch(ctx, func(t *Transaction) bool { return set.Has(t.Number) }, set.count)
}

// errEnough ends a reading that has found all that it was for.
var errEnough = errors.New("all was found")

func (a *Archive) fetch(ctx context.Context, wanted func(*Transaction) bool, most int) (*Overview, error) {
	reading, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	options := a.options()
	found := 0
	options.Also = func(t *Transaction) bool {
		if found == most || !wanted(t) {
			return false
		}
		if found++; found == most {
			stop(errEnough)
		}
		return true
	}
	readers, err := a.Source.Open()
	if err != nil {
		return nil, err
	}
	o, err := Read(reading, readers, options)
	if ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	return o, err
}

// Whole fetches what an exchange has to do with, and its packets, by number: o is an overview
// that keeps it, and keeps the others too when the study is done.
func (a *Archive) Whole(ctx context.Context, o *Overview, number int) (packets map[int]*WholePacket, err error) {
	e := o.Find(number)
	if e == nil {
		return nil, nil
	}
	more, err := a.fetch(ctx, o.RelatedTo(e), maxRelated)
	if more != nil {
		for i := range more.Kept {
			if n := more.Kept[i].Number; o.Find(n) == nil {
				o.Kept = append(o.Kept, more.Kept[i])
				o.Lines[n] = more.Lines[n]
				o.sortKept()
			}
		}
	}
	if err != nil {
		return nil, err
	}
	readers, err := a.Source.Open()
	if err != nil {
		return nil, err
	}
	return WholePackets(o.Lines[number].Packets, readers, a.Ports)
}

// maxRelated is how many exchanges are fetched for having to do with one.
const maxRelated = 8

// crosses are the findings whose exchanges need not be of one client and one server.
var crosses = map[finding.Code]bool{finding.AnswerRewritten: true}

// Showing is the filter that lets through the exchanges that show a finding of captures.
func Showing(f *finding.Finding) Filter {
	choice := Filter{Finding: f.Code}
	if f.About.Outcome != "" {
		choice.Outcomes = []exchange.Outcome{exchange.Outcome(f.About.Outcome)}
	}
	if crosses[f.Code] {
		return choice
	}
	if client := hostPrefix(f.About.Client); client.IsValid() {
		choice.Clients = []netip.Prefix{client}
	} else if server := hostPrefix(f.About.Address); server.IsValid() {
		choice.Servers = []netip.Prefix{server}
	}
	return choice
}

// hostPrefix is an address as the range of it alone; the zero Prefix for what is none.
func hostPrefix(text string) netip.Prefix {
	a, err := netip.ParseAddr(text)
	if err != nil {
		return netip.Prefix{}
	}
	return netip.PrefixFrom(a, a.BitLen())
}

// About is the filter for the exchanges about one name.
func About(name wire.Name) Filter { return Filter{Exactly: name} }

// By is the filter for the exchanges of one client.
func By(client netip.Addr) Filter {
	return Filter{Clients: []netip.Prefix{netip.PrefixFrom(client, client.BitLen())}}
}

// With is the filter for the exchanges with one server.
func With(server netip.Addr) Filter {
	return Filter{Servers: []netip.Prefix{netip.PrefixFrom(server, server.BitLen())}}
}

// Around is a filter with bounds of time, so long before and after a moment.
func (c Filter) Around(at time.Time, span time.Duration) Filter {
	c.From, c.To = at.Add(-span), at.Add(span)
	return c
}

// And is a filter that lets through what this one does and a condition too, as after --where.
func (c Filter) And(condition string) Filter {
	if c.Where != "" {
		condition = "(" + c.Where + ") and (" + condition + ")"
	}
	c.Where = condition
	c.Names, c.Types, c.Outcomes = slices.Clone(c.Names), slices.Clone(c.Types), slices.Clone(c.Outcomes)
	return c
}
