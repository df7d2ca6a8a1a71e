package cli

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strconv"
	"sync"
	"time"

	"unquil/core/comparison"
	"unquil/core/escape"
	"unquil/core/idn"
	"unquil/core/wire"
	"unquil/ui/data"
)

// openMetrics is the media type of what monitors are given.
const openMetrics = "application/openmetrics-text; version=1.0.0; charset=utf-8"

// serveMetrics gives metrics to who asks for /metrics over HTTP, until stop is called. An address that is only a port
// is one of the loopback. The error is that of listening.
func serveMetrics(errOut io.Writer, address string, metrics *comparison.Metrics) (stop func(), err error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil { // it is only a port
		port = address
	}
	if _, bad := strconv.ParseUint(port, 10, 16); bad != nil {
		return nil, usage(fmt.Errorf("--metrics %q: %w", shorten(address), errMetrics))
	}
	address = net.JoinHostPort(cmp.Or(host, "127.0.0.1"), port)
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("--metrics: %w", err)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /metrics", func(w http.ResponseWriter, _ *http.Request) {
		var b bytes.Buffer
		_ = metrics.Write(&b) // a buffer takes all
		w.Header().Set("Content-Type", openMetrics)
		w.Write(b.Bytes())
	})
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second, WriteTimeout: 10 * time.Second, MaxHeaderBytes: 16 << 10}
	go server.Serve(listener)
	fmt.Fprintf(errOut, "unquil: metrics at http://%s/metrics\n", listener.Addr())
	return func() { server.Close() }, nil
}

// oftenRegistered is how often registries are asked: they know days, not seconds.
const oftenRegistered = 24 * time.Hour

// watchDomains asks the registries when the domains of names run out, at once and then once a day, until ctx ends.
func (a *app) watchDomains(ctx context.Context, asked []wire.Question, metrics *comparison.Metrics) error {
	asker, err := a.registries(ctx)
	if err != nil {
		return err
	}
	var domains []wire.Name
	for _, q := range asked {
		if domain := idn.Registrable(q.Name); !domain.IsZero() && !slices.ContainsFunc(domains, domain.Equal) {
			domains = append(domains, domain)
		}
	}
	look := func() {
		for _, domain := range domains {
			switch d, err := asker.Domain(ctx, domain); {
			case ctx.Err() != nil:
				return
			case err != nil:
				fmt.Fprintf(a.stderr, "unquil: when %s runs out is not known: %s\n", domain.Spoken(), escape.Of(err.Error()))
			case !d.Expires.IsZero():
				metrics.Registered(domain, d.Expires)
			}
		}
	}
	go func() {
		daily, stop := ticker(oftenRegistered)
		defer stop()
		for look(); ; look() {
			select {
			case <-ctx.Done():
				return
			case <-daily:
			}
		}
	}()
	return nil
}

// changeRunner runs a command at each change, one after the other.
type changeRunner struct {
	events chan comparison.Event
	done   sync.WaitGroup
	errOut io.Writer
	lost   int
}

// Bounds on the commands of --on-change.
const (
	maxWaiting = 64          // events whose command has not run yet
	maxRuns    = time.Minute // that one may take
)

// newChangeRunner returns one that does nothing where there is no command.
func newChangeRunner(ctx context.Context, command string, errOut io.Writer) *changeRunner {
	r := &changeRunner{errOut: errOut}
	if command == "" {
		return r
	}
	r.events = make(chan comparison.Event, maxWaiting)
	r.done.Go(func() {
		for e := range r.events {
			if err := runOn(context.WithoutCancel(ctx), command, e, errOut); err != nil {
				fmt.Fprintf(errOut, "unquil: --on-change: %s\n", escape.Of(err.Error()))
			}
		}
	})
	return r
}

// run has the command run for a change of an answer; that a watch begins is none.
func (r *changeRunner) run(e comparison.Event) {
	if r.events == nil || e.Kind != comparison.Changed {
		return
	}
	select {
	case r.events <- e:
	default:
		r.lost++
	}
}

// end waits for what is still to run.
func (r *changeRunner) end() {
	if r.events == nil {
		return
	}
	close(r.events)
	r.done.Wait()
	if r.lost > 0 {
		fmt.Fprintf(r.errOut, "unquil: --on-change: %d changes came faster than the command ran, and were left out\n", r.lost)
	}
}

// runOn runs a command with an event on its standard input.
func runOn(ctx context.Context, command string, e comparison.Event, errOut io.Writer) error {
	ctx, stop := context.WithTimeout(ctx, maxRuns)
	defer stop()
	text, err := json.Marshal(data.OfEvent(e))
	if err != nil {
		return err
	}
	cmd := shellCommand(ctx, command)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = bytes.NewReader(append(text, '\n')), errOut, errOut
	if err = cmd.Run(); errors.Is(ctx.Err(), context.DeadlineExceeded) {
		err = fmt.Errorf("the command took longer than %s, and was stopped", maxRuns)
	}
	return err
}
