package live

import (
	"bytes"
	"context"
	"io"
	"slices"
	"sync/atomic"
	"time"

	"unquil/core/capture"
)

// Bounds on what waits for those who judge what was heard, and for those who write it.
const (
	batchSize  = 256 << 10 // bytes of a capture that are handed on at once
	maxWaiting = 128       // batches: 32 MB
	everyTick  = 250 * time.Millisecond
	// settling is how long a packet may be under way to this program: what a tap had not handed
	// over by then had not passed.
	settling = 100 * time.Millisecond
)

// Listening is one tap that is listened to. Make it with [Listen], and call Run.
type Listening struct {
	tap    Tap
	now    func() time.Time
	judged follower
	kept   follower
	writer *capture.Writer
	batch  bytes.Buffer
	said   int // interfaces that were described
	count  int // packets in the batch
	last   time.Time

	heard, lost atomic.Uint64
	met         atomic.Pointer[[]Interface]
}

// follower is somebody to whom batches go, as parts of one capture.
type follower struct {
	queue  chan []byte
	wanted bool
	owed   []byte // descriptions of interfaces that were in batches which it did not get
	late   []byte // batches that found no room: small ones are many before they are much
	behind int    // packets in them
	rest   []byte // of the batch that is being read
	missed atomic.Uint64
}

// Listen prepares to listen to a tap. kept says that what is heard is written too, by
// [Listening.Kept]. now is the time by which packets are stamped.
func Listen(tap Tap, now func() time.Time, kept bool) (*Listening, error) {
	l := &Listening{tap: tap, now: now}
	l.judged = follower{queue: make(chan []byte, maxWaiting), wanted: true}
	l.kept = follower{queue: make(chan []byte, maxWaiting), wanted: kept}
	var err error
	if l.writer, err = capture.NewSection(&l.batch); err != nil {
		return nil, err
	}
	l.describe()
	l.handOn(&l.judged, &l.kept)
	return l, nil
}

// Judged is what is heard as a capture, for those who judge it: with it come the times up to
// which there was listening. It ends with the listening.
func (l *Listening) Judged() io.Reader { return &l.judged }

// Kept is what is heard as batches of a capture, for those who write it: each is a number of
// whole blocks. The first describes the interfaces; a later one that begins with descriptions
// says so by descriptions, how many bytes these are. It ends with the listening.
func (l *Listening) Kept() <-chan []byte { return l.kept.queue }

// Interfaces are those that were met so far.
func (l *Listening) Interfaces() []Interface {
	if met := l.met.Load(); met != nil {
		return *met
	}
	return nil
}

// Heard is how many packets were heard, and how many of them and of those before were not
// judged and not written because that took too long. The system's own losses are among lost.
func (l *Listening) Heard() (heard, lost, unjudged, unkept uint64) {
	return l.heard.Load(), l.lost.Load(), l.judged.missed.Load(), l.kept.missed.Load()
}

// Run listens until ctx ends or the tap does, and hands on what is heard. The error is that of
// the tap.
func (l *Listening) Run(ctx context.Context) error {
	defer l.judged.end()
	defer l.kept.end()
	var err error
	for err == nil && ctx.Err() == nil {
		err = l.tap.Receive(everyTick, l.take)
		l.handOn(&l.judged, &l.kept)
		if now := l.now(); now.Sub(l.last) >= everyTick {
			l.last = now
			l.tick(now.Add(-settling), &l.judged)
		}
	}
	// What passed before the end may still be under way.
	for end := l.now().Add(settling); err == nil && l.now().Before(end); {
		err = l.tap.Receive(settling/4, l.take)
		l.handOn(&l.judged, &l.kept)
	}
	l.tick(l.now(), &l.judged, &l.kept)
	return err
}

// take adds a packet to the batch.
func (l *Listening) take(p *Packet) {
	l.describe()
	l.heard.Add(1)
	l.count++
	if p.Link == capture.Served {
		l.writer.Record(&p.Record, "") // as a packet that might have carried it
	} else {
		l.writer.Passed(p.Interface, &p.Record, p.Way) // to memory, which does not fail
	}
	if l.batch.Len() >= batchSize {
		l.handOn(&l.judged, &l.kept)
	}
}

// describe adds the descriptions of interfaces that are new. They stand at the beginning of a
// batch.
func (l *Listening) describe() {
	met := l.tap.Interfaces()
	if l.said == len(met) {
		return
	}
	l.handOn(&l.judged, &l.kept)
	for _, i := range met[l.said:] {
		l.writer.Interface(i.Link, i.Name)
	}
	l.said = len(met)
	all := slices.Clone(met)
	l.met.Store(&all)
	descriptions := bytes.Clone(l.batch.Bytes())
	l.judged.owed, l.kept.owed = append(l.judged.owed, descriptions...), append(l.kept.owed, descriptions...)
	l.batch.Reset()
}

// tick says up to when there was listening, and what was lost by then.
func (l *Listening) tick(at time.Time, to ...*follower) {
	if lost, err := l.tap.Lost(); err == nil {
		l.lost.Store(lost)
	}
	if l.said == 0 {
		return // there is no interface that it could be said of
	}
	for _, f := range to {
		l.batch.Reset()
		l.writer.Statistics(0, at.UnixNano(), l.lost.Load()+f.missed.Load())
		l.handOn(f)
	}
	l.batch.Reset()
}

// handOn gives the batch to some, as far as they have room for it, and begins another.
func (l *Listening) handOn(to ...*follower) {
	for _, f := range to {
		f.offer(l.batch.Bytes(), l.count)
	}
	l.batch.Reset()
	l.count = 0
}

// offer gives somebody a batch, and before it what was late. Where too many wait already, it is late itself unless
// too much is.
func (f *follower) offer(batch []byte, packets int) {
	if !f.wanted {
		return
	}
	if len(f.late) > 0 && f.send(f.late) {
		f.late, f.behind = nil, 0
	}
	switch {
	case len(batch)+len(f.owed) == 0:
	case len(f.late) == 0 && f.send(slices.Concat(f.owed, batch)):
		f.owed = nil
	case len(f.owed) == 0 && len(f.late)+len(batch) <= batchSize: // descriptions begin a batch
		f.late = append(f.late, batch...)
		f.behind += packets
	default:
		f.missed.Add(uint64(packets))
	}
}

// send hands a batch over if there is room for it.
func (f *follower) send(batch []byte) bool {
	select {
	case f.queue <- batch:
		return true
	default:
		return false
	}
}

// end says that no more comes. What is late by then is missed, if there is no room for it.
func (f *follower) end() {
	f.offer(nil, 0)
	f.missed.Add(uint64(f.behind))
	close(f.queue)
}

// Read reads what came as one capture, which it waits for.
func (f *follower) Read(b []byte) (int, error) {
	for len(f.rest) == 0 {
		batch, more := <-f.queue
		if !more {
			return 0, io.EOF
		}
		f.rest = batch
	}
	n := copy(b, f.rest)
	f.rest = f.rest[n:]
	return n, nil
}
