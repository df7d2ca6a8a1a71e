package data

import (
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"unquil/core/attest"
	"unquil/core/conversation"
	"unquil/core/delegation"
	"unquil/core/escape"
	"unquil/core/evidence"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/sequence"
	"unquil/core/wire"
)

// PairedExchange is an exchange of a capture, with what else is known of it.
type PairedExchange struct {
	Exchange
	Findings []finding.Code `json:"findings,omitempty"`             // that it is evidence of
	Before   int            `json:"asked_again_after,omitempty"`    // the exchange in which its client asked the same before, in vain
	After    int            `json:"asked_again_in,omitempty"`       // the exchange in which it asked again
	Half     int            `json:"other_half,omitempty"`           // of a pair of questions for A and AAAA
	Packets  []int          `json:"packets"`                        // all of its packets, by number
	Looped   bool           `json:"looped,omitempty"`               // the question's packet went round in a loop
	Other    int            `json:"differing_reply_in,omitempty"`   // the packet of another reply to the same question
	UnreadIn int            `json:"unread_reply_in,omitempty"`      // the packet of a reply that cannot be read
	Guesses  int            `json:"guesses,omitempty"`              // replies with an ID that nobody asked
	Parts    int            `json:"further_messages,omitempty"`     // of the reply to a zone transfer
	LastIn   int            `json:"last_message_in,omitempty"`      // the packet of the last of them
	Lasted   float64        `json:"last_message_after,omitempty"`   // seconds from the question to that
	Program  *Program       `json:"program,omitempty"`              // that asked, where that was seen
	Reported string         `json:"reported_unreachable,omitempty"` // what an ICMP error said, and whose
}

// OfPaired returns an exchange of a capture as JSON has it.
func OfPaired(e *exchange.Exchange, line conversation.Line) PairedExchange {
	return PairedExchange{
		Exchange: OfExchange(e), Findings: line.Codes, Before: line.Before.Number, After: line.After.Number, Half: line.Half.Number, Packets: line.Packets, Looped: line.Looped,
		Other: line.OtherIn, UnreadIn: line.UnreadIn, Guesses: line.Guesses, Parts: line.Parts, LastIn: line.LastIn, Lasted: line.Lasted.Seconds(), Reported: line.Forbidden,
	}
}

// OfLook returns a packet as JSON has it, and the numbers of the exchanges that it is a part of.
func OfLook(l *conversation.WholePacket, of []*exchange.Exchange) any {
	r := &l.Record
	layers := []any{}
	for _, layer := range l.Layers {
		fields := map[string]string{}
		for _, f := range layer.Fields {
			fields[strings.ReplaceAll(f[0], " ", "_")] = f[1]
		}
		j := map[string]any{"name": layer.Name, "fields": fields}
		if layer.Offset >= 0 {
			j["offset"], j["size"] = layer.Offset, layer.Size
		}
		layers = append(layers, j)
	}
	numbers := []int{}
	for _, e := range of {
		numbers = append(numbers, e.Number)
	}
	result := map[string]any{"packet": r.Number, "link": r.Link, "size": r.Length, "hex": hex.EncodeToString(r.Data), "layers": layers, "part_of": numbers}
	if at := r.Time(); !at.IsZero() {
		result["time"] = at
	}
	if len(r.Comment) > 0 {
		result["comment"] = string(escape.Of(string(evidence.Remark(r.Comment))))
	}
	if l.From.IsValid() {
		result["from"], result["to"] = OfEnd(l.From), OfEnd(l.To)
	}
	if l.Report != nil {
		result["reported_unreachable"] = l.Report.By.String() + " says: " + l.Report.Says
	}
	if l.Fault != nil {
		result["broken"] = l.Fault.Error()
	}
	if l.Message != nil {
		m, broken := wire.ReadMessage(l.Message)
		pieces, _ := wire.Pieces(l.Message)
		message := OfMessage(l.Message, &m, pieces, broken)
		if l.At >= 0 {
			message["offset"] = l.At
		}
		result["holds"] = message
	}
	return result
}

// ExchangeColumns are the columns of exchanges as CSV.
var ExchangeColumns = []string{"number", "time", "client", "client_port", "server", "server_port", "transport", "name", "type", "outcome", "took", "attempts", "values"}

// ExchangeRow is one exchange as CSV.
func ExchangeRow(e *exchange.Exchange) []string {
	took := ""
	if e.Reply != nil {
		took = fmt.Sprintf("%.6f", e.Took().Seconds())
	}
	return []string{fmt.Sprint(e.Number), e.Sent().Format(time.RFC3339Nano), e.Client.Addr().String(), fmt.Sprint(e.Client.Port()), e.Server.Address.Addr().String(), fmt.Sprint(e.Server.Address.Port()), string(e.Transport()),
		e.Question.Name.String(), e.Question.Type.String(), string(e.Outcome), took, fmt.Sprint(e.Sends()), strings.Join(exchange.Values(e.Answer().Records), "; ")}
}

// OfOverview returns what happened in a capture as JSON has it, with the table or
// list of one view.
func OfOverview(o *conversation.Overview, view string) any {
	clients, _ := o.Clients()
	servers, _ := o.Servers()
	result := map[string]any{
		"packets": o.Packets, "messages": o.Messages, "undecodable": o.Unreadable + o.Malformed, "fragments_missing": o.Incomplete, "gaps": o.Gaps, "lost": o.Lost,
		"captured_twice": o.Duplicates, "exchanges": o.Exchanges, "left_out": o.LeftOut, "outcomes": o.Outcomes, "clients": len(clients), "servers": len(servers),
		"unsolicited": o.Unsolicited, "not_paired": o.Dropped, "findings": o.Findings,
	}
	if o.Findings == nil {
		result["findings"] = []finding.Finding{}
	}
	if !o.First.IsZero() {
		result["first"], result["last"] = o.First, o.Last
		if o.AbsurdTimes() {
			result["times_absurd"] = true
		}
	}
	if len(o.Encrypted) > 0 {
		list := []any{}
		for _, e := range o.Encrypted {
			j := map[string]any{"client": OfEnd(e.Client), "server": OfEnd(e.Server), "over": e.Over, "packets": e.Packets, "lasted": time.Duration(e.Last - e.First).Seconds()}
			if e.Host != "" {
				j["host"] = e.Host
			}
			if e.Handshake > 0 {
				j["first_reply_after"] = e.Handshake.Seconds()
			}
			list = append(list, j)
		}
		result["encrypted"] = list
	}
	if s := o.Signed; s != nil {
		names := map[attest.State][]wire.Name{}
		for _, state := range attest.States {
			names[state] = append([]wire.Name{}, s.Of(state)...)
		}
		result["signatures"] = map[string]any{"sets": s.Sets, "names": names, "keys_missing_of": append([]wire.Name{}, s.Without...), "not_looked_at": s.Left}
	}
	if f := captureViews[view]; f != nil {
		result[strings.ReplaceAll(view, "-", "_")] = f(o)
	}
	return result
}

// captureViews are the views that are more than the exchanges themselves.
var captureViews = map[string]func(o *conversation.Overview) any{
	"names":    func(o *conversation.Overview) any { return ofRows(o.Names()) },
	"servers":  func(o *conversation.Overview) any { return ofRows(o.Servers()) },
	"clients":  func(o *conversation.Overview) any { return ofRows(o.Clients()) },
	"episodes": ofEpisodes, "walks": ofPaths, "local-link": ofLocalLink, "timeline": ofTimeline,
}

func ofRows(rows []conversation.Row, uncounted int) any {
	list := []any{}
	for _, r := range rows {
		s := r.Stat
		j := map[string]any{"key": r.Key, "exchanges": s.Exchanges, "failed": s.Failed, "no_name": s.NoName, "unanswered": s.Unanswered, "peers": s.Peers(), "cache": s.HasCache()}
		if s.Latency.Count() > 0 {
			j["median"], j["p95"], j["longest"] = s.Latency.Quantile(50).Seconds(), s.Latency.Quantile(95).Seconds(), s.Latency.Max.Seconds()
			j["estimated"] = !s.Latency.Exact()
		}
		if r.Host != "" {
			j["host"] = r.Host
		}
		list = append(list, j)
	}
	return map[string]any{"rows": list, "exchanges_not_counted": uncounted}
}

func ofEpisodes(o *conversation.Overview) any {
	list := []any{}
	for _, p := range sequence.Episodes(o.Kept) {
		asked := []any{}
		for _, a := range p.Asked {
			asked = append(asked, map[string]any{"exchange": a.Exchange.Number, "depth": a.Depth})
		}
		list = append(list, map[string]any{"client": p.Client, "begins": p.Begins, "took": p.Took.Seconds(), "failed": p.Failed, "asked": asked})
	}
	return list
}

func ofPaths(o *conversation.Overview) any {
	list := []any{}
	for _, p := range sequence.ResolverWalks(o.Kept, delegation.PublishedAddresses()) {
		steps := []any{}
		for _, s := range p.Steps {
			j := map[string]any{"exchange": s.Exchange.Number}
			if !s.Zone.IsZero() {
				j["zone"] = s.Zone
			}
			steps = append(steps, j)
		}
		j := map[string]any{"resolver": p.Resolver, "question": OfQuestion(p.Question), "begins": p.Begins, "took": p.Took.Seconds(), "ended": p.Ended(), "steps": steps}
		if p.Asked != nil {
			j["for_exchange"] = p.Asked.Number
		}
		list = append(list, j)
	}
	return list
}

func ofLocalLink(o *conversation.Overview) any {
	list := []any{}
	for _, n := range o.LocalLink.Names() {
		claims := []any{}
		for _, c := range n.Claims {
			claims = append(claims, map[string]any{"host": c.Host, "values": c.Values, "alone": c.Unique, "packet": c.Packet, "times": c.Times})
		}
		list = append(list, map[string]any{"name": n.Name, "asked": n.Asked, "askers": n.Askers, "claims": claims})
	}
	return list
}

func ofTimeline(o *conversation.Overview) any {
	slots := []any{}
	for _, s := range o.Timeline.Slots {
		slots = append(slots, map[string]any{"asked": s.Asked, "failed": s.Failed, "no_name": s.NoName})
	}
	return map[string]any{"begins": time.Unix(0, o.Timeline.Begins).UTC(), "slot": o.Timeline.Width.Seconds(), "slots": slots}
}
