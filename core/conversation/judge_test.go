package conversation

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/capture"
	"unquil/core/exchange"
	"unquil/core/finding"
	"unquil/core/wire"
)

// codes are the findings of a capture, with their sentences.
func found(o *Overview, code finding.Code) []finding.Finding {
	var all []finding.Finding
	for _, f := range o.Findings {
		if f.Code == code {
			all = append(all, f)
		}
	}
	return all
}

// A server whose TTLs count down by the time that passed is a cache; one whose TTLs
// stay, or jump, is not told to be one.
func TestCachesCountDown(t *testing.T) {
	question := []wire.Question{{Name: wire.MustParseName("www.tarn.example"), Type: wire.A, Class: wire.IN}}
	for name, tt := range map[string]struct {
		ttls  []uint32 // ten seconds apart
		flags wire.Flags
		cache bool
	}{
		"counting down":           {[]uint32{300, 290, 280}, wire.RA, true},
		"a second off":            {[]uint32{300, 289}, wire.RA, true},
		"staying":                 {[]uint32{300, 300, 300}, wire.RA, false},
		"jumping":                 {[]uint32{300, 120}, wire.RA, false},
		"the zone's own, by luck": {[]uint32{300, 290}, wire.AA, false},
	} {
		t.Run(name, func(t *testing.T) {
			var all []sent
			for i, ttl := range tt.ttls {
				at := time.Duration(i) * 10 * time.Second
				r := record(t, "www.tarn.example", wire.A, "203.0.113.120")
				r.TTL = ttl
				all = append(all, sent{at, desk.String(), isp.String(), wire.Message{ID: uint16(i), Flags: wire.RD, Questions: question}},
					sent{at + time.Millisecond, isp.String(), desk.String(), wire.Message{ID: uint16(i), Flags: wire.QR | tt.flags, Questions: question, Answer: []wire.Record{r}}})
			}
			o, err := Read(t.Context(), []*capture.Reader{capturesOf(t, all...)}, Options{})
			require.NoError(t, err)
			rows, _ := o.Servers()
			require.Len(t, rows, 1)
			assert.Equal(t, tt.cache, rows[0].Stat.HasCache())
		})
	}
}

// DNS is looked for at the ports that are named, and at no others.
func TestPorts(t *testing.T) {
	question := wire.Message{ID: 1, Questions: []wire.Question{{Name: wire.MustParseName("www.tarn.example"), Type: wire.A, Class: wire.IN}}}
	for name, tt := range map[string]struct {
		port  string
		ports []uint16
		want  int
	}{"53": {"53", nil, 1}, "another": {"5300", nil, 0}, "another that is named": {"5300", []uint16{5300}, 1}, "53 beside it": {"53", []uint16{5300}, 1}} {
		o, err := Read(t.Context(), []*capture.Reader{capturesOf(t, sent{0, desk.String(), "198.51.100.53:" + tt.port, question})}, Options{Ports: tt.ports})
		require.NoError(t, err)
		assert.Equal(t, tt.want, o.Exchanges, name)
	}
}

// shortened is an IPv4 frame whose datagram is so many bytes shorter, as its headers say too;
// its UDP checksum is left out.
func shortened(frame []byte, by int) []byte {
	frame = bytes.Clone(frame[:len(frame)-by])
	ip, udp := frame[14:], frame[14+20:]
	binary.BigEndian.PutUint16(ip[2:], uint16(len(ip)))
	binary.BigEndian.PutUint16(udp[4:], uint16(len(udp)))
	binary.BigEndian.PutUint16(udp[6:], 0)
	return frame
}

// What the capture has a part of only is told from what never came.
func TestPartsOfReplies(t *testing.T) {
	ask := packet{client: desk, id: 1, name: "www.tarn.example"}
	answer := packet{at: 20 * time.Millisecond, client: desk, id: 1, name: "www.tarn.example", reply: true}
	later := packet{at: 90 * time.Second, client: till, id: 9, name: "end.example"}
	whole := answer.bytes(t)
	for _, tt := range []struct {
		name    string
		reply   func(w *capture.Writer) error
		outcome exchange.Outcome
		text    string // of the finding
	}{
		{"cut behind its question", func(w *capture.Writer) error {
			return w.Record(&capture.Record{At: begin.Add(answer.at).UnixNano(), Link: capture.Ethernet, Data: whole[:len(whole)-6], Length: len(whole)}, "")
		}, exchange.CutOff, "the capture has only part of its reply"},
		{"cut within its question", func(w *capture.Writer) error {
			return w.Record(&capture.Record{At: begin.Add(answer.at).UnixNano(), Link: capture.Ethernet, Data: whole[:14+28+16], Length: len(whole)}, "")
		}, exchange.CutOff, "the capture has only part of its reply"},
		{"its second fragment is missing", func(w *capture.Writer) error {
			return w.Packet(begin.Add(answer.at), capture.Fragments(whole, 7, 48)[0], "")
		}, exchange.CutOff, "fragments of its reply are missing"},
		{"all of it, in fragments", func(w *capture.Writer) error {
			for _, part := range capture.Fragments(whole, 7, 48) {
				if err := w.Packet(begin.Add(answer.at), part, ""); err != nil {
					return err
				}
			}
			return nil
		}, exchange.Answered, ""},
		{"damaged within its question", func(w *capture.Writer) error {
			return w.Record(&capture.Record{At: begin.Add(answer.at).UnixNano(), Link: capture.Ethernet, Data: shortened(whole, len(whole)-14-28-16), Length: 14 + 28 + 16}, "")
		}, exchange.Rejection, "198.51.100.53 sent 1 reply that cannot be read"},
		{"damaged within its records", func(w *capture.Writer) error {
			return w.Record(&capture.Record{At: begin.Add(answer.at).UnixNano(), Link: capture.Ethernet, Data: shortened(whole, 6), Length: len(whole) - 6}, "")
		}, exchange.Rejection, "198.51.100.53 sent 1 reply that cannot be read"},
		{"nothing", func(*capture.Writer) error { return nil }, exchange.NoReply, "the capture has no reply"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			var buf bytes.Buffer
			w, err := capture.NewWriter(&buf, capture.Ethernet)
			require.NoError(t, err)
			require.NoError(t, w.Packet(begin, ask.bytes(t), ""))
			require.NoError(t, tt.reply(w))
			require.NoError(t, w.Packet(begin.Add(later.at), later.bytes(t), ""))
			r, err := capture.NewReader(&buf)
			require.NoError(t, err)
			o, err := Read(t.Context(), []*capture.Reader{r}, Options{})
			require.NoError(t, err)
			assert.Equal(t, tt.outcome, o.Kept[0].Outcome)
			if tt.outcome == exchange.Rejection {
				assert.Error(t, o.Kept[0].Err, "it says what is wrong")
				assert.Zero(t, o.Answers(isp.Addr()))
			}
			var texts []string
			for _, f := range o.Findings {
				texts = append(texts, f.Text)
			}
			if tt.text != "" {
				assert.Contains(t, strings.Join(texts, "\n"), tt.text)
			} else {
				assert.NotContains(t, strings.Join(texts, "\n"), "reply")
			}
		})
	}
}

// Many of one kind are one finding, with some of its exchanges as evidence and some
// of its names.
func TestManyOfOneKindAreOneFinding(t *testing.T) {
	var packets []packet
	for i := range 100 {
		p := packet{at: time.Duration(i) * time.Second, client: desk, id: uint16(i), name: fmt.Sprintf("h%d.tarn.example", i)}
		packets = append(packets, p)
		p.at, p.reply, p.code = p.at+time.Millisecond, true, wire.ServFail
		packets = append(packets, p)
	}
	o, err := Read(t.Context(), []*capture.Reader{file(t, packets...)}, Options{Keep: 10})
	require.NoError(t, err)
	failures := found(o, finding.Failed)
	require.Len(t, failures, 1)
	assert.Contains(t, failures[0].Text, "100 times")
	assert.Contains(t, failures[0].Text, "h0.tarn.example, h1.tarn.example, h2.tarn.example")
	assert.Len(t, failures[0].Evidence, maxEvidence)
	assert.Len(t, o.Kept, 10)
	assert.Equal(t, 90, o.NotKept)
	rows, uncounted := o.Names()
	assert.Len(t, rows, 100)
	assert.Zero(t, uncounted)
}

// More questions than can be open at once are given up, and that is told.
func TestTooManyOpen(t *testing.T) {
	emitted := 0
	pairer := newPairer(func(*Transaction) { emitted++ })
	p := capture.Packet{To: capture.EndpointOf(isp), At: 1}
	query, err := (&wire.Message{Questions: []wire.Question{{Name: wire.MustParseName("www.tarn.example"), Type: wire.A, Class: wire.IN}}}).Bytes()
	require.NoError(t, err)
	p.Payload = query
	var names wire.NameCache
	for i := range maxOpen + 100 {
		p.From = capture.EndpointOf(netip.AddrPortFrom(netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)}), 5000))
		c := &chunk{}
		require.NoError(t, c.read(&p, p.Payload, &names))
		c.each(pairer)
		pairer.Keep(&c.envelopes)
	}
	assert.Equal(t, 100, pairer.Dropped)
	pairer.Close()
	assert.Equal(t, maxOpen+100, emitted)
}

// A choice leaves the findings of others out.
func TestFindingsOfAChoice(t *testing.T) {
	packets := []packet{{client: desk, id: 1, name: "a.tarn.example"}, {at: time.Millisecond, client: desk, id: 1, name: "a.tarn.example", reply: true, code: wire.ServFail},
		{at: time.Second, client: till, id: 2, name: "b.tarn.example"}, {at: time.Second + time.Millisecond, client: till, id: 2, name: "b.tarn.example", reply: true, code: wire.Refused}}
	for client, want := range map[string]string{"192.0.2.21": "server-failure", "192.0.2.22": "refused"} {
		choice := Filter{Clients: []netip.Prefix{netip.MustParsePrefix(client + "/32")}}
		choose, err := choice.Compile()
		require.NoError(t, err)
		o, err := Read(t.Context(), []*capture.Reader{file(t, packets...)}, Options{Choose: choose})
		require.NoError(t, err)
		failures := found(o, finding.Failed)
		require.Len(t, failures, 1)
		assert.Contains(t, failures[0].Text, want)
		rows, _ := o.Clients()
		require.Len(t, rows, 1)
		assert.Equal(t, client, rows[0].Key)
	}
}

// What hundreds of clients have alike is one finding about the server; what few have is
// told of each.
func TestManyClientsAreOneFinding(t *testing.T) {
	at := func(clients int, each func(i int, client netip.AddrPort) []packet) []packet {
		var all []packet
		for i := range clients {
			all = append(all, each(i, netip.AddrPortFrom(netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)}), 40000))...)
		}
		return append(all, packet{at: time.Hour, client: desk, id: 9, name: "end.example"}, packet{at: time.Hour, client: desk, id: 9, name: "end.example", reply: true})
	}
	silence := func(i int, client netip.AddrPort) []packet {
		name := fmt.Sprintf("host%d.tarn.example", i)
		return []packet{{client: client, id: 1, name: name}, {at: 5 * time.Second, client: client, id: 1, name: name}}
	}
	suffixed := func(i int, client netip.AddrPort) []packet {
		return []packet{{client: client, id: 1, name: "www.tarn.example.tarn.example"}, {client: client, id: 1, name: "www.tarn.example.tarn.example", reply: true, code: wire.NXDomain},
			{at: 100 * time.Millisecond, client: client, id: 2, name: "www.tarn.example"}, {at: 100 * time.Millisecond, client: client, id: 2, name: "www.tarn.example", reply: true}}
	}
	elsewhere := func(i int, client netip.AddrPort) []packet {
		second := netip.MustParseAddrPort("192.0.2.53:53")
		return []packet{{client: client, id: 1, name: "www.tarn.example"}, {at: 2 * time.Second, client: client, id: 2, server: second, name: "www.tarn.example"},
			{at: 2 * time.Second, client: client, id: 2, server: second, name: "www.tarn.example", reply: true}}
	}
	for _, tt := range []struct {
		name    string
		packets []packet
		code    finding.Code
		count   int
		text    string // of the first
		client  string
	}{
		{"five are told of each", at(5, silence), finding.Unanswered, 5, "10.0.0.0 queried 198.51.100.53 twice, and the capture has no reply: host0.tarn.example A.", "10.0.0.0"},
		{"six are one", at(6, silence), finding.Unanswered, 1, "6 clients queried 198.51.100.53 12 times, and the capture has no reply: host0.tarn.example, host1.tarn.example, host2.tarn.example and others.", ""},
		{"that all went elsewhere", at(6, elsewhere), finding.Unanswered, 1, "6 clients queried 198.51.100.53 6 times, and the capture has no reply: www.tarn.example A. They then queried 192.0.2.53, having lost up to 2.0 s.", ""},
		{"a search list that all have", at(7, suffixed), finding.SuffixAppended, 1, "7 clients tried names with the suffix tarn.example first: 7 questions wasted, 700 ms.", ""},
		{"more than are told from each other", at(maxGroups+50, silence), finding.Unanswered, 1, "at least ", ""},
	} {
		t.Run(tt.name, func(t *testing.T) {
			o, err := Read(t.Context(), []*capture.Reader{file(t, sorted(tt.packets)...)}, Options{})
			require.NoError(t, err)
			all := found(o, tt.code)
			require.Len(t, all, tt.count)
			assert.Contains(t, all[0].Text, tt.text)
			assert.Equal(t, tt.client, all[0].About.Client)
			assert.LessOrEqual(t, len(all[0].Evidence), maxEvidence)
			assert.Zero(t, o.MoreFound)
		})
	}
}
