package live

import (
	"context"
	"encoding/binary"
	"net/netip"
	"sync"

	"unquil/core/capture"
)

// Owners notes whose questions pass: of which process the socket is that one was sent from. It
// looks while the socket is open, which is no longer than the question is; so what it says is
// right, and it does not know of every question. A nil one knows of none.
type Owners struct {
	Finder Finder

	mu    sync.Mutex
	asked map[question]*Program
	order []question
}

// question is what a message that passed is told by.
type question struct {
	from netip.AddrPort
	id   uint16
	tcp  bool
}

// maxOwned is how many questions are remembered with whose they are.
const maxOwned = 1 << 16

// Of is whose a question is; nil where that is not known.
func (o *Owners) Of(from netip.AddrPort, id uint16, tcp bool) *Program {
	if o == nil {
		return nil
	}
	if tcp {
		id = 0 // of a connection all messages are one program's
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.asked[question{from, id, tcp}]
}

// Follow takes the questions that a tap hears, until ctx ends or the tap does. The tap is one
// that was opened for Questions.
func (o *Owners) Follow(ctx context.Context, tap Tap) {
	var decoder capture.Decoder
	for ctx.Err() == nil {
		err := tap.Receive(everyTick, func(p *Packet) {
			var packet capture.Packet
			switch decoder.Decode(&p.Record, &packet) {
			case capture.Datagram:
				if len(packet.Payload) >= 2 {
					o.see(question{packet.From.AddrPort(), binary.BigEndian.Uint16(packet.Payload), false})
				}
			case capture.Segment:
				o.see(question{packet.From.AddrPort(), 0, true})
			}
		})
		if err != nil {
			return
		}
	}
}

// see looks whose a question is that was just sent.
func (o *Owners) see(q question) {
	if q.tcp && o.Of(q.from, 0, true) != nil {
		return // a connection that is known
	}
	program := o.Finder.Owner(q.from, q.tcp)
	if program == nil {
		return
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.asked == nil {
		o.asked = map[question]*Program{}
	}
	if o.asked[q] == nil {
		if len(o.order) >= maxOwned {
			delete(o.asked, o.order[0])
			o.order = o.order[1:]
		}
		o.order = append(o.order, q)
	}
	o.asked[q] = program
}
