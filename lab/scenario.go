// Package lab is a simulated internet inside the process: a root, registries,
// zones, resolvers with caches, and faults. Its servers listen on loopback
// sockets; outside they are known by the virtual addresses of the scenario,
// which come from the documentation ranges alone.
package lab

import (
	"bytes"
	"embed"
	"fmt"
	"io/fs"
	"net/netip"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"unquil/core/wire"
	"unquil/core/zonefile"
)

//go:embed scenario.toml workshop.toml disputes.toml mail.toml registry.toml signatures.toml zones machine machines captures
var files embed.FS

// Scenario is what scenario.toml says.
type Scenario struct {
	Story     string
	Begins    time.Time
	Machine   netip.Addr // the technician's
	Machine6  netip.Addr // and its IPv6 address
	Servers   []Server   `toml:"server"`
	Resolvers []Resolver `toml:"resolver"`
	Keys      []Key      `toml:"key"`
	Faults    []Fault    `toml:"fault"`
	Seen      []Seen
	Captured  []Captured
	Healthy   []Healthy
	Cares     []Care `toml:"care"`
	Paths     []Path `toml:"path"`
	Odds      []Odd  `toml:"odd"`
	Signed    []Signing
	Webs      []Web  `toml:"web"`
	Mails     []Mail `toml:"mail"`

	Registries []Registry `toml:"registry"`
	Registered []Registered
	Holdings   []Holding `toml:"holding"`
	Owners     []Owner   `toml:"owner"`
}

// Server is an authoritative server.
type Server struct {
	Host       string
	Workshop   bool `toml:"-"` // it is no part of the story
	Addresses  []netip.Addr
	State      State
	Zones      []Served
	WithoutTCP bool `toml:"without_tcp"` // takes no connection
	Transfers  Transfers
	Quirk      string // one of the quirks; "" for none
	Expires    string // for how long it goes on without its primary, as a Go duration; "" means that it does not say
}

// State is what is wrong with a host as a whole.
type State string

// The states of a host.
const (
	Up     State = ""
	Down   State = "silent"  // takes questions and says nothing
	Closed State = "closed"  // nothing listens there
	Strict State = "refuses" // a resolver that answers nobody from elsewhere
)

// Transfers is who may have a server's zones whole.
type Transfers string

// The choices. With any other word nobody may.
const (
	ToNobody  Transfers = ""
	ToAll     Transfers = "open"
	ToHolders Transfers = "key" // of a key of the scenario
)

// Key is a secret for signing messages.
type Key struct{ Name, Algorithm, Secret string }

// Served is one zone that a server answers for.
type Served struct {
	Name             string
	File             string // in zones/; "" means the name and "zone"
	Text             string `toml:"-"` // the master file itself, of a plot
	WithoutAuthority bool   `toml:"without_authority"`
	Before           string // in zones/: the version before, for who asks what changed since; may be ""
	// For is the network of the clients that get this content; "" means everybody else.
	For string
}

// Resolver is a recursive resolver with what its cache holds at the start.
type Resolver struct {
	Label     string
	Workshop  bool `toml:"-"` // it is no part of the story
	Addresses []netip.Addr
	Place     string
	State     State
	Cached    []Cached
	// Caches is how many resolvers stand behind the address, each with its own cache; 0 means one.
	Caches int
	// Rewrites is the address that it gives in place of "no such name"; invalid: it does not.
	Rewrites  netip.Addr
	Quirk     string    // one of the quirks; "" for none
	Validates bool      // it checks signatures, and hands them on
	HandsOn   bool      `toml:"hands_on"` // it hands signatures on unchecked
	Forged    []string  // zones whose signatures do not fit, for this resolver
	Unsteady  bool      // it fails for each question the first time
	Failures  []string  // zones that it remembers it could not resolve
	Blocks    []Blocked // names that it does not resolve
	// Hides is the network whose addresses it takes out of answers; invalid: it does not.
	Hides netip.Prefix
	// Copies are zones that it has a copy of: what it says of them is its own word, as long as
	// that stands.
	Copies []Served `toml:"-"`
	// Designates are the service bindings by which it tells of its encrypted ways (RFC 9462), as RDATA; nil: none.
	Designates []string
	// Certificate is the name in its certificate; "" means its label under resolvers.test, and its addresses.
	Certificate string
}

// Blocked is a name that a resolver withholds, with all below it.
type Blocked struct {
	Name  string
	Gives netip.Addr // in place of the answer; invalid: it says that there is no such name
	Says  string     // the reason it gives (RFC 8914); "" without one
	// Code is that reason's number; 0 means 15, Blocked.
	Code uint16
	// Records are what it gives in place of the answer, in master-file form.
	Records []string
	// RCode is "refused", or "" for what Gives and Records come to.
	RCode string
	// Only says that what is below the name is not withheld.
	Only bool
	// Authority has the resolver call it its own word (AA).
	Authority bool
}

// Cached is a record that a cache took in before the scenario begins.
type Cached struct {
	Age    string // how long before, as a Go duration
	Record string // in master-file form, with the TTL it came with
	None   string // "NAME TYPE" that is remembered not to be there; the record is then the SOA
	NoData bool   `toml:"no_data"` // of None: the name is there, and the type is not
	Cache  int    // which of several caches, from 1; 0 means each
}

// Fault is one thing that is wrong, and what a technician should find.
type Fault struct {
	Name, Type string
	From       string // the resolver that the complaint comes through
	Complaint  string
	What       string
	Finding    string
	Severity   string   // "" means fault; "also" is a note beside a fault
	At         string   // the server, resolver or zone to blame
	Place      string   // where it fails, in the verdict's words; "" where any will do
	Machine    string   // the set-up it is seen from; "" means the technician's
	Path       string   // the network it is seen over; "" means a good one
	Listen     bool     // it shows where somebody listens at the machine's interfaces meanwhile
	Typed      string   // what is typed, where that is not the name
	Workshop   bool     `toml:"-"` // it is no part of the story
	Clock      string   // how far the clock that signatures are judged by is off, as a Go duration; "" means that it is right
	Anchors    []string // trust anchors in master-file form, for who has others than the lab's
	Hints      []string // root hints in master-file form, for who starts with others than the lab's
	// Or are verdicts that are as right, as nothing on the wire tells them apart.
	Or    []Verdict
	Plots []Plot `toml:"plot"`
}

// Verdict is what else may be said of a fault, and why.
type Verdict struct{ Finding, At, Why string }

// Plot is a zone of the workshop: its parent, works.example., delegates it.
type Plot struct {
	Zone    string   // one or more labels under works.example.
	NS      []string // hosts as the parent lists them, under works.example. unless they end in a dot; none: it is not delegated
	Own     []string // as the zone lists them; none: as the parent does
	Servers []string // that serve it; none: those that the parent lists
	Serial  int      // 0 means 1
	Records string   // beside SOA and NS; "" means an address each for the zone and for www
	Lines   []string // further records of the parent's
	// Apart are the hosts that the parent's second server lists; none: those of NS.
	Apart  []string
	For    string   // the network of the clients that get this; "" means everybody else
	Copied []string // labels of resolvers that have a copy of it
	Signed *Signing // how it is signed; nil: it is not
}

// Odd is a pair of the workshop's servers that go wrong alike.
type Odd struct {
	Label string // the hosts are LABEL1 and LABEL2
	Quirk string
	State State
	TCP   string // "closed": they take no connection
}

// Path is a network between the technician and the rest.
type Path struct {
	Label   string
	What    string
	Loses   []string   // "first", "third" or "tenth" of what is sent of each question, "udp", "tcp", "edns", "large", and of whom: "outside" stands for all that are no resolvers, "all" for everybody; without either everybody
	Instead string     // the resolver that answers in place of whoever outside is asked
	Here    Meddling   // what the machine itself does with what it sends and gets
	Gives   netip.Addr // the address that a machine puts into answers, where it rewrites them
}

// Meddling is what a machine does with packets between its programs and its wire.
type Meddling string

// The ways of meddling.
const (
	Honest        Meddling = ""
	Redirects     Meddling = "redirects"     // it sends everything to the resolver Instead
	AnswersItself Meddling = "answers"       // the resolver Instead is on the machine itself: nothing leaves
	Rewrites      Meddling = "rewrites"      // it puts another address into answers
	DropsQueries  Meddling = "drops-queries" // nothing leaves
	DropsReplies  Meddling = "drops-replies" // nothing gets to the programs
)

// Seen is what a command of the program shows of what is wrong.
type Seen struct {
	By      string   // the command with its arguments
	Finding string   // the code
	At      []string // the servers it names; none: it is about the zone or the name
}

// Captured is what one of the morning's captures shows.
type Captured struct {
	File     string
	Finding  string // the code
	Severity string
	About    string // an address or a name in the finding's sentence
}

// Care is a signed zone of the workshop, and what is to be found where somebody looks after it.
type Care struct {
	Zone     string
	What     string
	Findings []string // all of them, each as "severity code"
	Stages   []string // of roll-overs, as their names begin
	Unsafe   bool     // the next step of one would break it
	Plots    []Plot   `toml:"plot"`
}

// Healthy is a name that must raise no alarm.
type Healthy struct {
	Name     string
	Types    []string
	From     string // the resolver that is asked; "" means office
	What     string // is unusual about it
	Path     string // the network it is seen over
	Workshop bool   `toml:"-"` // it is no part of the story
	Plots    []Plot `toml:"plot"`
}

// Web is a page that a web server of the lab gives over HTTPS.
type Web struct {
	Host    string // without the final dot
	Address netip.Addr
	Path    string
	Text    string
	Type    string // of its content; "" means text/plain
	Status  int    // 0 means 200
	To      string // where it redirects; "" means nowhere
	Endless bool   // its text never ends
	For     string // the name in the certificate; "" means Host
}

// Mail is a domain, and what is to be found of its mail.
type Mail struct {
	Label    string // the domain is LABEL.letters.works.example.
	Domain   string // another one; "" means that
	What     string
	Finding  string   // "" means that nothing is wrong
	Severity string   // "" means fault
	Args     []string // of the command, besides the domain
	Result   string   // of the check of a sender among them; "" means none
	Records  string   // in master-file form, below the domain
}

// Name is the domain.
func (m Mail) Name() string {
	if m.Domain != "" {
		return m.Domain
	}
	return m.Label + "." + mailZone + "." + workshopZone
}

// mailZone is the workshop's zone of domains with mail.
const mailZone = "letters"

// IsMachine reports whether an address is the technician's own.
func (s *Scenario) IsMachine(a netip.Addr) bool { return a == s.Machine || a == s.Machine6 }

// Load reads the embedded scenario. The error says what is wrong in it.
func Load() (*Scenario, error) {
	var s Scenario
	for _, part := range []struct {
		file     string
		workshop bool // it is no part of the story
	}{{"scenario.toml", false}, {"workshop.toml", true}, {"disputes.toml", true}, {"mail.toml", true}, {"registry.toml", true}, {"signatures.toml", true}} {
		text, err := files.ReadFile(part.file)
		if err != nil {
			return nil, err
		}
		var more Scenario
		decoder := toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields()
		if err := decoder.Decode(&more); err != nil {
			return nil, fmt.Errorf("reading %s: %w", part.file, err)
		}
		if !part.workshop {
			s = more
			continue
		}
		more.outOfStory()
		s.Servers, s.Resolvers = append(s.Servers, more.Servers...), append(s.Resolvers, more.Resolvers...)
		s.Faults, s.Healthy = append(s.Faults, more.Faults...), append(s.Healthy, more.Healthy...)
		s.Cares = append(s.Cares, more.Cares...)
		s.Registries, s.Registered = append(s.Registries, more.Registries...), append(s.Registered, more.Registered...)
		s.Holdings, s.Owners = append(s.Holdings, more.Holdings...), append(s.Owners, more.Owners...)
		s.Webs, s.Mails = append(s.Webs, more.Webs...), append(s.Mails, more.Mails...)
		s.Paths, s.Odds = append(s.Paths, more.Paths...), append(s.Odds, more.Odds...)
	}
	for _, o := range s.Owners {
		if o.Why {
			s.Faults = append(s.Faults, Fault{Name: "www." + o.Asked + ".", Type: "A", From: "office", What: o.What, Finding: o.Finding, Severity: o.Severity, Place: "the root or registry", Workshop: true})
		}
	}
	return &s, s.plant()
}

// outOfStory marks all of a scenario as no part of the story.
func (s *Scenario) outOfStory() {
	for i := range s.Faults {
		s.Faults[i].Workshop = true
	}
	for i := range s.Healthy {
		s.Healthy[i].Workshop = true
	}
	for i := range s.Servers {
		s.Servers[i].Workshop = true
	}
	for i := range s.Resolvers {
		s.Resolvers[i].Workshop = true
	}
}

// AddressOf is the first address of a server, by its name in any letter case; ok is false
// when there is no such server.
func (s *Scenario) AddressOf(host string) (address netip.Addr, ok bool) {
	for _, server := range s.Servers {
		if strings.EqualFold(server.Host, host) {
			return server.Addresses[0], true
		}
	}
	return netip.Addr{}, false
}

// Machine is the file system of a machine, as far as names go: the technician's,
// or the one with that label.
func Machine(label string) fs.FS {
	folder := "machine"
	if label != "" {
		folder = "machines/" + label
	}
	root, err := fs.Sub(files, folder)
	if err != nil {
		panic(err) // a label of the scenario is a name of a folder
	}
	return root
}

// HasMachine reports whether the lab has a machine with that label; "" is the technician's.
func HasMachine(label string) bool {
	_, err := fs.Stat(files, "machines/"+label)
	return label == "" || err == nil
}

// Machines are the labels of the lab's machines beside the technician's own.
func Machines() (labels []string) {
	entries, _ := fs.ReadDir(files, "machines") // embedded: the folder is there
	for _, entry := range entries {
		labels = append(labels, entry.Name())
	}
	return labels
}

// Zones is the folder of the story's master files.
func Zones() fs.FS {
	root, err := fs.Sub(files, "zones")
	if err != nil {
		panic(err) // embedded: the folder is there
	}
	return root
}

// Captures is the folder of the morning's captures.
func Captures() fs.FS {
	root, err := fs.Sub(files, "captures")
	if err != nil {
		panic(err) // embedded: the folder is there
	}
	return root
}

// ReadLines reads records in master-file form, names absolute. The error says which line is
// wrong.
func ReadLines(lines []string) ([]wire.Record, error) {
	return zonefile.Read(strings.NewReader(strings.Join(lines, "\n")), zonefile.Options{File: "the scenario"})
}

// records reads a zone's master file.
func (z Served) records() (origin wire.Name, records []wire.Record, err error) {
	if origin, err = wire.ParseName(z.Name); err != nil {
		return origin, nil, fmt.Errorf("zone %q: %w", z.Name, err)
	}
	if z.Text != "" {
		records, err = zonefile.Read(strings.NewReader(z.Text), zonefile.Options{File: z.Name, Origin: origin})
		return origin, records, err
	}
	file := z.File
	if file == "" {
		file = z.Name + "zone"
	}
	f, err := files.Open("zones/" + file)
	if err != nil {
		return origin, nil, err
	}
	defer f.Close()
	records, err = zonefile.Read(f, zonefile.Options{File: file, Origin: origin})
	return origin, records, err
}
