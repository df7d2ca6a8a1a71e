package cli

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"unquil/core/casework"
	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/ui/data"
	"unquil/ui/files"
	"unquil/ui/session"
	"unquil/ui/text"
)

// shell runs the lines of a session.
type shell struct {
	*app
	given     []string // options of every command, as the session was given them
	chosen    chosen
	names     []string // asked for last
	addresses []string // answered last, or asked for
	seen      map[string]bool
	casework.Case
	journal *files.Journal // of the case; nil without one
	worst   int
	ended   bool // by a word
	script  bool // nobody types the lines
	shown   bool // something was
}

// newSession is `unquil session`.
func newSession(a *app) *cobra.Command {
	var script, casePath string
	var goOn, noHistory bool
	cmd := &cobra.Command{
		Use:   "session",
		Short: "Choose resolver and types once, look up many, and keep it all as a case",
		Long: "Opens a prompt that keeps what was chosen: from whom, which types, over which transport. A name looks it up, an address looks up its name. " +
			"Every host and address in an answer gets a number in square brackets, which stands for it in the next lines. The word help lists what can be typed. " +
			"From a pipe, or with --script, the lines run one after the other.",
		Example: "  unquil session --lab\n" +
			"  unquil session --lab --case tickets.case\n" +
			"  echo 'from office; tickets.hollowtarn.example' | unquil session --lab",
		Args: taking(0, 0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			s := newShell(a, nil)
			cmd.Root().PersistentFlags().VisitAll(func(f *pflag.Flag) {
				if f.Changed && f.Name != "json" && f.Name != "color" {
					s.given = append(s.given, "--"+f.Name+"="+f.Value.String())
				}
			})
			if err := s.takeUp(casePath); err != nil {
				return err
			}
			if err := a.openStanding(); err != nil {
				return err
			}
			if s.simulation != nil {
				defer s.simulation.Close()
			}
			defer s.end()
			interactive := script == "" && isTerminal(a.files.Stdin) && !a.quietOut() && !a.json
			if interactive {
				if s.journal != nil {
					s.view().CaseTakenUp(&s.Case)
				}
				return s.converse(noHistory)
			}
			return s.runScript(cmp.Or(script, "-"), goOn)
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&casePath, "case", "", "keep the session in `FILE`, or go on with the one that it holds")
	flags.StringVar(&script, "script", "", "run the lines in `FILE`; - is standard input")
	flags.BoolVar(&goOn, "go-on", false, "in a script, go on behind a line that cannot be understood")
	flags.BoolVar(&noHistory, "no-history", false, "do not keep the lines for the next session (with --lab they never are)")
	return cmd
}

// newShell is a session that begins; given are options that every command gets.
func newShell(a *app, given []string) *shell {
	a.standing = &standing{servers: map[string]exchange.Server{}}
	return &shell{app: a, given: given, chosen: chosen{}, seen: map[string]bool{}}
}

// openStanding opens what the lines share.
func (a *app) openStanding() error {
	if a.lab {
		client := &exchange.Client{}
		if err := a.enterLab(client); err != nil {
			return err
		}
		a.standing.simulation = a.simulation
	}
	return nil
}

func isTerminal(file *os.File) bool { return file != nil && term.IsTerminal(int(file.Fd())) }

// takeUp opens the case that --case names, and goes on with it.
func (s *shell) takeUp(path string) (err error) {
	if path == "" {
		return nil
	}
	if s.journal, err = s.files.Journal(path, false); err != nil {
		return fmt.Errorf("opening the case: %w", err)
	}
	if s.journal.Size() == 0 {
		return s.journal.Append(casework.Header(version()))
	}
	known, whole, err := casework.Read(s.journal.Reader())
	if err == nil {
		err = s.journal.Cut(whole)
	}
	if err != nil {
		return fmt.Errorf("opening the case %s: %w", path, err)
	}
	s.Case = *known
	s.standing.follow(known)
	for i := range known.Steps {
		s.learn(&known.Steps[i])
	}
	return nil
}

// end closes the case.
func (s *shell) end() {
	if s.journal != nil {
		s.journal.Close()
	}
}

// converse holds the session at a terminal.
func (s *shell) converse(noHistory bool) error {
	options := session.Options{Shell: s, In: s.files.Stdin, Out: s.stdout, Environ: s.environ, Hello: s.hello()}
	if !s.lab && !noHistory {
		if path := stateFile(s.environ, "history"); path != "" {
			history, err := s.files.Journal(path, true)
			if err == nil {
				defer history.Close()
				options.Earlier, options.Keep = session.ReadHistory(history.Reader()), history.Share
			}
		}
	}
	if s.colour == string(text.Auto) {
		s.colour = string(text.Never)
		if colorprofile.Detect(s.stdout, s.environ) > colorprofile.ASCII {
			s.colour = string(text.Always)
		}
	}
	options.Plain = s.colour == string(text.Never)
	return session.Run(s.ctx, options)
}

// stateFile is a file in the user's state folder; "" where there is none.
func stateFile(environ []string, name string) string {
	folder := getenv(environ, "XDG_STATE_HOME")
	home := getenv(environ, "HOME")
	switch {
	case folder != "":
	case runtime.GOOS == "windows":
		folder = getenv(environ, "LOCALAPPDATA")
	case home == "":
	case runtime.GOOS == "darwin":
		folder = filepath.Join(home, "Library", "Application Support")
	default:
		folder = filepath.Join(home, ".local", "state")
	}
	if folder == "" {
		return ""
	}
	return filepath.Join(folder, "unquil", name)
}

func (s *shell) hello() string {
	return "Type a name to look it up, help for what else can be typed, and Ctrl-D to end."
}

// runScript runs lines that nobody types. The error is the worst exit code.
func (s *shell) runScript(path string, goOn bool) error {
	file, err := s.files.Open(path)
	if err != nil {
		return fmt.Errorf("reading the lines: %w", err)
	}
	defer file.Close()
	s.script = true
	lines := bufio.NewScanner(reading{s.ctx, file})
	lines.Buffer(nil, maxTyped)
	for number := 1; lines.Scan() && !s.ended && s.ctx.Err() == nil; number++ {
		code := s.line(s.ctx, lines.Text(), s.stdout, s.stderr)
		if code == exitUsage && !goOn {
			fmt.Fprintf(s.stderr, "unquil: stopped at line %d: %s\n", number, typed(shorten(lines.Text())))
			break
		}
	}
	if err := lines.Err(); err != nil {
		return fmt.Errorf("reading the lines: %w", err)
	}
	if s.worst != exitDone {
		return exitCode(s.worst)
	}
	return nil
}

// maxTyped is how many bytes a line may have.
const maxTyped = 1 << 16

// Run runs a line that was typed, for [session.Shell].
func (s *shell) Run(ctx context.Context, line string, width int, out io.Writer) (end bool) {
	environ := s.environ
	s.environ = append([]string{fmt.Sprintf("COLUMNS=%d", width)}, environ...)
	s.line(ctx, line, out, out)
	s.environ = environ
	return s.ended
}

// Progress tells how far a line is, for [session.Shell].
func (s *shell) Progress() string {
	begun, ended := s.standing.progress()
	if begun == 0 {
		return "working"
	}
	return fmt.Sprintf("asked %d, waiting for %d", begun, begun-ended)
}

// Prompt says what is chosen, for [session.Shell].
func (s *shell) Prompt() string {
	from := s.chosen["from"]
	if from == "" {
		from = strings.Join(s.Ask.From, ", ")
	}
	if from == "" {
		from = "system"
	}
	types := cmp.Or(s.chosen["type"], strings.Join(addressTypes, ","))
	prompt := "ask " + readable(from) + " for " + readable(types)
	for _, name := range choices {
		value, is := s.chosen[name]
		switch {
		case !is || name == "from" || name == "type":
		case name == "over":
			prompt += " over " + strings.ToUpper(value)
		case value == "true":
			prompt += ", " + name
		case value == "false":
			prompt += ", no " + name
		default:
			prompt += ", " + name + " " + readable(value)
		}
	}
	return string(typed(ansi.Truncate(prompt, 60, "…"))) + ":"
}

// readable is a list with blanks in it.
func readable(list string) string { return strings.ReplaceAll(list, ",", ", ") }

// line runs one line, and returns its exit code.
func (s *shell) line(ctx context.Context, line string, out, errOut io.Writer) (code int) {
	defer func() { s.worst = worse(s.worst, code) }()
	words, err := splitLine(line)
	steps := len(s.Steps)
	chosen := maps.Clone(s.chosen)
	for rest := words; err == nil && len(rest) > 0 && ctx.Err() == nil && !s.ended; {
		var part []string
		part, rest = cutWord(rest, ";")
		if len(part) == 0 {
			continue
		}
		var c int
		c, err = s.part(ctx, line, part, out, errOut)
		code = worse(code, c)
	}
	if len(s.Steps) == steps && !maps.Equal(chosen, s.chosen) { // it did nothing but choose
		s.keepStep(casework.Step{At: s.now(), Line: typed(line)}, errOut)
		if s.json {
			s.document(out, map[string]any{"line": line, "chosen": s.chosen})
		}
	}
	if err == nil {
		return code
	}
	if s.json {
		next := &bytes.Buffer{}
		tell(next, err)
		s.document(out, map[string]any{"line": line, "error": strings.TrimSpace(next.String())})
	}
	tell(errOut, err)
	if errors.As(err, new(usageError)) {
		return exitUsage
	}
	return exitFailed
}

// cutWord cuts words at the first that ends with a mark, or is one.
func cutWord(words []string, mark string) (before, after []string) {
	for i, word := range words {
		if word == mark {
			return words[:i], words[i+1:]
		}
		if cut, ok := strings.CutSuffix(word, mark); ok {
			return append(words[:i:i], cut), words[i+1:]
		}
	}
	return words, nil
}

// worse is the worse of two exit codes.
func worse(a, b int) int {
	rank := map[int]int{exitDone: 0, exitFault: 1, exitFailed: 2, exitUsage: 3}
	if rank[b] > rank[a] {
		return b
	}
	return a
}

// document writes a document of the session itself.
func (s *shell) document(out io.Writer, result any) {
	d := data.Document{Unquil: version(), Command: "session", Result: result}
	var whole, line bytes.Buffer
	if d.Write(&whole) == nil && json.Compact(&line, whole.Bytes()) == nil {
		fmt.Fprintln(out, line.String())
	}
}

// run runs one command, and keeps what it came to as a step of the case.
func (s *shell) run(ctx context.Context, line string, args []string, out, errOut io.Writer) int {
	if s.script && s.shown && !s.json {
		fmt.Fprintln(out)
	}
	s.shown = true
	a, said, code := s.execute(ctx, args, out, errOut)
	step := casework.Step{At: s.now(), Line: typed(line), Said: said, Exit: code, Findings: a.told.findings}
	if a.session != nil {
		step.Args = args
		step.Exchanges = a.session.Exchanges()
		if begun, _ := a.session.Progress(); begun > len(step.Exchanges) {
			step.Left = begun - len(step.Exchanges)
		}
	}
	s.markAnswers(step.Exchanges)
	if !s.json && !inline[args[0]] {
		s.viewOn(out).MarkList(&s.standing.marks, s.toldBy(a.told.findings, step.Exchanges))
	}
	s.keepStep(step, errOut)
	return code
}

// inline are the commands whose answers show the marks themselves.
var inline = map[string]bool{"ask": true, "reverse": true, "mail": true, "owner": true}

// execute runs one command of the program within the session, and returns what it showed.
func (s *shell) execute(ctx context.Context, args []string, out, errOut io.Writer) (*app, escape.Text, int) {
	all := append([]string{"--color", s.colour}, s.given...)
	if s.json {
		all = append(all, "--json")
	}
	var said bytes.Buffer
	stdout := io.Writer(&said)
	if !s.json {
		stdout = teed(out, &said)
	}
	a := &app{ctx: ctx, files: s.files, stdout: stdout, stderr: errOut, environ: s.environ, args: append(all, args...), standing: s.standing}
	code := a.execute()
	s.standing.end(a.session)
	if !s.json {
		return a, escape.Text(ansi.Strip(said.String())), code
	}
	var line bytes.Buffer
	if json.Compact(&line, said.Bytes()) == nil {
		line.WriteByte('\n')
		line.WriteTo(out)
	} else {
		out.Write(said.Bytes()) // a line each already
	}
	return a, "", code
}

// tee writes to two places. Over a stream of the process it stays one, so that what looks for
// a terminal finds it.
type tee struct {
	outlet
	copy *bytes.Buffer
}

func (t tee) Write(b []byte) (int, error) {
	t.copy.Write(b)
	return t.outlet.Write(b)
}

// WriteString is Write.
func (t tee) WriteString(s string) (int, error) { return t.Write([]byte(s)) }

func teed(out io.Writer, copy *bytes.Buffer) io.Writer {
	if o, ok := out.(outlet); ok {
		return tee{o, copy}
	}
	return io.MultiWriter(out, copy)
}

// markAnswers gives marks to what the answers among exchanges tell of.
func (s *shell) markAnswers(exchanges []exchange.Exchange) {
	for i := range exchanges {
		if exchanges[i].Outcome == exchange.Answered {
			s.standing.mark(&exchanges[i])
		}
	}
}

// toldBy are the marks of what a run told of in the end: what its findings are about, what was
// answered to its question, and by whom.
func (s *shell) toldBy(findings []finding.Finding, exchanges []exchange.Exchange) (marks []int) {
	m := &s.standing.marks
	add := func(mark int) {
		if mark != 0 && !slices.Contains(marks, mark) {
			marks = append(marks, mark)
		}
	}
	host := func(text string) {
		if name, err := wire.ParseName(text); err == nil && text != "" {
			add(m.Host(name))
		}
	}
	for i := range exchanges {
		e := &exchanges[i]
		if e.Outcome != exchange.Answered || !slices.ContainsFunc(s.names, func(name string) bool { return strings.TrimSuffix(name, ".") == e.Question.Name.Spoken() }) {
			continue
		}
		if host(e.Server.Host); e.Server.Host == "" {
			add(m.Address(e.Server.Address.Addr()))
		}
		for _, r := range e.Answer().Records {
			if target, ok := r.Target(); ok {
				add(m.Host(target))
			}
			if a, ok := r.Address(); ok {
				add(m.Address(a))
			}
		}
	}
	for _, f := range findings {
		host(f.About.Server)
		if a, err := netip.ParseAddr(f.About.Address); err == nil && f.About.Server == "" {
			add(m.Address(a))
		}
	}
	slices.Sort(marks)
	return marks
}

// keepStep adds a step to the case, and to its file.
func (s *shell) keepStep(step casework.Step, errOut io.Writer) {
	added := s.Add(step)
	s.learn(added)
	if s.journal == nil {
		return
	}
	line, err := added.Marshal()
	if err == nil {
		err = s.journal.Append(line)
	}
	if err != nil {
		tell(errOut, fmt.Errorf("keeping the case: %w", err))
		s.worst = worse(s.worst, exitFailed)
	}
}

// learn keeps the names and addresses of a step: they can be completed, and the last are taken
// where a line gives none.
func (s *shell) learn(step *casework.Step) {
	var addresses []string
	for i := range step.Exchanges {
		e := &step.Exchanges[i]
		s.seen[e.Question.Name.Spoken()] = true
		if e.Reply == nil {
			continue
		}
		for _, section := range [][]wire.Record{e.Reply.Answer, e.Reply.Authority} {
			for _, r := range section {
				if host, ok := r.Target(); ok && len(s.seen) < maxSeen {
					s.seen[host.Spoken()] = true
				}
			}
		}
		for _, r := range e.Answer().Records {
			if a, ok := r.Address(); ok && len(addresses) < maxAgain {
				addresses = append(addresses, a.String())
			}
		}
	}
	if len(addresses) > 0 {
		s.addresses = addresses
	}
}

// Bounds on what a session remembers to help with typing.
const (
	maxSeen  = 5_000
	maxAgain = 16
)

// viewOn draws on one place.
func (s *shell) viewOn(out io.Writer) *text.View {
	width := columns(out, s.environ)
	view := text.New(out, width, text.Colour(s.colour), s.environ)
	view.Whole = width == 0
	return view
}
