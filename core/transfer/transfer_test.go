package transfer

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/tsig"
	"unquil/core/wire"
	"unquil/core/zonefile"
)

var tarn = wire.MustParseName("tarn.example")

func soa(serial int) string { return fmt.Sprintf("tarn.example. 60 SOA a. b. %d 2 3 4 5", serial) }

func records(t testing.TB, lines ...string) []wire.Record {
	all, err := zonefile.Read(strings.NewReader(strings.Join(lines, "\n")), zonefile.Options{})
	require.NoError(t, err)
	return all
}

// server speaks to each connection as the test says, and gets the query's bytes.
func server(t testing.TB, speak func(c net.Conn, query []byte)) exchange.Server {
	listener, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	go func() {
		for {
			c, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				size := make([]byte, 2)
				if _, err := io.ReadFull(c, size); err == nil {
					query := make([]byte, binary.BigEndian.Uint16(size))
					io.ReadFull(c, query)
					speak(c, query)
				}
			}()
		}
	}()
	return exchange.Server{Address: listener.Addr().(*net.TCPAddr).AddrPort()}
}

func framed(out []byte) []byte {
	return append(binary.BigEndian.AppendUint16(nil, uint16(len(out))), out...)
}

// message is one reply with those records.
func message(t testing.TB, query []byte, code wire.RCode, answer []wire.Record) []byte {
	m := wire.Message{ID: binary.BigEndian.Uint16(query), Flags: (wire.QR | wire.AA).WithRCode(code), Answer: answer}
	out, err := m.Bytes()
	require.NoError(t, err)
	return out
}

func session(wait time.Duration) *exchange.Session {
	return &exchange.Session{Client: &exchange.Client{Network: exchange.Internet{}, Now: time.Now, Options: exchange.Options{Wait: wait}}}
}

// Whatever a server sends, a transfer ends, says what it was, and is whole only
// when the same SOA record opens and closes it.
func TestReceive(t *testing.T) {
	const www, old, mail = "www.tarn.example. 60 A 203.0.113.120", "www.tarn.example. 60 A 203.0.113.80", "tarn.example. 60 MX 10 mx.tarn.example."
	for _, tt := range []struct {
		name     string
		since    int
		messages [][]string
		kind     Kind
		fails    error
		handed   []string // each with - where it went
		found    finding.Code
	}{
		{"a zone in one message", 0, [][]string{{soa(7), www, mail, soa(7)}}, Whole, nil, []string{"SOA", "A", "MX"}, finding.TransferOpen},
		{"a zone in many", 0, [][]string{{soa(7)}, {www}, {}, {mail}, {soa(7)}}, Whole, nil, []string{"SOA", "A", "MX"}, finding.TransferOpen},
		{"a zone with nothing in it", 0, [][]string{{soa(7), soa(7)}}, Whole, nil, []string{"SOA"}, finding.TransferOpen},
		{"what changed, in two versions", 5, [][]string{{soa(7), soa(5), old, soa(6)}, {mail, soa(6), soa(7), www}, {soa(7)}}, Changes, nil, []string{"-SOA", "-A", "SOA", "MX", "-SOA", "SOA", "A"}, finding.TransferOpen},
		{"nothing changed", 7, [][]string{{soa(7)}}, Current, nil, nil, ""},
		{"the zone for who asked what changed", 5, [][]string{{soa(7), www, soa(7)}}, Whole, nil, []string{"SOA", "A"}, finding.TransferOpen},
		{"the connection ends too soon", 0, [][]string{{soa(7), www}}, Whole, ErrEnd, []string{"SOA", "A"}, finding.TransferBroken},
		{"another SOA at the end", 0, [][]string{{soa(7), www, soa(8)}}, Whole, ErrChanged, []string{"SOA", "A"}, finding.TransferBroken},
		{"no SOA at the beginning", 0, [][]string{{www, soa(7)}}, "", ErrNotZone, nil, finding.TransferBroken},
		{"nothing at all", 0, [][]string{{}}, "", ErrNotZone, nil, finding.TransferBroken},
		{"a record of another zone", 0, [][]string{{soa(7), "www.lake.test. 60 A 192.0.2.66", soa(7)}}, "", ErrOutside, nil, finding.TransferBroken},
		{"more after the end", 0, [][]string{{soa(7), www, soa(7), mail}}, Whole, ErrSurplus, []string{"SOA", "A"}, finding.TransferBroken},
	} {
		t.Run(tt.name, func(t *testing.T) {
			at := server(t, func(c net.Conn, query []byte) {
				for _, lines := range tt.messages {
					c.Write(framed(message(t, query, wire.NoError, records(t, lines...))))
				}
			})
			request := Request{Zone: tarn, Server: at}
			if tt.since > 0 {
				request.Since = new(uint32(tt.since))
			}
			var handed []string
			s := session(10 * time.Second)
			result := Receive(t.Context(), s, request, func(c Change) error {
				word := c.Record.Type.String()
				if c.Removed {
					word = "-" + word
				}
				handed = append(handed, word)
				return nil
			})
			require.ErrorIs(t, result.Err, tt.fails)
			assert.Equal(t, tt.kind, result.Kind)
			if tt.kind == Whole && tt.fails != nil {
				handed = handed[:min(len(handed), len(tt.handed))]
			}
			assert.Equal(t, tt.handed, handed)
			require.Len(t, s.Exchanges(), 1)
			if tt.found == "" {
				assert.Empty(t, result.Findings)
				return
			}
			require.Len(t, result.Findings, 1)
			assert.Equal(t, tt.found, result.Findings[0].Code)
		})
	}
}

func TestServersThatDoNotGive(t *testing.T) {
	hole, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	gone := exchange.Server{Address: hole.Addr().(*net.TCPAddr).AddrPort()}
	hole.Close()
	for _, tt := range []struct {
		name  string
		at    exchange.Server
		fails error
		found finding.Code
	}{
		{"refused", server(t, func(c net.Conn, q []byte) { c.Write(framed(message(t, q, wire.Refused, nil))) }), ErrRefused, finding.TransferRefused},
		{"silent", server(t, func(c net.Conn, q []byte) { io.Copy(io.Discard, c) }), exchange.ErrNoReply, finding.NoReply},
		{"silent half way", server(t, func(c net.Conn, q []byte) {
			c.Write(framed(message(t, q, wire.NoError, records(t, soa(7)))))
			io.Copy(io.Discard, c)
		}), exchange.ErrNoReply, finding.NoReply},
		{"nothing listens", gone, nil, finding.TCPRefused},
		{"noise", server(t, func(c net.Conn, q []byte) { c.Write(framed([]byte("tarn"))) }), wire.ErrShort, finding.TransferBroken},
		{"another ID", server(t, func(c net.Conn, q []byte) {
			c.Write(framed(message(t, []byte{q[0] + 1, q[1]}, wire.NoError, records(t, soa(7), soa(7)))))
		}), exchange.ErrWrongID, finding.TransferBroken},
		{"empty messages without end", server(t, func(c net.Conn, q []byte) {
			c.Write(framed(message(t, q, wire.NoError, records(t, soa(7)))))
			for {
				if _, err := c.Write(framed(message(t, q, wire.NoError, nil))); err != nil {
					return
				}
			}
		}), ErrEndless, finding.TransferBroken},
	} {
		t.Run(tt.name, func(t *testing.T) {
			result := Receive(t.Context(), session(time.Second), Request{Zone: tarn, Server: tt.at}, func(Change) error { return nil })
			require.Error(t, result.Err)
			if tt.fails != nil {
				require.ErrorIs(t, result.Err, tt.fails)
			}
			require.Len(t, result.Findings, 1)
			assert.Equal(t, tt.found, result.Findings[0].Code)
			assert.Equal(t, finding.Fault, result.Findings[0].Severity)
		})
	}
	t.Run("cut short", func(t *testing.T) {
		ctx, cancel := context.WithCancel(t.Context())
		at := server(t, func(c net.Conn, q []byte) { cancel(); io.Copy(io.Discard, c) })
		result := Receive(ctx, session(time.Minute), Request{Zone: tarn, Server: at}, func(Change) error { return nil })
		require.ErrorIs(t, result.Err, context.Canceled)
		assert.Empty(t, result.Findings)
	})
}

// What is signed has to be signed to its end.
func TestSignedTransfers(t *testing.T) {
	key, err := tsig.NewKey("summit.key", "", "dGFybg==")
	require.NoError(t, err)
	for _, tt := range []struct {
		name   string
		signed []bool
		fails  error
	}{
		{"every message", []bool{true, true, true}, nil},
		{"the first and the last", []bool{true, false, true}, nil},
		{"not the last", []bool{true, true, false}, ErrUnsigned},
		{"not the first", []bool{false, true, true}, tsig.ErrUnsigned},
	} {
		t.Run(tt.name, func(t *testing.T) {
			at := server(t, func(c net.Conn, query []byte) {
				chain := tsig.Chain{Key: key}
				if chain.Check(query, time.Now()) != nil {
					return
				}
				chain.Answer()
				for i, lines := range [][]string{{soa(7)}, {"www.tarn.example. 60 A 203.0.113.120"}, {soa(7)}} {
					out := message(t, query, wire.NoError, records(t, lines...))
					if tt.signed[i] {
						out = chain.Sign(out, time.Now())
					} else {
						chain.Skip(out)
					}
					c.Write(framed(out))
				}
			})
			result := Receive(t.Context(), session(10*time.Second), Request{Zone: tarn, Server: at, Key: key}, func(Change) error { return nil })
			require.ErrorIs(t, result.Err, tt.fails)
		})
	}
}

// Records leave in canonical order whatever memory there is, and zones that
// differ are told apart by their records.
func TestSortAndDiffer(t *testing.T) {
	lines := []string{"b.tarn.example. 60 A 192.0.2.2", "B.tarn.example. 60 A 192.0.2.1", "tarn.example. 60 NS a.", soa(7), "a.b.tarn.example. 60 TXT x", "a.tarn.example. 60 A 192.0.2.9",
		"*.tarn.example. 60 A 192.0.2.3", "b.tarn.example. 60 A 192.0.2.2", `\000.tarn.example. 60 A 192.0.2.4`, "tarn.example. 60 A 192.0.2.5"}
	want := []string{"tarn.example. SOA", "tarn.example. A", "tarn.example. NS", `\000.tarn.example. A`, "*.tarn.example. A", "a.tarn.example. A", "B.tarn.example. A", "b.tarn.example. A", "a.b.tarn.example. TXT"}
	scratch := &scratchFolder{dir: t.TempDir()}
	sorted := func(room int, lines ...string) *Sorter {
		s := &Sorter{Scratch: scratch.file, Room: room}
		t.Cleanup(func() { require.NoError(t, s.Close()) })
		for _, r := range records(t, lines...) {
			require.NoError(t, s.Add(r))
		}
		return s
	}
	for _, room := range []int{1, 300, 0} {
		s := sorted(room, lines...)
		var got []string
		for r, err := range s.Records() {
			require.NoError(t, err)
			got = append(got, r.Name.String()+" "+r.Type.String())
		}
		assert.Equal(t, want, got, "room for %d bytes", room)
		assert.Equal(t, room != 0, scratch.open > 0)
		require.NoError(t, s.Close())
		assert.Zero(t, scratch.open)
	}
	other := append(slices.Clone(lines[1:9]), "tarn.example. 3600 A 192.0.2.5", "z.tarn.example. 60 A 192.0.2.6")
	var got []string
	for d, err := range Differ(sorted(0, lines...).Records(), sorted(100, other...).Records()) {
		require.NoError(t, err)
		got = append(got, fmt.Sprint(d.Record.Name, d.Second, d.Other != nil))
	}
	assert.Equal(t, []string{"tarn.example. false true", "z.tarn.example. true false"}, got)
	broken := func(yield func(wire.Record, error) bool) { yield(wire.Record{}, io.ErrUnexpectedEOF) }
	for _, err := range Differ(broken, sorted(0, lines...).Records()) {
		require.ErrorIs(t, err, io.ErrUnexpectedEOF)
	}
}

// many answers with a zone of n records, 200 a message.
func many(t testing.TB, n int) exchange.Server {
	return server(t, func(c net.Conn, query []byte) {
		first := records(t, soa(7))
		c.Write(framed(message(t, query, wire.NoError, first)))
		batch := make([]wire.Record, 0, 200)
		for i := range n {
			name, _ := tarn.Child(fmt.Sprintf("host%d", i*7919%n))
			batch = append(batch, wire.Record{Name: name, Type: wire.A, Class: wire.IN, TTL: 60, Data: string([]byte{203, 0, byte(i >> 8), byte(i)})})
			if len(batch) == cap(batch) || i == n-1 {
				if _, err := c.Write(framed(message(t, query, wire.NoError, batch))); err != nil {
					return
				}
				batch = batch[:0]
			}
		}
		c.Write(framed(message(t, query, wire.NoError, first)))
	})
}

// A zone of a million records passes in memory that does not grow with it, sorted
// and compared.
func TestMemoryIsBounded(t *testing.T) {
	n := 1_000_000
	if testing.Short() {
		n = 100_000
	}
	var most uint64
	sample := func(i int) {
		if i%50_000 == 0 {
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			most = max(most, m.HeapInuse)
		}
	}
	at := many(t, n)
	seen := 0
	result := Receive(t.Context(), session(time.Minute), Request{Zone: tarn, Server: at}, func(Change) error { seen++; sample(seen); return nil })
	require.NoError(t, result.Err)
	assert.Equal(t, n+1, seen)
	assert.Less(t, most, uint64(32<<20), "while it streams")
	lines := &counter{sample: sample}
	fetched, err := Fetch(t.Context(), session(time.Minute), Request{Zone: tarn, Server: at}, Plan{To: lines, Sorted: true, Scratch: (&scratchFolder{dir: t.TempDir()}).file, Against: &Other{Label: "itself", Server: &at}})
	require.NoError(t, err)
	require.NoError(t, fetched.Err)
	assert.True(t, fetched.Compared.Same(), "%v", fetched.Compared.Err)
	assert.Equal(t, n+1, lines.n)
	assert.Less(t, most, uint64(160<<20), "while it is sorted and compared")
	t.Logf("at most %d MB", most>>20)
}

type counter struct {
	n      int
	sample func(int)
}

func (c *counter) Write(b []byte) (int, error) {
	c.n += bytes.Count(b, []byte("\n"))
	c.sample(0)
	return len(b), nil
}

func TestWritingThatFails(t *testing.T) {
	_, err := Fetch(t.Context(), session(time.Minute), Request{Zone: tarn, Server: many(t, 20_000)}, Plan{To: full{}})
	require.ErrorIs(t, err, errFull)
}

var errFull = errors.New("the disk is full")

type full struct{}

func (full) Write([]byte) (int, error) { return 0, errFull }

// Whatever messages come, reading them ends without a panic, and what is called
// whole began and ended with the SOA record.
func FuzzMessages(f *testing.F) {
	query := []byte{0, 1}
	f.Add(message(f, query, wire.NoError, records(f, soa(7), "www.tarn.example. 60 A 203.0.113.120", soa(7))), message(f, query, wire.NoError, nil), uint32(0))
	f.Add(message(f, query, wire.NoError, records(f, soa(7), soa(5), soa(6))), message(f, query, wire.NoError, records(f, soa(6), soa(7), soa(7))), uint32(5))
	f.Fuzz(func(t *testing.T, first, second []byte, since uint32) {
		result := &Result{Request: Request{Zone: tarn, Since: &since}, ByType: map[wire.Type]int{}}
		handed := 0
		r := &reader{result: result, now: time.Now, take: func(Change) error { handed++; return nil }}
		for _, msg := range [][]byte{first, second} {
			done, err := r.message(msg)
			if err != nil {
				break
			}
			if done {
				require.NotEmpty(t, result.Kind)
				require.Equal(t, r.state, atEnd)
				break
			}
		}
		require.Equal(t, result.Records, handed)
	})
}

func BenchmarkReceive(b *testing.B) {
	at := many(b, 100_000)
	var size int64
	for b.Loop() {
		result := Receive(b.Context(), session(time.Minute), Request{Zone: tarn, Server: at}, func(Change) error { return nil })
		require.NoError(b, result.Err)
		size = result.Bytes
	}
	b.SetBytes(size)
	b.ReportMetric(100_000*float64(b.N)/b.Elapsed().Seconds(), "records/s")
}

// scratchFolder makes temporary files and counts those that are open.
type scratchFolder struct {
	dir  string
	open int
}

type scratchFile struct {
	*os.File
	of *scratchFolder
}

func (f *scratchFile) Close() error {
	f.of.open--
	return f.File.Close()
}

func (f *scratchFolder) file() (Scratch, error) {
	file, err := os.CreateTemp(f.dir, "")
	f.open++
	return &scratchFile{file, f}, err
}
