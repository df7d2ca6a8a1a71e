package comparison

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// Metrics count what watching sees, for a monitor. They are safe to use from several goroutines.
type Metrics struct {
	mu     sync.Mutex
	series map[watched]*measured
	order  []watched
	ends   map[string]time.Time // when the registration of a domain runs out
	now    func() time.Time
}

// watched is one question to one server.
type watched struct{ name, typ, server string }

// measured is what was seen of it.
type measured struct {
	track    *Track
	outcomes map[exchange.Outcome]int
	took     [len(tookBounds) + 1]int
	sum      time.Duration
	answered int
	signed   time.Time // when the first of the answer's signatures runs out; zero without one
	trusted  time.Time // and the server's certificate
}

// tookBounds are the upper bounds of the histogram's buckets, in seconds.
var tookBounds = [...]float64{0.001, 0.003, 0.01, 0.03, 0.1, 0.3, 1, 3}

// NewMetrics counts by the clock that TTLs and signatures run by.
func NewMetrics(now func() time.Time) *Metrics {
	return &Metrics{series: map[watched]*measured{}, ends: map[string]time.Time{}, now: now}
}

// Registered keeps when the registration of a domain runs out.
func (m *Metrics) Registered(domain wire.Name, ends time.Time) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.ends[domain.Spoken()] = ends
}

// Add counts an exchange of a track.
func (m *Metrics) Add(t *Track, e *exchange.Exchange) {
	m.mu.Lock()
	defer m.mu.Unlock()
	key := watched{e.Question.Name.Spoken(), e.Question.Type.String(), t.Server.Name()}
	s := m.series[key]
	if s == nil {
		s = &measured{track: t, outcomes: map[exchange.Outcome]int{}}
		m.series[key], m.order = s, append(m.order, key)
	}
	copied := *t
	copied.countdowns = slices.Clone(t.countdowns) // which the track goes on changing
	s.track = &copied
	s.outcomes[e.Outcome]++
	if e.Reply != nil {
		took := e.Took()
		s.answered, s.sum = s.answered+1, s.sum+took
		at, _ := slices.BinarySearch(tookBounds[:], took.Seconds())
		s.took[at]++
		s.signed = firstEnd(e.Reply, m.now())
	}
	if last := e.Last(); last != nil && last.Security != nil {
		s.trusted = last.Security.NotAfter
	}
}

// firstEnd is when the first of the signatures in an answer runs out (RFC 4034 §3.1.5); zero without one.
func firstEnd(m *wire.Message, now time.Time) (ends time.Time) {
	for _, r := range m.Answer {
		if at, ok := r.SignatureEnds(now); ok && (ends.IsZero() || at.Before(ends)) {
			ends = at
		}
	}
	return ends
}

// family is one metric with what there is of it.
type family struct {
	name, kind, unit, help string
	samples                func(write func(suffix string, labels []string, value float64))
}

// Write writes all of them as OpenMetrics 1.0 text. The error is that of w.
func (m *Metrics) Write(w io.Writer) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	now := m.now()
	each := func(of func(k watched, s *measured, labels []string)) {
		for _, k := range m.order {
			of(k, m.series[k], []string{"name", k.name, "type", k.typ, "server", k.server})
		}
	}
	left := func(of func(*measured) time.Time) func(func(string, []string, float64)) {
		return func(write func(string, []string, float64)) {
			each(func(_ watched, s *measured, labels []string) {
				if at := of(s); !at.IsZero() {
					write("", labels, at.Sub(now).Seconds())
				}
			})
		}
	}
	families := []family{
		{"unquil_queries", "counter", "", "Queries by how they ended.", func(write func(string, []string, float64)) {
			each(func(_ watched, s *measured, labels []string) {
				for _, o := range exchangeOutcomes(s.outcomes) {
					write("_total", append(slices.Clone(labels), "outcome", string(o)), float64(s.outcomes[o]))
				}
			})
		}},
		{"unquil_reply_seconds", "histogram", "seconds", "Time from the query to the reply.", func(write func(string, []string, float64)) {
			each(func(_ watched, s *measured, labels []string) {
				sum := 0
				for i, n := range s.took {
					sum += n
					bound := "+Inf"
					if i < len(tookBounds) {
						bound = strconv.FormatFloat(tookBounds[i], 'g', -1, 64)
					}
					write("_bucket", append(slices.Clone(labels), "le", bound), float64(sum))
				}
				write("_sum", labels, s.sum.Seconds())
				write("_count", labels, float64(s.answered))
			})
		}},
		{"unquil_changes", "counter", "", "How often the answer became another one.", func(write func(string, []string, float64)) {
			each(func(_ watched, s *measured, labels []string) { write("_total", labels, float64(s.track.Changes)) })
		}},
		{"unquil_ttl_left_seconds", "gauge", "seconds", "Until the answer seen last runs out.", left(func(s *measured) time.Time { return s.track.Ends() })},
		{"unquil_agreement", "gauge", "", "1 where all servers give the same answer, 0 where they do not.", func(write func(string, []string, float64)) {
			tracks := map[watched][]*Track{}
			var order []watched
			each(func(k watched, s *measured, _ []string) {
				k.server = ""
				if tracks[k] == nil {
					order = append(order, k)
				}
				tracks[k] = append(tracks[k], s.track)
			})
			for _, k := range order {
				value := 0.0
				if Agree(tracks[k]) {
					value = 1
				}
				write("", []string{"name", k.name, "type", k.typ}, value)
			}
		}},
		{"unquil_signature_left_seconds", "gauge", "seconds", "Until the first signature in the answer runs out, where signatures are asked for.", left(func(s *measured) time.Time { return s.signed })},
		{"unquil_certificate_left_seconds", "gauge", "seconds", "Until the certificate of the server runs out, where the transport has one.", left(func(s *measured) time.Time { return s.trusted })},
		{"unquil_domain_left_seconds", "gauge", "seconds", "Until the registration of the domain runs out, as its registry says.", func(write func(string, []string, float64)) {
			for _, domain := range slices.Sorted(maps.Keys(m.ends)) {
				write("", []string{"domain", domain}, m.ends[domain].Sub(now).Seconds())
			}
		}},
	}
	var b strings.Builder
	for _, f := range families {
		fmt.Fprintf(&b, "# TYPE %s %s\n", f.name, f.kind)
		if f.unit != "" {
			fmt.Fprintf(&b, "# UNIT %s %s\n", f.name, f.unit)
		}
		fmt.Fprintf(&b, "# HELP %s %s\n", f.name, f.help)
		f.samples(func(suffix string, labels []string, value float64) {
			b.WriteString(f.name + suffix + "{")
			for i := 0; i < len(labels); i += 2 {
				if i > 0 {
					b.WriteByte(',')
				}
				b.WriteString(labels[i] + `="` + labelText.Replace(labels[i+1]) + `"`)
			}
			b.WriteString("} " + strconv.FormatFloat(value, 'g', -1, 64) + "\n")
		})
	}
	b.WriteString("# EOF\n")
	_, err := io.WriteString(w, b.String())
	return err
}

// labelText escapes the value of a label.
var labelText = strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`)

func exchangeOutcomes(counts map[exchange.Outcome]int) (all []exchange.Outcome) {
	for o := range counts {
		all = append(all, o)
	}
	slices.Sort(all)
	return all
}
