package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

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
	var commands [][2]string
	for _, c := range cmd.Commands() {
		if !c.Hidden {
			commands = append(commands, [2]string{c.Name(), c.Short})
		}
	}
	if len(commands) > 0 {
		h.Usage = append(h.Usage, cmd.CommandPath()+" COMMAND ...")
		h.Lists = append(h.Lists, text.HelpList{Title: "commands", Rows: commands})
		h.More = cmd.CommandPath() + " COMMAND --help tells more about a command."
	} else {
		h.Usage = append(h.Usage, callOf(cmd))
	}
	for line := range strings.Lines(cmd.Example) {
		h.Examples = append(h.Examples, strings.TrimSpace(line))
	}
	if own := optionRows(cmd.LocalNonPersistentFlags()); len(own) > 0 {
		h.Lists = append(h.Lists, text.HelpList{Title: "options", Rows: own})
	}
	h.Lists = append(h.Lists, text.HelpList{Title: "options of every command", Rows: optionRows(cmd.Root().PersistentFlags())})
	return h
}

// callOf is a command line that calls cmd, with placeholders.
func callOf(cmd *cobra.Command) string {
	return cmd.CommandPath() + strings.TrimPrefix(cmd.Use, cmd.Name()) + " [OPTION ...]"
}

// optionRows are the options in the order of the alphabet: how each is written, and
// what it does.
func optionRows(flags *pflag.FlagSet) (rows [][2]string) {
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Hidden || f.Name == "help" || f.Name == "version" {
			return
		}
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
		rows = append(rows, [2]string{word, says})
	})
	return rows
}

// newHelp is `unquil help`.
func newHelp() *cobra.Command {
	return &cobra.Command{
		Use:   "help [COMMAND]",
		Short: "How is this command called?",
		RunE: func(cmd *cobra.Command, words []string) error {
			asked, rest, err := cmd.Root().Find(words)
			if err = firstOf(err, onlyCommands(asked, rest)); err != nil {
				return err
			}
			return asked.Help()
		},
	}
}

// onlyCommands is for a command that has others below it and does nothing by itself.
func onlyCommands(cmd *cobra.Command, words []string) error {
	if len(words) == 0 {
		return nil
	}
	cmd.SuggestionsMinimumDistance = 2
	err := fmt.Errorf("%s %s: %w", cmd.CommandPath(), shorten(words[0]), errNoCommand)
	if near := cmd.SuggestionsFor(words[0]); len(near) > 0 {
		err = fmt.Errorf("%w; did you mean %s?", err, strings.Join(near, " or "))
	}
	return usage(err)
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
