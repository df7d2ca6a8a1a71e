package lab

import (
	"bytes"
	"io"
	"net/netip"
	"path"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/exchange"
	"unquil/core/transfer"
	"unquil/core/tsig"
	"unquil/core/wire"
	"unquil/core/zonefile"
)

// The lab's servers give their zones to whom the scenario says, whole and as changes,
// and what they give is what their master files hold.
func TestTransfers(t *testing.T) {
	l, err := New(Options{})
	require.NoError(t, err)
	t.Cleanup(l.Close)
	own := l.Scenario.Keys[0]
	key, err := tsig.NewKey(own.Name, own.Algorithm, own.Secret)
	require.NoError(t, err)
	stranger, err := tsig.NewKey(own.Name, own.Algorithm, "dGFybg==")
	require.NoError(t, err)
	cas, err := l.CAs()
	require.NoError(t, err)
	client := l.Enter(&exchange.Client{Options: exchange.Options{Wait: 10 * time.Second, CAs: cas}})
	defer client.Close()
	zone := wire.MustParseName("hollowtarn.example")
	old, now := uint32(2026030701), uint32(2026030902)
	for _, tt := range []struct {
		name   string
		server string
		over   exchange.Transport
		key    *tsig.Key
		since  *uint32
		kind   transfer.Kind
		serial uint32
		fails  error
	}{
		{"to anybody", "ns.farhost.test.", exchange.TCP, nil, nil, transfer.Whole, old, nil},
		{"with the key", "dns1.hollowtarn.example.", exchange.TCP, key, nil, transfer.Whole, now, nil},
		{"with the key, over TLS", "dns1.hollowtarn.example.", exchange.TLS, key, nil, transfer.Whole, now, nil},
		{"without it", "dns1.hollowtarn.example.", exchange.TCP, nil, nil, "", 0, transfer.ErrRefused},
		{"with another secret", "dns1.hollowtarn.example.", exchange.TCP, stranger, nil, "", 0, transfer.ErrRefused},
		{"to nobody", "dns2.hollowtarn.example.", exchange.TCP, nil, nil, "", 0, transfer.ErrRefused},
		{"what changed", "dns1.hollowtarn.example.", exchange.TCP, key, &old, transfer.Changes, now, nil},
		{"what changed since a version that nobody has", "dns1.hollowtarn.example.", exchange.TCP, key, new(uint32(7)), transfer.Whole, now, nil},
		{"nothing changed", "dns1.hollowtarn.example.", exchange.TCP, key, &now, transfer.Current, now, nil},
	} {
		t.Run(tt.name, func(t *testing.T) {
			address, known := l.Scenario.AddressOf(tt.server)
			require.True(t, known)
			server := exchange.Server{Host: tt.server, Address: exchangeAddress(address.String()), Transport: exchange.TCP}.Over(tt.over)
			var got []wire.Record
			result := transfer.Receive(t.Context(), &exchange.Session{Client: client}, transfer.Request{Zone: zone, Server: server, Key: tt.key, Since: tt.since},
				func(c transfer.Change) error { got = append(got, c.Record); return nil })
			require.ErrorIs(t, result.Err, tt.fails)
			assert.Equal(t, tt.kind, result.Kind)
			assert.Equal(t, tt.serial, result.SOA.Serial)
			if tt.kind != transfer.Whole {
				return
			}
			file := "hollowtarn.example.zone"
			if tt.serial == old {
				file = "hollowtarn.example.behind.zone"
			}
			_, want, err := Served{Name: "hollowtarn.example.", File: file}.records()
			require.NoError(t, err)
			assert.ElementsMatch(t, texts(want), texts(got))
		})
	}
}

func texts(records []wire.Record) (all []string) {
	for _, r := range records {
		all = append(all, r.String())
	}
	return all
}

// What is exported is the lab: zones and captures that read, and keys that open.
func TestExport(t *testing.T) {
	zones, keys := 0, 0
	require.NoError(t, Export(func(name string, content []byte) error {
		assert.NotEmpty(t, content, name)
		switch path.Ext(name) {
		case ".zone":
			zones++
			_, err := zonefile.Read(bytes.NewReader(content), zonefile.Options{File: name})
			require.NoError(t, err)
		case ".toml":
			if path.Dir(name) == "keys" {
				keys++
			}
		}
		return nil
	}))
	assert.Greater(t, zones, 15)
	assert.Positive(t, keys)
	require.ErrorIs(t, Export(func(string, []byte) error { return io.ErrShortWrite }), io.ErrShortWrite)
}

// A latency holds up every reply, and several at once no more than one.
func TestLatency(t *testing.T) {
	waited := make(chan time.Duration, 100)
	l, err := New(Options{Latency: 30 * time.Millisecond, Wait: func(d time.Duration) { waited <- d }})
	require.NoError(t, err)
	t.Cleanup(l.Close)
	client := l.Enter(&exchange.Client{})
	e := client.Ask(t.Context(), exchange.Server{Address: exchangeAddress("203.0.113.11")}, wire.Question{Name: wire.MustParseName("web.hollowtarn.example"), Type: wire.A, Class: wire.IN})
	require.Equal(t, exchange.Answered, e.Outcome, "%v", e.Err)
	assert.Equal(t, 30*time.Millisecond, <-waited)
	assert.Empty(t, waited)
}

func exchangeAddress(address string) netip.AddrPort {
	return netip.AddrPortFrom(netip.MustParseAddr(address), 53)
}
