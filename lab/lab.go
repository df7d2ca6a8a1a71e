package lab

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"unquil/core/wire"
)

// patience is how long a resolver of the lab waits for a silent server. A real
// one waits longer; people who try the lab need not.
const patience = 200 * time.Millisecond

// Options says how to run the lab. The zero value is ready to use.
type Options struct {
	// Now is the lab's clock, and the one of who asks in it; nil means ones that start where the scenario begins.
	Now func() time.Time
	// Begins is when its time begins, and with it that of its signatures; zero means when the scenario says.
	Begins time.Time
	// Speed is how many seconds pass in the lab for each real one; 0 means 1.
	Speed float64
	// Latency is how long every reply of every host takes on its way.
	Latency time.Duration
	Jitter  func() time.Duration // how much later than that one reply comes; nil: none does. It is called by many at once
	// Wait is called for as long as a resolver waits for a silent server; nil means time.Sleep.
	Wait func(time.Duration)
	// InMemory has nothing go through the system's sockets, so that tests can let
	// simulated time pass. [Lab.Open] is of no use then.
	InMemory bool
}

// Lab is the running simulated internet.
type Lab struct {
	Scenario *Scenario
	now      func() time.Time
	clock    func() time.Time
	wait     func(time.Duration)
	latency  time.Duration
	jitter   func() time.Duration // of one reply, beside the latency; nil: none
	wires    wires
	hosts    map[netip.Addr]host
	closed   map[netip.Addr]bool
	noTCP    map[netip.Addr]bool
	labels   map[string]netip.Addr // resolvers
	hints    []wire.Record

	identities map[netip.Addr]identity
	webs       map[netip.Addr][]Web
	registries map[netip.Addr][]Registry
	registered []Registered
	signers    map[string]*signer // by zone

	mu        sync.Mutex
	doors     map[door]opened
	authority *authority
	wire      *Wire // nil: nobody listens
}

// identity is what a machine's certificate is for.
type identity struct {
	names     []string
	addresses []netip.Addr
	lapsed    bool // it ran out
}

// New sets up the servers and resolvers of the scenario. Nothing listens until
// somebody asks over [Lab.Network]. The error says what is wrong in the scenario.
func New(o Options) (*Lab, error) {
	scenario, err := Load()
	if err != nil {
		return nil, err
	}
	if !o.Begins.IsZero() {
		scenario.Begins = o.Begins
	}
	l := &Lab{
		Scenario: scenario, now: o.Now, clock: o.Now, wait: o.Wait, latency: o.Latency, jitter: o.Jitter, wires: sockets{},
		hosts: map[netip.Addr]host{}, closed: map[netip.Addr]bool{}, noTCP: map[netip.Addr]bool{}, labels: map[string]netip.Addr{},
		doors: map[door]opened{}, identities: map[netip.Addr]identity{},
	}
	if l.now == nil {
		begun := time.Now()
		speed := cmp.Or(o.Speed, 1)
		l.now = func() time.Time { return scenario.Begins.Add(time.Duration(float64(time.Since(begun)) * speed)) }
		l.clock = func() time.Time { return scenario.Begins.Add(time.Since(begun)) }
	}
	if l.wait == nil {
		l.wait = time.Sleep
	}
	if o.InMemory {
		l.wires = newMemory()
	}
	zones, signers := map[Served]*zone{}, map[string]*signer{}
	l.signers = signers
	for _, s := range scenario.Signed {
		if signers[s.Zone], err = newSigner(s, scenario.Begins); err != nil {
			return nil, err
		}
	}
	for _, s := range scenario.Servers {
		server := &authoritative{Server: s}
		for _, served := range s.Zones {
			if zones[served] == nil {
				if zones[served], err = newZone(served); err != nil {
					return nil, err
				}
				zones[served].vouch(signers)
			}
			z := zones[served].at(s.Host)
			server.zones = append(server.zones, z)
			if z.origin.IsRoot() && l.hints == nil {
				l.hints = rootHints(z)
			}
		}
		l.place(server, s.Addresses, s.State, identity{names: []string{strings.TrimSuffix(s.Host, ".")}, addresses: s.Addresses})
	}
	l.webs = map[netip.Addr][]Web{}
	for _, w := range scenario.Webs {
		known := identity{names: []string{cmp.Or(w.For, w.Host)}}
		if had, is := l.identities[w.Address]; is {
			known.names = append(had.names, known.names...)
		}
		l.webs[w.Address] = append(l.webs[w.Address], w)
		l.place(&authoritative{}, []netip.Addr{w.Address}, Up, known)
	}
	l.registries = map[netip.Addr][]Registry{}
	for _, r := range scenario.Registries {
		l.registries[r.Address] = append(l.registries[r.Address], r)
		l.place(&authoritative{}, []netip.Addr{r.Address}, Up, identity{names: []string{r.Host}, lapsed: r.Lapsed})
	}
	l.registered = slices.Concat(scenario.Registered, l.delegations(zones))
	for i := range l.registered {
		d := &l.registered[i]
		if s := signers[d.Name.String()]; s != nil && len(d.DS) == 0 {
			for _, r := range s.named() {
				d.DS = append(d.DS, r.Value())
			}
		}
	}
	for _, config := range scenario.Resolvers {
		r := &twins{}
		for cache := range max(config.Caches, 1) {
			one, err := newResolver(l, config, cache+1, l.hints)
			if err != nil {
				return nil, err
			}
			r.resolvers = append(r.resolvers, one)
		}
		known := identity{names: []string{config.Label + ".resolvers.test"}, addresses: config.Addresses}
		if config.Certificate != "" {
			known = identity{names: []string{config.Certificate}}
		}
		l.place(r, config.Addresses, config.State, known)
		l.labels[config.Label] = config.Addresses[0]
	}
	return l, nil
}

func (l *Lab) place(h host, addresses []netip.Addr, state State, known identity) {
	for _, a := range addresses {
		l.identities[a] = known
		l.hosts[a] = h
		l.closed[a] = state == Closed
		if s, ok := h.(*authoritative); ok {
			l.noTCP[a] = s.WithoutTCP
		}
	}
}

// rootHints are the root's NS records and the addresses of their hosts.
func rootHints(z *zone) []wire.Record {
	hints := z.of(wire.Root, wire.NS)
	for _, ns := range hints {
		target, _ := ns.Target()
		hints = append(hints, append(z.of(target, wire.A), z.of(target, wire.AAAA)...)...)
	}
	return hints
}

// Now is the time in the lab, which TTLs there run by.
func (l *Lab) Now() time.Time { return l.now() }

// Clock is the time of whoever asks in the lab. It begins with [Lab.Now], and goes no faster than
// this machine's: what a reply takes stays what it took.
func (l *Lab) Clock() time.Time { return l.clock() }

// travel waits for as long as one reply is on its way, when its host takes some time of its own.
func (l *Lab) travel(own time.Duration) {
	d := l.latency + own
	if l.jitter != nil {
		d += l.jitter()
	}
	l.wait(d)
}

// Hints returns the lab's root hints.
func (l *Lab) Hints() []wire.Record { return l.hints }

// Resolver returns the address of the resolver with that label.
func (l *Lab) Resolver(label string) (netip.AddrPort, bool) {
	a, ok := l.labels[label]
	return netip.AddrPortFrom(a, 53), ok
}

// deliver takes a question to a host without a socket, as UDP would and then
// TCP; nil is silence.
func (l *Lab) deliver(from, to netip.Addr, query *wire.Message) *wire.Message {
	h := l.hosts[to]
	if h == nil || l.closed[to] {
		return nil
	}
	data, err := query.Bytes()
	if err != nil {
		return nil
	}
	for _, stream := range []bool{false, true} {
		if stream && l.noTCP[to] {
			return nil
		}
		l.travel(0)
		l.wait(h.oddity().late)
		out := respond(h, from, data, stream)
		if out == nil {
			l.wait(patience)
			return nil
		}
		reply, err := wire.ReadMessage(out)
		if err != nil || reply.ID != query.ID || len(reply.Questions) != 1 || !reply.Questions[0].Same(query.Questions[0]) || h.oddity().elsewhere && !stream {
			return nil
		}
		if !reply.Flags.Has(wire.TC) {
			return &reply
		}
	}
	return nil
}
