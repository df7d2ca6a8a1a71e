// Package live listens to the packets of DNS that pass this machine's interfaces, and makes a
// capture of them while it comes about.
//
// What is heard goes to those who judge it and to those who write it, each of which may be
// slower than the network: what they cannot take in time is left out for them and counted, and
// nobody ever waits for them.
package live

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"unquil/core/capture"
)

// Why there is nothing to listen to.
var (
	ErrPermission  = errors.New("this program may not listen to the network")
	ErrUnsupported = errors.New("listening is not built for this system")
	ErrInterface   = errors.New("there is no such interface")
)

// Options say what is listened to.
type Options struct {
	Interfaces []string // by name; none: all, those that come later too
	Ports      []uint16 // where DNS is looked for besides its own ports
	Others     bool     // what is meant for other machines too, where an interface gets that; it takes Interfaces
	// Questions has only the beginnings of questions from this machine heard, each at once and not
	// with others: to see whose they are while their sockets are open.
	Questions bool
}

// Interface is one that packets pass.
type Interface struct {
	Name string
	Link capture.LinkType
}

// Packet is one that passed an interface. Its bytes are good until the call that it was handed
// to returns.
type Packet struct {
	capture.Record
	Interface int // its place among those of the tap
	Way       capture.Way
}

// Tap is where packets are heard. It is not safe for use by many goroutines, but for Close.
type Tap interface {
	// Interfaces are those that were met, in the order in which that was. They only become more.
	Interfaces() []Interface
	// Receive hands over the packets that have come. It waits for the first of them, and no longer
	// than it is told to. The error says that no more can come.
	Receive(wait time.Duration, take func(*Packet)) error
	// Lost is how many packets the system has not handed over, because they came too fast.
	Lost() (uint64, error)
	Close() error
}

// unknownInterface says which interfaces there are.
func unknownInterface(name string) error {
	var names []string
	all, _ := net.Interfaces()
	for _, i := range all {
		names = append(names, i.Name)
	}
	return fmt.Errorf("%q: %w; there are %s", name, ErrInterface, strings.Join(names, ", "))
}

// The ports of DNS: its own, and those of local links and of encrypted transports.
var dnsPorts = []uint16{53, 853, 5353, 5355}

// ports are all that are listened at.
func (o *Options) ports() []uint16 {
	all := slices.Concat(dnsPorts, o.Ports)
	slices.Sort(all)
	return slices.Compact(all)
}

// maxPorts bounds the program that the kernel runs for each packet.
const maxPorts = 64

// check refuses what cannot be listened to.
func (o *Options) check() error {
	if n := len(o.ports()); n > maxPorts {
		return fmt.Errorf("%d ports are too many to listen at: the most are %d", n, maxPorts)
	}
	return nil
}

// Local reports whether a packet comes from a program of this machine.
func (p *Packet) Local(from netip.Addr) bool { return p.Way == capture.Outbound || from.IsLoopback() }
