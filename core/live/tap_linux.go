package live

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"sync/atomic"
	"time"
	"unsafe"

	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"

	"unquil/core/capture"
)

// The ring that the kernel fills and this program empties. A block is handed over when it is
// full, or when so much time has passed; none is larger than a packet can be, so that none is cut.
const (
	blockSize    = 256 << 10
	blockCount   = 128
	blockTimeout = 8 // milliseconds
	ringSize     = blockSize * blockCount
)

// Where the fields of the ring's headers are (linux/if_packet.h).
const (
	blockStatus  = 8
	blockPackets = 12
	blockFirst   = 16

	packetNext    = 0
	packetSeconds = 4
	packetNanos   = 8
	packetKept    = 12
	packetLength  = 16
	packetStatus  = 20
	packetMAC     = 24
	packetNet     = 26
	packetTag     = 32
	packetTagKind = 36
	packetAddress = 48 // a sockaddr_ll

	addressIndex    = 4
	addressHardware = 8
	addressWay      = 10
)

// ring is a packet socket with its memory (packet(7)).
type ring struct {
	fd     int
	memory []byte
	block  int // that is looked at next
	met    []Interface
	places map[int]int // of them, by the system's index
	lost   uint64
	tagged []byte // a packet with its VLAN tag put back
	packet Packet
}

// inKernel is the shape of packets as the kernel has them when it asks a filter: it knows where
// the network layer begins whatever the interface. What loops back is seen coming alone, and not
// going too.
func inKernel(indexes []int, questions bool) shape {
	s := shape{network: 0xfff00000, protocol: bpf.LoadExtension{Num: bpf.ExtProto}} // SKF_NET_OFF
	extension := func(of bpf.Extension) step { return step{Instruction: bpf.LoadExtension{Num: of}} }
	s.before = []step{extension(bpf.ExtInterfaceIndex)}
	for _, index := range indexes {
		s.before = append(s.before, when(uint32(index), "chosen"))
	}
	if len(indexes) > 0 {
		s.before = append(s.before, jump("drop"))
	}
	s.before = append(s.before, label("chosen"), extension(bpf.ExtType))
	if questions {
		s.before = append(s.before, when(unix.PACKET_OUTGOING, "goes"), jump("comes"))
	} else {
		s.before = append(s.before, when(unix.PACKET_OUTGOING, "goes"), jump("wanted"))
	}
	s.before = append(s.before, label("goes"), extension(bpf.ExtLinkLayerType), when(unix.ARPHRD_LOOPBACK, "drop"))
	if questions {
		s.before = append(s.before, jump("wanted"), label("comes"), extension(bpf.ExtLinkLayerType), when(unix.ARPHRD_LOOPBACK, "wanted"), jump("drop"))
	}
	s.before = append(s.before, label("wanted"))
	return s
}

// Open opens a tap. The error wraps ErrPermission or ErrInterface, or is the system's.
func Open(o Options) (Tap, error) {
	if err := o.check(); err != nil {
		return nil, err
	}
	var indexes []int
	for _, name := range o.Interfaces {
		i, err := net.InterfaceByName(name)
		if err != nil {
			return nil, unknownInterface(name)
		}
		indexes = append(indexes, i.Index)
	}
	fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_RAW|unix.SOCK_CLOEXEC, 0) // which hears nothing as yet
	if errors.Is(err, unix.EPERM) || errors.Is(err, unix.EACCES) {
		return nil, fmt.Errorf("opening a packet socket: %w", ErrPermission)
	}
	if err != nil {
		return nil, fmt.Errorf("opening a packet socket: %w", err)
	}
	r := &ring{fd: fd, places: map[int]int{}}
	if err := r.open(o, indexes); err != nil {
		r.Close()
		return nil, err
	}
	return r, nil
}

func (r *ring) open(o Options, indexes []int) error {
	program, err := filter(inKernel(indexes, o.Questions), o.ports(), o.Questions)
	if err != nil {
		return fmt.Errorf("making the kernel's filter: %w", err)
	}
	raw := make([]unix.SockFilter, len(program))
	for i, p := range program {
		raw[i] = unix.SockFilter{Code: p.Op, Jt: p.Jt, Jf: p.Jf, K: p.K}
	}
	if err := unix.SetsockoptSockFprog(r.fd, unix.SOL_SOCKET, unix.SO_ATTACH_FILTER, &unix.SockFprog{Len: uint16(len(raw)), Filter: &raw[0]}); err != nil {
		return fmt.Errorf("giving the kernel its filter: %w", err)
	}
	if !o.Questions {
		if err := r.share(); err != nil {
			return err
		}
	}
	for _, index := range indexes {
		if o.Others {
			if err := unix.SetsockoptPacketMreq(r.fd, unix.SOL_PACKET, unix.PACKET_ADD_MEMBERSHIP, &unix.PacketMreq{Ifindex: int32(index), Type: unix.PACKET_MR_PROMISC}); err != nil {
				return fmt.Errorf("having an interface take what is meant for others: %w", err)
			}
		}
	}
	all, _ := net.Interfaces() // those that are not known are described when they are met
	for _, i := range all {
		if i.Flags&net.FlagUp != 0 && (len(indexes) == 0 || contains(indexes, i.Index)) {
			link := capture.Ethernet
			if i.Flags&net.FlagLoopback == 0 && len(i.HardwareAddr) != 6 {
				link = capture.RawIP
			}
			r.meet(i.Index, Interface{i.Name, link})
		}
	}
	if err := unix.Bind(r.fd, &unix.SockaddrLinklayer{Protocol: networkOrder(unix.ETH_P_ALL)}); err != nil {
		return fmt.Errorf("listening: %w", err)
	}
	return nil
}

// share has the kernel put packets into memory that this program sees too.
func (r *ring) share() (err error) {
	if err = unix.SetsockoptInt(r.fd, unix.SOL_PACKET, unix.PACKET_VERSION, unix.TPACKET_V3); err != nil {
		return fmt.Errorf("choosing the form of the ring: %w", err)
	}
	request := unix.TpacketReq3{Block_size: blockSize, Block_nr: blockCount, Frame_size: blockSize, Frame_nr: blockCount, Retire_blk_tov: blockTimeout}
	if err = unix.SetsockoptTpacketReq3(r.fd, unix.SOL_PACKET, unix.PACKET_RX_RING, &request); err != nil {
		return fmt.Errorf("asking for a ring of %d MB: %w", ringSize>>20, err)
	}
	if r.memory, err = unix.Mmap(r.fd, 0, ringSize, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED); err != nil {
		return fmt.Errorf("sharing the ring: %w", err)
	}
	return nil
}

func contains(list []int, n int) bool {
	for _, one := range list {
		if one == n {
			return true
		}
	}
	return false
}

func networkOrder(n uint16) uint16 {
	return binary.NativeEndian.Uint16(binary.BigEndian.AppendUint16(nil, n))
}

// meet describes an interface, and returns its place.
func (r *ring) meet(index int, i Interface) int {
	r.met = append(r.met, i)
	r.places[index] = len(r.met) - 1
	return len(r.met) - 1
}

func (r *ring) Interfaces() []Interface { return r.met }

func (r *ring) Lost() (uint64, error) {
	if r.memory == nil {
		return 0, nil
	}
	s, err := unix.GetsockoptTpacketStatsV3(r.fd, unix.SOL_PACKET, unix.PACKET_STATISTICS)
	if err == nil {
		r.lost += uint64(s.Drops) // since they were asked for last
	}
	return r.lost, err
}

// status is the status of the block that is looked at next, which the kernel writes too.
func (r *ring) status() *uint32 {
	return (*uint32)(unsafe.Pointer(&r.memory[r.block*blockSize+blockStatus]))
}

func (r *ring) Receive(wait time.Duration, take func(*Packet)) error {
	if r.memory == nil {
		return r.single(wait, take)
	}
	if atomic.LoadUint32(r.status())&unix.TP_STATUS_USER == 0 {
		if err := r.poll(wait); err != nil {
			return err
		}
	}
	for range blockCount { // and no more, so that others have their turn
		status := r.status()
		if atomic.LoadUint32(status)&unix.TP_STATUS_USER == 0 {
			return nil
		}
		r.take(r.memory[r.block*blockSize:][:blockSize], take)
		atomic.StoreUint32(status, unix.TP_STATUS_KERNEL)
		r.block = (r.block + 1) % blockCount
	}
	return nil
}

// poll waits for packets.
func (r *ring) poll(wait time.Duration) error {
	_, err := unix.Poll([]unix.PollFd{{Fd: int32(r.fd), Events: unix.POLLIN | unix.POLLERR}}, int(wait/time.Millisecond))
	if err == nil || errors.Is(err, unix.EINTR) {
		return nil
	}
	return fmt.Errorf("listening: %w", err)
}

// take hands over the packets of one block.
func (r *ring) take(block []byte, take func(*Packet)) {
	order := binary.NativeEndian
	at := order.Uint32(block[blockFirst:])
	for range order.Uint32(block[blockPackets:]) {
		header := block[at:]
		p := &r.packet
		p.At = int64(order.Uint32(header[packetSeconds:]))*1e9 + int64(order.Uint32(header[packetNanos:]))
		p.Length = int(order.Uint32(header[packetLength:]))
		mac, network := int(order.Uint16(header[packetMAC:])), int(order.Uint16(header[packetNet:]))
		data := header[mac:][:order.Uint32(header[packetKept:])]
		from := header[packetAddress:]
		r.describe(p, int(int32(order.Uint32(from[addressIndex:]))), from[addressWay])
		if p.Link == capture.RawIP {
			data = data[min(max(network-mac, 0), len(data)):]
		} else if status := order.Uint32(header[packetStatus:]); status&unix.TP_STATUS_VLAN_VALID != 0 {
			kind := uint16(ethernet8021Q)
			if status&unix.TP_STATUS_VLAN_TPID_VALID != 0 {
				kind = order.Uint16(header[packetTagKind:])
			}
			data = r.withTag(data, kind, uint16(order.Uint32(header[packetTag:])))
			p.Length += vlanTag
		}
		p.Data = data
		take(p)
		at += order.Uint32(header[packetNext:])
	}
}

// describe says on which interface a packet passed, and which way.
func (r *ring) describe(p *Packet, index int, way byte) {
	place, known := r.places[index]
	if !known {
		met := Interface{fmt.Sprintf("interface %d", index), capture.Ethernet}
		if i, err := net.InterfaceByIndex(index); err == nil {
			met.Name = i.Name
			if i.Flags&net.FlagLoopback == 0 && len(i.HardwareAddr) != 6 {
				met.Link = capture.RawIP
			}
		}
		place = r.meet(index, met)
	}
	p.Interface, p.Link, p.Way = place, r.met[place].Link, capture.Inbound
	if way == unix.PACKET_OUTGOING {
		p.Way = capture.Outbound
	}
}

// withTag puts the VLAN tag back that the kernel took out of a packet (IEEE 802.1Q).
func (r *ring) withTag(data []byte, kind, tag uint16) []byte {
	if len(data) < 12 {
		return data
	}
	b := append(r.tagged[:0], data[:12]...)
	b = binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(b, kind), tag)
	r.tagged = append(b, data[12:]...)
	return r.tagged
}

// single receives the beginning of one question.
func (r *ring) single(wait time.Duration, take func(*Packet)) error {
	if err := r.poll(wait); err != nil {
		return err
	}
	if cap(r.tagged) < headOnly {
		r.tagged = make([]byte, headOnly)
	}
	data := r.tagged[:headOnly]
	n, from, err := unix.Recvfrom(r.fd, data, unix.MSG_DONTWAIT)
	if errors.Is(err, unix.EAGAIN) || errors.Is(err, unix.EINTR) {
		return nil
	}
	link, ok := from.(*unix.SockaddrLinklayer)
	if err != nil || !ok {
		return fmt.Errorf("listening: %w", err)
	}
	p := &r.packet
	r.describe(p, link.Ifindex, link.Pkttype)
	p.Data, p.Length = data[:n], n
	take(p)
	return nil
}

// Close ends the listening.
func (r *ring) Close() error {
	if r.memory != nil {
		unix.Munmap(r.memory)
		r.memory = nil
	}
	return unix.Close(r.fd)
}
