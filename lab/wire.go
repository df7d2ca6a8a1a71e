package lab

import (
	"bytes"
	"cmp"
	"context"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"unquil/core/capture"
	"unquil/core/wire"
)

// Wire is where the packets of DNS can be heard that the lab's own machine sends and gets, as at
// an interface of a real one. It keeps what nobody takes, up to a bound.
type Wire struct {
	now    func() time.Time
	mu     sync.Mutex
	frames []Frame
	kept   []Frame // of what was taken, for a capture
	lost   uint64
	came   chan struct{}
}

// Frame is an Ethernet frame that passed.
type Frame struct {
	At   time.Time
	Data []byte
	Sent bool // by the machine itself
}

// maxFrames is how many frames a wire keeps.
const maxFrames = 8192

// wirePorts are those whose packets are heard.
var wirePorts = []uint16{53, 853}

// Wire begins to keep what passes over the networks of the lab that are made from now on.
func (l *Lab) Wire() *Wire {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.wire == nil {
		l.wire = newWire(l.now)
	}
	return l.wire
}

func newWire(now func() time.Time) *Wire { return &Wire{now: now, came: make(chan struct{}, 1)} }

// rewritten is a message whose answers have another address.
func rewritten(data []byte, gives netip.Addr) []byte {
	m, err := wire.ReadMessage(data)
	if err != nil {
		return data
	}
	for i, r := range m.Answer {
		if r.Type == wire.A {
			m.Answer[i].Data = string(gives.AsSlice())
		}
	}
	if changed, err := m.Bytes(); err == nil {
		return changed
	}
	return data
}

// tapped is the wire, if there is one.
func (l *Lab) tapped() *Wire {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.wire
}

// Take returns the frames that passed since, and how many were lost before them in all. It waits
// for the first for no longer than it is told to.
func (w *Wire) Take(wait time.Duration) (frames []Frame, lost uint64) {
	timer := time.NewTimer(wait)
	defer timer.Stop()
	for {
		w.mu.Lock()
		frames, lost, w.frames = w.frames, w.lost, nil
		w.mu.Unlock()
		if len(frames) > 0 {
			return frames, lost
		}
		select {
		case <-w.came:
		case <-timer.C:
			return nil, lost
		}
	}
}

// Capture is what passed up to now, as a capture. It keeps what [Wire.Take] would have given.
func (w *Wire) Capture(context.Context) (*capture.Reader, error) {
	frames, lost := w.Take(time.Millisecond)
	w.mu.Lock()
	defer w.mu.Unlock()
	w.kept = append(w.kept, frames...)
	var file bytes.Buffer
	out, err := capture.NewWriter(&file, capture.Ethernet)
	for _, f := range w.kept {
		err = cmp.Or(err, out.Packet(f.At, f.Data, ""))
	}
	if err = cmp.Or(err, out.Statistics(0, 0, lost)); err != nil {
		return nil, err
	}
	return capture.NewReader(&file)
}

// passes keeps frames. A nil wire keeps none.
func (w *Wire) passes(sent bool, frames ...[]byte) {
	if w == nil {
		return
	}
	w.mu.Lock()
	for _, data := range frames {
		if len(w.frames) < maxFrames {
			w.frames = append(w.frames, Frame{w.now(), data, sent})
		} else {
			w.lost++
		}
	}
	w.mu.Unlock()
	select {
	case w.came <- struct{}{}:
	default:
	}
}

// datagram keeps a datagram, if it is one of DNS.
func (w *Wire) datagram(sent bool, from, to netip.AddrPort, payload []byte) {
	if w != nil && (slices.Contains(wirePorts, to.Port()) || slices.Contains(wirePorts, from.Port())) {
		w.passes(sent, capture.AppendFrame(nil, from, to, payload))
	}
}

// connection has the packets of a connection kept, if it is one for DNS.
func (w *Wire) connection(conn net.Conn, client, server netip.AddrPort) net.Conn {
	if w == nil || !slices.Contains(wirePorts, server.Port()) {
		return conn
	}
	t := &tappedConn{Conn: conn, wire: w, client: client, server: server, stream: capture.NewStream(client, server)}
	for i, frame := range t.stream.Open() {
		w.passes(i != 1, frame)
	}
	return t
}

// tappedConn is a connection whose packets are kept.
type tappedConn struct {
	net.Conn
	wire           *Wire
	client, server netip.AddrPort
	mu             sync.Mutex
	stream         *capture.Stream
	closed         bool
}

func (t *tappedConn) Write(b []byte) (int, error) {
	n, err := t.Conn.Write(b)
	t.passes(t.client, b[:n])
	return n, err
}

func (t *tappedConn) Read(b []byte) (int, error) {
	n, err := t.Conn.Read(b)
	t.passes(t.server, b[:n])
	return n, err
}

// segmentSize is how many bytes go into one packet.
const segmentSize = 1400

func (t *tappedConn) passes(from netip.AddrPort, data []byte) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for part := range slices.Chunk(data, segmentSize) {
		t.wire.passes(from == t.client, t.stream.Append(nil, from, part))
	}
}

func (t *tappedConn) Close() error {
	t.mu.Lock()
	if !t.closed {
		t.closed = true
		for i, frame := range t.stream.Close() {
			t.wire.passes(i == 0, frame)
		}
	}
	t.mu.Unlock()
	return t.Conn.Close()
}
