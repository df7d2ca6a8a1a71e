//go:build realservers && linux

package realservers

import (
	stdcontext "context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"unquil/core/capture"
	"unquil/ui/data"
)

// record writes every packet of the loopback interface to a file, until the
// returned function is called.
func record(t *testing.T, path string) (stop func()) {
	const all = unix.ETH_P_ALL<<8&0xff00 | unix.ETH_P_ALL>>8 // in network order
	fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_RAW, all)
	if err != nil {
		t.Skip("a raw socket needs more rights than these: ", err)
	}
	loopback, err := net.InterfaceByName("lo")
	require.NoError(t, err)
	require.NoError(t, unix.Bind(fd, &unix.SockaddrLinklayer{Protocol: all, Ifindex: loopback.Index}))
	require.NoError(t, unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, 16<<20))
	require.NoError(t, unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_TIMESTAMPNS, 1))
	require.NoError(t, unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Usec: 100_000}))
	file, err := os.Create(path)
	require.NoError(t, err)
	w, err := capture.NewWriter(file, capture.Ethernet)
	require.NoError(t, err)
	ended, finished := make(chan struct{}), make(chan error, 1)
	go func() {
		frame, aside := make([]byte, 1<<17), make([]byte, 256)
		for {
			n, asideLength, _, from, err := unix.Recvmsg(fd, frame, aside, 0)
			if link, ok := from.(*unix.SockaddrLinklayer); err == nil && ok && link.Pkttype != unix.PACKET_OUTGOING { // each is seen twice there
				at, err := arrival(aside[:asideLength])
				if err == nil {
					err = w.Packet(at, slices.Clone(frame[:n]), "")
				}
				if err != nil {
					finished <- err
					return
				}
			}
			select {
			case <-ended:
				if err != nil { // nothing more waits
					finished <- nil
					return
				}
			default:
			}
		}
	}()
	return func() {
		close(ended)
		require.NoError(t, <-finished)
		unix.Close(fd)
		require.NoError(t, file.Close())
	}
}

// arrival reads the kernel's time of a packet: a busy recorder comes to it late.
func arrival(aside []byte) (time.Time, error) {
	messages, err := unix.ParseSocketControlMessage(aside)
	if err != nil {
		return time.Time{}, err
	}
	for _, m := range messages {
		if m.Header.Level != unix.SOL_SOCKET || m.Header.Type != unix.SO_TIMESTAMPNS {
			continue
		}
		var at unix.Timespec
		if _, err := binary.Decode(m.Data, binary.NativeEndian, &at); err != nil {
			return time.Time{}, err
		}
		return time.Unix(at.Unix()), nil
	}
	return time.Time{}, errors.New("a packet without its time")
}

// exchanged is what one exchange was, as the program itself or a capture tells it.
type exchanged struct {
	Client   data.End
	Server   struct{ Address string }
	Question struct{ Name, Type string }
	Outcome  string
	Values   []string
	Took     float64
}

func (e exchanged) String() string {
	return fmt.Sprint(e.Client, " ", e.Server.Address, " ", e.Question, " ", e.Outcome, " ", e.Values)
}

// What passes over the interface while strangers talk decodes to the exchanges that
// the program saw itself, and to those of the Go resolver and of the resolvers' own
// walks beside.
func TestCaptureFromTheInterface(t *testing.T) {
	path := filepath.Join(t.TempDir(), "loopback.pcapng")
	stop := record(t, path)
	var mine []exchanged
	for _, args := range [][]string{
		{"ask", "host1.crowd.example", "host2.crowd.example", "nobody.crowd.example", "--from", unboundAt + "," + kresdAt},
		{"ask", "large.hollowtarn.example", "-t", "TXT", "--from", "tcp://" + primaryAt},
		{"trace", "host3.crowd.example", "--roots", roots()},
		{"why", "www.refused.example", "-t", "A", "--from", unboundAt, "--roots", roots()},
	} {
		o := run(t, append(args, "--json")...)
		var d struct{ Exchanges []exchanged }
		require.NoError(t, json.Unmarshal([]byte(o.stdout), &d))
		mine = append(mine, d.Exchanges...)
	}
	stranger := &net.Resolver{PreferGo: true, Dial: func(ctx stdcontext.Context, network, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, unboundAt+":53")
	}}
	addresses, err := stranger.LookupHost(t.Context(), "web.hollowtarn.example.")
	require.NoError(t, err)
	assert.Len(t, addresses, 2)
	time.Sleep(300 * time.Millisecond)
	stop()

	o := run(t, "decode", path, "--json")
	lines := strings.Split(strings.TrimSpace(o.stdout), "\n")
	seen := map[string]exchanged{}
	var byGo, byUnbound int
	for _, line := range lines[:len(lines)-1] {
		var e exchanged
		require.NoError(t, json.Unmarshal([]byte(line), &e))
		seen[e.String()] = e
		client := e.Client.Address
		switch {
		case e.Question.Name == "web.hollowtarn.example." && e.Server.Address == unboundAt:
			byGo++
		case client != "" && (e.Server.Address == primaryAt || e.Server.Address == secondaryAt) && e.Question.Name == "host1.crowd.example.":
			byUnbound++
		}
	}
	require.Greater(t, len(mine), 40)
	for _, e := range mine {
		other, found := seen[e.String()]
		if !assert.True(t, found, "the capture lacks %s", e) {
			continue
		}
		if e.Took > 0 {
			// How much later a busy machine wakes the program than the packet came, nobody knows.
			assert.LessOrEqual(t, other.Took, e.Took+0.001, "%s took no longer on the wire than it did for the program", e)
		}
	}
	assert.Equal(t, 2, byGo, "the Go resolver's two questions")
	assert.Positive(t, byUnbound, "the resolvers' own walks")
	var summary struct {
		Summary struct {
			Packets, Unreadable, Malformed int
			Findings                       []struct{ Code, Severity string }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(lines[len(lines)-1]), &summary))
	assert.Zero(t, summary.Summary.Unreadable+summary.Summary.Malformed)
}
