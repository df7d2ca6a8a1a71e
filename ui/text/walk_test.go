package text

import (
	"bytes"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/delegation"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/probe"
	"unquil/core/transfer"
	"unquil/core/tsig"
	"unquil/core/wire"
	"unquil/core/zonecare"
)

// drawn is what a view writes at 100 columns without colour, its white space as one
// blank each.
func drawn(draw func(v *View)) string {
	var b bytes.Buffer
	draw(New(&b, 100, Never, nil))
	return strings.Join(strings.Fields(b.String()), " ")
}

func lineOf(t *testing.T, owner string, typ wire.Type, value string) wire.Record {
	data, err := wire.ParseRecordData(typ, wire.IN, value)
	require.NoError(t, err)
	return wire.Record{Name: wire.MustParseName(owner), Type: typ, Class: wire.IN, TTL: 60, Data: data}
}

// replied is an exchange with a server that took a time to say records.
func replied(number int, q wire.Question, flags wire.Flags, took time.Duration, answer, authority []wire.Record) *exchange.Exchange {
	begin := time.Date(2026, 3, 9, 7, 40, 0, 0, time.UTC)
	m := &wire.Message{Flags: wire.QR | flags, Questions: []wire.Question{q}, Answer: answer, Authority: authority}
	return &exchange.Exchange{Number: number, Question: q, Reply: m, Outcome: exchange.Judge(q, m), Attempts: []exchange.Attempt{{Transport: exchange.UDP, Sent: begin, Received: begin.Add(took)}}}
}

// A step's servers are one line while they agree, and a line each where they do not
// or where all are wanted; what was not asked says why.
func TestWalkFoldsWhatAgrees(t *testing.T) {
	name := wire.MustParseName("www.tarn.example")
	q := wire.Question{Name: name, Type: wire.A, Class: wire.IN}
	answer := func(n int, value string) *delegation.Reply {
		return &delegation.Reply{Host: wire.MustParseName(fmt.Sprintf("ns%d.tarn.example", n)), Address: netip.MustParseAddr(fmt.Sprintf("203.0.113.%d", n)), Stance: delegation.Answers,
			Exchange: replied(n, q, wire.AA, time.Duration(n)*10*time.Millisecond, []wire.Record{lineOf(t, "www.tarn.example", wire.A, value)}, nil)}
	}
	silent := &delegation.Reply{Host: wire.MustParseName("ns8.tarn.example"), Address: netip.MustParseAddr("203.0.113.8"), Stance: delegation.Silent, Exchange: &exchange.Exchange{Number: 8, Question: q, Outcome: exchange.NoReply}}
	unasked := &delegation.Reply{Host: wire.MustParseName("ns9.tarn.example"), Address: netip.MustParseAddr("2001:db8::9"), Stance: delegation.NotAsked, Why: "this machine has no IPv6"}
	for _, tt := range []struct {
		name    string
		replies []*delegation.Reply
		every   bool
		want    []string
		not     []string
	}{
		{"two that agree", []*delegation.Reply{answer(1, "203.0.113.120"), answer(2, "203.0.113.120")}, false, []string{"both server addresses answer 203.0.113.120 (10 ms at best)"}, []string{"ns1"}},
		{"one alone", []*delegation.Reply{answer(1, "203.0.113.120")}, false, []string{"its only server answers 203.0.113.120"}, nil},
		{"two that agree, all of them wanted", []*delegation.Reply{answer(1, "203.0.113.120"), answer(2, "203.0.113.120")}, true, []string{"ns1.tarn.example answers 203.0.113.120 (203.0.113.1, 10 ms)", "ns2.tarn.example answers"}, []string{"each of"}},
		{"two that differ", []*delegation.Reply{answer(1, "203.0.113.120"), answer(2, "203.0.113.80")}, false, []string{"ns1.tarn.example answers 203.0.113.120", "ns2.tarn.example answers 203.0.113.80"}, nil},
		{"one that is silent", []*delegation.Reply{answer(1, "203.0.113.120"), silent}, false, []string{"ns8.tarn.example no reply (203.0.113.8)"}, nil},
		{"one that was not asked does not count", []*delegation.Reply{answer(1, "203.0.113.120"), unasked}, false, []string{"its only server"}, []string{"IPv6"}},
		{"unless all are wanted", []*delegation.Reply{answer(1, "203.0.113.120"), unasked}, true, []string{"was not queried: this machine has no IPv6"}, nil},
	} {
		t.Run(tt.name, func(t *testing.T) {
			walk := &delegation.Walk{Question: q, End: delegation.EndAnswer, Records: []wire.Record{lineOf(t, "www.tarn.example", wire.A, "203.0.113.120")},
				Steps: []*delegation.Step{{Zone: wire.MustParseName("tarn.example"), Name: name, Question: q, Replies: tt.replies, Chosen: tt.replies[0]}}}
			got := drawn(func(v *View) { v.Walk(walk, tt.every) })
			assert.Contains(t, got, "www.tarn.example A resolves to 203.0.113.120")
			for _, want := range tt.want {
				assert.Contains(t, got, want)
			}
			for _, not := range tt.not {
				assert.NotContains(t, got, not)
			}
		})
	}
}

// What a walk learned beside its way is told where there is something to tell.
func TestWalkSaysWhatItLearned(t *testing.T) {
	name := wire.MustParseName("a.b.tarn.example")
	q := wire.Question{Name: name, Type: wire.A, Class: wire.IN}
	for _, tt := range []struct {
		name string
		walk delegation.Walk
		want string
	}{
		{"a proven wildcard", delegation.Walk{Wildcard: &delegation.Wildcard{Name: wire.MustParseName("*.b.tarn.example"), Proven: true}}, "wildcard the answer comes from the wildcard *.b.tarn.example"},
		{"a likely one", delegation.Walk{Wildcard: &delegation.Wildcard{Name: wire.MustParseName("*.b.tarn.example")}}, "may come from a wildcard: the same records are at *.b.tarn.example"},
		{"how far the name exists", delegation.Walk{End: delegation.EndNoName, Aliases: nil, Closest: wire.MustParseName("tarn.example")}, "tarn.example exists; there is no b.tarn.example below it"},
		{"its time", delegation.Walk{End: delegation.EndAnswer, Known: 120 * time.Millisecond, Took: 2 * time.Second, Resolver: 130 * time.Millisecond}, "120 ms until the answer was known; a resolver that queries one server per level needs about 130 ms; 2.0 s until the last server"},
		{"hints that agree", delegation.Walk{Priming: &delegation.Priming{Listed: []wire.Name{name, name}}}, "the root hints agree with the root: 2 servers"},
		{"and hints that do not, which a finding tells", delegation.Walk{Priming: &delegation.Priming{Listed: []wire.Name{name}, Unknown: []wire.Name{name}}}, ""},
	} {
		t.Run(tt.name, func(t *testing.T) {
			tt.walk.Question = q
			tt.walk.Steps = []*delegation.Step{{Zone: wire.MustParseName("tarn.example"), Name: name, Question: q}}
			got := drawn(func(v *View) { v.Walk(&tt.walk, false) })
			if tt.want == "" {
				assert.NotContains(t, got, "agree")
				return
			}
			assert.Contains(t, got, tt.want)
		})
	}
}

// A zone's table names what is known of each server, and what is not known is not "no".
func TestZoneTable(t *testing.T) {
	zone := wire.MustParseName("tarn.example")
	q := wire.Question{Name: zone, Type: wire.SOA, Class: wire.IN}
	soa := lineOf(t, "tarn.example", wire.SOA, "ns1.tarn.example. b. 7 7200 900 1209600 600")
	server := func(n int, change func(s *zonecare.State)) *zonecare.State {
		authority, _ := soa.Authority()
		s := &zonecare.State{Server: zonecare.Server{Host: wire.MustParseName(fmt.Sprintf("ns%d.tarn.example", n)), Address: netip.MustParseAddr(fmt.Sprintf("203.0.113.%d", n))},
			SOA: replied(n, q, wire.AA, 10*time.Millisecond, []wire.Record{soa}, nil), TCP: replied(n, q, wire.AA, 0, []wire.Record{soa}, nil),
			Stranger: replied(n, q, wire.Flags(0).WithRCode(wire.Refused), 0, nil, nil), Serial: authority.Serial, HasSerial: true}
		if change != nil {
			change(s)
		}
		return s
	}
	authority, _ := soa.Authority()
	z := &probe.Zone{Walk: &delegation.Walk{Question: q, Steps: []*delegation.Step{{Zone: zone, Replies: []*delegation.Reply{
		{Host: wire.MustParseName("ns9.tarn.example"), Address: netip.MustParseAddr("2001:db8::9"), Stance: delegation.NotAsked, Why: "this machine has no IPv6"}}}}},
		Report: zonecare.Report{Zone: zone, Known: true, SOA: authority, States: []*zonecare.State{
			server(1, nil),
			server(2, func(s *zonecare.State) {
				s.TCP = &exchange.Exchange{Outcome: exchange.Unreachable}
				s.SOA.EDNSIgnored = true
			}),
			server(3, func(s *zonecare.State) { s.Stranger = &exchange.Exchange{Outcome: exchange.NoReply} }),
			server(4, func(s *zonecare.State) {
				s.SOA = &exchange.Exchange{Outcome: exchange.NoReply}
				s.TCP = &exchange.Exchange{Outcome: exchange.NoReply}
			}),
			server(5, func(s *zonecare.State) { s.Transfer = &transfer.Result{Err: transfer.ErrRefused} }),
			server(6, func(s *zonecare.State) { s.Transfer = &transfer.Result{} }),
			server(7, func(s *zonecare.State) {
				s.Transfer = &transfer.Result{Request: transfer.Request{Key: &tsig.Key{Name: zone}}}
			}),
			server(8, func(s *zonecare.State) { s.Unlisted, s.ByZone = true, true }),
		}}}
	got := drawn(func(v *View) { v.Zone(z) })
	for _, want := range []string{
		"tarn.example its servers agree",
		"203.0.113.1 7 yes yes no 10 ms",
		"203.0.113.2 7 no no no 10 ms",
		"203.0.113.3 7 yes yes not known 10 ms",
		"203.0.113.4 no-reply no",
		"203.0.113.5 7 yes yes no refused 10 ms",
		"203.0.113.6 7 yes yes no open 10 ms",
		"203.0.113.7 7 yes yes no with key 10 ms",
		"ns8.tarn.example listed by the zone alone",
		"2001:db8::9 not queried: this machine has no IPv6",
		"refresh secondaries check every 2 h",
	} {
		assert.Contains(t, got, want)
	}
}

// A transfer says what it is, what came of it, and no more than a screen of changes.
func TestTransferView(t *testing.T) {
	zone := wire.MustParseName("tarn.example")
	server := exchange.Server{Host: "ns1.tarn.example.", Address: netip.MustParseAddrPort("203.0.113.11:53")}
	result := func(change func(r *transfer.Result)) *transfer.Result {
		r := &transfer.Result{Request: transfer.Request{Zone: zone, Server: server}, Kind: transfer.Whole, SOA: wire.SOAData{Serial: 7}, Records: 3, Messages: 1, Bytes: 300,
			ByType: map[wire.Type]int{wire.A: 2, wire.SOA: 1}, Took: 12 * time.Millisecond}
		if change != nil {
			change(r)
		}
		return r
	}
	var many []transfer.Change
	for i := range 30 {
		many = append(many, transfer.Change{Record: lineOf(t, fmt.Sprintf("h%d.tarn.example", i), wire.A, "203.0.113.1"), Removed: i%2 == 0, Serial: 7})
	}
	one := lineOf(t, "www.tarn.example", wire.A, "203.0.113.120")
	other := one
	other.TTL = 3600
	for _, tt := range []struct {
		name    string
		fetched transfer.Fetched
		written string
		want    []string
		not     []string
	}{
		{"a whole zone", transfer.Fetched{Result: result(nil)}, "zone.txt", []string{"tarn.example serial 7, 3 records", "in 1 message, 300 bytes, 12 ms", "types A 2, SOA 1", "written zone.txt"}, []string{"what changed", "not the whole"}},
		{"one that failed on the way", transfer.Fetched{Result: result(func(r *transfer.Result) { r.Err = transfer.ErrEnd })}, "zone.txt.part", []string{"was not transferred", "zone.txt.part holds what came before it failed: not the whole zone"}, nil},
		{"nothing newer", transfer.Fetched{Result: result(func(r *transfer.Result) {
			r.Kind, r.Records, r.Request.Since = transfer.Current, 0, new(uint32(7))
		})}, "", []string{"is at serial 7: nothing changed since 7"}, []string{"types"}},
		{"many changes", transfer.Fetched{Changes: many, Result: result(func(r *transfer.Result) {
			r.Kind, r.Records, r.Removed, r.Request.Since = transfer.Changes, 30, 15, new(uint32(5))
		})}, "", []string{"changed from serial 5 to 7: 15 records removed, 15 records added", "removed h0.tarn.example 60 A 203.0.113.1", "and 10 more; --to FILE has them all"}, []string{"h20."}},
		{"the same as a file", transfer.Fetched{Result: result(nil), Compared: &transfer.Compared{Label: "zone.txt"}}, "", []string{"compared with zone.txt: every record is the same"}, nil},
		{"other than a file", transfer.Fetched{Result: result(func(r *transfer.Result) { r.Exchange = &exchange.Exchange{Number: 1} }), Compared: &transfer.Compared{Label: "zone.txt", Here: 1, There: 1, TTLs: 1,
			Shown: []transfer.Difference{{Record: one}, {Record: one, Second: true}, {Record: one, Other: &other}}}}, "",
			[]string{"1 record only at ns1.tarn.example, 1 record only in zone.txt, 1 record with a different TTL", "only at ns1.tarn.example www.tarn.example 60 A", "different TTL www.tarn.example 60 A 203.0.113.120; there 3600", "content-differs"}, nil},
		{"with what cannot be read", transfer.Fetched{Result: result(nil), Compared: &transfer.Compared{Label: "zone.txt", Err: errors.New("line 3")}}, "", []string{"compared with zone.txt: could not be compared: line 3"}, nil},
	} {
		t.Run(tt.name, func(t *testing.T) {
			got := drawn(func(v *View) { v.Transfer(&tt.fetched, tt.written) })
			for _, want := range tt.want {
				assert.Contains(t, got, want)
			}
			for _, not := range tt.not {
				assert.NotContains(t, got, not)
			}
		})
	}
}

// What a server serves against what it should is told once for servers that are alike.
func TestHeldAgainstAFile(t *testing.T) {
	record := lineOf(t, "www.tarn.example", wire.A, "203.0.113.120")
	state := &zonecare.State{Server: zonecare.Server{Host: wire.MustParseName("ns1.tarn.example"), Address: netip.MustParseAddr("203.0.113.11")}}
	differs := zonecare.Held{State: state, Label: "file", Lacks: []wire.Record{record}, Missing: 1, Sets: 9}
	got := drawn(func(v *View) { v.held(&differs, false) })
	assert.Contains(t, got, "is missing 1 record and serves 0 records too many (by querying each of its 9 record sets)")
	assert.Contains(t, got, "missing www.tarn.example 60 A 203.0.113.120")
	again := differs
	assert.True(t, sameRecords(&differs, &again))
	got = drawn(func(v *View) { v.held(&again, true) })
	assert.Contains(t, got, "the same as above")
	assert.NotContains(t, got, "203.0.113.120")
	fine := zonecare.Held{State: state, Label: "file", Whole: true}
	assert.Contains(t, drawn(func(v *View) { v.held(&fine, false) }), "serves exactly what it should (by transferring the zone)")
	assert.False(t, sameRecords(&fine, &fine), "servers that are right are not alike in a fault")
	unseen := zonecare.Held{State: state, Label: "file", Silent: 3, Sets: 9}
	assert.Contains(t, drawn(func(v *View) { v.held(&unseen, false) }), "3 questions without a reply")
}

// The findings of a capture come with the command that shows what is behind them.
func TestCaptureFindingsSayWhatToType(t *testing.T) {
	o := readCapture(t, "valley-morning.pcapng")
	brief := drawn(func(v *View) { v.Overview("monday.pcapng", "unquil decode monday.pcapng", o) })
	assert.LessOrEqual(t, strings.Count(brief, "\n"), 24, "it fits a screen")
	assert.Contains(t, brief, "12 more findings, 1 fault and 4 concerns among them: --all tells them")
	got := drawn(func(v *View) {
		v.All = true
		v.Overview("monday.pcapng", "unquil decode monday.pcapng", o)
	})
	for _, f := range o.Findings {
		if len(f.Evidence) == 1 {
			assert.Contains(t, got, fmt.Sprintf("unquil decode monday.pcapng --exchange %d", f.Evidence[0]))
		} else if len(f.Evidence) > 1 {
			assert.Contains(t, got, "--view exchanges --finding "+string(f.Code))
		}
		if f.Severity != finding.Note {
			assert.Contains(t, got, "next: "+f.Next)
		}
	}
}
