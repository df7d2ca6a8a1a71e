package text

import (
	"bytes"
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/conversation"
	"unquil/lab"
)

func readCapture(t *testing.T, file string) *conversation.Overview {
	f, err := lab.Captures().Open(file)
	require.NoError(t, err)
	defer f.Close()
	r, err := capture.NewReader(f)
	require.NoError(t, err)
	o, err := conversation.Read(t.Context(), []*capture.Reader{r}, conversation.Options{})
	require.NoError(t, err)
	return o
}

// lookAt is all packets of a capture of the lab, but for those that go round in it.
func lookAt(t *testing.T, file string) map[int]*conversation.WholePacket {
	f, err := lab.Captures().Open(file)
	require.NoError(t, err)
	defer f.Close()
	r, err := capture.NewReader(f)
	require.NoError(t, err)
	all := make([]int, 100)
	for i := range all {
		all[i] = i + 1
	}
	looks, err := conversation.WholePackets(all, []*capture.Reader{r}, nil)
	require.NoError(t, err)
	return looks
}

// Every view of every capture keeps to the width, ends no line in blanks, and says
// without colour what it says with it.
func TestCaptureViewsKeepToTheWidth(t *testing.T) {
	views := map[string]func(*View, *conversation.Overview){
		"overview": func(v *View, o *conversation.Overview) { v.Overview("file", "unquil decode file", o) }, "exchanges": (*View).Exchanges, "names": (*View).Names, "servers": (*View).Servers,
		"clients": (*View).Clients, "episodes": (*View).Episodes, "walks": (*View).Paths, "local-link": (*View).LocalLink, "timeline": (*View).Timeline,
	}
	for _, file := range []string{"valley-morning.pcapng", "resolver-uplink.pcap", "loop.pcap", "mangled.pcapng"} {
		o, looks := readCapture(t, file), lookAt(t, file)
		views["exchanges whole"] = func(v *View, o *conversation.Overview) {
			for i := range o.Kept {
				v.WholeExchange(&o.Kept[i], o, looks)
			}
		}
		views["packets whole"] = func(v *View, o *conversation.Overview) {
			for n := range len(looks) {
				v.Packet(looks[n+1], nil, true)
			}
		}
		for name, draw := range views {
			for _, width := range []int{80, 100, 120} {
				var plain, coloured bytes.Buffer
				draw(New(&plain, width, Never, nil), o)
				draw(New(&coloured, width, Always, nil), o)
				assert.Equal(t, plain.String(), ansi.Strip(coloured.String()), "%s of %s", name, file)
				for line := range strings.SplitSeq(plain.String(), "\n") {
					assert.LessOrEqual(t, ansi.StringWidth(line), width, "%s of %s at %d: %q", name, file, width, line)
					assert.Equal(t, strings.TrimRight(line, " "), line)
				}
			}
		}
	}
}

func TestLatencyBars(t *testing.T) {
	assert.Equal(t, "█·······", latencyBars([8]int{9}))
	assert.Equal(t, "▄█······", latencyBars([8]int{5, 10}))
	assert.Equal(t, "▁······█", latencyBars([8]int{1, 0, 0, 0, 0, 0, 0, 1000}))
}

// Columns of a histogram are as high as their share of the highest.
func TestHistogramColumns(t *testing.T) {
	var b bytes.Buffer
	v := New(&b, 80, Never, nil)
	v.histogram("asked", []int{0, 1, 2, 4}, 2, func(s ...string) string { return strings.Join(s, "") })
	lines := strings.Split(strings.TrimRight(b.String(), "\n"), "\n")
	assert.Equal(t, []string{"asked      █", "≤ 4     ·▄██"}, lines)
	b.Reset()
	v.histogram("failed", []int{0, 0}, 2, func(s ...string) string { return strings.Join(s, "") })
	assert.Contains(t, b.String(), "none")
}

// A screen has the lines that matter and the first ones, and says how many more there were.
func TestScreen(t *testing.T) {
	for _, tt := range []struct {
		most    int
		matters []string
		want    string
	}{
		{0, nil, "one two three four \x1b[1mfi\x1b[0mve six seven"},
		{7, nil, "one two three four \x1b[1mfi\x1b[0mve six seven "},
		{2, nil, "one two … and 5 more lines "},
		{6, nil, "one two three four \x1b[1mfi\x1b[0mve six … and 1 more line "},
		{3, []string{"five"}, "one … \x1b[1mfi\x1b[0mve … and 5 more lines "},
		{4, []string{"five", "seven"}, "… \x1b[1mfi\x1b[0mve six seven … and 4 more lines "},
		{5, []string{"three"}, "one two three four \x1b[1mfi\x1b[0mve … and 2 more lines "},
		{1, []string{"two", "six"}, "one two … six … and 4 more lines "}, // what matters is never left out
	} {
		var b strings.Builder
		s := &Screen{W: &b, Most: tt.most, Matters: tt.matters}
		for _, part := range []string{"o", "ne\ntw", "o\nthree\nfour\n\x1b[1mfi\x1b[0mve\nsix\nseven"} {
			n, err := s.Write([]byte(part))
			assert.NoError(t, err)
			assert.Equal(t, len(part), n)
		}
		assert.NoError(t, s.Close())
		assert.Equal(t, tt.want, strings.ReplaceAll(b.String(), "\n", " "), "%d %v", tt.most, tt.matters)
	}
}
