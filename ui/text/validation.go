package text

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"unquil/core/delegation"
	"unquil/core/dnssec"
	"unquil/core/finding"
	"unquil/core/probe"
	"unquil/core/wording"
)

// stateWords say what each state means.
var stateWords = map[dnssec.State]string{
	dnssec.Secure:        "secure: signed from the root's key down",
	dnssec.Insecure:      "insecure: not signed all the way, and nobody says that it is",
	dnssec.Bogus:         "bogus: resolvers that validate do not accept it",
	dnssec.Indeterminate: "unknown: the keys on the way could not be had",
}

// validation draws the chain of trust of a walk, a zone a line.
func (v *View) validation(w *delegation.Walk) {
	val := w.Validation
	if val == nil {
		return
	}
	v.line()
	words := stateWords[val.State]
	style := plainStyle
	switch val.State {
	case dnssec.Secure:
		style = good
	case dnssec.Bogus:
		style = severe[finding.Fault]
	}
	if !val.Answered && val.State != dnssec.Bogus {
		words, style = "there is no answer to check; the chain of trust, as far as it goes:", plainStyle
	}
	words = style.Render(words)
	if val.State == dnssec.Secure && val.Answered && !val.Expires.IsZero() {
		words += fmt.Sprintf(", for %s (until %s)", wording.Span(val.Expires.Sub(val.AsOf).Truncate(time.Minute)), val.Expires.Format("15:04 on 2 January 2006"))
	}
	v.row("signatures", words)
	for i, link := range val.Chain {
		zone := link.Zone.Spoken()
		if link.Zone.IsRoot() {
			zone = ". (the root)"
		}
		above := "the trust anchor"
		if i > 0 {
			above = val.Chain[i-1].Zone.Spoken()
			if val.Chain[i-1].Zone.IsRoot() {
				above = "the root"
			}
		}
		v.flow("", labelWidth, strong.Render(zone)+"  "+linkWords(link, above, val.Expires), plainStyle)
	}
}

// linkWords say what vouches for a zone, and what its own key does; above is what names that key, and
// ends when the first signature of the whole chain runs out.
func linkWords(l *dnssec.Link, above string, ends time.Time) string {
	switch {
	case l.Break != nil && l.Break.Flaw == dnssec.UnsupportedDigest:
		return above + " names its keys in a way that nobody checks: it counts as unsigned"
	case l.Break != nil && l.Break.Flaw == dnssec.ManyIterations:
		return above + " hashes names too often for its denials to count: it counts as unsigned"
	case l.Unsigned:
		return "not signed, as " + above + " proves"
	case l.Break != nil:
		return severe[finding.Fault].Render("the chain breaks here")
	case l.State == dnssec.Indeterminate:
		return "its keys could not be had"
	}
	for _, k := range l.Keys {
		if k.Tag == l.By {
			words := fmt.Sprintf("key %d, named by %s, vouches for its %s (%s)", k.Tag, above, wording.Count(len(l.Keys), "key", "keys"), k.Algorithm)
			if !l.Expires.IsZero() && !l.Expires.Equal(ends) {
				words += ", until " + l.Expires.Format("2 January 15:04")
			}
			return words
		}
	}
	return string(l.State)
}

// validated draws what the signatures make of answers, a line for each state they come to.
func (v *View) validated(all []probe.Validated) {
	var lines []string
	types := map[string][]string{} // that came to each
	for i := range all {
		line := validatedWords(&all[i])
		if !slices.Contains(lines, line) {
			lines = append(lines, line)
		}
		types[line] = append(types[line], all[i].Exchange.Question.Type.String())
	}
	for i, line := range lines {
		label := map[bool]string{true: "signatures"}[i == 0]
		if len(lines) > 1 {
			line = strong.Render(strings.Join(types[line], ", ")) + "  " + line
		}
		v.row(label, line)
	}
}

// validatedWords say what the signatures make of one answer.
func validatedWords(a *probe.Validated) string {
	words := stateWords[a.State]
	switch {
	case a.Unsigned:
		words = "unknown: the server hands on no signatures"
	case a.Signed.Reply == nil || !a.Signed.Outcome.Good():
		words = "unknown: there is no answer to check"
	case a.State == dnssec.Indeterminate && a.Signed.Authoritative():
		words = "unknown: this server does not have the keys of the zones above; trace checks the whole chain"
	case a.State == dnssec.Bogus:
		words = severe[finding.Fault].Render(words)
		if a.Break != nil {
			words += "; the chain breaks at " + a.Break.Zone.Spoken()
		}
	case a.State == dnssec.Secure:
		words = good.Render(words)
		if !a.Expires.IsZero() {
			words += ", until " + a.Expires.Format("15:04 on 2 January 2006")
		}
	}
	if a.Claims {
		words += "; the server says that it has checked this itself (AD)"
	}
	return words
}
