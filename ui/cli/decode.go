package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"net/netip"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unquil/core/capture"
	"unquil/core/conversation"
	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/ui/data"
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
	to                      string
	csv, follow             bool
	ports                   []uint
	https                   []string
	types, outcomes         []string
	clients, servers        []string
	under, between, finding string
	choice                  conversation.Filter
	look                    *conversation.WholePacket // the packet that is to be shown; nil: none
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
	flags.StringVar(&d.to, "to", "", "write the packets of the chosen exchanges to `FILE.pcapng`")
	a.reportFlags(cmd)
	flags.BoolVar(&d.csv, "csv", false, "the exchanges as CSV")
	flags.BoolVar(&d.follow, "follow-file", false, "keep reading a file that is still being written")
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
	flags.StringVar(&d.between, "between", "", "only queries between two times: `FROM,TO`, such as 07:40:10 or 2026-03-09T07:40:10Z")
	flags.StringVar(&d.finding, "finding", "", "only exchanges with this finding `CODE`")
	flags.StringVar(&d.choice.Where, "where", "", "only exchanges that meet a `CONDITION`, such as 'outcome == \"no-name\" && took > 0.2'")
	return cmd
}

// captureView is one way to look at a capture; whole says that it is made of the
// exchanges themselves, and not of what was counted of them.
type captureView struct {
	draw  func(*text.View, *conversation.Overview)
	whole bool
}

// views are the ways to look at a capture. The overview is drawn with the name of the file.
var views = map[string]captureView{
	"overview":   {nil, false},
	"exchanges":  {(*text.View).Exchanges, true},
	"names":      {(*text.View).Names, false},
	"servers":    {(*text.View).Servers, false},
	"clients":    {(*text.View).Clients, false},
	"episodes":   {(*text.View).Episodes, true},
	"walks":      {(*text.View).Paths, true},
	"local-link": {(*text.View).LocalLink, false},
	"timeline":   {(*text.View).Timeline, false},
}

// choose reads the options that choose exchanges.
func (d *decoding) choose() (err error) {
	if d.to == "-" && d.csv {
		return usage(fmt.Errorf("--csv with --to -: %w", errTogether))
	}
	if d.packet != 0 && (d.exchange != 0 || d.to != "" || d.csv || d.follow) {
		return usage(fmt.Errorf("--packet with --exchange, --to, --csv or --follow-file: %w", errTogether))
	}
	if _, known := views[d.view]; !known {
		return usage(fmt.Errorf("--view %q: %w", shorten(d.view), errView))
	}
	c := &d.choice
	if d.under != "" {
		if c.Under, err = parseName(d.under); err != nil {
			return err
		}
	}
	for _, word := range d.types {
		t, err := wire.ParseType(word)
		if err != nil {
			return usage(fmt.Errorf("--type %w", err))
		}
		c.Types = append(c.Types, t)
	}
	for _, word := range d.outcomes {
		c.Outcomes = append(c.Outcomes, exchange.Outcome(strings.ToLower(word)))
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
			return usage(fmt.Errorf("--finding %q: %w", shorten(d.finding), errFinding))
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
	files := &captureFiles{app: a, ctx: ctx, d: d, twice: d.to != "" || d.exchange != 0 || d.packet != 0 || d.between != "" || a.reportFile != ""}
	defer files.close()
	chosen, err := a.openCaptureOutputs(files, d.to)
	if err != nil {
		return err
	}
	if d.between != "" {
		begins, err := files.begins()
		if err == nil {
			err = d.within(begins)
		}
		if err != nil {
			return err
		}
	}
	if d.packet != 0 {
		looks, err := files.look([]int{d.packet})
		if d.look = looks[d.packet]; d.look == nil {
			return firstOf(err, usage(fmt.Errorf("--packet %d: %w", d.packet, errPacket)))
		}
	}
	options, err := d.options(a.reportFile != "")
	if err != nil {
		return err
	}
	g := &gathering{picks: d.to != "" || a.reportFile != "", all: d.to != "", lines: a.lineWriter(d), only: d.exchange}
	overview, failed := a.readCapture(files, options, g)
	if overview == nil {
		return failed
	}
	if failed != nil {
		failed = fmt.Errorf("reading %s: %w", strings.Join(d.paths, ", "), failed)
	}
	wrong := verdictOn(overview.Findings)
	if d.exchange != 0 || d.packet != 0 {
		wrong = nil // who looks at one is not told of the others
	}
	report := reportOf{
		headline: "What happened in " + string(escape.Of(strings.Join(d.paths, ", "))), tables: page.CaptureTables(overview),
		findings: overview.Findings, exchanges: overview.Kept, left: overview.Exchanges - g.picked.Exchanges,
		evidence: func(w io.Writer) error {
			_, err := g.picked.Write(w, files.open)
			return err
		},
	}
	if len(a.redact) > 0 {
		report.left = overview.NotKept // its capture is made of the exchanges
	}
	if err := a.report(report); err != nil {
		return firstOf(failed, err)
	}
	if d.to != "" {
		written, err := a.writePicked(&g.picked, chosen, files.open)
		if err != nil {
			return firstOf(failed, err)
		}
		if !a.json && !d.csv {
			view := a.view()
			view.Written(written, g.picked.Exchanges, d.to)
			return firstOf(view.Err(), failed, wrong)
		}
	}
	if (a.json || d.csv) && d.packet == 0 {
		if d.exchange != 0 && !g.told {
			return errNoExchange(d)
		}
		return firstOf(g.lines.end(overview), failed, wrong)
	}
	view := a.view()
	switch {
	case d.packet != 0:
		err = a.showPacket(view, overview, d)
	case d.exchange != 0:
		err = a.showExchange(view, overview, d, files)
	case d.view == "overview":
		view.Overview(strings.Join(d.paths, " "), a.again(d), overview)
	case g.lines == nil:
		views[d.view].draw(view, overview)
	}
	return firstOf(err, view.Err(), g.lines.failed(), failed, wrong)
}

// options are how to read the captures. reported says that exchanges are shown in a
// report, whatever the view.
func (d *decoding) options(reported bool) (options conversation.Options, err error) {
	options = conversation.Options{HTTPS: d.https, Keep: keptExchanges}
	if d.packet != 0 || !views[d.view].whole && d.exchange == 0 && !reported {
		options.Keep = -1
	}
	for _, port := range d.ports {
		if port == 0 || port > 65535 {
			return options, usage(fmt.Errorf("--port %d: %w", port, errPort))
		}
		options.Ports = append(options.Ports, uint16(port))
	}
	if options.Choose, err = d.choice.Compile(); err != nil {
		return options, usage(err)
	}
	switch {
	case d.exchange != 0:
		options.Also = func(p *conversation.Transaction) bool { return p.Number == d.exchange }
	case d.look != nil:
		options.Also = d.look.PartOf
	}
	return options, nil
}

// gathering is what becomes of exchanges while they are read.
type gathering struct {
	picks, all        bool // their packets are to be written: all of them, or as many as a report's capture takes
	picked            conversation.PacketSelection
	plain, remarkable int
	lines             *lineWriter // nil when they are shown at the end
	silent            bool        // nothing is told yet, since they will be read again
	only              int         // the number of the exchange that is wanted; 0: all are
	told              bool        // it came
}

func (g *gathering) each(p *conversation.Transaction) {
	if g.only != 0 && p.Number != g.only {
		return
	}
	g.told = true
	if g.picks {
		of := &g.plain
		if len(p.Codes) > 0 {
			of = &g.remarkable
		}
		if *of++; g.all || *of <= keptExchanges {
			g.picked.Add(p)
		}
	}
	if !g.silent {
		g.lines.pair(p)
	}
}

// readCapture reads the files as often as it takes: where it matters what was found about
// single exchanges, later packets may tell of earlier ones, and of a large capture that is
// to be shown whole which was only counted.
func (a *app) readCapture(files *captureFiles, options conversation.Options, g *gathering) (overview *conversation.Overview, failed error) {
	d := files.d
	twice := (g.picks || d.finding != "" || strings.Contains(d.choice.Where, "findings")) && files.again()
	g.silent = twice
	if g.picks || g.lines != nil {
		options.Each = g.each
	}
	defer a.readingProgress(&options, files)()
	overview, failed = files.read(options)
	if twice && overview != nil && files.ctx.Err() == nil {
		if options.Late = overview.Late(); options.Late != nil || g.lines != nil {
			g.picked, g.plain, g.remarkable, g.silent = conversation.PacketSelection{}, 0, 0, false
			overview, failed = files.read(options)
		}
	}
	if overview == nil || overview.NotKept == 0 {
		return overview, failed
	}
	var wanted func(*conversation.Transaction) bool
	if e := overview.Find(d.exchange); e != nil {
		wanted = overview.RelatedTo(e)
	} else if a.reportFile != "" {
		wanted = overview.Shows()
	}
	if wanted != nil {
		failed = firstOf(failed, files.fetch(overview, wanted))
	}
	return overview, failed
}

// again is the command that reads the same files in the same way.
func (a *app) again(d *decoding) string {
	words := append([]string{"unquil", "decode"}, d.paths...)
	for _, port := range d.ports {
		words = append(words, "--port", fmt.Sprint(port))
	}
	for _, host := range d.https {
		words = append(words, "--https-host", host)
	}
	if a.lab && getenv(a.environ, "UNQUIL_LAB") != "1" {
		words = append(words, "--lab")
	}
	return text.Shell(words...)
}

// keptExchanges is how many exchanges of a capture are shown.
const keptExchanges = 20_000

// openCaptureOutputs opens what --to, --report and --keep name, once it is known what is
// read.
func (a *app) openCaptureOutputs(from *captureFiles, to string) (chosen *files.Output, err error) {
	for _, path := range from.d.paths {
		a.files.Note(path)
	}
	if to != "" {
		if chosen, err = a.files.Create(to); err != nil {
			return nil, fmt.Errorf("writing packets: %w", err)
		}
	}
	return chosen, a.openOutputs()
}

// writePicked writes the packets of the chosen exchanges. Those of a reading that was cut
// short are not all of them, and are not written.
func (a *app) writePicked(picked *conversation.PacketSelection, to *files.Output, open func() ([]*capture.Reader, error)) (int, error) {
	written, err := picked.Write(to, open)
	if err = cmp.Or(err, a.ctx.Err()); err == nil {
		err = to.Commit()
	}
	if err != nil {
		return written, fmt.Errorf("writing packets: %w", err)
	}
	return written, nil
}

// showExchange shows one exchange whole.
func (a *app) showExchange(view *text.View, o *conversation.Overview, d *decoding, files *captureFiles) error {
	e := o.Find(d.exchange)
	if e == nil {
		return errNoExchange(d)
	}
	looks, err := files.look(o.Lines[e.Number].Packets)
	if err != nil && len(looks) == 0 {
		return err
	}
	view.WholeExchange(e, o, looks)
	if a.wire {
		view.Wire([]*exchange.Exchange{e})
		for _, n := range []int{o.Lines[e.Number].CutIn, o.Lines[e.Number].OtherIn} {
			if l := looks[n]; l != nil && l.Message != nil {
				view.WireOf(fmt.Sprintf("packet %d, from %s", n, l.From.Addr()), l.Message)
			}
		}
	}
	return nil
}

func errNoExchange(d *decoding) error {
	return usage(fmt.Errorf("--exchange %d: %w", d.exchange, errExchange))
}

// showPacket shows one packet whole, with the exchanges that it is a part of.
func (a *app) showPacket(view *text.View, o *conversation.Overview, d *decoding) error {
	var of []*exchange.Exchange
	for i := range o.Kept {
		of = append(of, &o.Kept[i])
	}
	if a.json {
		document := a.document("decode", nil)
		document.Result = data.OfLook(d.look, of)
		return document.Write(a.stdout)
	}
	view.Packet(d.look, of, a.wire)
	return nil
}
