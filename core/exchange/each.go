package exchange

import (
	"cmp"
	"context"
	"iter"
	"slices"
	"time"
)

// Pace says how fast to ask. The zero value is ready to use.
type Pace struct {
	Rate     int // questions a second at most; 0: no bound
	InFlight int // questions out at once at most; 0 means 64
}

// Each asks all requests at that pace, and hands over the exchanges in the order
// of the requests as soon as that order allows. It ends early when yield returns
// false or ctx ends. requests is ranged over in another goroutine than yield.
func (s *Session) Each(ctx context.Context, requests iter.Seq[Request], p Pace, yield func(*Exchange) bool) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	slots := make(chan struct{}, cmp.Or(p.InFlight, inFlight))
	// The queue is longer than what is in flight, so that one slow answer does not hold up the rest.
	queue := make(chan chan *Exchange, 8*cap(slots))
	go func() {
		defer close(queue)
		pace := newPace(s.Client.Now, p.Rate)
		for r := range requests {
			if !pace.wait(ctx) {
				return
			}
			select {
			case <-ctx.Done():
				return
			case slots <- struct{}{}:
			}
			e := s.reserve(r)
			done := make(chan *Exchange, 1)
			go func() {
				s.fill(ctx, r, e)
				<-slots
				done <- e
			}()
			select {
			case queue <- done:
			case <-ctx.Done():
				return
			}
		}
	}()
	for done := range queue {
		if !yield(<-done) {
			return
		}
	}
}

// pace lets one through at a time, evenly.
type pace struct {
	now  func() time.Time
	gap  time.Duration
	next time.Time
}

func newPace(now func() time.Time, rate int) *pace {
	p := &pace{now: now}
	if rate > 0 {
		p.gap = time.Second / time.Duration(rate)
	}
	return p
}

// wait reports whether ctx still lives when it is the next one's turn.
func (p *pace) wait(ctx context.Context) bool {
	if p.gap > 0 {
		now := p.now()
		if p.next.After(now) {
			timer := time.NewTimer(p.next.Sub(now))
			defer timer.Stop()
			select {
			case <-ctx.Done():
			case <-timer.C:
			}
		} else {
			p.next = now
		}
		p.next = p.next.Add(p.gap)
	}
	return ctx.Err() == nil
}

// Timing is how long the replies to one question took when it was asked again
// and again.
type Timing struct {
	Asked, Lost           int
	Min, Median, P95, Max time.Duration
	First, Later          time.Duration   // the first reply, and the median of the others
	Each                  []time.Duration // by try; 0 where no reply came
}

// TimingOf sums up exchanges of one question, in the order asked.
func TimingOf(exchanges []*Exchange) Timing {
	t := Timing{Asked: len(exchanges)}
	var all, later []time.Duration
	for i, e := range exchanges {
		took := e.Took()
		t.Each = append(t.Each, took)
		if e.Reply == nil {
			t.Lost++
			continue
		}
		all = append(all, took)
		if i == 0 {
			t.First = took
		} else {
			later = append(later, took)
		}
	}
	if len(all) == 0 {
		return t
	}
	slices.Sort(all)
	slices.Sort(later)
	t.Min, t.Max = all[0], all[len(all)-1]
	t.Median, t.P95 = quantile(all, 50), quantile(all, 95)
	if len(later) > 0 {
		t.Later = quantile(later, 50)
	}
	return t
}

// quantile is the smallest value that percent of the sorted values do not exceed.
func quantile(sorted []time.Duration, percent int) time.Duration {
	return sorted[max((len(sorted)*percent+99)/100-1, 0)]
}
