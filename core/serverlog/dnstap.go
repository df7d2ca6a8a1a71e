package serverlog

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"
	"net/netip"
	"slices"

	"google.golang.org/protobuf/encoding/protowire"
)

// Kinds of messages in dnstap: those with odd numbers ask, and those with even ones reply.
var kinds = [...]string{"", "auth-query", "auth-response", "resolver-query", "resolver-response", "client-query", "client-response", "forwarder-query", "forwarder-response",
	"stub-query", "stub-response", "tool-query", "tool-response", "update-query", "update-response"}

// protocols are how dnstap numbers the ways: UDP, TCP, TLS, HTTPS, DNSCrypt over either, QUIC.
var protocols = [...]Over{UDP, UDP, TCP, TLS, HTTPS, UDP, TCP, QUIC}

// actions are what a policy did.
var actions = [...]string{"", "no-name", "no-data", "passed", "dropped", "truncated", "local data"}

// tap is one frame of dnstap.
type tap struct {
	identity, version       []byte
	kind, family, protocol  uint64
	asker, replier          []byte
	askerPort, replierPort  uint64
	askedSec, askedNano     uint64
	repliedSec, repliedNano uint64
	query, reply, zone      []byte
	policy, rule, value     []byte
	action                  uint64
	isMessage               bool
}

// field is a row of what is read of a message: where it goes to.
type field struct {
	bytes  func(t *tap) *[]byte
	number func(t *tap) *uint64
	within map[protowire.Number]field // of a message within
}

// fields are those of a frame, by their numbers.
var fields = map[protowire.Number]field{
	1:  {bytes: func(t *tap) *[]byte { return &t.identity }},
	2:  {bytes: func(t *tap) *[]byte { return &t.version }},
	14: {within: messageFields},
}

// messageFields are those of the message in it.
var messageFields = map[protowire.Number]field{
	1:  {number: func(t *tap) *uint64 { return &t.kind }},
	2:  {number: func(t *tap) *uint64 { return &t.family }},
	3:  {number: func(t *tap) *uint64 { return &t.protocol }},
	4:  {bytes: func(t *tap) *[]byte { return &t.asker }},
	5:  {bytes: func(t *tap) *[]byte { return &t.replier }},
	6:  {number: func(t *tap) *uint64 { return &t.askerPort }},
	7:  {number: func(t *tap) *uint64 { return &t.replierPort }},
	8:  {number: func(t *tap) *uint64 { return &t.askedSec }},
	9:  {number: func(t *tap) *uint64 { return &t.askedNano }},
	10: {bytes: func(t *tap) *[]byte { return &t.query }},
	11: {bytes: func(t *tap) *[]byte { return &t.zone }},
	12: {number: func(t *tap) *uint64 { return &t.repliedSec }},
	13: {number: func(t *tap) *uint64 { return &t.repliedNano }},
	14: {bytes: func(t *tap) *[]byte { return &t.reply }},
	15: {within: policyFields},
}

// policyFields are those of the policy that was applied.
var policyFields = map[protowire.Number]field{
	1: {bytes: func(t *tap) *[]byte { return &t.policy }},
	2: {bytes: func(t *tap) *[]byte { return &t.rule }},
	3: {number: func(t *tap) *uint64 { return &t.action }},
	5: {bytes: func(t *tap) *[]byte { return &t.value }},
}

// read reads the fields of data. It reports whether that could be read to its end.
func (t *tap) read(data []byte, rows map[protowire.Number]field) bool {
	for len(data) > 0 {
		number, kind, n := protowire.ConsumeTag(data)
		if n < 0 {
			return false
		}
		data = data[n:]
		row := rows[number]
		switch kind {
		case protowire.VarintType:
			v, n := protowire.ConsumeVarint(data)
			if n < 0 {
				return false
			}
			if row.number != nil {
				*row.number(t) = v
			}
			data = data[n:]
		case protowire.Fixed32Type:
			v, n := protowire.ConsumeFixed32(data)
			if n < 0 {
				return false
			}
			if row.number != nil {
				*row.number(t) = uint64(v)
			}
			data = data[n:]
		case protowire.BytesType:
			v, n := protowire.ConsumeBytes(data)
			switch {
			case n < 0:
				return false
			case row.bytes != nil:
				*row.bytes(t) = v
			case row.within != nil:
				if number == 14 {
					t.isMessage = true
				}
				if !t.read(v, row.within) {
					return false
				}
			}
			data = data[n:]
		default:
			n := protowire.ConsumeFieldValue(number, kind, data)
			if n < 0 {
				return false
			}
			data = data[n:]
		}
	}
	return true
}

// moment is a time in nanoseconds since 1970; 0 where it is none, or beyond what can be said.
func moment(seconds, nanos uint64) int64 {
	if seconds >= 1<<33 || nanos >= 1e9 {
		return 0
	}
	return int64(seconds)*1e9 + int64(nanos)
}

// Dnstap reads dnstap in Frame Streams.
type Dnstap struct {
	count  counted
	frames frames
	back   io.Writer // where the sender waits for answers; nil: it is a file
	begun  bool
	ended  bool
	asked  [2]map[asking][]uint16 // the ports of questions that are waiting; the second are those of longer ago
	sets   [8]recorded            // by kind
}

// recorded is what is known of the record of one kind of exchange.
type recorded struct {
	replies bool // some are recorded
	held    []Message
	first   int64
}

// asking is what ties a reply to its question. The client's port is none of it: some servers record with a reply the
// port that they used last.
type asking struct {
	kind   uint8
	id     uint16
	client netip.Addr
	server netip.AddrPort
}

// waits remembers a question.
func (d *Dnstap) waits(a asking, port uint16) {
	if len(d.asked[0]) >= maxAsked {
		d.asked[0], d.asked[1] = map[asking][]uint16{}, d.asked[0]
	}
	if ports := d.asked[0][a]; len(ports) < maxAlike {
		d.asked[0][a] = append(ports, port)
	}
}

// answered is the port of the question that a reply to a port answers: the same, or else the oldest; ok is false
// where none is remembered.
func (d *Dnstap) answered(a asking, port uint16) (from uint16, ok bool) {
	for _, questions := range d.asked {
		ports := questions[a]
		if len(ports) == 0 {
			continue
		}
		at := max(slices.Index(ports, port), 0)
		from = ports[at]
		if len(ports) == 1 {
			delete(questions, a)
		} else {
			questions[a] = slices.Delete(ports, at, at+1)
		}
		return from, true
	}
	return 0, false
}

// Bounds on what is remembered of questions.
const (
	maxAsked = 1 << 15
	maxAlike = 64
	maxHeld  = 1024
	maxWait  = int64(10e9) // nanoseconds of the record
)

// NewDnstap reads a file or stream. back takes what a sender that waits for answers has to be told; nil: nobody waits.
func NewDnstap(in io.Reader, back io.Writer) *Dnstap {
	d := &Dnstap{back: back, asked: [2]map[asking][]uint16{{}, {}}}
	d.count.in = in
	d.frames.in = bufio.NewReaderSize(&d.count, 64<<10)
	return d
}

// Offset is how many bytes have been read.
func (d *Dnstap) Offset() int64 { return d.count.n.Load() }

// Next is as [Source] says it.
func (d *Dnstap) Next(emit func(*Message)) error {
	if d.ended {
		return io.EOF
	}
	if !d.begun {
		if err := d.frames.begin(d.back); err != nil {
			d.ended = true
			return err
		}
		d.begun = true
	}
	begin := d.frames.offset
	data, control, err := d.frames.next()
	switch {
	case err == nil && control == 0 && data != nil:
		var t tap
		if !t.read(data, fields) {
			err = failure(begin, "frame", fmt.Errorf("what is in it cannot be read: %w", ErrDamaged))
			break
		}
		if t.isMessage && t.kind < uint64(len(kinds)) && t.kind > 0 {
			d.message(&t, emit)
		}
		return nil
	case err == nil && control == stop:
		if err = io.EOF; d.back != nil {
			if _, failed := d.back.Write(appendControl(nil, finish, false)); failed != nil {
				err = failed
			}
		}
	case err == nil:
		err = failure(begin, "control frame", ErrDamaged)
	}
	d.ended = true
	for i := range d.sets { // nothing came of these
		d.sets[i].release(true, emit)
	}
	return err
}

// release hands on the questions that were held back.
func (r *recorded) release(alone bool, emit func(*Message)) {
	for i := range r.held {
		r.held[i].Alone = alone
		emit(&r.held[i])
	}
	r.held = nil
}

// message hands on what one frame holds. A question is held back until it is known whether replies of its kind are
// recorded at all: nobody who does not record them can say that one was missing.
func (d *Dnstap) message(t *tap, emit func(*Message)) {
	client, server := alike(endOf(t.asker, t.askerPort), endOf(t.replier, t.replierPort))
	over := UDP
	if t.protocol < uint64(len(protocols)) {
		over = protocols[t.protocol]
	}
	kind := (t.kind + 1) / 2
	set := &d.sets[kind]
	question := Message{At: moment(t.askedSec, t.askedNano), From: client, To: server, Over: over, Data: t.query, Comment: t.comment()}
	if t.kind%2 == 1 {
		if len(t.query) < headerSize {
			return
		}
		d.waits(asking{uint8(kind), binary.BigEndian.Uint16(t.query), client.Addr(), server}, client.Port())
		if set.replies {
			emit(&question)
			return
		}
		if len(set.held) == 0 {
			set.first = question.At
		}
		question.Data = append([]byte(nil), t.query...)
		if set.held = append(set.held, question); len(set.held) == maxHeld || question.At-set.first > maxWait {
			set.release(true, emit)
		}
		return
	}
	if len(t.reply) < headerSize {
		return
	}
	if !set.replies {
		set.replies = true
		set.release(false, emit)
	}
	reply := Message{At: moment(t.repliedSec, t.repliedNano), From: server, To: client, Over: over, Data: t.reply, Comment: question.Comment}
	if port, ok := d.answered(asking{uint8(kind), binary.BigEndian.Uint16(t.reply), client.Addr(), server}, client.Port()); ok {
		reply.To = netip.AddrPortFrom(client.Addr(), port)
		emit(&reply)
		return
	}
	if len(question.Data) < headerSize {
		question.Data = questionFor(t.reply)
		question.Comment += "; its question is not recorded, and is put together from the reply"
	}
	if question.At == 0 {
		question.At = reply.At
	}
	if len(question.Data) > 0 {
		emit(&question)
	}
	emit(&reply)
}

// comment is what the server says of the message.
func (t *tap) comment() string {
	text := kinds[t.kind]
	if len(t.identity) > 0 {
		text += " of " + string(t.identity[:min(len(t.identity), 64)])
	}
	if zone := nameText(t.zone); zone != "" {
		text += ", zone " + zone
	}
	if len(t.policy) > 0 || t.action > 0 {
		text += ", policy"
		for _, part := range [][]byte{t.policy, t.rule, t.value} {
			if len(part) > 0 {
				text += " " + string(part[:min(len(part), 64)])
			}
		}
		if t.action > 0 && t.action < uint64(len(actions)) {
			text += ": " + actions[t.action]
		}
	}
	return "recorded by a server (" + text + ")"
}

// nameText is a name as it is in messages, in words; what cannot be read is left out.
func nameText(name []byte) (text string) {
	for len(name) > 0 && name[0] > 0 && name[0] < 64 && int(name[0]) < len(name) {
		text += string(name[1:1+name[0]]) + "."
		name = name[1+name[0]:]
	}
	return text
}

// DnstapWriter writes dnstap to a file.
type DnstapWriter struct {
	w        io.Writer
	identity string
	buf      []byte
}

// NewDnstapWriter writes the beginning. The error is that of w.
func NewDnstapWriter(w io.Writer, identity string) (*DnstapWriter, error) {
	_, err := w.Write(appendControl(nil, start, true))
	return &DnstapWriter{w: w, identity: identity}, err
}

// Kind is what a server does in an exchange that it records.
type Kind uint8

// The kinds that are written.
const (
	Resolver Kind = 3 // it asks other servers
	Client   Kind = 5 // it is asked
)

// Message writes a message, which is a reply or not. The error is that of the writer.
func (d *DnstapWriter) Message(m *Message, kind Kind, reply bool) error {
	client, server, number := m.From, m.To, uint64(kind)
	seconds, nanos, message := protowire.Number(8), protowire.Number(9), protowire.Number(10)
	if reply {
		client, server, number = m.To, m.From, number+1
		seconds, nanos, message = 12, 13, 14
	}
	var b []byte
	put := func(n protowire.Number, v uint64) {
		b = protowire.AppendVarint(protowire.AppendTag(b, n, protowire.VarintType), v)
	}
	text := func(n protowire.Number, v []byte) {
		b = protowire.AppendBytes(protowire.AppendTag(b, n, protowire.BytesType), v)
	}
	family := uint64(1)
	if client.Addr().Is6() {
		family = 2
	}
	put(1, number)
	put(2, family)
	put(3, uint64(map[Over]int{UDP: 1, TCP: 2, TLS: 3, HTTPS: 4, QUIC: 7}[m.Over]))
	text(4, client.Addr().AsSlice())
	text(5, server.Addr().AsSlice())
	put(6, uint64(client.Port()))
	put(7, uint64(server.Port()))
	put(seconds, uint64(m.At/1e9))
	b = protowire.AppendFixed32(protowire.AppendTag(b, nanos, protowire.Fixed32Type), uint32(m.At%1e9))
	text(message, m.Data)
	inner := b
	b = nil
	text(1, []byte(d.identity))
	text(14, inner)
	put(15, 1)
	d.buf = appendFrame(d.buf[:0], b)
	_, err := d.w.Write(d.buf)
	return err
}

// Close writes the end. The error is that of the writer.
func (d *DnstapWriter) Close() error {
	_, err := d.w.Write(appendControl(nil, stop, false))
	return err
}
