package zonecare

import (
	"context"
	"fmt"
	"strings"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// dnskey is the type of a zone's keys (RFC 4034 §2).
const dnskey wire.Type = 48

// apexSets are the record sets at the top of a zone that its servers are compared by: that
// two have one serial does not say that they have the same data.
var apexSets = []wire.Type{wire.NS, wire.MX, wire.A, wire.AAAA, wire.TXT, wire.CAA, dnskey}

// nameSets are the same of a name that is asked for besides.
var nameSets = []wire.Type{wire.A, wire.AAAA, wire.MX, wire.TXT}

// repeats is how often servers of one serial that differ are asked again.
const repeats = 2

// contents are the questions by which servers are compared.
func (p *Plan) contents(zone wire.Name) (questions []wire.Question) {
	for _, t := range apexSets {
		if t == dnskey && p.Signed {
			continue
		}
		questions = append(questions, wire.Question{Name: zone, Type: t, Class: wire.IN})
	}
	for _, name := range p.Names {
		for _, t := range nameSets {
			questions = append(questions, wire.Question{Name: name, Type: t, Class: wire.IN})
		}
	}
	return questions
}

// askContents asks a server for what servers are compared by.
func (s *State) askContents(ctx context.Context, session *exchange.Session, questions []wire.Question) {
	options := session.Client.Options
	options.Iterative = true
	var requests []exchange.Request
	for _, q := range questions {
		requests = append(requests, exchange.Request{Server: s.address(""), Question: q, Options: &options, Shared: true})
	}
	s.Sets = session.AskAll(ctx, requests)
}

// difference is one question that two servers answer differently.
type difference struct {
	state, reference *State
	at               int // of the question
	again            []*exchange.Exchange
}

// askDifferences asks servers of one serial that differ the same again: rotation and answers
// by place change between two questions.
func (r *Report) askDifferences(ctx context.Context, session *exchange.Session) {
	options := session.Client.Options
	options.Iterative = true
	var requests []exchange.Request
	var of []int
	for i := range r.differences {
		d := &r.differences[i]
		if d.state.Serial != d.reference.Serial {
			continue
		}
		for range repeats {
			for _, s := range []*State{d.state, d.reference} {
				requests = append(requests, exchange.Request{Server: s.address(""), Question: s.Sets[d.at].Question, Options: &options})
				of = append(of, i)
			}
		}
	}
	for n, e := range session.AskAll(ctx, requests) {
		r.differences[of[n]].again = append(r.differences[of[n]].again, e)
	}
}

// compare finds the questions that servers answer differently from the newest version, each
// server once by its first address.
func (r *Report) compare() {
	var reference *State
	for _, s := range r.States {
		if s.HasSerial && s.Serial == r.SOA.Serial && r.Known {
			reference = s
			break
		}
	}
	if reference == nil {
		return
	}
	told := map[string]bool{}
	for _, s := range r.States {
		for at, e := range s.Sets {
			key := fmt.Sprint(s.Host.Fold(), at)
			theirs := reference.Sets[at]
			if s == reference || !s.HasSerial || told[key] || !e.Outcome.Good() || !theirs.Outcome.Good() || e.Meaning() == theirs.Meaning() {
				continue
			}
			told[key] = true
			r.differences = append(r.differences, difference{state: s, reference: reference, at: at})
		}
	}
}

// steady reports whether both servers said the same each time.
func (d *difference) steady() bool {
	mine, theirs := d.state.Sets[d.at], d.reference.Sets[d.at]
	for _, e := range d.again {
		of := mine
		if e.Server == theirs.Server {
			of = theirs
		}
		if e.Meaning() != of.Meaning() {
			return false
		}
	}
	return len(d.again) > 0
}

// contents says where servers give different data.
func (r *Report) contents() {
	for i := range r.differences {
		d := &r.differences[i]
		mine, theirs := d.state.Sets[d.at], d.reference.Sets[d.at]
		host, other := d.state.Host.Spoken(), d.reference.Host.Spoken()
		evidence := []int{mine.Number, theirs.Number}
		about := fmt.Sprintf("%s answers %s to %s; %s answers %s", host, answered(mine), mine.Question.Spoken(), other, answered(theirs))
		switch {
		case d.state.Serial != d.reference.Serial:
			r.find(finding.AnswersDiffer, finding.Concern, d.state.Host, evidence, "%s, which has the newer version.", about)
		case d.steady():
			for _, e := range d.again {
				evidence = append(evidence, e.Number)
			}
			r.find(finding.AnswersDiffer, finding.Fault, wire.Name{}, evidence, "%s, with the same serial and each time.", about)
			r.Findings[len(r.Findings)-1].Next = "Ask the zone's operator which answer is right, and to raise the serial so that the other server fetches the zone again."
		default:
			r.find(finding.AnswersDiffer, finding.Note, d.state.Host, evidence, "%s, and the answers change from query to query: rotation, or an answer by place.", about)
		}
	}
}

// answered is what an exchange answers, in a few words that are safe to print.
func answered(e *exchange.Exchange) string {
	answer := e.Answer()
	switch values := exchange.Values(answer.Records); {
	case len(values) > 3:
		return fmt.Sprintf("%s and %d more", strings.Join(values[:3], ", "), len(values)-3)
	case len(values) > 0:
		return strings.Join(values, ", ")
	case len(answer.Aliases) > 0:
		return "an alias (CNAME) to " + answer.Name.Spoken()
	}
	return string(e.Outcome)
}
