package live

import (
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"unquil/core/capture"
	"unquil/core/serverlog"
)

// Bounds on those who send what they record.
const (
	maxSenders  = 64
	maxMessages = 4096             // that wait: who sends faster than they are judged has to wait too
	maxTroubles = 20               // that are told one by one
	greeting    = 10 * time.Second // in which a sender has to say what it sends
)

// Servers is a tap on what DNS servers record of their exchanges and send by dnstap.
type Servers struct {
	name     string
	listener net.Listener
	messages chan capture.Record
	closed   chan struct{}
	senders  atomic.Int64
	open     sync.Map // the connections
	ended    sync.WaitGroup

	mu       sync.Mutex
	troubles []string
	more     int
}

// ListenToServers takes the servers that connect to a listener, which it closes. name is what it is called.
func ListenToServers(listener net.Listener, name string) *Servers {
	s := &Servers{name: name, listener: listener, messages: make(chan capture.Record, maxMessages), closed: make(chan struct{})}
	s.ended.Go(s.accept)
	return s
}

func (s *Servers) accept() {
	for {
		conn, err := s.listener.Accept()
		if err != nil {
			return
		}
		if s.senders.Add(1) > maxSenders {
			s.senders.Add(-1)
			conn.Close()
			s.trouble(fmt.Sprintf("more than %d senders at once: one was turned away", maxSenders))
			continue
		}
		s.open.Store(conn, nil)
		s.ended.Go(func() {
			defer func() {
				conn.Close()
				s.open.Delete(conn)
				s.senders.Add(-1)
			}()
			s.receive(conn)
		})
	}
}

// receive takes what one server sends.
func (s *Servers) receive(conn net.Conn) {
	impatience := time.AfterFunc(greeting, func() { conn.Close() })
	source := serverlog.NewDnstap(conn, conn)
	for {
		err := source.Next(func(m *serverlog.Message) {
			record := capture.ServedRecord(m)
			select {
			case s.messages <- record:
			case <-s.closed:
			}
		})
		if err != nil {
			select {
			case <-s.closed:
			default:
				if !errors.Is(err, io.EOF) {
					s.trouble(fmt.Sprintf("what a server sent to %s ended: %v", s.name, err))
				}
			}
			return
		}
		impatience.Stop()
	}
}

// trouble keeps what went wrong with a sender.
func (s *Servers) trouble(text string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.troubles) == maxTroubles {
		s.more++
		return
	}
	s.troubles = append(s.troubles, text)
}

// Troubles is what went wrong with senders, a sentence each.
func (s *Servers) Troubles() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	all := append([]string(nil), s.troubles...)
	if s.more > 0 {
		all = append(all, fmt.Sprintf("and so did %d more", s.more))
	}
	return all
}

// Interfaces is where they connect to.
func (s *Servers) Interfaces() []Interface {
	return []Interface{{Name: s.name, Link: capture.Ethernet}}
}

// Receive is as [Tap] says it.
func (s *Servers) Receive(wait time.Duration, take func(*Packet)) error {
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case r := <-s.messages:
		take(&Packet{Record: r})
	case <-timer.C:
		return nil
	}
	for {
		select {
		case r := <-s.messages:
			take(&Packet{Record: r})
		default:
			return nil
		}
	}
}

// Lost is none: who sends too fast has to wait.
func (s *Servers) Lost() (uint64, error) { return 0, nil }

// Close ends it.
func (s *Servers) Close() error {
	close(s.closed)
	err := s.listener.Close()
	s.open.Range(func(conn, _ any) bool {
		conn.(net.Conn).Close()
		return true
	})
	s.ended.Wait()
	return err
}
