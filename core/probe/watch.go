package probe

import (
	"context"
	"time"

	"unquil/core/comparison"
	"unquil/core/exchange"
	"unquil/core/wire"
)

// Watch says what to watch for. Now is the clock that TTLs run by, and Ticker the one that
// rounds are made by.
type Watch struct {
	Every      time.Duration
	For        time.Duration // 0: until the condition or ctx ends it
	UntilAgree bool
	Until      []string            // values that all have to give
	Metrics    *comparison.Metrics // counts what is seen; nil: nobody
	Beat       time.Duration       // how often to call round between the rounds, so that a countdown can be shown; 0: never
	Now        func() time.Time
	Ticker     func(time.Duration) (ticks <-chan time.Time, stop func()) // ticks at intervals
}

// Watched is how watching ended.
type Watched struct {
	Tracks []*comparison.Track
	Rounds int
	Took   time.Duration
	Met    bool // the condition, if there was one
	Cut    bool // by ctx
}

// Watch asks all servers all questions again and again, and calls event for each change and
// round after every round, until the condition is met, the time is over, or ctx
// ends. Answers that ctx cut short do not count.
func (p Prober) Watch(ctx context.Context, servers []exchange.Server, questions []wire.Question, w Watch, event func(comparison.Event), round func([]*comparison.Track)) Watched {
	result := Watched{}
	var requests []exchange.Request
	for _, q := range questions {
		for _, server := range servers {
			track := comparison.NewTrack(server)
			if track.Question = q; len(questions) > 1 {
				track.About = q.Spoken()
			}
			result.Tracks = append(result.Tracks, track)
			requests = append(requests, exchange.Request{Server: server, Question: q})
		}
	}
	begun := p.Session.Client.Now()
	ticks, stop := w.Ticker(w.Every)
	defer stop()
	for {
		exchanges := p.Session.AskAll(ctx, requests)
		at := w.Now()
		for i, e := range exchanges {
			if e.Outcome == "" {
				continue
			}
			for _, happened := range result.Tracks[i].Add(at, e) {
				event(happened)
			}
			if w.Metrics != nil {
				w.Metrics.Add(result.Tracks[i], e)
			}
		}
		result.Rounds++
		round(result.Tracks)
		result.Took = p.Session.Client.Now().Sub(begun)
		result.Met = w.UntilAgree && comparison.AgreeOnEach(result.Tracks) || len(w.Until) > 0 && comparison.AllSay(result.Tracks, w.Until)
		if result.Cut = ctx.Err() != nil; result.Met || result.Cut || w.For > 0 && result.Took+w.Every > w.For {
			return result
		}
		w.pause(ctx, ticks, func() { round(result.Tracks) })
	}
}

// pause waits for the next round, and calls beat meanwhile.
func (w Watch) pause(ctx context.Context, next <-chan time.Time, beat func()) {
	var beats <-chan time.Time
	if w.Beat > 0 {
		ticks, stop := w.Ticker(w.Beat)
		defer stop()
		beats = ticks
	}
	for {
		select {
		case <-ctx.Done():
			return
		case <-next:
			return
		case <-beats:
			beat()
		}
	}
}
