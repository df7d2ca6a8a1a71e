package cli

import (
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/ui/data"
	"unquil/ui/text"
)

// streamed is the JSON form of answers.
type streamed struct {
	*data.Stream
	timings  []data.Timing
	zoneTTLs []map[string]any
	checked  []any
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
			s.timings = append(s.timings, data.OfTiming(e, b.Timings[i]))
		}
		if zone, ok := b.ZoneTTLs[e.Question]; ok {
			s.zoneTTLs = append(s.zoneTTLs, map[string]any{"exchange": e.Number, "zone_ttl": zone.TTL, "same": zone.Same})
		}
	}
	for i := range b.Validated {
		s.checked = append(s.checked, data.OfValidated(&b.Validated[i]))
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
	members := map[string]any{"findings": q.found, "summary": q.summary}
	if q.found == nil {
		members["findings"] = []finding.Finding{}
	}
	if len(s.timings) > 0 {
		members["timings"] = s.timings
	}
	if len(s.zoneTTLs) > 0 {
		members["zone_ttls"] = s.zoneTTLs
	}
	if len(s.checked) > 0 {
		members["validations"] = s.checked
	}
	told, err := q.whose(q.ctx, q.answered)
	if err != nil {
		return err
	}
	if owners := told.data(); owners != nil {
		members["owners"] = owners
	}
	return s.End(members)
}
