package page

import (
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
	return []Table{summary, hosts, senders}
}
