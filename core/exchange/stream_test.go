package exchange

import (
	"io"
	"net"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
)

// A reply may come in the moment in which its connection is given up: it is lost, and nothing else
// happens; and none is taken for one of the connection that came after.
func TestRepliesOfConnectionsThatEnd(t *testing.T) {
	for range 500 {
		conn, other := net.Pipe()
		s := &stream{conn: conn, waiting: map[uint16]chan []byte{1: make(chan []byte, 1), 2: make(chan []byte, 1)}}
		var both sync.WaitGroup
		both.Go(func() { s.hand(conn, []byte{0, 1}); s.hand(conn, []byte{0, 2}) })
		both.Go(func() { s.fail(conn, io.EOF) })
		both.Wait()
		assert.Empty(t, s.waiting)
		next := make(chan []byte, 1)
		s.conn, s.waiting = other, map[uint16]chan []byte{1: next}
		s.hand(conn, []byte{0, 1})
		assert.Empty(t, next)
		other.Close()
	}
}
