package lab

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"unquil/core/wire"
)

// Lists is where the lists of registries are.
const Lists = "https://rdap.infra.test/lists/"

// Registry is a server that tells whose a domain or an address is (RDAP, RFC 9082), or a
// registrar's.
type Registry struct {
	Host    string // without the final dot
	Address netip.Addr
	Lists   bool           // it also has the lists of all registries, at /lists/ (RFC 9224)
	Zones   []wire.Name    // whose domains it tells of
	Parts   []netip.Prefix // whose addresses
	Numbers string         // whose AS numbers, as first-last
	Lapsed  bool           // its certificate ran out
}

// Registered is a domain as its registry has it. One that a zone file delegates and that is
// not listed is registered as it is delegated.
type Registered struct {
	Name      wire.Name
	Registrar string // a registry's host that tells more; "" for none
	Holder    string
	Status    []string
	Since     time.Time
	Changed   time.Time
	Expires   time.Time
	Paid      time.Time // until when the registrar was paid; zero: it does not say
	Deletes   time.Time
	Servers   []wire.Name
	DS        []string // master-file form
	Withheld  []string
	Quirk     string // what comes in place of an answer; see quirkAnswers
}

// Holding is a network, or AS numbers, and whose it is.
type Holding struct {
	Name, Holder, Kind, Country string
	First, Last                 netip.Addr
	FirstAS, LastAS             uint32
	Since                       time.Time
	Abuse, Phone, Technical     string
	Withheld                    []string
}

// Owner is a domain of the workshop, or an address, and what is to be found of it.
type Owner struct {
	Asked    string // as it is typed
	What     string
	Finding  string   // "" means that nothing is wrong
	Severity string   // "" means fault
	Why      bool     // why comes to the same of the name
	Says     []string // that the answer holds
}

// delegations are the registrations that zone files show by their delegations.
func (l *Lab) delegations(zones map[Served]*zone) (all []Registered) {
	named := func(name wire.Name) func(Registered) bool {
		return func(r Registered) bool { return r.Name.Equal(name) }
	}
	for _, r := range l.Scenario.Registries {
		for _, top := range r.Zones {
			for _, z := range zones {
				if !z.origin.Equal(top) {
					continue
				}
				for name := range z.nodes {
					ns := z.of(name, wire.NS)
					if name.Equal(top) || name.Labels() != top.Labels()+1 || len(ns) == 0 || slices.ContainsFunc(l.Scenario.Registered, named(name)) || slices.ContainsFunc(all, named(name)) {
						continue
					}
					d := Registered{Name: name, Registrar: "rdap.farhost.test", Status: []string{"client transfer prohibited"}, Since: l.Scenario.Begins.AddDate(-7, -2, -11), Expires: l.Scenario.Begins.AddDate(0, 8, 3)}
					for _, record := range ns {
						if host, ok := record.Target(); ok {
							d.Servers = append(d.Servers, host)
						}
					}
					all = append(all, d)
				}
			}
		}
	}
	return all
}

// tells is the handler of the registries at one address.
func (l *Lab) tells(at []Registry) http.Handler {
	var asked atomic.Int32
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/rdap+json")
		i := slices.IndexFunc(at, func(reg Registry) bool { return strings.EqualFold(reg.Host, r.Host) })
		if i < 0 {
			http.NotFound(w, r)
			return
		}
		kind, rest, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
		var answer map[string]any
		switch kind {
		case "lists":
			if !at[i].Lists {
				break
			}
			w.Header().Set("Content-Type", "application/json")
			w.Header().Set("Cache-Control", "max-age=86400")
			answer = l.list(rest)
		case "domain":
			name, err := wire.ParseName(rest)
			d := slices.IndexFunc(l.registered, func(d Registered) bool { return err == nil && d.Name.Equal(name) })
			if d < 0 {
				break
			}
			if quirk, is := quirkAnswers[l.registered[d].Quirk]; is && len(at[i].Zones) > 0 {
				quirk(w, r, asked.Add(1))
				return
			}
			answer = l.domainObject(&l.registered[d], at[i])
		case "ip":
			answer = l.holding(func(h *Holding) bool { return h.has(rest) })
		case "autnum":
			n, _ := strconv.ParseUint(rest, 10, 32)
			answer = l.holding(func(h *Holding) bool { return n > 0 && uint64(h.FirstAS) <= n && n <= uint64(h.LastAS) })
		}
		if answer == nil {
			w.WriteHeader(http.StatusNotFound)
			answer = map[string]any{"errorCode": 404, "title": "Not found"}
		}
		json.NewEncoder(w).Encode(answer)
	})
}

// quirkAnswers are what a registry does in place of answering.
var quirkAnswers = map[string]func(w http.ResponseWriter, r *http.Request, asked int32){
	"missing": func(w http.ResponseWriter, _ *http.Request, _ int32) { w.WriteHeader(http.StatusNotFound) },
	"busy": func(w http.ResponseWriter, _ *http.Request, _ int32) {
		w.Header().Set("Retry-After", "120")
		w.WriteHeader(http.StatusTooManyRequests)
	},
	"failing": func(w http.ResponseWriter, _ *http.Request, _ int32) { w.WriteHeader(http.StatusServiceUnavailable) },
	"broken": func(w http.ResponseWriter, _ *http.Request, _ int32) {
		io.WriteString(w, `{"objectClassName": "domain", "ldhName": `)
	},
	"page": func(w http.ResponseWriter, _ *http.Request, _ int32) {
		w.Header().Set("Content-Type", "text/html")
		io.WriteString(w, "<!DOCTYPE html><p>Welcome</p>")
	},
	"deep": func(w http.ResponseWriter, _ *http.Request, _ int32) {
		io.WriteString(w, strings.Repeat(`{"a":`, 9000))
	},
	"other": func(w http.ResponseWriter, _ *http.Request, _ int32) {
		io.WriteString(w, `{"objectClassName": "domain", "ldhName": "elsewhere.example"}`)
	},
	"endless": func(w http.ResponseWriter, r *http.Request, _ int32) {
		for r.Context().Err() == nil {
			if _, err := io.WriteString(w, strings.Repeat(`{"notices": [`, 4000)); err != nil {
				return
			}
		}
	},
	"looping": func(w http.ResponseWriter, r *http.Request, _ int32) {
		http.Redirect(w, r, r.URL.Path, http.StatusFound)
	},
	"inside": func(w http.ResponseWriter, r *http.Request, _ int32) {
		http.Redirect(w, r, "https://192.168.0.1/", http.StatusFound)
	},
	"plain": func(w http.ResponseWriter, r *http.Request, _ int32) {
		http.Redirect(w, r, "http://rdap.registry.test/", http.StatusFound)
	},
	"silent": func(_ http.ResponseWriter, r *http.Request, _ int32) { <-r.Context().Done() },
}

// list is one of the lists of registries.
func (l *Lab) list(file string) map[string]any {
	var services [][][]string
	for _, r := range l.Scenario.Registries {
		base := []string{"https://" + r.Host + "/"}
		var keys []string
		switch file {
		case "dns.json":
			for _, zone := range r.Zones {
				keys = append(keys, strings.TrimSuffix(zone.String(), "."))
			}
		case "ipv4.json", "ipv6.json":
			for _, p := range r.Parts {
				if p.Addr().Is4() == (file == "ipv4.json") {
					keys = append(keys, p.String())
				}
			}
		case "asn.json":
			if r.Numbers != "" {
				keys = []string{r.Numbers}
			}
		}
		if len(keys) > 0 {
			services = append(services, [][]string{keys, base})
		}
	}
	if services == nil {
		return nil
	}
	return map[string]any{"version": "1.0", "publication": l.Scenario.Begins.Format(time.RFC3339), "services": services}
}

// card is a contact in the form of RFC 7095.
func card(role, name, mail, phone string) map[string]any {
	properties := [][]any{{"version", map[string]any{}, "text", "4.0"}, {"fn", map[string]any{}, "text", name}}
	if mail != "" {
		properties = append(properties, []any{"email", map[string]any{}, "text", mail})
	}
	if phone != "" {
		properties = append(properties, []any{"tel", map[string]any{"type": "voice"}, "uri", "tel:" + phone})
	}
	return map[string]any{"objectClassName": "entity", "handle": strings.ToUpper(strings.ReplaceAll(name, " ", "-")), "roles": []string{role}, "vcardArray": []any{"vcard", properties}}
}

func events(pairs ...any) (all []map[string]any) {
	for i := 0; i+1 < len(pairs); i += 2 {
		if at := pairs[i+1].(time.Time); !at.IsZero() {
			all = append(all, map[string]any{"eventAction": pairs[i], "eventDate": at.Format(time.RFC3339)})
		}
	}
	return all
}

// withheld is what RFC 9537 has a server say of what it leaves out.
func withheld(what []string) (all []map[string]any) {
	for _, name := range what {
		all = append(all, map[string]any{"name": map[string]any{"description": name}, "method": "removal", "reason": map[string]any{"description": "Server policy"}})
	}
	return all
}

// domainObject is what a registry, or a registrar, says of a domain (RFC 9083 §5.3).
func (l *Lab) domainObject(d *Registered, by Registry) map[string]any {
	name := strings.TrimSuffix(d.Name.String(), ".")
	o := map[string]any{"objectClassName": "domain", "rdapConformance": []string{"rdap_level_0", "redacted"}, "handle": "D-" + strings.ToUpper(name), "ldhName": name}
	if len(by.Zones) == 0 { // a registrar's
		o["events"] = events("registration", d.Since, "registrar expiration", d.Paid)
		holder := d.Holder
		if len(d.Withheld) > 0 {
			holder = ""
			o["redacted"] = withheld(d.Withheld)
		}
		if holder != "" {
			o["entities"] = []any{card("registrant", holder, "", "")}
		}
		return o
	}
	o["status"], o["events"] = d.Status, events("registration", d.Since, "last changed", d.Changed, "expiration", d.Expires, "deletion", d.Deletes)
	registrar := card("registrar", "Farhost Names", "", "")
	registrar["entities"] = []any{card("abuse", "Farhost Names", "abuse@farhost.test", "+44.1632960077")}
	o["entities"] = []any{registrar}
	if d.Registrar != "" {
		o["links"] = []any{map[string]any{"rel": "related", "type": "application/rdap+json", "href": fmt.Sprintf("https://%s/domain/%s", d.Registrar, name)}}
	}
	var servers, keys []any
	for _, host := range d.Servers {
		servers = append(servers, map[string]any{"objectClassName": "nameserver", "ldhName": strings.TrimSuffix(host.String(), ".")})
	}
	for _, ds := range d.DS {
		words := strings.Fields(ds)
		numbers := make([]int, 3)
		for i := range numbers {
			numbers[i], _ = strconv.Atoi(words[i])
		}
		keys = append(keys, map[string]any{"keyTag": numbers[0], "algorithm": numbers[1], "digestType": numbers[2], "digest": words[3]})
	}
	o["nameservers"], o["secureDNS"] = servers, map[string]any{"delegationSigned": len(keys) > 0, "dsData": keys}
	return o
}

// has reports whether a holding has an address or a network, as a question names it.
func (h *Holding) has(asked string) bool {
	if p, err := netip.ParsePrefix(asked); err == nil {
		asked = p.Addr().String()
	}
	a, err := netip.ParseAddr(asked)
	return err == nil && h.First.IsValid() && a.BitLen() == h.First.BitLen() && h.First.Compare(a) <= 0 && a.Compare(h.Last) <= 0
}

// holding is the first of the holdings that fits: the smaller ones stand first.
func (l *Lab) holding(fits func(*Holding) bool) map[string]any {
	i := slices.IndexFunc(l.Scenario.Holdings, func(h Holding) bool { return fits(&h) })
	if i < 0 {
		return nil
	}
	h := l.Scenario.Holdings[i]
	o := map[string]any{"objectClassName": "ip network", "name": h.Name, "handle": "NET-" + h.Name, "type": h.Kind, "country": h.Country, "events": events("registration", h.Since)}
	if h.First.IsValid() {
		o["startAddress"], o["endAddress"], o["ipVersion"] = h.First.String(), h.Last.String(), map[bool]string{true: "v4", false: "v6"}[h.First.Is4()]
	} else {
		o["objectClassName"], o["startAutnum"], o["endAutnum"] = "autnum", h.FirstAS, h.LastAS
	}
	holder := card("registrant", h.Holder, "", "")
	holder["entities"] = []any{card("abuse", h.Holder, h.Abuse, h.Phone), card("technical", h.Holder, h.Technical, "")}
	o["entities"] = []any{holder}
	if len(h.Withheld) > 0 {
		o["redacted"] = withheld(h.Withheld)
	}
	return o
}
