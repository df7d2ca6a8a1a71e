package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"unquil/core/conversation"
	"unquil/ui/files"
)

// The reference in Markdown and the man pages are made of the same: the commands, [headings] and [topics].

// manualOption is an option as a manual tells of it.
type manualOption struct{ word, says, example string }

// manualPage is a command as a manual tells of it.
type manualPage struct {
	path, short, long, call string
	examples                []string
	headings                []string
	options                 map[string][]manualOption // by heading
}

// manualPages are all commands in the order of work.
func manualPages() (pages []manualPage, shared []manualOption) {
	root := newRoot(&app{files: &files.Files{}})
	var visit func(*cobra.Command)
	visit = func(cmd *cobra.Command) {
		if cmd.Hidden || cmd.Name() == "help" {
			return
		}
		p := manualPage{path: cmd.CommandPath(), short: cmd.Short, long: cmd.Long, call: callOf(cmd), options: map[string][]manualOption{}}
		if cmd.HasSubCommands() {
			p.call = cmd.CommandPath() + " COMMAND ..."
		}
		for line := range strings.Lines(cmd.Example) {
			p.examples = append(p.examples, strings.TrimSpace(line))
		}
		for _, o := range placedOptions(cmd.Name(), cmd.LocalNonPersistentFlags()) {
			if len(p.options[o.heading]) == 0 {
				p.headings = append(p.headings, o.heading)
			}
			row := optionRow(o.Flag)
			p.options[o.heading] = append(p.options[o.heading], manualOption{row[0], row[1], "unquil " + o.example(cmd.Name())})
		}
		pages = append(pages, p)
		for _, below := range cmd.Commands() {
			visit(below)
		}
	}
	visit(root)
	for _, o := range placedOptions("", root.PersistentFlags()) {
		row := optionRow(o.Flag)
		shared = append(shared, manualOption{row[0], row[1], ""})
	}
	return pages, shared
}

// WriteReference writes the reference of all commands, options and topics in Markdown. The error is that of w.
func WriteReference(w io.Writer) error {
	pages, shared := manualPages()
	var b strings.Builder
	fmt.Fprintf(&b, "# Reference\n\nMade by `go generate ./cmd/manual` from what the program says of itself: edit it there.\n\n"+
		"Examples with `--lab` run anywhere. Files below `lab` are those that `unquil lab export lab` writes.\n\n")
	for _, p := range pages {
		fmt.Fprintf(&b, "- [%s](#%s) – %s\n", p.path, strings.ReplaceAll(p.path, " ", "-"), p.short)
	}
	for _, p := range pages {
		fmt.Fprintf(&b, "\n## %s\n\n%s\n", p.path, p.short)
		if p.long != "" {
			fmt.Fprintf(&b, "\n%s\n", p.long)
		}
		fmt.Fprintf(&b, "\n```\n%s\n", p.call)
		for _, e := range p.examples {
			fmt.Fprintln(&b, e)
		}
		fmt.Fprintln(&b, "```")
		for _, h := range p.headings {
			fmt.Fprintf(&b, "\n%s:\n\n", strings.ToUpper(h[:1])+h[1:])
			for _, o := range p.options[h] {
				fmt.Fprintf(&b, "- `%s` – %s, as in `%s`\n", o.word, marked(o.says), o.example)
			}
		}
	}
	fmt.Fprintf(&b, "\n## Options of every command\n\n")
	for _, o := range shared {
		fmt.Fprintf(&b, "- `%s` – %s.\n", o.word, marked(o.says))
	}
	for _, t := range topics {
		fmt.Fprintf(&b, "\n## %s\n\n%s\n", strings.ToUpper(t.name[:1])+t.name[1:], marked(t.about))
		for _, text := range t.paragraphs {
			fmt.Fprintf(&b, "\n%s\n", marked(text))
		}
		if t.rows != nil {
			for _, list := range t.rows() {
				fmt.Fprintf(&b, "\n%s:\n\n", strings.ToUpper(list.Title[:1])+list.Title[1:])
				for _, row := range list.Rows {
					says := marked(row[1])
					if list.Title == "grammar" {
						says = "`" + row[1] + "`"
					}
					fmt.Fprintf(&b, "- `%s` – %s\n", row[0], says)
				}
			}
		}
		if len(t.examples) > 0 {
			fmt.Fprintf(&b, "\n```\n%s\n```\n", strings.Join(t.examples, "\n"))
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// marked keeps Markdown from reading signs in a text as its own.
func marked(text string) string {
	return strings.NewReplacer("<", "\\<", ">", "\\>", "*", "\\*", "|", "\\|", "_", "\\_").Replace(text)
}

// WriteManual writes a man page of each command to a folder. date is when the program was released, as in 9 March
// 2026. The error is that of a file.
func WriteManual(folder, date string) error {
	pages, shared := manualPages()
	for _, p := range pages {
		name := strings.ReplaceAll(p.path, " ", "-")
		if err := os.WriteFile(filepath.Join(folder, name+".1"), []byte(manOf(&p, shared, pages, date)), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// manOf is the man page of one command.
func manOf(p *manualPage, shared []manualOption, all []manualPage, date string) string {
	var b strings.Builder
	name := strings.ReplaceAll(p.path, " ", "-")
	section := func(title string) { fmt.Fprintf(&b, ".SH %s\n", strings.ToUpper(title)) }
	lines := func(commands []string) {
		for _, c := range commands {
			fmt.Fprintf(&b, ".nf\n.RS 4\n%s\n.RE\n.fi\n", roff(c))
		}
	}
	option := func(o manualOption) {
		fmt.Fprintf(&b, ".TP\n.B %s\n%s.\n", roff(o.word), roff(o.says))
		if o.example != "" {
			fmt.Fprintf(&b, ".br\nAs in: %s\n", roff(o.example))
		}
	}
	rows := func(rows [][2]string) {
		for _, row := range rows {
			fmt.Fprintf(&b, ".TP\n.B %s\n%s\n", roff(row[0]), roff(row[1]))
		}
	}
	fmt.Fprintf(&b, ".TH %s 1 \"%s\" \"unquil %s\"\n", strings.ToUpper(name), date, Release)
	section("name")
	fmt.Fprintf(&b, "%s \\- %s\n", roff(name), roff(strings.ToLower(p.short[:1])+strings.TrimSuffix(p.short[1:], "?")))
	section("synopsis")
	fmt.Fprintf(&b, ".B %s\n", roff(p.call))
	if p.long != "" {
		section("description")
		fmt.Fprintln(&b, roff(p.long))
	}
	if p.path == "unquil" {
		section("commands")
		for _, other := range all {
			if other.path != p.path {
				rows([][2]string{{other.path, other.short}})
			}
		}
	}
	if len(p.headings) > 0 {
		section("options")
		for _, h := range p.headings {
			fmt.Fprintf(&b, ".SS %s\n", roff(strings.ToUpper(h[:1])+h[1:]))
			for _, o := range p.options[h] {
				option(o)
			}
		}
	}
	section("options of every command")
	for _, o := range shared {
		option(o)
	}
	if p.path == "unquil decode" {
		section("conditions")
		for _, f := range conversation.Fields {
			rows([][2]string{{f.Name, f.Says + ": " + f.Example}})
		}
	}
	if len(p.examples) > 0 {
		section("examples")
		lines(p.examples)
	}
	section("exit status")
	rows(exitCodes)
	for _, t := range topics {
		if t.name == "configuration" {
			section("files")
			fmt.Fprintln(&b, roff(t.about))
			for _, list := range t.rows() {
				switch list.Title {
				case "settings":
					rows(list.Rows)
				case "environment":
					section("environment")
					rows(list.Rows)
				}
			}
		}
	}
	section("see also")
	var others []string
	for _, other := range all {
		if other.path != p.path {
			others = append(others, ".BR "+roff(strings.ReplaceAll(other.path, " ", "-"))+" (1)")
		}
	}
	fmt.Fprintln(&b, strings.Join(others, " ,\n"))
	return b.String()
}

// roff is text in which nothing is a request or an escape to who sets it.
func roff(text string) string {
	text = strings.NewReplacer("\\", "\\e", "-", "\\-").Replace(text)
	if strings.HasPrefix(text, ".") || strings.HasPrefix(text, "'") {
		text = "\\&" + text
	}
	return text
}
