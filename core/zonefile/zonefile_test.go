package zonefile

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/wire"
)

func read(text string) (lines []string, err error) {
	records, err := Read(strings.NewReader(text), Options{File: "tarn.zone", Origin: wire.MustParseName("hollowtarn.example")})
	for _, r := range records {
		lines = append(lines, r.String())
	}
	return lines, err
}

func TestRead(t *testing.T) {
	for _, tt := range []struct {
		name, text string
		want       []string
	}{
		{"names without a final dot hang from the origin", "www 60 IN A 192.0.2.1\n", []string{"www.hollowtarn.example. 60 IN A 192.0.2.1"}},
		{"a blank owner is the one before", "$TTL 1h\nwww A 192.0.2.1\n\tA 192.0.2.2\n", []string{"www.hollowtarn.example. 3600 IN A 192.0.2.1", "www.hollowtarn.example. 3600 IN A 192.0.2.2"}},
		{"@ is the origin", "$ORIGIN north\n@ 60 A 192.0.2.1\n", []string{"north.hollowtarn.example. 60 IN A 192.0.2.1"}},
		{"class and TTL come in either order", "a 60 IN A 192.0.2.1\nb IN 60 A 192.0.2.1\n", []string{"a.hollowtarn.example. 60 IN A 192.0.2.1", "b.hollowtarn.example. 60 IN A 192.0.2.1"}},
		{"parentheses join lines, comments end them", "@ 60 SOA dns1 host ( ; begins\n 1 2 ;two\n 3 4 5 ) ; ends\n", []string{"hollowtarn.example. 60 IN SOA dns1.hollowtarn.example. host.hollowtarn.example. 1 2 3 4 5"}},
		{"without a TTL an SOA's minimum holds", "@ SOA a b 1 2 3 4 5m\nwww A 192.0.2.1\n", []string{"hollowtarn.example. 300 IN SOA a.hollowtarn.example. b.hollowtarn.example. 1 2 3 4 300", "www.hollowtarn.example. 300 IN A 192.0.2.1"}},
		{"a stated TTL holds on without $TTL", "a 60 A 192.0.2.1\nb A 192.0.2.1\n", []string{"a.hollowtarn.example. 60 IN A 192.0.2.1", "b.hollowtarn.example. 60 IN A 192.0.2.1"}},
		{"quotes keep blanks and semicolons", "a 60 TXT \"one; two\" three \"\"\n", []string{`a.hollowtarn.example. 60 IN TXT "one; two" "three" ""`}},
		{"a string over several lines", "a 60 TXT \"one\ntwo ; three\" x\nb 60 A 192.0.2.1\n", []string{`a.hollowtarn.example. 60 IN TXT "one\010two ; three" "x"`, "b.hollowtarn.example. 60 IN A 192.0.2.1"}},
		{"escapes", "a\\.b 60 TXT \"\\\"\\255\\\\\"\n", []string{`a\.b.hollowtarn.example. 60 IN TXT "\"\255\\"`}},
		{"an unknown type", "a 60 TYPE65400 \\# 2 ab cd\n", []string{`a.hollowtarn.example. 60 IN TYPE65400 \# 2 abcd`}},
		{"a missing last line end", "a 60 A 192.0.2.1", []string{"a.hollowtarn.example. 60 IN A 192.0.2.1"}},
		{"carriage returns", "a 60 A 192.0.2.1\r\n\r\nb 60 A 192.0.2.1\r\n", []string{"a.hollowtarn.example. 60 IN A 192.0.2.1", "b.hollowtarn.example. 60 IN A 192.0.2.1"}},
		{"an owner that looks like a type", "mx 60 A 192.0.2.1\n", []string{"mx.hollowtarn.example. 60 IN A 192.0.2.1"}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			got, err := read(tt.text)
			require.NoError(t, err)
			assert.Equal(t, tt.want, got)
		})
	}
}

func TestErrorsSayWhereAndReadingGoesOn(t *testing.T) {
	for _, tt := range []struct {
		name, bad string
		column    int
		field     string
		err       error
	}{
		{"a bad address", "x 60 A 192.0.2", 8, "ADDRESS", wire.ErrValue},
		{"a missing field", "x 60 MX 10", 11, "EXCHANGE", wire.ErrMissing},
		{"one too many", "x 60 A 192.0.2.1 192.0.2.2", 18, "RDATA of A", wire.ErrSurplus},
		{"an unknown type", "x 60 TARN 1", 6, "type", wire.ErrUnknownType},
		{"no type", "x 60 IN", 8, "type", ErrNoType},
		{"a bad owner", "a..b 60 A 192.0.2.1", 1, "owner", wire.ErrLabelEmpty},
		{"a TTL of odd units", "x 5q A 192.0.2.1", 3, "TTL", wire.ErrValue},
		{"a quote left open", `x 60 TXT "open`, 10, "string", ErrQuote},
		{"a parenthesis too many", "x 60 A 192.0.2.1 )", 18, "entry", ErrParen},
		{"another class", "x 60 CH A 192.0.2.1", 6, "class", ErrClass},
		{"a service parameter whose quote is left open", `x 60 SVCB 1 . alpn="h2`, 15, "string", ErrQuote},
		{"a word behind a directive", "$TTL 60 x", 9, "$TTL", wire.ErrSurplus},
		{"an unknown directive", "$TARN 1", 1, "$TARN", ErrDirective},
		{"a string of 256 bytes", `x 60 TXT ` + strings.Repeat("y", 256), 10, "TXT-DATA", wire.ErrStringLong},
	} {
		t.Run(tt.name, func(t *testing.T) {
			got, err := read("before 60 IN A 192.0.2.1\n" + tt.bad + "\nafter 60 IN A 192.0.2.1\n")
			at, ok := errors.AsType[*Error](err)
			require.True(t, ok, "%v", err)
			assert.Equal(t, &Error{"tarn.zone", 2, tt.column, tt.field, at.Err}, at)
			assert.ErrorIs(t, err, tt.err)
			assert.Len(t, got, 2, "the records around it are read")
		})
	}
	_, err := read("x 60 A ( 192.0.2.1\n")
	require.ErrorIs(t, err, ErrParen)
	_, err = read("x A 192.0.2.1\n")
	require.ErrorIs(t, err, ErrNoTTL)
	_, err = read(" 60 A 192.0.2.1\n")
	require.ErrorIs(t, err, ErrOwner)
}

func FuzzRead(f *testing.F) {
	f.Add("$TTL 1h\n@ SOA a b ( 1 2 3 4 5 )\n www A 192.0.2.1 ; x\n\tTXT \"a\\\"b\" c\n")
	f.Fuzz(func(t *testing.T, text string) {
		records, err := Read(strings.NewReader(text), Options{})
		if err != nil {
			require.ErrorAs(t, err, new(*Error))
		}
		for _, r := range records {
			again, err := Read(strings.NewReader(r.String()+"\n"), Options{})
			require.NoError(t, err)
			require.Equal(t, []wire.Record{r}, again)
		}
	})
}

func BenchmarkRead(b *testing.B) {
	var text strings.Builder
	text.WriteString("$ORIGIN hollowtarn.example.\n$TTL 3600\n@ SOA dns1 hostmaster 1 2 3 4 5\n")
	for i := range 100_000 {
		fmt.Fprintf(&text, "cabin-%d\tIN\tA\t192.0.2.%d\n", i, i%256)
	}
	b.SetBytes(int64(text.Len()))
	b.ReportAllocs()
	for b.Loop() {
		for _, err := range Records(strings.NewReader(text.String()), Options{}) {
			if err != nil { // testify's own check would take a third of the time
				b.Fatal(err)
			}
		}
	}
}

func TestInclude(t *testing.T) {
	folder := fstest.MapFS{
		"hosts.zone": {Data: []byte("$ORIGIN deeper\nweb A 192.0.2.1\n")},
		"loop.zone":  {Data: []byte("$INCLUDE loop.zone\n")},
		"bad.zone":   {Data: []byte("x A 192.0.2\ny A 192.0.2.3\n")},
	}
	read := func(text string) (lines []string, err error) {
		records, err := Read(strings.NewReader("$TTL 60\n"+text), Options{Origin: wire.MustParseName("hollowtarn.example"), Include: folder})
		for _, r := range records {
			lines = append(lines, r.Name.Spoken())
		}
		return lines, err
	}
	got, err := read("a A 192.0.2.1\n$INCLUDE hosts.zone north ; its own origin\n A 192.0.2.2\nb A 192.0.2.3\n")
	require.NoError(t, err)
	assert.Equal(t, []string{"a.hollowtarn.example", "web.deeper.north.hollowtarn.example", "a.hollowtarn.example", "b.hollowtarn.example"}, got,
		"neither origin nor owner of the other file outlasts it")
	got, err = read("$INCLUDE bad.zone\nz A 192.0.2.1\n")
	require.ErrorContains(t, err, "bad.zone line 1 column 5: ADDRESS")
	assert.Equal(t, []string{"y.hollowtarn.example", "z.hollowtarn.example"}, got, "reading goes on in both files")
	_, err = read("$INCLUDE loop.zone\n")
	require.ErrorIs(t, err, ErrDepth)
	_, err = read("$INCLUDE gone.zone\n")
	require.ErrorIs(t, err, fs.ErrNotExist)
	_, err = read("$INCLUDE ../secret\n")
	require.ErrorAs(t, err, new(*Error))
	_, err = Read(strings.NewReader("$INCLUDE hosts.zone\n"), Options{})
	require.ErrorIs(t, err, ErrInclude)
}

func TestLongLines(t *testing.T) {
	long := `x 60 TXT` + strings.Repeat(` "`+strings.Repeat("y", 250)+`"`, 250)
	got, err := read(long + "\nz 60 A 192.0.2.1\n")
	require.NoError(t, err)
	assert.Len(t, got, 2, "a line longer than the reader's buffer")
	got, err = read("x 60 TXT " + strings.Repeat("y", maxEntry+1) + "\nz 60 A 192.0.2.1\n")
	require.ErrorIs(t, err, ErrLong)
	assert.Len(t, got, 1, "what is too long is skipped")
}

func TestWriteReadsBack(t *testing.T) {
	records, err := Read(strings.NewReader("$TTL 60\n@ SOA a b 1 2 3 4 5\nx\\.y TXT \"a;b\" \"\\\"\\000\"\n_svc SVCB 1 . alpn=\"h2,h3\" key667=\"a b\"\nz TYPE65400 \\# 1 ff\n"), Options{})
	require.NoError(t, err)
	var out strings.Builder
	require.NoError(t, Write(&out, slices.Values(records)))
	again, err := Read(strings.NewReader(out.String()), Options{})
	require.NoError(t, err, out.String())
	assert.Equal(t, records, again)
}
