package cli

import (
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"unquil/core/attest"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/lab"
	"unquil/ui/text"
)

// valuesOf are what the value of an option may be, by the option's name; those that are not
// here take anything. start is how it begins.
var valuesOf = map[string]func(a *app, start string) []string{
	"type":        func(*app, string) []string { return typeNames() },
	"from":        (*app).resolverWords,
	"also":        (*app).resolverWords,
	"over":        few("udp", "tcp", "tls", "https", "quic"),
	"view":        func(*app, string) []string { return slices.Sorted(maps.Keys(views)) },
	"finding":     func(*app, string) []string { return finding.Codes() },
	"outcome":     func(*app, string) []string { return exchange.OutcomeWords() },
	"show":        func(*app, string) []string { return partWords() },
	"signed":      func(*app, string) []string { return signedStates() },
	"class":       few("IN", "CH", "HS", "ANY"),
	"servers":     few("all", "one"),
	"color":       few("auto", "always", "never"),
	"wait":        few("500ms", "1s", "2s", "5s"),
	"lab-machine": func(*app, string) []string { return lab.Machines() },
	"lab-path":    func(*app, string) []string { return labPaths() },
	"report":      fileWords,
	"keep":        fileWords,
	"capture":     (*app).captureWords,
	"to":          fileWords,
	"against":     fileWords,
	"key":         fileWords,
	"ca":          fileWords,
	"roots":       fileWords,
	"names":       fileWords,
	"message":     (*app).captureWords,
}

// few is a choice of some words.
func few(words ...string) func(*app, string) []string {
	return func(*app, string) []string { return words }
}

// listed are the values that the last part of a list may become, behind those before it.
func listed(start string, values func(start string) []string) (words []string) {
	head := ""
	if comma := strings.LastIndexByte(start, ','); comma >= 0 {
		head, start = start[:comma+1], start[comma+1:]
	}
	for _, value := range beginning(values(start), start) {
		words = append(words, head+value)
	}
	return words
}

// completes has shells complete what options and commands take.
func (a *app) completes(root *cobra.Command) {
	nothing := cobra.ShellCompDirectiveNoFileComp
	for _, cmd := range append(root.Commands(), root) {
		flags := cmd.LocalFlags()
		flags.VisitAll(func(f *pflag.Flag) {
			values := valuesOf[f.Name]
			if values == nil {
				return
			}
			cmd.RegisterFlagCompletionFunc(f.Name, func(_ *cobra.Command, _ []string, start string) ([]string, cobra.ShellCompDirective) {
				directive := nothing
				words := listed(start, func(start string) []string { return values(a, start) })
				if len(words) == 1 && strings.HasSuffix(words[0], "/") {
					directive |= cobra.ShellCompDirectiveNoSpace
				}
				return words, directive
			})
		})
		if of := argumentsOf[cmd.Name()]; of != nil {
			cmd.ValidArgsFunction = func(_ *cobra.Command, _ []string, start string) ([]string, cobra.ShellCompDirective) {
				return beginning(of(a, start), start), nothing
			}
		} else if len(cmd.ValidArgs) == 0 && cmd != root {
			cmd.ValidArgsFunction = func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) { return nil, nothing }
		}
	}
}

// argumentsOf are what commands are about.
var argumentsOf = map[string]func(a *app, start string) []string{
	"decode": (*app).captureWords, "browse": (*app).captureWords,
	"findings": func(*app, string) []string { return finding.Codes() },
	"ask":      (*app).zoneWords, "compare": (*app).zoneWords, "trace": (*app).zoneWords, "why": (*app).zoneWords, "watch": (*app).zoneWords,
	"zone": (*app).zoneWords, "transfer": (*app).zoneWords, "mail": (*app).zoneWords,
}

// zoneWords are the zones and healthy names of the lab, where that is asked.
func (a *app) zoneWords(string) (words []string) {
	scenario, err := lab.Load()
	if err != nil || !a.lab {
		return nil
	}
	for _, s := range scenario.Servers {
		if s.Workshop {
			continue
		}
		for _, z := range s.Zones {
			if z.Name != "." {
				words = append(words, strings.TrimSuffix(z.Name, "."))
			}
		}
	}
	return words
}

// resolverWords are the labels and groups of the configuration, and those of the lab where that is asked.
func (a *app) resolverWords(string) []string {
	if a.args != nil && strings.HasPrefix(a.args[0], "__complete") {
		_ = a.readConfig() // what it has is offered as far as it can be read
	}
	return a.labels()
}

// labLabels are the labels of the lab's resolvers.
func labLabels() (words []string) {
	scenario, err := lab.Load()
	if err != nil {
		return nil
	}
	for _, r := range scenario.Resolvers {
		if r.Label != "" && !strings.Contains(r.Label, " ") && !r.Workshop {
			words = append(words, r.Label)
		}
	}
	return words
}

func labPaths() (words []string) {
	scenario, err := lab.Load()
	if err != nil {
		return nil
	}
	for _, p := range scenario.Paths {
		words = append(words, p.Label)
	}
	return words
}

func signedStates() (words []string) {
	for _, state := range attest.States {
		words = append(words, string(state))
	}
	return words
}

func partWords() (words []string) {
	for _, p := range text.PartNames {
		words = append(words, string(p))
	}
	return words
}

// fileWords are the files that a path may become; folders end with a stroke.
func fileWords(_ *app, start string) (words []string) {
	folder, _ := filepath.Split(start)
	entries, err := os.ReadDir(filepath.Clean("./" + folder))
	if filepath.IsAbs(folder) {
		entries, err = os.ReadDir(folder)
	}
	if err != nil {
		return nil
	}
	for _, entry := range entries {
		name := entry.Name()
		if strings.HasPrefix(name, ".") || string(typed(name)) != name || strings.ContainsAny(name, " '\"") {
			continue
		}
		if entry.IsDir() {
			name += "/"
		}
		words = append(words, folder+name)
	}
	return words
}

// captureEnds are how the names of captures end.
var captureEnds = []string{".pcap", ".pcapng", ".gz", ".zst", ".cap", ".dnstap", ".cdns", ".dns", "/"}

// captureWords are the files that look like captures by their names, and with --lab the lab's captures.
func (a *app) captureWords(start string) (words []string) {
	for _, word := range fileWords(a, start) {
		if slices.ContainsFunc(captureEnds, func(end string) bool { return strings.HasSuffix(word, end) }) {
			words = append(words, word)
		}
	}
	if a.lab {
		entries, _ := fs.ReadDir(lab.Captures(), ".")
		for _, entry := range entries {
			words = append(words, entry.Name())
		}
	}
	return words
}
