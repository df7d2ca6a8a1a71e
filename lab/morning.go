package lab

import (
	"bytes"
	"fmt"
	"hash/fnv"
	"io"
	"net/netip"
	"slices"
	"time"

	"unquil/core/capture"
	"unquil/core/wire"
)

// moment is one look-up of the morning as the valley station's switch saw it.
type moment struct {
	at     time.Duration // after the scenario begins
	client string
	server string
	name   string
	types  []wire.Type   // asked in a pair, one right after the other
	took   time.Duration // until the reply
	tries  int           // how often it is asked before somebody answers or the client gives up; 0 means once
}

const (
	desk     = "192.0.2.21" // sells tickets
	till     = "192.0.2.22"
	display  = "192.0.2.31" // shows the timetable
	guest    = "192.0.2.140"
	officeAt = "192.0.2.53"
	goneAt   = "192.0.2.66" // a resolver that once stood in the waiting room
)

var both = []wire.Type{wire.A, wire.AAAA}

// valleyMorning is what happens in valley-morning.pcapng.
var valleyMorning = []moment{
	{at: 0, client: desk, server: officeAt, name: "www.hollowtarn.example.", types: both, took: 31 * time.Millisecond},
	{at: 2100 * time.Millisecond, client: desk, server: officeAt, name: "tickets.hollowtarn.example.", types: both, took: 400 * time.Microsecond},
	{at: 4 * time.Second, client: display, server: officeAt, name: "timetable.hollowtarn.example.", types: []wire.Type{wire.TXT}, took: 24 * time.Millisecond},
	{at: 7 * time.Second, client: till, server: officeAt, name: "tickets.hollowtarn.example.", types: both, took: 420 * time.Microsecond},
	{at: 9 * time.Second, client: till, server: officeAt, name: "tikets.hollowtarn.example.", types: both, took: 22 * time.Millisecond},
	{at: 12 * time.Second, client: guest, server: goneAt, name: "www.hollowtarn.example.", types: both, tries: 3},
	{at: 14 * time.Second, client: display, server: officeAt, name: "summit.camera.hollowtarn.example.", types: []wire.Type{wire.A}, took: 2400 * time.Millisecond},
	{at: 27500 * time.Millisecond, client: guest, server: officeAt, name: "www.hollowtarn.example.", types: both, took: 500 * time.Microsecond},
	{at: 31 * time.Second, client: desk, server: officeAt, name: "status.lifts.hollowtarn.example.", types: both, took: 61 * time.Millisecond},
	{at: 40 * time.Second, client: display, server: officeAt, name: "hollowtarn.example.", types: []wire.Type{wire.MX}, took: 26 * time.Millisecond},
	{at: 47 * time.Second, client: till, server: officeAt, name: "ridge.north.hollowtarn.example.", types: both, took: 1310 * time.Millisecond},
	{at: 58 * time.Second, client: display, server: officeAt, name: "summit.hollowtarn.example.", types: both, took: 27 * time.Millisecond},
}

// frame is one packet with its time.
type frame struct {
	at    time.Time
	bytes []byte
}

// Files are the captures and messages of the morning by name, each with what
// makes it: the same bytes each time.
var Files = map[string]func() ([]byte, error){
	"valley-morning.pcapng": func() ([]byte, error) {
		var b bytes.Buffer
		err := writeValleyMorning(&b)
		return b.Bytes(), err
	},
	"signed-answer.dns": SignedAnswer,
	"broken-answer.dns": BrokenAnswer,
}

func writeValleyMorning(w io.Writer) error {
	scenario, err := Load()
	if err != nil {
		return err
	}
	now := scenario.Begins
	l, err := New(Options{Now: func() time.Time { return now }, Wait: func(time.Duration) {}})
	if err != nil {
		return err
	}
	var packets []frame
	for _, m := range valleyMorning {
		now = scenario.Begins.Add(m.at)
		for i, t := range m.types {
			frames, err := l.play(m, t, now.Add(time.Duration(i)*180*time.Microsecond))
			if err != nil {
				return err
			}
			packets = append(packets, frames...)
		}
	}
	slices.SortStableFunc(packets, func(a, b frame) int { return a.at.Compare(b.at) })
	out, err := capture.NewWriter(w, capture.Ethernet)
	if err != nil {
		return err
	}
	for _, p := range packets {
		if err := out.Packet(p.at, p.bytes, ""); err != nil {
			return err
		}
	}
	return nil
}

// play has one question asked and answered, and returns its packets.
func (l *Lab) play(m moment, t wire.Type, at time.Time) ([]frame, error) {
	name, err := wire.ParseName(m.name)
	if err != nil {
		return nil, fmt.Errorf("the morning's %q: %w", m.name, err)
	}
	// Ports and IDs look random and are the same each time.
	h := fnv.New32a()
	fmt.Fprint(h, m.at, m.client, m.name, t)
	seed := h.Sum32()
	from := netip.AddrPortFrom(netip.MustParseAddr(m.client), 49152+uint16(seed%16384))
	to := netip.AddrPortFrom(netip.MustParseAddr(m.server), 53)
	query := wire.Message{ID: uint16(seed >> 16), Flags: wire.RD, Questions: []wire.Question{{Name: name, Type: t, Class: wire.IN}},
		Additional: []wire.Record{{Name: wire.Root, Type: wire.OPT, Class: 1232}}}
	data, err := query.Bytes()
	if err != nil {
		return nil, err
	}
	var frames []frame
	for range max(1, m.tries) {
		frames = append(frames, frame{at, capture.AppendFrame(nil, from, to, data)})
		at = at.Add(5 * time.Second)
	}
	if h := l.hosts[to.Addr()]; h != nil {
		if reply := respond(h, from.Addr(), bytes.Clone(data), false); reply != nil {
			frames = append(frames, frame{frames[0].at.Add(m.took), capture.AppendFrame(nil, to, from, reply)})
		}
	}
	return frames, nil
}
