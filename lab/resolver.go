package lab

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"unquil/core/wire"
)

// maxCached is how many answers a cache holds; what comes later is not kept.
const maxCached = 20_000

// resolver is a recursive resolver over the lab's own servers, with a cache.
type resolver struct {
	lab    *Lab
	config Resolver
	roots  []wire.Record // NS and addresses

	mu    sync.Mutex
	asked map[cacheKey]bool // of an unsteady one
	own   []*zone           // of which it has a copy
	cache map[cacheKey]cacheEntry
}

type cacheKey struct {
	name wire.Name // in lower case
	t    wire.Type
}

// cacheEntry is an RRset, or the SOA that says how long there is none.
type cacheEntry struct {
	records  []wire.Record
	negative bool
	code     wire.RCode
	taken    time.Time
}

// twins are several resolvers behind one address, each with a cache of its own,
// that take the questions in turn.
type twins struct {
	resolvers []*resolver
	turn      atomic.Uint32
}

func (t *twins) oddity() quirk { return quirks[t.resolvers[0].config.Quirk] }

func (t *twins) called() string { return t.resolvers[0].called() }

func (t *twins) answer(query *wire.Message, client netip.Addr) (*wire.Message, bool) {
	return t.resolvers[int(t.turn.Add(1)-1)%len(t.resolvers)].answer(query, client)
}

func newResolver(l *Lab, config Resolver, cache int, roots []wire.Record) (*resolver, error) {
	r := &resolver{lab: l, config: config, roots: roots, cache: map[cacheKey]cacheEntry{}, asked: map[cacheKey]bool{}}
	for _, served := range config.Copies {
		z, err := newZone(served)
		if err != nil {
			return nil, fmt.Errorf("resolver %s: %w", config.Label, err)
		}
		r.own = append(r.own, z)
	}
	for _, c := range config.Cached {
		if c.Cache != 0 && c.Cache != cache {
			continue
		}
		age, err := time.ParseDuration(c.Age)
		if err != nil {
			return nil, fmt.Errorf("resolver %s: %w", config.Label, err)
		}
		records, err := ReadLines([]string{c.Record})
		if err != nil {
			return nil, fmt.Errorf("resolver %s: %w", config.Label, err)
		}
		if c.None != "" {
			name, typ, _ := strings.Cut(c.None, " ")
			t, err := wire.ParseType(typ)
			if err != nil {
				return nil, fmt.Errorf("resolver %s: %w", config.Label, err)
			}
			missing := wire.NXDomain
			if c.NoData {
				missing = wire.NoError
			}
			r.cache[cacheKey{wire.MustParseName(name).Fold(), t}] = cacheEntry{records, true, missing, l.now().Add(-age)}
			continue
		}
		for _, record := range records {
			k := cacheKey{record.Name.Fold(), record.Type}
			entry := r.cache[k]
			entry.records, entry.taken = append(entry.records, record), l.now().Add(-age)
			r.cache[k] = entry
		}
	}
	return r, nil
}

func (r *resolver) oddity() quirk { return quirks[r.config.Quirk] }

func (r *resolver) called() string { return r.config.Label }

func (r *resolver) answer(query *wire.Message, client netip.Addr) (*wire.Message, bool) {
	m, ok := r.resolve(query, client)
	if ok && r.config.Validates {
		m = r.validated(query, m)
	}
	if edns, _ := query.EDNS(); ok && edns.DO && (r.config.Validates || r.config.HandsOn) && (m.RCode() == wire.NoError || m.RCode() == wire.NXDomain) {
		r.handOn(query.Questions[0], m)
	}
	return m, ok
}

func (r *resolver) resolve(query *wire.Message, _ netip.Addr) (*wire.Message, bool) {
	m := replyTo(query)
	m.Flags |= wire.RA
	q := query.Questions[0]
	if r.config.State == Down {
		return nil, false
	}
	if r.config.State == Strict || !query.Flags.Has(wire.RD) || q.Class != wire.IN {
		m.Flags = m.Flags.WithRCode(wire.Refused)
		return m, true
	}
	if q.Name.IsSubdomainOf(resolverArpa) { // which is about itself (RFC 9462 §6.4)
		if q.Type == wire.SVCB && q.Name.Equal(designator) {
			for _, text := range r.config.Designates {
				data, err := wire.ParseRecordData(wire.SVCB, wire.IN, text)
				if err == nil { // TestScenario reads them all
					m.Answer = append(m.Answer, wire.Record{Name: q.Name, Type: wire.SVCB, Class: wire.IN, TTL: 300, Data: data})
				}
			}
		}
		return m, true
	}
	if r.withheld(query, m) {
		return m, true
	}
	for _, z := range r.own {
		if q.Name.IsSubdomainOf(z.origin) {
			z.answer(q, m)
			return m, true
		}
	}
	work := &resolution{resolver: r, questions: 100}
	for range 12 {
		entry, ok := work.lookup(q.Name, q.Type, 0)
		if !ok {
			m.Answer = nil
			m.Flags = m.Flags.WithRCode(wire.ServFail)
			return m, true
		}
		if entry.negative && entry.code == wire.NXDomain && r.config.Rewrites.IsValid() && q.Type == wire.A {
			m.Answer = append(m.Answer, wire.Record{Name: q.Name, Type: wire.A, Class: wire.IN, TTL: 60, Data: string(r.config.Rewrites.AsSlice())})
			return m, true
		}
		if entry.negative {
			m.Flags = m.Flags.WithRCode(entry.code)
			m.Authority = entry.records
			return m, true
		}
		last := entry.records[len(entry.records)-1]
		for _, record := range entry.records {
			if a, ok := record.Address(); !ok || !r.config.Hides.Contains(a) {
				m.Answer = append(m.Answer, record)
			}
		}
		if last.Type != wire.CNAME || q.Type == wire.CNAME || q.Type == wire.ANY {
			return m, true
		}
		q.Name, _ = last.Target()
	}
	m.Answer = nil // an alias that never ends
	m.Flags = m.Flags.WithRCode(wire.ServFail)
	return m, true
}

// resolverArpa is about whoever is asked, and designator has the service bindings of its encrypted ways.
var resolverArpa, designator = wire.MustParseName("resolver.arpa"), wire.MustParseName("_dns.resolver.arpa")

// withheld fills m where the resolver's own rules keep it from looking, and
// reports whether they do.
func (r *resolver) withheld(query, m *wire.Message) bool {
	q := query.Questions[0]
	told := func(code uint16, text string) {
		edns := wire.EDNS{Size: 1232, Options: []wire.Option{{Code: wire.EDE, Data: string([]byte{byte(code >> 8), byte(code)}) + text}}}
		if _, asked := query.OPT(); asked {
			m.Additional = append(m.Additional, edns.Record(wire.NoError))
		}
	}
	for _, zone := range r.config.Forged {
		if q.Name.IsSubdomainOf(wire.MustParseName(zone)) && !query.Flags.Has(wire.CD) {
			m.Flags = m.Flags.WithRCode(wire.ServFail)
			told(6, "signatures do not fit") // DNSSEC Bogus (RFC 8914 §4.7)
			return true
		}
	}
	for _, b := range r.config.Blocks {
		if name := wire.MustParseName(b.Name); !q.Name.IsSubdomainOf(name) || b.Only && !q.Name.Equal(name) {
			continue
		}
		switch {
		case b.RCode == "refused":
			m.Flags = m.Flags.WithRCode(wire.Refused)
		case len(b.Records) > 0:
			records, err := ReadLines(b.Records)
			if err != nil {
				panic(err) // of the scenario: a test reads them all
			}
			m.Answer = slices.DeleteFunc(records, func(record wire.Record) bool { return record.Type != q.Type })
		case b.Gives.IsValid() && q.Type == wire.A:
			m.Answer = []wire.Record{{Name: q.Name, Type: wire.A, Class: wire.IN, TTL: 60, Data: string(b.Gives.AsSlice())}}
		case b.Gives.IsValid(): // no other type
		default:
			m.Flags = m.Flags.WithRCode(wire.NXDomain)
		}
		if b.Authority {
			m.Flags |= wire.AA
		}
		if b.Says != "" {
			told(cmp.Or(b.Code, 15), b.Says)
		}
		return true
	}
	if k := (cacheKey{q.Name.Fold(), q.Type}); r.config.Unsteady && !q.Name.IsRoot() {
		r.mu.Lock()
		known := r.asked[k]
		r.asked[k] = true
		r.mu.Unlock()
		if !known {
			m.Flags = m.Flags.WithRCode(wire.ServFail)
			return true
		}
	}
	for _, f := range r.config.Failures {
		if q.Name.IsSubdomainOf(wire.MustParseName(f)) {
			m.Flags = m.Flags.WithRCode(wire.ServFail)
			told(13, "") // Cached Error (RFC 8914 §4.14)
			return true
		}
	}
	return false
}

// resolution is the work for one question; questions is how many more may be asked.
type resolution struct {
	*resolver
	questions int
}

// lookup returns the RRset of a name and type, the alias in its place, or the
// proof that there is none, from the cache or from the zone's servers.
func (w *resolution) lookup(name wire.Name, t wire.Type, depth int) (cacheEntry, bool) {
	if entry, ok := w.cached(name, t); ok {
		return entry, true
	}
	if entry, ok := w.cached(name, wire.CNAME); ok && !entry.negative {
		return entry, true
	}
	servers := w.nearest(name, depth)
	for range 16 {
		reply := w.ask(servers, wire.Question{Name: name, Type: t, Class: wire.IN}, depth)
		if reply == nil {
			return cacheEntry{}, false
		}
		if !reply.Flags.Has(wire.AA) {
			servers = append(append([]wire.Record(nil), reply.Authority...), reply.Additional...)
			continue
		}
		return w.keep(name, t, reply), true
	}
	return cacheEntry{}, false
}

// nearest are the servers to begin with: those of the nearest zone that the cache knows, or
// else the root's.
func (w *resolution) nearest(name wire.Name, depth int) []wire.Record {
	for zone := name; depth < 4 && !zone.IsRoot(); zone = zone.Parent() {
		if entry, ok := w.cached(zone, wire.NS); ok && !entry.negative {
			return entry.records
		}
	}
	return w.roots
}

// cached returns what the cache still holds, its TTLs counted down.
func (w *resolution) cached(name wire.Name, t wire.Type) (cacheEntry, bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	k := cacheKey{name.Fold(), t}
	entry, ok := w.cache[k]
	if !ok {
		return entry, false
	}
	age := uint32(w.lab.now().Sub(entry.taken) / time.Second)
	aged := entry
	aged.records = append([]wire.Record(nil), entry.records...)
	for i, r := range aged.records {
		ttl := r.TTL
		if entry.negative {
			soa, _ := r.Authority()
			ttl = min(ttl, soa.Minimum)
		}
		if age >= ttl {
			delete(w.cache, k)
			return entry, false
		}
		aged.records[i].TTL = ttl - age
	}
	return aged, true
}

// keep puts the answer for a name in the cache: only what is about that name,
// so that nobody else can slip records in.
func (w *resolution) keep(name wire.Name, t wire.Type, reply *wire.Message) cacheEntry {
	entry := cacheEntry{taken: w.lab.now()}
	k := cacheKey{name.Fold(), t}
	for _, r := range reply.Answer {
		if r.Name.Equal(name) && (r.Type == t || r.Type == wire.CNAME || t == wire.ANY) {
			entry.records = append(entry.records, r)
			if k.t = r.Type; t == wire.ANY {
				k.t = t
			}
		}
	}
	if len(entry.records) == 0 {
		entry.negative, entry.code = true, reply.RCode()
		for _, r := range reply.Authority {
			if r.Type == wire.SOA {
				entry.records = append(entry.records, r)
			}
		}
	}
	if len(entry.records) > 0 {
		w.mu.Lock()
		defer w.mu.Unlock()
		if len(w.cache) < maxCached {
			w.cache[k] = entry
		}
	}
	return entry
}

// ask asks the servers that NS records name, one after the other, until one
// answers with authority or refers further down.
func (w *resolution) ask(records []wire.Record, q wire.Question, depth int) *wire.Message {
	for _, ns := range records {
		if ns.Type != wire.NS {
			continue
		}
		server, _ := ns.Target()
		for _, address := range w.addresses(server, records, depth) {
			if w.questions--; w.questions < 0 {
				return nil
			}
			query := wire.Message{ID: 1, Questions: []wire.Question{q}, Additional: []wire.Record{{Name: wire.Root, Type: wire.OPT, Class: 1232}}}
			reply := w.lab.deliver(w.config.Addresses[0], address, &query)
			if reply != nil && reply.RCode() == wire.FormErr {
				query.Additional = nil // a server that does not know EDNS (RFC 6891 §6.2.2)
				reply = w.lab.deliver(w.config.Addresses[0], address, &query)
			}
			if reply == nil {
				continue
			}
			if reply.Flags.Has(wire.AA) && (reply.RCode() == wire.NoError || reply.RCode() == wire.NXDomain) {
				return reply
			}
			if reply.RCode() == wire.NoError && refersBelow(reply, ns.Name, q.Name) {
				return reply
			}
		}
	}
	return nil
}

// refersBelow reports whether reply refers to a zone below zone that holds name.
func refersBelow(reply *wire.Message, zone, name wire.Name) bool {
	for _, r := range reply.Authority {
		if r.Type == wire.NS && r.Name.Labels() > zone.Labels() && r.Name.IsSubdomainOf(zone) && name.IsSubdomainOf(r.Name) {
			return true
		}
	}
	return false
}

// addresses are those given beside the referral, or else looked up.
func (w *resolution) addresses(server wire.Name, records []wire.Record, depth int) (found []netip.Addr) {
	for _, r := range records {
		if a, ok := r.Address(); ok && r.Name.Equal(server) && a.Is4() {
			found = append(found, a)
		}
	}
	if len(found) > 0 || depth > 4 {
		return found
	}
	entry, ok := w.lookup(server, wire.A, depth+1)
	if !ok {
		return nil
	}
	for _, r := range entry.records {
		if a, ok := r.Address(); ok {
			found = append(found, a)
		}
	}
	return found
}
