package page

import (
	"fmt"

	"unquil/core/delegation"
	"unquil/core/dnssec"
)

// chainTable is what vouches for what on the way of a walk: a row for each zone from the root down,
// with the link marked at which the chain breaks.
func chainTable(w *delegation.Walk) Table {
	v := w.Validation
	t := Table{Title: fmt.Sprintf("What vouches for what on the way to %s: %s", w.Question.Spoken(), v.State), Columns: []string{"zone", "is named by", "key", "signed with", "valid until"}}
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
