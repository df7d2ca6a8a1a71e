package live

import (
	"bufio"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"math/bits"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"

	"unquil/core/escape"
)

// Program is a process that has a socket.
type Program struct {
	PID   int
	Name  escape.Text // as the system has it: 15 bytes at the most
	Child bool        // it is the process that is watched, or one that this started
	Guess bool        // nobody saw whose it is: it was asked by this machine while that process ran
}

// Finder knows which process has a socket.
type Finder interface {
	// Owner is the process that has the socket with an address of its own; nil when none is seen.
	Owner(from netip.AddrPort, tcp bool) *Program
	// Watch has the processes told apart that a process started.
	Watch(pid int)
}

// Sockets are those of this machine's processes. Owner is not safe for use by many goroutines.
type Sockets struct {
	Proc fs.FS // the system's own file system of processes (proc(5))

	watch atomic.Int64
	known map[string]int // processes by the inode of a socket
}

// Watch has the processes told apart that a process started.
func (s *Sockets) Watch(pid int) { s.watch.Store(int64(pid)) }

// Owner is the process that has a socket; nil when none is seen that has.
func (s *Sockets) Owner(from netip.AddrPort, tcp bool) *Program {
	inode := s.socket(from, tcp)
	if inode == "" || inode == "0" {
		return nil
	}
	return s.program(inode)
}

// socketQuestion is one about a socket, from a process to another that may see more.
type socketQuestion struct {
	Watch int            `json:",omitempty"`
	From  netip.AddrPort `json:",omitzero"`
	TCP   bool           `json:",omitempty"`
}

// Serve answers questions about sockets that come as lines, until they end. The error is that
// of w, or says what is no question.
func (s *Sockets) Serve(r io.Reader, w io.Writer) error {
	questions, answers := json.NewDecoder(r), json.NewEncoder(w)
	for {
		var q socketQuestion
		if err := questions.Decode(&q); err == io.EOF {
			return nil
		} else if err != nil {
			return fmt.Errorf("reading which socket is meant: %w", err)
		}
		var answer *Program
		if q.Watch > 0 {
			s.Watch(q.Watch)
		}
		if q.From.IsValid() {
			answer = s.Owner(q.From, q.TCP)
		}
		if err := answers.Encode(answer); err != nil {
			return err
		}
	}
}

// Elsewhere asks another process about sockets, which serves them. It is safe for use by many
// goroutines.
type Elsewhere struct {
	mu        sync.Mutex
	questions *json.Encoder
	answers   *json.Decoder
}

// NewElsewhere takes the two ends of the pipes to that process.
func NewElsewhere(r io.Reader, w io.Writer) *Elsewhere {
	return &Elsewhere{questions: json.NewEncoder(w), answers: json.NewDecoder(r)}
}

// Owner is as [Sockets.Owner]; nil when the other process is gone, too.
func (e *Elsewhere) Owner(from netip.AddrPort, tcp bool) *Program {
	return e.ask(socketQuestion{From: from, TCP: tcp})
}

// Watch is as [Sockets.Watch].
func (e *Elsewhere) Watch(pid int) { e.ask(socketQuestion{Watch: pid}) }

func (e *Elsewhere) ask(q socketQuestion) (p *Program) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.questions.Encode(q) != nil || e.answers.Decode(&p) != nil {
		return nil
	}
	return p
}

// socket is the inode of the socket that a question was sent from; "" when it is gone.
func (s *Sockets) socket(from netip.AddrPort, tcp bool) string {
	tables := []string{"net/udp", "net/udp6"}
	if tcp {
		tables = []string{"net/tcp", "net/tcp6"}
	}
	if from.Addr().Is6() {
		tables = tables[1:]
	}
	for _, table := range tables {
		if inode := s.inTable(table, from); inode != "" {
			return inode
		}
	}
	return ""
}

// inTable looks a socket up in one of the system's tables (proc_net(5)): one that is bound to the
// address, or to its port at any.
func (s *Sockets) inTable(table string, at netip.AddrPort) (inode string) {
	file, err := s.Proc.Open(table)
	if err != nil {
		return ""
	}
	defer file.Close()
	port := strings.ToUpper(hex.EncodeToString(binary.BigEndian.AppendUint16(nil, at.Port())))
	lines := bufio.NewScanner(file)
	for lines.Scan() {
		fields := strings.Fields(lines.Text())
		if len(fields) < 10 {
			continue
		}
		address, its, _ := strings.Cut(fields[1], ":")
		if its != port {
			continue
		}
		switch known, ok := tableAddress(address); {
		case !ok:
		case known == at.Addr():
			return fields[9]
		case known.IsUnspecified():
			inode = fields[9]
		}
	}
	return inode
}

// tableAddress reads an address as the tables have it: in words of four bytes, each in the order
// of the machine.
func tableAddress(text string) (netip.Addr, bool) {
	b, err := hex.DecodeString(text)
	if err != nil || len(b)%4 != 0 {
		return netip.Addr{}, false
	}
	for i := 0; i < len(b); i += 4 {
		if word := binary.BigEndian.Uint32(b[i:]); isLittleEndian {
			binary.BigEndian.PutUint32(b[i:], bits.ReverseBytes32(word))
		}
	}
	a, ok := netip.AddrFromSlice(b)
	return a.Unmap(), ok
}

var isLittleEndian = binary.NativeEndian.Uint16([]byte{1, 0}) == 1

// program is the process that has a socket; nil when none is seen to. A socket can be that of a
// process that began only now, or of one that had others before: then all are looked through.
func (s *Sockets) program(inode string) *Program {
	for _, pid := range s.family() {
		if slices.Contains(s.socketsOf(pid), inode) {
			return s.describe(pid)
		}
	}
	if pid, known := s.known[inode]; known && slices.Contains(s.socketsOf(pid), inode) {
		return s.describe(pid)
	}

	s.known = map[string]int{}
	entries, _ := fs.ReadDir(s.Proc, ".")
	for _, entry := range entries {
		if pid, err := strconv.Atoi(entry.Name()); err == nil {
			for _, own := range s.socketsOf(pid) {
				s.known[own] = pid
			}
		}
	}
	if pid, known := s.known[inode]; known {
		return s.describe(pid)
	}
	return nil
}

// socketsOf are the inodes of the sockets that a process has; none where it may not be seen.
func (s *Sockets) socketsOf(pid int) (inodes []string) {
	folder := strconv.Itoa(pid) + "/fd"
	entries, err := fs.ReadDir(s.Proc, folder)
	if err != nil {
		return nil
	}
	for _, entry := range entries {
		target, err := fs.ReadLink(s.Proc, folder+"/"+entry.Name())
		if inode, is := strings.CutPrefix(target, "socket:["); err == nil && is {
			inodes = append(inodes, strings.TrimSuffix(inode, "]"))
		}
	}
	return inodes
}

// family is the process that is watched, with those that it started and these did.
func (s *Sockets) family() (all []int) {
	watched := int(s.watch.Load())
	if watched == 0 {
		return nil
	}
	all = []int{watched}
	for i := 0; i < len(all) && len(all) < maxFamily; i++ {
		pid := strconv.Itoa(all[i])
		threads, _ := fs.ReadDir(s.Proc, pid+"/task")
		for _, thread := range threads {
			children, _ := fs.ReadFile(s.Proc, pid+"/task/"+thread.Name()+"/children")
			for _, child := range strings.Fields(string(children)) {
				if n, err := strconv.Atoi(child); err == nil {
					all = append(all, n)
				}
			}
		}
	}
	return all
}

// maxFamily is how many processes are looked at for being started by one.
const maxFamily = 256

func (s *Sockets) describe(pid int) *Program {
	name, _ := fs.ReadFile(s.Proc, strconv.Itoa(pid)+"/comm")
	return &Program{PID: pid, Name: escape.Of(strings.TrimSpace(string(name))), Child: slices.Contains(s.family(), pid)}
}
