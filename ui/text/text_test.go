package text

import (
	"bytes"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"

	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wording"
)

func TestWrap(t *testing.T) {
	for _, tt := range []struct {
		name, text string
		want       []string
	}{
		{"at spaces", "one two three", []string{"one two", "three"}},
		{"never at a hyphen", "a no-reply", []string{"a", "no-reply"}},
		{"what is too long anywhere", "0123456789ab cd", []string{"01234567", "89ab cd"}},
		{"colours take no room", "\x1b[1mone\x1b[0m two 3", []string{"\x1b[1mone\x1b[0m two", "3"}},
		{"nothing", "", []string{""}},
	} {
		assert.Equal(t, tt.want, wrap(tt.text, 8), tt.name)
	}
}

func TestColourIsTakenOutWhereItIsNotWanted(t *testing.T) {
	draw := func(colour Colour, environ ...string) string {
		var b bytes.Buffer
		v := New(&b, 80, colour, environ)
		v.Findings("what to note", []finding.Finding{finding.New(finding.NoReply, finding.Fault, finding.About{}, "It is silent.", 1, 2)})
		return b.String()
	}
	plain := draw(Never)
	assert.NotContains(t, plain, "\x1b")
	assert.Equal(t, plain, draw(Auto, "TERM=xterm-256color"), "a pipe is no terminal")
	assert.Contains(t, draw(Always), "\x1b[")
	assert.Equal(t, plain, ansi.Strip(draw(Always)), "colour says nothing that the words do not")
	assert.Contains(t, plain, "fault        It is silent.")
	assert.Contains(t, plain, "evidence: exchanges 1, 2")
}

func TestSayings(t *testing.T) {
	assert.Equal(t, "41 min 20 s (2480)", Seconds(2480))
	assert.Equal(t, "30 s", Seconds(30))
	for d, want := range map[time.Duration]string{400 * time.Microsecond: "0.4 ms", 31 * time.Millisecond: "31 ms", 2400 * time.Millisecond: "2.4 s", 58 * time.Second: "58 s"} {
		assert.Equal(t, want, wording.Span(d))
	}
	assert.Equal(t, "failed (BADCOOKIE)", exchange.Outcome("badcookie").Words())
	for _, outcome := range exchange.Outcomes {
		assert.NotContains(t, outcome.Words(), "failed (", outcome)
	}
}
