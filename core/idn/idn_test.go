package idn

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/wire"
)

func TestParseAndBack(t *testing.T) {
	for _, tt := range []struct{ name, typed, ascii, shown string }{
		{"ASCII stays as it is", "WWW.hollowtarn.example", "WWW.hollowtarn.example", ""},
		{"a service name", "_sip._tcp.hollowtarn.example", "_sip._tcp.hollowtarn.example", ""},
		{"letters beyond ASCII", "hütte.hollowtarn.example", "xn--htte-0ra.hollowtarn.example", "hütte.hollowtarn.example"},
		{"capitals are mapped", "HÜTTE.hollowtarn.example", "xn--htte-0ra.hollowtarn.example", "hütte.hollowtarn.example"},
		{"another script (RFC 3492 §7.1, sample I)", "почемужеонинеговорятпорусски.example", "xn--b1abfaaepdrnnbgefbadotcwatmq2g4l.example", "почемужеонинеговорятпорусски.example"},
		{"the ideographic full stop", "hütte。example", "xn--htte-0ra.example", "hütte.example"},
		{"an ASCII form as typed", "xn--htte-0ra.example", "xn--htte-0ra.example", "hütte.example"},
		{"what claims to be converted and is not", "xn--a.example", "xn--a.example", ""},
	} {
		t.Run(tt.name, func(t *testing.T) {
			name, err := Parse(tt.typed)
			require.NoError(t, err)
			assert.Equal(t, tt.ascii, name.Spoken())
			shown, ok := Unicode(name)
			assert.Equal(t, tt.shown != "", ok)
			assert.Equal(t, tt.shown, shown)
		})
	}
}

func TestNotAName(t *testing.T) {
	for _, bad := range []string{"hütte..example", "\u200bé.example\u202e", "\xff.example"} {
		_, err := Parse(bad)
		require.Error(t, err, "%q", bad)
	}
	_, ok := Unicode(wire.MustParseName(`xn--\027[31m.example`))
	assert.False(t, ok)
}

func FuzzParse(f *testing.F) {
	f.Add("hütte.hollowtarn.example")
	f.Fuzz(func(t *testing.T, typed string) {
		name, err := Parse(typed)
		if err != nil {
			return
		}
		if shown, ok := Unicode(name); ok {
			again, err := Parse(shown)
			require.NoError(t, err)
			require.True(t, again.Equal(name))
		}
	})
}

func TestRegistrable(t *testing.T) {
	for name, want := range map[string]string{"a.b.tarn.example.": "tarn.example.", "tarn.example.": "tarn.example.", "a.tarn.co.uk.": "tarn.co.uk.", "uk.": "uk."} {
		assert.Equal(t, want, Registrable(wire.MustParseName(name)).String())
	}
}
