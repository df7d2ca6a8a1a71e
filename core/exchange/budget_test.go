package exchange

import (
	"context"
	"net"
	"net/netip"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/wire"
)

func TestBudget(t *testing.T) {
	victim, named := netip.MustParseAddr("203.0.113.9"), netip.MustParseAddr("192.0.2.53")
	b := NewBudget(1)
	b.Name(named)
	for range EachAddress {
		require.NoError(t, b.admit(victim, 1))
	}
	require.ErrorIs(t, b.admit(victim, 1), ErrBudget)
	for range 3 * EachRun {
		require.NoError(t, b.admit(named, 1), "the person named it")
	}
	for i := range EachRun - EachAddress {
		require.NoError(t, b.admit(netip.AddrFrom4([4]byte{198, 51, byte(i >> 8), byte(i)}), 1))
	}
	require.ErrorIs(t, b.admit(netip.MustParseAddr("198.51.100.200"), 1), ErrBudget)
	assert.Equal(t, FollowUps, b.Follow(FollowUps+9))
	assert.Zero(t, b.Follow(1))
	assert.Equal(t, []string{"203.0.113.9: 40 packets were sent there, the limit for an address that you did not name; 1 query was left out",
		"1000 packets were sent to servers that you did not name, the limit for one run; 1 query was left out",
		"64 queries were sent about hosts that answers name, the limit for one run; 10 queries were left out"}, b.Told())
	for address, what := range map[string]string{"127.0.0.1": "loopback", "::1": "loopback", "0.0.0.0": "unspecified", "0.1.2.3": "unspecified", "::": "unspecified", "224.0.0.1": "multicast",
		"ff02::1": "multicast", "255.255.255.255": "broadcast", "169.254.1.1": "of one link", "fe80::1": "of one link", "::ffff:127.0.0.1": "loopback", "10.0.0.1": "", "203.0.113.1": ""} {
		assert.Equal(t, what, b.Nowhere(netip.MustParseAddr(address)), address)
	}
	require.ErrorIs(t, b.admit(netip.MustParseAddr("255.255.255.255"), 1), ErrNowhere)
	b.Name(netip.MustParseAddr("127.0.0.7"))
	assert.Empty(t, b.Nowhere(netip.MustParseAddr("127.0.0.1")), "a tree of the person's own")
	many := NewBudget(3)
	for range 3 * EachAddress {
		require.NoError(t, many.admit(victim, 1), "each name has the bounds anew")
	}
	require.Error(t, many.admit(victim, 1))
	var none *Budget
	require.NoError(t, none.admit(victim, 1))
	assert.Empty(t, none.Told())
}

// A reply with another client cookie than was sent is not believed (RFC 7873 §5.3).
func TestCookies(t *testing.T) {
	q := wire.Question{Name: wire.MustParseName("a.test"), Type: wire.A, Class: wire.IN}
	query := NewQuery(q, Options{Cookie: true})
	asked, _ := query.EDNS()
	mine, _ := asked.Option(wire.Cookie)
	for _, tt := range []struct {
		name   string
		cookie string
		err    error
	}{
		{"the client's alone", mine, nil},
		{"with the server's", mine + "12345678", nil},
		{"another", "12345678", ErrWrongCookie},
		{"another, with the server's", "12345678" + mine, ErrWrongCookie},
		{"too short", mine[:7], ErrWrongCookie},
		{"between the lengths", mine + "123", ErrWrongCookie},
		{"none", "", nil},
	} {
		t.Run(tt.name, func(t *testing.T) {
			reply := wire.Message{ID: query.ID, Flags: wire.QR, Questions: query.Questions}
			if tt.cookie != "" {
				reply.Additional = []wire.Record{wire.EDNS{Size: 1232, Options: []wire.Option{{Code: wire.Cookie, Data: tt.cookie}}}.Record(wire.NoError)}
			}
			data, err := reply.Bytes()
			require.NoError(t, err)
			_, err = believe(data, &query)
			require.ErrorIs(t, err, tt.err)
		})
	}
	assert.Equal(t, "wrong-id", Disbelief(ErrWrongCookie))
}

// An alias chain that goes on beyond what is followed is said to be that.
func TestLongAliasChains(t *testing.T) {
	q := wire.Question{Name: wire.MustParseName("a0.test"), Type: wire.A, Class: wire.IN}
	chain := func(links int) *wire.Message {
		m := &wire.Message{Flags: wire.QR, Questions: []wire.Question{q}}
		name := q.Name
		for range links {
			next, err := wire.Root.Child("x" + name.Label(0)[:min(len(name.Label(0)), 60)])
			require.NoError(t, err)
			m.Answer = append(m.Answer, wire.Record{Name: name, Type: wire.CNAME, Class: wire.IN, Data: next.Wire()})
			name = next
		}
		m.Answer = append(m.Answer, wire.Record{Name: name, Type: wire.A, Class: wire.IN, Data: "\xcb\x00\x71\x01"})
		return m
	}
	assert.Equal(t, Answered, Judge(q, chain(maxAliases)))
	long := chain(maxAliases + 1)
	assert.Equal(t, Rejection, Judge(q, long))
	assert.True(t, ReadAnswer(q, long).Cut)
	assert.Len(t, ReadAnswer(q, long).Aliases, maxAliases)
}

// broken is a network in which no socket can be had.
type broken struct{ err error }

func (b broken) Datagrams(context.Context, netip.AddrPort) (Datagrams, error) { return nil, b.err }

func (b broken) Stream(context.Context, netip.AddrPort) (net.Conn, error) { return nil, b.err }

// What this machine lacks says nothing of a server.
func TestLocalLimits(t *testing.T) {
	for _, err := range []error{syscall.EMFILE, syscall.ENFILE, syscall.ENOBUFS, syscall.ENOMEM, syscall.EADDRINUSE} {
		c := &Client{Network: broken{err}, Now: time.Now}
		e := c.Ask(t.Context(), Server{Address: netip.MustParseAddrPort("192.0.2.53:53")}, wire.Question{Name: wire.MustParseName("a.test"), Type: wire.A, Class: wire.IN})
		assert.Empty(t, e.Outcome, err)
		require.ErrorIs(t, e.Err, ErrThisMachine)
		require.ErrorIs(t, c.Limited(), err)
	}
	c := &Client{Network: broken{syscall.ENETUNREACH}, Now: time.Now}
	e := c.Ask(t.Context(), Server{Address: netip.MustParseAddrPort("192.0.2.53:53")}, wire.Question{Name: wire.MustParseName("a.test"), Type: wire.A, Class: wire.IN})
	assert.Equal(t, Unreachable, e.Outcome)
	require.NoError(t, c.Limited())
}

// Who asks the same server the same in the same way again gets the same exchange, and one
// packet is sent; on purpose, it is asked anew.
func TestSharedQuestions(t *testing.T) {
	b := NewBudget(1)
	s := &Session{Client: &Client{Network: broken{syscall.ENETUNREACH}, Now: time.Now, Budget: b, Options: Options{Attempts: 1}}}
	r := Request{Server: Server{Address: netip.MustParseAddrPort("203.0.113.9:53")}, Question: wire.Question{Name: wire.MustParseName("a.test"), Type: wire.A, Class: wire.IN}, Shared: true}
	capital := r
	capital.Question.Name = wire.MustParseName("A.TEST")
	first := s.Ask(t.Context(), r)
	all := s.AskAll(t.Context(), []Request{r, capital, r})
	later := make(chan *Exchange)
	s.Start(t.Context(), r, func(e *Exchange) { later <- e })
	assert.Same(t, first, <-later)
	for _, e := range all {
		assert.Same(t, first, e)
	}
	assert.Equal(t, 1, b.spent[r.Server.Address.Addr()])
	r.Shared = false
	assert.NotSame(t, first, s.Ask(t.Context(), r))
	assert.Len(t, s.Exchanges(), 2)
	ended, stop := context.WithCancel(t.Context())
	stop()
	waiting := (&sharedExchange{done: make(chan struct{})}).wait(ended, r)
	require.ErrorIs(t, waiting.Err, context.Canceled)
}

// Nobody gets more in a second than the bound, and a rate bounds all of them together.
func TestTurns(t *testing.T) {
	now := time.Unix(1_773_042_000, 0)
	b := NewBudget(1)
	victim, named := netip.MustParseAddr("203.0.113.9"), netip.MustParseAddr("203.0.113.10")
	b.Name(named)
	for i := range 3 * EachSecond {
		assert.Equal(t, time.Duration(i/EachSecond)*time.Second, b.turn(victim, now), "packet %d", i+1)
		assert.Zero(t, b.turn(named, now), "the person named it")
	}
	assert.Equal(t, []string{"203.0.113.9: queries waited 2 times, so that no address that you did not name gets more than 30 packets a second"}, b.Told())
	assert.Zero(t, b.turn(victim, now.Add(time.Minute)))
	b.Rate = 10
	for i := range 5 {
		assert.Equal(t, time.Duration(i)*100*time.Millisecond, b.turn(named, now.Add(time.Hour)))
	}
	var none *Budget
	assert.Zero(t, none.turn(victim, now))
}
