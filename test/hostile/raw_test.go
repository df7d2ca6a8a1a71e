package hostile

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/binary"
	"encoding/json"
	"encoding/pem"
	"io"
	"math/big"
	"net"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/quic-go/quic-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/wire"
)

// real is a setting without the lab: what is asked there are servers of the test.
func real(t *testing.T) setting {
	return setting{folder: t.TempDir(), env: []string{"UNQUIL_LAB=0"}}
}

// server answers over UDP on loopback with what reply makes of each question, and counts
// what came. nil is no reply. It returns the address as --from takes it.
func server(t *testing.T, reply func(m wire.Message) *wire.Message) (at string, asked func() int) {
	conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	var count atomic.Int64
	go replying(conn, reply, func() { count.Add(1) })
	return strings.Replace(conn.LocalAddr().String(), ":", "#", 1), func() int { return int(count.Load()) }
}

// replying says of each packet that it came, and answers with what reply makes of the
// question in it, until conn is closed; nil is no reply.
func replying(conn net.PacketConn, reply func(m wire.Message) *wire.Message, came func()) {
	buf := make([]byte, 4096)
	for {
		n, from, err := conn.ReadFrom(buf)
		if err != nil {
			return
		}
		came()
		m, err := wire.ReadMessage(buf[:n])
		if err != nil || reply == nil {
			continue
		}
		m.Flags |= wire.QR
		if r := reply(m); r != nil {
			out, _ := r.Bytes()
			conn.WriteTo(out, from)
		}
	}
}

// evilReply answers any question with records that mean harm.
func evilReply(m wire.Message) *wire.Message {
	f := &filler{text: evil}
	odd := f.message()
	m.Answer, m.Authority, m.Additional = odd.Answer[1:2], odd.Authority, odd.Additional
	alias := wire.Record{Name: m.Questions[0].Name, Type: wire.CNAME, Class: wire.IN, TTL: 60, Data: f.name().Wire()}
	end := odd.Answer[0]
	if m.Questions[0].Type == wire.SOA {
		end = odd.Authority[0]
	}
	end.Name = f.name()
	m.Answer = []wire.Record{alias, end}
	return &m
}

// certificate is one, signed by itself, that says evil things; and the same in PEM.
func certificate(t *testing.T) (tls.Certificate, []byte) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	said := strings.ToValidUTF8(evil, "")
	subject := pkix.Name{CommonName: said, Organization: []string{said}}
	template := &x509.Certificate{SerialNumber: big.NewInt(7), Subject: subject, Issuer: subject, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		DNSNames: []string{"a\x1b[35m.example"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
}

// What servers, certificates, close reasons, configurations and the command line say
// reaches nobody raw, with colours or without.
func TestNothingRawFromAnywhere(t *testing.T) {
	s := real(t)
	udp, _ := server(t, evilReply)
	mine, ca := certificate(t)
	s.put(t, "ca.pem", ca)
	listener, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{mine}})
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				var size [2]byte
				if _, err := io.ReadFull(conn, size[:]); err != nil {
					return
				}
				query := make([]byte, binary.BigEndian.Uint16(size[:]))
				if _, err := io.ReadFull(conn, query); err != nil {
					return
				}
				m, err := wire.ReadMessage(query)
				if err != nil {
					return
				}
				m.Flags |= wire.QR
				out, _ := evilReply(m).Bytes()
				conn.Write(append(binary.BigEndian.AppendUint16(nil, uint16(len(out))), out...))
			}()
		}
	}()
	hangsUp, err := quic.ListenAddr("127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{mine}, NextProtos: []string{"doq"}}, nil)
	require.NoError(t, err)
	t.Cleanup(func() { hangsUp.Close() })
	go func() {
		for {
			conn, err := hangsUp.Accept(context.Background())
			if err != nil {
				return
			}
			conn.CloseWithError(7, evil)
		}
	}()
	s.put(t, "labels.toml", []byte("[resolver.\"=cmd\\u001b[35m\\u202e\\u000aunquil: all is well\"]\nat = \""+udp+"\"\n[group]\nall = [\"=cmd\\u001b[35m\\u202e\\u000aunquil: all is well\"]\n"))
	for _, args := range [][]string{
		{"ask", "a.example", "-t", "SOA,TXT", "--from", udp, "--explain", "--all-parts", "--wire", "--nsid"},
		{"ask", "a.example", "-t", "TXT", "--from", udp, "--json"},
		{"ask", "a.example", "-t", "TXT", "--config", "labels.toml", "--from", "all", "--all-parts"},
		{"ask", "a.example", "-t", "TXT", "--config", "labels.toml", "--from", "all", "--json"},
		{"compare", "a.example", "-t", "TXT", "--config", "labels.toml", "--from", "all," + udp},
		{"compare", "a.example", "-t", "TXT", "--config", "labels.toml", "--from", "all," + udp, "--csv"},
		{"ask", "a.example", "--from", "tls://" + listener.Addr().String(), "--all-parts"},
		{"ask", "a.example", "--from", "tls://" + listener.Addr().String(), "--ca", "ca.pem", "--all-parts"},
		{"ask", "a.example", "--from", "https://" + listener.Addr().String(), "--ca", "ca.pem", "--all-parts"},
		{"ask", "a.example", "--from", "quic://" + hangsUp.Addr().String(), "--ca", "ca.pem", "--all-parts"},
		{"ask", "a.example", "--from", "quic://" + hangsUp.Addr().String(), "--ca", "ca.pem", "--json"},
		{"ask", "a.example", "--from", evil[:20]},
		{"decode", "a\x1b[35m\u202e.pcapng"},
		{"findings", "a\x1b[35m\u202e"},
		{"a\x1b[35m\u202e"},
	} {
		for _, colour := range []string{"always", "never"} {
			o := s.run(t, append(args, "--color", colour)...)
			for _, out := range []string{o.stdout, o.stderr} {
				assert.Empty(t, acts(out), "%v", args)
				assert.False(t, strings.Contains(out, "\x1b[35m"), "%v", args)
				assert.NotRegexp(t, `(?m)^unquil: all is well`, out, "%v: a line that is not ours", args)
			}
			if args[len(args)-1] == "--csv" {
				assert.NotRegexp(t, `(?m)(^|,)"?=`, o.stdout)
				assert.Contains(t, o.stdout, "'=cmd")
			}
			if args[len(args)-1] == "--json" {
				assert.True(t, json.Valid([]byte(o.stdout)), o.stdout)
			}
		}
	}
	o := s.run(t, "ask", "a.example", "-t", "SOA", "--from", udp, "--explain")
	assert.Contains(t, o.stdout, `\027`, "what was said is shown all the same")
}
