package conversation

import (
	"slices"

	"unquil/core/capture"
	"unquil/core/finding"
)

// Copies are exchanges that stay when those they were made of go: some goroutine else can look
// at them meanwhile. The zero value is ready to use; nothing is allocated for the usual ones once
// there is room.
type Copies struct {
	all   []Transaction
	bytes []byte // of their messages
	codes []finding.Code
}

// Reset takes all of them out.
func (c *Copies) Reset() { c.all, c.bytes, c.codes = c.all[:0], c.bytes[:0], c.codes[:0] }

// All are those there are, in order.
func (c *Copies) All() []Transaction { return c.all }

// Bytes is how many bytes their messages have.
func (c *Copies) Bytes() int { return len(c.bytes) }

// Add copies an exchange.
func (c *Copies) Add(t *Transaction) {
	question := *t.unpackQuestion()
	reply := t.reply
	if t.Answered() {
		reply = t.unpackReply()
	}
	c.all = append(c.all, *t)
	own := &c.all[len(c.all)-1]
	own.next, own.previous, own.from, own.gotFrom, own.opened = nil, nil, nil, nil, true
	own.half, own.sibling, own.room, own.kept = t.Half(), nil, nil, nil
	own.envelope = question
	own.envelope.message = question.message.Over(c.keep(question.message.Bytes()))
	own.reply = reply.Over(c.keep(reply.Bytes()))
	start := len(c.codes)
	c.codes = append(c.codes, t.Codes...)
	own.Codes = c.codes[start:len(c.codes):len(c.codes)]
	if t.rel != nil {
		rel := *t.rel
		rel.again = slices.Clone(rel.again)
		if rel.Forbidden != nil {
			rel.Forbidden = new(capture.Report)
			*rel.Forbidden = *t.rel.Forbidden
		}
		own.rel = &rel
	}
}

func (c *Copies) keep(b []byte) []byte {
	start := len(c.bytes)
	c.bytes = append(c.bytes, b...)
	return c.bytes[start:len(c.bytes):len(c.bytes)]
}
