package escape

import (
	"errors"
	"io"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatShows(t *testing.T) {
	for _, tt := range []struct{ name, given, of, lines, styled string }{
		{"letters stay, in any script", "hütte 山 é", "hütte 山 é", "hütte 山 é", "hütte 山 é"},
		{"an escape", "a\x1b]0;x\x07", `a\027]0;x\007`, `a\027]0;x\007`, `a\027]0;x\007`},
		{"a colour is a style", "\x1b[1;31mx\x1b[m", `\027[1;31mx\027[m`, `\027[1;31mx\027[m`, "\x1b[1;31mx\x1b[m"},
		{"no other sequence is", "\x1b[2J\x1b[31\x1b[?25l\x1b[35m", `\027[2J\027[31\027[?25l\027[35m`, `\027[2J\027[31\027[?25l\027[35m`, `\027[2J\027[31\027[?25l\027[35m`},
		{"line ends", "a\nb\r\tc", `a\010b\013\009c`, "a\nb\\013\tc", "a\nb\\013\tc"},
		{"turned direction", "a\u202eb\u2066", `a\226\128\174b\226\129\166`, `a\226\128\174b\226\129\166`, `a\226\128\174b\226\129\166`},
		{"no width", "a\u200bb\ufeff\u00ad\u115f\ufe0f", `a\226\128\139b\239\187\191\194\173\225\133\159\239\184\143`, `a\226\128\139b\239\187\191\194\173\225\133\159\239\184\143`, `a\226\128\139b\239\187\191\194\173\225\133\159\239\184\143`},
		{"bytes that are no letters", "a\xffb\x9b", `a\255b\155`, `a\255b\155`, `a\255b\155`},
	} {
		t.Run(tt.name, func(t *testing.T) {
			assert.Equal(t, tt.of, Of(tt.given).String())
			assert.Equal(t, tt.lines, Lines(tt.given))
			assert.Equal(t, tt.styled, Styled(tt.given))
		})
	}
}

func TestError(t *testing.T) {
	require.NoError(t, Error(nil))
	assert.Equal(t, io.EOF, Error(io.EOF))
	evil := errors.New("gone\nunquil: all is well")
	require.ErrorIs(t, Error(evil), evil)
	assert.Equal(t, `gone\010unquil: all is well`, Error(evil).Error())
}

// Whatever the bytes, what comes out shows, and to do it twice changes nothing.
func FuzzOf(f *testing.F) {
	f.Add("a\x1b[31m\u202e\xff\n")
	f.Fuzz(func(t *testing.T, s string) {
		out := string(Of(s))
		require.True(t, utf8.ValidString(out))
		require.Negative(t, strings.IndexFunc(out, func(r rune) bool { return !Shows(r) }))
		require.Equal(t, out, string(Of(out)))
		require.Equal(t, Styled(s), Styled(Styled(s)))
	})
}
