package conversation

import (
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strings"
	"time"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/core/wording"
)

// Bounds on what a group of findings keeps.
const (
	maxGroups   = 2_000
	maxEvidence = 20
	maxSamples  = 3
	maxFindings = 1_000
	maxApart    = 5 // clients that are told of one by one though they have the same trouble with one server
)

// groupKey is what findings of one group share.
type groupKey struct {
	code           finding.Code
	client, server netip.Addr
	outcome        exchange.Outcome
	detail         string
}

// both is what findings about an exchange's client and server share.
func (p *Transaction) both() groupKey {
	return groupKey{client: p.Client().Addr(), server: p.Server().Addr()}
}

// as is the key of findings with a code.
func (k groupKey) as(code finding.Code) groupKey {
	k.code = code
	return k
}

// group is one kind of trouble with one server or client, however often it was.
type group struct {
	groupKey
	severity finding.Severity
	count    int
	evidence []int
	names    []wire.Name
	moreOf   bool               // there are others besides
	hashes   [maxSamples]uint64 // of the names
	types    []wire.Type
	most     time.Duration
	cost     time.Duration // that a client lost at once
	lost     time.Duration // in all
	asked    int           // packets that asked
	to       netip.Addr    // whom they asked instead
	texts    []string
	packets  []int // that texts are about
	clients  int   // of a group that was folded
	others   bool  // it is of more clients than are told from each other
}

// groups are all of them, in the order in which they were first found.
type groups struct {
	by    map[groupKey]*group
	order []*group
	more  int
}

func (g *groups) of(k groupKey, severity finding.Severity) *group {
	if found := g.by[k]; found != nil {
		if severity.Weight() > found.severity.Weight() {
			found.severity = severity
		}
		return found
	}
	if len(g.order) >= maxGroups && k.client.IsValid() {
		k.client = netip.Addr{} // one of the many
		rest := g.of(k, severity)
		rest.others = true
		return rest
	}
	if len(g.order) >= 2*maxGroups {
		g.more++
		return &group{} // which nobody will see
	}
	if g.by == nil {
		g.by = map[groupKey]*group{}
	}
	found := &group{groupKey: k, severity: severity}
	g.by[k], g.order = found, append(g.order, found)
	return found
}

// find counts an exchange to a group. It allocates only while the group is new.
func (o *Overview) find(k groupKey, severity finding.Severity, p *Transaction) *group {
	p.Codes = append(p.Codes, k.code)
	if o.muted {
		return &o.nobody
	}
	g := o.groups.of(k, severity)
	g.add(p)
	return g
}

// add counts an exchange to a group.
func (g *group) add(p *Transaction) {
	g.count++
	if len(g.evidence) < maxEvidence {
		g.evidence = append(g.evidence, p.Number)
	}
	if g.lacks(p.name) {
		if spelled, err := p.View().QName(); err == nil && !spelled.IsZero() {
			g.names, g.hashes[len(g.names)] = append(g.names, spelled), p.name
		}
	}
	if t := p.View().QType(); len(g.names) == 1 && !slices.Contains(g.types, t) {
		g.types = append(g.types, t)
	}
}

// lacks reports whether there is room for the name with a hash, and it is not there.
func (g *group) lacks(name uint64) bool {
	n := len(g.names)
	if g.moreOf || slices.Contains(g.hashes[:n], name) {
		return false
	}
	g.moreOf = n == maxSamples
	return !g.moreOf
}

func (g *group) packet(number int, why string) {
	if g.hasRoom() {
		text := fmt.Sprintf("packet %d", number)
		if why != "" {
			text += " (" + why + ")"
		}
		g.texts, g.packets = append(g.texts, text), append(g.packets, number)
	}
}

// hasRoom reports whether a packet more would be listed.
func (g *group) hasRoom() bool { return len(g.texts) < maxSamples }

// place orders groups of one weight by what shows them first.
func (g *group) place() int {
	if len(g.evidence) > 0 {
		return g.evidence[0]
	}
	return math.MaxInt
}

// fold makes one group of those that many clients have alike with one server: it is the
// server, or the way to it, that needs a look.
func (g *groups) fold() {
	type kind struct {
		groupKey
		severity finding.Severity
	}
	of := func(g *group) (k kind, foldable bool) {
		k = kind{g.groupKey, g.severity}
		k.client = netip.Addr{}
		return k, (g.client.IsValid() || g.others) && g.code != finding.LoopedQuery
	}
	counts := map[kind]int{}
	for _, one := range g.order {
		if k, foldable := of(one); foldable {
			counts[k]++
		}
	}
	folded := map[kind]*group{}
	kept := g.order[:0]
	for _, one := range g.order {
		k, foldable := of(one)
		if !foldable || counts[k] <= maxApart && !one.others {
			kept = append(kept, one)
			continue
		}
		all := folded[k]
		if all == nil {
			all = &group{groupKey: k.groupKey, severity: k.severity, to: one.to}
			folded[k], kept = all, append(kept, all)
		}
		all.join(one)
	}
	g.order = kept
}

// join takes the trouble of another client in.
func (g *group) join(one *group) {
	if one.others {
		g.others = true
	} else {
		g.clients++
	}
	g.count += one.count
	g.evidence = append(g.evidence, one.evidence...)
	for i, name := range one.names {
		if g.lacks(one.hashes[i]) {
			g.names, g.hashes[len(g.names)] = append(g.names, name), one.hashes[i]
		}
	}
	for _, t := range one.types {
		if !slices.Contains(g.types, t) {
			g.types = append(g.types, t)
		}
	}
	g.most, g.cost = max(g.most, one.most), max(g.cost, one.cost)
	g.asked, g.lost = g.asked+one.asked, g.lost+one.lost
	g.moreOf = g.moreOf || one.moreOf
	if g.to != one.to {
		g.to = netip.Addr{}
	}
	samples := min(len(g.texts)+len(one.texts), maxSamples)
	g.texts, g.packets = append(g.texts, one.texts...)[:samples], append(g.packets, one.packets...)[:samples]
}

// who is the client, or how many they are.
func (g *group) who() string {
	switch {
	case g.client.IsValid():
		return g.client.String()
	case g.others && g.clients == 0:
		return "other clients"
	case g.others:
		return fmt.Sprintf("at least %d clients", g.clients)
	}
	return fmt.Sprintf("%d clients", g.clients)
}

// whose is who with its questions behind.
func (g *group) whose() string {
	if g.client.IsValid() {
		return g.client.String() + "'s"
	}
	return g.who() + "'"
}

// sentences say each group in a sentence.
var sentences = map[finding.Code]func(g *group) string{
	finding.TCPRefused: func(g *group) string {
		return fmt.Sprintf("%s refused %s of %s (%s).", g.server, wording.Count(g.count, "TCP connection", "TCP connections"), g.who(), strings.Join(g.texts, ", "))
	},
	finding.Unanswered: func(g *group) string {
		if g.detail == overTCP {
			return fmt.Sprintf("%s sent %s %s, and the capture has no reply (%s).", g.who(), g.server, wording.Count(g.count, "TCP connection", "TCP connections"), strings.Join(g.texts, ", "))
		}
		text := fmt.Sprintf("%s queried %s %s, and the capture has no reply: %s.", g.who(), g.server, wording.Times(g.asked), g.about())
		return text + g.instead()
	},
	finding.Unreachable: func(g *group) string {
		return fmt.Sprintf("%s could not reach %s %s: %s (%s).", g.who(), g.server, wording.Times(g.count), g.about(), g.detail)
	},
	finding.Failed: func(g *group) string {
		if g.outcome == exchange.NoName {
			return fmt.Sprintf("%s answered %s that the name does not exist: %s.", g.server, wording.Times(g.count), g.about())
		}
		return fmt.Sprintf("%s failed %s (%s): %s.", g.server, wording.Times(g.count), g.outcome.Named(), g.about()) + g.instead()
	},
	finding.Malformed: func(g *group) string {
		return fmt.Sprintf("%s sent %s that cannot be read: %s.", g.server, wording.Count(g.count, "reply", "replies"), g.about()) + g.instead()
	},
	finding.TransferRefused: func(g *group) string {
		return fmt.Sprintf("%s refused %s a zone transfer %s: %s.", g.server, g.who(), wording.Times(g.count), g.about())
	},
	finding.Truncated: func(g *group) string {
		text := fmt.Sprintf("%s truncated its answer %s: %s", g.server, wording.Times(g.count), g.about())
		if g.detail != "" {
			return text + "; " + g.detail + "."
		}
		return text + "; it was retried over TCP."
	},
	finding.Slow: func(g *group) string {
		return fmt.Sprintf("%s was slow %s, %s: %s.", g.server, wording.Times(g.count), g.upTo(), g.about())
	},
	finding.RepeatedQuery: func(g *group) string {
		return fmt.Sprintf("%s queried %s again %s, after %s: %s.", g.who(), g.server, wording.Times(g.count), g.upTo(), g.about())
	},
	finding.PacketLost: func(g *group) string {
		if g.detail == replyLost {
			return fmt.Sprintf("%s queried %s again %s, after %s, though the capture has a reply: the reply was lost on its way from the place of the capture to %[1]s: %[5]s.", g.who(), g.server, wording.Times(g.count), g.upTo(), g.about())
		}
		return fmt.Sprintf("%s had to query %s again %s, after %s, and was answered then: the first query or its reply was lost: %s.", g.who(), g.server, wording.Times(g.count), g.upTo(), g.about())
	},
	finding.LateReply: func(g *group) string {
		return fmt.Sprintf("%s answered %s too late %s, %s after the first query: %s.", g.server, g.who(), wording.Times(g.count), g.upTo(), g.about())
	},
	finding.LoopedQuery: func(g *group) string {
		return fmt.Sprintf("The packet in which %s queries %s for %s came by %s, with the same ID.", g.who(), g.server, g.about(), wording.Count(int(g.most), "more time", "more times"))
	},
	finding.RepliesDiffer: func(g *group) string {
		text := fmt.Sprintf("%s got two replies from %s that say different things, %s: %s", g.who(), g.server, wording.Times(g.count), g.about())
		if len(g.texts) > 0 {
			text += " (the second: " + strings.Join(g.texts, ", ") + ")"
		}
		return text + "."
	},
	finding.UnsolicitedReply: func(g *group) string {
		text := fmt.Sprintf("%s sent %s %s for which the capture has no query", g.server, g.who(), wording.Count(g.count, "reply", "replies"))
		if g.detail != "" {
			text += ": " + g.detail
		}
		if g.severity == finding.Fault {
			text += "; that many guesses at one query look like an attack"
		}
		return text + " (" + strings.Join(g.texts, ", ") + ")."
	},
	finding.NoNameBurst: func(g *group) string {
		return fmt.Sprintf("%s looked up more than %d names within %d s that do not exist, such as %s.", g.who(), burstNames, burstWithin/int64(time.Second), g.about())
	},
	finding.SuffixAppended: func(g *group) string {
		return fmt.Sprintf("%s tried names with the suffix %s first: %s wasted, %s.", g.who(), g.detail, wording.Count(g.count, "question", "questions"), wording.Span(g.lost))
	},
	finding.AnswerRewritten: func(g *group) string {
		others := "other servers"
		if g.to.IsValid() {
			others = g.to.String()
		}
		return fmt.Sprintf("%s answered for a name that does not exist according to %s: %s.", g.server, others, g.about())
	},
	finding.HalfFails: func(g *group) string {
		how := fmt.Sprintf("took up to %s", wording.Span(g.most))
		if g.outcome.Failed() {
			how = "failed (" + g.outcome.Named() + ")"
		}
		return fmt.Sprintf("Of %s paired IPv4 and IPv6 queries to %s, one was answered and the other %s, %s: %s.", g.whose(), g.server, how, wording.Times(g.count), g.about())
	},
	finding.Undecodable: func(g *group) string {
		if g.detail != "" && g.server.IsValid() {
			return fmt.Sprintf("%s answered %s for %s, and %s.", g.server, wording.Times(g.count), g.about(), g.detail)
		}
		text := wording.Count(g.count, "packet", "packets") + " cannot be read"
		if g.client.IsValid() || g.clients > 0 || g.others {
			text += " from " + g.who()
		}
		return text + ": " + strings.Join(g.texts, ", ") + more(g.count-len(g.texts)) + "."
	},
}

func more(n int) string {
	if n > 0 {
		return " and " + wording.Number(n) + " more"
	}
	return ""
}

// about names the questions of a group: some of them.
func (g *group) about() string {
	text := wording.Names(g.names)
	if g.moreOf {
		text += " and others"
	}
	if len(g.names) == 1 && len(g.types) > 0 {
		for _, t := range g.types {
			text += " " + t.String()
		}
	}
	if text == "" {
		return "no name"
	}
	return text
}

// instead says whom clients asked in place of the server, and what that cost them.
func (g *group) instead() string {
	if !g.to.IsValid() {
		return ""
	}
	they := "It"
	if g.clients > 1 {
		they = "They"
	}
	return fmt.Sprintf(" %s then queried %s, having lost up to %s.", they, g.to, wording.Span(g.cost))
}

// upTo is the longest time of the group: of one exchange, its time.
func (g *group) upTo() string {
	if g.count == 1 {
		return wording.Span(g.most)
	}
	return "up to " + wording.Span(g.most)
}
