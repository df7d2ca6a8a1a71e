//go:build realservers && linux

package realservers

import (
	stdcontext "context"
	"embed"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"unquil/lab"
)

//go:embed types.txt
var typesFile embed.FS

func context() stdcontext.Context { return stdcontext.Background() }

// served are the zones of the primary, which the secondary takes from it.
var served = []string{"hollowtarn.example.", "types.example.", "crowd.example.", "held.example.", "moves.example.", "halves.example.", "below.hollowtarn.example.", "parted.example.", "113.0.203.in-addr.arpa."}

// twofold is the zone of which primary and secondary have files of their own: one serial, and
// two addresses of www.
const twofold = "twofold.example."

// views is the zone of which clients in one network get something else, from two servers of a
// kind that does that: the secondary and the twin.
const views = "views.example."

// viewsModule is what makes servers of that kind answer by network; "" where it is not installed.
func viewsModule() string {
	found, _ := filepath.Glob("/usr/lib/*/knot/modules-*/geoip.so")
	if len(found) == 0 {
		return ""
	}
	write("views.geo", "www.views.example:\n  - net: 127.77.0.0/24\n    A: 203.0.113.9\n")
	write("zones/"+views+"zone", "$TTL 3600\n@ SOA dns2.hollowtarn.example. keeper.hollowtarn.example. 1 7200 900 1209600 60\n@ NS dns2.hollowtarn.example.\n@ NS twin\ntwin A "+twinAt+"\nwww A 203.0.113.121\n")
	return fmt.Sprintf("mod-geoip:\n  - id: views\n    config-file: %s/views.geo\n    ttl: 60\n    mode: subnet\n", folder)
}

// viewsZone is that zone in the configuration of a server; "" where it cannot be.
func viewsZone() string {
	if viewsModule() == "" {
		return ""
	}
	return fmt.Sprintf("  - domain: \"%s\"\n    file: %s/zones/%[1]szone\n    module: mod-geoip/views\n", views, folder)
}

// crowdRecords is how many records the large zone has, beside SOA and NS.
const crowdRecords = 5000

// head begins a zone that primary and secondary serve.
func head(serial int) string {
	return fmt.Sprintf("$TTL 3600\n@ SOA dns1.hollowtarn.example. keeper.hollowtarn.example. %d 7200 900 1209600 60\n@ NS dns1.hollowtarn.example.\n@ NS dns2.hollowtarn.example.\n", serial)
}

// typeRows are the types of the program's table that the primary's own parser takes,
// each with the text of a record.
var typeRows [][2]string

// tree writes the zones.
func tree() {
	write("hints", ". 3600000 NS east.roots.example.\n. 3600000 NS west.roots.example.\neast.roots.example. 3600000 A "+rootAt+"\nwest.roots.example. 3600000 A "+rootAlsoAt+"\n")
	write("zones/.zone", "$TTL 86400\n. SOA east.roots.example. keeper.roots.example. 1 1800 900 604800 86400\n. NS east.roots.example.\n. NS west.roots.example.\neast.roots.example. A "+rootAt+"\nwest.roots.example. A "+rootAlsoAt+
		"\nexample. NS first.registry.example.\nexample. NS second.registry.example.\nfirst.registry.example. A "+registryAt+"\nsecond.registry.example. A "+registryAlsoAt+
		"\n113.0.203.in-addr.arpa. NS dns1.hollowtarn.example.\n113.0.203.in-addr.arpa. NS dns2.hollowtarn.example.\ndns1.hollowtarn.example. A "+primaryAt+"\ndns2.hollowtarn.example. A "+secondaryAt+"\n")
	var registry strings.Builder
	registry.WriteString("$TTL 86400\n@ SOA first.registry keeper.registry 7 3600 900 1209600 900\n@ NS first.registry\n@ NS second.registry\nfirst.registry A " + registryAt + "\nsecond.registry A " + registryAlsoAt + "\neast.roots A " + rootAt + "\nwest.roots A " + rootAlsoAt + "\n")
	for _, zone := range append([]string{"refused.example.", twofold}, served...) {
		if label, in := strings.CutSuffix(zone, ".example."); in {
			fmt.Fprintf(&registry, "%[1]s NS dns1.hollowtarn.example.\n%[1]s NS dns2.hollowtarn.example.\n", label)
		}
	}
	fmt.Fprintf(&registry, "dns1.hollowtarn A %s\ndns2.hollowtarn A %s\nstopped NS ns.stopped\nns.stopped A %s\n", primaryAt, secondaryAt, nobodyAt)
	fmt.Fprintf(&registry, "views NS dns2.hollowtarn\nviews NS twin.views\ntwin.views A %s\n", twinAt)
	write("zones/example.zone", registry.String())
	write("zones/example.zone-behind", strings.Replace(registry.String(), "parted NS dns2.hollowtarn.example.\n", "", 1))

	write("zones/hollowtarn.example.zone", head(4)+"dns1 A "+primaryAt+"\ndns2 A "+secondaryAt+"\nwww CNAME web\nweb A 203.0.113.120\nweb AAAA 2001:db8:113::120\n@ MX 10 mx1\nmx1 A 203.0.113.25\nbelow NS dns1\nbelow NS dns2\n*.guest A 203.0.113.66\na.b.hollow A 203.0.113.7\n"+large())
	write("zones/below.hollowtarn.example.zone", head(1)+"www A 203.0.113.8\n")
	write("zones/parted.example.zone", head(1)+"www A 203.0.113.9\ninner A 10.1.2.3\n")
	for where, address := range map[string]string{"zones/": "203.0.113.30", "secondary-": "203.0.113.31"} {
		write(where+twofold+"zone", head(1)+"www A "+address+"\n")
	}
	write("zones/halves.example.zone", head(1)+"www A 203.0.113.5\n")
	held(1)
	moves("203.0.113.80", 1)
	var crowd strings.Builder
	crowd.WriteString(head(3))
	for i := range crowdRecords {
		fmt.Fprintf(&crowd, "host%d A 203.0.113.%d\n", i, i%250+1)
	}
	write("zones/crowd.example.zone", crowd.String())
	write("zones/113.0.203.in-addr.arpa.zone", head(1)+"120 PTR web.hollowtarn.example.\n80 PTR web.hollowtarn.example.\n")
	types()
}

// large is an RRset of 60 kB.
func large() string {
	var b strings.Builder
	for i := range 250 {
		fmt.Fprintf(&b, "large TXT \"%03d %s\"\n", i, strings.Repeat("the long list ", 16))
	}
	return b.String()
}

// held writes the zone that the secondary is kept from following.
func held(serial int) {
	text := head(serial) + "www A 203.0.113.10\n"
	if serial > 1 {
		text += "new A 203.0.113.11\n"
	}
	write("zones/held.example.zone", text)
}

// moves writes the zone whose host moves while a cache holds on to it.
func moves(address string, serial int) {
	write("zones/moves.example.zone", head(serial)+"www A "+address+"\n")
}

// types writes a zone with a record of each type that the primary's parser takes.
func types() {
	content, err := typesFile.ReadFile("types.txt")
	if err != nil {
		panic(err)
	}
	var zone strings.Builder
	zone.WriteString(head(1))
	var refused []string
	for line := range strings.Lines(string(content)) {
		typ, text, _ := strings.Cut(strings.TrimSpace(line), " ")
		if typ == ";" || typ == "" {
			continue
		}
		owner := strings.ToLower("t-" + typ)
		record := fmt.Sprintf("%s %s %s\n", owner, typ, text)
		file := write("try.zone", head(1)+record)
		// It takes NSEC3 records and then leaves them out: it only uses those that belong to a chain.
		if typ == "NSEC3" || exec.Command("nsd-checkzone", "types.example.", file).Run() != nil {
			refused = append(refused, typ)
			continue
		}
		zone.WriteString(record)
		typeRows = append(typeRows, [2]string{typ, text})
	}
	fmt.Printf("realservers: %d types of the table are served; the primary's parser does not take %s\n", len(typeRows), strings.Join(refused, ", "))
	write("zones/types.example.zone", zone.String())
}

// twinZones are the lab's zones that it serves in good order: what the lab answers
// for them and what the real server answers must be the same.
var twinZones = []string{"hollowtarn.example.", "lanternpost.test.", "farhost.test.", "old.hollowtarn.example.", "113.0.203.in-addr.arpa.", "208/28.113.0.203.in-addr.arpa.", "example.", "test."}

// twinFile is the master file of one of the lab's zones.
func twinFile(zone string) string { return strings.ReplaceAll(zone, "/", "-") + "zone" }

// twinConfig serves the lab's own master files.
func twinConfig() string {
	exported := filepath.Join(folder, "lab")
	err := lab.Export(func(name string, content []byte) error {
		path := filepath.Join(exported, filepath.FromSlash(name))
		return errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, content, 0o644))
	})
	if err != nil {
		panic(err)
	}
	var b strings.Builder
	fmt.Fprintf(&b, "server:\n    rundir: %[1]s/twin\n    listen: %[2]s@53\n    edns-client-subnet: on\ndatabase:\n    storage: %[1]s/twin\nlog:\n  - target: stderr\n    any: info\n%[3]szone:\n%[4]s", folder, twinAt, viewsModule(), viewsZone())
	for _, zone := range twinZones {
		fmt.Fprintf(&b, "  - domain: \"%s\"\n    file: %s/zones/%s\n    semantic-checks: off\n", zone, exported, twinFile(zone))
	}
	os.MkdirAll(filepath.Join(folder, "twin"), 0o755)
	return write("twin.conf", b.String())
}
