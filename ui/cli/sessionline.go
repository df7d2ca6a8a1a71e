package cli

import (
	"context"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unquil/core/exchange"
	"unquil/core/wire"
	"unquil/ui/files"
)

// sessionWord is a word of the session itself.
type sessionWord struct {
	name  string
	takes string // what belongs behind it, for the help
	about string
	run   func(s *shell, ctx context.Context, line string, words []string, out, errOut io.Writer) (int, error)
}

// sessionWords are those words. They are in the order of the help.
func sessionWords() []sessionWord {
	return []sessionWord{
		{"usual", "", "take every choice back", (*shell).usual},
		{"marks", "", "list what the numbers in square brackets stand for", (*shell).listMarks},
		{"exchange", "NUMBER", "show one exchange of the session whole", (*shell).showExchange},
		{"lines", "", "list the lines of the session and what came of them", (*shell).listLines},
		{"again", "[LINE...]", "ask the same once more, and tell only what is different", (*shell).again},
		{"note", "WORDS", "put your own words into the case", (*shell).note},
		{"report", "FILE.html", "write the whole session as a report, with the packets in a capture next to it", (*shell).writeReport},
		{"keep", "FILE.pcapng", "write every packet of the session as a capture, lines and notes beside them", (*shell).writeCapture},
		{"help", "[COMMAND]", "list what can be typed, or describe a command", (*shell).help},
		{"end", "", "end the session", (*shell).endSession},
	}
}

// elsewhere are the commands that a session does not run: they want the terminal for themselves.
var elsewhere = []string{"session", "demo", "completion", "browse"}

// part runs one part of a line: choices first, then a word, a command, or names and addresses.
func (s *shell) part(ctx context.Context, line string, words []string, out, errOut io.Writer) (int, error) {
	for len(words) > 0 && slices.Contains(choices, words[0]) {
		rest, err := s.choose(words)
		if err != nil {
			return 0, err
		}
		words = rest
	}
	if len(words) == 0 {
		return exitDone, nil
	}
	if words[0] == "exit" || words[0] == "quit" { // as people type without thinking
		words[0] = "end"
	}
	for _, w := range sessionWords() {
		if w.name == words[0] {
			return w.run(s, ctx, line, words[1:], out, errOut)
		}
	}
	cmd, rest := s.find(words)
	if cmd != nil {
		if slices.Contains(elsewhere, words[0]) {
			return 0, usage(fmt.Errorf("%s: %w", words[0], errNotHere))
		}
		return s.command(ctx, line, cmd, rest, out, errOut)
	}
	return s.ask(ctx, line, words, out, errOut)
}

// root is the tree of commands, to look at and not to run.
func (s *shell) root() *cobra.Command {
	return newRoot(&app{ctx: s.ctx, files: &files.Files{}, environ: s.environ})
}

// find finds the command that words begin with; nil: none.
func (s *shell) find(words []string) (*cobra.Command, []string) {
	root := s.root()
	cmd, rest, err := root.Find(words)
	if err != nil || cmd == root {
		return nil, nil
	}
	return cmd, rest
}

// choose takes one choice off the front of words.
func (s *shell) choose(words []string) (rest []string, err error) {
	name := words[0]
	value, rest := "", words[1:]
	f := newAsk(&app{}).Flags().Lookup(name)
	if f.Value.Type() == "bool" {
		value = "true"
		if len(rest) > 0 && (rest[0] == "on" || rest[0] == "off") {
			value, rest = strconv.FormatBool(rest[0] == "on"), rest[1:]
		}
	} else {
		if len(rest) == 0 {
			return nil, usage(fmt.Errorf("%s: %w", name, errNoValue))
		}
		value, rest = rest[0], rest[1:]
		for len(rest) > 0 && (strings.HasSuffix(value, ",") || strings.HasPrefix(rest[0], ",")) {
			value, rest = value+rest[0], rest[1:]
		}
	}
	if value == "usual" {
		delete(s.chosen, name)
		return rest, nil
	}
	switch name {
	case "type":
		for len(rest) > 0 && !strings.Contains(rest[0], ".") { // types that blanks part
			if _, err := wire.ParseType(rest[0]); err != nil {
				break
			}
			value, rest = value+","+rest[0], rest[1:]
		}
		types, err := parseTypes(strings.Split(value, ","))
		if err != nil {
			return nil, err
		}
		var mnemonics []string
		for _, t := range types {
			mnemonics = append(mnemonics, t.String())
		}
		value = strings.Join(mnemonics, ",")
	case "from":
		var servers []string
		for word := range strings.SplitSeq(value, ",") {
			server, err := s.serverOf(word)
			if err != nil {
				return nil, err
			}
			servers = append(servers, server)
		}
		value = strings.Join(servers, ",")
	case "over":
		value = strings.ToLower(value)
		if _, err := (&question{over: value}).fit(nil); err != nil {
			return nil, err
		}
	default:
		if err := f.Value.Set(value); err != nil {
			wrong := kinds[f.Value.Type()]
			if wrong == nil {
				wrong = errChoice
			}
			return nil, usage(fmt.Errorf("%s %q: %w", name, shorten(value), wrong))
		}
		if wait, err := time.ParseDuration(value); name == "wait" && (err != nil || wait < minWait || wait > maxWait) {
			return nil, usage(fmt.Errorf("wait %q: %w", shorten(value), errWait))
		}
	}
	s.chosen[name] = value
	return rest, nil
}

// serverOf is the word for --from that a typed one stands for: itself, or that of a mark.
func (s *shell) serverOf(word string) (string, error) {
	mark, is := markOf(word)
	if is {
		m := s.standing.marks.Of(mark)
		if m == nil {
			return "", usage(fmt.Errorf("mark %d: %w", mark, errNoMark))
		}
		word, server := serverWord(m)
		if server.Address.IsValid() {
			s.standing.servers[word] = server
		}
		return word, nil
	}
	if _, known := s.Resolver[word]; known || s.Group[word] != nil || word == "system" || word == "root" {
		return word, nil
	}
	if _, known := s.standing.server(word); known {
		return word, nil
	}
	if s.simulation != nil {
		if _, known := s.inLab(word); known {
			return word, nil
		}
	}
	if _, err := exchange.ParseTarget(word); err != nil {
		return "", usage(err)
	}
	return word, nil
}

// markOf is the number of a mark as it is typed: alone or in square brackets.
func markOf(word string) (int, bool) {
	word = strings.TrimSuffix(strings.TrimPrefix(word, "["), "]")
	mark, err := strconv.Atoi(word)
	return mark, err == nil && mark > 0 && word[0] != '+' && len(word) < 8
}

// ask looks up what was typed without a command: names, addresses and marks.
func (s *shell) ask(ctx context.Context, line string, words []string, out, errOut io.Writer) (code int, err error) {
	if slices.ContainsFunc(words, func(word string) bool { return strings.HasPrefix(word, "-") }) { // options of ask behind a name
		cmd, rest := s.find(append([]string{"ask"}, words...))
		return s.command(ctx, line, cmd, rest, out, errOut)
	}
	var names, hosts, addresses []string
	for _, word := range words {
		mark, isMark := markOf(word)
		switch _, noAddress := netip.ParseAddr(word); {
		case isMark:
			m := s.standing.marks.Of(mark)
			switch {
			case m == nil:
				return 0, usage(fmt.Errorf("mark %d: %w", mark, errNoMark))
			case m.Host.IsZero():
				addresses = append(addresses, m.Addresses[0].String())
			default:
				hosts = append(hosts, m.Host.String())
			}
		case noAddress == nil:
			addresses = append(addresses, word)
		default:
			if near := s.slip(word, len(words)); near != "" {
				return 0, usage(fmt.Errorf("%q: %w; did you mean %s?", shorten(word), errWord, near))
			}
			if _, err := parseName(word); err != nil {
				return 0, err
			}
			names = append(names, word)
		}
	}
	for _, call := range [][]string{
		append([]string{"ask"}, names...),
		append([]string{"ask", "--type=" + strings.Join(addressTypes, ",")}, hosts...), // a marked host is asked for its addresses
		append([]string{"reverse"}, addresses...),
	} {
		if last := call[len(call)-1]; len(call) == 1 || strings.HasPrefix(last, "--") {
			continue
		}
		cmd, rest := s.find(call)
		c, err := s.command(ctx, line, cmd, rest, out, errOut)
		if err != nil {
			return code, err
		}
		code = worse(code, c)
	}
	return code, nil
}

// slip is the word that a name without a dot was probably meant to be; "" for none.
func (s *shell) slip(word string, among int) string {
	if strings.Contains(word, ".") || len(word) < 3 {
		return ""
	}
	best, least := "", 3
	for _, known := range s.words() {
		if d := distance(strings.ToLower(word), known); d < least && d < len(known)-1 {
			best, least = known, d
		}
	}
	if least == 2 && among == 1 && len(word) < 6 {
		return "" // a short name may be that far from anything
	}
	return best
}

// distance is in how many letters two words differ: changed, added, left out or swapped.
func distance(a, b string) int {
	var before, last []int
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		before, last, row = last, row, make([]int, len(b)+1)
		row[0] = i
		for j := 1; j <= len(b); j++ {
			changed := last[j-1]
			if a[i-1] != b[j-1] {
				changed++
			}
			row[j] = min(changed, last[j]+1, row[j-1]+1)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
	}
	return row[len(b)]
}

// words are all words that a line may begin with.
func (s *shell) words() (all []string) {
	all = append(all, choices...)
	for _, w := range sessionWords() {
		all = append(all, w.name)
	}
	for _, cmd := range s.root().Commands() {
		if !slices.Contains(elsewhere, cmd.Name()) && !cmd.Hidden {
			all = append(all, cmd.Name())
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// command runs a command of the program with what is chosen. Marks among what it is about
// stand for what they mark; without any it is about what was asked last.
func (s *shell) command(ctx context.Context, line string, cmd *cobra.Command, words []string, out, errOut io.Writer) (int, error) {
	path := strings.Fields(cmd.CommandPath())[1:]
	of, known := askers[cmd.Name()]
	if !known || len(path) > 1 {
		return s.run(ctx, line, append(path, words...), out, errOut), nil
	}
	if err := cmd.ParseFlags(words); err != nil {
		return 0, optionError(cmd, err)
	}
	for _, option := range []string{"from", "also"} {
		if err := s.markedOptions(cmd, option); err != nil {
			return 0, err
		}
	}
	about, err := s.about(cmd, of.takes)
	if err != nil {
		return 0, err
	}
	args := append(path, append(s.chosen.with(cmd), optionWords(cmd.Flags())...)...)
	if slices.ContainsFunc(about, func(word string) bool { return strings.HasPrefix(word, "-") }) {
		args = append(args, "--")
	}
	return s.run(ctx, line, append(args, about...), out, errOut), nil
}

// markedOptions puts servers in the place of marks in an option.
func (s *shell) markedOptions(cmd *cobra.Command, option string) error {
	f := cmd.Flags().Lookup(option)
	if f == nil || !f.Changed {
		return nil
	}
	list, is := f.Value.(interface {
		GetSlice() []string
		Replace([]string) error
	})
	if !is {
		return nil
	}
	servers := list.GetSlice()
	for i, word := range servers {
		if _, marked := markOf(word); !marked {
			continue
		}
		server, err := s.serverOf(word)
		if err != nil {
			return err
		}
		servers[i] = server
	}
	return list.Replace(servers)
}

// about is what a command is about, and keeps it for the next line.
func (s *shell) about(cmd *cobra.Command, of takes) (words []string, err error) {
	to := cmd.Name()
	for _, word := range cmd.Flags().Args() {
		mark, marked := markOf(word)
		if !marked {
			words = append(words, word)
			continue
		}
		m := s.standing.marks.Of(mark)
		switch {
		case m == nil:
			return nil, usage(fmt.Errorf("mark %d: %w", mark, errNoMark))
		case of == takesAddresses:
			for _, a := range m.Addresses {
				words = append(words, a.String())
			}
			if len(m.Addresses) == 0 {
				return nil, usage(fmt.Errorf("mark %d, %s: %w", mark, m.Host.Spoken(), errNoAddress))
			}
		case !m.Host.IsZero():
			words = append(words, m.Host.String())
		case to == "why" || to == "owner":
			words = append(words, m.Addresses[0].String())
		default:
			reverse, err := wire.ReverseName(m.Addresses[0].String())
			if err != nil {
				return nil, usage(err)
			}
			words = append(words, reverse.String())
		}
	}
	last := &s.names
	if of == takesAddresses {
		last = &s.addresses
	}
	if f := cmd.Flags().Lookup("names"); len(words) == 0 && f != nil && f.Changed {
		return nil, nil
	}
	if f := cmd.Flags().Lookup("capture"); f != nil && f.Changed {
		return words, nil
	}
	if len(words) == 0 {
		if len(*last) == 0 {
			return nil, usage(fmt.Errorf("%s: %w", cmd.Name(), errNothingYet))
		}
		words = slices.Clone(*last)
		if of == takesOneName {
			words = words[len(words)-1:]
		}
		return words, nil
	}
	*last = slices.Clone(words)
	return words, nil
}
