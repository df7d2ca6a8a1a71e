package data

import (
	"net/netip"

	"unquil/core/delegation"
	"unquil/core/exchange"
	"unquil/core/probe"
	"unquil/core/signing"
	"unquil/core/transfer"
	"unquil/core/wire"
	"unquil/core/zonecare"
)

// Walk is a walk from the root, or from chosen servers, to an answer.
type Walk struct {
	Question   Question       `json:"question"`
	End        delegation.End `json:"end"` // how it ended
	Says       string         `json:"summary"`
	Steps      []WalkStep     `json:"steps"`
	Values     []string       `json:"values"`         // of the answer, in master-file form
	KnownAfter float64        `json:"known_after"`    // seconds until the answer was known
	Took       float64        `json:"took"`           // seconds until all servers had been asked
	Resolver   float64        `json:"resolver_needs"` // seconds that a resolver that remembers nothing would need
	Wildcard   *WalkWildcard  `json:"wildcard,omitempty"`
	Nearest    *wire.Name     `json:"nearest_existing,omitempty"` // of a name that does not exist
	Validation *Validation    `json:"validation,omitempty"`       // absent: nobody looked
	Priming    *WalkPriming   `json:"priming,omitempty"`
}

// WalkStep is the servers of one zone, asked for one thing.
type WalkStep struct {
	Zone     string       `json:"zone"`
	Question Question     `json:"question"`
	RefersTo string       `json:"refers_to,omitempty"` // the zone that it delegates to
	Servers  []WalkServer `json:"servers"`
	Aside    []int        `json:"asked_beside,omitempty"`        // exchanges
	Spared   int          `json:"addresses_not_asked,omitempty"` // since a few of them will do
}

// WalkServer is one address of a server, and how it behaved.
type WalkServer struct {
	Host    string  `json:"host"`
	Address string  `json:"address,omitempty"` // absent: it could not be found
	Stance  string  `json:"stance"`
	Why     string  `json:"why,omitempty"`
	Serial  *uint32 `json:"serial,omitempty"` // of the zone that it serves
	Shown   []int   `json:"exchanges,omitempty"`
}

// WalkWildcard is the name *.X that stands for the one that was asked for (RFC 4592).
type WalkWildcard struct {
	Name     wire.Name `json:"name"`
	Proven   bool      `json:"proven"` // a signature says so
	Exchange int       `json:"exchange"`
}

// WalkPriming is what a root server says of the root servers (RFC 9609).
type WalkPriming struct {
	Exchange int         `json:"exchange"`
	Listed   []wire.Name `json:"servers"`
	Unknown  []wire.Name `json:"unknown_to_hints"`
	Gone     []wire.Name `json:"not_listed"`
	Moved    []wire.Name `json:"moved"` // with an address that it does not give
}

// OfWalk returns a walk as JSON has it.
func OfWalk(w *delegation.Walk) Walk {
	out := Walk{Question: OfQuestion(w.Question), End: w.End, Says: w.Summary(), Values: list(exchange.Values(w.Records)),
		KnownAfter: w.Known.Seconds(), Took: w.Took.Seconds(), Resolver: w.Resolver.Seconds(), Steps: each(w.Steps, ofStep)}
	if w.Wildcard != nil {
		out.Wildcard = &WalkWildcard{w.Wildcard.Name, w.Wildcard.Proven, w.Wildcard.Exchange.Number}
	}
	if !w.Closest.IsZero() {
		out.Nearest = &w.Closest
	}
	if w.Validation != nil {
		out.Validation = ofValidation(w.Validation)
	}
	if p := w.Priming; p != nil {
		out.Priming = &WalkPriming{p.Exchange.Number, list(p.Listed), list(p.Unknown), list(p.Gone), list(p.Moved)}
	}
	return out
}

// OfWalks is [OfWalk] of each.
func OfWalks(all []*delegation.Walk) []Walk { return each(all, OfWalk) }

func ofStep(s *delegation.Step) WalkStep {
	j := WalkStep{Zone: s.Zone.String(), Question: OfQuestion(s.Question), RefersTo: s.Child.String(), Servers: []WalkServer{}, Spared: s.Spared()}
	for _, r := range s.Replies {
		server := WalkServer{Host: r.Host.String(), Stance: string(r.Stance), Why: r.Why}
		if r.Address.IsValid() {
			server.Address = r.Address.String()
		}
		if serial, ok := r.Serial(); ok {
			server.Serial = &serial
		}
		for _, e := range []*exchange.Exchange{r.Exchange, r.SOA} {
			if e != nil {
				server.Shown = append(server.Shown, e.Number)
			}
		}
		j.Servers = append(j.Servers, server)
	}
	for _, aside := range s.Extra {
		j.Aside = append(j.Aside, aside.Exchange.Number)
	}
	return j
}

// Zone is a zone's servers side by side.
type Zone struct {
	Zone        string         `json:"zone"`
	Found       string         `json:"found"` // in one sentence
	Servers     []ZoneServer   `json:"servers"`
	Parent      []string       `json:"parent_lists"`
	Own         []string       `json:"zone_lists"`
	Walk        Walk           `json:"walk"`
	Undelegated *wire.Name     `json:"not_delegated_by,omitempty"` // the parent that knows nothing of it
	Signing     *Signing       `json:"signing,omitempty"`
	Keys        []ZoneKeys     `json:"keys,omitempty"`
	Against     []ZoneContents `json:"against,omitempty"`
	SOA         *ZoneSOA       `json:"soa,omitempty"`
}

// ZoneServer is one address of a server of a zone.
type ZoneServer struct {
	Host          string  `json:"host"`
	Address       string  `json:"address"`
	Outcome       string  `json:"outcome"` // of the question for SOA
	Authoritative bool    `json:"authoritative"`
	Serial        *uint32 `json:"serial,omitempty"`
	TCP           bool    `json:"tcp"`
	EDNS          bool    `json:"edns"`
	Shown         []int   `json:"exchanges"`
	Unlisted      bool    `json:"unlisted,omitempty"` // neither the parent nor the zone names it
	NSID          string  `json:"nsid,omitempty"`
	Recursion     *bool   `json:"recursion,omitempty"`  // absent: it is not known
	Transfer      string  `json:"transfer,omitempty"`   // given, or why not
	Expires       *uint32 `json:"expires_in,omitempty"` // seconds (RFC 7314)
}

// ZoneKeys are the keys that one server gives.
type ZoneKeys struct {
	Host     wire.Name  `json:"host"`
	Address  netip.Addr `json:"address"`
	Tags     []uint16   `json:"tags"`
	Exchange int        `json:"exchange"`
}

// ZoneContents is what a server serves against a master file.
type ZoneContents struct {
	Host     wire.Name     `json:"host"`
	Address  netip.Addr    `json:"address"`
	File     string        `json:"file"`
	Whole    bool          `json:"whole"` // by a transfer: names that should not be there show too
	Asked    int           `json:"asked"` // RRsets
	NotAsked int           `json:"not_asked"`
	Silent   int           `json:"unanswered"`
	Missing  int           `json:"missing"` // records
	Surplus  int           `json:"surplus"`
	Lacks    []wire.Record `json:"first_missing"`
	Adds     []wire.Record `json:"first_surplus"`
}

// ZoneSOA is the SOA record; the times are in seconds.
type ZoneSOA struct {
	MName   string `json:"mname"`
	RName   string `json:"rname"`
	Serial  uint32 `json:"serial"`
	Refresh uint32 `json:"refresh"`
	Retry   uint32 `json:"retry"`
	Expire  uint32 `json:"expire"`
	Minimum uint32 `json:"minimum"`
}

// OfZone returns a zone's servers side by side as JSON has them.
func OfZone(z *probe.Zone) Zone {
	out := Zone{Zone: z.Zone.String(), Found: z.Found(), Servers: []ZoneServer{}, Parent: nameWords(z.Parent.Hosts), Own: nameWords(z.Hosts), Walk: OfWalk(z.Walk)}
	for _, s := range z.States {
		out.Servers = append(out.Servers, ofState(s))
	}
	if z.Undelegated != nil {
		out.Undelegated = &z.Undelegated.Parent
	}
	if z.Signing != nil {
		out.Signing = ofSigning(z.Signing)
		out.Keys = each(z.Signing.Servers(), func(k signing.ServerKeys) ZoneKeys { return ZoneKeys{k.Host, k.Address, list(k.Tags), k.Exchange} })
	}
	for _, h := range z.Held {
		out.Against = append(out.Against, ofHeld(h))
	}
	if soa := z.SOA; z.Known {
		out.SOA = &ZoneSOA{soa.MName.String(), soa.RName.String(), soa.Serial, soa.Refresh, soa.Retry, soa.Expire, soa.Minimum}
	}
	return out
}

func ofHeld(h zonecare.Held) ZoneContents {
	return ZoneContents{h.State.Host, h.State.Address, h.Label, h.Whole, h.Sets, h.Left, h.Silent, h.Missing, h.Surplus, list(h.Lacks), list(h.Adds)}
}

func ofState(s *zonecare.State) ZoneServer {
	j := ZoneServer{
		Host: s.Host.String(), Address: s.Address.String(), Outcome: string(s.SOA.Outcome), Authoritative: s.Authoritative(),
		TCP: s.TCP.Reply != nil, EDNS: !s.SOA.EDNSIgnored && s.SOA.EDNSBroke == "",
		Shown: []int{s.SOA.Number, s.NS.Number, s.TCP.Number, s.Stranger.Number}, Unlisted: s.Unlisted, NSID: s.NSID(),
	}
	if is, known := s.Recursive(); known {
		j.Recursion = &is
	}
	if left, ok := s.Expires(); ok {
		j.Expires = &left
	}
	if t := s.Transfer; t != nil {
		j.Transfer = "given"
		if t.Err != nil {
			j.Transfer = t.Err.Error()
		}
		j.Shown = append(j.Shown, t.Exchange.Number)
	}
	if s.HasSerial {
		j.Serial = &s.Serial
	}
	return j
}

// Transfer is a zone transfer, as far as it came.
type Transfer struct {
	Zone     string           `json:"zone"`
	Server   Server           `json:"server"`
	Records  int              `json:"records"`
	Messages int              `json:"messages"`
	Bytes    int64            `json:"bytes"`
	ByType   map[string]int   `json:"by_type"`
	Took     float64          `json:"took"` // seconds
	Complete bool             `json:"complete"`
	Kind     transfer.Kind    `json:"kind,omitempty"` // absent: nothing of the zone came
	Serial   *uint32          `json:"serial,omitempty"`
	Removed  *int             `json:"removed,omitempty"` // of changes since a serial
	Added    *int             `json:"added,omitempty"`
	Changes  []TransferChange `json:"first_changes,omitempty"`
	Error    string           `json:"error,omitempty"`
	File     string           `json:"file,omitempty"` // that holds it
	Against  *TransferAgainst `json:"against,omitempty"`
}

// TransferChange is a record that went or came.
type TransferChange struct {
	Removed bool        `json:"removed"`
	Serial  uint32      `json:"serial"` // the version in which it did
	Record  wire.Record `json:"record"`
}

// TransferAgainst is a transferred zone against another server's, or a file.
type TransferAgainst struct {
	Other     string               `json:"other"`
	OnlyZone  int                  `json:"only_zone"` // records
	OnlyOther int                  `json:"only_other"`
	OtherTTL  int                  `json:"other_ttl"` // records that differ in their TTL alone
	First     []TransferDifference `json:"first_differences"`
	Error     string               `json:"error,omitempty"`
}

// TransferDifference is one record that is not the same on both sides.
type TransferDifference struct {
	Record   wire.Record `json:"record"`
	Only     string      `json:"only,omitempty"`      // zone or other: the side that has it
	OtherTTL *uint32     `json:"other_ttl,omitempty"` // of one that both have
}

// OfTransfer returns a transfer as JSON has it; written is the file that holds it.
func OfTransfer(f *transfer.Fetched, written string) Transfer {
	out := Transfer{
		Zone: f.Request.Zone.String(), Server: OfServer(f.Request.Server), Records: f.Records, Messages: f.Messages,
		Bytes: int64(f.Bytes), ByType: map[string]int{}, Took: f.Took.Seconds(), Complete: f.Err == nil, Kind: f.Kind, File: written,
	}
	for t, n := range f.ByType {
		out.ByType[t.String()] = n
	}
	if f.Kind != "" {
		out.Serial = &f.SOA.Serial
	}
	if f.Kind == transfer.Changes {
		out.Removed, out.Added = new(f.Removed), new(f.Records-f.Removed)
		out.Changes = each(f.Changes, func(c transfer.Change) TransferChange { return TransferChange{c.Removed, c.Serial, c.Record} })
	}
	if f.Err != nil {
		out.Error = f.Err.Error()
	}
	if f.Compared != nil {
		out.Against = ofCompared(f.Compared)
	}
	return out
}

func ofCompared(c *transfer.Compared) *TransferAgainst {
	out := &TransferAgainst{Other: c.Label, OnlyZone: c.Here, OnlyOther: c.There, OtherTTL: c.TTLs, First: []TransferDifference{}}
	for _, d := range c.Shown {
		j := TransferDifference{Record: d.Record, Only: "zone"}
		if d.Second {
			j.Only = "other"
		}
		if d.Other != nil {
			j.Only, j.OtherTTL = "", &d.Other.TTL
		}
		out.First = append(out.First, j)
	}
	if c.Err != nil {
		out.Error = c.Err.Error()
	}
	return out
}
