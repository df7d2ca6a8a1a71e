package zonefile

import (
	"bytes"
	"cmp"
	"errors"
	"io"
	"strings"

	"unquil/core/wire"
)

// parser turns entries into records and keeps what one entry leaves for the next.
type parser struct {
	lexer
	file   string
	origin wire.Name

	owner     wire.Name
	ownerText []byte // as last written, with the origin it hung from
	ownerFrom wire.Name
	class     wire.Class
	ttl       uint32 // of $TTL, or else as last written
	hasTTL    bool
	fixedTTL  bool // $TTL was given

	list  []wire.Word
	words wire.Words
	rdata []byte
}

func newParser(r io.Reader, o Options) *parser {
	if o.Origin.IsZero() {
		o.Origin = wire.Root
	}
	return &parser{lexer: newLexer(r), file: cmp.Or(o.File, "master file"), origin: o.Origin}
}

// fail is an *Error at word i of the entry, or after its last word.
func (p *parser) fail(i int, field string, err error) error {
	w := p.place(i)
	return &Error{p.file, w.line, w.column, field, err}
}

func (p *parser) place(i int) word {
	if i < len(p.lexer.words) {
		return p.lexer.words[i]
	}
	last := p.lexer.words[len(p.lexer.words)-1]
	last.column += last.to - last.from
	return last
}

// next reads one entry; found is false for a directive.
func (p *parser) next() (record wire.Record, found bool, err error) {
	if err := p.lexer.next(p.file); err != nil {
		return record, false, err
	}
	if first := p.wordText(0); !p.blank && len(first) > 0 && first[0] == '$' {
		return record, false, p.directive(string(first))
	}
	record, err = p.record()
	return record, err == nil, err
}

func (p *parser) directive(name string) error {
	if len(p.lexer.words) < 2 {
		return p.fail(1, name, wire.ErrMissing)
	}
	value := string(p.wordText(1))
	switch strings.ToUpper(name) {
	case "$ORIGIN":
		origin, err := wire.ParseNameIn(value, p.origin)
		if err != nil {
			return p.fail(1, name, err)
		}
		p.origin = origin
	case "$TTL":
		ttl, ok := wire.ParseTTL(value)
		if !ok {
			return p.fail(1, name, wire.ErrValue)
		}
		p.ttl, p.hasTTL, p.fixedTTL = ttl, true, true
	default:
		return p.fail(0, name, ErrDirective)
	}
	return nil
}

func (p *parser) record() (r wire.Record, err error) {
	at := 0
	if !p.blank {
		if err := p.readOwner(); err != nil {
			return r, p.fail(0, "owner", err)
		}
		at = 1
	}
	if p.owner.IsZero() {
		return r, p.fail(0, "owner", ErrOwner)
	}
	r.Name, r.Class = p.owner, cmp.Or(p.class, wire.IN)
	ttlGiven := false
	for ; ; at++ {
		if at >= len(p.lexer.words) {
			return r, p.fail(at, "type", ErrNoType)
		}
		text := p.wordText(at)
		if !ttlGiven && len(text) > 0 && text[0] >= '0' && text[0] <= '9' {
			if r.TTL, ttlGiven = wire.ParseTTL(string(text)); !ttlGiven {
				return r, p.fail(at, "TTL", wire.ErrValue)
			}
			continue
		}
		if class, err := wire.ParseClass(string(text)); err == nil && class != wire.ANYC {
			if p.class != 0 && class != p.class {
				return r, p.fail(at, "class", ErrClass)
			}
			r.Class = class
			continue
		}
		break
	}
	if r.Type, err = wire.ParseType(string(p.wordText(at))); err != nil {
		return r, p.fail(at, "type", wire.ErrUnknownType)
	}
	at++
	p.list = p.wireWords(p.list[:0], at)
	p.words.Reset(p.list, p.origin)
	p.rdata, err = wire.ParseRData(p.rdata[:0], r.Type, r.Class, &p.words)
	if text, ok := errors.AsType[*wire.TextError](err); ok {
		return r, p.fail(at+text.Word, text.Field, text.Err)
	}
	r.Data = string(p.rdata)
	p.class = r.Class
	return r, p.setTTL(&r, ttlGiven, at)
}

// setTTL gives a record without a TTL the one of $TTL, or of the record before
// (RFC 1035 §5.1), or for an SOA its own MINIMUM (RFC 2308 §4).
func (p *parser) setTTL(r *wire.Record, given bool, at int) error {
	if given {
		if !p.fixedTTL {
			p.ttl, p.hasTTL = r.TTL, true
		}
		return nil
	}
	if !p.hasTTL {
		soa, ok := r.Authority()
		if !ok {
			return p.fail(at-1, "TTL", ErrNoTTL)
		}
		p.ttl, p.hasTTL = soa.Minimum, true
	}
	r.TTL = p.ttl
	return nil
}

// readOwner sets the owner from the first word. Records of one owner mostly
// stand together, so the name read last is kept.
func (p *parser) readOwner() error {
	text := p.wordText(0)
	if p.ownerFrom == p.origin && bytes.Equal(text, p.ownerText) && !p.owner.IsZero() {
		return nil
	}
	owner, err := wire.ParseNameIn(string(text), p.origin)
	if err != nil {
		return err
	}
	p.owner, p.ownerFrom = owner, p.origin
	p.ownerText = append(p.ownerText[:0], text...)
	return nil
}
