package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unquil/core/capture"
	"unquil/core/finding"
	"unquil/core/live"
	"unquil/ui/text"
)

// listening is what a run of listen was asked for.
type listening struct {
	decoding
	interfaces  []string
	others      bool
	files       int
	each        string
	every, for_ time.Duration
	until       string
	command     string
	servers     string // where servers send what they record; "": packets are heard
}

// newListen is `unquil listen`.
func newListen(a *app) *cobra.Command {
	l := &listening{}
	a.redacts = &l.to
	cmd := &cobra.Command{
		Use:   "listen",
		Short: "What passes over this machine's interfaces right now?",
		Example: "  unquil listen --lab --lab-speed 20 --for 2m\n" +
			"  unquil listen --lab --while 'ask www.hollowtarn.example tickets.hollowtarn.example'\n" +
			"  unquil listen --to morning.pcapng --files 10 --each 100MB\n" +
			"  unquil listen --view programs",
		Args: taking(0, 0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if cmd.Flag("id").Changed {
				l.choice.ID = &l.id
			}
			if err := firstOf(l.choose(), l.check()); err != nil {
				return err
			}
			return a.listen(cmd.Context(), l)
		},
	}
	flags := cmd.Flags()
	flags.StringSliceVar(&l.interfaces, "interface", nil, "listen at these interfaces, by their `NAMES` (default: all)")
	flags.StringVar(&l.servers, "from-server", "", "take what DNS servers send by dnstap to this `SOCKET`, unix:PATH or tcp:ADDRESS:PORT, instead of packets")
	flags.StringVar(&l.to, "to", "", "write every packet of DNS that is heard to `FILE.pcapng`")
	flags.IntVar(&l.files, "files", 0, "write to a ring of so many files: the oldest makes room for the next")
	flags.StringVar(&l.each, "each", "", "begin another file at this `SIZE`, such as 100MB")
	flags.DurationVar(&l.every, "every", 0, "begin another file after so much time")
	flags.DurationVar(&l.for_, "for", 0, "for how long to listen; 0 means until Ctrl-C")
	flags.StringVar(&l.command, "while", "", "listen for as long as a `COMMAND` runs, and say what it asked for and how long names held it up; with --lab, a command of unquil")
	flags.StringVar(&l.until, "until-finding", "", "listen until there is a finding with this `CODE`")
	flags.StringVar(&l.view, "view", "overview", "which `VIEW`: overview, programs, or one of those of unquil decode; on a terminal it is drawn anew as it changes")
	flags.BoolVar(&l.csv, "csv", false, "the exchanges as CSV")
	flags.BoolVar(&l.others, "others", false, "hear also what is meant for other machines, where an interface gets that; with --interface")
	l.choiceFlags(flags)
	a.reportFlags(cmd)
	return cmd
}

// check refuses options that do not go together.
func (l *listening) check() error {
	if l.files < 0 || l.every < 0 || l.for_ < 0 || l.every > 0 && l.every < time.Second {
		return usage(errBounds)
	}
	size, err := parseSize(l.each)
	switch {
	case err != nil:
		return usage(fmt.Errorf("--each %q: %w", shorten(l.each), err))
	case l.files > 0 && size == 0 && l.every == 0:
		return usage(fmt.Errorf("--files without --each or --every: %w", errRing))
	case (size > 0 || l.every > 0) && l.to == "":
		return usage(fmt.Errorf("--each or --every without --to: %w", errNoFile))
	case (size > 0 || l.every > 0) && l.to == "-":
		return usage(fmt.Errorf("--each or --every with --to -: %w", errTogether))
	case l.servers != "" && (len(l.interfaces) > 0 || l.command != ""):
		return usage(fmt.Errorf("--from-server with --interface or --while: %w", errTogether))
	case l.others && len(l.interfaces) == 0:
		return usage(fmt.Errorf("--others without --interface: %w", errMirror))
	}
	if _, known := finding.Of(finding.Code(l.until)); l.until != "" && !known {
		return usage(fmt.Errorf("--until-finding %q: %w", shorten(l.until), errFinding))
	}
	return nil
}

// sizes are the units of sizes.
var sizes = []struct {
	unit  string
	bytes int64
}{{"kb", 1e3}, {"mb", 1e6}, {"gb", 1e9}, {"", 1}}

// leastSize is that of the largest packet, with what a file begins with.
const leastSize = 64e3

// parseSize reads a size such as 100MB; "" is 0. The error is errSize.
func parseSize(text string) (int64, error) {
	if text == "" {
		return 0, nil
	}
	for _, s := range sizes {
		number, is := strings.CutSuffix(strings.ToLower(strings.TrimSpace(text)), s.unit)
		if !is {
			continue
		}
		n, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
		if err != nil || !(n*float64(s.bytes) >= leastSize) || n*float64(s.bytes) > 1e18 {
			break
		}
		return int64(n * float64(s.bytes)), nil
	}
	return 0, errSize
}

// listen listens until something ends it, and shows what was heard: as it comes, and at the end.
func (a *app) listen(ctx context.Context, l *listening) error {
	// An interrupt is the way in which listening ends: what follows it is not cut short.
	endsByInterrupt(ctx)
	a.ctx = context.WithoutCancel(ctx)
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	run := &listenRun{app: a, l: l, stop: stop}
	if err := run.open(); err != nil {
		return err
	}
	defer run.close()
	if err := firstOf(run.openFiles(), a.openOutputs()); err != nil {
		return err
	}
	return run.run(ctx)
}

// openTap opens the tap, the lab's or that of this machine.
func (a *app) openTap(o live.Options, alone bool) (tap live.Tap, now func() time.Time, err error) {
	if a.lab {
		if err := a.open(); err != nil {
			return nil, nil, err
		}
		tap, err := newLabTap(a.simulation, alone)
		return tap, a.simulation.Now, err
	}
	tap, err = live.Open(o)
	if errors.Is(err, live.ErrPermission) {
		return nil, nil, advised{err, permissionAdvice()}
	}
	return tap, time.Now, err
}

// tapOptions are those of the tap that a choice needs.
func (d *decoding) tapOptions() (live.Options, error) {
	plan, err := d.reading()
	o := live.Options{Ports: plan.Ports}
	if len(d.https) > 0 {
		o.Ports = append(o.Ports, 443)
	}
	return o, err
}

// live is a capture that comes about; it is read but once.
type liveSource struct {
	listening *live.Listening
	opened    bool
}

// Open begins to read it.
func (s *liveSource) Open() ([]*capture.Reader, error) {
	if s.opened {
		return nil, errors.New("what was heard is gone")
	}
	s.opened = true
	reader, err := capture.NewReader(s.listening.Judged())
	if err != nil {
		return nil, err
	}
	return []*capture.Reader{reader}, nil
}

// Again reports that it cannot be read again.
func (s *liveSource) Again() bool { return false }

// interfaceWords are the names of the interfaces that are listened to.
func interfaceWords(chosen []string, met []live.Interface) string {
	names := chosen
	if len(names) == 0 {
		for _, i := range met {
			names = append(names, i.Name)
		}
		switch n := len(names); {
		case n == 0:
			return "this machine, where no interface is up"
		case n > 4:
			return fmt.Sprintf("%d interfaces", n)
		}
	}
	return strings.Join(names, ", ")
}

// exitOf is the exit code of a command that was run, from the error that it gave.
func exitOf(err error) (code int, failed string) {
	var ended interface{ ExitCode() int }
	switch {
	case err == nil:
		return 0, ""
	case errors.As(err, &ended):
		return ended.ExitCode(), ""
	}
	return -1, err.Error()
}

// permissionAdvice says how this program comes to be allowed to listen.
func permissionAdvice() string {
	path := cmp.Or(executable(), "unquil")
	return text.Shell("sudo", "setcap", "cap_net_raw+ep", path) + " grants it once and for all; or run it with sudo: it gives root up as soon as it listens"
}

func executable() string {
	path, err := os.Executable()
	if err != nil {
		return ""
	}
	return path
}
