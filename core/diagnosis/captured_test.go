package diagnosis_test

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/conversation"
	"unquil/core/diagnosis"
	"unquil/core/exchange"
	"unquil/core/machine"
	"unquil/core/wire"
	"unquil/lab"
)

func captured(t *testing.T, file string) *conversation.Overview {
	f, err := lab.Captures().Open(file)
	require.NoError(t, err)
	defer f.Close()
	r, err := capture.NewReader(f)
	require.NoError(t, err)
	o, err := conversation.Read(t.Context(), []*capture.Reader{r}, conversation.Options{})
	require.NoError(t, err)
	return o
}

// line is a verdict in a line: how heavy, for which names, why and where.
func line(v *diagnosis.Verdict) string {
	code := ""
	if len(v.Cause) > 0 {
		code = string(v.Cause[0].Code)
	}
	var names []string
	for _, n := range v.Names {
		names = append(names, n.Spoken())
	}
	return fmt.Sprintf("%s %v %s %s %s", v.Severity, names, code, v.Where, v.At)
}

func TestCaptured(t *testing.T) {
	morning, uplink := captured(t, "valley-morning.pcapng"), captured(t, "resolver-uplink.pcap")
	for _, tt := range []struct {
		name  string
		in    *conversation.Overview
		asked string // "" is for all
		want  []string
	}{
		{"a client's side does not show whose servers failed", morning, "summit.camera.hollowtarn.example", []string{"fault [summit.camera.hollowtarn.example] server-failure the resolver 192.0.2.53"}},
		{"a resolver's side does", uplink, "summit.camera.hollowtarn.example", []string{"fault [summit.camera.hollowtarn.example] no-reply the zone's servers camera.hollowtarn.example."}},
		{"one server that refuses and one without authority", uplink, "status.lifts.hollowtarn.example", []string{"fault [status.lifts.hollowtarn.example] lame-server the delegation lifts.hollowtarn.example."}},
		{"a name that got its answers", morning, "tickets.hollowtarn.example", []string{" [tickets.hollowtarn.example]   "}},
		{"one cause is one verdict", morning, "", []string{"fault [summit.camera.hollowtarn.example status.lifts.hollowtarn.example] server-failure the resolver 192.0.2.53"}},
		{"two replies that differ", captured(t, "valley-morning.pcapng"), "shop.hollowtarn.example", []string{"fault [shop.hollowtarn.example] replies-differ the path to the resolver 198.51.100.53"}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			var name wire.Name
			if tt.asked != "" {
				name = wire.MustParseName(tt.asked)
			}
			verdicts := diagnosis.Captured(tt.in, name, nil)
			var lines []string
			for i := range verdicts {
				lines = append(lines, line(&verdicts[i]))
				assert.NotEmpty(t, verdicts[i].Checks)
			}
			for _, want := range tt.want {
				assert.Contains(t, lines, want)
			}
			assert.True(t, name.IsZero() || len(lines) == len(tt.want))
		})
	}
	sorted := diagnosis.Captured(morning, wire.Name{}, nil)
	assert.True(t, slices.IsSortedFunc(sorted, func(a, b diagnosis.Verdict) int { return b.Severity.Weight() - a.Severity.Weight() }))
	assert.Empty(t, diagnosis.Captured(morning, wire.MustParseName("nobody.example"), nil))
}

// Twenty names and one dead server are one verdict.
func TestOneCauseIsOneVerdict(t *testing.T) {
	p, l := probe(t)
	var cases []diagnosis.Case
	for i := range 20 {
		name := wire.MustParseName(fmt.Sprintf("host%d.closing.works.example", i))
		if i == 19 {
			name = wire.MustParseName("web.hollowtarn.example")
		}
		c := diagnosis.Case{Name: name, Types: []wire.Type{wire.A}}
		c.Resolvers = append(c.Resolvers, resolver(t, l, "isp"))
		cases = append(cases, c)
	}
	verdicts := diagnosis.Group(p.WhyAll(t.Context(), cases))
	require.Len(t, verdicts, 2)
	assert.Len(t, verdicts[0].Names, 19)
	assert.Equal(t, "closing.works.example.", verdicts[0].At)
	assert.Contains(t, verdicts[0].Sentence(), "and 16 more: No server of closing.works.example answers for it")
	assert.True(t, verdicts[1].OK())
	assert.Equal(t, verdicts, diagnosis.Group(verdicts), "what is grouped stays so")
}

// What programs on the machine get may come from another source than its resolvers.
func TestBackAtTheMachine(t *testing.T) {
	p, l := probe(t)
	setup, err := machine.Read(lab.Machine(""))
	require.NoError(t, err)
	for _, tt := range []struct {
		name, own string
		want      []string
	}{
		{"the same", "203.0.113.121", nil},
		{"from elsewhere", "192.0.2.200", []string{"concern source-differs"}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			v := p.Why(t.Context(), diagnosis.Case{Typed: "web.hollowtarn.example.", Name: wire.MustParseName("web.hollowtarn.example"), Types: []wire.Type{wire.A}, Setup: &setup,
				Resolvers: []exchange.Server{resolver(t, l, "office")}, System: func(context.Context, string) ([]netip.Addr, error) {
					return []netip.Addr{netip.MustParseAddr(tt.own)}, nil
				}})
			var heavy []string
			for _, f := range codes(v.Findings()) {
				if !strings.HasPrefix(f, "note") {
					heavy = append(heavy, f)
				}
			}
			assert.Equal(t, tt.want, heavy)
			assert.Contains(t, v.Checks[len(v.Checks)-1].Saw, tt.own)
		})
	}
}
