package data

import (
	"encoding/json"
	"net/netip"
	"time"

	"unquil/core/attest"
	"unquil/core/conversation"
	"unquil/core/delegation"
	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/sequence"
	"unquil/core/wire"
)

// Overview is what happened in a capture, with the table or list of one view.
type Overview struct {
	Packets          int                      `json:"packets"`
	Messages         int                      `json:"messages"`
	Undecodable      int                      `json:"undecodable"`       // packets
	FragmentsMissing int                      `json:"fragments_missing"` // datagrams that are not whole
	Gaps             int                      `json:"gaps"`              // in connections
	Lost             int                      `json:"lost"`              // packets, as the capture itself says
	CapturedTwice    int                      `json:"captured_twice"`
	Exchanges        int                      `json:"exchanges"`
	LeftOut          int                      `json:"left_out"` // exchanges that the choice leaves out
	Outcomes         map[exchange.Outcome]int `json:"outcomes"`
	Unsolicited      int                      `json:"unsolicited"` // replies to no question
	NotPaired        int                      `json:"not_paired"`  // messages that there was no room for
	Findings         []finding.Finding        `json:"findings"`
	First            *time.Time               `json:"first,omitempty"`
	Last             *time.Time               `json:"last,omitempty"`
	TimesAbsurd      bool                     `json:"times_absurd,omitempty"`
	Encrypted        []OverviewEncrypted      `json:"encrypted,omitempty"`
	Signatures       *OverviewSigned          `json:"signatures,omitempty"`
	// Of the views.
	Clients   CountOrTable      `json:"clients"`
	Servers   CountOrTable      `json:"servers"`
	Names     *OverviewTable    `json:"names,omitempty"`
	Episodes  []OverviewEpisode `json:"episodes,omitempty"`
	Walks     []OverviewWalk    `json:"walks,omitempty"`
	LocalLink []OverviewLocal   `json:"local_link,omitempty"`
	Timeline  *OverviewTimeline `json:"timeline,omitempty"`
}

// CountOrTable is how many there are, or, where that is the view, all of them.
type CountOrTable struct {
	Count int
	Table *OverviewTable
}

// MarshalJSON writes the table where there is one, and otherwise the number.
func (c CountOrTable) MarshalJSON() ([]byte, error) {
	if c.Table != nil {
		return json.Marshal(c.Table)
	}
	return json.Marshal(c.Count)
}

// OverviewTable is names, servers or clients.
type OverviewTable struct {
	Rows       []OverviewRow `json:"rows"`
	NotCounted int           `json:"exchanges_not_counted"` // for want of room
}

// OverviewRow is one of them; times are in seconds.
type OverviewRow struct {
	Key        string   `json:"key"`
	Exchanges  int      `json:"exchanges"`
	Failed     int      `json:"failed"`
	NoName     int      `json:"no_name"`
	Unanswered int      `json:"unanswered"`
	Peers      int      `json:"peers"`
	Cache      bool     `json:"cache"`
	Median     *float64 `json:"median,omitempty"`
	P95        *float64 `json:"p95,omitempty"`
	Longest    *float64 `json:"longest,omitempty"`
	Estimated  *bool    `json:"estimated,omitempty"`
	Host       string   `json:"host,omitempty"` // as the file calls it
}

// OverviewEncrypted is a connection that cannot be read.
type OverviewEncrypted struct {
	Client     End                `json:"client"`
	Server     End                `json:"server"`
	Over       exchange.Transport `json:"over"`
	Packets    int                `json:"packets"`
	Lasted     float64            `json:"lasted"` // seconds
	Host       escape.Text        `json:"host,omitempty"`
	FirstAfter float64            `json:"first_reply_after,omitempty"` // seconds
}

// OverviewSigned is what the signatures in a capture come to.
type OverviewSigned struct {
	Sets    map[attest.State]int         `json:"sets"`
	Names   map[attest.State][]wire.Name `json:"names"`
	Without []wire.Name                  `json:"keys_missing_of"`
	Left    int                          `json:"not_looked_at"`
}

// OverviewEpisode is what one client asked in one go.
type OverviewEpisode struct {
	Client netip.Addr      `json:"client"`
	Begins time.Time       `json:"begins"`
	Took   float64         `json:"took"` // seconds
	Failed int             `json:"failed"`
	Asked  []OverviewAsked `json:"asked"`
}

// OverviewAsked is one exchange of it; depth is how many others had to be answered before.
type OverviewAsked struct {
	Exchange int `json:"exchange"`
	Depth    int `json:"depth"`
}

// OverviewWalk is what a resolver asked for one question.
type OverviewWalk struct {
	Resolver netip.Addr         `json:"resolver"`
	Question Question           `json:"question"`
	Begins   time.Time          `json:"begins"`
	Took     float64            `json:"took"` // seconds
	Ended    bool               `json:"ended"`
	Steps    []OverviewWalkStep `json:"steps"`
	For      int                `json:"for_exchange,omitempty"` // the client's
}

// OverviewWalkStep is one server asked on the way.
type OverviewWalkStep struct {
	Exchange int        `json:"exchange"`
	Zone     *wire.Name `json:"zone,omitempty"` // that it was asked as a server of
}

// OverviewLocal is a name on the local link.
type OverviewLocal struct {
	Name   wire.Name       `json:"name"`
	Asked  int             `json:"asked"`
	Askers []netip.Addr    `json:"askers"`
	Claims []OverviewClaim `json:"claims"`
}

// OverviewClaim is who says that the name is its own.
type OverviewClaim struct {
	Host   netip.Addr `json:"host"`
	Values []string   `json:"values"`
	Alone  bool       `json:"alone"` // it says that nobody else has it
	Packet int        `json:"packet"`
	Times  int        `json:"times"`
}

// OverviewTimeline is how many were asked and failed, by time.
type OverviewTimeline struct {
	Begins time.Time      `json:"begins"`
	Slot   float64        `json:"slot"` // seconds
	Slots  []OverviewSlot `json:"slots"`
}

// OverviewSlot is one stretch of time.
type OverviewSlot struct {
	Asked  int `json:"asked"`
	Failed int `json:"failed"`
	NoName int `json:"no_name"`
}

// OfOverview returns what happened in a capture as JSON has it, with the table or list of one view.
func OfOverview(o *conversation.Overview, view string) *Overview {
	clients, _ := o.Clients()
	servers, _ := o.Servers()
	out := &Overview{
		Packets: o.Packets, Messages: o.Messages, Undecodable: o.Unreadable + o.Malformed, FragmentsMissing: o.Incomplete, Gaps: o.Gaps, Lost: o.Lost,
		CapturedTwice: o.Duplicates, Exchanges: o.Exchanges, LeftOut: o.LeftOut, Outcomes: o.Outcomes, Clients: CountOrTable{Count: len(clients)}, Servers: CountOrTable{Count: len(servers)},
		Unsolicited: o.Unsolicited, NotPaired: o.Dropped, Findings: list(o.Findings),
	}
	if out.Outcomes == nil {
		out.Outcomes = map[exchange.Outcome]int{}
	}
	if !o.First.IsZero() {
		out.First, out.Last, out.TimesAbsurd = &o.First, &o.Last, o.AbsurdTimes()
	}
	for _, e := range o.Encrypted {
		out.Encrypted = append(out.Encrypted, OverviewEncrypted{OfEnd(e.Client), OfEnd(e.Server), e.Over, e.Packets, time.Duration(e.Last - e.First).Seconds(), e.Host, e.Handshake.Seconds()})
	}
	if s := o.Signed; s != nil {
		out.Signatures = &OverviewSigned{s.Sets, map[attest.State][]wire.Name{}, list(s.Without), s.Left}
		for _, state := range attest.States {
			out.Signatures.Names[state] = list(s.Of(state))
		}
	}
	if add := captureViews[view]; add != nil {
		add(out, o)
	}
	return out
}

// captureViews are the views that are more than the exchanges themselves.
var captureViews = map[string]func(out *Overview, o *conversation.Overview){
	"names":      func(out *Overview, o *conversation.Overview) { out.Names = ofRows(o.Names()) },
	"servers":    func(out *Overview, o *conversation.Overview) { out.Servers.Table = ofRows(o.Servers()) },
	"clients":    func(out *Overview, o *conversation.Overview) { out.Clients.Table = ofRows(o.Clients()) },
	"episodes":   func(out *Overview, o *conversation.Overview) { out.Episodes = ofEpisodes(o) },
	"walks":      func(out *Overview, o *conversation.Overview) { out.Walks = ofPaths(o) },
	"local-link": func(out *Overview, o *conversation.Overview) { out.LocalLink = ofLocalLink(o) },
	"timeline":   func(out *Overview, o *conversation.Overview) { out.Timeline = ofTimeline(o) },
}

func ofRows(rows []conversation.Row, uncounted int) *OverviewTable {
	return &OverviewTable{NotCounted: uncounted, Rows: each(rows, func(r conversation.Row) OverviewRow {
		s := r.Stat
		j := OverviewRow{Key: r.Key, Exchanges: s.Exchanges, Failed: s.Failed, NoName: s.NoName, Unanswered: s.Unanswered, Peers: s.Peers(), Cache: s.HasCache(), Host: r.Host}
		if s.Latency.Count() > 0 {
			j.Median, j.P95, j.Longest = new(s.Latency.Quantile(50).Seconds()), new(s.Latency.Quantile(95).Seconds()), new(s.Latency.Max.Seconds())
			j.Estimated = new(!s.Latency.Exact())
		}
		return j
	})}
}

func ofEpisodes(o *conversation.Overview) []OverviewEpisode {
	return each(sequence.Episodes(o.Kept), func(p sequence.Episode) OverviewEpisode {
		return OverviewEpisode{p.Client, p.Begins, p.Took.Seconds(), p.Failed, each(p.Asked, func(a sequence.Asked) OverviewAsked { return OverviewAsked{a.Exchange.Number, a.Depth} })}
	})
}

func ofPaths(o *conversation.Overview) []OverviewWalk {
	return each(sequence.ResolverWalks(o.Kept, delegation.PublishedAddresses()), func(p *sequence.ResolverWalk) OverviewWalk {
		j := OverviewWalk{Resolver: p.Resolver, Question: OfQuestion(p.Question), Begins: p.Begins, Took: p.Took.Seconds(), Ended: p.Ended(), Steps: []OverviewWalkStep{}}
		for _, s := range p.Steps {
			step := OverviewWalkStep{Exchange: s.Exchange.Number}
			if !s.Zone.IsZero() {
				step.Zone = &s.Zone
			}
			j.Steps = append(j.Steps, step)
		}
		if p.Asked != nil {
			j.For = p.Asked.Number
		}
		return j
	})
}

func ofLocalLink(o *conversation.Overview) []OverviewLocal {
	return each(o.LocalLink.Names(), func(n *conversation.LocalName) OverviewLocal {
		return OverviewLocal{n.Name, n.Asked, list(n.Askers), each(n.Claims, func(c conversation.Claim) OverviewClaim {
			return OverviewClaim{c.Host, list(c.Values), c.Unique, c.Packet, c.Times}
		})}
	})
}

func ofTimeline(o *conversation.Overview) *OverviewTimeline {
	out := &OverviewTimeline{Begins: time.Unix(0, o.Timeline.Begins).UTC(), Slot: o.Timeline.Width.Seconds(), Slots: []OverviewSlot{}}
	for _, s := range o.Timeline.Slots {
		out.Slots = append(out.Slots, OverviewSlot{s.Asked, s.Failed, s.NoName})
	}
	return out
}
