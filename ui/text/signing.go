package text

import (
	"fmt"
	"strings"

	"unquil/core/finding"
	"unquil/core/signing"
	"unquil/core/wording"
)

// signing draws how a zone is signed: its keys, how long signatures hold, and the stage of a roll-over.
func (v *View) signing(r *signing.Report) {
	if r == nil || len(r.Keys) == 0 {
		return
	}
	v.line()
	for i := range r.Keys {
		v.row(map[bool]string{true: "keys"}[i == 0], keyWords(r, &r.Keys[i]))
	}
	if !r.Ends.IsZero() {
		v.row("lasts", fmt.Sprintf("the first signature runs out at %s; they are made for %s", r.Ends.Format("15:04 on 2 January 2006"), wording.Span(r.Validity)))
	}
	v.row("denial", denialWords(r))
	switch {
	case r.Removal:
		v.row("DS wanted", "none: the zone asks for their removal")
	case len(r.Wanted) > 0 && fmt.Sprint(r.Wanted) == fmt.Sprint(r.Named):
		v.row("DS wanted", "as the zone above has them")
	case len(r.Wanted) > 0:
		v.row("DS wanted", "for "+signing.TagWords(r.Wanted))
	}
	if len(r.Stages) == 0 {
		v.row("roll-over", "none under way")
	}
	for i, s := range r.Stages {
		v.row(map[bool]string{true: "roll-over"}[i == 0], strong.Render(s.Name)+": "+s.Text+".")
		next := "next: " + s.Next + ". "
		if s.Safe {
			next += good.Render("All servers are ready for it.")
		} else {
			next += severe[finding.Concern].Render("Not now") + ": " + s.Unready + "."
		}
		v.flow("", labelWidth+2, next, plainStyle)
	}
}

// keyWords say what a key is for, and where it does that.
func keyWords(r *signing.Report, k *signing.Key) string {
	how := k.Algorithm.String()
	if k.Bits > 0 {
		how += fmt.Sprintf(", %d bits", k.Bits)
	}
	var does []string
	switch {
	case k.Revoked:
		does = append(does, "revoked")
	case len(k.Given) == 0 && k.Named:
		does = append(does, "named by a DS record, and not in the zone")
	case len(k.Given) == 0:
		does = append(does, "not in the zone, though there are signatures by it")
	case k.Named:
		does = append(does, "named by a DS record")
	}
	signs := func(at []int, what string) {
		switch {
		case len(at) == 0:
		case r.Everywhere(at):
			does = append(does, "signs "+what)
		default:
			does = append(does, "signs "+what+" at "+wording.Names(r.Hosts(at)))
		}
	}
	signs(k.SignsKeys, "the keys")
	signs(k.SignsZone, "the zone")
	if len(k.SignsKeys)+len(k.SignsZone) == 0 && len(k.Given) > 0 {
		does = append(does, "signs nothing")
	}
	if len(k.Given) > 0 && !r.Everywhere(k.Given) {
		does = append(does, severe[finding.Concern].Render("only given by "+wording.Names(r.Hosts(k.Given))))
	}
	return fmt.Sprintf("%s  %s (%s): %s", strong.Render(fmt.Sprint(k.Tag)), k.Purpose(), how, strings.Join(does, ", "))
}

// denialWords say how the zone denies what is not there.
func denialWords(r *signing.Report) string {
	switch {
	case !r.Hashed:
		return "by names (NSEC)"
	case r.Rounds == 0 && !r.Salted:
		return "by hashes (NSEC3)"
	}
	words := "by hashes (NSEC3)"
	if r.Rounds > 0 {
		words += ", made " + wording.Count(r.Rounds, "time", "times") + " more"
	}
	if r.Salted {
		words += ", with a salt"
	}
	return words
}
