package recording

import (
	"bytes"
	"encoding/binary"
	"net/netip"
	"slices"
	"time"

	"unquil/core/capture"
	"unquil/core/wire"
	"unquil/lab"
)

// localLink is what hosts of the valley station say to each other by multicast:
// questions, announcements, and two hosts that claim one name.
func localLink(set func(time.Duration) time.Time) (frames []frame) {
	group := netip.MustParseAddrPort("224.0.0.251:5353")
	send := func(at time.Duration, host string, port uint16, m wire.Message) {
		if out, err := m.Bytes(); err == nil {
			frames = append(frames, frame{set(at), capture.AppendFrame(nil, netip.AddrPortFrom(netip.MustParseAddr(host), port), group, out), 0})
		}
	}
	ask := func(name string, t wire.Type, class wire.Class) wire.Message {
		return wire.Message{Questions: []wire.Question{{Name: wire.MustParseName(name), Type: t, Class: class}}}
	}
	address := func(name, a string) wire.Record {
		return wire.Record{Name: wire.MustParseName(name), Type: wire.A, Class: wire.IN | 0x8000, TTL: 120, Data: string(netip.MustParseAddr(a).AsSlice())}
	}
	service := wire.Record{Name: wire.MustParseName("_ipp._tcp.local."), Type: wire.PTR, Class: wire.IN, TTL: 4500, Data: wire.MustParseName("Counter._ipp._tcp.local.").Wire()}
	announce := func(records ...wire.Record) wire.Message {
		return wire.Message{Flags: wire.QR | wire.AA, Answer: records}
	}
	send(20*time.Second, desk, 5353, ask("_ipp._tcp.local.", wire.PTR, wire.IN))
	send(20*time.Second+40*time.Millisecond, kitchen, 5353, announce(service, address("printer.local.", kitchen)))
	known := ask("_ipp._tcp.local.", wire.PTR, wire.IN|0x8000)
	known.Answer = []wire.Record{service}
	send(140*time.Second, till, 5353, known)                                                      // wants a reply to itself alone
	send(200*time.Second, guest, 51515, ask("printer.local.", wire.A, wire.IN))                   // once, from any port
	send(260*time.Second, workshop, 5353, announce(service, address("printer.local.", workshop))) // claims the kitchen's name
	send(261*time.Second, kitchen, 5353, announce(service, address("printer.local.", kitchen)))   // which defends it
	send(500*time.Second, guest, 5353, ask("camera.local.", wire.A, wire.IN))                     // and nobody has that one
	frames = append(frames, frame{set(510 * time.Second), capture.AppendFrame(nil, netip.MustParseAddrPort(guest+":50505"), netip.MustParseAddrPort("224.0.0.252:5355"), must(ask("camera.", wire.A, wire.IN))), 0})
	return frames
}

func must(m wire.Message) []byte {
	out, err := m.Bytes()
	if err != nil {
		panic(err) // made of constants
	}
	return out
}

// encrypted is a client that asks over TLS: its handshake shows whom, and no more.
func encrypted(set func(time.Duration) time.Time) (frames []frame) {
	from, to := netip.MustParseAddrPort(guest+":50443"), netip.MustParseAddrPort("203.0.113.200:853")
	s := capture.NewStream(from, to)
	at := set(600 * time.Second)
	for i, b := range append(s.Open(), s.Append(nil, from, clientHello("public.resolvers.test")), s.Append(nil, to, bytes.Repeat([]byte{22, 3, 3}, 300)),
		s.Append(nil, from, bytes.Repeat([]byte{23, 3, 3}, 40)), s.Append(nil, to, bytes.Repeat([]byte{23, 3, 3}, 60))) {
		frames = append(frames, frame{at.Add(time.Duration(i) * 9 * time.Millisecond), b, 0})
	}
	return frames
}

// clientHello is the beginning of a TLS handshake that names a server (RFC 8446
// §4.1.2, RFC 6066 §3).
func clientHello(host string) []byte {
	u16 := func(n int) []byte { return binary.BigEndian.AppendUint16(nil, uint16(n)) }
	name := slices.Concat([]byte{0}, u16(len(host)), []byte(host))
	extension := slices.Concat(u16(0), u16(len(name)+2), u16(len(name)), name)
	body := slices.Concat([]byte{3, 3}, bytes.Repeat([]byte{7}, 32), []byte{0}, u16(2), []byte{0x13, 0x01}, []byte{1, 0}, u16(len(extension)), extension)
	hello := slices.Concat([]byte{1, 0}, u16(len(body)), body)
	return slices.Concat([]byte{22, 3, 1}, u16(len(hello)), hello)
}

// uplinkFile is the office's resolver seen from its other side: what clients ask
// it, and how it walks for them.
func uplinkFile() ([]byte, error) {
	l, set, err := still()
	if err != nil {
		return nil, err
	}
	var frames []frame
	for i, q := range []struct{ client, name string }{
		{desk, "www.hollowtarn.example."}, {till, "tickets.hollowtarn.example."}, {display, "summit.camera.hollowtarn.example."},
		{desk, "status.lifts.hollowtarn.example."}, {kitchen, "book.lodge.farhost.test."}, {guest, "nothing.hollowtarn.example."},
	} {
		at := set(time.Duration(i)*7*time.Second + 500*time.Millisecond)
		walked, took := walkFor(l, q.name, at.Add(300*time.Microsecond))
		m := moment{at: at.Sub(l.Scenario.Begins), client: q.client, server: officeAt, name: q.name, types: []wire.Type{wire.A}, took: took + 600*time.Microsecond}
		asked, err := play(l, m, wire.A, at)
		if err != nil {
			return nil, err
		}
		frames = append(append(frames, asked...), walked...)
	}
	return pcap(frames), nil
}

// walkFor are the packets with which the office's resolver finds a name's address,
// and how long that takes.
func walkFor(l *lab.Lab, name string, at time.Time) (frames []frame, took time.Duration) {
	begun := at
	servers := []string{"east.roots.test."}
	for range 8 {
		var next []string
		for _, host := range servers {
			address, known := l.Scenario.AddressOf(host)
			if !known {
				address = nobody
			}
			query := wire.Message{ID: uint16(dice(name, host)), Questions: []wire.Question{{Name: wire.MustParseName(name), Type: wire.A, Class: wire.IN}},
				Additional: []wire.Record{{Name: wire.Root, Type: wire.OPT, Class: 1232}}}
			data := must(query)
			from := netip.AddrPortFrom(netip.MustParseAddr(officeAt), 49152+uint16(dice(host, name)%16384))
			to := netip.AddrPortFrom(address, 53)
			frames = append(frames, frame{at, capture.AppendFrame(nil, from, to, data), 0})
			out := l.Respond(address, from.Addr(), bytes.Clone(data), false)
			if out == nil {
				at = at.Add(800 * time.Millisecond)
				continue
			}
			at = at.Add(time.Duration(9+dice(host)%23) * time.Millisecond)
			frames = append(frames, frame{at, capture.AppendFrame(nil, to, from, out), 0})
			at = at.Add(200 * time.Microsecond)
			reply, err := wire.ReadMessage(out)
			if err != nil || reply.RCode() == wire.Refused {
				continue
			}
			if reply.Flags.Has(wire.AA) {
				return frames, at.Sub(begun)
			}
			for _, r := range reply.Authority {
				if target, ok := r.Target(); ok && r.Type == wire.NS {
					next = append(next, target.String())
				}
			}
			break
		}
		servers = next
	}
	return frames, at.Sub(begun)
}

// nobody is an address that no host of the lab has.
var nobody = netip.MustParseAddr("203.0.113.254")

// loopFile is a network with a loop in it: one packet that two switches hand to each
// other as fast as they can, and one that two routers do, a hop less each time.
func loopFile() ([]byte, error) {
	l, set, err := still()
	if err != nil {
		return nil, err
	}
	begin := set(0)
	fine, err := play(l, moment{client: desk, server: officeAt, name: "www.hollowtarn.example.", types: both, took: 20 * time.Millisecond}, wire.A, begin)
	if err != nil {
		return nil, err
	}
	frames := fine
	bridged, err := play(l, moment{at: time.Second, client: till, server: officeAt, name: "tickets.hollowtarn.example.", types: both, took: 30 * time.Millisecond}, wire.A, begin.Add(time.Second))
	if err != nil {
		return nil, err
	}
	for i := range 400 {
		frames = append(frames, frame{bridged[0].at.Add(time.Duration(i) * 40 * time.Microsecond), bridged[0].bytes, 0})
	}
	routed, err := play(l, moment{at: 2 * time.Second, client: guest, server: goneAt, name: "web.hollowtarn.example.", types: both}, wire.A, begin.Add(2*time.Second))
	if err != nil {
		return nil, err
	}
	for hops := byte(64); hops > 0; hops -= 2 {
		b := bytes.Clone(routed[0].bytes)
		b[14+8] = hops
		frames = append(frames, frame{routed[0].at.Add(time.Duration(64-hops) * 3 * time.Millisecond), b, 0})
	}
	return pcap(append(frames, bridged[1:]...)), nil
}

// mangledFile is what a capture may hold that nobody should believe.
func mangledFile() ([]byte, error) {
	l, set, err := still()
	if err != nil {
		return nil, err
	}
	begin := set(0)
	var frames []frame
	number := 0
	// play has one more question asked and answered, a second after the last, and
	// returns question and reply for the caller to spoil.
	play := func(name string, t wire.Type) []frame {
		number++
		two, failed := play(l, moment{at: time.Duration(number) * time.Second, client: desk, server: officeAt, name: name, types: both, took: 20 * time.Millisecond}, t, begin.Add(time.Duration(number)*time.Second))
		if failed != nil {
			err = failed
			return make([]frame, 2)
		}
		return two
	}
	add := func(list ...frame) { frames = append(frames, list...) }
	const payload = 14 + 20 + 8
	add(play("www.hollowtarn.example.", wire.A)...)

	cut := play("web.hollowtarn.example.", wire.A) // cut by the snap length
	cut[1].length, cut[1].bytes = len(cut[1].bytes), cut[1].bytes[:payload+30]
	add(cut...)

	short := play("piste.hollowtarn.example.", wire.A) // a question that ends within its name
	short[0].bytes = capture.AppendFrame(nil, netip.MustParseAddrPort(desk+":50001"), netip.MustParseAddrPort(officeAt+":53"), short[0].bytes[payload:payload+20])
	add(short[0])

	loop := play("mx1.hollowtarn.example.", wire.A) // a name that points at itself
	loop[0].bytes = capture.AppendFrame(nil, netip.MustParseAddrPort(desk+":50002"), netip.MustParseAddrPort(officeAt+":53"), append(bytes.Clone(loop[0].bytes[payload:payload+12]), 0xc0, 12, 0, 1, 0, 1))
	add(loop[0])

	length := play("phone.hollowtarn.example.", wire.A) // a UDP length over the packet
	length[0].bytes = bytes.Clone(length[0].bytes)
	length[0].bytes[14+20+4] = 0x40
	add(length[0])

	header := play("phone.hollowtarn.example.", wire.AAAA) // an IP header that is too short to be one
	header[0].bytes = bytes.Clone(header[0].bytes)
	header[0].bytes[14] = 0x41
	add(header[0])

	parts := play("timetable.hollowtarn.example.", wire.TXT) // a reply in two fragments
	whole := l.Respond(netip.MustParseAddr(officeAt), netip.MustParseAddr(desk), parts[0].bytes[payload:], true)
	reply := capture.AppendFrame(nil, netip.MustParseAddrPort(officeAt+":53"), portOf(parts[0].bytes, desk), whole)
	for i, b := range capture.Fragments(reply, 4711, 1480) {
		add(frame{parts[1].at.Add(time.Duration(i) * 100 * time.Microsecond), b, 0})
	}
	add(parts[0])

	torn := play("timetable.hollowtarn.example.", wire.TXT) // and one of which the second is missing
	whole = l.Respond(netip.MustParseAddr(officeAt), netip.MustParseAddr(desk), torn[0].bytes[payload:], true)
	reply = capture.AppendFrame(nil, netip.MustParseAddrPort(officeAt+":53"), portOf(torn[0].bytes, desk), whole)
	add(torn[0], frame{torn[1].at, capture.Fragments(reply, 4712, 1480)[0], 0})

	wrong := play("shop.hollowtarn.example.", wire.A) // guesses at the ID before the answer
	for i := range 5 {
		guess := bytes.Clone(wrong[1].bytes)
		guess[payload+1] += byte(i + 1)
		add(frame{wrong[0].at.Add(time.Duration(i+1) * time.Millisecond), guess, 0})
	}
	add(wrong...)

	add(play("we\\027\\[31mird\\007.hollowtarn.example.", wire.A)...) // control bytes in a name
	add(play("hollowtarn.example.", wire.MX)...)
	number += 70 // so that what came before has had its time
	add(play("www.hollowtarn.example.", wire.A)...)
	if err != nil {
		return nil, err
	}
	return pcapng(frames)
}

// portOf is where a question came from.
func portOf(frame []byte, client string) netip.AddrPort {
	return netip.AddrPortFrom(netip.MustParseAddr(client), binary.BigEndian.Uint16(frame[14+20:]))
}
