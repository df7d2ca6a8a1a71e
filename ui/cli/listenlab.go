package cli

import (
	"iter"
	"time"

	"unquil/core/capture"
	"unquil/core/live"
	"unquil/lab"
)

// labTap hears the lab's wire, and what the morning's capture says passed there: its packets
// come by the clock of the lab.
type labTap struct {
	lab    *lab.Lab
	wire   *lab.Wire
	next   func() (*capture.Record, error, bool) // of the morning; nil: nothing more
	end    func()
	due    *capture.Record // what it gave last
	before uint64          // that had been lost when it began
	lost   uint64
}

// wireName is what the interface is called.
const wireName = "lab0"

// morning is the capture that is played again.
const morning = "valley-morning.pcapng"

// newLabTap begins to listen to the wire of a lab. alone says that nothing passes but what is
// asked in it.
func newLabTap(l *lab.Lab, alone bool) (*labTap, error) {
	t := &labTap{lab: l, wire: l.Wire()}
	_, t.before = t.wire.Take(0) // what passed before is none of this listening's
	if alone {
		return t, nil
	}
	file, err := lab.Captures().Open(morning)
	if err != nil {
		return nil, err
	}
	reader, err := capture.NewReader(file)
	if err != nil {
		return nil, err
	}
	t.next, t.end = iter.Pull2(reader.Records())
	t.advance()
	return t, nil
}

// advance takes the next packet of the morning.
func (t *labTap) advance() {
	record, err, more := t.next()
	if t.due = record; !more || err != nil {
		t.next = nil
	}
}

func (t *labTap) Interfaces() []live.Interface {
	return []live.Interface{{Name: wireName, Link: capture.Ethernet}}
}

func (t *labTap) Receive(wait time.Duration, take func(*live.Packet)) error {
	if now := t.lab.Now().UnixNano(); t.next != nil {
		wait = min(wait, labBeat)
		for t.next != nil && t.due.At <= now {
			take(&live.Packet{Record: *t.due})
			t.advance()
		}
	}
	frames, lost := t.wire.Take(wait)
	t.lost = lost - t.before
	for _, f := range frames {
		way := capture.Inbound
		if f.Sent {
			way = capture.Outbound
		}
		take(&live.Packet{Record: capture.Record{At: f.At.UnixNano(), Link: capture.Ethernet, Length: len(f.Data), Data: f.Data}, Way: way})
	}
	return nil
}

// labBeat is how often it is seen whether packets of the morning are due.
const labBeat = 20 * time.Millisecond

func (t *labTap) Lost() (uint64, error) { return t.lost, nil }

func (t *labTap) Close() error {
	if t.end != nil {
		t.end()
	}
	return nil
}
