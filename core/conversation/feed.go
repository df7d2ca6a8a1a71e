package conversation

import (
	"bytes"
	"context"
	"slices"
	"strings"

	"unquil/core/capture"
	"unquil/core/evidence"
	"unquil/core/exchange"
	"unquil/core/hello"
	"unquil/core/wire"
)

// Options says how to read a capture. The zero value is ready to use.
type Options struct {
	Ports    []uint16                // where DNS messages are looked for besides 53, 5353 and 5355
	HTTPS    []string                // names of hosts that take DNS over HTTPS, besides those that say so by their name
	Progress func(int64)             // is called now and then with the bytes read so far; nil: nobody
	Keep     int                     // how many exchanges the overview keeps; 0 means 10,000, less than 0 none
	Also     func(*Transaction) bool // which exchanges it keeps beyond those, at most as many again; nil: none
	Choose   func(*Transaction) bool // which exchanges count; nil: all
	Late     *LaterFindings          // what an earlier reading found; nil: nothing
	Each     func(*Transaction)      // is called with every exchange that counts; nil: nobody
	Live     *Live                   // what is wanted while they are read; nil: nothing
	Anchors  []wire.Record           // what signatures are judged by (DS or DNSKEY records); none: they are left alone
}

// The ports where messages are looked for.
const (
	dnsPort       = 53
	multicastPort = 5353 // RFC 6762 §3
	linkLocalPort = 5355 // RFC 4795 §2
	securePort    = 853  // RFC 7858 §3.1, RFC 9250 §4.1.1
	httpsPort     = 443
)

// what a packet that is no ordinary message is.
type what uint8

const (
	isLocal what = iota // of the local link: multicast, or link-local names
	isUnreadable
	isMalformed
	isForbidden // an ICMP error
	isEncrypted
	isConnecting // a TCP connection for DNS begins, or is refused
)

// item is one packet that has to do with DNS, but holds no ordinary message.
type item struct {
	packet capture.Packet
	what   what
	before int    // the message of the chunk that comes next
	host   string // of an encrypted one: the server name of its handshake
	err    error  // of an unreadable or malformed one
}

// chunk is what some part of a file came to.
type chunk struct {
	envelopes
	count       int               // of the messages
	messages    []capturedMessage // and room for more
	places      []place           // of the envelopes of the messages
	items       []item
	arena       []byte // payloads that do not lie in the batch
	packets     int
	unknown     int
	malformed   int // packets beyond those among the items
	cutShort    int // the same, that the capture cut
	first, last int64
	offset      int64
	clock       int64  // up to when the file's writer had listened; 0: it does not say
	lost        int    // packets so far, as the file's writer says
	counts      counts // of exchanges that ended while its messages were paired
}

// feed finds the messages of a capture.
type feed struct {
	options Options
	out     chan<- *chunk // those that are full
	free    chan *chunk
	decoder capture.Decoder
	streams *capture.Streams
	secure  map[[2]capture.Endpoint]bool // HTTPS connections known to carry DNS
	hellos  hello.QUIC
	now     *chunk
	rec     *capture.Record // that is being read; nil of plain datagrams
	kept    bool            // it is evidence that this program wrote
	packet  capture.Packet
	names   wire.NameCache
	gaps    int
	odd     int // malformed packets that were handed on as items
	all     [chunks]chunk
}

// chunks is how many chunks are between reading and pairing.
const chunks = 6

// run reads the capture in goroutines of its own, so that reading goes on while what was
// read is decoded, and while others are paired. The chunks come in order; each has to be
// given back. failed is the error of a file, once the chunks have ended.
func (f *feed) run(ctx context.Context, readers []*capture.Reader) (full <-chan *chunk, back chan<- *chunk, failed func() error) {
	out := make(chan *chunk, chunks)
	f.out, f.free = out, make(chan *chunk, chunks+1) // and one for the end
	for i := range f.all {
		f.free <- &f.all[i]
	}
	f.secure = map[[2]capture.Endpoint]bool{}
	f.decoder.Torn = func(p *capture.Packet) { f.datagram(p, true) }
	f.streams = capture.NewStreams(func(p *capture.Packet) { f.message(p, true) })
	var err error
	go func() {
		defer close(out)
		if len(readers) == 1 {
			err = f.single(ctx, readers[0])
		} else {
			err = f.merged(ctx, readers)
		}
		if ctx.Err() == nil {
			f.end()
		}
	}()
	return out, f.free, func() error { return err }
}

// single decodes one file, which is read in a goroutine of its own.
func (f *feed) single(ctx context.Context, r *capture.Reader) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	filled := make(chan *chunk, chunks)
	go f.fill(ctx, r, filled)
	var record capture.Record
	for r.Err() == nil && f.next(ctx, filled) {
		r.Begin(&f.now.batch)
		for {
			if f.plains(r) {
				continue
			}
			if !r.Next(&f.now.batch, &record) {
				break
			}
			f.record(&record, false)
		}
		f.now.offset, f.now.clock, f.now.lost = r.Offset(), r.Clock(), int(r.Lost())
	}
	return r.Err()
}

// lostBy is how many packets the writers of files have lost.
func lostBy(readers []*capture.Reader) (lost int) {
	for _, r := range readers {
		lost += int(r.Lost())
	}
	return lost
}

// merged decodes several files as one.
func (f *feed) merged(ctx context.Context, readers []*capture.Reader) error {
	if !f.next(ctx, f.free) {
		return nil
	}
	for record, err := range capture.Merge(readers) {
		if err != nil {
			return err
		}
		f.record(record, true)
		if f.now.packets == mergedChunk && !f.next(ctx, f.free) {
			break
		}
	}
	return nil
}

// mergedChunk is how many packets of merged files make a chunk.
const mergedChunk = 2048

// next hands the chunk on that is full, and takes one that is free, or filled by a reader. It
// returns false when there is none any more.
func (f *feed) next(ctx context.Context, from <-chan *chunk) bool {
	if f.now != nil {
		f.out <- f.now
	}
	f.now = nil
	select {
	case <-ctx.Done():
		return false
	case f.now = <-from:
	}
	if c := f.now; c != nil {
		c.counts.count()
		*c = chunk{envelopes: envelopes{c.batch, c.rare[:0]}, messages: c.messages, places: c.places, items: c.items[:0], arena: c.arena[:0], counts: c.counts}
	}
	return f.now != nil
}

// end hands on what was put together so far.
func (f *feed) end() {
	if f.now == nil {
		f.now = &chunk{}
	}
	f.rec, f.kept = nil, false
	f.decoder.Close()
	f.streams.Close()
	f.gaps = f.streams.Gaps
	f.out <- f.now
}

// count counts what has not been counted yet, once the chunks do not go round any more.
func (f *feed) count() {
	for i := range f.all {
		f.all[i].counts.count()
	}
}

// fill reads a file into the chunks that are free. After the last one, filled is closed.
func (f *feed) fill(ctx context.Context, r *capture.Reader, filled chan<- *chunk) {
	defer close(filled)
	for more := true; more; {
		select {
		case <-ctx.Done():
			return
		case c := <-f.free:
			more = r.Fill(&c.batch)
			filled <- c
		}
	}
}

// plains takes the plain datagrams that come next, and reports whether there were any:
// while fragments wait for others, each packet has to be seen by what puts them together.
func (f *feed) plains(r *capture.Reader) bool {
	if !r.MayBePlain() || f.decoder.Waits() {
		return false
	}
	f.rec, f.kept = nil, false
	return r.Plains(&f.now.batch, func(number int, at int64, place capture.Place, h capture.Header, payload []byte) {
		f.seen(at)
		if from, to := h.Ports(); (from == dnsPort || to == dnsPort) && f.now.plain(number, at, place, h, payload, &f.names) {
			return
		}
		f.packet.Plain(number, at, h, payload)
		f.datagram(&f.packet, false)
	}) > 0
}

// plain reads the message in a plain datagram and adds it, and reports whether that was
// like most are.
func (c *chunk) plain(number int, at int64, where capture.Place, h capture.Header, payload []byte, names *wire.NameCache) bool {
	if c.count == len(c.messages) {
		c.grow()
	}
	m := &c.messages[c.count]
	if !m.plain(h, payload, names) {
		return false
	}
	m.At, m.Number, c.places[c.count] = at, number, place(where)
	if m.kind == exchange.Unusual && m.is(isReply) { // how its exchange ends is in its envelope
		e, at := c.add()
		*e = envelopeOf(h, payload)
		e.outcome, c.places[c.count] = m.outcome(e.message), at
	}
	c.count++
	return true
}

// seen counts a packet.
func (f *feed) seen(at int64) {
	c := f.now
	c.packets++
	if at != 0 {
		if c.last = at; c.first == 0 {
			c.first = at
		}
	}
}

// record looks what one packet is. lent says that its bytes will not stay.
func (f *feed) record(r *capture.Record, lent bool) {
	f.seen(r.At)
	c, p := f.now, &f.packet
	f.rec, f.kept = r, r.Link == capture.Served || bytes.HasPrefix(r.Comment, []byte(evidence.Mark))
	switch f.decoder.Decode(r, p) {
	case capture.Datagram:
		f.datagram(p, lent || f.decoder.Lends())
	case capture.Segment:
		f.segment(p)
	case capture.ICMPError:
		if f.isDNS(p.To.Port()) {
			f.add(p, isForbidden)
		}
	case capture.Malformed:
		f.malformed(r)
	case capture.Unknown:
		c.unknown++
	}
}

// malformed hands on a packet whose headers contradict themselves. A file may hold nothing
// else: beyond the first, which are told of one by one, they are counted.
func (f *feed) malformed(r *capture.Record) {
	cut := len(r.Data) < r.Length
	switch f.odd++; {
	case f.odd <= maxOdd:
		f.add(&capture.Packet{Number: r.Number, At: r.At, Cut: cut}, isMalformed).err = f.decoder.Fault()
	case cut:
		f.now.cutShort++
	default:
		f.now.malformed++
	}
}

// maxOdd is how many malformed packets are handed on.
const maxOdd = 1000

func (f *feed) isDNS(port uint16) bool {
	return port == dnsPort || f.kept || len(f.options.Ports) > 0 && slices.Contains(f.options.Ports, port)
}

func (f *feed) datagram(p *capture.Packet, lent bool) {
	from, to := p.From.Port(), p.To.Port()
	switch {
	case f.isDNS(from) || f.isDNS(to):
		f.message(p, lent)
	case to == multicastPort || from == multicastPort || to == linkLocalPort || from == linkLocalPort:
		if _, err := wire.ReadView(p.Payload); err != nil {
			f.add(p, isUnreadable).err = err
		} else {
			f.add(p, isLocal)
		}
	case to == securePort:
		f.add(p, isEncrypted).host = f.hellos.ServerName(p)
	case from == securePort:
		f.add(p, isEncrypted)
	case to == httpsPort:
		f.https(p, f.hellos.ServerName(p))
	case from == httpsPort:
		f.httpsReply(p)
	}
}

func (f *feed) segment(p *capture.Packet) {
	from, to := p.From.Port(), p.To.Port()
	switch {
	case f.isDNS(from) || f.isDNS(to):
		if p.Flags&(capture.SYN|capture.RST) != 0 {
			f.add(p, isConnecting)
		}
		f.streams.Segment(p)
	case from == securePort || to == securePort:
		f.add(p, isEncrypted).host = hello.ServerName(p.Payload)
	case to == httpsPort:
		f.https(p, hello.ServerName(p.Payload))
	case from == httpsPort:
		f.httpsReply(p)
	}
}

// https is a packet to a web server, with the host name that it shows; "" for none.
func (f *feed) https(p *capture.Packet, host string) {
	connection := [2]capture.Endpoint{p.From, p.To}
	if host != "" && f.carriesDNS(host) && len(f.secure) < maxSecure {
		f.secure[connection] = true
	}
	if len(f.secure) > 0 && f.secure[connection] {
		f.add(p, isEncrypted).host = host
	}
}

func (f *feed) httpsReply(p *capture.Packet) {
	if len(f.secure) > 0 && f.secure[[2]capture.Endpoint{p.To, p.From}] {
		f.add(p, isEncrypted)
	}
}

// maxSecure is how many connections that carry DNS are remembered.
const maxSecure = 1 << 16

// carriesDNS reports whether a host takes DNS over HTTPS, by its name.
func (f *feed) carriesDNS(host string) bool {
	host = strings.ToLower(strings.TrimSuffix(host, "."))
	for _, known := range f.options.HTTPS {
		if strings.EqualFold(strings.TrimSuffix(known, "."), host) {
			return true
		}
	}
	for label := range strings.SplitSeq(host, ".") {
		if label == "dns" || label == "doh" || label == "resolver" || label == "resolvers" {
			return true
		}
	}
	return false
}

// message reads a message and adds it. lent says that its bytes will not stay.
func (f *feed) message(p *capture.Packet, lent bool) {
	c, payload := f.now, p.Payload
	if f.kept && len(f.rec.Comment) > 0 && p.Number == f.rec.Number {
		p.Remarked(f.rec.Comment)
	}
	if lent {
		payload = c.keep(payload)
	}
	if err := c.read(p, payload, &f.names); err != nil {
		f.add(p, isUnreadable).err = err
		return
	}
	if f.rec != nil && len(f.rec.Comment) > 0 && p.Number == f.rec.Number && evidence.GivenUp(f.rec.Comment) {
		c.messages[c.count-1].traits |= isWaited
	}
}

// read reads the message in a packet and adds it. Its payload has to stay. The error is a
// *wire.ParseError.
func (c *chunk) read(p *capture.Packet, payload []byte, names *wire.NameCache) error {
	if c.count == len(c.messages) {
		c.grow()
	}
	e, at := c.add()
	if err := c.messages[c.count].packet(e, p, payload, names); err != nil {
		c.rare = c.rare[:len(c.rare)-1]
		return err
	}
	c.places[c.count] = at
	c.count++
	return nil
}

// grow makes room for more messages.
func (c *chunk) grow() {
	more := max(c.count, 1024)
	c.messages, c.places = append(c.messages, make([]capturedMessage, more)...), append(c.places, make([]place, more)...)
}

// keep copies bytes that will not stay.
func (c *chunk) keep(data []byte) []byte {
	at := len(c.arena)
	c.arena = append(c.arena, data...)
	return c.arena[at:len(c.arena):len(c.arena)]
}

// add puts a packet into the chunk that is no ordinary message.
func (f *feed) add(p *capture.Packet, as what) *item {
	c := f.now
	c.items = append(c.items, item{packet: *p, what: as, before: c.count})
	it := &c.items[len(c.items)-1]
	if as == isEncrypted {
		it.packet.Payload = nil // what it holds tells nothing
	} else {
		it.packet.Payload = c.keep(p.Payload)
	}
	return it
}
