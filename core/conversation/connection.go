package conversation

import "unquil/core/capture"

// connection is how far a TCP connection has come about.
type connection uint8

const (
	noConnection connection = iota // nobody asked for one
	wanted                         // the client did, and heard nothing
	refused                        // the server, or somebody for it, reset it
	accepted
	pending // the capture ended too soon to say
)

// connections are the last TCP connections to servers that clients asked for, in turn.
type connections struct {
	ring  [64]attempt
	count int
}

type attempt struct {
	client, server capture.Endpoint
	at             int64 // when it was asked for first, nanoseconds since 1970 UTC
	packet         int   // in which
	state          connection
	told           bool // by an exchange whose reply was cut
}

// newest yields them, the newest first.
func (c *connections) newest(yield func(*attempt) bool) {
	for i := 1; i <= min(c.count, len(c.ring)) && yield(&c.ring[(c.count-i)%len(c.ring)]); i++ {
	}
}

// of is the newest between two ends; nil: there is none.
func (c *connections) of(client, server capture.Endpoint) *attempt {
	for a := range c.newest {
		if a.client == client && a.server == server {
			return a
		}
	}
	return nil
}

// Connecting takes a segment that begins a TCP connection, accepts or resets it.
func (p *pairer) Connecting(s *capture.Packet) {
	c := &p.connections
	client, server := s.To, s.From
	p.now = max(p.now, s.At)
	begins := s.Flags&(capture.SYN|capture.ACK|capture.RST) == capture.SYN
	if begins {
		client, server = server, client
	}
	known := c.of(client, server)
	switch {
	case begins && (known == nil || known.state != wanted): // or else the client tries again
		p.forget(&c.ring[c.count%len(c.ring)])
		c.ring[c.count%len(c.ring)] = attempt{client, server, s.At, s.Number, wanted, false}
		c.count++
	case begins || known == nil || known.state != wanted:
	case s.Flags&capture.RST != 0:
		known.state = refused
	default:
		known.state = accepted
	}
}

// forget tells of a connection that did not come about, unless an exchange has told of it.
func (p *pairer) forget(a *attempt) {
	if p.Unconnected != nil && !a.told && (a.state == refused || a.state == wanted && p.now-a.at >= endOfCapture) {
		p.Unconnected(a)
	}
	a.state = noConnection
}

// after is what became of the first connection that a client asked its server for once the
// reply of an exchange had come.
func (c *connections) after(pair *Transaction, now int64) (state connection) {
	for a := range c.newest {
		if a.at < pair.Received {
			break
		}
		if a.server == pair.Server() && a.client.Host() == pair.Client().Host() {
			a.told = true
			if state = a.state; state == wanted && now-a.at < endOfCapture {
				state = pending
			}
		}
	}
	return state
}
