package comparison

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// Move is how far a change has come.
type Move struct {
	Expected []string // in the form of the type; none when they are of other types
	Have     []Member
	Lack     []Member
	Unknown  []Member // that gave no answer
	Lasts    uint32   // seconds in which the last of the others can have forgotten the old answer
}

// ErrExpected says that a value is one of none of the types that are asked for.
var ErrExpected = errors.New("no value of any type that is asked for")

// ParseExpected reads values that are expected of some types, each as one of the type that it
// fits. The error wraps ErrExpected.
func ParseExpected(values []string, types []wire.Type) (map[wire.Type][]string, error) {
	of := map[wire.Type][]string{}
	for _, text := range values {
		fits := false
		for _, t := range types {
			forms := []string{text, strings.TrimSuffix(text, ".") + "."}
			if t == wire.TXT && !strings.Contains(text, `"`) {
				forms = []string{strconv.Quote(text)} // one string, as people have it in mind
			}
			for _, form := range forms {
				data, err := wire.ParseRecordData(t, wire.IN, form)
				if err != nil {
					continue
				}
				record := wire.Record{Name: wire.Root, Type: t, Class: wire.IN, Data: data}
				of[t], fits = append(of[t], exchange.Values([]wire.Record{record})[0]), true
				break
			}
		}
		if !fits {
			return nil, fmt.Errorf("%q: %w", text, ErrExpected)
		}
	}
	return of, nil
}

// gives reports whether all values are among those that are given, letter case of names aside.
func gives(given, values []string) bool {
	return len(values) > 0 && len(given) > 0 && !slices.ContainsFunc(values, func(v string) bool {
		return !slices.ContainsFunc(given, func(g string) bool { return g == v || strings.EqualFold(g, v) && strings.HasSuffix(g, ".") })
	})
}

// Expect says who already gives the expected values, and who does not. Who gives no answer is
// neither.
func (r *Result) Expect(values []string) Move {
	move := Move{Expected: values}
	for _, g := range r.Groups {
		for _, m := range g.Members {
			switch {
			case gives(g.Values, values):
				move.Have = append(move.Have, m)
				continue
			case !g.Outcome.Good():
				move.Unknown = append(move.Unknown, m)
				continue
			}
			move.Lack = append(move.Lack, m)
			if m.Own {
				move.Lasts = max(move.Lasts, m.Expire) // until it gives the zone up, caches can fetch the old answer
				continue
			}
			left := g.leastOf(m)
			if m.Exchange.Reply != nil && len(g.Values) == 0 {
				_, left, _ = exchange.Negative(m.Exchange.Reply)
			}
			move.Lasts = max(move.Lasts, left)
		}
	}
	return move
}
