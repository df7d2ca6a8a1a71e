package serverlog

import (
	"bytes"
	"encoding/binary"
	"io"
	"net/netip"

	"github.com/fxamacker/cbor/v2"

	"unquil/core/wire"
)

// Exchange is a question with its reply.
type Exchange struct {
	Client, Server netip.AddrPort
	Over           Over
	Sent, Received int64 // nanoseconds since 1970 UTC; 0: not known
	Query, Reply   []byte
}

// maxBlockItems is how many exchanges a block has.
const maxBlockItems = 5000

// nanosecond is how many ticks a second has in what is written.
const nanosecond = 1_000_000_000

// CDNSWriter writes C-DNS, a block after the other.
type CDNSWriter struct {
	w      io.Writer
	mode   cbor.EncMode
	block  block
	times  []int64 // when the exchanges of the block, and behind them the malformed ones, were sent
	wrong  []int64
	key    []byte            // of the entry that is looked for
	index  map[string]uint64 // of entries of tables, by table and contents
	failed error
	query  wire.Reader
	reply  wire.Reader
}

// NewCDNSWriter writes the beginning of a file. The error is that of w.
func NewCDNSWriter(w io.Writer) (*CDNSWriter, error) {
	mode, err := cbor.CoreDetEncOptions().EncMode()
	if err != nil {
		return nil, err
	}
	c := &CDNSWriter{w: w, mode: mode}
	c.empty()
	head, err := mode.Marshal(preamble{Major: 1, Parameters: []parameters{{Storage: storage{
		Ticks: nanosecond, Most: maxBlockItems, Hints: hints{Exchange: hintsAll, Signature: hintsAllSigns, Record: 3, Other: 1},
		Opcodes: []uint8{0, 1, 2, 4, 5, 6}, Types: []uint16{},
	}}}})
	if err == nil {
		_, err = w.Write(append(append([]byte{arrayType<<5 | 3, textType<<5 | byte(len(format))}, format...), append(head, arrayType<<5|31)...))
	}
	return c, err
}

func (c *CDNSWriter) empty() {
	c.block, c.times, c.wrong, c.index = block{}, c.times[:0], c.wrong[:0], map[string]uint64{}
}

// entry is the index of an entry in a table, which gets it where it lacks it. Its key is what was put together last.
func entry[T any](c *CDNSWriter, table *[]T, make func() T) *uint64 {
	at, ok := c.index[string(c.key)]
	if !ok {
		at = uint64(len(*table))
		c.index[string(c.key)] = at
		*table = append(*table, make())
	}
	return &at
}

// keyOf begins the key of an entry: what table it is of, and numbers.
func (c *CDNSWriter) keyOf(table byte, numbers ...uint64) {
	c.key = append(c.key[:0], table)
	for _, n := range numbers {
		c.key = binary.AppendUvarint(c.key, n)
	}
}

func (c *CDNSWriter) bytes(b string) *uint64 {
	c.key = append(append(c.key[:0], 'b'), b...)
	return entry(c, &c.block.Tables.Bytes, func() []byte { return []byte(b) })
}

func (c *CDNSWriter) address(a netip.Addr) *uint64 {
	c.key = append(c.key[:0], 'a')
	if a.Is4() {
		b := a.As4()
		c.key = append(c.key, b[:]...)
	} else {
		b := a.As16()
		c.key = append(c.key, b[:]...)
	}
	return entry(c, &c.block.Tables.Addresses, func() []byte { return a.AsSlice() })
}

func (c *CDNSWriter) kind(t wire.Type, class wire.Class) *uint64 {
	c.keyOf('k', uint64(t), uint64(class))
	return entry(c, &c.block.Tables.ClassTypes, func() classType { return classType{uint16(t), uint16(class)} })
}

// section is the index of the list of some records; nil of none.
func (c *CDNSWriter) section(records []wire.Record) *uint64 {
	if len(records) == 0 {
		return nil
	}
	list := make([]uint64, len(records))
	for i, r := range records {
		name, kind, data := *c.bytes(r.Name.Wire()), *c.kind(r.Type, r.Class), c.bytes(r.Data)
		list[i] = *c.record(name, kind, uint64(r.TTL), *data, func() recordEntry { return recordEntry{name, kind, &r.TTL, data} })
	}
	c.keyOf('s', list...)
	return entry(c, &c.block.Tables.Sections, func() []uint64 { return list })
}

func (c *CDNSWriter) record(name, kind, ttl, data uint64, make func() recordEntry) *uint64 {
	c.keyOf('r', name, kind, ttl, data)
	return entry(c, &c.block.Tables.Records, make)
}

// more is the index of the list of the questions behind the first; nil of none.
func (c *CDNSWriter) more(questions []wire.Question) *uint64 {
	if len(questions) < 2 {
		return nil
	}
	var list []uint64
	for _, q := range questions[1:] {
		name, kind := *c.bytes(q.Name.Wire()), *c.kind(q.Type, q.Class)
		c.keyOf('q', name, kind)
		list = append(list, *entry(c, &c.block.Tables.Questions, func() questionEntry { return questionEntry{name, kind} }))
	}
	c.keyOf('l', list...)
	return entry(c, &c.block.Tables.Lists, func() []uint64 { return list })
}

// flagsOf are the flags of a message as C-DNS has them: the other way round than in queryFlags.
func flagsOf(m *wire.Message) (f uint64) {
	for i, bit := range [...]int{4, 5, 6, 7, 8, 9, 10} {
		f |= uint64(uint16(m.Flags)>>bit&1) << i
	}
	return f
}

// transport are the flags of a way.
func transport(e *Exchange) uint64 {
	flags := uint64(0)
	for i, over := range transports {
		if over == e.Over && (i == 0 || over != UDP) {
			flags = uint64(i) << 1
		}
	}
	if e.Over == QUIC {
		flags = 15 << 1 // C-DNS has no number of its own for it
	}
	if e.Client.Addr().Is6() {
		flags |= 1
	}
	return flags
}

// Add writes an exchange. The error is that of the writer, which sticks.
func (c *CDNSWriter) Add(e *Exchange) error {
	query, err := c.query.Read(e.Query)
	reply, replyErr := c.reply.Read(e.Reply)
	if err != nil && len(e.Query) > 0 {
		c.malformed(e, e.Query, e.Sent)
	}
	if len(e.Reply) > 0 && replyErr != nil {
		c.malformed(e, e.Reply, e.Received)
	}
	asked, replied := len(e.Query) > 0 && err == nil, len(e.Reply) > 0 && replyErr == nil
	if !asked && !replied {
		return c.flush(maxBlockItems)
	}
	either := query
	if !asked {
		either = reply
	}
	client, port, id, of := c.address(e.Client.Addr()), uint64(e.Client.Port()), uint64(either.ID), either.Questions
	item := queried{Client: client, Port: &port, ID: &id}
	sign := signature{Server: c.address(e.Server.Addr()), Port: new(uint64(e.Server.Port())), Transport: new(transport(e)), Has: new(uint64(0)), Flags: new(uint64(0)), Opcode: new(uint64(0))}
	if len(of) > 0 {
		sign.ClassType, item.Name = c.kind(of[0].Type, of[0].Class), c.bytes(of[0].Name.Wire())
	}
	if asked {
		*sign.Has |= hasQuery
		if len(query.Questions) == 0 {
			*sign.Has |= queryNothing
		}
		*sign.Flags |= flagsOf(query)
		*sign.Opcode = uint64(query.Flags.Opcode())
		sign.RCode, sign.Questions, item.Size = new(uint64(query.Flags.RCode())), new(uint64(len(query.Questions))), new(uint64(len(e.Query)))
		rest := query.Additional
		if n := len(rest); n > 0 && rest[n-1].Type == wire.OPT { // which stands apart; one elsewhere is a record like others
			opt := rest[n-1]
			rest = rest[:n-1]
			*sign.Has |= queryOPT
			sign.EDNS, sign.UDPSize, sign.Options = new(uint64(opt.TTL>>16&255)), new(uint64(opt.Class)), c.bytes(opt.Data)
			*sign.Flags |= uint64(opt.TTL>>15&1) * flagDO
		}
		item.Query = c.sections(query.Questions, query.Answer, query.Authority, rest)
	}
	if replied {
		*sign.Has |= hasReply
		if len(reply.Questions) == 0 {
			*sign.Has |= replyNothing
		}
		if _, ok := reply.OPT(); ok {
			*sign.Has |= replyOPT
		}
		*sign.Flags |= flagsOf(reply) << 8
		*sign.Opcode = uint64(reply.Flags.Opcode())
		sign.Replied, item.ReplySize = new(uint64(reply.RCode())), new(uint64(len(e.Reply)))
		if e.Received != 0 && e.Sent != 0 {
			item.Delay = new(e.Received - e.Sent)
		}
		item.Reply = c.sections(reply.Questions, reply.Answer, reply.Authority, reply.Additional)
	}
	c.signatureKey(&sign)
	item.Signature = entry(c, &c.block.Tables.Signatures, func() signature { return sign })
	c.block.Items = append(c.block.Items, item)
	c.times = append(c.times, e.Sent)
	return c.flush(maxBlockItems)
}

func (c *CDNSWriter) sections(questions []wire.Question, answer, authority, additional []wire.Record) *sections {
	s := sections{c.more(questions), c.section(answer), c.section(authority), c.section(additional)}
	if s == (sections{}) {
		return nil
	}
	return &s
}

// signatureKey makes the key of a signature: one more than each number, so that what is not there is 0.
func (c *CDNSWriter) signatureKey(s *signature) {
	c.keyOf('g')
	for _, n := range []*uint64{s.Server, s.Port, s.Transport, s.Has, s.Opcode, s.Flags, s.RCode, s.ClassType, s.Questions, s.EDNS, s.UDPSize, s.Options, s.Replied} {
		if n == nil {
			c.key = append(c.key, 0)
		} else {
			c.key = binary.AppendUvarint(c.key, *n+1)
		}
	}
}

func (c *CDNSWriter) malformed(e *Exchange, payload []byte, at int64) {
	index := uint64(len(c.block.Tables.Malformed))
	c.block.Tables.Malformed = append(c.block.Tables.Malformed, malformedData{c.address(e.Server.Addr()), new(uint64(e.Server.Port())), new(transport(e)), bytes.Clone(payload)})
	c.block.Malformed = append(c.block.Malformed, malformed{Client: c.address(e.Client.Addr()), Port: new(uint64(e.Client.Port())), Data: &index})
	c.wrong = append(c.wrong, at)
}

// flush writes the block that has been put together, once it has so many items.
func (c *CDNSWriter) flush(from int) error {
	if n := len(c.block.Items) + len(c.block.Malformed); n < from || n == 0 || c.failed != nil {
		return c.failed
	}
	earliest := int64(0)
	for _, at := range append(c.times[:len(c.times):len(c.times)], c.wrong...) {
		if at != 0 && (earliest == 0 || at < earliest) {
			earliest = at
		}
	}
	if earliest != 0 {
		c.block.Preamble.Earliest = []uint64{uint64(earliest / nanosecond), uint64(earliest % nanosecond)}
	}
	for i, at := range c.times {
		if at != 0 {
			c.block.Items[i].After = new(uint64(at - earliest))
		}
	}
	for i, at := range c.wrong {
		if at != 0 {
			c.block.Malformed[i].After = new(uint64(at - earliest))
		}
	}
	text, err := c.mode.Marshal(&c.block)
	if err == nil {
		_, err = c.w.Write(text)
	}
	c.failed = err
	c.empty()
	return err
}

// Close writes what is left, and the end. The error is that of the writer.
func (c *CDNSWriter) Close() error {
	err := c.flush(1)
	if err == nil {
		_, err = c.w.Write([]byte{0xff})
	}
	return err
}
