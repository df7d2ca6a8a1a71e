package diagnosis

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"unquil/core/capture"
	"unquil/core/conversation"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/core/wording"
)

// Wire tells what passed over this machine's interfaces while it asked.
type Wire interface {
	// Judge holds what was asked against what passed. heard is how many exchanges did; the error
	// says why nobody can tell.
	Judge(ctx context.Context, asked []*exchange.Exchange) (found []finding.Finding, heard int, err error)
}

// Passing is what a run that listened found, kept to be told again.
type Passing struct {
	Found []finding.Finding
	Heard int
	Err   *exchange.ErrorNote `json:",omitempty"`
}

// Judge tells it again.
func (p *Passing) Judge(context.Context, []*exchange.Exchange) ([]finding.Finding, int, error) {
	return p.Found, p.Heard, p.Err.Err()
}

// notingWire is one whose words are noted.
type notingWire struct {
	Wire
	told Passing
}

func (n *notingWire) Judge(ctx context.Context, asked []*exchange.Exchange) ([]finding.Finding, int, error) {
	found, heard, err := n.Wire.Judge(ctx, asked)
	n.told = Passing{found, heard, exchange.NoteError(err)}
	return found, heard, err
}

// judgeWire says what passed over this machine's interfaces, where somebody listened.
func (r *round) judgeWire(ctx context.Context) {
	if r.Wire == nil || ctx.Err() != nil {
		return
	}
	check := r.begin("what passed over this machine's interfaces")
	seen := r.sight()
	found, heard, err := r.Wire.Judge(ctx, seen.exchanges)
	if err != nil {
		r.end(check, Unknown, err.Error())
		return
	}
	for i := range found { // what fails through it is its doing
		f := &found[i]
		if slices.ContainsFunc(r.found, func(other finding.Finding) bool {
			return other.Severity == finding.Fault && slices.Contains(meddled, other.Code) && slices.ContainsFunc(other.Evidence, func(n int) bool { return slices.Contains(f.Evidence, n) })
		}) {
			f.Severity = finding.Fault
		}
	}
	r.found = append(r.found, found...)
	if len(found) > 0 {
		r.end(check, Wrong, strings.TrimSuffix(found[0].Text, "."))
		return
	}
	r.end(check, Fine, wording.Count(heard, "exchange passed", "exchanges passed")+", as asked")
}

// Tapped is a capture of what passed, which is read when somebody wants to know.
type Tapped struct {
	// Capture is what passed up to now, as far as it can be had.
	Capture func(ctx context.Context) (*capture.Reader, error)
	Own     func(netip.Addr) bool // whether an address is this machine's
	Wait    time.Duration         // for which one attempt waits
}

// Judge holds what was asked against what passed.
func (t *Tapped) Judge(ctx context.Context, asked []*exchange.Exchange) ([]finding.Finding, int, error) {
	reader, err := t.Capture(ctx)
	if err != nil {
		return nil, 0, err
	}
	var ports []uint16
	for _, e := range asked {
		if e != nil {
			ports = append(ports, e.Server.Address.Port())
		}
	}
	slices.Sort(ports)
	o, err := conversation.Read(ctx, []*capture.Reader{reader}, conversation.Options{Ports: slices.Compact(ports)})
	if err != nil {
		return nil, 0, fmt.Errorf("reading what was heard: %w", err)
	}
	if o.Lost > 0 || o.NotKept > 0 {
		return nil, 0, fmt.Errorf("of what passed, %s got lost", wording.Count(o.Lost+o.NotKept, "packet", "packets"))
	}
	return Passed(asked, o.Kept, t.Own, t.Wait), o.Exchanges, nil
}

// meddling is a way in which this machine treats what it sends and gets.
type meddling uint8

const (
	sentElsewhere meddling = iota
	questionChanged
	replyChanged
	answeredHere
	questionDropped
	replyDropped
)

// meddlings say what each is: in which finding, how heavy, and in words about servers.
var meddlings = map[meddling]struct {
	code     finding.Code
	severity finding.Severity
	text     string // of the servers
	next     string
}{
	sentElsewhere:   {finding.AlteredOnTheWay, finding.Concern, "Queries to %s leave this machine for %s: something on it sends them to another server than was asked", "Look for a redirect of port 53 on this machine: firewall rules (nft list ruleset), a VPN, security software."},
	questionChanged: {finding.AlteredOnTheWay, finding.Concern, "Queries to %s leave this machine changed%s: something on it rewrites them", "Look for what filters DNS on this machine: firewall rules (nft list ruleset), a VPN, security software."},
	replyChanged:    {finding.AlteredOnTheWay, finding.Fault, "Replies of %s are rewritten on this machine: one came with %s", "Look for what filters DNS on this machine: firewall rules (nft list ruleset), a VPN, security software."},
	answeredHere:    {finding.AnsweredLocally, finding.Concern, "Queries to %s are answered on this machine itself%s: replies came, and none of the queries left it", "Look for a stub resolver or security software on this machine that takes queries to port 53."},
	questionDropped: {finding.DroppedLocally, finding.Fault, "Queries to %s never left this machine%s: something on it drops them", "Look for a rule on this machine that drops port 53 (nft list ruleset), a VPN, security software."},
	replyDropped:    {finding.DroppedLocally, finding.Fault, "Replies of %s reached this machine%s, and not the program that asked: something on it drops them", "Look for a rule on this machine that drops replies from port 53 (nft list ruleset), a VPN, security software."},
}

// treated are the exchanges that this machine treated alike.
type treated struct {
	how     meddling
	detail  string
	servers []string
	first   *exchange.Exchange
	numbers []int
	failed  bool // one of them had no answer, and asked a resolver for it
}

// Passed holds what was asked against what passed over this machine's interfaces meanwhile. own
// reports whether an address is this machine's. wait is how long one attempt waited for a reply.
// What travelled encrypted is not judged: it cannot be read.
func Passed(asked []*exchange.Exchange, heard []exchange.Exchange, own func(netip.Addr) bool, wait time.Duration) []finding.Finding {
	known := map[passed][]*exchange.Exchange{}
	for i := range heard {
		h := &heard[i]
		for _, a := range h.Attempts {
			if k, ok := passedAs(&a); ok {
				known[k] = append(known[k], h)
				break
			}
		}
	}
	var all []*treated
	seen := map[int]bool{}
	for _, e := range asked {
		if e == nil || seen[e.Number] {
			continue
		}
		seen[e.Number] = true
		for i := range e.Attempts {
			a := &e.Attempts[i]
			k, ok := passedAs(a)
			if !ok {
				continue
			}
			how, detail, is := treatment(e, a, known[k], own, wait)
			if !is {
				continue
			}
			at := slices.IndexFunc(all, func(t *treated) bool { return t.how == how && (t.detail == detail || how == replyChanged) })
			if at < 0 {
				all, at = append(all, &treated{how: how, detail: detail, first: e}), len(all)
			}
			t := all[at]
			t.numbers, t.failed = append(t.numbers, e.Number), t.failed || asksResolver(a) && !e.Outcome.Good()
			if name := serverWords(e); !slices.Contains(t.servers, name) {
				t.servers = append(t.servers, name)
			}
		}
	}
	var found []finding.Finding
	for _, t := range all {
		m := meddlings[t.how]
		if t.failed {
			m.severity = finding.Fault
		}
		about := finding.About{Server: t.first.Server.Name(), Address: t.first.Server.AddressText()}
		f := finding.New(m.code, m.severity, about, fmt.Sprintf(m.text, serverList(t.servers), t.detail)+".", t.numbers...)
		f.Next = m.next
		if len(heard) == 0 {
			f.Sure = finding.Likely // nothing at all was heard, which the listening itself may be to blame for
		}
		found = append(found, f)
	}
	return found
}

// asksResolver reports whether recursion is desired: what fails then, programs fail with.
func asksResolver(a *exchange.Attempt) bool {
	query, err := wire.ReadView(a.Query)
	return err == nil && query.Flags().Has(wire.RD)
}

// heardNothing is the ground that nothing at all was heard where something ought to have been.
func heardNothing(v *Verdict, p placing) placing {
	if f := &v.Cause[0]; p.where == ThisMachine && p.because == heardHere && f.Sure == finding.Likely {
		p.because, p.against = "no packet of it was heard at this machine's interfaces", "the listening itself may have failed: see whether unquil listen hears anything"
	}
	return p
}

// passed is what a question is told by on the wire.
type passed struct {
	port, id uint16
	tcp      bool
}

// passedAs is what an attempt's question is told by; ok is false where it cannot be read there.
func passedAs(a *exchange.Attempt) (p passed, ok bool) {
	if a.Sent.IsZero() || len(a.Query) < 2 || a.Transport != exchange.UDP && a.Transport != exchange.TCP {
		return p, false
	}
	return passed{a.Local.Port(), binary.BigEndian.Uint16(a.Query), a.Transport == exchange.TCP}, true
}

// treatment is what became of an attempt on this machine, by what passed with its port and ID; is
// is false where nothing did.
func treatment(e *exchange.Exchange, a *exchange.Attempt, heard []*exchange.Exchange, own func(netip.Addr) bool, wait time.Duration) (how meddling, detail string, is bool) {
	h := nearest(heard, a)
	if h == nil {
		switch {
		case own(e.Server.Address.Addr()): // the system may hand that on without an interface
			return 0, "", false
		case a.Reply != nil:
			return answeredHere, "", true
		case a.Transport == exchange.UDP && len(a.Rejected) == 0 && (a.TimedOut() || a.Forbidden()):
			return questionDropped, "", true
		}
		return 0, "", false
	}
	on := h.Attempts[len(h.Attempts)-1]
	for _, one := range h.Attempts {
		if one.Reply != nil {
			on = one
		}
	}
	switch to := h.Server.Address.Addr(); {
	case to != e.Server.Address.Addr() && own(to):
		return answeredHere, fmt.Sprintf(" (%s)", exchange.FormatAddress(h.Server.Address)), true
	case to != e.Server.Address.Addr():
		return sentElsewhere, to.String(), true
	case !bytes.Equal(on.Query, a.Query):
		return questionChanged, "", true
	case on.Reply == nil:
		return 0, "", false
	case a.Reply == nil && len(a.Rejected) == 0 && a.TimedOut() && on.Received.Sub(a.Sent) < wait*3/4:
		return replyDropped, "", true
	case a.Reply != nil && !bytes.Equal(on.Reply, a.Reply) && !slices.ContainsFunc(a.Rejected, func(r exchange.Rejected) bool { return bytes.Equal(r.Data, on.Reply) }):
		return replyChanged, changed(on.Reply, a.Reply), true
	}
	return 0, "", false
}

// nearest is the exchange that passed when an attempt was made; nil when none did.
func nearest(heard []*exchange.Exchange, a *exchange.Attempt) (best *exchange.Exchange) {
	least := nearby
	for _, h := range heard {
		if apart := h.Sent().Sub(a.Sent).Abs(); apart < least {
			best, least = h, apart
		}
	}
	return best
}

// nearby is how far the times may lie apart of what a program sends and what is heard of it.
const nearby = 2 * time.Second

// changed is what two forms of one reply say, as far as that differs.
func changed(came, got []byte) string {
	before, rcode := valuesOf(came)
	after, other := valuesOf(got)
	only := func(of, than []string) []string {
		of = slices.DeleteFunc(slices.Clone(of), func(v string) bool { return slices.Contains(than, v) })
		return of[:min(len(of), 3)]
	}
	left, put := strings.Join(only(before, after), ", "), strings.Join(only(after, before), ", ")
	if left == "" && put == "" && rcode == other {
		return "other bytes than the program got"
	}
	return fmt.Sprintf("%s, and the program got %s", cmp.Or(left, rcode), cmp.Or(put, other))
}

// valuesOf are the values of a message's answer, and its response code; in place of that, that it
// cannot be read.
func valuesOf(data []byte) (values []string, rcode string) {
	m, err := wire.ReadMessage(data)
	if err != nil {
		return nil, "what cannot be read"
	}
	return exchange.Values(m.Answer), m.Flags.RCode().String()
}

// serverWords names the server of an exchange.
func serverWords(e *exchange.Exchange) string {
	if name := e.Server.Name(); name != e.Server.AddressText() {
		return fmt.Sprintf("%s (%s)", name, e.Server.AddressText())
	}
	return e.Server.AddressText()
}

// serverList names a few servers, and counts the rest.
func serverList(names []string) string {
	switch n := len(names); {
	case n > 3:
		return fmt.Sprintf("%s and %s", names[0], wording.Count(n-1, "other server", "other servers"))
	case n > 1:
		return strings.Join(names[:n-1], ", ") + " and " + names[n-1]
	}
	return names[0]
}
