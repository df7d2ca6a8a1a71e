package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/wire"
	"unquil/ui/files"
	"unquil/ui/text"
)

func TestAddressRanges(t *testing.T) {
	for _, tt := range []struct {
		words []string
		count int
		alone bool
		err   error
	}{
		{[]string{"192.0.2.1"}, 1, true, nil},
		{[]string{"192.0.2.1", "2001:DB8::1"}, 2, true, nil},
		{[]string{"::ffff:192.0.2.1"}, 1, true, nil},
		{[]string{"192.0.2.77/30"}, 4, false, nil},
		{[]string{"192.0.2.1/32"}, 1, true, nil},
		{[]string{"2001:db8::/112", "192.0.2.1"}, 0, false, errWide},
		{[]string{"192.0.0.0/16"}, 65536, false, nil},
		{[]string{"192.0.0.0/15"}, 0, false, errWide},
		{[]string{"::/0"}, 0, false, errWide},
		{[]string{"tarn"}, 0, false, errPrefix},
		{[]string{"192.0.2.1/33"}, 0, false, errPrefix},
	} {
		ranges, alone, err := addressRanges(tt.words)
		require.ErrorIs(t, err, tt.err, "%v", tt.words)
		if err != nil {
			require.ErrorAs(t, err, new(usageError))
			continue
		}
		assert.Equal(t, tt.alone, alone, "%v", tt.words)
		assert.Len(t, slices.Collect(each(ranges)), tt.count, "%v", tt.words)
	}
	last, _, err := addressRanges([]string{"255.255.255.254/31"})
	require.NoError(t, err)
	assert.Len(t, slices.Collect(each(last)), 2, "the last address has no next")
}

func TestParts(t *testing.T) {
	usual, err := parts(nil, false)
	require.NoError(t, err)
	assert.Equal(t, text.Parts{"answer": true, "timing": true, "authority": false, "additional": false, "question": false, "header": false}, usual)
	all, err := parts(nil, true)
	require.NoError(t, err)
	for part, shown := range all {
		assert.True(t, shown, part)
	}
	some, err := parts([]string{"header"}, false)
	require.NoError(t, err)
	assert.True(t, some["header"] && !some["answer"])
	_, err = parts([]string{"tail"}, false)
	require.ErrorIs(t, err, errPart)
}

func TestGroupsInGroups(t *testing.T) {
	c := config{Group: map[string][]string{"all": {"near", "far"}, "near": {"office"}, "far": {"isp", "public"}, "circle": {"circle", "office"}}}
	assert.Equal(t, []string{"office", "isp", "public", "192.0.2.1"}, c.expand([]string{"all", "192.0.2.1"}, 0))
	assert.LessOrEqual(t, len(c.expand([]string{"circle"}, 0)), maxNesting+1, "a group that names itself ends")
}

func TestNamesFromAFile(t *testing.T) {
	given := func(yield func(string, error) bool) { yield("first.example", nil) }
	var names []string
	for name, err := range joinNames(given, linesOf(t.Context(), strings.NewReader("# a list\nsecond.example # remark\n\n  third.example\t\n"))) {
		require.NoError(t, err)
		names = append(names, name)
	}
	assert.Equal(t, []string{"first.example", "second.example", "third.example"}, names)
	var failed error
	for _, err := range joinNames(given, linesOf(t.Context(), strings.NewReader(strings.Repeat("x", 1<<20)))) {
		failed = errors.Join(failed, err)
	}
	require.Error(t, failed, "a line without end is no name")
}

// Somebody who types names is not waited for when the run ends.
func TestNamesEndWithTheRun(t *testing.T) {
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	in, typed := io.Pipe()
	defer typed.Close()
	go typed.Write([]byte("first.example\n"))
	var names []string
	for name := range linesOf(ctx, in) {
		names = append(names, name)
		stop()
	}
	assert.Equal(t, []string{"first.example"}, names)
}

func TestSplitLine(t *testing.T) {
	for line, want := range map[string][]string{
		"ask  www.example\t--type mx":   {"ask", "www.example", "--type", "mx"},
		`note "the caller's old shop"`:  {"note", "the caller's old shop"},
		`decode --where 'name = "x"' f`: {"decode", "--where", `name = "x"`, "f"},
		`note "a \"b\" \c"`:             {"note", `a "b" \c`},
		`a\.b.example`:                  {`a\.b.example`},
		`note ""`:                       {"note", ""},
		"":                              nil,
	} {
		words, err := splitLine(line)
		require.NoError(t, err, line)
		assert.Equal(t, want, words, line)
	}
	_, err := splitLine(`note "open`)
	assert.ErrorIs(t, err, errQuote)
}

func TestSlips(t *testing.T) {
	for pair, want := range map[[2]string]int{{"trcae", "trace"}: 1, {"trace", "trace"}: 0, {"comprae", "compare"}: 1, {"zome", "zone"}: 1, {"", "ask"}: 3, {"office", "of"}: 4} {
		assert.Equal(t, want, distance(pair[0], pair[1]), pair)
		assert.Equal(t, want, distance(pair[1], pair[0]), pair)
	}
}

// An error is told in one sentence, with what to try next where that is known.
func TestTell(t *testing.T) {
	for _, tt := range []struct {
		err  error
		want string
	}{
		{fmt.Errorf("reading a.pcap: %w", capture.ErrFormat), "unquil: reading a.pcap: neither a capture nor a server's record\nnext: give a file in pcap, pcapng, dnstap or C-DNS\n"},
		{usage(fmt.Errorf("name %q: %w", "a..b", wire.ErrLabelEmpty)), "unquil: name \"a..b\": empty label\nnext: there must be something between two dots\n"},
		{usage(errors.New("unknown flag: --tarn")), "unquil: unknown flag: --tarn\nnext: unquil --help lists the commands and their options\n"},
		{fmt.Errorf("reading: %w", fs.ErrPermission), "unquil: reading: permission denied\nnext: ask for a copy that you may read\n"},
		{errors.New("something else"), "unquil: something else\n"},
	} {
		var out bytes.Buffer
		tell(&out, tt.err)
		assert.Equal(t, tt.want, out.String())
	}
}

// Each row of the advice is what is said of its error, wrapped or not, and stands in nobody
// else's way.
func TestEveryAdvice(t *testing.T) {
	for i, a := range advice {
		var out bytes.Buffer
		tell(&out, fmt.Errorf("reading a.pcap: %w", a.is))
		assert.Equal(t, fmt.Sprintf("unquil: reading a.pcap: %v\nnext: %s\n", a.is, a.next), out.String())
		assert.NotRegexp(t, `^[A-Z]|\.$|\n`, a.next, "part of a line")
		for _, earlier := range advice[:i] {
			assert.False(t, errors.Is(a.is, earlier.is), "%v hides %v", earlier.is, a.is)
		}
	}
}

func TestOnlyFaults(t *testing.T) {
	other := errors.New("other")
	assert.True(t, onlyFaults(errFault))
	assert.True(t, onlyFaults(errors.Join(errFault, errFault)))
	assert.False(t, onlyFaults(errors.Join(errFault, other)), "what could not be done counts more than what was found")
	assert.False(t, onlyFaults(other))
	assert.Equal(t, other, firstOf(nil, other, errFault))
}

// Every command has a short text that is a question or says what it is, an
// example or a use, and help that fits a terminal and names what each option takes.
func TestHelpOfEveryCommand(t *testing.T) {
	root := newRoot(&app{files: &files.Files{}})
	for _, cmd := range root.Commands() {
		if cmd.Hidden {
			continue // it is not for people
		}
		assert.NotEmpty(t, cmd.Short, cmd.Name())
		var stdout, stderr bytes.Buffer
		code := Main(context.Background(), []string{cmd.Name(), "--help"}, &stdout, &stderr, []string{"HOME=" + t.TempDir(), "COLUMNS=80"})
		assert.Zero(t, code)
		assert.Contains(t, strings.Join(strings.Fields(stdout.String()), " "), cmp.Or(cmd.Long, cmd.Short))
		assert.Empty(t, stderr.String())
		for line := range strings.Lines(stdout.String()) {
			assert.LessOrEqual(t, len(strings.TrimRight(line, "\n")), 80, line)
		}
		cmd.Flags().VisitAll(func(f *pflag.Flag) {
			if f.Name != "help" {
				assert.Contains(t, stdout.String(), "\n  --"+f.Name, cmd.Name())
				assert.True(t, f.Value.Type() == "bool" || strings.Contains(f.Usage, "`") || placeholders[f.Value.Type()] != "", "what %s --%s takes", cmd.Name(), f.Name)
			}
		})
	}
}

// What is no command is said to be none, with those that are nearly it; what a command
// lacks, in the words of its help.
func TestNoSuchCommand(t *testing.T) {
	for _, tt := range []struct{ line, says string }{
		{"aks", "unquil: unquil aks: there is no such command; did you mean ask?\nnext: unquil --help lists the commands\n"},
		{"zebra", "unquil: unquil zebra: there is no such command\nnext: unquil --help lists the commands\n"},
		{"lab shwo", "unquil: unquil lab shwo: there is no such command; did you mean show?\nnext: unquil --help lists the commands\n"},
		{"help zon", "unquil: unquil zon: there is no such command; did you mean zone?\nnext: unquil --help lists the commands\n"},
		{"trace", "unquil: unquil trace: missing argument: usage: unquil trace NAME [OPTION ...]\nnext: unquil --help lists the commands and their options\n"},
		{"completion tcsh", "unquil: \"tcsh\": no script for this shell\nnext: give bash, fish, powershell or zsh\n"},
	} {
		var stdout, stderr bytes.Buffer
		assert.Equal(t, exitUsage, Main(context.Background(), strings.Fields(tt.line), &stdout, &stderr, []string{"HOME=" + t.TempDir()}), tt.line)
		assert.Equal(t, tt.says, stderr.String())
		assert.Empty(t, stdout.String())
	}
	for _, shell := range shells {
		var stdout, stderr bytes.Buffer
		assert.Equal(t, exitDone, Main(context.Background(), []string{"completion", shell.name}, &stdout, &stderr, []string{"HOME=" + t.TempDir()}), shell.name)
		assert.Contains(t, stdout.String(), "unquil")
	}
}

// A command that is shown can be typed: a shell reads back the words that it was made of.
func TestQuotedWordsReadBack(t *testing.T) {
	words := []string{"unquil", "monday.pcapng", "tls://[2001:db8::53]#8853", "two words", "it's", "", "#1", "*.example", `a\b`, "~", "$HOME", "hütte.example", `took > 0.2 && id == "7"`}
	shell, err := exec.LookPath("sh")
	if err != nil {
		t.Skip("no shell here")
	}
	out, err := exec.Command(shell, "-c", "printf '%s\\n' "+text.Shell(words...)).Output()
	require.NoError(t, err)
	assert.Equal(t, strings.Join(words, "\n")+"\n", string(out))
	assert.Equal(t, "monday.pcapng 192.0.2.53#5353 A,AAAA", text.Shell("monday.pcapng", "192.0.2.53#5353", "A,AAAA"), "what needs no quotes has none")
}
