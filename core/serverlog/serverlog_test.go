package serverlog

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"strings"
	"testing"

	"github.com/fxamacker/cbor/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"google.golang.org/protobuf/encoding/protowire"

	"unquil/core/wire"
)

var (
	client = netip.MustParseAddrPort("192.0.2.21:50000")
	office = netip.MustParseAddrPort("192.0.2.53:53")
	name   = wire.MustParseName("www.hollowtarn.example.")
	asked  = wire.Question{Name: name, Type: wire.A, Class: wire.IN}
)

func message(t testing.TB, m wire.Message) []byte {
	data, err := m.Bytes()
	require.NoError(t, err)
	return data
}

func query(t testing.TB, id uint16) []byte {
	return message(t, wire.Message{ID: id, Flags: wire.RD, Questions: []wire.Question{asked}, Additional: []wire.Record{wire.EDNS{Size: 1232, DO: true, Options: []wire.Option{{Code: 10, Data: "12345678"}}}.Record(0)}})
}

func reply(t testing.TB, id uint16) []byte {
	return message(t, wire.Message{ID: id, Flags: wire.QR | wire.RD | wire.RA, Questions: []wire.Question{asked}, Answer: []wire.Record{{Name: name, Type: wire.A, Class: wire.IN, TTL: 3600, Data: "\xcb\x00\x71\x78"}}})
}

// all reads a source to its end.
func all(s Source) (messages []Message, err error) {
	for {
		if err = s.Next(func(m *Message) {
			kept := *m
			kept.Data = bytes.Clone(m.Data)
			messages = append(messages, kept)
		}); err != nil {
			if err == io.EOF {
				err = nil
			}
			return messages, err
		}
	}
}

// frame is a frame of dnstap with some fields of a message.
func frame(kind uint64, put func(b []byte) []byte) []byte {
	inner := protowire.AppendVarint(protowire.AppendTag(nil, 1, protowire.VarintType), kind)
	inner = put(inner)
	return appendFrame(nil, protowire.AppendBytes(protowire.AppendTag(nil, 14, protowire.BytesType), inner))
}

func fieldBytes(b []byte, n protowire.Number, v []byte) []byte {
	return protowire.AppendBytes(protowire.AppendTag(b, n, protowire.BytesType), v)
}

func fieldNumber(b []byte, n protowire.Number, v uint64) []byte {
	return protowire.AppendVarint(protowire.AppendTag(b, n, protowire.VarintType), v)
}

// What servers write differently comes to the same exchanges: questions beside their replies, questions within them,
// and replies alone. Who records no replies has nobody said to be silent.
func TestDnstapForms(t *testing.T) {
	both := func(seconds uint64, data []byte, times, field protowire.Number) func([]byte) []byte {
		return func(b []byte) []byte {
			b = fieldNumber(b, 3, 1)
			b = fieldBytes(fieldBytes(b, 4, client.Addr().AsSlice()), 5, office.Addr().AsSlice())
			b = fieldNumber(fieldNumber(b, 6, uint64(client.Port())), 7, 53)
			return fieldBytes(fieldNumber(b, times, seconds), field, data)
		}
	}
	ask, answer := frame(5, both(100, query(t, 1), 8, 10)), frame(6, both(101, reply(t, 1), 12, 14))
	within := frame(6, func(b []byte) []byte {
		return fieldBytes(fieldNumber(both(101, reply(t, 1), 12, 14)(b), 8, 100), 10, query(t, 1))
	})
	begin, end := appendControl(nil, start, true), appendControl(nil, stop, false)
	for what, tt := range map[string]struct {
		frames [][]byte
		want   []string
	}{
		"a question and its reply":              {[][]byte{ask, answer}, []string{"100 question", "101 reply"}},
		"a question within its reply":           {[][]byte{within}, []string{"100 question", "101 reply"}},
		"both":                                  {[][]byte{ask, within}, []string{"100 question", "101 reply"}},
		"a reply to a port that was used later": {[][]byte{ask, frame(6, func(b []byte) []byte { return fieldNumber(both(101, reply(t, 1), 12, 14)(b), 6, 50001) })}, []string{"100 question", "101 reply"}},
		"a reply alone":                         {[][]byte{answer}, []string{"101 question", "101 reply"}},
		"questions alone":                       {[][]byte{ask, ask}, []string{"100 question alone", "100 question alone"}},
		"another kind's replies prove nothing":  {[][]byte{ask, frame(4, both(101, reply(t, 9), 12, 14))}, []string{"101 question", "101 reply", "100 question alone"}},
		"a time that is none":                   {[][]byte{frame(6, both(1<<63, reply(t, 1), 12, 14))}, []string{"0 question", "0 reply"}},
		"no message":                            {[][]byte{frame(5, both(100, []byte{1, 2}, 8, 10)), frame(99, both(1, query(t, 1), 8, 10))}, nil},
	} {
		t.Run(what, func(t *testing.T) {
			messages, err := all(NewDnstap(bytes.NewReader(append(append(bytes.Clone(begin), bytes.Join(tt.frames, nil)...), end...)), nil))
			require.NoError(t, err)
			var got []string
			for _, m := range messages {
				text := fmt.Sprint(m.At/1e9, " question")
				from, to := client, office
				if m.Data[2]&0x80 != 0 {
					text, from, to = fmt.Sprint(m.At/1e9, " reply"), office, client
				}
				if m.Alone {
					text += " alone"
				}
				assert.Equal(t, []netip.AddrPort{from, to}, []netip.AddrPort{m.From, m.To})
				got = append(got, text)
			}
			assert.Equal(t, tt.want, got)
		})
	}
	policy := fieldBytes(fieldNumber(fieldBytes(nil, 1, []byte("blocked")), 3, 4), 2, []byte("bad.example"))
	messages, err := all(NewDnstap(bytes.NewReader(append(bytes.Clone(begin), frame(6, func(b []byte) []byte {
		return fieldBytes(fieldBytes(fieldNumber(both(1, reply(t, 1), 12, 14)(b), 3, 3), 15, policy), 11, []byte(wire.MustParseName("hollowtarn.example.").Wire()))
	})...)), nil))
	require.NoError(t, err)
	assert.Equal(t, "recorded by a server (client-response, zone hollowtarn.example., policy blocked bad.example: dropped)", messages[1].Comment)
	assert.Equal(t, TLS, messages[1].Over)
}

// A server that waits for answers gets them.
func TestHandshake(t *testing.T) {
	var back bytes.Buffer
	stream := append(append(appendControl(nil, ready, true), appendControl(nil, start, true)...), appendControl(nil, stop, false)...)
	messages, err := all(NewDnstap(bytes.NewReader(stream), &back))
	assert.NoError(t, err)
	assert.Empty(t, messages)
	assert.Equal(t, append(appendControl(nil, accept, true), appendControl(nil, finish, false)...), back.Bytes())
}

// What is no record is refused where that shows, and what came before it is there.
func TestBadRecords(t *testing.T) {
	begin := appendControl(nil, start, true)
	good := frame(6, func(b []byte) []byte { return fieldBytes(b, 14, reply(t, 1)) })
	other := bytes.Replace(bytes.Clone(begin), []byte("dnstap"), []byte("DNSTAP"), 1)
	var written bytes.Buffer
	w, err := NewCDNSWriter(&written)
	require.NoError(t, err)
	require.NoError(t, w.Add(&Exchange{Client: client, Server: office, Sent: 5e9, Received: 6e9, Query: query(t, 1), Reply: reply(t, 1)}))
	require.NoError(t, w.Close())
	cdns := written.Bytes()
	deep := append(bytes.Clone(cdns[:7]), bytes.Repeat([]byte{0x9f}, 10_000)...)
	for what, tt := range map[string]struct {
		data []byte
		dns  bool // dnstap
		err  error
		at   string
		came int
	}{
		"a frame of 4 GB":               {append(append(bytes.Clone(begin), good...), 0xff, 0xff, 0xff, 0xff), true, ErrDamaged, "frame at byte ", 2},
		"a control frame of 4 GB":       {append(bytes.Clone(begin), 0, 0, 0, 0, 0xff, 0xff, 0xff, 0xff), true, ErrDamaged, "control frame at byte 42", 0},
		"other content":                 {other, true, ErrContent, "control frame", 0},
		"no beginning":                  {good, true, ErrDamaged, "START", 0},
		"a cut frame":                   {append(append(bytes.Clone(begin), good...), good[:20]...), true, ErrCut, "frame at byte ", 2},
		"a frame of nonsense":           {append(bytes.Clone(begin), 0, 0, 0, 3, 0xff, 0xff, 0xff), true, ErrDamaged, "frame at byte 42", 0},
		"an endless frame":              {append(bytes.Clone(begin), 0, 3, 0xff, 0xff), true, ErrCut, "frame", 0},
		"CBOR nested 10,000 deep":       {deep, false, ErrDamaged, "too many within each other", 0},
		"a text of 2^60 bytes":          {append(bytes.Clone(cdns[:7]), 0x7b, 0x10, 0, 0, 0, 0, 0, 0, 0), false, ErrDamaged, "item at byte 7", 0},
		"a cut block":                   {cdns[:len(cdns)-20], false, ErrCut, "item at byte ", 0},
		"no end":                        {cdns[:len(cdns)-1], false, ErrCut, "item at byte ", 2},
		"no C-DNS":                      {append([]byte{0x83, 0x65}, "C-XYZ\xa3\x00\x01\x01\x00\x03\x80"...), false, ErrContent, "preamble", 0},
		"an end without beginning":      {append(bytes.Clone(cdns[:7]), 0xff), false, ErrDamaged, "item at byte 7", 0},
		"parameters that are not there": {replaceOnce(t, cdns, func(b *block) { b.Preamble.Parameters = 3 }), false, ErrDamaged, "its parameters", 0},
		"an index outside a table":      {replaceOnce(t, cdns, func(b *block) { b.Items[0].Name = new(uint64(99)) }), false, ErrDamaged, "1 of its 1 items point outside", 0},
		"a negative delay":              {replaceOnce(t, cdns, func(b *block) { b.Items[0].Delay = new(int64(-5)) }), false, nil, "", 2},
		"times beyond reason":           {replaceOnce(t, cdns, func(b *block) { b.Items[0].After = new(uint64(1 << 63)) }), false, nil, "", 2},
	} {
		t.Run(what, func(t *testing.T) {
			var source Source = NewCDNS(bytes.NewReader(tt.data))
			if tt.dns {
				source = NewDnstap(bytes.NewReader(tt.data), nil)
			}
			messages, err := all(source)
			if tt.err == nil {
				assert.NoError(t, err)
			} else {
				assert.ErrorIs(t, err, tt.err)
				assert.ErrorContains(t, err, tt.at)
			}
			assert.Len(t, messages, tt.came)
			assert.Equal(t, io.EOF, source.Next(nil), "what has ended stays so")
		})
	}
}

// replaceOnce is a file with its block changed.
func replaceOnce(t *testing.T, file []byte, change func(*block)) []byte {
	c := NewCDNS(bytes.NewReader(file))
	require.NoError(t, c.begin())
	at := c.items.offset
	var b block
	require.NoError(t, c.decode("block", &b))
	change(&b)
	mode, err := cbor.CoreDetEncOptions().EncMode()
	require.NoError(t, err)
	text, err := mode.Marshal(&b)
	require.NoError(t, err)
	return append(append(bytes.Clone(file[:at]), text...), 0xff)
}

// What is written as C-DNS is read as it was: flags, EDNS, sections, ways, times, and what cannot be read.
func TestCDNSRoundTrip(t *testing.T) {
	six, server6 := netip.MustParseAddrPort("[2001:db8::21]:50001"), netip.MustParseAddrPort("[2001:db8::53]:853")
	full := message(t, wire.Message{ID: 3, Flags: wire.QR | wire.AA | wire.TC | wire.AD | wire.Flags(wire.NXDomain), Questions: []wire.Question{asked}, Authority: []wire.Record{{Name: wire.MustParseName("hollowtarn.example."), Type: wire.NS, Class: wire.IN, TTL: 60, Data: wire.MustParseName("ns.farhost.test.").Wire()}},
		Additional: []wire.Record{{Name: wire.MustParseName("ns.farhost.test."), Type: wire.A, Class: wire.IN, TTL: 61, Data: "\xc6\x33\x64\x35"}, wire.EDNS{Size: 4096}.Record(0)}})
	two := message(t, wire.Message{ID: 4, Questions: []wire.Question{asked, {Name: name, Type: wire.AAAA, Class: wire.IN}}})
	exchanges := []Exchange{
		{client, office, UDP, 1_700_000_000_000_000_001, 1_700_000_000_004_000_000, query(t, 1), reply(t, 1)},
		{client, office, TCP, 1_700_000_000_000_000_000, 0, query(t, 2), nil},
		{six, server6, TLS, 1_700_000_001_000_000_000, 1_700_000_001_000_000_500, query(t, 3), full},
		{six, server6, HTTPS, 1_700_000_002_000_000_000, 0, two, nil},
		{client, office, UDP, 0, 0, message(t, wire.Message{ID: 5}), message(t, wire.Message{ID: 5, Flags: wire.QR | wire.Flags(wire.FormErr)})},
		{client, office, UDP, 1_700_000_003_000_000_000, 1_700_000_003_000_000_001, []byte("not a message"), []byte{0, 1, 0x80, 0, 9, 9, 9, 9, 9, 9, 9, 9}},
	}
	var file bytes.Buffer
	w, err := NewCDNSWriter(&file)
	require.NoError(t, err)
	var want []Message
	for _, e := range exchanges {
		require.NoError(t, w.Add(&e))
		for i, data := range [][]byte{e.Query, e.Reply} {
			m := Message{At: e.Sent, From: e.Client, To: e.Server, Over: e.Over, Data: data}
			if i == 1 {
				m.From, m.To = m.To, m.From
				if m.At = e.Received; e.Sent == 0 {
					m.At = 0
				}
			}
			if len(data) > 0 {
				want = append(want, m)
			}
		}
	}
	require.NoError(t, w.Close())
	got, err := all(NewCDNS(&file))
	require.NoError(t, err)
	require.Len(t, got, len(want))
	for i, m := range got {
		assert.True(t, strings.HasPrefix(m.Comment, "recorded as C-DNS"))
		m.Comment = ""
		assert.Equal(t, want[i], m, "message %d", i)
	}
}

// What a file does not record is not made up: an answer without its records is cut, and addresses are of nobody.
func TestCDNSLeavesOut(t *testing.T) {
	mode, err := cbor.CoreDetEncOptions().EncMode()
	require.NoError(t, err)
	head, err := mode.Marshal(preamble{Major: 1, Parameters: []parameters{{Storage: storage{Ticks: 1000, Most: 1}}}})
	require.NoError(t, err)
	b := block{Preamble: blockPreamble{Earliest: []uint64{100, 5}}, Items: []queried{{After: new(uint64(7)), Signature: new(uint64(0)), Name: new(uint64(0))}}}
	b.Tables.Bytes = [][]byte{[]byte(name.Wire())}
	b.Tables.ClassTypes = []classType{{1, 1}}
	b.Tables.Signatures = []signature{{ClassType: new(uint64(0))}}
	text, err := mode.Marshal(&b)
	require.NoError(t, err)
	file := append(append([]byte("\x83\x65C-DNS"), head...), append([]byte{0x81}, text...)...)
	messages, err := all(NewCDNS(bytes.NewReader(file)))
	require.NoError(t, err)
	require.Len(t, messages, 2)
	assert.True(t, messages[1].Cut)
	assert.True(t, messages[0].From.Addr().IsUnspecified())
	assert.Equal(t, int64(100_012_000_000), messages[0].At)
	assert.Equal(t, messages[0].At, messages[1].At)
}

// A question is made of a reply only where that can be read.
func TestQuestionFor(t *testing.T) {
	got, err := wire.ReadMessage(questionFor(reply(t, 7)))
	require.NoError(t, err)
	assert.Equal(t, wire.Message{ID: 7, Flags: wire.RD, Questions: []wire.Question{asked}}, got)
	for _, bad := range [][]byte{nil, reply(t, 1)[:20], message(t, wire.Message{Flags: wire.QR}), append(binary.BigEndian.AppendUint16([]byte{0, 0, 0x80, 0}, 1), 0, 0, 0, 0, 0, 0, 0xc0, 0)} {
		assert.Empty(t, questionFor(bad))
	}
}

func FuzzDnstap(f *testing.F) {
	var b bytes.Buffer
	w, err := NewDnstapWriter(&b, "office")
	require.NoError(f, err)
	require.NoError(f, w.Message(&Message{At: 5e9, From: client, To: office, Data: query(f, 1)}, Client, false))
	require.NoError(f, w.Message(&Message{At: 6e9, From: office, To: client, Data: reply(f, 1)}, Client, true))
	require.NoError(f, w.Close())
	f.Add(b.Bytes())
	f.Add(append(appendControl(nil, ready, true), b.Bytes()...))
	f.Fuzz(func(t *testing.T, data []byte) {
		var back bytes.Buffer
		messages, err := all(NewDnstap(bytes.NewReader(data), &back))
		known(t, messages, err)
	})
}

func FuzzCDNS(f *testing.F) {
	var b bytes.Buffer
	w, err := NewCDNSWriter(&b)
	require.NoError(f, err)
	require.NoError(f, w.Add(&Exchange{Client: client, Server: office, Sent: 5e9, Received: 6e9, Query: query(f, 1), Reply: reply(f, 1)}))
	require.NoError(f, w.Add(&Exchange{Client: client, Server: office, Query: []byte("x")}))
	require.NoError(f, w.Close())
	f.Add(b.Bytes())
	f.Add([]byte("\x83\x65C-DNS\xa3\x00\x01\x01\x00\x03\x81\xa1\x00\xa5\x00\x01\x01\x01\x02\xa4\x00\x00\x01\x00\x02\x00\x03\x00\x03\x80\x04\x80\x81\xa1\x00\xa0"))
	f.Fuzz(func(t *testing.T, data []byte) {
		messages, err := all(NewCDNS(bytes.NewReader(data)))
		known(t, messages, err)
	})
}

// known checks what every reader owes: errors of its own, and messages that have ends of one family.
func known(t *testing.T, messages []Message, err error) {
	if err != nil && !errors.Is(err, ErrDamaged) && !errors.Is(err, ErrCut) && !errors.Is(err, ErrContent) {
		t.Fatal(err)
	}
	for _, m := range messages {
		if !m.From.Addr().IsValid() || !m.To.Addr().IsValid() || len(m.Data) > 65535 && len(m.Data) > maxFrame {
			t.Fatal(m)
		}
	}
}
