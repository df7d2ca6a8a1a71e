package cli

import (
	"context"
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"unquil/core/escape"
	"unquil/core/wire"
)

// named has a command take names the way people paste them: least to most of them.
func (a *app) named(cmd *cobra.Command, least, most int) *cobra.Command {
	run := cmd.RunE
	cmd.Args = cobra.ArbitraryArgs
	cmd.RunE = func(cmd *cobra.Command, words []string) error {
		names, err := a.pasted(cmd, words)
		if err == nil {
			names, err = a.withListed(cmd.Context(), names)
		}
		if err == nil {
			err = taking(least, most)(cmd, names)
		}
		if err == nil && a.saves() {
			err = a.beginSaving()
		}
		if err != nil {
			return err
		}
		if err = run(cmd, names); a.saves() {
			err = a.endSaving(cmd.Name(), err)
		}
		return err
	}
	a.saveFlags(cmd)
	return cmd
}

// pasted are the names in words as they were pasted: a URL, a mailbox, an address, and a type behind a name are
// understood, and it is told what was made of them.
func (a *app) pasted(cmd *cobra.Command, words []string) (names []string, err error) {
	typed := cmd.Flags().Lookup("type")
	var types []string
	for _, word := range words {
		for _, part := range cleaned(word) {
			if typed != nil && !typed.Changed && len(names) > 0 && isType(part) {
				types = append(types, part)
				continue
			}
			name, says := a.nameIn(cmd, part)
			if says != "" {
				fmt.Fprintf(a.stderr, "unquil: %s: %s\n", escape.Of(shorten(part)), escape.Of(says))
			}
			names = append(names, name)
		}
	}
	reverse := 0
	for i, name := range names {
		if cmd.Name() == "why" {
			break // which knows what to make of an address
		}
		if address, bad := netip.ParseAddr(name); bad == nil {
			if typed == nil {
				return nil, usage(fmt.Errorf("%s: %w", address, errIsAddress))
			}
			of, _ := wire.ReverseName(address.WithZone("").Unmap().String()) // which it has
			names[i] = of.Spoken()
			fmt.Fprintf(a.stderr, "unquil: %s is an address: its reverse name is asked for, type PTR\n", escape.Of(name))
			reverse++
		}
	}
	if reverse > 0 && !typed.Changed && len(types) == 0 {
		if reverse < len(names) {
			return nil, usage(fmt.Errorf("%w together with names", errIsAddress))
		}
		return names, typed.Value.Set("PTR")
	}
	if len(types) > 0 {
		fmt.Fprintf(a.stderr, "unquil: %s behind a name is taken as the type to ask for, as with --type\n", strings.ToUpper(strings.Join(types, ",")))
		if err = typed.Value.Set(strings.Join(types, ",")); err == nil {
			typed.Changed = true
		}
	}
	return names, err
}

// listFlag adds --names to a command that looks up all of its names together.
func (a *app) listFlag(cmd *cobra.Command, what string) {
	cmd.Flags().StringVar(&a.list, "names", "", "also the "+what+" in `FILE`, one per line; - is standard input")
}

// mostListed is how many names a list may have whose names are looked up together.
const mostListed = 10_000

// withListed adds what the file that --names names lists.
func (a *app) withListed(ctx context.Context, given []string) ([]string, error) {
	if a.list == "" {
		return given, nil
	}
	a.files.Note(a.list)
	file, err := a.files.Open(a.list)
	if err != nil {
		return nil, fmt.Errorf("reading names: %w", err)
	}
	defer file.Close()
	for name, err := range joinNames(func(func(string, error) bool) {}, linesOf(ctx, file)) {
		switch {
		case err != nil:
			return nil, fmt.Errorf("reading %s: %w", a.list, err)
		case len(given) == mostListed:
			return nil, usage(fmt.Errorf("%s: %w", a.list, errLongList))
		}
		given = append(given, name)
	}
	return given, nil
}

// cleaned are the words in one that was pasted, without the blanks, brackets, quotes and commas around them.
func cleaned(word string) []string {
	var parts []string
	for part := range strings.FieldsSeq(word) {
		if part = strings.Trim(part, `"'<>,;`); part != "" {
			parts = append(parts, part)
		}
	}
	if len(parts) == 0 {
		return []string{word} // the error tells of it
	}
	return parts
}

// isType reports whether a word is the mnemonic of a type, and so hardly a name.
func isType(word string) bool {
	_, err := wire.ParseType(word)
	return err == nil && !strings.ContainsAny(word, ".")
}

// nameIn is the name in a word, and what is to be said of what was left out; "" where nothing was.
func (a *app) nameIn(cmd *cobra.Command, word string) (name, says string) {
	if u, err := url.Parse(word); strings.Contains(word, "://") && err == nil && u.Hostname() != "" {
		return u.Hostname(), "the host " + u.Hostname() + " is taken from this URL"
	}
	if at := strings.LastIndexByte(word, '@'); at > 0 && word[at-1] != '\\' && strings.Contains(word[at:], ".") {
		says = "the domain of this mailbox is taken"
		if cmd.Name() != "mail" {
			says += "; unquil mail " + word[at+1:] + " tells about its mail"
		}
		return word[at+1:], says
	}
	if host, port := cutPort(word); port != "" {
		return host, "the port is left out"
	} else if host != word {
		return host, ""
	}
	if host, rest, ok := strings.Cut(word, "/"); ok && strings.Contains(host, ".") && !strings.HasSuffix(strings.TrimSuffix(strings.ToLower(word), "."), ".arpa") {
		return strings.SplitN(host, ":", 2)[0], "only the host is taken, without " + strconv.Quote("/"+rest)
	}
	return word, ""
}

// cutPort is a host or an address without its brackets and the port behind it; "" where there is none.
func cutPort(word string) (host, port string) {
	if end, err := netip.ParseAddrPort(word); err == nil {
		return end.Addr().String(), fmt.Sprint(end.Port())
	}
	bare := strings.Trim(word, "[]")
	if _, err := netip.ParseAddr(bare); err == nil {
		return bare, ""
	}
	if host, port, ok := strings.Cut(word, ":"); ok && strings.Trim(port, "0123456789") == "" {
		return host, port
	}
	return word, ""
}

// serverIn is a server as --from takes it, in a word that has its port behind a colon or an address in brackets. It is
// told what was made of it.
func (a *app) serverIn(word string) string {
	taken, port := cutPort(word)
	if !strings.ContainsAny(taken, ".:") {
		return word // a label, which has no port
	}
	if port != "" {
		taken += "#" + port
	}
	if taken != word {
		fmt.Fprintf(a.stderr, "unquil: %s is taken as %s\n", escape.Of(shorten(word)), escape.Of(taken))
	}
	return taken
}

// optionNames are the options that a command has, without their dashes.
func optionNames(cmd *cobra.Command) (all []string) {
	for _, set := range []*pflag.FlagSet{cmd.LocalNonPersistentFlags(), cmd.Root().PersistentFlags()} {
		set.VisitAll(func(f *pflag.Flag) {
			if !f.Hidden {
				all = append(all, f.Name)
			}
		})
	}
	slices.Sort(all)
	return all
}
