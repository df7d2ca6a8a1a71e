package redact

import (
	"net/netip"
	"slices"
	"strings"
	"unicode/utf8"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// The options that hold a name (RFC 7901, RFC 9567).
const (
	chainOption  = 13
	reportOption = 18
)

// sealed are the types whose data is a certificate or a key: one in which something would
// have to be replaced is none afterwards.
var sealed = []wire.Type{37, 52, 53, 61} // CERT, TLSA, SMIMEA, OPENPGPKEY

// plainOptions hold numbers and nothing else (RFC 6975, RFC 7314, RFC 7828, RFC 7830, RFC 8145).
var plainOptions = []uint16{5, 6, 7, wire.Expire, wire.KeepAlive, 14, 19}

// Message returns a copy of a message with its names and addresses replaced. Of one that
// cannot be read, what comes after the question is cut out, and of one without a question
// that can be read, all. nil stays nil.
func (r *Redactor) Message(msg []byte) []byte {
	if msg == nil {
		return nil
	}
	m, err := wire.ReadMessage(msg)
	if err != nil {
		r.cut[string(msg)] = true
		if len(m.Questions) == 0 {
			return []byte{}
		}
		// The counts stay: they tell that there was more.
		cut := r.message(wire.Message{ID: m.ID, Flags: m.Flags, Questions: m.Questions})
		out, err := cut.Bytes()
		if err != nil || len(out) < 12 {
			return []byte{}
		}
		copy(out[6:12], msg[6:12])
		return r.whole(out)
	}
	changed := r.message(m)
	out, err := changed.Bytes()
	if err != nil {
		r.cut[string(msg)] = true
		return []byte{}
	}
	return r.whole(out)
}

// whole is a message if it tells nothing as a whole either; else nothing of it.
func (r *Redactor) whole(msg []byte) []byte {
	if r.clean(string(msg)) {
		return msg
	}
	r.cut[string(msg)] = true
	return []byte{}
}

func (r *Redactor) message(m wire.Message) wire.Message {
	m.Questions = slices.Clone(m.Questions)
	for i := range m.Questions {
		m.Questions[i].Name = r.Name(m.Questions[i].Name)
	}
	for _, section := range []*[]wire.Record{&m.Answer, &m.Authority, &m.Additional} {
		var kept []wire.Record
		for _, record := range *section {
			if changed, ok := r.Record(record); ok {
				kept = append(kept, changed)
			} else {
				r.cut[record.String()] = true
			}
		}
		*section = kept
	}
	return m
}

// Record returns a record with its names and addresses replaced; ok is false for one whose
// data cannot be read, or still tells what it should not.
func (r *Redactor) Record(record wire.Record) (out wire.Record, ok bool) {
	if record.Type == wire.OPT {
		return r.options(record), true
	}
	record.Name = r.Name(record.Name)
	if record.Data == "" {
		return record, true
	}
	value := record.Value()
	if strings.HasPrefix(value, `\#`) {
		return record, false
	}
	text := ""
	if joined := record.Text(); record.Type == wire.TXT {
		// One text, however it is cut into strings (RFC 7208 §3.3).
		if text = r.Text(joined); text != joined {
			record.Data = characterStrings(text)
			return record, r.clean(record.Data)
		}
	}
	changed := r.Text(value)
	if changed != value {
		if slices.Contains(sealed, record.Type) {
			return record, false
		}
		data, err := wire.ParseRecordData(record.Type, record.Class, changed)
		if err != nil {
			return record, false
		}
		record.Data = data
	}
	return record, r.clean(record.Data)
}

// characterStrings cuts a text into as many as it takes (RFC 1035 §3.3.14).
func characterStrings(text string) string {
	var b strings.Builder
	for first := true; first || text != ""; first = false {
		n := min(len(text), 255)
		b.WriteByte(byte(n))
		b.WriteString(text[:n])
		text = text[n:]
	}
	return b.String()
}

// clean reports whether bytes hold none of the chosen labels, in any form that the finder knows.
func (r *Redactor) clean(data string) bool {
	return r.find.names(data) == ""
}

// options returns an OPT record without what tells.
func (r *Redactor) options(record wire.Record) wire.Record {
	record.Name = r.Name(record.Name)
	m := wire.Message{Additional: []wire.Record{record}}
	edns, ok := m.EDNS()
	if !ok {
		r.cut[record.Data] = true
		record.Data = ""
		return record
	}
	var kept []wire.Option
	for _, o := range edns.Options {
		if o, ok := r.option(o); ok {
			kept = append(kept, o)
		} else {
			r.cut[o.Name()+o.Data] = true
		}
	}
	out := wire.EDNS{Options: kept}.Record(wire.NoError)
	record.Data = out.Data
	return record
}

func (r *Redactor) option(o wire.Option) (wire.Option, bool) {
	switch {
	case o.Data == "" || slices.Contains(plainOptions, o.Code):
		return o, true
	case o.Code == wire.ClientSubnet:
		network, scope, ok := o.Subnet()
		if !ok {
			return o, false
		}
		if network.Bits() > 0 {
			o = wire.NewSubnet(r.Prefix(network))
		}
		o.Data = o.Data[:3] + string(byte(scope)) + o.Data[4:]
		return o, true
	case o.Code == chainOption || o.Code == reportOption:
		name, err := wire.NameFromWire(o.Data)
		if err != nil {
			return o, false
		}
		o.Data = r.Name(name).Wire()
		return o, true
	case o.Code == wire.EDE && len(o.Data) >= 2:
		if !utf8.ValidString(o.Data[2:]) {
			o.Data = o.Data[:2]
			return o, true
		}
		o.Data = o.Data[:2] + r.Text(o.Data[2:])
		return o, r.clean(o.Data)
	case o.Code == wire.NSID:
		if utf8.ValidString(o.Data) {
			o.Data = r.Text(o.Data)
		}
		return o, r.clean(o.Data)
	case o.Code == wire.Cookie:
		return o, true
	case o.Code == wire.Padding:
		o.Data = strings.Repeat("\x00", len(o.Data)) // it may hold anything (RFC 7830 §3)
		return o, true
	}
	return o, false
}

// Exchange returns e with names and addresses replaced in everything that it holds.
func (r *Redactor) Exchange(e exchange.Exchange) exchange.Exchange {
	e = Copy(r, e)
	if last := e.Last(); e.Reply != nil && last != nil && last.Reply != nil {
		if m, err := wire.ReadMessage(last.Reply); err == nil || len(m.Questions) > 0 {
			e.Reply = &m
		}
	}
	return e
}

// Clients are the addresses of those who asked, in exchanges.
func Clients(exchanges []exchange.Exchange) (all []netip.Addr) {
	for i := range exchanges {
		all = append(all, exchanges[i].Client.Addr())
		for _, a := range exchanges[i].Attempts {
			all = append(all, a.Local.Addr())
		}
	}
	return all
}
