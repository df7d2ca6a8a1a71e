// Package transfer fetches whole zones (AXFR, RFC 5936) or what changed in them
// (IXFR, RFC 1995) as a stream, and compares zones record by record.
package transfer

import (
	"context"
	"errors"
	"fmt"
	"time"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/tsig"
	"unquil/core/wire"
)

// Why a transfer did not come to its end.
var (
	ErrRefused  = errors.New("the server does not allow the transfer")
	ErrEnd      = errors.New("the transfer ended before the closing SOA record")
	ErrNotZone  = errors.New("the transfer does not begin with the zone's SOA record")
	ErrOutside  = errors.New("a record is outside the zone")
	ErrChanged  = errors.New("the transfer ends with a different SOA record from the one it started with")
	ErrSurplus  = errors.New("records follow after the closing SOA record")
	ErrEndless  = errors.New("more records than one transfer may have")
	ErrUnsigned = errors.New("the end of the transfer is not signed")
)

// Bounds on what a server may send.
const (
	maxRecords = 200_000_000
	maxEmpty   = 100 // messages in a row without a record
)

// Request says what to fetch, and from whom.
type Request struct {
	Zone   wire.Name
	Server exchange.Server
	Since  *uint32   // ask for what changed since that serial; nil: for the whole zone
	Key    *tsig.Key // to sign with; nil: unsigned
}

// Kind is what a transfer turned out to be.
type Kind string

// The kinds.
const (
	Whole   Kind = "whole"      // every record
	Changes Kind = "changes"    // what went and what came
	Current Kind = "up-to-date" // the server has nothing newer
)

// Change is one record of a transfer.
type Change struct {
	Record  wire.Record
	Removed bool   // gone since the serial that was asked for; always false in a whole zone
	Serial  uint32 // the version in which it went or came; 0 in a whole zone
}

// Result sums up a transfer, as far as it came.
type Result struct {
	Request  Request
	Exchange *exchange.Exchange // the query and the first message
	Kind     Kind               // "" when nothing of the zone came
	SOA      wire.SOAData       // of the version that was sent
	Records  int                // handed over: the closing SOA record is not among them
	Removed  int                // of Records, those that went
	Messages int
	Bytes    int64
	ByType   map[wire.Type]int
	Took     time.Duration
	Err      error // nil when the transfer came to its end and all is well with it
	Findings []finding.Finding
}

// Receive fetches the zone, and hands over each record as it comes: the SOA
// record first, the one that closes the transfer not at all. Memory does not grow
// with the zone. An error of take ends the transfer and is Result.Err. Where it
// fails otherwise, Result.Err wraps one of the errors above, one of tsig's or of
// exchange's, and the records that were handed over are not a whole zone.
func Receive(ctx context.Context, session *exchange.Session, r Request, take func(Change) error) *Result {
	result := &Result{Request: r, ByType: map[wire.Type]int{}}
	options := session.Client.Options
	options.Iterative, options.WithoutEDNS = true, true
	q := wire.Question{Name: r.Zone, Type: wire.AXFR, Class: wire.IN}
	if r.Since != nil {
		q.Type = wire.IXFR
	}
	m := exchange.NewQuery(q, options)
	if r.Since != nil {
		have := wire.SOAData{MName: wire.Root, RName: wire.Root, Serial: *r.Since}
		m.Authority = []wire.Record{{Name: r.Zone, Type: wire.SOA, Class: wire.IN, Data: have.Data()}}
	}
	query, err := m.Bytes()
	if err != nil {
		result.Err = err
		return result
	}
	in := &reader{result: result, take: take, now: session.Client.Now}
	if r.Key != nil {
		in.chain = &tsig.Chain{Key: r.Key}
		query = in.chain.Sign(query, session.Client.Now())
	}
	begun := session.Client.Now()
	result.Exchange, result.Err = session.Converse(ctx, exchange.Request{Server: r.Server, Question: q, Options: &options}, query, in.message)
	result.Took = session.Client.Now().Sub(begun)
	if errors.Is(result.Err, exchange.ErrClosed) && in.state != atStart {
		result.Err = fmt.Errorf("%w: %w", ErrEnd, result.Err)
	}
	result.judge()
	return result
}

// state is what the next record of a transfer has to be.
type state int

const (
	atStart  state = iota // the new SOA
	atSecond              // a record of the whole zone, or the SOA of the version asked for
	inWhole
	inRemoved // records that went, then the SOA of the version without them
	inAdded   // records that came, then the next version's SOA, or the closing one
	atEnd
)

// reader follows a transfer from message to message.
type reader struct {
	result *Result
	take   func(Change) error
	chain  *tsig.Chain
	now    func() time.Time
	state  state
	first  wire.Record // the SOA that has to come back at the end
	serial uint32      // of the version that the changes lead to, or away from
	empty  int
}

// message reads one message, and reports whether it was the last.
func (r *reader) message(msg []byte) (done bool, err error) {
	if r.chain != nil {
		if err := r.chain.Check(msg, r.now()); err != nil {
			if m, bad := wire.ReadMessage(msg); bad == nil && errors.Is(err, tsig.ErrUnsigned) && m.RCode() != wire.NoError {
				// Who does not accept the key cannot sign with it (RFC 8945 §5.2).
				return false, fmt.Errorf("%w (%s), in a reply that is not signed: compare the name of the key %s, its secret, and both clocks", ErrRefused, m.RCode(), r.chain.Key.Name.Spoken())
			}
			return false, err
		}
	}
	m, err := wire.ReadMessage(msg)
	if err != nil {
		return false, err
	}
	if m.RCode() != wire.NoError {
		return false, fmt.Errorf("%w (%s)", ErrRefused, m.RCode())
	}
	r.result.Messages++
	r.result.Bytes += int64(len(msg))
	if r.empty++; len(m.Answer) > 0 {
		r.empty = 0
	}
	if r.empty > maxEmpty {
		return false, ErrEndless
	}
	if r.state == atStart && len(m.Answer) == 0 {
		return false, ErrNotZone
	}
	for _, record := range m.Answer {
		if err := r.record(record); err != nil {
			return false, err
		}
	}
	if r.state == atSecond && r.result.Request.Since != nil && len(m.Answer) == 1 && !wire.NewerSerial(r.result.SOA.Serial, *r.result.Request.Since) {
		// The SOA alone: there is nothing newer (RFC 1995 §2).
		r.result.Kind, r.state = Current, atEnd
	}
	if r.state == atEnd && r.chain != nil && !r.chain.Settled() {
		return false, ErrUnsigned
	}
	return r.state == atEnd, nil
}

func (r *reader) record(record wire.Record) error {
	zone := r.result.Request.Zone
	if record.Class != wire.IN || !record.Name.IsSubdomainOf(zone) {
		return fmt.Errorf("%w: %s", ErrOutside, record.Name)
	}
	soa, isSOA := record.Authority()
	if isSOA && !record.Name.Equal(zone) {
		return fmt.Errorf("%w: %s", ErrOutside, record.Name)
	}
	closes := isSOA && soa.Serial == r.result.SOA.Serial
	switch r.state {
	case atStart:
		if !isSOA {
			return ErrNotZone
		}
		r.first, r.result.SOA, r.state = record, soa, atSecond
		return nil // handed over when it is known what this is
	case atSecond:
		if isSOA && !closes && r.result.Request.Since != nil {
			r.result.Kind, r.state, r.serial = Changes, inRemoved, soa.Serial
			return r.hand(Change{record, true, soa.Serial})
		}
		r.result.Kind, r.state = Whole, inWhole
		if err := r.hand(Change{Record: r.first}); err != nil {
			return err
		}
		fallthrough
	case inWhole:
		if isSOA {
			return r.close(record)
		}
		return r.hand(Change{Record: record})
	case inRemoved:
		if isSOA {
			r.state, r.serial = inAdded, soa.Serial
			return r.hand(Change{record, false, soa.Serial})
		}
		return r.hand(Change{record, true, r.serial})
	case inAdded:
		switch {
		case closes && r.serial == soa.Serial:
			return r.close(record)
		case isSOA:
			r.state, r.serial = inRemoved, soa.Serial
			return r.hand(Change{record, true, soa.Serial})
		}
		return r.hand(Change{record, false, r.serial})
	}
	return ErrSurplus
}

// close ends the transfer with the SOA that it began with.
func (r *reader) close(record wire.Record) error {
	r.state = atEnd
	if record.Canonical().Data != r.first.Canonical().Data {
		return ErrChanged
	}
	return nil
}

func (r *reader) hand(c Change) error {
	if r.result.Records++; r.result.Records > maxRecords {
		return ErrEndless
	}
	if c.Removed {
		r.result.Removed++
	}
	r.result.ByType[c.Record.Type]++
	return r.take(c)
}

// judge says what the transfer means for who may have the zone.
func (r *Result) judge() {
	zone, server := r.Request.Zone, r.Request.Server
	about := finding.About{Zone: zone.String(), Server: server.Name(), Address: server.AddressText()}
	evidence := r.Exchange.Number
	switch {
	case errors.Is(r.Err, ErrRefused):
		how := "without a key"
		if r.Request.Key != nil {
			how = "with the key " + r.Request.Key.Name.Spoken()
		}
		r.Findings = append(r.Findings, finding.New(finding.TransferRefused, finding.Fault, about,
			fmt.Sprintf("%s does not let this machine transfer the zone %s %s (%s).", server.Name(), zone.Spoken(), how, r.Exchange.Reply.RCode()), evidence))
	case r.Err != nil && r.Exchange.Outcome != "":
		code := finding.TransferBroken
		switch {
		case errors.Is(r.Err, exchange.ErrNoReply):
			code = finding.NoReply
		case r.Exchange.Outcome == exchange.Unreachable:
			code = finding.TCPRefused
		}
		r.Findings = append(r.Findings, finding.New(code, finding.Fault, about,
			fmt.Sprintf("The transfer of %s from %s failed after %d records: %v.", zone.Spoken(), server.Name(), r.Records, r.Err), evidence))
	case r.Err == nil && r.Request.Key == nil && r.Kind != Current:
		r.Findings = append(r.Findings, finding.New(finding.TransferOpen, finding.Note, about,
			fmt.Sprintf("%s lets this machine transfer the zone %s without a key.", server.Name(), zone.Spoken()), evidence))
	}
}
