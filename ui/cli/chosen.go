package cli

import (
	"encoding/csv"
	"net/netip"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"unquil/core/casework"
	"unquil/core/exchange"
)

// choices are the options of ask that a session can choose once, in the order in which the
// prompt tells them.
var choices = []string{"from", "type", "over", "wait", "attempts", "recursion", "dnssec", "checking-disabled", "client-subnet",
	"payload-size", "no-edns", "nsid", "cookie", "class", "source", "ipv4", "ipv6", "server-name", "ca", "get", "roots", "as-is", "follow", "zone-ttl", "owners", "show", "explain"}

// asker is a command that works with what is chosen.
type asker struct {
	takes   takes
	without []string // choices that mean something else to it
}

// takes is what a command is about.
type takes uint8

const (
	takesNames takes = iota
	takesOneName
	takesAddresses
)

// askers are the commands that work with what is chosen, and with marks. A walk begins at the
// root and not at a resolver, and what zone asks besides is no resolver either.
var askers = map[string]asker{
	"ask": {}, "compare": {}, "why": {}, "watch": {takes: takesOneName},
	"trace": {takesOneName, []string{"from", "over"}}, "zone": {takesOneName, []string{"from"}},
	"mail": {takes: takesOneName}, "transfer": {takesOneName, []string{"over"}}, "reverse": {takes: takesAddresses}, "owner": {},
}

// chosen is what a session has chosen: options of ask with their values.
type chosen map[string]string

// with are the options for a command: what is chosen, where the line does not say otherwise.
func (c chosen) with(cmd *cobra.Command) (words []string) {
	to, known := askers[cmd.Name()]
	if !known {
		return nil
	}
	for _, name := range choices {
		value, is := c[name]
		if f := cmd.Flags().Lookup(name); is && f != nil && !f.Changed && !slices.Contains(to.without, name) {
			words = append(words, "--"+name+"="+value)
		}
	}
	return words
}

// optionWords are the options of a command line that was read, each as one word.
func optionWords(flags *pflag.FlagSet) (words []string) {
	flags.VisitAll(func(f *pflag.Flag) {
		if !f.Changed {
			return
		}
		list, is := f.Value.(pflag.SliceValue)
		if !is {
			words = append(words, "--"+f.Name+"="+f.Value.String())
			return
		}
		for _, item := range list.GetSlice() {
			words = append(words, "--"+f.Name+"="+listItem(item))
		}
	})
	return words
}

// listItem is a word as one item of a list.
func listItem(word string) string {
	var b strings.Builder
	w := csv.NewWriter(&b)
	w.Write([]string{word})
	w.Flush()
	return strings.TrimSuffix(b.String(), "\n")
}

// serverWord is the word by which --from calls what a mark stands for, and the server that it
// then asks; one without an address has to be looked up.
func serverWord(m *casework.Marked) (word string, server exchange.Server) {
	switch {
	case m.Host.IsZero() && m.Server.Label != "":
		return m.Server.Name(), m.Server
	case m.Host.IsZero() && m.Server.Address.IsValid():
		return m.Addresses[0].String(), m.Server
	case m.Host.IsZero():
		server = exchange.Server{Address: netip.AddrPortFrom(m.Addresses[0], 53)}
		if !m.Of.IsZero() {
			server.Host = m.Of.String()
		}
		return m.Addresses[0].String(), server
	}
	word = m.Host.Spoken()
	if len(m.Addresses) == 0 {
		return word, exchange.Server{}
	}
	address := m.Addresses[0]
	if at := slices.IndexFunc(m.Addresses, netip.Addr.Is4); at >= 0 {
		address = m.Addresses[at]
	}
	return word, exchange.Server{Address: netip.AddrPortFrom(address, 53), Host: m.Host.String()}
}

// splitLine splits a line into words as a shell does: blanks part them, quotation marks hold
// them together, and a backslash in quotation marks stands for the mark behind it. What follows a # at the beginning of a word is a remark. The error
// is errQuote.
func splitLine(line string) (words []string, err error) {
	var word strings.Builder
	var quote rune
	begun, escaped := false, false
line:
	for _, r := range line {
		switch {
		case r == '#' && quote == 0 && !begun:
			break line // a remark
		case escaped:
			if r != quote && r != '\\' {
				word.WriteByte('\\')
			}
			word.WriteRune(r)
			escaped = false
		case quote != 0 && r == '\\':
			escaped = true
		case r == quote:
			quote = 0
		case quote == 0 && (r == '"' || r == '\''):
			quote, begun = r, true
		case quote == 0 && (r == ' ' || r == '\t'):
			if begun {
				words = append(words, word.String())
			}
			word.Reset()
			begun = false
		default:
			word.WriteRune(r)
			begun = true
		}
	}
	if quote != 0 {
		return nil, usage(errQuote)
	}
	if begun {
		words = append(words, word.String())
	}
	return words, nil
}
