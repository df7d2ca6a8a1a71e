package conversation

import (
	"io"
	"slices"
	"strings"

	"unquil/core/capture"
)

// PacketSelection are the packets of chosen exchanges, to be written or looked at in a
// second reading of the same files.
type PacketSelection struct {
	Exchanges int // how many they are

	packets  numbers
	flows    map[[2]capture.Endpoint]bool
	comments map[int]string
}

// Bounds on what a choice of packets remembers beside their numbers.
const (
	maxPickedFlows = 1 << 16
	maxComments    = 1 << 17
)

// Add takes the packets of one exchange.
func (k *PacketSelection) Add(p *Transaction) {
	k.Exchanges++
	all := p.Packets()
	for _, n := range all {
		k.packets.add(n)
	}
	if k.flows == nil {
		k.flows, k.comments = map[[2]capture.Endpoint]bool{}, map[int]string{}
	}
	if p.tcp && len(k.flows) < maxPickedFlows {
		client, server := p.Client(), p.Server()
		k.flows[[2]capture.Endpoint{client, server}], k.flows[[2]capture.Endpoint{server, client}] = true, true
	}
	if len(p.Codes) > 0 && len(k.comments) < maxComments {
		var words []string
		for _, code := range p.Codes {
			if !slices.Contains(words, string(code)) {
				words = append(words, string(code))
			}
		}
		k.comments[all[0]] = strings.Join(words, ", ")
	}
}

// note puts words about an exchange into the comment of its first packet.
func (k *PacketSelection) note(p *Transaction, words string) {
	if words == "" {
		return
	}
	first := p.Packets()[0]
	if found := k.comments[first]; found != "" {
		words += " (" + found + ")"
	}
	k.comments[first] = "note: " + words
}

// complete finds what belongs to the packets too: the segments of their TCP
// connections, and the fragments that their datagrams came in.
func (k *PacketSelection) complete(readers []*capture.Reader, each func(r *capture.Record)) error {
	var number int
	var decoder capture.Decoder
	decoder.Whole = func(parts []int) {
		if k.packets.has(number) {
			for _, n := range parts {
				k.packets.add(n)
			}
		}
	}
	var p capture.Packet
	for record, err := range capture.Merge(readers) {
		if err != nil {
			return err
		}
		number = record.Number
		if decoder.Decode(record, &p) == capture.Segment && k.flows[[2]capture.Endpoint{p.From, p.To}] {
			k.packets.add(number)
		}
		if each != nil {
			each(record)
		}
	}
	return nil
}

// Write writes the packets to a capture, with what is remarkable about their
// exchanges as comments. open opens the files anew, each time it is called. It
// returns how many packets were written.
func (k *PacketSelection) Write(w io.Writer, open func() ([]*capture.Reader, error)) (written int, err error) {
	readers, err := open()
	if err != nil {
		return 0, err
	}
	if err := k.complete(readers, nil); err != nil {
		return 0, err
	}
	if readers, err = open(); err != nil {
		return 0, err
	}
	out, err := capture.NewWriter(w, capture.Ethernet)
	if err != nil {
		return 0, err
	}
	for record, err := range capture.Merge(readers) {
		if err != nil {
			return written, err
		}
		if !k.packets.has(record.Number) {
			continue
		}
		written++
		if err := out.Record(record, k.comments[record.Number]); err != nil {
			return written, err
		}
	}
	return written, nil
}
