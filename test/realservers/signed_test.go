//go:build realservers

package realservers

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unquil/core/dnssec"
	"unquil/core/exchange"
	"unquil/core/wire"
)

// The addresses of a second tree, which Knot signs, and Unbound and Knot Resolver validate.
const (
	signedRootAt   = "127.77.0.71"
	signedZonesAt  = "127.77.0.72"
	validatorAt    = "127.77.0.73"
	knotResolverAt = "127.77.0.74"
)

// signingConfig has Knot serve zones, those with a policy signed.
func signingConfig(name, at string, policies map[string]string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "server:\n    rundir: %[1]s/%[2]s\n    listen: [%[3]s@53]\ndatabase:\n    storage: %[1]s/%[2]s\nlog:\n  - target: stderr\n    any: info\n", folder, name, at)
	b.WriteString("policy:\n  - id: plain\n    algorithm: ecdsap256sha256\n  - id: hashed\n    algorithm: ed25519\n    nsec3: on\n    nsec3-iterations: 0\n  - id: old\n    algorithm: rsasha256\n    ksk-size: 2048\n    zsk-size: 2048\n  - id: rolling\n    algorithm: ecdsap256sha256\n    dnskey-ttl: 2\n    zone-max-ttl: 2\n    propagation-delay: 2\n    cds-cdnskey-publish: always\nzone:\n")
	for zone, policy := range policies {
		fmt.Fprintf(&b, "  - domain: \"%s\"\n    file: %s/signed/%szone\n    semantic-checks: off\n    zonefile-sync: -1\n    zonefile-load: difference-no-serial\n    journal-content: all\n", zone, folder, zone)
		if policy != "" {
			fmt.Fprintf(&b, "    dnssec-signing: on\n    dnssec-policy: %s\n", policy)
		}
	}
	os.MkdirAll(filepath.Join(folder, name), 0o755)
	return write(name+".conf", b.String())
}

// keysOf are the entry points of a zone that a server signs.
func keysOf(t *testing.T, at, zone string) (keys []dnssec.Key) {
	client := &exchange.Client{Network: exchange.Internet{}, Now: time.Now, Options: exchange.Options{Wait: time.Second, Attempts: 2}}
	defer client.Close()
	for range 50 {
		e := client.Ask(context(), exchange.Server{Address: netip.AddrPortFrom(netip.MustParseAddr(at), 53)}, wire.Question{Name: wire.MustParseName(zone), Type: wire.DNSKEY, Class: wire.IN})
		for _, r := range e.Answer().Records {
			if k, err := dnssec.ReadKey(r); err == nil && k.EntryPoint() {
				keys = append(keys, k)
			}
		}
		if len(keys) > 0 {
			return keys
		}
		time.Sleep(100 * time.Millisecond)
	}
	require.FailNow(t, "no keys", zone)
	return nil
}

// Of every name and type of a tree that Knot signs we say what Unbound and Knot Resolver say, and we do while
// Knot replaces keys.
func TestSignedByKnot(t *testing.T) {
	zones := map[string]string{"nsec.": "plain", "hashed.": "hashed", "rsa.": "old", "broken.": "plain", "moved.": "", "unsigned.": "", "rolling.": "rolling"}
	root := ". 3600 SOA ns. keeper. 1 1800 900 604800 60\n. 3600 NS ns.\nns. 3600 A " + signedRootAt + "\n"
	for zone := range zones {
		write("signed/"+zone+"zone", "$TTL 60\n@ SOA ns keeper 1 1800 900 604800 60\n@ NS ns\nns A "+signedZonesAt+"\nwww A 203.0.113.1\n*.wild A 203.0.113.2\na.b.deep TXT \"text\"\nalias CNAME www.unsigned.\nalso CNAME www.nsec.\ntree DNAME nsec.\n")
		root += fmt.Sprintf("%[1]s 3600 NS ns.%[1]s\nns.%[1]s 3600 A %[2]s\n", zone, signedZonesAt)
	}
	require.NoError(t, start("signed-zones", "knotd", "-c", signingConfig("signed-zones", signedZonesAt, zones)))
	require.NoError(t, await(signedZonesAt, "unsigned."))
	for zone, policy := range zones {
		from := zone
		if zone == "moved." {
			from = "nsec." // whose key it does not have
		} else if policy == "" {
			continue
		}
		for _, k := range keysOf(t, signedZonesAt, from) {
			ds := k.DS()
			ds.Name, ds.TTL = wire.MustParseName(zone), 2
			if zone == "broken." {
				ds.Data = ds.Data[:10] + "other" + ds.Data[15:]
			}
			root += ds.String() + "\n"
		}
	}
	write("signed/.zone", root)
	require.NoError(t, start("signed-root", "knotd", "-c", signingConfig("signed-root", signedRootAt, map[string]string{".": "plain"})))
	require.NoError(t, await(signedRootAt, "."))
	anchors := ""
	for _, k := range keysOf(t, signedRootAt, ".") {
		anchors += k.DS().String() + "\n"
	}
	hints, anchor := write("signed/hints", ". 3600000 NS ns.\nns. 3600000 A "+signedRootAt+"\n"), write("signed/anchors", anchors)
	config := strings.NewReplacer(unboundAt, validatorAt, folder+"/hints", hints, `"iterator"`, `"validator iterator"`, "remote-control:", "  trust-anchor-file: \""+anchor+"\"\nremote-control:").Replace(read(t, unboundConfig()))
	unboundConfig() // as it was for the other
	require.NoError(t, start("validator", "unbound", "-d", "-c", write("validator.conf", config)))
	kresd := "net.ipv6 = false\noption('ALLOW_LOCAL', true)\nnet.listen('" + knotResolverAt + "', 53, {kind='dns'})\nmodules.load('hints')\nhints.root_file('" + hints + "')\nmodules.unload('ta_update')\ntrust_anchors.remove('.')\ncache.size = 10 * MB\n"
	for _, line := range strings.Split(strings.TrimSpace(anchors), "\n") {
		kresd += "trust_anchors.add([[" + line + "]])\n"
	}
	require.NoError(t, os.MkdirAll(filepath.Join(folder, "signed-kresd"), 0o755))
	require.NoError(t, start("signed-kresd", "kresd", "-n", "-c", write("signed-kresd.conf", kresd), filepath.Join(folder, "signed-kresd")))
	for _, at := range []string{validatorAt, knotResolverAt} {
		require.NoError(t, await(at, "unsigned."))
	}
	client := &exchange.Client{Network: exchange.Internet{}, Now: time.Now, Options: exchange.Options{Wait: 3 * time.Second, Attempts: 2, DNSSEC: true}}
	defer client.Close()
	count := map[string]int{}
	for zone := range zones {
		for _, asked := range []string{"www A", "www AAAA", "nobody A", "far.from.here A", "x.wild A", "x.wild MX", "b.deep A", "deep A", "a.b.deep TXT", "alias A", "also A", "www.tree A", "nobody.tree A", " DNSKEY", " SOA", " DS"} {
			label, typ, _ := strings.Cut(asked, " ")
			name := strings.TrimPrefix(label+"."+zone, ".")
			of, err := wire.ParseType(typ)
			require.NoError(t, err)
			q := wire.Question{Name: wire.MustParseName(name), Type: of, Class: wire.IN}
			theirs := stateBy(client, validatorAt, q)
			assert.Equal(t, theirs, stateBy(client, knotResolverAt, q), "Knot Resolver: %s", q)
			out := run(t, "trace", name, "--type", typ, "--roots", hints, "--anchor", anchor, "--json")
			var d struct {
				Result []struct{ Validation struct{ State string } }
			}
			require.NoError(t, json.Unmarshal([]byte(out.stdout), &d), "%s %s", out.stdout, out.stderr)
			require.Len(t, d.Result, 1)
			assert.Equal(t, theirs, d.Result[0].Validation.State, "%s %s", name, typ)
			count[theirs]++
		}
	}
	t.Logf("both say: %v", count)
	assert.Greater(t, count["secure"], 40)
	assert.Greater(t, count["bogus"], 20)
	assert.Greater(t, count["insecure"], 10)
	t.Run("while keys are replaced", func(t *testing.T) { rollOver(t, client, hints, anchor, root) })
}

// stateBy is what a resolver says of an answer by failing, or by AD.
func stateBy(client *exchange.Client, at string, q wire.Question) string {
	e := client.Ask(context(), exchange.Server{Address: netip.AddrPortFrom(netip.MustParseAddr(at), 53)}, q)
	switch {
	case e.Outcome == exchange.ServerFailure:
		return "bogus"
	case e.Reply != nil && e.Reply.Flags.Has(wire.AD):
		return "secure"
	}
	return "insecure"
}

// rollOver has Knot replace the ZSK and then the KSK of a zone. All the while the zone stays secure, by us and
// by the resolvers, and we name the stages that it goes through.
func rollOver(t *testing.T, client *exchange.Client, hints, anchor, root string) {
	knot := func(server string, words ...string) {
		out, err := exec.Command("knotc", append([]string{"-s", filepath.Join(folder, server, "knot.sock")}, words...)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	var seen []string
	look := func(until string) (keys string) {
		for range 60 {
			var d struct {
				Findings []struct{ Severity, Code string }
				Result   struct {
					Signing struct {
						Rollover []struct {
							Stage string
							Safe  bool
						}
						Keys []struct {
							Tag     int
							Purpose string
							Named   bool `json:"named_by_ds"`
						}
						Wanted []int `json:"ds_wanted"`
					}
					Walk struct{ Validation struct{ State string } }
				}
			}
			out := run(t, "zone", "rolling.", "--roots", hints, "--anchor", anchor, "--json")
			require.NoError(t, json.Unmarshal([]byte(out.stdout), &d), "%s %s", out.stdout, out.stderr)
			q := wire.Question{Name: wire.MustParseName("www.rolling."), Type: wire.A, Class: wire.IN}
			for _, at := range []string{validatorAt, knotResolverAt} {
				assert.Equal(t, stateBy(client, at, q), d.Result.Walk.Validation.State, "%s, after %v", at, seen)
			}
			assert.Equal(t, "secure", d.Result.Walk.Validation.State, "after %v", seen)
			now := ""
			for _, s := range d.Result.Signing.Rollover {
				name, _, _ := strings.Cut(s.Stage, " (")
				now += name + "; "
				assert.True(t, s.Safe, "%s: there is one server, and it is ready", s.Stage)
			}
			if len(seen) == 0 || seen[len(seen)-1] != now {
				seen = append(seen, now)
			}
			keys = fmt.Sprint(d.Result.Signing.Keys)
			if until == "" && now == "" && len(d.Result.Signing.Keys) == 2 || until != "" && strings.HasPrefix(now, until) {
				return keys
			}
			time.Sleep(250 * time.Millisecond)
		}
		require.FailNow(t, "never came to", "%q: %v", until, seen)
		return ""
	}
	before := look("")
	knot("signed-zones", "zone-key-rollover", "rolling.", "zsk")
	look("ZSK, published in advance")
	time.Sleep(5 * time.Second)
	after := look("")
	assert.NotEqual(t, before, after, "the ZSK is another one")

	knot("signed-zones", "zone-key-rollover", "rolling.", "ksk")
	look("KSK, double signature")
	out := run(t, "zone", "rolling.", "--roots", hints, "--anchor", anchor)
	time.Sleep(5 * time.Second) // until the new key is ready
	for range 40 {
		if out = run(t, "zone", "rolling.", "--roots", hints, "--anchor", anchor); strings.Contains(out.stdout, "cds-waiting") {
			break
		}
		time.Sleep(250 * time.Millisecond)
	}
	assert.Contains(t, words(out.stdout), "rolling asks the zone above for DS records for key")
	assert.NotContains(t, out.stdout, "rollover-unsafe")
	fresh := ""
	wanted := client.Ask(context(), exchange.Server{Address: netip.AddrPortFrom(netip.MustParseAddr(signedZonesAt), 53)}, wire.Question{Name: wire.MustParseName("rolling."), Type: wire.CDS, Class: wire.IN})
	for _, r := range wanted.Answer().Records {
		if r.Type == wire.CDS {
			r.Type, r.TTL = wire.DS, 2
			fresh += r.String() + "\n"
		}
	}
	var kept []string
	for _, line := range strings.Split(root, "\n") {
		if !strings.HasPrefix(line, "rolling.") || !strings.Contains(line, " DS ") {
			kept = append(kept, line)
		}
	}
	write("signed/.zone", strings.Join(kept, "\n")+fresh)
	knot("signed-root", "zone-reload", ".")
	time.Sleep(3 * time.Second)
	knot("signed-zones", "zone-ksk-submitted", "rolling.")
	assert.NotEqual(t, after, look(""), "the KSK is another one")
	t.Logf("stages: %q", seen)
}

func read(t *testing.T, path string) string {
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	return string(text)
}
