package live

import (
	"encoding/binary"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/bpf"

	"unquil/core/capture"
)

var (
	client, server   = netip.MustParseAddrPort("192.0.2.21:40000"), netip.MustParseAddrPort("192.0.2.53:53")
	client6, server6 = netip.MustParseAddrPort("[2001:db8::21]:40000"), netip.MustParseAddrPort("[2001:db8::53]:53")
)

// tagged puts VLAN tags into an Ethernet frame.
func tagged(frame []byte, kinds ...uint16) []byte {
	for _, kind := range kinds {
		tag := binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(nil, kind), 0x4005) // whose first half byte looks like IPv4
		frame = append(append(append([]byte(nil), frame[:12]...), tag...), frame[12:]...)
	}
	return frame
}

// withOptions puts a header of extensions of so many times eight bytes into an IPv6 frame.
func withOptions(frame []byte, kind byte, eights int) []byte {
	out := append([]byte(nil), frame[:14+40]...)
	header := make([]byte, 8*eights)
	header[0], header[1] = out[14+6], byte(eights-1)
	out[14+6] = kind
	return append(append(out, header...), frame[14+40:]...)
}

// The kernel's filter keeps what has to do with DNS, and nothing else.
func TestFilter(t *testing.T) {
	at := func(to netip.AddrPort, port uint16) netip.AddrPort { return netip.AddrPortFrom(to.Addr(), port) }
	question, question6 := capture.AppendFrame(nil, client, server, make([]byte, 30)), capture.AppendFrame(nil, client6, server6, make([]byte, 30))
	reply := capture.AppendFrame(nil, server, client, make([]byte, 60))
	web := capture.AppendFrame(nil, client, at(server, 8080), make([]byte, 30))
	web6 := capture.AppendFrame(nil, client6, at(server6, 8080), make([]byte, 30))
	parts := capture.Fragments(capture.AppendFrame(nil, server, client, make([]byte, 1800)), 7, 1480)
	webParts := capture.Fragments(capture.AppendFrame(nil, at(server, 8080), client, make([]byte, 1800)), 7, 1480)
	icmp6 := func(kind byte) []byte {
		frame := append([]byte(nil), question6...)
		frame[14+6], frame[14+40] = protocolICMP6, kind
		return frame
	}
	echo := capture.AppendICMP(nil, server.Addr(), question)
	echo[14+20] = 8
	arp := append(append([]byte(nil), question[:12]...), 0x08, 0x06, 0, 1, 8, 0, 6, 4, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0)
	for _, c := range []struct {
		what            string
		frame           []byte
		keeps, question bool // in a filter of all, and of questions
	}{
		{"a question", question, true, true},
		{"a question over IPv6", question6, true, true},
		{"a reply", reply, true, false},
		{"a question over TCP", capture.NewStream(client, server).Open()[0], true, true},
		{"a question over TLS", capture.NewStream(client, at(server, 853)).Open()[0], true, true},
		{"multicast DNS", capture.AppendFrame(nil, at(client, 5353), netip.MustParseAddrPort("224.0.0.251:5353"), make([]byte, 30)), true, true},
		{"link-local names", capture.AppendFrame(nil, client6, netip.MustParseAddrPort("[ff02::1:3]:5355"), make([]byte, 30)), true, true},
		{"at a port of one's own", capture.AppendFrame(nil, client, at(server, 5454), make([]byte, 30)), true, true},
		{"something else", web, false, false},
		{"something else over IPv6", web6, false, false},
		{"with a VLAN tag", tagged(question, ethernet8021Q), true, true},
		{"with two", tagged(question6, ethernet8021Q, ethernet8021AD), true, true},
		{"something else with a tag", tagged(web, ethernet8021Q), false, false},
		{"something else with two", tagged(web6, ethernet8021Q, ethernet8021Q), false, false},
		{"the first fragment", parts[0], true, false},
		{"the second, which has no ports", parts[1], true, false},
		{"the first fragment of something else", webParts[0], false, false},
		{"a fragment over IPv6", withOptions(question6, fragment, 1), true, false},
		{"behind options", withOptions(question6, destination, 3), true, true},
		{"something else behind options", withOptions(web6, hopByHop, 2), false, false},
		{"options behind options", withOptions(withOptions(question6, destination, 1), hopByHop, 1), true, false},
		{"an ICMP error", capture.AppendICMP(nil, server.Addr(), question), true, false},
		{"an echo", echo, false, false},
		{"an ICMPv6 error", icmp6(1), true, false},
		{"an ICMPv6 advertisement", icmp6(136), false, false},
		{"ARP", arp, false, false},
		{"nothing", []byte{1, 2, 3}, false, false},
	} {
		t.Run(c.what, func(t *testing.T) {
			for _, questions := range []bool{false, true} {
				o := Options{Ports: []uint16{5454, 53}, Questions: questions}
				raw, err := filter(shape{network: 14, protocol: bpf.LoadAbsolute{Off: 12, Size: 2}}, o.ports(), questions)
				require.NoError(t, err)
				program, ok := bpf.Disassemble(raw)
				require.True(t, ok)
				vm, err := bpf.NewVM(program)
				require.NoError(t, err)
				kept, err := vm.Run(c.frame)
				require.NoError(t, err)
				assert.Equal(t, map[bool]bool{false: c.keeps, true: c.question}[questions], kept > 0, "questions alone: %v", questions)
				assert.LessOrEqual(t, len(raw), 4096, "as many as the kernel takes")
			}
		})
	}
	_, err := Open(Options{Ports: make([]uint16, 0, 100), Interfaces: []string{"no such interface"}})
	assert.Error(t, err)
	many := Options{}
	for port := range uint16(100) {
		many.Ports = append(many.Ports, port)
	}
	assert.ErrorContains(t, many.check(), "too many")
}

// A buffer of macOS holds packets behind headers, at places that fit its words; what is broken ends it.
func TestBPFBuffer(t *testing.T) {
	packet := func(length uint32, data string) []byte {
		b := binary.NativeEndian.AppendUint32(nil, 1_773_042_000)
		b = binary.NativeEndian.AppendUint32(b, 250)
		b = binary.NativeEndian.AppendUint32(b, uint32(len(data)))
		b = binary.NativeEndian.AppendUint32(b, length)
		b = append(append(binary.NativeEndian.AppendUint16(b, 18), data...), make([]byte, (4-(18+len(data))%4)%4)...)
		return b
	}
	broken := packet(9, "cut")
	binary.NativeEndian.PutUint32(broken[8:], 1<<31)
	var got []string
	for _, buffer := range [][]byte{append(packet(5, "first"), packet(900, "second")...), broken, broken[:10], nil} {
		bpfPackets(buffer, func(at int64, length int, data []byte) {
			assert.Equal(t, int64(1_773_042_000_000_250_000), at)
			got = append(got, string(data)+map[bool]string{true: " cut"}[length > len(data)])
		})
	}
	assert.Equal(t, []string{"first", "second cut"}, got)
}
