//go:build realservers

package realservers

import (
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/delegation"
	"unquil/core/exchange"
	"unquil/core/probe"
	"unquil/core/wire"
	"unquil/lab"
)

// The addresses of who stands for the lab, and of two resolvers that validate what it gives.
const (
	labAt        = "127.77.0.80"
	labUnboundAt = "127.77.0.81"
	labKresdAt   = "127.77.0.82"
)

// relay hands on what comes for the lab to one of its resolvers, over UDP and TCP, until the test ends.
func relay(t *testing.T, l *lab.Lab, label string) {
	address, ok := l.Resolver(label)
	require.True(t, ok)
	udp, err := l.Open(address, true)
	require.NoError(t, err)
	tcp, err := l.Open(address, false)
	require.NoError(t, err)
	conn, err := net.ListenPacket("udp4", labAt+":53")
	require.NoError(t, err)
	listener, err := net.Listen("tcp4", labAt+":53")
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close(); listener.Close() })
	go func() {
		buf := make([]byte, 65535)
		for {
			n, from, err := conn.ReadFrom(buf)
			if err != nil {
				return
			}
			query := append([]byte(nil), buf[:n]...)
			go func() {
				out, err := net.Dial("udp4", udp.String())
				if err != nil {
					return
				}
				defer out.Close()
				out.SetDeadline(time.Now().Add(5 * time.Second))
				out.Write(query)
				reply := make([]byte, 65535)
				if n, err := out.Read(reply); err == nil {
					conn.WriteTo(reply[:n], from)
				}
			}()
		}
	}()
	go func() {
		for {
			in, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer in.Close()
				out, err := net.Dial("tcp4", tcp.String())
				if err != nil {
					return
				}
				defer out.Close()
				go io.Copy(out, in)
				io.Copy(in, out)
			}()
		}
	}()
}

// Of every name that the lab has in a signed zone, well or badly signed, we say what two resolvers say that
// validate: bogus is what they fail for, and give where checking is disabled.
func TestLabValidatedByOthers(t *testing.T) {
	l, err := lab.New(lab.Options{Begins: time.Now()})
	require.NoError(t, err)
	defer l.Close()
	relay(t, l, "office")
	anchors := ""
	for _, r := range l.Anchors() {
		anchors += r.String() + "\n"
	}
	anchor := write("lab/anchors", anchors)
	unbound := strings.NewReplacer(unboundAt, labUnboundAt, "  root-hints: \""+folder+"/hints\"\n", "", `"iterator"`, `"validator iterator"`,
		"remote-control:", "  val-sig-skew-min: 0\n  val-sig-skew-max: 0\n  trust-anchor-file: \""+anchor+"\"\n  local-zone: \"test.\" nodefault\nforward-zone:\n  name: \".\"\n  forward-addr: "+labAt+"\nremote-control:").Replace(read(t, unboundConfig()))
	require.NoError(t, start("lab-unbound", "unbound", "-d", "-c", write("lab-unbound.conf", unbound)))
	config := fmt.Sprintf("net.ipv6 = false\noption('ALLOW_LOCAL', true)\nnet.listen('%s', 53, {kind='dns'})\nmodules.unload('ta_update')\nmodules.unload('ta_signal_query')\nmodules.unload('priming')\nmodules.unload('detect_time_skew')\ntrust_anchors.remove('.')\ncache.size = 10 * MB\n", labKresdAt)
	for _, r := range l.Anchors() {
		config += fmt.Sprintf("trust_anchors.add([[%s]])\n", r)
	}
	config += "policy.add(policy.all(policy.FORWARD({'" + labAt + "'})))\n"
	require.NoError(t, os.MkdirAll(filepath.Join(folder, "lab-kresd"), 0o755))
	require.NoError(t, start("lab-kresd", "kresd", "-n", "-c", write("lab-kresd.conf", config), filepath.Join(folder, "lab-kresd")))
	others := map[string]string{"Unbound": labUnboundAt, "Knot Resolver": labKresdAt}
	for _, at := range others {
		require.NoError(t, await(at, "hollowtarn.example."))
	}
	client := &exchange.Client{Network: exchange.Internet{}, Now: time.Now, Options: exchange.Options{Wait: 4 * time.Second, Attempts: 2, DNSSEC: true}}
	defer client.Close()
	unchecked := client.Options
	unchecked.CheckingDisabled = true
	session := &exchange.Session{Client: client}
	inside := l.Enter(&exchange.Client{Options: exchange.Options{Wait: 2 * time.Second, Attempts: 2}})
	defer inside.Close()
	prober := probe.Prober{Session: &exchange.Session{Client: inside}, Roots: delegation.Roots(l.Hints()), Anchors: l.Anchors(), AsOf: l.Now()}

	signed, often := map[string]bool{}, map[string]bool{}
	for _, s := range l.Scenario.Signed {
		if strings.HasSuffix(s.Zone, "works.example.") && s.Zone != "works.example." {
			zone := strings.TrimSuffix(s.Zone, ".works.example.")
			signed[zone], often[zone] = true, s.Rounds > 50
		}
	}
	zones := 0
	count := map[string]int{}
	for zone := range signed {
		zones++
		for _, asked := range []string{"www A", "nobody A", "www MX", " SOA", " DNSKEY", " DS"} {
			label, typ, _ := strings.Cut(asked, " ")
			of, err := wire.ParseType(typ)
			require.NoError(t, err)
			q := wire.Question{Name: wire.MustParseName(strings.TrimPrefix(label+"."+zone+".works.example.", ".")), Type: of, Class: wire.IN}
			walker := delegation.Walker{Session: prober.Session, Roots: prober.Roots, Anchors: prober.Anchors, AsOf: prober.AsOf}
			walk := walker.Walk(t.Context(), q)
			require.NotNil(t, walk.Validation, "%s", q)
			ours := string(walk.Validation.State)
			count[ours]++
			for other, at := range others {
				if other == "Knot Resolver" && often[zone] {
					continue // which takes a zone with more than 50 rounds for an unsigned one, as it may (RFC 9276 §3.2)
				}
				server := exchange.Server{Address: netip.AddrPortFrom(netip.MustParseAddr(at), 53)}
				e := client.Ask(context(), server, q)
				theirs := "insecure"
				switch {
				case e.Outcome == exchange.ServerFailure:
					theirs = "failing"
					if session.Ask(context(), exchange.Request{Server: server, Question: q, Options: &unchecked}).Outcome.Good() {
						theirs = "bogus"
					}
				case e.Reply != nil && e.Reply.Flags.Has(wire.AD):
					theirs = "secure"
				}
				assert.Equal(t, theirs, ours, "%s: %s", other, q)
			}
		}
	}
	t.Logf("%d zones, and all say: %v", zones, count)
	assert.Greater(t, count["secure"], 100)
	assert.Greater(t, count["bogus"], 40)
}
