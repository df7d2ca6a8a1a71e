package serverlog

import (
	"bufio"
	"fmt"
	"io"
	"net/netip"

	"github.com/fxamacker/cbor/v2"
)

// The structures of C-DNS (RFC 8618 §7). What a file leaves out is nil, and is not recorded.

type preamble struct {
	Major      uint64       `cbor:"0,keyasint"`
	Minor      uint64       `cbor:"1,keyasint"`
	Parameters []parameters `cbor:"3,keyasint"`
}

type parameters struct {
	Storage storage `cbor:"0,keyasint"`
}

type storage struct {
	Ticks   uint64   `cbor:"0,keyasint"` // a second
	Most    uint64   `cbor:"1,keyasint"` // items a block
	Hints   hints    `cbor:"2,keyasint"`
	Opcodes []uint8  `cbor:"3,keyasint"`
	Types   []uint16 `cbor:"4,keyasint"`
	Prefix4 *uint8   `cbor:"6,keyasint,omitempty"` // bits of client addresses that are recorded
	Prefix6 *uint8   `cbor:"7,keyasint,omitempty"`
	Server4 *uint8   `cbor:"8,keyasint,omitempty"`
	Server6 *uint8   `cbor:"9,keyasint,omitempty"`
}

type hints struct {
	Exchange  uint32 `cbor:"0,keyasint"`
	Signature uint32 `cbor:"1,keyasint"`
	Record    uint8  `cbor:"2,keyasint"`
	Other     uint8  `cbor:"3,keyasint"`
}

// Bits of the hints: what a file may hold of exchanges.
const (
	hintAnswers   = 1 << 15
	hintRCode     = 1 << 16 // of signatures
	hintsAll      = 1<<18 - 1
	hintsAllSigns = 1<<17 - 1
)

type block struct {
	Preamble  blockPreamble `cbor:"0,keyasint"`
	Tables    tables        `cbor:"2,keyasint,omitempty"`
	Items     []queried     `cbor:"3,keyasint,omitempty"`
	Malformed []malformed   `cbor:"5,keyasint,omitempty"`
}

type blockPreamble struct {
	Earliest   []uint64 `cbor:"0,keyasint,omitempty"` // seconds since 1970, and ticks
	Parameters uint64   `cbor:"1,keyasint,omitempty"`
}

type tables struct {
	Addresses  [][]byte        `cbor:"0,keyasint,omitempty"`
	ClassTypes []classType     `cbor:"1,keyasint,omitempty"`
	Bytes      [][]byte        `cbor:"2,keyasint,omitempty"` // names and record data
	Signatures []signature     `cbor:"3,keyasint,omitempty"`
	Lists      [][]uint64      `cbor:"4,keyasint,omitempty"` // of questions
	Questions  []questionEntry `cbor:"5,keyasint,omitempty"`
	Sections   [][]uint64      `cbor:"6,keyasint,omitempty"` // of records
	Records    []recordEntry   `cbor:"7,keyasint,omitempty"`
	Malformed  []malformedData `cbor:"8,keyasint,omitempty"`
}

type classType struct {
	Type  uint16 `cbor:"0,keyasint"`
	Class uint16 `cbor:"1,keyasint"`
}

type questionEntry struct {
	Name uint64 `cbor:"0,keyasint"`
	Kind uint64 `cbor:"1,keyasint"`
}

type recordEntry struct {
	Name uint64  `cbor:"0,keyasint"`
	Kind uint64  `cbor:"1,keyasint"`
	TTL  *uint32 `cbor:"2,keyasint,omitempty"`
	Data *uint64 `cbor:"3,keyasint,omitempty"`
}

type signature struct {
	Server    *uint64 `cbor:"0,keyasint,omitempty"`
	Port      *uint64 `cbor:"1,keyasint,omitempty"`
	Transport *uint64 `cbor:"2,keyasint,omitempty"`
	Kind      *uint64 `cbor:"3,keyasint,omitempty"`
	Has       *uint64 `cbor:"4,keyasint,omitempty"`
	Opcode    *uint64 `cbor:"5,keyasint,omitempty"`
	Flags     *uint64 `cbor:"6,keyasint,omitempty"`
	RCode     *uint64 `cbor:"7,keyasint,omitempty"` // of the question
	ClassType *uint64 `cbor:"8,keyasint,omitempty"`
	Questions *uint64 `cbor:"9,keyasint,omitempty"`
	EDNS      *uint64 `cbor:"13,keyasint,omitempty"`
	UDPSize   *uint64 `cbor:"14,keyasint,omitempty"`
	Options   *uint64 `cbor:"15,keyasint,omitempty"`
	Replied   *uint64 `cbor:"16,keyasint,omitempty"` // RCODE of the reply
}

// Bits of what a signature has, and of its flags.
const (
	hasQuery     = 1 << 0
	hasReply     = 1 << 1
	queryOPT     = 1 << 2
	replyOPT     = 1 << 3
	queryNothing = 1 << 4 // it has no question
	replyNothing = 1 << 5

	flagDO = 1 << 7
)

type queried struct {
	After     *uint64   `cbor:"0,keyasint,omitempty"` // ticks since the block's earliest time
	Client    *uint64   `cbor:"1,keyasint,omitempty"`
	Port      *uint64   `cbor:"2,keyasint,omitempty"`
	ID        *uint64   `cbor:"3,keyasint,omitempty"`
	Signature *uint64   `cbor:"4,keyasint,omitempty"`
	Hops      *uint64   `cbor:"5,keyasint,omitempty"`
	Delay     *int64    `cbor:"6,keyasint,omitempty"` // ticks
	Name      *uint64   `cbor:"7,keyasint,omitempty"`
	Size      *uint64   `cbor:"8,keyasint,omitempty"`
	ReplySize *uint64   `cbor:"9,keyasint,omitempty"`
	Query     *sections `cbor:"11,keyasint,omitempty"`
	Reply     *sections `cbor:"12,keyasint,omitempty"`
}

type sections struct {
	Questions  *uint64 `cbor:"0,keyasint,omitempty"` // beyond the first
	Answer     *uint64 `cbor:"1,keyasint,omitempty"`
	Authority  *uint64 `cbor:"2,keyasint,omitempty"`
	Additional *uint64 `cbor:"3,keyasint,omitempty"`
}

type malformed struct {
	After  *uint64 `cbor:"0,keyasint,omitempty"`
	Client *uint64 `cbor:"1,keyasint,omitempty"`
	Port   *uint64 `cbor:"2,keyasint,omitempty"`
	Data   *uint64 `cbor:"3,keyasint,omitempty"`
}

type malformedData struct {
	Server    *uint64 `cbor:"0,keyasint,omitempty"`
	Port      *uint64 `cbor:"1,keyasint,omitempty"`
	Transport *uint64 `cbor:"2,keyasint,omitempty"`
	Payload   []byte  `cbor:"3,keyasint,omitempty"`
}

// transports are how C-DNS numbers the ways: UDP, TCP, TLS, DTLS, HTTPS.
var transports = [...]Over{UDP, TCP, TLS, UDP, HTTPS}

// format is what a file begins with.
const format = "C-DNS"

// decoding bounds what is decoded.
var decoding = func() cbor.DecMode {
	mode, err := cbor.DecOptions{MaxNestedLevels: maxDepth, MaxArrayElements: 1 << 17, MaxMapPairs: 1 << 16, IndefLength: cbor.IndefLengthAllowed}.DecMode()
	if err != nil {
		panic(err) // the options are constants
	}
	return mode
}

// CDNS reads C-DNS.
type CDNS struct {
	count  counted
	items  items
	params []parameters
	blocks uint64            // that are left, where that is said
	open   bool              // it is not
	coming <-chan *readBlock // the next; nil before the first
	ended  bool
	mode   cbor.DecMode
	query  builder
	reply  builder
}

// NewCDNS reads a file.
func NewCDNS(in io.Reader) *CDNS {
	c := &CDNS{mode: decoding()}
	c.count.in = in
	c.items.in = bufio.NewReaderSize(&c.count, 64<<10)
	return c
}

// Offset is how many bytes have been read.
func (c *CDNS) Offset() int64 { return c.count.n.Load() }

// decode reads the next item to v.
func (c *CDNS) decode(what string, v any) error {
	at := c.items.offset
	c.items.buf = c.items.buf[:0]
	if err := c.items.item(1); err != nil {
		return err
	}
	if err := c.mode.Unmarshal(c.items.buf, v); err != nil {
		return failure(at, what, fmt.Errorf("it is not as the format has it: %w", ErrDamaged))
	}
	return nil
}

// begin reads what comes before the blocks.
func (c *CDNS) begin() error {
	s := &c.items
	major, n, open, err := s.head()
	if err != nil {
		return cutItem(err, s.offset)
	}
	var kind string
	if major != arrayType || !open && n != 3 {
		return failure(0, "file", ErrDamaged)
	}
	if err := c.decode("file type", &kind); err != nil {
		return err
	}
	var p preamble
	at := s.offset
	if err := c.decode("preamble", &p); err != nil {
		return err
	}
	if kind != format || p.Major != 1 {
		return failure(at, "preamble", fmt.Errorf("version %d: %w", p.Major, ErrContent))
	}
	c.params = p.Parameters
	at = s.offset
	if major, c.blocks, c.open, err = s.head(); err != nil {
		return cutItem(err, s.offset)
	} else if major != arrayType {
		return failure(at, "blocks", ErrDamaged)
	}
	return nil
}

// Next is as [Source] says it: it hands on the messages of a block.
func (c *CDNS) Next(emit func(*Message)) error {
	if c.ended {
		return io.EOF
	}
	err := c.next(emit)
	c.ended = err != nil
	return err
}

func (c *CDNS) next(emit func(*Message)) error {
	if c.coming == nil {
		if err := c.begin(); err != nil {
			return err
		}
		c.readAhead()
	}
	read := <-c.coming
	if read.err != nil {
		return read.err
	}
	c.readAhead()
	at, b := read.at, &read.block
	if b.Preamble.Parameters >= uint64(len(c.params)) {
		return failure(at, "block", fmt.Errorf("its parameters are none of the file's: %w", ErrDamaged))
	}
	r := blockReader{block: b, storage: &c.params[b.Preamble.Parameters].Storage, query: &c.query, reply: &c.reply}
	if r.storage.Ticks == 0 || r.storage.Ticks > 1e9 {
		return failure(at, "block", fmt.Errorf("%d ticks a second: %w", r.storage.Ticks, ErrDamaged))
	}
	if e := b.Preamble.Earliest; len(e) == 2 {
		r.earliest = moment(e[0], 0) + r.span(e[1])
	}
	for i := range b.Items {
		r.exchange(&b.Items[i], emit)
	}
	for i := range b.Malformed {
		r.malformed(&b.Malformed[i], emit)
	}
	if r.wrong > 0 {
		return failure(at, "block", fmt.Errorf("%d of its %d items point outside its tables: %w", r.wrong, len(b.Items)+len(b.Malformed), ErrDamaged))
	}
	return nil
}

// readBlock is a block as it was read, and where it begins; or why there is none.
type readBlock struct {
	block block
	at    int64
	err   error
}

// readAhead begins to read the next block, while the messages of another are handed on. It ends by itself, whether
// somebody wants that block or not.
func (c *CDNS) readAhead() {
	coming := make(chan *readBlock, 1)
	c.coming = coming
	go func() {
		read := &readBlock{}
		read.err = c.readBlock(read)
		coming <- read
	}()
}

// readBlock reads the next block. The error is io.EOF after the last.
func (c *CDNS) readBlock(to *readBlock) error {
	if !c.open {
		if c.blocks == 0 {
			return io.EOF
		}
		c.blocks--
	} else if next, err := c.items.in.Peek(1); err != nil {
		return cutItem(err, c.items.offset)
	} else if next[0] == 0xff {
		return io.EOF
	}
	to.at = c.items.offset
	return c.decode("block", &to.block)
}

// blockReader reads the exchanges of a block.
type blockReader struct {
	block    *block
	storage  *storage
	earliest int64
	wrong    int // items that point outside the tables
	bad      bool

	query, reply *builder
}

// span is a number of ticks in nanoseconds; 0 where that is beyond all reason.
func (r *blockReader) span(ticks uint64) int64 {
	if ticks > 1<<53 {
		return 0
	}
	seconds, rest := ticks/r.storage.Ticks, ticks%r.storage.Ticks
	return int64(min(seconds, 1<<32))*1e9 + int64(rest*1e9/r.storage.Ticks)
}

// at is the entry of a table; false where the index is not recorded, or points outside it.
func at[T any](r *blockReader, table []T, index *uint64) (entry T, ok bool) {
	if index == nil {
		return entry, false
	}
	if *index >= uint64(len(table)) {
		r.bad = true
		return entry, false
	}
	return table[*index], true
}

// end is an address, of which files may leave out the last bits, with a port.
func (r *blockReader) end(index *uint64, v6 bool, port uint64) netip.AddrPort {
	b, ok := at(r, r.block.Tables.Addresses, index)
	size := 4
	if v6 {
		size = 16
	}
	if !ok || len(b) > size {
		return endOf(nil, port)
	}
	var whole [16]byte
	copy(whole[:], b)
	return endOf(whole[:size], port)
}

func number(n *uint64, otherwise uint64) uint64 {
	if n == nil {
		return otherwise
	}
	return *n
}

// exchange hands on one question with its reply, as far as they are recorded.
func (r *blockReader) exchange(q *queried, emit func(*Message)) {
	r.bad = false
	sign, _ := at(r, r.block.Tables.Signatures, q.Signature)
	transport := number(sign.Transport, 0)
	v6 := transport&1 != 0
	over := UDP
	if t := transport >> 1 & 15; t < uint64(len(transports)) {
		over = transports[t]
	}
	client, server := alike(r.end(q.Client, v6, number(q.Port, 0)), r.end(sign.Server, v6, number(sign.Port, 53)))
	has := number(sign.Has, hasQuery|hasReply)
	kind, _ := at(r, r.block.Tables.ClassTypes, sign.ClassType)
	name, named := at(r, r.block.Tables.Bytes, q.Name)
	if !named {
		name = []byte{0}
	}
	sent := int64(0)
	if q.After != nil && r.earliest != 0 {
		sent = r.earliest + r.span(*q.After)
	}
	flags := number(sign.Flags, 0)
	id := uint16(number(q.ID, 0))
	m := r.query
	query := Message{At: sent, From: client, To: server, Over: over, Comment: "recorded as C-DNS"}
	if has&hasQuery != 0 {
		m.begin(id, queryFlags(flags), number(sign.Opcode, 0), number(sign.RCode, 0))
		if has&queryNothing == 0 {
			m.question(name, kind)
		}
		r.sections(m, q.Query)
		if has&queryOPT != 0 {
			options, _ := at(r, r.block.Tables.Bytes, sign.Options)
			ttl := uint32(number(sign.EDNS, 0)&255) << 16
			if flags&flagDO != 0 {
				ttl |= 1 << 15
			}
			m.record(3, []byte{0}, classType{41, uint16(number(sign.UDPSize, 512))}, ttl, options)
		}
		query.Data = m.message()
	}
	reply := Message{At: sent, From: server, To: client, Over: over, Comment: query.Comment}
	if q.Delay != nil && sent != 0 && *q.Delay >= 0 {
		reply.At += r.span(uint64(*q.Delay))
	}
	if has&hasReply != 0 {
		m := r.reply
		m.begin(id, replyFlags(flags), number(sign.Opcode, 0), number(sign.Replied, 0))
		if has&replyNothing == 0 {
			m.question(name, kind)
		}
		r.sections(m, q.Reply)
		reply.Data = m.message()
		reply.Cut = r.storage.Hints.Exchange&hintAnswers == 0 || r.storage.Hints.Signature&hintRCode == 0
	}
	if r.bad {
		r.wrong++
		return
	}
	if len(query.Data) > 0 {
		emit(&query)
	}
	if len(reply.Data) > 0 {
		emit(&reply)
	}
}

// queryFlags are the flags of a question as a message has them (RFC 1035 §4.1.1), RFC 8618 §7.5.3.
func queryFlags(f uint64) uint16 {
	bits := [...]uint16{4, 5, 6, 7, 8, 9, 10} // CD AD Z RA RD TC AA
	out := uint16(0)
	for i, bit := range bits {
		out |= uint16(f>>i&1) << bit
	}
	return out
}

// replyFlags are those of a reply, of which QR is one.
func replyFlags(f uint64) uint16 { return 0x8000 | queryFlags(f>>8) }

// sections adds the sections of a message.
func (r *blockReader) sections(m *builder, s *sections) {
	if s == nil {
		return
	}
	if list, ok := at(r, r.block.Tables.Lists, s.Questions); ok {
		for _, index := range list {
			if entry, ok := at(r, r.block.Tables.Questions, &index); ok {
				name, _ := at(r, r.block.Tables.Bytes, &entry.Name)
				kind, _ := at(r, r.block.Tables.ClassTypes, &entry.Kind)
				m.question(name, kind)
			}
		}
	}
	for i, index := range []*uint64{s.Answer, s.Authority, s.Additional} {
		list, _ := at(r, r.block.Tables.Sections, index)
		for _, index := range list {
			entry, ok := at(r, r.block.Tables.Records, &index)
			if !ok {
				continue
			}
			name, _ := at(r, r.block.Tables.Bytes, &entry.Name)
			kind, _ := at(r, r.block.Tables.ClassTypes, &entry.Kind)
			data, _ := at(r, r.block.Tables.Bytes, entry.Data)
			ttl := uint32(0)
			if entry.TTL != nil {
				ttl = *entry.TTL
			}
			m.record(i+1, name, kind, ttl, data)
		}
	}
}

// malformed hands on what could not be read as a message.
func (r *blockReader) malformed(w *malformed, emit func(*Message)) {
	r.bad = false
	data, _ := at(r, r.block.Tables.Malformed, w.Data)
	transport := number(data.Transport, 0)
	v6 := transport&1 != 0
	client, server := alike(r.end(w.Client, v6, number(w.Port, 0)), r.end(data.Server, v6, number(data.Port, 53)))
	if r.bad {
		r.wrong++
		return
	}
	if len(data.Payload) > 0 {
		m := Message{From: client, To: server, Data: data.Payload, Comment: "recorded as C-DNS: a malformed message"}
		if len(m.Data) > 2 && m.Data[2]&0x80 != 0 {
			m.From, m.To = m.To, m.From
		}
		if w.After != nil && r.earliest != 0 {
			m.At = r.earliest + r.span(*w.After)
		}
		emit(&m)
	}
}
