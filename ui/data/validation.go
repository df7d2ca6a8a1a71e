package data

import (
	"time"

	"unquil/core/delegation"
	"unquil/core/dnssec"
	"unquil/core/probe"
	"unquil/core/signing"
)

// OfValidated returns what the signatures make of one answer as JSON has it.
func OfValidated(v *probe.Validated) any {
	out := map[string]any{"exchange": v.Exchange.Number, "signed_exchange": v.Signed.Number, "state": v.State, "claims_checked": v.Claims, "signatures_handed_on": !v.Unsigned, "validates": v.Checking(), "server": v.Exchange.Server.Name()}
	if !v.Zone.IsZero() {
		out["zone"] = v.Zone
	}
	if !v.Expires.IsZero() {
		out["expires"] = v.Expires
	}
	if b := v.Break; b != nil {
		out["flaw"] = ofBreak(b)
	}
	return out
}

// ofBreak returns where a chain of trust breaks.
func ofBreak(b *dnssec.Break) any {
	return map[string]any{"code": b.Flaw, "zone": b.Zone, "name": b.Owner, "type": b.Type.String(), "tag": b.Tag}
}

// ofSigning returns how a zone is signed as JSON has it.
func ofSigning(r *signing.Report) any {
	keys, stages := []any{}, []any{}
	for i := range r.Keys {
		k := &r.Keys[i]
		keys = append(keys, map[string]any{"tag": k.Tag, "algorithm": uint8(k.Algorithm), "bits": k.Bits, "purpose": k.Purpose(), "revoked": k.Revoked, "named_by_ds": k.Named,
			"given_by": r.Hosts(k.Given), "signs_keys_at": r.Hosts(k.SignsKeys), "signs_zone_at": r.Hosts(k.SignsZone)})
	}
	for _, s := range r.Stages {
		stages = append(stages, map[string]any{"stage": s.Name, "keys": s.Keys, "text": s.Text, "next": s.Next, "safe": s.Safe, "why_not": s.Unready})
	}
	out := map[string]any{"keys": keys, "rollover": stages, "nsec3": r.Hashed, "nsec3_iterations": r.Rounds, "nsec3_salted": r.Salted, "ds": r.Named, "ds_wanted": r.Wanted, "ds_removal_wanted": r.Removal}
	if !r.Ends.IsZero() {
		out["expires"], out["validity"] = r.Ends, r.Validity.Seconds()
	}
	return out
}

// ofValidation returns what signatures came to as JSON has it.
func ofValidation(v *delegation.Validation) any {
	type digest struct {
		Tag       uint16 `json:"tag"`
		Algorithm uint8  `json:"algorithm"`
		Type      uint8  `json:"digest_type"`
	}
	type key struct {
		Tag       uint16 `json:"tag"`
		Algorithm uint8  `json:"algorithm"`
		Entry     bool   `json:"entry_point"`
	}
	type link struct {
		Zone    string       `json:"zone"`
		State   dnssec.State `json:"state"`
		DS      []digest     `json:"ds"`
		Keys    []key        `json:"keys"`
		By      uint16       `json:"signed_by,omitempty"` // the tag of the key that signs the others
		Expires *time.Time   `json:"expires,omitempty"`
		Flaw    dnssec.Flaw  `json:"flaw,omitempty"`
		Seen    []int        `json:"exchanges"`
	}
	out := map[string]any{"state": v.State, "as_of": v.AsOf.UTC(), "answered": v.Answered}
	if !v.Zone.IsZero() {
		out["zone"] = v.Zone
	}
	if !v.Expires.IsZero() {
		out["expires"] = v.Expires
	}
	if b := v.Break; b != nil {
		out["flaw"] = ofBreak(b)
	}
	chain := []link{}
	for _, l := range v.Chain {
		j := link{Zone: l.Zone.String(), State: l.State, DS: []digest{}, Keys: []key{}, By: l.By, Seen: l.Seen}
		for _, d := range l.Digests {
			j.DS = append(j.DS, digest{d.Tag, uint8(d.Algorithm), d.Type})
		}
		for _, k := range l.Keys {
			j.Keys = append(j.Keys, key{k.Tag, uint8(k.Algorithm), k.EntryPoint()})
		}
		if l.Break != nil {
			j.Flaw = l.Break.Flaw
		}
		if !l.Expires.IsZero() {
			j.Expires = &l.Expires
		}
		if j.Seen == nil {
			j.Seen = []int{}
		}
		chain = append(chain, j)
	}
	out["chain"] = chain
	servers := []any{}
	for _, s := range v.Servers {
		servers = append(servers, map[string]any{"host": s.Reply.Host, "address": s.Reply.Address, "state": s.State, "expires": s.Expires})
	}
	out["servers_that_differ"] = servers
	return out
}
