// Package evidence writes exchanges as a capture, and has the marks by which one that was
// written so is known when it is read back.
package evidence

import (
	"fmt"
	"io"
	"net/netip"
	"time"

	"unquil/core/capture"
	"unquil/core/exchange"
	"unquil/core/wire"
)

// Writer writes exchanges as a capture, packet by packet. What travelled
// encrypted is written in the clear, with a comment that says so.
type Writer struct {
	w *capture.Writer
	// connections carry many exchanges: each goes on where the one before ended.
	connections map[[2]netip.AddrPort]*capture.Stream
}

// Mark begins the comment on every packet of evidence: read back, it is a DNS message
// whatever its port.
const Mark = "exchange "

// GivenUp ends the comment on a question that its asker gave up: read back, it is
// not taken for one that the capture ended too soon for.
const GivenUp = ": no reply came in time"

// New begins a capture. The error is that of w.
func New(w io.Writer) (*Writer, error) {
	writer, err := capture.NewWriter(w, capture.Ethernet)
	return &Writer{writer, map[[2]netip.AddrPort]*capture.Stream{}}, err
}

// onWire is one message on the way.
type onWire struct {
	at       time.Time
	from, to netip.AddrPort
	data     []byte
	comment  string
}

// Add writes all packets of one exchange: what was sent, what was believed and
// what was not. The error is that of the writer.
func (v *Writer) Add(e *exchange.Exchange) error {
	for i := range e.Attempts {
		a := &e.Attempts[i]
		if a.Sent.IsZero() || !a.Local.IsValid() {
			continue // it never left
		}
		comment := fmt.Sprintf(Mark+"%d", e.Number)
		asked := comment
		if a.Reply == nil && e.Outcome == exchange.NoReply {
			asked += GivenUp
		}
		packets := []onWire{{a.Sent, a.Local, e.Server.Address, a.Query, asked}}
		for _, r := range a.Rejected {
			packets = append(packets, onWire{r.At, r.From, a.Local, r.Data, comment + ": not believed, " + r.Err.Error()})
		}
		if a.Reply != nil {
			packets = append(packets, onWire{a.Received, e.Server.Address, a.Local, a.Reply, comment})
		}
		if err := v.write(a.Transport, packets); err != nil {
			return err
		}
	}
	return nil
}

func (v *Writer) write(over exchange.Transport, packets []onWire) error {
	for _, p := range packets {
		var frame []byte
		switch over {
		case exchange.UDP:
			if p.from.Addr().Is4() != p.to.Addr().Is4() {
				continue
			}
			frame = capture.AppendFrame(nil, p.from, p.to, p.data)
		default:
			if over != exchange.TCP {
				p.comment += fmt.Sprintf("; it travelled over %s, and is written here in the clear", over)
			}
			frame = v.connection(packets[0].from, packets[0].to).Append(nil, p.from, wire.AppendFramed(nil, p.data))
		}
		if err := v.w.Packet(p.at, frame, p.comment); err != nil {
			return err
		}
	}
	return nil
}

// connection is the one between two ends; a client uses no port twice in a run but for it.
func (v *Writer) connection(client, server netip.AddrPort) *capture.Stream {
	ends := [2]netip.AddrPort{client, server}
	if v.connections[ends] == nil {
		v.connections[ends] = capture.NewStream(client, server)
	}
	return v.connections[ends]
}
