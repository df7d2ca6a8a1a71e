package text

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"unquil/core/escape"
	"unquil/core/finding"
	"unquil/core/registry"
	"unquil/core/wire"
	"unquil/core/wording"
)

// Owners draws whose some subjects are: addresses of one network together.
func (v *View) Owners(r *registry.Report) {
	drawn := map[*registry.Network]bool{}
	first := true
	for i := range r.Items {
		item := &r.Items[i]
		if item.Kind == registry.AnAddress && len(item.Networks) > 0 && drawn[item.Networks[0]] {
			continue
		}
		if !first {
			v.line()
		}
		first = false
		switch {
		case item.Kind == registry.ADomain:
			v.ownerOfDomain(item, r)
		case item.Kind == registry.AHost:
			v.ownersOfHost(item)
		case len(item.Networks) == 0:
			v.flow(subject.Render(string(escape.Of(item.Asked))), len(item.Asked)+2, "unknown: "+item.Problem, plainStyle)
		default:
			n := item.Networks[0]
			drawn[n] = true
			var together []string
			for k := range r.Items {
				if other := &r.Items[k]; k == i || item.Kind == registry.AnAddress && other.Kind == registry.AnAddress && len(other.Networks) > 0 && other.Networks[0] == n {
					together = append(together, subject.Render(string(escape.Of(other.Asked))))
				}
			}
			v.network(n, together)
		}
	}
	for _, note := range r.Notes {
		v.row("note", note)
	}
	v.Findings("what to note", r.Findings)
}

// network draws whose a network is, led by what was asked about.
func (v *View) network(n *registry.Network, about []string) {
	verb := map[bool]string{true: "belongs", false: "belong"}[len(about) == 1]
	whose := string(n.Whose())
	if whose == "" {
		whose = "nobody who is named"
	}
	v.flow("", 0, fmt.Sprintf("%s %s to %s.", wording.List(about), verb, strong.Render(whose)), plainStyle)
	v.line()
	parts := []string{n.Range()}
	if n.Name != "" {
		parts = append(parts, string(n.Name))
	}
	if n.Kind != "" {
		parts = append(parts, strings.ToLower(string(n.Kind)))
	}
	if n.Country != "" {
		parts = append(parts, "country "+string(n.Country))
	}
	v.row("network", strings.Join(parts, ", "))
	if !n.Registered.IsZero() {
		since := registry.Day(n.Registered)
		if !n.Changed.IsZero() {
			since += ", changed on " + registry.Day(n.Changed)
		}
		v.row("since", since)
	}
	v.contact("abuse", n.Abuse, n.Holder.Name)
	v.contact("technical", n.Technical, n.Holder.Name)
	v.row("registry", n.Source.Host)
	v.withheld(n.Redacted)
}

// contact draws a contact; its name only where it is not the holder's.
func (v *View) contact(label string, c registry.Contact, holder escape.Text) {
	var parts []string
	if c.Name != "" && c.Name != holder {
		parts = append(parts, string(c.Name))
	}
	for _, how := range []escape.Text{c.Mail, c.Phone} {
		if how != "" {
			parts = append(parts, string(how))
		}
	}
	if len(parts) > 0 {
		v.row(label, strings.Join(parts, ", "))
	}
}

func (v *View) withheld(what []escape.Text) {
	if len(what) > 0 {
		v.row("withheld", "by the registry's policy: "+strings.Join(words(what), ", "))
	}
}

func (v *View) ownersOfHost(item *registry.Item) {
	name := item.Name.Spoken()
	if len(item.Addresses) == 0 {
		v.flow(subject.Render(name), len(name)+2, item.Problem, plainStyle)
		return
	}
	v.flow("", 0, fmt.Sprintf("%s has %s.", subject.Render(name), wording.Count(len(item.Addresses), "address", "addresses")), plainStyle)
	v.line()
	width := 0
	for _, a := range item.Addresses {
		width = max(width, len(a.String()))
	}
	for _, a := range item.Addresses {
		v.flow("  "+a.String(), width+4, ownerWords(item.Of(a), item.Problem), plainStyle)
	}
	for _, n := range item.Networks {
		v.line()
		var about []string
		for _, a := range item.Addresses {
			if n.Contains(a) {
				about = append(about, subject.Render(a.String()))
			}
		}
		v.network(n, about)
	}
	v.line()
	v.row("see also", fmt.Sprintf("unquil owner %s, for the domain itself", item.Registrable.Spoken()))
}

// ownerWords are whose a network is in a few words.
func ownerWords(n *registry.Network, problem string) string {
	switch {
	case n == nil && problem != "":
		return quiet.Render("unknown: " + problem)
	case n == nil:
		return quiet.Render("unknown")
	case n.Name == "" || n.Name == n.Whose():
		return string(n.Whose())
	}
	return fmt.Sprintf("%s, %s", n.Whose(), n.Name)
}

// ownerOfDomain draws whose a domain is: what is wrong with it leads.
func (v *View) ownerOfDomain(item *registry.Item, r *registry.Report) {
	name, d := item.Name.Spoken(), item.Answer.Domain
	about := func(f finding.Finding) bool { return f.About.Name == item.Name.String() }
	at := slices.IndexFunc(r.Findings, about)
	switch {
	case at >= 0 && r.Findings[at].Severity == finding.Fault:
		v.flow(severe[finding.Fault].Render("fault"), len("fault")+2, r.Findings[at].Text+" "+r.Findings[at].Next, plainStyle)
	case d == nil && at >= 0:
		v.flow("", 0, r.Findings[at].Text, plainStyle)
	case d == nil:
		v.flow(subject.Render(name), len(name)+2, "unknown", plainStyle)
	default:
		v.flow("", 0, domainSays(d, subject.Render(name)), plainStyle)
	}
	if d == nil {
		return
	}
	v.line()
	if d.Registrar != "" {
		v.row("registrar", string(d.Registrar))
		v.contact("abuse", registry.Contact{Mail: d.Abuse.Mail, Phone: d.Abuse.Phone}, "")
	}
	if d.Holder.Name != "" {
		v.row("holder", string(d.Holder.Name))
	}
	label := "status"
	for _, s := range d.Statuses {
		says := registry.StatusWords(s)
		if says != "" {
			says = ": " + says
		}
		text := string(s) + says
		if registry.Lock(s) {
			text = quiet.Render(text)
		}
		v.row(label, text)
		label = ""
	}
	if !d.Registered.IsZero() {
		v.row("registered", registry.Day(d.Registered))
	}
	if !d.Changed.IsZero() {
		v.row("changed", registry.Day(d.Changed))
	}
	if !d.Expires.IsZero() {
		label := "expires"
		if d.Expires.Before(item.Answer.At) {
			label = "expired"
		}
		v.row(label, registry.Day(d.Expires))
	}
	if !d.RegistrarExpires.IsZero() && !d.RegistrarExpires.Equal(d.Expires) {
		v.row("paid until", registry.Day(d.RegistrarExpires)+", by its registrar's word")
	}
	if !d.Deletes.IsZero() {
		label := "release due"
		if d.Deletes.Before(item.Answer.At) {
			label = "released"
		}
		v.row(label, registry.Day(d.Deletes))
	}
	v.registryServers(d, &item.Seen)
	v.row("registry", strings.Join(hostsOf(d.Sources), ", "))
	v.withheld(d.Redacted)
	if d.Missing != "" {
		v.row("note", "what its registrar says is missing: "+d.Missing)
	}
}

func hostsOf(sources []registry.Source) (hosts []string) {
	for _, s := range sources {
		if !slices.Contains(hosts, s.Host) {
			hosts = append(hosts, s.Host)
		}
	}
	return hosts
}

// domainSays says in a sentence whose a domain is, and until when.
func domainSays(d *registry.Domain, name string) string {
	words := name + " is registered"
	if d.Holder.Name != "" {
		words += " to " + string(d.Holder.Name)
	}
	if d.Registrar != "" {
		words += " at " + string(d.Registrar)
	}
	switch until := d.Until(); {
	case until.IsZero():
		return words + "; until when is not told."
	default:
		return words + ", until " + registry.Day(until) + "."
	}
}

// registryServers draws the name servers and keys that the registry has beside those that the
// DNS has.
func (v *View) registryServers(d *registry.Domain, seen *registry.Seen) {
	var all []wire.Name
	own := make([]wire.Name, len(d.Servers))
	for i, h := range d.Servers {
		own[i] = h.Name
	}
	for _, n := range slices.Concat(own, seen.Parent, seen.Zone) {
		if !slices.ContainsFunc(all, n.Equal) {
			all = append(all, n)
		}
	}
	if len(all) == 0 {
		v.row("servers", "none at the registry, and none in the DNS")
		return
	}
	width := len("name server")
	for _, n := range all {
		width = max(width, len(n.Spoken()))
	}
	columns := []column{{title: "name server", width: min(width, v.width-36) + 2}, {title: "registry", width: 10}, {title: "zone above", width: 12}, {title: "zone itself", width: 11}}
	tick := func(told bool, names []wire.Name, n wire.Name) string {
		switch {
		case !told:
			return quiet.Render("unknown")
		case slices.ContainsFunc(names, n.Equal):
			return "yes"
		}
		return severe[finding.Concern].Render("no")
	}
	rows := [][]string{titles(columns)}
	for _, n := range all {
		rows = append(rows, []string{n.Spoken() + v.markOf(n), tick(len(own) > 0, own, n), tick(seen.ParentTold, seen.Parent, n), tick(seen.ZoneTold, seen.Zone, n)})
	}
	v.line()
	for _, line := range grid(columns, rows) {
		v.line("  ", strings.TrimRight(line, " "))
	}
	v.line()
	if len(d.DS) > 0 || len(seen.DS) > 0 {
		v.row("DS", fmt.Sprintf("%s at the registry, %s in the zone above", wording.Count(len(d.DS), "record", "records"), keysWords(seen)))
	}
}

func keysWords(seen *registry.Seen) string {
	if !seen.DSTold {
		return "an unknown number"
	}
	return fmt.Sprint(len(seen.DS))
}

// BareOwners draws one line for each subject: what was asked, a tab, and of a domain until when
// it is registered, of anything else whose it is.
func (v *View) BareOwners(r *registry.Report) {
	for i := range r.Items {
		item := &r.Items[i]
		switch {
		case item.Kind == registry.ADomain && item.Answer.Domain != nil && !item.Answer.Domain.Until().IsZero():
			v.line(string(escape.Of(item.Asked)), "\t", item.Answer.Domain.Until().Format("2006-01-02"))
		case item.Kind == registry.AHost:
			for _, a := range item.Addresses {
				if n := item.Of(a); n != nil {
					v.line(a.String(), "\t", string(n.Whose()))
				}
			}
		case len(item.Networks) > 0:
			v.line(string(escape.Of(item.Asked)), "\t", string(item.Networks[0].Whose()))
		}
	}
}

// AddressOwners draws whose addresses are that an answer has, after it.
func (v *View) AddressOwners(addresses []netip.Addr, known map[netip.Addr]*registry.Network, why map[netip.Addr]error, notes []string) {
	if len(addresses) == 0 {
		return
	}
	v.line()
	v.line(strong.Render("whose addresses"))
	width := 0
	for _, a := range addresses {
		width = max(width, len(a.String()))
	}
	for _, a := range addresses {
		problem := ""
		if err := why[a]; err != nil {
			problem = string(escape.Of(err.Error()))
		}
		if !registry.Public(a) {
			problem = "of no registry: such addresses are used inside networks alone"
		}
		v.flow("  "+a.String(), width+4, ownerWords(known[a], problem), plainStyle)
	}
	for _, note := range notes {
		v.row("note", note)
	}
}
