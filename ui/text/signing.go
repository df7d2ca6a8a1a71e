package text

import (
	"fmt"
	"strings"

	"unquil/core/attest"
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
		when := "the first signature runs out at " + wording.Moment(r.Ends)
		if r.Over {
			when = severe[finding.Fault].Render("the first signature ran out at " + wording.Moment(r.Ends))
		}
		v.row("lasts", when+"; they are made for "+wording.Span(r.Validity))
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

// attestWords say what signatures of a capture come to.
var attestWords = map[attest.State]string{
	attest.Bogus:    "bogus",
	attest.Unjudged: "unjudged, as the capture lacks the keys",
	attest.Fits:     "fit keys in the capture, but no chain of trust to them is in it",
	attest.Secure:   "secure, with the whole chain of trust in the capture",
}

// attested draws what the signatures of a capture come to.
func (v *View) attested(r *attest.Report) {
	if r == nil {
		return
	}
	sets := 0
	var parts []string
	for _, state := range r.Counted() {
		n := r.Sets[state]
		sets += n
		words := fmt.Sprintf("%s %s", wording.Number(n), attestWords[state])
		if state == attest.Bogus {
			words = severe[finding.Fault].Render(words)
		}
		parts = append(parts, words)
	}
	v.row("signatures", fmt.Sprintf("over %s: %s", wording.Count(sets, "record set", "record sets"), strings.Join(parts, "; ")))
	if len(r.Without) > 0 {
		shown := r.Without[:min(len(r.Without), 5)]
		words := "keys that are not in the capture: those of " + wording.Names(shown)
		if more := len(r.Without) - len(shown); more > 0 {
			words += fmt.Sprintf(" and %d more", more)
		}
		v.row("", words)
	}
	if r.Left > 0 {
		v.row("", fmt.Sprintf("%s more record sets were not looked at: too many for one run", wording.Number(r.Left)))
	}
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
