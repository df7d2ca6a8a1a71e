package cli

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"

	"github.com/spf13/cobra"

	"unquil/ui/text"
)

// scene is one complaint of the morning: what is typed, and what it teaches.
type scene struct {
	said    string
	command []string
	learned string
	lines   []string // that are typed in a session
	matters []string // what the lines that are shown of it in any case have in them
}

var scenes = []scene{
	{
		said:    "First, a name that works: what does a good answer look like?",
		command: []string{"ask", "www.hollowtarn.example"},
		learned: "The answer comes first, then who gave it, on whose authority and for how long. This one is healthy.",
	},
	{
		said:    "\"The valley station cannot sell tickets.\" Does everybody get the same answer?",
		command: []string{"compare", "tickets.hollowtarn.example", "--type", "A", "--from", "office,isp", "--zone-servers"},
		matters: []string{"differs       203.0.113.80", "office  ", "203.0.113.77"},
		learned: "The shop has moved. The office resolver still hands out the old address, and so does one of the zone's own servers, which missed the move.",
	},
	{
		said:    "Who is that server, and how did we get to it?",
		command: []string{"trace", "tickets.hollowtarn.example"},
		matters: []string{"dns1.hollowtarn.example  answers 203.0.113.140 (203", "ns.farhost.test          answers", "2026030701, "},
		learned: "The walk goes from the root down to the zone's three servers; ns.farhost.test has an older serial.",
	},
	{
		said:    "And by hand, without copying an address? The numbers in square brackets stand for what they follow.",
		command: []string{"session"},
		lines:   []string{"from root", "type a tickets.hollowtarn.example", "from 1 ask", "from 8 ask", "from 13 ask", "note \"ns.farhost.test still has the old address\""},
		matters: []string{"from 8 ask", "from 13 ask", "A            203.0.113."},
		learned: "Two servers of one zone give two addresses. A session keeps every exchange, and report or keep hand them over with the notes.",
	},
	{
		said:    "So why does the valley station fail?",
		command: []string{"why", "tickets.hollowtarn.example", "--type", "A", "--from", "office"},
		learned: "The lagging secondary is at fault: the office resolver only repeats what it says. It would go on so for more than a week.",
	},
	{
		said:    "\"The lift status page is gone.\"",
		command: []string{"why", "status.lifts.hollowtarn.example", "--type", "A"},
		learned: "Neither of the servers that the zone is delegated to serves it: the zone's operator has to fix that, not we.",
	},
	{
		said:    "\"The summit camera shows nothing.\"",
		command: []string{"why", "summit.camera.hollowtarn.example", "--type", "A", "--wait", "500ms"},
		learned: "Neither server of the camera's zone replies, and there is no other way in.",
	},
	{
		said:    "\"The newsletter comes back.\"",
		command: []string{"mail", "hollowtarn.example"},
		matters: []string{"has no SPF record ("},
		learned: "The provider that sends the newsletter has given up the name that our SPF record includes: all of the record is void, for our own mail too.",
	},
	{
		said:    "\"Guests cannot book the summit huts since midnight.\"",
		command: []string{"why", "summit-huts.example", "--type", "A"},
		learned: "Nobody renewed the domain: that is a matter for its holder and the registrar, and there is a date until when it can be mended.",
	},
	{
		said:    "\"The gates refuse season passes.\" At ours they open; a customer of the public resolver is at a loss.",
		command: []string{"why", "valley.gates.hollowtarn.example", "--type", "A", "--from", "public"},
		learned: "The zone's signatures ran out at six o'clock. A resolver that validates refuses its answers, and all others never notice.",
	},
	{
		said:    "And the address that the old ticket shop has: whose network is that?",
		command: []string{"owner", "203.0.113.80"},
		learned: "The hosting company's: the abuse and technical contacts are those to write to.",
	},
	{
		said:    "\"The till's program hangs when it starts.\" What does it look up, and what does that cost?",
		command: []string{"listen", "--while", "ask --bare tickets.hollowtarn.example status.lifts.hollowtarn.example summit.camera.hollowtarn.example --type A --wait 500ms"},
		learned: "Two of the three names that it asks for fail, and nearly all of its time goes into waiting for one of them. On a real machine, listen does the same with any command.",
	},
	{
		said:    "The valley station's switch recorded that morning. What is in the capture?",
		command: []string{"decode", "valley-morning.pcapng"},
		learned: "The camera and the lift status page fail at the office resolver, a resolver in the waiting room never answers, and another answers for a name that does not exist.",
	},
	{
		said:    "Which look-ups cost people time, misspelled names aside?",
		command: []string{"decode", "valley-morning.pcapng", "--view", "exchanges", "--where", "(took > 1s or has finding unanswered) and not outcome = no-name"},
		learned: "A condition chooses exchanges by what they were and what was found about them; it works with every view, with --csv, and with --to for a capture of their packets.",
	},
	{
		said:    "The zone's operator wants evidence. What do we hand over?",
		command: []string{"why", "tickets.hollowtarn.example", "--type", "A", "--from", "office", "--report", reportName},
		learned: "One self-contained page, with the verdict at the top and every byte below, and the packets in a capture next to it.",
	},
}

// reportName is the demo's report; it is written to a folder for temporary files.
const reportName = "tickets.html"

const handOver = `To hand over:
  to the zone's operator: ns.farhost.test misses updates of hollowtarn.example;
    lifts.hollowtarn.example is delegated to servers that do not serve it;
    the SPF record of hollowtarn.example has to include _spf.lanternpost.test.
  to the Summit Huts Association: summit-huts.example has to be renewed at its
    registrar by 23 March.
  to whoever signs gates.hollowtarn.example: its signatures ran out at 06:00.
  to whoever runs the office resolver: once ns.farhost.test is up to date, clear
    tickets.hollowtarn.example from the cache.
  to whoever runs the camera's servers: 203.0.113.151 and 203.0.113.152 do not reply.
  The report and its capture are in %s.`

// newDemo is `unquil demo`.
func newDemo(a *app) *cobra.Command {
	d := &tour{}
	cmd := &cobra.Command{
		Use:     "demo",
		Short:   "A guided tour on the simulated internet",
		Example: "  unquil demo\n  unquil demo --step 5\n  unquil demo --pause",
		Args:    taking(0, 0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if d.step < 0 || d.step > len(scenes) {
				return usage(fmt.Errorf("--step %d: %w", d.step, errStep))
			}
			return a.demo(cmd.Context(), d)
		},
	}
	cmd.Flags().IntVar(&d.step, "step", 0, "only the step with this `NUMBER`, with all of its output")
	cmd.Flags().BoolVar(&d.pause, "pause", false, "wait for Enter after each step")
	return cmd
}

// tour is what a run of the demo was asked for.
type tour struct {
	step  int  // 0: all
	pause bool // after each
}

// sceneLines is how many lines of its output a step shows: with what stands around them they fit a terminal of 24.
const sceneLines = 10

func (a *app) demo(ctx context.Context, d *tour) error {
	view := a.view()
	if d.step == 0 {
		if err := view.Story(); err != nil {
			return err
		}
	}
	typed := bufio.NewReader(a.files.Stdin)
	// What a step draws goes through a screen, which is no terminal by itself.
	width := cmp.Or(a.width, columns(a.stdout, a.environ), 80)
	colour := a.colour
	if text.Colour(colour) == text.Auto {
		colour = string(map[bool]text.Colour{true: text.Always, false: text.Never}[text.Coloured(a.stdout, a.environ)])
	}
	folder, err := os.MkdirTemp("", "unquil-demo-")
	if err != nil {
		return fmt.Errorf("making a folder for the report: %w", err)
	}
	for i, s := range scenes {
		if d.step != 0 && d.step != i+1 {
			continue
		}
		view.Scene(i+1, len(scenes), s.said, s.command)
		if err := view.Err(); err != nil {
			return err
		}
		args := append([]string{"--lab", "--color", colour, "--width", strconv.Itoa(width)}, s.command...)
		if last := len(args) - 1; args[last] == reportName {
			args[last] = filepath.Join(folder, reportName)
		}
		shown := &text.Screen{Most: sceneLines, Matters: s.matters, W: a.stdout}
		if d.step != 0 {
			shown.Most = 0
		}
		code := exitDone
		if s.lines != nil {
			code = a.demoSession(ctx, shown, width, colour, s.lines)
		} else {
			code = command(ctx, a.files, args, shown, a.stderr, a.environ)
		}
		if err := shown.Close(); err != nil {
			return err
		}
		if code != exitDone && code != exitFault {
			return fmt.Errorf("demo, scene %d: exit code %d", i+1, code)
		}
		view.Learned(s.learned)
		if d.pause && i+1 < len(scenes) && d.step == 0 {
			fmt.Fprint(a.stderr, "[Enter]")
			if _, err := typed.ReadString('\n'); err != nil || ctx.Err() != nil {
				return ctx.Err() // nobody is there any more
			}
		}
	}
	if d.step != 0 {
		return view.Err()
	}
	view.Say(fmt.Sprintf(handOver, folder))
	return view.Err()
}

// demoSession plays a session: each line behind the prompt that it would be typed at.
func (a *app) demoSession(ctx context.Context, shown io.Writer, width int, colour string, lines []string) (code int) {
	view := text.New(shown, width, text.Colour(colour), a.environ)
	own := &app{ctx: ctx, files: a.files, stdout: shown, stderr: a.stderr, environ: a.environ, labOptions: labOptions{lab: true, speed: 1}, showOptions: showOptions{colour: colour, width: width}}
	s := newShell(own, []string{"--lab"})
	if err := own.openStanding(); err != nil {
		tell(a.stderr, err)
		return exitFailed
	}
	defer own.simulation.Close()
	for _, line := range lines {
		view.Typed(s.Prompt(), line)
		code = worse(code, s.line(ctx, line, shown, a.stderr))
	}
	return code
}
