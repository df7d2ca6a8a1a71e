package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"unquil/core/wording"
	"unquil/ui/text"
)

// placeholders stand for the value of an option whose own text names none, by the kind
// of the value.
var placeholders = map[string]string{
	"int": "N", "uint16": "N", "uint32": "N", "float64": "N", "duration": "TIME", "string": "WORD", "stringSlice": "WORDS", "uintSlice": "NUMBERS",
}

// helpOf is how cmd is called.
func helpOf(cmd *cobra.Command) text.Help {
	h := text.Help{About: cmd.Short}
	if cmd.Long != "" {
		h.About = cmd.Long
	}
	if commands := commandLists(cmd); len(commands) > 0 {
		h.Usage = append(h.Usage, cmd.CommandPath()+" COMMAND ...")
		h.Lists = append(h.Lists, commands...)
		h.More = cmd.CommandPath() + " COMMAND --help tells more about a command"
		if !cmd.HasParent() {
			h.More += ", " + cmd.CommandPath() + " help topics about what all of them have in common"
		}
		h.More += "."
	} else {
		h.Usage = append(h.Usage, callOf(cmd))
	}
	for line := range strings.Lines(cmd.Example) {
		h.Examples = append(h.Examples, strings.TrimSpace(line))
	}
	h.Lists = append(h.Lists, optionLists(cmd)...)
	var rows [][2]string
	for _, p := range placedOptions("", cmd.Root().PersistentFlags()) {
		rows = append(rows, optionRow(p.Flag))
	}
	h.Lists = append(h.Lists, text.HelpList{Title: "options of every command", Rows: rows})
	return h
}

// commandLists are the commands below cmd, by what they are for.
func commandLists(cmd *cobra.Command) (lists []text.HelpList) {
	for _, g := range append([]*cobra.Group{{Title: "commands"}}, cmd.Groups()...) {
		var rows [][2]string
		for _, c := range cmd.Commands() {
			if !c.Hidden && c.GroupID == g.ID && c.Name() != "help" {
				rows = append(rows, [2]string{c.Name(), c.Short})
			}
		}
		if len(rows) > 0 {
			lists = append(lists, text.HelpList{Title: g.Title, Rows: rows})
		}
	}
	return lists
}

// optionLists are the options of cmd under their headings, the common ones first.
func optionLists(cmd *cobra.Command) (lists []text.HelpList) {
	var more [][2]string
	for _, p := range placedOptions(cmd.Name(), cmd.LocalNonPersistentFlags()) {
		row := optionRow(p.Flag)
		if !p.common {
			more = append(more, row)
			continue
		}
		if n := len(lists); n == 0 || lists[n-1].Title != p.heading {
			lists = append(lists, text.HelpList{Title: p.heading})
		}
		last := &lists[len(lists)-1]
		last.Rows = append(last.Rows, row)
	}
	if len(more) > 0 {
		lists = append(lists, text.HelpList{Title: "more", Rows: more})
	}
	return lists
}

// callOf is a command line that calls cmd, with placeholders.
func callOf(cmd *cobra.Command) string {
	return cmd.CommandPath() + strings.TrimPrefix(cmd.Use, cmd.Name()) + " [OPTION ...]"
}

// optionRow is how an option is written, and what it does.
func optionRow(f *pflag.Flag) [2]string {
	word := "--" + f.Name
	if f.Shorthand != "" {
		word += ", -" + f.Shorthand
	}
	value, says := pflag.UnquoteUsage(f)
	if !strings.Contains(f.Usage, "`") {
		value = placeholders[f.Value.Type()]
	}
	if value != "" {
		word += " " + value
	}
	if standard := strings.Trim(f.DefValue, "[]"); f.Value.Type() != "bool" && !slices.Contains([]string{"", "0", "0s", "-1"}, standard) {
		says += " (default " + standard + ")"
	}
	return [2]string{word, says}
}

// newHelp is `unquil help`.
func newHelp(a *app) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "help [COMMAND|TOPIC]",
		Short: "How is this command called?",
		RunE: func(cmd *cobra.Command, words []string) error {
			if len(words) == 1 {
				if view := a.view(); a.topic(view, words[0]) {
					return view.Err()
				}
			}
			asked, rest, err := cmd.Root().Find(words)
			if err = firstOf(err, onlyCommands(asked, rest)); err != nil {
				if near := wording.Nearest(words[0], cmd.ValidArgs); near != "" {
					err = usage(fmt.Errorf("%w; there is a topic %s", err, near))
				}
				return err
			}
			return asked.Help()
		},
	}
	for _, t := range topics {
		cmd.ValidArgs = append(cmd.ValidArgs, t.name)
	}
	return cmd
}

// onlyCommands is for a command that has others below it and does nothing by itself.
func onlyCommands(cmd *cobra.Command, words []string) error {
	if len(words) == 0 {
		return nil
	}
	var all []string
	for _, c := range cmd.Commands() {
		if !c.Hidden {
			all = append(all, c.Name())
		}
	}
	return usage(fmt.Errorf("%s %s: %w%s", cmd.CommandPath(), shorten(words[0]), errNoCommand, wording.OrNearest(words[0], all)))
}

// shells can complete commands and options with a script.
var shells = []struct {
	name  string
	write func(root *cobra.Command, a *app) error
}{
	{"bash", func(root *cobra.Command, a *app) error { return root.GenBashCompletionV2(a.stdout, true) }},
	{"fish", func(root *cobra.Command, a *app) error { return root.GenFishCompletion(a.stdout, true) }},
	{"powershell", func(root *cobra.Command, a *app) error { return root.GenPowerShellCompletionWithDesc(a.stdout) }},
	{"zsh", func(root *cobra.Command, a *app) error { return root.GenZshCompletion(a.stdout) }},
}

// newCompletion is `unquil completion`.
func newCompletion(a *app) *cobra.Command {
	cmd := &cobra.Command{
		Use:     "completion SHELL",
		Short:   "How does my shell complete commands and options?",
		Long:    "Writes a script with which a shell completes commands and options. SHELL is bash, fish, powershell or zsh. Have the shell read the script when it starts.",
		Example: "unquil completion bash\nunquil completion zsh",
		Args:    taking(1, 1),
		RunE: func(cmd *cobra.Command, words []string) error {
			for _, shell := range shells {
				if shell.name == words[0] {
					return shell.write(cmd.Root(), a)
				}
			}
			return usage(fmt.Errorf("%q: %w", shorten(words[0]), errShell))
		},
	}
	for _, shell := range shells {
		cmd.ValidArgs = append(cmd.ValidArgs, shell.name)
	}
	return cmd
}
