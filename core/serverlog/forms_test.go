package serverlog

import (
	"bufio"
	"bytes"
	"io"
	"net/netip"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/wire"
)

// reader is what reads CBOR items from bytes.
func reader(data string) *items { return &items{in: bufio.NewReader(strings.NewReader(data))} }

// An item is read to its end, whatever is behind it, and however its length is said.
func TestItemsEnd(t *testing.T) {
	for what, item := range map[string]string{
		"a number":                    "\x18\x64",
		"a large number":              "\x1b\x00\x00\x00\x01\x00\x00\x00\x00",
		"a negative number":           "\x38\x63",
		"bytes":                       "\x43abc",
		"a text of unsaid length":     "\x7f\x61a\x62bc\xff",
		"an empty array":              "\x80",
		"an array of unsaid length":   "\x9f\x01\x82\x02\x03\xff",
		"an array within one":         "\x82\x9f\xff\x81\x80",
		"a map":                       "\xa2\x00\x01\x20\x63abc",
		"a map of unsaid length":      "\xbf\x00\x9f\xff\x01\xa0\xff",
		"something with a tag":        "\xc1\x1a\x5f\x00\x00\x00",
		"a fraction, true and null":   "\x83\xfb\x3f\xf0\x00\x00\x00\x00\x00\x00\xf5\xf6",
		"as many within as there may": strings.Repeat("\x81", maxDepth-1) + "\x00",
	} {
		t.Run(what, func(t *testing.T) {
			s := reader(item + "\x01rest")
			require.NoError(t, s.item(1))
			assert.Equal(t, item, string(s.buf))
			assert.Equal(t, int64(len(item)), s.offset)
			for cut := range len(item) {
				assert.ErrorIs(t, reader(item[:cut]).item(1), ErrCut)
			}
		})
	}
	for what, item := range map[string]string{
		"a length of no form": "\x1c", "an open number": "\x1f", "an open tag": "\xdf", "an end alone": "\xff", "an end in an array of two": "\x82\x01\xff",
		"too many within each other": strings.Repeat("\x81", maxDepth+1) + "\x00", "more bytes than there may be": "\x5a\x7f\xff\xff\xff", "more pairs than there may be": "\xbb\x7f\xff\xff\xff\xff\xff\xff\xff",
	} {
		assert.ErrorIs(t, reader(item).item(1), ErrDamaged, what)
	}
}

// Files whose lengths are not said beforehand, as those who write while they listen make them, read as others do.
func TestCDNSOfUnsaidLength(t *testing.T) {
	var written bytes.Buffer
	w, err := NewCDNSWriter(&written)
	require.NoError(t, err)
	require.NoError(t, w.Add(&Exchange{Client: client, Server: office, Sent: 5e9, Received: 6e9, Query: query(t, 1), Reply: reply(t, 1)}))
	require.NoError(t, w.Close())
	want, err := all(NewCDNS(bytes.NewReader(written.Bytes())))
	require.NoError(t, err)
	open := append([]byte{0x9f}, written.Bytes()[1:]...)
	got, err := all(NewCDNS(bytes.NewReader(append(open, 0xff))))
	require.NoError(t, err)
	assert.Equal(t, want, got)
	source := NewCDNS(bytes.NewReader(written.Bytes()))
	_, err = all(source)
	assert.NoError(t, err)
	assert.Equal(t, int64(written.Len()), source.Offset())
}

// A message that is put together has no more than a message may, and nothing behind what had no room.
func TestBuilderHasABound(t *testing.T) {
	var b builder
	b.begin(7, 0x8000, 0, 0)
	b.question([]byte(name.Wire()), classType{1, 1})
	for range 3 {
		b.record(1, []byte(name.Wire()), classType{16, 1}, 60, bytes.Repeat([]byte{0}, 30_000))
	}
	b.record(2, []byte{0}, classType{2, 1}, 60, []byte{0})
	b.question([]byte(name.Wire()), classType{28, 1})
	m, err := wire.ReadMessage(b.message())
	require.NoError(t, err)
	assert.Equal(t, []int{1, 2, 0, 0}, []int{len(m.Questions), len(m.Answer), len(m.Authority), len(m.Additional)})
	assert.Equal(t, name, m.Answer[0].Name)

	b.begin(7, 0x8000, 0, 0)
	b.question([]byte(name.Wire()), classType{1, 1})
	b.record(1, []byte(name.Wire()), classType{5, 1}, 60, []byte{63})
	unread := b.message()
	assert.Equal(t, []byte{63}, unread[len(unread)-1:], "what cannot be read stays as it is")
	assert.Equal(t, io.EOF, (&CDNS{ended: true}).Next(nil))
}

// Blocks are read ahead: those before a bad one are whole, and what nobody asks for any more is left behind without
// anything that waits for it.
func TestBlocksAreReadAhead(t *testing.T) {
	var written bytes.Buffer
	w, err := NewCDNSWriter(&written)
	require.NoError(t, err)
	query := wire.Message{ID: 1, Flags: wire.RD, Questions: []wire.Question{{Name: name, Type: wire.A, Class: wire.IN}}}
	data, err := query.Bytes()
	require.NoError(t, err)
	var ends []int
	for i := range 3 * maxBlockItems {
		require.NoError(t, w.Add(&Exchange{Client: netip.MustParseAddrPort("192.0.2.21:50000"), Server: netip.MustParseAddrPort("192.0.2.53:53"), Sent: int64(1e18 + i), Query: data}))
		if (i+1)%maxBlockItems == 0 {
			ends = append(ends, written.Len())
		}
	}
	require.NoError(t, w.Close())
	for _, tt := range []struct {
		name   string
		file   []byte
		blocks int
		err    error
	}{
		{"whole", written.Bytes(), 3, nil},
		{"cut in the second", written.Bytes()[:ends[1]-10], 1, ErrCut},
		{"cut behind the second", written.Bytes()[:ends[1]], 2, ErrCut},
		{"the third is no block", append(written.Bytes()[:ends[1]:ends[1]], 0x01), 2, ErrDamaged},
	} {
		t.Run(tt.name, func(t *testing.T) {
			source := NewCDNS(bytes.NewReader(tt.file))
			messages, err := all(source)
			assert.Len(t, messages, tt.blocks*maxBlockItems)
			assert.ErrorIs(t, err, tt.err)
			assert.Equal(t, io.EOF, source.Next(nil))
			assert.LessOrEqual(t, source.Offset(), int64(len(tt.file)))
		})
	}
	before := runtime.NumGoroutine()
	for range 20 {
		require.NoError(t, NewCDNS(bytes.NewReader(written.Bytes())).Next(func(*Message) {}))
	}
	assert.Eventually(t, func() bool { return runtime.NumGoroutine() < before+10 }, 10*time.Second, 10*time.Millisecond)
}

// What is added is the caller's again at once: messages that can be read, and those that cannot.
func TestAddedMessagesAreCopied(t *testing.T) {
	query := wire.Message{ID: 1, Flags: wire.RD, Questions: []wire.Question{{Name: name, Type: wire.A, Class: wire.IN}}}
	asked, err := query.Bytes()
	require.NoError(t, err)
	query.Flags |= wire.QR
	query.Answer = []wire.Record{{Name: name, Type: wire.TXT, Class: wire.IN, TTL: 60, Data: "\x04text"}}
	replied, err := query.Bytes()
	require.NoError(t, err)
	for what, e := range map[string]Exchange{
		"an exchange":         {Query: asked, Reply: replied},
		"a damaged question":  {Query: asked[:20]},
		"a damaged reply":     {Reply: replied[:40]},
		"both, and one is so": {Query: asked, Reply: replied[:40]},
	} {
		t.Run(what, func(t *testing.T) {
			write := func(spoil bool) []Message {
				var written bytes.Buffer
				w, err := NewCDNSWriter(&written)
				require.NoError(t, err)
				own := e
				own.Client, own.Server = netip.MustParseAddrPort("192.0.2.21:50000"), netip.MustParseAddrPort("192.0.2.53:53")
				own.Query, own.Reply = bytes.Clone(e.Query), bytes.Clone(e.Reply)
				require.NoError(t, w.Add(&own))
				if spoil {
					clear(own.Query)
					clear(own.Reply)
				}
				require.NoError(t, w.Close())
				messages, err := all(NewCDNS(&written))
				require.ErrorIs(t, err, nil)
				return messages
			}
			want := write(false)
			require.NotEmpty(t, want)
			assert.Equal(t, want, write(true))
		})
	}
}
