package capture

import (
	"encoding/binary"
)

// Bounds on what TCP streams hold.
const (
	maxFlows   = 4096
	maxAhead   = 64        // segments of one flow that came before their turn
	maxBacklog = 256 << 10 // bytes of them
	maxHeld    = 32 << 20  // bytes of all flows together: beyond them the one used least lately is given up
)

// flowKey is one direction of a connection.
type flowKey struct{ from, to Endpoint }

// flow is one direction of a TCP connection.
type flow struct {
	key       flowKey
	next      uint32 // the sequence number that is due
	known     bool   // whether next is
	aligned   bool   // whether the data begins at a message
	data      []byte // the beginning of a message that is not whole
	ahead     []segment
	backlog   int
	previous  *flow // a ring by use
	following *flow
}

// segment is data that came before its turn.
type segment struct {
	seq  uint32
	data []byte
	at   Packet
}

// Streams puts TCP segments together to DNS messages, which stand behind a length
// each (RFC 1035 §4.2.2). What is missing is skipped to the next message that can
// be told. Make one with [NewStreams].
type Streams struct {
	// Message is called with each message: the packet's Payload is the message
	// alone, and its number and time are those of the packet that it ended in.
	Message func(*Packet)
	// Gaps counts places where segments were missing.
	Gaps int

	flows map[flowKey]*flow
	ring  flow
	held  int // bytes that wait in all flows
}

// NewStreams returns streams that hand their messages to message.
func NewStreams(message func(*Packet)) *Streams {
	s := &Streams{Message: message, flows: map[flowKey]*flow{}}
	s.ring.following, s.ring.previous = &s.ring, &s.ring
	return s
}

// size is how many bytes wait in a flow.
func (f *flow) size() int { return len(f.data) + f.backlog }

// Segment takes one segment in.
func (s *Streams) Segment(p *Packet) {
	k := flowKey{p.From, p.To}
	f := s.flows[k]
	if f == nil {
		if len(p.Payload) == 0 && p.Flags&SYN == 0 {
			return
		}
		f = s.open(k)
	} else {
		s.touch(f)
	}
	before := f.size()
	defer func() {
		if s.flows[k] == f { // what a closed flow held is no more
			s.held += f.size() - before
		}
		for s.held > maxHeld && s.ring.following != &s.ring {
			s.Gaps++
			s.close(s.ring.following)
		}
	}()
	seq := p.Seq
	if p.Flags&SYN != 0 {
		*f = flow{key: f.key, data: f.data[:0], ahead: f.ahead[:0], previous: f.previous, following: f.following, next: seq + 1, known: true, aligned: true}
		seq++
	}
	if len(p.Payload) > 0 {
		if !f.known {
			f.next, f.known = seq, true // the beginning is missing
		}
		s.take(f, seq, p.Payload, p)
		for s.catchUp(f) {
		}
	}
	if p.Flags&(FIN|RST) != 0 {
		for len(f.ahead) > 0 {
			s.skip(f)
		}
		s.held += f.size() - before
		s.close(f)
	}
}

// take is data with its sequence number: what is old is cut off, what is early waits.
func (s *Streams) take(f *flow, seq uint32, data []byte, p *Packet) {
	late := int32(f.next - seq)
	switch {
	case late > 0:
		if int(late) >= len(data) {
			return // sent again
		}
		data = data[late:]
	case late < 0:
		if f.backlog+len(data) > maxBacklog || len(f.ahead) == maxAhead {
			s.skip(f)
			s.take(f, seq, data, p)
			return
		}
		f.ahead = append(f.ahead, segment{seq, append([]byte(nil), data...), *p})
		f.backlog += len(data)
		return
	}
	f.next += uint32(len(data))
	s.consume(f, data, p)
}

// catchUp takes a waiting segment whose turn has come, and reports whether there was one.
func (s *Streams) catchUp(f *flow) bool {
	for i, w := range f.ahead {
		if int32(f.next-w.seq) >= 0 {
			f.ahead = append(f.ahead[:i], f.ahead[i+1:]...)
			f.backlog -= len(w.data)
			s.take(f, w.seq, w.data, &w.at)
			return true
		}
	}
	return false
}

// skip goes on after a gap that nothing will fill.
func (s *Streams) skip(f *flow) {
	if len(f.ahead) == 0 {
		return
	}
	first := 0
	for i, w := range f.ahead {
		if int32(w.seq-f.ahead[first].seq) < 0 {
			first = i
		}
	}
	s.Gaps++
	f.next, f.aligned, f.data = f.ahead[first].seq, false, f.data[:0]
	for s.catchUp(f) {
	}
}

// consume cuts the stream into messages. data is good until it returns.
func (s *Streams) consume(f *flow, data []byte, p *Packet) {
	if !f.aligned {
		// A message most likely begins where a segment does; if not, the next may.
		if !plausible(data) {
			return
		}
		f.aligned = true
	}
	if len(f.data) > 0 {
		need := 2
		if len(f.data) >= 2 {
			need += int(binary.BigEndian.Uint16(f.data))
		}
		for len(f.data) < need && len(data) > 0 {
			n := min(need-len(f.data), len(data))
			f.data, data = append(f.data, data[:n]...), data[n:]
			if len(f.data) == 2 {
				need += int(binary.BigEndian.Uint16(f.data))
			}
		}
		if len(f.data) < 2 || len(f.data) < need {
			return
		}
		s.emit(f.data[2:], p)
		f.data = f.data[:0]
	}
	for len(data) >= 2 {
		size := 2 + int(binary.BigEndian.Uint16(data))
		if len(data) < size {
			break
		}
		s.emit(data[2:size], p)
		data = data[size:]
	}
	f.data = append(f.data, data...)
}

// plausible reports whether data looks like the beginning of a DNS message behind
// its length.
func plausible(data []byte) bool {
	if len(data) < 14 {
		return false
	}
	size := int(binary.BigEndian.Uint16(data))
	questions, answers := binary.BigEndian.Uint16(data[6:]), binary.BigEndian.Uint16(data[8:])
	opcode, zero := data[4]>>3&15, data[5]&0x40
	return size >= 12 && questions <= 1 && answers < 4096 && opcode <= 6 && zero == 0 && (questions == 1 || data[4]&0x80 != 0)
}

func (s *Streams) emit(message []byte, p *Packet) {
	whole := *p
	whole.Payload, whole.Cut = message, false
	s.Message(&whole)
}

func (s *Streams) open(k flowKey) *flow {
	if len(s.flows) == maxFlows {
		s.close(s.ring.following)
	}
	f := &flow{key: k}
	s.flows[k] = f
	f.previous, f.following = s.ring.previous, &s.ring
	f.previous.following, f.following.previous = f, f
	return f
}

func (s *Streams) touch(f *flow) {
	f.previous.following, f.following.previous = f.following, f.previous
	f.previous, f.following = s.ring.previous, &s.ring
	f.previous.following, f.following.previous = f, f
}

func (s *Streams) close(f *flow) {
	s.held -= f.size()
	delete(s.flows, f.key)
	f.previous.following, f.following.previous = f.following, f.previous
}

// Close takes what still waits behind gaps.
func (s *Streams) Close() {
	for s.ring.following != &s.ring {
		f := s.ring.following
		size := f.size()
		for len(f.ahead) > 0 {
			s.skip(f)
		}
		s.held += f.size() - size
		s.close(f)
	}
}
