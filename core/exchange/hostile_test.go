package exchange

import (
	"context"
	"encoding/binary"
	"io"
	"net"
	"net/netip"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/wire"
)

// tcpServer hands every connection to serve.
func tcpServer(t testing.TB, serve func(net.Conn)) netip.AddrPort {
	listener, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() { defer conn.Close(); serve(conn) }()
		}
	}()
	return listener.Addr().(*net.TCPAddr).AddrPort()
}

func readQuery(conn net.Conn) []byte {
	var size [2]byte
	if _, err := io.ReadFull(conn, size[:]); err != nil {
		return nil
	}
	query := make([]byte, binary.BigEndian.Uint16(size[:]))
	if _, err := io.ReadFull(conn, query); err != nil {
		return nil
	}
	return query
}

func good(query []byte) []byte { return framed(changed(query, func(*wire.Message) {})) }

func TestHostileStreams(t *testing.T) {
	for _, tt := range []struct {
		name    string
		serve   func(net.Conn)
		outcome Outcome
	}{
		{"a byte at a time, too slowly", func(c net.Conn) {
			for _, b := range good(readQuery(c)) {
				if _, err := c.Write([]byte{b}); err != nil {
					return
				}
				time.Sleep(20 * time.Millisecond)
			}
		}, NoReply},
		{"a byte at a time, in time", func(c net.Conn) {
			for _, b := range good(readQuery(c)) {
				c.Write([]byte{b})
			}
			io.Copy(io.Discard, c)
		}, Answered},
		{"closes half way", func(c net.Conn) { out := good(readQuery(c)); c.Write(out[:len(out)/2]) }, Unreachable},
		{"closes at once", func(c net.Conn) { readQuery(c) }, Unreachable},
		{"65,535 bytes of nothing", func(c net.Conn) { readQuery(c); c.Write(framed(make([]byte, 65535))) }, Rejection},
		{"answers twice", func(c net.Conn) { out := good(readQuery(c)); c.Write(append(out, out...)); io.Copy(io.Discard, c) }, Answered},
		{"an endless stream of replies to others", func(c net.Conn) {
			query := readQuery(c)
			other := framed(changed(query, func(m *wire.Message) { m.ID++ }))
			for {
				if _, err := c.Write(other); err != nil {
					return
				}
			}
		}, Rejection},
	} {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			wait := patience(tt.outcome)
			if tt.outcome == Rejection { // known when the wait is over, not before
				wait = time.Second
			}
			client := &Client{Network: Internet{}, Now: time.Now, Options: Options{Wait: wait}}
			defer client.Close()
			e := client.Ask(t.Context(), Server{Address: tcpServer(t, tt.serve), Transport: TCP}, question)
			assert.Equal(t, tt.outcome, e.Outcome, "%v", e.Err)
			assert.LessOrEqual(t, len(e.Attempts[0].Rejected), maxRejected)
		})
	}
}

// Many questions share one connection, answered in any order; when the server
// has closed it, the next question opens another.
func TestConnectionsAreUsedAgain(t *testing.T) {
	var connections atomic.Int32
	address := tcpServer(t, func(c net.Conn) {
		connections.Add(1)
		var held [][]byte
		for {
			query := readQuery(c)
			if query == nil {
				return
			}
			if held = append(held, query); len(held) == 10 {
				for _, q := range slices.Backward(held) {
					c.Write(good(q))
				}
				return // closed with ten answered: the next ten need a new connection
			}
		}
	})
	client := &Client{Network: Internet{}, Now: time.Now, Options: Options{Wait: patience(Answered)}}
	defer client.Close()
	for round := range 2 {
		var wait sync.WaitGroup
		for range 10 {
			wait.Go(func() {
				e := client.Ask(t.Context(), Server{Address: address, Transport: TCP}, question)
				assert.Equal(t, Answered, e.Outcome, "round %d: %v", round, e.Err)
			})
		}
		wait.Wait()
	}
	assert.Equal(t, int32(2), connections.Load())
}

func TestEDNSFailuresAreToldApart(t *testing.T) {
	hasOPT := func(q []byte) bool { m, _ := wire.ReadMessage(q); _, ok := m.OPT(); return ok }
	plain := func(q []byte) []byte {
		return changed(q, func(m *wire.Message) { m.Additional = nil })
	}
	lost := 0
	for _, tt := range []struct {
		name    string
		udp     func(q []byte) [][]byte
		outcome Outcome
		broke   Outcome
		ignored bool
	}{
		{"FORMERR to EDNS", func(q []byte) [][]byte {
			if hasOPT(q) {
				return [][]byte{changed(q, func(m *wire.Message) { m.Answer, m.Additional = nil, nil; m.Flags = m.Flags.WithRCode(wire.FormErr) })}
			}
			return [][]byte{plain(q)}
		}, Answered, FormatError, false},
		{"silence to EDNS", func(q []byte) [][]byte {
			if hasOPT(q) {
				return nil
			}
			return [][]byte{plain(q)}
		}, Answered, NoReply, false},
		{"a lost packet is no EDNS failure", func(q []byte) [][]byte {
			if lost++; lost == 1 {
				return nil
			}
			return [][]byte{changed(q, func(*wire.Message) {})}
		}, Answered, "", false},
		{"a reply without OPT", func(q []byte) [][]byte { return [][]byte{plain(q)} }, Answered, "", true},
		{"FORMERR to everything", func(q []byte) [][]byte {
			return [][]byte{changed(q, func(m *wire.Message) { m.Answer, m.Additional = nil, nil; m.Flags = m.Flags.WithRCode(wire.FormErr) })}
		}, FormatError, "", false},
	} {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			client := &Client{Network: Internet{}, Now: time.Now, Options: Options{Wait: time.Second}}
			e := client.Ask(t.Context(), Server{Address: server(t, tt.udp, nil)}, question)
			assert.Equal(t, tt.outcome, e.Outcome, "%v", e.Err)
			assert.Equal(t, tt.broke, e.EDNSBroke)
			assert.Equal(t, tt.ignored, e.EDNSIgnored)
		})
	}
}

func TestQuerySaysWhatTheOptionsSay(t *testing.T) {
	m := NewQuery(question, Options{ID: new(uint16(7)), CheckingDisabled: true, DNSSEC: true, NSID: true, Cookie: true, Size: 4096, Subnet: netip.MustParsePrefix("192.0.2.77/24")})
	assert.Equal(t, uint16(7), m.ID)
	assert.Equal(t, wire.RD|wire.CD, m.Flags)
	e, ok := m.EDNS()
	require.True(t, ok)
	assert.Equal(t, uint16(4096), e.Size)
	assert.True(t, e.DO)
	_, ok = e.Option(wire.NSID)
	assert.True(t, ok)
	cookie, _ := e.Option(wire.Cookie)
	assert.Len(t, cookie, 8)
	subnet, _ := e.Option(wire.ClientSubnet)
	assert.Equal(t, "\x00\x01\x18\x00\xc0\x00\x02", subnet)
	m = NewQuery(question, Options{Iterative: true, WithoutEDNS: true, Opcode: wire.OpNotify})
	assert.Empty(t, m.Additional)
	assert.Equal(t, wire.OpNotify, m.Flags.Opcode())
	assert.False(t, m.Flags.Has(wire.RD))
}

func TestEachKeepsTheOrderAndEndsEarly(t *testing.T) {
	delay := atomic.Int32{}
	address := server(t, func(q []byte) [][]byte {
		if delay.Add(1)%7 == 0 {
			time.Sleep(5 * time.Millisecond)
		}
		return [][]byte{changed(q, func(*wire.Message) {})}
	}, nil)
	session := Session{Client: &Client{Network: Internet{}, Now: time.Now}, Forgets: true}
	asked := 0
	requests := func(yield func(Request) bool) {
		for yield(Request{Server: Server{Address: address}, Question: question}) {
			asked++
		}
	}
	want := 0
	session.Each(t.Context(), requests, Pace{}, func(e *Exchange) bool {
		want++
		assert.Equal(t, want, e.Number)
		return want < 300
	})
	assert.Equal(t, 300, want)
	assert.Empty(t, session.Exchanges(), "none are kept")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	session.Each(ctx, requests, Pace{Rate: 100, InFlight: 1}, func(e *Exchange) bool { assert.Empty(t, e.Outcome); return true })
}

func TestTiming(t *testing.T) {
	at := func(took time.Duration) *Exchange {
		e := &Exchange{Attempts: []Attempt{{Sent: time.Unix(0, 0)}}}
		if took > 0 {
			e.Reply, e.Attempts[0].Received = &wire.Message{}, time.Unix(0, int64(took))
		}
		return e
	}
	got := TimingOf([]*Exchange{at(50), at(10), at(0), at(20), at(30)})
	assert.Equal(t, Timing{Asked: 5, Lost: 1, Min: 10, Median: 20, P95: 50, Max: 50, First: 50, Later: 20, Each: []time.Duration{50, 10, 0, 20, 30}}, got)
	assert.Equal(t, 2, TimingOf([]*Exchange{at(0), at(0)}).Lost)
}

// echo answers each datagram with a reply of the same ID and question.
func echo(b *testing.B) netip.AddrPort {
	conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(b, err)
	b.Cleanup(func() { conn.Close() })
	for range runtime.NumCPU() {
		go func() {
			buf := make([]byte, 2048)
			for {
				n, from, err := conn.ReadFromUDPAddrPort(buf)
				if err != nil {
					return
				}
				buf[2] |= 0x80
				conn.WriteToUDPAddrPort(buf[:n], from)
			}
		}()
	}
	return conn.LocalAddr().(*net.UDPAddr).AddrPort()
}

// BenchmarkInFlight is asking with 64 questions in flight, beside the bare
// exchange of the same packets: once with a fresh port for each, as asking has
// to have it, and once over 64 sockets that are kept. Compare the rates.
func BenchmarkInFlight(b *testing.B) {
	b.Run("asking", func(b *testing.B) {
		address := echo(b)
		session := Session{Client: &Client{Network: Internet{}, Now: time.Now}, Forgets: true}
		n := 0
		session.Each(b.Context(), func(yield func(Request) bool) {
			for b.Loop() {
				if !yield(Request{Server: Server{Address: address}, Question: question}) {
					return
				}
			}
		}, Pace{}, func(e *Exchange) bool {
			if n++; e.Reply == nil {
				b.Error(e.Err)
			}
			return true
		})
		b.ReportMetric(float64(n)/b.Elapsed().Seconds(), "questions/s")
	})
	for name, fresh := range map[string]bool{"bare with fresh ports": true, "bare": false} {
		b.Run(name, func(b *testing.B) { bare(b, fresh) })
	}
}

func bare(b *testing.B, fresh bool) {
	address := echo(b)
	m := NewQuery(question, Options{})
	query, _ := m.Bytes()
	var wait sync.WaitGroup
	var n atomic.Int64
	left := make(chan struct{}, 1024)
	for range inFlight {
		wait.Go(func() {
			var conn Datagrams
			buf := make([]byte, 2048)
			for range left {
				if conn == nil || fresh {
					conn, _ = Internet{}.Datagrams(b.Context(), address)
				}
				conn.WriteToUDPAddrPort(query, address)
				conn.ReadFromUDPAddrPort(buf)
				n.Add(1)
				if fresh {
					conn.Close()
				}
			}
		})
	}
	for b.Loop() {
		left <- struct{}{}
	}
	close(left)
	wait.Wait()
	b.ReportMetric(float64(n.Load())/b.Elapsed().Seconds(), "questions/s")
}
