// Package redact replaces the addresses of clients and chosen names by others, the
// same everywhere, so that evidence can be handed on without telling them.
package redact

import (
	"bytes"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// Redactor replaces. Of a chosen name its first label goes, in it and in every name
// below it; what stands behind stays. Lengths stay too, so that messages keep their
// layout. Client addresses become those of a range kept for tests (RFC 2544, RFC 4193).
type Redactor struct {
	names   []hidden // the longest first
	clients map[netip.Addr]netip.Addr
	order   []netip.Addr
}

// hidden is a chosen name and the label that takes the place of its first.
type hidden struct {
	name  wire.Name
	label string
	text  *regexp.Regexp
}

// New returns a Redactor for the names, which may be none.
func New(names []wire.Name) *Redactor {
	r := &Redactor{clients: map[netip.Addr]netip.Addr{}}
	for i, name := range names {
		if name.IsRoot() {
			continue
		}
		label, parent, _ := strings.Cut(strings.TrimSuffix(name.Fold().String(), "."), ".")
		behind := ""
		if parent != "" {
			behind = regexp.QuoteMeta("." + parent)
		}
		r.names = append(r.names, hidden{name.Fold(), standIn(i+1, int(name.Wire()[0])),
			regexp.MustCompile(`(?i)(^|[^a-z0-9_-])` + regexp.QuoteMeta(label) + `(` + behind + `)($|[^a-z0-9_-])`)})
	}
	slices.SortStableFunc(r.names, func(a, b hidden) int { return b.name.Labels() - a.name.Labels() })
	return r
}

// standIn is a label of the given length, another for each number as far as the
// length allows.
func standIn(number, length int) string {
	text := fmt.Sprintf("hidden%d", number)
	if length < len(text) {
		text = fmt.Sprintf("h%d", number)
	}
	if length < len(text) {
		return text[len(text)-length:]
	}
	return text + strings.Repeat("x", length-len(text))
}

// client is the address that stands for a client's, always the same.
func (r *Redactor) client(a netip.Addr) netip.Addr {
	if !a.IsValid() {
		return a
	}
	if stands, known := r.clients[a]; known {
		return stands
	}
	n := len(r.clients) + 1
	stands := netip.AddrFrom4([4]byte{198, byte(18 + n>>16&1), byte(n >> 8), byte(n)})
	if a.Is6() {
		long := [16]byte{0: 0xfd, 14: byte(n >> 8), 15: byte(n)}
		stands = netip.AddrFrom16(long)
	}
	r.clients[a], r.order = stands, append(r.order, a)
	return stands
}

func (r *Redactor) endpoint(a netip.AddrPort) netip.AddrPort {
	return netip.AddrPortFrom(r.client(a.Addr()), a.Port())
}

// Exchange returns e with its client's address and the chosen names replaced in
// everything that it holds.
func (r *Redactor) Exchange(e exchange.Exchange) exchange.Exchange {
	e.Client = r.endpoint(e.Client)
	e.Attempts = slices.Clone(e.Attempts)
	for i := range e.Attempts {
		a := &e.Attempts[i]
		a.Local = r.endpoint(a.Local)
		a.Query, a.Reply = r.Message(a.Query), r.Message(a.Reply)
		a.Rejected = slices.Clone(a.Rejected)
		for k := range a.Rejected {
			a.Rejected[k].Data = r.Message(a.Rejected[k].Data)
		}
	}
	e.Question.Name = r.name(e.Question.Name)
	if last := e.Last(); e.Reply != nil && last != nil && last.Reply != nil {
		if m, err := wire.ReadMessage(last.Reply); err == nil || len(m.Questions) > 0 {
			e.Reply = &m
		}
	}
	return e
}

func (r *Redactor) name(name wire.Name) wire.Name {
	for _, h := range r.names {
		if !name.IsZero() && name.Under(h.name) {
			if hidden, err := wire.ParseName(r.Text(name.String())); err == nil {
				return hidden
			}
		}
	}
	return name
}

// Message returns a copy of a message with the chosen names replaced; nil stays nil.
func (r *Redactor) Message(msg []byte) []byte {
	if msg == nil {
		return nil
	}
	out := slices.Clone(msg)
	for _, at := range wire.NameOffsets(msg) {
		name, labels, err := labelsAt(msg, at)
		if err != nil {
			continue
		}
		for _, h := range r.names {
			if name.Under(h.name) {
				from := labels[name.Labels()-h.name.Labels()]
				copy(out[from+1:from+1+int(msg[from])], h.label)
			}
		}
	}
	for _, h := range r.names { // in texts, where a name stands with its dots; the lengths stay
		for before := []byte(nil); !bytes.Equal(before, out); {
			before, out = out, h.text.ReplaceAll(out, []byte("${1}"+h.label+"${2}${3}"))
		}
	}
	return out
}

// labelsAt reads the name at an offset, and where each of its labels stands.
func labelsAt(msg []byte, at int) (name wire.Name, labels []int, err error) {
	if name, _, err = wire.ReadName(msg, at); err != nil {
		return name, nil, err
	}
	for len(labels) < name.Labels() {
		if msg[at] >= 0xC0 {
			at = int(msg[at]&0x3F)<<8 | int(msg[at+1])
			continue
		}
		labels = append(labels, at)
		at += 1 + int(msg[at])
	}
	return name, labels, nil
}

// Text returns text with the chosen names, and the addresses of the clients that
// were met so far, replaced.
func (r *Redactor) Text(text string) string {
	for _, h := range r.names {
		for before := ""; before != text; { // names side by side share what stands between them
			before = text
			text = h.text.ReplaceAllString(text, "${1}"+h.label+"${2}${3}")
		}
	}
	for _, a := range r.order {
		pattern := regexp.MustCompile(`(^|[^0-9a-f.:])` + regexp.QuoteMeta(a.String()) + `($|[^0-9a-f.:]|[.:]($|[^0-9a-f]))`)
		text = pattern.ReplaceAllString(text, "${1}"+r.clients[a].String()+"${2}")
	}
	return text
}
