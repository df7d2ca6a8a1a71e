package recording

import (
	"fmt"
	"strings"

	"unquil/core/wire"
	"unquil/lab"
)

// signedAnswer is a reply that holds much of what a reader may never have seen.
// The signatures are made up: they are there to be looked at, not to be checked.
var signedAnswer = struct {
	question, answer, authority []string
}{
	[]string{"piste.hollowtarn.example. HTTPS"},
	[]string{
		`piste.hollowtarn.example. 3600 IN HTTPS 1 . alpn="h2,h3" port=8443 ipv4hint=203.0.113.120 ipv6hint=2001:db8:113::120`,
		`piste.hollowtarn.example. 3600 IN RRSIG HTTPS 13 3 3600 20260401000000 20260301000000 34505 hollowtarn.example. aG9sbG93IHRhcm4gaG9sbG93IHRhcm4gaG9sbG93IHRhcm4gaG9sbG93IHRhcm4gaG9sbG93IHRhcm4hISEhIQ==`,
		`summit.hollowtarn.example. 3600 IN LOC 47 16 24.500 N 11 23 41.000 E 2312m 30m 10m 5m`,
		`hollowtarn.example. 3600 IN CAA 128 issue "lanternpost.test; account=4711"`,
	},
	[]string{
		`0p9mhaveqvm6t7vbl5lop2u3t2rp3tom.hollowtarn.example. 600 IN NSEC3 1 1 0 - 2T7B4G4VSA5SMI47K61MV5BV1A22BOJR A AAAA RRSIG HTTPS CAA`,
	},
}

// SignedAnswer returns the message in signed-answer.dns. An error would be one of its own
// constants.
func SignedAnswer() ([]byte, error) {
	m := wire.Message{ID: 0x2f1c, Flags: wire.QR | wire.RD | wire.RA | wire.AD}
	name, typ, _ := strings.Cut(signedAnswer.question[0], " ")
	t, err := wire.ParseType(typ)
	if err != nil {
		return nil, err
	}
	m.Questions = []wire.Question{{Name: wire.MustParseName(name), Type: t, Class: wire.IN}}
	for _, section := range []struct {
		lines []string
		to    *[]wire.Record
	}{{signedAnswer.answer, &m.Answer}, {signedAnswer.authority, &m.Authority}} {
		records, err := lab.ReadLines(section.lines)
		if err != nil {
			return nil, err
		}
		*section.to = records
	}
	edns := wire.EDNS{Size: 1232, DO: true, Options: []wire.Option{
		{Code: wire.NSID, Data: "valley-1"},
		{Code: wire.EDE, Data: "\x00\x03" + "two of three servers are silent"},
	}}
	m.Additional = []wire.Record{edns.Record(wire.NoError)}
	return m.Bytes()
}

// BrokenAnswer returns the message in broken-answer.dns: the same, cut, and
// with the length of an RDATA changed so that its fields do not fit. The error is as there.
func BrokenAnswer() ([]byte, error) {
	data, err := SignedAnswer()
	if err != nil {
		return nil, err
	}
	v, err := wire.ReadView(data)
	if err != nil {
		return nil, err
	}
	c := v.Records()
	c.Next()
	end := c.Offset()
	if len(c.Record.Data) < 40 {
		return nil, fmt.Errorf("the first record is too short to be broken")
	}
	data[end-len(c.Record.Data)-1] -= 3
	return data[:end+60], nil
}
