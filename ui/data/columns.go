package data

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/compress/zstd"

	"unquil/core/capture"
	"unquil/core/conversation"
	"unquil/core/exchange"
	"unquil/core/wire"
)

// ColumnRow is one exchange as engines for large tables read it: what is found about it is in the row, so that
// nobody has to join rows.
type ColumnRow struct {
	Time        time.Time `parquet:"time,timestamp(nanosecond)" about:"when the question was sent first, in UTC"`
	Number      int64     `parquet:"number,delta" about:"of the exchange within its run"`
	Client      string    `parquet:"client,dict" about:"who asked, as text"`
	ClientBytes [16]byte  `parquet:"client_bytes" about:"the same as 16 bytes; IPv4 as ::ffff:a.b.c.d"`
	ClientNet   string    `parquet:"client_net,dict" about:"its network: /24 of IPv4, /48 of IPv6"`
	ClientPort  int32     `parquet:"client_port" about:"and its port"`
	Server      string    `parquet:"server,dict" about:"who was asked, as text"`
	ServerBytes [16]byte  `parquet:"server_bytes,dict" about:"the same as 16 bytes"`
	ServerPort  int32     `parquet:"server_port" about:"and its port"`
	Transport   string    `parquet:"transport,dict" about:"udp, tcp, tls, https or quic"`
	Name        string    `parquet:"name,dict" about:"asked for, with its final dot, as it was spelled"`
	NameSort    string    `parquet:"name_sort,dict" about:"the same in lower case with its labels from the root down, without the dot of the root: what is under a domain lies together"`
	Type        string    `parquet:"type,dict" about:"of the question, by mnemonic"`
	Class       string    `parquet:"class,dict" about:"of the question"`
	Outcome     string    `parquet:"outcome,dict" about:"how it ended, in one word"`
	Failed      bool      `parquet:"failed" about:"that is a failure; a name that does not exist is none"`
	Answered    bool      `parquet:"answered" about:"a reply came"`
	RCode       *string   `parquet:"rcode,optional,dict" about:"of the reply, by mnemonic; NULL without one"`
	AA          bool      `parquet:"aa" about:"flags of the reply: authoritative"`
	TC          bool      `parquet:"tc" about:"truncated"`
	RD          bool      `parquet:"rd" about:"flags of the question: recursion desired"`
	RA          bool      `parquet:"ra" about:"of the reply: recursion available"`
	AD          bool      `parquet:"ad" about:"of the reply: its signatures were checked"`
	CD          bool      `parquet:"cd" about:"of the question: nothing is to be checked"`
	DO          bool      `parquet:"do" about:"of the question: signatures are wanted"`
	EDNS        bool      `parquet:"edns" about:"the question has EDNS"`
	QuerySize   int32     `parquet:"query_size" about:"bytes of the question's message"`
	ReplySize   int32     `parquet:"reply_size" about:"bytes of the reply's; 0 without one"`
	Latency     *int64    `parquet:"latency_ns,optional" about:"from the last time of asking to the reply, in nanoseconds; NULL without one, or where it is not recorded"`
	Waited      *int64    `parquet:"waited_ns,optional" about:"the same from the first time of asking"`
	Attempts    int32     `parquet:"attempts" about:"how many times it was sent"`
	Before      *string   `parquet:"before_server,optional,dict" about:"the server that the client had asked the same before, in vain; NULL for none"`
	TTL         *int64    `parquet:"ttl,optional" about:"of the first answer, in seconds; NULL without one"`
	Values      []string  `parquet:"values,list" about:"of the answer, in master-file form, aliases left out"`
	Findings    []string  `parquet:"findings,list" about:"codes of what is remarkable about it"`
}

// Bounds of a row group, which is sorted by time.
const rowsOfGroup = 1 << 16

// Columns writes exchanges as Parquet: one file, or a folder with files by time and size. Memory does not grow with
// their number.
type Columns struct {
	aside
	open  func(name string) (io.WriteCloser, error)
	split Split
	parts []*part // the newest last
	begun map[string]int
	hosts map[capture.Endpoint]*host // of those that were met
	names map[wire.Name]*spelling
	read  wire.Reader
	says  exchange.Answer
	said  exchange.Said
	Count int
}

// Split says how a folder is divided; the zero value is one file.
type Split struct {
	Every time.Duration // of time; 0: not by it
	Bytes int64         // of one file, about; 0: as many as it gets
}

// maxParts is how many files are written at once: exchanges end in another order than they begin.
const maxParts = 4

// part is one file that is being written.
type part struct {
	key    string
	out    io.WriteCloser
	count  counting
	writer *parquet.GenericWriter[ColumnRow]
	group  *rowGroup // that is being made

	writing sync.WaitGroup // a row group
	spare   *rowGroup      // that was written, and is empty
	batch   rowBatch
	err     error
}

// counting counts the bytes that are written.
type counting struct {
	w io.Writer
	n atomic.Int64
}

func (c *counting) Write(b []byte) (int, error) {
	n, err := c.w.Write(b)
	c.n.Add(int64(n))
	return n, err
}

// NewColumns writes to the files that open opens: "" is the only one, and others are below a folder.
func NewColumns(split Split, open func(name string) (io.WriteCloser, error)) *Columns {
	c := &Columns{open: open, split: split, begun: map[string]int{}, hosts: map[capture.Endpoint]*host{}, names: map[wire.Name]*spelling{}}
	c.write = c.batch
	return c
}

// Add writes an exchange. The error may be that of an earlier one.
func (c *Columns) Add(t *conversation.Transaction) error { return c.add(t, nil) }

// Close writes what is left.
func (c *Columns) Close() error {
	err := c.end()
	if err == nil && len(c.parts) == 0 && c.split == (Split{}) {
		_, err = c.partOf("") // a table without a row
	}
	for _, p := range c.parts {
		err = errors.Join(err, p.close(err == nil))
	}
	c.parts = nil
	return err
}

func (c *Columns) batch(b *batch) error {
	all := b.All()
	for i := range all {
		p, err := c.partOf(c.split.key(all[i].First.At))
		if err != nil {
			return err
		}
		if c.row(&all[i], p.group); len(p.group.rows) == rowsOfGroup {
			if err = p.hand(); err == nil && c.split.Bytes > 0 && p.count.n.Load() >= c.split.Bytes {
				c.parts = slices.DeleteFunc(c.parts, func(other *part) bool { return other == p })
				err = p.close(true)
			}
		}
		if err != nil {
			return err
		}
		c.Count++
	}
	return nil
}

// key is the folder that a time, in nanoseconds since 1970, belongs to, in the form that engines know partitions by.
func (s Split) key(nanos int64) string {
	if s.Every == 0 {
		return ""
	}
	at := time.Unix(0, nanos).UTC().Truncate(s.Every)
	key := at.Format("date=2006-01-02")
	if s.Every < 24*time.Hour {
		key += at.Format("/hour=15")
	}
	if s.Every < time.Hour {
		key += at.Format("/minute=04")
	}
	return key
}

// partOf is the file that rows of a key go to.
func (c *Columns) partOf(key string) (*part, error) {
	for i := len(c.parts) - 1; i >= 0; i-- {
		if c.parts[i].key == key {
			return c.parts[i], nil
		}
	}
	if len(c.parts) == maxParts {
		oldest := c.parts[0]
		c.parts = append(c.parts[:0], c.parts[1:]...)
		if err := oldest.close(true); err != nil {
			return nil, err
		}
	}
	name := ""
	if c.split != (Split{}) {
		c.begun[key]++
		name = fmt.Sprintf("%05d.parquet", c.begun[key])
		if key != "" {
			name = key + "/" + name
		}
	}
	out, err := c.open(name)
	if err != nil {
		return nil, err
	}
	p := &part{key: key, out: out, count: counting{w: out}, group: &rowGroup{}, spare: &rowGroup{}}
	p.writer = parquet.NewGenericWriter[ColumnRow](&p.count, parquet.Compression(&zstd.Codec{Level: zstd.SpeedFastest}), parquet.CreatedBy("unquil", "", ""),
		parquet.SortingWriterConfig(parquet.SortingColumns(parquet.Ascending("time"))),
		parquet.BloomFilters(parquet.SplitBlockFilter(10, "name"), parquet.SplitBlockFilter(10, "client")))
	c.parts = append(c.parts, p)
	return p, nil
}

// hand hands the rows that there are over as a row group. They are written while others are made.
func (p *part) hand() error {
	err := p.wait()
	p.group, p.spare = p.spare, p.group
	p.writing.Go(func() { p.write(p.spare) })
	return err
}

// write writes a row group, and empties it.
func (p *part) write(g *rowGroup) {
	g.sort()
	text := string(g.text)
	for places := range slices.Chunk(g.order, rowsAtOnce) {
		p.batch.fill(g, places, text)
		if p.err == nil {
			_, p.err = p.writer.Write(p.batch.rows)
		}
	}
	if p.err == nil {
		p.err = p.writer.Flush()
	}
	g.reset()
}

// wait waits for the row group that is being written.
func (p *part) wait() error {
	p.writing.Wait()
	return p.err
}

// close ends the file. Whole says that it is to be one.
func (p *part) close(whole bool) (err error) {
	if whole {
		if len(p.group.rows) > 0 {
			err = p.hand()
		}
		if err = cmp.Or(err, p.wait()); err == nil {
			err = p.writer.Close()
		}
	}
	p.writing.Wait()
	return errors.Join(err, p.out.Close())
}

// row adds a row for an exchange.
func (c *Columns) row(t *conversation.Transaction, g *rowGroup) {
	client, server, query, outcome := t.Client(), t.Server(), t.View(), t.Outcome()
	row := shortRow{
		at: t.First.At, number: t.Number, client: c.host(client), server: c.host(server), clientPort: client.Port(), serverPort: server.Port(), transport: t.Transport(),
		querySize: int32(len(query.Bytes())), attempts: int32(t.Asked()), answered: t.Answered(), asked: query.Flags(), latency: null, waited: null, ttl: null, rcode: null,
		valuesFrom: len(g.ends), codesFrom: len(g.codes),
	}
	question, ok := query.Question()
	if ok {
		row.name, row.of, row.class = c.spelling(question.Name), question.Type, question.Class
	}
	row.hasDO, row.hasEDNS = query.EDNS()
	if row.answered {
		reply := t.Reply()
		row.replySize = int32(len(reply))
		if took := t.Took(); took != 0 {
			row.latency, row.waited = int64(took), int64(t.Waited())
		}
		if m, err := c.read.Read(reply); err == nil {
			row.rcode, row.replied = int64(m.RCode()), m.Flags
			if judged := c.says.Judge(question, m); !t.Cut {
				outcome = judged
			}
			c.said.Read(c.says.Records)
			for i := range c.said.Len() {
				g.text = append(g.text, c.said.At(i)...)
				g.ends = append(g.ends, len(g.text))
			}
			if len(m.Answer) > 0 {
				row.ttl = int64(m.Answer[0].TTL)
			}
		}
	}
	row.outcome, row.failed = outcome, outcome.Failed() || outcome.Silent() && !row.answered
	if before := t.Related().Before; before.Number > 0 {
		row.before = c.host(before.Server)
	}
	g.codes = append(g.codes, t.Codes...)
	row.valuesTo, row.codesTo = len(g.ends), len(g.codes)
	g.rows = append(g.rows, row)
}

// host is an address in all its forms.
type host struct {
	text, net string
	bytes     [16]byte
}

// spelling is a name in all its forms.
type spelling struct{ text, sorted string }

// maxForms is how many hosts and names are remembered in all their forms.
const maxForms = 1 << 17

func (c *Columns) host(e capture.Endpoint) *host {
	e = e.Host()
	h := c.hosts[e]
	if h == nil {
		a := e.Addr()
		bits := 48
		if a.Is4() {
			bits = 24
		}
		h = &host{text: a.String(), bytes: a.As16()}
		if p, err := a.Prefix(bits); err == nil {
			h.net = p.String()
		}
		if len(c.hosts) < maxForms {
			c.hosts[e] = h
		}
	}
	return h
}

func (c *Columns) spelling(name wire.Name) *spelling {
	s := c.names[name]
	if s == nil {
		s = &spelling{name.String(), sorted(name)}
		if len(c.names) < maxForms {
			c.names[name.Clone()] = s
		}
	}
	return s
}

// sorted is a name in lower case with its labels from the root down. In it nothing but a dot ends a label, and a
// dot within one has a backslash before it.
func sorted(name wire.Name) string {
	text := name.Fold().String()
	out := make([]byte, 0, len(text))
	end := len(text) - 1 // its last dot
	for i := end - 1; i >= -1; i-- {
		if i >= 0 && (text[i] != '.' || escaped(text[:i])) {
			continue
		}
		if len(out) > 0 {
			out = append(out, '.')
		}
		out = append(out, text[i+1:max(end, i+1)]...)
		end = i
	}
	return string(out)
}

// escaped reports whether a text ends in an odd number of backslashes.
func escaped(text string) bool { return (len(text)-len(strings.TrimRight(text, `\`)))%2 == 1 }

// columnTypes are the types of columns as SQL calls them.
var columnTypes = map[reflect.Type]string{
	reflect.TypeFor[time.Time](): "TIMESTAMP, nanoseconds", reflect.TypeFor[string](): "VARCHAR", reflect.TypeFor[bool](): "BOOLEAN",
	reflect.TypeFor[int32](): "INTEGER", reflect.TypeFor[int64](): "BIGINT", reflect.TypeFor[[16]byte](): "BINARY(16)", reflect.TypeFor[[]string](): "ARRAY of VARCHAR",
}

// ColumnTable is what the columns are, as rows of a table in Markdown.
func ColumnTable() string {
	var b strings.Builder
	of := reflect.TypeFor[ColumnRow]()
	for i := range of.NumField() {
		field := of.Field(i)
		name, _, _ := strings.Cut(field.Tag.Get("parquet"), ",")
		kind := field.Type
		if kind.Kind() == reflect.Pointer {
			kind = kind.Elem()
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", name, columnTypes[kind], field.Tag.Get("about"))
	}
	return b.String()
}
