package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"unquil/core/attest"
	"unquil/core/conversation"
	"unquil/core/diagnosis"
	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/core/wording"
	"unquil/ui/files"
	"unquil/ui/page"
	"unquil/ui/text"
)

// decoding is what a run of decode was asked for.
type decoding struct {
	paths                   []string
	view                    string
	exchange, packet        int
	id                      uint16
	to, split               string
	csv, follow, all        bool
	ports                   []uint
	https                   []string
	types, outcomes         []string
	clients, servers        []string
	under, between, finding string
	signed                  string
	choice                  conversation.Filter
	ofRun                   []diagnosis.Verdict // of the run whose evidence the capture is
}

// newDecode is `unquil decode`.
func newDecode(a *app) *cobra.Command {
	var message string
	d := &decoding{}
	cmd := &cobra.Command{
		Use:     "decode FILE...",
		Short:   "What happened in this capture: what failed and what was slow?",
		Example: "  unquil decode --lab valley-morning.pcapng\n  unquil decode --lab valley-morning.pcapng --view episodes\n  unquil decode --lab --message signed-answer.dns",
		RunE: func(cmd *cobra.Command, paths []string) error {
			if cmd.Flags().Changed("message") {
				if err := taking(0, 0)(cmd, paths); err != nil {
					return err
				}
				return a.decodeMessage(message)
			}
			if err := taking(1, many)(cmd, paths); err != nil {
				return err
			}
			d.paths = paths
			for number, none := range map[string]error{"exchange": errExchange, "packet": errPacket} {
				if f := cmd.Flag(number); f.Changed && f.Value.String() == "0" {
					return usage(fmt.Errorf("--%s 0: %w", number, none))
				}
			}
			if cmd.Flag("id").Changed {
				d.choice.ID = &d.id
			}
			if d.signed != "" && a.noValidate {
				return usage(fmt.Errorf("--signed and --no-validate: %w", errTogether))
			}
			if err := d.choose(); err != nil {
				return err
			}
			return a.decode(cmd.Context(), d)
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&message, "message", "", "decode one DNS message instead of a capture: `HEX|BASE64|FILE`; every byte is named")
	flags.StringVar(&d.view, "view", "overview", "which `VIEW`: overview, exchanges, names, servers, clients, episodes, walks, local-link or timeline")
	flags.IntVar(&d.exchange, "exchange", 0, "show exchange `NUMBER` in full, layer by layer")
	flags.IntVar(&d.packet, "packet", 0, "show packet `NUMBER` in full, even if it cannot be read")
	flags.BoolVar(&a.wire, "wire", false, "with --exchange and --packet: show every byte, named")
	flags.StringVar(&d.to, "to", "", "write the packets of the chosen exchanges to `FILE.pcapng`, packed where the name ends in .gz or .zst; - is standard output; FILE.cdns is C-DNS, and FILE.parquet a table for engines")
	flags.StringVar(&d.split, "split", "", "with --to: a folder with Parquet files, split by time and `SIZE`, such as 1h or 1h,1GB")
	a.reportFlags(cmd)
	flags.BoolVar(&d.csv, "csv", false, "the view as CSV: with the overview, the exchanges")
	flags.BoolVar(&d.all, "all", false, "draw all there is: of the overview every finding and figure, of a view more than the first 200; exchanges come in the order in which they ended")
	flags.BoolVar(&d.follow, "follow-file", false, "keep reading a file that is still being written")
	d.choiceFlags(flags)
	flags.StringVar(&d.signed, "signed", "", "only names whose signatures (DNSSEC) come to this `STATE`: bogus, unjudged, fits or secure")
	a.judgeFlags(cmd)
	flags.StringVar(&d.between, "between", "", "only queries between two times: `FROM,TO`, such as 07:40:10 or 2026-03-09T07:40:10Z")
	return cmd
}

// choiceFlags adds the options that say where DNS is looked for, and which exchanges count.
func (d *decoding) choiceFlags(flags *pflag.FlagSet) {
	flags.UintSliceVar(&d.ports, "port", nil, "also look for DNS on these `PORTS`")
	flags.StringSliceVar(&d.https, "https-host", nil, "`HOSTS` that serve DNS over HTTPS")
	flags.StringSliceVar(&d.choice.Names, "name", nil, "only names like `PATTERN`, with * and ?")
	flags.StringVar(&d.under, "under", "", "only names in `ZONE`")
	flags.StringSliceVarP(&d.types, "type", "t", nil, "only these record `TYPES`")
	flags.StringSliceVar(&d.outcomes, "outcome", nil, "only these `OUTCOMES`")
	flags.StringSliceVar(&d.clients, "client", nil, "only these clients: an `ADDRESS` or a range")
	flags.StringSliceVar(&d.servers, "server", nil, "only these servers: an `ADDRESS` or a range")
	flags.Uint16Var(&d.id, "id", 0, "only messages with this ID")
	flags.DurationVar(&d.choice.Slower, "slower", 0, "only exchanges that took at least this long")
	flags.StringVar(&d.finding, "finding", "", "only exchanges with this finding `CODE`")
	flags.StringVar(&d.choice.Where, "where", "", "only exchanges that meet a `CONDITION`, such as 'took > 200ms and not outcome = no-name'")
}

// choose reads the options that choose exchanges.
func (d *decoding) choose() (err error) {
	if d.to == "-" && d.csv {
		return usage(fmt.Errorf("--csv with --to -: %w", errTogether))
	}
	if d.packet != 0 && (d.exchange != 0 || d.to != "" || d.csv || d.follow) {
		return usage(fmt.Errorf("--packet with --exchange, --to, --csv or --follow-file: %w", errTogether))
	}
	if _, known := views[d.view]; !known && !(d.view == "programs" && d.paths == nil) {
		return usage(fmt.Errorf("--view %q: %w%s", shorten(d.view), errView, wording.OrNearest(d.view, slices.Sorted(maps.Keys(views)))))
	}
	if d.signed != "" && !slices.Contains(attest.States, attest.State(d.signed)) {
		return usage(fmt.Errorf("--signed %q: %w", shorten(d.signed), errSigned))
	}
	c := &d.choice
	if d.under != "" {
		if c.Under, err = parseName(d.under); err != nil {
			return err
		}
	}
	if c.Types, err = parseTypes(d.types); err != nil {
		return err
	}
	for _, word := range d.outcomes {
		outcome, known := exchange.ParseOutcome(word)
		if !known {
			return usage(fmt.Errorf("--outcome %q: %w%s", shorten(word), errOutcome, wording.OrNearest(word, exchange.OutcomeWords())))
		}
		c.Outcomes = append(c.Outcomes, outcome)
	}
	for _, list := range []struct {
		option string
		words  []string
		to     *[]netip.Prefix
	}{{"--client", d.clients, &c.Clients}, {"--server", d.servers, &c.Servers}} {
		for _, word := range list.words {
			p, err := netip.ParsePrefix(word)
			if err != nil {
				address, bad := netip.ParseAddr(word)
				if bad != nil {
					return usage(fmt.Errorf("%s %q: %w", list.option, shorten(word), errPrefix))
				}
				p = netip.PrefixFrom(address, address.BitLen())
			}
			*list.to = append(*list.to, p)
		}
	}
	if d.finding != "" {
		if _, known := finding.Of(finding.Code(d.finding)); !known {
			return usage(fmt.Errorf("--finding %q: %w%s", shorten(d.finding), errFinding, wording.OrNearest(d.finding, finding.Codes())))
		}
		c.Finding = finding.Code(d.finding)
	}
	return nil
}

// within sets the bounds of time; a time of day is of the day that the capture
// begins on.
func (d *decoding) within(begins time.Time) error {
	from, to, ok := strings.Cut(d.between, ",")
	for _, side := range []struct {
		text string
		to   *time.Time
	}{{from, &d.choice.From}, {to, &d.choice.To}} {
		at, err := time.Parse(time.RFC3339, side.text)
		if err != nil {
			clock, bad := time.Parse("15:04:05", side.text)
			ok = ok && bad == nil
			at = time.Date(begins.Year(), begins.Month(), begins.Day(), clock.Hour(), clock.Minute(), clock.Second(), clock.Nanosecond(), time.UTC)
		}
		*side.to = at
	}
	if !ok {
		return usage(fmt.Errorf("--between %q: %w", shorten(d.between), errBetween))
	}
	return nil
}

// decode reads the captures as one and shows them; what was read before an error
// is shown too.
func (a *app) decode(ctx context.Context, d *decoding) (err error) {
	table, err := a.recordsTo(d)
	if err != nil {
		return err
	}
	files := &captureFiles{app: a, ctx: ctx, paths: d.paths, follow: d.follow, twice: d.to != "" && table == nil || d.exchange != 0 || d.packet != 0 || d.between != "" || d.signed != "" || a.reportFile != ""}
	defer files.close()
	chosen, err := a.openCaptureOutputs(files, d.to, table)
	if err != nil {
		return err
	}
	if d.between != "" {
		begins, err := conversation.Begins(files)
		if err == nil {
			err = d.within(begins)
		}
		if err != nil {
			return err
		}
	}
	if d.signed != "" {
		if err := a.chooseSigned(ctx, d, files); err != nil {
			return err
		}
	}
	mode := a.modeOf(d)
	plan, err := a.planOf(d, mode)
	if err != nil {
		return err
	}
	if table != nil {
		plan.Select, plan.Settled, plan.Tell = conversation.SelectNone, true, table.tell
	}
	stop := a.readingProgress(&plan.Options, files)
	study, failed := conversation.NewStudy(ctx, files, plan)
	stop()
	switch {
	case errors.Is(failed, conversation.ErrNoPacket):
		return usage(fmt.Errorf("--packet %d: %w", d.packet, errPacket))
	case study == nil:
		return failed
	case failed != nil:
		failed = fmt.Errorf("reading %s: %w", strings.Join(d.paths, ", "), failed)
	}
	wrong := verdictOn(study.Findings)
	if d.exchange != 0 || d.packet != 0 {
		wrong = nil // who looks at one is not told of the others
	} else if failed == nil && plan.Choose == nil && len(d.paths) == 1 {
		if d.ofRun, _, _ = new(diagnosis.Inquest).OfRun(ctx, files); len(d.ofRun) > 0 {
			wrong = verdictOnAll(d.ofRun)
		}
	}
	if err := a.report(a.captureReport(d, study)); err != nil {
		return firstOf(failed, err)
	}
	if table != nil {
		if err := firstOf(table.end(), failed); err != nil {
			return err
		}
		if !a.json && !d.csv {
			view := a.view()
			view.Recorded(table.count, table.what, d.to)
			return firstOf(view.Err(), wrong)
		}
	}
	if chosen != nil {
		written, err := a.writeSelection(study, chosen)
		if err != nil {
			return firstOf(failed, err)
		}
		if !a.json && !d.csv {
			view := a.view()
			view.Written(written, study.Selection.Exchanges, d.to)
			return firstOf(view.Err(), failed, wrong)
		}
	}
	return firstOf(mode.show(study), failed, wrong)
}

// chooseSigned reads the captures for the names whose signatures come to the wanted state.
func (a *app) chooseSigned(ctx context.Context, d *decoding, files *captureFiles) error {
	plan, err := d.reading()
	if err != nil {
		return err
	}
	if plan.Anchors, _, err = a.validation(); err != nil {
		return err
	}
	plan.Keep = -1
	study, err := conversation.NewStudy(ctx, files, plan)
	if study == nil {
		return err
	}
	d.choice.Asking = map[wire.Name]bool{}
	if study.Signed != nil {
		for _, name := range study.Signed.Of(attest.State(d.signed)) {
			d.choice.Asking[name] = true
		}
	}
	return nil // what is wrong with a file is told when it is read for what was chosen
}

// reading is where in the captures DNS is looked for.
func (d *decoding) reading() (plan conversation.Plan, err error) {
	plan.Options = conversation.Options{HTTPS: d.https, Keep: keptExchanges}
	for _, port := range d.ports {
		if port == 0 || port > 65535 {
			return plan, usage(fmt.Errorf("--port %d: %w", port, errPort))
		}
		plan.Ports = append(plan.Ports, uint16(port))
	}
	return plan, nil
}

// planOf is how the captures are to be read for a mode, a selection of packets and a report.
func (a *app) planOf(d *decoding, mode decodeMode) (plan conversation.Plan, err error) {
	if plan, err = d.reading(); err != nil {
		return plan, err
	}
	if plan.Choose, err = d.choice.Compile(); err != nil {
		return plan, usage(err)
	}
	if plan.Anchors, _, err = a.validation(); err != nil {
		return plan, err
	}
	switch {
	case d.to != "":
		plan.Select = conversation.SelectAll
	case a.reportFile != "":
		plan.Select = conversation.SelectForReport
		plan.Fetch = (*conversation.Overview).Shows
	}
	plan.Settled = plan.Select != conversation.SelectNone || d.choice.NeedsFindings()
	plan.Only = d.exchange
	mode.plan(&plan)
	return plan, nil
}

// captureReport is what a report on captures holds.
func (a *app) captureReport(d *decoding, study *conversation.Study) reportOf {
	report := reportOf{
		headline: "What happened in " + string(escape.Of(strings.Join(d.paths, ", "))), tables: page.CaptureTables(study.Overview),
		findings: study.Findings, exchanges: study.Kept, left: study.Exchanges - study.Selection.Exchanges,
		evidence: func(w io.Writer) error {
			_, err := study.WriteSelection(w)
			return err
		},
	}
	if len(a.redact) > 0 {
		report.left = study.NotKept // its capture is made of the exchanges
	}
	return report
}

// again is the command that reads the same files in the same way; inLab says that they may be
// the lab's.
func (a *app) again(d *decoding, inLab bool) string {
	words := append([]string{"unquil", "decode"}, d.paths...)
	for _, port := range d.ports {
		words = append(words, "--port", fmt.Sprint(port))
	}
	for _, host := range d.https {
		words = append(words, "--https-host", host)
	}
	if inLab && a.lab && getenv(a.environ, "UNQUIL_LAB") != "1" {
		words = append(words, "--lab")
	}
	return text.Shell(words...)
}

// keptExchanges is how many exchanges of a capture are shown.
const keptExchanges = 20_000

// openCaptureOutputs opens what --to, --report and --keep name, once it is known what is
// read.
func (a *app) openCaptureOutputs(from *captureFiles, to string, table *recordTable) (chosen *files.Output, err error) {
	for _, path := range from.paths {
		a.files.Note(path)
	}
	if table != nil {
		if err := table.begin(from.paths); err != nil {
			return nil, fmt.Errorf("writing exchanges: %w", err)
		}
	} else if to != "" {
		if chosen, err = a.files.Create(to); err != nil {
			return nil, fmt.Errorf("writing packets: %w", err)
		}
	}
	return chosen, a.openOutputs()
}

// writeSelection writes the packets of the chosen exchanges. Those of a reading that was cut
// short are not all of them, and are not written.
func (a *app) writeSelection(study *conversation.Study, to *files.Output) (int, error) {
	packed, err := files.Packed(to.Name(), to)
	if err != nil {
		return 0, fmt.Errorf("writing packets: %w", err)
	}
	written, err := study.WriteSelection(packed)
	if err = cmp.Or(err, packed.Close(), a.ctx.Err()); err == nil {
		err = to.Commit()
	}
	if err != nil {
		return written, fmt.Errorf("writing packets: %w", err)
	}
	return written, nil
}
