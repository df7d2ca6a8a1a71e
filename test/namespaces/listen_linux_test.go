package namespaces

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Of a hundred thousand questions a minute none is lost, and what is heard is what was asked.
func TestListenLosesNothing(t *testing.T) {
	inside(t)
	count := 100_000
	if testing.Short() {
		count = 10_000
	}
	l := listen(t, "--interface", "near", "--csv", "--name", "q*")
	begun := time.Now()
	asked := ask(t, farEnd, "q", count, time.Millisecond)
	t.Logf("%d questions in %s", count, time.Since(begun))
	assert.Less(t, time.Since(begun), time.Minute)
	assert.Zero(t, l.end(t), l.stderr.String())
	rows, err := csv.NewReader(strings.NewReader(l.stdout.String())).ReadAll()
	require.NoError(t, err)
	heard := map[string]bool{}
	for _, row := range rows[1:] {
		assert.Equal(t, "answered", row[9], row)
		heard[row[7]] = true
	}
	assert.Len(t, asked, count)
	assert.Len(t, rows, count+1, "each exchange once")
	for name := range asked {
		if !heard[name] {
			t.Errorf("%s was asked and not heard", name)
			break
		}
	}
}

// Over IPv6, over TCP, at a port of one's own, over a VLAN and looping back: all is heard.
func TestListenHearsEverything(t *testing.T) {
	inside(t)
	vlan := has("ip link add link near name near.5 type vlan id 5")
	l := listen(t, "--csv")
	for _, args := range [][]string{{"v4"}, {"v6", "--from", "2001:db8::53"}, {"tcp", "--over", "tcp"}} {
		_, stderr, code := unquil(t, append([]string{"ask", args[0] + ".hollowtarn.example", "--type", "A", "--from", "192.0.2.53"}, args[1:]...)...)
		assert.Zero(t, code, stderr)
	}
	unquil(t, "ask", "lo.hollowtarn.example", "--type", "A", "--from", "127.0.0.1", "--attempts", "1", "--wait", "200ms")
	l.end(t)
	for _, want := range []string{"2001:db8::53,53,udp,v6", "192.0.2.53,53,tcp,tcp", "192.0.2.53,53,udp,v4", "127.0.0.1,53,udp,lo"} {
		assert.Equal(t, 1, strings.Count(l.stdout.String(), want), "%s in %s", want, l.stdout.String())
	}
	if !vlan {
		t.Log("this kernel has no VLANs: that they are heard is seen in the filter's own test")
	}
}

// While a program runs: which names it asked for, what failed, and how long that held it up.
func TestListenWhile(t *testing.T) {
	inside(t)
	command := fmt.Sprintf("%s=resolve /proc/%d/exe slow.hollowtarn.example. broken.hollowtarn.example.", role, os.Getpid())
	stdout, stderr, code := unquil(t, "listen", "--json", "--while", command)
	assert.Equal(t, 3, code, stderr)
	all := strings.Split(strings.TrimSpace(stdout), "\n")
	var last struct {
		While struct {
			Exit     int     `json:"exit_code"`
			Took     float64 `json:"took"`
			HeldUp   float64 `json:"held_up"`
			Names    []struct{ Name, Last_failure string }
			NotKnown int `json:"not_seen_who"`
			Count    int `json:"exchanges"`
		}
		Programs []struct{ Name string }
	}
	require.NoError(t, json.Unmarshal([]byte(all[len(all)-1]), &last))
	w := last.While
	assert.Equal(t, 1, w.Exit)
	require.Len(t, w.Names, 2)
	assert.Equal(t, "broken.hollowtarn.example.", w.Names[0].Name)
	assert.Equal(t, "server-failure", w.Names[0].Last_failure)
	assert.Equal(t, "slow.hollowtarn.example.", w.Names[1].Name)
	assert.GreaterOrEqual(t, w.HeldUp, 0.04)
	assert.LessOrEqual(t, w.HeldUp, w.Took)
	assert.Less(t, w.NotKnown, w.Count, "of the slow name it is seen who asked")
	stdout, _, _ = unquil(t, "listen", "--while", command)
	assert.Contains(t, stdout, "with exit code 1.")
	assert.Contains(t, stdout, "names held it up for")
	assert.Contains(t, stdout, "broken.hollowtarn.example, ")
}

// A file is readable however the run ends, a ring of files never holds more than it may, and a full
// disk is told.
func TestListenWrites(t *testing.T) {
	inside(t)
	folder := t.TempDir()
	exchanges := func(paths ...string) int {
		stdout, stderr, code := unquil(t, append([]string{"decode", "--csv"}, paths...)...)
		assert.Zero(t, code, stderr)
		return strings.Count(stdout, "\n") - 1
	}
	t.Run("killed", func(t *testing.T) {
		path := filepath.Join(folder, "killed.pcapng")
		l := listen(t, "--to", path)
		ask(t, farEnd, "k", 200, 0)
		time.Sleep(300 * time.Millisecond)
		require.NoError(t, l.cmd.Process.Kill())
		l.wait()
		assert.Equal(t, 200, exchanges(path))
	})
	t.Run("a ring", func(t *testing.T) {
		l := listen(t, "--to", filepath.Join(folder, "ring.pcapng"), "--files", "3", "--each", "64kB")
		ask(t, farEnd, "r", 2000, 0)
		assert.Zero(t, l.end(t), l.stderr.String())
		files, err := filepath.Glob(filepath.Join(folder, "ring-*.pcapng"))
		require.NoError(t, err)
		require.Len(t, files, 3)
		for _, path := range files {
			info, err := os.Stat(path)
			require.NoError(t, err)
			assert.LessOrEqual(t, info.Size(), int64(64000))
		}
		assert.Greater(t, exchanges(files...), 300)
		assert.NotContains(t, files[0], "00001", "the oldest made room")
	})
	t.Run("a full disk", func(t *testing.T) {
		small := filepath.Join(folder, "small")
		require.NoError(t, os.Mkdir(small, 0o755))
		require.NoError(t, syscall.Mount("small", small, "tmpfs", 0, "size=128k"))
		t.Cleanup(func() { syscall.Unmount(small, syscall.MNT_DETACH) })
		path := filepath.Join(small, "full.pcapng")
		l := listen(t, "--to", path)
		asked := ask(t, farEnd, "f", 2000, 0)
		assert.Equal(t, 1, l.end(t))
		assert.Contains(t, l.stderr.String(), "no space left")
		assert.Contains(t, l.stdout.String(), "2,000 exchanges", "what is shown misses nothing")
		written := exchanges(path)
		assert.Greater(t, written, 200)
		assert.Less(t, written, len(asked))
	})
	t.Run("redacted", func(t *testing.T) {
		path := filepath.Join(folder, "redacted.pcapng")
		l := listen(t, "--to", path, "--redact", "hollowtarn.example")
		ask(t, farEnd, "x", 50, 0)
		assert.Zero(t, l.end(t), l.stderr.String())
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.NotContains(t, strings.ToLower(string(data)), "hollowtarn")
		assert.NotContains(t, string(data), string(netip.MustParseAddr("192.0.2.53").AsSlice()))
		assert.Equal(t, 50, exchanges(path))
	})
	t.Run("until something is found", func(t *testing.T) {
		l := listen(t, "--until-finding", "failed")
		ask(t, farEnd, "broken", 1, 0)
		done := make(chan int)
		go func() { done <- l.wait() }()
		select {
		case code := <-done:
			assert.Zero(t, code, "that it was found is what was wanted")
		case <-time.After(20 * time.Second):
			t.Error("it went on")
		}
	})
}

// Who may not listen is told what would allow it.
func TestListenWithoutPermission(t *testing.T) {
	inside(t)
	folder, err := os.MkdirTemp("/tmp", "unquil-nobody-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(folder) })
	require.NoError(t, os.Chmod(folder, 0o755))
	own := filepath.Join(folder, "unquil")
	data, err := os.ReadFile(program)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(own, data, 0o755))
	run := func() string {
		cmd := exec.Command(own, "listen", "--for", "300ms")
		cmd.Env = []string{"HOME=" + folder}
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
		out, _ := cmd.CombinedOutput()
		return string(out)
	}
	out := run()
	assert.Contains(t, out, "this program may not listen to the network")
	assert.Contains(t, out, "next: sudo setcap cap_net_raw+ep "+own)
	if !has("setcap cap_net_raw+ep " + own) {
		t.Log("setcap is not here: what it allows is not tried")
		return
	}
	assert.Contains(t, run(), "exchange", "what was advised helps")
}

// A firewall that rewrites, redirects or drops is proven by the packets.
func TestWhyProvesAFirewall(t *testing.T) {
	inside(t)
	if !has("nft list ruleset") {
		t.Skip("nft (nftables) is not here")
	}
	roots := filepath.Join(t.TempDir(), "roots.zone")
	require.NoError(t, os.WriteFile(roots, []byte(". 3600 NS ns.\nns. 3600 A 192.0.2.53\n"), 0o600))
	for _, c := range []struct {
		what, rules, finding, says string
	}{
		{"nothing", "", "", "as asked"},
		{"it rewrites answers", "add chain ip t c { type filter hook input priority 0; }\nadd rule ip t c udp sport 53 udp length 40-120 @th,480,32 0xcb007150 @th,480,32 set 0xc0000262", "altered-on-the-way", "are rewritten on this machine: one came with 203.0.113.80, and the program got 192.0.2.98"},
		{"it drops replies", "add chain ip t c { type filter hook input priority 0; }\nadd rule ip t c udp sport 53 drop", "dropped-locally", "reached this machine, and not the program that asked"},
		{"it drops queries", "add chain ip t c { type filter hook output priority 0; }\nadd rule ip t c udp dport 53 drop", "dropped-locally", "never left this machine"},
		{"it redirects", "add chain ip t c { type nat hook output priority -100; }\nadd rule ip t c ip daddr 192.0.2.54 udp dport 53 dnat to 192.0.2.53", "altered-on-the-way", "leave this machine for 192.0.2.53"},
	} {
		t.Run(c.what, func(t *testing.T) {
			rules := filepath.Join(t.TempDir(), "rules")
			require.NoError(t, os.WriteFile(rules, []byte("add table ip t\n"+c.rules+"\n"), 0o600))
			if !has("nft -f " + rules) {
				t.Skip("this kernel does not take such a rule")
			}
			defer sh(t, "nft delete table ip t")
			from := "192.0.2.53"
			if c.what == "it redirects" {
				from = "192.0.2.54"
			}
			heard := filepath.Join(t.TempDir(), "heard.pcapng")
			stdout, stderr, _ := unquil(t, "why", "www.hollowtarn.example", "--type", "A", "--from", from, "--listen", "--heard", heard, "--no-registry", "--wait", "400ms", "--roots", roots)
			text := strings.Join(strings.Fields(stdout), " ")
			assert.Contains(t, text, c.finding, stderr)
			assert.Contains(t, text, c.says)
			if c.finding == "" {
				assert.NotContains(t, text, "locally")
				assert.NotContains(t, text, "altered")
			} else {
				assert.Contains(t, text, "where this machine")
			}
			_, stderr, code := unquil(t, "decode", heard)
			assert.NotEqual(t, 2, code, stderr)
		})
	}
}

// How many questions are lost at rising rates is measured, and not held: it is this machine's matter.
func TestLossAtRisingRates(t *testing.T) {
	inside(t)
	if os.Getenv("UNQUIL_MEASURE") == "" {
		t.Skip("scripts/measure-listen measures it")
	}
	t.Log("questions/s   sent   heard   lost by the system   not judged   not written")
	for _, rate := range []int{5_000, 20_000, 50_000, 100_000, 200_000, 400_000} {
		path := filepath.Join(t.TempDir(), "rate.pcapng")
		l := listen(t, "--interface", "near", "--json", "--view", "servers", "--outcome", "answered", "--to", path)
		sent, took := flood(t, rate, 3*time.Second)
		time.Sleep(500 * time.Millisecond)
		l.end(t)
		all := strings.Split(strings.TrimSpace(l.stdout.String()), "\n")
		var last struct {
			Summary struct{ Packets, Lost int }
			Heard   struct{ Packets, Lost, Not_judged, Not_written int }
		}
		require.NoError(t, json.Unmarshal([]byte(all[len(all)-1]), &last), l.stderr.String())
		h := last.Heard
		t.Logf("%11.0f %6d %7d %20d %12d %13d", float64(sent)/took.Seconds(), sent, h.Packets, h.Lost, h.Not_judged, h.Not_written)
		assert.Equal(t, sent, h.Packets+h.Lost, "what is lost is counted")
	}
}
