package data

import (
	"net/netip"
	"time"

	"unquil/core/delegation"
	"unquil/core/dnssec"
	"unquil/core/probe"
	"unquil/core/signing"
	"unquil/core/wire"
)

// Validated is what the signatures make of one answer of a resolver.
type Validated struct {
	Exchange int             `json:"exchange"`
	Signed   int             `json:"signed_exchange"` // the one with the signatures
	State    dnssec.State    `json:"state"`
	Claims   bool            `json:"claims_checked"` // it sets AD
	HandsOn  bool            `json:"signatures_handed_on"`
	Checking probe.Checking  `json:"validates"`
	Server   string          `json:"server"`
	Zone     *wire.Name      `json:"zone,omitempty"`
	Expires  *time.Time      `json:"expires,omitempty"` // when the first signature runs out
	Flaw     *ValidationFlaw `json:"flaw,omitempty"`
}

// ValidationFlaw is where a chain of trust breaks.
type ValidationFlaw struct {
	Code dnssec.Flaw `json:"code"`
	Zone wire.Name   `json:"zone"`
	Name wire.Name   `json:"name"`
	Type string      `json:"type"`
	Tag  uint16      `json:"tag"` // of the key; 0 for none
}

// OfValidated returns what the signatures make of one answer as JSON has it.
func OfValidated(v *probe.Validated) Validated {
	out := Validated{Exchange: v.Exchange.Number, Signed: v.Signed.Number, State: v.State, Claims: v.Claims, HandsOn: !v.Unsigned, Checking: v.Checking(),
		Server: v.Exchange.Server.Name(), Expires: momentOf(v.Expires), Flaw: ofBreak(v.Break)}
	if !v.Zone.IsZero() {
		out.Zone = &v.Zone
	}
	return out
}

func ofBreak(b *dnssec.Break) *ValidationFlaw {
	if b == nil {
		return nil
	}
	return &ValidationFlaw{b.Flaw, b.Zone, b.Owner, b.Type.String(), b.Tag}
}

// Signing is how a zone is signed.
type Signing struct {
	Keys          []SigningKey   `json:"keys"`
	Rollover      []SigningStage `json:"rollover"`
	NSEC3         bool           `json:"nsec3"`
	Iterations    int            `json:"nsec3_iterations"`
	Salted        bool           `json:"nsec3_salted"`
	DS            []uint16       `json:"ds"`        // key tags at the parent
	Wanted        []uint16       `json:"ds_wanted"` // by CDS and CDNSKEY (RFC 8078)
	RemovalWanted bool           `json:"ds_removal_wanted"`
	Expires       *time.Time     `json:"expires,omitempty"`
	Validity      float64        `json:"validity,omitempty"` // seconds from beginning to end of a signature
}

// SigningKey is a key of a zone, or one that a DS record names.
type SigningKey struct {
	Tag       uint16      `json:"tag"`
	Algorithm uint8       `json:"algorithm"`
	Bits      int         `json:"bits"` // of an RSA key; 0 of others
	Purpose   string      `json:"purpose"`
	Revoked   bool        `json:"revoked"`
	Named     bool        `json:"named_by_ds"`
	Given     []wire.Name `json:"given_by"`
	SignsKeys []wire.Name `json:"signs_keys_at"`
	SignsZone []wire.Name `json:"signs_zone_at"`
}

// SigningStage is the stage of a roll-over.
type SigningStage struct {
	Stage  string   `json:"stage"`
	Keys   []uint16 `json:"keys"`
	Text   string   `json:"text"`
	Next   string   `json:"next"`
	Safe   bool     `json:"safe"` // the next step breaks nothing now
	WhyNot string   `json:"why_not"`
}

func ofSigning(r *signing.Report) *Signing {
	out := &Signing{Keys: []SigningKey{}, NSEC3: r.Hashed, Iterations: r.Rounds, Salted: r.Salted, DS: list(r.Named), Wanted: list(r.Wanted), RemovalWanted: r.Removal, Expires: momentOf(r.Ends),
		Rollover: each(r.Stages, func(s signing.Stage) SigningStage {
			return SigningStage{s.Name, list(s.Keys), s.Text, s.Next, s.Safe, s.Unready}
		})}
	for i := range r.Keys {
		k := &r.Keys[i]
		out.Keys = append(out.Keys, SigningKey{k.Tag, uint8(k.Algorithm), k.Bits, k.Purpose(), k.Revoked, k.Named, r.Hosts(k.Given), r.Hosts(k.SignsKeys), r.Hosts(k.SignsZone)})
	}
	if !r.Ends.IsZero() {
		out.Validity = r.Validity.Seconds()
	}
	return out
}

// Validation is what the signatures of a walk came to.
type Validation struct {
	State    dnssec.State         `json:"state"`
	AsOf     time.Time            `json:"as_of"`    // the time that they were judged by
	Answered bool                 `json:"answered"` // there was an answer to judge
	Zone     *wire.Name           `json:"zone,omitempty"`
	Expires  *time.Time           `json:"expires,omitempty"`
	Flaw     *ValidationFlaw      `json:"flaw,omitempty"`
	Chain    []ValidationLink     `json:"chain"` // from the anchor down
	Differ   []ValidationByServer `json:"servers_that_differ"`
}

// ValidationLink is a zone of the chain of trust.
type ValidationLink struct {
	Zone    string             `json:"zone"`
	State   dnssec.State       `json:"state"`
	DS      []ValidationDigest `json:"ds"`
	Keys    []ValidationKey    `json:"keys"`
	By      uint16             `json:"signed_by,omitempty"` // the tag of the key that signs the others
	Expires *time.Time         `json:"expires,omitempty"`
	Flaw    dnssec.Flaw        `json:"flaw,omitempty"`
	Seen    []int              `json:"exchanges"`
}

// ValidationDigest is a DS record.
type ValidationDigest struct {
	Tag       uint16 `json:"tag"`
	Algorithm uint8  `json:"algorithm"`
	Type      uint8  `json:"digest_type"`
}

// ValidationKey is a DNSKEY record.
type ValidationKey struct {
	Tag       uint16 `json:"tag"`
	Algorithm uint8  `json:"algorithm"`
	Entry     bool   `json:"entry_point"`
}

// ValidationByServer is a server whose signatures come to something else.
type ValidationByServer struct {
	Host    wire.Name    `json:"host"`
	Address netip.Addr   `json:"address"`
	State   dnssec.State `json:"state"`
	Expires time.Time    `json:"expires"`
}

func ofValidation(v *delegation.Validation) *Validation {
	out := &Validation{State: v.State, AsOf: v.AsOf.UTC(), Answered: v.Answered, Expires: momentOf(v.Expires), Flaw: ofBreak(v.Break), Chain: each(v.Chain, ofLink), Differ: []ValidationByServer{}}
	if !v.Zone.IsZero() {
		out.Zone = &v.Zone
	}
	for _, s := range v.Servers {
		out.Differ = append(out.Differ, ValidationByServer{s.Reply.Host, s.Reply.Address, s.State, s.Expires})
	}
	return out
}

func ofLink(l *dnssec.Link) ValidationLink {
	j := ValidationLink{Zone: l.Zone.String(), State: l.State, DS: []ValidationDigest{}, Keys: []ValidationKey{}, By: l.By, Seen: list(l.Seen), Expires: momentOf(l.Expires)}
	for _, d := range l.Digests {
		j.DS = append(j.DS, ValidationDigest{d.Tag, uint8(d.Algorithm), d.Type})
	}
	for _, k := range l.Keys {
		j.Keys = append(j.Keys, ValidationKey{k.Tag, uint8(k.Algorithm), k.EntryPoint()})
	}
	if l.Break != nil {
		j.Flaw = l.Break.Flaw
	}
	return j
}
