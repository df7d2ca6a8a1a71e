package exchange

import (
	"context"
	"errors"
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/wire"
)

// A conversation hands over each message once, whatever the pieces it came in, and
// ends for the reason it ended.
func TestConversation(t *testing.T) {
	enough := errors.New("seen enough")
	several := func(c net.Conn, n int) {
		query := readQuery(c)
		for range n {
			c.Write(good(query))
		}
	}
	for _, tt := range []struct {
		name    string
		serve   func(net.Conn)
		want    int // messages
		stop    int // after which take says that it has enough; 0: never
		fails   error
		outcome Outcome
	}{
		{"three messages, and enough", func(c net.Conn) { several(c, 5) }, 3, 3, nil, Answered},
		{"fewer than are wanted", func(c net.Conn) { several(c, 2) }, 2, 3, ErrClosed, Answered},
		{"a byte at a time", func(c net.Conn) {
			for _, b := range good(readQuery(c)) {
				c.Write([]byte{b})
			}
		}, 1, 1, nil, Answered},
		{"closed at once", func(c net.Conn) { readQuery(c) }, 0, 1, ErrClosed, Unreachable},
		{"broken off within a message", func(c net.Conn) { out := good(readQuery(c)); c.Write(out[:len(out)-3]) }, 0, 1, ErrClosed, Unreachable},
		{"silence", func(c net.Conn) { readQuery(c); io.Copy(io.Discard, c) }, 0, 1, ErrNoReply, NoReply},
		{"silence after the first", func(c net.Conn) { several(c, 1); io.Copy(io.Discard, c) }, 1, 2, ErrNoReply, Answered},
		{"noise", func(c net.Conn) { readQuery(c); c.Write(framed([]byte("tarn"))) }, 0, 1, wire.ErrShort, Rejection},
		{"another ID", func(c net.Conn) {
			c.Write(framed(changed(readQuery(c), func(m *wire.Message) { m.ID++ })))
		}, 0, 1, ErrWrongID, Rejection},
		{"a question", func(c net.Conn) { c.Write(framed(readQuery(c))) }, 0, 1, ErrNotReply, Rejection},
		{"an error of who takes it", func(c net.Conn) { several(c, 5) }, 2, -2, enough, Answered},
	} {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			wait := patience(tt.outcome)
			if errors.Is(tt.fails, ErrNoReply) {
				wait = 400 * time.Millisecond
			}
			client := &Client{Network: Internet{}, Now: time.Now, Options: Options{Wait: wait}}
			m := NewQuery(question, client.Options)
			query, err := m.Bytes()
			require.NoError(t, err)
			got := 0
			session := &Session{Client: client}
			e, err := session.Converse(t.Context(), Request{Server: Server{Address: tcpServer(t, tt.serve)}, Question: question}, query, func(msg []byte) (bool, error) {
				got++
				if got == -tt.stop {
					return false, enough
				}
				return got == tt.stop, nil
			})
			if tt.fails == nil {
				require.NoError(t, err)
			} else {
				require.ErrorIs(t, err, tt.fails)
			}
			assert.Equal(t, tt.want, got)
			assert.Equal(t, tt.outcome, e.Outcome)
			assert.Equal(t, 1, e.Number)
			assert.Equal(t, query, e.Attempts[0].Query)
		})
	}
	t.Run("cut short from outside", func(t *testing.T) {
		ctx, cancel := context.WithCancel(t.Context())
		address := tcpServer(t, func(c net.Conn) { readQuery(c); cancel(); io.Copy(io.Discard, c) })
		client := &Client{Network: Internet{}, Now: time.Now, Options: Options{Wait: time.Minute}}
		m := NewQuery(question, client.Options)
		query, _ := m.Bytes()
		e, err := client.Conversation(ctx, Server{Address: address}, question, query, client.Options, func([]byte) (bool, error) { return false, nil })
		require.ErrorIs(t, err, context.Canceled)
		assert.Empty(t, e.Outcome, "how it would have ended is not known")
	})
}

// A DNAME redirects names below it, with or without the alias that should come along.
func TestAnswersAlongDNAME(t *testing.T) {
	data := func(typ wire.Type, value string) string {
		d, err := wire.ParseRecordData(typ, wire.IN, value)
		require.NoError(t, err)
		return d
	}
	dname := wire.Record{Name: wire.MustParseName("old.tarn.example"), Type: wire.DNAME, Class: wire.IN, TTL: 60, Data: data(wire.DNAME, "lake.test.")}
	address := wire.Record{Name: wire.MustParseName("www.lake.test"), Type: wire.A, Class: wire.IN, TTL: 60, Data: data(wire.A, "203.0.113.70")}
	long := wire.MustParseName("aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa.bbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbb.ccccccccccccccccccccccccccccccccccccccccccccccccccccccccccccccc.ddddddddddddddddddddddddddddddddddddddddddddd.tarn.example")
	for name, tt := range map[string]struct {
		ask     string
		records []wire.Record
		ends    string
		aliases int
	}{
		"below it":  {"www.old.tarn.example", []wire.Record{dname, address}, "www.lake.test.", 1},
		"itself":    {"old.tarn.example", []wire.Record{dname}, "old.tarn.example.", 0},
		"beside it": {"www.new.tarn.example", []wire.Record{dname}, "www.new.tarn.example.", 0},
		"a name that overflows": {long.String(), []wire.Record{{Name: wire.MustParseName("tarn.example"), Type: wire.DNAME, Class: wire.IN,
			Data: data(wire.DNAME, "a-name-that-is-much-longer-than-the-one-it-takes-the-place-of.example.")}}, long.String(), 0},
	} {
		q := wire.Question{Name: wire.MustParseName(tt.ask), Type: wire.A, Class: wire.IN}
		a := ReadAnswer(q, &wire.Message{Answer: tt.records})
		assert.Equal(t, tt.ends, a.Name.String(), name)
		assert.Len(t, a.Aliases, tt.aliases, name)
	}
}
