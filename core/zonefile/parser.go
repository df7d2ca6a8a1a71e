package zonefile

import (
	"bytes"
	"cmp"
	"errors"
	"io"
	"strings"
	"unsafe"

	"unquil/core/wire"
)

// parser turns entries into records and keeps what one entry leaves for the next.
type parser struct {
	lexer
	file   string
	depth  int
	folder Options
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
	return &parser{lexer: newLexer(r), file: cmp.Or(o.File, "master file"), origin: o.Origin, folder: o}
}

// all yields everything in the file and in those that it includes; it reports
// whether the reader of the records wants to go on.
func (p *parser) all(yield func(wire.Record, error) bool) bool {
	for {
		err := p.lexer.next(p.file)
		if err == io.EOF {
			return true
		}
		if err == nil {
			if first := p.wordText(0); !p.blank && len(first) > 0 && first[0] == '$' {
				if strings.EqualFold(string(first), "$INCLUDE") {
					if err = p.include(yield); err == errStopped {
						return false
					}
				} else {
					err = p.directive(string(first))
				}
			} else {
				var record wire.Record
				if record, err = p.record(); err == nil && !yield(record, nil) {
					return false
				}
			}
		}
		if err != nil {
			_, here := errors.AsType[*Error](err)
			if !yield(wire.Record{}, err) || !here {
				return false
			}
		}
	}
}

// fail is an *Error at word i of the entry, or after its last word.
func (p *parser) fail(i int, field string, err error) error {
	w := p.lexer.words[len(p.lexer.words)-1]
	if i < len(p.lexer.words) {
		w = p.lexer.words[i]
	} else {
		w.column += w.to - w.from
	}
	return &Error{p.file, w.line, w.column, field, err}
}

func (p *parser) directive(name string) error {
	if len(p.lexer.words) < 2 {
		return p.fail(1, name, wire.ErrMissing)
	}
	if upper := strings.ToUpper(name); len(p.lexer.words) > 2 && (upper == "$ORIGIN" || upper == "$TTL") {
		return p.fail(2, name, wire.ErrSurplus)
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

// errStopped says that whoever ranges over the records wants no more.
var errStopped = errors.New("stopped")

// include reads another file in place: with an origin of its own if one is
// given; what it leaves behind does not outlast it (RFC 1035 §5.1).
func (p *parser) include(yield func(wire.Record, error) bool) error {
	if len(p.lexer.words) < 2 {
		return p.fail(1, "$INCLUDE", wire.ErrMissing)
	}
	o := p.folder
	o.File, o.Origin = string(p.wordText(1)), p.origin
	if len(p.lexer.words) > 2 {
		origin, err := wire.ParseNameIn(string(p.wordText(2)), p.origin)
		if err != nil {
			return p.fail(2, "$INCLUDE", err)
		}
		o.Origin = origin
	}
	switch {
	case o.Include == nil:
		return p.fail(1, "$INCLUDE", ErrInclude)
	case p.depth == maxDepth:
		return p.fail(1, "$INCLUDE", ErrDepth)
	}
	file, err := o.Include.Open(o.File)
	if err != nil {
		return p.fail(1, "$INCLUDE", err)
	}
	defer file.Close()
	inner := newParser(file, o)
	inner.depth, inner.class, inner.ttl, inner.hasTTL, inner.fixedTTL = p.depth+1, p.class, p.ttl, p.hasTTL, p.fixedTTL
	if !inner.all(yield) {
		return errStopped
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
	ttlGiven, classGiven, known := false, false, false
	for ; ; at++ {
		if at >= len(p.lexer.words) {
			return r, p.fail(at, "type", ErrNoType)
		}
		text := p.wordText(at)
		if !ttlGiven && len(text) > 0 && text[0] >= '0' && text[0] <= '9' {
			if r.TTL, ttlGiven = wire.ParseTTL(borrow(text)); !ttlGiven {
				return r, p.fail(at, "TTL", wire.ErrValue)
			}
			continue
		}
		if !classGiven && len(text) == 2 && text[0]|0x20 == 'i' && text[1]|0x20 == 'n' && (p.class == 0 || p.class == wire.IN) {
			r.Class, classGiven = wire.IN, true // by far the most frequent word here
			continue
		}
		if r.Type, known = wire.TypeOf(text); known && (r.Type != wire.ANY || classGiven) {
			break
		}
		class, ok := wire.ClassOf(text)
		if !ok || classGiven {
			return r, p.fail(at, "type", wire.ErrUnknownType)
		}
		if p.class != 0 && class != p.class {
			return r, p.fail(at, "class", ErrClass)
		}
		r.Class, classGiven = class, true
	}
	at++
	p.list = p.wireWords(p.list[:0], at)
	p.words.Reset(p.list, p.origin)
	p.rdata, err = wire.ParseRData(p.rdata[:0], r.Type, r.Class, &p.words)
	if err != nil {
		text, _ := errors.AsType[*wire.TextError](err)
		return r, p.fail(at+text.Word, text.Field, text.Err)
	}
	r.Data = string(p.rdata)
	p.class = r.Class
	return r, p.setTTL(&r, ttlGiven, at)
}

// borrow gives the bytes of a word as a string for the length of one call.
func borrow(text []byte) string { return unsafe.String(unsafe.SliceData(text), len(text)) }

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
	owner, err := wire.ParseNameIn(borrow(text), p.origin)
	if err != nil {
		return err
	}
	p.owner, p.ownerFrom = owner, p.origin
	p.ownerText = append(p.ownerText[:0], text...)
	return nil
}
