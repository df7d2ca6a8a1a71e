package data

import (
	"encoding/json"
	"fmt"
	"io"
	"time"

	"unquil/core/exchange"
	"unquil/core/finding"
)

// Summary counts exchanges of a run of any length.
type Summary struct {
	Asked    int            `json:"asked"`
	Outcomes map[string]int `json:"outcomes"`
	Slowest  *Slowest       `json:"slowest,omitempty"`
}

// Slowest is the exchange that took longest.
type Slowest struct {
	Question Question `json:"question"`
	Server   string   `json:"server"`
	Took     float64  `json:"took"`
}

// Add counts one exchange.
func (s *Summary) Add(e *exchange.Exchange) {
	if s.Outcomes == nil {
		s.Outcomes = map[string]int{}
	}
	s.Asked++
	s.Outcomes[string(e.Outcome)]++
	if took := e.Took().Seconds(); e.Reply != nil && (s.Slowest == nil || took > s.Slowest.Took) {
		s.Slowest = &Slowest{OfQuestion(e.Question), e.Server.Name(), took}
	}
}

// Timing is how long the replies took when one question was asked again and again.
type Timing struct {
	Question Question `json:"question"`
	Server   string   `json:"server"`
	Asked    int      `json:"asked"`
	Lost     int      `json:"lost"`
	Min      float64  `json:"min"`
	Median   float64  `json:"median"`
	P95      float64  `json:"p95"`
	Max      float64  `json:"max"`
	First    float64  `json:"first"`
	Later    float64  `json:"later"`
}

// OfTiming returns t as JSON has it.
func OfTiming(e *exchange.Exchange, t exchange.Timing) Timing {
	s := time.Duration.Seconds
	return Timing{OfQuestion(e.Question), e.Server.Name(), t.Asked, t.Lost, s(t.Min), s(t.Median), s(t.P95), s(t.Max), s(t.First), s(t.Later)}
}

// Stream writes a document whose exchanges are written as they come, so that
// memory does not grow with their number.
type Stream struct {
	w   io.Writer
	any bool
}

// NewStream begins the document.
func NewStream(w io.Writer, version, command string) (*Stream, error) {
	head, err := json.Marshal(map[string]any{"unquil": version})
	if err == nil {
		_, err = fmt.Fprintf(sieve{w}, "%s,\n\"command\": %q,\n\"schema\": %d,\n\"exchanges\": [", head[:len(head)-1], command, Schema)
	}
	return &Stream{w: sieve{w}}, err
}

// Exchange writes one exchange.
func (s *Stream) Exchange(e Exchange) error {
	item, err := json.Marshal(e)
	if err != nil {
		return err
	}
	separator := ",\n"
	if !s.any {
		separator, s.any = "\n", true
	}
	_, err = fmt.Fprintf(s.w, "%s%s", separator, item)
	return err
}

// Rest is what a document whose exchanges were written as they came has besides.
type Rest struct {
	Findings    []finding.Finding `json:"findings"`
	Summary     *Summary          `json:"summary,omitempty"`     // absent from what --save keeps
	Timings     []Timing          `json:"timings,omitempty"`     // of a question that was asked again and again
	ZoneTTLs    []ZoneTTL         `json:"zone_ttls,omitempty"`   // what the zone's own servers say
	Validations []Validated       `json:"validations,omitempty"` // of the answers
	Owners      []AddressOwner    `json:"owners,omitempty"`
}

// Asked is the document of ask.
type Asked struct {
	Unquil    string     `json:"unquil"`  // version
	Command   string     `json:"command"` // of the program
	Schema    int        `json:"schema"`
	Made      *time.Time `json:"made,omitempty"` // of a saved result: when the run ended
	Exchanges []Exchange `json:"exchanges"`
	Rest
}

// ZoneTTL is the TTL that the zone's own server gives.
type ZoneTTL struct {
	Exchange int    `json:"exchange"`
	TTL      uint32 `json:"zone_ttl"` // seconds
	Same     bool   `json:"same"`     // the answer is the same
}

// End writes the other members and ends the document.
func (s *Stream) End(members Rest) error {
	members.Findings = list(members.Findings)
	rest, err := json.Marshal(members)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(s.w, "],\n%s\n", rest[1:])
	return err
}
