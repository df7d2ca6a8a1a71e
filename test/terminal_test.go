package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// terminal is a real terminal that the program runs in: a window of tmux.
type terminal struct {
	t      *testing.T
	socket string
}

// terminalOf starts the program in a terminal of some size; the test is skipped where there is
// no tmux.
func terminalOf(t *testing.T, columns, rows int, environ []string, args ...string) *terminal {
	t.Helper()
	if _, err := exec.LookPath("tmux"); err != nil {
		t.Skip("skipped: the program is tried in a terminal where tmux is installed")
	}
	// A socket's path must be short, and that of a test's own folder need not be.
	folder, err := os.MkdirTemp("", "unquil-tmux-")
	require.NoError(t, err)
	x := &terminal{t, filepath.Join(folder, "s")}
	command := "env"
	for _, pair := range append([]string{"UNQUIL_LAB=1", "HOME=" + t.TempDir(), "TERM=tmux-256color"}, environ...) {
		command += " '" + pair + "'"
	}
	command += " '" + program + "'"
	for _, a := range args {
		command += " '" + a + "'"
	}
	t.Cleanup(func() { exec.Command("tmux", "-S", x.socket, "kill-server").Run(); os.RemoveAll(folder) })
	x.tmux("-f", "/dev/null", "new-session", "-d", "-x", strconv.Itoa(columns), "-y", strconv.Itoa(rows), "-s", "s", command+"; echo it ended with $?; sleep 60")
	return x
}

func (x *terminal) tmux(args ...string) string {
	x.t.Helper()
	out, err := exec.Command("tmux", append([]string{"-S", x.socket}, args...)...).CombinedOutput()
	require.NoError(x.t, err, "%v: %s", args, out)
	return string(out)
}

// keys presses keys: those that tmux knows by a name, anything else is typed.
func (x *terminal) keys(list ...string) {
	x.t.Helper()
	x.tmux(append([]string{"send-keys", "-t", "s"}, list...)...)
}

func (x *terminal) screen() string { return x.tmux("capture-pane", "-p", "-t", "s") }

// sees waits until the screen shows something; what is looked for may be wrapped.
func (x *terminal) sees(parts ...string) {
	x.t.Helper()
	missing := ""
	for range 400 {
		missing = ""
		shown := words(x.screen())
		for _, part := range parts {
			if !strings.Contains(shown, part) {
				missing = part
			}
		}
		if missing == "" {
			return
		}
		time.Sleep(25 * time.Millisecond)
	}
	require.Fail(x.t, "not on the screen: "+missing, "%s", x.screen())
}

var sizes = [][2]int{{80, 24}, {120, 40}}

func eachSize(t *testing.T, test func(t *testing.T, columns, rows int)) {
	for _, size := range sizes {
		t.Run(fmt.Sprintf("%dx%d", size[0], size[1]), func(t *testing.T) {
			t.Parallel()
			test(t, size[0], size[1])
		})
	}
}

func TestSessionInATerminal(t *testing.T) {
	eachSize(t, func(t *testing.T, columns, rows int) {
		x := terminalOf(t, columns, rows, nil, "session")
		x.sees("Type a name to look it up", "ask system for A, AAAA:")
		x.keys("fr", "Tab", "roo", "Tab", "Enter")
		x.sees("ask root for A, AAAA:")
		x.keys("tickets.hollowtarn.example", "Enter")
		x.sees("refers to the servers of example first.registry.test [1] at 198.51.100.11 [2]", "authority none: a referral")
		x.keys("from 1 ask", "Enter")
		x.sees("refers to the servers of hollowtarn.example dns1.hollowtarn.example [8]")
		x.keys("from 8 ask", "Enter")
		x.sees("A 203.0.113.140 [", "authority the zone's own server", "ask dns1.hollowtarn.example for A, AAAA:")
		x.keys("Up", "Up")
		x.sees("AAAA: from 1 ask")
		x.keys("C-c", "trcae x.example", "Enter")
		x.sees("did you mean trace?")
		x.keys("from kiosk; wait 1m; attempts 1", "Enter")
		x.sees("ask kiosk for A, AAAA, wait 1m, attempts 1:")
		x.keys("www.hollowtarn.example", "Enter")
		x.sees("asked 2, waiting for 2; Ctrl-C ends it")
		x.keys("C-c")
		x.sees("unknown: interrupted before a reply")
		x.keys("from office; usual", "Enter")
		x.sees("ask system for A, AAAA:")
		x.keys("C-d")
		x.sees("it ended with 0")
	})
}

// Browsing fits its screen, whatever that becomes, and leaves it as it was.
func TestBrowseInATerminal(t *testing.T) {
	eachSize(t, func(t *testing.T, columns, rows int) {
		folder := t.TempDir()
		x := terminalOf(t, columns, rows, nil, "browse", "valley-morning.pcapng")
		x.sees("valley-morning.pcapng / findings", "17 findings in 360 exchanges", "> fault 192.0.2.53 failed 4 times")
		x.keys("Enter")
		x.sees("/ findings / failed", "> 13 07:40:14.000 summit.camera.hollowtarn.example A")
		x.keys("Enter")
		x.sees("/ exchange 13", "question reply", "packet 30 at 07:40:14.000000", "Ethernet") // which is read after the rest
		x.keys("Enter", "Down", "Down", "Down", "Down")
		x.sees("/ exchange 13 / bytes", "header: flags, bytes 44 to 45")
		x.keys("BSpace", "BSpace", "/", "took > 1s")
		x.sees("narrow failed to: took > 1s", "1 exchange left")
		x.keys("Enter", "Space", "w", filepath.Join(folder, "one.csv"))
		x.sees("write 1 marked exchange to")
		x.keys("Enter")
		x.sees("1 exchange written to")
		x.tmux("resize-window", "-t", "s", "-x", "60", "-y", "20")
		x.sees("1 exchange where took > 1s")
		for _, line := range strings.Split(x.screen(), "\n") {
			assert.LessOrEqual(t, len([]rune(line)), 60)
		}
		x.keys("q")
		x.sees("it ended with 0")
		assert.NotContains(t, x.screen(), "findings", "the screen is as it was before")
		rows2, err := os.ReadFile(filepath.Join(folder, "one.csv"))
		require.NoError(t, err)
		assert.Contains(t, string(rows2), "summit.camera.hollowtarn.example")
	})
}

// Names that somebody types are not painted over, and one Ctrl-C is enough.
func TestNamesTypedInATerminal(t *testing.T) {
	x := terminalOf(t, 80, 24, nil, "ask", "--names", "-", "--type", "A", "--from", "office")
	x.keys("web.hollowtarn.example", "Enter")
	x.sees("A 203.0.113.120", "answered by office")
	x.keys("bad..name", "Enter")
	x.sees("empty label")
	time.Sleep(400 * time.Millisecond) // in which progress would be painted
	assert.NotContains(t, x.screen(), "waiting for")
	x.keys("C-c")
	x.sees("it ended with 1")
}
