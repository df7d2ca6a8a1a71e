package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unquil/core/comparison"
	"unquil/core/exchange"
	"unquil/core/probe"
	"unquil/core/wire"
	"unquil/ui/data"
)

// leastEvery is how often a resolver is asked at the most.
const leastEvery = 50 * time.Millisecond

// newWatch is `unquil watch`.
func newWatch(a *app) *cobra.Command {
	var types []string
	var metrics, onChange string
	var registered bool
	var from []string
	w := probe.Watch{Now: time.Now, Ticker: ticker}
	cmd := &cobra.Command{
		Use:     "watch NAME...",
		Short:   "How does the answer change over time?",
		Example: "  unquil watch --lab tickets.hollowtarn.example --from office,isp --every 1s --lab-speed 600 --until 203.0.113.140",
		RunE: func(cmd *cobra.Command, names []string) error {
			asked, err := questions(names, types)
			if err != nil {
				return err
			}
			if w.Every < leastEvery || w.For < 0 {
				return usage(errBounds)
			}
			if w.UntilAgree && len(w.Until) > 0 {
				return usage(fmt.Errorf("--until-agree and --until: %w", errTogether))
			}
			if len(w.Until) > 0 && len(asked) > 1 {
				return usage(fmt.Errorf("--until with several names or types: %w", errTogether))
			}
			until, err := expected(w.Until, types)
			if err != nil {
				return err
			}
			w.Until = until[asked[0].Type]
			prober, servers, _, err := a.begin(cmd.Context(), from)
			if err != nil {
				return err
			}
			a.session.Forgets = true // watching may go on for days
			if a.simulation != nil {
				w.Now = a.simulation.Now
			}
			if metrics != "" {
				w.Metrics = comparison.NewMetrics(w.Now)
				stop, err := serveMetrics(a.stderr, metrics, w.Metrics)
				if err != nil {
					return err
				}
				defer stop()
			}
			if registered && w.Metrics == nil {
				return usage(fmt.Errorf("--registry: %w", errNoMetrics))
			} else if registered {
				if err := a.watchDomains(cmd.Context(), asked, w.Metrics); err != nil {
					return err
				}
			}
			change := newChangeRunner(cmd.Context(), onChange, a.stderr)
			defer change.end()
			return a.watch(cmd.Context(), prober, asked, servers, w, change)
		},
	}
	flags := cmd.Flags()
	flags.StringSliceVarP(&types, "type", "t", []string{"A"}, "record `TYPES`, by mnemonic or TYPE123, comma-separated or repeated")
	flags.StringVar(&metrics, "metrics", "", "give what is seen to a monitor as OpenMetrics over HTTP, at this `ADDRESS`: a port of this machine, or ADDRESS:PORT")
	flags.BoolVar(&registered, "registry", false, "with --metrics: also ask the registries, once a day, when the domains run out")
	a.bootstrapFlag(cmd)
	flags.StringVar(&onChange, "on-change", "", "run this `COMMAND` at each change, with the event as JSON on its standard input")
	flags.StringSliceVarP(&from, "from", "f", nil, "which `RESOLVERS` to query, comma-separated or repeated")
	flags.DurationVar(&w.Every, "every", 5*time.Second, "how often to query each of them")
	flags.DurationVar(&w.For, "for", 10*time.Minute, "for how long; 0 means until the condition is met")
	flags.BoolVar(&w.UntilAgree, "until-agree", false, "until all say the same")
	flags.StringSliceVar(&w.Until, "until", nil, "until all give this `VALUE`")
	a.questionFlags(cmd)
	a.askFlags(cmd)
	return a.named(cmd, 1, many)
}

// watch shows the watching as it goes: a table on a terminal, a line a change on
// a pipe, an event a line with --json.
func (a *app) watch(ctx context.Context, prober probe.Prober, asked []wire.Question, servers []exchange.Server, w probe.Watch, change *changeRunner) error {
	view := a.view()
	live := view.NewLive()
	var written error
	event, round := func(e comparison.Event) { view.Event(e) }, func([]*comparison.Track) {}
	switch {
	case a.json:
		lines := data.NewEncoder(a.stdout)
		event = func(e comparison.Event) { written = firstOf(written, lines.Encode(data.OfEvent(e))) }
	case !a.quietOut():
		event = func(comparison.Event) {}
		w.Beat = time.Second
		title := fmt.Sprintf("%s, queried every %s", namesOf(asked), w.Every)
		round = func(tracks []*comparison.Track) { live.Draw(title, tracks, w.Now()) }
	}
	shown := event
	event = func(e comparison.Event) {
		shown(e)
		change.run(e)
	}
	endsByInterrupt(ctx)
	result := prober.Watch(ctx, servers, asked, w, event, round)
	a.endsWell = result.Cut // whoever watches ends it so
	waited := ""
	switch {
	case w.UntilAgree:
		waited = "all say the same"
	case len(w.Until) > 0:
		waited = "all give " + strings.Join(w.Until, ", ")
	}
	if a.json {
		written = firstOf(written, data.NewEncoder(a.stdout).Encode(data.LastLine{Unquil: version(), Command: "watch", Schema: data.Schema, Summary: data.OfWatched(result)}))
	} else {
		view.Watched(result, waited)
		written = view.Err()
	}
	if written == nil && waited != "" && !result.Met && !result.Cut {
		return errFault
	}
	return written
}

// ticker ticks by the machine's clock.
func ticker(every time.Duration) (ticks <-chan time.Time, stop func()) {
	t := time.NewTicker(every)
	return t.C, t.Stop
}
