package conversation

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"unquil/core/capture"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// Bounds on what an overview keeps of a file of any size.
const (
	maxKept     = 10_000 // exchanges
	maxFindings = 1_000
)

// slowAfter is from when on an answer counts as slow.
const slowAfter = time.Second

// Overview is what happened in a capture.
type Overview struct {
	Packets     int // in the file
	Messages    int // DNS messages among them
	Undecodable int // packets of the DNS port that hold no message that can be read
	Fragments   int
	First, Last time.Time
	Exchanges   int
	Outcomes    map[exchange.Outcome]int
	Clients     map[netip.Addr]int
	Servers     map[netip.AddrPort]int
	Unsolicited int // replies without a question
	Dropped     int // questions given up because too many were open at once
	Kept        []exchange.Exchange
	NotKept     int // exchanges beyond those kept: they are counted, not shown
	Findings    []finding.Finding
	MoreFound   int // findings beyond those kept

	found map[foundKey]int // where a finding stands
}

type foundKey struct {
	code  finding.Code
	about finding.About
}

// dnsPort is where DNS messages are looked for.
const dnsPort = 53

// Read reads a whole capture. each is called with every exchange as it ends; it
// may be nil. On an error of the file, the overview holds what came before it.
func Read(r *capture.Reader, each func(exchange.Exchange)) (*Overview, error) {
	o := &Overview{Outcomes: map[exchange.Outcome]int{}, Clients: map[netip.Addr]int{}, Servers: map[netip.AddrPort]int{}, found: map[foundKey]int{}}
	pairer := NewPairer(func(p *Pair) { o.add(p, each) })
	var packet capture.Packet
	var failed error
	for record, err := range r.Records() {
		if err != nil {
			failed = err
			break
		}
		o.packet(record, &packet, pairer)
	}
	pairer.Close()
	o.Unsolicited, o.Dropped = pairer.Unsolicited, pairer.Dropped
	slices.SortFunc(o.Kept, func(a, b exchange.Exchange) int { return cmp.Compare(a.Number, b.Number) })
	finding.Sort(o.Findings)
	return o, failed
}

func (o *Overview) packet(record *capture.Record, packet *capture.Packet, pairer *Pairer) {
	o.Packets++
	if record.At != 0 {
		if o.First.IsZero() {
			o.First = record.Time()
		}
		o.Last = record.Time()
	}
	switch record.Decode(packet) {
	case capture.Fragment:
		o.Fragments++
		return
	case capture.Datagram:
	default:
		return
	}
	if packet.From.Port() != dnsPort && packet.To.Port() != dnsPort {
		return
	}
	view, err := wire.ReadView(packet.Payload)
	if err != nil {
		o.Undecodable++
		o.find(finding.New(finding.Undecodable, finding.Note, finding.About{Client: packet.From.Addr().String()},
			fmt.Sprintf("Packet %d from %s cannot be read: %v.", packet.Number, packet.From.Addr(), err)))
		return
	}
	o.Messages++
	pairer.Message(packet, view)
}

func (o *Overview) add(p *Pair, each func(exchange.Exchange)) {
	o.Exchanges++
	outcome := p.Outcome()
	o.Outcomes[outcome]++
	o.Clients[p.Client.Addr()]++
	o.Servers[p.Server]++
	keep := len(o.Kept) < maxKept
	if !keep {
		o.NotKept++
	}
	failed := outcome != exchange.Answered && outcome != exchange.NoData && outcome != exchange.Referral
	if !keep && !failed && p.Took() <= slowAfter && each == nil {
		return
	}
	e := p.Exchange()
	if keep {
		o.Kept = append(o.Kept, e)
	}
	for _, f := range Judge(&e) {
		o.find(f)
	}
	if each != nil {
		each(e)
	}
}

// find keeps a finding. What is the same for another type of the same name adds
// its evidence to the one there is.
func (o *Overview) find(f finding.Finding) {
	about := f.About
	about.Type = ""
	k := foundKey{f.Code, about}
	if at, ok := o.found[k]; ok {
		o.Findings[at].AddEvidence(f.Evidence...)
		return
	}
	if len(o.Findings) < maxFindings {
		o.found[k] = len(o.Findings)
		o.Findings = append(o.Findings, f)
	} else {
		o.MoreFound++
	}
}

// Judge says what is wrong with one exchange of a capture.
func Judge(e *exchange.Exchange) []finding.Finding {
	about := finding.About{
		Name: e.Question.Name.String(), Type: e.Question.Type.String(),
		Server: e.Server.Name(), Address: e.Server.AddressText(), Client: e.Client.Addr().String(),
	}
	var found []finding.Finding
	switch o := e.Outcome; {
	case o == exchange.NoReply:
		found = append(found, finding.New(finding.Unanswered, finding.Fault, about,
			fmt.Sprintf("%s asked %s for %s %s, and no reply is in the capture.", about.Client, about.Server, e.Question.Name.Spoken(), times(e.Tries())), e.Number))
	case o == exchange.NoName:
		// A name that does not exist is an answer; typing slips are no fault of the network.
		found = append(found, finding.New(finding.Failed, finding.Note, about,
			fmt.Sprintf("%s told %s that there is no such name as %s.", about.Server, about.Client, e.Question.Name.Spoken()), e.Number))
	case o == exchange.Truncated:
		found = append(found, finding.New(finding.Truncated, finding.Note, about,
			fmt.Sprintf("%s cut its answer to %s for %s: it has to be asked for again over TCP.", about.Server, about.Client, e.Question.Name.Spoken()), e.Number))
	case !o.Good() && o != exchange.Referral:
		found = append(found, finding.New(finding.Failed, finding.Fault, about,
			fmt.Sprintf("%s told %s of a failure for %s (%s).", about.Server, about.Client, e.Question.Name.Spoken(), o), e.Number))
	}
	if e.Took() > slowAfter {
		found = append(found, finding.New(finding.Slow, finding.Concern, about,
			fmt.Sprintf("%s took %.1f s to answer %s for %s.", about.Server, e.Took().Seconds(), about.Client, e.Question.Name.Spoken()), e.Number))
	}
	return found
}

func times(n int) string {
	switch n {
	case 1:
		return "once"
	case 2:
		return "twice"
	}
	return fmt.Sprintf("%d times", n)
}
