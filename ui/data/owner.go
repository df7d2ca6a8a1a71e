package data

import (
	"encoding/json"
	"time"

	"unquil/core/escape"
	"unquil/core/registry"
	"unquil/core/wire"
)

// Owner is the JSON of whose something is.
type Owner struct {
	Asked     string         `json:"asked"`
	Kind      string         `json:"kind"` // address, network, as-number, domain, host
	Addresses []string       `json:"addresses,omitempty"`
	Networks  []OwnerNetwork `json:"networks,omitempty"`
	Domain    *OwnerDomain   `json:"domain,omitempty"`
	DNS       *OwnerDNS      `json:"dns,omitempty"`
	Problem   string         `json:"problem,omitempty"`
	RDAP      []OwnerSource  `json:"rdap,omitempty"` // the objects as they came
}

// AddressOwner is whose an address is.
type AddressOwner struct {
	Address string        `json:"address"`
	Network *OwnerNetwork `json:"network,omitempty"` // absent: it is not known
	Problem string        `json:"problem,omitempty"`
}

// OwnerSource is a registry's answer.
type OwnerSource struct {
	URL    string          `json:"url"`
	Object json.RawMessage `json:"object"`
}

// OwnerContact is a person, role or organisation.
type OwnerContact struct {
	Name  string `json:"name,omitempty"`
	Mail  string `json:"mail,omitempty"`
	Phone string `json:"phone,omitempty"`
}

// OwnerNetwork is a network, or AS numbers.
type OwnerNetwork struct {
	Range      string       `json:"range"`
	Name       string       `json:"name"`
	Handle     string       `json:"handle,omitempty"`
	Kind       string       `json:"kind,omitempty"`
	Country    string       `json:"country,omitempty"`
	Holder     OwnerContact `json:"holder"`
	Abuse      OwnerContact `json:"abuse"`
	Technical  OwnerContact `json:"technical"`
	Registered *time.Time   `json:"registered,omitempty"`
	Changed    *time.Time   `json:"changed,omitempty"`
	Registry   string       `json:"registry"`
	Withheld   []string     `json:"withheld,omitempty"`
}

// OwnerDomain is a domain as its registry has it.
type OwnerDomain struct {
	Name             string       `json:"name"`
	Registered       bool         `json:"registered"` // false: the registry has nothing about it
	Registrar        string       `json:"registrar,omitempty"`
	RegistrarAbuse   OwnerContact `json:"registrar_abuse"`
	Holder           OwnerContact `json:"holder"`
	Statuses         []string     `json:"statuses"`
	Held             bool         `json:"held"` // taken out of the DNS
	Since            *time.Time   `json:"since,omitempty"`
	Changed          *time.Time   `json:"changed,omitempty"`
	Expires          *time.Time   `json:"expires,omitempty"`
	RegistrarExpires *time.Time   `json:"registrar_expires,omitempty"`
	Released         *time.Time   `json:"released,omitempty"`
	NameServers      []string     `json:"name_servers"`
	DS               []OwnerDS    `json:"ds"`
	Registry         string       `json:"registry"`
	Withheld         []string     `json:"withheld,omitempty"`
	RegistrarProblem string       `json:"registrar_problem,omitempty"`
}

// OwnerDS is a DS record.
type OwnerDS struct {
	KeyTag     int    `json:"key_tag"`
	Algorithm  int    `json:"algorithm"`
	DigestType int    `json:"digest_type"`
	Digest     string `json:"digest"`
}

// OwnerDNS is what the DNS says of a domain; what is absent could not be learnt.
type OwnerDNS struct {
	Parent []string  `json:"parent,omitempty"`
	Zone   []string  `json:"zone,omitempty"`
	DS     []OwnerDS `json:"ds,omitempty"`
}

func contactOf(c registry.Contact) OwnerContact {
	return OwnerContact{string(c.Name), string(c.Mail), string(c.Phone)}
}

func momentOf(at time.Time) *time.Time {
	if at.IsZero() {
		return nil
	}
	return &at
}

func plain(list []escape.Text) (all []string) {
	for _, text := range list {
		all = append(all, string(text))
	}
	return all
}

func keysOf(keys []registry.DS) (all []OwnerDS) {
	for _, k := range keys {
		all = append(all, OwnerDS{int(k.Tag), int(k.Algorithm), int(k.Digest), k.Value})
	}
	return all
}

func namesOf(names []wire.Name) (all []string) {
	for _, n := range names {
		all = append(all, n.String())
	}
	return all
}

// OfNetwork is the JSON of a network.
func OfNetwork(n *registry.Network) OwnerNetwork {
	return OwnerNetwork{
		Range: n.Range(), Name: string(n.Name), Handle: string(n.Handle), Kind: string(n.Kind), Country: string(n.Country),
		Holder: contactOf(n.Holder), Abuse: contactOf(n.Abuse), Technical: contactOf(n.Technical),
		Registered: momentOf(n.Registered), Changed: momentOf(n.Changed), Registry: n.Source.Host, Withheld: plain(n.Redacted),
	}
}

// OfOwners is the JSON of a report.
func OfOwners(r *registry.Report) []Owner {
	all := []Owner{}
	for i := range r.Items {
		item := &r.Items[i]
		o := Owner{Asked: item.Asked, Kind: string(item.Kind), Problem: item.Problem}
		for _, a := range item.Addresses {
			o.Addresses = append(o.Addresses, a.String())
		}
		for _, n := range item.Networks {
			o.Networks = append(o.Networks, OfNetwork(n))
			o.RDAP = append(o.RDAP, OwnerSource{n.Source.URL, n.Source.Raw})
		}
		if item.Kind == registry.ADomain {
			o.domain(item)
		}
		all = append(all, o)
	}
	return all
}

func (o *Owner) domain(item *registry.Item) {
	o.Problem = item.Answer.Problem
	seen := item.Seen
	o.DNS = &OwnerDNS{Parent: namesOf(seen.Parent), Zone: namesOf(seen.Zone), DS: keysOf(seen.DS)}
	d := item.Answer.Domain
	switch {
	case d == nil && !item.Answer.Unknown:
		return
	case d == nil:
		o.Domain = &OwnerDomain{Name: item.Name.String(), Statuses: []string{}, NameServers: []string{}, DS: []OwnerDS{}, Registry: item.Answer.From}
		return
	}
	for _, s := range d.Sources {
		o.RDAP = append(o.RDAP, OwnerSource{s.URL, s.Raw})
	}
	o.Domain = &OwnerDomain{
		Name: d.Name.String(), Registered: true, Registrar: string(d.Registrar), RegistrarAbuse: contactOf(d.Abuse), Holder: contactOf(d.Holder),
		Statuses: append([]string{}, plain(d.Statuses)...), Held: len(d.Held()) > 0,
		Since: momentOf(d.Registered), Changed: momentOf(d.Changed), Expires: momentOf(d.Expires), RegistrarExpires: momentOf(d.RegistrarExpires), Released: momentOf(d.Deletes),
		NameServers: []string{}, DS: append([]OwnerDS{}, keysOf(d.DS)...), Registry: item.Answer.From, Withheld: plain(d.Redacted), RegistrarProblem: d.Missing,
	}
	for _, h := range d.Servers {
		o.Domain.NameServers = append(o.Domain.NameServers, h.Name.String())
	}
}
