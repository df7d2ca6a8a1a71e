package evidence

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/netip"
	"slices"
	"time"

	"unquil/core/capture"
	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/wire"
)

// ErrNoRun says that a capture is not the evidence of a whole run, or no longer: packets of
// it are missing or were changed.
var ErrNoRun = errors.New("the capture is not the whole evidence of a run")

// part says what a packet is of an exchange.
type part struct {
	Of, Attempt int
	Is          string
}

// What a packet can be.
const (
	isQuery    = "query"
	isReply    = "reply"
	isRejected = "rejected"
)

// note is what evidence of a whole run holds beside a packet: behind the remark, in JSON.
type note struct {
	part
	Run       json.RawMessage `json:",omitempty"` // in the first packet: what the run was given
	Packets   int             `json:",omitempty"` // in the first packet: how many there are
	Exchanges []account       `json:",omitempty"`
}

// account is what packets do not tell of an exchange.
type account struct {
	Number       int
	Server       exchange.Server
	Name         wire.Name `json:",omitzero"`
	Type         wire.Type
	Class        wire.Class
	Begun, Ended int
	Outcome      exchange.Outcome    `json:",omitempty"`
	EDNSBroke    exchange.Outcome    `json:",omitempty"`
	EDNSIgnored  bool                `json:",omitempty"`
	Believed     int                 `json:",omitempty"` // the attempt whose reply it was, from 1; 0: none
	Err          *exchange.ErrorNote `json:",omitempty"`
	Attempts     []attempt           `json:",omitempty"`
}

// attempt is what packets do not tell of one.
type attempt struct {
	Transport exchange.Transport
	Sent      time.Time             `json:",omitzero"`
	Query     []byte                `json:",omitempty"` // where no packet has it
	Err       *exchange.ErrorNote   `json:",omitempty"`
	Rejected  []*exchange.ErrorNote `json:",omitempty"`
	Security  *exchange.Security    `json:",omitempty"`
	Travel    *travel               `json:",omitempty"` // in an account that stands alone
}

// maxNote is how long a note may be, in bytes: a comment holds 65,535.
const maxNote = 60_000

// AddAll writes exchanges. Those of a whole run it writes so that [ReadRun] gives them back
// as they are, and beside them what the run was given, as JSON; nil is no run. What does not
// fit is left out: the packets are evidence without it too. The error is that of the writer.
func (v *Writer) AddAll(exchanges []exchange.Exchange, given any) error {
	if given == nil {
		for i := range exchanges {
			if err := v.Add(&exchanges[i]); err != nil {
				return err
			}
		}
		return nil
	}
	run, err := json.Marshal(given)
	if err != nil {
		return fmt.Errorf("noting the run: %w", err)
	}
	first := note{Run: run}
	for i := range exchanges {
		e := &exchanges[i]
		if count := packetsOf(e); count > 0 {
			first.Packets += count
		} else {
			v.rest = append(v.rest, accountOf(e))
		}
	}
	if v.run, err = json.Marshal(first); err != nil {
		return fmt.Errorf("noting the run: %w", err)
	}
	for i := range exchanges {
		about := accountOf(&exchanges[i])
		if err := v.add(&exchanges[i], &about); err != nil {
			return err
		}
	}
	return nil
}

// packetsOf is how many packets an exchange is written as.
func packetsOf(e *exchange.Exchange) (count int) {
	for i := range e.Attempts {
		if a := &e.Attempts[i]; travelled(a) {
			count += 1 + len(a.Rejected)
			if a.Reply != nil {
				count++
			}
		}
	}
	return count
}

func accountOf(e *exchange.Exchange) account {
	c := account{Number: e.Number, Server: e.Server, Name: e.Question.Name, Type: e.Question.Type, Class: e.Question.Class, Begun: e.Begun, Ended: e.Ended,
		Outcome: e.Outcome, EDNSBroke: e.EDNSBroke, EDNSIgnored: e.EDNSIgnored, Err: exchange.NoteError(e.Err)}
	for i := range e.Attempts {
		a := &e.Attempts[i]
		if a == e.Last() && e.Reply != nil {
			c.Believed = i + 1
		}
		about := attempt{Transport: a.Transport, Err: exchange.NoteError(a.Err), Security: a.Security}
		for _, r := range a.Rejected {
			about.Rejected = append(about.Rejected, exchange.NoteError(r.Err))
		}
		if !travelled(a) {
			about.Sent, about.Query = a.Sent, a.Query
		}
		c.Attempts = append(c.Attempts, about)
	}
	return c
}

// comment is the comment on a packet: its remark, and in evidence of a run the note.
func (v *Writer) comment(p *onWire, about *account) string {
	if v.run == nil {
		return p.remark
	}
	var n note
	room := maxNote
	if !v.begun {
		json.Unmarshal(v.run, &n)
		v.begun, room = true, room-len(v.run)
	}
	n.part = p.is
	if about != nil {
		n.Exchanges = append(n.Exchanges, *about)
	}
	for len(v.rest) > 0 {
		size, _ := json.Marshal(v.rest[0])
		if room -= len(size) + 1; room < 0 {
			break
		}
		n.Exchanges, v.rest = append(n.Exchanges, v.rest[0]), v.rest[1:]
	}
	text, err := json.Marshal(n)
	if err != nil || len(text) > maxNote+1000 {
		return p.remark
	}
	return p.remark + "\n" + string(text)
}

// Bounds on what is read back as a run.
const (
	maxPackets = 100_000
	maxBytes   = 128 << 20 // of packets and notes together
)

// ReadRun reads the evidence of a whole run back: what the run was given, as JSON, and its
// exchanges by number. The error wraps ErrNoRun, or is that of reading.
func ReadRun(r *capture.Reader) (given json.RawMessage, exchanges []exchange.Exchange, err error) {
	in := incoming{accounts: map[int]*account{}, packets: map[part][]packet{}}
	for record, err := range r.Records() {
		if err != nil {
			return nil, nil, err
		}
		in.size += len(record.Data) + len(record.Comment)
		if in.count++; in.count > maxPackets || in.size > maxBytes || !in.take(record) {
			return nil, nil, ErrNoRun
		}
	}
	if in.count == 0 || in.count != in.want {
		return nil, nil, ErrNoRun
	}
	for _, number := range slices.Sorted(maps.Keys(in.accounts)) {
		e, err := in.exchange(in.accounts[number])
		if err != nil {
			return nil, nil, err
		}
		exchanges = append(exchanges, e)
	}
	return in.given, exchanges, nil
}

// incoming is evidence as it is read.
type incoming struct {
	given       json.RawMessage
	want, count int // packets
	size        int // bytes
	accounts    map[int]*account
	packets     map[part][]packet
	decoder     capture.Decoder
}

// packet is one of an exchange.
type packet struct {
	at       time.Time
	number   int
	from, to netip.AddrPort
	data     []byte
}

// take takes one packet, and reports whether it is one of a run.
func (in *incoming) take(r *capture.Record) bool {
	remark, text, _ := bytes.Cut(r.Comment, []byte{'\n'})
	var n note
	if !bytes.HasPrefix(remark, []byte(Mark)) || json.Unmarshal(text, &n) != nil || !shows(text) {
		return false
	}
	if in.count == 1 {
		in.given, in.want = n.Run, n.Packets
	}
	if in.given == nil {
		return false
	}
	for i := range n.Exchanges {
		in.accounts[n.Exchanges[i].Number] = &n.Exchanges[i]
	}
	var p capture.Packet
	contents := in.decoder.Decode(r, &p)
	data := p.Payload
	switch {
	case contents == capture.Datagram:
	case contents == capture.Segment && len(data) >= 2:
		data = data[2:]
	default:
		return false
	}
	in.packets[n.part] = append(in.packets[n.part], packet{r.Time(), r.Number, p.From.AddrPort(), p.To.AddrPort(), bytes.Clone(data)})
	return true
}

// shows reports whether every text in a note is one that is safe to show, as those that this
// program writes are: a file may come from anybody.
func shows(note []byte) bool {
	for d := json.NewDecoder(bytes.NewReader(note)); ; {
		token, err := d.Token()
		if err != nil {
			return err == io.EOF
		}
		if text, ok := token.(string); ok && string(escape.Of(text)) != text {
			return false
		}
	}
}

// exchange puts one together. The error wraps ErrNoRun.
func (in *incoming) exchange(c *account) (exchange.Exchange, error) {
	e := c.exchange()
	for i := range c.Attempts {
		about, a := &c.Attempts[i], &e.Attempts[i]
		asked, replied := in.packets[part{c.Number, i, isQuery}], in.packets[part{c.Number, i, isReply}]
		rejected := in.packets[part{c.Number, i, isRejected}]
		if len(asked) > 1 || len(replied) > 1 || len(rejected) != len(about.Rejected) {
			return e, ErrNoRun
		}
		for _, p := range asked {
			a.Local, a.Sent, a.Query, a.SentIn = p.from, p.at, p.data, p.number
		}
		for at, p := range rejected {
			a.Rejected = append(a.Rejected, exchange.Rejected{At: p.at, From: p.from, Data: p.data, Err: cmp.Or(about.Rejected[at].Err(), exchange.ErrWrongQuestion)})
		}
		for _, p := range replied {
			a.Reply, a.Received, a.ReceivedIn = p.data, p.at, p.number
		}
		e.Client = a.Local
	}
	return e, c.believe(&e)
}

// believe makes the reply that was believed that of the exchange, and says how it ended:
// with a reply, what that says. The error wraps ErrNoRun.
func (c *account) believe(e *exchange.Exchange) error {
	if c.Believed == 0 {
		switch c.Outcome {
		case "", exchange.NoReply, exchange.Unreachable, exchange.Rejection:
			e.Outcome = c.Outcome
			return nil
		}
		return ErrNoRun
	}
	if c.Believed < 0 || c.Believed > len(e.Attempts) {
		return ErrNoRun
	}
	reply, err := wire.ReadMessage(e.Attempts[c.Believed-1].Reply)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrNoRun, err)
	}
	e.Reply, e.Outcome = &reply, exchange.Judge(e.Question, &reply)
	e.Believe(c.Believed - 1)
	e.Client = e.Attempts[c.Believed-1].Local
	return nil
}
