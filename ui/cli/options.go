package cli

import (
	"slices"

	"github.com/spf13/pflag"
)

// option is what the help, the reference and the man pages say about an option beside its own words.
type option struct {
	name    string
	example string // a whole command line, without the program's name
	common  bool   // it is shown first; the others come under "more"
}

// heading is options that belong together, in the order in which they are told.
type heading struct {
	title   string
	options []option
}

// headings are all options of all commands. One that means something else in some command stands again, as
// "COMMAND OPTION".
var headings = []heading{
	{"whom to ask", []option{
		{"from", "ask --lab www.hollowtarn.example --from office,isp", true},
		{"over", "ask --lab hollowtarn.example --type SOA --over tls --from isp", true},
		{"zone-servers", "compare --lab www.hollowtarn.example --from office --zone-servers", true},
		{"servers", "trace --lab www.hollowtarn.example --servers one", true},
		{"every-server", "trace --lab www.hollowtarn.example --every-server", true},
		{"interface", "listen --interface eth0", true},
		{"while", "listen --while 'ping -c 1 www.hollowtarn.example'", true},
		{"others", "listen --interface eth0 --others", false},
		{"ipv4", "ask www.hollowtarn.example --ipv4", false},
		{"ipv6", "ask www.hollowtarn.example --ipv6", false},
		{"source", "ask www.hollowtarn.example --source 192.0.2.21", false},
		{"server-name", "ask www.hollowtarn.example --from tls://192.0.2.53 --server-name resolver.hollowtarn.example", false},
		{"ca", "ask www.hollowtarn.example --from tls://192.0.2.53 --ca office.pem", false},
		{"roots", "trace www.hollowtarn.example --roots roots.zone", false},
		{"bootstrap", "owner 192.0.2.10 --bootstrap lists", false},
		{"no-registry", "why --lab www.hollowtarn.example --no-registry", false},
		{"down-to", "trace --lab www.hollowtarn.example --down-to hollowtarn.example", false},
	}},
	{"what to ask", []option{
		{"type", "ask --lab hollowtarn.example --type MX,TXT", true},
		{"names", "ask --lab --names list.txt --bare", true},
		{"also", "zone --lab hollowtarn.example --also www,mail", true},
		{"expect", "compare --lab tickets.hollowtarn.example --from office,isp,public --expect 203.0.113.80", true},
		{"validate", "ask --lab www.hollowtarn.example --validate", true},
		{"sender", "mail --lab hollowtarn.example --sender 203.0.113.25", true},
		{"selector", "mail --lab hollowtarn.example --selector spring2026", true},
		{"capture", "why www.hollowtarn.example --capture morning.pcapng", true},
		{"listen", "why www.hollowtarn.example --listen", true},
		{"heard", "why www.hollowtarn.example --listen --heard heard.pcapng", false},
		{"try-selectors", "mail --lab hollowtarn.example --try-selectors spring2026,autumn2025", false},
		{"mail-from", "mail --lab hollowtarn.example --sender 203.0.113.25 --mail-from office@hollowtarn.example", false},
		{"helo", "mail --lab hollowtarn.example --sender 203.0.113.25 --helo mx1.hollowtarn.example", false},
		{"follow", "ask --lab hollowtarn.example --type MX --follow", true},
		{"zone-ttl", "ask --lab www.hollowtarn.example --zone-ttl", false},
		{"owners", "ask --lab www.hollowtarn.example --owners", false},
		{"against", "zone --lab hollowtarn.example --against hollowtarn.zone", false},
		{"since", "transfer --lab hollowtarn.example --from ns1.hollowtarn.example --since 2026030901", false},
		{"try-transfer", "zone --lab hollowtarn.example --try-transfer", false},
		{"key", "transfer hollowtarn.example --from 198.51.100.53 --key transfer.key", false},
		{"class", "ask id.server --class CH --type TXT --from office --lab", false},
		{"as-is", "ask --lab intranet --as-is", false},
		{"workshop", "lab show --workshop", false},
		{"message", "decode --message query.bin", true},
		{"root", "local --root /mnt/machine", false},
		{"case", "session --lab --case tickets", true},
		{"go-on", "session --lab --case tickets --go-on", false},
		{"script", "session --lab --script lines.txt", false},
	}},
	{"which exchanges", []option{
		{"name", "decode morning.pcapng --name 'tickets.*'", true},
		{"under", "decode morning.pcapng --under hollowtarn.example", true},
		{"decode type", "decode morning.pcapng --type A,AAAA", true},
		{"outcome", "decode morning.pcapng --outcome server-failure,no-reply", true},
		{"client", "decode morning.pcapng --client 192.0.2.0/24", true},
		{"server", "decode morning.pcapng --server 192.0.2.53", true},
		{"between", "decode morning.pcapng --between 07:40:10,07:41:00", true},
		{"slower", "decode morning.pcapng --slower 200ms", true},
		{"finding", "decode morning.pcapng --finding slow", true},
		{"where", "decode morning.pcapng --where 'took > 200ms and not outcome = no-name'", true},
		{"decode id", "decode morning.pcapng --id 4711", false},
		{"signed", "decode morning.pcapng --signed bogus", false},
		{"port", "decode morning.pcapng --port 5300", false},
		{"https-host", "decode morning.pcapng --https-host resolver.hollowtarn.example", false},
	}},
	{"how to ask", []option{
		{"wait", "ask --lab www.hollowtarn.example --wait 500ms", true},
		{"attempts", "ask --lab www.hollowtarn.example --attempts 1", true},
		{"rate", "ask --lab --names list.txt --rate 500", false},
		{"in-flight", "ask --lab --names list.txt --in-flight 16", false},
		{"repeat", "ask --lab www.hollowtarn.example --repeat 20", false},
		{"every", "watch --lab www.hollowtarn.example --every 30s", true},
		{"for", "watch --lab www.hollowtarn.example --for 10m", true},
		{"until", "watch --lab tickets.hollowtarn.example --until 203.0.113.80", true},
		{"until-agree", "watch --lab tickets.hollowtarn.example --from office,isp,public --until-agree", false},
		{"until-finding", "listen --until-finding server-failure", false},
		{"dnssec", "ask --lab www.hollowtarn.example --dnssec", false},
		{"checking-disabled", "ask --lab www.hollowtarn.example --checking-disabled", false},
		{"anchor", "trace --lab www.hollowtarn.example --anchor own.key", false},
		{"as-of", "trace --lab www.hollowtarn.example --as-of 2026-03-09T07:40:00Z", false},
		{"no-validate", "why --lab www.hollowtarn.example --no-validate", false},
		{"recursion", "ask --lab www.hollowtarn.example --from ns1.hollowtarn.example --recursion=false", false},
		{"minimise", "trace --lab www.hollowtarn.example --minimise", false},
		{"no-edns", "ask --lab www.hollowtarn.example --no-edns", false},
		{"payload-size", "ask --lab www.hollowtarn.example --payload-size 512", false},
		{"cookie", "ask --lab www.hollowtarn.example --cookie", false},
		{"nsid", "ask --lab www.hollowtarn.example --nsid", false},
		{"client-subnet", "ask --lab www.hollowtarn.example --client-subnet 192.0.2.0/24", false},
		{"get", "ask --lab www.hollowtarn.example --from isp --over https --get", false},
		{"opcode", "ask --lab hollowtarn.example --opcode STATUS", false},
		{"id", "ask --lab www.hollowtarn.example --id 4711", false},
	}},
	{"what to show", []option{
		{"view", "decode morning.pcapng --view servers", true},
		{"all", "decode morning.pcapng --view names --all", true},
		{"exchange", "decode morning.pcapng --exchange 13", true},
		{"packet", "decode morning.pcapng --packet 27", true},
		{"bare", "ask --lab www.hollowtarn.example --bare", true},
		{"records", "ask --lab hollowtarn.example --type MX --records", true},
		{"name-first", "ask --lab --names list.txt --bare --name-first", false},
		{"csv", "compare --lab www.hollowtarn.example --from office,isp,public --csv", true},
		{"metrics", "watch --lab www.hollowtarn.example --for 0 --metrics 9053", true},
		{"registry", "watch --lab www.hollowtarn.example --for 0 --metrics 9053 --registry", true},
		{"on-change", "watch --lab tickets.hollowtarn.example --on-change 'cat >> changes.jsonl'", true},
		{"explain", "ask --lab www.hollowtarn.example --explain", true},
		{"show", "ask --lab www.hollowtarn.example --show answer,timing", false},
		{"all-parts", "ask --lab www.hollowtarn.example --all-parts", false},
		{"wire", "ask --lab www.hollowtarn.example --wire", false},
		{"sorted", "transfer --lab hollowtarn.example --from ns1.hollowtarn.example --sorted", false},
		{"exit-differs", "compare --lab www.hollowtarn.example --from office,isp,public --exit-differs", false},
		{"follow-file", "decode growing.pcapng --follow-file", false},
		{"plain", "browse morning.pcapng --plain", false},
		{"page", "findings --page", false},
	}},
	{"what to keep", []option{
		{"keep", "why --lab www.hollowtarn.example --keep evidence.pcapng", true},
		{"save", "zone --lab hollowtarn.example --save monday.json", true},
		{"changes-from", "zone --lab hollowtarn.example --changes-from monday.json", true},
		{"report", "why --lab www.hollowtarn.example --report case.html", true},
		{"from-server", "listen --from-server unix:/run/unquil.sock", false},
		{"step", "demo --step 5", true},
		{"pause", "demo --pause", true},
		{"split", "decode monday.pcapng --to exchanges --split 1h,1GB", true},
		{"to", "decode morning.pcapng --outcome server-failure --to failed.pcapng", true},
		{"redact", "why --lab www.hollowtarn.example --report case.html --redact hollowtarn.example", true},
		{"each", "listen --to day.pcapng --each 1h", false},
		{"files", "listen --to day.pcapng --each 1h --files 24", false},
		{"no-history", "session --lab --no-history", false},
	}},
}

// placed is an option of a command with what there is to say of it.
type placed struct {
	*pflag.Flag
	option
	heading string
}

// placedOptions are a command's own options in the order in which they are told. One without a heading is an error
// of the program's, and stands under "other".
func placedOptions(command string, flags *pflag.FlagSet) (all []placed) {
	rank := map[string]int{}
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Hidden || f.Name == "help" || f.Name == "version" {
			return
		}
		p, at := placed{Flag: f, heading: "other"}, 1<<30
		for i, h := range headings {
			for j, o := range h.options {
				if own := o.name == command+" "+f.Name; own || o.name == f.Name && p.example == "" {
					p.option, p.heading, at = o, h.title, i<<16|j
				}
			}
		}
		rank[f.Name] = at
		all = append(all, p)
	})
	slices.SortStableFunc(all, func(a, b placed) int { return rank[a.Name] - rank[b.Name] })
	return all
}
