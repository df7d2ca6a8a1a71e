package live

import (
	"golang.org/x/net/bpf"
)

// shape is where a filter finds what it looks at in a packet.
type shape struct {
	network  uint32          // where the header of the network layer begins
	protocol bpf.Instruction // loads the EtherType; nil: there is none, and no VLAN tag
	before   []step          // is done first; it goes on behind itself, or ends
}

// How a filter ends, and how many bytes of a packet are kept: as many as a packet can have, or
// enough of a question to tell whose it is.
const (
	reject   = 0
	whole    = 1 << 18
	headOnly = 160
)

// The protocols and messages that a filter tells apart, as IANA numbers them.
const (
	ethernet8021Q  = 0x8100
	ethernet8021AD = 0x88a8
	protocolICMP   = 1
	protocolTCP    = 6
	protocolUDP    = 17
	hopByHop       = 0
	routing        = 43
	fragment       = 44
	protocolICMP6  = 58
	destination    = 60
	vlanTag        = 4 // bytes
)

// step is one instruction. Where a label is given it jumps there if the accumulator is value,
// or for a test of bits if they are set; otherwise it goes on with the next.
type step struct {
	bpf.Instruction
	test  bpf.JumpTest
	value uint32
	to    string // the label that it jumps to; "" for none
	label string // its own
}

func load(size int, at uint32) step { return step{Instruction: bpf.LoadAbsolute{Off: at, Size: size}} }
func loadX(size int, at uint32) step {
	return step{Instruction: bpf.LoadIndirect{Off: at, Size: size}}
}
func when(value uint32, to string) step     { return step{test: bpf.JumpEqual, value: value, to: to} }
func whenBits(value uint32, to string) step { return step{test: bpf.JumpBitsSet, value: value, to: to} }
func whenLess(value uint32, to string) step {
	return step{test: bpf.JumpLessThan, value: value, to: to}
}
func label(name string) step { return step{label: name} }
func jump(to string) step    { return step{to: to, test: always} }

const always = bpf.JumpTest(0xffff)

// filter is the program by which the kernel keeps packets of DNS, whichever way they go, behind
// up to two VLAN tags that are still in the packet, over IPv4 and IPv6. Of datagrams in fragments
// all but the first have no ports: every such fragment is kept, and so are the ICMP errors.
func filter(s shape, ports []uint16, questions bool) ([]bpf.RawInstruction, error) {
	steps := append([]step(nil), s.before...)
	if s.protocol != nil {
		steps = append(steps, step{Instruction: s.protocol},
			when(ethernet8021Q, "one tag"), when(ethernet8021AD, "one tag"))
	}
	steps = append(steps, network("untagged", s.network, ports, questions)...)
	if s.protocol != nil {
		steps = append(steps, label("one tag"), load(2, s.network+2), when(ethernet8021Q, "two tags"), when(ethernet8021AD, "two tags"))
		steps = append(steps, network("tagged", s.network+vlanTag, ports, questions)...)
		steps = append(steps, label("two tags"))
		steps = append(steps, network("tagged twice", s.network+2*vlanTag, ports, questions)...)
	}
	kept := uint32(whole)
	if questions {
		kept = headOnly
	}
	steps = append(steps, label("keep"), step{Instruction: bpf.RetConstant{Val: kept}},
		label("drop"), step{Instruction: bpf.RetConstant{Val: reject}})
	return assemble(steps)
}

// network looks at an IP packet that begins at a place. called makes its labels its own.
func network(called string, at uint32, ports []uint16, questions bool) []step {
	own := func(label string) string { return called + ": " + label }
	steps := []step{
		load(1, at), {Instruction: bpf.ALUOpConstant{Op: bpf.ALUOpAnd, Val: 0xf0}},
		when(0x40, own("IPv4")), when(0x60, own("IPv6")), jump("drop"),

		label(own("IPv4")), load(1, at+9), when(protocolUDP, own("ports 4")), when(protocolTCP, own("ports 4")), when(protocolICMP, own("ICMP")), jump("drop"),
		label(own("ports 4")), load(2, at+6), whenBits(0x1fff, rest(questions)), {Instruction: bpf.LoadMemShift{Off: at}},
	}
	steps = append(steps, portsAt(at, ports, questions)...)
	steps = append(steps,
		label(own("ICMP")), load(2, at+6), whenBits(0x1fff, "drop"), step{Instruction: bpf.LoadMemShift{Off: at}},
		loadX(1, at), when(3, rest(questions)), when(11, rest(questions)), when(12, rest(questions)), jump("drop"), // unreachable, time exceeded, parameter problem (RFC 792)

		label(own("IPv6")), step{Instruction: bpf.LoadConstant{Dst: bpf.RegX, Val: 40}}, load(1, at+6),
		when(protocolUDP, own("ports 6")), when(protocolTCP, own("ports 6")), when(fragment, rest(questions)), when(protocolICMP6, own("ICMP 6")),
		when(hopByHop, own("options")), when(routing, own("options")), when(destination, own("options")), jump("drop"),
		// One header of extensions is passed over; behind it another one, or a fragment, is kept unseen.
		label(own("options")), load(1, at+41), step{Instruction: bpf.ALUOpConstant{Op: bpf.ALUOpAdd, Val: 6}}, step{Instruction: bpf.ALUOpConstant{Op: bpf.ALUOpShiftLeft, Val: 3}}, step{Instruction: bpf.TAX{}},
		load(1, at+40), when(protocolUDP, own("ports 6")), when(protocolTCP, own("ports 6")),
		when(fragment, rest(questions)), when(hopByHop, rest(questions)), when(routing, rest(questions)), when(destination, rest(questions)), jump("drop"),
		label(own("ICMP 6")), load(1, at+40), whenLess(5, rest(questions)), jump("drop"), // the errors (RFC 4443 §2.1)
		label(own("ports 6")))
	return append(steps, portsAt(at, ports, questions)...)
}

// rest is what becomes of packets that have no ports: nobody's question can be told by them.
func rest(questions bool) string {
	if questions {
		return "drop"
	}
	return "keep"
}

// portsAt keeps a packet whose ports begin so many bytes behind a place as the index register
// says, if one of them is among those.
func portsAt(at uint32, ports []uint16, questions bool) (steps []step) {
	ends := []uint32{at, at + 2}
	if questions {
		ends = ends[1:] // to a server
	}
	for _, end := range ends {
		steps = append(steps, loadX(2, end))
		for _, port := range ports {
			steps = append(steps, when(uint32(port), "keep"))
		}
	}
	return append(steps, jump("drop"))
}

// assemble puts steps together. Each conditional jump goes over the jump behind it, since what
// it can reach by itself is near.
func assemble(steps []step) ([]bpf.RawInstruction, error) {
	at, places := 0, map[string]int{}
	for _, s := range steps {
		switch {
		case s.label != "":
			places[s.label] = at
		case s.to != "" && s.test != always:
			at += 2
		default:
			at++
		}
	}
	var program []bpf.Instruction
	for _, s := range steps {
		switch {
		case s.label != "":
			continue
		case s.to != "" && s.test != always:
			program = append(program, bpf.JumpIf{Cond: s.test, Val: s.value, SkipFalse: 1})
			fallthrough
		case s.to != "":
			program = append(program, bpf.Jump{Skip: uint32(places[s.to] - len(program) - 1)})
		default:
			program = append(program, s.Instruction)
		}
	}
	return bpf.Assemble(program)
}
