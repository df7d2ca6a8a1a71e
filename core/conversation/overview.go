package conversation

import (
	"cmp"
	"context"
	"encoding/binary"
	"maps"
	"net/netip"
	"slices"
	"time"

	"unquil/core/attest"
	"unquil/core/capture"
	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// Overview is what happened in a capture.
type Overview struct {
	Packets    int // in the file
	Messages   int // DNS messages among them
	Unreadable int // packets of the DNS ports that hold no message that can be read
	Malformed  int // packets whose headers contradict themselves
	Unknown    int // packets of link types that are not read
	Incomplete int // datagrams that stayed without some of their fragments
	Gaps       int // places in TCP streams where segments were missing
	Lost       int // packets that whoever wrote the files did not get, as they say
	Duplicates int // packets captured twice
	Queries    int // messages that ask, and that reply
	Replies    int

	First, Last time.Time
	Exchanges   int
	LeftOut     int // exchanges that were not chosen
	Outcomes    map[exchange.Outcome]int
	Unsolicited int // replies without a question
	Dropped     int // questions given up because too many were open at once
	Kept        []exchange.Exchange
	Lines       map[int]Line // what else is known of those kept, by number
	NotKept     int          // exchanges beyond those kept: they are counted, not shown
	Missed      int          // of them, those that were wanted, had there been room
	Findings    []finding.Finding
	MoreFound   int // groups of findings beyond those kept
	Slowest     []Slow
	Encrypted   []Encrypted
	LocalLink   LocalLink
	Timeline    Timeline
	Signed      *attest.Report // what the signatures come to; nil where there are none, or they are left alone
	// Hosts are the names that the files give to addresses, as they stand there:
	// escape them before they are shown.
	Hosts map[netip.Addr]escape.Text

	names   table
	spelled map[uint64]wire.Name // the names of their rows, in lower case
	servers table
	clients table
	groups  groups
	nobody  group // takes what is not counted
	muted   bool
	usual   [exchange.Usuals]int
	tallies []tally
	chosen  numbers
	options Options
	// slowestFrom is how long an exchange has to take to be among the slowest.
	slowestFrom time.Duration

	first    room // of those kept because they came first, and because they are wanted
	also     room
	late     LaterFindings
	counting *counts // takes what is to be counted by its name
	secure   map[[2]capture.Endpoint]*Encrypted
	denied   map[uint64]Link // by question: who said that there is no such name
	// mayBeDenied says what is worth looking for in denied.
	mayBeDenied noticed
	counted     recent[countdown]
	signatures  attest.Collector
	touched     uint64 // is of no use: what is looked up for it is
}

// Line is what an exchange of a capture has beside what it holds itself.
type Line struct {
	Ties
	Half      Half
	Lasted    time.Duration // from the question to the last message of a zone transfer; 0 for others
	Looped    bool          // the question's packet went round in a loop
	Cut       bool          // the capture holds less of a packet than was sent
	Forbidden string        // what an ICMP error said of it; "" without one
	ReportIn  int           // the packet of that
	Packets   []int         // all of its packets
	Codes     []finding.Code
}

// Slow is one of the exchanges that took longest.
type Slow struct {
	Number   int
	Question wire.Question
	Server   netip.AddrPort
	Took     time.Duration
}

// Bounds on what an overview keeps of a file of any size.
const (
	maxSlowest = 5
	maxDenied  = 10_000
)

// Read reads captures as one, merged by their time. On an error of a file, the
// overview holds what came before it; when ctx ends, what was read by then.
func Read(ctx context.Context, readers []*capture.Reader, options Options) (*Overview, error) {
	o := &Overview{Outcomes: map[exchange.Outcome]int{}, Lines: map[int]Line{}, spelled: map[uint64]wire.Name{},
		secure: map[[2]capture.Endpoint]*Encrypted{}, denied: map[uint64]Link{}, counted: recentOf[countdown](agingKept), slowestFrom: time.Millisecond, Hosts: map[netip.Addr]escape.Text{}, options: options}
	o.options.Keep = cmp.Or(options.Keep, maxKept)
	pairer := newPairer(o.add)
	pairer.Unsolicited, pairer.Revised = o.unsolicited, o.revised
	pairer.Unconnected = o.unconnected
	if options.Live != nil {
		pairer.Soon = options.Live.Soon
	}
	source := feed{options: options}
	full, back, failed := source.run(ctx, readers)
	var before *chunk // it stays until most of its questions have been answered
	for c := range full {
		o.counting = &c.counts
		o.chunk(c, pairer)
		o.look(c, pairer)
		if options.Progress != nil {
			options.Progress(c.offset)
		}
		if before != nil {
			pairer.Keep(&before.envelopes)
			back <- before
		}
		before = c
	}
	o.counting = &counts{}
	pairer.Close()
	o.counting.count()
	source.count()
	o.Dropped, o.Duplicates = pairer.Dropped, pairer.Duplicates
	for _, r := range readers {
		maps.Copy(o.Hosts, r.Names())
	}
	o.Incomplete, o.Gaps, o.Lost = source.decoder.Incomplete(), source.gaps, lostBy(readers)
	o.sortKept()
	o.count()
	o.conclude()
	if o.Signed = o.signatures.Judge(ctx, options.Anchors); o.Signed != nil {
		o.Findings = append(o.Findings, o.Signed.Findings()...)
		finding.Sort(o.Findings)
	}
	return o, failed()
}

// AbsurdTimes reports whether packets cannot have been captured when their times say: before
// there were captures, or years apart.
func (o *Overview) AbsurdTimes() bool {
	return !o.First.IsZero() && (o.First.Year() < firstYear || o.Last.Year() < firstYear || o.Last.Sub(o.First).Abs() > longest)
}

const (
	firstYear = 1990
	longest   = 5 * 365 * 24 * time.Hour
)

func (o *Overview) chunk(c *chunk, pairer *pairer) {
	o.Packets += c.packets
	o.Unknown += c.unknown
	o.malformed("headers", c.malformed)
	o.malformed("cut", c.cutShort)
	if c.first != 0 {
		if o.First.IsZero() {
			o.First = time.Unix(0, c.first).UTC()
		}
		o.Last = time.Unix(0, c.last).UTC()
	}
	at := 0
	for i := range c.items {
		it := &c.items[i]
		o.messages(c, at, it.before, pairer)
		at = it.before
		o.item(it, pairer)
	}
	o.messages(c, at, c.count, pairer)
}

// messages takes those of a chunk that are from one up to another.
func (o *Overview) messages(c *chunk, from, to int, pairer *pairer) {
	replies, places, all := 0, c.places[from:to], c.messages[from:to]
	for begin := 0; begin < len(all); begin += touchedAtOnce {
		end := min(begin+touchedAtOnce, len(all))
		o.touch(all[begin:end], pairer)
		for i := begin; i < end; i++ {
			m := &all[i]
			if m.is(isReply) {
				replies++
			}
			pairer.Message(m, &c.envelopes, places[i])
		}
	}
	o.Messages, o.Replies, o.Queries = o.Messages+len(all), o.Replies+replies, o.Queries+len(all)-replies
}

// touchedAtOnce is how many messages are looked ahead: what they take fits the nearest of the processor's
// caches.
const touchedAtOnce = 32

// touch looks up what some messages are going to need. Where that is in no near cache of the processor, it
// comes for many of them at once, and not for one after the other.
func (o *Overview) touch(all []capturedMessage, p *pairer) {
	sum := uint64(0)
	for i := range all {
		m := &all[i]
		slot := &p.pairs.slots[m.hash&uint64(len(p.pairs.slots)-1)]
		sum += slot.hash
		if !m.is(isReply) {
			of, _, _ := m.asked()
			sum += p.latest.touch(latestKey(of, m.name, m.says, m.client)) + p.settled.found.touch(m.hash)
			continue
		}
		if pair := slot.pair; pair != nil {
			sum += uint64(pair.Number)
		}
		sum += o.clients.touch(m.client, true) + o.names.touch(m.name, false) // the rows of names are counted elsewhere, at the same time
	}
	o.touched = sum
}

func (o *Overview) item(it *item, pairer *pairer) {
	p := &it.packet
	switch it.what {
	case isLocal:
		o.Messages++
		o.LocalLink.add(p)
	case isMalformed:
		o.Malformed++
		o.unreadable(it)
	case isUnreadable:
		o.Unreadable++
		o.unreadable(it)
		if len(p.Payload) >= 12 && wire.Flags(binary.BigEndian.Uint16(p.Payload[2:])).Has(wire.QR) {
			pairer.UnreadReply(p)
		}
	case isForbidden:
		pairer.Forbidden(p)
	case isConnecting:
		pairer.Connecting(p)
	case isEncrypted:
		o.encrypted(it)
	}
}

// add counts one exchange, and judges it.
func (o *Overview) add(p *Transaction) {
	asker, fresh := o.clients.of(p.client)
	if fresh {
		asker.host = p.Client().Host()
	}
	server, fresh := o.servers.of(p.server)
	if fresh {
		server.host = p.Server()
	}
	if o.options.Late != nil {
		o.options.Late.tell(p)
	}
	if (p.kind == exchange.UsualNoName || asker.mayMiss(p)) && p.client != nobody4 && p.client != nobody6 {
		o.missingNames(p, asker)
	}
	if p.Answered() {
		o.answers(p, server)
	}
	signed := p.signed && len(o.options.Anchors) > 0
	if o.options.Choose != nil {
		known := len(p.Codes)
		o.muted = true // to be chosen by what is remarkable about it
		o.judge(p, server)
		o.muted = false
		if !o.options.Choose(p) {
			o.LeftOut++
			if signed {
				o.attest(p, false)
			}
			return
		}
		o.chosen.add(p.Number)
		p.Codes = p.Codes[:known]
	}
	if signed {
		o.attest(p, true)
	}
	o.judge(p, server)
	o.Exchanges++
	if p.kind != exchange.Unusual {
		o.usual[p.kind]++
	} else {
		o.tally(p.Outcome())
	}
	e := entryOf(p)
	name, fresh := o.names.of(p.name)
	if fresh {
		o.spell(p)
	}
	o.counting.add(name, e, p.client)
	server.add(e, p.client)
	asker.add(e, p.server)
	o.Timeline.add(p.First.At, e)
	if e.took >= o.slowestFrom {
		o.slowest(p, e.took)
	}
	if o.options.Keep >= 0 || o.options.Also != nil {
		o.keep(p)
	} else {
		o.NotKept++
	}
	if o.options.Each != nil {
		o.options.Each(p)
	}
}

// attest keeps the keys in a reply, and its signatures where it counts.
func (o *Overview) attest(p *Transaction, counts bool) {
	if reply, ok := p.ReplyView(); ok && !p.Cut && o.signatures.Wants(p.question^p.server, p.Received) {
		o.signatures.Add(p.Number, time.Unix(0, p.Received).UTC(), reply.Bytes(), counts)
	}
}

// spell keeps the name of an exchange as it is spelled.
func (o *Overview) spell(p *Transaction) {
	v := p.View()
	if name, err := wire.NameFromWire(string(v.QuestionBytes()[:v.NameSize()])); err == nil {
		o.spelled[p.name] = name.Fold()
	}
}

// tally counts an outcome. There are few of them, so that looking through all of
// them costs less than a map.
func (o *Overview) tally(outcome exchange.Outcome) {
	for i := range o.tallies {
		if o.tallies[i].outcome == outcome {
			o.tallies[i].count++
			return
		}
	}
	o.tallies = append(o.tallies, tally{outcome, 1})
}

type tally struct {
	outcome exchange.Outcome
	count   int
}

// Line is what there is beside the exchange, with memory of its own.
func (p *Transaction) Line() Line {
	r := p.Related()
	line := Line{Ties: r.Ties, Half: p.Half(), Lasted: p.Lasted(), Looped: p.Looped(), Cut: p.Cut, Packets: p.Packets(), Codes: slices.Clone(p.Codes)}
	if r.Forbidden != nil {
		line.Forbidden, line.ReportIn = r.Forbidden.By.String()+" says: "+r.Forbidden.Says, r.ReportIn
	}
	return line
}

// holds reports whether a packet is one of the exchange's.
func (p *Transaction) holds(packet int) bool {
	if p.First.Packet == packet || p.ReceivedIn == packet {
		return true
	}
	return p.rel != nil && slices.Contains(p.Packets(), packet)
}

// Packets are the numbers of all packets of the exchange, in order.
func (p *Transaction) Packets() []int { return p.AppendPackets(nil) }

// AppendPackets appends what [Transaction.Packets] returns.
func (p *Transaction) AppendPackets(all []int) []int {
	start, rel := len(all), p.Related()
	all = append(all, p.First.Packet)
	for _, try := range rel.again {
		all = append(all, try.Packet)
	}
	for _, n := range [...]int{p.ReceivedIn, rel.OtherIn, rel.UnreadIn, rel.LastIn, rel.ReportIn} {
		if n > 0 {
			all = append(all, n)
		}
	}
	slices.Sort(all[start:])
	return all
}

// slowest lists an exchange that took longer than what is listed.
func (o *Overview) slowest(p *Transaction, took time.Duration) {
	s := Slow{Number: p.Number, Server: p.Server().AddrPort(), Took: took}
	if m, err := wire.ReadMessage(p.View().Bytes()); err == nil && len(m.Questions) > 0 {
		s.Question = m.Questions[0]
	}
	o.Slowest = append(o.Slowest, s)
	slices.SortStableFunc(o.Slowest, func(a, b Slow) int { return cmp.Compare(b.Took, a.Took) })
	if len(o.Slowest) >= maxSlowest {
		o.Slowest = o.Slowest[:maxSlowest]
		o.slowestFrom = o.Slowest[maxSlowest-1].Took + 1
	}
}

// Encrypted is what can be seen of DNS that cannot be read.
type Encrypted struct {
	Client, Server netip.AddrPort
	Over           exchange.Transport
	Host           escape.Text // as the handshake has it; "" where it does not show
	Packets        int
	First, Last    int64         // nanoseconds since 1970 UTC
	Handshake      time.Duration // from the first packet to the first reply; 0 without one
}

// Bounds on what is kept of connections that cannot be read.
const (
	maxEncrypted = 1000
	maxHost      = 255 // bytes of a server name
)

func (o *Overview) encrypted(it *item) {
	p := &it.packet
	k := [2]capture.Endpoint{p.From, p.To}
	reply := p.From.Port() == securePort || p.From.Port() == httpsPort
	if reply {
		k = [2]capture.Endpoint{p.To, p.From}
	}
	e := o.secure[k]
	if e == nil {
		if len(o.secure) >= maxEncrypted {
			return
		}
		e = &Encrypted{Client: k[0].AddrPort(), Server: k[1].AddrPort(), First: p.At, Over: exchange.TLS}
		switch {
		case k[1].Port() == httpsPort:
			e.Over = exchange.HTTPS
		case !p.TCP:
			e.Over = exchange.QUIC
		}
		o.secure[k] = e
	}
	e.Packets++
	e.Last = p.At
	if len(it.host) <= maxHost {
		e.Host = cmp.Or(e.Host, escape.Of(it.host))
	}
	if reply && e.Handshake == 0 {
		e.Handshake = time.Duration(p.At - e.First)
	}
}

// Timeline counts questions and failures over time, in slots that grow with the
// span, so that there are never more than some hundred.
type Timeline struct {
	Begins int64 // nanoseconds since 1970 UTC
	Width  time.Duration
	Slots  []Slot

	now         *Slot // the one that was counted last, which is nearly always the next one too
	from, until int64 // of it
}

// Slot is one span of a timeline.
type Slot struct{ Asked, Failed, NoName int }

const maxSlots = 240

func (t *Timeline) add(at int64, e entry) {
	if at == 0 {
		return
	}
	if at < t.from || at >= t.until {
		t.find(at)
	}
	t.now.Asked++
	switch e.how {
	case noName:
		t.now.NoName++
	case failed, unanswered:
		t.now.Failed++
	}
}

// find finds the slot of a moment, and makes it where there is none yet.
func (t *Timeline) find(at int64) {
	if t.Width == 0 {
		t.Begins, t.Width = at, 250*time.Millisecond
	}
	if at < t.Begins {
		if len(t.Slots) == 0 || t.Begins-at > int64(t.Width)*maxSlots {
			at = t.Begins
		} else {
			slots := int((t.Begins - at + int64(t.Width) - 1) / int64(t.Width))
			t.Slots = append(make([]Slot, slots), t.Slots...)
			t.Begins -= int64(slots) * int64(t.Width)
		}
	}
	for (at-t.Begins)/int64(t.Width) >= maxSlots {
		half := t.Slots[:0]
		for i := 0; i < len(t.Slots); i += 2 {
			s := t.Slots[i]
			if i+1 < len(t.Slots) {
				s.Asked, s.Failed, s.NoName = s.Asked+t.Slots[i+1].Asked, s.Failed+t.Slots[i+1].Failed, s.NoName+t.Slots[i+1].NoName
			}
			half = append(half, s)
		}
		t.Slots, t.Width = half, 2*t.Width
	}
	slot := int((at - t.Begins) / int64(t.Width))
	for slot >= len(t.Slots) {
		t.Slots = append(t.Slots, Slot{})
	}
	t.now, t.from = &t.Slots[slot], t.Begins+int64(slot)*int64(t.Width)
	t.until = t.from + int64(t.Width)
}

// numbers is a set of exchange numbers.
type numbers []uint64

func (s *numbers) add(n int) {
	for n/64 >= len(*s) {
		*s = append(*s, 0)
	}
	(*s)[n/64] |= 1 << (n % 64)
}

func (s numbers) has(n int) bool { return n/64 < len(s) && s[n/64]&(1<<(n%64)) != 0 }
