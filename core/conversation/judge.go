package conversation

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"time"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// When an exchange is remarkable.
const (
	slowAfter    = time.Second
	slowRatio    = 10 // times the server's own median
	slowLeast    = 100 * time.Millisecond
	slowFrom     = 20                     // replies of a server from which on its median says something
	halfLate     = 200 * time.Millisecond // by which one half of a pair has to be later
	endOfCapture = int64(3 * time.Second) // before which a question may still be answered
	burstNames   = 10
	burstWithin  = int64(10 * time.Second)
	suffixWithin = int64(3 * time.Second)
	attackFrom   = 3 // guesses at one question
)

// judge says what is remarkable about one exchange.
func (o *Overview) judge(p *Pair) {
	outcome, took := p.Outcome(), p.Took()
	if took < slowLeast && p.Reply != nil && p.relations == nil && len(p.Sent) == 1 && p.Copies == 0 && !p.Torn && !Failed(outcome) &&
		outcome != exchange.NoName && outcome != exchange.Truncated && outcome != CutOff {
		return // as nearly all are
	}
	client, server, rel := p.Client.Addr(), p.Server.Addr(), p.Related()
	both := groupKey{client: client, server: server}
	as := func(code finding.Code, k groupKey) groupKey { k.code = code; return k }
	switch {
	case p.Looped():
		g := o.find(as(finding.LoopedQuery, both), finding.Fault, p)
		g.most = max(g.most, time.Duration(p.Copies))
	case outcome == exchange.Unreachable:
		k := as(finding.Unreachable, both)
		k.detail = fmt.Sprintf("%s says: %s", rel.Forbidden.By, rel.Forbidden.Says)
		o.find(k, finding.Fault, p)
	case outcome == exchange.NoReply:
		g := o.find(as(finding.Unanswered, both), finding.Fault, p)
		g.most += time.Duration(len(p.Sent))
		if rel.After.Number > 0 && rel.After.Server != p.Server {
			g.to, g.cost = rel.After.Server.Addr(), max(g.cost, time.Duration(rel.After.Sent-p.Sent[0].At))
		}
	case outcome == exchange.Truncated:
		severity := finding.Note
		k := groupKey{code: finding.Truncated, server: server}
		if !rel.After.TCP {
			severity, k.detail = finding.Concern, "and it was not asked again over TCP"
		}
		o.find(k, severity, p)
	case outcome == exchange.NoName:
		o.find(groupKey{code: finding.Failed, server: server, outcome: outcome}, finding.Note, p)
	case outcome == CutOff && p.Torn: // told below
	case outcome == CutOff:
		o.find(groupKey{code: finding.Undecodable, server: server, detail: "the capture cut its reply off"}, finding.Note, p)
	case Failed(outcome):
		g := o.find(groupKey{code: finding.Failed, server: server, outcome: outcome}, finding.Fault, p)
		if rel.After.Number > 0 && rel.After.Server != p.Server {
			g.to, g.cost = rel.After.Server.Addr(), max(g.cost, time.Duration(rel.After.Sent-p.Sent[0].At))
		}
	}
	if p.Torn {
		o.find(groupKey{code: finding.Undecodable, server: server, detail: "fragments of its reply are missing"}, finding.Concern, p)
	}
	if asked := len(p.Sent); asked > 1 || rel.Before.Number > 0 && rel.Before.Server == p.Server && !rel.Before.TCP && !p.TCP && rel.Before.Outcome == "" {
		g := o.find(as(finding.RepeatedQuery, both), finding.Note, p)
		after := time.Duration(p.Sent[0].At - rel.Before.Sent)
		if asked > 1 {
			after = time.Duration(p.Sent[1].At - p.Sent[0].At)
		}
		g.most = max(g.most, after)
	}
	if p.Reply != nil {
		late := len(p.Sent) > 1 && p.Received > p.Sent[1].At && took < time.Duration(p.Sent[1].At-p.Sent[0].At)/50 || rel.After.Number > 0 && rel.After.Sent < p.Received
		if late {
			g := o.find(as(finding.LateReply, both), finding.Concern, p)
			g.most = max(g.most, p.Waited())
		} else if slow, severity := o.slow(p, took); slow {
			g := o.find(groupKey{code: finding.Slow, server: server}, severity, p)
			g.most = max(g.most, took)
		}
		if rel.Other != nil {
			o.find(as(finding.RepliesDiffer, both), finding.Fault, p)
		}
	}
	if h := rel.Half; h.Number > 0 && h.Outcome.Good() {
		held := time.Duration(h.Ended - h.Sent)
		if Failed(outcome) && outcome != exchange.NoReply || outcome == exchange.NoReply || took > slowRatio*held && took > held+halfLate {
			k := as(finding.HalfFails, both)
			k.outcome = outcome
			g := o.find(k, finding.Concern, p)
			g.most = max(g.most, took)
		}
	}
}

// slow reports whether a reply took long, by the clock or by what that server
// usually takes.
func (o *Overview) slow(p *Pair, took time.Duration) (bool, finding.Severity) {
	if took > slowAfter {
		return true, finding.Concern
	}
	if took < slowLeast {
		return false, ""
	}
	usual := o.servers.find(p.Server, p.serverHash+uint64(p.Server.Port()))
	return usual != nil && usual.Latency.Count >= slowFrom && took > slowRatio*usual.Latency.Quantile(50), finding.Note
}

// client is what is remembered of one client: the names it was just told not to
// exist.
type client struct {
	missing [8]missing
	at      int
	last    int64 // when it asked for the newest of them
	times   [burstNames]int64
	burst   *group // of many such names in a row; nil before the first
}

type missing struct {
	name   []byte // in wire form
	number int
	sent   int64
}

// missingNames sees the search list at work: a name that does not exist, and then the
// same without its end, or with another; and many in a row that do not exist.
func (o *Overview) missingNames(p *Pair, stat *Stat, outcome exchange.Outcome) {
	if stat == &o.clients.rest {
		return
	}
	c := stat.missing
	if c == nil && outcome != exchange.NoName {
		return
	}
	question := p.view.QuestionBytes()
	if len(question) < 5 {
		return
	}
	name, sent := question[:len(question)-4], p.Sent[0].At
	if c != nil && outcome != exchange.NoName && sent-c.last > suffixWithin {
		return
	}
	if c == nil {
		c = &client{}
		stat.missing = c
	}
	for i := range c.missing {
		m := &c.missing[i]
		if len(m.name) == 0 || sent-m.sent > suffixWithin || sent < m.sent || bytes.Equal(m.name, name) {
			continue
		}
		if suffix := appended(m.name, name); suffix != "" {
			p.Codes = append(p.Codes, finding.SuffixAppended)
			g := o.groups.of(groupKey{code: finding.SuffixAppended, client: p.Client.Addr(), detail: suffix}, finding.Note)
			if g.count++; len(g.evidence) < maxEvidence {
				g.evidence = append(g.evidence, m.number)
			}
			g.cost += time.Duration(sent - m.sent)
			m.name = m.name[:0] // told once
		}
	}
	if outcome != exchange.NoName {
		return
	}
	m := &c.missing[c.at%len(c.missing)]
	c.last = sent
	m.name, m.number, m.sent = append(m.name[:0], name...), p.Number, sent
	oldest := c.times[c.at%burstNames]
	c.times[c.at%burstNames] = sent
	if c.at++; c.at > burstNames && sent-oldest < burstWithin {
		if c.burst == nil {
			c.burst = o.find(groupKey{code: finding.NoNameBurst, client: p.Client.Addr()}, finding.Concern, p)
		} else {
			p.Codes = append(p.Codes, finding.NoNameBurst)
			c.burst.add(p)
		}
	}
}

// appended returns the suffix that long has behind name; "" when it is not name
// with a suffix. Both are in wire form.
func appended(long, name []byte) string {
	body := name[:len(name)-1] // without the root
	if len(body) == 0 || len(long) <= len(name) || !bytes.EqualFold(long[:len(body)], body) {
		return ""
	}
	suffix, err := wire.NameFromWire(string(long[len(body):]))
	if err != nil {
		return ""
	}
	return suffix.Fold().Spoken()
}

// countdown is the TTL that a server gave for a question, and when.
type countdown struct {
	key uint64 // of server and question
	ttl uint32
	at  int64
}

// answers sees answers made up for names that do not exist, and TTLs counting down.
func (o *Overview) answers(p *Pair, outcome exchange.Outcome) {
	if p.Reply == nil {
		return
	}
	question := p.question
	switch outcome {
	case exchange.NoName:
		if len(o.denied) < maxDenied {
			if _, known := o.denied[question]; !known {
				o.denied[question] = p.link()
				o.deniedMark[question%marks] = true
			}
		}
	case exchange.Answered:
		if p.reply.Flags().Has(wire.AA) {
			return // the zone's own word, and no cache's
		}
		if o.deniedMark[question%marks] {
			if by, known := o.denied[question]; known && by.Server != p.Server {
				g := o.find(groupKey{code: finding.AnswerRewritten, server: p.Server.Addr(), client: p.Client.Addr()}, finding.Fault, p)
				g.to = by.Server.Addr()
				if !slices.Contains(g.evidence, by.Number) {
					g.evidence = append(g.evidence, by.Number)
				}
			}
		}
		c := p.reply.Records()
		if !c.Next() {
			return
		}
		key := mix(question, p.serverHash)
		before := &o.counted[key%marks]
		if before.key == key {
			passed := uint32((p.Received - before.at) / int64(time.Second))
			if left := before.ttl - c.Record.TTL; passed > 1 && left+1 >= passed && left <= passed+1 {
				server, _ := o.servers.of(p.Server, p.serverHash+uint64(p.Server.Port()))
				server.hasCache = true
			}
		}
		if before.key != key || p.Received-before.at > int64(time.Minute) {
			*before = countdown{key, c.Record.TTL, p.Received}
		}
	}
}

// marks is the size of the tables in which the last of many is remembered.
const marks = 1 << 12

// HasCache reports whether the server's TTLs were seen counting down.
func (s *Stat) HasCache() bool { return s.hasCache }

// unsolicited counts a reply that answers no question of the capture.
func (o *Overview) unsolicited(m *Message, fits *Pair) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.Unsolicited++
	k := groupKey{code: finding.UnsolicitedReply, client: m.Packet.To.Addr(), server: m.Packet.From.Addr()}
	severity := finding.Note
	if fits != nil {
		k.detail = "its ID was not asked"
		if fits.Server != m.Packet.From {
			k.detail = "it comes from a server that was not asked"
		}
		if severity = finding.Concern; fits.Guesses >= attackFrom {
			severity = finding.Fault
		}
	}
	g := o.groups.of(k, severity)
	g.count++
	if fits != nil && !slices.Contains(g.evidence, fits.Number) && len(g.evidence) < maxEvidence {
		g.evidence = append(g.evidence, fits.Number)
	}
	g.packet(m.Packet.Number, "")
}

// unreadable lists a packet that cannot be read, with what is wrong at which byte.
func (o *Overview) unreadable(it *item) {
	o.mu.Lock()
	defer o.mu.Unlock()
	k, why := groupKey{code: finding.Undecodable}, "its headers contradict themselves"
	severity := finding.Note
	switch {
	case it.Packet.Cut:
		k.detail, why = "cut", "the capture cut it"
		if it.remark != nil {
			why += ": " + it.err.Error()
		}
	case it.remark != nil:
		why, k.client = it.err.Error(), it.Packet.From.Addr()
	default:
		k.detail = "headers"
	}
	g := o.groups.of(k, severity)
	g.count++
	g.packet(it.Packet.Number, why)
}

// conclude turns the groups into findings, once all has been read.
func (o *Overview) conclude() {
	oneSided := o.Queries > 3 && o.Replies == 0 || o.Replies > 3 && o.Queries == 0
	if oneSided {
		what := "questions"
		if o.Queries == 0 {
			what = "replies"
		}
		o.Findings = append(o.Findings, finding.New(finding.OneSided, finding.Concern, finding.About{}, fmt.Sprintf("The capture holds %s only.", what)))
	}
	for _, g := range o.groups.order {
		slices.Sort(g.evidence)
	}
	slices.SortStableFunc(o.groups.order, func(a, b *group) int { return cmp.Compare(a.place(), b.place()) })
	for _, g := range o.groups.order {
		if o.options.Choose != nil {
			if g.evidence = slices.DeleteFunc(g.evidence, func(n int) bool { return !o.chosen.has(n) }); len(g.evidence) == 0 {
				continue
			}
		}
		if oneSided && (g.code == finding.Unanswered || g.code == finding.UnsolicitedReply || g.code == finding.RepeatedQuery) {
			continue // no server's fault
		}
		about := finding.About{}
		if g.client.IsValid() {
			about.Client = g.client.String()
		}
		if g.server.IsValid() {
			about.Server, about.Address = g.server.String(), g.server.String()
		}
		if len(g.names) == 1 {
			about.Name = g.names[0].String()
			if len(g.types) == 1 {
				about.Type = g.types[0].String()
			}
		}
		f := finding.New(g.code, g.severity, about, sentences[g.code](g), g.evidence...)
		if len(o.Findings) < maxFindings {
			o.Findings = append(o.Findings, f)
		} else {
			o.MoreFound++
		}
	}
	o.MoreFound += o.groups.more
	if o.options.Choose == nil { // who chooses exchanges asks for these, and the local link has none
		o.Findings = append(o.Findings, o.LocalLink.conflicts()...)
	}
	if names := o.names.count; names > 0 {
		o.Findings = append(o.Findings, finding.New(finding.ReadableNames, finding.Note, finding.About{},
			fmt.Sprintf("Whoever sees these packets reads %s that %s asked for.", plural(names, "name", "names"), plural(o.clients.count, "client", "clients"))))
	}
	finding.Sort(o.Findings)
	for _, e := range o.secure {
		o.Encrypted = append(o.Encrypted, *e)
	}
	slices.SortFunc(o.Encrypted, func(a, b Encrypted) int { return int(a.First - b.First) })
}
