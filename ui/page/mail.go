package page

import (
	"cmp"
	"fmt"
	"strings"

	"unquil/core/mail"
)

// MailTables are the tables of a report about mail: where it goes, and who may send.
func MailTables(r *mail.Report) []Table {
	hosts := Table{Title: "Where mail for " + r.Domain.Spoken() + " goes", Columns: []string{"preference", "host", "address", "network", "reverse name"}}
	for i := range r.Receiving.Hosts {
		h := &r.Receiving.Hosts[i]
		if len(h.Addresses) == 0 {
			hosts.Rows = append(hosts.Rows, []string{fmt.Sprint(h.Preference), h.Name.Spoken(), "none", "", ""})
		}
		for _, a := range h.Addresses {
			var names []string
			for _, n := range a.Names {
				names = append(names, n.Spoken())
			}
			hosts.Rows = append(hosts.Rows, []string{fmt.Sprint(h.Preference), h.Name.Spoken(), a.Address.String(), a.Network.String(), strings.Join(names, ", ")})
		}
	}
	senders := Table{Title: "Who may send it", Columns: []string{"term", "leads to", "look-ups", "networks"}}
	var walk func(t *mail.Tree, depth int)
	walk = func(t *mail.Tree, depth int) {
		for i := range t.Branches {
			b := &t.Branches[i]
			var networks []string
			for _, p := range b.Networks {
				networks = append(networks, p.String())
			}
			to := ""
			if !b.Target.IsZero() {
				to = b.Target.Spoken()
			}
			senders.Rows = append(senders.Rows, []string{strings.Repeat("\u2003", depth) + b.Term.Text, to, fmt.Sprint(b.Counts), strings.Join(networks, ", ")})
			if b.Below != nil {
				walk(b.Below, depth+1)
			}
		}
	}
	walk(r.Sending.Tree, 0)
	summary := Table{Title: "In short", Columns: []string{""}, Rows: [][]string{{r.Summary()}}}
	networks := Table{Title: "Networks that may send", Columns: []string{"network"}}
	for _, p := range r.Sending.Networks {
		networks.Rows = append(networks.Rows, []string{p.String()})
	}
	if r.Sending.Broken() {
		networks.Title = "Networks that could send, were it not for the error"
	}
	return []Table{summary, hosts, senders, networks, policies(r)}
}

// policies are what a domain says of forged mail and of encryption.
func policies(r *mail.Report) Table {
	t := Table{Title: "Policies", Columns: []string{"of", "what it says"}}
	add := func(of, format string, args ...any) {
		t.Rows = append(t.Rows, []string{of, fmt.Sprintf(format, args...)})
	}
	if d := r.Sending.DMARC; d != nil {
		add("forged mail (DMARC)", "%s, of %s: %s", d.Policy, d.At.Spoken(), r.Forged())
		for _, to := range d.Reports {
			add("reports of it", "%s", to)
		}
	} else {
		add("forged mail (DMARC)", "nothing: %s", r.Forged())
	}
	for _, k := range r.Sending.DKIM {
		words := strings.TrimSpace(fmt.Sprintf("%s %s", k.Kind, map[bool]string{true: "revoked", false: k.Wrong}[k.Revoked]))
		switch {
		case k.Missing:
			words = "no key"
		case k.Bits > 0:
			words += fmt.Sprintf(", %d bits", k.Bits)
		}
		add("DKIM key "+string(k.Selector), "%s", words)
	}
	if s := r.STS; s != nil {
		add("TLS (MTA-STS)", "%s", cmp.Or(s.Wrong, s.Broke, s.Mode))
	}
	if r.TLSTo != nil {
		for _, to := range r.TLSTo.To {
			add("TLS reports", "%s", to)
		}
	}
	return t
}
