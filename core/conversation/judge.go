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
	"unquil/core/wording"
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
func (o *Overview) judge(p *Transaction, of *Stat) {
	if !p.ordinary() {
		o.remarkable(p, of)
	} else if p.kind == exchange.UsualNoName {
		o.denies(p, of)
	}
}

// judges say what is remarkable about an exchange that is not ordinary, one thing each.
var judges = []func(o *Overview, p *Transaction, server *Stat){
	(*Overview).judgeOutcome, (*Overview).judgeFragments, (*Overview).judgeRepeats, (*Overview).judgeTimes, (*Overview).judgeGuesses, (*Overview).judgeHalves,
}

// remarkable is judge for an exchange that is not ordinary.
func (o *Overview) remarkable(p *Transaction, server *Stat) {
	for _, judge := range judges {
		judge(o, p, server)
	}
}

// judgeOutcome says what the end of an exchange is a finding of, if it is one.
func (o *Overview) judgeOutcome(p *Transaction, server *Stat) {
	outcome, rel := p.Outcome(), p.Related()
	both := p.both()
	switch {
	case p.Looped():
		o.looped(p)
	case outcome == exchange.Unreachable:
		k := both.as(finding.Unreachable)
		k.detail = fmt.Sprintf("%s says: %s", rel.Forbidden.By, rel.Forbidden.Says)
		o.find(k, finding.Fault, p)
	case outcome == exchange.NoReply:
		g := o.find(both.as(finding.Unanswered), finding.Fault, p)
		g.asked += p.Asked()
		g.elsewhere(p)
	case outcome == exchange.Truncated:
		o.truncated(p)
	case outcome == exchange.NoName:
		o.denies(p, server)
	case outcome == exchange.CutOff && p.Torn: // of which judgeFragments tells
	case outcome == exchange.CutOff:
		o.find(groupKey{code: finding.Undecodable, server: both.server, detail: "the capture has only part of its reply"}, finding.Note, p)
	case outcome == exchange.Rejection:
		o.find(groupKey{code: finding.Malformed, server: both.server}, finding.Fault, p).elsewhere(p)
	case outcome == exchange.Refused && p.of.IsTransfer():
		o.find(both.as(finding.TransferRefused), finding.Note, p)
	case outcome.Failed():
		o.find(groupKey{code: finding.Failed, server: both.server, outcome: outcome}, finding.Fault, p).elsewhere(p)
	}
}

// elsewhere notes whom a client asked in place of a server that failed, and what that cost it.
func (g *group) elsewhere(p *Transaction) {
	if after := p.Related().After; after.Number > 0 && after.Server != p.Server() {
		g.to, g.cost = after.Server.Addr(), max(g.cost, time.Duration(after.Sent-p.First.At))
	}
}

// retries are what can have become of the retry over TCP after a truncated answer, where the
// capture does not show it.
var retries = map[connection]struct {
	detail   string
	severity finding.Severity
}{
	refused:      {"and it refused the TCP connection for the rest", finding.Fault},
	wanted:       {"and the TCP connection for the rest was never made", finding.Fault},
	pending:      {"and the capture ends before a retry over TCP", finding.Note},
	accepted:     {"and it was not retried over TCP", finding.Concern},
	noConnection: {"and it was not retried over TCP", finding.Concern},
}

// truncated counts an exchange that ended in a truncated answer.
func (o *Overview) truncated(p *Transaction) {
	k := groupKey{code: finding.Truncated, server: p.Server().Addr()}
	if p.Related().After.TCP {
		o.find(k, finding.Note, p)
		return
	}
	retry := retries[p.Related().Connection]
	k.detail = retry.detail
	o.find(k, retry.severity, p)
}

// judgeFragments tells of a reply of which fragments are missing.
func (o *Overview) judgeFragments(p *Transaction, _ *Stat) {
	if p.Torn {
		o.find(groupKey{code: finding.Undecodable, server: p.Server().Addr(), detail: "fragments of its reply are missing"}, finding.Concern, p)
	}
}

// judgeRepeats tells of a question that was sent more than once.
func (o *Overview) judgeRepeats(p *Transaction, server *Stat) {
	before := p.Related().Before
	if p.Asked() > 1 {
		after := time.Duration(p.rel.again[0].At - p.First.At)
		if p.Answered() && !late(p, server) {
			k := p.both().as(finding.PacketLost)
			if p.Received < p.rel.again[0].At {
				k.detail = replyLost // the server answered, and its client does not know
			}
			g := o.find(k, finding.Note, p)
			g.most = max(g.most, after)
			return
		}
		o.repeated(p, after)
	} else if before.Number > 0 && before.Server == p.Server() && !before.TCP && !p.tcp && before.Outcome == "" {
		o.repeated(p, time.Duration(p.First.At-before.Sent))
	}
}

// replyLost marks packets that were lost behind the place where the capture was taken, on the
// way back.
const replyLost = "reply"

// judgeTimes tells of a reply that came late or took long, and of one that another contradicts.
func (o *Overview) judgeTimes(p *Transaction, server *Stat) {
	if !p.Answered() {
		return
	}
	rel, took := p.Related(), p.Took()
	if late(p, server) {
		g := o.find(p.both().as(finding.LateReply), finding.Concern, p)
		g.most = max(g.most, p.Waited())
	} else if slow, severity := o.slow(server, took); slow {
		g := o.find(groupKey{code: finding.Slow, server: p.Server().Addr()}, severity, p)
		g.most = max(g.most, took)
	}
	if rel.differs {
		o.differs(p)
	}
}

// late reports whether a reply came too late for its client. One that came once its question
// was sent again is late when the second question is answered too, or when the reply came
// sooner after it than this server ever replies; else a packet was lost, and the second
// question answered in time.
func late(p *Transaction, server *Stat) bool {
	rel := p.Related()
	if rel.After.Number > 0 && rel.After.Sent < p.Received {
		return true
	}
	if p.Asked() < 2 || p.Received <= rel.again[0].At {
		return false
	}
	return rel.twice || server.Latency.Count() >= slowFrom && p.Took() < server.Latency.estimate(1)/4
}

// judgeGuesses marks an exchange at whose ID somebody guessed; they were counted as they came.
func (o *Overview) judgeGuesses(p *Transaction, _ *Stat) {
	if p.Related().Guesses > 0 {
		p.Codes = append(p.Codes, finding.UnsolicitedReply)
	}
}

// judgeHalves tells of a pair of questions for A and AAAA of which this one failed or was late.
func (o *Overview) judgeHalves(p *Transaction, _ *Stat) {
	outcome, took, other := p.Outcome(), p.Took(), p.Half()
	if !other.Good {
		return
	}
	if outcome.Failed() || took > slowRatio*other.Took && took > other.Took+halfLate {
		k := p.both().as(finding.HalfFails)
		k.outcome = outcome
		g := o.find(k, finding.Concern, p)
		g.most = max(g.most, took)
	}
}

// looped counts an exchange whose question's packet went round in a loop.
func (o *Overview) looped(p *Transaction) {
	g := o.find(p.both().as(finding.LoopedQuery), finding.Fault, p)
	g.most = max(g.most, time.Duration(p.rel.Copies))
}

// repeated counts an exchange whose client had asked the same already, so long before.
func (o *Overview) repeated(p *Transaction, after time.Duration) {
	g := o.find(p.both().as(finding.RepeatedQuery), finding.Note, p)
	g.most = max(g.most, after)
}

// differs counts an exchange with two replies that say different things.
func (o *Overview) differs(p *Transaction) {
	o.find(p.both().as(finding.RepliesDiffer), finding.Fault, p).packet(p.rel.OtherIn, "")
}

// denies counts an exchange in which a server said that there is no such name.
func (o *Overview) denies(p *Transaction, server *Stat) {
	if g := server.denials; g != nil && !o.muted {
		p.Codes = append(p.Codes, g.code)
		g.add(p)
		return
	}
	g := o.find(groupKey{code: finding.Failed, server: p.Server().Addr(), outcome: exchange.NoName}, finding.Note, p)
	if !o.muted && server != &o.servers.rest {
		server.denials = g // found without looking it up, since there are many
	}
}

// slow reports whether a reply took long, by the clock or by what that server
// usually takes.
func (o *Overview) slow(usual *Stat, took time.Duration) (bool, finding.Severity) {
	if took > slowAfter {
		return true, finding.Concern
	}
	known := took >= slowLeast && usual != &o.servers.rest && usual.Latency.Count() >= slowFrom
	return known && took > slowRatio*usual.Latency.estimate(50), finding.Note
}

// client is what is remembered of one client: the names it was just told not to
// exist.
type client struct {
	at      int
	last    int64     // when it asked for the newest of them
	sizes   [8]uint8  // of their names, in bytes; 0: none
	begins  [8]uint16 // of these: see beginning
	missing [8]missing
	names   int // that were new to it, and when the newest of them were asked for
	times   [burstNames]int64
	burst   *group // of many such names in a row; nil before the first
}

type missing struct {
	name   []byte // in wire form
	hash   uint64 // of it
	number int
	sent   int64
}

// mayMiss reports whether a client was told not to exist what may be the name of an exchange with more behind it.
func (s *Stat) mayMiss(p *Transaction) bool {
	return s.begins != 0 && (p.begins == 0 || s.begins>>(p.begins>>1%64)&1 != 0)
}

// missingNames sees the search list at work: a name that does not exist, and then the
// same without its end, or with another; and many in a row that do not exist.
func (o *Overview) missingNames(p *Transaction, stat *Stat) {
	c, sent := stat.missing, p.First.At
	if stat == &o.clients.rest || p.size == 0 || c != nil && p.kind != exchange.UsualNoName && sent-c.last > suffixWithin {
		return
	}
	if c == nil {
		c = &client{}
		stat.missing = c
	}
	var asked []byte
	for i, size := range c.sizes {
		if size <= p.size || c.begins[i] != p.begins && p.begins != 0 {
			continue // as nearly all are: the one with a suffix behind it is longer, and begins alike
		}
		m := &c.missing[i]
		if sent-m.sent > suffixWithin || sent < m.sent {
			continue
		}
		asked = p.View().QuestionBytes()[:p.size]
		if suffix := appended(m.name, asked); suffix != "" {
			if !slices.Contains(p.Codes, finding.SuffixAppended) {
				p.Codes = append(p.Codes, finding.SuffixAppended)
			}
			g := o.groups.of(groupKey{code: finding.SuffixAppended, client: p.Client().Addr(), detail: suffix}, finding.Note)
			g.count++
			for _, n := range []int{m.number, p.Number} { // what was lost, and what shows it
				if len(g.evidence) < maxEvidence && !slices.Contains(g.evidence, n) {
					g.evidence = append(g.evidence, n)
				}
			}
			g.lost += time.Duration(sent - m.sent)
			c.sizes[i] = 0 // told once
			o.late.add(finding.SuffixAppended, m.number)
		}
	}
	if p.kind != exchange.UsualNoName {
		return
	}
	known := false // asked for another type, or the same once more
	for i := range c.missing {
		known = known || c.missing[i].hash == p.name
	}
	at := c.at % len(c.missing)
	m := &c.missing[at]
	c.at, c.last, c.sizes[at] = c.at+1, sent, p.size
	c.begins[at], asked = p.begins, p.View().QuestionBytes()[:p.size]
	stat.begins = 0
	for i, b := range c.begins {
		if c.sizes[i] > 0 {
			stat.begins |= 1 << (b >> 1 % 64)
		}
	}
	m.name, m.hash, m.number, m.sent = append(m.name[:0], asked...), p.name, p.Number, sent
	if known {
		return
	}
	oldest := c.times[c.names%burstNames]
	c.times[c.names%burstNames] = sent
	if c.names++; c.names > burstNames && sent-oldest < burstWithin {
		if c.burst == nil {
			c.burst = o.find(groupKey{code: finding.NoNameBurst, client: p.Client().Addr()}, finding.Concern, p)
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
	ttl uint32
	at  int64 // 0: it was not given yet
}

// Of how many questions that is remembered, at the least, and how many answers of one server are held against it.
const (
	agingKept    = 1 << 12
	agingAnswers = 1 << 14
)

// noticed is a set of hashes that may hold some more than were added: what is in it is
// worth looking up.
type noticed [1 << 11]uint64

func (n *noticed) add(hash uint64)      { n[hash>>6%uint64(len(n))] |= 1 << (hash % 64) }
func (n *noticed) has(hash uint64) bool { return n[hash>>6%uint64(len(n))]&(1<<(hash%64)) != 0 }

// answers sees answers made up for names that do not exist, and TTLs counting down.
func (o *Overview) answers(p *Transaction, server *Stat) {
	question := p.question
	switch p.kind {
	case exchange.UsualNoName:
		if len(o.denied) < maxDenied {
			if _, known := o.denied[question]; !known {
				o.denied[question] = p.link()
				o.mayBeDenied.add(question)
			}
		}
	case exchange.UsualAnswer:
		if !p.ages {
			return // the zone's own word, and no cache's
		}
		if o.mayBeDenied.has(question) {
			if by, known := o.denied[question]; known && by.Server != p.Server() {
				g := o.find(groupKey{code: finding.AnswerRewritten, server: p.Server().Addr(), client: p.Client().Addr()}, finding.Fault, p)
				g.to = by.Server.Addr()
				if !slices.Contains(g.evidence, by.Number) {
					g.evidence = append(g.evidence, by.Number)
				}
				o.late.add(finding.AnswerRewritten, by.Number)
			}
		}
		if server.hasCache || server.aging == agingAnswers {
			return // it was seen before, or is not to be expected any more
		}
		server.aging++
		before := o.counted.at(question ^ p.server)
		if before.at != 0 {
			passed := uint32((p.Received - before.at) / int64(time.Second))
			if left := before.ttl - p.ttl; passed > 1 && left+1 >= passed && left <= passed+1 {
				server.hasCache = true
			}
		}
		if before.at == 0 || p.Received-before.at > int64(time.Minute) {
			*before = countdown{p.ttl, p.Received}
		}
	}
}

// HasCache reports whether the server's TTLs were seen counting down.
func (s *Stat) HasCache() bool { return s.hasCache }

// unsolicited counts a reply that answers no question of the capture.
func (o *Overview) unsolicited(m *capturedMessage, e *envelope, fits *Transaction) {
	o.Unsolicited++
	k := groupKey{code: finding.UnsolicitedReply, client: e.Client.Addr(), server: e.Server.Addr()}
	severity := finding.Note
	if fits != nil {
		k.detail = "no query had its ID"
		if fits.Server() != e.Server {
			k.detail = "it comes from a server that was not queried"
		}
		if severity = finding.Concern; fits.Related().Guesses >= attackFrom {
			severity = finding.Fault
		}
	}
	g := o.groups.of(k, severity)
	g.count++
	if fits != nil && !slices.Contains(g.evidence, fits.Number) && len(g.evidence) < maxEvidence {
		g.evidence = append(g.evidence, fits.Number)
	}
	g.packet(m.Number, "")
}

// unconnected counts a TCP connection that did not come about.
func (o *Overview) unconnected(a *attempt) {
	k := groupKey{code: finding.Unanswered, client: a.client.Addr(), server: a.server.Addr(), detail: overTCP}
	if a.state == refused {
		k.code = finding.TCPRefused
	}
	g := o.groups.of(k, finding.Concern)
	g.count++
	g.packet(a.packet, "")
}

// overTCP tells findings about connections from those about messages.
const overTCP = "tcp"

// revised judges what came of an exchange after it was counted.
func (o *Overview) revised(p *Transaction) {
	if o.options.Choose != nil && !o.chosen.has(p.Number) {
		return
	}
	if p.Looped() && p.told&toldLooped == 0 {
		o.looped(p)
	}
	if again := p.rel.again; len(again) > 0 && p.told&toldRepeated == 0 {
		o.repeated(p, time.Duration(again[0].At-p.First.At))
	}
	if p.rel.differs && p.told&toldDiffers == 0 {
		o.differs(p)
		o.late.differ(p.Number, p.rel.OtherIn)
	}
	for _, code := range p.Codes {
		o.late.add(code, p.Number)
	}
}

// unreadable lists a packet that cannot be read, with what is wrong at which byte.
func (o *Overview) unreadable(it *item) {
	k, how := groupKey{code: finding.Undecodable}, ""
	switch {
	case it.packet.Cut:
		k.detail, how = "cut", "the capture cut it: "
	case it.what == isMalformed:
		k.detail = "headers"
	default:
		k.client, how = it.packet.From.Addr(), "in its message "
	}
	g := o.groups.of(k, finding.Note)
	if g.count++; g.hasRoom() {
		g.packet(it.packet.Number, how+it.err.Error())
	}
}

// malformed counts packets whose headers contradict themselves, beyond those that are listed.
func (o *Overview) malformed(detail string, count int) {
	if count > 0 {
		o.Malformed += count
		o.groups.of(groupKey{code: finding.Undecodable, detail: detail}, finding.Note).count += count
	}
}

// conclude turns the groups into findings, once all has been read.
func (o *Overview) conclude() {
	oneSided := o.Queries > 3 && o.Replies == 0 || o.Replies > 3 && o.Queries == 0
	if oneSided {
		what := "questions"
		if o.Queries == 0 {
			what = "replies"
		}
		o.Findings = append(o.Findings, finding.New(finding.OneSided, finding.Concern, finding.About{}, fmt.Sprintf("The capture has only %s.", what)))
	}
	o.groups.fold()
	for _, g := range o.groups.order {
		slices.Sort(g.evidence)
		g.evidence = g.evidence[:min(len(g.evidence), maxEvidence)]
	}
	slices.SortStableFunc(o.groups.order, func(a, b *group) int { return cmp.Or(cmp.Compare(b.count, a.count), cmp.Compare(a.place(), b.place())) })
	for _, g := range o.groups.order {
		if o.options.Choose != nil {
			if g.evidence = slices.DeleteFunc(g.evidence, func(n int) bool { return !o.chosen.has(n) }); len(g.evidence) == 0 {
				continue
			}
		}
		if oneSided && (g.code == finding.Unanswered || g.code == finding.UnsolicitedReply || g.code == finding.RepeatedQuery) {
			continue // no server's fault
		}
		about := finding.About{Outcome: string(g.outcome)}
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
		f.Packets = g.packets
		if len(o.Findings) < maxFindings {
			o.Findings = append(o.Findings, f)
		} else {
			o.MoreFound++
		}
	}
	o.MoreFound += o.groups.more
	if o.options.Choose == nil { // who chooses exchanges asks for these, and the local link has none
		conflicts, more := o.LocalLink.conflicts()
		o.Findings, o.MoreFound = append(o.Findings, conflicts...), o.MoreFound+more
	}
	if names := o.names.count; names > 0 {
		clients, _ := o.Clients()
		o.Findings = append(o.Findings, finding.New(finding.ReadableNames, finding.Note, finding.About{},
			fmt.Sprintf("Anybody who sees these packets can read %s that %s looked up.", wording.Count(names, "name", "names"), wording.Count(len(clients), "client", "clients"))))
	}
	finding.Sort(o.Findings)
	for _, e := range o.secure {
		o.Encrypted = append(o.Encrypted, *e)
	}
	slices.SortFunc(o.Encrypted, func(a, b Encrypted) int { return int(a.First - b.First) })
}
