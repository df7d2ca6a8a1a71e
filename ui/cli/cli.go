// Package cli is the command line: flags in, one call of core, one view out.
package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/machine"
	"unquil/core/wire"
	"unquil/lab"
	"unquil/ui/data"
	"unquil/ui/files"
	"unquil/ui/text"
)

// Exit codes.
const (
	exitDone   = 0
	exitFailed = 1 // a file, a permission, the network of this machine
	exitUsage  = 2
	exitFault  = 3 // done, and what was asked about has a fault
)

// errFault makes the exit code say that a fault was found; the view has told it.
var errFault = errors.New("a fault was found")

// usageError is a mistake on the command line.
type usageError struct{ error }

func (e usageError) Unwrap() error { return e.error }

func usage(err error) error { return usageError{err} }

// app is what the commands share: the options that mean the same everywhere,
// and what they lead to.
type app struct {
	labOptions
	askOptions
	showOptions
	outputs
	registryOptions
	listenOptions
	validateOptions
	saving
	config
	question

	args       []string // as typed
	redact     []string // names
	redacts    *string  // a file that redaction is for too, beside the report; "" for none
	configFile string
	helpFailed error // writing the help
	endsWell   bool  // an interruption is the usual end
	toldOwn    bool  // that a file is not the lab's
	begun      bool  // the command line was understood: what fails from here on is no mistake in it

	ctx            context.Context
	files          *files.Files
	stdout, stderr io.Writer
	environ        []string
	simulation     *lab.Lab
	lent           *lab.Lab // another run's, in which this one asks; nil: it has its own
	names          int      // that the run is about; 0 means 1
	session        *exchange.Session
	standing       *standing // what the lines of a session share; nil: the run stands alone
	told           reportOf  // what the run came to
}

// labOptions are about the simulated internet.
type labOptions struct {
	lab     bool
	speed   float64
	latency time.Duration
	path    string // the network that is asked through; "" for the technician's own
	host    string // the machine that is acted as; "" for the technician's own
}

// askOptions are about every question that goes out.
type askOptions struct {
	roots    string
	wait     time.Duration
	attempts int
	class    wire.Class
}

// showOptions are about what is shown, and how.
type showOptions struct {
	json   bool
	bare   bool
	all    bool // there is, be it many
	most   int  // packets a second
	wire   bool // the bytes of messages too
	colour string
	list   string // the file that --names names, of the commands that look them up together
	width  int    // columns; 0: those of the terminal, or no bound
}

// Main runs the program and returns its exit code.
func Main(ctx context.Context, args []string, stdout, stderr io.Writer, environ []string) int {
	var open files.Files
	return run(ctx, &open, args, stdout, stderr, environ)
}

func run(ctx context.Context, open *files.Files, args []string, stdout, stderr io.Writer, environ []string) int {
	open.Stdin, open.Stdout = os.Stdin, stdout
	defer open.Close()
	return command(ctx, open, args, stdout, stderr, environ)
}

// command runs one command line; what it opens is closed by who opened the files.
func command(ctx context.Context, open *files.Files, args []string, stdout, stderr io.Writer, environ []string) int {
	return (&app{ctx: ctx, files: open, stdout: stdout, stderr: stderr, environ: environ, args: args}).execute()
}

// execute runs the command line of an app, and returns the exit code.
func (a *app) execute() int {
	root := newRoot(a)
	if len(a.args) > 0 && strings.HasPrefix(a.args[0], cobra.ShellCompRequestCmd) {
		a.completes(root)
	}
	root.SetArgs(a.args)
	root.SetOut(a.stdout)
	root.SetErr(a.stderr)
	err := firstOf(root.ExecuteContext(a.ctx), a.helpFailed)
	if a.session != nil {
		a.session.Client.Close()
		for _, told := range a.session.Client.Budget.Told() {
			fmt.Fprintf(a.stderr, "unquil: %s\n", told)
		}
		if limited := a.session.Client.Limited(); limited != nil && (err == nil || onlyFaults(err)) {
			err = limited
		}
	}
	if a.simulation != nil && a.standing == nil && a.lent == nil {
		a.simulation.Close()
	}
	var ended exitCode
	switch {
	case a.ctx.Err() != nil && a.endsWell && err == nil:
		return exitDone
	case a.ctx.Err() != nil:
		fmt.Fprintln(a.stderr, stopped)
		return exitFailed
	case err == nil:
		return exitDone
	case onlyFaults(err):
		return exitFault
	case errors.As(err, &ended):
		return int(ended)
	}
	if !a.begun {
		err = usage(err)
	}
	code := exitFailed
	if errors.As(err, new(usageError)) {
		code = exitUsage
	}
	if a.json || slices.Contains(a.args, "--json") {
		says, next := telling(err)
		_ = data.NewEncoder(a.stderr).Encode(data.Failure{Unquil: version(), Schema: data.Schema, Error: says, Next: next, Exit: code}) // there is nobody else to tell
	} else {
		tell(a.stderr, err)
	}
	return code
}

// exitCode ends the program with a code, where all has been told.
type exitCode int

func (c exitCode) Error() string { return fmt.Sprintf("exit code %d", int(c)) }

func newRoot(a *app) *cobra.Command {
	root := &cobra.Command{
		Use:           "unquil",
		Short:         "Find out where and why name resolution fails",
		Long:          "Unquil queries resolvers, compares their answers, traces the delegation from the root and decodes packet captures, until it is clear where and why name resolution fails.",
		Version:       version(),
		SilenceUsage:  true,
		SilenceErrors: true,
		Args:          onlyCommands,
		RunE:          func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			a.begun = true
			if err := firstOf(a.readConfig(), a.configuredTypes(cmd), a.checkReport()); err != nil {
				return err
			}
			if a.width != 0 && (a.width < 40 || a.width > 1000) {
				return usage(fmt.Errorf("--width %d: %w", a.width, errWidth))
			}
			switch text.Colour(a.colour) {
			case text.Auto, text.Always, text.Never:
				return nil
			}
			return usage(fmt.Errorf("--color %q: %w", a.colour, errColour))
		},
	}
	root.SetVersionTemplate("unquil {{.Version}}\n")
	root.SetFlagErrorFunc(optionError)
	root.SetHelpFunc(func(cmd *cobra.Command, _ []string) {
		view := a.view()
		view.Help(helpOf(cmd))
		a.helpFailed = view.Err()
	})
	root.SetHelpCommand(newHelp(a))
	root.CompletionOptions.DisableDefaultCmd = true
	flags := root.PersistentFlags()
	flags.BoolVar(&a.lab, "lab", getenv(a.environ, "UNQUIL_LAB") == "1", "use the simulated internet inside the program; nothing leaves this machine")
	flags.Float64Var(&a.speed, "lab-speed", 1, "how many seconds pass in the lab for each real second")
	flags.DurationVar(&a.latency, "lab-latency", 0, "how long every reply in the lab takes to arrive")
	flags.StringVar(&a.path, "lab-path", "", "query through this `NETWORK` of the lab, such as tunnel or sealed")
	flags.StringVar(&a.host, "lab-machine", "", "act as this `MACHINE` of the lab, such as typed or two-lines")
	flags.BoolVar(&a.json, "json", false, "one JSON document")
	flags.StringVar(&a.configFile, "config", "", "configuration `FILE`, instead of unquil/config.toml in the user's configuration folder")
	flags.BoolVar(&a.files.Overwrite, "overwrite", false, "replace existing output files, but never one that is being read")
	flags.IntVar(&a.width, "width", 0, "break lines after this many `COLUMNS` (default: as wide as the terminal; in a pipe, not at all)")
	flags.StringVar(&a.colour, "color", string(text.Auto), "`WHEN` to use colour: auto, always or never")
	for _, g := range groups() {
		root.AddGroup(&cobra.Group{ID: g.id, Title: g.title})
		for _, make := range g.commands {
			cmd := make(a)
			cmd.GroupID = g.id
			root.AddCommand(cmd)
		}
	}
	root.AddCommand(newSocketOwners(a))
	return root
}

func init() { cobra.EnableCommandSorting = false } // they stand in the order of work

// groups are the commands in the order of work.
func groups() []group {
	return []group{
		{"find", "find out what is wrong", []func(a *app) *cobra.Command{newWhy, newAsk, newCompare, newTrace, newZone, newMail, newReverse, newOwner, newLocal}},
		{"time", "over time", []func(a *app) *cobra.Command{newWatch, newTransfer, newSession}},
		{"capture", "what passed on the wire", []func(a *app) *cobra.Command{newDecode, newBrowse, newListen}},
		{"about", "learn and set up", []func(a *app) *cobra.Command{newDemo, newLab, newFindings, newCompletion, newVersion}},
	}
}

type group struct {
	id, title string
	commands  []func(a *app) *cobra.Command
}

// taking accepts least to most arguments and says in a usage error what belongs
// in their place.
func taking(least, most int) cobra.PositionalArgs {
	return func(cmd *cobra.Command, given []string) error {
		switch {
		case len(given) < least:
			return usage(fmt.Errorf("%s: missing argument: %w", cmd.CommandPath(), errArguments{callOf(cmd)}))
		case len(given) > most:
			return usage(fmt.Errorf("%s: unexpected argument %q: %w", cmd.CommandPath(), shorten(given[most]), errArguments{callOf(cmd)}))
		}
		return nil
	}
}

// many is no bound on the number of arguments.
const many = 1 << 30

func getenv(environ []string, name string) string {
	for _, pair := range environ {
		if len(pair) > len(name) && pair[:len(name)] == name && pair[len(name)] == '=' {
			return pair[len(name)+1:]
		}
	}
	return ""
}

// askFlags adds the options of the commands that ask over the network.
func (a *app) askFlags(cmd *cobra.Command) {
	cmd.Flags().DurationVar(&a.wait, "wait", 0, "time for one attempt (default 2s, or as configured)")
	cmd.Flags().IntVar(&a.attempts, "attempts", 0, "how many attempts over UDP (default 2, or as configured)")
}

func (a *app) bareFlag(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&a.bare, "bare", false, "values only, one per line")
}

func (a *app) rateFlag(cmd *cobra.Command) {
	cmd.Flags().IntVar(&a.most, "rate", 0, "at most this many queries per second (default: no limit but that for single servers)")
}

func (a *app) rootsFlag(cmd *cobra.Command) {
	cmd.Flags().StringVar(&a.roots, "roots", "", "root hints `FILE` in master-file form, instead of the built-in ones")
}

// open sets up the network, the lab's or the real one, and the session that
// keeps the evidence.
func (a *app) open() error {
	if a.speed <= 0 || a.speed > 1e6 || a.wait < 0 || a.wait > maxWait || a.wait > 0 && a.wait < minWait || a.latency < 0 || a.attempts < 0 || a.attempts > 20 {
		return usage(errBounds)
	}
	a.class = wire.IN
	options := exchange.Options{Wait: cmp.Or(a.wait, time.Duration(a.Ask.Wait), 2*time.Second), Attempts: cmp.Or(a.attempts, a.Ask.Attempts, a.Ask.Tries, 2)}
	if err := a.question.apply(&options, &a.class); err != nil {
		return err
	}
	var err error
	if options.CAs, err = a.question.authorities(a.files); err != nil {
		return err
	}
	internet, err := a.question.internet()
	if err != nil {
		return err
	}
	if a.most < 0 {
		return usage(errBounds)
	}
	client := &exchange.Client{Network: internet, Now: time.Now, Options: options, Budget: exchange.NewBudget(a.names)}
	client.Budget.Rate = a.most
	if a.lab {
		if err := a.enterLab(client); err != nil {
			return err
		}
	}
	a.session = &exchange.Session{Client: client}
	if a.standing != nil {
		a.standing.begin(a.session)
	}
	return a.openOutputs()
}

// enterLab has a client ask the simulated internet in place of the real one.
func (a *app) enterLab(client *exchange.Client) error {
	simulation, err := a.standing.lab()
	if a.lent != nil {
		simulation = a.lent
	}
	if simulation == nil && err == nil {
		simulation, err = lab.New(lab.Options{Speed: a.speed, Latency: a.latency, InMemory: true})
	}
	if err != nil {
		return err
	}
	a.simulation = simulation
	simulation.Enter(client)
	if a.path != "" {
		if client.Network, err = simulation.NetworkOver(a.path); err != nil {
			return usage(fmt.Errorf("--lab-path: %w", err))
		}
	}
	if !lab.HasMachine(a.host) {
		return usage(fmt.Errorf("--lab-machine %q: %w", shorten(a.host), errMachine))
	}
	if client.Options.CAs == nil {
		client.Options.CAs, err = simulation.CAs()
	}
	return err
}

// How long one attempt may take: more is a mistake, and in less not even a server nearby is
// heard.
const (
	minWait = 100 * time.Millisecond
	maxWait = time.Hour
)

// view draws on standard output.
func (a *app) view() *text.View {
	width, asked := columns(a.stdout, a.environ), a.width > 0
	if asked {
		width = a.width
	}
	view := text.New(a.stdout, width, text.Colour(a.colour), a.environ)
	view.Whole = !asked && width == 0
	if a.standing != nil {
		view.Marks = &a.standing.marks
	}
	return view
}

// columns is the width of the terminal behind w, at most 120 so that lines stay
// readable; for anything else what COLUMNS says, or 0: nobody needs them broken.
func columns(w io.Writer, environ []string) int {
	if file, ok := w.(terminal); ok {
		if width, _, err := term.GetSize(int(file.Fd())); err == nil && width > 0 {
			return min(width, 120)
		}
	}
	if width, err := strconv.Atoi(getenv(environ, "COLUMNS")); err == nil && width > 0 {
		return min(width, 120)
	}
	return 0
}

// machine is the set-up that counts: this machine's, or that of the technician in the
// lab. The error is that of [machine.Read].
func (a *app) machine() (machine.Setup, error) {
	if a.lab {
		return machine.Read(lab.Machine(a.host))
	}
	return machine.ReadOwn(os.DirFS)
}

// shorten keeps an error about a long word to one line.
func shorten(text string) string {
	if runes := []rune(text); len(runes) > 60 {
		return string(runes[:57]) + "..."
	}
	return text
}

// document starts the JSON of a run.
func (a *app) document(command string, findings []finding.Finding) data.Document {
	d := data.Document{Unquil: version(), Command: command, Findings: findings}
	if a.told.result != nil {
		d.Result = a.told.result()
	}
	if a.session != nil {
		d.Exchanges, d.Limits = data.OfExchanges(a.session.Exchanges(), a.wire), a.session.Client.Budget.Told()
	}
	return d
}

// firstOf is the first error there is: what could not be done comes before
// what was found.
func firstOf(all ...error) error {
	for _, err := range all {
		if err != nil {
			return err
		}
	}
	return nil
}

// onlyFaults reports whether err says nothing but that faults were found.
func onlyFaults(err error) bool {
	if joined, ok := err.(interface{ Unwrap() []error }); ok {
		return !slices.ContainsFunc(joined.Unwrap(), func(e error) bool { return !onlyFaults(e) })
	}
	return err == errFault
}

// verdictOn is the error that makes the exit code fit what was found.
func verdictOn(findings []finding.Finding) error {
	if finding.Worst(findings) == finding.Fault {
		return errFault
	}
	return nil
}
