package cli

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"io"
	"iter"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/machine"
	"unquil/core/probe"
	"unquil/core/wire"
	"unquil/core/wording"
	"unquil/ui/data"
	"unquil/ui/text"
)

// What a person asks for by the number goes out at a rate, unless they say another, and
// has an end.
const (
	usualRate  = 1000 // questions a second
	repeatRate = 100  // of one question that is asked again and again
	maxNames   = 1_000_000
)

var addressTypes = []string{"A", "AAAA"}

// maxFindings is how many findings a run of any length keeps.
const maxFindings = 1000

// ask is what `unquil ask` was told.
type ask struct {
	*app
	types, from  []string
	namesFile    string
	records      bool // in master-file form
	rate, repeat int
	follow, asIs bool
	answered     []netip.Addr // that answers have, where it is to be told whose they are
	zoneTTL      bool
	validate     bool
	judge        probe.Prober // what is asked besides, it asks; with --validate it judges signatures
	now          time.Time    // as of which they are valid or not
	inFlight     int          // queries out at once
	nameFirst    bool
	show         text.Show
	parts        []string
	allParts     bool
	setup        machine.Setup
	servers      []exchange.Server
	wanted       []wire.Type

	mu        sync.Mutex // names are read beside the answers
	badInput  error
	badNames  int // lines of a list that hold no name
	found     []finding.Finding
	moreFound int
	summary   data.Summary
}

// newAsk is `unquil ask`.
func newAsk(a *app) *cobra.Command {
	q := &ask{app: a}
	cmd := &cobra.Command{
		Use:   "ask NAME...",
		Short: "What does this resolver say, and on whose authority?",
		Example: "  unquil ask --lab www.hollowtarn.example\n" +
			"  unquil ask --lab hollowtarn.example --type MX --follow --from office,isp\n" +
			"  unquil ask --lab hollowtarn.example --type SOA --explain --over tls\n" +
			"  unquil ask --names list.txt --rate 500 --bare --name-first",
		RunE: func(cmd *cobra.Command, names []string) error { return q.run(cmd, names) },
	}
	flags := cmd.Flags()
	flags.StringSliceVarP(&q.types, "type", "t", addressTypes, "record `TYPES`, by mnemonic or TYPE123, comma-separated or repeated")
	flags.StringSliceVarP(&q.from, "from", "f", nil, "which `RESOLVERS` to query, comma-separated or repeated: ADDRESS, ADDRESS#PORT, HOST, a URI such as tls://ADDRESS, a label, or system (the default)")
	flags.StringVar(&q.namesFile, "names", "", "also look up the names in `FILE`, one per line; - is standard input")
	flags.IntVar(&q.rate, "rate", 0, "at most this many queries per second (default 1000, with --repeat 100)")
	flags.IntVar(&q.inFlight, "in-flight", 64, "with --names: at most this `NUMBER` of queries waiting for their replies at once")
	flags.IntVar(&q.repeat, "repeat", 1, "send each query this many times, and show how long the replies took")
	flags.BoolVar(&q.follow, "follow", false, "also look up the addresses of the hosts that an answer names")
	flags.BoolVar(&q.validate, "validate", false, "also check the signatures (DNSSEC), by the resolver's own records")
	q.anchorFlags(cmd)
	flags.BoolVar(&q.zoneTTL, "zone-ttl", false, "also query the zone's own server, and show how old a cached answer is")
	flags.BoolVar(&q.asIs, "as-is", false, "do not apply the machine's search list to a short name")
	flags.StringSliceVar(&q.parts, "show", nil, "which `PARTS` to show: answer,authority,additional,question,header,timing")
	flags.BoolVar(&q.records, "records", false, "each record on a line of its own in master-file form: owner, TTL, class, type and value")
	flags.BoolVar(&q.allParts, "all-parts", false, "show all parts")
	flags.BoolVar(&q.show.Explain, "explain", false, "explain each field")
	a.questionFlags(cmd)
	a.askFlags(cmd)
	a.rootsFlag(cmd)
	a.bareFlag(cmd)
	flags.BoolVar(&q.nameFirst, "name-first", false, "with --bare: put the name and a tab before each value")
	a.keepFlag(cmd)
	a.ownersFlag(cmd)
	flags.BoolVar(&a.wire, "wire", false, "also show the bytes of the messages, with every field named")
	return a.named(cmd, 0, many)
}

func (q *ask) run(cmd *cobra.Command, names []string) (err error) {
	if len(names) == 0 && q.namesFile == "" {
		return taking(1, many)(cmd, names)
	}
	if q.nameFirst && !q.bare {
		return usage(fmt.Errorf("--name-first: %w", errNameFirst))
	}
	for _, name := range names {
		if _, err := parseName(name); err != nil {
			return err
		}
	}
	if q.namesFile != "" {
		q.files.Note(q.namesFile)
	}
	about := len(names)
	if q.namesFile != "" {
		about = maxNames
	}
	if err := q.prepare(cmd.Context(), about); err != nil {
		return err
	}
	defer q.keepEnd(&err)
	var list iter.Seq2[string, error] = func(yield func(string, error) bool) {
		for _, name := range names {
			if !yield(name, nil) {
				return
			}
		}
	}
	if q.namesFile != "" {
		file, err := q.files.Open(q.namesFile)
		if err != nil {
			return fmt.Errorf("reading names: %w", err)
		}
		defer file.Close()
		list = joinNames(list, linesOf(cmd.Context(), file))
	}
	return q.askAll(cmd.Context(), list)
}

// prepare turns the flags into what is asked and shown.
func (q *ask) prepare(ctx context.Context, names int) (err error) {
	if q.show.Parts, err = parts(q.parts, q.allParts); err != nil {
		return err
	}
	if q.rate < 0 || q.repeat < 1 || q.repeat > 1000 || q.inFlight < 1 || q.inFlight > mostInFlight {
		return usage(errBounds)
	}
	if q.wanted, err = parseTypes(q.types); err != nil {
		return err
	}
	q.names = names
	if err := q.open(); err != nil {
		return err
	}
	var setupErr error
	if q.servers, setupErr, err = q.resolvers(ctx, q.from); err != nil {
		return err
	}
	if len(q.servers) == 0 {
		return setupErr
	}
	q.setup, _ = q.machine()
	if q.judge, err = q.prober(); err == nil && q.validate {
		err = q.byResolver(&q.judge)
	}
	if err == nil {
		_, q.now, err = q.validation()
	}
	return err
}

// parts reads --show.
func parts(words []string, all bool) (text.Parts, error) {
	p := text.Parts{}
	for _, known := range text.PartNames {
		p[known] = all || len(words) == 0 && slices.Contains(text.UsualParts, known)
	}
	for _, word := range words {
		if !slices.Contains(text.PartNames, text.Part(word)) {
			return nil, usage(fmt.Errorf("--show %q: %w", shorten(word), errPart))
		}
		p[text.Part(word)] = true
	}
	return p, nil
}

// joinNames yields the given names, then one from each line; what follows # is a remark.
func joinNames(given, lines iter.Seq2[string, error]) iter.Seq2[string, error] {
	return func(yield func(string, error) bool) {
		for name, err := range given {
			if !yield(name, err) {
				return
			}
		}
		for line, err := range lines {
			line, _, _ = strings.Cut(line, "#")
			if name := strings.TrimSpace(line); (name != "" || err != nil) && !yield(name, err) {
				return
			}
		}
	}
}

// linesOf yields the lines of a file, and ends with ctx though a read may wait for somebody
// to type.
func linesOf(ctx context.Context, file io.Reader) iter.Seq2[string, error] {
	type read struct {
		line string
		err  error
	}
	return func(yield func(string, error) bool) {
		lines, done := make(chan read), make(chan struct{})
		defer close(done)
		go func() {
			defer close(lines)
			in := bufio.NewScanner(file)
			for in.Scan() {
				select {
				case lines <- read{line: in.Text()}:
				case <-done:
					return
				}
			}
			if err := in.Err(); err != nil {
				select {
				case lines <- read{err: fmt.Errorf("reading names: %w", err)}:
				case <-done:
				}
			}
		}()
		for {
			select {
			case <-ctx.Done():
				return
			case r, more := <-lines:
				if !more || !yield(r.line, r.err) {
					return
				}
			}
		}
	}
}

// askAll asks for each name in turn, all types of all servers, as many at once
// as the session lets out, and shows each block as soon as it is whole.
func (q *ask) askAll(ctx context.Context, names iter.Seq2[string, error]) error {
	out, err := q.newOutput()
	if err != nil {
		return err
	}
	var failed error
	block := len(q.wanted) * q.repeat
	var pending []*exchange.Exchange
	stop := func() {}
	if q.namesFile != "-" || !isTerminal(q.files.Stdin) { // else it would paint over what is typed
		stop = q.progress()
	}
	defer stop()
	q.session.Forgets = (q.standing == nil || q.namesFile != "") && !q.saves() // each is shown and counted as it comes
	pace := exchange.Pace{Rate: cmp.Or(q.rate, usualRate), InFlight: q.inFlight}
	if q.repeat > 1 {
		pace = exchange.Pace{Rate: cmp.Or(q.rate, repeatRate), InFlight: 1} // what is measured must not stand in its own way
	}
	q.session.Each(ctx, q.requests(ctx, names), pace, func(e *exchange.Exchange) bool {
		pending = append(pending, e)
		if len(pending) < block {
			return true
		}
		if !q.quietOut() || q.namesFile == "" {
			stop() // the answers themselves show how it goes
		}
		failed = firstOf(failed, q.block(ctx, out, pending))
		pending = nil
		return failed == nil
	})
	stop()
	if len(pending) > 0 {
		failed = firstOf(failed, q.block(ctx, out, pending))
	}
	q.told.findings = q.found
	failed = firstOf(out.end(q), failed)
	if !q.json && failed == nil {
		failed = q.showOwners(ctx, q.answered)
	}
	return firstOf(failed, q.inputError(), verdictOn(q.found))
}

// requests are the questions for the names, block by block: name, server, type.
func (q *ask) requests(ctx context.Context, names iter.Seq2[string, error]) iter.Seq[exchange.Request] {
	return func(yield func(exchange.Request) bool) {
		count := 0
		for typed, err := range names {
			if count++; (count > maxNames || q.saves() && count > mostListed) && err == nil {
				err = usage(fmt.Errorf("--names: %w", q.tooMany()))
			}
			if err != nil {
				q.keepBad(err)
				return
			}
			name, err := parseName(typed)
			if err != nil { // of a list; it costs that line and no other
				q.badName(err)
				continue
			}
			name = q.extended(ctx, typed, name)
			for _, server := range q.servers {
				for _, t := range q.wanted {
					for range q.repeat {
						if !yield(exchange.Request{Server: server, Question: wire.Question{Name: name, Type: t, Class: q.class}}) {
							return
						}
					}
				}
			}
		}
	}
}

// tooMany is the error of a list that is too long: what is saved is held in memory until the end.
func (q *ask) tooMany() error {
	if q.saves() {
		return errLongList
	}
	return errManyNames
}

// extended is the name that this machine would ask for when typed is given to
// it: with a suffix of the search list if it has too few dots and is there with one.
func (q *ask) extended(ctx context.Context, typed string, name wire.Name) wire.Name {
	candidates := q.setup.Candidates(typed, name)
	if q.asIs || candidates[0].Suffix == "" {
		return name
	}
	chosen, asked := probe.Prober{Session: q.session}.Search(ctx, probe.Surroundings{Resolvers: q.servers[:1]}, candidates, q.wanted, q.class)
	var evidence []int
	for _, e := range (&probe.LocalName{Steps: asked}).Asked() {
		evidence = append(evidence, e.Number)
		if err := q.evidence.add(e); err != nil {
			q.keepBad(err)
		}
	}
	if chosen == nil {
		return name
	}
	if chosen.Suffix != "" {
		q.keepFindings([]finding.Finding{probe.Appended(typed, *chosen, evidence...)})
	}
	return chosen.Name
}

// block shows and keeps the answers of one server for one name.
func (q *ask) block(ctx context.Context, out output, exchanges []*exchange.Exchange) error {
	b := text.Block{Exchanges: exchanges, Now: q.now}
	if q.repeat > 1 {
		b = text.Block{Now: q.now}
		for at := 0; at < len(exchanges); at += q.repeat {
			same := exchanges[at:min(at+q.repeat, len(exchanges))]
			b.Exchanges = append(b.Exchanges, same[len(same)-1])
			b.Timings = append(b.Timings, exchange.TimingOf(same))
		}
	}
	found := probe.Answers(exchanges)
	if q.follow {
		var more []finding.Finding
		b.Followed, more = q.judge.Follow(ctx, b.Exchanges)
		found = append(found, more...)
	}
	if q.validate {
		var more []finding.Finding
		b.Validated, more = q.judge.Validate(ctx, b.Exchanges)
		found = append(found, more...)
		for _, v := range b.Validated {
			for _, e := range append(v.Fetched, v.Signed) {
				if err := q.evidence.addOnce(e); err != nil {
					return err
				}
			}
		}
	}
	if q.zoneTTL {
		b.ZoneTTLs = q.judge.ZoneTTLs(ctx, b.Exchanges)
	}
	finding.Sort(found)
	q.keepFindings(found)
	for _, e := range exchanges {
		q.standing.mark(e)
		q.summary.Add(e)
		if err := q.evidence.add(e); err != nil {
			return err
		}
	}
	if q.owners && len(q.answered) < mostOwners {
		for _, e := range exchanges {
			q.answered = append(q.answered, wire.Addresses(e.Answer().Records)...)
		}
		for _, f := range b.Followed {
			q.answered = append(q.answered, f.Addresses()...)
		}
	}
	for _, f := range b.Followed {
		for _, e := range f.Exchanges {
			q.standing.mark(e)
			if err := q.evidence.add(e); err != nil {
				return err
			}
		}
	}
	return out.block(q, b)
}

// mostInFlight is how many queries may be out at once: each has a socket of its own.
const mostInFlight = 1024

// toldBad is how many lines without a name are told one by one.
const toldBad = 20

// keepBad keeps the first thing that was wrong with what was to be read.
func (q *ask) keepBad(err error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.badInput = firstOf(q.badInput, err)
}

// badName tells of a line that holds no name.
func (q *ask) badName(err error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.badNames++; q.badNames <= toldBad {
		tell(q.stderr, err)
	}
}

// inputError is why not all names could be read.
func (q *ask) inputError() error {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.badNames > 0 {
		return usage(fmt.Errorf("%s: %w", wording.Count(q.badNames, "line of the list", "lines of the list"), errBadNames))
	}
	return q.badInput
}

// keepFindings keeps findings, be they of the answers or of the names asked.
func (q *ask) keepFindings(found []finding.Finding) {
	q.mu.Lock()
	defer q.mu.Unlock()
	room := max(maxFindings-len(q.found), 0)
	q.moreFound += max(len(found)-room, 0)
	q.found = append(q.found, found[:min(room, len(found))]...)
}

// output is one way in which the answers are written, as they come.
type output interface {
	block(q *ask, b text.Block) error
	end(q *ask) error
}

func (q *ask) newOutput() (output, error) {
	if q.json {
		stream, err := data.NewStream(q.stdout, version(), "ask")
		return &streamed{Stream: stream}, err
	}
	return &drawn{view: q.view()}, nil
}

// drawn is the text form.
type drawn struct {
	view   *text.View
	blocks int
}

func (d *drawn) block(q *ask, b text.Block) error {
	if q.bare {
		d.view.Bare(b.Exchanges, q.nameFirst)
		return d.view.Err()
	}
	if q.records {
		d.view.Records(b.Exchanges, q.show.Parts, len(q.servers) > 1)
		return d.view.Err()
	}
	if d.blocks++; d.blocks > 1 {
		d.view.Gap()
	}
	d.view.Answers(b, q.show)
	if q.wire {
		d.view.Wire(b.Exchanges)
	}
	return d.view.Err()
}

func (d *drawn) end(q *ask) error {
	if q.bare || q.records {
		return d.view.Err()
	}
	d.view.Findings("what to note", q.found)
	if q.moreFound > 0 {
		d.view.More(q.moreFound, "findings that were not kept")
	}
	if d.blocks > 3 {
		d.view.Summary(&q.summary)
	}
	return d.view.Err()
}
