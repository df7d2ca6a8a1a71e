// Package namespaces tries the program on a network of its own: two network namespaces of the
// system, with a cable between them. It takes root, and sends nothing elsewhere.
package namespaces

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unquil/test/built"
)

// program is the built one.
var program string

// role says as what the test's own process runs: "" is the ordinary one, outside of the namespaces.
const role = "UNQUIL_TEST_ROLE"

// roles are what else it can be.
var roles = map[string]func() error{"far": serveFar, "resolve": resolve}

func TestMain(m *testing.M) {
	if f := roles[os.Getenv(role)]; f != nil {
		if err := f(); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	if program = os.Getenv("UNQUIL_TEST_PROGRAM"); program != "" {
		os.Exit(m.Run())
	}
	built.Main(m, &program)
}

// as is the test's own program in a role, in network and mount namespaces of its own if wanted.
func as(what string, apart bool, args ...string) *exec.Cmd {
	cmd := exec.Command("/proc/self/exe", args...)
	cmd.Env = append(os.Environ(), role+"="+what, "UNQUIL_TEST_PROGRAM="+program)
	if apart {
		cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET | syscall.CLONE_NEWNS, Pdeathsig: syscall.SIGKILL}
	}
	return cmd
}

// TestInNamespaces runs all others of this package inside.
func TestInNamespaces(t *testing.T) {
	if os.Getenv(role) != "" {
		t.Skip("this is inside")
	}
	if os.Geteuid() != 0 {
		t.Skip("namespaces of the network take root")
	}
	if _, err := exec.LookPath("ip"); err != nil {
		t.Skip("the program ip (iproute2) sets the namespaces up, and is not here")
	}
	which := "^TestListen|^TestWhy"
	if os.Getenv("UNQUIL_MEASURE") != "" {
		which = "^TestLoss"
	}
	args := []string{"-test.v", "-test.run=" + which}
	if testing.Short() {
		args = append(args, "-test.short")
	}
	cmd := as("inside", true, args...)
	out, err := cmd.CombinedOutput()
	if errors.Is(err, syscall.EPERM) {
		t.Skipf("this machine allows no namespaces: %v", err)
	}
	t.Logf("%s", out)
	require.NoError(t, err)
}

// inside skips a test that is run outside, and lays the cable once.
func inside(t *testing.T) {
	if os.Getenv(role) != "inside" {
		t.Skip("TestInNamespaces runs it inside")
	}
	if len(cables) == 0 {
		require.NoError(t, lay(t))
	}
}

// lay sets the far end up, and a cable to it.
func lay(t *testing.T) error {
	sh(t, "ip link set lo up")
	far := as("far", true)
	far.Stderr = os.Stderr
	in, err := far.StdinPipe()
	require.NoError(t, err)
	out, err := far.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, far.Start())
	cables = append(cables, in)
	sh(t, fmt.Sprintf("ip link add near type veth peer name far netns %d && ip addr add 192.0.2.1/24 dev near && ip -6 addr add 2001:db8::1/64 dev near nodad && ip link set near up", far.Process.Pid))
	ready := make([]byte, 5)
	if _, err := out.Read(ready); err != nil || string(ready) != "ready" {
		return fmt.Errorf("the far end: %q %w", ready, err)
	}
	return nil
}

// cables are held as long as the far ends are to live.
var cables []any

func sh(t *testing.T, command string) string {
	t.Helper()
	out, err := exec.Command("sh", "-ec", command).CombinedOutput()
	require.NoError(t, err, "%s: %s", command, out)
	return string(out)
}

// has reports whether a command of the shell works here.
func has(command string) bool { return exec.Command("sh", "-c", command).Run() == nil }

// listener is a run of listen that goes on until it is ended.
type listener struct {
	cmd            *exec.Cmd
	stdout, stderr strings.Builder
}

// listen begins to listen, and returns once it does.
func listen(t *testing.T, args ...string) *listener {
	l := &listener{cmd: exec.Command(program, append([]string{"listen"}, args...)...)}
	l.cmd.Env = []string{"HOME=" + t.TempDir(), "PATH=" + os.Getenv("PATH")}
	l.cmd.Stdout, l.cmd.Stderr = &l.stdout, &l.stderr
	require.NoError(t, l.cmd.Start())
	t.Cleanup(func() { l.cmd.Process.Kill() })
	for range 200 {
		if sockets := sh(t, "cat /proc/net/packet"); strings.Count(sockets, "\n") >= 3 { // a heading, and the two of it
			return l
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Fatalf("it does not listen: %s", l.stderr.String())
	return nil
}

// end ends it as Ctrl-C does, and returns its exit code.
func (l *listener) end(t *testing.T) int {
	require.NoError(t, l.cmd.Process.Signal(syscall.SIGINT))
	return l.wait()
}

func (l *listener) wait() int {
	l.cmd.Wait()
	return l.cmd.ProcessState.ExitCode()
}

// unquil runs the program to its end.
func unquil(t *testing.T, args ...string) (stdout, stderr string, code int) {
	cmd := exec.Command(program, args...)
	cmd.Env = []string{"HOME=" + t.TempDir(), "PATH=" + os.Getenv("PATH")}
	var out, errOut strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &errOut
	cmd.Run()
	return out.String(), errOut.String(), cmd.ProcessState.ExitCode()
}
