// Package hostile attacks the built program: with files that are in the way, with
// captures and servers that mean harm, and with interrupts at bad moments. All of it
// is bounded, and on loopback.
package hostile

import (
	"bytes"
	"context"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unquil/test/built"
	_ "unquil/ui/cli" // a change of the program makes remembered results of its tests void
)

var program string

func TestMain(m *testing.M) { built.Main(m, &program) }

// limit is how long any run may take; none comes near it.
const limit = time.Minute

// setting is where and how the program runs.
type setting struct {
	folder string
	stdin  io.Reader
	env    []string
}

type outcome struct {
	stdout, stderr string
	code           int
}

// start returns the program as a command, in a folder of its own, asking the lab.
func (s setting) start(ctx context.Context, args ...string) (cmd *exec.Cmd, stdout, stderr *bytes.Buffer) {
	cmd = exec.CommandContext(ctx, program, args...)
	cmd.Dir, cmd.Stdin = s.folder, s.stdin
	temp := filepath.Join(s.folder, "tmp")
	os.MkdirAll(temp, 0o700)
	cmd.Env = append([]string{"HOME=" + s.folder, "TMPDIR=" + temp, "UNQUIL_LAB=1"}, s.env...)
	stdout, stderr = &bytes.Buffer{}, &bytes.Buffer{}
	cmd.Stdout, cmd.Stderr = stdout, stderr
	return cmd, stdout, stderr
}

func (s setting) run(t testing.TB, args ...string) outcome {
	t.Helper()
	ctx, stop := context.WithTimeout(t.Context(), limit)
	defer stop()
	cmd, stdout, stderr := s.start(ctx, args...)
	err := cmd.Run()
	if _, ended := err.(*exec.ExitError); !ended {
		require.NoError(t, err)
	}
	require.NoError(t, ctx.Err(), "it did not end")
	return outcome{stdout.String(), stderr.String(), cmd.ProcessState.ExitCode()}
}

// put writes a file into the folder and returns its path.
func (s setting) put(t testing.TB, name string, content []byte) string {
	t.Helper()
	path := filepath.Join(s.folder, name)
	require.NoError(t, os.WriteFile(path, content, 0o644))
	return path
}

// files are the names in the folder, those of temporary files too.
func (s setting) files(t testing.TB) (names []string) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(s.folder, func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			name, _ := filepath.Rel(s.folder, path)
			names = append(names, name)
		}
		return err
	}))
	return names
}
