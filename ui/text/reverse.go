package text

import (
	"fmt"

	"unquil/core/exchange"
	"unquil/core/probe"
	"unquil/core/wording"
)

// Reversals draws the names of addresses; of a range, a line for each address
// that has one.
func (v *View) Reversals(all []probe.Reversal, alone bool) {
	nameless := 0
	for i := range all {
		r := &all[i]
		if !alone && len(r.Names) == 0 && r.Exchange.Outcome.Good() {
			nameless++
			continue
		}
		if alone && i > 0 {
			v.line()
		}
		v.reversal(r, alone)
	}
	if !alone {
		v.line(fmt.Sprintf("%d of %s have a reverse name", len(all)-nameless, wording.Count(len(all), "address", "addresses")))
	}
}

func (v *View) reversal(r *probe.Reversal, alone bool) {
	label := subject.Render(r.Address.String())
	indent := max(len(r.Address.String())+2, 18)
	if len(r.Names) == 0 {
		v.flow(label, indent, r.Exchange.Outcome.Words(), plainStyle)
	}
	for i, n := range r.Names {
		if i > 0 {
			label = ""
		}
		back := good.Render("resolves back")
		if !n.LeadsBack {
			back = severe["concern"].Render("does not resolve back")
		}
		v.flow(label, indent, strong.Render(n.Name.Spoken())+v.markOf(n.Name)+", which "+back, plainStyle)
	}
	if !alone {
		return
	}
	v.row("looked up", r.Name.Spoken())
	for _, alias := range r.Exchange.Answer().Aliases {
		target, _ := alias.Target()
		v.row("via", fmt.Sprintf("a CNAME to %s (the range is delegated in parts)", target.Spoken()))
	}
	block := []*exchange.Exchange{r.Exchange}
	v.row(saidByLabel(block), v.saidBy(block, true))
}

// BareReversals draws address, a tab, and each name.
func (v *View) BareReversals(all []probe.Reversal) {
	for _, r := range all {
		for _, n := range r.Names {
			v.line(r.Address.String(), "\t", n.Name.String())
		}
	}
}
