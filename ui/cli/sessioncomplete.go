package cli

import (
	"maps"
	"slices"
	"strings"

	"github.com/spf13/pflag"

	"unquil/core/finding"
)

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
	if option == "from" || option == "also" {
		return from, listed(start, func(string) []string { return s.resolverWords() })
	}
	if onOff[option] {
		return from, beginning([]string{"on", "off"}, start)
	}
	if values := valuesOf[option]; values != nil {
		return from, listed(start, func(start string) []string { return values(s.app, start) })
	}
	return from, beginning(s.argumentsOf(earlier, word), word)
}

// onOff are choices of a session that are given as on or off.
var onOff = map[string]bool{"dnssec": true, "recursion": true, "no-edns": true}

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
		return finding.Codes()
	case "decode", "browse":
		return s.app.captureWords(word)
	case "report", "keep":
		return fileWords(s.app, word)
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

// resolverWords are those of the program, and the words of this session.
func (s *shell) resolverWords() []string {
	words := s.app.resolverWords("")
	if s.standing != nil {
		words = slices.AppendSeq(words, maps.Keys(s.standing.servers))
	}
	return words
}

func (s *shell) nameWords() []string { return slices.Collect(maps.Keys(s.seen)) }
