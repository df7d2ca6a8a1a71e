package conversation

import (
	"bytes"
	"context"
	"net/netip"
	"slices"
	"strings"

	"unquil/core/capture"
)

// Options says how to read a capture. The zero value is ready to use.
type Options struct {
	Ports    []uint16         // where DNS messages are looked for besides 53, 5353 and 5355
	HTTPS    []string         // names of hosts that take DNS over HTTPS, besides those that say so by their name
	Progress func(int64)      // is called now and then with the bytes read so far; nil: nobody
	Keep     int              // how many exchanges the overview keeps; 0 means 10,000
	Choose   func(*Pair) bool // which exchanges count; nil: all
	Each     func(*Pair)      // is called with every exchange that counts; nil: nobody
}

// The ports where messages are looked for.
const (
	dnsPort       = 53
	multicastPort = 5353 // RFC 6762 §3
	linkLocalPort = 5355 // RFC 4795 §2
	securePort    = 853  // RFC 7858 §3.1, RFC 9250 §4.1.1
	httpsPort     = 443
)

// what an item of the feed is.
type what uint8

const (
	isMessage what = iota
	isLocal        // of the local link: multicast, or link-local names
	isUnreadable
	isForbidden // an ICMP error
	isEncrypted
)

// item is one packet that has to do with DNS.
type item struct {
	Message
	what    what
	*remark // nil for most
}

// remark is what few packets need.
type remark struct {
	host   string // of an encrypted one: the server name of its handshake
	waited bool   // a question whose asker gave it up, as the file itself says
	err    error
}

// chunk is what some megabytes of a file came to.
type chunk struct {
	batch       capture.Batch
	items       []item
	arena       []byte // messages that do not lie in the batch
	packets     int
	malformed   []item
	unknown     int
	first, last int64
	offset      int64
}

// feed finds the messages of a capture.
type feed struct {
	options Options
	decoder capture.Decoder
	streams *capture.Streams
	secure  map[[2]netip.AddrPort]bool // HTTPS connections known to carry DNS
	now     *chunk
	packet  capture.Packet
	comment []byte // of the packet that is being read
	gaps    int
}

// chunks is how many chunks are between reading and pairing.
const chunks = 3

// run reads the capture in a goroutine of its own, so that reading and decoding go
// on while others are paired. The chunks come in order; each has to be given back.
func (f *feed) run(ctx context.Context, readers []*capture.Reader) (full <-chan *chunk, back chan<- *chunk, failed func() error) {
	out, free := make(chan *chunk, chunks), make(chan *chunk, chunks)
	for range chunks {
		free <- &chunk{}
	}
	f.secure = map[[2]netip.AddrPort]bool{}
	f.decoder.Torn = func(p *capture.Packet) { f.datagram(p, true) }
	f.streams = capture.NewStreams(func(p *capture.Packet) { f.message(p, true, isMessage) })
	var err error
	next := func() bool {
		if f.now != nil {
			out <- f.now
		}
		f.now = nil
		select {
		case <-ctx.Done():
			return false
		case f.now = <-free:
		}
		c := f.now
		c.items, c.arena, c.malformed, c.packets, c.unknown, c.first, c.last = c.items[:0], c.arena[:0], c.malformed[:0], 0, 0, 0, 0
		return true
	}
	go func() {
		defer close(out)
		if len(readers) == 1 {
			for next() && readers[0].Fill(&f.now.batch) {
				for i := range f.now.batch.Records {
					f.record(&f.now.batch.Records[i], false)
				}
				f.now.offset = readers[0].Offset()
			}
			err = readers[0].Err()
		} else if next() {
			for record, failure := range capture.Merge(readers) {
				if failure != nil {
					err = failure
					break
				}
				f.record(record, true)
				if f.now.packets == 2048 && !next() {
					break
				}
			}
		}
		if f.now == nil {
			return
		}
		f.decoder.Close()
		f.streams.Close()
		f.gaps = f.streams.Gaps
		out <- f.now
	}()
	return out, free, func() error { return err }
}

// record looks what one packet is. lent says that its bytes will not stay.
func (f *feed) record(r *capture.Record, lent bool) {
	c := f.now
	c.packets++
	if r.At != 0 {
		if c.first == 0 {
			c.first = r.At
		}
		c.last = r.At
	}
	p := &f.packet
	f.comment = r.Comment
	switch f.decoder.Decode(r, p) {
	case capture.Datagram:
		f.datagram(p, lent || f.decoder.Lends())
	case capture.Segment:
		f.segment(p)
	case capture.ICMPError:
		if f.isDNS(p.To.Port()) {
			f.add(p, true, isForbidden)
		}
	case capture.Malformed:
		if len(c.malformed) < 64 {
			c.malformed = append(c.malformed, item{Message: Message{Packet: capture.Packet{Number: r.Number, At: r.At, Cut: len(r.Data) < r.Length}}, what: isUnreadable})
		} else {
			c.malformed[0].Packet.Hops = 1 // more than were kept
		}
	case capture.Unknown:
		c.unknown++
	}
}

func (f *feed) isDNS(port uint16) bool {
	return port == dnsPort || len(f.options.Ports) > 0 && slices.Contains(f.options.Ports, port)
}

func (f *feed) datagram(p *capture.Packet, lent bool) {
	from, to := p.From.Port(), p.To.Port()
	switch {
	case f.isDNS(from) || f.isDNS(to):
		f.message(p, lent, isMessage)
	case to == multicastPort || from == multicastPort || to == linkLocalPort || from == linkLocalPort:
		f.message(p, lent, isLocal)
	case from == securePort || to == securePort:
		f.add(p, true, isEncrypted)
	}
}

func (f *feed) segment(p *capture.Packet) {
	from, to := p.From.Port(), p.To.Port()
	switch {
	case f.isDNS(from) || f.isDNS(to):
		f.streams.Segment(p)
	case from == securePort || to == securePort:
		f.add(p, true, isEncrypted)
		f.remark(serverName(p.Payload))
	case to == httpsPort:
		connection := [2]netip.AddrPort{p.From, p.To}
		host := serverName(p.Payload)
		if host != "" && f.carriesDNS(host) && len(f.secure) < 1<<16 {
			f.secure[connection] = true
		}
		if len(f.secure) > 0 && f.secure[connection] {
			f.add(p, true, isEncrypted)
			f.remark(host)
		}
	case from == httpsPort && len(f.secure) > 0 && f.secure[[2]netip.AddrPort{p.To, p.From}]:
		f.add(p, true, isEncrypted)
	}
}

// remark notes the server name on the packet added last.
func (f *feed) remark(host string) {
	if host != "" {
		f.now.items[len(f.now.items)-1].remark = &remark{host: host}
	}
}

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

// message reads a message and adds it, readable or not.
func (f *feed) message(p *capture.Packet, lent bool, as what) {
	it := f.add(p, lent, as)
	if len(f.comment) > 0 && bytes.HasSuffix(f.comment, []byte(waitedOut)) {
		it.remark = &remark{waited: true}
	}
	if err := it.read(); err != nil {
		it.what, it.remark = isUnreadable, &remark{err: err}
	}
}

// add puts a packet into the chunk, with its payload if that will not stay.
func (f *feed) add(p *capture.Packet, lent bool, as what) *item {
	c := f.now
	n := len(c.items)
	if n == cap(c.items) {
		c.items = append(c.items, item{})[:n]
	}
	c.items = c.items[:n+1]
	it := &c.items[n]
	it.Packet, it.what, it.remark = *p, as, nil
	if lent {
		at := len(c.arena)
		c.arena = append(c.arena, p.Payload...)
		it.Packet.Payload = c.arena[at:len(c.arena):len(c.arena)]
	}
	if as == isEncrypted {
		it.Packet.Payload = it.Packet.Payload[:min(len(p.Payload), 1)] // its length is all that is told
	}
	return it
}

// serverName is the server name of a TLS ClientHello (RFC 8446 §4.1.2, RFC 6066
// §3); "" when data is none or has none. Escape it before it is shown.
func serverName(data []byte) string {
	if len(data) < 43 || data[0] != 22 || data[1] != 3 || data[5] != 1 {
		return ""
	}
	b := data[43:]
	skip := func(sizeBytes int) bool {
		if len(b) < sizeBytes {
			return false
		}
		size := 0
		for _, c := range b[:sizeBytes] {
			size = size<<8 | int(c)
		}
		if len(b) < sizeBytes+size {
			return false
		}
		b = b[sizeBytes+size:]
		return true
	}
	if !skip(1) || !skip(2) || !skip(1) || len(b) < 2 { // session, cipher suites, compression
		return ""
	}
	for b = b[2:]; len(b) >= 4; {
		kind, size := int(b[0])<<8|int(b[1]), int(b[2])<<8|int(b[3])
		if len(b) < 4+size {
			return ""
		}
		if value := b[4 : 4+size]; kind == 0 && size > 5 && value[2] == 0 {
			if n := int(value[3])<<8 | int(value[4]); n <= size-5 {
				return string(value[5 : 5+n])
			}
			return ""
		}
		b = b[4+size:]
	}
	return ""
}
