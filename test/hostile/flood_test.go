//go:build linux

package hostile

import (
	"fmt"
	"net"
	"os"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// tree is a hostile internet on loopback addresses, at port 53: a root that refers
// everything a label further down, to servers at the addresses that it likes.
type tree struct {
	mu      sync.Mutex
	packets map[string]int // that an address got
}

// listen counts what comes to an address, and answers as reply says; nil is no answer.
func (tr *tree) listen(t *testing.T, address string, reply func(m wire.Message) *wire.Message) {
	conn, err := net.ListenPacket("udp4", address+":53")
	if err != nil {
		t.Skipf("port 53 of %s cannot be had here: %v", address, err)
	}
	t.Cleanup(func() { conn.Close() })
	go replying(conn, reply, func() {
		tr.mu.Lock()
		defer tr.mu.Unlock()
		tr.packets[address]++
	})
}

func (tr *tree) got(address string) int {
	tr.mu.Lock()
	defer tr.mu.Unlock()
	return tr.packets[address]
}

func record(name string, t wire.Type, value string) wire.Record {
	data, err := wire.ParseRecordData(t, wire.IN, value)
	if err != nil {
		panic(fmt.Sprint(name, t, value, err))
	}
	return wire.Record{Name: wire.MustParseName(name), Type: t, Class: wire.IN, TTL: 60, Data: data}
}

// newTree is a tree whose root refers every name one label further down to
// many hosts, all of them at the given addresses.
func newTree(t *testing.T, glue ...string) (*tree, setting) {
	tr := &tree{packets: map[string]int{}}
	s := real(t)
	s.put(t, "roots", []byte(". 3600 IN NS root.test.\nroot.test. 3600 IN A 127.66.0.1\n"))
	depth := 0
	tr.listen(t, "127.66.0.1", func(m wire.Message) *wire.Message {
		q := m.Questions[0]
		depth++
		m.Additional = nil
		zone := q.Name.Ancestor(min(q.Name.Labels(), 1+depth%7)).String()
		for i := range 13 {
			host := fmt.Sprintf("ns%d.%s", i, strings.TrimPrefix(zone, "."))
			m.Authority = append(m.Authority, record(zone, wire.NS, host))
			for _, address := range glue {
				m.Additional = append(m.Additional, record(host, wire.A, address))
			}
		}
		return &m
	})
	return tr, s
}

// Whatever a hostile zone makes of its glue, nobody gets more than the budget says, and it
// is told.
func TestNobodyIsFlooded(t *testing.T) {
	tr, s := newTree(t, "127.66.0.9", "127.66.0.1")
	tr.listen(t, "127.66.0.9", nil)
	const name = "a.b.c.d.e.f.g.victim.test"
	for _, args := range [][]string{
		{"trace", name, "-t", "A,AAAA,MX,TXT"},
		{"why", name, "-t", "A,AAAA,MX", "--from", "127.66.0.1"},
		{"zone", "victim.test"},
		{"compare", name, "--from", "127.66.0.1", "--zone-servers"},
	} {
		t.Run(args[0], func(t *testing.T) {
			before := tr.got("127.66.0.9")
			o := s.run(t, append(args, "--roots", "roots", "--wait", "100ms")...)
			assert.NotEqual(t, 2, o.code, o.stderr)
			got := tr.got("127.66.0.9") - before
			assert.LessOrEqual(t, got, exchange.EachAddress)
			if got == exchange.EachAddress {
				assert.Contains(t, o.stderr, "127.66.0.9: 40 packets were sent there")
			}
			t.Logf("%s: %d packets to the victim, %d to the root, which the person named", args[0], got, tr.got("127.66.0.1"))
		})
	}
}

// Hosts that an answer names are asked for within a bound, each once.
func TestFollowUpsAreBounded(t *testing.T) {
	s := real(t)
	udp, asked := server(t, func(m wire.Message) *wire.Message {
		m.Additional = nil
		if q := m.Questions[0]; q.Type == wire.MX {
			for i := range 300 {
				m.Answer = append(m.Answer, record(q.Name.String(), wire.MX, fmt.Sprintf("10 m%d.test.", i/2)))
			}
		}
		return &m
	})
	o := s.run(t, "ask", "victim.test", "-t", "MX", "--from", udp, "--follow")
	assert.NotEqual(t, 2, o.code, o.stderr)
	assert.LessOrEqual(t, asked(), exchange.FollowUps+2)
	assert.Contains(t, o.stderr, "64 queries were sent about hosts that answers name")
}

// No packet goes to an address at which no server of the public tree can be, and that is
// told.
func TestAddressesWhereNobodyIs(t *testing.T) {
	tr, s := newTree(t, "224.0.0.251", "255.255.255.255", "0.0.0.0")
	o := s.run(t, "trace", "www.victim.test", "--roots", "roots", "--wait", "100ms")
	assert.Equal(t, 3, o.code, o.stderr)
	assert.Contains(t, o.stdout, "address-nowhere")
	assert.Contains(t, o.stdout, "no public server can have")
	assert.Less(t, tr.got("127.66.0.1"), 60)
}

// A machine that runs out of descriptors says so, and blames nobody else.
func TestThisMachinesLimits(t *testing.T) {
	s := real(t)
	udp, _ := server(t, nil)
	s.put(t, "names", []byte(strings.Repeat("a.test\n", 200)))
	shell := program
	defer func() { program = shell }()
	script := s.put(t, "limited", []byte("#!/bin/sh\nulimit -n 20\nexec "+program+" \"$@\"\n"))
	require.NoError(t, os.Chmod(script, 0o700))
	program = script
	o := s.run(t, "ask", "--names", "names", "--from", udp, "--wait", "300ms", "--attempts", "1")
	assert.Equal(t, 1, o.code, o.stdout+o.stderr)
	assert.Contains(t, o.stderr, "this machine cannot ask")
	assert.NotContains(t, o.stdout, "nothing listens there")
	assert.NotContains(t, o.stdout, "unreachable")
}
