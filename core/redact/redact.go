// Package redact replaces names and addresses by others, the same everywhere, so that
// evidence can be handed on without telling them.
//
// It replaces values: in the exchanges, findings and walks, before anything is drawn or
// written. [Redactor.Exchange] and [Copy] do that. What cannot be read cannot be trusted,
// and is cut out. A [Finder] then looks through what was written, in every form that a
// name or an address may have there.
package redact

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"unquil/core/idn"
	"unquil/core/wire"
)

// Redactor replaces. Of a chosen name every label goes, wherever it stands; with a chosen
// name every address goes, and without one those of clients alone. Which network an
// address is in stays visible: those of one /16, /24, /32 (IPv6), /48 or /64 are of one
// afterwards too, in ranges that nobody has (240.0.0.0/4, RFC 1112 §4; fd00::/8, RFC 4193).
type Redactor struct {
	labels  map[string]string // in lower case, and what stands for them
	telling []string          // of those, the ones that tell something alone, or as a part of another
	odd     []string          // of those, the ones that are not words
	find    *Finder
	common  func(word string) bool
	told    map[string]bool // of words, what tells said
	hidden  []wire.Name     // as chosen
	clients map[netip.Addr]bool
	every   bool         // every address is hidden
	sorted  []netip.Addr // the clients
	nodes   map[netip.Prefix]*node
	stands  map[netip.Addr]netip.Addr // what was replaced by what
	given   int                       // stand-ins for labels
	cut     map[string]bool           // what was cut out
}

// node is a network that was met: its number among those of the network around it, and
// how many there are in it.
type node struct{ number, inside uint64 }

// New returns a Redactor for the names, which may be none, and the clients whose addresses
// go in any case. common reports of a word in lower case that reports hold it whatever they
// are about, maybe as a part of another: it stays where it stands alone.
func New(names []wire.Name, clients []netip.Addr, common func(word string) bool) *Redactor {
	r := &Redactor{labels: map[string]string{}, clients: map[netip.Addr]bool{}, nodes: map[netip.Prefix]*node{}, stands: map[netip.Addr]netip.Addr{}, cut: map[string]bool{}, told: map[string]bool{}, common: common}
	for _, a := range clients {
		if a = a.Unmap().WithZone(""); a.IsValid() && !r.clients[a] {
			r.clients[a], r.sorted = true, append(r.sorted, a)
		}
	}
	slices.SortFunc(r.sorted, netip.Addr.Compare)
	for _, name := range names {
		if name.IsRoot() || name.IsZero() {
			continue
		}
		r.hidden = append(r.hidden, name.Fold())
		for i := range name.Labels() {
			label := folded(name.Label(i))
			if _, known := r.labels[label]; known {
				continue
			}
			stands := r.standIn(label)
			forms := []string{label}
			if shown, ok := unicodeLabel(label); ok {
				r.labels[shown] = stands
				forms = append(forms, shown)
			}
			for _, form := range forms {
				if word, rest := nextWord(form); rest != "" || strings.ContainsAny(word, `\:.`) {
					r.odd = append(r.odd, form)
					r.telling = append(r.telling, form)
				} else if len(form) >= 4 && strings.Trim(form, "0123456789") != "" && !common(form) {
					r.telling = append(r.telling, form)
				}
			}
		}
	}
	r.every = len(r.hidden) > 0
	r.find = newFinder(r, common)
	return r
}

// HideEvery hides every address, whose clients are not known beforehand. Call it before anything
// is replaced.
func (r *Redactor) HideEvery() { r.every = true }

// unicodeLabel is the form of a label in its own letters; ok is false when it has no other.
func unicodeLabel(label string) (string, bool) {
	name, err := wire.Root.Child(label)
	if err != nil {
		return "", false
	}
	shown, ok := idn.Unicode(name)
	return strings.ToLower(shown), ok
}

// folded is a label in lower case, in the letters of any script.
func folded(label string) string { return strings.ToLower(label) }

// standIn gives a label another that says nothing.
func (r *Redactor) standIn(label string) string {
	r.given++
	stands := fmt.Sprintf("hidden%d", r.given)
	r.labels[label] = stands
	return stands
}

// Cut is how many records, options and messages were cut out so far, since they could not
// be read, each counted once however often it stood somewhere.
func (r *Redactor) Cut() int { return len(r.cut) }

// label returns what stands for a label, which may be itself.
func (r *Redactor) label(label string) string {
	key := folded(label)
	if stands, known := r.labels[key]; known {
		return stands
	}
	if r.tells(label) {
		return r.standIn(key)
	}
	if at := dashed().FindStringIndex(label); at != nil {
		if a, err := netip.ParseAddr(strings.ReplaceAll(label[at[0]:at[1]], "-", ".")); err == nil && r.hides(a) {
			return label[:at[0]] + strings.ReplaceAll(r.Address(a).String(), ".", "-") + label[at[1]:]
		}
	}
	return label
}

// tells reports whether a word holds a chosen label, in any form that the finder knows.
func (r *Redactor) tells(word string) bool {
	if len(word) < 4 || len(r.telling) == 0 {
		return false
	}
	told, known := r.told[word]
	if !known {
		if len(r.told) == maxTold {
			clear(r.told)
		}
		told = r.find.names(word) != ""
		r.told[word] = told
	}
	return told
}

// maxTold is how many words are remembered: texts and names say the same ones all the time.
const maxTold = 1 << 16

// Name returns the name that stands for one.
func (r *Redactor) Name(name wire.Name) wire.Name {
	if name.IsZero() || name.IsRoot() {
		return name
	}
	if reverse, ok := r.reverse(name); ok {
		name = reverse
	}
	labels := make([]string, name.Labels())
	changed := false
	for i := range labels {
		labels[i] = r.label(name.Label(i))
		changed = changed || labels[i] != name.Label(i)
	}
	if !changed {
		return name
	}
	out := wire.Root
	for i := len(labels) - 1; i >= 0; i-- {
		longer, err := out.Child(labels[i])
		if err != nil { // too long by now: what is left of it says nothing that matters
			break
		}
		out = longer
	}
	return out
}

// hides reports whether an address is to be replaced. Those that every machine has are no
// secret.
func (r *Redactor) hides(a netip.Addr) bool {
	if a = a.Unmap().WithZone(""); !a.IsValid() || a.IsUnspecified() || a.IsLoopback() || a.IsMulticast() || a == broadcast {
		return false
	}
	return r.every || r.clients[a]
}

var broadcast = netip.AddrFrom4([4]byte{255, 255, 255, 255})

// hidesIn reports whether a network is to be replaced: it has an address in it that is.
func (r *Redactor) hidesIn(p netip.Prefix) bool {
	if r.every {
		return r.hides(p.Addr())
	}
	p = p.Masked()
	i, _ := slices.BinarySearchFunc(r.sorted, p.Addr(), netip.Addr.Compare)
	return i < len(r.sorted) && p.Contains(r.sorted[i])
}

// levels are the networks that stay networks: their length in bits, and of that the bits
// that tell them apart.
var levels = map[bool][]struct{ length, bits int }{
	false: {{16, 12}, {24, 8}, {32, 8}},
	true:  {{32, 24}, {48, 16}, {64, 16}, {128, 64}},
}

// Address returns the address that stands for one; for one that is no secret, itself.
func (r *Redactor) Address(a netip.Addr) netip.Addr {
	plain := a.Unmap().WithZone("")
	if !r.hides(plain) {
		return a
	}
	if stands, known := r.stands[plain]; known {
		return stands
	}
	stands := r.place(plain, plain.BitLen())
	r.stands[plain] = stands
	return stands
}

// Prefix returns the network that stands for one.
func (r *Redactor) Prefix(p netip.Prefix) netip.Prefix {
	if !p.IsValid() || p.Bits() == 0 || p.Addr().IsLoopback() || p.Addr().IsMulticast() {
		return p
	}
	if p.IsSingleIP() {
		return netip.PrefixFrom(r.place(p.Addr(), p.Bits()), p.Bits())
	}
	return netip.PrefixFrom(r.place(p.Addr(), p.Bits()), p.Bits()).Masked()
}

// place is where an address, or the network of its first bits, stands afterwards.
func (r *Redactor) place(a netip.Addr, length int) netip.Addr {
	words := [2]uint64{}
	if a.Is4() {
		words[1] = 0xf0000000
	} else {
		words[0] = 0xfd << 56
	}
	around := r.node(netip.PrefixFrom(a, 0).Masked(), nil)
	for _, level := range levels[a.Is6()] {
		if level.length > length {
			break
		}
		p, _ := a.Prefix(level.length) // the length fits every address
		n := r.node(p, around)
		number := n.number
		if level.length == a.BitLen() {
			number++ // hosts count from 1
		}
		number &= 1<<level.bits - 1
		if shift := a.BitLen() - level.length; shift >= 64 {
			words[0] |= number << (shift - 64)
		} else {
			words[1] |= number << shift
		}
		around = n
	}
	var b [16]byte
	binary.BigEndian.PutUint64(b[:], words[0])
	binary.BigEndian.PutUint64(b[8:], words[1])
	if a.Is4() {
		return netip.AddrFrom4([4]byte(b[12:]))
	}
	return netip.AddrFrom16(b)
}

// node returns a network's, numbered when it is first met.
func (r *Redactor) node(p netip.Prefix, around *node) *node {
	n := r.nodes[p]
	if n == nil {
		n = &node{}
		if around != nil {
			n.number = around.inside
			around.inside++
		}
		r.nodes[p] = n
	}
	return n
}

func (r *Redactor) endpoint(a netip.AddrPort) netip.AddrPort {
	return netip.AddrPortFrom(r.Address(a.Addr()), a.Port())
}

// The zones of reverse names (RFC 1035 §3.5, RFC 3596 §2.5).
var (
	reverse4 = wire.MustParseName("in-addr.arpa")
	reverse6 = wire.MustParseName("ip6.arpa")
)

// reverse returns the reverse name of the address or network that stands for that of
// name; ok is false for a name that is no reverse name.
func (r *Redactor) reverse(name wire.Name) (out wire.Name, ok bool) {
	var bits, base, most int
	switch {
	case name.IsSubdomainOf(reverse4):
		bits, base, most = 8, 10, 4
	case name.IsSubdomainOf(reverse6):
		bits, base, most = 4, 16, 32
	default:
		return name, false
	}
	labels, part := name.Labels()-2, -1
	var address [16]byte
	count := 0
	next := labels - 1
	for ; next >= 0 && count < most; next-- {
		v, ok := digits(name.Label(next), base)
		if !ok {
			if base == 10 && count == 3 && strings.ContainsAny(name.Label(next), "/-") {
				part = next // a range of its own (RFC 2317)
				continue
			}
			break
		}
		if bits == 8 {
			address[count] = byte(v)
		} else {
			address[count/2] |= byte(v) << (4 * (1 - count%2))
		}
		count++
	}
	if count == 0 {
		return name, false
	}
	a := netip.AddrFrom16(address)
	if bits == 8 {
		a = netip.AddrFrom4([4]byte(address[:4]))
	}
	length := count * bits
	whole := length == a.BitLen()
	if whole && !r.hides(a) || !whole && !r.hidesIn(netip.PrefixFrom(a, length)) {
		return name, false
	}
	stands := r.place(a, length)
	if whole {
		stands = r.Address(a)
	}
	full, err := wire.ReverseName(stands.String())
	if err != nil {
		return name, false
	}
	for full.Labels() > count+2 {
		full = full.Parent()
	}
	rest := make([]int, 0, labels)
	if part >= 0 && count == 3 {
		rest = append(rest, part)
	}
	for i := next; i >= 0; i-- {
		rest = append(rest, i)
	}
	for _, i := range rest {
		longer, err := full.Child(name.Label(i))
		if err != nil {
			break
		}
		full = longer
	}
	return full, true
}

// digits is a label as a number of up to three digits.
func digits(label string, base int) (v int, ok bool) {
	if label == "" || len(label) > 3 || base == 16 && len(label) != 1 {
		return 0, false
	}
	for _, c := range []byte(label) {
		at := strings.IndexByte("0123456789abcdef", c|0x20)
		if c >= '0' && c <= '9' {
			at = int(c - '0')
		}
		if at < 0 || at >= base {
			return 0, false
		}
		v = v*base + at
	}
	return v, base == 16 || v < 256
}
