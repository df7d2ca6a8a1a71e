// Package delegation walks from the root to the servers of a name and says who
// delegates to whom, what each server on the way says, and where it stops.
package delegation

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"sync"
	"time"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// Bounds on one walk, side walks included. What they cut off is said in the walk.
const (
	maxQuestions = 600
	maxSteps     = 40 // levels and aliases of one chain
	maxChain     = 64 // aliases, however few levels they take
	maxServers   = 26 // listed servers of one zone
	maxAsked     = 32 // addresses of one zone's servers: the root has 26
	maxAddresses = 4  // addresses of one server
	maxDepth     = 6  // side walks within side walks
	sideServers  = 3  // servers that a side walk asks before it asks the rest
)

// Server is a host that a zone lists, with the addresses known for it.
type Server struct {
	Host      wire.Name
	Addresses []netip.Addr
}

// Stance is what a server's reply makes of it for the zone it was asked about.
type Stance string

// The stances. The lame ones are three kinds of one finding.
const (
	Answers         Stance = "answers"           // with authority, be it that there is no such name or data
	Refers          Stance = "refers"            // to a zone further down
	LameRefuses     Stance = "lame-refuses"      // will not answer for the zone
	LameElsewhere   Stance = "lame-elsewhere"    // refers upwards or sideways
	LameNoAuthority Stance = "lame-no-authority" // answers, but not as the zone's own server
	Fails           Stance = "fails"             // an RCODE or a cut answer that helps nobody
	Silent          Stance = "silent"            // nothing that can be believed came
	NotAsked        Stance = "not-asked"         // for the reason the reply gives
	CutShort        Stance = "cut-short"         // the walk was ended before the reply
	unknownStance   Stance = ""
)

// Lame reports whether the stance is one of the lame ones.
func (s Stance) Lame() bool {
	return s == LameRefuses || s == LameElsewhere || s == LameNoAuthority
}

// Usable reports whether a walk can go on with it.
func (s Stance) Usable() bool { return s == Answers || s == Refers }

// Reply is what one server at one address said at one step.
type Reply struct {
	Host     wire.Name
	Address  netip.Addr // invalid when none is known
	Exchange *exchange.Exchange
	Stance   Stance
	Why      string               // for NotAsked
	SOA      *exchange.Exchange   // the same server asked for the zone's SOA; nil for the root and on side walks
	apex     *exchange.Exchange   // and for the SOA of the name, where servers differ
	again    []*exchange.Exchange // the same asked again, where servers of one version differ
}

// Serial is the zone's serial as this server has it.
func (r *Reply) Serial() (serial uint32, ok bool) {
	soa, ok := r.Authority()
	return soa.Serial, ok
}

// Authority is the zone's SOA as this server has it.
func (r *Reply) Authority() (soa wire.SOAData, ok bool) {
	if r.SOA == nil || !r.SOA.Authoritative() {
		return soa, false
	}
	for _, record := range r.SOA.Answer().Records {
		if soa, ok := record.Authority(); ok {
			return soa, true
		}
	}
	return soa, false
}

// Expires is for how many seconds the server goes on without an update of the zone: what is
// left by its own word (RFC 7314), or else what the SOA record gives it (RFC 1035 §3.3.13); 0
// when neither is known.
func (r *Reply) Expires() uint32 {
	soa, ok := r.Authority()
	if !ok {
		return 0
	}
	edns, _ := r.SOA.Reply.EDNS()
	if left, told := edns.Expire(); told && left < soa.Expire {
		return left
	}
	return soa.Expire
}

// Step is one zone on the way, with every server it lists.
type Step struct {
	Zone     wire.Name     // the root, where Given
	Given    bool          // its servers were named by who asks, and listed by nobody
	Name     wire.Name     // what the walk looks for by now
	Question wire.Question // what was asked: Name, or where less has to be shown an ancestor of it
	Short    bool          // it was not the whole question
	Replies  []*Reply      // by server as listed, then by address
	Extra    []*ExtraQuery // questions put beside the way, to see more than the answer
	Chosen   *Reply        // the reply the walk went on with; nil where it stopped
	Child    wire.Name
	order    []wire.Name
	aliases  int // how many had been followed when it began
	asked    int // addresses, so far
	glueless bool
	rest     []Server // that were not asked, since a few will do
}

// Spared is how many addresses of the zone's servers were not asked, since a few will do.
func (s *Step) Spared() int { return addressesOf(s.rest) }

// End is how a walk ended.
type End string

// The ends.
const (
	EndAnswer    End = "answer"
	EndNoData    End = "no-data"
	EndNoName    End = "no-name"
	EndAliasLoop End = "alias-loop"
	EndNoServer  End = "no-server" // no server of the last zone gave a usable reply
	EndLoop      End = "delegation-loop"
	EndNoWayOut  End = "no-way-out" // not one root server could be reached: says more of this network than of the name
	EndDownTo    End = "down-to"    // the zone that the walk was to stop at
	EndBudget    End = "budget"     // a bound of the walk was hit
	EndCutShort  End = "cut-short"
)

// Walk is the whole way to a name. The last step is where it ended.
type Walk struct {
	Question     wire.Question
	Steps        []*Step
	Aliases      []wire.Record // followed, in order
	End          End
	Records      []wire.Record // the answer: of the asked type, at the end of the aliases
	AddressWalks []*Walk       // walks for the addresses of servers without glue
	Priming      *Priming      // what a root server says of the root servers; nil when the walk did not begin there
	Wildcard     *Wildcard     // that the answer comes from, or may; nil without one
	Closest      wire.Name     // the nearest name above that exists, where the asked one does not; zero when that is not known
	Known        time.Duration // until the answer was known
	Validation   *Validation   // what the signatures make of it; nil where nobody looked
	Took         time.Duration // until the last server had answered or been given up
	Resolver     time.Duration // about what a resolver with an empty cache needs, which asks one server a level
	Findings     []finding.Finding
}

// Name is where the aliases ended: the asked name without any.
func (w *Walk) Name() wire.Name {
	if len(w.Aliases) > 0 {
		name, _ := w.Aliases[len(w.Aliases)-1].Target()
		return name
	}
	return w.Question.Name
}

// Last is the step where the walk ended; nil if it never began.
func (w *Walk) Last() *Step {
	if len(w.Steps) == 0 {
		return nil
	}
	return w.Steps[len(w.Steps)-1]
}

// Walker walks. It keeps what it learns, so later walks start further down.
type Walker struct {
	Session *exchange.Session
	Roots   []Server
	DownTo  wire.Name // stop where this zone is referred to; the zero Name: go all the way
	Start   []Server  // where walks begin instead of at the root; nil: at Roots, which side walks begin at in any case
	Prime   bool      // Roots are hints: have a root server list the root servers (RFC 8109)
	One     bool      // ask one server after the other, until one gives a usable reply
	// Minimise shows each server one label more than its zone, no more than it has to see (RFC 9156).
	Minimise bool
	// Anchors are what signatures are judged by, as of a time: DS or DNSKEY records. Without any they
	// are not.
	Anchors []wire.Record
	AsOf    time.Time
	// Few asks a few of the servers of the root and of top-level zones, chosen by chance and the same for
	// one seed, as long as these agree; and one server what is asked beside the way.
	Few  bool
	Seed uint64
	// Together has servers above a registrable domain asked for that domain, so that walks to all of its
	// names, and for all types, share that question.
	Together bool
	Over     exchange.Transport // "" means UDP, and TCP when a reply is cut

	memory
}

// memory is what a walker learns on its walks.
type memory struct {
	mu      sync.Mutex
	noRoute int // IPv6 addresses that this machine had no route to; less than 0 once one replied
	edns    edns
	zones   map[wire.Name][]Server // by zone in lower case
	primed  bool
	priming *Priming
	hosts   map[wire.Name][]netip.Addr
	// keysFrom are the servers that were asked for a zone's keys, by zone in lower case.
	keysFrom map[wire.Name]exchange.Server
}

// run is one walk with all that is asked for its sake.
type run struct {
	*Walker
	asked   int            // questions so far; guarded by the walker's mu
	side    []*Walk        // walks for the addresses of servers without glue; guarded by it too
	pending sync.WaitGroup // what is asked and need not be waited for
}

// Walk walks to the servers of the question's name, asking every listed server
// at each step at once. It goes on with the first usable reply and collects the
// rest meanwhile. When ctx ends, the walk holds what is known.
func (w *Walker) Walk(ctx context.Context, q wire.Question) *Walk {
	w.mu.Lock()
	if w.zones == nil {
		w.zones = map[wire.Name][]Server{wire.Root: w.Roots}
		w.hosts = map[wire.Name][]netip.Addr{}
	}
	w.mu.Unlock()
	r := &run{Walker: w}
	begun := w.Session.Client.Now()
	walk := r.follow(ctx, q, nil)
	walk.Known = w.Session.Client.Now().Sub(begun)
	r.pending.Wait()
	walk.AddressWalks, walk.Priming = r.side, w.priming
	if last := walk.Last(); walk.End == EndNoServer && last.Zone.IsRoot() && last.silent() {
		walk.End = EndNoWayOut
	}
	for _, step := range walk.Steps {
		step.sort()
	}
	r.whole(ctx, walk.Last())
	r.otherLists(ctx, walk)
	r.settle(ctx, walk)
	r.apexes(ctx, walk)
	r.repeat(ctx, walk.Last())
	walk.names()
	walk.Took, walk.Resolver = w.Session.Client.Now().Sub(begun), walk.resolverTime()
	walk.Findings = judge(walk)
	r.validate(ctx, walk)
	return walk
}

// course is one walk under way, be it to the name that was asked for or to the address of a
// server on the way.
type course struct {
	*run
	walk    *Walk
	path    []wire.Name // the hosts whose addresses it is needed for; nil for the walk itself
	name    wire.Name   // what it looks for by now
	zone    wire.Name   // whose servers are asked next
	servers []Server
	passed  []wire.Name // the names that it has looked for
	shown   minimiser
}

// follow is one walk; path holds the hosts whose addresses it is needed for.
func (w *run) follow(ctx context.Context, q wire.Question, path []wire.Name) *Walk {
	c := &course{run: w, walk: &Walk{Question: q}, path: path, name: q.Name, passed: []wire.Name{q.Name}, shown: minimiser{on: w.Minimise, together: w.Together}}
	c.zone, c.servers = w.deepest(c.name)
	for c.walk.End == "" {
		c.step(ctx)
	}
	return c.walk
}

// step asks the servers of one zone, and goes on from what they say.
func (c *course) step(ctx context.Context) {
	if len(c.walk.Steps) == maxSteps {
		c.walk.End = EndBudget
		return
	}
	step := c.begin()
	c.vouchers(ctx)
	var err error
	step.Chosen, err = c.ask(ctx, step, c.servers, c.path)
	if len(c.walk.Steps) == 1 && c.zone.IsRoot() && len(c.path) == 0 {
		c.prime(ctx, step)
	}
	if step.Chosen == nil {
		c.walk.End = stopped(ctx, err)
		return
	}
	c.notice(step)
	switch reply := step.Chosen.Exchange.Reply; {
	case step.Chosen.Stance == Refers:
		c.refer(ctx, step, reply)
	case step.Short:
		c.shown.answered(step.Question.Name, c.name, reply)
	default:
		c.answer(step, reply)
	}
}

// begin begins a step. The first may have servers that were named by who asks.
func (c *course) begin() *Step {
	step := &Step{Zone: c.zone, Name: c.name, aliases: len(c.walk.Aliases)}
	whole := wire.Question{Name: c.name, Type: c.walk.Question.Type, Class: wire.IN}
	step.Question = c.shown.question(c.zone, whole)
	step.Short = step.Question.Type != whole.Type || !step.Question.Name.Equal(whole.Name)
	c.walk.Steps = append(c.walk.Steps, step)
	if len(c.walk.Steps) == 1 && len(c.path) == 0 && len(c.Start) > 0 {
		c.servers, step.Given = c.Start, true
	}
	return step
}

// stopped is how a walk ended that no server had a usable reply for.
func stopped(ctx context.Context, err error) End {
	switch {
	case ctx.Err() != nil:
		return EndCutShort
	case errors.Is(err, errLoop):
		return EndLoop
	case errors.Is(err, errBudget):
		return EndBudget
	}
	return EndNoServer
}

// refer goes on to the zone that a reply refers to.
func (c *course) refer(ctx context.Context, step *Step, reply *wire.Message) {
	child, ns, _ := exchange.ReferralZone(reply)
	step.Child = child
	c.vouch(ctx, step)
	if !c.DownTo.IsZero() && len(c.path) == 0 && child.Equal(c.DownTo) {
		c.walk.End = EndDownTo
		return
	}
	c.zone, c.servers = child, referred(c.zone, ns, reply.Additional)
	if len(c.Start) == 0 || len(c.path) > 0 {
		c.remember(c.zone, c.servers)
	}
}

// answer ends the walk with what a reply says, or goes on to where its aliases lead.
func (c *course) answer(step *Step, reply *wire.Message) {
	answer := exchange.ReadAnswer(step.Question, inBailiwick(reply, c.zone))
	for _, alias := range answer.Aliases {
		c.walk.Aliases = append(c.walk.Aliases, alias)
		target, _ := alias.Target()
		if slices.ContainsFunc(c.passed, target.Equal) {
			c.walk.End = EndAliasLoop
			return
		}
		c.passed = append(c.passed, target)
	}
	switch {
	case answer.Cut || len(c.passed) > maxChain:
		c.walk.End = EndBudget
	case len(answer.Records) > 0:
		c.walk.End, c.walk.Records = EndAnswer, answer.Records
	case len(answer.Aliases) == 0 || answer.Name.IsSubdomainOf(c.zone) && settles(reply, answer.Name):
		c.walk.End = EndNoData
		if reply.RCode() == wire.NXDomain {
			c.walk.End = EndNoName
		}
	default:
		c.name = answer.Name
		c.zone, c.servers = c.deepest(c.name)
	}
}

// settle goes on from the server with the newest version of a zone, wherever the walk went on
// from another: that one replied first, and a server that lags may be the fastest.
func (w *run) settle(ctx context.Context, walk *Walk) {
	for range maxChain {
		at := slices.IndexFunc(walk.Steps, func(s *Step) bool {
			newest := s.Reference()
			return s.Chosen != nil && s.Chosen.Stance == Answers && !s.Short && newest != nil && newest.Exchange.Meaning() != s.Chosen.Exchange.Meaning()
		})
		if at < 0 {
			return
		}
		step := walk.Steps[at]
		step.Chosen = step.Reference()
		walk.Steps, walk.Aliases, walk.Records, walk.End = walk.Steps[:at+1:at+1], walk.Aliases[:step.aliases:step.aliases], nil, ""
		c := &course{run: w, walk: walk, name: step.Name, zone: step.Zone, passed: []wire.Name{walk.Question.Name}, shown: minimiser{on: w.Minimise, together: w.Together}}
		for _, alias := range walk.Aliases {
			target, _ := alias.Target()
			c.passed = append(c.passed, target)
		}
		c.answer(step, step.Chosen.Exchange.Reply)
		for walk.End == "" {
			c.step(ctx)
		}
		w.pending.Wait()
		for _, more := range walk.Steps[at+1:] {
			more.sort()
		}
	}
}

// settles reports whether a reply without records says, by the SOA of the zone
// that holds it, that name has none (RFC 2308 §2).
func settles(m *wire.Message, name wire.Name) bool {
	soa, _, ok := exchange.Negative(m)
	return ok && name.IsSubdomainOf(soa.Name)
}

// inBailiwick returns m with only those answers that a server of zone may give.
func inBailiwick(m *wire.Message, zone wire.Name) *wire.Message {
	kept := *m
	kept.Answer = nil
	for _, r := range m.Answer {
		if r.Name.IsSubdomainOf(zone) {
			kept.Answer = append(kept.Answer, r)
		}
	}
	return &kept
}

// referred returns the servers that NS records name, with the glue that servers
// of zone may give: addresses of hosts inside it.
func referred(zone wire.Name, ns, additional []wire.Record) []Server {
	var hosts []wire.Name
	for _, r := range ns {
		if host, ok := r.Target(); ok && len(hosts) < maxServers {
			hosts = append(hosts, host)
		}
	}
	return withAddresses(hosts, additional, zone)
}

// withAddresses pairs hosts with those of the records that are their addresses
// and lie in zone.
func withAddresses(hosts []wire.Name, records []wire.Record, zone wire.Name) []Server {
	servers := make([]Server, len(hosts))
	for i, host := range hosts {
		servers[i].Host = host
		for _, r := range records {
			if a, ok := r.Address(); ok && r.Name.Equal(host) && host.IsSubdomainOf(zone) && len(servers[i].Addresses) < maxAddresses {
				servers[i].Addresses = append(servers[i].Addresses, a)
			}
		}
	}
	return servers
}

func (w *Walker) remember(zone wire.Name, servers []Server) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if _, known := w.zones[zone.Fold()]; !known {
		w.zones[zone.Fold()] = servers
	}
}

// deepest returns the nearest zone above name whose servers are known.
func (w *Walker) deepest(name wire.Name) (wire.Name, []Server) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for zone := name.Fold(); ; zone = zone.Parent() {
		if servers, ok := w.zones[zone]; ok {
			return zone, servers
		}
	}
}

// silent reports whether no server of the step said anything at all.
func (s *Step) silent() bool {
	return !slices.ContainsFunc(s.Replies, func(r *Reply) bool { return r.Stance != Silent && r.Stance != NotAsked })
}

func (s *Step) sort() {
	slices.SortStableFunc(s.Replies, func(a, b *Reply) int {
		if c := slices.IndexFunc(s.order, a.Host.Equal) - slices.IndexFunc(s.order, b.Host.Equal); c != 0 {
			return c
		}
		return a.Address.Compare(b.Address)
	})
}
