package cli

import (
	"context"
	"os"
	"os/exec"
	"runtime"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"unquil/core/live"
)

// socketsCommand is the word for this program to tell another of its processes whose sockets are.
const socketsCommand = "socket-owners"

// newSocketOwners is `unquil socket-owners`, which listen runs by itself.
func newSocketOwners(a *app) *cobra.Command {
	return &cobra.Command{
		Use: socketsCommand, Hidden: true, Args: taking(0, 0),
		RunE: func(*cobra.Command, []string) error {
			return (&live.Sockets{Proc: os.DirFS("/proc")}).Serve(a.files.Stdin, a.stdout)
		},
	}
}

// shellCommand is a command as a shell reads it. When ctx ends it is asked to end too, and made to
// a moment later.
func shellCommand(ctx context.Context, text string) *exec.Cmd {
	shell, option := "/bin/sh", "-c"
	if runtime.GOOS == "windows" {
		shell, option = "cmd", "/C"
	}
	cmd := exec.CommandContext(ctx, shell, option, text)
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	cmd.WaitDelay = time.Second / 2
	return cmd
}
