package namespaces

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unquil/core/wire"
)

// The far end's addresses.
var (
	farEnd  = netip.MustParseAddrPort("192.0.2.53:53")
	farEnd6 = netip.MustParseAddrPort("[2001:db8::53]:53")
)

// serveFar is the far end: a server of every zone, until its standard input ends. What it says
// goes by the first label: silent, no (such name), slow, broken, or an address.
func serveFar() error {
	for range 500 {
		if exec.Command("sh", "-ec", "ip link set lo up; ip addr add 192.0.2.53/24 dev far; ip -6 addr add 2001:db8::53/64 dev far nodad; ip link set far up").Run() == nil {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	for _, at := range []netip.AddrPort{farEnd, farEnd6} {
		conn, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(at))
		if err != nil {
			return err
		}
		conn.SetReadBuffer(4 << 20)
		for range 2 {
			go func() {
				buf := make([]byte, 4096)
				for {
					n, from, err := conn.ReadFromUDPAddrPort(buf)
					if err != nil {
						return
					}
					reply, after := answer(buf[:n])
					send := func() { conn.WriteToUDPAddrPort(reply, from) }
					switch {
					case reply == nil:
					case after > 0:
						time.AfterFunc(after, send)
					default:
						send()
					}
				}
			}()
		}
		listener, err := net.ListenTCP("tcp", net.TCPAddrFromAddrPort(at))
		if err != nil {
			return err
		}
		go func() {
			for {
				conn, err := listener.Accept()
				if err != nil {
					return
				}
				go func() {
					defer conn.Close()
					query, err := wire.ReadFramed(conn, make([]byte, 65535))
					if reply, _ := answer(query); err == nil && reply != nil {
						conn.Write(wire.AppendFramed(nil, reply))
					}
				}()
			}
		}()
	}
	fmt.Print("ready")
	_, err := io.Copy(io.Discard, os.Stdin)
	return err
}

// answer is what the far end says to a query, and after how long; nil is silence.
func answer(query []byte) (reply []byte, after time.Duration) {
	m, err := wire.ReadMessage(query)
	if err != nil || len(m.Questions) != 1 {
		return nil, 0
	}
	q := m.Questions[0]
	r := wire.Message{ID: m.ID, Flags: wire.QR | wire.AA | m.Flags&wire.RD, Questions: m.Questions}
	first := q.Name.Label(0)
	soa := wire.Record{Name: wire.Root, Type: wire.SOA, Class: wire.IN, TTL: 60, Data: "\x02ns\x00\x00" + string(make([]byte, 20))}
	switch {
	case strings.HasPrefix(first, "silent"):
		return nil, 0
	case strings.HasPrefix(first, "slow"):
		after = 40 * time.Millisecond
	case strings.HasPrefix(first, "broken"):
		r.Flags = r.Flags.WithRCode(wire.ServFail)
	case strings.HasPrefix(first, "no"):
		r.Flags, r.Authority = r.Flags.WithRCode(wire.NXDomain), []wire.Record{soa}
	}
	switch ok := r.RCode() == wire.NoError; {
	case !ok:
	case q.Type == wire.A:
		r.Answer = []wire.Record{{Name: q.Name, Type: wire.A, Class: wire.IN, TTL: 60, Data: "\xcb\x00\x71\x50"}}
	case q.Type == wire.NS && q.Name.IsRoot():
		r.Answer = []wire.Record{{Name: wire.Root, Type: wire.NS, Class: wire.IN, TTL: 60, Data: "\x02ns\x00"}}
	case q.Type == wire.SOA && q.Name.IsRoot():
		r.Answer = []wire.Record{soa}
	default:
		r.Authority = []wire.Record{soa}
	}
	data, err := r.Bytes()
	if err != nil {
		return nil, 0
	}
	return data, after
}

// resolve looks names up with the resolver of Go, as a program would.
func resolve() error {
	r := net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
		return new(net.Dialer).DialContext(ctx, network, farEnd.String())
	}}
	failed := 0
	for _, name := range os.Args[1:] {
		if _, err := r.LookupHost(context.Background(), name); err != nil {
			failed++
		}
	}
	if failed > 0 {
		return fmt.Errorf("%d names failed", failed)
	}
	return nil
}

// ask sends a number of questions at a rate, with some sockets at once, and returns how many were
// answered in which way. Each has a name of its own.
func ask(t *testing.T, to netip.AddrPort, prefix string, count int, pause time.Duration) (answered map[string]wire.RCode) {
	const sockets = 8
	answered = map[string]wire.RCode{}
	var mu sync.Mutex
	var wait sync.WaitGroup
	for at := range sockets {
		wait.Go(func() {
			for i := at; i < count; i += sockets * perSocket {
				askFrom(t, to, prefix, i, min(count, i+sockets*perSocket), sockets, pause, func(name string, code wire.RCode) {
					mu.Lock()
					answered[name] = code
					mu.Unlock()
				})
			}
		})
	}
	wait.Wait()
	return answered
}

// perSocket is how many questions go out from one port.
const perSocket = 500

// askFrom sends every so many-th question of a span from one port, and takes the replies.
func askFrom(t *testing.T, to netip.AddrPort, prefix string, from, until, every int, pause time.Duration, took func(string, wire.RCode)) {
	conn, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(to))
	require.NoError(t, err)
	defer conn.Close()
	buf := make([]byte, 4096)
	for i := from; i < until; i += every {
		name := fmt.Sprintf("%s%d.hollowtarn.example.", prefix, i)
		m := wire.Message{ID: uint16(i), Flags: wire.RD, Questions: []wire.Question{{Name: wire.MustParseName(name), Type: wire.A, Class: wire.IN}}}
		query, err := m.Bytes()
		require.NoError(t, err)
		sent := time.Now()
		if _, err := conn.Write(query); err != nil {
			continue
		}
		conn.SetReadDeadline(sent.Add(2 * time.Second))
		if n, err := conn.Read(buf); err == nil && n >= 12 && binary.BigEndian.Uint16(buf) == uint16(i) {
			took(name, wire.Flags(binary.BigEndian.Uint16(buf[2:])).RCode())
		}
		if left := pause - time.Since(sent); left > 0 {
			time.Sleep(left)
		}
	}
}

// flood sends questions to which nobody replies, about so many a second, and returns how many. They
// come from several ports at once.
func flood(t *testing.T, rate int, span time.Duration) (sent int, took time.Duration) {
	const senders = 4
	m := wire.Message{Flags: wire.RD, Questions: []wire.Question{{Name: wire.MustParseName("silent.hollowtarn.example."), Type: wire.A, Class: wire.IN}}}
	query, err := m.Bytes()
	require.NoError(t, err)
	begun := time.Now()
	var all atomic.Int64
	var wait sync.WaitGroup
	for range senders {
		wait.Go(func() {
			conn, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(farEnd))
			if err != nil {
				return
			}
			defer conn.Close()
			query, own := bytes.Clone(query), 0
			for time.Since(begun) < span {
				for due := int(time.Since(begun).Seconds() * float64(rate) / senders); own < due; own++ {
					binary.BigEndian.PutUint16(query, uint16(own))
					if _, err := conn.Write(query); err == nil {
						all.Add(1)
					}
					if own%64 == 0 && time.Since(begun) > span {
						return
					}
				}
				time.Sleep(200 * time.Microsecond)
			}
		})
	}
	wait.Wait()
	return int(all.Load()), time.Since(begun)
}
