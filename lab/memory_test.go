package lab

import (
	"crypto/x509"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// What goes through memory arrives as through sockets, over every transport, and takes
// the time that the lab says to the nanosecond.
func TestMemoryCarriesEveryTransport(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l, err := New(Options{InMemory: true, Latency: 30 * time.Millisecond})
		require.NoError(t, err)
		office, _ := l.Resolver("office")
		pool, err := l.CAs()
		require.NoError(t, err)
		for _, tt := range []struct {
			server string
			trips  time.Duration // round trips until the reply is there
			name   string
			kind   wire.Type
			want   string
		}{
			{"udp://" + office.Addr().String(), 1, "tickets.hollowtarn.example.", wire.A, "203.0.113.80"},
			{"tcp://" + office.Addr().String(), 2, "tickets.hollowtarn.example.", wire.A, "203.0.113.80"},
			{office.Addr().String(), 3, "timetable.hollowtarn.example.", wire.TXT, "valley station"}, // cut, and retried over TCP
			{"tls://" + office.Addr().String(), 2, "tickets.hollowtarn.example.", wire.A, "203.0.113.80"},
			{"https://" + office.Addr().String() + "/dns-query", 2, "tickets.hollowtarn.example.", wire.A, "203.0.113.80"},
			{"quic://" + office.Addr().String(), 1, "tickets.hollowtarn.example.", wire.A, "203.0.113.80"},
		} {
			name := wire.MustParseName(tt.name)
			ask := func(o exchange.Options) exchange.Exchange {
				client := l.Enter(&exchange.Client{Options: o})
				defer client.Close()
				target, err := exchange.ParseTarget(tt.server)
				require.NoError(t, err)
				return client.Ask(t.Context(), target.Server, wire.Question{Name: name, Type: tt.kind, Class: wire.IN})
			}
			ask(exchange.Options{CAs: pool}) // for the resolver to have it
			begun := time.Now()
			e := ask(exchange.Options{CAs: pool})
			assert.Equal(t, tt.trips*30*time.Millisecond, time.Since(begun), tt.server)
			require.Equal(t, exchange.Answered, e.Outcome, "%s: %v", tt.server, e.Err)
			assert.Contains(t, strings.ToLower(e.Answer().Records[0].Value()), tt.want, tt.server)
			if tt.server[0] == 't' && tt.server[1] == 'l' {
				assert.Equal(t, exchange.Unreachable, ask(exchange.Options{CAs: x509.NewCertPool()}).Outcome, "signed by nobody known")
			}
		}
		l.Close()
		time.Sleep(time.Minute) // what still waits in the lab ends
	})
}
