//go:build unix

package hostile

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// morning is a folder with the lab's captures in it, one of them as own.pcapng.
func morning(t *testing.T) (s setting, own []byte) {
	s.folder = t.TempDir()
	require.Zero(t, s.run(t, "lab", "export", "lab").code)
	own, err := os.ReadFile(filepath.Join(s.folder, "lab", "captures", "valley-morning.pcapng"))
	require.NoError(t, err)
	s.put(t, "own.pcapng", own)
	return s, own
}

// Whatever stands where an output is to go stays as it was, and so does what is read.
func TestOutputsDestroyNothing(t *testing.T) {
	for _, tt := range []struct {
		name string
		make func(t *testing.T, s setting) // what is in the way
		args string
		kept string // the file that has to stay as it was; "" for own.pcapng
		want string // on standard error
	}{
		{"packets to the capture itself", nil, "decode own.pcapng --to own.pcapng", "", "it is being read"},
		{"the same, and overwriting", nil, "decode own.pcapng --to own.pcapng --overwrite", "", "it is being read"},
		{"by another path", nil, "decode own.pcapng --to ./lab/../own.pcapng --overwrite", "", "it is being read"},
		{"by a hard link", link(os.Link, "own.pcapng", "other.pcapng"), "decode own.pcapng --to other.pcapng --overwrite", "", "it is being read"},
		{"by a symbolic link", link(os.Symlink, "own.pcapng", "other.pcapng"), "decode own.pcapng --to other.pcapng --overwrite", "", "it is being read"},
		{"one of several captures", nil, "decode lab/captures/loop.pcap own.pcapng --to own.pcapng --overwrite", "", "it is being read"},
		{"a report whose capture would be it", nil, "decode own.pcapng --report own.html", "", "it is being read"},
		{"a verdict's report whose capture would be it", nil, "why --capture own.pcapng --report own.html --overwrite", "", "it is being read"},
		{"a report whose capture is another file", file("x.pcapng"), "why tickets.hollowtarn.example --report x.html", "x.pcapng", "it exists already"},
		{"a report", file("x.md"), "trace www.hollowtarn.example --report x.md", "x.md", "it exists already"},
		{"evidence", file("notes.txt"), "ask www.hollowtarn.example --keep notes.txt", "notes.txt", "it exists already"},
		{"evidence through a link", func(t *testing.T, s setting) {
			file("notes.txt")(t, s)
			link(os.Symlink, "notes.txt", "x.pcapng")(t, s)
		}, "ask www.hollowtarn.example --keep x.pcapng", "notes.txt", "it exists already"},
		{"evidence through a link to nothing", link(os.Symlink, "planted", "x.pcapng"), "ask www.hollowtarn.example --keep x.pcapng --overwrite", "", "a symbolic link to a file that is not there"},
		{"a folder", nil, "ask www.hollowtarn.example --keep lab --overwrite", "", "it is a folder"},
		{"a zone", file("x.zone"), "transfer hollowtarn.example --from ns.farhost.test --to x.zone", "x.zone", "it exists already"},
		{"a zone's earlier part", file("x.zone.part"), "transfer hollowtarn.example --from ns.farhost.test --to x.zone", "x.zone.part", "it exists already"},
		{"a zone that is read too", file("x.zone"), "transfer hollowtarn.example --from ns.farhost.test --to x.zone --against x.zone --overwrite", "x.zone", "it is being read"},
		{"names that are read too", file("x.pcapng"), "ask --names x.pcapng --keep x.pcapng --overwrite", "x.pcapng", "it is being read"},
		{"a configuration", file("x.toml"), "ask www.hollowtarn.example --config x.toml --keep x.toml --overwrite", "x.toml", "it is being read"},
		{"two outputs of one name", nil, "why tickets.hollowtarn.example --report x.html --keep x.pcapng", "", "two outputs have this name"},
		{"the lab", file("lab/scenario.toml"), "lab export lab", "lab/scenario.toml", "it exists already"},
		{"a folder that is not there", nil, "ask www.hollowtarn.example --keep gone/x.pcapng", "", "its folder is not there"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			s, own := morning(t)
			if tt.make != nil {
				tt.make(t, s)
			}
			before := s.files(t)
			o := s.run(t, strings.Fields(tt.args)...)
			assert.Equal(t, 1, o.code, o.stderr)
			assert.Contains(t, o.stderr, tt.want)
			assert.Contains(t, o.stderr, "next: ")
			assert.Empty(t, o.stdout, "nobody is asked anything")
			assert.Equal(t, before, s.files(t), "nothing came and nothing went")
			kept := "# remark\n"
			if tt.kept == "" {
				tt.kept, kept = "own.pcapng", string(own)
			}
			got, err := os.ReadFile(filepath.Join(s.folder, tt.kept))
			require.NoError(t, err)
			assert.Equal(t, kept, string(got))
		})
	}
}

func file(name string) func(*testing.T, setting) {
	return func(t *testing.T, s setting) { s.put(t, name, []byte("# remark\n")) }
}

func link(how func(old, new string) error, old, new string) func(*testing.T, setting) {
	return func(t *testing.T, s setting) {
		require.NoError(t, how(filepath.Join(s.folder, old), filepath.Join(s.folder, new)))
	}
}

// With --overwrite a file is replaced whole, and what is made of a private file is private.
func TestOutputsThatAreWanted(t *testing.T) {
	s, _ := morning(t)
	s.put(t, "x.pcapng", []byte("remark"))
	require.NoError(t, os.Chmod(filepath.Join(s.folder, "own.pcapng"), 0o600))
	o := s.run(t, "decode", "own.pcapng", "--to", "x.pcapng", "--overwrite")
	require.Contains(t, []int{0, 3}, o.code, o.stderr)
	info, err := os.Stat(filepath.Join(s.folder, "x.pcapng"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "no wider than what it was made of")
	assert.Greater(t, info.Size(), int64(1000))
	assert.Contains(t, []int{0, 3}, s.run(t, "decode", "x.pcapng").code)

	o = s.run(t, "decode", "own.pcapng", "--to", "-")
	assert.Contains(t, o.stderr, "written to -", "what a person reads is out of the way")
	s.stdin = strings.NewReader(o.stdout)
	assert.Contains(t, s.run(t, "decode", "-").stdout, "exchanges")
	s.stdin = nil
	o = s.run(t, "transfer", "hollowtarn.example", "--from", "ns.farhost.test", "--to", "-")
	assert.Contains(t, o.stdout, " SOA ")
	assert.Equal(t, 2, s.run(t, "decode", "own.pcapng", "--to", "-", "--json").code)
	require.Zero(t, s.run(t, "ask", "www.hollowtarn.example", "--over", "https", "--keep", "https.pcapng").code)
	assert.Contains(t, s.run(t, "decode", "https.pcapng").stdout, "2 exchanges", "what travelled encrypted is evidence too")
	require.Zero(t, s.run(t, "ask", "www.hollowtarn.example", "--over", "quic", "--keep", "quic.pcapng").code)
	assert.Contains(t, s.run(t, "decode", "quic.pcapng").stdout, "2 exchanges")

	// A FIFO is written to, and still one afterwards.
	fifo := filepath.Join(s.folder, "fifo")
	require.NoError(t, syscall.Mkfifo(fifo, 0o600))
	got := make(chan []byte, 1)
	go func() {
		f, err := os.Open(fifo)
		if err != nil {
			got <- nil
			return
		}
		defer f.Close()
		content, _ := io.ReadAll(f)
		got <- content
	}()
	require.Zero(t, s.run(t, "ask", "www.hollowtarn.example", "--keep", "fifo").code)
	assert.Greater(t, len(<-got), 100)
	info, err = os.Lstat(fifo)
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&os.ModeNamedPipe)
	assert.NotContains(t, strings.Join(s.files(t), " "), ".unquil-")
}

// Wherever an interrupt comes, the program ends within a second or so, leaves nothing
// behind, and what it was to replace is as it was.
func TestInterruptsLeaveNothing(t *testing.T) {
	for _, tt := range []struct {
		name, args string
		signal     syscall.Signal
	}{
		{"while servers are silent", "ask www.hollowtarn.example --from kiosk --wait 30s --keep x.pcapng --overwrite", syscall.SIGINT},
		{"asked to end", "trace summit.camera.hollowtarn.example --wait 30s --report x.md --overwrite", syscall.SIGTERM},
		{"the terminal went", "why summit.camera.hollowtarn.example --wait 30s --report x.md --keep y.pcapng --overwrite", syscall.SIGHUP},
		{"while standard input is silent", "decode - --to x.pcapng --overwrite", syscall.SIGINT},
		{"and is read once", "decode -", syscall.SIGINT},
		{"names that do not come", "ask --names - --keep x.pcapng --overwrite", syscall.SIGQUIT},
		{"a FIFO that nobody writes", "decode fifo", syscall.SIGINT},
		{"a FIFO that nobody reads", "ask www.hollowtarn.example --keep fifo", syscall.SIGINT},
		{"input without end", "decode /dev/zero --to x.pcapng --overwrite", syscall.SIGINT},
		{"settings that do not come", "ask www.hollowtarn.example --config fifo", syscall.SIGINT},
		{"one packet of what does not come", "decode - --packet 3", syscall.SIGUSR1},
	} {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			s := setting{folder: t.TempDir()}
			require.NoError(t, syscall.Mkfifo(filepath.Join(s.folder, "fifo"), 0o600))
			s.put(t, "x.pcapng", []byte("remark"))
			s.put(t, "x.md", []byte("remark"))
			silent, writer := io.Pipe()
			defer writer.Close()
			s.stdin = silent
			before := s.files(t)
			ctx, stop := context.WithTimeout(t.Context(), limit)
			defer stop()
			cmd, _, stderr := s.start(ctx, strings.Fields(tt.args)...)
			cmd.WaitDelay = time.Second // for the copying of a standard input that is silent
			require.NoError(t, cmd.Start())
			time.Sleep(400 * time.Millisecond)
			began := time.Now()
			require.NoError(t, cmd.Process.Signal(tt.signal))
			_, err := cmd.Process.Wait()
			took := time.Since(began)
			require.NoError(t, err)
			require.NoError(t, ctx.Err(), "it did not end")
			assert.Less(t, took, 10*time.Second)
			writer.Close()
			cmd.Wait()
			if tt.name == "input without end" {
				return // which ends by itself, with a sentence
			}
			assert.Contains(t, stderr.String(), "interrupted before the end")
			after := s.files(t)
			assert.Subset(t, append(before, "y.pcapng"), after)
			for _, name := range []string{"x.pcapng", "x.md"} {
				content, err := os.ReadFile(filepath.Join(s.folder, name))
				require.NoError(t, err)
				assert.Equal(t, "remark", string(content))
			}
		})
	}
}

// What the person interrupts is nobody's fault: no finding, no verdict comes of it.
func TestInterruptsBlameNobody(t *testing.T) {
	for _, args := range []string{
		"ask www.hollowtarn.example --from kiosk --wait 30s",
		"compare www.hollowtarn.example --from kiosk,office --wait 30s",
		"reverse 203.0.113.80 --from kiosk --wait 30s",
		"watch www.hollowtarn.example --from kiosk --wait 30s",
		"why www.hollowtarn.example --from kiosk --wait 30s",
		"local www.hollowtarn.example --lab-machine dead-end --wait 30s",
		"zone camera.hollowtarn.example --wait 30s",
		"trace summit.camera.hollowtarn.example --wait 30s",
		"transfer hollowtarn.example --from ns.farhost.test --lab-latency 30s --wait 50s",
	} {
		t.Run(args, func(t *testing.T) {
			t.Parallel()
			s := setting{folder: t.TempDir()}
			ctx, stop := context.WithTimeout(t.Context(), limit)
			defer stop()
			cmd, stdout, stderr := s.start(ctx, strings.Fields(args)...)
			require.NoError(t, cmd.Start())
			time.Sleep(700 * time.Millisecond)
			require.NoError(t, cmd.Process.Signal(os.Interrupt))
			cmd.Wait()
			require.NoError(t, ctx.Err(), "it did not end")
			if strings.HasPrefix(args, "watch ") { // whose usual end it is
				assert.Equal(t, 0, cmd.ProcessState.ExitCode())
				assert.Contains(t, stdout.String(), ": interrupted")
			} else {
				assert.Equal(t, 1, cmd.ProcessState.ExitCode())
				assert.Contains(t, stderr.String(), "interrupted before the end")
			}
			for _, blame := range []string{"no-reply", "unreachable", "transfer-broken", "server-failure", "fault ", "firewall"} {
				assert.NotContains(t, stdout.String(), blame)
			}
		})
	}
}
