package conversation

import (
	"fmt"
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// What is read while it comes about is told as soon as it is known: replies at once, silence after
// the patience, and everything by the clock of who writes, though no packet comes any more.
func TestLive(t *testing.T) {
	in, out := io.Pipe()
	var told []string
	words := map[bool]string{true: "waits", false: ""}
	options := Options{Each: func(p *Transaction) { told = append(told, fmt.Sprintf("%d over: %s", p.Number, p.Outcome())) }}
	options.Live = &Live{
		Soon: func(p *Transaction) {
			told = append(told, fmt.Sprintf("%d %s%s", p.Number, words[p.Waits()], p.Exchange().Outcome))
		},
		Look: func(o *Overview) {
			names, _ := o.Names()
			counted := 0
			for _, row := range names {
				counted += row.Stat.Exchanges
			}
			assert.Equal(t, o.Exchanges, counted, "what is counted by name is there when somebody looks")
			sum := 0
			for _, n := range o.Outcomes {
				sum += n
			}
			assert.Equal(t, o.Exchanges, sum)
			told = append(told, fmt.Sprintf("look: %d over, %d lost, failed %v", o.Exchanges, o.Lost, o.Found(finding.Failed)))
		},
	}
	write := func(w *capture.Writer, packets ...packet) {
		for _, p := range packets {
			require.NoError(t, w.Packet(begin.Add(p.at), p.bytes(t), ""))
		}
	}
	tick := func(w *capture.Writer, at time.Duration, lost uint64) {
		require.NoError(t, w.Statistics(0, begin.Add(at).UnixNano(), lost))
	}
	go func() {
		w, err := capture.NewWriter(out, capture.Ethernet)
		assert.NoError(t, err)
		write(w, packet{at: 0, client: desk, id: 1, name: "www.hollowtarn.example."},
			packet{at: time.Second, client: till, id: 2, name: "silent.hollowtarn.example."},
			packet{at: 2 * time.Second, client: desk, id: 3, name: "late.hollowtarn.example."},
			packet{at: 2100 * time.Millisecond, client: desk, id: 1, name: "www.hollowtarn.example.", reply: true, code: wire.ServFail})
		tick(w, 3*time.Second, 0)
		tick(w, 6100*time.Millisecond, 4)
		tick(w, 8*time.Second, 4)
		write(w, packet{at: 9 * time.Second, client: desk, id: 3, name: "late.hollowtarn.example.", reply: true})
		tick(w, 90*time.Second, 5)
		tick(w, 30*time.Second, 5) // a clock that goes back changes nothing
		out.Close()
	}()
	reader, err := capture.NewReader(in)
	require.NoError(t, err)
	o, err := Read(t.Context(), []*capture.Reader{reader}, options)
	require.NoError(t, err)
	var events []string
	for _, line := range told {
		if len(events) == 0 || events[len(events)-1] != line {
			events = append(events, line)
		}
	}
	assert.Equal(t, []string{"look: 0 over, 0 lost, failed false", "1 server-failure", "look: 0 over, 0 lost, failed false",
		"2 waitsno-reply", "look: 0 over, 4 lost, failed false",
		"1 over: server-failure", "3 waitsno-reply", "look: 1 over, 4 lost, failed true",
		"3 answered", "look: 1 over, 4 lost, failed true", "2 over: no-reply", "3 over: answered", "look: 3 over, 5 lost, failed true"}, events)
	assert.Equal(t, 5, o.Lost)
	assert.Equal(t, map[exchange.Outcome]int{exchange.ServerFailure: 1, exchange.NoReply: 1, exchange.Answered: 1}, o.Outcomes)
}
