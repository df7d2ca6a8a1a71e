package data

import (
	"encoding/hex"
	"net/netip"
	"time"

	"unquil/core/comparison"
	"unquil/core/diagnosis"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/machine"
	"unquil/core/probe"
	"unquil/core/wire"
)

// DecodedMessage is one message, with every byte named.
type DecodedMessage struct {
	Message *wire.Message `json:"message"`
	Pieces  []Piece       `json:"pieces"`
	Broken  string        `json:"broken,omitempty"` // why it could not be read to its end
	Offset  *int          `json:"offset,omitempty"` // in the packet that holds it
}

// OfMessage returns one message as JSON has it. broken is why it could not be read to its end; nil if it could.
func OfMessage(data []byte, m *wire.Message, pieces []wire.Piece, broken error) *DecodedMessage {
	out := &DecodedMessage{Message: m, Pieces: each(pieces, func(p wire.Piece) Piece {
		return Piece{Offset: p.Offset, Bytes: hex.EncodeToString(data[p.Offset : p.Offset+p.Length]), Part: p.Part, Field: p.Field, Value: p.Value, Meaning: p.Meaning}
	})}
	if broken != nil {
		out.Broken = broken.Error()
	}
	return out
}

// Comparison is who gives which answer to one question.
type Comparison struct {
	Question    Question          `json:"question"`
	Headline    string            `json:"headline"`
	Groups      []ComparisonGroup `json:"groups"`
	ZoneAsked   bool              `json:"zone_servers_asked"`
	Move        *ComparisonMove   `json:"move,omitempty"`
	Validations []Validated       `json:"validations,omitempty"`
	Walk        *Walk             `json:"walk,omitempty"` // to the zone's own servers
}

// ComparisonGroup is the servers that give one answer.
type ComparisonGroup struct {
	Outcome string   `json:"outcome"`
	Values  []string `json:"values,omitempty"`
	Truth   bool     `json:"zone_says_so"`
	Members []string `json:"members"`
	Shown   []int    `json:"exchanges"`
	Least   *uint32  `json:"ttl_least,omitempty"` // seconds
	Most    *uint32  `json:"ttl_most,omitempty"`
}

// ComparisonMove is how far a change has got.
type ComparisonMove struct {
	Expected   []string `json:"expected"`
	Have       []string `json:"have"`
	Lack       []string `json:"lack"`
	Unknown    []string `json:"unknown"`
	DoneWithin uint32   `json:"done_within"` // seconds
}

// OfComparison returns one comparison as JSON has it.
func OfComparison(c *probe.Compared, expect map[wire.Type][]string) Comparison {
	out := Comparison{Question: OfQuestion(c.Question), Headline: c.Headline(), Groups: each(c.Groups, ofGroup), ZoneAsked: c.Asked}
	if values := expect[c.Question.Type]; len(values) > 0 {
		move := c.Expect(values)
		out.Move = &ComparisonMove{values, each(move.Have, memberName), each(move.Lack, memberName), each(move.Unknown, memberName), move.Lasts}
	}
	for i := range c.Validated {
		out.Validations = append(out.Validations, OfValidated(&c.Validated[i]))
	}
	if c.Walk != nil {
		out.Walk = new(OfWalk(c.Walk))
	}
	return out
}

// OfComparisons is [OfComparison] of each.
func OfComparisons(all []probe.Compared, expect map[wire.Type][]string) (list []Comparison) {
	for i := range all {
		list = append(list, OfComparison(&all[i], expect))
	}
	return list
}

func ofGroup(g comparison.Group) ComparisonGroup {
	j := ComparisonGroup{Outcome: string(g.Outcome), Values: g.Values, Truth: g.Truth, Members: each(g.Members, memberName), Shown: each(g.Members, func(m comparison.Member) int { return m.Exchange.Number })}
	if len(g.Values) > 0 {
		j.Least, j.Most = &g.LeastTTL, &g.MostTTL
	}
	return j
}

func memberName(m comparison.Member) string {
	if m.Exchange.Server.Label == "" && m.Exchange.Server.Host != "" {
		return m.Exchange.Server.Host
	}
	return m.Exchange.Server.Name()
}

// Diagnosis is what was found out about a name, with the whole reasoning: what was checked,
// what was found, and which finding explains which.
type Diagnosis struct {
	Name      string            `json:"name"`
	Names     []string          `json:"names"` // that fail alike
	Wrong     bool              `json:"wrong"`
	Checks    []diagnosis.Check `json:"checks"`
	Text      string            `json:"text"`
	Next      string            `json:"next"`
	Verdict   *Verdict          `json:"verdict,omitempty"` // absent: no cause was found
	Explained []Explained       `json:"explained,omitempty"`
}

// Verdict is where and why resolution fails.
type Verdict struct {
	Where     diagnosis.Place   `json:"where"`
	At        string            `json:"at"` // the server, resolver or zone at that place
	Cause     finding.Code      `json:"cause"`
	Severity  finding.Severity  `json:"severity"`
	Text      string            `json:"text"`
	Sure      string            `json:"sure"`    // certain, likely or possible
	Because   string            `json:"because"` // what makes it so
	Who       string            `json:"who_can_mend_it"`
	Next      string            `json:"next"`
	Evidence  []int             `json:"evidence"`
	RuledOut  []VerdictRuledOut `json:"ruled_out,omitempty"`
	But       string            `json:"but,omitempty"`         // what would look the same and is not ruled out
	Elsewhere string            `json:"elsewhere,omitempty"`   // what other resolvers say
	Within    uint32            `json:"ends_within,omitempty"` // seconds after which it ends by itself
	Ends      *time.Time        `json:"ends_at,omitempty"`
}

// VerdictRuledOut is another cause that would look the same, and is none.
type VerdictRuledOut struct {
	Rival     string `json:"rival"`
	Since     string `json:"since"`
	Exchanges []int  `json:"exchanges"`
}

// Explained is a finding that the cause explains.
type Explained struct {
	Code  finding.Code  `json:"code"`
	About finding.About `json:"about"`
	By    finding.Code  `json:"by"`
}

// OfVerdicts is [OfVerdict] of each.
func OfVerdicts(all []diagnosis.Verdict) (list []Diagnosis) {
	for i := range all {
		list = append(list, OfVerdict(&all[i]))
	}
	return list
}

// OfVerdict returns a verdict as JSON has it.
func OfVerdict(v *diagnosis.Verdict) Diagnosis {
	out := Diagnosis{Name: v.Name.String(), Names: []string{v.Name.String()}, Wrong: !v.OK(), Checks: list(v.Checks), Text: v.Text, Next: v.Next}
	if len(v.Names) > 0 {
		out.Names = nameWords(v.Names)
		out.Name = out.Names[0]
	}
	if len(v.Cause) == 0 {
		return out
	}
	out.Verdict = &Verdict{Where: v.Where, At: v.At, Cause: v.Cause[0].Code, Severity: v.Severity, Text: v.Text, Sure: v.Sure, Because: v.Because,
		Who: v.Who, Next: v.Next, Evidence: list(v.Evidence()), But: v.Against, Elsewhere: v.Elsewhere, Within: v.Lasts}
	if v.Lasts > 0 {
		out.Verdict.Ends = momentOf(v.Ends)
	}
	for _, r := range v.RuledOut {
		out.Verdict.RuledOut = append(out.Verdict.RuledOut, VerdictRuledOut{r.What, r.By, list(r.Seen)})
	}
	for _, f := range v.Follows {
		out.Explained = append(out.Explained, Explained{f.Code, f.About, v.Cause[0].Code})
	}
	return out
}

// Reversal is an address, its names, and whether they lead back.
type Reversal struct {
	Address  string         `json:"address"`
	Name     string         `json:"looked_up"`
	Exchange int            `json:"exchange"`
	Names    []ReversedName `json:"names"`
}

// ReversedName is a name that an address has.
type ReversedName struct {
	Name      string `json:"name"`
	LeadsBack bool   `json:"leads_back"`
}

// OfReversals returns reverse look-ups as JSON has them.
func OfReversals(all []probe.Reversal) []Reversal {
	return each(all, func(r probe.Reversal) Reversal {
		j := Reversal{r.Address.String(), r.Name.String(), r.Exchange.Number, []ReversedName{}}
		for _, n := range r.Names {
			j.Names = append(j.Names, ReversedName{n.Name.String(), n.LeadsBack})
		}
		return j
	})
}

// Local is how a machine is set up to resolve names.
type Local struct {
	Resolvers  []End        `json:"resolvers"`
	Dots       int          `json:"ndots"`
	HostsLines int          `json:"hosts_lines"`
	Search     []string     `json:"search,omitempty"`
	Options    []string     `json:"options,omitempty"`
	Sources    []string     `json:"sources,omitempty"`  // the order in which they are asked
	Unread     []string     `json:"not_read,omitempty"` // files
	Encrypted  []LocalOffer `json:"encrypted,omitempty"`
	Besides    []LocalScope `json:"besides,omitempty"`
	Container  bool         `json:"container,omitempty"`
	Behind     []End        `json:"behind_stub,omitempty"`
	Caveat     string       `json:"caveat,omitempty"`
	Name       *LocalName   `json:"name,omitempty"`
}

// LocalOffer is an encrypted way to a resolver that it tells of by itself (RFC 9462).
type LocalOffer struct {
	Resolver  Server             `json:"resolver"`
	Transport exchange.Transport `json:"transport"`
	Port      uint16             `json:"port"`
	Name      string             `json:"name"` // in its certificate
	Path      string             `json:"path"`
	Alike     bool               `json:"alike"` // it answers as the resolver itself does
	Exchange  int                `json:"exchange"`
	Source    string             `json:"source,omitempty"` // the settings that say so; absent: the resolver does itself
}

// LocalScope is resolvers for some domains, or of one interface.
type LocalScope struct {
	Resolvers []End    `json:"resolvers"`
	Domains   []string `json:"domains"`
	Interface string   `json:"interface"`
	Source    string   `json:"source"`
}

// LocalName is a name looked up as the machine would.
type LocalName struct {
	Typed       string       `json:"typed"`
	Candidates  []string     `json:"candidates"`
	Hosts       []LocalHosts `json:"hosts"`
	Steps       []LocalStep  `json:"steps"`
	Resolver    []netip.Addr `json:"resolver,omitempty"` // what the resolver that answered has for it
	Found       string       `json:"found,omitempty"`
	Suffix      *string      `json:"suffix,omitempty"`
	System      []netip.Addr `json:"system,omitempty"` // what the operating system's own look-up gives
	SystemError string       `json:"system_error,omitempty"`
}

// LocalHosts is a line of the hosts file.
type LocalHosts struct {
	Line    int        `json:"line"`
	Address netip.Addr `json:"address"`
	Names   []string   `json:"names"`
}

// LocalStep is one candidate that was asked for.
type LocalStep struct {
	Name      string `json:"name"`
	Suffix    string `json:"suffix"`
	Server    string `json:"server"`
	Exchanges []int  `json:"exchanges"`
}

// OfLocal returns a machine's set-up as JSON has it.
func OfLocal(l *probe.Local) Local {
	s := l.Setup
	out := Local{Resolvers: each(s.Resolvers, OfEnd), Dots: s.Dots, HostsLines: len(s.Hosts), Search: s.Search, Options: s.Options, Sources: s.Sources, Unread: s.Unread,
		Container: s.Container, Caveat: s.Caveat}
	for _, d := range l.Secure {
		for _, o := range d.Offers {
			out.Encrypted = append(out.Encrypted, LocalOffer{OfServer(d.Resolver), o.Server.Transport, o.Server.Address.Port(), o.Server.TLSName, o.Server.Path, o.Alike, o.Tried.Number, d.Source})
		}
	}
	for _, scope := range s.Scopes {
		out.Besides = append(out.Besides, LocalScope{each(scope.Resolvers, OfEnd), list(scope.Domains), scope.Interface, scope.Source})
	}
	for _, end := range s.Behind {
		out.Behind = append(out.Behind, OfEnd(end))
	}
	if l.Name != nil {
		out.Name = ofLocalName(l.Name)
	}
	return out
}

func ofLocalName(n *probe.LocalName) *LocalName {
	out := &LocalName{Typed: n.Typed, Candidates: []string{}, Resolver: n.Resolver, System: n.System, Steps: []LocalStep{},
		Hosts: each(n.Hosts, func(h machine.HostsLine) LocalHosts { return LocalHosts{h.Number, h.Address, h.Names} })}
	for _, c := range n.Candidates {
		out.Candidates = append(out.Candidates, c.Name.String())
	}
	for _, s := range n.Steps {
		step := LocalStep{Name: s.Candidate.Name.String(), Suffix: s.Candidate.Suffix, Server: s.Exchanges[0].Server.Name(), Exchanges: []int{}}
		for _, e := range s.Exchanges {
			step.Exchanges = append(step.Exchanges, e.Number)
		}
		out.Steps = append(out.Steps, step)
	}
	if n.Chosen != nil {
		out.Found, out.Suffix = n.Chosen.Name.String(), &n.Chosen.Suffix
	}
	if n.SystemErr != nil {
		out.SystemError = n.SystemErr.Error()
	}
	return out
}

// Watched is how watching ended.
type Watched struct {
	Rounds  int            `json:"rounds"`
	Took    float64        `json:"took"` // seconds
	Met     bool           `json:"met"`  // the condition that was waited for
	Servers []WatchedTrack `json:"servers"`
}

// WatchedTrack is one question to one server, as it was last.
type WatchedTrack struct {
	Server   string           `json:"server"`
	Question Question         `json:"question"`
	Outcome  string           `json:"outcome"`
	Values   []string         `json:"values"`
	Changes  int              `json:"changes"`
	Asked    int              `json:"asked"`
	Habit    comparison.Habit `json:"habit"`  // how its TTLs run
	Caches   int              `json:"caches"` // seen behind the address; 0: none with a TTL
}

// OfWatched returns how watching ended as JSON has it.
func OfWatched(w probe.Watched) Watched {
	out := Watched{Rounds: w.Rounds, Took: w.Took.Seconds(), Met: w.Met, Servers: []WatchedTrack{}}
	for _, t := range w.Tracks {
		out.Servers = append(out.Servers, WatchedTrack{t.Server.Name(), OfQuestion(t.Question), string(t.Outcome), list(t.Values), t.Changes, t.Asked, t.Habit(), t.Caches})
	}
	return out
}
