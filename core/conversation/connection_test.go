package conversation

import (
	"bytes"
	"encoding/binary"
	"net/netip"
	"slices"
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

// frames reads packets that follow each other by a second.
func frames(t *testing.T, all ...[]byte) *Overview {
	var buf bytes.Buffer
	w, err := capture.NewWriter(&buf, capture.Ethernet)
	require.NoError(t, err)
	for i, frame := range all {
		require.NoError(t, w.Packet(begin.Add(time.Duration(i)*time.Second), frame, ""))
	}
	r, err := capture.NewReader(&buf)
	require.NoError(t, err)
	o, err := Read(t.Context(), []*capture.Reader{r}, Options{})
	require.NoError(t, err)
	return o
}

// What a client does after a reply that was cut decides how bad that is.
func TestWhatFollowsACutReply(t *testing.T) {
	q := packet{client: desk, id: 1, name: "timetable.example", t: wire.TXT, flags: wire.TC}
	question, reply := q.bytes(t), []byte(nil)
	q.reply = true
	reply = q.bytes(t)
	over := netip.AddrPortFrom(desk.Addr(), 51000)
	handshake := capture.NewStream(over, isp).Open()
	reset := bytes.Clone(handshake[1])
	reset[14+20+13] = capture.RST | capture.ACK
	stream := capture.NewStream(over, isp)
	again := wire.Message{ID: 2, Flags: wire.RD, Questions: []wire.Question{{Name: wire.MustParseName("timetable.example"), Type: wire.TXT, Class: wire.IN}}}
	overTCP := func(from netip.AddrPort, m wire.Message) []byte {
		data, err := m.Bytes()
		require.NoError(t, err)
		return stream.Append(nil, from, append(binary.BigEndian.AppendUint16(nil, uint16(len(data))), data...))
	}
	asked := overTCP(over, again)
	again.Flags |= wire.QR
	other := capture.NewStream(till, isp).Open()
	for name, tt := range map[string]struct {
		then     [][]byte
		severity finding.Severity
		says     string
	}{
		"nothing":                        {nil, finding.Concern, "not retried over TCP"},
		"another client's connection":    {other[:1], finding.Concern, "not retried over TCP"},
		"a connection and no question":   {handshake, finding.Concern, "not retried over TCP"},
		"silence":                        {[][]byte{handshake[0], handshake[0], handshake[0], handshake[0]}, finding.Fault, "the TCP connection"},
		"the end of the capture":         {[][]byte{handshake[0], handshake[0]}, finding.Note, "the capture ends before"},
		"a reset":                        {[][]byte{handshake[0], reset}, finding.Fault, "refused the TCP connection"},
		"a reset, and another's success": {[][]byte{handshake[0], reset, other[0], other[1]}, finding.Fault, "refused the TCP connection"},
		"the answer over TCP":            {[][]byte{handshake[0], handshake[1], asked, overTCP(isp, again)}, finding.Note, "retried over TCP"},
	} {
		t.Run(name, func(t *testing.T) {
			refusedAlone := frames(t, tt.then...)
			assert.Equal(t, strings.Contains(name, "reset"), slices.ContainsFunc(refusedAlone.Findings, func(f finding.Finding) bool {
				return f.Code == finding.TCPRefused && f.Packets[0] == 1 && f.Severity == finding.Concern
			}), "a reset is told of without a cut reply too")
			assert.Equal(t, name == "silence", slices.ContainsFunc(refusedAlone.Findings, func(f finding.Finding) bool { return f.Code == finding.Unanswered }), "and so is silence")
			found := frames(t, append([][]byte{question, reply}, tt.then...)...).Findings[0]
			assert.Equal(t, finding.Truncated, found.Code)
			assert.Equal(t, tt.severity, found.Severity)
			assert.Contains(t, found.Text, tt.says)
		})
	}
}

// Messages of other opcodes, without a question or with several are exchanges too, and
// raise no alarm.
func TestOtherMessages(t *testing.T) {
	soa := wire.Question{Name: wire.MustParseName("hollowtarn.example"), Type: wire.SOA, Class: wire.IN}
	flags := wire.Flags(0)
	for name, tt := range map[string]struct {
		flags     wire.Flags
		questions []wire.Question
		says      string
		outcome   exchange.Outcome
	}{
		"NOTIFY":       {flags.WithOpcode(wire.OpNotify), []wire.Question{soa}, "NOTIFY hollowtarn.example SOA", exchange.Answered},
		"UPDATE":       {flags.WithOpcode(5), []wire.Question{soa}, "UPDATE hollowtarn.example SOA", exchange.Answered},
		"no question":  {0, nil, "no question", exchange.NoData},
		"two of them":  {0, []wire.Question{soa, {Name: soa.Name, Type: wire.NS, Class: wire.IN}}, "hollowtarn.example SOA and 1 more", exchange.NoData},
		"one of class": {0, []wire.Question{{Name: soa.Name, Type: wire.TXT, Class: 3}}, "hollowtarn.example TXT", exchange.NoData},
	} {
		t.Run(name, func(t *testing.T) {
			m := wire.Message{ID: 9, Flags: tt.flags, Questions: tt.questions}
			asked, err := m.Bytes()
			require.NoError(t, err)
			m.Flags |= wire.QR
			answered, err := m.Bytes()
			require.NoError(t, err)
			o := frames(t, capture.AppendFrame(nil, desk, isp, asked), capture.AppendFrame(nil, isp, desk, answered))
			require.Len(t, o.Kept, 1)
			assert.Equal(t, tt.says, o.Kept[0].Asked())
			assert.Equal(t, tt.outcome, o.Kept[0].Outcome)
			assert.Equal(t, map[exchange.Outcome]int{tt.outcome: 1}, o.Outcomes)
			for _, f := range o.Findings {
				assert.Equal(t, finding.Note, f.Severity, f.Text)
			}
		})
	}
}
