package transfer

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"iter"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// Plan says what to do with a zone that is fetched. The zero value counts it.
type Plan struct {
	To      io.Writer               // gets the records as a master file, or the changes a line each; nil: nobody
	Sorted  bool                    // in canonical order, which a whole zone has to be complete for
	Scratch func() (Scratch, error) // makes a temporary file; needed to sort or to compare
	Against *Other                  // what to hold the zone against; nil: nothing
	Shown   int                     // how many changes or differences to keep; 0 means 100
}

// Other is what a zone is held against: records of a file, or what Server gives.
type Other struct {
	Label   string // what to call it
	Records iter.Seq2[wire.Record, error]
	Server  *exchange.Server
}

// Fetched is a transfer, and what was to be done with it.
type Fetched struct {
	*Result
	Changes  []Change // of a transfer of changes, the first of them
	Compared *Compared
}

// Compared is how a zone differs from what it was held against.
type Compared struct {
	Label    string
	Other    *Result // of the other server; nil for a file
	Here     int     // records that only the zone has
	There    int     // records that only the other has
	TTLs     int     // records that differ in their TTL alone
	Shown    []Difference
	Findings []finding.Finding
	Err      error
}

// Same reports whether both say the same.
func (c *Compared) Same() bool { return c.Err == nil && c.Here+c.There+c.TTLs == 0 }

// Fetch receives a zone and does with it what the plan says. The error is that of
// writing or of temporary files; what went wrong with the transfer is in the result.
func Fetch(ctx context.Context, session *exchange.Session, r Request, p Plan) (*Fetched, error) {
	f := &Fetched{}
	out := &output{w: p.To}
	if p.To != nil {
		out.buffer = bufio.NewWriterSize(p.To, 64<<10)
	}
	keep := cmp.Or(p.Shown, 100)
	sorter := &Sorter{Scratch: p.Scratch}
	defer sorter.Close()
	sorting := p.Sorted || p.Against != nil
	f.Result = Receive(ctx, session, r, func(c Change) error {
		if c.Serial != 0 && len(f.Changes) < keep {
			f.Changes = append(f.Changes, c)
		}
		if sorting && c.Serial == 0 {
			if err := sorter.Add(c.Record); err != nil {
				out.err = err
				return err
			}
		}
		if !p.Sorted || c.Serial != 0 {
			return out.change(c)
		}
		return nil
	})
	if out.err != nil {
		return f, out.err
	}
	if f.Kind != Whole || f.Err != nil {
		return f, out.flush()
	}
	mine := sorter.Records()
	if p.Sorted {
		mine = out.through(mine)
	}
	if p.Against != nil {
		f.Compared = &Compared{Label: p.Against.Label}
		f.Compared.hold(ctx, session, r, p, mine, keep)
		return f, errors.Join(out.err, out.flush())
	}
	if p.Sorted {
		for _, err := range mine {
			out.err = cmp.Or(out.err, err)
		}
	}
	return f, errors.Join(out.err, out.flush())
}

// hold compares the zone's records with the other's.
func (c *Compared) hold(ctx context.Context, session *exchange.Session, r Request, p Plan, mine iter.Seq2[wire.Record, error], keep int) {
	other := &Sorter{Scratch: p.Scratch}
	defer other.Close()
	if p.Against.Server != nil {
		r.Server = *p.Against.Server
		c.Other = Receive(ctx, session, r, func(change Change) error { return other.Add(change.Record) })
		if c.Err = c.Other.Err; c.Err != nil {
			c.Findings = c.Other.Findings
			return
		}
	} else {
		for record, err := range p.Against.Records {
			if err == nil {
				err = other.Add(record)
			}
			if err != nil {
				c.Err = err
				return
			}
		}
	}
	for d, err := range Differ(mine, other.Records()) {
		if err != nil {
			c.Err = err
			return
		}
		switch {
		case d.Other != nil:
			c.TTLs++
		case d.Second:
			c.There++
		default:
			c.Here++
		}
		if len(c.Shown) < keep {
			c.Shown = append(c.Shown, d)
		}
	}
}

// output writes records as they come.
type output struct {
	w      io.Writer
	buffer *bufio.Writer
	line   []byte
	err    error
}

func (o *output) change(c Change) error {
	if o.w == nil || o.err != nil {
		return o.err
	}
	o.line = o.line[:0]
	switch {
	case c.Removed:
		o.line = fmt.Appendf(o.line, "removed for %d: ", c.Serial)
	case c.Serial != 0:
		o.line = fmt.Appendf(o.line, "added in %d: ", c.Serial)
	}
	o.line = append(c.Record.Append(o.line), '\n')
	_, o.err = o.buffer.Write(o.line)
	return o.err
}

// through writes the records that pass.
func (o *output) through(records iter.Seq2[wire.Record, error]) iter.Seq2[wire.Record, error] {
	return func(yield func(wire.Record, error) bool) {
		for r, err := range records {
			if err == nil {
				o.change(Change{Record: r})
			}
			if !yield(r, err) {
				return
			}
		}
	}
}

func (o *output) flush() error {
	if o.w == nil {
		return nil
	}
	return o.buffer.Flush()
}

// AllFindings are those of the transfer and of what it was held against.
func (f *Fetched) AllFindings() []finding.Finding {
	all := append([]finding.Finding(nil), f.Findings...)
	if c := f.Compared; c != nil {
		all = append(all, c.Findings...)
		if c.Err == nil && !c.Same() {
			all = append(all, f.differs())
		}
	}
	finding.Sort(all)
	return all
}

func (f *Fetched) differs() finding.Finding {
	c := f.Compared
	server := f.Request.Server
	evidence := []int{f.Exchange.Number}
	if c.Other != nil {
		evidence = append(evidence, c.Other.Exchange.Number)
	}
	return finding.New(finding.ContentDiffers, finding.Concern, finding.About{Zone: f.Request.Zone.String(), Server: server.Name(), Address: server.AddressText()},
		fmt.Sprintf("%s and %s have different versions of %s: %d records only at the first, %d only at the second, %d with a different TTL.", server.Name(), c.Label, f.Request.Zone.Spoken(), c.Here, c.There, c.TTLs), evidence...)
}
