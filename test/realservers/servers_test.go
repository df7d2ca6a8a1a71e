//go:build realservers && linux

// Package realservers tries the program against DNS servers that others wrote: a
// private tree on the loopback addresses 127.77.0.0/24, with the root and the
// registry on one kind, the zones on another, a secondary of the first, and two
// kinds of resolvers. Everything else is tested against the lab, which shares our
// misunderstandings.
package realservers

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unquil/core/exchange"
	"unquil/core/wire"
)

// Who is where.
const (
	rootAt     = "127.77.0.1"
	registryAt = "127.77.0.2"
	// The root's second server is the same daemon at another address; the registry's is one
	// of its own, which has not heard of a change yet.
	rootAlsoAt, registryAlsoAt = "127.77.0.3", "127.77.0.4"
	primaryAt                  = "127.77.0.11"
	secondaryAt                = "127.77.0.12"
	twinAt                     = "127.77.0.21" // serves the lab's own zones
	nobodyAt                   = "127.77.0.31"
	unboundAt                  = "127.77.0.53"
	kresdAt                    = "127.77.0.54"
)

const keySecret = "dGhlIGtleSBoYW5ncyBiZWhpbmQgdGhlIHNvdXAgcG90"

// packages are Debian's names of what is needed, by the program that shows it is there.
var packages = map[string]string{"nsd": "nsd", "knotd": "knot", "unbound": "unbound", "kresd": "knot-resolver"}

var (
	program string
	folder  string // of everything
	daemons = map[string]*daemon{}
)

// daemon is a server that this test started.
type daemon struct {
	name string
	cmd  *exec.Cmd
	log  string
}

func TestMain(m *testing.M) { os.Exit(all(m)) }

func all(m *testing.M) int {
	if why := missing(); why != "" {
		fmt.Println("realservers: skipped:", why)
		return 0
	}
	var err error
	if folder, err = os.MkdirTemp("", "unquil-real-"); err != nil {
		panic(err)
	}
	defer os.RemoveAll(folder)
	program = filepath.Join(folder, "unquil")
	if out, err := exec.Command("go", "build", "-o", program, "../../cmd/unquil").CombinedOutput(); err != nil {
		fmt.Printf("building the program: %v\n%s", err, out)
		return 1
	}
	defer stopAll()
	if err := startAll(); err != nil {
		fmt.Println("realservers:", err)
		for _, d := range daemons {
			log, _ := os.ReadFile(d.log)
			fmt.Printf("--- %s\n%s\n", d.name, log[max(0, len(log)-2000):])
		}
		return 1
	}
	return m.Run()
}

// missing says what keeps the servers from being started; "" when nothing does.
func missing() string {
	os.Setenv("PATH", os.Getenv("PATH")+":/usr/sbin:/sbin")
	for binary, name := range packages {
		if _, err := exec.LookPath(binary); err != nil {
			return fmt.Sprintf("%s is missing: apt-get install --no-install-recommends nsd knot unbound knot-resolver", name)
		}
	}
	for _, address := range []string{rootAt, unboundAt} {
		conn, err := net.ListenPacket("udp4", address+":53")
		if err != nil {
			return fmt.Sprintf("port 53 of %s cannot be bound: %v", address, err)
		}
		conn.Close()
	}
	return ""
}

// write writes a file below the folder, which it makes where needed.
func write(name, content string) string {
	path := filepath.Join(folder, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		panic(err)
	}
	if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
		panic(err)
	}
	return path
}

// start starts a server; what it says goes to a file.
func start(name string, args ...string) error {
	d := &daemon{name: name, log: filepath.Join(folder, name+".log")}
	log, err := os.Create(d.log)
	if err != nil {
		return err
	}
	d.cmd = exec.Command(args[0], args[1:]...)
	d.cmd.Stdout, d.cmd.Stderr, d.cmd.Dir = log, log, folder
	d.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := d.cmd.Start(); err != nil {
		return fmt.Errorf("starting %s: %w", name, err)
	}
	daemons[name] = d
	return nil
}

// stopAll ends what was started, by its process id.
func stopAll() {
	for _, d := range daemons {
		d.cmd.Process.Signal(syscall.SIGTERM)
	}
	for _, d := range daemons {
		done := make(chan struct{})
		go func() { d.cmd.Wait(); close(done) }()
		select {
		case <-done:
		case <-time.After(5 * time.Second):
			d.cmd.Process.Kill()
			<-done
		}
	}
}

func startAll() error {
	for _, version := range [][]string{{"nsd", "-v"}, {"knotd", "-V"}, {"unbound", "-V"}, {"kresd", "-V"}} {
		out, _ := exec.Command(version[0], version[1:]...).CombinedOutput()
		first, _, _ := strings.Cut(string(out), "\n")
		fmt.Printf("realservers: %s: %s\n", version[0], strings.TrimSpace(first))
	}
	certificate()
	tree()
	for _, zone := range []struct{ server, at, file, zone string }{{"root", rootAt + "@53, " + rootAlsoAt, "zones/.zone", "."},
		{"registry", registryAt, "zones/example.zone", "example."}, {"registry-also", registryAlsoAt, "zones/example.zone-behind", "example."}} {
		if err := start(zone.server, "knotd", "-c", knotConfig(zone.server, zone.at, zone.zone, zone.file)); err != nil {
			return err
		}
	}
	if err := start("primary", "nsd", "-d", "-c", nsdConfig()); err != nil {
		return err
	}
	if err := start("twin", "knotd", "-c", twinConfig()); err != nil {
		return err
	}
	for _, ready := range []struct{ at, zone string }{{rootAt, "."}, {registryAt, "example."}, {registryAlsoAt, "example."}, {primaryAt, "held.example."}, {twinAt, "hollowtarn.example."}} {
		if err := await(ready.at, ready.zone); err != nil {
			return err
		}
	}
	if err := start("secondary", "knotd", "-c", secondaryConfig()); err != nil {
		return err
	}
	for _, zone := range served {
		if err := await(secondaryAt, zone); err != nil {
			return err
		}
	}
	if err := start("unbound", "unbound", "-d", "-c", unboundConfig()); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(folder, "kresd"), 0o755); err != nil {
		return err
	}
	if err := start("kresd", "kresd", "-n", "-c", kresdConfig(), filepath.Join(folder, "kresd")); err != nil {
		return err
	}
	for _, at := range []string{unboundAt, kresdAt} {
		if err := await(at, "hollowtarn.example."); err != nil {
			return err
		}
	}
	return nil
}

// await waits until a server answers for a zone.
func await(at, zone string) error {
	client := &exchange.Client{Network: exchange.Internet{}, Now: time.Now, Options: exchange.Options{Wait: 500 * time.Millisecond, Attempts: 1}}
	defer client.Close()
	server := exchange.Server{Address: netip.AddrPortFrom(netip.MustParseAddr(at), 53)}
	var last exchange.Exchange
	for range 100 {
		last = client.Ask(context(), server, wire.Question{Name: wire.MustParseName(zone), Type: wire.SOA, Class: wire.IN})
		if last.Outcome == exchange.Answered {
			return nil
		}
		time.Sleep(200 * time.Millisecond)
	}
	return fmt.Errorf("%s does not answer for %s: %s %v", at, zone, last.Outcome, last.Err)
}

// certificate makes one for both resolvers.
func certificate() {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		panic(err)
	}
	template := x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "resolvers.test"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour),
		IPAddresses: []net.IP{net.ParseIP(unboundAt), net.ParseIP(kresdAt)}, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	der, err := x509.CreateCertificate(rand.Reader, &template, &template, &key.PublicKey, key)
	if err != nil {
		panic(err)
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		panic(err)
	}
	write("tls.pem", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})))
	write("tls.key", string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})))
}

func knotConfig(name, at, zone, file string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "server:\n    rundir: %[1]s/%[2]s\n    listen: [%[3]s@53]\ndatabase:\n    storage: %[1]s/%[2]s\nlog:\n  - target: stderr\n    any: info\nzone:\n", folder, name, at)
	fmt.Fprintf(&b, "  - domain: \"%s\"\n    file: %s/%s\n    semantic-checks: off\n", zone, folder, file)
	os.MkdirAll(filepath.Join(folder, name), 0o755)
	return write(name+".conf", b.String())
}

func secondaryConfig() string {
	var b strings.Builder
	fmt.Fprintf(&b, "server:\n    rundir: %[1]s/secondary\n    listen: %[2]s@53\n    edns-client-subnet: on\ndatabase:\n    storage: %[1]s/secondary\nlog:\n  - target: stderr\n    any: info\n", folder, secondaryAt)
	fmt.Fprintf(&b, "key:\n  - id: summit.\n    algorithm: hmac-sha256\n    secret: %[1]s\nremote:\n  - id: primary\n    address: %[2]s@53\n    key: summit.\nacl:\n  - id: everybody\n    address: 127.0.0.0/8\n    action: transfer\n%[3]szone:\n", keySecret, primaryAt, viewsModule())
	for _, zone := range served {
		fmt.Fprintf(&b, "  - domain: \"%s\"\n    master: primary\n    acl: everybody\n    storage: %s/secondary\n    semantic-checks: off\n", zone, folder)
	}
	b.WriteString(viewsZone())
	fmt.Fprintf(&b, "  - domain: \"%[2]s\"\n    file: %[1]s/secondary-%[2]szone\n", folder, twofold)
	os.MkdirAll(filepath.Join(folder, "secondary"), 0o755)
	return write("secondary.conf", b.String())
}

func nsdConfig() string {
	var b strings.Builder
	fmt.Fprintf(&b, "server:\n  server-count: 1\n  ip-address: %[2]s\n  username: \"\"\n  chroot: \"\"\n  zonesdir: \"%[1]s/zones\"\n  database: \"\"\n  pidfile: \"%[1]s/nsd.pid\"\n  xfrdfile: \"%[1]s/xfrd.state\"\n  zonelistfile: \"%[1]s/zone.list\"\n  xfrdir: \"%[1]s\"\n  logfile: \"%[1]s/nsd.log\"\n  verbosity: 1\nremote-control:\n  control-enable: yes\n  control-interface: \"%[1]s/nsd.sock\"\nkey:\n  name: \"summit.\"\n  algorithm: hmac-sha256\n  secret: \"%[3]s\"\n", folder, primaryAt, keySecret)
	for _, zone := range append([]string{twofold}, served...) {
		fmt.Fprintf(&b, "zone:\n  name: \"%[1]s\"\n  zonefile: \"%[1]szone\"\n  provide-xfr: 127.0.0.0/8 summit.\n  store-ixfr: yes\n  create-ixfr: yes\n", zone)
		if zone == "crowd.example." {
			b.WriteString("  provide-xfr: 127.0.0.0/8 NOKEY\n")
		}
	}
	return write("nsd.conf", b.String())
}

// nsdReload has the primary read a zone's file again.
func nsdReload(t *testing.T, zone string) {
	out, err := exec.Command("nsd-control", "-c", filepath.Join(folder, "nsd.conf"), "reload", zone).CombinedOutput()
	require.NoError(t, err, "%s", out)
}

func unboundConfig() string {
	return write("unbound.conf", fmt.Sprintf(`server:
  interface: %[2]s
  interface: %[2]s@853
  outgoing-interface: %[2]s
  tls-service-key: "%[1]s/tls.key"
  tls-service-pem: "%[1]s/tls.pem"
  access-control: 127.0.0.0/8 allow
  do-not-query-localhost: no
  do-daemonize: no
  do-ip6: no
  chroot: ""
  username: ""
  pidfile: ""
  directory: "%[1]s"
  use-syslog: no
  logfile: ""
  root-hints: "%[1]s/hints"
  module-config: "iterator"
  local-zone: "113.0.203.in-addr.arpa." nodefault
  local-zone: "host18.crowd.example." redirect
  local-data: "host18.crowd.example. 300 IN A 203.0.113.9"
  private-address: 10.0.0.0/8
remote-control:
  control-enable: no
`, folder, unboundAt))
}

func kresdConfig() string {
	return write("kresd.conf", fmt.Sprintf(`net.ipv6 = false
net.listen('%[2]s', 53, { kind = 'dns' })
net.outgoing_v4('%[2]s')
net.listen('%[2]s', 853, { kind = 'tls' })
net.tls("%[1]s/tls.pem", "%[1]s/tls.key")
modules.load('hints')
hints.root_file('%[1]s/hints')
hints['host18.crowd.example'] = '203.0.113.9'
trust_anchors.remove('.')
option('ALLOW_LOCAL', true) -- the whole tree stands on loopback addresses
cache.size = 10 * MB
`, folder, kresdAt))
}

type outcome struct {
	stdout, stderr string
	code           int
}

// run runs the program; what it asks stays on the loopback addresses of the tree.
func run(t testing.TB, args ...string) outcome {
	t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Dir = t.TempDir()
	cmd.Env = []string{"HOME=" + cmd.Dir, "TMPDIR=" + cmd.Dir}
	var stdout, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	if err := cmd.Run(); err != nil {
		require.ErrorAs(t, err, new(*exec.ExitError))
	}
	return outcome{stdout.String(), stderr.String(), cmd.ProcessState.ExitCode()}
}

func words(text string) string { return strings.Join(strings.Fields(text), " ") }
