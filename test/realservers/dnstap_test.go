//go:build realservers && linux

package realservers

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// tappedAt is a resolver that records what it does.
const tappedAt = "127.77.0.55"

// What a resolver records and sends is what a capture of the same minutes has: its clients' exchanges, and its own.
func TestListenToUnbound(t *testing.T) {
	short, err := os.MkdirTemp("", "tap") // a socket's path has to be short
	require.NoError(t, err)
	defer os.RemoveAll(short)
	socket := filepath.Join(short, "s")
	listen := exec.Command(program, "listen", "--from-server", "unix:"+socket, "--json")
	var heard, told bytes.Buffer
	listen.Stdout, listen.Stderr = &heard, &told
	require.NoError(t, listen.Start())
	require.Eventually(t, func() bool { _, err := os.Stat(socket); return err == nil }, 5*time.Second, 10*time.Millisecond)

	config, err := os.ReadFile(unboundConfig())
	require.NoError(t, err)
	text := strings.ReplaceAll(string(config), unboundAt, tappedAt) + fmt.Sprintf(`dnstap:
  dnstap-enable: yes
  dnstap-socket-path: "%s"
  dnstap-send-identity: yes
  dnstap-identity: "%s"
  dnstap-log-client-query-messages: yes
  dnstap-log-client-response-messages: yes
  dnstap-log-resolver-query-messages: yes
  dnstap-log-resolver-response-messages: yes
`, socket, tappedAt)
	path := write("unbound-tapped.conf", text)
	if out, err := exec.Command("unbound-checkconf", path).CombinedOutput(); err != nil && bytes.Contains(out, []byte("dnstap")) {
		t.Skip("skipped: this Unbound has no dnstap")
	}
	pcap := filepath.Join(short, "loopback.pcapng")
	stop := record(t, pcap)
	require.NoError(t, start("unbound-tapped", "unbound", "-d", "-c", path))
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", tappedAt+":53")
		if err == nil {
			conn.Close()
		}
		return err == nil
	}, 10*time.Second, 50*time.Millisecond)
	run(t, "ask", "host1.crowd.example", "host2.crowd.example", "nobody.crowd.example", "web.hollowtarn.example", "--from", tappedAt)
	run(t, "ask", "large.hollowtarn.example", "-t", "TXT", "--from", "tcp://"+tappedAt)
	time.Sleep(3 * time.Second) // the resolver sends what it recorded once a second
	stop()
	require.NoError(t, listen.Process.Signal(os.Interrupt))
	_ = listen.Wait()

	captured := run(t, "decode", pcap, "--json", "--where", "client = "+tappedAt+" or server = "+tappedAt)
	all := func(text string) (lines []string) {
		for line := range strings.Lines(text) {
			var e struct {
				exchanged
				Transport string
			}
			require.NoError(t, json.Unmarshal([]byte(line), &e), line)
			if e.Question.Name != "" && (e.Server.Address == tappedAt || e.Client.Address == tappedAt) {
				lines = append(lines, fmt.Sprint(e.Client.Address, " ", e.Transport, " ", e.Server.Address, " ", e.Question, " ", e.Outcome, " ", e.Values))
			}
		}
		slices.Sort(lines)
		return lines
	}
	want, got := all(captured.stdout), all(heard.String())
	assert.Greater(t, len(want), 15, captured.stderr)
	assert.Equal(t, want, got, told.String())
	assert.Contains(t, heard.String(), `"server":{"address":"`+tappedAt)
}
