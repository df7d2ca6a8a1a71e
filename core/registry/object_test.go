package registry

import (
	"encoding/json"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/escape"
	"unquil/core/wire"
)

// The objects of RFC 9083 §5, as far as they are read.
const (
	rfcNetwork = `{"objectClassName": "ip network", "handle": "XXXX-RIR", "startAddress": "2001:db8::", "endAddress": "2001:db8:0:ffff:ffff:ffff:ffff:ffff", "ipVersion": "v6",
		"name": "NET-RTR-1", "type": "DIRECT ALLOCATION", "country": "AU", "status": ["active"],
		"remarks": [{"description": ["She sells sea shells down by the sea shore."]}],
		"events": [{"eventAction": "registration", "eventDate": "1990-12-31T23:59:59Z"}, {"eventAction": "last changed", "eventDate": "1991-12-31T23:59:59Z"}],
		"entities": [{"objectClassName": "entity", "handle": "XXXX", "roles": ["registrant"], "vcardArray": ["vcard", [["version", {}, "text", "4.0"], ["fn", {}, "text", "Joe User"],
			["kind", {}, "text", "individual"], ["org", {"type": "work"}, "text", "Example"],
			["adr", {"type": "work"}, "text", ["", "Suite 1234", "4321 Rue Somewhere", "Quebec", "QC", "G1V 2M2", "Canada"]],
			["tel", {"type": ["work", "voice"], "pref": "1"}, "uri", "tel:+1-555-555-1234;ext=102"], ["email", {"type": "work"}, "text", "joe.user@example.com"]]]}]}`
	rfcNumbers = `{"objectClassName": "autnum", "handle": "XXXX-RIR", "startAutnum": 65536, "endAutnum": 65541, "name": "AS-RTR-1", "type": "DIRECT ALLOCATION", "country": "AU"}`
	rfcDomain  = `{"objectClassName": "domain", "handle": "XXXX", "ldhName": "xn--fo-5ja.example", "unicodeName": "fóo.example", "status": ["locked", "Transfer Prohibited"],
		"nameservers": [{"objectClassName": "nameserver", "ldhName": "ns1.example.com", "ipAddresses": {"v6": ["2001:db8::123", "2001:db8::124"], "v4": ["192.0.2.123", "192.0.2.124"]}},
			{"objectClassName": "nameserver", "ldhName": "ns2.example.com"}, {"ldhName": 7}, null],
		"secureDNS": {"zoneSigned": true, "delegationSigned": true, "maxSigLife": 604800, "dsData": [{"keyTag": 64156, "algorithm": 8, "digest": "DEAD be ef", "digestType": 2}]},
		"events": [{"eventAction": "registration", "eventDate": "1995-12-31T23:59:59Z"}, {"eventAction": "expiration", "eventDate": "2026-03-01T00:00:00Z", "eventActor": "joe@example.com"}],
		"links": [{"rel": "self", "href": "https://a.example/"}, {"rel": "related", "type": "application/rdap+json", "href": "https://rdap.tarn.example/domain/xn--fo-5ja.example"}],
		"entities": [{"handle": "XXXX", "roles": ["registrar"], "vcardArray": ["vcard", [["fn", {}, "text", "Cairn Names"]]],
			"entities": [{"roles": ["abuse"], "vcardArray": ["vcard", [["fn", {}, "text", ""], ["tel", {}, "text", "+44"], ["email", {}, "text", "abuse@tarn.example"]]]}]}],
		"redacted": [{"name": {"description": "Registrant Name"}, "method": "removal"}, {"name": {"type": "Registrant Phone"}}]}`
)

func TestReadObjects(t *testing.T) {
	n, err := network([]byte(rfcNetwork))
	require.NoError(t, err)
	assert.Equal(t, "2001:db8::/48", n.Range())
	assert.Equal(t, Contact{Name: "Example", Mail: "joe.user@example.com", Phone: "+1-555-555-1234;ext=102"}, n.Holder)
	assert.Equal(t, []string{"NET-RTR-1", "DIRECT ALLOCATION", "AU", "31 December 1990"}, []string{string(n.Name), string(n.Kind), string(n.Country), Day(n.Registered)})
	assert.True(t, n.Contains(netip.MustParseAddr("2001:db8::7")) && !n.Contains(netip.MustParseAddr("2001:db9::")) && !n.Contains(netip.MustParseAddr("192.0.2.1")))
	numbers, err := network([]byte(rfcNumbers))
	require.NoError(t, err)
	assert.Equal(t, "AS65536 to AS65541", numbers.Range())

	d, related, err := domain([]byte(rfcDomain), wire.MustParseName("xn--fo-5ja.example."))
	require.NoError(t, err)
	assert.Equal(t, "https://rdap.tarn.example/domain/xn--fo-5ja.example", related)
	assert.Equal(t, []string{"Cairn Names", "abuse@tarn.example", "+44"}, []string{string(d.Registrar), string(d.Abuse.Mail), string(d.Abuse.Phone)})
	assert.Equal(t, []escape.Text{"locked", "transfer prohibited"}, d.Statuses)
	require.Len(t, d.Servers, 2, "what is no host is left out")
	assert.Len(t, d.Servers[0].Addresses, 4)
	assert.Equal(t, []DS{{64156, 8, 2, "DEADBEEF"}}, d.DS)
	assert.Equal(t, "1 March 2026", Day(d.Until()))
	assert.Equal(t, []escape.Text{"Registrant Name", "Registrant Phone"}, d.Redacted)
}

func TestObjectsOfAnyShape(t *testing.T) {
	name := wire.MustParseName("tarn.example.")
	for _, tt := range []struct {
		what, text string
		want       error
	}{
		{"nothing", "", ErrNotObject},
		{"a list", "[]", ErrNotObject},
		{"half an object", `{"objectClassName": "domain"`, ErrNotObject},
		{"an error", `{"errorCode": 500, "title": "x"}`, ErrNotObject},
		{"another class", `{"objectClassName": "entity", "ldhName": "tarn.example"}`, ErrNotObject},
		{"another domain", `{"objectClassName": "domain", "ldhName": "fell.example"}`, ErrOther},
		{"no name", `{"objectClassName": "domain"}`, ErrNotObject},
		{"too deep", `{"a":` + strings.Repeat("[", 100) + strings.Repeat("]", 100) + "}", ErrDeep},
		{"too deep, and open", strings.Repeat(`{"a":`, 9000), ErrDeep},
		{"brackets in a text do not count", `{"objectClassName": "domain", "ldhName": "tarn.example.", "a": "` + strings.Repeat("[", 100) + `\""}`, nil},
		{"everything of the wrong type", `{"ldhName": "TARN.example", "status": "x", "events": {}, "entities": 1, "nameservers": [[]], "secureDNS": [], "links": "x", "redacted": [1]}`, nil},
		{"cards of any shape", `{"ldhName": "tarn.example", "entities": [{"roles": ["registrar"], "vcardArray": ["vcard", [[], ["fn"], ["fn", {}, "text", {}], 7, ["fn", {}, "text", ["a", "b"]]]]}]}`, nil},
		{"dates that are none", `{"ldhName": "tarn.example", "events": [{"eventAction": "expiration", "eventDate": "soon"}, {"eventAction": "expiration", "eventDate": "0000-00-00T00:00:00Z"}]}`, nil},
	} {
		d, _, err := domain([]byte(tt.text), name)
		assert.ErrorIs(t, err, tt.want, tt.what)
		if tt.want == nil && assert.NotNil(t, d, tt.what) {
			assert.True(t, d.Expires.IsZero(), tt.what)
		}
	}
	for text, want := range map[string]error{`{"startAddress": "192.0.2.9", "endAddress": "192.0.2.1"}`: ErrNotObject, `{"startAddress": "192.0.2.1", "endAddress": "2001:db8::"}`: ErrNotObject,
		`{"startAutnum": 5, "endAutnum": 4}`: ErrNotObject, `{"startAutnum": -5, "endAutnum": 4}`: ErrNotObject, `{"startAddress": "192.0.2.0", "endAddress": "192.0.2.5"}`: nil} {
		_, err := network([]byte(text))
		assert.ErrorIs(t, err, want, text)
	}
	d, _, err := domain([]byte(`{"ldhName": "tarn.example", "entities": [{"roles": ["registrant"], "vcardArray": ["vcard", [["fn", {}, "text", "a\u001b[31m\n`+strings.Repeat("b", 5000)+`"]]]}]}`), name)
	require.NoError(t, err)
	assert.NotContains(t, string(d.Holder.Name), "\x1b")
	assert.Less(t, len(d.Holder.Name), 2*maxText, "no text is longer than can be shown")
}

// Whatever a registry says, what is kept of it is bounded and can be shown.
func FuzzObjects(f *testing.F) {
	for _, text := range []string{rfcNetwork, rfcNumbers, rfcDomain, `{"ldhName": "tarn.example", "status": ["\u0007"]}`, "[[[["} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		n, err := network([]byte(text))
		if err == nil {
			n.Range()
			n.Whose()
		}
		o, err := read([]byte(text))
		if err != nil {
			return
		}
		told, err := wire.ParseName(o.text("ldhName"))
		if err != nil {
			return
		}
		d, _, err := domain([]byte(text), told)
		if err != nil {
			return
		}
		a := Answer{At: time.Unix(1_773_000_000, 0), Domain: d}
		for _, f := range a.Judge(told, Seen{ParentTold: true, Parent: []wire.Name{told}, DSTold: true}) {
			assert.NotContains(t, f.Text+f.Next, "\x1b")
		}
		kept, err := json.Marshal(a)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(kept, &a))
	})
}
