package data

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"unquil/core/casework"
	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// ErrSaved says that a file is no document of a run.
var ErrSaved = errors.New("not a result that the program saved")

// ReadSaved reads what a run came to from its document: the answers that its replies hold, and its findings. The
// error wraps [ErrSaved].
func ReadSaved(text []byte) (*casework.Step, error) {
	var d struct {
		Unquil    string
		Command   string
		Schema    int
		Made      time.Time
		Findings  []finding.Finding
		Exchanges []struct {
			Question  struct{ Name, Type, Class string }
			Server    Server
			Transport exchange.Transport
			Outcome   exchange.Outcome
			Reply     *wire.Message
		}
	}
	if err := json.Unmarshal(text, &d); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrSaved, err)
	}
	if d.Unquil == "" || d.Schema != Schema {
		return nil, ErrSaved
	}
	step := &casework.Step{At: d.Made, Line: escape.Of("unquil " + d.Command), Findings: d.Findings}
	for _, e := range d.Exchanges {
		address, err := netip.ParseAddr(e.Server.Address)
		name, bad := wire.ParseName(e.Question.Name)
		of, odd := wire.ParseType(e.Question.Type)
		class, other := wire.ParseClass(e.Question.Class)
		if e.Outcome == "" || errors.Join(err, bad, odd, other) != nil {
			continue // it was cut short, or there was no question
		}
		step.Exchanges = append(step.Exchanges, exchange.Exchange{
			Server:   exchange.Server{Address: netip.AddrPortFrom(address, e.Server.Port), Label: escape.Of(string(e.Server.Label)), Host: e.Server.Host},
			Question: wire.Question{Name: name, Type: of, Class: class}, Outcome: e.Outcome, Reply: e.Reply,
		})
	}
	return step, nil
}
