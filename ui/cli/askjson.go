package cli

import (
	"unquil/core/exchange"
	"unquil/ui/data"
	"unquil/ui/text"
)

// streamed is the JSON form of answers.
type streamed struct {
	*data.Stream
	rest data.Rest
}

func (s *streamed) block(q *ask, b text.Block) error {
	write := func(e *exchange.Exchange) error {
		return s.Exchange(data.OfExchanges([]exchange.Exchange{*e}, q.wire)[0])
	}
	for i, e := range b.Exchanges {
		if err := write(e); err != nil {
			return err
		}
		if i < len(b.Timings) {
			s.rest.Timings = append(s.rest.Timings, data.OfTiming(e, b.Timings[i]))
		}
		if zone, ok := b.ZoneTTLs[e.Question]; ok {
			s.rest.ZoneTTLs = append(s.rest.ZoneTTLs, data.ZoneTTL{Exchange: e.Number, TTL: zone.TTL, Same: zone.Same})
		}
	}
	for i := range b.Validated {
		s.rest.Validations = append(s.rest.Validations, data.OfValidated(&b.Validated[i]))
		if err := write(b.Validated[i].Signed); err != nil {
			return err
		}
	}
	for _, f := range b.Followed {
		for _, e := range f.Exchanges {
			if err := write(e); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *streamed) end(q *ask) error {
	told, err := q.whose(q.ctx, q.answered)
	if err != nil {
		return err
	}
	s.rest.Findings, s.rest.Summary, s.rest.Owners = q.found, &q.summary, told.data()
	return s.End(s.rest)
}
