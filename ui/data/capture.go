package data

import (
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"unquil/core/conversation"
	"unquil/core/escape"
	"unquil/core/evidence"
	"unquil/core/exchange"
	"unquil/core/finding"
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

// Packet is a packet of a capture.
type Packet struct {
	Number   int             `json:"packet"`
	Link     int             `json:"link"` // type, as captures number them
	Size     int             `json:"size"` // bytes
	Hex      string          `json:"hex"`
	Layers   []PacketLayer   `json:"layers"`
	PartOf   []int           `json:"part_of"` // exchanges
	Time     *time.Time      `json:"time,omitempty"`
	Comment  string          `json:"comment,omitempty"`
	From     *End            `json:"from,omitempty"`
	To       *End            `json:"to,omitempty"`
	Reported string          `json:"reported_unreachable,omitempty"` // what an ICMP error says, and whose
	Broken   string          `json:"broken,omitempty"`               // why it could not be read to its end
	Holds    *DecodedMessage `json:"holds,omitempty"`
}

// PacketLayer is what one protocol has of a packet.
type PacketLayer struct {
	Name   string            `json:"name"`
	Offset *int              `json:"offset,omitempty"` // bytes
	Size   *int              `json:"size,omitempty"`
	Fields map[string]string `json:"fields"`
}

// OfLook returns a packet as JSON has it, and the numbers of the exchanges that it is a part of.
func OfLook(l *conversation.WholePacket, of []*exchange.Exchange) Packet {
	r := &l.Record
	out := Packet{Number: r.Number, Link: int(r.Link), Size: r.Length, Hex: hex.EncodeToString(r.Data), Layers: []PacketLayer{}, Time: momentOf(r.Time()),
		PartOf: each(of, func(e *exchange.Exchange) int { return e.Number })}
	for _, layer := range l.Layers {
		j := PacketLayer{Name: layer.Name, Fields: map[string]string{}}
		for _, f := range layer.Fields {
			j.Fields[strings.ReplaceAll(f[0], " ", "_")] = f[1]
		}
		if layer.Offset >= 0 {
			j.Offset, j.Size = &layer.Offset, &layer.Size
		}
		out.Layers = append(out.Layers, j)
	}
	if len(r.Comment) > 0 {
		out.Comment = string(escape.Of(string(evidence.Remark(r.Comment))))
	}
	if l.From.IsValid() {
		out.From, out.To = new(OfEnd(l.From)), new(OfEnd(l.To))
	}
	if l.Report != nil {
		out.Reported = l.Report.By.String() + " says: " + l.Report.Says
	}
	if l.Fault != nil {
		out.Broken = l.Fault.Error()
	}
	if l.Message != nil {
		m, broken := wire.ReadMessage(l.Message)
		pieces, _ := wire.Pieces(l.Message)
		out.Holds = OfMessage(l.Message, &m, pieces, broken)
		if l.At >= 0 {
			out.Holds.Offset = &l.At
		}
	}
	return out
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
