package cli

import (
	"slices"
	"strings"

	"github.com/spf13/pflag"
)

// option is what the help, the reference and the man pages say about an option beside its own words.
type option struct {
	name   string
	words  string // of an example, behind [examples] of a command; or all of its line, without the program's name
	common bool   // it is shown first; the others come under "more"
}

// heading is options that belong together, in the order in which they are told.
type heading struct {
	title   string
	options []option
}

// examples are a line of each command that has options, which the examples of its options begin with.
var examples = map[string]string{
	"why":      "why --lab tickets.hollowtarn.example",
	"ask":      "ask --lab www.hollowtarn.example",
	"compare":  "compare --lab tickets.hollowtarn.example --from office,isp",
	"trace":    "trace --lab www.hollowtarn.example",
	"zone":     "zone --lab hollowtarn.example",
	"mail":     "mail --lab lanternpost.test",
	"reverse":  "reverse --lab 203.0.113.80",
	"owner":    "owner --lab summit-huts.example",
	"local":    "local",
	"watch":    "watch --lab tickets.hollowtarn.example --from office,isp --every 1s --for 10s",
	"transfer": "transfer --lab hollowtarn.example --from dns1.hollowtarn.example",
	"session":  "session --lab",
	"decode":   "decode --lab valley-morning.pcapng",
	"browse":   "browse --lab valley-morning.pcapng",
	"listen":   "listen",
	"demo":     "demo",
	"show":     "lab show",
	"findings": "findings",
}

// example is a line of a command with an option. What the line has of the options in the words gives way to them.
func (o option) example(command string) string {
	if !strings.HasPrefix(o.words, "--") {
		return o.words
	}
	var line []string
	words := strings.Fields(examples[command])
	for i := 0; i < len(words); i++ {
		if name := words[i]; strings.HasPrefix(name, "--") && strings.Contains(o.words+" ", name+" ") {
			if i+1 < len(words) && !strings.HasPrefix(words[i+1], "--") {
				i++
			}
			continue
		}
		line = append(line, words[i])
	}
	return strings.Join(append(line, o.words), " ")
}

// headings are all options of all commands. One that means something else in some command stands again, as
// "COMMAND OPTION".
var headings = []heading{
	{"whom to ask", []option{
		{"from", "--from office,isp", true},
		{"trace from", "--from dns1.hollowtarn.example", true},
		{"zone from", "--from dns1.hollowtarn.example", true},
		{"transfer from", "--from dns1.hollowtarn.example", true},
		{"reverse from", "--from office", true},
		{"over", "--over tcp", true},
		{"zone-servers", "--zone-servers", true},
		{"servers", "--servers one", true},
		{"every-server", "--every-server", true},
		{"interface", "--interface eth0", true},
		{"why interface", "--listen --interface eth0", false},
		{"while", "--while 'ask --bare www.hollowtarn.example'", true},
		{"others", "--others", false},
		{"ipv4", "--ipv4", false},
		{"ipv6", "--from 2001:db8:113::11 --ipv6", false},
		{"source", "--source 192.0.2.21", false},
		{"server-name", "--from tls://192.0.2.53 --server-name office.hollowtarn.example", false},
		{"ca", "--from tls://192.0.2.53 --ca office.pem", false},
		{"owner ca", "--ca office.pem", false},
		{"roots", "--roots lab/zones/root.zone", false},
		{"bootstrap", "--bootstrap https://rdap.infra.test/lists/", false},
		{"no-registry", "--no-registry", false},
		{"down-to", "--down-to hollowtarn.example", false},
	}},
	{"what to ask", []option{
		{"type", "--type MX,TXT", true},
		{"why type", "--type A", true},
		{"trace type", "--type AAAA", true},
		{"names", "--names list.txt", true},
		{"mail names", "--names domains.txt", true},
		{"reverse names", "--names addresses.txt", true},
		{"also", "--also www,mail", true},
		{"why also", "--also isp,public", true},
		{"expect", "--expect 203.0.113.80", true},
		{"validate", "--validate", true},
		{"sender", "--sender 198.51.100.71", true},
		{"selector", "--selector spring", true},
		{"capture", "why --lab --capture valley-morning.pcapng", true},
		{"listen", "--listen", true},
		{"heard", "--listen --heard heard.pcapng", false},
		{"try-selectors", "--try-selectors spring,autumn", false},
		{"mail-from", "--sender 198.51.100.71 --mail-from news@lanternpost.test", false},
		{"helo", "--sender 198.51.100.71 --helo mx1.lanternpost.test", false},
		{"follow", "--type MX --follow", true},
		{"zone-ttl", "--zone-ttl", false},
		{"owners", "--owners", false},
		{"against", "--against lab/zones/hollowtarn.example.zone", false},
		{"since", "--since 2026030901", false},
		{"try-transfer", "--try-transfer", false},
		{"key", "--try-transfer --key lab/keys/summit.hollowtarn.example.toml", false},
		{"transfer key", "--key lab/keys/summit.hollowtarn.example.toml", false},
		{"class", "--class CH --type TXT", false},
		{"ask class", "ask --lab id.server --class CH --type TXT", false},
		{"as-is", "ask --lab intranet --as-is", false},
		{"workshop", "--workshop", false},
		{"message", "decode --lab --message broken-answer.dns", true},
		{"root", "--root lab/machine", false},
		{"case", "--case tickets", true},
		{"go-on", "--case tickets --go-on", false},
		{"script", "--script lines.txt", false},
	}},
	{"which exchanges", []option{
		{"name", "--name 'tickets.*'", true},
		{"under", "--under hollowtarn.example", true},
		{"decode type", "--type A,AAAA", true},
		{"listen type", "--type A,AAAA", true},
		{"outcome", "--outcome server-failure,no-reply", true},
		{"client", "--client 192.0.2.0/24", true},
		{"server", "--server 192.0.2.53", true},
		{"between", "--between 07:40:10,07:41:00", true},
		{"slower", "--slower 200ms", true},
		{"finding", "--finding slow", true},
		{"where", "--where 'took > 200ms and not outcome = no-name'", true},
		{"decode id", "--id 4711", false},
		{"listen id", "--id 4711", false},
		{"signed", "--signed bogus", false},
		{"port", "--port 53", false},
		{"https-host", "--https-host resolver.hollowtarn.example", false},
	}},
	{"how to ask", []option{
		{"wait", "--wait 500ms", true},
		{"attempts", "--attempts 1", true},
		{"rate", "--names list.txt --rate 500", false},
		{"why rate", "--rate 500", false},
		{"compare rate", "--rate 500", false},
		{"reverse rate", "reverse --lab 203.0.113.112/28 --rate 500", false},
		{"in-flight", "--names list.txt --in-flight 16", false},
		{"repeat", "--repeat 20", false},
		{"every", "--every 2s", true},
		{"for", "--for 10m", true},
		{"until", "--until 203.0.113.80", true},
		{"until-agree", "--from office,isp,public --until-agree", false},
		{"until-finding", "--until-finding server-failure", false},
		{"dnssec", "--dnssec", false},
		{"checking-disabled", "--checking-disabled", false},
		{"anchor", "--anchor own.key", false},
		{"as-of", "--as-of 2026-03-09T07:40:00Z", false},
		{"no-validate", "--no-validate", false},
		{"recursion", "--recursion=false", false},
		{"minimise", "--minimise", false},
		{"no-edns", "--no-edns", false},
		{"payload-size", "--payload-size 512", false},
		{"cookie", "--cookie", false},
		{"nsid", "--nsid", false},
		{"client-subnet", "--client-subnet 192.0.2.0/24", false},
		{"get", "--from isp --over https --get", false},
		{"opcode", "--opcode STATUS", false},
		{"id", "--id 4711", false},
	}},
	{"what to show", []option{
		{"view", "--view servers", true},
		{"all", "--view names --all", true},
		{"transfer all", "--all", true},
		{"exchange", "--exchange 13", true},
		{"packet", "--packet 27", true},
		{"bare", "--bare", true},
		{"records", "--type MX --records", true},
		{"name-first", "--bare --name-first", false},
		{"csv", "--csv", true},
		{"metrics", "--metrics 9053", true},
		{"registry", "--metrics 9053 --registry", true},
		{"on-change", "--on-change 'cat >> changes.jsonl'", true},
		{"explain", "--explain", true},
		{"show", "--show answer,timing", false},
		{"all-parts", "--all-parts", false},
		{"wire", "--wire", false},
		{"sorted", "--sorted", false},
		{"exit-differs", "--exit-differs", false},
		{"follow-file", "--follow-file", false},
		{"plain", "--plain", false},
		{"page", "--page", false},
	}},
	{"what to keep", []option{
		{"keep", "--keep evidence.pcapng", true},
		{"save", "--save today.json", true},
		{"changes-from", "--changes-from monday.json", true},
		{"report", "--report case.html", true},
		{"from-server", "--from-server unix:/run/unquil.sock", false},
		{"step", "--step 5", true},
		{"pause", "--pause", true},
		{"split", "--to exchanges --split 1h,1GB", true},
		{"to", "--to failed.pcapng", true},
		{"transfer to", "--to hollowtarn.zone", true},
		{"listen to", "--to day.pcapng", true},
		{"listen every", "--to day.pcapng --every 1h", true},
		{"redact", "--report case.html --redact hollowtarn.example", true},
		{"each", "--to day.pcapng --each 100MB", false},
		{"files", "--to day.pcapng --each 100MB --files 24", false},
		{"no-history", "--no-history", false},
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
				if own := o.name == command+" "+f.Name; own || o.name == f.Name && p.words == "" {
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
