package exchange

import (
	"context"
	"encoding/binary"
	"io"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/wire"
)

var question = wire.Question{Name: wire.MustParseName("Tickets.hollowtarn.example"), Type: wire.A, Class: wire.IN}

// answerTo is a good reply to a query.
func answerTo(query []byte) *wire.Message {
	m, _ := wire.ReadMessage(query)
	m.Flags |= wire.QR | wire.RA
	m.Answer = []wire.Record{{Name: m.Questions[0].Name, Type: wire.A, Class: wire.IN, TTL: 60, Data: "\xc0\x00\x02\x01"}}
	return &m
}

func changed(query []byte, change func(m *wire.Message)) []byte {
	m := answerTo(query)
	change(m)
	out, _ := m.Bytes()
	return out
}

// server answers on a loopback address over UDP and TCP as the functions say;
// each returns the messages to send back, in order.
func server(t *testing.T, udp, tcp func(query []byte) [][]byte) netip.AddrPort {
	listener, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	address := listener.Addr().(*net.TCPAddr).AddrPort()
	conn, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(address))
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close(); conn.Close() })
	go func() {
		buf := make([]byte, 65535)
		for {
			n, from, err := conn.ReadFromUDPAddrPort(buf)
			if err != nil {
				return
			}
			for _, out := range udp(append([]byte(nil), buf[:n]...)) {
				conn.WriteToUDPAddrPort(out, from)
			}
		}
	}()
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			size := make([]byte, 2)
			if _, err := io.ReadFull(conn, size); err == nil && tcp != nil {
				query := make([]byte, binary.BigEndian.Uint16(size))
				io.ReadFull(conn, query)
				for _, out := range tcp(query) {
					conn.Write(out)
				}
			}
			conn.Close()
		}
	}()
	return address
}

func framed(out []byte) []byte {
	return append(binary.BigEndian.AppendUint16(nil, uint16(len(out))), out...)
}

func TestAsk(t *testing.T) {
	good := func(q []byte) []byte { return changed(q, func(*wire.Message) {}) }
	cut := func(q []byte) []byte {
		return changed(q, func(m *wire.Message) { m.Flags |= wire.TC; m.Answer = nil })
	}
	one := func(f func([]byte) []byte) func([]byte) [][]byte {
		return func(q []byte) [][]byte { return [][]byte{f(q)} }
	}
	tries := 0
	for _, tt := range []struct {
		name      string
		udp, tcp  func([]byte) [][]byte
		outcome   Outcome
		transport Transport
		rejected  error // why the first message was not believed
	}{
		{"a good reply", one(good), nil, Answered, UDP, nil},
		{"a wrong ID is passed over", func(q []byte) [][]byte {
			return [][]byte{changed(q, func(m *wire.Message) { m.ID++ }), good(q)}
		}, nil, Answered, UDP, ErrWrongID},
		{"a wrong question is passed over", func(q []byte) [][]byte {
			return [][]byte{changed(q, func(m *wire.Message) { m.Questions[0].Type = wire.AAAA }), good(q)}
		}, nil, Answered, UDP, ErrWrongQuestion},
		{"in lower case it is the same question", one(func(q []byte) []byte {
			return changed(q, func(m *wire.Message) { m.Questions[0].Name = m.Questions[0].Name.Fold() })
		}), nil, Answered, UDP, nil},
		{"a question is no reply", one(func(q []byte) []byte { return q }), nil, Rejection, UDP, ErrNotReply},
		{"noise is not believed", one(func([]byte) []byte { return []byte("tarn") }), nil, Rejection, UDP, wire.ErrShort},
		{"the second try counts too", func(q []byte) [][]byte {
			if tries++; tries == 1 {
				return nil
			}
			return [][]byte{good(q)}
		}, nil, Answered, UDP, nil},
		{"silence", func([]byte) [][]byte { return nil }, nil, NoReply, UDP, nil},
		{"a cut reply is asked for again over TCP", one(cut), one(func(q []byte) []byte { return framed(good(q)) }), Answered, TCP, nil},
		{"without TCP the cut reply stays", one(cut), func([]byte) [][]byte { return nil }, Truncated, UDP, nil},
		{"TCP that breaks off", one(cut), one(func([]byte) []byte { return []byte{0x10, 0, 1} }), Truncated, UDP, nil},
		{"TCP full of nothing", one(cut), one(func([]byte) []byte { return framed(make([]byte, 65535)) }), Truncated, UDP, ErrWrongID},
		{"a failure code", one(func(q []byte) []byte {
			return changed(q, func(m *wire.Message) { m.Answer = nil; m.Flags = m.Flags.WithRCode(wire.ServFail) })
		}), nil, ServerFailure, UDP, nil},
		{"a FORMERR need not repeat the question", one(func(q []byte) []byte {
			return changed(q, func(m *wire.Message) {
				m.Answer, m.Questions, m.Additional = nil, nil, nil
				m.Flags = m.Flags.WithRCode(wire.FormErr)
			})
		}), nil, FormatError, UDP, nil},
	} {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			client := Client{Network: Internet{}, Now: time.Now, Options: Options{Wait: time.Second}}
			e := client.Ask(t.Context(), Server{Address: server(t, tt.udp, tt.tcp)}, question)
			assert.Equal(t, tt.outcome, e.Outcome, "%v", e.Err)
			assert.Equal(t, tt.transport, e.Transport())
			var rejected []Rejected
			for _, a := range e.Attempts {
				rejected = append(rejected, a.Rejected...)
			}
			if tt.rejected != nil {
				require.NotEmpty(t, rejected)
				assert.ErrorIs(t, rejected[0].Err, tt.rejected)
			}
		})
	}
}

func TestWrongSourceIsNotBelieved(t *testing.T) {
	stranger, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	defer stranger.Close()
	address := server(t, func(q []byte) [][]byte { return nil }, nil)
	spy := &spyNetwork{answer: func(to netip.AddrPort, query []byte) {
		stranger.WriteToUDPAddrPort(changed(query, func(*wire.Message) {}), to)
	}}
	client := Client{Network: spy, Now: time.Now, Options: Options{Wait: time.Second, Attempts: 1}}
	e := client.Ask(t.Context(), Server{Address: address}, question)
	assert.Equal(t, Rejection, e.Outcome)
	require.ErrorIs(t, e.Err, ErrWrongSource)
	assert.Equal(t, stranger.LocalAddr().String(), e.Attempts[0].Rejected[0].From.String())
}

// spyNetwork sees each query as it leaves.
type spyNetwork struct {
	Internet
	answer func(to netip.AddrPort, query []byte)
}

type spySocket struct {
	Datagrams
	answer func(to netip.AddrPort, query []byte)
}

func (n *spyNetwork) Datagrams(ctx context.Context, server netip.AddrPort) (Datagrams, error) {
	d, err := n.Internet.Datagrams(ctx, server)
	return spySocket{d, n.answer}, err
}

func (s spySocket) WriteToUDPAddrPort(b []byte, to netip.AddrPort) (int, error) {
	port := s.LocalAddr().(*net.UDPAddr).AddrPort().Port()
	defer s.answer(netip.AddrPortFrom(to.Addr(), port), b)
	return s.Datagrams.WriteToUDPAddrPort(b, to)
}

func TestClosedPortIsToldFromSilence(t *testing.T) {
	conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	closed := conn.LocalAddr().(*net.UDPAddr).AddrPort()
	conn.Close()
	client := Client{Network: Internet{}, Now: time.Now, Options: Options{Wait: time.Second}}
	assert.Equal(t, Unreachable, client.Ask(t.Context(), Server{Address: closed, Transport: TCP}, question).Outcome)
	if !toldOfErrors {
		t.Skip("this system does not report ICMP errors on an unconnected socket")
	}
	e := client.Ask(t.Context(), Server{Address: closed}, question)
	assert.Equal(t, Unreachable, e.Outcome)
	assert.Equal(t, 1, e.Sends(), "asking again would change nothing")
}

func TestCutShortIsNotSilence(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	address := server(t, func([]byte) [][]byte { cancel(); return nil }, nil)
	client := Client{Network: Internet{}, Now: time.Now, Options: Options{Wait: time.Minute}}
	e := client.Ask(ctx, Server{Address: address}, question)
	assert.Empty(t, e.Outcome)
	require.ErrorIs(t, e.Err, context.Canceled)
}

func TestSessionNumbersByPlan(t *testing.T) {
	address := server(t, func(q []byte) [][]byte { return [][]byte{changed(q, func(*wire.Message) {})} }, nil)
	session := Session{Client: &Client{Network: Internet{}, Now: time.Now}}
	requests := make([]Request, 100)
	for i := range requests {
		requests[i] = Request{Server: Server{Address: address}, Question: question}
	}
	for i, e := range session.AskAll(t.Context(), requests) {
		assert.Equal(t, i+1, e.Number)
		assert.Equal(t, Answered, e.Outcome)
	}
	begun, ended := session.Progress()
	assert.Equal(t, []int{100, 100}, []int{begun, ended})
}

func TestParseTarget(t *testing.T) {
	for text, want := range map[string]Server{
		"192.0.2.53":             {Address: netip.MustParseAddrPort("192.0.2.53:53")},
		"192.0.2.53#5353":        {Address: netip.MustParseAddrPort("192.0.2.53:5353")},
		"2001:db8::53#5353":      {Address: netip.MustParseAddrPort("[2001:db8::53]:5353")},
		"tcp://192.0.2.53":       {Address: netip.MustParseAddrPort("192.0.2.53:53"), Transport: TCP},
		"tls://192.0.2.53":       {Address: netip.MustParseAddrPort("192.0.2.53:853"), Transport: TLS},
		"quic://[2001:db8::53]":  {Address: netip.MustParseAddrPort("[2001:db8::53]:853"), Transport: QUIC},
		"https://192.0.2.53":     {Address: netip.MustParseAddrPort("192.0.2.53:443"), Transport: HTTPS, Path: "/dns-query"},
		"https://192.0.2.53/ask": {Address: netip.MustParseAddrPort("192.0.2.53:443"), Transport: HTTPS, Path: "/ask"},
		"udp://[2001:db8::53]:7": {Address: netip.MustParseAddrPort("[2001:db8::53]:7"), Transport: UDP},
	} {
		got, err := ParseTarget(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got.Server)
		assert.Empty(t, got.Host)
	}
	for _, bad := range []string{"", "tarn", "192.0.2.53#0", "192.0.2.53#65536", "192.0.2", "ftp://192.0.2.53", "192.0.2.53#", "tls://u@192.0.2.53", "https://192.0.2.53/x?y", "tcp://", "udp://192.0.2.53/x"} {
		_, err := ParseTarget(bad)
		require.ErrorIs(t, err, ErrResolver, bad)
	}
}
