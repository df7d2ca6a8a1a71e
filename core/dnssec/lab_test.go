package dnssec_test

import (
	"context"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/dnssec"
	"unquil/core/wire"
	"unquil/lab"
)

// labServers are the lab's authoritative servers, as a source.
type labServers struct {
	t      *testing.T
	lab    *lab.Lab
	asked  int
	change func(q wire.Question, m *wire.Message) // what becomes of a reply; nil: nothing
}

func (s *labServers) Cut(wire.Name) (is, known bool) { return false, false }

func (s *labServers) Ask(_ context.Context, zone wire.Name, q wire.Question, turn int) (*wire.Message, int) {
	if turn > 0 {
		return nil, 0 // one server of each is enough here
	}
	for _, server := range s.lab.Scenario.Servers {
		for _, served := range server.Zones {
			if served.Name != zone.String() || server.State != lab.Up || served.File != "" && !zone.IsRoot() {
				continue
			}
			query := wire.Message{ID: 1, Questions: []wire.Question{q}}
			query.Additional = []wire.Record{wire.EDNS{Size: 4096, DO: true}.Record(wire.NoError)}
			data, err := query.Bytes()
			require.NoError(s.t, err)
			reply, err := wire.ReadMessage(s.lab.Respond(server.Addresses[0], netip.Addr{}, data, true))
			require.NoError(s.t, err)
			if s.change != nil {
				s.change(q, &reply)
			}
			s.asked++
			return &reply, s.asked
		}
	}
	return nil, 0
}

func validator(t *testing.T) (*dnssec.Validator, *labServers) {
	l, err := lab.New(lab.Options{InMemory: true})
	require.NoError(t, err)
	t.Cleanup(l.Close)
	s := &labServers{t: t, lab: l}
	return &dnssec.Validator{Source: s, Anchors: l.Anchors(), Now: l.Scenario.Begins}, s
}

func question(text string) wire.Question {
	name, typ, _ := strings.Cut(text, " ")
	t, _ := wire.ParseType(typ)
	return wire.Question{Name: wire.MustParseName(name), Type: t, Class: wire.IN}
}

// Every kind of answer of the lab's zones is what it ought to be.
func TestStates(t *testing.T) {
	for _, c := range []struct {
		asks, zone string
		state      dnssec.State
		chain      string // the zones
	}{
		{"www.hollowtarn.example. A", "hollowtarn.example.", dnssec.Secure, ". example. hollowtarn.example."},
		{"tickets.hollowtarn.example. A", "hollowtarn.example.", dnssec.Secure, ". example. hollowtarn.example."},
		{"tickets.hollowtarn.example. AAAA", "hollowtarn.example.", dnssec.Secure, ". example. hollowtarn.example."},
		{"nothing.hollowtarn.example. A", "hollowtarn.example.", dnssec.Secure, ". example. hollowtarn.example."},
		{"far.below.nothing.hollowtarn.example. A", "hollowtarn.example.", dnssec.Secure, ". example. hollowtarn.example."},
		{"_tcp.hollowtarn.example. A", "hollowtarn.example.", dnssec.Secure, ". example. hollowtarn.example."}, // an empty non-terminal
		{"anybody.guest.hollowtarn.example. A", "hollowtarn.example.", dnssec.Secure, ". example. hollowtarn.example."},
		{"anybody.guest.hollowtarn.example. MX", "hollowtarn.example.", dnssec.Secure, ". example. hollowtarn.example."},
		{"book.lodge.hollowtarn.example. A", "hollowtarn.example.", dnssec.Secure, ". example. hollowtarn.example."},
		{"hollowtarn.example. DNSKEY", "hollowtarn.example.", dnssec.Secure, ". example. hollowtarn.example."},
		{"hollowtarn.example. DS", "example.", dnssec.Secure, ". example."},
		{"ridge.north.hollowtarn.example. A", "north.hollowtarn.example.", dnssec.Secure, ". example. hollowtarn.example. north.hollowtarn.example."},
		{"ridge.north.hollowtarn.example. AAAA", "north.hollowtarn.example.", dnssec.Secure, ". example. hollowtarn.example. north.hollowtarn.example."},
		{"valley.north.hollowtarn.example. A", "north.hollowtarn.example.", dnssec.Secure, ". example. hollowtarn.example. north.hollowtarn.example."},
		{"season.passes.hollowtarn.example. A", "passes.hollowtarn.example.", dnssec.Insecure, ". example. hollowtarn.example. passes.hollowtarn.example."},
		{"works.example. A", "works.example.", dnssec.Secure, ". example. works.example."},
		{"nobody.example. A", "example.", dnssec.Insecure, ". example. nobody.example."}, // it may be a delegation that was left out
		{"example. SOA", "example.", dnssec.Secure, ". example."},
		{"farhost.test. A", "farhost.test.", dnssec.Insecure, ". test. farhost.test."},
		{"nobody.test. A", "test.", dnssec.Secure, ". test."},
		{". SOA", ".", dnssec.Secure, "."},
	} {
		t.Run(c.asks, func(t *testing.T) {
			v, source := validator(t)
			q := question(c.asks)
			m, _ := source.Ask(t.Context(), wire.MustParseName(c.zone), q, 0)
			require.NotNil(t, m)
			r := v.Judge(t.Context(), q, m)
			assert.Equal(t, c.state, r.State, "%+v", r.Break)
			var zones []string
			for _, l := range r.Chain {
				zones = append(zones, l.Zone.String())
			}
			assert.Equal(t, c.chain, strings.Join(zones, " "))
			assert.Equal(t, zones[len(zones)-1], r.Zone.String())
			if c.state == dnssec.Secure {
				assert.Equal(t, 14*24*time.Hour, r.Expires.Sub(v.Now))
			}
		})
	}
}

// What is changed on the way, or is wrong with a zone, breaks the chain where it is wrong.
func TestBreaks(t *testing.T) {
	without := func(t wire.Type) func(records []wire.Record) []wire.Record {
		return func(records []wire.Record) (out []wire.Record) {
			for _, r := range records {
				if r.Type != t {
					out = append(out, r)
				}
			}
			return out
		}
	}
	for _, c := range []struct {
		what, asks string
		days       int                                    // after the morning
		change     func(q wire.Question, m *wire.Message) // what becomes of replies
		state      dnssec.State
		flaw       dnssec.Flaw
		zone       string
	}{
		{"nothing is", "tickets.hollowtarn.example. A", 0, func(wire.Question, *wire.Message) {}, dnssec.Secure, "", "hollowtarn.example."},
		{"the signatures ran out", "tickets.hollowtarn.example. A", 15, nil, dnssec.Bogus, dnssec.SignatureExpired, "."},
		{"they are not valid yet", "tickets.hollowtarn.example. A", -8, nil, dnssec.Bogus, dnssec.SignatureNotYet, "."},
		{"another address", "tickets.hollowtarn.example. A", 0, func(q wire.Question, m *wire.Message) {
			if q.Type == wire.A {
				m.Answer[0].Data = "\xc0\x00\x02\x62"
			}
		}, dnssec.Bogus, dnssec.SignatureWrong, "hollowtarn.example."},
		{"a longer TTL alone changes nothing", "tickets.hollowtarn.example. A", 0, func(q wire.Question, m *wire.Message) {
			if q.Type == wire.A {
				m.Answer[0].TTL = 1 << 30
			}
		}, dnssec.Secure, "", "hollowtarn.example."},
		{"no signatures", "tickets.hollowtarn.example. A", 0, func(q wire.Question, m *wire.Message) {
			if q.Type == wire.A {
				m.Answer = without(wire.RRSIG)(m.Answer)
			}
		}, dnssec.Bogus, dnssec.SignatureMissing, "hollowtarn.example."},
		{"no keys", "tickets.hollowtarn.example. A", 0, func(q wire.Question, m *wire.Message) {
			if q.Type == wire.DNSKEY && q.Name.Labels() == 2 {
				m.Answer = nil
			}
		}, dnssec.Bogus, dnssec.ChainMissing, "hollowtarn.example."},
		{"other keys", "tickets.hollowtarn.example. A", 0, func(q wire.Question, m *wire.Message) {
			for i := range m.Answer {
				if m.Answer[i].Type == wire.DNSKEY && q.Name.Labels() == 2 {
					m.Answer[i].Data = m.Answer[i].Data[:20] + "other" + m.Answer[i].Data[25:]
				}
			}
		}, dnssec.Bogus, dnssec.DSWithoutKey, "hollowtarn.example."},
		{"keys that none of the named ones has signed", "tickets.hollowtarn.example. A", 0, func(q wire.Question, m *wire.Message) {
			if q.Type == wire.DNSKEY && q.Name.Labels() == 2 {
				m.Answer = without(wire.RRSIG)(m.Answer)
			}
		}, dnssec.Bogus, dnssec.KeyUnsigned, "hollowtarn.example."},
		{"a DS that was taken out", "tickets.hollowtarn.example. A", 0, func(q wire.Question, m *wire.Message) {
			if q.Type == wire.DS {
				m.Answer = nil
			}
		}, dnssec.Bogus, dnssec.DenialIncomplete, "example."},
		{"a DS of a way that nobody knows", "ridge.north.hollowtarn.example. A", 0, nil, dnssec.Secure, "", "north.hollowtarn.example."},
		{"nobody answers for the keys", "tickets.hollowtarn.example. A", 0, func(q wire.Question, m *wire.Message) {
			if q.Type == wire.DNSKEY && q.Name.Labels() == 2 {
				*m = wire.Message{Flags: wire.QR.WithRCode(wire.ServFail)}
			}
		}, dnssec.Indeterminate, "", "hollowtarn.example."},
		{"a reply without EDNS, which cannot have signatures", "tickets.hollowtarn.example. A", 0, func(q wire.Question, m *wire.Message) {
			if q.Type == wire.A {
				m.Answer, m.Additional = without(wire.RRSIG)(m.Answer), nil
			}
		}, dnssec.Indeterminate, "", "hollowtarn.example."},
		{"a name that is denied without proof", "nothing.hollowtarn.example. A", 0, func(q wire.Question, m *wire.Message) {
			if q.Type == wire.A {
				m.Authority = without(wire.NSEC)(m.Authority)
			}
		}, dnssec.Bogus, dnssec.DenialIncomplete, "hollowtarn.example."},
		{"an existing name that is denied", "tickets.hollowtarn.example. A", 0, func(q wire.Question, m *wire.Message) {
			if q.Type == wire.A {
				m.Answer, m.Flags = nil, m.Flags.WithRCode(wire.NXDomain)
			}
		}, dnssec.Bogus, dnssec.DenialIncomplete, "hollowtarn.example."},
		{"a wildcard's answer without the proof", "anybody.guest.hollowtarn.example. A", 0, func(q wire.Question, m *wire.Message) {
			if q.Type == wire.A {
				m.Authority = nil
			}
		}, dnssec.Bogus, dnssec.DenialIncomplete, "hollowtarn.example."},
		{"an alias that no DNAME makes", "book.lodge.hollowtarn.example. A", 0, func(q wire.Question, m *wire.Message) {
			for i, r := range m.Answer {
				if r.Type == wire.CNAME {
					m.Answer[i].Data = wire.MustParseName("elsewhere.hollowtarn.example.").Wire()
				}
			}
		}, dnssec.Bogus, dnssec.SignatureMissing, "hollowtarn.example."},
	} {
		t.Run(c.what, func(t *testing.T) {
			v, source := validator(t)
			source.change, v.Now = c.change, v.Now.AddDate(0, 0, c.days)
			q := question(c.asks)
			zone := "hollowtarn.example."
			if strings.Contains(c.asks, "north") {
				zone = "north.hollowtarn.example."
			}
			m, _ := source.Ask(t.Context(), wire.MustParseName(zone), q, 0)
			require.NotNil(t, m)
			r := v.Judge(t.Context(), q, m)
			assert.Equal(t, c.state, r.State, "%+v", r.Break)
			assert.Equal(t, c.zone, r.Zone.String())
			if c.flaw == "" {
				assert.Nil(t, r.Break)
				return
			}
			require.NotNil(t, r.Break)
			assert.Equal(t, c.flaw, r.Break.Flaw)
			switch c.flaw {
			case dnssec.SignatureExpired:
				assert.Equal(t, -24*time.Hour, r.Break.Since.Sub(v.Now))
			case dnssec.SignatureNotYet:
				assert.Equal(t, 24*time.Hour, r.Break.Until.Sub(v.Now))
			}
		})
	}
	v, source := validator(t)
	v.Anchors = nil
	q := question(". SOA")
	m, _ := source.Ask(t.Context(), wire.Root, q, 0)
	assert.Equal(t, dnssec.Indeterminate, v.Judge(t.Context(), q, m).State, "without an anchor nobody can tell")
	v, source = validator(t)
	v.Anchors[0].Data = v.Anchors[0].Data[:10] + "other" + v.Anchors[0].Data[15:]
	assert.Equal(t, dnssec.AnchorOld, v.Judge(t.Context(), q, m).Break.Flaw)
	_ = source
}

// remembered is a source that has what it is asked for.
type remembered struct {
	said map[wire.Question]*wire.Message
}

func (remembered) Cut(wire.Name) (is, known bool) { return false, false }

func (r remembered) Ask(_ context.Context, _ wire.Name, q wire.Question, _ int) (*wire.Message, int) {
	return r.said[q], 1
}

// noting is a source that notes what was said.
type noting struct {
	*labServers
	remembered
}

func (n noting) Cut(wire.Name) (is, known bool) { return false, false }

func (n noting) Ask(ctx context.Context, zone wire.Name, q wire.Question, turn int) (*wire.Message, int) {
	m, number := n.labServers.Ask(ctx, zone, q, turn)
	n.said[q] = m
	return m, number
}

// BenchmarkWarmChain is the validation of an answer four zones down, of which all is there.
func BenchmarkWarmChain(b *testing.B) {
	l, err := lab.New(lab.Options{InMemory: true})
	require.NoError(b, err)
	defer l.Close()
	source := noting{&labServers{t: &testing.T{}, lab: l}, remembered{map[wire.Question]*wire.Message{}}}
	q := question("ridge.north.hollowtarn.example. A")
	m, _ := source.Ask(b.Context(), wire.MustParseName("north.hollowtarn.example."), q, 0)
	judge := func(from dnssec.Source) dnssec.Result {
		v := &dnssec.Validator{Source: from, Anchors: l.Anchors(), Now: l.Scenario.Begins}
		return v.Judge(b.Context(), q, m)
	}
	require.Equal(b, dnssec.Secure, judge(source).State)
	b.ReportAllocs()
	for b.Loop() {
		judge(source.remembered)
	}
}
