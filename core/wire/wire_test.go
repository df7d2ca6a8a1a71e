package wire

import (
	"encoding/hex"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParseName(t *testing.T) {
	long := strings.Repeat("a", 63)
	for _, tt := range []struct {
		name, text, want string // want is the text form again
		err              error
	}{
		{"a final dot may be missing", "www.hollowtarn.example", "www.hollowtarn.example.", nil},
		{"case is kept", "WwW.Example.", "WwW.Example.", nil},
		{"the root", ".", ".", nil},
		{"escaped dot stays in its label", `a\.b.example`, `a\.b.example.`, nil},
		{"decimal escapes", `\000\032\255x.example`, `\000\032\255x.example.`, nil},
		{"what master files treat specially is escaped", `\@\$\;\"\(.example`, `\@\$\;\"\(.example.`, nil},
		{"63 bytes fit a label", long + ".example", long + ".example.", nil},
		{"64 do not", long + "a.example", "", ErrLabelLong},
		{"255 bytes fit a name", strings.Repeat(long+".", 3) + strings.Repeat("b", 61), strings.Repeat(long+".", 3) + strings.Repeat("b", 61) + ".", nil},
		{"256 do not", strings.Repeat(long+".", 3) + strings.Repeat("b", 62), "", ErrNameLong},
		{"empty label", "a..example", "", ErrLabelEmpty},
		{"leading dot", ".example", "", ErrLabelEmpty},
		{"nothing", "", "", ErrLabelEmpty},
		{"escape over 255", `\256.example`, "", ErrEscape},
		{"escape cut off", `a\`, "", ErrEscape},
		{"escape of two digits", `a\12`, "", ErrEscape},
	} {
		t.Run(tt.name, func(t *testing.T) {
			name, err := ParseName(tt.text)
			require.ErrorIs(t, err, tt.err)
			if err == nil {
				assert.Equal(t, tt.want, name.String())
			}
		})
	}
}

func TestNameRelations(t *testing.T) {
	www, zone := MustParseName("WWW.hollowtarn.example"), MustParseName("HollowTarn.Example")
	assert.True(t, www.Equal(MustParseName("www.HOLLOWTARN.example.")))
	assert.NotEqual(t, www, www.Fold())
	assert.True(t, www.IsSubdomainOf(zone) && zone.IsSubdomainOf(zone) && www.IsSubdomainOf(Root) && !zone.IsSubdomainOf(www))
	assert.False(t, MustParseName("nothollowtarn.example").IsSubdomainOf(zone))
	assert.Equal(t, 3, www.Labels())
	assert.Equal(t, "hollowtarn.example", www.Parent().Spoken())
	assert.Equal(t, Root, Root.Parent())
	child, err := zone.Child("*")
	require.NoError(t, err)
	assert.Equal(t, "*.HollowTarn.Example.", child.String())
}

// The order is the example of RFC 4034 §6.1.
func TestNameOrder(t *testing.T) {
	order := []string{"example", "a.example", "yljkjljk.a.example", "Z.a.example", "zABC.a.EXAMPLE", "z.example", `\001.z.example`, "*.z.example", `\200.z.example`}
	for i := range order {
		for j := range order {
			got := MustParseName(order[i]).Compare(MustParseName(order[j]))
			assert.Equal(t, i < j, got < 0, "%s and %s", order[i], order[j])
		}
	}
}

func TestReverseName(t *testing.T) {
	for address, want := range map[string]string{
		"203.0.113.80":       "80.113.0.203.in-addr.arpa.",
		"2001:db8::567:89ab": "b.a.9.8.7.6.5.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.8.b.d.0.1.0.0.2.ip6.arpa.", // RFC 3596 §2.5's form
	} {
		name, err := ReverseName(address)
		require.NoError(t, err)
		assert.Equal(t, want, name.String())
	}
	_, err := ReverseName("tarn")
	require.ErrorIs(t, err, ErrValue)
}

// reply is a typical answer: an alias, two addresses, an OPT record; 123 bytes.
func reply(t testing.TB) []byte {
	m := Message{
		ID: 0x1234, Flags: QR | RD | RA,
		Questions: []Question{{MustParseName("www.hollowtarn.example"), A, IN}},
		Answer: []Record{
			record(t, "www.hollowtarn.example", CNAME, "web.hollowtarn.example."),
			record(t, "web.hollowtarn.example", A, "203.0.113.120"),
			record(t, "web.hollowtarn.example", A, "203.0.113.121"),
		},
		Additional: []Record{{Name: Root, Type: OPT, Class: 1232}},
	}
	data, err := m.Bytes()
	require.NoError(t, err)
	return data
}

func record(t testing.TB, name string, typ Type, text string) Record {
	data, err := ParseRecordData(typ, IN, text)
	require.NoError(t, err)
	return Record{MustParseName(name), typ, IN, 3600, data}
}

func TestMessageRoundTrip(t *testing.T) {
	data := reply(t)
	m, err := ReadMessage(data)
	require.NoError(t, err)
	again, err := m.Bytes()
	require.NoError(t, err)
	assert.Equal(t, data, again)
	assert.Equal(t, "web.hollowtarn.example. 3600 IN A 203.0.113.121", m.Answer[2].String())
	assert.Less(t, len(data), 130, "names are compressed")
	// Letter case survives compression.
	m.Answer[1].Name = MustParseName("WEB.hollowtarn.example")
	again, err = m.Bytes()
	require.NoError(t, err)
	n, err := ReadMessage(again)
	require.NoError(t, err)
	assert.Equal(t, m, n)
}

// A name may be compressed wherever it stands, and is written compressed only
// in the types of RFC 1035 (RFC 3597 §4).
func TestCompressionByType(t *testing.T) {
	head := "0001 8000 0000 0001 0000 0000" + "0673756d6d6974 07 6578616d706c65 00"
	srv := head + "0021 0001 00000e10 0008 000a 003c 13c4 c00c"
	data, err := hex.DecodeString(strings.ReplaceAll(srv, " ", ""))
	require.NoError(t, err)
	m, err := ReadMessage(data)
	require.NoError(t, err)
	assert.Equal(t, "10 60 5060 summit.example.", m.Answer[0].Value())
	out, err := m.Bytes()
	require.NoError(t, err)
	assert.Greater(t, len(out), len(data), "an SRV target is written whole")
}

func TestBrokenMessages(t *testing.T) {
	whole := reply(t)
	header := func(questions, answers byte) []byte {
		return []byte{0, 1, 0x80, 0, 0, questions, 0, answers, 0, 0, 0, 0}
	}
	for _, tt := range []struct {
		name  string
		msg   []byte
		field string
		at    int
		err   error
	}{
		{"cut in the header", whole[:7], "ANCOUNT", 6, ErrShort},
		{"cut in the question", whole[:20], "QNAME", 12, ErrShort},
		{"cut in the type", whole[:37], "QTYPE", 36, ErrShort},
		{"cut in an RDATA", whole[:len(whole)-13], "RDATA of A", 0, ErrShort},
		{"a pointer to itself", append(header(1, 0), 0xc0, 12, 0, 1, 0, 1), "QNAME", 12, ErrPointer},
		{"a pointer forwards", append(header(1, 0), 0xc0, 14, 0, 1, 0, 1), "QNAME", 12, ErrPointer},
		{"two pointers to each other", append(header(0, 1), 1, 'a', 0xc0, 12, 0, 1, 0, 1), "NAME", 12, ErrPointer},
		{"an obsolete label type", append(header(1, 0), 0x41, 1, 0, 0, 1, 0, 1), "QNAME", 12, ErrLabelType},
		{"an address of five bytes", append(header(0, 1), 0, 0, 1, 0, 1, 0, 0, 0, 0, 0, 5, 1, 2, 3, 4, 5), "RDATA of A", 27, ErrRDataLong},
		{"an address of three bytes", append(header(0, 1), 0, 0, 1, 0, 1, 0, 0, 0, 0, 0, 3, 1, 2, 3), "ADDRESS", 23, ErrRDataShort},
		{"a string that leaves its RDATA", append(header(0, 1), 0, 0, 16, 0, 1, 0, 0, 0, 0, 0, 2, 5, 'a'), "TXT-DATA", 23, ErrRDataShort},
		{"a TXT without a string", append(header(0, 1), 0, 0, 16, 0, 1, 0, 0, 0, 0, 0, 0), "TXT-DATA", 23, ErrRDataShort},
	} {
		t.Run(tt.name, func(t *testing.T) {
			_, err := ReadMessage(tt.msg)
			var parse *ParseError
			require.ErrorAs(t, err, &parse)
			require.ErrorIs(t, err, tt.err)
			assert.Equal(t, tt.field, parse.Field)
			if tt.at > 0 {
				assert.Equal(t, tt.at, parse.Offset)
			}
			assertCovered(t, tt.msg)
		})
	}
	t.Run("what was read before the break is kept", func(t *testing.T) {
		m, err := ReadMessage(whole[:len(whole)-13])
		require.Error(t, err)
		assert.Len(t, m.Questions, 1)
		assert.Len(t, m.Answer, 2)
	})
	t.Run("trailing bytes are told", func(t *testing.T) {
		m, err := ReadMessage(append(whole, 1, 2, 3))
		require.NoError(t, err)
		assert.Equal(t, 3, m.Trailing)
	})
}

// assertCovered holds that the pieces of msg cover it byte by byte.
func assertCovered(t *testing.T, msg []byte) []Piece {
	pieces, _ := Pieces(msg)
	at := 0
	for _, p := range pieces {
		require.Equal(t, at, p.Offset, "piece %v", p)
		require.Positive(t, p.Length)
		at += p.Length
	}
	require.Equal(t, len(msg), at)
	return pieces
}

func TestPieces(t *testing.T) {
	var lines []string
	for _, p := range assertCovered(t, reply(t)) {
		lines = append(lines, strings.TrimSpace(p.Part+": "+p.Field+" = "+p.Value+"; "+p.Meaning))
	}
	all := strings.Join(lines, "\n")
	for _, want := range []string{
		"header: flags = 0x8180; this is a reply, recursion desired, recursion available; opcode QUERY, response code NOERROR",
		`answer 1: NAME = www.hollowtarn.example.; compression: points to byte 12, "www.hollowtarn.example."`,
		`answer 1: CNAME = web.hollowtarn.example.; the name that this one points to; compression: points to byte 16, "hollowtarn.example."`,
		"answer 2: TTL = 3600; 1 h",
		"additional 1: CLASS = 1232; largest UDP reply the sender takes, in bytes",
	} {
		assert.Contains(t, all, want)
	}
}

func TestRecordText(t *testing.T) {
	for _, tt := range []struct {
		typ      Type
		in, want string
	}{
		{A, "203.0.113.80", "203.0.113.80"},
		{AAAA, "2001:DB8:0:0::1", "2001:db8::1"},
		{MX, "10 mx1.hollowtarn.example.", "10 mx1.hollowtarn.example."},
		{SOA, "dns1.example. host.example. 7 2h 15m 2w 10m", "dns1.example. host.example. 7 7200 900 1209600 600"},
		{SRV, "10 60 5060 phone.example.", "10 60 5060 phone.example."},
		{A, `\# 4 cb007150`, "203.0.113.80"},
		{Type(65400), `\# 3 abcdef`, `\# 3 abcdef`},
		{Type(65400), `\# 0`, `\# 0`},
	} {
		data, err := ParseRecordData(tt.typ, IN, tt.in)
		require.NoError(t, err, "%s %s", tt.typ, tt.in)
		assert.Equal(t, tt.want, Record{Root, tt.typ, IN, 0, data}.Value())
	}
	for _, tt := range []struct {
		typ   Type
		in    string
		field string
		err   error
	}{
		{A, "203.0.113", "ADDRESS", ErrValue},
		{A, "2001:db8::1", "ADDRESS", ErrValue},
		{A, "203.0.113.80 203.0.113.81", "RDATA of A", ErrSurplus},
		{MX, "10", "EXCHANGE", ErrMissing},
		{MX, "65536 a.example.", "PREFERENCE", ErrValue},
		{A, `\# 3 cb0071`, "ADDRESS", ErrRDataShort},
		{A, `\# 5 cb007150`, "RDATA length", ErrValue},
		{Type(65400), "tarn", "RDATA of TYPE65400", ErrUnknownType},
	} {
		_, err := ParseRecordData(tt.typ, IN, tt.in)
		var text *TextError
		require.ErrorAs(t, err, &text, "%s %s", tt.typ, tt.in)
		assert.Equal(t, tt.field, text.Field)
		assert.ErrorIs(t, err, tt.err)
	}
}

func TestFoldedRecordsMeanTheSame(t *testing.T) {
	a := record(t, "WWW.example", MX, "10 MX1.Example.")
	b := record(t, "www.EXAMPLE", MX, "10 mx1.example.")
	b.TTL = 7
	assert.Equal(t, a.Folded(), b.Folded())
	txt := record(t, "www.example", TXT, `"Case"`)
	assert.Equal(t, txt.Data, txt.Folded().Data, "strings carry case")
}

func TestPeriods(t *testing.T) {
	for seconds, want := range map[uint32]string{0: "0 s", 59: "59 s", 2480: "41 min 20 s", 3600: "1 h", 604800: "1 week", 777600: "1 week 2 days", 4294967295: "7101 weeks 3 days"} {
		assert.Equal(t, want, Period(seconds))
	}
	for text, want := range map[string]uint32{"0": 0, "1h30m": 5400, "2W": 1209600, "1d2h3m4s": 93784, "4294967295": 4294967295} {
		got, ok := ParseTTL(text)
		assert.True(t, ok, text)
		assert.Equal(t, want, got)
	}
	for _, bad := range []string{"", "h", "1x", "-1", "4294967296", "9999w", "1hh"} {
		_, ok := ParseTTL(bad)
		assert.False(t, ok, bad)
	}
}

func TestView(t *testing.T) {
	v, err := ReadView(reply(t))
	require.NoError(t, err)
	assert.Equal(t, uint16(0x1234), v.ID())
	assert.Equal(t, A, v.QType())
	var types []Type
	c := v.Records()
	for c.Next() {
		types = append(types, c.Record.Type)
	}
	require.NoError(t, c.Err)
	assert.Equal(t, []Type{CNAME, A, A, OPT}, types)
	upper := []byte(strings.ToUpper(string(reply(t)[12:36])))
	other := append(append(reply(t)[:12:12], upper...), reply(t)[36:]...)
	w, err := ReadView(other)
	require.NoError(t, err)
	assert.Equal(t, v.Hashes(), w.Hashes())
	assert.Equal(t, A, v.Hashes().Type)
}

// Names of any length have one hash if they are one name, and only then.
func TestQuestionHashes(t *testing.T) {
	for i := range 256 {
		eight := uint64(i) * 0x0101010101010101
		assert.Equal(t, uint64(fold(byte(i)))*0x0101010101010101, Lower64(eight), "byte %d", i)
		assert.True(t, i < 'A' || i > 'Z' || capitals(eight, 0) && capitals(0, eight), "byte %d", i)
	}
	seen := map[uint64]string{}
	for size := 1; size < 30; size++ {
		for at := range size {
			for _, c := range []byte{'a', '@', '`', '[', '{', 0x01, '!', 0xc1, 0xe1} {
				label := []byte(strings.Repeat("z", size))
				label[at] = c
				hashes := func(label []byte) (name uint64) {
					m := Message{Questions: []Question{{Name: Name{string(rune(size)) + string(label) + "\x00"}, Type: A, Class: IN}}}
					data, err := m.Bytes()
					require.NoError(t, err)
					v, err := ReadView(data)
					require.NoError(t, err)
					return v.Hashes().Name
				}
				h := hashes(label)
				assert.Empty(t, seen[h], "%q", label)
				seen[h] = string(label)
				for i := range label {
					if label[i] >= 'a' && label[i] <= 'z' {
						label[i] -= 0x20
					}
				}
				assert.Equal(t, h, hashes(label))
			}
		}
	}
}

// A name that was read before has the same hashes, whatever was read in between.
func TestFamiliar(t *testing.T) {
	var names NameCache
	long := strings.Repeat("a-rather-long-label.", 10) + "example."
	for range 3 {
		for _, text := range []string{"www.hollowtarn.example.", "WWW.hollowtarn.example.", "www.hollowtarn.example-.", "www.hollowtarn.exampl.", long, "b." + long, "."} {
			for _, of := range []Type{A, AAAA} {
				m := Message{Questions: []Question{{Name: MustParseName(text), Type: of, Class: IN}}, Additional: []Record{{Name: MustParseName("."), Type: OPT, Class: 1232}}}
				data, err := m.Bytes()
				require.NoError(t, err)
				want, hashes, err := Read(data)
				require.NoError(t, err)
				got, known, err := names.View(data)
				require.NoError(t, err)
				assert.Equal(t, want, got, text)
				assert.Equal(t, hashes, known, text)
			}
		}
	}
}

// walkView reads all there is to read of a message in place.
func walkView(msg []byte) (n int) {
	v, err := ReadView(msg)
	if err != nil {
		return 0
	}
	n = int(v.Hashes().Question)
	c := v.Records()
	for c.Next() {
		n += int(c.Record.TTL)
	}
	return n
}

func TestViewAllocatesNothing(t *testing.T) {
	data := reply(t)
	assert.Zero(t, testing.AllocsPerRun(100, func() { walkView(data); answerSum(t, data) }))
}

func answerSum(t testing.TB, data []byte) uint64 {
	v, err := ReadView(data)
	require.NoError(t, err)
	return v.AnswerSum()
}

func addresses(t testing.TB, data []byte) uint64 {
	v, err := ReadView(data)
	require.NoError(t, err)
	return v.Outline().Addresses
}

func TestOutlineAddresses(t *testing.T) {
	one, two, six := record(t, "www.example", A, "192.0.2.1"), record(t, "www.example", A, "192.0.2.2"), record(t, "www.example", AAAA, "2001:db8::1")
	sum := func(answer ...Record) uint64 {
		data, err := (&Message{Flags: QR, Answer: answer}).Bytes()
		require.NoError(t, err)
		return addresses(t, data)
	}
	brief := two
	brief.TTL = 5
	assert.Equal(t, sum(one, two, six), sum(six, brief, record(t, "www.example", CNAME, "web.example."), one))
	all := map[uint64]bool{sum(): true, sum(one): true, sum(two): true, sum(six): true, sum(one, two): true, sum(one, one): true, sum(one, six): true}
	assert.Len(t, all, 7, "each is another")
}

// Two answers are the same whatever their order, their TTLs and how their names are
// compressed and capitalised; anything else makes them differ.
func TestAnswerSum(t *testing.T) {
	first, second := record(t, "hollowtarn.example", MX, "10 mx1.hollowtarn.example."), record(t, "hollowtarn.example", MX, "20 mx2.hollowtarn.example.")
	capital, brief, other, swapped := first, first, first, first
	capital.Data = record(t, "hollowtarn.example", MX, "10 MX1.HollowTarn.example.").Data
	brief.TTL = 60
	other.Data = record(t, "hollowtarn.example", MX, "11 mx1.hollowtarn.example.").Data
	swapped.Type = 18 // AFSDB, laid out alike
	sum := func(answer ...Record) uint64 {
		m := Message{Flags: QR, Questions: []Question{{MustParseName("HOLLOWTARN.example"), MX, IN}}, Answer: answer}
		data, err := m.Bytes()
		require.NoError(t, err)
		return answerSum(t, data)
	}
	same := sum(first, second)
	for name, answer := range map[string][]Record{"turned": {second, first}, "capitals": {capital, second}, "older": {brief, second}} {
		assert.Equal(t, same, sum(answer...), name)
	}
	for name, answer := range map[string][]Record{"one less": {first}, "another value": {other, second}, "twice": {first, first}, "another type": {swapped, second}, "none": nil} {
		assert.NotEqual(t, same, sum(answer...), name)
	}
}

func BenchmarkView(b *testing.B) {
	data := reply(b)
	b.SetBytes(int64(len(data)))
	b.ReportAllocs()
	for b.Loop() {
		walkView(data)
	}
}

func BenchmarkReadMessage(b *testing.B) {
	data := reply(b)
	b.SetBytes(int64(len(data)))
	b.ReportAllocs()
	for b.Loop() {
		ReadMessage(data)
	}
}

func BenchmarkAppendMessage(b *testing.B) {
	m, err := ReadMessage(reply(b))
	require.NoError(b, err)
	buf := make([]byte, 0, 512)
	b.ReportAllocs()
	for b.Loop() {
		buf, _ = m.Append(buf[:0])
	}
}

// assertOutline checks that the tight loop sees what the cursor sees.
func assertOutline(t *testing.T, data []byte) {
	v, err := ReadView(data)
	if err != nil {
		return
	}
	first, want := true, Outline{Code: v.Flags().RCode(), Addresses: v.Outline().Addresses}
	if v.Count(AnswerSection) > 0 {
		want.Holds |= HoldsAny
	}
	c := v.Records()
	for c.Next() {
		switch r := c.Record; r.Section {
		case AnswerSection:
			if first {
				first, want.TTL = false, r.TTL
			}
			if r.Type == v.QType() || v.QType().AsksForOthers() {
				want.Holds |= HoldsAnswer
			}
			if r.Type == RRSIG {
				want.Holds |= HoldsSignature
			}
		case AuthoritySection:
			want.Holds |= map[Type]Holds{NS: HoldsNS, SOA: HoldsSOA, RRSIG: HoldsSignature}[r.Type]
		default:
			if r.Type == OPT {
				want.Code |= RCode(r.TTL>>24) << 4
			}
		}
	}
	if c.Err != nil {
		want.Holds |= BreaksOff
	}
	require.Equal(t, want, v.Outline())
}

// assertRead checks that reading in one go comes to what reading step by step does, also
// when the name was read before.
func assertRead(t *testing.T, data []byte, names *NameCache) {
	got, hashes, err := Read(data)
	v, failed := ReadView(data)
	if failed == nil && v.HasQuestion() {
		if _, compressed := NameFromWire(string(v.QuestionBytes()[:v.NameSize()])); compressed != nil {
			require.ErrorIs(t, err, ErrPointer)
			return
		}
	}
	require.Equal(t, failed, err)
	if err == nil {
		require.Equal(t, v, got)
		require.Equal(t, v.Hashes(), hashes)
		for range 2 { // new, and known
			view, known, err := names.View(data)
			require.NoError(t, err)
			require.Equal(t, hashes, known)
			require.Equal(t, v, view)
		}
	} else {
		_, size := names.Read(data)
		require.Zero(t, size)
	}
}

func FuzzMessage(f *testing.F) {
	var names NameCache
	f.Add(reply(f))
	for _, name := range []string{"\xc0\x0c", "\xc0\x00", "\x03www\xc0\x00"} { // compressed against nothing
		f.Add([]byte("\x00\x01\x80\x00\x00\x01\x00\x00\x00\x00\x00\x00" + name + "\x00\x01\x00\x01"))
	}
	for _, options := range []string{"\x00\x00", "\x00\x04\x00\x0a\x00\x00", "\x00\x03\x00\x0a\x00"} { // of EDNS: none, a whole one, a cut one
		f.Add([]byte("\x00\x01\x01\x00\x00\x00\x00\x00\x00\x00\x00\x01\x00\x00\x29\x04\xd0\x00\x00\x80\x00" + options))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		assertCovered(t, data)
		walkView(data)
		assertOutline(t, data)
		assertRead(t, data, &names)
		m, err := ReadMessage(data)
		if err != nil {
			require.ErrorAs(t, err, new(*ParseError))
			return
		}
		e, has := m.EDNS()
		v, err := ReadView(data)
		require.NoError(t, err)
		do, ok := v.EDNS()
		require.Equal(t, []bool{has, has && e.DO}, []bool{ok, do})
		out, err := m.Bytes()
		if err != nil {
			require.ErrorIs(t, err, ErrMessageSize) // what was compressed may not fit uncompressed
			return
		}
		again, err := ReadMessage(out)
		require.NoError(t, err)
		m.Trailing = 0
		require.Equal(t, m, again)
		slices.Reverse(again.Answer)
		turned, err := again.Bytes()
		if err == nil { // in another order it may not fit
			require.Equal(t, answerSum(t, data), answerSum(t, turned))
			require.Equal(t, addresses(t, data), addresses(t, turned))
		}
		for _, r := range append(append(m.Answer, m.Authority...), m.Additional...) {
			_ = r.String()
		}
	})
}

func FuzzName(f *testing.F) {
	f.Add([]byte("\x0ahollowtarn\x07example\x00"))
	f.Fuzz(func(t *testing.T, msg []byte) {
		name, _, err := ReadName(msg, 0)
		if err != nil {
			require.ErrorAs(t, err, new(*ParseError))
			return
		}
		again, err := ParseName(name.String())
		require.NoError(t, err)
		require.Equal(t, name, again)
		for _, c := range []byte(name.String()) {
			require.True(t, c > ' ' && c < 0x7f, "a name shown has no control byte")
		}
	})
}

func TestNewerSerial(t *testing.T) {
	for _, tt := range []struct {
		name string
		a, b uint32
		want bool
	}{
		{"later", 8, 7, true},
		{"earlier", 7, 8, false},
		{"the same", 7, 7, false},
		{"wrapped (RFC 1982 §3.2)", 1, 4294967295, true},
		{"half the circle away is neither", 0, 1 << 31, false},
	} {
		assert.Equal(t, tt.want, NewerSerial(tt.a, tt.b), tt.name)
	}
}

// Service bindings are read with what they say; an alias, another type and broken data are none.
func TestService(t *testing.T) {
	s, ok := record(t, "a.example", SVCB, `2 svc.example. alpn=h2,dot port=8853 ipv4hint=192.0.2.1,192.0.2.2 ipv6hint=2001:db8::1 dohpath=/q{?dns}`).Service()
	require.True(t, ok)
	assert.Equal(t, Service{2, MustParseName("svc.example"), []string{"h2", "dot"}, 8853,
		[]netip.Addr{netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("192.0.2.2"), netip.MustParseAddr("2001:db8::1")}, "/q{?dns}"}, s)
	for _, none := range []Record{record(t, "a.example", SVCB, "0 svc.example."), record(t, "a.example", A, "192.0.2.1"), {Type: HTTPS, Class: IN, Data: "\x00\x01\x00\x00\x01\x00\x09"}} {
		_, ok := none.Service()
		assert.False(t, ok)
	}
}
