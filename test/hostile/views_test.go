package hostile

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"io"
	"net/netip"
	"os"
	"reflect"
	"regexp"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/comparison"
	"unquil/core/conversation"
	"unquil/core/delegation"
	"unquil/core/diagnosis"
	"unquil/core/escape"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/live"
	"unquil/core/probe"
	"unquil/core/transfer"
	"unquil/core/wire"
	"unquil/ui/data"
	"unquil/ui/page"
	"unquil/ui/text"
)

// evil is text that acts: on a terminal, on the direction of what follows, in a page, in
// Markdown and in a spreadsheet.
const evil = "=cmd|'/c calc'!A0\x1b]0;owned\x07\x1b[2J\x1b[35m\r\nunquil: all is well\x00\x9b\u202e\u2066\u200b\ufeff<script>alert(1)</script>&lt; [x](http://evil.test) ~~y~~"

// filler fills values with evil text wherever there is a string.
type filler struct {
	text string
	n    int
}

var (
	nameType     = reflect.TypeFor[wire.Name]()
	escapedType  = reflect.TypeFor[escape.Text]()
	timeType     = reflect.TypeFor[time.Time]()
	addressType  = reflect.TypeFor[netip.Addr]()
	endpointType = reflect.TypeFor[netip.AddrPort]()
	prefixType   = reflect.TypeFor[netip.Prefix]()
	errorType    = reflect.TypeFor[error]()
)

func (f *filler) name() wire.Name {
	label := f.text[:min(len(f.text), 40)]
	n, err := wire.MustParseName("hollowtarn.example").Child(label)
	if err != nil {
		return wire.MustParseName("tickets.hollowtarn.example")
	}
	return n
}

// message is one in which every field that takes bytes holds evil ones.
func (f *filler) message() wire.Message {
	short := f.text[:min(len(f.text), 200)]
	q := wire.Question{Name: f.name(), Type: wire.TXT, Class: wire.IN}
	soa := wire.SOAData{MName: f.name(), RName: f.name(), Minimum: 300}
	return wire.Message{ID: 7, Flags: wire.QR | wire.AA, Questions: []wire.Question{q}, Answer: []wire.Record{
		{Name: q.Name, Type: wire.TXT, Class: wire.IN, TTL: 60, Data: string(rune(min(len(short), 127))) + short[:min(len(short), 127)]},
		{Name: q.Name, Type: wire.CNAME, Class: wire.IN, TTL: 60, Data: f.name().Wire()},
		{Name: q.Name, Type: 65280, Class: wire.IN, TTL: 60, Data: short},
	}, Authority: []wire.Record{{Name: q.Name, Type: wire.SOA, Class: wire.IN, TTL: 60, Data: soa.Data()}},
		Additional: []wire.Record{wire.EDNS{Size: 1232, Options: []wire.Option{{Code: wire.EDE, Data: "\x00\x0f" + short}, {Code: wire.NSID, Data: short}, {Code: 65001, Data: short}}}.Record(wire.NoError)}}
}

func (f *filler) fill(v reflect.Value, depth int) {
	f.n++
	if !v.CanSet() || depth > 20 {
		return
	}
	switch v.Type() {
	case nameType:
		v.Set(reflect.ValueOf(f.name()))
		return
	case escapedType:
		v.Set(reflect.ValueOf(escape.Of(f.text)))
		return
	case timeType:
		v.Set(reflect.ValueOf(time.Date(2026, 3, 9, 7, 40, f.n%60, 0, time.UTC)))
		return
	case addressType:
		v.Set(reflect.ValueOf(netip.AddrFrom4([4]byte{192, 0, 2, byte(f.n)})))
		return
	case endpointType:
		v.Set(reflect.ValueOf(netip.AddrPortFrom(netip.AddrFrom4([4]byte{192, 0, 2, byte(f.n)}), 53)))
		return
	case prefixType:
		v.Set(reflect.ValueOf(netip.MustParsePrefix("192.0.2.0/24")))
		return
	case errorType:
		v.Set(reflect.ValueOf(errors.New(f.text)))
		return
	case reflect.TypeFor[wire.Message]():
		v.Set(reflect.ValueOf(f.message()))
		return
	}
	switch v.Kind() {
	case reflect.String:
		v.SetString(f.text)
	case reflect.Slice:
		if v.Type().Elem().Kind() == reflect.Uint8 {
			m := f.message()
			data, _ := m.Bytes()
			v.SetBytes(data)
			return
		}
		size := 2
		if depth > 3 {
			size = 1
		}
		list := reflect.MakeSlice(v.Type(), size, size)
		for i := range list.Len() {
			f.fill(list.Index(i), depth+1)
		}
		v.Set(list)
	case reflect.Map:
		m := reflect.MakeMap(v.Type())
		key, value := reflect.New(v.Type().Key()).Elem(), reflect.New(v.Type().Elem()).Elem()
		f.fill(key, depth+1)
		f.fill(value, depth+1)
		m.SetMapIndex(key, value)
		v.Set(m)
	case reflect.Pointer:
		p := reflect.New(v.Type().Elem())
		f.fill(p.Elem(), depth+1)
		v.Set(p)
	case reflect.Struct:
		for i := range v.NumField() {
			f.fill(v.Field(i), depth+1)
		}
	case reflect.Bool:
		v.SetBool(f.n%2 == 0)
	case reflect.Int, reflect.Int64, reflect.Int32:
		v.SetInt(1)
	case reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		v.SetUint(1)
	case reflect.Float64:
		v.SetFloat(1)
	}
}

func filled[T any](text string) *T {
	v := new(T)
	(&filler{text: text}).fill(reflect.ValueOf(v).Elem(), 0)
	return v
}

// ours are the control sequences that the program's own styles are made of.
var ours = regexp.MustCompile(`\x1b\[(0|1|2|31|32|33|34|36|;)*m`)

// acts is the first place where a text does something else than show; "" for none.
func acts(shown string) string {
	shown = ours.ReplaceAllString(shown, "")
	if !utf8.ValidString(shown) {
		return "bytes that are no letters"
	}
	for i, r := range shown {
		if r != '\n' && r != '\t' && !escape.Shows(r) {
			return shown[max(i-40, 0):min(i+20, len(shown))]
		}
	}
	return ""
}

// everyView draws everything that there is with the text in every field, by name.
func everyView(t *testing.T, text_ string) map[string]string {
	out := map[string]string{}
	terminal := func(name string, draw func(v *text.View)) {
		var b bytes.Buffer
		draw(text.New(&b, 80, text.Always, nil))
		out["terminal "+name] = b.String()
	}
	document := func(name string, result any) {
		var b bytes.Buffer
		require.NoError(t, data.Document{Command: text_, Result: result}.Write(&b))
		require.True(t, json.Valid(b.Bytes()))
		out["json "+name] = b.String()
	}
	exchanges := *filled[[]exchange.Exchange](text_)
	var pointers []*exchange.Exchange
	for i := range exchanges {
		exchanges[i].Number, exchanges[i].Outcome = i+1, exchange.Answered
		pointers = append(pointers, &exchanges[i])
	}
	block := text.Block{Exchanges: pointers}
	all := text.Parts{}
	for _, p := range text.PartNames {
		all[p] = true
	}
	verdict, walk, zone := filled[diagnosis.Verdict](text_), filled[delegation.Walk](text_), filled[probe.Zone](text_)
	compared, fetched, local := *filled[[]probe.Compared](text_), filled[transfer.Fetched](text_), filled[probe.Local](text_)
	findings := *filled[[]finding.Finding](text_)
	look := filled[conversation.WholePacket](text_)
	terminal("answers", func(v *text.View) { v.Answers(block, text.Show{Parts: all, Explain: true}) })
	terminal("bare", func(v *text.View) { v.Bare(pointers, true) })
	terminal("wire", func(v *text.View) { v.Wire(pointers) })
	terminal("findings", func(v *text.View) { v.Findings(text_, findings) })
	terminal("verdict", func(v *text.View) { v.Verdict(verdict) })
	terminal("more verdicts", func(v *text.View) { v.MoreVerdicts([]diagnosis.Verdict{*verdict}) })
	terminal("walk", func(v *text.View) { v.Walk(walk, true) })
	terminal("bare walk", func(v *text.View) { v.BareWalk(walk) })
	terminal("zone", func(v *text.View) { v.Zone(zone) })
	terminal("compared", func(v *text.View) { v.Compared(compared, map[wire.Type][]string{wire.A: {text_}}) })
	terminal("bare compared", func(v *text.View) { v.BareCompared(compared) })
	terminal("transfer", func(v *text.View) { v.Transfer(fetched, text_) })
	terminal("local", func(v *text.View) { v.Local(local) })
	terminal("reversals", func(v *text.View) { v.Reversals(*filled[[]probe.Reversal](text_), true) })
	terminal("packet", func(v *text.View) { v.Packet(look, pointers, true) })
	terminal("event", func(v *text.View) { v.Event(*filled[comparison.Event](text_)) })
	terminal("catalogue", func(v *text.View) { v.Catalogue(*filled[[]finding.Entry](text_), true) })
	listened := *filled[text.Listened](text_)
	asked := &live.Program{PID: 1, Name: escape.Of(text_), Child: true}
	terminal("live", func(v *text.View) {
		v.LiveLine(pointers[0], true, asked, true)
		v.LiveLine(pointers[0], false, nil, false)
		v.Foot(listened)
		v.Listening(listened)
		v.Heard(listened, 1)
		v.Programs([]*live.Use{filled[live.Use](text_)})
		v.While(*filled[text.Ran](text_), &live.Programs{})
		listened.Broken = text_
		v.NewLive().Foot(listened)
	})
	terminal("written", func(v *text.View) { v.Written(1, 2, text_) })
	document("programs", data.OfPrograms([]*live.Use{filled[live.Use](text_)}))
	document("while", data.OfWhile(text_, 1, 0, text_, &live.Programs{}))
	document("interfaces", data.OfInterfaces(*filled[[]live.Interface](text_)))
	document("exchanges", data.OfExchanges(exchanges, true))
	document("verdict", data.OfVerdict(verdict))
	document("walk", data.OfWalk(walk))
	document("zone", data.OfZone(zone))
	document("comparison", data.OfComparison(&compared[0], map[wire.Type][]string{wire.A: {text_}}))
	document("transfer", data.OfTransfer(fetched, text_))
	document("local", data.OfLocal(local))
	document("packet", data.OfLook(look, pointers))
	report := &page.Report{Command: text_, Headline: text_, Verdicts: []diagnosis.Verdict{*verdict}, Walks: []*delegation.Walk{walk}, Compared: compared,
		Findings: findings, Exchanges: exchanges, Evidence: text_, Tables: []page.Table{{Title: text_, Columns: []string{text_}, Rows: [][]string{{text_}}}}}
	for name, draw := range map[string]func(io.Writer, *page.Report) error{"page": page.HTML, "markdown": page.Markdown} {
		drawn, err := page.Text(draw, report)
		require.NoError(t, err)
		out[name] = string(drawn)
	}
	var b bytes.Buffer
	require.NoError(t, data.WriteCSV(&b, compared))
	rows := data.NewRows(&b)
	require.NoError(t, rows.Write(data.ExchangeRow(pointers[0])...))
	require.NoError(t, rows.Write(text_, " "+text_))
	require.NoError(t, rows.End())
	out["csv"] = b.String()
	return out
}

// Whatever stands in any field, no view lets it act.
func TestNoFieldActsInAnyView(t *testing.T) {
	for name, shown := range everyView(t, evil) {
		assert.Empty(t, acts(shown), name)
		assert.False(t, strings.Contains(shown, "\x1b[35m"), name)
		switch name {
		case "page":
			assert.False(t, strings.Contains(shown, "<script>alert"))
		case "markdown":
			for line := range strings.Lines(shown) {
				if !strings.HasPrefix(line, "`") { // what stands between marks of code is no link
					assert.NotRegexp(t, `<script>|http://|~~y|[^\\]\]\(|[^;]&lt; `, line, "no link, no mark, no entity by itself")
				}
			}
		case "csv":
			for part := range strings.SplitSeq(shown, "name,type") {
				reader := csv.NewReader(strings.NewReader(part))
				reader.FieldsPerRecord = -1
				records, err := reader.ReadAll()
				require.NoError(t, err)
				for _, record := range records {
					for _, cell := range record {
						assert.NotRegexp(t, `^ *[=+@-]`, cell)
					}
				}
			}
		}
		if os.Getenv("UNQUIL_SHOW") != "" {
			t.Logf("%s\n%s", name, shown)
		}
	}
}

func FuzzViews(f *testing.F) {
	f.Add(evil)
	f.Add("-\x1b[31m\x1b[")
	f.Add("\u2028\U000e0041\xf0\x9f")
	f.Fuzz(func(t *testing.T, s string) {
		if len(s) > 300 {
			return
		}
		for name, shown := range everyView(t, s) {
			require.Empty(t, acts(shown), name)
		}
	})
}
