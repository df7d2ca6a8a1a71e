package live

import (
	"errors"
	"fmt"
	"net"
	"syscall"
	"time"

	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"

	"unquil/core/capture"
)

// devices are BPF devices, one for each interface (bpf(4)).
type devices struct {
	open []device
	met  []Interface
}

type device struct {
	fd     int
	buffer []byte
}

// How much a device keeps for this program, and how long it waits to hand over what it has.
const (
	deviceBuffer  = 4 << 20
	deviceTimeout = 20 * time.Millisecond
	maxDevices    = 256
)

// Open opens a tap. The error wraps ErrPermission, ErrInterface or ErrUnsupported, or is the
// system's.
func Open(o Options) (Tap, error) {
	if o.Questions {
		return nil, ErrUnsupported // whose a socket is cannot be seen there
	}
	if err := o.check(); err != nil {
		return nil, err
	}
	chosen := o.Interfaces
	if len(chosen) == 0 {
		all, err := net.Interfaces()
		if err != nil {
			return nil, err
		}
		for _, i := range all {
			if i.Flags&net.FlagUp != 0 {
				chosen = append(chosen, i.Name)
			}
		}
	}
	t := &devices{}
	for _, name := range chosen {
		err := t.add(name, &o)
		if errors.Is(err, errLink) && len(o.Interfaces) == 0 {
			continue // of all, those that carry IP
		}
		if err != nil {
			t.Close()
			return nil, err
		}
	}
	return t, nil
}

var errLink = errors.New("its link type is not one that is read")

// shapes are those of the link types that are read (bpf(4)).
var shapes = map[int]struct {
	link  capture.LinkType
	shape shape
}{
	syscall.DLT_EN10MB: {capture.Ethernet, shape{network: 14, protocol: bpf.LoadAbsolute{Off: 12, Size: 2}}},
	syscall.DLT_NULL:   {capture.Null, shape{network: 4}},
	syscall.DLT_RAW:    {capture.RawIP, shape{}},
}

//lint:file-ignore SA1019 no other package has these calls for this system

func (t *devices) add(name string, o *Options) error {
	if _, err := net.InterfaceByName(name); err != nil {
		return unknownInterface(name)
	}
	fd, err := free()
	if err != nil {
		return err
	}
	t.open = append(t.open, device{fd: fd})
	d := &t.open[len(t.open)-1]
	size, err := syscall.SetBpfBuflen(fd, deviceBuffer)
	if err == nil {
		err = syscall.SetBpfInterface(fd, name)
	}
	kind := 0
	if err == nil {
		kind, err = syscall.BpfDatalink(fd)
	}
	if err != nil {
		return fmt.Errorf("listening at %q: %w", name, err)
	}
	known, ok := shapes[kind]
	if !ok {
		unix.Close(fd)
		t.open = t.open[:len(t.open)-1]
		return fmt.Errorf("listening at %q: %w", name, errLink)
	}
	program, err := filter(known.shape, o.ports(), false)
	if err != nil {
		return err
	}
	raw := make([]syscall.BpfInsn, len(program))
	for i, p := range program {
		raw[i] = syscall.BpfInsn{Code: p.Op, Jt: p.Jt, Jf: p.Jf, K: p.K}
	}
	timeout := syscall.NsecToTimeval(int64(deviceTimeout))
	err = errors.Join(syscall.SetBpf(fd, raw), syscall.SetBpfTimeout(fd, &timeout))
	if o.Others {
		err = errors.Join(err, syscall.SetBpfPromisc(fd, 1))
	}
	if err != nil {
		return fmt.Errorf("listening at %q: %w", name, err)
	}
	d.buffer = make([]byte, size)
	t.met = append(t.met, Interface{name, known.link})
	return nil
}

// free opens a BPF device that nobody uses.
func free() (int, error) {
	for i := range maxDevices {
		fd, err := unix.Open(fmt.Sprintf("/dev/bpf%d", i), unix.O_RDWR|unix.O_CLOEXEC, 0)
		switch {
		case err == nil:
			return fd, nil
		case errors.Is(err, unix.EACCES) || errors.Is(err, unix.EPERM):
			return -1, fmt.Errorf("opening a BPF device: %w", ErrPermission)
		case !errors.Is(err, unix.EBUSY):
			return -1, fmt.Errorf("opening a BPF device: %w", err)
		}
	}
	return -1, errors.New("all BPF devices are in use")
}

func (t *devices) Interfaces() []Interface { return t.met }

// Receive takes from each device what it has; each waits for its own short time.
func (t *devices) Receive(_ time.Duration, take func(*Packet)) error {
	for i := range t.open {
		d := &t.open[i]
		n, err := unix.Read(d.fd, d.buffer)
		if errors.Is(err, unix.EINTR) || errors.Is(err, unix.EAGAIN) {
			continue
		}
		if err != nil {
			return fmt.Errorf("listening at %q: %w", t.met[i].Name, err)
		}
		bpfPackets(d.buffer[:n], func(at int64, length int, data []byte) {
			take(&Packet{Record: capture.Record{At: at, Link: t.met[i].Link, Length: length, Data: data}, Interface: i})
		})
	}
	return nil
}

func (t *devices) Lost() (lost uint64, err error) {
	for i := range t.open {
		s, bad := syscall.BpfStats(t.open[i].fd)
		if bad != nil {
			err = bad
			continue
		}
		lost += uint64(s.Drop)
	}
	return lost, err
}

// Close ends the listening.
func (t *devices) Close() (err error) {
	for i := range t.open {
		err = errors.Join(err, unix.Close(t.open[i].fd))
	}
	return err
}
