package dnssec

import (
	"fmt"
	"strings"
	"time"

	"unquil/core/wire"
)

// flaws say what each flaw is, about a zone and the set that shows it, and what to do.
var flaws = map[Flaw]struct{ text, next string }{
	SignatureExpired: {"The signature over {set} ran out at {since}", "Ask the zone's operator to sign the zone anew: its signer seems to have stopped. Resolvers that allow for clocks that are off may accept it for some hours more."},
	SignatureNotYet:  {"The signature over {set} is not valid before {until}", "Check this machine's clock first. If that is right, ask the zone's operator: the signer's clock is ahead."},
	SignatureMissing: {"There is no signature over {set}, though {zone} is signed", "Ask the zone's operator to sign the whole zone, and whether every server has the signed one."},
	SignatureWrong:   {"The signature over {set} does not fit", "Ask the zone's operator to sign the zone anew; if that does not help, something changes the answers on their way."},
	DSWithoutKey:     {"The DS record of {zone} names a key with tag {tag}, and the zone has no such key", "Have the holder put the DS record of a key that the zone has in place at the registry."},
	KeyUnsigned:      {"The keys of {zone} are not signed by the one that its DS record names (tag {tag})", "Ask the zone's operator to sign the keys with that one, or have the DS record changed to the one that signs."},
	ChainMissing:     {"The zone above says that {zone} is signed, and the zone has no keys", "Ask the zone's operator to sign the zone, or have its DS records removed at the registry."},
	DenialIncomplete: {"{zone} denies {set} and does not prove it", "Ask the zone's operator to have the zone signed anew, by a current signer."},
	AnchorOld:        {"None of the keys of {zone} is one that the trust anchors name", "Bring the trust anchors up to date."},
}

// Sentence is what is broken, without a stop at its end.
func (b *Break) Sentence() string {
	records := "records"
	if b.Type == wire.SOA || b.Type == wire.CNAME || b.Type == wire.DNAME { // of which a name has one
		records = "record"
	}
	set := fmt.Sprintf("the %s %s of %s", b.Type, records, b.Owner.Spoken())
	switch {
	case b.Flaw == DenialIncomplete:
		set = b.Owner.Spoken() + " " + b.Type.String()
	case b.Type == wire.DNSKEY:
		set = "the keys of " + b.Owner.Spoken()
	}
	zone := b.Zone.Spoken()
	if b.Zone.IsRoot() {
		zone = "the root"
	}
	clock := func(t time.Time) string { return t.UTC().Format("15:04 on 2 January 2006") }
	return strings.NewReplacer("{zone}", zone, "{set}", set, "{since}", clock(b.Since), "{until}", clock(b.Until), "{tag}", fmt.Sprint(b.Tag)).Replace(flaws[b.Flaw].text)
}

// Next is what to do about it.
func (b *Break) Next() string { return flaws[b.Flaw].next }
