package live

import (
	"bytes"
	"context"
	"io"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/conversation"
	"unquil/core/exchange"
	"unquil/core/wire"
)

// proc is a machine with three processes: a shell that runs a browser, and a resolver.
func proc() fstest.MapFS {
	link := func(to string) *fstest.MapFile { return &fstest.MapFile{Data: []byte(to), Mode: 0o777 | 1<<27} } // a symbolic link
	text := func(s string) *fstest.MapFile { return &fstest.MapFile{Data: []byte(s)} }
	return fstest.MapFS{
		"net/udp": text("  sl  local_address rem_address   st tx_queue rx_queue tr tm->when retrnsmt   uid  timeout inode ref pointer drops\n" +
			"  81: 150200C0:9C40 350200C0:0035 01 00000000:00000000 00:00000000 00000000  1000        0 4711 2 0 0\n" +
			"  82: 00000000:9C41 00000000:0000 07 00000000:00000000 00:00000000 00000000   101        0 4712 2 0 0\n" +
			"  83: 00000000:9C42 00000000:0000 07 00000000:00000000 00:00000000 00000000   101        0 0 2 0 0\n" +
			"garbage\n  84: XYZ:9C43 0 0 0 0 0 0 0 9 9\n"),
		"net/udp6": text("head\n   1: B80D0120000000000000000021000000:9C40 0:0 07 0:0 0:0 0 1000 0 4713 2 0 0\n"),
		"net/tcp":  text("head\n   1: 150200C0:9C44 350200C0:0035 01 0:0 0:0 0 1000 0 4714 2 0 0\n"),
		"100/comm": text("sh\n"), "100/task/100/children": text("200 \n"), "100/fd/0": link("/dev/null"),
		"200/comm": text("browser\n"), "200/task/200/children": text(""), "200/fd/3": link("socket:[4711]"), "200/fd/4": link("socket:[4713]"), "200/fd/5": link("socket:[4714]"),
		"300/comm": text("re\x1bsolver\n"), "300/fd/7": link("socket:[4712]"), "300/fd/8": link("pipe:[1]"),
		"sys/fd/1": link("socket:[4712]"),
	}
}

// Whose a socket is comes out of the tables that the system keeps, in this process or another.
func TestSocketOwners(t *testing.T) {
	asks, answered := io.Pipe()
	back, answers := io.Pipe()
	go func() {
		assert.NoError(t, (&Sockets{Proc: proc()}).Serve(asks, answers))
		answers.Close()
	}()
	elsewhere := NewElsewhere(back, answered)
	for what, finder := range map[string]Finder{"here": &Sockets{Proc: proc()}, "elsewhere": elsewhere} {
		finder.Watch(100)
		for _, c := range []struct {
			from string
			tcp  bool
			want *Program
		}{
			{"192.0.2.21:40000", false, &Program{PID: 200, Name: "browser", Child: true}},
			{"[2001:db8::21]:40000", false, &Program{PID: 200, Name: "browser", Child: true}},
			{"192.0.2.21:40004", true, &Program{PID: 200, Name: "browser", Child: true}},
			{"192.0.2.21:40001", false, &Program{PID: 300, Name: `re\027solver`}},
			{"192.0.2.21:40002", false, nil}, // its process is gone
			{"192.0.2.21:40003", false, nil},
			{"192.0.2.22:40000", false, nil},
			{"192.0.2.21:40000", true, nil},
		} {
			assert.Equal(t, c.want, finder.Owner(netip.MustParseAddrPort(c.from), c.tcp), "%s: %s", what, c.from)
		}
	}
	answered.Close()
	assert.Nil(t, elsewhere.Owner(client, false), "the other process is gone")
	assert.Nil(t, (&Sockets{Proc: fstest.MapFS{}}).Owner(client, false))
	assert.Error(t, (&Sockets{Proc: proc()}).Serve(strings.NewReader(`{"From":"nonsense"}`), io.Discard))
}

// question is a message that asks for a name.
func message(id uint16, name string, reply bool) []byte {
	m := wire.Message{ID: id, Flags: wire.RD, Questions: []wire.Question{{Name: wire.MustParseName(name), Type: wire.A, Class: wire.IN}}}
	if reply {
		m.Flags |= wire.QR
		if strings.HasPrefix(name, "no.") {
			m.Flags |= wire.Flags(wire.ServFail)
		}
	}
	data, _ := m.Bytes()
	return data
}

// Questions are noted with their programs while these have them open; what programs asked for is
// counted, and how long it held one of them up.
func TestPrograms(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		from := func(port uint16) netip.AddrPort { return netip.AddrPortFrom(client.Addr(), port) }
		sent := []struct {
			at    time.Duration
			from  netip.AddrPort
			id    uint16
			name  string
			reply time.Duration // after which one comes; 0: never
		}{
			{0, from(40000), 1, "www.hollowtarn.example.", 100 * time.Millisecond},
			{50 * time.Millisecond, from(40000), 2, "no.hollowtarn.example.", 100 * time.Millisecond},
			{300 * time.Millisecond, from(40001), 3, "www.hollowtarn.example.", 20 * time.Millisecond},
			{400 * time.Millisecond, from(40000), 4, "silent.hollowtarn.example.", 0},
			{500 * time.Millisecond, from(50000), 5, "www.hollowtarn.example.", 10 * time.Millisecond},
		}
		begun := time.Now()
		tap := &heads{}
		var file bytes.Buffer
		w, err := capture.NewWriter(&file, capture.Ethernet)
		require.NoError(t, err)
		type due struct {
			at   time.Duration
			data []byte
		}
		var all []due
		for _, s := range sent {
			ask := capture.AppendFrame(nil, s.from, server, message(s.id, s.name, false))
			tap.frames = append(tap.frames, ask)
			all = append(all, due{s.at, ask})
			if s.reply > 0 {
				all = append(all, due{s.at + s.reply, capture.AppendFrame(nil, server, s.from, message(s.id, s.name, true))})
			}
		}
		for at := range 1200 {
			for _, d := range all {
				if d.at == time.Duration(at)*time.Millisecond {
					w.Packet(begun.Add(d.at), d.data, "")
				}
			}
		}
		w.Statistics(0, begun.Add(2*time.Minute).UnixNano(), 0)
		owners := &Owners{Finder: &Sockets{Proc: proc()}}
		owners.Finder.Watch(100)
		ctx, stop := context.WithCancel(t.Context())
		var followed sync.WaitGroup
		followed.Go(func() { owners.Follow(ctx, tap) })
		time.Sleep(time.Second)
		stop()
		followed.Wait()
		var programs Programs
		reader, err := capture.NewReader(&file)
		require.NoError(t, err)
		_, err = conversation.Read(t.Context(), []*capture.Reader{reader}, conversation.Options{Live: &conversation.Live{}, Each: func(e *conversation.Transaction) {
			programs.Add(e, owners.Of(e.Client().AddrPort(), e.ID(), e.TCP()))
		}})
		require.NoError(t, err)
		var got []string
		for _, u := range programs.Uses() {
			got = append(got, string(u.Name))
			switch u.Name {
			case "browser":
				assert.Equal(t, []int{200}, u.Processes)
				assert.Equal(t, []int{3, 2, 1}, []int{u.Exchanges, u.Failed, u.Unanswered})
				names := u.Names()
				assert.Equal(t, []string{"no.hollowtarn.example.", "silent.hollowtarn.example.", "www.hollowtarn.example."}, []string{names[0].Name.String(), names[1].Name.String(), names[2].Name.String()})
				assert.Equal(t, exchange.ServerFailure, names[0].Outcome)
			case "":
				assert.False(t, u.Known)
			}
		}
		assert.Equal(t, []string{"browser", `re\027solver`, ""}, got, "those that nobody knows come last")
		held, atLeast := programs.HeldUp()
		assert.Equal(t, 150*time.Millisecond, held, "what was open at the same time counts once")
		assert.True(t, atLeast, "a reply never came")
		assert.Equal(t, 3, programs.Child().Exchanges)
	})
}

// heads is a tap that hears the beginnings of some frames.
type heads struct{ frames [][]byte }

func (h *heads) Interfaces() []Interface { return nil }

func (h *heads) Receive(wait time.Duration, take func(*Packet)) error {
	if len(h.frames) == 0 {
		time.Sleep(wait)
		return nil
	}
	take(&Packet{Record: capture.Record{Link: capture.Ethernet, Data: h.frames[0], Length: len(h.frames[0])}})
	h.frames = h.frames[1:]
	return nil
}

func (h *heads) Lost() (uint64, error) { return 0, nil }
func (h *heads) Close() error          { return nil }

func FuzzSocketTables(f *testing.F) {
	for name, file := range proc() {
		if strings.HasPrefix(name, "net/") {
			f.Add(string(file.Data))
		}
	}
	f.Fuzz(func(t *testing.T, table string) {
		machine := proc()
		for _, name := range []string{"net/udp", "net/udp6", "net/tcp"} {
			machine[name] = &fstest.MapFile{Data: []byte(table)}
		}
		s := &Sockets{Proc: machine}
		for _, tcp := range []bool{false, true} {
			if p := s.Owner(client, tcp); p != nil {
				assert.Positive(t, p.PID)
			}
			s.Owner(client6, tcp)
		}
	})
}
