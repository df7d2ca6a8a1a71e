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

//go:embed scenario.toml zones machine captures
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
}

// Server is an authoritative server.
type Server struct {
	Host        string
	Addresses   []netip.Addr
	State       State
	Zones       []Served
	WithoutEDNS bool `toml:"without_edns"` // answers FORMERR to a question with EDNS
	WithoutTCP  bool `toml:"without_tcp"`  // takes no connection
	Transfers   Transfers
	Expires     string // for how long it goes on without its primary, as a Go duration; "" means that it does not say
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
	WithoutAuthority bool   `toml:"without_authority"`
	Before           string // in zones/: the version before, for who asks what changed since; may be ""
	// For is the network of the clients that get this content; "" means everybody else.
	For string
}

// Resolver is a recursive resolver with what its cache holds at the start.
type Resolver struct {
	Label     string
	Addresses []netip.Addr
	Place     string
	State     State
	Cached    []Cached
	// Caches is how many resolvers stand behind the address, each with its own cache; 0 means one.
	Caches int
	// Rewrites is the address that it gives in place of "no such name"; invalid: it does not.
	Rewrites netip.Addr
	// Certificate is the name in its certificate; "" means its label under resolvers.test, and its addresses.
	Certificate string
}

// Cached is a record that a cache took in before the scenario begins.
type Cached struct {
	Age    string // how long before, as a Go duration
	Record string // in master-file form, with the TTL it came with
	None   string // "NAME TYPE" that is remembered not to be there; the record is then the SOA
	Cache  int    // which of several caches, from 1; 0 means each
}

// Fault is one thing that is wrong, and what a technician should find.
type Fault struct {
	Name, Type string
	From       string // the resolver that the complaint comes through
	Complaint  string
	What       string
	Finding    string
	Severity   string // "" means fault
	At         string // the server, resolver or zone to blame
}

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

// Healthy is a name that must raise no alarm.
type Healthy struct {
	Name  string
	Types []string
}

// Load reads the embedded scenario.
func Load() (*Scenario, error) {
	text, err := files.ReadFile("scenario.toml")
	if err != nil {
		return nil, err
	}
	var s Scenario
	decoder := toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields()
	if err := decoder.Decode(&s); err != nil {
		return nil, fmt.Errorf("reading scenario.toml: %w", err)
	}
	return &s, nil
}

// Machine is the file system of the technician's machine, as far as names go.
func Machine() fs.FS {
	root, err := fs.Sub(files, "machine")
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

// readLines reads records in master-file form, names absolute.
func readLines(lines []string) ([]wire.Record, error) {
	return zonefile.Read(strings.NewReader(strings.Join(lines, "\n")), zonefile.Options{File: "the scenario"})
}

// records reads a zone's master file.
func (z Served) records() (origin wire.Name, records []wire.Record, err error) {
	if origin, err = wire.ParseName(z.Name); err != nil {
		return origin, nil, fmt.Errorf("zone %q: %w", z.Name, err)
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
