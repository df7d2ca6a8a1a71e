package cli

import (
	"bytes"
	"cmp"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/ui/files"
)

// eachCommand calls visit with every command that does something.
func eachCommand(root *cobra.Command, visit func(*cobra.Command)) {
	for _, cmd := range root.Commands() {
		if !cmd.Hidden && cmd.Name() != "help" {
			visit(cmd)
			eachCommand(cmd, visit)
		}
	}
}

// Every option of every command is under a heading with an example, and the example is a command line that has it.
func TestOptionsAreExplained(t *testing.T) {
	stands, used := map[string]bool{}, map[string]bool{}
	eachCommand(newRoot(&app{files: &files.Files{}}), func(cmd *cobra.Command) {
		for _, p := range placedOptions(cmd.Name(), cmd.LocalNonPersistentFlags()) {
			assert.NotEqual(t, "other", p.heading, "%s --%s", cmd.CommandPath(), p.Name)
			stands[p.option.name], used[cmd.Name()] = true, true
			line := p.example(cmd.Name())
			words, err := splitLine(line)
			require.NoError(t, err)
			found, rest, err := newRoot(&app{files: &files.Files{}}).Find(words)
			require.NoError(t, err)
			assert.Equal(t, cmd.CommandPath(), found.CommandPath(), line)
			require.NoError(t, found.ParseFlags(rest), line)
			assert.True(t, found.Flags().Changed(p.Name), "%s has no --%s", line, p.Name)
		}
	})
	for _, h := range headings {
		for _, o := range h.options {
			assert.True(t, stands[o.name], "no command has --%s", o.name)
		}
	}
	for command := range examples {
		assert.True(t, used[command], "no command of that name has options: %s", command)
	}
}

// Shells complete what options and commands take, the last part of a list too.
func TestCompletion(t *testing.T) {
	for line, want := range map[string][]string{
		"ask --type AA":                              {"AAAA"},
		"ask --type A,MX,TL":                         {"A,MX,TLSA"},
		"ask --lab --from off":                       {"office"},
		"ask --lab --from isp,off":                   {"isp,office"},
		"ask --over t":                               {"tcp", "tls"},
		"decode --outcome server":                    {"server-failure"},
		"decode --finding slow":                      {"slow"},
		"decode --lab valley":                        {"valley-morning.cdns", "valley-morning.dnstap", "valley-morning.pcapng"},
		"decode --view ser":                          {"servers"},
		"local --lab --lab-machine two":              {"two-lines"},
		"ask --lab --lab-path seal":                  {"sealed"},
		"why --lab hollow":                           {"hollowtarn.example"},
		"findings unans":                             {"unanswered"},
		"help cond":                                  {"conditions"},
		"completion z":                               {"zsh"},
		"ask --color al":                             {"always"},
		"decode --signed b":                          {"bogus"},
		"tra":                                        {"trace", "transfer"},
		"ask --config complete_test_folder/nowhere ": nil,
	} {
		var stdout, stderr bytes.Buffer
		words := strings.Split(line, " ")
		code := Main(context.Background(), append([]string{"__completeNoDesc"}, words...), &stdout, &stderr, []string{"HOME=" + t.TempDir()})
		require.Zero(t, code, line)
		lines := strings.Split(strings.TrimSpace(stdout.String()), "\n")
		assert.ElementsMatch(t, want, lines[:len(lines)-1], line) // the last one is for the shell
	}
}

// What people paste is understood, and what was made of it is told.
func TestPasted(t *testing.T) {
	for line, want := range map[string]struct {
		names []string
		types string
		says  string
	}{
		"www.hollowtarn.example":                    {[]string{"www.hollowtarn.example"}, "", ""},
		"https://www.hollowtarn.example:8443/a?b=c": {[]string{"www.hollowtarn.example"}, "", "the host www.hollowtarn.example is taken from this URL"},
		"<office@hollowtarn.example>":               {[]string{"hollowtarn.example"}, "", "unquil mail hollowtarn.example tells"},
		`"www.hollowtarn.example",`:                 {[]string{"www.hollowtarn.example"}, "", ""},
		"www.hollowtarn.example:443":                {[]string{"www.hollowtarn.example"}, "", "the port is left out"},
		"www.hollowtarn.example/timetable":          {[]string{"www.hollowtarn.example"}, "", `without "/timetable"`},
		"www.hollowtarn.example mx":                 {[]string{"www.hollowtarn.example"}, "mx", "MX behind a name"},
		"www.hollowtarn.example A AAAA":             {[]string{"www.hollowtarn.example"}, "A,AAAA", "A,AAAA behind a name"},
		"a.example b.example":                       {[]string{"a.example", "b.example"}, "", ""},
		"mx":                                        {[]string{"mx"}, "", ""},
		"192.0.2.10":                                {[]string{"10.2.0.192.in-addr.arpa"}, "PTR", "type PTR"},
		"[2001:db8::1]:53":                          {[]string{"1.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.8.b.d.0.1.0.0.2.ip6.arpa"}, "PTR", "the port is left out"},
		"1.0/25.2.0.192.in-addr.arpa":               {[]string{"1.0/25.2.0.192.in-addr.arpa"}, "", ""},
		`office\@north.hollowtarn.example a\@b.c`:   {[]string{`office\@north.hollowtarn.example`, `a\@b.c`}, "", ""},
		"_25._tcp.mx1.hollowtarn.example TLSA":      {[]string{"_25._tcp.mx1.hollowtarn.example"}, "TLSA", "TLSA"},
	} {
		var types []string
		var stderr bytes.Buffer
		cmd := &cobra.Command{Use: "ask"}
		cmd.Flags().StringSliceVar(&types, "type", nil, "")
		names, err := (&app{stderr: &stderr}).pasted(cmd, strings.Split(line, " "))
		require.NoError(t, err, line)
		assert.Equal(t, want.names, names, line)
		assert.Equal(t, want.types, strings.Join(types, ","), line)
		assert.Contains(t, stderr.String(), want.says)
		assert.Equal(t, want.says == "", stderr.Len() == 0, stderr.String())
	}
	for word, want := range map[string]string{
		"192.0.2.53:5353": "192.0.2.53#5353", "[2001:db8::53]:53": "2001:db8::53#53", "[2001:db8::53]": "2001:db8::53", "dns1.hollowtarn.example:53": "dns1.hollowtarn.example#53",
		"2001:db8::53": "", "tls://192.0.2.53:853": "", "192.0.2.53#53": "", "office": "", "office:53": "", "192.0.2.53:x": "",
	} {
		var stderr bytes.Buffer
		got := (&app{stderr: &stderr}).serverIn(word)
		assert.Equal(t, cmp.Or(want, word), got)
		assert.Equal(t, want != "", strings.Contains(stderr.String(), "is taken as"), word)
	}
	_, err := (&app{stderr: &bytes.Buffer{}}).pasted(&cobra.Command{Use: "zone"}, []string{"192.0.2.1"})
	require.ErrorIs(t, err, errIsAddress)
	cmd := &cobra.Command{Use: "ask"}
	cmd.Flags().AddFlag(&pflag.Flag{Name: "type", Value: newAsk(&app{}).Flag("type").Value})
	_, err = (&app{stderr: &bytes.Buffer{}}).pasted(cmd, []string{"192.0.2.1", "a.example"})
	require.ErrorIs(t, err, errIsAddress)
}

// The reference is what the program says of itself now.
func TestReferenceIsCurrent(t *testing.T) {
	var now bytes.Buffer
	require.NoError(t, WriteReference(&now))
	kept, err := os.ReadFile("../../docs/reference.md")
	require.NoError(t, err)
	assert.Equal(t, string(kept), now.String(), "run go generate ./cmd/manual, and read the difference")
}

// Each command has a man page that is set without a complaint, where there is something to set it.
func TestManual(t *testing.T) {
	folder := t.TempDir()
	require.NoError(t, WriteManual(folder, "9 March 2026"))
	pages, err := filepath.Glob(filepath.Join(folder, "*.1"))
	require.NoError(t, err)
	assert.Greater(t, len(pages), 18)
	text, err := os.ReadFile(filepath.Join(folder, "unquil-decode.1"))
	require.NoError(t, err)
	for _, part := range []string{".TH UNQUIL-DECODE 1", ".SH SYNOPSIS", "\\-\\-where CONDITION", ".SH EXIT STATUS", ".SH FILES", ".SH ENVIRONMENT", "took > 200ms"} {
		assert.Contains(t, string(text), part)
	}
	setter, err := exec.LookPath("groff")
	if err != nil {
		t.Log("groff is not here: how the pages are set is not tried")
		return
	}
	for _, page := range pages {
		out, err := exec.Command(setter, "-man", "-Tutf8", "-ww", page).CombinedOutput()
		require.NoError(t, err)
		assert.NotContains(t, string(out), "warning", page)
	}
}
