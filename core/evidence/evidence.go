// Package evidence writes exchanges as a capture, and has the marks by which one that was
// written so is known when it is read back.
package evidence

import (
	"bytes"
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
	w     *capture.Writer
	run   []byte    // to be noted with the next packet; nil: the exchanges are not those of a run
	begun bool      // the run was noted
	rest  []account // of the run: of exchanges that are to be noted with the next packet
	// Beside are words for people about exchanges, by number: they stand with the first packet.
	Beside map[int]string
	// connections carry many exchanges: each goes on where the one before ended.
	connections map[[2]netip.AddrPort]*capture.Stream
}

// Mark begins the comment on every packet of evidence: read back, it is a DNS message
// whatever its port.
const Mark = "exchange "

// givenUp ends the remark on a question that its asker gave up: read back, it is
// not taken for one that the capture ended too soon for.
const givenUp = ": no reply came in time"

// Remark is the part of a comment that is for people: all of it, but for the note that
// evidence of a whole run has behind it.
func Remark(comment []byte) []byte {
	if bytes.HasPrefix(comment, []byte(Mark)) {
		comment, _, _ = bytes.Cut(comment, []byte{'\n'})
	}
	return comment
}

// GivenUp reports whether the comment on a question says that its asker gave it up.
func GivenUp(comment []byte) bool { return bytes.HasSuffix(Remark(comment), []byte(givenUp)) }

// New begins a capture. The error is that of w.
func New(w io.Writer) (*Writer, error) {
	writer, err := capture.NewWriter(w, capture.Ethernet)
	return &Writer{w: writer, connections: map[[2]netip.AddrPort]*capture.Stream{}}, err
}

// onWire is one message on the way.
type onWire struct {
	at       time.Time
	from, to netip.AddrPort
	data     []byte
	remark   string
	is       part
}

// Add writes all packets of one exchange: what was sent, what was believed and
// what was not. The error is that of the writer.
func (v *Writer) Add(e *exchange.Exchange) error { return v.add(e, nil) }

// add writes an exchange, and the account of it with its first packet.
func (v *Writer) add(e *exchange.Exchange, about *account) error {
	beside := v.Beside[e.Number]
	if beside != "" {
		beside = " (" + beside + ")"
	}
	for i := range e.Attempts {
		a := &e.Attempts[i]
		if !travelled(a) {
			continue
		}
		remark := fmt.Sprintf(Mark+"%d", e.Number)
		asked := remark + beside
		beside = ""
		if a.Reply == nil && e.Outcome == exchange.NoReply {
			asked += givenUp
		}
		packets := []onWire{{a.Sent, a.Local, e.Server.Address, a.Query, asked, part{e.Number, i, isQuery}}}
		for _, r := range a.Rejected {
			packets = append(packets, onWire{r.At, r.From, a.Local, r.Data, remark + ": not believed, " + r.Err.Error(), part{e.Number, i, isRejected}})
		}
		if a.Reply != nil {
			packets = append(packets, onWire{a.Received, e.Server.Address, a.Local, a.Reply, remark, part{e.Number, i, isReply}})
		}
		if err := v.write(a.Transport, packets, about); err != nil {
			return err
		}
		about = nil
	}
	return nil
}

// travelled reports whether an attempt left as a packet that can be written.
func travelled(a *exchange.Attempt) bool { return !a.Sent.IsZero() && a.Local.IsValid() }

func (v *Writer) write(over exchange.Transport, packets []onWire, about *account) error {
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
				p.remark += fmt.Sprintf("; it travelled over %s, and is written here in the clear", over)
			}
			frame = v.connection(packets[0].from, packets[0].to).Append(nil, p.from, wire.AppendFramed(nil, p.data))
		}
		if err := v.w.Packet(p.at, frame, v.comment(&p, about)); err != nil {
			return err
		}
		about = nil
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
