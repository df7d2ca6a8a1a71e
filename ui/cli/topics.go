package cli

import (
	"fmt"
	"strings"

	"unquil/core/conversation"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/ui/text"
)

// topic is a page of help about what several commands have in common.
type topic struct {
	name, about string
	paragraphs  []string
	rows        func() []text.HelpList
	examples    []string
}

// topics are all of them.
var topics = []topic{
	{name: "resolvers", about: "Whom a command asks, and how that is written after --from.", paragraphs: []string{
		"Without --from, the resolvers of this machine are asked, or those of [ask] from in the configuration.",
	}, rows: func() []text.HelpList {
		return []text.HelpList{{Title: "what stands after --from, separated by commas", Rows: [][2]string{
			{"192.0.2.53", "an address, at port 53: over UDP, and over TCP where a reply is truncated"},
			{"192.0.2.53#5353", "an address and a port"},
			{"tls://192.0.2.53", "over TLS; tcp://, udp://, quic:// and https://HOST/PATH likewise"},
			{"dns1.hollowtarn.example", "a host, whose address is looked up first"},
			{"office", "a label from the configuration, or of the lab"},
			{"both", "a group from the configuration"},
			{"system", "what this machine is set up to use"},
			{"root", "one of the root servers"},
		}}}
	}, examples: []string{"unquil ask --lab www.hollowtarn.example --from office,isp", "unquil compare --lab www.hollowtarn.example --from office,isp,public"}},
	{name: "outcomes", about: "How an exchange ended, in one word: what --outcome and conditions take.", rows: func() []text.HelpList {
		var rows [][2]string
		for _, o := range exchange.Outcomes {
			rows = append(rows, [2]string{string(o), o.Words()})
		}
		return []text.HelpList{{Title: "outcomes", Rows: rows}}
	}, paragraphs: []string{"Any other response code is its own mnemonic in lower case, such as notauth."},
		examples: []string{"unquil decode morning.pcapng --outcome server-failure,no-reply"}},
	{name: "findings", about: "What the program notices, each with a code: unquil findings CODE explains one, with what to do about it.", paragraphs: []string{
		"A fault has to be mended, a concern looked at, and a note is worth knowing. The exit code is 3 where there is a fault.",
	}, rows: func() []text.HelpList {
		var rows [][2]string
		for _, e := range finding.Catalogue {
			rows = append(rows, [2]string{string(e.Code), e.Meaning})
		}
		return []text.HelpList{{Title: "codes", Rows: rows}}
	}},
	{name: "evidence", about: "What is kept of a run, and handed over.", rows: func() []text.HelpList {
		return []text.HelpList{{Title: "options", Rows: [][2]string{
			{"--keep FILE.pcapng", "every packet that was exchanged, with remarks; unquil decode FILE and unquil why --capture FILE judge it again"},
			{"--report FILE.html", "one page that needs nothing else, with a capture of the evidence beside it; or FILE.md"},
			{"--redact NAME,ADDRESS", "left out of the report and its evidence: a stand-in takes the place of each"},
			{"--json", "one document with everything, the messages as RFC 8427 has them"},
			{"--overwrite", "no file that exists is replaced without it, and none that is being read in any case"},
		}}}
	}, examples: []string{"unquil why --lab tickets.hollowtarn.example --from office --report tickets.html"}},
	{name: "conditions", about: "What --where chooses exchanges by, and / in unquil browse.", paragraphs: []string{
		"A condition is one test, or several with and, or, not and brackets; not binds tighter than and, and and tighter than or.",
		"= and != compare with one value, in (A, AAAA) with several; < <= > >= with numbers and times. A time has its unit: ms, s or m. like takes a pattern with * for any letters and ? for one. A value with blanks or brackets stands in quotation marks. A time of day is that of each exchange's own day, in UTC.",
	}, rows: func() []text.HelpList {
		var rows [][2]string
		for _, f := range conversation.Fields {
			rows = append(rows, [2]string{f.Name, f.Says + ": " + f.Example})
		}
		return []text.HelpList{{Title: "fields", Rows: rows}, {Title: "grammar", Rows: conversation.ConditionGrammar}}
	}, examples: []string{
		"unquil decode morning.pcapng --where 'took > 200ms and not outcome = no-name'",
		"unquil decode morning.pcapng --where 'client in 192.0.2.0/24 and (has finding slow or type in (A, AAAA))' --csv",
	}},
	{name: "configuration", about: "unquil/config.toml in the user's configuration folder, or the file after --config.", rows: func() []text.HelpList {
		return []text.HelpList{{Title: "settings", Rows: [][2]string{
			{"[ask] from = [...]", "whom to ask where --from says nothing"},
			{"[ask] types = [...]", "which record types to ask for where --type says nothing"},
			{"[ask] wait = \"2s\"", "time for one attempt"},
			{"[ask] attempts = 2", "attempts over UDP"},
			{"[resolver.LABEL] at = \"...\"", "a resolver, as after --from, and its label"},
			{"[resolver.LABEL] place = \"...\"", "where it stands, for a reader"},
			{"[group] NAME = [...]", "several resolvers under one name"},
			{"[registry] bootstrap = \"...\"", "where the lists of registries are, as after --bootstrap"},
		}}, {Title: "environment", Rows: [][2]string{
			{"UNQUIL_LAB=1", "as --lab with every command"},
			{"NO_COLOR", "no colour, whatever its value"},
			{"COLUMNS", "how wide lines are where there is no terminal"},
			{"XDG_CONFIG_HOME, XDG_STATE_HOME, XDG_CACHE_HOME", "where the configuration, the sessions and the lists of registries are"},
		}}, {Title: "exit codes", Rows: exitCodes}}
	}},
	{name: "lab", about: "A simulated internet inside the program: with --lab nothing leaves this machine.", paragraphs: []string{
		"It has root servers, zones, resolvers and machines of its own, and a morning on which several things are wrong. unquil lab show tells its story, unquil demo goes through it. Whenever a command begins there, it is 07:40 on 9 March 2026.",
	}, rows: func() []text.HelpList {
		return []text.HelpList{{Title: "options", Rows: [][2]string{
			{"--lab", "ask in the lab"}, {"--lab-machine MACHINE", "act as another of its machines"}, {"--lab-path NETWORK", "ask through another of its networks"},
			{"--lab-speed N", "let N seconds pass for each real one"}, {"--lab-latency TIME", "let each reply take so long"},
		}}}
	}, examples: []string{"unquil lab show", "unquil lab export lab-files", "unquil why --lab tickets.hollowtarn.example"}},
}

// exitCodes are what the program ends with.
var exitCodes = [][2]string{
	{fmt.Sprint(exitDone), "done, and nothing is at fault"},
	{fmt.Sprint(exitFailed), "it could not be done: a file, a permission, the network of this machine; or it was stopped"},
	{fmt.Sprint(exitUsage), "the command line cannot be understood"},
	{fmt.Sprint(exitFault), "done, and what was asked about has a fault"},
}

// topic shows a page of help, and reports whether there is one of that name.
func (a *app) topic(view *text.View, name string) bool {
	if strings.EqualFold(name, "topics") {
		h := text.Help{About: "What several commands have in common: unquil help TOPIC tells about it."}
		var rows [][2]string
		for _, t := range topics {
			rows = append(rows, [2]string{t.name, t.about})
		}
		h.Lists = []text.HelpList{{Title: "topics", Rows: rows}}
		view.Help(h)
		return true
	}
	for _, t := range topics {
		if strings.EqualFold(name, t.name) {
			h := text.Help{About: t.about, Paragraphs: t.paragraphs, Examples: t.examples}
			if t.rows != nil {
				h.Lists = t.rows()
			}
			view.Help(h)
			return true
		}
	}
	return false
}
