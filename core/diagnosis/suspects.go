package diagnosis

import (
	"slices"

	"unquil/core/conversation"
	"unquil/core/finding"
	"unquil/core/wire"
)

// capturedCodes are the findings of a capture that say more of an exchange than how
// it ended.
var capturedCodes = map[finding.Code]bool{
	finding.LoopedQuery: true, finding.RepliesDiffer: true, finding.LateReply: true, finding.AnswerRewritten: true,
	finding.HalfFails: true, finding.UnsolicitedReply: true, finding.Truncated: true,
}

// suspects are the names to judge in a capture that may be larger than what an overview
// keeps. The zero suspects are none.
type suspects struct {
	left  int // exchanges seen whose names are not among them, since they are too many
	names map[wire.Name]bool
	// hashes are those of the names: most exchanges can be told from these by them.
	hashes map[uint64]bool
}

// maxSuspects is how many names are judged.
const maxSuspects = 20_000

// add adds a name.
func (s *suspects) add(name wire.Name) {
	if s.names == nil {
		s.names, s.hashes = map[wire.Name]bool{}, map[uint64]bool{}
	}
	switch name = name.Fold(); {
	case s.names[name] || name.IsZero():
	case len(s.names) < maxSuspects:
		s.names[name], s.hashes[conversation.HashName(name)] = true, true
	default:
		s.left++
	}
}

// remarkable reports whether an exchange is worth a verdict.
func remarkable(p *conversation.Transaction) bool {
	return p.Outcome().Failed() || slices.ContainsFunc(p.Codes, func(c finding.Code) bool { return capturedCodes[c] })
}

// see adds the name that an exchange was about, if that is worth a verdict.
func (s *suspects) see(p *conversation.Transaction) {
	if remarkable(p) {
		if name, err := p.View().QName(); err == nil {
			s.add(name)
		}
	}
}

// maxOrdinary is how many exchanges of one name are looked at that did not fail, make up
// for one that did, or belong to the walk of a resolver.
const maxOrdinary = 100

// telling returns, as [conversation.Options.Also], which exchanges a verdict on the names
// is made of.
func (s *suspects) telling() func(*conversation.Transaction) bool {
	ordinary := map[wire.Name]int{}
	return func(p *conversation.Transaction) bool {
		if !s.hashes[p.NameHash()] {
			return false
		}
		name, err := p.View().QName()
		if name = name.Fold(); err != nil || !s.names[name] {
			return false
		}
		if remarkable(p) || p.Related().Before.Number > 0 || !p.View().Flags().Has(wire.RD) {
			return true
		}
		ordinary[name]++
		return ordinary[name] <= maxOrdinary
	}
}
