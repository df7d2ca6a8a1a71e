package page

import (
	"fmt"
	"html/template"
	"time"

	"unquil/core/delegation"
	"unquil/core/dnssec"
	"unquil/core/wire"
)

// chainTable is what vouches for what on the way of a walk: a row for each zone from the root down,
// with the link marked at which the chain breaks.
func chainTable(w *delegation.Walk) Table {
	v := w.Validation
	t := Table{Title: fmt.Sprintf("What vouches for what on the way to %s: %s", w.Question.Spoken(), v.State), Columns: []string{"zone", "is named by", "key", "signed with", "valid until (UTC)"}}
	for i, link := range v.Chain {
		above := "the trust anchor"
		if i > 0 {
			above = v.Chain[i-1].Zone.Spoken()
		}
		row := []string{link.Zone.Spoken(), above, "", "", ""}
		for _, k := range link.Keys {
			if k.Tag == link.By {
				row[2], row[3] = fmt.Sprint(k.Tag), k.Algorithm.String()
			}
		}
		switch {
		case link.State == dnssec.Bogus && link.Break != nil:
			row[2], row[4] = "THE CHAIN BREAKS HERE: "+string(link.Break.Flaw), clockOf(link.Break)
		case link.Unsigned:
			row[1], row[2] = "nobody, as "+above+" proves", "not signed"
		case link.State == dnssec.Indeterminate:
			row[2] = "could not be had"
		case !link.Expires.IsZero():
			row[4] = link.Expires.Format("2 January 2006 15:04")
		}
		t.Rows = append(t.Rows, row)
	}
	if v.State == dnssec.Bogus && v.Break != nil && len(v.Chain) > 0 && v.Chain[len(v.Chain)-1].State == dnssec.Secure {
		t.Rows = append(t.Rows, []string{v.Break.Owner.Spoken() + " " + v.Break.Type.String(), v.Break.Zone.Spoken(), "THE CHAIN BREAKS HERE: " + string(v.Break.Flaw), "", clockOf(v.Break)})
	}
	return t
}

// clockOf is when what is broken ran out, where it did.
func clockOf(b *dnssec.Break) string {
	if b.Since.IsZero() {
		return ""
	}
	return "ran out " + b.Since.Format("2 January 2006 15:04")
}

// trustWords say, below a zone of a walk, what vouches for it, or that the chain breaks there. last is of the
// zone that the walk ends at, whose answer may be what is broken.
func trustWords(w *delegation.Walk, zone wire.Name, last bool) (class, words string) {
	v := w.Validation
	if v == nil {
		return "", ""
	}
	above := "the trust anchor"
	for _, l := range v.Chain {
		if !l.Zone.Equal(zone) {
			if above = l.Zone.Spoken(); l.Zone.IsRoot() {
				above = "the root"
			}
			continue
		}
		switch {
		case l.State == dnssec.Bogus && l.Break != nil:
			return "bad-text", "the chain breaks here: " + l.Break.Sentence()
		case last && v.State == dnssec.Bogus && v.Break != nil && v.Break.Zone.Equal(zone):
			return "bad-text", "the chain breaks here: " + v.Break.Sentence()
		case l.Unsigned:
			return "quiet", "not signed, as " + above + " proves"
		case l.State == dnssec.Secure:
			return "quiet", fmt.Sprintf("key %d vouches for its keys, named by %s", l.By, above)
		}
		return "quiet", "its keys could not be had"
	}
	return "", ""
}

// span is when something is valid.
type span struct {
	label        string
	begins, ends time.Time
	broken       bool
}

// spans are when the signatures on the way of a walk are valid: of each zone's keys, and of the answer.
func spans(v *delegation.Validation) (all []span) {
	for _, l := range v.Chain {
		zone := l.Zone.Spoken()
		if l.Zone.IsRoot() {
			zone = "the root"
		}
		switch {
		case l.Break != nil && !l.Break.Ends.IsZero():
			all = append(all, span{"keys of " + zone, l.Break.Begins, l.Break.Ends, true})
		case !l.Expires.IsZero():
			all = append(all, span{"keys of " + zone, l.Begins, l.Expires, false})
		}
	}
	if b := v.Break; b != nil && !b.Ends.IsZero() && b.Type != wire.DNSKEY && b.Type != wire.DS {
		all = append(all, span{b.Owner.Spoken() + " " + b.Type.String(), b.Begins, b.Ends, true})
	} else if !v.Ends.IsZero() && v.State == dnssec.Secure {
		all = append(all, span{"the answer", v.Begins, v.Ends, false})
	}
	return all
}

// validityPicture draws when signatures are valid, a line each, with "now" across them; "" where nothing was
// signed.
func validityPicture(w *delegation.Walk) template.HTML {
	v := w.Validation
	if v == nil {
		return ""
	}
	all := spans(v)
	if len(all) == 0 {
		return ""
	}
	const left, width, row, top = 250, 540, 34, 34
	const most = 45 * 24 * time.Hour // to either side of now
	from, to := v.AsOf, v.AsOf
	for _, s := range all {
		if !s.begins.IsZero() && s.begins.Before(from) {
			from = s.begins
		}
		if s.ends.After(to) {
			to = s.ends
		}
		if s.begins.After(to) {
			to = s.begins
		}
		if s.ends.Before(from) {
			from = s.ends
		}
	}
	if earliest := v.AsOf.Add(-most); from.Before(earliest) {
		from = earliest
	}
	if latest := v.AsOf.Add(most); to.After(latest) {
		to = latest
	}
	whole := max(to.Sub(from), time.Hour)
	x := func(t time.Time) int {
		share := float64(t.Sub(from)) / float64(whole)
		return left + int(float64(width)*min(max(share, 0), 1))
	}
	s := &svg{width: 800, height: top + row*len(all) + 10}
	now := x(v.AsOf)
	for i, one := range all {
		y := top + row*i + 16
		begins := from
		if !one.begins.IsZero() {
			begins = one.begins
		}
		class, words := "span", "until "+one.ends.UTC().Format("2 January 15:04 UTC")
		switch {
		case one.broken && one.ends.Before(v.AsOf):
			class, words = "span bad", "ran out "+one.ends.UTC().Format("2 January 15:04 UTC")
		case one.broken:
			class, words = "span bad", "not before "+one.begins.Format("2 January 15:04")
		}
		s.text("small strong", 4, y+4, 36, one.label)
		fmt.Fprintf(&s.b, `<rect class="%s" x="%d" y="%d" width="%d" height="8"/>`, class, x(begins), y-4, max(x(one.ends)-x(begins), 2))
		at := max(min(x(begins)+4, left+width-170), left)
		s.text("small "+map[bool]string{true: "bad-text", false: "quiet"}[one.broken], at, y+18, 40, words)
	}
	s.line("now", now, top-10, now, s.height-4)
	anchor := min(max(now-60, left), left+width-150)
	s.text("small strong", anchor, top-16, 40, "now: "+v.AsOf.UTC().Format("2 January 2006 15:04"))
	return s.picture("When the signatures are valid")
}
