package comparison

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// seen is one answer while watching: seconds after the beginning, the TTL, and
// the value; "" is a failure.
type seen struct {
	at    int
	ttl   uint32
	value string
}

func TestTrack(t *testing.T) {
	const old, now = "203.0.113.80", "203.0.113.140"
	for _, tt := range []struct {
		name   string
		seen   []seen
		events []EventKind
		habit  Habit
		caches int
	}{
		{"a countdown", []seen{{0, 300, old}, {5, 295, old}, {10, 290, old}}, []EventKind{First}, CountsDown, 1},
		{"a countdown that is a second off now and then", []seen{{0, 300, old}, {5, 296, old}, {10, 289, old}, {15, 285, old}}, []EventKind{First}, CountsDown, 1},
		{"fetched again when it ran out", []seen{{0, 6, old}, {5, 1, old}, {7, 60, old}, {12, 55, old}}, []EventKind{First, Refreshed}, CountsDown, 1},
		{"fetched again late", []seen{{0, 6, old}, {30, 60, old}}, []EventKind{First, Refreshed}, CountsDown, 1},
		{"fetched early", []seen{{0, 60, old}, {30, 30, old}, {50, 60, old}, {55, 55, old}}, []EventKind{First, Refreshed}, CountsDown, 1},
		{"two caches in turn", []seen{{0, 300, old}, {5, 100, old}, {10, 290, old}, {15, 90, old}}, []EventKind{First, Refreshed, Several}, Jumps, 2},
		{"three caches", []seen{{0, 300, old}, {5, 100, old}, {10, 190, old}, {15, 285, old}, {20, 85, old}, {25, 175, old}}, []EventKind{First, Refreshed, Refreshed, Several, Several}, Jumps, 3},
		{"never falls", []seen{{0, 300, now}, {5, 300, now}, {10, 300, now}, {15, 300, now}}, []EventKind{First}, Constant, 1},
		{"asked once a TTL", []seen{{0, 300, now}, {400, 300, now}, {800, 300, now}, {1200, 300, now}}, []EventKind{First}, TooRarely, 1},
		{"a move", []seen{{0, 10, old}, {5, 5, old}, {11, 3600, now}}, []EventKind{First, Changed}, Unclear, 1},
		{"a failure and back", []seen{{0, 60, old}, {5, 0, ""}, {10, 50, old}}, []EventKind{First, Changed, Changed}, Unclear, 1},
		{"one answer tells nothing", []seen{{0, 60, old}}, []EventKind{First}, Unclear, 1},
	} {
		t.Run(tt.name, func(t *testing.T) {
			begin := time.Date(2026, 3, 9, 7, 40, 0, 0, time.UTC)
			var track *Track
			var events []EventKind
			for i, s := range tt.seen {
				given := says{label: "office", ttl: s.ttl}
				if s.value != "" {
					given.values = []string{s.value}
				} else {
					given.code = 2
				}
				m := given.member(t, i+1)
				if track == nil {
					track = NewTrack(m.Exchange.Server)
				}
				for _, e := range track.Add(begin.Add(time.Duration(s.at)*time.Second), m.Exchange) {
					events = append(events, e.Kind)
					assert.NotEmpty(t, e.Text)
				}
			}
			assert.Equal(t, tt.events, events)
			assert.Equal(t, tt.habit, track.Habit())
			assert.Equal(t, tt.caches, track.Caches)
			assert.Equal(t, len(tt.seen), track.Asked)
		})
	}
}

func TestAgreeAndAllSay(t *testing.T) {
	track := func(values ...string) *Track {
		m := says{label: "office", ttl: 60, values: values}.member(t, 1)
		tr := NewTrack(m.Exchange.Server)
		tr.Add(time.Unix(0, 0), m.Exchange)
		return tr
	}
	a, b, both := track("192.0.2.1"), track("192.0.2.2"), track("192.0.2.1", "192.0.2.2")
	assert.True(t, Agree([]*Track{a, track("192.0.2.1")}))
	assert.False(t, Agree([]*Track{a, b}))
	assert.False(t, Agree([]*Track{a, NewTrack(a.Server)}), "one that has not answered yet")
	assert.False(t, Agree(nil))
	assert.True(t, AllSay([]*Track{a, both}, []string{"192.0.2.1"}))
	assert.False(t, AllSay([]*Track{a, both}, []string{"192.0.2.2"}))
}
