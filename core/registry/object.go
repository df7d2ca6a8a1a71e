package registry

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"unquil/core/escape"
	"unquil/core/wire"
)

// Why an answer cannot be read.
var (
	ErrNotObject = errors.New("what came is no RDAP object")
	ErrDeep      = errors.New("what came is nested too deeply")
	ErrOther     = errors.New("what came is about something else")
)

// Bounds on one object: more of anything is left out.
const (
	maxNesting = 40
	maxItems   = 200
	maxText    = 200 // characters of one text
)

// object is a JSON object of which nothing is taken for granted.
type object map[string]any

// read reads the JSON of an answer.
func read(data []byte) (object, error) {
	if nesting(data) > maxNesting {
		return nil, ErrDeep
	}
	var o object
	if err := json.Unmarshal(data, &o); err != nil || o == nil {
		return nil, ErrNotObject
	}
	return o, nil
}

// nesting is how deep brackets are nested, without reading what stands between them.
func nesting(data []byte) (deepest int) {
	depth, quoted := 0, false
	for i := 0; i < len(data); i++ {
		switch c := data[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '{' || c == '[':
			depth++
			deepest = max(deepest, depth)
		case c == '}' || c == ']':
			depth--
		}
	}
	return deepest
}

func (o object) text(key string) string { return textOf(o[key]) }

func textOf(v any) string {
	s, _ := v.(string)
	return strings.TrimSpace(s)
}

// shown is a text as it may be shown.
func (o object) shown(key string) escape.Text { return shown(o.text(key)) }

func shown(s string) escape.Text {
	if len(s) > 4*maxText {
		s = s[:4*maxText]
	}
	if runes := []rune(s); len(runes) > maxText {
		s = string(runes[:maxText]) + "…"
	}
	return escape.Of(strings.Join(strings.Fields(s), " "))
}

func (o object) number(key string) float64 {
	n, _ := o[key].(float64)
	return n
}

// objects are those in a list.
func (o object) objects(key string) (all []object) {
	list, _ := o[key].([]any)
	for _, v := range list[:min(len(list), maxItems)] {
		if m, ok := v.(map[string]any); ok {
			all = append(all, m)
		}
	}
	return all
}

// texts are those in a list.
func (o object) texts(key string) (all []string) {
	list, _ := o[key].([]any)
	for _, v := range list[:min(len(list), maxItems)] {
		if s := textOf(v); s != "" {
			all = append(all, s)
		}
	}
	return all
}

// when is when an event was, or will be (RFC 9083 §4.5); zero where it is not told.
func (o object) when(action string) time.Time {
	for _, event := range o.objects("events") {
		if !strings.EqualFold(event.text("eventAction"), action) {
			continue
		}
		for _, form := range []string{time.RFC3339, "2006-01-02T15:04:05", "2006-01-02"} {
			if at, err := time.Parse(form, event.text("eventDate")); err == nil && at.Year() > 1900 && at.Year() < 3000 {
				return at.UTC()
			}
		}
	}
	return time.Time{}
}

// entity is the first with a role, those within others included, be it in a role of its own
// (RFC 9083 §5.1).
func (o object) entity(role string, depth int) object {
	if depth > 3 {
		return nil
	}
	all := o.objects("entities")
	for _, e := range all {
		if slices.ContainsFunc(e.texts("roles"), func(r string) bool { return strings.EqualFold(r, role) }) {
			return e
		}
	}
	for _, e := range all {
		if below := e.entity(role, depth+1); below != nil {
			return below
		}
	}
	return nil
}

// contact reads the card of an entity (jCard, RFC 7095); a card of any other shape is empty.
func (o object) contact() (c Contact) {
	if o == nil {
		return c
	}
	card, _ := o["vcardArray"].([]any)
	if len(card) < 2 {
		return c
	}
	properties, _ := card[1].([]any)
	var organisation escape.Text
	known := map[string]*escape.Text{"fn": &c.Name, "org": &organisation, "email": &c.Mail, "tel": &c.Phone}
	for _, p := range properties[:min(len(properties), maxItems)] {
		property, _ := p.([]any)
		if len(property) < 4 {
			continue
		}
		value := textOf(property[3])
		if list, ok := property[3].([]any); ok && len(list) > 0 {
			value = textOf(list[0])
		}
		if into := known[strings.ToLower(textOf(property[0]))]; into != nil && *into == "" {
			*into = shown(strings.TrimPrefix(value, "tel:"))
		}
	}
	if organisation != "" {
		c.Name = organisation
	}
	if c.Name == "" {
		c.Name = o.shown("handle")
	}
	return c
}

// redacted is what a registry says that it withholds (RFC 9537 §4.2).
func (o object) redacted() (all []escape.Text) {
	for _, r := range o.objects("redacted") {
		name := object(mapOf(r["name"]))
		text := name.shown("description")
		if text == "" {
			text = name.shown("type")
		}
		if text != "" && !slices.Contains(all, text) {
			all = append(all, text)
		}
	}
	return all
}

func mapOf(v any) map[string]any {
	m, _ := v.(map[string]any)
	return m
}

// related is where more about the object is said (RFC 9083 §4.2): of a domain, at its
// registrar. "" is nowhere.
func (o object) related() string {
	for _, link := range o.objects("links") {
		kind := strings.ToLower(link.text("type"))
		if strings.EqualFold(link.text("rel"), "related") && (strings.HasPrefix(kind, "application/rdap+json") || kind == "") {
			return link.text("href")
		}
	}
	return ""
}

// class is whether an object is of a class; one that says none is taken for it.
func (o object) class(name string) bool {
	said := o.text("objectClassName")
	return strings.EqualFold(said, name) || said == "" && o["errorCode"] == nil
}

// network reads the object of an IP network, or of AS numbers (RFC 9083 §5.4, §5.5).
func network(data []byte) (*Network, error) {
	o, err := read(data)
	if err != nil {
		return nil, err
	}
	n := &Network{
		Name: o.shown("name"), Handle: o.shown("handle"), Kind: o.shown("type"), Country: o.shown("country"),
		Holder: o.entity("registrant", 0).contact(), Abuse: o.entity("abuse", 0).contact(), Technical: o.entity("technical", 0).contact(),
		Registered: o.when("registration"), Changed: o.when("last changed"), Redacted: o.redacted(),
	}
	switch {
	case o.class("ip network") && o.text("startAddress") != "":
		first, err1 := netip.ParseAddr(o.text("startAddress"))
		last, err2 := netip.ParseAddr(o.text("endAddress"))
		if err1 != nil || err2 != nil || first.BitLen() != last.BitLen() || last.Less(first) {
			return nil, fmt.Errorf("%w: its first and last address are no range", ErrNotObject)
		}
		n.First, n.Last = first.WithZone(""), last.WithZone("")
	case o.class("autnum") && o["startAutnum"] != nil:
		first, last := o.number("startAutnum"), o.number("endAutnum")
		if first < 0 || last < first || last > 1<<32-1 {
			return nil, fmt.Errorf("%w: its first and last AS number are no range", ErrNotObject)
		}
		n.FirstAS, n.LastAS = uint32(first), uint32(last)
	default:
		return nil, ErrNotObject
	}
	return n, nil
}

// domain reads the object of a domain (RFC 9083 §5.3). related is where its registrar says more.
func domain(data []byte, name wire.Name) (d *Domain, related string, err error) {
	o, err := read(data)
	if err != nil {
		return nil, "", err
	}
	if !o.class("domain") {
		return nil, "", ErrNotObject
	}
	told, err := wire.ParseName(o.text("ldhName"))
	if err != nil {
		return nil, "", ErrNotObject
	}
	if !told.Equal(name) {
		return nil, "", fmt.Errorf("%w, %s", ErrOther, told.Spoken())
	}
	registrar := o.entity("registrar", 0)
	d = &Domain{
		Name: name, Registrar: registrar.contact().Name, RegistrarURL: registrar.site(), Holder: o.entity("registrant", 0).contact(),
		Abuse:      registrar.entity("abuse", 0).contact(),
		Registered: o.when("registration"), Changed: o.when("last changed"), Expires: o.when("expiration"),
		RegistrarExpires: o.when("registrar expiration"), Deletes: o.when("deletion"), Redacted: o.redacted(),
	}
	for _, s := range o.texts("status") {
		if status := shown(strings.ToLower(s)); !slices.Contains(d.Statuses, status) {
			d.Statuses = append(d.Statuses, status)
		}
	}
	for _, ns := range o.objects("nameservers") {
		host := Host{}
		if host.Name, err = wire.ParseName(ns.text("ldhName")); err != nil || host.Name.IsRoot() {
			continue
		}
		addresses := object(mapOf(ns["ipAddresses"]))
		for _, text := range append(addresses.texts("v4"), addresses.texts("v6")...) {
			if a, err := netip.ParseAddr(text); err == nil {
				host.Addresses = append(host.Addresses, a)
			}
		}
		d.Servers = append(d.Servers, host)
	}
	if secure, ok := o["secureDNS"].(map[string]any); ok {
		_, d.Secured = secure["delegationSigned"].(bool)
		for _, ds := range object(secure).objects("dsData") {
			value := strings.ToUpper(strings.Join(strings.Fields(ds.text("digest")), ""))
			if strings.Trim(value, "0123456789ABCDEF") == "" {
				d.DS = append(d.DS, DS{uint16(ds.number("keyTag")), uint8(ds.number("algorithm")), uint8(ds.number("digestType")), value})
			}
		}
	}
	return d, o.related(), nil
}

// site is the web page of an entity, "" for none.
func (o object) site() escape.Text {
	for _, link := range o.objects("links") {
		if strings.EqualFold(link.text("rel"), "about") {
			return link.shown("href")
		}
	}
	return ""
}

// add takes over what the registrar tells and the registry does not.
func (d *Domain) add(more *Domain) {
	take := func(into *time.Time, from time.Time) {
		if into.IsZero() {
			*into = from
		}
	}
	take(&d.RegistrarExpires, more.RegistrarExpires)
	take(&d.Registered, more.Registered)
	if d.Expires.IsZero() || !more.Expires.IsZero() && more.Expires.Before(d.Expires) {
		take(&d.RegistrarExpires, more.Expires)
	}
	for _, pair := range []struct{ into, from *Contact }{{&d.Holder, &more.Holder}, {&d.Abuse, &more.Abuse}} {
		if *pair.into == (Contact{}) {
			*pair.into = *pair.from
		}
	}
	if d.Registrar == "" {
		d.Registrar = more.Registrar
	}
	for _, r := range more.Redacted {
		if !slices.Contains(d.Redacted, r) {
			d.Redacted = append(d.Redacted, r)
		}
	}
	d.Sources = append(d.Sources, more.Sources...)
}
