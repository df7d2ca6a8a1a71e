package data

import (
	"unquil/core/delegation"
	"unquil/core/exchange"
	"unquil/core/probe"
	"unquil/core/transfer"
	"unquil/core/wire"
)

// OfWalk returns a walk as JSON has it.
func OfWalk(w *delegation.Walk) any {
	type reply struct {
		Host    string  `json:"host"`
		Address string  `json:"address,omitempty"`
		Stance  string  `json:"stance"`
		Why     string  `json:"why,omitempty"`
		Serial  *uint32 `json:"serial,omitempty"`
		Shown   []int   `json:"exchanges,omitempty"`
	}
	type step struct {
		Zone     string   `json:"zone"`
		Question Question `json:"question"`
		RefersTo string   `json:"refers_to,omitempty"`
		Servers  []reply  `json:"servers"`
		Aside    []int    `json:"asked_beside,omitempty"`
		Spared   int      `json:"addresses_not_asked,omitempty"` // since a few of them will do
	}
	steps := []step{}
	for _, s := range w.Steps {
		j := step{Zone: s.Zone.String(), Question: OfQuestion(s.Question), RefersTo: s.Child.String(), Servers: []reply{}, Spared: s.Spared()}
		for _, r := range s.Replies {
			server := reply{Host: r.Host.String(), Stance: string(r.Stance), Why: r.Why}
			if r.Address.IsValid() {
				server.Address = r.Address.String()
			}
			if serial, ok := r.Serial(); ok {
				server.Serial = &serial
			}
			for _, e := range []*exchange.Exchange{r.Exchange, r.SOA} {
				if e != nil {
					server.Shown = append(server.Shown, e.Number)
				}
			}
			j.Servers = append(j.Servers, server)
		}
		for _, aside := range s.Extra {
			j.Aside = append(j.Aside, aside.Exchange.Number)
		}
		steps = append(steps, j)
	}
	result := map[string]any{
		"question": OfQuestion(w.Question), "end": w.End, "summary": w.Summary(), "steps": steps, "values": exchange.Values(w.Records),
		"known_after": w.Known.Seconds(), "took": w.Took.Seconds(), "resolver_needs": w.Resolver.Seconds(),
	}
	if w.Wildcard != nil {
		result["wildcard"] = map[string]any{"name": w.Wildcard.Name, "proven": w.Wildcard.Proven, "exchange": w.Wildcard.Exchange.Number}
	}
	if !w.Closest.IsZero() {
		result["nearest_existing"] = w.Closest
	}
	if w.Validation != nil {
		result["validation"] = ofValidation(w.Validation)
	}
	if p := w.Priming; p != nil {
		result["priming"] = map[string]any{"exchange": p.Exchange.Number, "servers": p.Listed, "unknown_to_hints": p.Unknown, "not_listed": p.Gone, "moved": p.Moved}
	}
	return result
}

// OfZone returns a zone's servers side by side as JSON has them.
func OfZone(z *probe.Zone) any {
	type server struct {
		Host          string  `json:"host"`
		Address       string  `json:"address"`
		Outcome       string  `json:"outcome"`
		Authoritative bool    `json:"authoritative"`
		Serial        *uint32 `json:"serial,omitempty"`
		TCP           bool    `json:"tcp"`
		EDNS          bool    `json:"edns"`
		Shown         []int   `json:"exchanges"`
		Unlisted      bool    `json:"unlisted,omitempty"`
		NSID          string  `json:"nsid,omitempty"`
		Recursion     *bool   `json:"recursion,omitempty"`
		Transfer      string  `json:"transfer,omitempty"`
		Expires       *uint32 `json:"expires_in,omitempty"`
	}
	names := func(all []wire.Name) []string {
		list := []string{}
		for _, n := range all {
			list = append(list, n.String())
		}
		return list
	}
	servers := []server{}
	for _, s := range z.States {
		j := server{
			Host: s.Host.String(), Address: s.Address.String(), Outcome: string(s.SOA.Outcome), Authoritative: s.Authoritative(),
			TCP: s.TCP.Reply != nil, EDNS: !s.SOA.EDNSIgnored && s.SOA.EDNSBroke == "",
			Shown: []int{s.SOA.Number, s.NS.Number, s.TCP.Number, s.Stranger.Number}, Unlisted: s.Unlisted, NSID: s.NSID(),
		}
		if is, known := s.Recursive(); known {
			j.Recursion = &is
		}
		if left, ok := s.Expires(); ok {
			j.Expires = &left
		}
		if t := s.Transfer; t != nil {
			j.Transfer = "given"
			if t.Err != nil {
				j.Transfer = t.Err.Error()
			}
			j.Shown = append(j.Shown, t.Exchange.Number)
		}
		if s.HasSerial {
			j.Serial = &s.Serial
		}
		servers = append(servers, j)
	}
	result := map[string]any{"zone": z.Zone.String(), "found": z.Found(), "servers": servers, "parent_lists": names(z.Parent.Hosts), "zone_lists": names(z.Hosts), "walk": OfWalk(z.Walk)}
	if z.Undelegated != nil {
		result["not_delegated_by"] = z.Undelegated.Parent
	}
	if z.Signing != nil {
		result["signing"] = ofSigning(z.Signing)
		keys := []any{}
		for _, k := range z.Signing.Servers() {
			keys = append(keys, map[string]any{"host": k.Host, "address": k.Address, "tags": k.Tags, "exchange": k.Exchange})
		}
		result["keys"] = keys
	}
	if z.Held != nil {
		list := []any{}
		for _, h := range z.Held {
			list = append(list, map[string]any{
				"host": h.State.Host, "address": h.State.Address, "file": h.Label, "whole": h.Whole, "asked": h.Sets, "not_asked": h.Left, "unanswered": h.Silent,
				"missing": h.Missing, "surplus": h.Surplus, "first_missing": h.Lacks, "first_surplus": h.Adds,
			})
		}
		result["against"] = list
	}
	if z.Known {
		result["soa"] = map[string]any{"mname": z.SOA.MName.String(), "rname": z.SOA.RName.String(), "serial": z.SOA.Serial, "refresh": z.SOA.Refresh, "retry": z.SOA.Retry, "expire": z.SOA.Expire, "minimum": z.SOA.Minimum}
	}
	return result
}

// OfTransfer returns a transfer as JSON has it; written is the file that holds it.
func OfTransfer(f *transfer.Fetched, written string) any {
	types := map[string]int{}
	for t, n := range f.ByType {
		types[t.String()] = n
	}
	result := map[string]any{
		"zone": f.Request.Zone.String(), "server": OfServer(f.Request.Server), "records": f.Records, "messages": f.Messages,
		"bytes": f.Bytes, "by_type": types, "took": f.Took.Seconds(), "complete": f.Err == nil,
	}
	if f.Kind != "" {
		result["kind"], result["serial"] = f.Kind, f.SOA.Serial
	}
	if f.Kind == transfer.Changes {
		result["removed"], result["added"] = f.Removed, f.Records-f.Removed
		changes := []any{}
		for _, c := range f.Changes {
			changes = append(changes, map[string]any{"removed": c.Removed, "serial": c.Serial, "record": c.Record})
		}
		result["first_changes"] = changes
	}
	if f.Err != nil {
		result["error"] = f.Err.Error()
	}
	if written != "" {
		result["file"] = written
	}
	if c := f.Compared; c != nil {
		result["against"] = ofCompared(c)
	}
	return result
}

func ofCompared(c *transfer.Compared) any {
	list := []any{}
	for _, d := range c.Shown {
		j := map[string]any{"record": d.Record, "only": "zone"}
		if d.Second {
			j["only"] = "other"
		}
		if d.Other != nil {
			delete(j, "only")
			j["other_ttl"] = d.Other.TTL
		}
		list = append(list, j)
	}
	result := map[string]any{"other": c.Label, "only_zone": c.Here, "only_other": c.There, "other_ttl": c.TTLs, "first_differences": list}
	if c.Err != nil {
		result["error"] = c.Err.Error()
	}
	return result
}
