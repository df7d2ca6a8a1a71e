package data

import (
	"cmp"
	"encoding/json"
	"io"
	"strconv"
	"time"

	"unquil/core/capture"
	"unquil/core/conversation"
	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/wire"
)

// Pairs writes the exchanges of captures one after the other, as JSON lines or as CSV. There
// may be millions: they are written straight from the packets, nothing is allocated for the
// usual ones, and it is done beside the reading. What they look like is said by
// [PairedExchange] and [ExchangeColumns].
type Pairs struct {
	live bool // each is wanted at once
	csv  bool
	w    io.Writer

	aside
	encoding pairEncoder
}

// NewPairs writes to w: JSON lines, or CSV with its heading. Live says that each exchange is
// wanted at once.
func NewPairs(w io.Writer, csv, live bool) *Pairs {
	p := &Pairs{w: w, csv: csv, live: live, encoding: pairEncoder{second: -1}}
	p.write = p.encode
	if csv {
		p.encoding.out = appendRow(nil, ExchangeColumns...)
	}
	return p
}

// Write writes one exchange, with the program that asked; nil: nobody knows. The error may be that
// of an earlier one.
func (p *Pairs) Write(t *conversation.Transaction, by *Program) error {
	if err := p.add(t, by); err != nil || !p.live {
		return err
	}
	return cmp.Or(p.aside.end(), p.flushOut())
}

// encode writes a batch.
func (p *Pairs) encode(b *batch) (err error) {
	all := b.All()
	for i := range all {
		if p.csv {
			p.encoding.row(&all[i])
		} else if err = p.encoding.line(&all[i], b.by[i]); err != nil {
			return err
		}
		if len(p.encoding.out) >= pairsAtOnce {
			if err = p.flushOut(); err != nil {
				return err
			}
		}
	}
	return nil
}

// pairsAtOnce is from how many bytes on they are written.
const pairsAtOnce = 1 << 16

func (p *Pairs) flushOut() error {
	_, err := p.w.Write(p.encoding.out)
	p.encoding.out = p.encoding.out[:0]
	return err
}

// End writes what is left, and anything more as a line of JSON; nil: nothing.
func (p *Pairs) End(more any) error {
	err := p.aside.end()
	if err == nil && more != nil {
		err = p.encoding.value(more)
	}
	return cmp.Or(err, p.flushOut())
}

// pairEncoder appends exchanges to out.
type pairEncoder struct {
	out    []byte
	reader wire.Reader
	answer exchange.Answer
	said   exchange.Said
	second int64 // that clock is of
	clock  []byte
	cell   []byte

	packets []int
}

// line appends an exchange as a line of JSON.
func (p *pairEncoder) line(t *conversation.Transaction, by *Program) error {
	if by == nil && p.quickJSON(t) {
		return nil
	}
	e := t.Exchange()
	line := OfPaired(&e, t.Line())
	line.Program = by
	return p.value(line)
}

// value appends anything as a line of JSON.
func (p *pairEncoder) value(v any) error { return NewEncoder(appender{&p.out}).Encode(v) }

type appender struct{ to *[]byte }

func (a appender) Write(b []byte) (int, error) {
	*a.to = append(*a.to, b...)
	return len(b), nil
}

// quickJSON writes an exchange as a [PairedExchange] is, and reports whether it is one that it
// can write: its messages can be read.
func (p *pairEncoder) quickJSON(t *conversation.Transaction) bool {
	question, reply, ok := p.read(t)
	rel := t.Related()
	if !ok || rel.UnreadIn > 0 {
		return false
	}
	outcome := t.Outcome()
	if reply != nil {
		if judged := p.answer.Judge(question, reply); !t.Cut { // of what is not whole, what it has not says nothing
			outcome = judged
		}
	}
	b := number(p.out, `{"number":`, t.Number)
	b = appendEnd(append(b, `,"server":{"address":"`...), t.Server(), `","port":`)
	b = appendEnd(append(b, `},"client":{"address":"`...), t.Client(), `","port":`)
	b = question.Name.AppendJSON(append(b, `},"question":{"name":`...))
	b = append(append(b, `,"type":"`...), question.Type.String()...)
	b = append(append(b, `","class":"`...), question.Class.String()...)
	b = append(append(b, `"},"outcome":"`...), outcome...)
	b = append(b, '"')
	if reply != nil {
		b = append(append(b, `,"rcode":"`...), reply.RCode().String()...)
		b = strconv.AppendBool(append(b, `","authoritative":`...), reply.Flags.Has(wire.AA))
		p.said.Read(p.answer.Records)
		for i := range p.said.Len() {
			b = append(b, ',')
			if i == 0 {
				b = append(b, `"values":[`...)
			}
			b = escape.AppendJSON(b, p.said.At(i))
		}
		if p.said.Len() > 0 {
			b = append(b, ']')
		}
	}
	b = append(append(b, `,"transport":"`...), t.Transport()...)
	b = number(b, `","attempts":`, t.Asked())
	b = append(p.time(append(b, `,"sent":"`...), t.First.At), '"')
	if reply != nil {
		b = appendSeconds(append(b, `,"took":`...), t.Took())
		b = number(b, `,"size":`, len(t.Reply()))
		b = reply.AppendJSON(append(b, `,"reply":`...))
	}
	for i, code := range t.Codes {
		b = append(b, ',')
		if i == 0 {
			b = append(b, `"findings":[`...)
		}
		b = append(append(append(b, '"'), code...), '"')
	}
	if len(t.Codes) > 0 {
		b = append(b, ']')
	}
	b = someNumber(b, `,"asked_again_after":`, rel.Before.Number)
	b = someNumber(b, `,"asked_again_in":`, rel.After.Number)
	b = someNumber(b, `,"other_half":`, t.Half().Number)
	p.packets = t.AppendPackets(p.packets[:0])
	for i, packet := range p.packets {
		b = append(b, ',')
		if i == 0 {
			b = append(b, `"packets":[`...)
		}
		b = strconv.AppendInt(b, int64(packet), 10)
	}
	b = append(b, ']')
	if t.HasTies() {
		b = appendTies(b, t.Line())
	}
	p.out = append(b, "}\n"...)
	return true
}

// appendTies appends what few exchanges have.
func appendTies(b []byte, line conversation.Line) []byte {
	if line.Looped {
		b = append(b, `,"looped":true`...)
	}
	b = someNumber(b, `,"differing_reply_in":`, line.OtherIn)
	b = someNumber(b, `,"guesses":`, line.Guesses)
	b = someNumber(b, `,"further_messages":`, line.Parts)
	b = someNumber(b, `,"last_message_in":`, line.LastIn)
	if line.Lasted != 0 {
		b = appendSeconds(append(b, `,"last_message_after":`...), line.Lasted)
	}
	if line.Forbidden != "" {
		b = escape.AppendJSON(append(b, `,"reported_unreachable":`...), line.Forbidden)
	}
	return b
}

// someNumber appends a member that is left out where it is 0.
func someNumber(b []byte, key string, n int) []byte {
	if n == 0 {
		return b
	}
	return number(b, key, n)
}

// read reads the messages of an exchange: reply is nil without one. What it returns is good until the
// next call. ok is false where they cannot be read to their ends.
func (p *pairEncoder) read(t *conversation.Transaction) (q wire.Question, reply *wire.Message, ok bool) {
	if q, ok = t.View().Question(); !ok || !t.Answered() {
		return q, nil, ok
	}
	reply, err := p.reader.Read(t.Reply())
	return q, reply, err == nil
}

// row appends an exchange as a row of [ExchangeColumns].
func (p *pairEncoder) row(t *conversation.Transaction) {
	question, reply, ok := p.read(t)
	if !ok || t.Related().UnreadIn > 0 {
		e := t.Exchange()
		p.out = appendRow(p.out, ExchangeRow(&e)...)
		return
	}
	b := append(strconv.AppendInt(p.out, int64(t.Number), 10), ',')
	b = append(p.time(b, t.First.At), ',')
	b = append(appendEnd(b, t.Client(), ","), ',')
	b = append(appendEnd(b, t.Server(), ","), ',')
	b = append(append(b, t.Transport()...), ',')
	p.cell = question.Name.Append(p.cell[:0])
	b = append(appendCell(b, p.cell), ',')
	b = append(append(b, question.Type.String()...), ',')
	outcome := t.Outcome()
	if reply != nil {
		if judged := p.answer.Judge(question, reply); !t.Cut { // of what is not whole, what it has not says nothing
			outcome = judged
		}
	}
	b = append(append(b, outcome...), ',')
	if reply != nil {
		b = appendMicroseconds(b, t.Took())
	}
	b = append(strconv.AppendInt(append(b, ','), int64(t.Asked()), 10), ',')
	if reply != nil {
		p.said.Read(p.answer.Records)
		b = appendCell(b, p.said.Joined("; "))
	}
	p.out = append(b, '\n')
}

func number(b []byte, key string, n int) []byte {
	return strconv.AppendInt(append(b, key...), int64(n), 10)
}

// appendEnd appends an address and a port with something between.
func appendEnd(b []byte, e capture.Endpoint, between string) []byte {
	return strconv.AppendUint(append(e.Addr().AppendTo(b), between...), uint64(e.Port()), 10)
}

// time appends a moment, in nanoseconds since 1970 UTC, as RFC 3339 has it: of many exchanges the
// second is the same.
func (p *pairEncoder) time(b []byte, at int64) []byte {
	second, rest := at/1e9, at%1e9
	if rest < 0 {
		second, rest = second-1, rest+1e9
	}
	if second != p.second {
		p.second, p.clock = second, time.Unix(second, 0).UTC().AppendFormat(p.clock[:0], "2006-01-02T15:04:05")
	}
	return append(appendFraction(append(b, p.clock...), rest), 'Z')
}

// appendFraction appends nanoseconds of a second behind a point, without the zeros at the end; nothing
// where there are none.
func appendFraction(b []byte, rest int64) []byte {
	if rest == 0 {
		return b
	}
	start := len(b)
	b = append(b, ".000000000"...)
	for i := len(b) - 1; i > start; i-- {
		b[i], rest = byte('0'+rest%10), rest/10
	}
	for b[len(b)-1] == '0' {
		b = b[:len(b)-1]
	}
	return b
}

// appendSeconds appends a time in seconds as [json.Marshal] writes it.
func appendSeconds(b []byte, d time.Duration) []byte {
	if d >= time.Microsecond && d < time.Second {
		return appendFraction(append(b, '0'), int64(d))
	}
	text, _ := json.Marshal(d.Seconds()) // which is a number
	return append(b, text...)
}

// appendMicroseconds appends a time in seconds with six digits behind the point.
func appendMicroseconds(b []byte, d time.Duration) []byte {
	if d < 0 || d >= time.Second || d%time.Microsecond != 0 {
		return strconv.AppendFloat(b, d.Seconds(), 'f', 6, 64)
	}
	b = append(b, "0.000000"...)
	for i, rest := len(b)-1, d/time.Microsecond; rest > 0; i, rest = i-1, rest/10 {
		b[i] = byte('0' + rest%10)
	}
	return b
}
