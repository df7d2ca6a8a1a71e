package data

import (
	"net/netip"

	"unquil/core/dnssec"
	"unquil/core/mail"
	"unquil/core/wire"
)

// Mail is the JSON of where mail for a domain goes, and who may send it.
type Mail struct {
	Domain  string       `json:"domain"`
	Hosts   []MailHost   `json:"hosts"`
	Null    bool         `json:"null_mx"`
	MXState dnssec.State `json:"mx_state,omitempty"` // what the signatures make of the MX records
	Address bool         `json:"own_address"`        // it has no MX records, and its own addresses count
	STS     *MailPolicy  `json:"mta_sts,omitempty"`
	TLSTo   []string     `json:"tls_reports,omitempty"`
	SPF     MailSPF      `json:"spf"`
	DMARC   *MailDMARC   `json:"dmarc,omitempty"`
	DKIM    []MailKey    `json:"dkim,omitempty"`
	Says    string       `json:"summary"`
}

// MailHost is a mail host.
type MailHost struct {
	Name       string        `json:"name"`
	Preference int           `json:"preference"`
	Alias      string        `json:"alias,omitempty"`
	Addresses  []MailAddress `json:"addresses"`
	TLSA       []string      `json:"tlsa,omitempty"`
	TLSAState  dnssec.State  `json:"tlsa_state,omitempty"`
	InPolicy   *bool         `json:"in_mta_sts,omitempty"`
}

// MailAddress is one of its addresses.
type MailAddress struct {
	Address string   `json:"address"`
	Network string   `json:"network"`
	Names   []string `json:"names"`
	Back    *bool    `json:"leads_back,omitempty"` // absent: it is not known
}

// MailPolicy is an MTA-STS policy.
type MailPolicy struct {
	ID     string   `json:"id,omitempty"`
	Mode   string   `json:"mode,omitempty"`
	Hosts  []string `json:"mx,omitempty"`
	MaxAge int      `json:"max_age,omitempty"`
	Error  string   `json:"error,omitempty"`
}

// MailSPF is who may send.
type MailSPF struct {
	Record   string     `json:"record,omitempty"`
	Records  int        `json:"records"`
	Networks []string   `json:"networks"`
	Open     bool       `json:"depends_on_sender"` // others may send too
	Lookups  int        `json:"lookups"`
	Voids    int        `json:"void_lookups"`
	Void     bool       `json:"void"` // in error as a whole: the networks could send, were it not for that
	Errors   []string   `json:"errors,omitempty"`
	Tree     *MailTree  `json:"tree,omitempty"`
	Check    *MailCheck `json:"check,omitempty"`
}

// MailTree is a record with all that it leads to.
type MailTree struct {
	Domain string       `json:"domain"`
	Record string       `json:"record,omitempty"`
	Loop   bool         `json:"loop,omitempty"`
	Terms  []MailBranch `json:"terms"`
}

// MailBranch is one term of it.
type MailBranch struct {
	Term     string    `json:"term"`
	Networks []string  `json:"networks,omitempty"`
	Lookups  int       `json:"lookups"`
	Voids    int       `json:"void_lookups"`
	Depends  bool      `json:"depends_on_sender,omitempty"`
	Never    bool      `json:"never_reached,omitempty"`
	Below    *MailTree `json:"leads_to,omitempty"`
}

// MailCheck is whether one sender may.
type MailCheck struct {
	Result      string   `json:"result"`
	Sender      string   `json:"sender"`
	Identity    string   `json:"identity"`
	Mechanism   string   `json:"mechanism,omitempty"`
	Path        []string `json:"path,omitempty"`
	Explanation string   `json:"explanation,omitempty"`
	Why         string   `json:"why,omitempty"`
	Lookups     int      `json:"lookups"`
	Voids       int      `json:"void_lookups"`
	Evidence    []int    `json:"evidence"`
}

// MailDMARC is what is to be done with forged mail.
type MailDMARC struct {
	At         string   `json:"at"`
	Record     string   `json:"record"`
	Policy     string   `json:"policy"`
	Subdomains string   `json:"subdomain_policy"`
	Percent    int      `json:"percent"`
	SPF        string   `json:"spf_alignment"`
	DKIM       string   `json:"dkim_alignment"`
	Reports    []string `json:"reports"`
	Error      string   `json:"error,omitempty"`
}

// MailKey is a DKIM key.
type MailKey struct {
	Selector string `json:"selector"`
	Kind     string `json:"kind,omitempty"`
	Bits     int    `json:"bits,omitempty"`
	Revoked  bool   `json:"revoked"`
	Testing  bool   `json:"testing"`
	Missing  bool   `json:"missing"`
	Error    string `json:"error,omitempty"`
}

func networkWords(list []netip.Prefix) []string {
	words := []string{}
	for _, p := range list {
		words = append(words, p.String())
	}
	return words
}

func nameWords(list []wire.Name) []string {
	words := []string{}
	for _, n := range list {
		words = append(words, n.String())
	}
	return words
}

// OfMail is the JSON of a report on mail.
func OfMail(r *mail.Report) Mail {
	m := Mail{Domain: r.Domain.String(), Hosts: []MailHost{}, Null: r.Receiving.Null, Address: r.Receiving.Fallback, Says: r.Summary()}
	if r.Receiving.Signed != nil {
		m.MXState = r.Receiving.Signed.State
	}
	for i := range r.Receiving.Hosts {
		h := &r.Receiving.Hosts[i]
		host := MailHost{Name: h.Name.String(), Preference: int(h.Preference), Addresses: []MailAddress{}}
		if !h.Alias.IsZero() {
			host.Alias = h.Alias.String()
		}
		for _, a := range h.Addresses {
			address := MailAddress{Address: a.Address.String(), Network: a.Network.String(), Names: nameWords(a.Names)}
			if len(a.Asked) > 0 && !a.Unknown {
				address.Back = &a.Back
			}
			host.Addresses = append(host.Addresses, address)
		}
		if h.TLSA != nil {
			for _, record := range h.TLSA.Answer().Records {
				host.TLSA = append(host.TLSA, record.Value())
			}
		}
		if h.Signed != nil {
			host.TLSAState = h.Signed.State
		}
		if r.STS != nil && r.STS.Mode != "" {
			host.InPolicy = &h.Covered
		}
		m.Hosts = append(m.Hosts, host)
	}
	if s := r.STS; s != nil {
		m.STS = &MailPolicy{ID: string(s.ID), Mode: s.Mode, Hosts: s.Hosts, MaxAge: s.MaxAge, Error: s.Wrong + s.Broke}
	}
	if r.TLSTo != nil {
		for _, to := range r.TLSTo.To {
			m.TLSTo = append(m.TLSTo, string(to))
		}
	}
	m.SPF = ofSPF(r.Sending)
	if d := r.Sending.DMARC; d != nil {
		out := &MailDMARC{At: d.At.String(), Record: string(d.Text), Policy: d.Policy, Subdomains: d.Subdomains, Percent: d.Percent, SPF: alignment(d.StrictSPF), DKIM: alignment(d.StrictDKIM), Reports: []string{}, Error: d.Wrong}
		for _, to := range d.Reports {
			out.Reports = append(out.Reports, string(to))
		}
		m.DMARC = out
	}
	for _, k := range r.Sending.DKIM {
		m.DKIM = append(m.DKIM, MailKey{Selector: string(k.Selector), Kind: k.Kind, Bits: k.Bits, Revoked: k.Revoked, Testing: k.Testing, Missing: k.Missing, Error: k.Wrong})
	}
	return m
}

// OfMails is [OfMail] of one report, or a list of several.
func OfMails(all []*mail.Report) any {
	if len(all) == 1 {
		return OfMail(all[0])
	}
	return each(all, OfMail)
}

func alignment(strict bool) string {
	if strict {
		return "strict"
	}
	return "relaxed"
}

func ofSPF(s *mail.Sending) MailSPF {
	out := MailSPF{Records: s.Tree.Records, Networks: networkWords(s.Networks), Open: s.Open, Lookups: s.Lookups, Voids: s.Voids, Void: s.Broken()}
	if s.Tree.Record != nil {
		out.Record = s.Tree.Record.Text
		for _, e := range s.Tree.Record.Errors {
			out.Errors = append(out.Errors, e.Error())
		}
		out.Tree = ofTree(s.Tree)
	}
	if c := s.Check; c != nil {
		out.Check = &MailCheck{Result: string(c.Result), Sender: c.Sender.String(), Identity: c.Identity, Mechanism: string(c.Mechanism), Path: nameWords(c.Path),
			Explanation: string(c.Explanation), Why: c.Why, Lookups: c.Lookups, Voids: c.VoidLookups, Evidence: append([]int{}, c.Evidence...)}
	}
	return out
}

func ofTree(t *mail.Tree) *MailTree {
	out := &MailTree{Domain: t.Domain.String(), Loop: t.Loop, Terms: []MailBranch{}}
	if t.Record != nil {
		out.Record = t.Record.Text
	}
	for i := range t.Branches {
		b := &t.Branches[i]
		branch := MailBranch{Term: b.Term.Text, Networks: networkWords(b.Networks), Lookups: b.Counts, Voids: b.Voids, Depends: b.Depends, Never: b.Never}
		if b.Below != nil {
			branch.Below = ofTree(b.Below)
		}
		out.Terms = append(out.Terms, branch)
	}
	return out
}
