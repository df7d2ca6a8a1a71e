// Package recording makes the captures and messages of the story: what was sent and heard
// in the lab on one morning, and large captures to measure with. The same bytes come out
// each time.
package recording

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"hash/fnv"
	"net/netip"
	"slices"
	"time"

	"unquil/core/capture"
	"unquil/core/wire"
	"unquil/lab"
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
	again  time.Duration // between the tries; 0 means 5 s
	fails  wire.Type     // of types, one for which the server says that it failed
	lies   string        // an address in another reply that comes first
	tcp    bool
}

const (
	desk      = "192.0.2.21" // sells tickets
	till      = "192.0.2.22"
	display   = "192.0.2.31" // shows the timetable
	kitchen   = "192.0.2.41"
	workshop  = "192.0.2.51"
	ropeway   = "192.0.2.61"
	reception = "192.0.2.71"
	guest     = "192.0.2.140"
	officeAt  = "192.0.2.53"
	ispAt     = "198.51.100.53"
	cafeAt    = "192.0.2.99"
	goneAt    = "192.0.2.66" // a resolver that once stood in the waiting room
	noneAt    = "192.0.2.60" // a machine that never was a resolver
)

var both = []wire.Type{wire.A, wire.AAAA}

// valleyMorning is what happens in valley-morning.pcapng beside the ordinary
// look-ups of [ordinary].
var valleyMorning = []moment{
	{at: 0, client: desk, server: officeAt, name: "www.hollowtarn.example.", types: both, took: 31 * time.Millisecond},
	{at: 2100 * time.Millisecond, client: desk, server: officeAt, name: "tickets.hollowtarn.example.", types: both, took: 400 * time.Microsecond},
	{at: 4 * time.Second, client: display, server: officeAt, name: "timetable.hollowtarn.example.", types: []wire.Type{wire.TXT}, took: 24 * time.Millisecond},
	{at: 4060 * time.Millisecond, client: display, server: officeAt, name: "timetable.hollowtarn.example.", types: []wire.Type{wire.TXT}, took: 2 * time.Millisecond, tcp: true},
	{at: 7 * time.Second, client: till, server: officeAt, name: "tickets.hollowtarn.example.", types: both, took: 420 * time.Microsecond},
	{at: 9 * time.Second, client: till, server: officeAt, name: "tikets.hollowtarn.example.", types: both, took: 22 * time.Millisecond},
	{at: 12 * time.Second, client: guest, server: goneAt, name: "www.hollowtarn.example.", types: both, tries: 3},
	{at: 14 * time.Second, client: display, server: officeAt, name: "summit.camera.hollowtarn.example.", types: []wire.Type{wire.A}, took: 2400 * time.Millisecond},
	{at: 27500 * time.Millisecond, client: guest, server: officeAt, name: "www.hollowtarn.example.", types: both, took: 500 * time.Microsecond},
	{at: 31 * time.Second, client: desk, server: officeAt, name: "status.lifts.hollowtarn.example.", types: both, took: 61 * time.Millisecond},
	{at: 40 * time.Second, client: display, server: officeAt, name: "hollowtarn.example.", types: []wire.Type{wire.MX}, took: 26 * time.Millisecond},
	{at: 47 * time.Second, client: till, server: officeAt, name: "ridge.north.hollowtarn.example.", types: both, took: 1310 * time.Millisecond},
	{at: 58 * time.Second, client: display, server: officeAt, name: "summit.hollowtarn.example.", types: both, took: 27 * time.Millisecond},
	// In the cafe's network a name that does not exist has an address.
	{at: 75 * time.Second, client: guest, server: cafeAt, name: "tikets.hollowtarn.example.", types: []wire.Type{wire.A}, took: 3 * time.Millisecond},
	// Somebody in between is faster than the provider.
	{at: 96 * time.Second, client: guest, server: ispAt, name: "shop.hollowtarn.example.", types: []wire.Type{wire.A}, took: 19 * time.Millisecond, lies: "192.0.2.98"},
	// The office's resolver has so much to do that its answer comes after the second try, or after the provider's.
	{at: 130 * time.Second, client: kitchen, server: officeAt, name: "snow.hollowtarn.example.", types: []wire.Type{wire.A}, took: 5003 * time.Millisecond, tries: 2},
	{at: 150 * time.Second, client: workshop, server: officeAt, name: "phone.hollowtarn.example.", types: []wire.Type{wire.A}, took: 2600 * time.Millisecond},
	{at: 152 * time.Second, client: workshop, server: ispAt, name: "phone.hollowtarn.example.", types: []wire.Type{wire.A}, took: 17 * time.Millisecond},
	// A machine that is asked and is no resolver.
	{at: 171 * time.Second, client: reception, server: noneAt, name: "web.hollowtarn.example.", types: []wire.Type{wire.A}},
	// One kind of address fails.
	{at: 185 * time.Second, client: ropeway, server: officeAt, name: "web.hollowtarn.example.", types: both, took: 9 * time.Millisecond, fails: wire.AAAA},
	{at: 1199 * time.Second, client: desk, server: officeAt, name: "tickets.hollowtarn.example.", types: both, took: 410 * time.Microsecond},
}

// ordinary are twenty minutes in which nothing is wrong: eight clients and what
// they ask every day, a web page that sets off thirty questions, and a search list
// that costs two questions for each.
func ordinary() (all []moment) {
	clients := []string{desk, till, display, kitchen, workshop, ropeway, reception, guest}
	names := []string{"www.hollowtarn.example.", "web.hollowtarn.example.", "piste.hollowtarn.example.", "summit.hollowtarn.example.", "mx1.hollowtarn.example.", "www.farhost.test.", "phone.hollowtarn.example."}
	for i := range 140 {
		all = append(all, moment{at: 62*time.Second + time.Duration(i)*8*time.Second + time.Duration(i*i%977)*time.Millisecond, client: clients[i*5%len(clients)], server: officeAt,
			name: names[i*3%len(names)], types: both, took: time.Duration(300+i*37%211) * time.Microsecond})
	}
	page := 300 * time.Second
	all = append(all, moment{at: page, client: reception, server: officeAt, name: "www.hollowtarn.example.", types: both, took: 18 * time.Millisecond})
	for i := range 14 {
		wave := page + 30*time.Millisecond
		if i >= 6 {
			wave += 60 * time.Millisecond
		}
		all = append(all, moment{at: wave + time.Duration(i)*time.Millisecond, client: reception, server: officeAt, name: fmt.Sprintf("part%d.guest.hollowtarn.example.", i+1), types: both, took: time.Duration(8+i%5) * time.Millisecond})
	}
	for i, name := range []string{"www.farhost.test.", "ns.farhost.test.", "ns2.farhost.test.", "www.lodge.farhost.test.", "book.lodge.farhost.test.", "snow.fellcast.test."} {
		at := 420*time.Second + time.Duration(i)*1300*time.Millisecond
		for n, suffix := range []string{"hollowtarn.example.", "valley.hollowtarn.example.", ""} {
			all = append(all, moment{at: at + time.Duration(n)*25*time.Millisecond, client: till, server: officeAt, name: name + suffix, types: []wire.Type{wire.A}, took: 20 * time.Millisecond})
		}
	}
	return all
}

// frame is one packet with its time. length is what it had on the wire, where the
// capture cut it; 0 otherwise.
type frame struct {
	at     time.Time
	bytes  []byte
	length int
}

// Files are the captures and messages of the morning by name, each with what
// makes it: the same bytes each time.
var Files = map[string]func() ([]byte, error){
	"valley-morning.pcapng": valleyFile,
	"resolver-uplink.pcap":  uplinkFile,
	"loop.pcap":             loopFile,
	"mangled.pcapng":        mangledFile,
	"signed-answer.dns":     SignedAnswer,
	"broken-answer.dns":     BrokenAnswer,
}

// pcapng is a capture of frames in the order of their times.
func pcapng(frames []frame) ([]byte, error) {
	slices.SortStableFunc(frames, func(a, b frame) int { return a.at.Compare(b.at) })
	var b bytes.Buffer
	out, err := capture.NewWriter(&b, capture.Ethernet)
	if err != nil {
		return nil, err
	}
	for _, f := range frames {
		r := capture.Record{At: f.at.UnixNano(), Link: capture.Ethernet, Data: f.bytes, Length: cmp.Or(f.length, len(f.bytes))}
		if err := out.Record(&r, ""); err != nil {
			return nil, err
		}
	}
	return b.Bytes(), nil
}

// pcap is the same in the older format, with microseconds.
func pcap(frames []frame) []byte {
	slices.SortStableFunc(frames, func(a, b frame) int { return a.at.Compare(b.at) })
	order := binary.LittleEndian
	b := order.AppendUint32(nil, 0xa1b2c3d4)
	b = order.AppendUint16(order.AppendUint16(b, 2), 4)
	b = append(b, make([]byte, 8)...)
	b = order.AppendUint32(order.AppendUint32(b, 65535), uint32(capture.Ethernet))
	for _, f := range frames {
		b = order.AppendUint32(b, uint32(f.at.Unix()))
		b = order.AppendUint32(b, uint32(f.at.Nanosecond()/1000))
		b = order.AppendUint32(b, uint32(len(f.bytes)))
		b = append(order.AppendUint32(b, uint32(cmp.Or(f.length, len(f.bytes)))), f.bytes...)
	}
	return b
}

// still is a lab in which time passes when it is told to.
func still() (l *lab.Lab, set func(time.Duration) time.Time, err error) {
	scenario, err := lab.Load()
	if err != nil {
		return nil, nil, err
	}
	now := scenario.Begins
	l, err = lab.New(lab.Options{Now: func() time.Time { return now }, Wait: func(time.Duration) {}})
	return l, func(d time.Duration) time.Time { now = scenario.Begins.Add(d); return now }, err
}

func valleyFile() ([]byte, error) {
	l, set, err := still()
	if err != nil {
		return nil, err
	}
	moments := append(slices.Clone(valleyMorning), ordinary()...)
	slices.SortStableFunc(moments, func(a, b moment) int { return cmp.Compare(a.at, b.at) })
	var frames []frame
	for _, m := range moments {
		now := set(m.at)
		for i, t := range m.types {
			more, err := play(l, m, t, now.Add(time.Duration(i)*180*time.Microsecond))
			if err != nil {
				return nil, err
			}
			frames = append(frames, more...)
		}
	}
	frames = append(frames, frame{frames[2].at.Add(20 * time.Microsecond), frames[2].bytes, 0}) // mirrored twice by the switch
	frames = append(frames, localLink(set)...)
	frames = append(frames, encrypted(set)...)
	return pcapng(frames)
}

// dice gives ports and IDs that look random and are the same each time.
func dice(what ...any) uint32 {
	h := fnv.New32a()
	fmt.Fprint(h, what...)
	return h.Sum32()
}

// play has one question asked and answered, and returns its packets.
func play(l *lab.Lab, m moment, t wire.Type, at time.Time) ([]frame, error) {
	name, err := wire.ParseName(m.name)
	if err != nil {
		return nil, fmt.Errorf("the morning's %q: %w", m.name, err)
	}
	seed := dice(m.at, m.client, m.name, t)
	from := netip.AddrPortFrom(netip.MustParseAddr(m.client), 49152+uint16(seed%16384))
	to := netip.AddrPortFrom(netip.MustParseAddr(m.server), 53)
	query := wire.Message{ID: uint16(seed >> 16), Flags: wire.RD, Questions: []wire.Question{{Name: name, Type: t, Class: wire.IN}},
		Additional: []wire.Record{{Name: wire.Root, Type: wire.OPT, Class: 1232}}}
	data, err := query.Bytes()
	if err != nil {
		return nil, err
	}
	if m.tcp {
		return conversationOver(from, to, at, m.took, data, l.Respond(to.Addr(), from.Addr(), bytes.Clone(data), true)), nil
	}
	var frames []frame
	asked := capture.AppendFrame(nil, from, to, data)
	for try := range max(1, m.tries) {
		frames = append(frames, frame{at.Add(time.Duration(try) * cmp.Or(m.again, 5*time.Second)), asked, 0})
	}
	if !l.Has(to.Addr()) {
		if m.server == noneAt {
			frames = append(frames, frame{at.Add(400 * time.Microsecond), capture.AppendICMP(nil, to.Addr(), asked), 0})
		}
		return frames, nil
	}
	reply := l.Respond(to.Addr(), from.Addr(), bytes.Clone(data), false)
	if reply == nil {
		return frames, nil
	}
	if m.fails == t {
		failure := wire.Message{ID: query.ID, Flags: (wire.QR | wire.RD | wire.RA).WithRCode(wire.ServFail), Questions: query.Questions}
		if reply, err = failure.Bytes(); err != nil {
			return nil, err
		}
	}
	if m.lies != "" {
		lie := wire.Message{ID: query.ID, Flags: wire.QR | wire.RD | wire.RA, Questions: query.Questions,
			Answer: []wire.Record{{Name: name, Type: wire.A, Class: wire.IN, TTL: 60, Data: string(netip.MustParseAddr(m.lies).AsSlice())}}}
		false_, err := lie.Bytes()
		if err != nil {
			return nil, err
		}
		frames = append(frames, frame{at.Add(m.took / 4), capture.AppendFrame(nil, to, from, false_), 0})
	}
	return append(frames, frame{at.Add(m.took), capture.AppendFrame(nil, to, from, reply), 0}), nil
}

// conversationOver is a TCP connection with one question and its answer.
func conversationOver(from, to netip.AddrPort, at time.Time, took time.Duration, query, reply []byte) (frames []frame) {
	s := capture.NewStream(from, to)
	add := func(after time.Duration, list ...[]byte) {
		for i, b := range list {
			frames = append(frames, frame{at.Add(after + time.Duration(i)*150*time.Microsecond), b, 0})
		}
	}
	add(0, s.Open()...)
	add(600*time.Microsecond, s.Append(nil, from, wire.AppendFramed(nil, query)))
	out := wire.AppendFramed(nil, reply)
	add(600*time.Microsecond+took, s.Append(nil, to, out[:len(out)/2]), s.Append(nil, to, out[len(out)/2:]))
	add(2*time.Millisecond+took, s.Close()...)
	return frames
}
