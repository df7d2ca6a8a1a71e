package text

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"charm.land/lipgloss/v2"

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
		words += fmt.Sprintf(", for %s (until %s)", wording.Span(val.Expires.Sub(val.AsOf).Round(time.Minute)), wording.Moment(val.Expires))
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

// brokenWords say of a walk whose answer is bogus that it is; "" of others.
func brokenWords(w *delegation.Walk) string {
	if w.Validation == nil || w.Validation.State != dnssec.Bogus {
		return ""
	}
	return ", and its signatures are broken"
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
		return severe[finding.Fault].Render("the chain breaks here: " + string(l.Break.Flaw))
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

// signed draws the signatures that came with answers: who signed what, with which key, and from when
// until when that is valid. Of what one key signed for the same time there is one line.
func (v *View) signed(b Block) {
	var lines []string
	over := map[string][]string{} // what each is over
	for _, e := range b.Exchanges {
		if e.Reply == nil {
			continue
		}
		for _, set := range dnssec.Sets(slices.Concat(e.Reply.Answer, e.Reply.Authority)) {
			what := set.Type.String()
			if !set.Owner.Equal(e.Question.Name) {
				what += " of " + set.Owner.Spoken()
			}
			for i := range set.Signatures {
				line := signatureWords(&set.Signatures[i], b.Now)
				if !slices.Contains(lines, line) {
					lines = append(lines, line)
				}
				if !slices.Contains(over[line], what) {
					over[line] = append(over[line], what)
				}
			}
		}
	}
	const most = 12
	for i, line := range lines[:min(len(lines), most)] {
		v.row(map[bool]string{true: "signed"}[i == 0], strong.Render(strings.Join(over[line], ", "))+" "+line)
	}
	if len(lines) > most {
		v.row("", fmt.Sprintf("and %d more signatures", len(lines)-most))
	}
}

// signatureWords say who made a signature, and how long it is valid, as of a time.
func signatureWords(s *dnssec.Signature, now time.Time) string {
	begins, ends := s.Begins(now), s.Ends(now)
	words := fmt.Sprintf("by %s, key %d (%s), from %s until %s: ", s.Signer.Spoken(), s.Tag, s.Algorithm, wording.Moment(begins), wording.Moment(ends))
	switch {
	case now.Before(begins):
		return words + severe[finding.Fault].Render("not valid for another "+wording.Span(begins.Sub(now).Round(time.Minute)))
	case now.After(ends):
		return words + severe[finding.Fault].Render("it ran out "+wording.Span(now.Sub(ends).Round(time.Minute))+" ago")
	}
	return words + wording.Span(ends.Sub(now).Round(time.Minute)) + " left"
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

// checkingWords say of servers what an answer of theirs shows of whether they check signatures.
var checkingWords = map[probe.Checking]struct{ one, many string }{
	probe.ChecksAndSays: {"validates: it says that it has checked its answer (AD)", "validate: they say that they have checked their answers (AD)"},
	probe.ChecksBogus:   {"validates: what it has is bogus, and it does not hand that on", "validate: what they have is bogus, and they do not hand that on"},
	probe.ChecksNot:     {"does not validate: it hands on what is bogus", "do not validate: they hand on what is bogus"},
	probe.ChecksUnsaid:  {"has good signatures, and does not say that it has checked them (no AD)", "have good signatures, and do not say that they have checked them (no AD)"},
}

// unknownWords say why an answer tells nothing of that.
func unknownWords(a *probe.Validated) (one, many string) {
	switch {
	case a.Unsigned:
		return "may validate or not: it hands on no signatures", "may validate or not: they hand on no signatures"
	case a.State == dnssec.Insecure:
		return "may validate or not: this name is not signed", "may validate or not: this name is not signed"
	}
	return "may validate or not: there was nothing to check", "may validate or not: there was nothing to check"
}

// checking draws which of some servers check signatures, those of whom the same is to be said together.
func (v *View) checking(all []probe.Validated) {
	if len(all) == 0 {
		return
	}
	v.line()
	v.line(strong.Render("who validates"))
	type sort struct {
		one, many string
		style     lipgloss.Style
		names     []string
	}
	var sorts []sort
	for i := range all {
		a := &all[i]
		how := a.Checking()
		s := sort{checkingWords[how].one, checkingWords[how].many, plainStyle, nil}
		switch how {
		case probe.ChecksUnknown:
			s.one, s.many = unknownWords(a)
			s.style = quiet
		case probe.ChecksNot:
			s.style = severe[finding.Note]
		case probe.ChecksAndSays, probe.ChecksBogus:
			s.style = good
		}
		at := slices.IndexFunc(sorts, func(o sort) bool { return o.one == s.one })
		if at < 0 {
			at, sorts = len(sorts), append(sorts, s)
		}
		sorts[at].names = append(sorts[at].names, a.Exchange.Server.Name())
	}
	for _, s := range sorts {
		words := s.one
		if len(s.names) > 1 {
			words = s.many
		}
		v.flow("  ", 4, strings.Join(s.names, ", ")+" "+s.style.Render(words), plainStyle)
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
			words += ", until " + wording.Moment(a.Expires)
		}
	}
	if a.Claims {
		words += "; the server says that it has checked this itself (AD)"
	}
	return words
}
