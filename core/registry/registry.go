// Package registry asks the registries whose an address or a domain is, by RDAP (RFC 9082,
// 9083), and judges what that means for resolving.
//
// Which registry is asked is in lists that a fixed place has (RFC 9224); for a domain the
// registrar that the registry names is asked too. Nothing that comes back is believed to be
// well formed: what cannot be read is left out, and all text has gone through package escape.
package registry

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"time"

	"unquil/core/escape"
	"unquil/core/wire"
)

// Contact is a person, role or organisation.
type Contact struct {
	Name  escape.Text `json:",omitempty"`
	Mail  escape.Text `json:",omitempty"`
	Phone escape.Text `json:",omitempty"`
}

// Source is a server that was asked, and what it said.
type Source struct {
	Host string
	URL  string
	Raw  json.RawMessage `json:"-"` // the object as it came
}

// Network is a range of addresses, or of AS numbers, and whose it is.
type Network struct {
	Name, Handle    escape.Text
	First, Last     netip.Addr // both invalid: it is of AS numbers
	FirstAS, LastAS uint32
	Kind            escape.Text // in the registry's own words
	Country         escape.Text // ISO 3166 code
	Holder          Contact
	Abuse           Contact
	Technical       Contact
	Registered      time.Time // zero: not told
	Changed         time.Time
	Redacted        []escape.Text // what is withheld, in words (RFC 9537)
	Source          Source
}

// Contains reports whether an address is in the network.
func (n *Network) Contains(a netip.Addr) bool {
	return n.First.IsValid() && n.First.BitLen() == a.BitLen() && n.First.Compare(a) <= 0 && a.Compare(n.Last) <= 0
}

// Range is the network in prefix form where it is one, or else its first and last.
func (n *Network) Range() string {
	if !n.First.IsValid() {
		if n.FirstAS == n.LastAS {
			return fmt.Sprintf("AS%d", n.FirstAS)
		}
		return fmt.Sprintf("AS%d to AS%d", n.FirstAS, n.LastAS)
	}
	for bits := 0; bits <= n.First.BitLen(); bits++ {
		if p, err := n.First.Prefix(bits); err == nil && p.Addr() == n.First && lastOf(p) == n.Last {
			return p.String()
		}
	}
	return fmt.Sprintf("%s to %s", n.First, n.Last)
}

// Whose is the network's holder, or else its name.
func (n *Network) Whose() escape.Text {
	if n.Holder.Name != "" {
		return n.Holder.Name
	}
	if n.Name != "" {
		return n.Name
	}
	return n.Handle
}

func lastOf(p netip.Prefix) netip.Addr {
	bytes := p.Addr().AsSlice()
	for bit := p.Bits(); bit < len(bytes)*8; bit++ {
		bytes[bit/8] |= 0x80 >> (bit % 8)
	}
	last, _ := netip.AddrFromSlice(bytes)
	return last
}

// Host is a name server as a registry has it.
type Host struct {
	Name      wire.Name
	Addresses []netip.Addr `json:",omitempty"`
}

// DS is what a registry has of a key of the zone (RFC 4034 §5).
type DS struct {
	Tag               uint16
	Algorithm, Digest uint8
	Value             string // hexadecimal, upper case
}

// Domain is a domain as its registry has it, and its registrar.
type Domain struct {
	Name             wire.Name
	Registrar        escape.Text
	RegistrarURL     escape.Text
	Holder           Contact
	Abuse            Contact       // of the registrar
	Statuses         []escape.Text // RFC 8056, in lower case
	Registered       time.Time     // zero: not told
	Changed          time.Time
	Expires          time.Time
	RegistrarExpires time.Time // until when the registrar was paid, where it tells that
	Deletes          time.Time // when it is to be released, or was
	Servers          []Host
	Secured          bool // the registry has told whether the delegation is signed
	DS               []DS
	Redacted         []escape.Text
	Sources          []Source
	Missing          string // why the registrar's own answer is missing; "" where it is not, or none is named
}

// Answer is what came of asking about a domain.
type Answer struct {
	At      time.Time // when it was asked
	Domain  *Domain   // nil: there is none, or it is not known
	Unknown bool      // the registry answered that it has no such domain
	From    string    // the registry's host
	Problem string    // why it is not known; "" where it is
	Notes   []string
}

// status is what a status means for who asks for the name.
type status struct {
	says string
	held bool // the name is taken out of the DNS
	ends bool // and is on the way to be released
	lock bool // it keeps the registration from being changed, and is no matter of resolving
}

// statuses are those of RFC 8056 and RFC 9083 §10.2.2 that a domain can have.
var statuses = map[string]status{
	"active":                     {says: "in order"},
	"ok":                         {says: "in order"},
	"inactive":                   {says: "it has no name servers, and so is not delegated", held: true},
	"client hold":                {says: "the registrar has taken it out of the DNS", held: true},
	"server hold":                {says: "the registry has taken it out of the DNS", held: true},
	"redemption period":          {says: "it was deleted, and is out of the DNS; for some weeks its former holder alone can get it back, through the registrar", held: true, ends: true},
	"pending restore":            {says: "its former holder is getting it back; it is out of the DNS until then", held: true},
	"pending delete":             {says: "it is released within days, and nobody can get it back before", held: true, ends: true},
	"auto renew period":          {says: "it ran out, and the registry has renewed it by itself; the registrar can still give it up"},
	"add period":                 {says: "it was registered days ago"},
	"renew period":               {says: "it was renewed days ago"},
	"transfer period":            {says: "it came to this registrar days ago"},
	"pending create":             {says: "its registration is not finished: it may not be delegated yet"},
	"pending renew":              {says: "a renewal is under way"},
	"pending transfer":           {says: "it is on the way to another registrar"},
	"pending update":             {says: "a change is under way"},
	"locked":                     {says: "it cannot be changed", lock: true},
	"client delete prohibited":   {says: "the registrar keeps it from being deleted", lock: true},
	"client renew prohibited":    {says: "the registrar keeps it from being renewed"},
	"client transfer prohibited": {says: "the registrar keeps it from being moved", lock: true},
	"client update prohibited":   {says: "the registrar keeps it from being changed", lock: true},
	"server delete prohibited":   {says: "the registry keeps it from being deleted", lock: true},
	"server renew prohibited":    {says: "the registry keeps it from being renewed"},
	"server transfer prohibited": {says: "the registry keeps it from being moved", lock: true},
	"server update prohibited":   {says: "the registry keeps it from being changed", lock: true},
}

// StatusWords says what a status means for resolving; "" for one that is not in the standard.
func StatusWords(s escape.Text) string { return statuses[string(s)].says }

// Lock reports whether a status only keeps the registration from being changed.
func Lock(s escape.Text) bool { return statuses[string(s)].lock }

// Held are the statuses that take the domain out of the DNS.
func (d *Domain) Held() (held []escape.Text) {
	for _, s := range d.Statuses {
		if statuses[string(s)].held {
			held = append(held, s)
		}
	}
	return held
}

// Until is when the domain runs out: by its registrar where that is earlier, as registries
// that renew by themselves have moved their own date on by then. Zero: not told.
func (d *Domain) Until() time.Time {
	if !d.RegistrarExpires.IsZero() && (d.Expires.IsZero() || d.RegistrarExpires.Before(d.Expires)) {
		return d.RegistrarExpires
	}
	return d.Expires
}
