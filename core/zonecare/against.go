package zonecare

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/transfer"
	"unquil/core/wire"
)

// Bounds on holding servers against what they should serve by asking.
const (
	maxSets     = 2000 // RRsets that are asked for at each server
	againstRate = 500  // of them a second
	maxShown    = 100  // differences kept of each server
)

// moreTypes are asked for at each name beside those that it should have.
var moreTypes = []wire.Type{wire.A, wire.AAAA, wire.MX, wire.TXT}

// ZoneContents are the records that a zone should have.
type ZoneContents struct {
	Label   string
	Records []wire.Record
	sets    map[setKey][]wire.Record
	order   []setKey
	cuts    map[wire.Name]bool // in lower case
}

type setKey struct {
	name wire.Name // in lower case
	t    wire.Type
}

// ReadContents takes in the records of a zone. Those below a delegation are left
// out: they are not the zone's own word. The error is that of the master file, or ErrLarge.
func ReadContents(label string, zone wire.Name, records iter.Seq2[wire.Record, error]) (*ZoneContents, error) {
	c := &ZoneContents{Label: label, sets: map[setKey][]wire.Record{}, cuts: map[wire.Name]bool{}}
	for r, err := range records {
		if err != nil {
			return nil, err
		}
		if !r.Name.IsSubdomainOf(zone) {
			return nil, fmt.Errorf("%s: %w", r.Name, transfer.ErrOutside)
		}
		if len(c.Records) == maxRecords {
			return nil, fmt.Errorf("%s: %w", label, ErrLarge)
		}
		c.Records = append(c.Records, r)
		if r.Type == wire.NS && !r.Name.Equal(zone) {
			c.cuts[r.Name.Fold()] = true
		}
	}
	for _, r := range c.Records {
		if c.below(r, zone) {
			continue
		}
		k := setKey{r.Name.Fold(), r.Type}
		if c.sets[k] == nil {
			c.order = append(c.order, k)
		}
		c.sets[k] = append(c.sets[k], r)
	}
	return c, nil
}

// isCut reports whether a zone below begins at name.
func (c *ZoneContents) isCut(name wire.Name) bool { return c.cuts[name.Fold()] }

// below reports whether a record belongs to a zone below, as the addresses of its servers do.
func (c *ZoneContents) below(r wire.Record, zone wire.Name) bool {
	for name := r.Name; name.Labels() > zone.Labels(); name = name.Parent() {
		if c.isCut(name) && (r.Type != wire.NS || !name.Equal(r.Name)) {
			return true
		}
	}
	return false
}

// maxRecords is how many records of a zone are held against its servers in memory.
const maxRecords = 3_000_000

// ErrLarge says that a zone is too large to be held against its servers set by set.
var ErrLarge = errors.New("more than 3 million records")

// Held is one server against what it should serve.
type Held struct {
	State    *State
	Label    string
	Lacks    []wire.Record // that it should serve and does not; the first of them
	Adds     []wire.Record // that it serves and should not
	Missing  int           // how many it lacks
	Surplus  int           // how many it adds
	Sets     int           // RRsets that were asked for
	Left     int           // RRsets that were not, for want of room
	Silent   int           // of Sets, those that it did not answer
	Whole    bool          // seen by a transfer: names that should not be there were seen too
	Findings []finding.Finding
}

// Against holds what each server that answers for the zone serves against what it
// should: by asking for each RRset, or where a transfer was tried and given, whole.
func (r *Report) Against(ctx context.Context, session *exchange.Session, c *ZoneContents) []Held {
	var all []Held
	for _, s := range r.States {
		if !s.Authoritative() {
			continue
		}
		h := Held{State: s, Label: c.Label}
		var evidence []int
		if s.Transfer != nil && s.Transfer.Err == nil {
			evidence = h.transferred(ctx, session, r.Zone, c)
		} else {
			evidence = h.asked(ctx, session, c)
		}
		if h.Missing+h.Surplus > 0 {
			h.Findings = append(h.Findings, finding.New(finding.ContentDiffers, finding.Concern,
				finding.About{Zone: r.Zone.String(), Server: s.Host.String(), Address: s.Address.String()},
				fmt.Sprintf("%s (%s) is missing %d records of %s and serves %d that are not in it.", s.Host.Spoken(), s.Address, h.Missing, c.Label, h.Surplus), evidence...))
		}
		all = append(all, h)
	}
	return all
}

func (h *Held) lack(r wire.Record) {
	if h.Missing++; len(h.Lacks) < maxShown {
		h.Lacks = append(h.Lacks, r)
	}
}

func (h *Held) add(r wire.Record) {
	if h.Surplus++; len(h.Adds) < maxShown {
		h.Adds = append(h.Adds, r)
	}
}

// transferred compares the whole zone.
func (h *Held) transferred(ctx context.Context, session *exchange.Session, zone wire.Name, c *ZoneContents) []int {
	h.Whole = true
	file := func(yield func(wire.Record, error) bool) {
		for _, r := range c.Records {
			if !yield(r, nil) {
				return
			}
		}
	}
	request := h.State.Transfer.Request
	got, err := transfer.Fetch(ctx, session, request, transfer.Plan{Against: &transfer.Other{Label: c.Label, Records: file}, Shown: 2 * maxShown})
	if err != nil || got.Compared == nil {
		h.Silent++
		return []int{got.Exchange.Number}
	}
	h.Missing, h.Surplus = got.Compared.There+got.Compared.TTLs, got.Compared.Here+got.Compared.TTLs
	for _, d := range got.Compared.Shown {
		switch {
		case d.Other != nil:
			h.Adds, h.Lacks = append(h.Adds, d.Record), append(h.Lacks, *d.Other)
		case d.Second:
			h.Lacks = append(h.Lacks, d.Record)
		default:
			h.Adds = append(h.Adds, d.Record)
		}
	}
	return []int{got.Exchange.Number}
}

// asked asks the server for each RRset.
func (h *Held) asked(ctx context.Context, session *exchange.Session, c *ZoneContents) (evidence []int) {
	options := session.Client.Options
	options.Iterative = true
	keys := slices.Clone(c.order)
	more := map[setKey]bool{}
	for _, k := range c.order {
		_, alias := c.sets[setKey{k.name, wire.CNAME}]
		for _, t := range moreTypes {
			key := setKey{k.name, t}
			if c.sets[key] == nil && !more[key] && !alias && !c.isCut(k.name) {
				more[key], keys = true, append(keys, key)
			}
		}
	}
	if len(keys) > maxSets {
		h.Left, keys = len(keys)-maxSets, keys[:maxSets]
	}
	h.Sets = len(keys)
	requests := make([]exchange.Request, len(keys))
	for i, k := range keys {
		requests[i] = exchange.Request{Server: h.State.address(""), Options: &options, Question: wire.Question{Name: k.name, Type: k.t, Class: wire.IN}}
	}
	// The person asked for it by the number, so it has a bound and a rate of its own.
	if session.Client.Budget.Nowhere(h.State.Address) == "" {
		session.Client.Budget.Name(h.State.Address)
	}
	var answers []*exchange.Exchange
	session.Each(ctx, slices.Values(requests), exchange.Pace{Rate: againstRate}, func(e *exchange.Exchange) bool {
		answers = append(answers, e)
		return true
	})
	for i, e := range answers {
		if e.Reply == nil {
			h.Silent++
			continue
		}
		served := e.Answer().Records
		if len(e.Answer().Aliases) > 0 {
			served = nil
		}
		if c.isCut(keys[i].name) {
			_, served, _ = exchange.ReferralZone(e.Reply)
		}
		before := h.Missing + h.Surplus
		should := c.sets[keys[i]]
		for _, r := range should {
			if !has(served, r) {
				h.lack(r)
			}
		}
		for _, r := range served {
			if !has(should, r) {
				h.add(r)
			}
		}
		if h.Missing+h.Surplus > before && len(evidence) < maxShown {
			evidence = append(evidence, e.Number)
		}
	}
	return evidence
}

// has reports whether a record is among others, TTL included.
func has(records []wire.Record, r wire.Record) bool {
	return slices.ContainsFunc(records, func(o wire.Record) bool {
		return o.TTL == r.TTL && o.Canonical().Data == r.Canonical().Data
	})
}
