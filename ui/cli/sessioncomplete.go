package cli

import (
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/pflag"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
	"unquil/lab"
	"unquil/ui/text"
)

// valuesOf are what the value of an option may be, by the option's name; those that are not
// here take anything.
var valuesOf = map[string]func(s *shell, start string) []string{
	"type":      (*shell).typeWords,
	"from":      (*shell).resolverWords,
	"also":      (*shell).resolverWords,
	"over":      func(*shell, string) []string { return []string{"udp", "tcp", "tls", "https", "quic"} },
	"view":      func(*shell, string) []string { return slices.Sorted(maps.Keys(views)) },
	"finding":   func(*shell, string) []string { return findingCodes() },
	"outcome":   func(*shell, string) []string { return outcomeWords() },
	"show":      func(*shell, string) []string { return partWords() },
	"class":     func(*shell, string) []string { return []string{"IN", "CH", "HS", "ANY"} },
	"servers":   func(*shell, string) []string { return []string{"all", "one"} },
	"color":     func(*shell, string) []string { return []string{"auto", "always", "never"} },
	"report":    (*shell).fileWords,
	"keep":      (*shell).fileWords,
	"capture":   (*shell).captureWords,
	"to":        (*shell).fileWords,
	"against":   (*shell).fileWords,
	"key":       (*shell).fileWords,
	"ca":        (*shell).fileWords,
	"roots":     (*shell).fileWords,
	"names":     (*shell).fileWords,
	"message":   (*shell).captureWords,
	"wait":      func(*shell, string) []string { return []string{"500ms", "1s", "2s", "5s"} },
	"dnssec":    onOff,
	"recursion": onOff,
	"no-edns":   onOff,
}

func onOff(*shell, string) []string { return []string{"on", "off"} }

// Complete is what the word before a place of the line may become, for [session.Shell].
func (s *shell) Complete(line string, at int) (from int, words []string) {
	before := line[:at]
	if part := strings.LastIndexByte(before, ';'); part >= 0 {
		before = before[part+1:]
	}
	from = at - len(before) + strings.LastIndexAny(before, " \t") + 1
	word := line[from:at]
	earlier := strings.Fields(before[:len(before)-len(word)])
	option, start := "", word
	switch last := at0(earlier); {
	case strings.HasPrefix(word, "--") && strings.Contains(word, "="):
		option, start, _ = strings.Cut(strings.TrimPrefix(word, "--"), "=")
		from += len(word) - len(start)
	case strings.HasPrefix(last, "--"):
		option = strings.TrimPrefix(last, "--")
	case last == "-t":
		option = "type"
	case last == "-f":
		option = "from"
	case s.chooses(earlier):
		option = last
	case strings.HasPrefix(word, "-"):
		return from, beginning(s.optionsOf(earlier), word)
	}
	if values := valuesOf[option]; values != nil {
		head := ""
		if comma := strings.LastIndexByte(start, ','); comma >= 0 {
			head, start = start[:comma+1], start[comma+1:]
		}
		for _, value := range beginning(values(s, start), start) {
			words = append(words, head+value)
		}
		return from, words
	}
	return from, beginning(s.argumentsOf(earlier, word), word)
}

// at0 is the last of some words; "" without any.
func at0(words []string) string {
	if len(words) == 0 {
		return ""
	}
	return words[len(words)-1]
}

// chooses reports whether words are choices, the last of which lacks its value.
func (s *shell) chooses(words []string) bool {
	for len(words) > 1 && slices.Contains(choices, words[0]) {
		words = words[2:]
	}
	return len(words) == 1 && slices.Contains(choices, words[0])
}

// argumentsOf are what may stand behind some words.
func (s *shell) argumentsOf(earlier []string, word string) []string {
	for len(earlier) > 1 && slices.Contains(choices, earlier[0]) {
		earlier = earlier[2:]
	}
	if len(earlier) == 0 {
		return append(s.words(), s.nameWords()...)
	}
	switch earlier[0] {
	case "findings":
		return findingCodes()
	case "decode", "browse":
		return s.captureWords(word)
	case "report", "keep":
		return s.fileWords(word)
	case "help":
		return s.words()
	case "lab":
		return []string{"show", "export", "serve"}
	case "note", "marks", "lines", "usual", "end", "again", "exchange":
		return nil
	}
	return s.nameWords()
}

// optionsOf are the options of the command that words begin with.
func (s *shell) optionsOf(words []string) (options []string) {
	if len(words) > 0 && words[0] == "report" {
		return []string{"--overwrite", "--redact"}
	}
	cmd, _ := s.find(words)
	if cmd == nil {
		return nil
	}
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		if !f.Hidden {
			options = append(options, "--"+f.Name)
		}
	})
	return options
}

// beginning are the words that begin with something, whatever its case, in order.
func beginning(words []string, start string) (fit []string) {
	for _, w := range words {
		if len(w) >= len(start) && strings.EqualFold(w[:len(start)], start) {
			fit = append(fit, w)
		}
	}
	slices.Sort(fit)
	return slices.Compact(fit)
}

func (s *shell) typeWords(string) (words []string) {
	for _, t := range wire.Types() {
		words = append(words, t.String())
	}
	return words
}

// resolverWords are the labels and groups of the configuration, those of the lab, and the words
// of this session.
func (s *shell) resolverWords(string) []string {
	words := []string{"system", "root"}
	words = slices.AppendSeq(words, maps.Keys(s.Resolver))
	words = slices.AppendSeq(words, maps.Keys(s.Group))
	words = slices.AppendSeq(words, maps.Keys(s.standing.servers))
	if s.simulation != nil {
		for _, r := range s.simulation.Scenario.Resolvers {
			if r.Label != "" && !strings.Contains(r.Label, " ") {
				words = append(words, r.Label)
			}
		}
	}
	return words
}

func (s *shell) nameWords() []string { return slices.Collect(maps.Keys(s.seen)) }

func findingCodes() (codes []string) {
	for _, known := range finding.Catalogue {
		codes = append(codes, string(known.Code))
	}
	return codes
}

func outcomeWords() (words []string) {
	for _, o := range exchange.Outcomes {
		words = append(words, string(o))
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
func (s *shell) fileWords(start string) (words []string) {
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

// captureWords are files, and with --lab the lab's captures.
func (s *shell) captureWords(start string) []string {
	words := s.fileWords(start)
	if s.lab {
		entries, _ := fs.ReadDir(lab.Captures(), ".")
		for _, entry := range entries {
			words = append(words, entry.Name())
		}
	}
	return words
}
