package evidence

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/netip"
	"time"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// travel is what packets tell of an attempt, where there are none.
type travel struct {
	Local    netip.AddrPort `json:",omitzero"`
	Received time.Time      `json:",omitzero"`
	Reply    []byte         `json:",omitempty"`
	Odd      []stranger     `json:",omitempty"` // what was rejected, in the order of the attempt's notes
}

// stranger is a message that was not believed.
type stranger struct {
	At   time.Time
	From netip.AddrPort
	Data []byte `json:",omitempty"`
}

// Account is an exchange with all that is known of it, as JSON: [FromAccount] gives it back
// as it was.
func Account(e *exchange.Exchange) (json.RawMessage, error) {
	c := accountOf(e)
	for i := range e.Attempts {
		a, about := &e.Attempts[i], &c.Attempts[i]
		about.Sent, about.Query = a.Sent, a.Query
		about.Travel = &travel{Local: a.Local, Received: a.Received, Reply: a.Reply}
		for _, r := range a.Rejected {
			about.Travel.Odd = append(about.Travel.Odd, stranger{r.At, r.From, r.Data})
		}
	}
	return json.Marshal(c)
}

// FromAccount reads an account back. The error wraps ErrNoRun.
func FromAccount(text json.RawMessage) (exchange.Exchange, error) {
	var c account
	if err := json.Unmarshal(text, &c); err != nil {
		return exchange.Exchange{}, fmt.Errorf("%w: %w", ErrNoRun, err)
	}
	if !shows(text) {
		return exchange.Exchange{}, ErrNoRun
	}
	e := c.exchange()
	for i := range c.Attempts {
		about, a := &c.Attempts[i], &e.Attempts[i]
		t := about.Travel
		if t == nil {
			t = &travel{}
		}
		if len(t.Odd) != len(about.Rejected) {
			return e, ErrNoRun
		}
		a.Local, a.Received, a.Reply = t.Local, t.Received, t.Reply
		for at, s := range t.Odd {
			a.Rejected = append(a.Rejected, exchange.Rejected{At: s.At, From: s.From, Data: s.Data, Err: cmp.Or(about.Rejected[at].Err(), exchange.ErrWrongQuestion)})
		}
		e.Client = a.Local
	}
	return e, c.believe(&e)
}

// exchange is what an account itself says of one.
func (c *account) exchange() exchange.Exchange {
	e := exchange.Exchange{Number: c.Number, Server: c.Server, Question: wire.Question{Name: c.Name, Type: c.Type, Class: c.Class}, Begun: c.Begun, Ended: c.Ended,
		EDNSBroke: c.EDNSBroke, EDNSIgnored: c.EDNSIgnored, Err: c.Err.Err()}
	for i := range c.Attempts {
		about := &c.Attempts[i]
		e.Attempts = append(e.Attempts, exchange.Attempt{Transport: about.Transport, Sent: about.Sent, Query: about.Query, Err: about.Err.Err(), Security: about.Security})
	}
	return e
}
